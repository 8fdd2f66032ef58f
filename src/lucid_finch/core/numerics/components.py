"""Parts of a binary image: runs, connected components of both colours with moments, and which lies inside which.

Foreground is connected over eight neighbours, background over four (Rosenfeld, JACM 17(1), 1970). Runs of successive rows
are joined by union-find (He, Chao and Suzuki, IEEE TIP 17(5), 2008); area, centroid and second moments follow from the runs
in closed form. The part that surrounds another is the one to the left of its first pixel in reading order.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.compiling import helper, kernel
from lucid_finch.core.numerics.threads import over_bands

Binary = NDArray[np.uint8]


@kernel
def _changes_band(binary, top, bottom, flips, count):  # type: ignore[no-untyped-def]
    """Columns at which each row changes colour, as runs of both colours end; a row begins and ends with background."""
    width = binary.shape[1]
    words = width // 8
    total = 0
    for y in range(top, bottom):
        row = binary[y]
        wide = row[: words * 8].view(np.uint64)
        before = np.uint8(0)
        started = total
        every = np.uint64(0)
        for w in range(words):
            every = np.uint64(0x0101010101010101) if before else np.uint64(0)
            if wide[w] == every:
                continue
            for x in range(8 * w, 8 * w + 8):
                value = row[x]
                flips[total] = x
                total += value != before
                before = value
        for x in range(8 * words, width):
            value = row[x]
            flips[total] = x
            total += value != before
            before = value
        if before:
            flips[total] = width
            total += 1
        count[y] = total - started
    return total


@helper
def _unite(parent, a, b):  # type: ignore[no-untyped-def]
    """The earlier part takes the later one."""
    while parent[a] != a:
        parent[a] = parent[parent[a]]
        a = parent[a]
    while parent[b] != b:
        parent[b] = parent[parent[b]]
        b = parent[b]
    if a < b:
        parent[b] = a
    elif b < a:
        parent[a] = b


@kernel
def _label(flips, first, width, parent, label):  # type: ignore[no-untyped-def]
    """Joins runs to parts and numbers them in reading order; part 0 is what surrounds the image.

    Run `first[y] + y + k` is the k-th of row y; even ones are background. Returns the number of parts.
    """
    height = first.size - 1
    runs = flips.size + height
    parent[runs] = runs
    for i in range(runs):
        parent[i] = i
    for y in range(height):
        a, b = first[y], first[y + 1]
        base = a + y
        # What reaches the frame is one part with what lies beyond it.
        parent[base] = 0
        if parent[base + b - a] > 0:
            _unite(parent, 0, base + b - a)
        if y == 0 or y == height - 1:
            for k in range(0, b - a + 1, 2):
                _unite(parent, 0, base + k)
        if y == 0:
            continue
        c = first[y - 1]
        before = c + y - 1
        # Foreground of this row and the one before, touching over a corner at least.
        i, j = a, c
        while i < b and j < a:
            if flips[i] <= flips[j + 1] and flips[j] <= flips[i + 1]:
                _unite(parent, before + (j - c) + 1, base + (i - a) + 1)
            if flips[i + 1] < flips[j + 1]:
                i += 2
            else:
                j += 2
        # Background between them, sharing a side; those at the ends are known already.
        i, j = a + 1, c + 1
        while i < b - 1:
            left, right = flips[i], flips[i + 1]
            while j < a - 1 and flips[j + 1] <= left:
                j += 2
            # Beside the frame the row before has background from its last change on and up to its first.
            if c == a or left < flips[c] or right > flips[a - 1]:
                _unite(parent, 0, base + (i - a) + 1)
            k = j
            while k < a - 1 and flips[k] < right:
                _unite(parent, before + (k - c) + 1, base + (i - a) + 1)
                k += 2
            i += 2
        # Background at the ends of this row joins what it meets of the row before.
        low, high = (flips[a], flips[b - 1]) if b > a else (width, 0)
        k = c + 1
        while k < a - 1 and flips[k] < low:
            _unite(parent, 0, before + (k - c) + 1)
            k += 2
        k = a - 3
        while k > c and flips[k + 1] > high:
            _unite(parent, 0, before + (k - c) + 1)
            k -= 2
    parts = 0
    for i in range(runs):
        if parent[i] == i:
            label[i] = parts
            parts += 1
        else:
            label[i] = label[parent[i]]
    return parts


@kernel
def _sum_up(flips, first, width, label, whole, sums):  # type: ignore[no-untyped-def]
    """Area and moments of every part but the surrounding one, where it begins, its colour and what surrounds it."""
    height = first.size - 1
    for p in range(whole.shape[0]):
        whole[p, 0] = -1
        whole[p, 4] = width
        whole[p, 5] = height
        whole[p, 6] = -1
        whole[p, 7] = -1
    whole[0, 0] = 0
    whole[0, 1] = 0
    whole[0, 2] = -1
    whole[0, 3] = -1
    for y in range(height):
        a, b = first[y], first[y + 1]
        base = a + y
        for k in range(1, b - a):
            p = label[base + k]
            if p == 0:
                continue
            left, right = flips[a + k - 1], flips[a + k]
            row = whole[p]
            if row[0] < 0:
                row[0] = k & 1
                row[1] = left
                row[2] = y
                row[3] = label[base + k - 1]
                row[5] = y
            row[4] = min(row[4], left)
            row[6] = max(row[6], right)
            row[7] = y + 1
            n = right - left
            m = left + right - 1
            total = sums[p]
            total[0] += n
            total[1] += n * m
            total[2] += n * y
            # The sum of x squared over a run, times 12; with m twice its middle.
            total[3] += n * (3 * m * m + n * n - 1)
            total[4] += n * m * y
            total[5] += n * y * y


@dataclass(frozen=True)
class Parts:
    """Connected parts in reading order of their first pixels; number 0 is the background around the image.

    Columns of integers, one entry a part: `foreground` (1 or 0), `x`, `y` (the first pixel), `around` (the part that surrounds
    it, -1 for number 0), `left`, `top`, `right`, `bottom` (right and bottom one beyond), `area` (pixels); and as floats the
    centroid `cx`, `cy` and the second central moments a pixel `xx`, `xy`, `yy` (px squared, a pixel being a point).
    """

    foreground: NDArray[np.int64]
    x: NDArray[np.int64]
    y: NDArray[np.int64]
    around: NDArray[np.int64]
    left: NDArray[np.int64]
    top: NDArray[np.int64]
    right: NDArray[np.int64]
    bottom: NDArray[np.int64]
    area: NDArray[np.int64]
    cx: NDArray[np.float64]
    cy: NDArray[np.float64]
    xx: NDArray[np.float64]
    xy: NDArray[np.float64]
    yy: NDArray[np.float64]
    changes: int
    """How often the colour changes along rows."""

    def __len__(self) -> int:
        return len(self.area)


@dataclass(frozen=True)
class _Runs:
    """Where rows change colour, and the part of each run between."""

    flips: NDArray[np.int32]
    first: NDArray[np.int64]
    label: NDArray[np.int32]
    parts: int


def _labelled_runs(binary: Binary, cancelled: Callable[[], bool] | None) -> _Runs:
    height, width = binary.shape

    def band(top: int, bottom: int) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
        # Room for the most there can be costs nothing where it is not used.
        flips = np.empty((bottom - top) * (width + 1) + 1, np.int32)
        count = np.zeros(height, np.int64)
        total = _changes_band(binary, top, bottom, flips, count)
        return flips[:total].copy(), count[top:bottom]

    found = over_bands(band, height, cancelled)
    flips = np.concatenate([f for f, _ in found])
    first = np.concatenate([[0], np.cumsum(np.concatenate([c for _, c in found]))]).astype(np.int64)
    runs = len(flips) + height
    parent, label = np.empty(runs + 1, np.int32), np.empty(runs, np.int32)
    return _Runs(flips, first, label, _label(flips, first, width, parent, label))


@kernel
def _touched(flips, first, label, seeds, kept):  # type: ignore[no-untyped-def]
    for y in range(first.size - 1):
        a, b = first[y], first[y + 1]
        for k in range(1, b - a, 2):
            part = label[a + y + k]
            if not kept[part]:
                for x in range(flips[a + k - 1], flips[a + k]):
                    if seeds[y, x]:
                        kept[part] = True
                        break


@kernel
def _drawn(flips, first, label, kept, out):  # type: ignore[no-untyped-def]
    for y in range(first.size - 1):
        a, b = first[y], first[y + 1]
        for k in range(1, b - a, 2):
            if kept[label[a + y + k]]:
                for x in range(flips[a + k - 1], flips[a + k]):
                    out[y, x] = 1


def reconstructed(binary: Binary, seeds: Binary, cancelled: Callable[[], bool] | None = None) -> Binary:
    """Only the foreground parts of a binary image that hold a seed; both (H, W) of 0 and 1. Raises `Cancelled`."""
    runs = _labelled_runs(binary, cancelled)
    kept, out = np.zeros(runs.parts, np.bool_), np.zeros(binary.shape, np.uint8)
    _touched(runs.flips, runs.first, runs.label, seeds, kept)
    _drawn(runs.flips, runs.first, runs.label, kept, out)
    return out


def label_parts(binary: Binary, cancelled: Callable[[], bool] | None = None) -> Parts:
    """The connected parts of a binary image, (H, W) of 0 and 1. Raises `Cancelled`."""
    runs = _labelled_runs(binary, cancelled)
    whole, sums = np.empty((runs.parts, 8), np.int64), np.zeros((runs.parts, 6), np.int64)
    _sum_up(runs.flips, runs.first, binary.shape[1], runs.label, whole, sums)
    n = np.maximum(sums[:, 0], 1).astype(float)
    cx, cy = sums[:, 1] / (2 * n), sums[:, 2] / n
    foreground, x, y, around, left, top, right, bottom = (np.ascontiguousarray(c) for c in whole.T)
    xx, xy, yy = sums[:, 3] / (12 * n) - cx * cx, sums[:, 4] / (2 * n) - cx * cy, sums[:, 5] / n - cy * cy
    return Parts(foreground, x, y, around, left, top, right, bottom, sums[:, 0], cx, cy, xx, xy, yy, len(runs.flips))
