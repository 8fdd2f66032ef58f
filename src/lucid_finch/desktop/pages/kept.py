"""Kept results: what a recipe found before it was changed, and what was gained and lost since, as a list and on the image."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.detection import Detection
from lucid_finch.core.explanation.comparing import gained_and_lost
from lucid_finch.core.recipe import Recipe
from lucid_finch.core.table import Findings
from lucid_finch.desktop.study.study import Study
from lucid_finch.desktop.toolkit.guard import guarded

_SAME = 5.0
"""px between findings that count as the same; an edge's middle moves along it."""
_MOST_ROWS = 300


@dataclass
class Kept:
    """A result and the recipe that gave it."""

    name: str
    recipe: Recipe
    image: int
    """Identity of the image."""
    detections: dict[str, Detection]


@dataclass(frozen=True)
class Comparison:
    """What has changed in the findings of one detector since a result was kept."""

    now: Detection
    before: Detection
    gained: Any
    """Rows of the findings of now."""
    lost: Any
    """Rows of the findings that were kept."""


class KeptPage(QWidget):
    """Follows the study; kept results live as long as the window."""

    compared = Signal(object)
    """A `Comparison` to show on the image, or None."""
    wanted = Signal(float, float)
    """A place of the source that shall be in sight."""

    def __init__(self, study: Study) -> None:
        super().__init__()
        self.study = study
        self.kept: list[Kept] = []
        self.comparison: Comparison | None = None
        self._places: list[tuple[float, float]] = []
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 6, 8, 6)
        left = QVBoxLayout()
        self.keep = QPushButton(self.tr("Keep this result"))
        self.keep.setToolTip(self.tr("Keep findings and settings of now, to compare what follows with them"))
        self.keep.clicked.connect(self.keep_now)
        self.list = QListWidget()
        self.list.setAccessibleName(self.tr("Kept results"))
        self.list.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed)
        self.list.currentRowChanged.connect(lambda row: self.refresh())
        self.list.itemChanged.connect(self._renamed)
        row = QHBoxLayout()
        self.restore = QPushButton(self.tr("Use its settings"))
        self.restore.setToolTip(self.tr("The recipe becomes what it was; can be undone"))
        self.restore.clicked.connect(self._restore)
        self.forget = QPushButton(self.tr("Forget"))
        self.forget.clicked.connect(self._forget)
        for button in (self.restore, self.forget):
            row.addWidget(button)
        left.addWidget(self.keep)
        left.addWidget(self.list, 1)
        left.addLayout(row)
        layout.addLayout(left)
        right = QVBoxLayout()
        self.about = QLabel()
        self.about.setWordWrap(True)
        self.table = QTableWidget(0, 5)
        self.table.setTabKeyNavigation(False)
        self.table.setAccessibleName(self.tr("Gained and lost findings"))
        self.table.setHorizontalHeaderLabels([self.tr("change"), self.tr("no."), "x px", "y px", self.tr("score")])
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(self.fontMetrics().height() + 8)
        self.table.setShowGrid(False)
        self.table.itemSelectionChanged.connect(self._go_to_row)
        right.addWidget(self.about)
        right.addWidget(self.table, 1)
        layout.addLayout(right, 1)
        study.detection_changed.connect(lambda name: self._follow())
        study.chosen_changed.connect(self._follow)
        study.image_changed.connect(self._follow)
        self.refresh()

    def keep_now(self) -> None:
        """Keep the result of now."""
        study = self.study
        if study.image is None or not study.detections:
            return
        counts = ", ".join(f"{name} {len(d.findings)}" for name, d in study.detections.items())
        name = f"{time.strftime('%H:%M')}  {counts}"
        self.kept.append(Kept(name, study.recipe, study.image.identity, dict(study.detections)))
        item = QListWidgetItem(name)
        item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable)
        self.list.addItem(item)
        self.list.setCurrentRow(self.list.count() - 1)
        self.refresh()

    @property
    def current(self) -> Kept | None:
        """The kept result that is selected."""
        row = self.list.currentRow()
        return self.kept[row] if 0 <= row < len(self.kept) else None

    def _renamed(self, item: QListWidgetItem) -> None:
        row = self.list.row(item)
        if 0 <= row < len(self.kept):
            self.kept[row].name = item.text()

    def _restore(self) -> None:
        if self.current is not None:
            self.study.edit(self.current.recipe.plain(), self.tr("kept settings"))

    def _forget(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self.kept):
            del self.kept[row]
            self.list.takeItem(row)
            self.refresh()

    @guarded
    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def _follow(self) -> None:
        """Results change by the dozen in a drag: only what is in sight follows."""
        if self.isVisible() or self.comparison is not None:
            self.refresh()

    def refresh(self) -> None:
        """Compare the findings of the detector in sight with those that were kept."""
        kept, study = self.current, self.study
        self.keep.setEnabled(study.image is not None and bool(study.detections))
        for button in (self.restore, self.forget):
            button.setEnabled(kept is not None)
        before = self.comparison
        self.comparison = None
        now, old = study.detection, kept.detections.get(study.detector) if kept is not None else None
        if kept is None:
            text = self.tr("Keep a result, change the recipe, and see here what was gained and lost.")
        elif study.image is None or study.image.identity != kept.image:
            text = self.tr("This result was kept on another image. Its settings can be used.")
        elif now is None or old is None:
            text = self.tr("The selected detector has no result on one of both sides.")
        else:
            gained, lost = gained_and_lost(old.findings, now.findings, _SAME)
            self.comparison = Comparison(now, old, gained, lost)
            same = len(now.findings) - len(gained)
            text = self.tr("{}: {} gained, {} lost, {} the same").format(study.detector, len(gained), len(lost), same)
        self.about.setText(text)
        self._fill()
        if self.comparison is not None or before is not None:
            self.compared.emit(self.comparison)

    def _go_to_row(self) -> None:
        line = self.table.currentRow()
        if 0 <= line < len(self._places) and self.table.selectedItems():
            self.wanted.emit(*self._places[line])

    def _fill(self) -> None:
        rows: list[tuple[str, Findings, int]] = []
        if self.comparison is not None:
            rows += [(self.tr("gained"), self.comparison.now.findings, int(row)) for row in self.comparison.gained]
            rows += [(self.tr("lost"), self.comparison.before.findings, int(row)) for row in self.comparison.lost]
        self._places = [(float(table["x"][row]), float(table["y"][row])) for _, table, row in rows]
        self.table.setRowCount(min(len(rows), _MOST_ROWS))
        for line, (what, table, row) in enumerate(rows[:_MOST_ROWS]):
            for column, text in enumerate([what, *(table.text(name, row) for name in ("id", "x", "y", "score"))]):
                item = QTableWidgetItem(text)
                if column:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(line, column, item)
