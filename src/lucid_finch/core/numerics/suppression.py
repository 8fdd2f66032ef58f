"""Lets candidates that exclude each other compete, best first."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel


@kernel
def _compete(order, start, other, standing, beaten_by):  # type: ignore[no-untyped-def]
    for i in range(order.size):
        a = order[i]
        if not standing[a]:
            continue
        for k in range(start[a], start[a + 1]):
            b = other[k]
            if standing[b]:
                standing[b] = False
                beaten_by[b] = a


@kernel
def _filed(place, pairs, start, other):  # type: ignore[no-untyped-def]
    """Rivals that come after each candidate, in `other` from `start` on, in the order of the pairs."""
    for k in range(pairs.shape[0]):
        a, b = pairs[k, 0], pairs[k, 1]
        start[(a if place[a] < place[b] else b) + 1] += 1
    for i in range(start.size - 1):
        start[i + 1] += start[i]
    for k in range(pairs.shape[0]):
        a, b = pairs[k, 0], pairs[k, 1]
        first, second = (a, b) if place[a] < place[b] else (b, a)
        other[start[first]] = second
        start[first] += 1
    for i in range(start.size - 1, 0, -1):
        start[i] = start[i - 1]
    start[0] = 0


def compete(
    order: NDArray[np.int64], pairs: NDArray[np.int64], standing: NDArray[np.bool_]
) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
    """Go through `order` (candidates from best to worst); one that stands beats its rivals that come after it.

    `pairs` (n, 2): candidates that cannot both stand. Returns who stands, and for each of the others who beat it (-1).
    """
    count = len(standing)
    place = np.empty(count, np.int64)
    place[order] = np.arange(count)
    start, other = np.zeros(count + 1, np.int64), np.empty(len(pairs), np.int64)
    _filed(place, np.ascontiguousarray(pairs, np.int64), start, other)
    result = standing.copy()
    beaten_by = np.full(count, -1, np.int64)
    _compete(order, start, other, result, beaten_by)
    return result, beaten_by
