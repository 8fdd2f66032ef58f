"""What is drawn by hand on the panes: regions of the selected card and the measured shape, drawn, dragged and moved by keys."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

from PySide6.QtCore import QObject, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from lucid_finch.desktop.canvas.shapes import (
    DRAGGED,
    POINTS,
    Place,
    Shape,
    dragged,
    handles,
    moved,
    nearness,
    outlines,
    rounded,
    with_handle,
)

_ACCENT = QColor("#f0b140")
_QUIET = QColor("#f4f2ec")
_DARK = QColor(10, 12, 13, 170)
_GRIP = 7.0
"""Within so many screen pixels a handle or a line is taken hold of."""


@dataclass
class Item:
    """A shape on the panes."""

    shape: Shape
    label: str
    dashed: bool = False


class Scaled(Protocol):
    """What is asked of the view of a pane."""

    scale: float


class Surface(Protocol):
    """What is asked of a pane that is drawn on."""

    @property
    def view(self) -> Scaled: ...
    def from_source(self, x: float, y: float) -> QPointF: ...


class Drawing(QObject):
    """Shared by all panes: the shapes are in source coordinates."""

    changed = Signal(str, object, bool)
    """Key of the shape, its new form (None: removed), and whether the movement goes on."""
    shown = Signal()
    """Something has to be painted again."""
    drawing_changed = Signal(str)
    """What is about to be drawn, or "" when that is over."""

    def __init__(self) -> None:
        super().__init__()
        self.items: dict[str, Item] = {}
        self.active = ""
        """The shape that keys move."""
        self.kind = ""
        """The shape that is about to be drawn."""
        self._key = ""
        self._points: list[Place] = []
        self._hover: Place | None = None
        self._labels: list[QRectF] = []
        """Where labels have been painted this time."""
        self._hold: tuple[str, int, Place, Shape] | None = None
        """Key, handle (or -1 for the whole), where it was taken hold of, and the shape then."""

    def put(self, key: str, shape: Shape | None, label: str = "", dashed: bool = False) -> None:
        """Show a shape, or with None no longer."""
        before = self.items.get(key)
        if shape is None:
            self.items.pop(key, None)
            self.active = "" if self.active == key else self.active
        else:
            self.items[key] = Item(shape, label, dashed)
        if self.items.get(key) != before:
            self.shown.emit()

    def keep_only(self, keys: set[str]) -> None:
        for key in [k for k in self.items if k not in keys]:
            self.put(key, None)

    def start(self, kind: str, key: str) -> None:
        """Have the user draw a shape of that kind; it comes as `changed` under that key."""
        self.kind, self._key, self._points, self._hover = kind, key, [], None
        self.drawing_changed.emit(kind)
        self.shown.emit()

    def stop(self) -> None:
        if self.kind:
            self.kind, self._points, self._hover = "", [], None
            self.drawing_changed.emit("")
            self.shown.emit()

    # Pointer and keys, as panes pass them on; each says whether it was for a shape

    def press(self, pane: Surface, place: Place) -> bool:
        if self.kind:
            if self.kind in DRAGGED:
                # After a click that was no drag, the next one is the other end.
                self._points = self._points or [place]
            elif not self._closes(pane, place):
                self._points.append(place)
                self._finish_if_complete()
            self.shown.emit()
            return True
        grip = _GRIP / pane.view.scale
        # Handles first, those of the active shape before the others; then lines; then the inside of the active one.
        order = sorted(self.items, key=lambda key: key != self.active)
        for key in order:
            for number, (x, y) in enumerate(handles(self.items[key].shape)):
                if abs(x - place[0]) <= grip and abs(y - place[1]) <= grip:
                    return self._take_hold(key, number, place)
        for key in order:
            shape = self.items[key].shape
            near = nearness(shape, *place)
            if near == 0.0 and key != self.active:
                near = min(near or grip * 2, _line_distance(shape, place))
            if near <= grip:
                return self._take_hold(key, -1, place)
        if self.active:
            self.active = ""
            self.shown.emit()
        return False

    def _take_hold(self, key: str, number: int, place: Place) -> bool:
        self.active = key
        self._hold = key, number, place, self.items[key].shape
        self.shown.emit()
        return True

    def move(self, place: Place, keep_square: bool = False) -> bool:
        if self.kind:
            self._hover = place
            if self.kind in DRAGGED and self._points:
                self._tell(self._key, dragged(self.kind, self._points[0], place), True)
            self.shown.emit()
            return bool(self._points)
        if self._hold is None:
            return False
        key, number, start, shape = self._hold
        if number >= 0:
            shape = with_handle(shape, number, *place)
        else:
            shape = moved(shape, place[0] - start[0], place[1] - start[1])
        self._tell(key, shape, True)
        return True

    def release(self, pane: Surface, place: Place) -> bool:
        if self.kind:
            if self.kind in DRAGGED and self._points:
                start = self._points[0]
                if max(abs(place[0] - start[0]), abs(place[1] - start[1])) * pane.view.scale < 3:
                    # A click is no drag: the other end comes with the next one.
                    return True
                shape, key = dragged(self.kind, start, place), self._key
                self.stop()
                self._tell(key, shape, False)
                self.active = key
            return True
        if self._hold is None:
            return False
        key = self._hold[0]
        self._hold = None
        self._tell(key, self.items[key].shape, False)
        return True

    def double_click(self) -> bool:
        """Ends a polygon."""
        if self.kind == "polygon" and len(self._points) >= 3:
            # The second press of the double click came as a point of its own.
            points = [list(p) for n, p in enumerate(self._points) if n == 0 or p != self._points[n - 1]]
            self._complete(points)
            return True
        return bool(self.kind)

    def key(self, key: Qt.Key, shift: bool) -> bool:
        """Arrows move the active shape by a pixel, with Shift by ten; Return ends a polygon, Escape gives up, Delete removes."""
        if self.kind:
            if key == Qt.Key.Key_Escape:
                self.stop()
                return True
            if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.kind == "polygon" and len(self._points) >= 3:
                self._complete([list(p) for p in self._points])
                return True
            return False
        if self.active not in self.items:
            return False
        step = 10.0 if shift else 1.0
        ways = {
            Qt.Key.Key_Left: (-step, 0.0), Qt.Key.Key_Right: (step, 0.0),
            Qt.Key.Key_Up: (0.0, -step), Qt.Key.Key_Down: (0.0, step),
        }  # fmt: skip
        if key in ways:
            self._tell(self.active, moved(self.items[self.active].shape, *ways[key]), True)
            return True
        if key == Qt.Key.Key_Delete:
            gone = self.active
            self.put(gone, None)
            self.changed.emit(gone, None, False)
            return True
        if key == Qt.Key.Key_Escape:
            self.active = ""
            self.shown.emit()
            return True
        return False

    def _closes(self, pane: Surface, place: Place) -> bool:
        """Whether a click on the first point ends a polygon."""
        if self.kind != "polygon" or len(self._points) < 3:
            return False
        x, y = self._points[0]
        if max(abs(x - place[0]), abs(y - place[1])) > _GRIP / pane.view.scale:
            return False
        self._complete([list(p) for p in self._points])
        return True

    def _finish_if_complete(self) -> None:
        if len(self._points) == POINTS.get(self.kind, -1):
            self._complete([list(p) for p in self._points])

    def _complete(self, points: list[list[float]]) -> None:
        shape, key = {"shape": self.kind, "points": points}, self._key
        self.stop()
        self._tell(key, shape, False)
        self.active = key

    def _tell(self, key: str, shape: Shape, moving: bool) -> None:
        shape = rounded(shape)
        label = self.items[key].label if key in self.items else ""
        dashed = self.items[key].dashed if key in self.items else False
        self.items[key] = Item(shape, label, dashed)
        self.changed.emit(key, shape, moving)
        self.shown.emit()

    # Painting

    def paint(self, pane: Surface, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        self._labels = []
        for key, item in self.items.items():
            self._paint_item(pane, painter, item, key == self.active)
        if self._points and self.kind not in DRAGGED:
            places = [*self._points, self._hover] if self._hover is not None else self._points
            line = QPolygonF([pane.from_source(*place) for place in places if place is not None])
            for colour, width in ((_DARK, 3.6), (_ACCENT, 1.6)):
                painter.setPen(QPen(colour, width))
                painter.drawPolyline(line)
            for place in self._points:
                self._paint_handle(painter, pane.from_source(*place))

    def _paint_item(self, pane: Surface, painter: QPainter, item: Item, active: bool) -> None:
        lines = [QPolygonF([pane.from_source(x, y) for x, y in line.tolist()]) for line in outlines(item.shape)]
        for colour, width in ((_DARK, 3.8), (_ACCENT if active else _QUIET, 1.8 if active else 1.4)):
            pen = QPen(colour, width)
            if item.dashed:
                pen.setStyle(Qt.PenStyle.DashLine)
            painter.setPen(pen)
            for line in lines:
                painter.drawPolyline(line)
        if active:
            for place in handles(item.shape):
                self._paint_handle(painter, pane.from_source(*place))
        if item.label and lines and not lines[0].isEmpty():
            at = self._label_place(painter, item.label, lines[0].toList())
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(18, 20, 22, 220))
            painter.drawRoundedRect(at, 4, 4)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(_ACCENT if active else _QUIET)
            painter.drawText(at, Qt.AlignmentFlag.AlignCenter, item.label)

    def _label_place(self, painter: QPainter, label: str, line: list[QPointF]) -> QRectF:
        """Above the shape, or below it where another label is already."""
        left, top = min(p.x() for p in line), min(p.y() for p in line)
        bottom = max(p.y() for p in line)
        width = painter.fontMetrics().horizontalAdvance(label) + 10
        height = painter.fontMetrics().height() + 2
        places = [QRectF(left, max(top - height - 6, 2.0), width, height), QRectF(left, bottom + 6, width, height)]
        found = next((p for p in places if not any(p.intersects(other) for other in self._labels)), places[0])
        self._labels.append(found)
        return found

    def _paint_handle(self, painter: QPainter, place: QPointF) -> None:
        painter.setPen(QPen(_DARK, 1.2))
        painter.setBrush(_ACCENT)
        painter.drawEllipse(place, 4.2, 4.2)
        painter.setBrush(Qt.BrushStyle.NoBrush)


def _line_distance(shape: Shape, place: Place) -> float:
    """Distance from the outline alone, the inside of a region not counting."""
    plain: Any = {"shape": "line", "points": []}
    best = float("inf")
    for line in outlines(shape):
        best = min(best, nearness({**plain, "points": line.tolist()}, *place))
    return best
