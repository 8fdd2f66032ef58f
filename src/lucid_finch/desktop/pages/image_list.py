"""The list of images: thumbnails, the same recipe on each, and a mark where an expectation is not met."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, QRect, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QPainter, QPen
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QListView,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from lucid_finch.core.execution.cache import Cache
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.study.worker import Coordinator, Job
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme
from lucid_finch.pipeline.run import Done, run_images
from lucid_finch.pipeline.sources import Place

WIDTH, HEIGHT = 132, 84


@dataclass(frozen=True)
class Result:
    """What a recipe gave on an image."""

    counts: tuple[int, ...] = ()
    """Findings of each detector."""
    unmet: tuple[str, ...] = ()
    failure: str = ""
    tables: Mapping[str, Mapping[str, NDArray[np.float32]]] = field(default_factory=dict, repr=False)
    """Columns of numbers of each detector."""

    @staticmethod
    def of(done: Done) -> Result:
        """What is kept of a run."""
        if done.run is None:
            return Result(failure=done.failure)
        tables = {
            name: {c.name: np.asarray(d.findings.stored(c.name), np.float32) for c in d.findings.declared.values() if not c.names}
            for name, d in done.run.detections.items()
        }
        counts = tuple(len(d.findings) for d in done.run.detections.values())
        return Result(counts, tuple(str(unmet) for unmet in done.run.unmet), tables=tables)


_REMEMBERED = 8
"""Results per image."""


@dataclass
class Entry:
    """One image of the list."""

    place: Place
    several: bool = False
    thumbnail: NDArray[np.uint32] | None = None
    results: dict[str, Result] = field(default_factory=dict)
    """What the last recipes gave, by their hashes: one that comes back is not run again."""
    result: Result | None = None
    """That of the recipe of now; None until it has been run."""

    @property
    def is_wrong(self) -> bool:
        """Whether the image cannot be read or does not meet an expectation."""
        return self.result is not None and bool(self.result.failure or self.result.unmet)

    @property
    def label(self) -> str:
        return self.place.label(self.several)


class _Model(QAbstractListModel):
    def __init__(self) -> None:
        super().__init__()
        self.entries: list[Entry] = []

    def rowCount(self, parent: QModelIndex | QPersistentModelIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.entries)

    def data(self, index: QModelIndex | QPersistentModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid():
            return None
        entry = self.entries[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return entry.label
        if role == Qt.ItemDataRole.ToolTipRole:
            result = entry.result or Result()
            return "\n".join(line for line in (str(entry.place.path), result.failure, *result.unmet) if line)
        return None

    def changed(self, row: int) -> None:
        index = self.index(row, 0)
        self.dataChanged.emit(index, index)


class _Tiles(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(WIDTH + 12, HEIGHT + 2 * option.fontMetrics.height() + 14)

    @guarded
    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        model: Any = index.model()
        entry: Entry = model.entries[index.row()]
        theme = current_theme()
        rect = option.rect.adjusted(3, 3, -3, -3)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.fillRect(rect, QColor(theme.accent_soft if chosen else theme.card))
        painter.setPen(QPen(QColor(theme.accent if chosen else theme.line), 1))
        painter.drawRect(rect.adjusted(0, 0, -1, -1))
        box = QRect(rect.left() + 3, rect.top() + 3, WIDTH, HEIGHT)
        if entry.thumbnail is None:
            painter.fillRect(box, QColor(theme.surround))
        else:
            height, width = entry.thumbnail.shape
            painter.drawImage(box, QImage(entry.thumbnail.data, width, height, 4 * width, QImage.Format.Format_RGB32))
        line = option.fontMetrics.height()
        painter.setPen(QColor(theme.text))
        text = option.fontMetrics.elidedText(entry.label, Qt.TextElideMode.ElideMiddle, WIDTH)
        painter.drawText(QRect(box.left(), box.bottom() + 3, WIDTH, line), Qt.AlignmentFlag.AlignLeft, text)
        result, wrong = entry.result, entry.is_wrong
        said = "…" if result is None else "cannot be read" if result.failure else " · ".join(str(c) for c in result.counts)
        painter.setPen(QColor(theme.bad if wrong else theme.quiet))
        below = QRect(box.left(), box.bottom() + 3 + line, WIDTH, line)
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft, f"! {said}" if wrong else said)


class ImageList(QWidget):
    """Follows no recipe by itself: `use_recipe` runs one over all images, in the background and when nothing else runs."""

    wanted = Signal(object)
    """The `Place` of the image that was chosen."""
    listed = Signal()
    """The list is another one."""
    added = Signal()
    """It has become longer."""
    result_came = Signal(int)
    """The row of an image that has been done."""
    current_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.entries: list[Entry] = []
        self.current = -1
        self.others_busy: Callable[[], bool] = lambda: False
        """Whether something more urgent runs."""
        self._recipe: Recipe | None = None
        self._worker: Coordinator | None = None
        self._model = _Model()
        self._model.entries = self.entries
        self.view = QListView()
        self.view.setModel(self._model)
        self.view.setItemDelegate(_Tiles(self.view))
        self.view.setViewMode(QListView.ViewMode.IconMode)
        self.view.setFlow(QListView.Flow.LeftToRight)
        self.view.setResizeMode(QListView.ResizeMode.Adjust)
        self.view.setMovement(QListView.Movement.Static)
        self.view.setUniformItemSizes(True)
        self.view.setFrameShape(QFrame.Shape.NoFrame)
        self.view.setAccessibleName(self.tr("Images"))
        self.view.selectionModel().currentChanged.connect(lambda now, before: self._chosen(now.row()))
        self.said = QLabel()
        self.said.setObjectName("quiet")
        self.next_wrong = QPushButton(self.tr("Next not as expected"))
        self.next_wrong.setToolTip(self.tr("Go to the next image that does not meet an expectation or cannot be read"))
        self.next_wrong.clicked.connect(self.go_to_wrong)
        row = QHBoxLayout()
        row.setContentsMargins(8, 3, 8, 3)
        row.addWidget(self.said, 1)
        row.addWidget(self.next_wrong)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(self.view, 1)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(500)
        self._later.timeout.connect(self._start)
        self._say()

    def show_places(self, places: Sequence[Place], current: int = 0, quiet: bool = False) -> None:
        """Replace the list; `quiet` if the current one is on the bench already."""
        several = [sum(other.path == p.path for other in places) > 1 if len(places) < 2000 else p.page > 0 for p in places]
        self._model.beginResetModel()
        self.entries = [Entry(place, many) for place, many in zip(places, several, strict=True)]
        self._model.entries = self.entries
        self._model.endResetModel()
        self.current = current if quiet else -1
        self.listed.emit()
        self.select(current)
        self._later.start()

    def add(self, place: Place) -> None:
        """Put another image at the end of the list; what is on the bench stays."""
        row = len(self.entries)
        self._model.beginInsertRows(QModelIndex(), row, row)
        self.entries.append(Entry(place))
        self._model.endInsertRows()
        self.added.emit()
        self._later.start()
        self._say()

    def select(self, row: int) -> None:
        if 0 <= row < len(self.entries):
            index = self._model.index(row, 0)
            self.view.setCurrentIndex(index)
            self.view.scrollTo(index)

    def step(self, by: int) -> None:
        """To the next image (1) or the one before (-1)."""
        self.select(min(max(self.current + by, 0), len(self.entries) - 1))

    def go_to_wrong(self) -> None:
        count = len(self.entries)
        for offset in range(1, count + 1):
            row = (self.current + offset) % count
            if self.entries[row].is_wrong:
                self.select(row)
                return

    def _chosen(self, row: int) -> None:
        if row != self.current and 0 <= row < len(self.entries):
            self.current = row
            self.current_changed.emit()
            self.wanted.emit(self.entries[row].place)

    def use_recipe(self, recipe: Recipe) -> None:
        """Run this recipe over all images, once it has been left alone for half a second."""
        self._recipe = recipe
        if len(self.entries) > 1:
            self._later.start()

    def _start(self) -> None:
        recipe, entries, current = self._recipe, self.entries, max(self.current, 0)
        if recipe is None or (len(entries) < 2 and not any(entry.place.image is not None for entry in entries)):
            return
        key = recipe.sha256
        for entry in entries:
            entry.result = entry.results.get(key)
        self.view.viewport().update()
        if self._worker is None:
            self._worker = Coordinator()
            self._worker.setParent(self)
            self._worker.part_done.connect(self._part_done)
        missing = [row for row, entry in enumerate(entries) if entry.result is None]
        if not missing:
            self._worker.cancel_all()
            self._say()
            return
        # Frames in their order, so that none is sought for.
        frames = entries[0].place.is_frame
        order = sorted(missing, key=lambda row: (row < current, row) if frames else (abs(row - current), row))

        def work(job: Job) -> None:
            engine = Engine(Cache(96 * 1024 * 1024))
            done = run_images(recipe, [entries[row].place for row in order], engine, job.cancelled)
            for row in order:
                while self.others_busy() and not job.cancelled():
                    time.sleep(0.02)
                one = next(done)
                thumbnail = None
                if entries[row].thumbnail is None and one.image is not None:
                    thumbnail = Picture.of_image(one.image, "", "").thumbnail(WIDTH, HEIGHT)
                job.emit_part((entries, row, thumbnail, key, Result.of(one)))

        self._worker.submit("images", work)
        self._say()

    def _part_done(self, generation: int, part: tuple[Any, ...]) -> None:
        entries, row, thumbnail, key, result = part
        if entries is not self.entries:
            return
        entry = self.entries[row]
        entry.thumbnail = thumbnail if thumbnail is not None else entry.thumbnail
        entry.results[key] = entry.result = result
        while len(entry.results) > _REMEMBERED:
            del entry.results[next(iter(entry.results))]
        self._model.changed(row)
        self._say()
        self.result_came.emit(row)

    def _say(self) -> None:
        done = sum(entry.result is not None for entry in self.entries)
        wrong = sum(entry.is_wrong for entry in self.entries)
        text = self.tr("{} of {} images done").format(done, len(self.entries))
        if not self.entries:
            text = self.tr("Open a folder, or drop several images: the same recipe is run on each.")
        elif wrong:
            text += self.tr(", {} not as expected").format(wrong)
        self.said.setText(text)
        self.next_wrong.setEnabled(wrong > 0)

    @property
    def busy(self) -> bool:
        return self._later.isActive() or (self._worker is not None and self._worker.busy)

    def close_worker(self) -> None:
        self._later.stop()
        if self._worker is not None:
            self._worker.close()
