"""Tables of findings and near misses that read columns and never copy rows."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import (
    QAbstractTableModel,
    QEvent,
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    QPoint,
    QRect,
    Qt,
    QTimer,
    Signal,
)
from PySide6.QtGui import QColor, QKeySequence, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QMenu,
    QSizePolicy,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.inspection.millimetres import metric_name
from lucid_finch.core.table import Column, Table
from lucid_finch.core.viewing.row_filter import matching
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.labels import Elided
from lucid_finch.desktop.toolkit.theme import current_theme

Index = QModelIndex | QPersistentModelIndex

_DISPLAY = Qt.ItemDataRole.DisplayRole.value
_ALIGNMENT = Qt.ItemDataRole.TextAlignmentRole.value
_TIP = Qt.ItemDataRole.ToolTipRole.value
_OURS = frozenset((_DISPLAY, _ALIGNMENT, _TIP))
_LEFT = (Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter).value
_RIGHT = (Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter).value

_GRADES = ("●○○○", "●●○○", "●●●○", "●●●●")
_GRADE_LIMITS = (3.0, 6.0, 20.0)


def significance_grade(log_nfa: float) -> str:
    """Four grades of -log10 of the expected false alarms; more dots are fewer false alarms."""
    if not np.isfinite(log_nfa) or log_nfa < 0:
        return "○○○○"
    return _GRADES[int(np.searchsorted(_GRADE_LIMITS, log_nfa, side="right"))]


def nested(numbers: NDArray[Any], parents: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows so that each is followed by those that lie in it, and how deep each row lies; `parents` are numbers, 0 for none."""
    count = len(numbers)
    row_of = np.full(int(numbers.max(initial=0)) + 1, -1, np.int64)
    row_of[numbers] = np.arange(count)
    around = np.where(parents > 0, row_of[np.minimum(parents, len(row_of) - 1)], -1)
    held: dict[int, list[int]] = {}
    for row in np.flatnonzero(around >= 0).tolist():
        held.setdefault(int(around[row]), []).append(row)
    order: list[int] = []
    depth = np.zeros(count, np.int64)
    stack = np.flatnonzero(around < 0)[::-1].tolist()
    while stack:
        row = stack.pop()
        order.append(row)
        for inner in reversed(held.get(row, ())):
            depth[inner] = depth[row] + 1
            stack.append(inner)
    return np.array(order, np.int64), depth


class TableModel(QAbstractTableModel):
    """A `Table` in some order of its rows."""

    def __init__(self) -> None:
        super().__init__()
        self.table: Table | None = None
        self.order: NDArray[np.int64] = np.empty(0, np.int64)
        """Row of the table behind each row shown."""
        self.columns: list[Column] = []
        self._place: NDArray[np.int64] | None = None
        self.labels: dict[str, str] = {}
        """Labels of parameters, for the column that names the one that failed."""
        self.kept: NDArray[np.bool_] | None = None
        """Rows that the filter lets through, or None for all."""
        self._sorted: tuple[str, Qt.SortOrder] | None = None
        self.indent: NDArray[np.int64] = np.empty(0, np.int64)
        """How deep each row of the table lies, where rows lie in others and are not sorted otherwise."""

    @property
    def is_tree(self) -> bool:
        """Whether rows are shown under those that they lie in."""
        return bool(self.indent.any())

    def show_table(self, table: Table | None) -> None:
        self.beginResetModel()
        self.table = table
        self.kept = None
        self.columns = _beside([c for c in table.declared.values() if c.name != "rank"] if table is not None else [])
        self._arrange()
        self.endResetModel()

    def _arrange(self) -> None:
        count = len(self.table) if self.table is not None else 0
        self.order = np.arange(count)
        self.indent = np.zeros(count, np.int64)
        if self._sorted is not None and self.table is not None and self._sorted[0] in self.table.declared:
            self.order = np.argsort(np.asarray(self.table.stored(self._sorted[0])), kind="stable")
            if self._sorted[1] == Qt.SortOrder.DescendingOrder:
                self.order = self.order[::-1]
        elif self.table is not None and (parent := self._parent_column()) is not None:
            self.order, self.indent = nested(self.table["id"], self.table[parent])
        if self.kept is not None and len(self.kept) == count:
            self.order = self.order[self.kept[self.order]]
        self._place = None

    def _parent_column(self) -> str | None:
        """The column that names the finding around each, if rows are findings of that kind."""
        declared = self.table.declared if self.table is not None else {}
        return next((c.name for c in declared.values() if c.quantity == "row"), None) if "id" in declared else None

    def place_of(self, row: int) -> int:
        """Where a row of the table is shown, or -1 if the filter hides it."""
        if self._place is None:
            self._place = np.full(len(self.table) if self.table is not None else 0, -1, np.int64)
            self._place[self.order] = np.arange(len(self.order))
        return int(self._place[row]) if 0 <= row < len(self._place) else -1

    def show_kept(self, kept: NDArray[np.bool_] | None) -> None:
        """Let a filter choose the rows."""
        self.beginResetModel()
        self.kept = kept
        self._arrange()
        self.endResetModel()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.beginResetModel()
        self._sorted = (self.columns[column].name, order) if 0 <= column < len(self.columns) else None
        self._arrange()
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.order)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.columns)

    def value(self, row: int, column: int) -> Any:
        assert self.table is not None
        return self.table.stored(self.columns[column].name)[self.order[row]]

    def text(self, row: int, column: int) -> str:
        declared = self.columns[column]
        assert self.table is not None
        text = self.table.text(declared.name, int(self.order[row]))
        return self.labels.get(text, text) if declared.names else text

    def shown(self, row: int, column: int) -> str:
        """The text of a cell in the window, where false alarms are shown in grades."""
        if self.columns[column].scale == "expected":
            return significance_grade(float(self.value(row, column)))
        return self.text(row, column)

    def data(self, index: Index, role: int = _DISPLAY) -> Any:
        # Asked for half a dozen roles a cell at each painting: what is not ours has to be recognised quickly.
        if role not in _OURS or not index.isValid():
            return None
        row, column = index.row(), index.column()
        declared = self.columns[column]
        if role == _DISPLAY:
            return self.shown(row, column)
        if role == _ALIGNMENT:
            return _LEFT if declared.names else _RIGHT
        return f"{declared.help}: {self.text(row, column)} {declared.unit}".strip()

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal or section >= len(self.columns):
            return None
        declared = self.columns[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return f"{declared.label} {declared.unit}".strip()
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{declared.help} ({declared.name})"
        return None


class FindingsTable(QTableView):
    """Shows a `Table`; the selection is emitted as rows of that table."""

    rows_chosen = Signal(list)
    colour_wanted = Signal(str)
    """Column that shall colour the marks, or "" for none."""
    columns_chosen = Signal()

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.hidden: set[str] = set()
        """Names of columns that are not shown."""
        self._advances: dict[str, int] = {}
        self.rows = TableModel()
        self.setModel(self.rows)
        # Tab leaves the table; the arrows move in it.
        self.setTabKeyNavigation(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSortingEnabled(True)
        self.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        # A third click brings the order of the image back.
        self.horizontalHeader().setSortIndicatorClearable(True)
        self.setShowGrid(False)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWordWrap(False)
        self.setTextElideMode(Qt.TextElideMode.ElideNone)
        self.verticalHeader().hide()
        self._set_row_height()
        self.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.horizontalHeader().setHighlightSections(False)
        # The header asks of every row whether its columns are selected: give it a selection that is always empty.
        self.horizontalHeader().setSelectionModel(QItemSelectionModel(self.rows, self))
        self.horizontalHeader().setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.horizontalHeader().customContextMenuRequested.connect(self._column_menu)
        self.setAccessibleName(name)
        self._quiet = False
        self.selectionModel().selectionChanged.connect(self._selection_changed)

    def show_table(self, table: Table | None, labels: dict[str, str]) -> None:
        before = [c.name for c in self.rows.columns]
        self.rows.labels = labels
        self._quiet = True
        self.rows.show_table(table)
        if [c.name for c in self.rows.columns] != before:
            # A table of another kind begins in its own order.
            self.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
            self.rows.sort(-1)
            self._set_widths()
            self.apply_hidden()
        self._quiet = False

    def _set_widths(self) -> None:
        """Columns as wide as their headers and usual numbers need in this font."""
        metrics, labels = self.fontMetrics(), self.rows.labels
        for number, declared in enumerate(self.rows.columns):
            header = str(self.rows.headerData(number, Qt.Orientation.Horizontal))
            sample = max((labels.get(n, n) for n in declared.names), key=len, default="00000.00")
            sample = "0000" if declared.digits == 0 and not declared.names else sample
            self.setColumnWidth(number, max(metrics.horizontalAdvance(header) + 16, metrics.horizontalAdvance(sample) + 20))

    def show_kept(self, kept: NDArray[np.bool_] | None) -> None:
        """Let a filter choose the rows; None for all."""
        self._quiet = True
        self.rows.show_kept(kept)
        self._quiet = False

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        """Draws the cells in sight itself: a table is drawn at every move, and the toolkit's way asks eight questions a cell."""
        painter = QPainter(self.viewport())
        theme = current_theme()
        painter.fillRect(event.rect(), QColor(theme.card))
        count, columns = self.rows.rowCount(), self.rows.columns
        first = self.rowAt(max(event.rect().top(), 0))
        last = self.rowAt(event.rect().bottom())
        if not count or first < 0:
            return
        shown = range(first, (last if last >= 0 else count - 1) + 1)
        tops = [self.rowViewportPosition(row) for row in shown]
        height = self.rowHeight(first)
        for part in self.selectionModel().selection().toList():
            for row in range(max(part.top(), shown.start), min(part.bottom() + 1, shown.stop)):
                painter.fillRect(0, tops[row - shown.start], self.viewport().width(), height, QColor(theme.accent_soft))
        painter.setPen(QColor(theme.text))
        metrics = self.fontMetrics()
        base = (height + metrics.ascent() - metrics.descent()) // 2
        for number, declared in enumerate(columns):
            left, width = self.columnViewportPosition(number), self.columnWidth(number)
            if width == 0 or left > event.rect().right() or left + width < event.rect().left():
                continue
            painter.setClipRect(left, 0, width, self.viewport().height())
            for row, top in zip(shown, tops, strict=True):
                if declared.name == "score":
                    share = float(np.clip(self.rows.value(row, number), 0, 1))
                    bar = QRect(left + 8, top + height // 2 - 3, width - 16, 6)
                    painter.fillRect(bar, QColor(theme.line))
                    bar.setWidth(round(bar.width() * share))
                    painter.fillRect(bar, QColor(theme.accent))
                    continue
                text = self.rows.shown(row, number)
                if declared.name == "id" and self.rows.is_tree:
                    deep = int(self.rows.indent[self.rows.order[row]])
                    at = left + 8 + 12 * deep
                    if deep:
                        painter.setPen(QColor(theme.quiet))
                        painter.drawLine(at - 8, top, at - 8, top + height // 2)
                        painter.drawLine(at - 8, top + height // 2, at - 2, top + height // 2)
                        painter.setPen(QColor(theme.text))
                    painter.drawText(at, top + base, text)
                    continue
                at = left + 6 if declared.names else left + width - 6 - self._advance(text)
                painter.drawText(at, top + base, text)

    def _advance(self, text: str) -> int:
        """Width of a text from the widths of its characters, which are few."""
        known = self._advances
        for character in text:
            if character not in known:
                known[character] = self.fontMetrics().horizontalAdvance(character)
        return sum(known[character] for character in text)

    @guarded
    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in (QEvent.Type.FontChange, QEvent.Type.StyleChange):
            self._advances = {}
            self._set_row_height()
            self._set_widths()
            self.apply_hidden()

    def _set_row_height(self) -> None:
        height = self.fontMetrics().height() + 7
        self.verticalHeader().setMinimumSectionSize(height)
        self.verticalHeader().setDefaultSectionSize(height)

    def chosen_rows(self) -> NDArray[np.int64]:
        """Rows of the table that are selected; from the ranges, since asking for each index takes seconds."""
        parts = [self.rows.order[part.top() : part.bottom() + 1] for part in self.selectionModel().selection().toList()]
        return np.concatenate(parts) if parts else np.empty(0, np.int64)

    def _selection_changed(self, *_: Any) -> None:
        if not self._quiet:
            self.rows_chosen.emit(self.chosen_rows()[:2000].tolist())

    def choose(self, rows: list[int]) -> None:
        """Select these rows of the table without telling anybody."""
        self._quiet = True
        selection = QItemSelection()
        last = max(0, len(self.rows.columns) - 1)
        places = [place for place in map(self.rows.place_of, rows) if place >= 0]
        for place in places:
            selection.select(self.rows.index(place, 0), self.rows.index(place, last))
        self.selectionModel().select(selection, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if places:
            self.scrollTo(self.rows.index(places[0], 0))
        self._quiet = False

    # Columns

    def _column_menu(self, at: QPoint) -> None:
        """Which columns are shown, and which colours the marks; opens over the header."""
        self.column_menu(self.horizontalHeader().logicalIndexAt(at)).popup(self.horizontalHeader().mapToGlobal(at))

    def column_menu(self, under: int) -> QMenu:
        menu = QMenu(self)
        if 0 <= under < len(self.rows.columns):
            one = self.rows.columns[under]
            menu.addAction(self.tr("Colour the marks by {}").format(one.label), partial(self.colour_wanted.emit, one.name))
            menu.addAction(self.tr("Hide {}").format(one.label), partial(self.show_column, one.name, False))
        menu.addAction(self.tr("One colour for all marks"), lambda: self.colour_wanted.emit(""))
        menu.addSeparator()
        for declared in self.rows.columns:
            action = menu.addAction(f"{declared.label} {declared.unit}".strip())
            action.setCheckable(True)
            action.setChecked(declared.name not in self.hidden)
            action.toggled.connect(partial(self.show_column, declared.name))
        menu.addSeparator()
        menu.addAction(self.tr("All columns"), self.show_all_columns)
        return menu

    def show_column(self, name: str, shown: bool) -> None:
        self.hidden.discard(name) if shown else self.hidden.add(name)
        if len(self.hidden) >= len(self.rows.columns):
            self.hidden.discard(name)
        self.apply_hidden()
        self.columns_chosen.emit()

    def show_all_columns(self) -> None:
        self.hidden.clear()
        self.apply_hidden()
        self.columns_chosen.emit()

    def apply_hidden(self) -> None:
        """Show and hide columns as `hidden` says."""
        for number, declared in enumerate(self.rows.columns):
            self.setColumnHidden(number, declared.name in self.hidden)

    @guarded
    def keyPressEvent(self, event: Any) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
            return
        super().keyPressEvent(event)

    def copy(self) -> None:
        """The selected rows, or all that are shown, as tab-separated text with a header; only the columns in sight."""
        chosen = self.selectionModel().selection().toList()
        rows = [r for part in chosen for r in range(part.top(), part.bottom() + 1)] or range(self.rows.rowCount())
        columns = [n for n, c in enumerate(self.rows.columns) if c.name not in self.hidden]
        lines = ["\t".join(f"{self.rows.columns[c].name}" for c in columns)]
        lines += ["\t".join(self.rows.text(r, c) for c in columns) for r in rows]
        QApplication.clipboard().setText("\n".join(lines) + "\n")


def _beside(columns: list[Column]) -> list[Column]:
    """The columns, those in millimetres beside those in pixels; in files they come last."""
    metric = {c.name: c for c in columns if c.unit in ("mm", "mm²")}
    found = []
    for column in columns:
        if column.name not in metric:
            found.append(column)
            if (other := metric.get(metric_name(column))) is not None:
                found.append(other)
    return found


class FilteredTable(QWidget):
    """A table under a field for conditions."""

    def __init__(self, name: str) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.table = FindingsTable(name)
        self.counts = ""
        """How many rows of each kind there are."""
        row = QHBoxLayout()
        row.setContentsMargins(8, 3, 8, 3)
        self.field = QLineEdit()
        self.field.setClearButtonEnabled(True)
        self.field.setPlaceholderText(self.tr("Show only rows where, for example: length > 50 and closed = yes"))
        self.field.setAccessibleName(self.tr("Conditions for the rows of {}").format(name))
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(120)
        self._later.timeout.connect(self.apply)
        self.field.textChanged.connect(lambda: self._later.start())
        self.said = Elided()
        self.said.where = Qt.TextElideMode.ElideRight
        self.said.setObjectName("quiet")
        self.said.hide()
        # Long counts give way to the field.
        self.said.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.field, 2)
        row.addWidget(self.said, 3)
        layout.addLayout(row)
        layout.addWidget(self.table, 1)

    def show_table(self, table: Table | None, labels: dict[str, str], counted: str = "") -> None:
        """Show a table; with the name of a text column in `counted`, also how many rows have each of its texts."""
        self.table.show_table(table, labels)
        self.counts = " · ".join(f"{name} {many}" for name, many in table.counts(counted).items()) if table and counted else ""
        if self.field.text():
            self.apply()
        elif self.said.text() != self.counts:
            self._say(self.counts)

    def _say(self, text: str) -> None:
        """Beside the field, which has all the width where there is nothing to say."""
        self.said.setText(text)
        self.said.setVisible(bool(text))

    def apply(self) -> None:
        """Filter by what the field says; a wrong condition is reported and shows all."""
        table, text = self.table.rows.table, self.field.text().strip()
        kept, said = None, ""
        if table is not None and text:
            try:
                kept = matching(table, text, self.table.rows.labels)
                said = self.tr("{} of {}").format(int(kept.sum()), len(kept))
            except ParameterError as error:
                said = str(error).removeprefix("filter: ")
        said = said or self.counts
        self._say(said)
        self.field.setProperty("wrong", bool(text) and kept is None)
        self.field.style().unpolish(self.field)
        self.field.style().polish(self.field)
        self.table.show_kept(kept)
