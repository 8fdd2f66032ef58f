"""Everything that can be done, by name, with its shortcut; and the card in which any of it is found by typing."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QMenu, QVBoxLayout, QWidget
from shiboken6 import isValid

from lucid_finch.desktop.toolkit.guard import guarded


class Actions:
    """The actions of one window, in the order and groups in which they were added."""

    def __init__(self, window: QWidget) -> None:
        self.window = window
        self.by_name: dict[str, QAction] = {}
        self.groups: dict[str, list[str]] = {}

    def __getitem__(self, name: str) -> QAction:
        return self.by_name[name]

    def add(self, group: str, name: str, text: str, call: Callable[[], Any], shortcut: Any = None, tip: str = "") -> QAction:
        """An action that calls `call` without arguments."""
        action = QAction(text, self.window)
        action.triggered.connect(lambda checked=False: call())
        return self.take(group, name, action, shortcut, tip)

    def add_switch(
        self, group: str, name: str, text: str, call: Callable[[bool], Any], on: bool, shortcut: Any = None, tip: str = ""
    ) -> QAction:
        """An action that is on or off and calls `call` with that."""
        action = QAction(text, self.window)
        action.setCheckable(True)
        action.setChecked(on)
        action.toggled.connect(call)
        return self.take(group, name, action, shortcut, tip)

    def take(self, group: str, name: str, action: QAction, shortcut: Any = None, tip: str = "") -> QAction:
        """Add an action that was made elsewhere."""
        if shortcut is not None:
            action.setShortcut(QKeySequence(shortcut))
        keys = action.shortcut().toString()
        said = tip or action.text()
        action.setToolTip(f"{said} ({keys})" if keys else said)
        self.window.addAction(action)
        self.by_name[name] = action
        self.groups.setdefault(group, []).append(name)
        return action

    def menu(self, parent: QWidget) -> QMenu:
        """All actions by group."""
        menu = QMenu(parent)
        for group, names in self.groups.items():
            part = menu.addMenu(group)
            for name in names:
                part.addAction(self.by_name[name])
        return menu


class ActionFinder(QFrame):
    """A field over a list: type a few letters of what is wanted, Enter does it."""

    def __init__(self, actions: Actions, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("note")
        self.actions_known = actions
        self._over = parent
        self._before: QWidget | None = None
        """What had the focus before the field had it."""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 10, 10, 10)
        self.field = QLineEdit()
        self.field.setPlaceholderText(self.tr("What do you want to do?"))
        self.field.setAccessibleName(self.tr("Search all actions"))
        self.field.textChanged.connect(self._fill)
        self.list = QListWidget()
        self.list.setFrameShape(QFrame.Shape.NoFrame)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.itemClicked.connect(lambda item: self._do(item))
        self.field.installEventFilter(self)
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        self.hide()

    def open(self) -> None:
        parent = self._over
        if not self.isVisible():
            self._before = parent.focusWidget()
        self.resize(min(460, parent.width() - 40), min(420, parent.height() - 90))
        self.move((parent.width() - self.width()) // 2, 48)
        self.field.clear()
        self._fill("")
        self.show()
        self.raise_()
        self.field.setFocus()

    def _fill(self, typed: str) -> None:
        words = typed.lower().split()
        self.list.clear()
        found = []
        for group, names in self.actions_known.groups.items():
            for name in names:
                action = self.actions_known[name]
                text = action.text().replace("&", "")
                title = text.partition(":")[0]
                # The best first: in the title, in the whole line, in the help.
                places = (title, f"{group} {text}", f"{group} {text} {action.toolTip()}")
                rank = next((n for n, place in enumerate(places) if all(w in place.lower() for w in words)), None)
                if rank is not None and action.isEnabled():
                    found.append((rank, name, text, action))
        for _, name, text, action in sorted(found, key=lambda one: one[0]):
            keys = action.shortcut().toString()
            item = QListWidgetItem(f"{text}    {keys}" if keys else text)
            item.setToolTip(action.toolTip())
            item.setData(Qt.ItemDataRole.UserRole, name)
            self.list.addItem(item)
        if not self.list.count():
            nothing = QListWidgetItem(self.tr("No action matches. Fewer or other words may."))
            nothing.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(nothing)
        self.list.setCurrentRow(0)

    def _do(self, item: QListWidgetItem | None) -> None:
        if item is not None and item.data(Qt.ItemDataRole.UserRole) is None:
            return
        self.put_away()
        if item is not None:
            self.actions_known[item.data(Qt.ItemDataRole.UserRole)].trigger()

    def put_away(self) -> None:
        self.hide()
        # Back to where the keyboard was.
        before = self._before
        there = before is not None and isValid(before) and before.isVisible()
        (before if before is not None and there else self._over).setFocus()

    @guarded
    def eventFilter(self, watched: object, event: object) -> bool:
        if not isinstance(event, QKeyEvent) or event.type() != QKeyEvent.Type.KeyPress:
            return False
        key = event.key()
        if key == Qt.Key.Key_Escape:
            self.put_away()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._do(self.list.currentItem())
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.list.count():
            step = 1 if key == Qt.Key.Key_Down else -1
            self.list.setCurrentRow((self.list.currentRow() + step) % self.list.count())
        else:
            return False
        return True
