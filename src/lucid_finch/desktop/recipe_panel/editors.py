"""One editor for each kind of declared parameter, and the histogram under a limit."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.judging import Limit
from lucid_finch.core.parameter_types.choices import Choice, Switch
from lucid_finch.core.parameter_types.numbers import Number, RangeType
from lucid_finch.core.parameters import Declaration
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme

_STEPS = 1000


class Histogram(QWidget):
    """All candidates over one criterion: rejected ones in grey, the others in the accent colour; a handle sets the limit."""

    limit_moved = Signal(float, int)
    """In the criterion's own units, and which limit: an end of a range (0, 1), or -1."""

    def __init__(self, label: str) -> None:
        super().__init__()
        self.values: NDArray[np.float64] = np.empty(0)
        self.limits: tuple[Limit, ...] = ()
        self._held = 0
        """Which of the limits is moved."""
        self.setFixedHeight(54)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(self.tr("Candidates over {}").format(label))
        self.setCursor(Qt.CursorShape.SplitHCursor)
        self._bend = 1.0
        self._range = (0.0, 1.0)
        self._bins: NDArray[np.int64] = np.zeros(1, np.int64)

    @property
    def limit(self) -> Limit | None:
        """The limit that is or would be moved."""
        return self.limits[min(self._held, len(self.limits) - 1)] if self.limits else None

    def show_values(self, values: NDArray[Any], limits: tuple[Limit, ...]) -> None:
        finite = np.asarray(values, float)
        finite = finite[np.isfinite(finite)]
        self.values, self.limits = finite, limits
        if len(finite):
            self._bend = max(float(np.median(np.abs(finite))), 1e-6)
            low, high = float(finite.min()), float(finite.max())
            for limit in limits:
                if math.isfinite(limit.value):
                    low, high = min(low, limit.value), max(high, limit.value)
            a, b = self._bent(low), self._bent(high)
            margin = max(0.04 * (b - a), 1e-6)
            self._range = (a - margin, b + margin)
            self._bins = np.histogram(self._bent(finite), bins=44, range=self._range)[0]
        else:
            self._bins = np.zeros(44, np.int64)
        self.update()

    def _bent(self, value: Any) -> Any:
        """A scale that is linear around the usual values and logarithmic far out."""
        return np.arcsinh(np.asarray(value) / self._bend)

    def place_of(self, value: float) -> float:
        low, high = self._range
        return float((self._bent(value) - low) / (high - low)) * self.width()

    def value_at(self, x: float) -> float:
        low, high = self._range
        return float(np.sinh(low + (high - low) * min(max(x / max(self.width(), 1), 0.0), 1.0)) * self._bend)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        base = self.height() - 10
        width = self.width() / len(self._bins)
        # Counts as logarithms: among thousands of rejected ones the few that stand must be seen.
        heights = np.log1p(self._bins) / max(math.log1p(int(self._bins.max(initial=0))), 1e-9)
        painter.setPen(Qt.PenStyle.NoPen)
        # Bars fall on either side of the limit's place: no value is computed for each.
        edges = [(self.place_of(limit.value), limit.sense == "at least") for limit in self.limits]
        for passed, colour in ((True, theme.accent), (False, theme.faint)):
            painter.setBrush(QColor(colour))
            bars = [
                QRectF(number * width + 0.5, base - tall * (base - 4), max(width - 1, 1), tall * (base - 4))
                for number, tall in enumerate(heights.tolist())
                if tall > 0 and all(((number + 0.5) * width >= edge) == upper for edge, upper in edges) == passed
            ]
            painter.drawRects(bars)
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.drawLine(QPointF(0, base), QPointF(self.width(), base))
        for limit in self.limits if len(self.values) else ():
            x = min(max(self.place_of(limit.value), 2.0), self.width() - 2.0)
            painter.setPen(QPen(QColor(theme.text), 2))
            painter.drawLine(QPointF(x, 2), QPointF(x, base))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(theme.accent if self.hasFocus() else theme.text))
            painter.drawPolygon(
                QPolygonF(
                    [
                        QPointF(x, base - 3),
                        QPointF(x + 6, base + 4),
                        QPointF(x + 6, base + 9),
                        QPointF(x - 6, base + 9),
                        QPointF(x - 6, base + 4),
                    ]
                )
            )
        painter.end()

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        far = [abs(self.place_of(limit.value) - event.position().x()) for limit in self.limits]
        self._held = int(np.argmin(far)) if far else 0
        self._move(event)

    @guarded
    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._move(event)

    def _move(self, event: QMouseEvent) -> None:
        if len(self.values):
            self._emit(event.position().x())

    def _emit(self, x: float) -> None:
        self.limit_moved.emit(self.value_at(x), self.limit.end if self.limit is not None else -1)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: -3.0, Qt.Key.Key_Right: 3.0}
        if event.key() in steps and self.limit is not None and len(self.values):
            self._emit(self.place_of(self.limit.value) + steps[Qt.Key(event.key())])
        else:
            super().keyPressEvent(event)

    def sizeHint(self) -> QSize:
        return QSize(200, 54)


class ParameterEditor(QWidget):
    """Label, field and, where they help, slider, histogram and a button back to the default."""

    edited = Signal(str, object, bool)
    """Name, new value, and whether more of the same movement may follow."""
    sweep_wanted = Signal(str)
    """Show the results over a range of this parameter."""

    def __init__(self, declared: Declaration) -> None:
        super().__init__()
        self.declared = declared
        self.value: Any = declared.default
        self.slider: QSlider | None = None
        self.histogram: Histogram | None = None
        self.field: QLineEdit | None = None
        self.choice: QComboBox | None = None
        self.check: QCheckBox | None = None
        self.clear: QPushButton | None = None
        self.sweep: QPushButton | None = None
        """Shows a range of this parameter."""
        self._quiet = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 6)
        layout.setSpacing(3)
        tip = f"{declared.help}\n{self.tr('Allowed')}: {declared.allowed}"
        # No colour of its own: it must be read in both themes, which can change while it is shown.
        label = QLabel(f"<b>{declared.label}</b> {declared.unit}")
        label.setWordWrap(True)
        label.setToolTip(tip)
        if isinstance(declared.type, Switch):
            self.check = QCheckBox(declared.label)
            self.check.setToolTip(tip)
            self.check.toggled.connect(lambda on: self._emit(on))
            layout.addWidget(self.check)
            return
        head = QHBoxLayout()
        head.setSpacing(4)
        head.addWidget(label, 1)
        if isinstance(declared.type, (Choice, Number)):
            self.sweep = self._sweep_button()
            head.addWidget(self.sweep)
        if isinstance(declared.type, Choice):
            self.choice = QComboBox()
            self.choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
            if declared.optional:
                self.choice.addItem(self._auto_text)
            self.choice.addItems(list(declared.type.choices))
            self.choice.setToolTip(tip)
            self.choice.setAccessibleName(declared.label)
            self.choice.currentTextChanged.connect(self._chosen)
            head.addWidget(self.choice)
            layout.addLayout(head)
            return
        self.field = QLineEdit()
        self.field.setAccessibleName(f"{declared.label} {declared.unit}".strip())
        self.field.setToolTip(tip)
        self.field.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.field.setFixedWidth(self.fontMetrics().horizontalAdvance("auto (00–000)") + 22)
        self.field.editingFinished.connect(self._typed)
        if declared.optional:
            self.field.setPlaceholderText(self.tr("auto"))
            self.clear = QPushButton("×")
            self.clear.setAccessibleName(self.tr("Set {} to auto").format(declared.label))
            self.clear.setObjectName("bare")
            self.clear.setToolTip(self.tr("Auto: {}").format(declared.auto))
            self.clear.clicked.connect(lambda: self._emit(None))
            head.addWidget(self.clear)
        head.addWidget(self.field)
        layout.addLayout(head)
        if declared.criterion or declared.over:
            self.histogram = Histogram(declared.label)
            self.histogram.setToolTip(tip)
            self.histogram.limit_moved.connect(self._limit_moved)
            layout.addWidget(self.histogram)
        elif declared.usual is not None:
            self.slider = QSlider(Qt.Orientation.Horizontal)
            self.slider.setRange(0, _STEPS)
            self.slider.setAccessibleName(declared.label)
            self.slider.setToolTip(tip)
            self.slider.valueChanged.connect(self._slid)
            layout.addWidget(self.slider)

    def _sweep_button(self) -> QPushButton:
        button = QPushButton("⋯")
        button.setObjectName("bare")
        button.setAccessibleName(self.tr("Sweep {}").format(self.declared.label))
        button.setToolTip(self.tr("Sweep: the results at several values, side by side"))
        button.clicked.connect(lambda: self.sweep_wanted.emit(self.declared.name))
        return button

    def show_value(self, value: Any) -> None:
        """Show a value without a signal."""
        self.value = value
        self._quiet = True
        if self.check is not None:
            self.check.setChecked(bool(value))
        elif self.choice is not None:
            if value is None:
                self.choice.setCurrentIndex(0)
            else:
                self.choice.setCurrentText(str(value))
        elif self.field is not None:
            self._mark_wrong("")
            if not self.field.hasFocus() or not self.field.isModified():
                self.field.setText(self.declared.type.show(value))
        if self.clear is not None:
            self.clear.setVisible(value is not None)
        if self.slider is not None and self.declared.usual is not None:
            low, high = self.declared.usual
            number = self.declared.type.number_of(value) if isinstance(self.declared.type, Number) else None
            if number is not None:
                self.slider.setValue(round(_STEPS * (min(max(number, low), high) - low) / (high - low)))
        self._quiet = False

    def forget_measured(self) -> None:
        """Show nothing of an image that is gone."""
        if self.histogram is not None:
            self.histogram.show_values(np.empty(0), ())
        if self.declared.optional and self.value is None:
            self.show_auto("")

    def show_auto(self, text: str) -> None:
        """The automatic value on this image."""
        if self.choice is not None and self.declared.optional:
            self.choice.setItemText(0, f"{self._auto_text} ({text})" if text else self._auto_text)
        if self.field is not None:
            self.field.setPlaceholderText(f"{self._auto_text} ({text})" if text else self._auto_text)

    def show_wrong(self, message: str) -> None:
        self._mark_wrong(message)

    def _mark_wrong(self, message: str) -> None:
        if self.field is None or (not message and not self.field.property("wrong")):
            return
        self.field.setProperty("wrong", bool(message))
        self.field.style().unpolish(self.field)
        self.field.style().polish(self.field)
        self.field.setToolTip(message or f"{self.declared.help}\n{self.tr('Allowed')}: {self.declared.allowed}")

    def _typed(self) -> None:
        assert self.field is not None
        text = self.field.text().strip()
        self.field.setModified(False)
        if text == self.declared.type.show(self.value):
            return
        try:
            self._emit(self.declared.type.read(text, self.declared))
        except ParameterError as error:
            self.show_wrong(str(error))

    @property
    def _auto_text(self) -> str:
        """The text of a value that the program chooses."""
        return self.tr("auto")

    def _chosen(self, text: str) -> None:
        self._emit(None if self.declared.optional and self.choice is not None and self.choice.currentIndex() == 0 else text)

    def _slid(self, step: int) -> None:
        if self._quiet or self.declared.usual is None:
            return
        low, high = self.declared.usual
        self._emit(self.declared.type.fit(low + (high - low) * step / _STEPS, self.declared), True)

    def _limit_moved(self, limit: float, end: int) -> None:
        """The handle of a limit was dragged."""
        kind = self.declared.type
        if isinstance(kind, RangeType):
            self._emit(kind.with_end(self.value, max(end, 0), kind.fit(limit, self.declared)), True)
            return
        try:
            value = self.declared.from_limit(limit)
        except OverflowError:
            return
        self._emit(kind.moved(self.value, value, self.declared), True)

    def _emit(self, value: Any, moving: bool = False) -> None:
        if not self._quiet:
            self.edited.emit(self.declared.name, value, moving)
