"""Shrinks an image by two: the mean of each block of four pixels."""

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
