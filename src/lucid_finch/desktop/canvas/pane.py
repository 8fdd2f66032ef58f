"""A pane: one map under the findings, linked with the other panes in zoom, pan and cursor."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QLineF, QObject, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QFocusEvent,
    QFont,
    QFontMetricsF,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from lucid_finch.core.detection import Outlines
from lucid_finch.core.numerics.rendering.viewing import strokes, tint
from lucid_finch.core.table import Column
from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.study.picture import Box, Picture
from lucid_finch.desktop.toolkit.guard import guarded

SHADES = tuple(QColor(c) for c in ("#5b6fd8", "#4f9fd6", "#52c0b0", "#a9c95f", "#e6b64c", "#ee8a4a", "#f26a6a"))
"""From the lowest to the highest value where a column colours the marks."""

_MOST_TAGS = 90
_MOST_TRIED = 300
_MOST_SCALE = 96.0


class View(QObject):
    """Zoom, place and cursor that panes share."""

    changed = Signal()
    cursor_moved = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.scale = 1.0
        """Screen pixels (device independent) a source pixel."""
        self.x, self.y = 0.0, 0.0
        """Source place in the middle of each pane."""
        self.cursor: tuple[float, float] | None = None
        self.fitted = True
        """Whether the whole image is shown: then it is fitted again when the pane changes its size."""

    def set(self, x: float, y: float, scale: float, fitted: bool = False) -> None:
        self.fitted = fitted
        self.x, self.y, self.scale = x, y, min(max(scale, 0.005), _MOST_SCALE)
        self.changed.emit()

    def set_cursor(self, place: tuple[float, float] | None) -> None:
        self.cursor = place
        self.cursor_moved.emit()


def beside(boxes: NDArray[Any], widths: NDArray[Any], height: float, pane: tuple[int, int]) -> tuple[NDArray[Any], NDArray[Any]]:
    """Left and top of a tag of each box (n, 4), next to it so that it lies on no box and no other tag; -inf without room.

    Only for boxes in a pane of that size, and at most `_MOST_TAGS`.
    """
    lefts, tops = np.full((2, len(boxes)), -np.inf)
    in_sight = (boxes[:, 2] > 0) & (boxes[:, 3] > 0) & (boxes[:, 0] < pane[0]) & (boxes[:, 1] < pane[1])
    taken = np.asarray(boxes[in_sight], float)
    for n in np.flatnonzero(in_sight)[:_MOST_TAGS].tolist():
        (x0, y0, x1, y1), width = boxes[n].tolist(), float(widths[n])
        above, below, middle = y0 - height - 1, y1 + 1, (x0 + x1 - width) / 2
        offers = np.array(
            [(middle, above), (x0, above), (x1 - width, above), (middle, below), (x1 + 1, y0), (x0 - width - 1, y0)]
        )
        apart = (offers[:, :1] + width <= taken[:, 0]) | (offers[:, :1] >= taken[:, 2])
        apart |= (offers[:, 1:] + height <= taken[:, 1]) | (offers[:, 1:] >= taken[:, 3])
        free = np.flatnonzero(apart.all(axis=1))
        if len(free):
            lefts[n], tops[n] = offers[free[0]]
            own = [lefts[n], tops[n], lefts[n] + width, tops[n] + height]
            taken = np.concatenate([taken, [own]])
    return lefts, tops


@dataclass(frozen=True)
class Marks:
    """Chains to draw over a map, as flat arrays in the source frame."""

    colour: QColor
    points: NDArray[np.float32]
    """(n, 2), x and y."""
    start: NDArray[np.int64]
    closed: NDArray[np.bool_]
    at: NDArray[np.float64]
    """(n, 2): where each one's number is written."""
    numbers: NDArray[np.int64]
    dashed: bool = False
    chosen: frozenset[int] = field(default_factory=frozenset)
    """Rows drawn bolder."""
    shades: NDArray[np.int64] | None = None
    """Step of the scale of colours for each row, where a column colours them."""
    scale_text: str = ""
    """What the scale of colours means."""
    nameless: bool = False
    """Drawn without numbers, and not to be chosen."""
    passing: bool = False
    """Gone with the next choice."""
    only_on: str = ""
    """The one map that they belong to; "" for marks of the image."""
    names: tuple[str, ...] = ()
    """A name for each row that is written beside its number where the mark is wide enough."""
    beside: bool = False
    """Numbers stand where they hide none of the marks, else they are left out; `at` is not used."""

    @staticmethod
    def of(outlines: Outlines, x: Any, y: Any, numbers: Any, colour: QColor, dashed: bool = False) -> Marks:
        """Of a table's rows at x, y; where there are no outlines, the places themselves."""
        at = np.stack([np.asarray(x, float), np.asarray(y, float)], axis=1)
        if not len(outlines):
            outlines = Outlines(at, np.arange(len(at) + 1), np.zeros(len(at), bool))
        points = np.require(outlines.points, np.float32, "C")
        return Marks(colour, points, outlines.start, outlines.closed, at, np.asarray(numbers, np.int64), dashed)

    @cached_property
    def boxes(self) -> NDArray[np.float32]:
        """(rows, 4): left, top, right, bottom of each mark; empty ones lie nowhere."""
        boxes = np.full((len(self.start) - 1, 4), np.inf, np.float32)
        full = np.flatnonzero(np.diff(self.start) > 0)
        if len(full):
            boxes[full, :2] = np.minimum.reduceat(self.points, self.start[full], axis=0)
            boxes[full, 2:] = np.maximum.reduceat(self.points, self.start[full], axis=0)
        return boxes

    def coloured(self, values: NDArray[Any], column: Column) -> Marks:
        """The same marks, coloured by a column; the text of each step says its share of the range."""
        numbers = np.asarray(values, float)
        finite = numbers[np.isfinite(numbers)]
        low, high = (float(finite.min()), float(finite.max())) if len(finite) else (0.0, 1.0)
        place = np.nan_to_num((numbers - low) / (high - low) if high > low else np.zeros(len(numbers)))
        shades = np.clip((place * len(SHADES)).astype(np.int64), 0, len(SHADES) - 1)
        text = f"{column.label} {low:.{column.digits}f} … {high:.{column.digits}f} {column.unit}".strip()
        return replace(self, shades=shades, scale_text=text)

    def nearest(self, x: float, y: float, within: float) -> int:
        """Row of the mark nearest to a place, or -1."""
        left, top, right, bottom = self.boxes.T
        near = np.flatnonzero((left <= x + within) & (right >= x - within) & (top <= y + within) & (bottom >= y - within))
        best, nearest = -1, within
        for row in near.tolist():
            points = self.points[self.start[row] : self.start[row + 1]]
            far = float(np.hypot(points[:, 0] - x, points[:, 1] - y).min())
            if far <= nearest:
                best, nearest = row, far
        return best

    def box(self, rows: Sequence[int]) -> tuple[float, float, float, float] | None:
        """Left, top, right, bottom of some marks."""
        if not len(rows):
            return None
        boxes = self.boxes[list(rows)]
        left, top = boxes[:, :2].min(axis=0).tolist()
        right, bottom = boxes[:, 2:].max(axis=0).tolist()
        return left, top, right, bottom


def round_values(axis: NDArray[Any], first: float, last: float, most: int, turns: bool = False) -> list[tuple[float, float]]:
    """Places along an axis of evenly spaced values, between two of its entries, where the value is a round number, and the
    values; about `most` of them. `turns`: parts of a full turn are round."""
    low, high = (float(np.clip(place, 0, len(axis) - 1)) for place in (first, last))
    if len(axis) < 2 or high <= low:
        return []
    each = (float(axis[-1]) - float(axis[0])) / (len(axis) - 1)
    begin, end = sorted(float(axis[0]) + each * place for place in (low, high))
    if end <= begin:
        return []
    least = (end - begin) / max(most, 1)
    power = 10.0 ** math.floor(math.log10(least))
    steps = [power * step for step in (1, 2, 5, 10)]
    if turns and least > 2:
        steps = [5, 10, 15, 30, 45, 90, 180]
    step = next((step for step in steps if step >= least * (1 - 1e-9)), steps[-1])
    values = step * np.arange(math.ceil(begin / step - 1e-9), math.floor(end / step + 1e-9) + 1)
    return [((value - float(axis[0])) / each, value) for value in values.tolist()]


class Pane(QWidget):
    """Shows a `Picture` and `Marks`; the wheel zooms at the pointer, dragging pans."""

    activated = Signal()
    resized = Signal()
    """Of a pane that shows the whole image: it has another size."""
    clicked = Signal(float, float)
    """Source place of a click that was no drag."""
    asked = Signal(float, float)
    """Source place where the user asks why."""
    detail_wanted = Signal()
    """Something in sight is shown coarsely, since it has not been computed: see `wishes`."""

    def __init__(self, view: View) -> None:
        super().__init__()
        self.view = view
        self._keyed = False
        """Whether the cursor was moved with the keyboard."""
        self.picture: Picture | None = None
        self.other: Picture | None = None
        """Shown to the right of the divider."""
        self.divider = 0.5
        """Where the divider is, as a share of the width."""
        self.marks: list[Marks] = []
        self.hide_marks = False
        self.only_chosen = False
        """Draw no marks but the chosen ones, so that the map itself is seen."""
        self.asking = False
        self.drawing: Drawing | None = None
        """What is drawn by hand, over the marks."""
        self.shade_unsure = False
        """Shade what rests on pixels beyond the border."""
        self._buffer: NDArray[np.uint32] | None = None
        self._wished: list[tuple[Picture, int, Box]] = []
        self._holds_divider = False
        self._draws = False
        self._overlay: NDArray[np.uint32] | None = None
        self._overlay_valid = False
        self._tags: dict[tuple[Any, ...], QPixmap] = {}
        self._press: tuple[QPointF, float, float] | None = None
        self._dragged = False
        self.setMinimumSize(QSize(120, 90))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(self.tr("Image pane"))
        view.changed.connect(self._view_changed)
        view.cursor_moved.connect(self.update)

    # What is shown

    def show_picture(self, picture: Picture | None, other: Picture | None = None) -> None:
        self.picture, self.other = picture, other
        self.update()

    def wishes(self) -> list[tuple[Picture, int, Box]]:
        """What should be computed for this pane: picture, level and rectangle."""
        return self._wished

    def show_marks(self, marks: list[Marks]) -> None:
        self.marks = marks
        self._overlay_valid = False
        self.update()

    def set_marks_hidden(self, hidden: bool) -> None:
        self.hide_marks = hidden
        self.update()

    def _drawn(self) -> list[Marks]:
        """The marks that belong on this map: places of the image mean nothing in a map that is none."""
        if self.picture is None:
            return []
        on_image = self.picture.axes is None
        return [m for m in self.marks if (m.only_on == self.picture.name if m.only_on else on_image)]

    @property
    def apart(self) -> bool:
        """Whether what is shown is no image, so that its places are not those of the other panes."""
        return self.picture is not None and self.picture.axes is not None

    def set_only_chosen(self, only: bool) -> None:
        self.only_chosen = only
        self._overlay_valid = False

    @property
    def _sparing(self) -> bool:
        """Whether marks would hide the map: far zoomed in, they lie between its pixels."""
        return self.only_chosen and self.view.scale < 8

    def _view_changed(self) -> None:
        self._overlay_valid = False
        self.update()

    # Where things are

    def to_source(self, point: QPointF) -> tuple[float, float]:
        scale = self.view.scale
        return (
            self.view.x + (point.x() - self.width() / 2) / scale,
            self.view.y + (point.y() - self.height() / 2) / scale,
        )

    def from_source(self, x: float, y: float) -> QPointF:
        scale = self.view.scale
        return QPointF((x - self.view.x) * scale + self.width() / 2, (y - self.view.y) * scale + self.height() / 2)

    def fit(self) -> None:
        if self.picture is None:
            return
        left, top, right, bottom = self.picture.box
        scale = min(self.width() / (right - left), self.height() / (bottom - top)) * 0.98
        self.view.set((left + right) / 2, (top + bottom) / 2, scale, fitted=True)

    @guarded
    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self.view.fitted:
            self.resized.emit()

    def let_go(self) -> None:
        """The window closes: keep no picture, whoever still holds the widget."""
        self.picture, self.other, self.marks = None, None, []
        self._buffer, self._overlay = None, None

    def bring_into_sight(self, box: tuple[float, float, float, float]) -> None:
        """Centre a box of the source unless it is in sight already."""
        corners = self.from_source(box[0], box[1]), self.from_source(box[2], box[3])
        if not all(self.rect().adjusted(10, 10, -10, -10).contains(c.toPoint()) for c in corners):
            self.view.set((box[0] + box[2]) / 2, (box[1] + box[3]) / 2, self.view.scale)

    def show_box(self, box: tuple[float, float, float, float], most_scale: float = 16.0) -> None:
        """Zoom so that a box of the source fills two thirds of the pane."""
        left, top, right, bottom = box
        scale = 0.66 * min(self.width() / max(right - left, 1e-6), self.height() / max(bottom - top, 1e-6))
        self.view.set((left + right) / 2, (top + bottom) / 2, min(scale, most_scale))

    # Painting

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        ratio = self.devicePixelRatioF()
        width, height = max(1, round(self.width() * ratio)), max(1, round(self.height() * ratio))
        if self._buffer is None or self._buffer.shape != (height, width):
            self._buffer = np.empty((height, width), np.uint32)
            self._overlay = np.zeros((height, width), np.uint32)
            self._overlay_valid = False
        painter = QPainter(self)
        if self.picture is None:
            painter.fillRect(self.rect(), QColor("#23272a"))
            painter.end()
            return
        left, top = self.to_source(QPointF(0, 0))
        scale = self.view.scale * ratio
        self._draw_maps(left, top, scale, self._buffer)
        painter.drawImage(self.rect(), _wrapped(self._buffer, QImage.Format.Format_RGB32))
        if scale * self.picture.frame.scale >= 10:
            self._paint_grid(painter)
        if self.shade_unsure:
            self._paint_unsure(painter)
        on_image = self.picture.axes is None
        drawn = self._drawn()
        shown = any(not self._sparing or marks.chosen or marks.only_on for marks in drawn)
        if shown and not self.hide_marks and self._overlay is not None:
            if not self._overlay_valid:
                self._draw_overlay(left, top, scale, ratio)
            painter.drawImage(self.rect(), _wrapped(self._overlay, QImage.Format.Format_ARGB32_Premultiplied))
            self._paint_tags(painter)
            self._paint_scale(painter)
        if self.drawing is not None and on_image and not self.hide_marks:
            self.drawing.paint(self, painter)
        if self.other is not None:
            self._paint_divider(painter)
        if self.picture.axes is not None:
            self._paint_axes(painter)
        self._paint_cursor(painter)
        painter.end()

    def _draw_maps(self, left: float, top: float, scale: float, out: NDArray[np.uint32]) -> None:
        assert self.picture is not None
        self.picture.draw(left, top, scale, out)
        shown = [self.picture]
        if self.other is not None:
            shown.append(self.other)
            beside = np.empty_like(out)
            self.other.draw(left, top, scale, beside)
            column = round(self.divider * out.shape[1])
            out[:, column:] = beside[:, column:]
        self._wished = []
        for picture in shown:
            for part in picture.parts():
                wish = part.wanted(left, top, scale, (out.shape[0], out.shape[1]))
                if wish is not None:
                    self._wished.append((part, *wish))
        if self._wished:
            self.detail_wanted.emit()

    def _paint_unsure(self, painter: QPainter) -> None:
        """Hatch the margin outside the valid region."""
        picture = self.picture
        if picture is None or picture.valid_region is None:
            return
        right, bottom = picture.width - 0.5, picture.height - 0.5
        corners = [picture.frame.to_source(x, y) for x, y in ((-0.5, -0.5), (right, -0.5), (right, bottom), (-0.5, bottom))]
        path, valid = QPainterPath(), QPainterPath()
        path.addPolygon(QPolygonF([self.from_source(*corner) for corner in corners]))
        path.closeSubpath()
        valid.addPolygon(QPolygonF([self.from_source(*corner) for corner in picture.valid_region]))
        valid.closeSubpath()
        margin = path.subtracted(valid)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.fillPath(margin, QColor(240, 177, 64, 60))
        painter.fillPath(margin, QBrush(QColor(240, 177, 64, 190), Qt.BrushStyle.BDiagPattern))

    def _paint_divider(self, painter: QPainter) -> None:
        x = self.divider * self.width()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for colour, width in ((QColor(10, 12, 13, 160), 4), (QColor("#f0b140"), 1.5)):
            painter.setPen(QPen(colour, width))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        painter.setBrush(QColor("#f0b140"))
        painter.setPen(QPen(QColor(10, 12, 13, 160), 1))
        painter.drawRoundedRect(QRectF(x - 4, self.height() / 2 - 14, 8, 28), 4, 4)

    def _paint_axes(self, painter: QPainter) -> None:
        """Values of a map's own axes along the edges of the pane."""
        assert self.picture is not None and self.picture.axes is not None
        across, down, across_label, down_label = self.picture.axes
        painter.setPen(QColor("#f4f2ec"))
        height = painter.fontMetrics().height()
        painter.fillRect(QRectF(0, self.height() - height - 4, self.width(), height + 4), QColor(18, 20, 22, 200))
        # What the numbers across mean stands in the corner; a number that it would cover is left out.
        metrics = painter.fontMetrics()
        begin = self.width() - metrics.horizontalAdvance(across_label) - 8
        painter.drawText(QPointF(begin, self.height() - 5), across_label)
        frame = self.picture.frame
        (left, top), (right, bottom) = (
            frame.from_source(*self.to_source(QPointF(x, y))) for x, y in ((0, 0), (self.width(), self.height()))
        )
        for column, value in round_values(across, left, right, self.width() // 70, "degrees" in across_label):
            x = self.from_source(*frame.to_source(column, 0.0)).x()
            painter.drawLine(QPointF(x, self.height() - height - 8), QPointF(x, self.height() - height - 4))
            text = f"{value:g}"
            if x + 10 + metrics.horizontalAdvance(text) <= begin:
                painter.drawText(QPointF(x + 3, self.height() - 5), text)
        label = f" {down_label}"
        for row, value in round_values(down, top, bottom, self.height() // 60, "degrees" in down_label):
            y = self.from_source(*frame.to_source(0.0, row)).y()
            if y < height + 2 or y > self.height() - height - 8:
                continue
            text, label = f"{value:g}{label}", ""
            painter.fillRect(QRectF(0, y - height, metrics.horizontalAdvance(text) + 8, height + 3), QColor(18, 20, 22, 200))
            painter.drawLine(QPointF(0, y), QPointF(5, y))
            painter.drawText(QPointF(4, y - 3), text)

    def _draw_overlay(self, left: float, top: float, scale: float, ratio: float) -> None:
        overlay = self._overlay
        assert overlay is not None
        overlay[:] = 0
        line, halo = np.zeros(overlay.shape, np.uint8), np.zeros(overlay.shape, np.uint8)
        right, bottom = left + overlay.shape[1] / scale, top + overlay.shape[0] / scale
        for marks in self._drawn():
            x0, y0, x1, y1 = marks.boxes.T
            rows = np.flatnonzero((x0 <= right) & (x1 >= left) & (y0 <= bottom) & (y1 >= top))
            chosen = np.isin(rows, list(marks.chosen)) if marks.chosen else np.zeros(len(rows), bool)
            dash = 5.0 * ratio if marks.dashed else 0.0
            groups = [(rows[~chosen], marks.colour, 0.75, 1.5), (rows[chosen], marks.colour, 1.5, 2.8)]
            if marks.shades is not None:
                groups[:1] = [(rows[~chosen & (marks.shades[rows] == n)], shade, 0.9, 1.6) for n, shade in enumerate(SHADES)]
            for which, colour, thin, bold in groups:
                if not len(which) or (self._sparing and thin < 1 and not marks.only_on):
                    continue
                strokes(
                    marks.points, left, top, scale, marks.start, which, marks.closed, dash, thin * ratio, bold * ratio, line, halo
                )
                tint(halo, 13, 15, 16, 0.62, overlay)
                tint(line, colour.red(), colour.green(), colour.blue(), 1.0, overlay)
        self._overlay_valid = True

    def _tag_places(self, height: int, digit: float) -> list[tuple[Marks, int, float, float, float]]:
        """Marks whose number is written, as (marks, row, left, top, width), so that none lies on another; the chosen first."""
        cell = max(4, height // 2)
        wide, high = self.width(), self.height()
        taken = np.zeros((high // cell + 2, wide // cell + 2), bool)
        places: list[tuple[Marks, int, float, float, float]] = []
        for marks in self._drawn():
            if marks.nameless:
                continue
            x, y = ((marks.at - (self.view.x, self.view.y)) * self.view.scale + (wide / 2, high / 2)).T
            digits = np.ones(len(x)) if marks.dashed else np.floor(np.log10(np.maximum(marks.numbers, 1))) + 1
            widths = digit * digits + 9
            if marks.names:
                # A letter is about as wide as a digit.
                named = widths + digit * (1 + np.array([len(name) for name in marks.names]))
                room = (marks.boxes[:, 2] - marks.boxes[:, 0]) * self.view.scale
                widths = np.where(named < room, named, widths)
            lefts, tops = x - widths / 2, y - height / 2
            if marks.beside:
                middle = np.array([wide / 2, high / 2, wide / 2, high / 2])
                boxes = (marks.boxes - np.tile((self.view.x, self.view.y), 2)) * self.view.scale + middle
                lefts, tops = beside(boxes, widths, height, (wide, high))
            inside = (lefts > 8) & (lefts + widths < wide - 8) & (tops > 8) & (tops + height < high - 8)
            chosen = np.array(sorted(marks.chosen), int)
            rows = chosen[inside[chosen]]
            if not (marks.dashed or (self._sparing and not marks.only_on)):
                inside[chosen] = False
                # Where there are thousands, those that come first in the table fill the pane.
                rows = np.concatenate([rows, np.flatnonzero(inside)[:_MOST_TRIED]])
            for row, left, top, width in zip(
                rows.tolist(), lefts[rows].tolist(), tops[rows].tolist(), widths[rows].tolist(), strict=True
            ):
                window = taken[
                    int(top) // cell : int(top + height) // cell + 1, int(left) // cell : int(left + width) // cell + 1
                ]
                if window.any():
                    continue
                window[:] = True
                places.append((marks, row, left, top, width))
                if len(places) >= _MOST_TAGS:
                    return places
        return places

    def _paint_tags(self, painter: QPainter) -> None:
        font = QFont(self.font())
        font.setPointSizeF(max(7.5, self.font().pointSizeF() * 0.84))
        metrics = QFontMetricsF(font)
        height = math.ceil(metrics.height()) + 1
        for marks, row, left, top, width in self._tag_places(height, metrics.horizontalAdvance("0")):
            text = str(marks.numbers[row]) if not marks.dashed else "?"
            if marks.names and width > metrics.horizontalAdvance("0") * (len(text) + 1) + 9:
                text += f" {marks.names[row]}"
            painter.drawPixmap(QPointF(left, top), self._tag(text, marks.colour, row in marks.chosen, font, width, height))

    def _tag(self, text: str, colour: QColor, picked: bool, font: QFont, width: float, height: int) -> QPixmap:
        """The picture of a number; kept, since the same few are drawn at every move."""
        ratio = self.devicePixelRatioF()
        key = (text, colour.rgba(), picked, font.pointSizeF(), ratio)
        if key not in self._tags:
            if len(self._tags) > 600:
                self._tags.clear()
            tag = QPixmap(math.ceil(width * ratio), math.ceil(height * ratio))
            tag.setDevicePixelRatio(ratio)
            tag.fill(Qt.GlobalColor.transparent)
            painter = QPainter(tag)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setFont(font)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour if picked else QColor(18, 20, 22, 220))
            box = QRectF(0, 0, width, height)
            painter.drawRoundedRect(box, 4, 4)
            painter.setPen(QColor("#14171a") if picked else colour.lighter(125))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
            painter.end()
            self._tags[key] = tag
        return self._tags[key]

    def _paint_scale(self, painter: QPainter) -> None:
        """What the colours of the marks mean."""
        marks = next((m for m in self._drawn() if m.shades is not None), None)
        if marks is None or self._sparing:
            return
        metrics = painter.fontMetrics()
        width = max(metrics.horizontalAdvance(marks.scale_text), 90) + 16
        box = QRectF(8, self.height() - metrics.height() - 26, width, metrics.height() + 18)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(18, 20, 22, 220))
        painter.drawRoundedRect(box, 5, 5)
        step = (width - 16) / len(SHADES)
        for number, shade in enumerate(SHADES):
            painter.fillRect(QRectF(box.left() + 8 + number * step, box.top() + 5, step, 6), shade)
        painter.setPen(QColor("#f4f2ec"))
        painter.drawText(QPointF(box.left() + 8, box.bottom() - 5), marks.scale_text)

    def _paint_grid(self, painter: QPainter) -> None:
        """Pixel borders, and the values where they fit."""
        assert self.picture is not None
        size = self.view.scale * self.picture.frame.scale
        frame = self.picture.frame
        corners = [(0, 0), (self.width(), 0), (0, self.height()), (self.width(), self.height())]
        places = np.array([frame.from_source(*self.to_source(QPointF(x, y))) for x, y in corners])
        (x0, y0), (x1, y1) = places.min(axis=0), places.max(axis=0)
        columns = range(max(0, math.floor(x0 + 0.5)), min(self.picture.width, math.ceil(x1 + 0.5)))
        rows = range(max(0, math.floor(y0 + 0.5)), min(self.picture.height, math.ceil(y1 + 0.5)))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, not frame.is_upright)
        painter.setPen(QPen(QColor(128, 128, 128, 60), 1))

        def at(x: float, y: float) -> QPointF:
            return self.from_source(*frame.to_source(x, y))

        top, bottom, left, right = rows.start - 0.5, rows.stop - 0.5, columns.start - 0.5, columns.stop - 0.5
        painter.drawLines(
            [QLineF(at(column - 0.5, top), at(column - 0.5, bottom)) for column in (*columns, columns.stop)]
            + [QLineF(at(left, row - 0.5), at(right, row - 0.5)) for row in (*rows, rows.stop)]
        )
        if size < 34 or not len(columns) or not len(rows) or len(columns) * len(rows) > 1500:
            return
        values = self.picture.pixels(columns.start, rows.start, columns.stop, rows.stop)
        if values.shape[2] != 1:
            return
        font = QFont(self.font())
        font.setPointSizeF(max(6.5, min(9.5, size / 5.5)))
        painter.setFont(font)
        whole = values.dtype.kind in "iu"
        for row in rows:
            for column in columns:
                value = float(values[row - rows.start, column - columns.start, 0])
                share = (value - self.picture.low) / max(self.picture.high - self.picture.low, 1e-12)
                dark = share < 0.55 if self.picture.kind != "signed" else 0.15 < share < 0.85
                painter.setPen(QColor("#f4f2ec") if dark else QColor("#14171a"))
                place = self.from_source(*self.picture.frame.to_source(float(column), float(row)))
                box = QRectF(place.x() - size / 2, place.y() - size / 2, size, size)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{value:.0f}" if whole else f"{value:.3g}")

    def _paint_cursor(self, painter: QPainter) -> None:
        if self.view.cursor is None or (self.underMouse() and not self._keyed):
            return
        place = self.from_source(*self.view.cursor)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for colour, width in ((QColor(10, 12, 13, 150), 3), (QColor("#f4f2ec"), 1)):
            painter.setPen(QPen(colour, width))
            for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                painter.drawLine(place + QPointF(4 * dx, 4 * dy), place + QPointF(11 * dx, 11 * dy))

    # Hands

    @guarded
    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.picture is None:
            return
        before = self.to_source(event.position())
        scale = min(max(self.view.scale * 1.0015 ** event.angleDelta().y(), 0.005), _MOST_SCALE)
        middle = QPointF(self.width() / 2, self.height() / 2)
        off = event.position() - middle
        self.view.set(before[0] - off.x() / scale, before[1] - off.y() / scale, scale)

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.activated.emit()
        if self._on_divider(event.position()) and event.button() == Qt.MouseButton.LeftButton:
            self._holds_divider = True
            return
        on_image = self.picture is not None and self.picture.axes is None
        draws = event.button() == Qt.MouseButton.LeftButton and not self.asking and self.drawing is not None and on_image
        if draws and self.drawing is not None and self.drawing.press(self, self.to_source(event.position())):
            self._draws = True
            return
        if event.button() in (Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton):
            self._press = (event.position(), self.view.x, self.view.y)
            self._dragged = False

    @guarded
    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._keyed = False
        if self._holds_divider:
            self.set_divider(event.position().x() / max(self.width(), 1))
            return
        if self.drawing is not None and (self._draws or self.drawing.kind):
            self.drawing.move(self.to_source(event.position()))
            self.view.set_cursor(self.to_source(event.position()))
            if self._draws or not event.buttons():
                return
        if self.other is not None and not self.asking:
            over = self._on_divider(event.position())
            self.setCursor(Qt.CursorShape.SplitHCursor if over else Qt.CursorShape.CrossCursor)
        if self._press is not None:
            start, x, y = self._press
            moved = event.position() - start
            if self._dragged or moved.manhattanLength() > 4:
                self._dragged = True
                self.view.set(x - moved.x() / self.view.scale, y - moved.y() / self.view.scale, self.view.scale)
        self.view.set_cursor(self.to_source(event.position()))

    @guarded
    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._holds_divider:
            self._holds_divider = False
            return
        if self._draws and self.drawing is not None:
            self._draws = False
            self.drawing.release(self, self.to_source(event.position()))
            return
        if self._press is not None and not self._dragged and event.button() == Qt.MouseButton.LeftButton:
            place = self.to_source(event.position())
            if self.asking or event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self.asked.emit(*place)
            else:
                self.clicked.emit(*place)
        self._press = None

    @guarded
    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.drawing is None or not self.drawing.double_click():
            self.mousePressEvent(event)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if self.drawing is not None and self.drawing.key(Qt.Key(event.key()), shift):
            return
        step = 60 / self.view.scale
        moves = {
            Qt.Key.Key_Left: (-step, 0.0),
            Qt.Key.Key_Right: (step, 0.0),
            Qt.Key.Key_Up: (0.0, -step),
            Qt.Key.Key_Down: (0.0, step),
        }
        if event.key() in moves and self.other is not None and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.set_divider(self.divider + moves[Qt.Key(event.key())][0] * self.view.scale / max(self.width(), 1) / 4)
        elif event.key() in moves and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._move_cursor(*moves[Qt.Key(event.key())], shift)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.view.cursor is not None:
            (self.asked if self.asking or shift else self.clicked).emit(*self.view.cursor)
        elif event.key() in moves:
            dx, dy = moves[Qt.Key(event.key())]
            self.view.set(self.view.x + dx, self.view.y + dy, self.view.scale)
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.view.set(self.view.x, self.view.y, self.view.scale * 1.25)
        elif event.key() == Qt.Key.Key_Minus:
            self.view.set(self.view.x, self.view.y, self.view.scale / 1.25)
        else:
            super().keyPressEvent(event)

    def _move_cursor(self, dx: float, dy: float, far: bool) -> None:
        """By a pixel of the image, or of the screen where that is larger; ten times as far on request."""
        x, y = self.view.cursor or (self.view.x, self.view.y)
        step = max(1.0, 1.0 / self.view.scale) * (10.0 if far else 1.0)
        self._keyed = True
        x, y = x + math.copysign(step, dx) * (dx != 0), y + math.copysign(step, dy) * (dy != 0)
        self.view.set_cursor((x, y))
        if not self.rect().contains(self.from_source(x, y).toPoint()):
            self.view.set(x, y, self.view.scale)

    @guarded
    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        if event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason):
            self.activated.emit()

    @guarded
    def leaveEvent(self, event: QEvent) -> None:
        self.view.set_cursor(None)

    def _on_divider(self, place: QPointF) -> bool:
        return self.other is not None and abs(place.x() - self.divider * self.width()) < 7

    def set_divider(self, share: float) -> None:
        """Move the divider between the two maps of this pane."""
        self.divider = min(max(share, 0.0), 1.0)
        self.update()

    def set_asking(self, asking: bool) -> None:
        self.asking = asking
        self.setCursor(Qt.CursorShape.WhatsThisCursor if asking else Qt.CursorShape.CrossCursor)


def _wrapped(buffer: NDArray[np.uint32], form: QImage.Format) -> QImage:
    """The buffer as an image, without a copy; the buffer must outlive it."""
    height, width = buffer.shape
    return QImage(buffer.data, width, height, 4 * width, form)
