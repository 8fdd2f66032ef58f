"""How much steeper the grey levels are across a line than beside it: an even ramp of light is no edge, however straight."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.profiles.sampling import sample_one
from lucid_finch.core.numerics.runtime.compiling import inner, kernel

_PLACES = 48
"""Of a line that are looked at, at most."""
_BESIDE = 2.5, 3.0
"""Times the smoothing, and px more, to either side of an edge where an edge is over."""


@inner
def _slopes(pixels, mask, masked, x, y, dx, dy, nx, ny, count, offsets, half, out):  # type: ignore[no-untyped-def]
    """Mean slope along (nx, ny) at each offset from `count` places that begin at (x, y) and go on by (dx, dy); NaN where hardly
    any of them lie in the image."""
    for k in range(offsets.size):
        total, seen = 0.0, 0
        for j in range(count):
            u, v = x + j * dx + offsets[k] * nx, y + j * dy + offsets[k] * ny
            step = sample_one(pixels, mask, masked, u + half * nx, v + half * ny)
            step -= sample_one(pixels, mask, masked, u - half * nx, v - half * ny)
            if np.isfinite(step):
                total += step
                seen += 1
        out[k] = total / seen if 2 * seen > count else np.nan


@inner
def _falls_off(edge, beside):  # type: ignore[no-untyped-def]
    """Share of the slope of an edge that is gone beside it; 1 where nothing is known."""
    if not (np.isfinite(edge) and np.isfinite(beside)) or edge == 0.0:
        return 1.0
    return 1.0 - min(max(beside / edge, 0.0), 1.0)


@kernel
def _sharpness(pixels, mask, masked, theta, rho, t1, t2, apart, away, half, rows, left, top, out):  # type: ignore[no-untyped-def]
    offsets, slopes = np.empty(4), np.empty(4)
    for row in rows:
        c, s = np.cos(theta[row]), np.sin(theta[row])
        length = t2[row] - t1[row]
        count = min(max(int(0.5 * length), 2), _PLACES)
        first, step = t1[row] + 0.5 * length / count, length / count
        x, y = rho[row] * c - first * s + left, rho[row] * s + first * c + top
        side = 0.5 * apart[row]
        offsets[0], offsets[1], offsets[2], offsets[3] = -side - away, -side, side, side + away
        _slopes(pixels, mask, masked, x, y, -s * step, c * step, c, s, count, offsets, half, slopes)
        one, other = _falls_off(slopes[1], slopes[0]), _falls_off(slopes[2], slopes[3])
        # The sharper side decides, since something else may lie beside the other.
        out[row] = max(one, other)


def line_sharpness(
    pixels: NDArray[Any],
    mask: NDArray[np.bool_] | None,
    lines: dict[str, NDArray[np.float64]],
    apart: NDArray[np.float64],
    sigma: float,
    rows: NDArray[np.int64],
) -> NDArray[np.float64]:
    """0 to 1 for each of the lines in normal form from the centre of an (H, W) image: the share of the slope across it that is
    gone a few px beside it, where an edge that was found with a smoothing of `sigma` px is over; 0 on an even ramp. 1 for those
    that are not among `rows`. `apart` (px): the sides of
    strokes, NaN for edges."""
    height, width = pixels.shape
    out = np.ones(len(lines["theta"]))
    valid = np.ones((1, 1), np.bool_) if mask is None else mask
    away, half = math.ceil(_BESIDE[0] * sigma + _BESIDE[1]), max(1.0, round(sigma))
    _sharpness(
        pixels, valid, mask is not None, lines["theta"], lines["rho"], lines["t1"], lines["t2"], np.nan_to_num(apart),
        float(away), float(half), rows, 0.5 * (width - 1), 0.5 * (height - 1), out,
    )  # fmt: skip
    return out
