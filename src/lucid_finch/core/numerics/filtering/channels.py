"""Weighted sums of colour channels."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands


@kernel
def _mix_band(pixels, weights, top, bottom, out):  # type: ignore[no-untyped-def]
    a, b, c = weights[0], weights[1], weights[2]
    for y in range(top, bottom):
        for x in range(pixels.shape[1]):
            red, green, blue = pixels[y, x, 0], pixels[y, x, 1], pixels[y, x, 2]
            out[y, x] = a * np.float32(red) + b * np.float32(green) + c * np.float32(blue)


def mix(pixels: NDArray[np.generic], weights: tuple[float, float, float]) -> NDArray[np.float32]:
    """(H, W) float32: the (H, W, 3) channels times `weights`, in the grey levels of the input."""
    height, width = pixels.shape[:2]
    out = np.empty((height, width), np.float32)
    factors = np.array(weights, np.float32)
    over_bands(lambda top, bottom: _mix_band(pixels, factors, top, bottom, out), height)
    return out
