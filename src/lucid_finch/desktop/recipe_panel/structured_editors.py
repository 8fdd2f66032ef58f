"""Editors of structured parameters: regions, tables of coefficients; and the sketch of a border mode."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QKeySequence, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.image import Image
from lucid_finch.core.parameter_types.structures import rows_of_numbers
from lucid_finch.core.parameters import Declaration
from lucid_finch.core.prepare.step import PADDING
from lucid_finch.desktop.canvas.shapes import REGIONS, Shape
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme

_NUMBERS = {
    "rectangle": ("x", "y", "width", "height", "angle"),
    "ellipse": ("x", "y", "width", "height", "angle"),
    "annulus": ("x", "y", "inner", "outer", "start", "sweep"),
    "polygon": (),
}


def shape_key(name: str, hole: bool = False) -> str:
    """Key of the shape that stands for a region parameter, or for a new exclusion of it."""
    return f"{name}/new" if hole else name


class RegionEditor(QWidget):
    """A region: drawn on the image, or typed as numbers; with exclusions."""

    edited = Signal(str, object, bool)
    view_wanted = Signal(str)
    draw_wanted = Signal(str, str, bool)
    """Name, shape, and whether it is to be excluded."""

    def __init__(self, declared: Declaration) -> None:
        super().__init__()
        self.declared = declared
        self.value: Shape | None = None
        self.fields: dict[str, QLineEdit] = {}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 6)
        layout.setSpacing(3)
        head = QHBoxLayout()
        label = QLabel(f"<b>{declared.label}</b>")
        label.setToolTip(f"{declared.help}\n{self.tr('Allowed')}: {declared.allowed}")
        self.about = QLabel()
        self.about.setObjectName("quiet")
        self.about.setAlignment(Qt.AlignmentFlag.AlignRight)
        head.addWidget(label)
        head.addWidget(self.about, 1)
        self.clear = QPushButton("×")
        self.clear.setObjectName("bare")
        self.clear.setAccessibleName(self.tr("Set {} to auto").format(declared.label))
        self.clear.setToolTip(self.tr("Auto: {}").format(declared.auto))
        self.clear.clicked.connect(lambda: self.edited.emit(declared.name, None, False))
        head.addWidget(self.clear)
        layout.addLayout(head)
        buttons = QHBoxLayout()
        buttons.setSpacing(4)
        buttons.addWidget(self._drawer(self.tr("Draw"), self.tr("Draw it on the image"), False))
        self.exclude = self._drawer(self.tr("Exclude"), self.tr("Draw an area to exclude"), True)
        buttons.addWidget(self.exclude)
        view = QPushButton(self.tr("In view"))
        view.setToolTip(self.tr("Use the part in view: sets the region to what the active pane shows."))
        view.clicked.connect(lambda: self.view_wanted.emit(declared.name))
        buttons.addWidget(view)
        buttons.addStretch(1)
        layout.addLayout(buttons)
        self._grid = QGridLayout()
        self._grid.setSpacing(3)
        layout.addLayout(self._grid)
        self._shown = ""

    def _drawer(self, text: str, tip: str, hole: bool) -> QToolButton:
        button = QToolButton()
        button.setText(text)
        button.setToolTip(tip)
        button.setAccessibleName(f"{text} {self.declared.label}")
        button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(button)
        for kind in REGIONS:
            menu.addAction(kind, partial(self.draw_wanted.emit, self.declared.name, kind, hole))
        button.setMenu(menu)
        return button

    def show_value(self, value: Any) -> None:
        """Show a value without a signal."""
        self.value = value
        self.clear.setVisible(value is not None and self.declared.optional)
        self.exclude.setEnabled(value is not None)
        if value is None:
            self.about.setText(self.declared.auto)
        else:
            holes = len(value.get("exclude") or ())
            self.about.setText(value["shape"] + (self.tr(", {} excluded").format(holes) if holes else ""))
        kind = value["shape"] if value is not None else ""
        if kind != self._shown:
            self._shown = kind
            self._build(kind)
        for name, field in self.fields.items():
            if value is None or (field.hasFocus() and field.isModified()):
                continue
            text = "; ".join(f"{x:g} {y:g}" for x, y in value["points"]) if name == "points" else f"{value.get(name, 0.0):g}"
            field.setText(text)
            _mark(field, False)

    def _build(self, kind: str) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.fields = {}
        names = ("points",) if kind == "polygon" else _NUMBERS.get(kind, ())
        for place, name in enumerate(names):
            label = QLabel(name)
            label.setObjectName("quiet")
            field = QLineEdit()
            field.setAccessibleName(f"{self.declared.label} {name}")
            unit = self.tr("degrees") if name in ("angle", "start", "sweep") else "px"
            tip = self.tr("x y; x y; … in px of the source") if name == "points" else unit
            field.setToolTip(tip)
            field.editingFinished.connect(partial(self._typed, name))
            row, column = divmod(place, 2)
            self._grid.addWidget(label, row, 2 * column)
            self._grid.addWidget(field, row, 2 * column + 1)
            self.fields[name] = field

    def _typed(self, name: str) -> None:
        field = self.fields.get(name)
        if field is None or self.value is None or not field.isModified():
            return
        field.setModified(False)
        try:
            given: Any = [list(p) for p in rows_of_numbers(field.text())] if name == "points" else float(field.text())
        except (ValueError, TypeError):
            _mark(field, True)
            return
        self.edited.emit(self.declared.name, {**self.value, name: given}, False)

    def show_auto(self, text: str) -> None:
        """Regions have no automatic value to show."""

    def show_wrong(self, message: str) -> None:
        for field in self.fields.values():
            _mark(field, True)
            field.setToolTip(message)


def _mark(field: QWidget, wrong: bool) -> None:
    if bool(field.property("wrong")) != wrong:
        field.setProperty("wrong", wrong)
        field.style().unpolish(field)
        field.style().polish(field)


class CoefficientsEditor(QWidget):
    """A small table of numbers, with its size; pasting takes rows from a sheet or a text."""

    edited = Signal(str, object, bool)

    def __init__(self, declared: Declaration) -> None:
        super().__init__()
        self.declared = declared
        self.value: tuple[tuple[float, ...], ...] = ()
        self._quiet = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 6)
        layout.setSpacing(3)
        head = QHBoxLayout()
        label = QLabel(f"<b>{declared.label}</b>")
        label.setToolTip(f"{declared.help}\n{self.tr('Allowed')}: {declared.allowed}")
        head.addWidget(label, 1)
        self.rows, self.columns = QComboBox(), QComboBox()
        for box, name in ((self.rows, self.tr("Rows")), (self.columns, self.tr("Columns"))):
            box.addItems([str(n) for n in range(1, 16, 2)])
            box.setAccessibleName(name)
            box.setToolTip(name)
            box.activated.connect(self._resized)
            head.addWidget(box)
        paste = QPushButton(self.tr("Paste"))
        paste.setToolTip(self.tr("Rows of numbers from the clipboard: separated by tabs, spaces or commas"))
        paste.clicked.connect(self.paste)
        head.addWidget(paste)
        layout.addLayout(head)
        self.table = QTableWidget()
        self.table.setTabKeyNavigation(False)
        self.table.setAccessibleName(declared.label)
        self.table.horizontalHeader().hide()
        self.table.verticalHeader().hide()
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.table.cellChanged.connect(self._changed)
        layout.addWidget(self.table)

    def show_value(self, value: Any) -> None:
        """Show a value without a signal."""
        self.value = tuple(tuple(row) for row in value)
        self._quiet = True
        count = max((len(row) for row in self.value), default=0)
        self.table.setRowCount(len(self.value))
        self.table.setColumnCount(count)
        for y, row in enumerate(self.value):
            for x, number in enumerate(row):
                item = QTableWidgetItem(f"{number:g}")
                item.setTextAlignment(Qt.AlignmentFlag.AlignCenter)
                self.table.setItem(y, x, item)
                self.table.setColumnWidth(x, max(34, min(60, 236 // max(count, 1))))
            self.table.setRowHeight(y, self.fontMetrics().height() + 8)
        rows = min(len(self.value), 9)
        self.table.setFixedHeight(rows * (self.fontMetrics().height() + 8) + 6 + (16 if count > 7 else 0))
        self.rows.setCurrentText(str(len(self.value)))
        self.columns.setCurrentText(str(count))
        self._quiet = False

    def _changed(self, y: int, x: int) -> None:
        if self._quiet:
            return
        item = self.table.item(y, x)
        try:
            number = float(item.text() if item is not None else "")
        except ValueError:
            self.show_value(self.value)
            return
        rows = [list(row) for row in self.value]
        rows[y][x] = number
        self.edited.emit(self.declared.name, rows, False)

    def _resized(self) -> None:
        """More rows or columns come at the rim, as zeros; fewer leave the middle."""
        old = np.array(self.value)
        new = np.zeros((int(self.rows.currentText()), int(self.columns.currentText())))
        shared = np.minimum(old.shape, new.shape)
        (oy, ox), (ny, nx) = (np.array(old.shape) - shared) // 2, (np.array(new.shape) - shared) // 2
        new[ny : ny + shared[0], nx : nx + shared[1]] = old[oy : oy + shared[0], ox : ox + shared[1]]
        self.edited.emit(self.declared.name, new.tolist(), False)

    def paste(self) -> None:
        """Take the table from the clipboard."""
        rows = rows_of_numbers(QApplication.clipboard().text())
        self.edited.emit(self.declared.name, rows if isinstance(rows, str) else [list(row) for row in rows], False)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
        else:
            super().keyPressEvent(event)

    def show_auto(self, text: str) -> None:
        """Coefficients have no automatic value."""

    def show_wrong(self, message: str) -> None:
        self.table.setToolTip(message)
        self.show_value(self.value)


class BorderSketch(QWidget):
    """The first pixels of the middle row of the image, and what a border makes of those before them."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(44)
        self.border = "mirror"
        self.values: list[float | None] = []
        self.setAccessibleName(self.tr("Values beyond the border"))
        self.setToolTip(
            self.tr("The left end of the middle row of the image. Right of the line: its pixels; left of it: what is put there.")
        )

    def show_border(self, border: str, image: Image) -> None:
        row = image.pixels[image.height // 2, :4].astype(float)
        row = row.mean(axis=1) if row.ndim == 2 else row
        self.border = border
        before: list[float | None] = [None] * 3
        if border in PADDING:
            filled = {"constant_values": image.black} if border == "constant" else {}
            before = np.pad(row, (3, 0), PADDING[border], **filled)[:3].tolist()  # type: ignore[call-overload]
        self.values = [*before, *row.tolist()]
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(220, 44)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.values:
            return
        width = min(36.0, (self.width() - 4) / len(self.values))
        for place, value in enumerate(self.values):
            box = QRectF(2 + place * width, 4, width - 2, 22)
            beyond = place < 3
            painter.setPen(
                QPen(QColor(theme.accent if beyond else theme.line), 1, Qt.PenStyle.DashLine if beyond else Qt.PenStyle.SolidLine)
            )
            painter.setBrush(QColor(theme.card) if not beyond else Qt.BrushStyle.NoBrush)
            if not (beyond and value is None):
                painter.drawRect(box)
            painter.setPen(QColor(theme.faint if beyond else theme.text))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, "×" if value is None else f"{value:.3g}")
        edge = 1 + 3 * width
        painter.setPen(QPen(QColor(theme.accent), 2))
        painter.drawLine(QPointF(edge, 0), QPointF(edge, 28))
        painter.setPen(QColor(theme.quiet))
        words = {
            "mirror": self.tr("mirrored about the first pixel"), "replicate": self.tr("the first pixel again"),
            "constant": self.tr("black"), "trim": self.tr("cut off: the result is smaller"),
        }  # fmt: skip
        painter.drawText(QRectF(2, 28, self.width() - 4, 16), Qt.AlignmentFlag.AlignLeft, words.get(self.border, ""))
        painter.end()
