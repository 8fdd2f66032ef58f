"""Channels of cells of 2 px: what a window's score is made from, the same in training and in detection.

Gradient magnitude, its share in six orientations, each over the local mean of the magnitude; luma over its local spread; two
differences of colour over their sum. After Dollar, Appel, Belongie and Perona, "Fast feature pyramids for object detection", IEEE
PAMI 36(8), 2014; with local normalisation of every channel, so that light and contrast matter little.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

CELL = 2
"""px along each side of a cell."""
ORIENTATIONS = 6
COUNT = ORIENTATIONS + 4
NAMES = ("magnitude", *(f"orientation {30 * k} deg" for k in range(ORIENTATIONS)), "luma", "red over green", "blue over yellow")
_REACH = 5
"""Cells to each side over which means are taken."""
_LEAST_SLOPE, _LEAST_SPREAD = 1.5, 3.0
"""Grey levels (of 255) a pixel, and of luma, that noise alone may make: added before dividing."""

Cells = NDArray[np.uint8]
"""(rows, columns, channels)."""


_RAW = ORIENTATIONS + 5
_NARROW = math.cos(math.pi / ORIENTATIONS)
"""Cosine of the angle between neighbouring orientations: where the share of one ends."""


@kernel
def _cells(luma, red, blue, top, bottom, cosines, sines, narrow, lines, raw):  # type: ignore[no-untyped-def]
    """Sums over the pixels of each cell, (rows, 11, columns): magnitude, orientations, luma, its square, both colours.

    An orientation's share of a gradient falls from 1 along it to 0 at its neighbours. Whole lines, so that all is vectorised.
    """
    height, width = luma.shape
    columns = raw.shape[2]
    gx, gy, sums = lines[0], lines[1], lines[2:]
    spread = np.float32(1.0) / (np.float32(1.0) - narrow)
    for r in range(top, bottom):
        for k in range(sums.shape[0]):
            for x in range(width):
                sums[k, x] = np.float32(0)
        for y in range(2 * r, 2 * r + 2):
            here, above, below = luma[y], luma[max(y - 1, 0)], luma[min(y + 1, height - 1)]
            for x in range(width - 2):
                gx[x + 1] = np.float32(0.5) * (here[x + 2] - here[x])
            gx[0], gx[width - 1] = np.float32(0.5) * (here[1] - here[0]), np.float32(0.5) * (here[width - 1] - here[width - 2])
            for x in range(width):
                gy[x] = np.float32(0.5) * (below[x] - above[x])
            size = sums[11]
            for x in range(width):
                size[x] = np.sqrt(gx[x] * gx[x] + gy[x] * gy[x])
                sums[0, x] += size[x]
            for k in range(cosines.size):
                c, s = cosines[k], sines[k]
                to = sums[1 + k]
                for x in range(width):
                    to[x] += spread * max(abs(gx[x] * c + gy[x] * s) - narrow * size[x], np.float32(0))
            reds, blues = red[y], blue[y]
            for x in range(width):
                sums[7, x] += here[x]
                sums[8, x] += here[x] * here[x]
                sums[9, x] += reds[x]
                sums[10, x] += blues[x]
        for k in range(raw.shape[1]):
            out, line = raw[r, k], sums[k]
            for c in range(columns):
                out[c] = line[2 * c] + line[2 * c + 1]


@kernel
def _normalised(raw, sums, top, bottom, reach, least_slope, least_spread, cells):  # type: ignore[no-untyped-def]
    """Cells from the sums of each and integral images (rows + 1, columns + 1, 3) of magnitude, luma and its square."""
    rows, columns = raw.shape[0], raw.shape[2]
    for r in range(top, bottom):
        planes = raw[r]
        y0, y1 = max(r - reach, 0), min(r + reach + 1, rows)
        for c in range(columns):
            x0, x1 = max(c - reach, 0), min(c + reach + 1, columns)
            count = 4.0 * (y1 - y0) * (x1 - x0)
            slope = (sums[y1, x1, 0] - sums[y0, x1, 0] - sums[y1, x0, 0] + sums[y0, x0, 0]) / count
            mean = (sums[y1, x1, 1] - sums[y0, x1, 1] - sums[y1, x0, 1] + sums[y0, x0, 1]) / count
            square = (sums[y1, x1, 2] - sums[y0, x1, 2] - sums[y1, x0, 2] + sums[y0, x0, 2]) / count
            spread = math.sqrt(max(square - mean * mean, 0.0))
            out = cells[r, c]
            factor = 16.0 / (slope + least_slope)
            out[0] = min(255.0, planes[0, c] * factor)
            for k in range(1, 7):
                out[k] = min(255.0, planes[k, c] * factor * 1.5)
            out[7] = min(255.0, max(0.0, 128.0 + 42.0 * (0.25 * planes[7, c] - mean) / (spread + least_spread)))
            out[8] = min(255.0, max(0.0, 128.0 + 80.0 * planes[9, c]))
            out[9] = min(255.0, max(0.0, 128.0 + 80.0 * planes[10, c]))


_TURNS = np.pi * np.arange(ORIENTATIONS) / ORIENTATIONS


def planes(pixels: NDArray[Any], black: float = 0.0, white: float = 255.0) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]]:
    """Luma (0 to 255) and two differences of colour over their sum (0 in grey), float32, of (H, W) or (H, W, 3)."""
    scale = 255.0 / (white - black)
    if pixels.ndim == 2:
        luma = (pixels.astype(np.float32) - np.float32(black)) * np.float32(scale)
        nothing = np.zeros_like(luma)
        return luma, nothing, nothing
    r, g, b = ((pixels[..., k].astype(np.float32) - np.float32(black)) * np.float32(scale) for k in range(3))
    luma = np.float32(0.299) * r + np.float32(0.587) * g + np.float32(0.114) * b
    total = r + g + b + np.float32(24.0)
    return luma, (r - g) / total, (b - np.float32(0.5) * (r + g)) / total


def cells_of(luma: NDArray[Any], red: NDArray[Any], blue: NDArray[Any]) -> Cells:
    """The channels of planes as `planes` gives them; a last odd row or column is left out."""
    rows, columns = luma.shape[0] // CELL, luma.shape[1] // CELL
    if rows == 0 or columns == 0:
        return np.empty((rows, columns, COUNT), np.uint8)
    raw = np.empty((rows, _RAW, columns), np.float32)
    turns = np.cos(_TURNS).astype(np.float32), np.sin(_TURNS).astype(np.float32)

    def work(top: int, bottom: int) -> None:
        lines = np.empty((_RAW + 3, luma.shape[1]), np.float32)
        _cells(luma, red, blue, top, bottom, *turns, np.float32(_NARROW), lines, raw)

    over_bands(work, rows)
    sums = np.zeros((rows + 1, columns + 1, 3))
    for k, channel in enumerate((0, 7, 8)):
        np.cumsum(np.cumsum(raw[:, channel], axis=0, dtype=np.float64), axis=1, out=sums[1:, 1:, k])
    cells = np.empty((rows, columns, COUNT), np.uint8)
    limits = _LEAST_SLOPE, _LEAST_SPREAD
    over_bands(lambda top, bottom: _normalised(raw, sums, top, bottom, _REACH, *limits, cells), rows)
    return cells
