"""How the window looks, and remembers to look: theme, size of texts, places of splitters, number of panes."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QByteArray, QObject
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QApplication, QMainWindow, QSplitter, QWidget

from lucid_finch.desktop.canvas.panes import PaneGroup
from lucid_finch.desktop.study.preferences import PreferencesFile
from lucid_finch.desktop.toolkit.theme import THEMES, apply_theme, current_theme


class Appearance(QObject):
    """Changes are kept in the preferences."""

    def __init__(self, window: QMainWindow, file: PreferencesFile, panes: PaneGroup, splitters: Mapping[str, QSplitter]) -> None:
        super().__init__(window)
        self.window, self.file, self.panes, self.splitters = window, file, panes, splitters
        self.preferences = file.load()
        self.parts: dict[str, QWidget] = {}
        """What can be hidden, by name."""
        self.switches: dict[str, QAction] = {}
        """The actions that show it."""

    def show_part(self, name: str, shown: bool) -> None:
        """Show or hide a part of the window."""
        self.parts[name].setVisible(shown)
        hidden = [one for one in self.preferences.hidden_parts if one != name]
        self.preferences.hidden_parts = hidden if shown else [*hidden, name]

    def toggle_theme(self) -> None:
        """Light to dark, or back."""
        self._apply_theme("dark" if current_theme().name == "light" else "light")
        self.file.save(self.preferences)

    def _apply_theme(self, name: str) -> None:
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        self.preferences.theme = name
        apply_theme(application, THEMES[name])

    def scale_text(self, factor: float) -> None:
        """Make all texts larger or smaller."""
        scale = min(max(self.preferences.text_scale * factor, 0.7), 2.0)
        font = QApplication.font()
        font.setPointSizeF(font.pointSizeF() * scale / self.preferences.text_scale)
        QApplication.setFont(font)
        # With a style sheet, a new font reaches the existing widgets only with it.
        self._apply_theme(current_theme().name)
        self.preferences.text_scale = scale
        self.file.save(self.preferences)

    def restore(self) -> None:
        """Look as at the end of the last session."""
        kept = self.preferences
        if self.file.path is None:
            return
        if kept.theme in THEMES and kept.theme != current_theme().name:
            self._apply_theme(kept.theme)
        if kept.geometry:
            self.window.restoreGeometry(QByteArray.fromHex(kept.geometry.encode()))
        for name, splitter in self.splitters.items():
            if len(kept.splitters.get(name, [])) == splitter.count():
                splitter.setSizes(kept.splitters[name])
        for name in kept.hidden_parts:
            if name in self.switches:
                self.switches[name].setChecked(False)
        if kept.panes in (1, 2, 4):
            self.panes.set_count(kept.panes)

    def keep(self) -> None:
        """Remember how the window looks."""
        kept = self.preferences
        kept.geometry = bytes(self.window.saveGeometry().toHex().data()).decode()
        kept.splitters = {name: splitter.sizes() for name, splitter in self.splitters.items()}
        kept.panes = self.panes.count
        self.file.save(kept)
