"""How often the background makes a structure tensor that looks like a corner."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.background import BLOCK, Background

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Surroundings:
    """The background at some places, one entry each."""

    scale: Floats
    """Standard deviation of its gradient along the direction asked for, grey levels per px."""
    elongation: Floats
    """Length over breadth of its grains; 1 where it does not run one way."""


def surroundings_at(background: Background, rows: NDArray[Any], columns: NDArray[Any], direction: NDArray[Any]) -> Surroundings:
    """The background at some pixels, linear between the middles of its blocks. `direction`: radians along which its gradient is
    asked for."""
    scale = scale_at(background, rows, columns)
    if background.grain is None:
        return Surroundings(scale, np.ones(len(scale)))
    xx, xy, yy = (_between(background.grain[..., k], rows, columns) for k in range(3))
    u, v = np.cos(direction), np.sin(direction)
    half, mean = np.hypot(0.5 * (xx - yy), xy), 0.5 * (xx + yy)
    along = np.maximum(xx * u * u + 2 * xy * u * v + yy * v * v, mean - half)
    # A Gaussian field varies the faster, the shorter its grains.
    return Surroundings(scale * np.sqrt(along), np.sqrt((mean + half) / np.maximum(mean - half, 1e-6)))


def scale_at(background: Background, rows: NDArray[Any], columns: NDArray[Any]) -> Floats:
    """Standard deviation of one gradient component of the background at some pixels: linear between the middles of the blocks."""
    return _between(background.scale, rows, columns)


def _between(blocks: NDArray[Any], rows: NDArray[Any], columns: NDArray[Any]) -> Floats:
    """Values of blocks at some pixels, linear between their middles."""
    v, u = ((np.asarray(w, float) + 0.5) / BLOCK - 0.5 for w in (rows, columns))
    v, u = np.clip(v, 0, blocks.shape[0] - 1), np.clip(u, 0, blocks.shape[1] - 1)
    y, x = np.floor(v).astype(int), np.floor(u).astype(int)
    below, right = np.minimum(y + 1, blocks.shape[0] - 1), np.minimum(x + 1, blocks.shape[1] - 1)
    upper = (1 - (u - x)) * blocks[y, x] + (u - x) * blocks[y, right]
    lower = (1 - (u - x)) * blocks[below, x] + (u - x) * blocks[below, right]
    return np.asarray((1 - (v - y)) * upper + (v - y) * lower, float)


def degrees_of_freedom(background: Background, sigma_window: float, elongation: Floats, least: float) -> Floats:
    """Independent gradients within the window of a tensor; `least`: px that grains are wide at least."""
    length = max(background.correlation, 0.5)
    breadth = np.maximum(length / elongation, min(least, length))
    return np.asarray(1.0 + 2.0 * sigma_window**2 / (length * breadth))


def corner_log_nfa(least: Floats, scale: Floats, freedom: Floats, tests: float) -> Floats:
    """-log10 of how many of `tests` windows of the background have a smaller eigenvalue of at least `least`.

    `scale`: standard deviation of the background's gradient along the direction of that eigenvalue. Also beside a strong straight
    edge, the smaller eigenvalue is a sum of `freedom` - 1 squares of the background's gradient along the edge; without an edge it
    is less.
    """
    from scipy import special  # here, since loading it takes a tenth of a second

    half = 0.5 * np.maximum(np.asarray(freedom, float) - 1.0, 1.0)
    x = np.maximum(0.5 * freedom * np.asarray(least, float) / np.maximum(np.asarray(scale, float) ** 2, 1e-30), 1e-12)
    chance = special.gammaincc(half, x)
    far = (half - 1.0) * np.log(x) - x - special.gammaln(half)
    log_chance = np.where(chance > 1e-290, np.log(np.maximum(chance, 1e-300)), far) / math.log(10)
    return np.asarray(-log_chance - math.log10(max(tests, 1.0)), float)
