"""Non-maximum suppression of candidates that exclude each other."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel


@kernel
def _suppress(order, start, other, accepted, suppressed_by):  # type: ignore[no-untyped-def]
    for i in range(order.size):
        a = order[i]
        if not accepted[a]:
            continue
        for k in range(start[a], start[a + 1]):
            b = other[k]
            if accepted[b]:
                accepted[b] = False
                suppressed_by[b] = a


@kernel
def _group_by_better(place, pairs, start, other):  # type: ignore[no-untyped-def]
    """Candidates that each one excludes and that come after it, in `other` from `start` on, in the order of the pairs."""
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


def suppress(
    order: NDArray[np.int64], pairs: NDArray[np.int64], passed: NDArray[np.bool_]
) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
    """Go through `order` (candidates from best to worst); one that is accepted suppresses those that it excludes.

    `pairs` (n, 2): candidates that cannot both be accepted. Returns which of those that `passed` are accepted, and for each
    of the others what suppressed it (-1).
    """
    count = len(passed)
    place = np.empty(count, np.int64)
    place[order] = np.arange(count)
    start, other = np.zeros(count + 1, np.int64), np.empty(len(pairs), np.int64)
    _group_by_better(place, np.ascontiguousarray(pairs, np.int64), start, other)
    accepted = passed.copy()
    suppressed_by = np.full(count, -1, np.int64)
    _suppress(order, start, other, accepted, suppressed_by)
    return accepted, suppressed_by


@kernel
def _distances_to_earlier(x, y, out):  # type: ignore[no-untyped-def]
    for i in range(x.size):
        least = np.inf
        for k in range(i):
            far = (x[k] - x[i]) ** 2 + (y[k] - y[i]) ** 2
            least = min(least, far)
        out[i] = np.sqrt(least)


def distances_to_earlier(places: NDArray[np.float64]) -> NDArray[np.float64]:
    """Distance of each of the places (n, 2) from the nearest one before it; infinite for the first.

    Of places from strong to weak, those with the largest distances spread evenly (Brown, Szeliski and Winder, CVPR 2005).
    """
    out = np.empty(len(places))
    _distances_to_earlier(np.ascontiguousarray(places[:, 0], float), np.ascontiguousarray(places[:, 1], float), out)
    return out


def close_pairs(x: NDArray[Any], y: NDArray[Any], reach: float) -> NDArray[np.int64]:
    """(n, 2): pairs of places less than `reach` apart, in order."""
    if reach <= 0 or len(x) < 2:
        return np.empty((0, 2), np.int64)
    from scipy.spatial import cKDTree  # here, since loading it takes time

    pairs = cKDTree(np.stack([x, y], axis=1)).query_pairs(reach, output_type="ndarray").astype(np.int64)
    return np.asarray(pairs[np.lexsort((pairs[:, 1], pairs[:, 0]))])
