"""Counts of findings over one parameter as a curve, and over two as a grid."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRect, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme


class CountCurve(QWidget):
    """The number of findings over the values of a parameter."""

    def __init__(self) -> None:
        super().__init__()
        self.counts: list[int | None] = []
        self.titles: list[str] = []
        self.setFixedHeight(54)
        self.hide()

    def show_counts(self, titles: Sequence[str]) -> None:
        """Begin anew with values that have these titles; none hides the curve."""
        self.titles, self.counts = list(titles), [None] * len(titles)
        self.setVisible(len(titles) > 1)
        self.update()

    def put(self, number: int, text: str) -> None:
        """The count of one value, from the words of its sample."""
        first = text.split(" ")[0]
        if number < len(self.counts) and first.isdigit():
            self.counts[number] = int(first)
            self.setAccessibleName(", ".join(f"{t}: {c}" for t, c in zip(self.titles, self.counts, strict=True) if c is not None))
            self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        known = [(n, count) for n, count in enumerate(self.counts) if count is not None]
        most = max((count for _, count in known), default=0) or 1
        high = self.height() - self.fontMetrics().height() - 6
        step = self.width() / max(len(self.counts), 1)
        places = [QPointF((n + 0.5) * step, 4 + high * (1 - count / most)) for n, count in known]
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.drawLine(QPointF(0, 4.0 + high), QPointF(self.width(), 4.0 + high))
        painter.setPen(QPen(QColor(theme.accent), 2))
        painter.drawPolyline(places)
        painter.setBrush(QColor(theme.accent))
        for place in places:
            painter.drawEllipse(place, 2.5, 2.5)
        painter.setPen(QColor(theme.quiet))
        for place, (_, count) in zip(places, known, strict=True):
            box = QRectF(place.x() - step / 2, self.height() - self.fontMetrics().height() - 1, step, self.fontMetrics().height())
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(count))
        painter.end()


class CountGrid(QWidget):
    """Counts of findings over two parameters: a cell for each pair of values; a click chooses one."""

    chosen = Signal(int, int)
    """Column and row."""

    def __init__(self) -> None:
        super().__init__()
        self.across: list[str] = []
        self.down: list[str] = []
        self.labels = "", ""
        self.counts: dict[tuple[int, int], int] = {}
        self.now: tuple[int, int] | None = None
        self.cell = 0, 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.hide()

    def show_axes(self, labels: tuple[str, str], across: Sequence[str], down: Sequence[str], now: tuple[int, int] | None) -> None:
        """Begin anew; `now`: the cell of the values of now."""
        self.labels, self.across, self.down = labels, list(across), list(down)
        self.counts, self.now, self.cell = {}, now, now or (0, 0)
        metrics = self.fontMetrics()
        self._left = max((metrics.horizontalAdvance(text) for text in (*down, labels[1])), default=40) + 12
        self._wide = max(max((metrics.horizontalAdvance(text) for text in across), default=40) + 14, 58)
        self._high = metrics.height() + 12
        self._top = 2 * metrics.height() + 8
        self.setFixedSize(self._left + self._wide * len(across), self._top + self._high * len(down) + 4)
        self.update()

    def put(self, column: int, row: int, count: int) -> None:
        """The count of one pair."""
        self.counts[column, row] = count
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        known = [count for count in self.counts.values() if count >= 0]
        least, spread = min(known, default=0), max(known, default=0) - min(known, default=0)
        centre = Qt.AlignmentFlag.AlignCenter
        painter.setPen(QColor(theme.quiet))
        painter.drawText(QRect(self._left, 0, self.width() - self._left, self._top // 2), centre, self.labels[0])
        painter.drawText(QRect(0, self._top // 2, self._left - 6, self._top // 2), Qt.AlignmentFlag.AlignRight, self.labels[1])
        for column, text in enumerate(self.across):
            painter.drawText(QRect(self._left + column * self._wide, self._top // 2, self._wide, self._top // 2), centre, text)
        for row, text in enumerate(self.down):
            box = QRect(0, self._top + row * self._high, self._left - 6, self._high)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        shade = QColor(theme.accent)
        for (column, row), count in self.counts.items():
            box = self._box(column, row)
            # What differs is seen, however many there are of all.
            shade.setAlphaF(0.06 + 0.6 * max(count - least, 0) / max(spread, 1))
            painter.fillRect(box, shade)
            painter.setPen(QColor(theme.text))
            painter.drawText(box, centre, "–" if count < 0 else str(count))
        for cell, width in ((self.now, 2), (self.cell if self.hasFocus() else None, 1)):
            if cell is not None:
                painter.setPen(QPen(QColor(theme.accent), width))
                painter.drawRect(self._box(*cell))
        painter.end()

    def _box(self, column: int, row: int) -> QRect:
        return QRect(self._left + column * self._wide + 1, self._top + row * self._high + 1, self._wide - 3, self._high - 3)

    @guarded
    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        column = int((event.position().x() - self._left) // self._wide)
        row = int((event.position().y() - self._top) // self._high)
        if 0 <= column < len(self.across) and 0 <= row < len(self.down):
            self.chosen.emit(column, row)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key
        moves = {key.Key_Left: (-1, 0), key.Key_Right: (1, 0), key.Key_Up: (0, -1), key.Key_Down: (0, 1)}
        move = moves.get(key(event.key()))
        if move is not None:
            column, row = self.cell[0] + move[0], self.cell[1] + move[1]
            self.cell = min(max(column, 0), len(self.across) - 1), min(max(row, 0), len(self.down) - 1)
            self.update()
        elif event.key() in (key.Key_Return, key.Key_Enter, key.Key_Space):
            self.chosen.emit(*self.cell)
        else:
            super().keyPressEvent(event)
