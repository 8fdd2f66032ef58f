"""What accumulators of lines and of circles have in common: stretches of cells are passed over where none has enough votes."""

from __future__ import annotations

import numpy as np

from lucid_finch.core.numerics.runtime.compiling import helper

CELLS_AT_ONCE = 64
"""Cells of a row that are passed over at once."""


@helper
def most_votes(row, begin, end):  # type: ignore[no-untyped-def]
    """The most that a cell of a stretch of a row has; a slice from its own start, so that the loop is vectorised."""
    part = row[begin:end]
    most = np.int32(0)
    for k in range(part.size):
        most = max(most, part[k])
    return most
