"""Ragged arrays: rows of different length, one after the other in a flat array, with the place where each row begins.

`start` (rows + 1,) int64: row k is `flat[start[k]:start[k + 1]]`.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Indices = NDArray[np.int64]


def starts(count: NDArray[Any]) -> Indices:
    """Where rows of such lengths begin, and where the last ends."""
    return np.concatenate([[0], np.cumsum(count)]).astype(np.int64)


def owners(start: NDArray[Any]) -> Indices:
    """The row that each entry of the flat array belongs to."""
    return np.repeat(np.arange(len(start) - 1), np.diff(start))


def places(start: NDArray[Any]) -> Indices:
    """The place of each entry of the flat array in its row."""
    return np.arange(int(start[-1])) - np.repeat(start[:-1], np.diff(start))


def take_rows(start: NDArray[Any], rows: NDArray[Any]) -> tuple[Indices, Indices]:
    """Entries of the flat array that make up some rows (numbers or a mask), in their order, and where each of these begins.

    >>> take_rows(np.array([0, 2, 2, 5]), np.array([2, 0]))
    (array([2, 3, 4, 0, 1]), array([0, 3, 5]))
    """
    begun = starts(np.diff(start)[rows])
    return np.repeat(np.asarray(start)[:-1][rows] - begun[:-1], np.diff(begun)) + np.arange(begun[-1]), begun
