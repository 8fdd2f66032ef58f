"""Editor of a parameter that is a picture: shows it, and has it taught from the image or read from a file."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QPushButton, QToolButton, QVBoxLayout, QWidget

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.parameters import Declaration
from lucid_finch.core.viewing.display import picture_of
from lucid_finch.desktop.canvas.shapes import REGIONS

_SIZE = QSize(96, 72)


class PictureEditor(QWidget):
    """A small picture with buttons."""

    edited = Signal(str, object, bool)
    teach_wanted = Signal(str, str)
    """Name of the parameter, and the shape of the region to be drawn."""
    file_wanted = Signal(str)
    average_wanted = Signal()
    paint_wanted = Signal()
    differences_wanted = Signal()

    def __init__(self, declared: Declaration) -> None:
        super().__init__()
        self.declared = declared
        self.value: str | None = None
        self.picture_of: Callable[[str], Image] | None = None
        """The picture of a name, which raises `ParameterError`."""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 6)
        layout.setSpacing(3)
        head = QHBoxLayout()
        label = QLabel(f"<b>{declared.label}</b>")
        label.setToolTip(declared.help)
        self.about = QLabel()
        self.about.setObjectName("quiet")
        self.about.setWordWrap(True)
        self.about.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.clear = QPushButton("×")
        self.clear.setObjectName("bare")
        self.clear.setAccessibleName(self.tr("Set {} to auto").format(declared.label))
        self.clear.clicked.connect(lambda: self.edited.emit(declared.name, None, False))
        head.addWidget(label)
        head.addWidget(self.about, 1)
        head.addWidget(self.clear)
        layout.addLayout(head)
        self.picture = QLabel()
        self.picture.setAccessibleName(declared.label)
        layout.addWidget(self.picture)
        buttons = QHBoxLayout()
        buttons.setSpacing(4)
        self.teach = QToolButton()
        self.teach.setText(self.tr("Teach"))
        self.teach.setToolTip(self.tr("Draw around the pattern on the image"))
        self.teach.setAccessibleName(self.tr("Teach {}").format(declared.label))
        self.teach.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.teach)
        for kind in REGIONS:
            menu.addAction(kind, partial(self.teach_wanted.emit, declared.name, kind))
        menu.addSeparator()
        menu.addAction(self.tr("average of the matches"), self.average_wanted.emit)
        self.teach.setMenu(menu)
        file = QPushButton(self.tr("From a file…"))
        file.clicked.connect(lambda: self.file_wanted.emit(declared.name))
        if declared.name == "mask":
            paint, derive = QPushButton(self.tr("Paint…")), QPushButton(self.tr("Derive"))
            paint.setToolTip(self.tr("Paint over the template what does not count"))
            derive.setToolTip(self.tr("What differs from match to match in this image does not count"))
            paint.clicked.connect(self.paint_wanted)
            derive.clicked.connect(self.differences_wanted)
            buttons.addWidget(paint)
            buttons.addWidget(derive)
        else:
            buttons.addWidget(self.teach)
        buttons.addWidget(file)
        buttons.addStretch(1)
        layout.addLayout(buttons)

    def show_value(self, value: Any) -> None:
        """Show the picture of that name without a signal."""
        if value == self.value and value is not None:
            return
        self.value = value
        self.clear.setVisible(value is not None)
        self.picture.setVisible(value is not None)
        self.about.setText(self.declared.auto if value is None else "")
        if value is None or self.picture_of is None:
            return
        try:
            image = self.picture_of(value)
        except ParameterError as error:
            self.picture.setText(str(error))
            return
        self.about.setText(f"{image.width} × {image.height} px")
        pixels = picture_of(image)
        if pixels.ndim == 2:
            pixels = np.repeat(pixels[..., None], 3, axis=2)
        height, width = pixels.shape[:2]
        drawn = QImage(pixels.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888)
        self.picture.setPixmap(
            QPixmap.fromImage(drawn).scaled(_SIZE, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
        )

    def show_wrong(self, message: str) -> None:
        self.picture.setToolTip(message)
