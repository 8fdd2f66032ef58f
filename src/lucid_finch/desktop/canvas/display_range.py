"""The display range of a map: a small colour bar, and the card with its histogram, handles and presets. Data never change."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from lucid_finch.core.viewing.display import display_range
from lucid_finch.desktop.study.picture import Picture, packed_table
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme

_BINS = 96
_PRESETS = ((0.0, 100.0), (0.2, 99.8), (2.0, 98.0), (10.0, 90.0))
"""Percentiles that become black and white."""


def _gradient(picture: Picture) -> QImage:
    table = packed_table(picture.kind).reshape(1, 256)
    return QImage(table.tobytes(), 256, 1, 1024, QImage.Format.Format_RGB32).copy()


class ColourBar(QWidget):
    """The colours from the low to the high end of the display range, with a tick at the value under the cursor."""

    pressed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.picture: Picture | None = None
        self.value: float | None = None
        self.setFixedSize(46, 14)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(self.tr("Display range"))

    def show_picture(self, picture: Picture | None, value: float | None) -> None:
        self.picture, self.value = picture, value
        if picture is not None:
            self.setToolTip(
                self.tr("Shown from {:.4g} to {:.4g} {}; click to change the display range").format(
                    picture.low, picture.high, picture.unit
                )
            )
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if self.picture is None:
            return
        box = self.rect().adjusted(0, 2, -1, -3)
        painter.drawImage(box, _gradient(self.picture))
        painter.setPen(QColor("#f0b140" if self.hasFocus() else "#8f9590"))
        painter.drawRect(box)
        low, high = self.picture.low, self.picture.high
        if self.value is not None and high > low and np.isfinite(self.value):
            x = box.left() + box.width() * min(max((self.value - low) / (high - low), 0.0), 1.0)
            painter.setPen(QPen(QColor("#f0b140"), 2))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        painter.end()

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.pressed.emit()

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.pressed.emit()
        else:
            super().keyPressEvent(event)


class RangeHistogram(QWidget):
    """All values of a map over the display range, with a handle for black and one for white."""

    moved = Signal(float, float)

    def __init__(self) -> None:
        super().__init__()
        self.picture: Picture | None = None
        self.active = 1
        """Handle that the keyboard moves: 0 black, 1 white."""
        self._span = (0.0, 1.0)
        self._counts: NDArray[np.int64] = np.zeros(_BINS, np.int64)
        self._held = False
        self.setMinimumSize(QSize(250, 84))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(self.tr("Values of the map, with black and white"))
        self.setToolTip(self.tr("Drag black or white; arrow keys move the one chosen last, Space changes over."))

    def show_picture(self, picture: Picture) -> None:
        fresh = self.picture is None or self.picture.levels is not picture.levels
        self.picture = picture
        if fresh:
            values = np.asarray(picture.coarse(), float).ravel()
            values = values[np.isfinite(values)]
            low, high = (float(values.min()), float(values.max())) if len(values) else (0.0, 1.0)
            low, high = min(low, picture.low), max(high, picture.high)
            margin = 0.03 * (high - low) or 0.5
            self._span = (low - margin, high + margin)
            self._counts = np.histogram(values, bins=_BINS, range=self._span)[0]
        self.update()

    def place_of(self, value: float) -> float:
        low, high = self._span
        return (value - low) / (high - low) * self.width()

    def value_at(self, x: float) -> float:
        low, high = self._span
        return low + (high - low) * min(max(x / max(self.width(), 1), 0.0), 1.0)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        if self.picture is None:
            return
        theme = current_theme()
        painter = QPainter(self)
        base = self.height() - 24
        width = self.width() / _BINS
        # Counts as logarithms: the few pixels on edges are what is looked for among the many that are flat.
        tall = np.log1p(self._counts) / max(float(np.log1p(self._counts.max(initial=0))), 1e-9) * (base - 2)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(theme.faint))
        painter.drawRects([QRectF(n * width, base - h, max(width - 0.6, 0.8), h) for n, h in enumerate(tall.tolist()) if h > 0])
        black, white = self.place_of(self.picture.low), self.place_of(self.picture.high)
        painter.drawImage(QRectF(black, base + 2, max(white - black, 1.0), 8), _gradient(self.picture))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for number, x in enumerate((black, white)):
            painter.setPen(QPen(QColor(theme.text), 1.5))
            painter.drawLine(QPointF(x, 0), QPointF(x, base + 10))
            painter.setBrush(QColor(("#111315", "#f4f2ec")[number]))
            if self.hasFocus() and self.active == number:
                painter.setPen(QPen(QColor(theme.accent), 2))
            painter.drawPolygon(QPolygonF([QPointF(x, base + 11), QPointF(x + 6, base + 22), QPointF(x - 6, base + 22)]))
        painter.end()

    def move_to(self, value: float) -> None:
        """The active handle to a value; black stays below white, and signed maps stay even around zero."""
        if self.picture is None or self.picture.kind == "cyclic":
            return
        low, high = self.picture.low, self.picture.high
        gap = 1e-3 * (self._span[1] - self._span[0])
        if self.picture.kind == "signed":
            reach = max(abs(value), gap)
            low, high = -reach, reach
        elif self.active == 0:
            low = min(value, high - gap)
        else:
            high = max(value, low + gap)
        self.moved.emit(low, high)

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.picture is not None:
            x = event.position().x()
            black, white = abs(x - self.place_of(self.picture.low)), abs(x - self.place_of(self.picture.high))
            self.active = 0 if black < white else 1
            self.move_to(self.value_at(x))

    @guarded
    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self.move_to(self.value_at(event.position().x()))

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if self.picture is not None and event.key() in steps:
            now = (self.picture.low, self.picture.high)[self.active]
            self.move_to(now + steps[Qt.Key(event.key())] * (self._span[1] - self._span[0]) / 200)
        elif event.key() == Qt.Key.Key_Space:
            self.active = 1 - self.active
            self.update()
        else:
            super().keyPressEvent(event)


class RangeCard(QFrame):
    """Opens under a colour bar; closes when something else is clicked."""

    changed = Signal(str, object)
    """Name of the map and its (low, high), or None for what the data suggest."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("note")
        self.picture: Picture | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 9, 12, 10)
        self.title = QLabel()
        self.title.setObjectName("title")
        layout.addWidget(self.title)
        self.histogram = RangeHistogram()
        self.histogram.moved.connect(self._moved)
        layout.addWidget(self.histogram)
        self.numbers = QLabel()
        self.numbers.setObjectName("quiet")
        layout.addWidget(self.numbers)
        row = QHBoxLayout()
        for low, high in _PRESETS:
            button = QPushButton(f"{low:g}–{high:g} %")
            button.setToolTip(self.tr("Black and white at these percentiles of the map's values"))
            button.clicked.connect(lambda _=False, q=(low, high): self.take_percentiles(*q))
            row.addWidget(button)
        reset = QPushButton(self.tr("As the data suggest"))
        reset.clicked.connect(self._reset)
        layout.addLayout(row)
        layout.addWidget(reset)

    def show_picture(self, picture: Picture) -> None:
        self.picture = picture
        self.title.setText(picture.title)
        self.numbers.setText(
            self.tr("black {:.4g} · white {:.4g} {}").format(picture.low, picture.high, picture.unit)
            if picture.kind != "signed"
            else self.tr("{:.4g} to {:.4g} {}, even around zero").format(picture.low, picture.high, picture.unit)
        )
        self.histogram.show_picture(picture)

    def take_percentiles(self, low: float, high: float) -> None:
        if self.picture is None or self.picture.kind == "cyclic":
            return
        values = np.asarray(self.picture.coarse(), float)
        values = values[np.isfinite(values)]
        if self.picture.kind == "signed":
            most = float(np.percentile(np.abs(values), high)) or 1.0
            self._moved(-most, most)
        else:
            black, white = (float(v) for v in np.percentile(values, (low, high)))
            self._moved(black, white if white > black else black + 1e-6)

    def _reset(self) -> None:
        if self.picture is not None:
            low, high = display_range(self.picture.coarse(), self.picture.kind)
            self._moved(low, high, forget=True)

    def _moved(self, low: float, high: float, forget: bool = False) -> None:
        if self.picture is not None:
            self.picture.low, self.picture.high = low, high
            self.show_picture(self.picture)
            self.changed.emit(self.picture.name, None if forget else (low, high))
