"""The page of batches: the list through the recipe into a folder, with pause, going on, what is weak, and histograms."""

from __future__ import annotations

import math
import threading
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, QTimer, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QSplitter,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.pages.image_list import ImageList
from lucid_finch.desktop.study.study import Study
from lucid_finch.desktop.study.worker import Coordinator, Job
from lucid_finch.desktop.toolkit.theme import current_theme
from lucid_finch.pipeline.batch import Batch, Record
from lucid_finch.pipeline.sinks import Outputs
from lucid_finch.pipeline.whole_run import Report, Wish, run_all

_MOST_VALUES = 2_000_000
"""Values of a column that are kept for its histogram."""
_BINS = 60

Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True)
class Line:
    """What has become of one image of the list."""

    row: int
    name: str
    findings: int
    near_misses: int
    margin: float
    said: str
    wrong: bool


class Lines(QAbstractTableModel):
    """Images by their weakest margin, what failed first."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[Line] = []
        self.titles = (self.tr("image"), self.tr("findings"), self.tr("near misses"), self.tr("margin %"), "")

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.lines)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.titles)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self.titles[section]
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        line = self.lines[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            margin = "–" if math.isnan(line.margin) else f"{100 * line.margin:.2f}"
            return (line.name, str(line.findings), str(line.near_misses), margin, line.said)[index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole and 1 <= index.column() <= 3:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole and line.wrong:
            return QColor(current_theme().bad)
        if role == Qt.ItemDataRole.ToolTipRole:
            return line.said or self.tr("A change of a limit by so much would lose a finding or admit another one")
        return None

    def put(self, lines: list[Line]) -> None:
        """Show these, the weakest first."""
        self.beginResetModel()
        self.lines = sorted(lines, key=lambda one: (not one.wrong, math.isnan(one.margin), one.margin, one.row))
        self.endResetModel()


class BatchPage(QWidget):
    """Runs the list in a thread of its own; the bench stays free."""

    image_wanted = Signal(int)
    refused = Signal(str)

    def __init__(self, study: Study, images: ImageList) -> None:
        super().__init__()
        self.study, self.images = study, images
        self._worker: Coordinator | None = None
        self._going = threading.Event()
        self._going.set()
        self._lines: dict[int, Line] = {}
        self._values: dict[str, list[np.ndarray]] = {}
        self._begun = 0.0
        self._waited = 0.0
        self._total = 0
        self.report = Report()
        self.folder = QLineEdit()
        self.folder.setPlaceholderText(self.tr("Folder for the results"))
        self.folder.setAccessibleName(self.tr("Folder for the results"))
        self.choose = QPushButton(self.tr("Choose…"))
        self.choose.clicked.connect(self._browse)
        self.outputs = QComboBox()
        self.outputs.setAccessibleName(self.tr("What is written"))
        for text, kinds in (
            (self.tr("One table (CSV)"), ("table",)),
            (self.tr("One table (Parquet)"), ("table-parquet",)),
            (self.tr("Table and findings of each"), ("table", "findings")),
            (self.tr("Table and annotated clip"), ("table", "clip")),
            (self.tr("Table and annotated pictures"), ("table", "annotated")),
        ):
            self.outputs.addItem(text, kinds)
        self.outputs.setMinimumContentsLength(8)
        self.outputs.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.outputs.setMinimumWidth(90)
        self.jobs = QSpinBox()
        self.jobs.setRange(1, 64)
        self.jobs.setPrefix(self.tr("processes "))
        self.jobs.setAccessibleName(self.tr("Processes"))
        self.begin = QPushButton(self.tr("Run"))
        self.begin.setToolTip(self.tr("All images of the list; what an earlier run into this folder has done is kept"))
        self.begin.clicked.connect(self.start)
        self.pause = QPushButton(self.tr("Pause"))
        self.pause.clicked.connect(self.toggle_pause)
        self.cancel = QPushButton(self.tr("Stop"))
        self.cancel.setToolTip(self.tr("What is done stays; Run goes on from there"))
        self.cancel.clicked.connect(self.stop)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(120)
        self.said = QLabel(self.tr("Open a folder, several images or a clip."))
        self.said.setObjectName("quiet")
        self.said.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.model = Lines()
        self.table = QTableView()
        self.table.setModel(self.model)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setFrameShape(QFrame.Shape.NoFrame)
        self.table.setShowGrid(False)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(self.fontMetrics().height() + 7)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.table.setColumnWidth(0, 190)
        self.table.setAccessibleName(self.tr("Images by their weakest margin"))
        self.table.clicked.connect(lambda index: self.image_wanted.emit(self.model.lines[index.row()].row))
        self.column = QComboBox()
        self.column.setAccessibleName(self.tr("Column of the histogram"))
        self.column.setMinimumContentsLength(10)
        self.column.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.column.currentIndexChanged.connect(lambda: self._draw())
        self.plot: Any = None
        self._due = QTimer(self)
        self._due.setSingleShot(True)
        self._due.setInterval(300)
        self._due.timeout.connect(self._show)
        images.listed.connect(self._show)
        self._lay_out()
        self._show()

    def _lay_out(self) -> None:
        first, second = QHBoxLayout(), QHBoxLayout()
        for row in (first, second):
            row.setContentsMargins(8, 3, 8, 2)
        for widget in (self.folder, self.choose, self.outputs, self.jobs, self.begin, self.pause, self.cancel):
            first.addWidget(widget, {self.folder: 3, self.outputs: 2}.get(widget, 0))
        second.addWidget(self.progress)
        second.addWidget(self.said, 1)
        second.addWidget(self.column)
        self.halves = QSplitter(Qt.Orientation.Horizontal)
        self.halves.addWidget(self.table)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(first)
        layout.addLayout(second)
        layout.addWidget(self.halves, 1)

    def _browse(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, self.tr("Folder for the results"), self.folder.text())
        if folder:
            self.folder.setText(folder)

    @property
    def busy(self) -> bool:
        """Whether it runs, or is paused."""
        return self._worker is not None and self._worker.busy

    @property
    def paused(self) -> bool:
        return not self._going.is_set()

    def start(self) -> None:
        """Run the recipe of now over the list; images that were done in that folder before are kept."""
        entries, text = self.images.entries, self.folder.text().strip()
        if self.busy:
            return
        if not entries or not text:
            self.refused.emit(self.tr("A batch needs images in the list and a folder for the results."))
            return
        places = [entry.place for entry in entries]
        kept = dict.fromkeys(place.path for place in places if place.image is None)
        outputs = Outputs.named(self.outputs.currentData(), overwrite=True)
        batch = Batch(self.study.recipe, Path(text).expanduser(), outputs, kept=kept)
        wish = Wish(jobs=1 if any(place.image is not None for place in places) else self.jobs.value(), resume=True)
        self._lines, self._values, self._total = {}, {}, len(places)
        self.report, self._begun, self._waited = Report(), time.monotonic(), 0.0
        self._going.set()
        if self._worker is None:
            self._worker = Coordinator()
            self._worker.setParent(self)
            self._worker.part_done.connect(self._part_done)
            self._worker.failed.connect(lambda generation, error: self._failed(error))
            self._worker.idle.connect(self._show)
        rows = {(str(place.path), place.page): row for row, place in enumerate(places)}
        report = self.report

        def work(job: Job) -> None:
            records = run_all(batch, [places], wish, report)
            try:
                for record in records:
                    row = rows[str(record.place.path), record.place.page]
                    job.emit_part((report, _line(row, record), _columns(record)))
                    while not self._going.wait(0.1) and not job.cancelled():
                        self._waited += 0.1
                    if job.cancelled():
                        break
            finally:
                records.close()

        self._worker.submit(self.tr("batch"), work)
        self._fill_columns(batch.recipe)
        self._show()

    def _failed(self, error: Exception) -> None:
        known = isinstance(error, (FileError, ParameterError))
        self.refused.emit(str(error) if known else f"{type(error).__name__}: {error}")

    def toggle_pause(self) -> None:
        """Pause, or go on."""
        if self.paused:
            self._going.set()
        else:
            self._going.clear()
        self._show()

    def stop(self) -> None:
        """End it; what is done is written."""
        if self._worker is not None:
            self._worker.cancel_all()
        self._going.set()

    def _part_done(self, generation: int, part: Any) -> None:
        report, line, columns = part
        if report is not self.report:
            return
        self._lines[line.row] = line
        for name, values in columns.items():
            kept = self._values.setdefault(name, [])
            if sum(len(some) for some in kept[-1:]) and len(kept) * len(kept[-1]) > _MOST_VALUES:
                continue
            kept.append(values)
        if not self._due.isActive():
            self._due.start()

    def _show(self) -> None:
        """Progress, table and histogram as they are now."""
        busy, report = self.busy, self.report
        self.begin.setEnabled(not busy and bool(self.images.entries))
        self.pause.setEnabled(busy)
        self.cancel.setEnabled(busy)
        self.pause.setText(self.tr("Go on") if self.paused else self.tr("Pause"))
        self.progress.setRange(0, max(self._total, 1))
        self.progress.setValue(report.done)
        self.said.setText(self._state(busy))
        self.model.put(list(self._lines.values()))
        self._draw()

    def _state(self, busy: bool) -> str:
        report = self.report
        if not self._total:
            count = len(self.images.entries)
            return (
                self.tr("{} images in the list").format(count) if count else self.tr("Open a folder, several images or a clip.")
            )
        said = [self.tr("{} of {}").format(report.done, self._total)]
        new = report.done - report.kept
        if busy and new > 2 and not self.paused:
            seconds = (time.monotonic() - self._begun - self._waited) / new * (self._total - report.done)
            said.append(self.tr("about {} left").format(f"{seconds:.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min"))
        for number, text in (
            (report.kept, self.tr("{} kept from before")), (report.failed, self.tr("{} failed")),
            (report.unmet, self.tr("{} not as expected")),
        ):  # fmt: skip
            if number:
                said.append(text.format(number))
        if self.paused:
            said.append(self.tr("paused"))
        elif not busy:
            said.append(self.tr("done") if report.done == self._total else self.tr("stopped: Run goes on"))
        return ", ".join([*said, *report.failures])

    def _fill_columns(self, recipe: Recipe) -> None:
        before = self.column.currentData()
        self.column.blockSignals(True)
        self.column.clear()
        self.column.addItem(self.tr("Findings an image"), "")
        for entry in recipe.running:
            for column in KINDS[entry.kind].all_columns():
                if column.name not in ("id", "rank") and not column.names:
                    text = f"{entry.name}: {column.label}" + (f", {column.unit}" if column.unit else "")
                    self.column.addItem(text, f"{entry.name}.{column.name}")
        self.column.setCurrentIndex(max(self.column.findData(before), 0))
        self.column.blockSignals(False)

    def histogram(self) -> tuple[np.ndarray, np.ndarray]:
        """Counts and the ends of the bins of the chosen column over all images that are done."""
        name = self.column.currentData() or ""
        if name:
            parts = self._values.get(name, [])
            values = np.concatenate(parts) if parts else np.empty(0)
        else:
            values = np.array([line.findings for line in self._lines.values()], float)
        values = values[np.isfinite(values)]
        if not len(values):
            return np.empty(0), np.empty(0)
        return np.histogram(values, bins=min(_BINS, max(len(np.unique(values)), 1)))

    def _draw(self) -> None:
        if not self._lines or not self.isVisible():
            return
        import pyqtgraph

        theme = current_theme()
        if self.plot is None:
            self.plot = pyqtgraph.PlotWidget(background=theme.card)
            self.plot.setMenuEnabled(False)
            self.plot.hideButtons()
            self.plot.setAccessibleName(self.tr("Histogram"))
            self.halves.addWidget(self.plot)
            self.halves.setSizes([600, 360])
        counts, ends = self.histogram()
        item = self.plot.getPlotItem()
        item.clear()
        self.plot.setBackground(theme.card)
        for axis in ("left", "bottom"):
            item.getAxis(axis).setPen(theme.line)
            item.getAxis(axis).setTextPen(theme.quiet)
        item.setLabel("bottom", self.column.currentText(), color=theme.quiet)
        if len(counts):
            item.addItem(pyqtgraph.BarGraphItem(x0=ends[:-1], x1=ends[1:], height=counts, brush=theme.accent, pen=None))

    def close_worker(self) -> None:
        """The window closes: what is done is kept."""
        self.stop()
        if self._worker is not None:
            self._worker.close()


def _line(row: int, record: Record) -> Line:
    rows = record.rows
    margins = [float(r["margin"]) for r in rows if str(r.get("margin", "")) not in ("", "nan")]
    said = record.failure or "; ".join(record.unmet)
    name = record.place.path.name + (f" [{record.place.page + 1}]" if record.place.page else "")
    found, near = (sum(int(r.get(key) or 0) for r in rows if r.get("kind") != "merged") for key in ("findings", "near_misses"))
    return Line(row, name, found, near, min(margins, default=math.nan), said, bool(said))


def _columns(record: Record) -> dict[str, np.ndarray]:
    """The columns of numbers of an image, by detector and name."""
    found = {}
    for detector, (columns, rows) in record.tables.items():
        for k, column in enumerate(columns):
            values = [row[k] for row in rows]
            if values and not isinstance(values[0], str):
                found[f"{detector}.{column}"] = np.array([np.nan if v is None else v for v in values], np.float32)
    return found
