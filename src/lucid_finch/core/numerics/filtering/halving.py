"""Shrinks an image: the mean of each block of pixels, of four as a rule."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]


@kernel
def _halve_band(pixels, first, last, out):  # type: ignore[no-untyped-def]
    """Mean of each block of 2 x 2; beyond the last row and column their pixels count twice."""
    height, width = pixels.shape
    pairs = width // 2
    for y in range(first, last):
        upper, lower = pixels[2 * y], pixels[min(2 * y + 1, height - 1)]
        to = out[y]
        for x in range(pairs):
            left = np.float32(upper[2 * x]) + np.float32(lower[2 * x])
            to[x] = np.float32(0.25) * (left + (np.float32(upper[2 * x + 1]) + np.float32(lower[2 * x + 1])))
        if 2 * pairs < width:
            to[pairs] = np.float32(0.5) * (np.float32(upper[width - 1]) + np.float32(lower[width - 1]))


def halved(pixels: NDArray[Any]) -> Plane:
    """(ceil(H / 2), ceil(W / 2)): the mean of each block of four pixels."""
    height, width = pixels.shape
    out = np.empty(((height + 1) // 2, (width + 1) // 2), np.float32)
    over_bands(lambda first, last: _halve_band(pixels, first, last, out), len(out))
    return out


def block_means(pixels: NDArray[Any], side: int) -> Plane:
    """(ceil(H / side), ceil(W / side)): the mean of each block; the last row and column are repeated to fill the last blocks."""
    if side == 2:
        return halved(pixels)
    filled = np.pad(pixels, [(0, -n % side) for n in pixels.shape], mode="edge")
    rows = np.add.reduceat(filled, np.arange(0, filled.shape[0], side), axis=0, dtype=np.float32)
    sums = np.add.reduceat(rows, np.arange(0, filled.shape[1], side), axis=1)
    return np.asarray(sums / np.float32(side * side), np.float32)


def any_in_block(marked: NDArray[Any] | None, side: int = 2) -> NDArray[np.uint8] | None:
    """Shrunk in the same way: 1 where a pixel of the block is marked; None for None."""
    return None if marked is None else (block_means(np.asarray(marked != 0, np.float32), side) > 0).astype(np.uint8)
