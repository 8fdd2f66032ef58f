"""The page of merged findings: what several detectors found, each once, and by which detector."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Signal

from lucid_finch.core.execution.combining import Combined
from lucid_finch.desktop.pages.tables import FilteredTable


def _equal(one: Combined, other: Combined) -> bool:
    if one.findings.declared != other.findings.declared:
        return False
    pairs = [(one.findings.stored(name), other.findings.stored(name)) for name in one.findings.columns]
    return one.of == other.of and all(np.array_equal(a, b, equal_nan=a.dtype.kind == "f") for a, b in pairs)


class MergedPage(FilteredTable):
    """A table of the merged findings; selecting a row selects the finding and its detector."""

    picked = Signal(str, int)
    """Name of the detector, and the number of the finding there."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.merged: Combined | None = None
        self.table.rows_chosen.connect(self._row_chosen)

    def show_merged(self, merged: Combined | None) -> None:
        """Show another result of merging; one that says the same leaves the table as it is, with what is chosen in it."""
        same = merged is not None and self.merged is not None and _equal(merged, self.merged)
        self.merged = merged
        if not same:
            self.show_table(merged.findings if merged is not None else None, {}, "detector")

    def _row_chosen(self, rows: list[int]) -> None:
        if rows and self.merged is not None:
            found = self.merged.findings
            self.picked.emit(str(found["detector"][rows[0]]), int(found["number"][rows[0]]))
