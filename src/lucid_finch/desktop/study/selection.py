"""What is selected among the results: the one owner, followed by tables, panes and the profile."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QObject, Signal

from lucid_finch.core.detection import Detection


class Selection(QObject):
    """Rows of the findings or near misses of the detector in sight, and the place that they stand for."""

    changed = Signal(bool)
    """Whether the panes bring it into view."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.found: tuple[int, ...] = ()
        self.near: tuple[int, ...] = ()
        self.merged: tuple[str, int] = ("", 0)
        """Detector and number of the merged finding that was selected last."""
        self.place: tuple[float, float] | None = None
        """Source position of the first selected row; it stays when the results change, for the profile to follow."""

    def select(self, detection: Detection | None, found: Sequence[int], near: Sequence[int], centre: bool = False) -> None:
        """Select rows; those that the results no longer have are ignored, since a table follows a moment later."""
        counts = (len(detection.findings), len(detection.near_misses)) if detection is not None else (0, 0)
        self.found = tuple(row for row in found if row < counts[0])
        self.near = tuple(row for row in near if row < counts[1])
        candidate = self.candidate(detection)
        if detection is not None and candidate >= 0:
            columns = detection.task.candidates.columns
            self.place = float(columns["x"][candidate]), float(columns["y"][candidate])
        self.changed.emit(centre)

    def candidate(self, detection: Detection | None) -> int:
        """The candidate behind the first selected row, or -1."""
        if detection is None or not (self.found or self.near):
            return -1
        return int(detection.task.rows[self.found[0]] if self.found else detection.task.near_rows[self.near[0]])

    def forget_rows(self) -> None:
        """The results have changed: rows no longer mean the same."""
        self.found, self.near = (), ()

    def merged_row(self, detector: str, detection: Detection | None) -> int | None:
        """Row of the selected merged finding among the findings of a detector."""
        name, number = self.merged
        if detection is None or detector != name:
            return None
        rows = (detection.findings["id"] == number).nonzero()[0]
        return int(rows[0]) if len(rows) else None
