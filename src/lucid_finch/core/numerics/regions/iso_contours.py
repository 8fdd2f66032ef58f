"""Places borders between pixels where a level is crossed, and looks at what lies on either side of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.regions.borders import Borders
from lucid_finch.core.numerics.runtime.compiling import helper, kernel

_CHUNK = 2000
"""Borders placed between two looks at whether to stop."""

_EVERY = 3
"""Contrast is measured at one crack in so many."""

MASKED = np.float32(-1e30)
"""Level of a pixel that is not looked at."""


@helper
def _beyond(level, x, y, dx, dy, sign):  # type: ignore[no-untyped-def]
    """`sign` times the level three pixels on; one pixel on where that is less, as in the middle of a thin part."""
    before, value = sign * level[y + 2 * dy, x + 2 * dx], sign * level[y + 3 * dy, x + 3 * dx]
    if value > 0.75 * before:
        return value
    # Not the most of all, which noise alone would raise.
    return max(sign * level[y + dy, x + dx], 0.5 * (before + value))


@kernel
def _cross(level, near, codes, start, first, last, x, y, sums):  # type: ignore[no-untyped-def]
    height, width = level.shape
    across = np.array([0, 1, 0, -1])
    down = np.array([-1, 0, 1, 0])
    marked = near.shape[0] == height
    # From the corner that a crack leaves to the pixel on its right, and to the next corner.
    right_x, right_y = np.array([0, -1, -1, 0]), np.array([0, 0, -1, -1])
    step_x, step_y = np.array([1, 0, -1, 0]), np.array([0, 1, 0, -1])
    for n in range(first, last):
        rise, contrast, clear, supported, framed, asked, crossed = 0.0, 0.0, 0, 0, 0, 0, 0
        d = codes[start[n]] & 3
        place = codes[start[n]] >> 2
        # A division a crack would take as long as all the rest.
        cx, cy = place % width - right_x[d], place // width - right_y[d]
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
                if outside <= MASKED:
                    framed += 1
                else:
                    share = inside / (inside - outside)
                    if marked:
                        supported += near[py, px] | near[qy, qx]
                    rise += inside - outside
                    crossed += 1
                    due = (i - start[n]) % _EVERY == 0
                    asked += due
                    iy, ix, oy, ox = py - 3 * dy, px - 3 * dx, qy + 3 * dy, qx + 3 * dx
                    if due and 0 <= iy < height and 0 <= ix < width and 0 <= oy < height and 0 <= ox < width:
                        a, b = level[iy, ix], level[oy, ox]
                        if a > MASKED and b > MASKED:
                            contrast += _beyond(level, px, py, -dx, -dy, 1) + _beyond(level, qx, qy, dx, dy, -1)
                            clear += 1
            x[i] = px + share * dx
            y[i] = py + share * dy
        sums[n, 0] = rise / max(crossed, 1)
        # Too near to the frame to look on either side: at least what it rises by.
        sums[n, 1] = contrast / clear if clear > 0 else sums[n, 0]
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
    """Mean difference between three pixels further in and three further out, or what lies between in thinner parts."""
    support: NDArray[np.float64]
    """Share of the cracks beside a pixel that is marked."""
    framed: NDArray[np.float64]
    """Share of the cracks on the frame of the image or beside pixels that are not looked at."""
    clear: NDArray[np.float64]
    """Share of the cracks sampled for `rise` and `contrast` that lie inside the frame."""


def cross_level(
    level: NDArray[np.float32], near: NDArray[np.uint8] | None, borders: Borders, cancelled: Callable[[], bool] | None = None
) -> Crossings:
    """Sub-pixel places along borders, linearly between a pixel inside (level > 0) and its neighbour outside.

    `level` is (H, W), `MASKED` where nothing is looked at; `near` marks pixels (1) that support a border. Raises `Cancelled`.
    """
    # A whole plane of zeros would cost more than all the rest: its pages are fresh.
    near = np.zeros((0, 0), np.uint8) if near is None else near
    x, y = np.empty(len(borders.codes)), np.empty(len(borders.codes))
    sums = np.empty((len(borders), 5))
    for first in range(0, len(borders), _CHUNK):
        if cancelled is not None and cancelled():
            raise Cancelled()
        last = min(first + _CHUNK, len(borders))
        _cross(level, near, borders.codes, borders.start, first, last, x, y, sums)
    columns: list[Any] = [np.ascontiguousarray(c) for c in sums.T]
    return Crossings(x, y, *columns)
