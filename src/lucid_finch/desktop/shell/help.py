"""The page of help: the guide as it is in the documentation, and all actions with their shortcuts."""

from __future__ import annotations

import re
from functools import cache
from importlib.resources import files

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QTextBrowser, QWidget

from lucid_finch.desktop.shell.actions import Actions
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import dress


@cache
def guide_pages() -> dict[str, str]:
    """Title and Markdown text of each page of the guide."""
    pages = {}
    folder = files("lucid_finch") / "guide"
    for page in sorted(folder.iterdir(), key=lambda p: p.name):
        if page.name.endswith(".md"):
            # The pictures of the documentation show the window, which is at hand here.
            text = re.sub(r"!\[[^]]*\]\([^)]*\)\n*", "", page.read_text(encoding="utf-8"))
            pages[text.splitlines()[0].lstrip("# ").strip()] = text
    return pages


def actions_page(actions: Actions) -> str:
    """A Markdown table of every action."""
    lines = []
    for group, names in actions.groups.items():
        lines += [f"## {group}", "", "| action | keys | |", "|---|---|---|"]
        for name in names:
            action = actions[name]
            tip = action.toolTip().rsplit(" (", 1)[0]
            text = action.text().replace("…", "")
            lines.append(f"| {text} | {action.shortcut().toString()} | {tip if tip != action.text() else ''} |")
        lines.append("")
    return "\n".join(lines)


class HelpWindow(QWidget):
    """A list of pages beside the page."""

    def __init__(self, actions: Actions) -> None:
        super().__init__()
        self.setObjectName("help")
        self.setWindowTitle(self.tr("Help – Lucid Finch"))
        self.resize(900, 680)
        layout = QHBoxLayout(self)
        self.list = QListWidget()
        self.list.setFixedWidth(210)
        self.list.setAccessibleName(self.tr("Pages of help"))
        self.page = QTextBrowser()
        self.page.setOpenExternalLinks(False)
        self.page.setAccessibleName(self.tr("Help"))
        self._texts = {**guide_pages(), self.tr("All actions and keys"): actions_page(actions)}
        self.list.addItems(list(self._texts))
        self.list.currentTextChanged.connect(self._show)
        layout.addWidget(self.list)
        layout.addWidget(self.page, 1)
        self.list.setCurrentRow(0)
        dress(self)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.close()
        else:
            super().keyPressEvent(event)

    def _show(self, title: str) -> None:
        self.page.setMarkdown(self._texts.get(title, ""))
