"""Single pixels far off all their neighbours (dead ones, salt and pepper): how many there are, and the image without them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.filtering.median_filters import median

_SHARE = 0.003, 0.09
"""Of all pixels, from which on they are no details of the scene; a pattern of dots has more."""
_BANDS, _ROWS = 6, 16
"""Bands of rows that are looked at first."""
_OFF = 0.12
"""Share of the value range that one is off its neighbours at least,"""
_NOISE = 6.0
"""and times the noise."""


def without_impulses(pixels: NDArray[Any], span: float, noise: float) -> NDArray[Any] | None:
    """(H, W) with the median of 3 x 3 in their places; None where there are hardly any, or very many, among some bands of rows.
    `span`: of the grey levels; `noise`: of a pixel."""
    least = max(_OFF * span, _NOISE * noise)
    height, width = pixels.shape
    # Where there is no noise, somebody has drawn them.
    if noise <= 0 or height < 8 or width < 8:
        return None
    found, looked = 0, 0
    for top in np.unique(np.linspace(0, max(height - _ROWS, 0), _BANDS).astype(int)).tolist():
        band = np.ascontiguousarray(pixels[top : top + _ROWS])
        found += int(_alone(band, median(band, 3), least).sum())
        looked += band.size
    if not _SHARE[0] * looked <= found <= _SHARE[1] * looked:
        return None
    calm = median(pixels, 3)
    off = np.abs(pixels.astype(np.float32) - calm) >= least
    return np.where(off, calm, pixels)


def _alone(pixels: NDArray[Any], calm: NDArray[Any], least: float) -> NDArray[np.bool_]:
    """Where a pixel is off the median around it, and none of its eight neighbours half as much the same way."""
    off = pixels.astype(np.float32) - calm
    middle = off[1:-1, 1:-1]
    rows, columns = np.nonzero(np.abs(middle) >= least)
    value = middle[rows, columns]
    alone = np.ones(len(rows), bool)
    for dy in (0, 1, 2):
        for dx in (0, 1, 2):
            if (dy, dx) != (1, 1):
                beside = pixels[rows + dy, columns + dx].astype(np.float32) - calm[rows + 1, columns + 1]
                alone &= beside * np.sign(value) < 0.5 * np.abs(value)
    return alone
