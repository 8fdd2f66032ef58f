"""What an empty bench shows: the demo scenes as pictures, what was opened last, and how to open something else."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from importlib.resources import files
from pathlib import Path

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QAction, QIcon, QPixmap
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from lucid_finch.desktop.toolkit.guard import guarded

_SCENE = QSize(150, 100)
_IN_A_ROW = 3
_RECENT = 4


class EmptyBench(QWidget):
    """Lies over the panes until there is an image; its buttons are actions of the window."""

    def __init__(
        self, over: QWidget, actions: Sequence[QAction], scenes: dict[str, QAction], open_path: Callable[[str], None]
    ) -> None:
        """`scenes`: what opens each demo scene, by its name."""
        super().__init__(over)
        self.setObjectName("panes")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._open_path = open_path
        layout = QVBoxLayout(self)
        layout.setSpacing(9)
        layout.addStretch(1)
        self.labels: list[QLabel] = []
        for text, name in (
            (self.tr("Open an image"), "emptytitle"),
            (self.tr("Drop images, a folder or a recipe here; or begin with a picture of the demo:"), "emptytext"),
        ):
            label = QLabel(text)
            label.setObjectName(name)
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            label.setWordWrap(name == "emptytext")
            layout.addWidget(label)
            self.labels.append(label)
        self._first = [label.text() for label in self.labels]
        self.buttons: list[QToolButton] = []
        self._add_scenes(layout, scenes)
        row = QHBoxLayout()
        row.addStretch(1)
        for action in actions:
            button = QToolButton()
            button.setDefaultAction(action)
            button.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            row.addWidget(button)
            self.buttons.append(button)
        row.addStretch(1)
        layout.addLayout(row)
        self._recent = QVBoxLayout()
        self._recent.setSpacing(2)
        layout.addLayout(self._recent)
        self.recent: list[QToolButton] = []
        keys = QLabel(self.tr("Ctrl+K finds anything that can be done, F1 opens the guide"))
        keys.setObjectName("emptytext")
        keys.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.addWidget(keys)
        layout.addStretch(1)
        over.installEventFilter(self)
        self.setGeometry(over.rect())

    def _add_scenes(self, layout: QVBoxLayout, scenes: dict[str, QAction]) -> None:
        grid = QGridLayout()
        grid.setSpacing(8)
        folder = files("lucid_finch.demo") / "thumbnails"
        for number, (name, action) in enumerate(scenes.items()):
            button = QToolButton()
            button.setObjectName("scene")
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setText(action.text().partition(": ")[2] or action.text())
            button.setToolTip(action.toolTip())
            button.setAccessibleName(action.text())
            picture = QPixmap()
            if picture.loadFromData((folder / f"{name}.png").read_bytes()):
                button.setIcon(QIcon(picture))
            button.setIconSize(_SCENE)
            button.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            button.clicked.connect(action.trigger)
            grid.addWidget(button, number // _IN_A_ROW, 1 + number % _IN_A_ROW)
            self.buttons.append(button)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(_IN_A_ROW + 1, 1)
        layout.addLayout(grid)

    def show_recent(self, paths: Sequence[str]) -> None:
        """What was opened last, and is still there."""
        for button in self.recent:
            self._recent.removeWidget(button)
            button.deleteLater()
        self.recent = []
        for text in [path for path in paths if Path(path).exists()][:_RECENT]:
            button = QToolButton()
            button.setObjectName("recent")
            button.setText(f"{Path(text).name}    {Path(text).parent}")
            button.setAccessibleName(self.tr("Open {}").format(Path(text).name))
            button.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            button.clicked.connect(partial(self._open_path, text))
            self._recent.addWidget(button, 0, Qt.AlignmentFlag.AlignHCenter)
            self.recent.append(button)

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
