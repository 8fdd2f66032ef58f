"""What an empty bench shows: what to do first."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from lucid_finch.desktop.toolkit.guard import guarded


class EmptyBench(QWidget):
    """Lies over the panes until there is an image; its buttons are actions of the window."""

    def __init__(self, over: QWidget, actions: list[QAction]) -> None:
        super().__init__(over)
        self.setObjectName("panes")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        layout = QVBoxLayout(self)
        layout.setSpacing(14)
        layout.addStretch(1)
        self.labels: list[QLabel] = []
        for text, name in (
            (self.tr("Open an image"), "emptytitle"),
            (
                self.tr(
                    "Drop images, a folder or a recipe here.\nEdges are found at once, and every stage that leads to them is "
                    "shown below the panes;\nclick a stage to look at it, point anywhere and press W to ask why."
                ),
                "emptytext",
            ),
        ):
            label = QLabel(text)
            label.setObjectName(name)
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            label.setWordWrap(name == "emptytext")
            layout.addWidget(label)
            self.labels.append(label)
        self._first = [label.text() for label in self.labels]
        row = QHBoxLayout()
        row.addStretch(1)
        self.buttons: list[QToolButton] = []
        for action in actions:
            button = QToolButton()
            button.setDefaultAction(action)
            button.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            row.addWidget(button)
            self.buttons.append(button)
        row.addStretch(1)
        layout.addLayout(row)
        keys = QLabel(self.tr("Ctrl+K finds anything that can be done, F1 opens the guide"))
        keys.setObjectName("emptytext")
        keys.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.addWidget(keys)
        layout.addStretch(1)
        over.installEventFilter(self)
        self.setGeometry(over.rect())

    def say(self, title: str, why: str = "") -> None:
        """Why there is no image, instead of what to do first; "" for that."""
        self.labels[0].setText(title or self._first[0])
        self.labels[1].setText(why if title else self._first[1])

    @guarded
    def eventFilter(self, watched: object, event: object) -> bool:
        over = self.parentWidget()
        if over is not None and self.geometry() != over.rect():
            self.setGeometry(over.rect())
        return False
