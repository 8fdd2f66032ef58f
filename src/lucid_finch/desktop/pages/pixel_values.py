"""The page of pixel values: values under the cursor, coefficients, products, sums and root, step by step."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.detection import Arithmetic, Correlation
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.numerics.edges.gradients import OPERATORS, operator_kernels
from lucid_finch.core.parameters import Coefficients, Declaration, Stage
from lucid_finch.core.viewing.arithmetic import Correlated, Worked, correlate, neighbourhood, work_out
from lucid_finch.desktop.recipe_panel.structured_editors import CoefficientsEditor
from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.labels import Elided
from lucid_finch.desktop.toolkit.theme import current_theme

_MOST = 15
"""Of larger tables the middle is shown; sums are over all."""

_AROUND = (4, 7)
"""Rows and columns to either side where a map is no weighted sum."""

_GAP = 26.0
"""px between tables."""


@dataclass
class Grid:
    """A table as it is painted."""

    title: str
    values: NDArray[Any]
    rows: list[str]
    columns: list[str]
    foot: str = ""
    tint: bool = False
    """Whether signs have different colours."""
    sign: str = ""
    """The sign between it and the table before."""

    @cached_property
    def texts(self) -> list[list[str]]:
        """The cells, all with as many digits after the point as the largest needs for four in all."""
        finite = np.abs(self.values[np.isfinite(self.values)])
        top = float(finite.max(initial=0.0))
        whole = bool((finite == np.round(finite)).all())
        digits = 0 if whole or top == 0 else min(max(3 - math.floor(math.log10(top)), 0), 8)
        return [[_cell(float(v), digits) for v in row] for row in self.values]


def _cell(value: float, digits: int) -> str:
    if not np.isfinite(value):
        return "–"
    text = f"{value:.{digits}f}"
    return "0" if float(text) == 0 else text


def _mean(values: NDArray[Any]) -> float:
    """Of the values that count."""
    return float(np.nanmean(values))


class GridView(QWidget):
    """Tables side by side, painted at once: a widget for each cell would not follow the pointer."""

    step_wanted = Signal(int, int)
    """Columns and rows that the place shall go."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[list[Grid]] = []
        """Tables of one line stand beside each other."""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._placed: list[list[tuple[Grid, tuple[float, float]]]] = []
        """The tables with their sizes."""
        self.foot = ""
        self.setAccessibleName(self.tr("Numbers"))

    def show_grids(self, lines: list[list[Grid]], foot: str) -> None:
        self.lines, self.foot = lines, foot
        self._placed = [[(grid, self._size(grid)) for grid in line] for line in lines]
        self.resize(self.sizeHint())
        self.update()

    def _widths(self, grid: Grid) -> tuple[float, float]:
        """Width of the row numbers and of a cell."""
        metrics = QFontMetricsF(self.font())
        head = metrics.horizontalAdvance(max(grid.rows, key=len, default="")) + 8
        longest = max((text for row in grid.texts for text in row), key=len, default="")
        return head, max(metrics.horizontalAdvance(t) for t in (longest, max(grid.columns, key=len, default=""))) + 9

    @property
    def _row(self) -> float:
        return math.ceil(QFontMetricsF(self.font()).height()) + 2

    def _size(self, grid: Grid) -> tuple[float, float]:
        head, cell = self._widths(grid)
        metrics = QFontMetricsF(self.font())
        width = max(head + cell * grid.values.shape[1], *(metrics.horizontalAdvance(t) for t in (grid.title, grid.foot)))
        return width, self._row * (grid.values.shape[0] + 2 + bool(grid.foot))

    def sizeHint(self) -> QSize:
        width = max((sum(w + _GAP for _, (w, _) in line) for line in self._placed), default=100.0)
        height = sum(max(h for _, (_, h) in line) + 8 for line in self._placed if line) + 2 * self._row
        return QSize(int(width) + 16, int(height) + 8)

    @guarded
    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() == QEvent.Type.FontChange:
            self.show_grids(self.lines, self.foot)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys = Qt.Key
        steps = {keys.Key_Left: (-1, 0), keys.Key_Right: (1, 0), keys.Key_Up: (0, -1), keys.Key_Down: (0, 1)}
        if event.key() in steps:
            self.step_wanted.emit(*steps[keys(event.key())])
        else:
            super().keyPressEvent(event)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        seen = QRectF(event.rect())
        y = 4.0
        if self.foot:
            painter.setPen(QColor(theme.text))
            bold = painter.font()
            bold.setBold(True)
            painter.setFont(bold)
            painter.drawText(QRectF(8, y, self.width(), self._row), Qt.AlignmentFlag.AlignVCenter, self.foot)
            painter.setFont(self.font())
            y += self._row + 4
        for line in self._placed:
            x = 8.0
            for number, (grid, (width, height)) in enumerate(line):
                if seen.intersects(QRectF(x, y, width, height)):
                    self._paint_grid(painter, grid, x, y, seen)
                x += width + _GAP
                if number < len(line) - 1 and line[number + 1][0].sign:
                    painter.setPen(QColor(theme.accent))
                    place = QRectF(x - _GAP + 2, y + 2 * self._row, _GAP - 6, self._row)
                    painter.drawText(place, Qt.AlignmentFlag.AlignCenter, line[number + 1][0].sign)
            y += max((height for _, (_, height) in line), default=0.0) + 8
        painter.end()

    def _paint_grid(self, painter: QPainter, grid: Grid, x: float, y: float, seen: QRectF) -> None:
        """What of a table is in sight: following the pointer, no more can be painted."""
        theme = current_theme()
        metrics = QFontMetricsF(self.font())
        head, cell = self._widths(grid)
        row = self._row
        base = metrics.ascent() + 1
        high, wide = grid.values.shape
        rows = range(max(int((seen.top() - y) / row) - 2, 0), min(int((seen.bottom() - y) / row) - 1, high))
        columns = range(max(int((seen.left() - x - head) / cell), 0), min(int((seen.right() - x - head) / cell) + 1, wide))
        text, quiet = QColor(theme.text), QColor(theme.quiet)
        # A cell ends where its column does: the widths of its few characters are known.
        widths = {c: metrics.horizontalAdvance(c) for c in "-–.0123456789e+"}

        def put(right: float, top: float, words: str) -> None:
            painter.drawText(QPointF(right - 4 - sum(widths.get(c, 8.0) for c in words), top + base), words)

        painter.setPen(quiet)
        painter.drawText(QPointF(x, y + base), grid.title)
        for j in columns:
            put(x + head + (j + 1) * cell, y + row, grid.columns[j])
        for i in rows:
            put(x + head, y + (i + 2) * row, grid.rows[i])
        if grid.tint:
            finite = np.abs(grid.values[np.isfinite(grid.values)])
            top = float(finite.max(initial=0.0)) or 1.0
            for i in rows:
                for j in columns:
                    share = float(grid.values[i, j]) / top
                    if abs(share) > 0.02:
                        colour = QColor("#d08020" if share > 0 else "#2f80b8")
                        colour.setAlphaF(min(0.28 * abs(share), 1.0))
                        painter.fillRect(QRectF(x + head + j * cell, y + (i + 2) * row, cell, row), colour)
        painter.setPen(QColor(theme.line))
        painter.drawRect(QRectF(x + head, y + 2 * row, cell * wide, row * high))
        painter.setPen(QColor(theme.accent))
        painter.drawRect(QRectF(x + head + wide // 2 * cell, y + (high // 2 + 2) * row, cell, row).adjusted(1, 1, -1, -1))
        painter.setPen(text)
        for i in rows:
            for j in columns:
                put(x + head + (j + 1) * cell, y + (i + 2) * row, grid.texts[i][j])
        if grid.foot:
            painter.drawText(QPointF(x, y + (high + 2) * row + base), grid.foot)


class PixelValuesPage(QWidget):
    """Follows the cursor over the map of the active pane, or works on numbers that are typed or pasted."""

    def __init__(self) -> None:
        super().__init__()
        self.picture: Picture | None = None
        self.place: tuple[float, float] | None = None
        self.pictures: dict[str, Picture] = {}
        self.worked: Worked | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 4, 8, 2)
        layout.setSpacing(3)
        bar = QHBoxLayout()
        self.about = Elided(self.tr("Point at a map to see its numbers."))
        self.hold = QCheckBox(self.tr("Hold"))
        self.hold.setToolTip(
            self.tr("Keep this place while the pointer goes elsewhere; in the tables, the arrow keys move it by a pixel")
        )
        self.own = QCheckBox(self.tr("Own numbers"))
        self.own.setToolTip(self.tr("Type or paste a patch and see the arithmetic on it"))
        self.own.toggled.connect(self._own_toggled)
        self.operator = QComboBox()
        self.operator.addItems([self.tr("of the map in the pane"), *(name for name in OPERATORS if name != "gaussian")])
        self.operator.setAccessibleName(self.tr("Coefficients"))
        self.operator.setToolTip(self.tr("The coefficients that are applied to your numbers"))
        self.operator.currentIndexChanged.connect(lambda _: self.refresh())
        copy = QPushButton(self.tr("Copy"))
        copy.setToolTip(self.tr("All tables as tab-separated text"))
        copy.clicked.connect(self.copy)
        bar.addWidget(self.about, 1)
        for widget in (self.hold, self.own, self.operator, copy):
            bar.addWidget(widget)
        layout.addLayout(bar)
        body = QHBoxLayout()
        self.patch = CoefficientsEditor(
            Declaration("patch", Stage.GATHER, self.tr("Patch"), self.tr("Grey levels."), None, Coefficients)
        )
        self.patch.show_value(((10.0, 10.0, 90.0), (10.0, 10.0, 90.0), (10.0, 50.0, 90.0)))
        self.patch.edited.connect(self._patch_edited)
        self.patch.setFixedWidth(270)
        self.patch.hide()
        self.operator.hide()
        body.addWidget(self.patch, 0, Qt.AlignmentFlag.AlignTop)
        self.view = GridView()
        self.view.step_wanted.connect(self.go)
        area = QScrollArea()
        area.setWidget(self.view)
        area.setAccessibleName(self.tr("Tables of numbers"))
        body.addWidget(area, 1)
        layout.addLayout(body, 1)

    def show_place(self, picture: Picture | None, place: tuple[float, float] | None, pictures: dict[str, Picture]) -> None:
        """The map in front, the source place of the cursor, and all maps there are."""
        self.pictures = pictures
        if place is None or (self.hold.isChecked() and self.place is not None and place != self.place):
            place = self.place
        self.picture, self.place = picture, place
        if self.isVisible() and not self.own.isChecked():
            self.refresh()

    def go(self, columns: int, rows: int) -> None:
        """Go to a neighbouring pixel and stay there."""
        if self.picture is None or self.place is None:
            return
        self.hold.setChecked(True)
        u, v = self.picture.frame.from_source(*self.place)
        x, y = self.picture.frame.to_source(np.floor(u + 0.5) + columns, np.floor(v + 0.5) + rows)
        self.place = float(x), float(y)
        self.refresh()

    def refresh(self) -> None:
        """Work the numbers out again."""
        try:
            self._work_out()
        except ParameterError as error:
            self.worked = None
            self.about.setText(str(error))
            self.view.show_grids([], "")

    def _work_out(self) -> None:
        if self.own.isChecked():
            self._work_on_own()
            return
        picture = self.picture
        if picture is None or self.place is None:
            return
        u, v = picture.frame.from_source(*self.place)
        column, row = int(np.floor(u + 0.5)), int(np.floor(v + 0.5))
        if not (0 <= column < picture.width and 0 <= row < picture.height):
            return
        self.worked = None
        arithmetic = picture.arithmetic
        base = self.pictures.get(arithmetic.of) if arithmetic is not None else None
        if arithmetic is None or base is None:
            self._show_values(picture, column, row)
            return
        # The same place in the map that it is made of, which may be larger by a trimmed margin.
        bu, bv = (float(w) for w in base.frame.from_source(*picture.frame.to_source(float(column), float(row))))
        if isinstance(arithmetic, Correlation):
            self._correlate(picture, base, arithmetic, round(bu - arithmetic.reference[0]), round(bv - arithmetic.reference[1]))
            return
        at = round(bu), round(bv)
        reach = tuple(max(t.shape[i] for t in arithmetic.kernels.values()) // 2 for i in (0, 1))
        patch = neighbourhood(
            lambda *box: np.asarray(base.pixels(*box), float).mean(axis=2), (base.width, base.height), at[0], at[1],
            (reach[0], reach[1]), arithmetic.border, arithmetic.black,
        )  # fmt: skip
        self.worked = work_out(patch, arithmetic.kernels, arithmetic.root)
        columns, rows, whose = self._names(base, at, (reach[0], reach[1]))
        self.about.setText(
            self.tr("{} at column {}, row {} from {}{}").format(picture.title, columns[1], rows[1], base.title, whose)
        )
        self._show_worked(self.worked, columns[0], rows[0], f"{picture.title} {self.worked.value:.5g} {picture.unit}")

    def _correlate(self, picture: Picture, base: Picture, arithmetic: Correlation, left: int, top: int) -> None:
        """The template laid over the image with its first pixel at a column and row."""
        height, width = arithmetic.template.shape
        if left < 0 or top < 0 or left + width > base.width or top + height > base.height:
            raise ParameterError(self.tr("The template hangs over the border here: no value."))
        patch = np.asarray(base.pixels(left, top, left + width, top + height), float).mean(axis=2)
        middle = left + width // 2, top + height // 2
        columns, rows, whose = self._names(base, middle, (height // 2, width // 2))
        correlated = correlate(patch, arithmetic.template)
        self.about.setText(
            self.tr("{}: the template with its middle at column {}, row {} of {}{}").format(
                picture.title, columns[1], rows[1], base.title, whose
            )
        )
        self._show_correlated(correlated, columns[0][:width], rows[0][:height], picture.title)

    def _show_correlated(self, one: Correlated, columns: list[str], rows: list[str], title: str) -> None:
        cut = [(max(n - _MOST, 0) + 1) // 2 for n in one.template.shape]
        part = tuple(slice(c, n - c) for c, n in zip(cut, one.template.shape, strict=True))
        seen = self.tr(" (the middle of {} by {})").format(*one.template.shape) if any(cut) else ""
        heads = rows[part[0]], columns[part[1]]
        lines = [
            [
                Grid(self.tr("image{}").format(seen), one.patch[part], *heads, self.tr("mean {:.5g}").format(_mean(one.patch))),
                Grid(self.tr("template"), one.template[part], *heads, self.tr("mean {:.5g}").format(_mean(one.template))),
            ],
            [
                Grid(
                    self.tr("image less its mean"), one.patch_off[part], *heads,
                    self.tr("sum of squares {:.5g}").format(one.squares[0]), True,
                ),
                Grid(
                    self.tr("template less its mean"), one.template_off[part], *heads,
                    self.tr("sum of squares {:.5g}").format(one.squares[1]), True, "×",
                ),
                Grid(self.tr("products"), one.products[part], *heads, self.tr("sum {:.5g}").format(one.total), True, "="),
            ],
        ]  # fmt: skip
        self._show(lines, f"{title} = {one.text}")

    def _names(
        self, picture: Picture, at: tuple[int, int], reach: tuple[int, int]
    ) -> tuple[tuple[list[str], str], tuple[list[str], str], str]:
        """Numbers of the columns and rows about a pixel, and that of the pixel itself: those of the source where its pixels
        are whole."""
        x0, y0 = picture.frame.offset
        shifted = picture.frame.is_upright and picture.frame.scale == 1 and float(x0).is_integer() and float(y0).is_integer()
        dx, dy = (int(x0), int(y0)) if shifted else (0, 0)
        whose = "" if shifted else self.tr(" (its own columns and rows)")
        columns = [str(at[0] + k + dx) for k in range(-reach[1], reach[1] + 1)]
        rows = [str(at[1] + k + dy) for k in range(-reach[0], reach[0] + 1)]
        return (columns, str(at[0] + dx)), (rows, str(at[1] + dy)), whose

    def _show_values(self, picture: Picture, column: int, row: int) -> None:
        down, across = _AROUND
        read = np.asarray(picture.pixels(column, row, column + 1, row + 1))
        # Three channels stand beside each other.
        across = across if read.shape[2] == 1 else across // 2
        left, top = column - across, row - down
        box = max(left, 0), max(top, 0), min(column + across + 1, picture.width), min(row + down + 1, picture.height)
        read = np.asarray(picture.pixels(*box), float)
        columns, rows, whose = self._names(picture, (column, row), (down, across))
        grids = []
        names = ("red", "green", "blue") if read.shape[2] == 3 else ("",)
        for channel, name in enumerate(names):
            values = np.full((2 * down + 1, 2 * across + 1), np.nan)
            values[box[1] - top : box[3] - top, box[0] - left : box[2] - left] = read[..., channel]
            grids.append(Grid(f"{picture.title} {name} {picture.unit}".replace("  ", " "), values, rows[0], columns[0]))
        self.about.setText(self.tr("{} at column {}, row {}{}").format(picture.title, columns[1], rows[1], whose))
        self._show([grids], "")

    def _work_on_own(self) -> None:
        patch = np.array(self.patch.value, float)
        chosen = self.operator.currentText()
        arithmetic: Arithmetic | Correlation | None
        if self.operator.currentIndex() > 0:
            smooth, derive = (line.astype(float) for line in operator_kernels(chosen, 0.0))
            arithmetic = Arithmetic("", {"x": np.outer(smooth, derive), "y": np.outer(derive, smooth)}, True)
        else:
            arithmetic = self.picture.arithmetic if self.picture is not None else None
        if arithmetic is None:
            raise ParameterError(self.tr("The map in the pane is no weighted sum: choose coefficients, or another map."))
        if isinstance(arithmetic, Correlation):
            self.about.setText(self.tr("Your numbers and the template"))
            places = [[str(n + 1) for n in range(k)] for k in patch.shape]
            self._show_correlated(correlate(patch, arithmetic.template), places[1], places[0], self.tr("score"))
            return
        self.worked = work_out(patch, arithmetic.kernels, arithmetic.root)
        places = [[str(n + 1) for n in range(k)] for k in self.worked.patch.shape]
        self.about.setText(self.tr("Your numbers"))
        self._show_worked(self.worked, places[1], places[0], f"{self.worked.value:.5g}")

    def _show_worked(self, worked: Worked, columns: list[str], rows: list[str], value: str) -> None:
        lines = []
        for one in worked.sums:
            shape = one.coefficients.shape
            y, x = (worked.patch.shape[0] - shape[0]) // 2, (worked.patch.shape[1] - shape[1]) // 2
            names = rows[y : y + shape[0]], columns[x : x + shape[1]]
            cut = [(max(n - _MOST, 0) + 1) // 2 for n in shape]
            part = tuple(slice(c, n - c) for c, n in zip(cut, shape, strict=True))
            seen = self.tr(" (the middle of {} by {})").format(*shape) if any(cut) else ""
            patch = worked.patch[y : y + shape[0], x : x + shape[1]]
            heads = names[0][part[0]], names[1][part[1]]
            lines.append(
                [
                    Grid(self.tr("grey levels{}").format(seen), patch[part], *heads),
                    Grid(self.tr("coefficients {}").format(one.label), one.coefficients[part], *heads, tint=True, sign="×"),
                    Grid(
                        self.tr("products {}").format(one.label), one.products[part], *heads,
                        self.tr("sum {} = {:.5g}").format(one.label, one.total), True, "=",
                    ),
                ]
            )  # fmt: skip
        self._show(lines, worked.text if worked.root or len(worked.sums) > 1 else self.tr("sum = {}").format(value))

    def _show(self, lines: list[list[Grid]], foot: str) -> None:
        self.view.show_grids(lines, foot)

    @property
    def text(self) -> str:
        """All that is shown, as tab-separated text."""
        rows: list[str] = [self.about.text()]
        for line in self.view.lines:
            for grid in line:
                rows += ["", grid.title, "\t".join(["", *grid.columns])]
                for name, values in zip(grid.rows, grid.values, strict=True):
                    rows.append("\t".join([name, *(f"{v:.7g}" for v in values)]))
                rows += [grid.foot] if grid.foot else []
        return "\n".join([*rows, self.view.foot] if self.view.foot else rows) + "\n"

    def copy(self) -> None:
        QApplication.clipboard().setText(self.text)

    def _own_toggled(self, own: bool) -> None:
        self.patch.setVisible(own)
        self.operator.setVisible(own)
        if own and self.operator.currentIndex() == 0 and (self.picture is None or self.picture.arithmetic is None):
            self.operator.setCurrentIndex(1)
        self.refresh()

    def _patch_edited(self, name: str, rows: Any, moving: bool) -> None:
        if isinstance(rows, str) or not rows or len({len(row) for row in rows}) != 1:
            self.about.setText(self.tr("The clipboard holds no rows of equally many numbers."))
            return
        self.patch.show_value(rows)
        self.refresh()
