"""Images at other sizes and angles: area averages when shrinking, cubic interpolation elsewhere.

Cubic convolution after Keys, "Cubic convolution interpolation for digital image processing", IEEE ASSP 29(6), 1981.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.gradients import mirror_indices
from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Weights = tuple[NDArray[np.int64], NDArray[np.float32]]


def cubic(distance: NDArray[np.float64]) -> NDArray[np.float64]:
    """Keys' kernel (a = -1/2) at a distance in pixels."""
    t: Any = np.abs(distance)
    near = 1.5 * t**3 - 2.5 * t**2 + 1
    far = -0.5 * t**3 + 2.5 * t**2 - 4 * t + 2
    return np.asarray(np.where(t <= 1, near, np.where(t < 2, far, 0.0)))


def resampling(length: int, count: int, step: float) -> Weights:
    """Indices and weights (count, taps) of the input pixels that make each of `count` output pixels of `step` input px.

    Output pixel i covers i * step - 0.5 .. (i + 1) * step - 0.5: its mean when shrinking, else the cubic at its centre.
    """
    edges = np.arange(count) * step
    if step > 1:
        first = np.floor(edges).astype(np.int64)
        taps = int(np.ceil(step)) + 1
        cells = first[:, None] + np.arange(taps)
        shares = np.minimum(cells + 1, edges[:, None] + step) - np.maximum(cells, edges[:, None])
        weights = np.clip(shares, 0, None) * (cells < length)
    else:
        centres = edges + 0.5 * step - 0.5
        cells = np.floor(centres).astype(np.int64)[:, None] + np.arange(-1, 3)
        weights = cubic(cells - centres[:, None])
    weights = weights / weights.sum(axis=1, keepdims=True)
    margin = max(2, int(-cells.min()), int(cells.max()) - length + 1)
    return mirror_indices(length, margin)[cells + margin], weights.astype(np.float32)


@kernel
def _resample_band(pixels, down, down_weights, across, across_weights, top, bottom, out):  # type: ignore[no-untyped-def]
    width = pixels.shape[1]
    middle = np.empty(width, np.float32)
    for y in range(top, bottom):
        middle[:] = np.float32(0)
        for k in range(down.shape[1]):
            weight = down_weights[y, k]
            if weight == 0:
                continue
            row = pixels[down[y, k]]
            for x in range(width):
                middle[x] += weight * np.float32(row[x])
        for x in range(out.shape[1]):
            total = np.float32(0)
            for k in range(across.shape[1]):
                total += across_weights[x, k] * middle[across[x, k]]
            out[y - top, x] = total


def resampled(pixels: NDArray[Any], down: Weights, across: Weights) -> NDArray[np.float32]:
    """(rows of `down`, rows of `across`) float32: a plane at another size, by weights from `resampling`."""
    height = len(down[0])
    out = np.empty((height, len(across[0])), np.float32)
    over_bands(lambda top, bottom: _resample_band(pixels, *down, *across, top, bottom, out[top:bottom]), height)
    return out


@helper
def _keys(t):  # type: ignore[no-untyped-def]
    """The four weights at a place t (0 to 1) after the second pixel."""
    t2, t3 = t * t, t * t * t
    return -0.5 * t3 + t2 - 0.5 * t, 1.5 * t3 - 2.5 * t2 + 1.0, -1.5 * t3 + 2.0 * t2 + 0.5 * t, 0.5 * t3 - 0.5 * t2


@kernel
def _warp_band(pixels, rows, columns, matrix, top, bottom, empty, out):  # type: ignore[no-untyped-def]
    """Output (x, y) shows the input at matrix @ (x, y, 1); `empty` where that is beyond the outer edges."""
    height, width = pixels.shape
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            u = matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2]
            v = matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2]
            if not (-0.5 - 1e-9 <= u <= width - 0.5 + 1e-9 and -0.5 - 1e-9 <= v <= height - 0.5 + 1e-9):
                out[y - top, x] = empty
                continue
            i, j = int(np.floor(u)), int(np.floor(v))
            a0, a1, a2, a3 = _keys(u - i)
            b0, b1, b2, b3 = _keys(v - j)
            total = 0.0
            for k in range(4):
                row = pixels[rows[j + k + 1]]
                line = a0 * row[columns[i + 1]] + a1 * row[columns[i + 2]] + a2 * row[columns[i + 3]] + a3 * row[columns[i + 4]]
                total += (b0 if k == 0 else b1 if k == 1 else b2 if k == 2 else b3) * line
            out[y - top, x] = total


def warped(pixels: NDArray[Any], matrix: NDArray[np.float64], size: tuple[int, int], empty: float) -> NDArray[np.float32]:
    """(height, width) = `size` reversed, float32: output (x, y) is the input at `matrix` (2, 3) @ (x, y, 1), cubic."""
    rows, columns = mirror_indices(pixels.shape[0], 2), mirror_indices(pixels.shape[1], 2)
    out = np.empty((size[1], size[0]), np.float32)
    over_bands(
        lambda top, bottom: _warp_band(pixels, rows, columns, matrix, top, bottom, np.float32(empty), out[top:bottom]), size[1]
    )
    return out
