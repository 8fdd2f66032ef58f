"""Follows the borders of a binary image between its pixels: every outline and hole once, in a fixed direction.

A border is a closed walk along the cracks between foreground and background pixels with the foreground on the right, so that
outlines run clockwise on screen and holes the other way round. At a corner where two foreground pixels meet only diagonally
the walk keeps them together (foreground is connected over eight neighbours). Which borders there are, and which lies in
which, is known from the parts beforehand (`numerics.components`); compare Suzuki and Abe, CVGIP 30(1), 1985, who find both
in one scan.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.compiling import kernel
from lucid_finch.core.numerics.components import Parts
from lucid_finch.core.numerics.threads import over_bands

_CHUNK = 2000
"""Borders followed between two looks at whether to stop."""

_EVERY = 3
"""Contrast is measured at one crack in so many."""

BLOCKED = np.float32(-1e30)
"""Level of a pixel that is not looked at."""


@kernel
def _cracks(binary, top, bottom):  # type: ignore[no-untyped-def]
    """How many sides of pixels above these rows, and below the last one, part foreground and background."""
    height, width = binary.shape
    total = 0
    for y in range(top, bottom):
        row = binary[y]
        some = 0
        if y == 0:
            for x in range(width):
                some += row[x]
        else:
            above = binary[y - 1]
            for x in range(width):
                some += row[x] ^ above[x]
        if y == height - 1:
            for x in range(width):
                some += row[x]
        total += some
    return total


@kernel
def _follow(padded, stride, begin, heading, codes, start, first, last):  # type: ignore[no-untyped-def]
    """Walks the borders first .. last-1 from their first corners, one code a crack: the foreground pixel times 4 plus the
    heading (0 right, 1 down, 2 left, 3 up)."""
    right = np.array([0, -1, -1 - stride, -stride])
    left = np.array([-stride, 0, -1, -1 - stride])
    step = np.array([1, stride, -1, -stride])
    total = start[first]
    for n in range(first, last):
        p, d = begin[n], heading[n]
        p0, d0 = p, d
        while True:
            codes[total] = (p + right[d]) * 4 + d
            total += 1
            p += step[d]
            if padded[p + left[d]]:
                d = (d + 3) & 3
            elif not padded[p + right[d]]:
                d = (d + 1) & 3
            if p == p0 and d == d0:
                break
        start[n + 1] = total


@dataclass(frozen=True)
class Borders:
    """Closed walks along cracks: codes of border n are `codes[start[n] : start[n + 1]]`."""

    codes: NDArray[np.int64]
    start: NDArray[np.int64]
    stride: int
    """Width of the image with a frame of one pixel, in which codes count."""
    part: NDArray[np.int64]
    """Which part each border surrounds."""

    def __len__(self) -> int:
        return len(self.part)

    @property
    def nbytes(self) -> int:
        return self.codes.nbytes + self.start.nbytes

    def pixels(self, n: int, ends: bool = False) -> NDArray[np.float64]:
        """The foreground pixels (n, 2) along one border; with `ends` only those where its direction changes."""
        place = self.codes[self.start[n] : self.start[n + 1]] >> 2
        place = place[np.flatnonzero(np.diff(place, prepend=place[-1]))] if np.ptp(place) else place[:1]
        points = np.stack([place % self.stride - 1, place // self.stride - 1], axis=1)
        if ends and len(points) > 2:
            before, after = points - np.roll(points, 1, axis=0), np.roll(points, -1, axis=0) - points
            points = points[(before != after).any(axis=1)]
        return points.astype(float)


def follow_borders(
    binary: NDArray[np.uint8],
    parts: Parts,
    chosen: NDArray[np.int64] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> Borders:
    """The borders of the chosen parts (all but part 0 if None) of a binary image of 0 and 1, (H, W). Raises `Cancelled`."""
    height, width = binary.shape
    stride = width + 2
    padded = np.zeros((height + 2, stride), np.uint8)
    padded[1:-1, 1:-1] = binary
    chosen = np.arange(1, len(parts)) if chosen is None else chosen
    begin = (parts.y[chosen] + 1) * stride + parts.x[chosen] + 1
    heading = np.where(parts.foreground[chosen] == 1, 0, 1)
    most = parts.changes + sum(over_bands(lambda top, bottom: int(_cracks(binary, top, bottom)), height, cancelled))
    codes, start = np.empty(most, np.int64), np.zeros(len(chosen) + 1, np.int64)
    for first in range(0, len(chosen), _CHUNK):
        if cancelled is not None and cancelled():
            raise Cancelled()
        _follow(padded.ravel(), stride, begin, heading, codes, start, first, min(first + _CHUNK, len(chosen)))
    codes = codes[: start[-1]] if start[-1] > most // 2 else codes[: start[-1]].copy()
    return Borders(codes, start, stride, np.asarray(chosen, np.int64))


@kernel
def _cross(level, near, codes, start, stride, first, last, x, y, sums):  # type: ignore[no-untyped-def]
    height, width = level.shape
    across = np.array([0, 1, 0, -1])
    down = np.array([-1, 0, 1, 0])
    marked = near.shape[0] == height
    # From the corner that a crack leaves to the pixel on its right, and to the next corner.
    right_x, right_y = np.array([0, -1, -1, 0]), np.array([0, 0, -1, -1])
    step_x, step_y = np.array([1, 0, -1, 0]), np.array([0, 1, 0, -1])
    for n in range(first, last):
        rise, contrast, clear, supported, framed, asked = 0.0, 0.0, 0, 0, 0, 0
        d = codes[start[n]] & 3
        place = codes[start[n]] >> 2
        # A division a crack would take as long as all the rest.
        cx, cy = place % stride - 1 - right_x[d], place // stride - 1 - right_y[d]
        for i in range(start[n], start[n + 1]):
            d = codes[i] & 3
            px, py = cx + right_x[d], cy + right_y[d]
            cx += step_x[d]
            cy += step_y[d]
            dx, dy = across[d], down[d]
            qy, qx = py + dy, px + dx
            share = 0.5
            if qy < 0 or qx < 0 or qy >= height or qx >= width:
                framed += 1
            else:
                inside, outside = level[py, px], level[qy, qx]
                if outside <= BLOCKED:
                    framed += 1
                else:
                    share = inside / (inside - outside)
                    if marked:
                        supported += near[py, px] | near[qy, qx]
                    told = (i - start[n]) % _EVERY == 0
                    asked += told
                    iy, ix, oy, ox = py - 3 * dy, px - 3 * dx, qy + 3 * dy, qx + 3 * dx
                    if told and 0 <= iy < height and 0 <= ix < width and 0 <= oy < height and 0 <= ox < width:
                        a, b = level[iy, ix], level[oy, ox]
                        if a > BLOCKED and b > BLOCKED:
                            contrast += a - b
                            rise += inside - outside
                            clear += 1
            x[i] = px + share * dx
            y[i] = py + share * dy
        sums[n, 0] = rise / max(clear, 1)
        sums[n, 1] = contrast / max(clear, 1)
        count = start[n + 1] - start[n]
        sums[n, 2] = supported / (count - framed) if count > framed else 1.0
        sums[n, 3] = framed / count
        sums[n, 4] = clear / max(asked, 1)


@dataclass(frozen=True)
class Crossings:
    """Where a level is crossed along each border, and what was seen on the way."""

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    rise: NDArray[np.float64]
    """Mean difference across the cracks of each border, from one pixel to the next."""
    contrast: NDArray[np.float64]
    """Mean difference between three pixels further in and three further out."""
    support: NDArray[np.float64]
    """Share of the cracks beside a pixel that is marked."""
    framed: NDArray[np.float64]
    """Share of the cracks on the frame of the image or beside pixels that are not looked at."""
    clear: NDArray[np.float64]
    """Share of the cracks asked for `rise` and `contrast` that lay clear of the frame."""


def cross_level(
    level: NDArray[np.float32], near: NDArray[np.uint8] | None, borders: Borders, cancelled: Callable[[], bool] | None = None
) -> Crossings:
    """Sub-pixel places along borders, linearly between a pixel inside (level > 0) and its neighbour outside.

    `level` is (H, W), `BLOCKED` where nothing is looked at; `near` marks pixels (1) that support a border. Raises `Cancelled`.
    """
    # A whole plane of zeros would cost more than all the rest: its pages are fresh.
    near = np.zeros((0, 0), np.uint8) if near is None else near
    x, y = np.empty(len(borders.codes)), np.empty(len(borders.codes))
    sums = np.empty((len(borders), 5))
    for first in range(0, len(borders), _CHUNK):
        if cancelled is not None and cancelled():
            raise Cancelled()
        last = min(first + _CHUNK, len(borders))
        _cross(level, near, borders.codes, borders.start, borders.stride, first, last, x, y, sums)
    columns: list[Any] = [np.ascontiguousarray(c) for c in sums.T]
    return Crossings(x, y, *columns)
