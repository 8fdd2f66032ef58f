"""How often the background makes a structure tensor that looks like a corner."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.background import BLOCK, Background

Floats = NDArray[np.float64]


def scale_at(background: Background, rows: NDArray[Any], columns: NDArray[Any]) -> Floats:
    """Standard deviation of one gradient component of the background at some pixels: linear between the middles of the blocks."""
    scale = background.scale
    v, u = ((np.asarray(w, float) + 0.5) / BLOCK - 0.5 for w in (rows, columns))
    v, u = np.clip(v, 0, scale.shape[0] - 1), np.clip(u, 0, scale.shape[1] - 1)
    y, x = np.floor(v).astype(int), np.floor(u).astype(int)
    below, right = np.minimum(y + 1, scale.shape[0] - 1), np.minimum(x + 1, scale.shape[1] - 1)
    upper = (1 - (u - x)) * scale[y, x] + (u - x) * scale[y, right]
    lower = (1 - (u - x)) * scale[below, x] + (u - x) * scale[below, right]
    return np.asarray((1 - (v - y)) * upper + (v - y) * lower, float)


def degrees_of_freedom(background: Background, sigma_window: float) -> float:
    """Independent gradients within the window of a tensor."""
    return 1.0 + 2.0 * (sigma_window / max(background.correlation, 0.5)) ** 2


def corner_log_nfa(least: Floats, scale: Floats, freedom: float, tests: float) -> Floats:
    """-log10 of how many of `tests` windows of the background have a smaller eigenvalue of at least `least`.

    `scale`: standard deviation of a gradient component of the background. Also beside a strong straight edge, the smaller
    eigenvalue is a sum of `freedom` - 1 squares of the background's gradient along the edge; without an edge it is less.
    """
    from scipy import special  # here, since loading it takes a tenth of a second

    half = 0.5 * max(freedom - 1.0, 1.0)
    x = np.maximum(0.5 * freedom * np.asarray(least, float) / np.maximum(np.asarray(scale, float) ** 2, 1e-30), 1e-12)
    chance = special.gammaincc(half, x)
    far = (half - 1.0) * np.log(x) - x - special.gammaln(half)
    log_chance = np.where(chance > 1e-290, np.log(np.maximum(chance, 1e-300)), far) / math.log(10)
    return np.asarray(-log_chance - math.log10(max(tests, 1.0)), float)
