"""The page of trends: the count, or any column, over the images of the list or the frames of a clip; each object by itself."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QColor, QShowEvent
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.inspection.tracking import SIZES, Tracker
from lucid_finch.desktop.pages.image_list import Entry, ImageList
from lucid_finch.desktop.study.study import Study
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme, mark_colour

COUNT = "count"
_MOST_LINES = 60
"""Objects that get a line of their own, the longest seen first."""


def series(entries: list[Entry], detector: str, column: str) -> tuple[NDArray[Any], NDArray[Any]]:
    """Time (s, or the number from 1) and value of each image that has been done: the count, or the mean of a column."""
    times, values = [], []
    for row, entry in enumerate(entries):
        table = entry.result.tables.get(detector) if entry.result is not None else None
        if table is None:
            continue
        times.append(_time(entry, row))
        if column == COUNT:
            values.append(float(len(table["x"])))
        else:
            numbers = table[column][np.isfinite(table[column])]
            values.append(float(numbers.mean()) if len(numbers) else np.nan)
    return np.array(times, float), np.array(values, float)


def _time(entry: Entry, row: int) -> float:
    return entry.place.time if entry.place.time is not None else row + 1.0


def object_series(entries: list[Entry], detector: str, column: str) -> list[tuple[int, NDArray[Any], NDArray[Any]]]:
    """Number, times and values of each object, followed through the images from the first on as far as they have been done."""
    tracker, found = Tracker(), dict[int, tuple[list[float], list[float]]]()
    for row, entry in enumerate(entries):
        table = entry.result.tables.get(detector) if entry.result is not None else None
        if table is None:
            break
        size = next((table[name] for name in SIZES if name in table), np.zeros(len(table["x"])))
        at = np.stack([table["x"], table["y"]], axis=1).astype(float)
        numbers = tracker.numbers(at, np.nan_to_num(np.asarray(size, float)), _time(entry, row))
        for number, value in zip(numbers.tolist(), table[column].tolist(), strict=True):
            times, values = found.setdefault(number, ([], []))
            times.append(_time(entry, row))
            values.append(value)
    longest = sorted(found, key=lambda number: -len(found[number][0]))[:_MOST_LINES]
    return [(number, np.array(found[number][0]), np.array(found[number][1])) for number in sorted(longest)]


class TrendPage(QWidget):
    """Plots what the image list has; a click goes to the image."""

    wanted = Signal(int)
    """The row of the image that was clicked."""

    def __init__(self, study: Study, images: ImageList) -> None:
        super().__init__()
        self.study, self.images = study, images
        self.column = QComboBox()
        self.column.setAccessibleName(self.tr("What is plotted"))
        self.column.setMinimumContentsLength(16)
        self.column.currentIndexChanged.connect(lambda: self.refresh())
        self.each = QCheckBox(self.tr("Each object"))
        self.each.setToolTip(self.tr("Follow each object from frame to frame, and give it a line of its own"))
        self.each.toggled.connect(lambda: self.refresh())
        self.said = QLabel()
        self.said.setObjectName("quiet")
        self.said.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row = QHBoxLayout()
        row.setContentsMargins(8, 4, 8, 2)
        row.addWidget(self.column)
        row.addWidget(self.each)
        row.addWidget(self.said, 1)
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(0)
        self._layout.addLayout(row)
        self._layout.addStretch(1)
        self.plot: Any = None
        self._cursor: Any = None
        self._due = QTimer(self)
        self._due.setSingleShot(True)
        self._due.setInterval(250)
        self._due.timeout.connect(self.refresh)
        images.result_came.connect(lambda row: self._later())
        images.listed.connect(self._later)
        images.current_changed.connect(self._show_cursor)
        study.chosen_changed.connect(self._fill)
        study.recipe_changed.connect(self._fill)
        self._fill()

    def _later(self) -> None:
        if self.isVisible() and not self._due.isActive():
            self._due.start()

    def _fill(self) -> None:
        """The columns of the detector in sight."""
        kept, kind = self.column.currentData(), self._kind()
        self.column.blockSignals(True)
        self.column.clear()
        self.column.addItem(self.tr("Count"), COUNT)
        for column in KINDS[kind].all_columns() if kind else ():
            if column.name not in ("id", "rank") and not column.names and column.scale not in ("flag", "number"):
                self.column.addItem(column.label.capitalize() + (f", {column.unit}" if column.unit else ""), column.name)
        self.column.setCurrentIndex(max(self.column.findData(kept), 0))
        self.column.blockSignals(False)
        self._later()

    def _kind(self) -> str:
        return next((entry.kind for entry in self.study.recipe.detectors if entry.name == self.study.detector), "")

    @guarded
    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if self.plot is None:
            self._build()
        self.refresh()

    def _build(self) -> None:
        import pyqtgraph

        theme = current_theme()
        pyqtgraph.setConfigOptions(antialias=True)
        self.plot = pyqtgraph.PlotWidget(background=theme.card)
        self.plot.setMenuEnabled(False)
        self.plot.hideButtons()
        self.plot.showGrid(y=True, alpha=0.2)
        self.plot.setAccessibleName(self.tr("Trend"))
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        self._cursor = pyqtgraph.InfiniteLine(pen=pyqtgraph.mkPen(theme.accent, width=2))
        self._layout.takeAt(self._layout.count() - 1)
        self._layout.addWidget(self.plot, 1)

    def refresh(self) -> None:
        """Draw what is known now."""
        if self.plot is None or not self.isVisible():
            return
        import pyqtgraph

        theme, entries = current_theme(), self.images.entries
        detector, column = self.study.detector, self.column.currentData() or COUNT
        self.each.setEnabled(column != COUNT)
        item = self.plot.getPlotItem()
        item.clear()
        self.plot.setBackground(theme.card)
        for axis in ("left", "bottom"):
            item.getAxis(axis).setPen(theme.line)
            item.getAxis(axis).setTextPen(theme.quiet)
        in_time = any(entry.place.time is not None for entry in entries)
        item.setLabel("bottom", self.tr("time, s") if in_time else self.tr("image"), color=theme.quiet)
        item.setLabel("left", self.column.currentText(), color=theme.quiet)
        times, values = series(entries, detector, column)
        if self.each.isChecked() and column != COUNT:
            lines = object_series(entries, detector, column)
            for number, at, of in lines:
                colour = mark_colour(number)
                item.plot(at, of, pen=pyqtgraph.mkPen(colour, width=1.6), name=str(number))
            self._name_lines(item, pyqtgraph, lines)
            self.said.setText(self.tr("{} objects").format(len(lines)))
        else:
            item.plot(times, values, pen=pyqtgraph.mkPen(theme.text, width=1.6), connect="finite")
            self._mark_wrong(item, pyqtgraph, column, dict(zip(times.tolist(), values.tolist(), strict=True)))
            text = self.tr("{} of {} images").format(len(times), len(entries)) if entries else self.tr("Open a clip or a folder.")
            self.said.setText(text)
        item.addItem(self._cursor)
        self._show_cursor()

    def _name_lines(self, item: Any, pyqtgraph: Any, lines: list[tuple[int, NDArray[Any], NDArray[Any]]]) -> None:
        """The number of each object at the end of its line, where there is room."""
        if not lines:
            return
        ends = np.array([(at[-1], of[-1]) for _, at, of in lines])
        spread = np.maximum([np.ptp(np.concatenate([line[k] for line in lines])) for k in (1, 2)], 1e-9)
        named: list[Any] = []
        for (number, _, _), end in zip(lines, ends / spread, strict=True):
            if not np.isfinite(end).all() or any(abs(end[0] - x) < 0.03 and abs(end[1] - y) < 0.12 for x, y in named):
                continue
            named.append(end)
            text = pyqtgraph.TextItem(str(number), color=mark_colour(number), anchor=(0, 0.5))
            text.setPos(*(end * spread).tolist())
            item.addItem(text)

    def _mark_wrong(self, item: Any, pyqtgraph: Any, column: str, known: dict[float, float]) -> None:
        wrong = [_time(entry, row) for row, entry in enumerate(self.images.entries) if entry.is_wrong]
        places = [(x, known[x]) for x in wrong if np.isfinite(known.get(x, np.nan))]
        if places:
            bad = QColor(current_theme().bad)
            item.plot(*zip(*places, strict=True), pen=None, symbol="o", symbolSize=7, symbolBrush=bad, symbolPen=None)

    def _show_cursor(self) -> None:
        entries, row = self.images.entries, self.images.current
        if self._cursor is not None and 0 <= row < len(entries):
            self._cursor.setPos(_time(entries[row], row))

    def _clicked(self, event: Any) -> None:
        entries = self.images.entries
        if event.button() != Qt.MouseButton.LeftButton or not entries:
            return
        x = self.plot.getPlotItem().vb.mapSceneToView(event.scenePos()).x()
        times = np.array([_time(entry, row) for row, entry in enumerate(entries)])
        self.wanted.emit(int(np.argmin(np.abs(times - x))))
