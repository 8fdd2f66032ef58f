"""Channels of cells of 2 px: what a window's score is made from, the same in training and in detection.

Gradient magnitude, its share in six orientations, each over the local mean of the magnitude; luma over its local spread; two
differences of colour over their sum. After Dollar, Appel, Belongie and Perona, "Fast feature pyramids for object detection", IEEE
PAMI 36(8), 2014; with local normalisation of every channel, so that light and contrast matter little.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

CELL = 2
"""px along each side of a cell."""
ORIENTATIONS = 6
COUNT = ORIENTATIONS + 4
NAMES = ("magnitude", *(f"orientation {30 * k} deg" for k in range(ORIENTATIONS)), "luma", "red over green", "blue over yellow")
_REACH = 5
"""Cells to each side over which means are taken."""
_LEAST_SLOPE, _LEAST_SPREAD = np.float32(1.5), np.float32(3.0)
"""Grey levels (of 255) a pixel, and of luma, that noise alone may make: added before dividing."""
_BAND = 48
"""Rows of cells at once: each band works out the `_REACH` rows around it again."""

Cells = NDArray[np.uint8]
"""(rows, columns, channels); in memory channel by channel."""
Planes = tuple[NDArray[np.float32], ...]
"""Luma (0 to 255); of a picture in colour also two differences of colour over their sum."""

_TURNS = np.pi * np.arange(ORIENTATIONS) / ORIENTATIONS
_COSINES, _SINES = np.cos(_TURNS).astype(np.float32), np.sin(_TURNS).astype(np.float32)
_NARROW = np.float32(math.cos(math.pi / ORIENTATIONS))
"""Cosine of the angle between neighbouring orientations: where the share of one ends."""


@kernel
def _colour_planes(pixels, black, scale, first, last, luma, red, blue):  # type: ignore[no-untyped-def]
    for y in range(first, last):
        for x in range(pixels.shape[1]):
            r = (np.float32(pixels[y, x, 0]) - black) * scale
            g = (np.float32(pixels[y, x, 1]) - black) * scale
            b = (np.float32(pixels[y, x, 2]) - black) * scale
            luma[y, x] = np.float32(0.299) * r + np.float32(0.587) * g + np.float32(0.114) * b
            share = np.float32(1.0) / (r + g + b + np.float32(24.0))
            red[y, x] = (r - g) * share
            blue[y, x] = (b - np.float32(0.5) * (r + g)) * share


def planes(pixels: NDArray[Any], black: float = 0.0, white: float = 255.0) -> Planes:
    """The planes of (H, W) or (H, W, 3)."""
    scale = np.float32(255.0 / (white - black))
    if pixels.ndim == 2:
        return ((pixels.astype(np.float32) - np.float32(black)) * scale,)
    made = tuple(np.empty(pixels.shape[:2], np.float32) for _ in range(3))
    low = np.float32(black)
    over_bands(lambda first, last: _colour_planes(pixels, low, scale, first, last, *made), len(pixels))
    return made


@helper
def _inside(n, count):  # type: ignore[no-untyped-def]
    """A place mirrored into 0 .. count-1, where it lies at most a whole length outside."""
    n = -n - 1 if n < 0 else n
    n = 2 * count - 1 - n if n >= count else n
    return min(max(n, 0), count - 1)


@helper
def _between(plane, v, low, high, line):  # type: ignore[no-untyped-def]
    """The row of a plane at v, between two of its rows."""
    y = int(np.floor(v))
    share = np.float32(v - y)
    above, below = plane[_inside(y, plane.shape[0])], plane[_inside(y + 1, plane.shape[0])]
    for x in range(low, high):
        line[x] = above[x] + share * (below[x] - above[x])


@helper
def _across(line, near, far, share, out):  # type: ignore[no-untyped-def]
    """Samples of a row between its pixels."""
    for c in range(out.size):
        out[c] = line[near[c]] + share[c] * (line[far[c]] - line[near[c]])


@helper
def _counted(sums, sign, around):  # type: ignore[no-untyped-def]
    """Adds (1) or takes away (-1) a row of cells: magnitude, luma and its square."""
    for c in range(around.shape[1]):
        around[0, c] += sign * sums[0, c]
        around[1, c] += sign * sums[7, c]
        around[2, c] += sign * sums[8, c]


@kernel
def _band_of_cells(luma, red, blue, coloured, left, top, step, height, first, last, cosines, sines, narrow, planar):  # type: ignore[no-untyped-def]
    """Rows first..last-1 of cells of linear samples at left + step c, top + step r; beyond the border planes are mirrored.

    Sums over the pixels of each cell are kept in a ring of as many rows as means are taken over: magnitude, orientations, luma,
    its square, both colours. An orientation's share of a gradient falls from 1 along it to 0 at its neighbours. Whole lines, so
    that all is vectorised.
    """
    rows, columns = planar.shape[1], planar.shape[2]
    width, count = 2 * columns, luma.shape[1]
    near, far, share = np.empty(width, np.int32), np.empty(width, np.int32), np.empty(width, np.float32)
    low, high = count, 0
    for c in range(width):
        u = left + step * c
        x = int(np.floor(u))
        near[c], far[c], share[c] = _inside(x, count), _inside(x + 1, count), np.float32(u - x)
        low, high = min(low, near[c], far[c]), max(high, near[c] + 1, far[c] + 1)
    line, other = np.empty(count, np.float32), np.empty(count, np.float32)
    seen, sums = np.empty((4, width), np.float32), np.empty((9, width), np.float32)
    gx, gy = np.empty(width, np.float32), np.empty(width, np.float32)
    size, samples = np.empty(width, np.float32), np.empty(width, np.float32)
    deep = 2 * _REACH + 1
    ring = np.zeros((deep, 11, columns), np.float32)
    around = np.zeros((3, columns))
    slope, mean, spread = np.empty(columns, np.float32), np.empty(columns, np.float32), np.empty(columns, np.float32)
    widen = np.float32(1.0) / (np.float32(1.0) - narrow)
    begun = max(first - _REACH, 0)
    made, got = begun, max(2 * begun - 1, 0)
    for r in range(first, last):
        gone = r - _REACH - 1
        if gone >= begun:
            _counted(ring[gone % deep], -1.0, around)
        while made < min(r + _REACH + 1, rows):
            while got <= min(2 * made + 2, height - 1):
                _between(luma, top + step * got, low, high, line)
                _across(line, near, far, share, seen[got % 4])
                got += 1
            for k in range(9):
                for x in range(width):
                    sums[k, x] = np.float32(0)
            for y in range(2 * made, 2 * made + 2):
                here, above, below = seen[y % 4], seen[max(y - 1, 0) % 4], seen[min(y + 1, height - 1) % 4]
                for x in range(width - 2):
                    gx[x + 1] = np.float32(0.5) * (here[x + 2] - here[x])
                gx[0], gx[width - 1] = (
                    np.float32(0.5) * (here[1] - here[0]),
                    np.float32(0.5) * (here[width - 1] - here[width - 2]),
                )
                for x in range(width):
                    gy[x] = np.float32(0.5) * (below[x] - above[x])
                    size[x] = np.sqrt(gx[x] * gx[x] + gy[x] * gy[x])
                    sums[0, x] += size[x]
                    sums[7, x] += here[x]
                    sums[8, x] += here[x] * here[x]
                for k in range(cosines.size):
                    c, s, to = cosines[k], sines[k], sums[1 + k]
                    for x in range(width):
                        to[x] += widen * max(abs(gx[x] * c + gy[x] * s) - narrow * size[x], np.float32(0))
            into = ring[made % deep]
            for k in range(9):
                for c in range(columns):
                    into[k, c] = sums[k, 2 * c] + sums[k, 2 * c + 1]
            if coloured:
                for k in range(9, 11):
                    plane = red if k == 9 else blue
                    _between(plane, top + step * (2 * made), low, high, line)
                    _between(plane, top + step * (2 * made + 1), low, high, other)
                    for x in range(low, high):
                        line[x] += other[x]
                    _across(line, near, far, share, samples)
                    for c in range(columns):
                        into[k, c] = samples[2 * c] + samples[2 * c + 1]
            _counted(into, 1.0, around)
            made += 1
        high_rows = min(r + _REACH + 1, rows) - max(r - _REACH, 0)
        _means(around, high_rows, slope, mean, spread)
        _written(ring[r % deep], slope, mean, spread, planar[:, r])


@helper
def _means(around, rows, slope, mean, spread):  # type: ignore[no-untyped-def]
    """Of the magnitude and of luma around each cell, with its standard deviation, from sums over columns of `rows` cells."""
    columns = around.shape[1]
    a = b = d = 0.0
    for c in range(min(_REACH, columns)):
        a, b, d = a + around[0, c], b + around[1, c], d + around[2, c]
    for c in range(columns):
        if c + _REACH < columns:
            n = c + _REACH
            a, b, d = a + around[0, n], b + around[1, n], d + around[2, n]
        if c - _REACH - 1 >= 0:
            n = c - _REACH - 1
            a, b, d = a - around[0, n], b - around[1, n], d - around[2, n]
        share = 0.25 / (rows * (min(c + _REACH + 1, columns) - max(c - _REACH, 0)))
        middle = b * share
        slope[c], mean[c], spread[c] = a * share, middle, d * share - middle * middle


@helper
def _written(sums, slope, mean, spread, out):  # type: ignore[no-untyped-def]
    """A row of cells from its sums and from what is around each."""
    top, none = np.float32(255.0), np.float32(0.0)
    for c in range(slope.size):
        slope[c] = np.float32(16.0) / (slope[c] + _LEAST_SLOPE)
        spread[c] = np.float32(42.0) / (np.sqrt(max(spread[c], none)) + _LEAST_SPREAD)
    for k in range(7):
        widen = np.float32(1.0 if k == 0 else 1.5)
        for c in range(slope.size):
            out[k, c] = np.uint8(min(top, sums[k, c] * slope[c] * widen))
    for c in range(slope.size):
        out[7, c] = np.uint8(min(top, max(none, np.float32(128.0) + (np.float32(0.25) * sums[7, c] - mean[c]) * spread[c])))
    for k in range(9, 11):
        for c in range(slope.size):
            out[k - 1, c] = np.uint8(min(top, max(none, np.float32(128.0) + np.float32(80.0) * sums[k, c])))


@dataclass(frozen=True)
class View:
    """Linear samples of planes: that of column c and row r lies at left + step c, top + step r, px of the planes."""

    planes: Planes
    left: float
    top: float
    step: float
    width: int
    height: int


def cells_of_views(views: list[View]) -> list[Cells]:
    """The channels of each view; a last odd row or column is left out."""
    found = [np.empty((COUNT, view.height // CELL, view.width // CELL), np.uint8) for view in views]
    jobs = [
        (view, planar, first)
        for view, planar in zip(views, found, strict=True) if planar.size
        for first in range(0, planar.shape[1], _BAND)
    ]  # fmt: skip

    def work(n: int, _: int) -> None:
        v, planar, first = jobs[n]
        last = min(first + _BAND, planar.shape[1])
        coloured = len(v.planes) == 3
        all_planes = v.planes if coloured else 3 * v.planes
        _band_of_cells(
            *all_planes, coloured, v.left, v.top, v.step, v.height, first, last, _COSINES, _SINES, _NARROW, planar
        )  # fmt: skip

    over_bands(work, len(jobs), band_height=1)
    return [planar.transpose(1, 2, 0) for planar in found]


def cells_of(planes: Planes) -> Cells:
    """The channels of planes as they are."""
    height, width = planes[0].shape
    return cells_of_views([View(planes, 0.0, 0.0, 1.0, width, height)])[0]


def mirrored(windows: NDArray[np.uint8], side: int) -> NDArray[np.uint8]:
    """Windows (n, side x side x channels) as of the mirrored picture."""
    turned = [0, *(1 + (ORIENTATIONS - k) % ORIENTATIONS for k in range(ORIENTATIONS)), *range(ORIENTATIONS + 1, COUNT)]
    cells = windows.reshape(len(windows), side, side, COUNT)[:, :, ::-1, turned]
    return np.ascontiguousarray(cells).reshape(len(windows), side * side * COUNT)
