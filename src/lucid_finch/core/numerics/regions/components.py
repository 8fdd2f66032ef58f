"""Parts of a binary image: connected components of both colours with moments, and which lies inside which.

Foreground is connected over eight neighbours, background over four. A part is what lies right within one border
(`numerics.regions.borders`) and in none of those inside it, so that parts need no labels of pixels: each run of a row belongs to
the border at its left end, or to what is around that one. Area, centroid and second moments follow from the runs in closed form.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.regions.borders import Binary, Rings, rings_of
from lucid_finch.core.numerics.runtime.compiling import kernel


@kernel
def _sum_up(place, first, width, border, owner, whole, sums):  # type: ignore[no-untyped-def]
    """Where each part begins, its box, area and moments; part 0, which surrounds the image, is left out.

    `owner[k, b]` is the part of a run whose left end is an even (0) or odd (1) crack of border b."""
    for p in range(whole.shape[0]):
        whole[p, 0] = -1
        whole[p, 2] = width
        whole[p, 3] = first.size - 1
        whole[p, 4] = -1
        whole[p, 5] = -1
    whole[0, 0] = 0
    whole[0, 1] = 0
    for y in range(first.size - 1):
        base = y * width
        for k in range(first[y], first[y + 1] - 1):
            p = owner[k & 1, border[k]]
            if p == 0:
                continue
            left, right = np.int64(place[k]) - base, np.int64(place[k + 1]) - base
            row = whole[p]
            if row[0] < 0:
                row[0] = left
                row[1] = y
                row[3] = y
            row[2] = min(row[2], left)
            row[4] = max(row[4], right)
            row[5] = y + 1
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

    def __len__(self) -> int:
        return len(self.area)


@kernel
def _touched(place, first, width, part, seeds, kept):  # type: ignore[no-untyped-def]
    for y in range(first.size - 1):
        for k in range(first[y], first[y + 1], 2):
            if not kept[part[k]]:
                for x in range(place[k] - y * width, place[k + 1] - y * width):
                    if seeds[y, x]:
                        kept[part[k]] = True
                        break


@kernel
def _drawn(place, first, width, part, kept, out):  # type: ignore[no-untyped-def]
    for y in range(first.size - 1):
        for k in range(first[y], first[y + 1], 2):
            if kept[part[k]]:
                for x in range(place[k] - y * width, place[k + 1] - y * width):
                    out[y, x] = 1


def _owners(rings: Rings) -> NDArray[np.int32]:
    """The part at the right of the even (row 0) and of the odd (row 1) cracks of each border."""
    own, around = np.arange(1, len(rings.begin) + 1, dtype=np.int32), rings.borders.around + 1
    return np.stack([np.where(rings.borders.hole, around, own), np.where(rings.borders.hole, own, around)])


def reconstructed(binary: Binary, seeds: Binary, cancelled: Callable[[], bool] | None = None) -> Binary:
    """Only the foreground parts of a binary image that hold a seed; both (H, W) of 0 and 1. Raises `Cancelled`."""
    rings = rings_of(binary, cancelled, codes=False)
    changes, part = rings.changes, _owners(rings)[0][rings.border]
    kept, out = np.zeros(len(rings.begin) + 1, np.bool_), np.zeros(binary.shape, np.uint8)
    _touched(changes.place, changes.first, changes.width, part, seeds, kept)
    _drawn(changes.place, changes.first, changes.width, part, kept, out)
    return out


def parts_of(rings: Rings) -> Parts:
    """The connected parts of the image whose borders these are; part n + 1 lies right within border n."""
    changes, count = rings.changes, len(rings.begin) + 1
    whole, sums = np.empty((count, 6), np.int64), np.zeros((count, 6), np.int64)
    _sum_up(changes.place, changes.first, changes.width, rings.border, _owners(rings), whole, sums)
    n = np.maximum(sums[:, 0], 1).astype(float)
    cx, cy = sums[:, 1] / (2 * n), sums[:, 2] / n
    x, y, left, top, right, bottom = (np.ascontiguousarray(c) for c in whole.T)
    xx, xy, yy = sums[:, 3] / (12 * n) - cx * cx, sums[:, 4] / (2 * n) - cx * cy, sums[:, 5] / n - cy * cy
    foreground = np.concatenate([[0], 1 - rings.borders.hole])
    around = np.concatenate([[-1], rings.borders.around + 1])
    return Parts(foreground, x, y, around, left, top, right, bottom, sums[:, 0], cx, cy, xx, xy, yy)


def label_parts(binary: Binary, cancelled: Callable[[], bool] | None = None) -> Parts:
    """The connected parts of a binary image, (H, W) of 0 and 1. Raises `Cancelled`."""
    return parts_of(rings_of(binary, cancelled, codes=False))
