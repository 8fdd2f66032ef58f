"""The steps that compression leaves between its blocks of 8 x 8 pixels: where they are, how high, and which points they make.

Across the borders of blocks neighbours differ where they hardly do inside the blocks; a picture that was cut after compression
has its borders elsewhere, so all eight phases are looked at (as Fan and de Queiroz, "Identification of bitmap compression
history", IEEE TIP 12(2), 2003, do for whole blocks).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.edge_points import EdgePoints

_SIDE = 8
_MORE = 1.5
"""Times the mean step of all other phases that the mean step at the borders must be."""
_LOWEST = 0.5
"""Grey levels of that step, on average, from which on it matters."""
_FEW, _ALONE = 0.05, 4.0
"""The same where blocks are even: then few of them differ, and steps are nearly nowhere else."""
_MOST = 0.5
"""Share of the borders at which neighbours must differ more than beside them."""
_TALLEST = 16.0
"""Grey levels of 255: higher steps are edges of the scene."""
_LINES = 80
"""Rows and columns that are looked at."""
_HIGHEST = 0.98
"""Share of the steps between blocks that count as such; higher ones are edges of the scene."""
_MARGIN = 1.5
_AS_LARGE, _CENTRED = 0.2, 1.0
"""Share by which a spot may be larger or smaller than a block, and px off its middle, to be one."""
_OF_CORNER = 0.55
"""Root of the smaller eigenvalue where two steps meet, over the slope of one of them: 0.37 to 0.46, and a fifth more."""
_ON, _ALONG = 0.3, 0.15
"""px off the border, and slant of the gradient, that a point of a step may have."""


@dataclass(frozen=True)
class BlockSteps:
    """Borders of blocks across (columns) and down (rows): phase, and height of steps in grey levels; 0 where there are none."""

    column: int
    across: float
    row: int
    down: float

    @property
    def height(self) -> float:
        """Grey levels of the higher ones."""
        return max(self.across, self.down)

    def of_blocks(self, points: EdgePoints, sigma: float) -> NDArray[np.bool_]:
        """Which points (smoothed by `sigma` px) lie on borders of blocks, along them, and are no stronger than their steps."""
        blocks = np.zeros(len(points), bool)
        weaker = _MARGIN / (math.sqrt(2 * math.pi) * max(sigma, 0.3))
        axes = ((self.column, self.across, points.x, points.gx, points.gy), (self.row, self.down, points.y, points.gy, points.gx))
        for phase, step, place, across, along in axes:
            if step > 0:
                off = (place - (phase - 0.5) + 0.5 * _SIDE) % _SIDE - 0.5 * _SIDE
                on = (np.abs(off) <= _ON) & (np.abs(along) <= _ALONG * np.abs(across))
                blocks |= on & (points.strength <= weaker * step)
        return blocks

    def are_blocks(self, x: NDArray[Any], y: NDArray[Any], radius: NDArray[Any], contrast: NDArray[Any]) -> NDArray[np.bool_]:
        """Which spots at x, y (px) are single blocks of no more contrast than the steps between them."""
        if not (self.across > 0 and self.down > 0):
            return np.zeros(len(x), bool)
        middle = 0.5 * (_SIDE - 1)
        off = [(w - phase - middle + 0.5 * _SIDE) % _SIDE - 0.5 * _SIDE for w, phase in ((x, self.column), (y, self.row))]
        alone = np.abs(radius * math.sqrt(math.pi) / _SIDE - 1) < _AS_LARGE
        return np.asarray(alone & (np.hypot(*off) < _CENTRED) & (contrast <= _MARGIN * self.height))

    def are_corners(self, x: NDArray[Any], y: NDArray[Any], least: NDArray[Any], sigma: float) -> NDArray[np.bool_]:
        """Which maxima of corners at x, y (px), with the smaller eigenvalue `least` of the structure tensor for gradients
        smoothed by `sigma` px, are where blocks meet and no stronger than their steps make them."""
        if not (self.across > 0 and self.down > 0):
            return np.zeros(len(x), bool)
        off = [(w - (phase - 0.5) + 0.5 * _SIDE) % _SIDE - 0.5 * _SIDE for w, phase in ((x, self.column), (y, self.row))]
        weak = np.sqrt(np.maximum(least, 0.0)) * math.sqrt(2 * math.pi) * sigma <= _OF_CORNER * self.height
        return np.asarray((np.maximum(*np.abs(off)) <= 1.75 * sigma + 1) & weak)


def _steps(lines: NDArray[np.float32]) -> tuple[int, float]:
    """Phase and height of the steps along rows."""
    width = lines.shape[1]
    if width < 6 * _SIDE:
        return 0, 0.0
    step = np.abs(np.diff(lines, axis=1))
    # Steps of some grey levels only: edges of the scene are everywhere alike.
    low = np.minimum(step, _TALLEST).mean(axis=0)
    of_phase = np.array([low[k::_SIDE].mean() for k in range(_SIDE)])
    best = int(np.argmax(of_phase))
    others = float(np.delete(of_phase, best).mean())
    clear = of_phase[best] >= _MORE * others if of_phase[best] >= _LOWEST else of_phase[best] >= max(_ALONE * others, _FEW)
    if not clear:
        return 0, 0.0
    # One edge of the scene stands at one border, blocks meet at most of them.
    inner = low[best : best + (len(low) - best) // _SIDE * _SIDE].reshape(-1, _SIDE)
    if float((inner[:, 0] > 1.2 * np.median(inner[:, 1:], axis=1) + 0.1).mean()) < _MOST:
        return 0, 0.0
    borders = step[:, best::_SIDE]
    # Where the blocks to either side are even, the step is theirs.
    left, right = (np.pad(step, ((0, 0), (1, 1)))[:, shift:][:, best::_SIDE][:, : borders.shape[1]] for shift in (0, 2))
    even = borders[(left <= 1) & (right <= 1)]
    if len(even) < 50:
        return 0, 0.0
    return best + 1, min(float(np.quantile(even, _HIGHEST)), _TALLEST)


def block_steps(pixels: NDArray[Any], span: float) -> BlockSteps | None:
    """The steps between blocks of a compressed (H, W) image; None where it has none. `span`: of its grey levels."""
    level = np.float32(span / 255)
    column, across = _steps(pixels[:: max(1, len(pixels) // _LINES)].astype(np.float32) / level)
    row, down = _steps(np.ascontiguousarray(pixels[:, :: max(1, pixels.shape[1] // _LINES)].T).astype(np.float32) / level)
    return BlockSteps(column, across * float(level), row, down * float(level)) if across > 0 or down > 0 else None
