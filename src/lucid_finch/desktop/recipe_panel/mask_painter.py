"""A dialog in which the part of a picture that does not count is painted with a round brush."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QHBoxLayout, QLabel, QPushButton, QSlider, QVBoxLayout, QWidget

from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme

_LARGEST = 560
"""px of the window along the longer side of the picture."""


class MaskCanvas(QWidget):
    """The picture with what does not count hatched over; the left button paints, the right one or Shift takes away."""

    changed = Signal()

    def __init__(self, pixels: NDArray[np.uint8], hidden: NDArray[np.bool_]) -> None:
        """`pixels` (h, w, 3) RGB; `hidden` (h, w): what does not count."""
        super().__init__()
        self.hidden = hidden.copy()
        self.radius = max(2.0, max(hidden.shape) / 16)
        height, width = hidden.shape
        self._bytes = np.ascontiguousarray(pixels).tobytes()
        self._image = QImage(self._bytes, width, height, 3 * width, QImage.Format.Format_RGB888)
        self.zoom = max(1, _LARGEST // max(width, height))
        self.place = QPointF(0.5 * width, 0.5 * height)
        """Of the brush, px of the picture from its outer edge."""
        self._earlier: list[NDArray[np.bool_]] = []
        self.setFixedSize(QSize(width, height) * self.zoom)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(self.tr("Mask: what is painted does not count"))

    def stroke(self, x: float, y: float, hide: bool) -> None:
        """Paint a disc about a place, px of the picture from its outer edge."""
        rows, columns = np.ogrid[: self.hidden.shape[0], : self.hidden.shape[1]]
        disc = (columns + 0.5 - x) ** 2 + (rows + 0.5 - y) ** 2 <= self.radius**2
        self.hidden[disc] = hide
        self.changed.emit()
        self.update()

    def begin(self) -> None:
        """Remember the mask as it is, for undo."""
        self._earlier = [*self._earlier[-49:], self.hidden.copy()]

    def undo(self) -> None:
        if self._earlier:
            self.hidden = self._earlier.pop()
            self.changed.emit()
            self.update()

    def put(self, hidden: NDArray[np.bool_]) -> None:
        """Another mask, as one step."""
        self.begin()
        self.hidden = hidden.copy()
        self.changed.emit()
        self.update()

    def _paint_at(self, event: QMouseEvent) -> None:
        self.place = event.position() / self.zoom
        buttons, shift = event.buttons(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if buttons & Qt.MouseButton.LeftButton or buttons & Qt.MouseButton.RightButton:
            hide = bool(buttons & Qt.MouseButton.LeftButton) and not shift
            self.stroke(self.place.x(), self.place.y(), hide)
        self.update()

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.begin()
        self._paint_at(event)

    @guarded
    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._paint_at(event)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows move the brush, Space paints, Backspace takes away."""
        keys = Qt.Key
        steps = {keys.Key_Left: (-1, 0), keys.Key_Right: (1, 0), keys.Key_Up: (0, -1), keys.Key_Down: (0, 1)}
        key = keys(event.key())
        if key in steps:
            step = QPointF(*steps[key]) * max(1.0, 0.5 * self.radius)
            place = self.place + step
            height, width = self.hidden.shape
            self.place = QPointF(min(max(place.x(), 0.0), width), min(max(place.y(), 0.0), height))
            self.update()
        elif key in (keys.Key_Space, keys.Key_Backspace):
            self.begin()
            self.stroke(self.place.x(), self.place.y(), key == keys.Key_Space)
        else:
            super().keyPressEvent(event)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.drawImage(self.rect(), self._image)
        accent = QColor(current_theme().accent)
        height, width = self.hidden.shape
        veil = np.zeros((height, width, 4), np.uint8)
        veil[self.hidden] = (accent.blue(), accent.green(), accent.red(), 150)
        veil[..., :3] = (veil[..., :3].astype(np.uint16) * veil[..., 3:] // 255).astype(np.uint8)
        kept = veil.tobytes()
        drawn = QImage(kept, width, height, 4 * width, QImage.Format.Format_ARGB32_Premultiplied)
        painter.drawImage(self.rect(), drawn)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for colour in (QColor("black"), QColor("white")):
            painter.setPen(colour)
            reach = self.radius * self.zoom + (colour == QColor("black"))
            painter.drawEllipse(self.place * self.zoom, reach, reach)
        painter.end()


class MaskPainter(QDialog):
    """The canvas with the size of the brush and what can be done at once."""

    def __init__(self, parent: QWidget | None, pixels: NDArray[np.uint8], hidden: NDArray[np.bool_]) -> None:
        super().__init__(parent)
        self.setWindowTitle(self.tr("Paint what does not count"))
        self.canvas = MaskCanvas(pixels, hidden)
        self.about = QLabel()
        self.about.setObjectName("quiet")
        self.brush = QSlider(Qt.Orientation.Horizontal)
        self.brush.setRange(1, max(2, max(hidden.shape) // 2))
        self.brush.setValue(round(self.canvas.radius))
        self.brush.setAccessibleName(self.tr("Radius of the brush, px"))
        self.brush.valueChanged.connect(self._resized)
        size = QLabel(self.tr("Brush"))
        size.setBuddy(self.brush)
        layout = QVBoxLayout(self)
        layout.addWidget(QLabel(self.tr("Left button paints, right button or Shift takes away.")))
        layout.addWidget(self.canvas, 0, Qt.AlignmentFlag.AlignHCenter)
        row = QHBoxLayout()
        row.addWidget(size)
        row.addWidget(self.brush, 1)
        for text, call in (
            (self.tr("Undo"), self.canvas.undo),
            (self.tr("Invert"), lambda: self.canvas.put(~self.canvas.hidden)),
            (self.tr("Clear"), lambda: self.canvas.put(np.zeros_like(self.canvas.hidden))),
        ):
            button = QPushButton(text)
            button.setAutoDefault(False)
            button.clicked.connect(call)
            row.addWidget(button)
        layout.addLayout(row)
        layout.addWidget(self.about)
        standard = QDialogButtonBox.StandardButton
        self.buttons = QDialogButtonBox(standard.Ok | standard.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        layout.addWidget(self.buttons)
        self.canvas.changed.connect(self._tell)
        self._tell()

    def _resized(self, radius: int) -> None:
        self.canvas.radius = float(radius)
        self.canvas.update()

    def _tell(self) -> None:
        hidden = self.canvas.hidden
        self.about.setText(self.tr("{:.0f} % of the picture do not count").format(100 * float(hidden.mean())))
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not hidden.all())
