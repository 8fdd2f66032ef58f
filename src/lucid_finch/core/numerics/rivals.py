"""Lets candidates that exclude each other compete, best first."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.compiling import kernel


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


def compete(
    order: NDArray[np.int64], pairs: NDArray[np.int64], standing: NDArray[np.bool_]
) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
    """Go through `order` (candidates from best to worst); one that stands beats its rivals that come after it.

    `pairs` (n, 2): candidates that cannot both stand. Returns who stands, and for each of the others who beat it (-1).
    """
    count = len(standing)
    place = np.empty(count, np.int64)
    place[order] = np.arange(count)
    first = np.where(place[pairs[:, 0]] < place[pairs[:, 1]], pairs[:, 0], pairs[:, 1])
    second = pairs.sum(axis=1) - first
    by_first = np.argsort(first, kind="stable")
    start = np.searchsorted(first[by_first], np.arange(count + 1)).astype(np.int64)
    result = standing.copy()
    beaten_by = np.full(count, -1, np.int64)
    _compete(order, start, second[by_first].astype(np.int64), result, beaten_by)
    return result, beaten_by
