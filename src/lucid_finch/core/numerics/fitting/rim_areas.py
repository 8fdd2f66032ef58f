"""Tests in noise or a pattern whether a rim is a regular polygon, by the grey levels between the circle and each polygon.

Edge points far off a circle do not count as its own, and in noise those at the corners of a polygon are few. The matched filter
for a known change of grey levels, of unknown phase, is the best that can be done with the pixels themselves (Kay 1998,
Fundamentals of Statistical Signal Processing II, 7.6). The cells of a pattern are no such noise: there the pixels are smoothed
until it is gone, and the sums of grey levels along each radius tell how far the rim lies off the circle.
"""

from __future__ import annotations

import math
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.profiles.sampling import sample_one
from lucid_finch.core.numerics.runtime.compiling import inner, kernel

_BETWEEN = np.linspace(0.93, 1.12, 20)
"""Distances from the centre over the radius at which grey levels are compared: where polygons and circles differ."""
_CORNERS = range(3, 17)
_POLYGONS = range(4, 11)
"""The others are as good as circles, or cannot be taken for one; what is found of these tells the noise."""
_SURE, _CLEARER = 3.5, 1.2
"""Standard deviations by which a polygon must stand out, and times the second best of the others."""
_TOO_MUCH = 1.6
"""Times what a polygon makes: what is more comes from something else."""
_BLUR = 1.0
"""px, the usual one of an image in focus."""
_IN_PATTERN, _AROUND = range(4, 9), 3
"""Corners of the polygons that can be told where a pattern was smoothed away, and the waves that one is compared with: those of
so many more and fewer a turn."""
_CAUTION = 0.85
"""Share of it that counts there, since one circle in twenty swings half as much as an octagon."""
_SEEN = 0.9
"""Share of the places that have to lie inside the image."""


_TURN = (np.arange(3600) + 0.5) * 2 * np.pi / 3600


def _outline(corners: int) -> NDArray[np.float64]:
    """Distance of the sides of a regular polygon from its centre along `_TURN`; 1 at their middles, a corner lies at angle 0."""
    half = np.pi / corners
    return np.asarray(1 / np.cos((_TURN + half) % (2 * half) - half))


@cache
def _differences() -> NDArray[np.float64]:
    """(corners, distances): by how much the share inside of a regular polygon rises and falls as many times a turn as it has
    corners, at each distance from its centre; its mean radius is 1, a corner lies at angle 0."""
    rows = []
    for corners in _CORNERS:
        half, side = np.pi / corners, 1 / float(np.mean(_outline(corners)))
        beyond = np.arccos(np.clip(side / _BETWEEN, -1.0, 1.0))
        rows.append(np.sin(corners * np.clip(half - beyond, 0.0, half)) / np.pi)
    return np.array(rows)


@inner
def _sums(pixels, mask, masked, x, y, radius, between, differences, sums):  # type: ignore[no-untyped-def]
    """Sums of grey levels along each direction, weighted by the rows of `differences` (rows, directions); returns the share of
    places that lie inside the image."""
    known = 0
    sums[:] = 0.0
    for k in range(sums.shape[1]):
        turn = 2 * np.pi * k / sums.shape[1]
        c, s = radius * np.cos(turn), radius * np.sin(turn)
        for j in range(between.size):
            value = sample_one(pixels, mask, masked, x + between[j] * c, y + between[j] * s)
            if np.isfinite(value):
                known += 1
                for corners in range(sums.shape[0]):
                    sums[corners, k] += differences[corners, j] * value
    return known / (sums.shape[1] * between.size)


@kernel
def _measure(pixels, mask, masked, x, y, radius, rows, between, differences, first, size):  # type: ignore[no-untyped-def]
    """Amplitude by which those sums rise and fall around the rims `rows` (rows of `differences`, rims), 0 where too little of one
    is inside the image: `first` times a turn for the first row, once more for each next one."""
    for n in range(rows.size):
        row = rows[n]
        sums = np.empty((differences.shape[0], max(int(2 * np.pi * radius[row]), 64)))
        if _sums(pixels, mask, masked, x[row], y[row], radius[row], between, differences, sums) < _SEEN:
            continue
        for k in range(sums.shape[0]):
            step = np.exp(complex(0.0, -2 * np.pi * (first + k) / sums.shape[1]))
            total = complex(0.0, 0.0)
            power = complex(1.0, 0.0)
            for i in range(sums.shape[1]):
                total += sums[k, i] * power
                power *= step
            size[k, n] = abs(total) / sums.shape[1]


def polygon_areas(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, circles: dict[str, NDArray[np.float64]], rows: NDArray[np.int64]
) -> NDArray[np.float64]:
    """How much the rims `rows` of an (H, W) image are like a regular polygon of 4 to 10 corners: 1 like one, 0 not at all, or not
    for sure. `circles`: "x", "y", "radius" and "contrast"."""
    valid = np.ones((1, 1), np.bool_) if mask is None else mask
    size, share = np.zeros((len(_CORNERS), len(rows))), np.zeros(len(rows))
    differences = _differences()
    _measure(
        pixels, valid, mask is not None, circles["x"], circles["y"], circles["radius"], rows, _BETWEEN, differences, _CORNERS[0],
        size,
    )  # fmt: skip
    # In units of what noise makes of each, since polygons of few corners change more.
    norm = np.sum(differences**2, axis=1)
    clear = size / np.sqrt(norm)[:, None]
    beyond = 0.5 * np.mean(clear[_CORNERS.index(_POLYGONS[-1]) + 1 :] ** 2, axis=0)
    for corners in _POLYGONS:
        at = _CORNERS.index(corners)
        rest = np.delete(clear[: _CORNERS.index(_POLYGONS[-1]) + 1], at, axis=0)
        noise = np.sqrt(np.maximum(beyond, 0.5 * np.mean(rest**2, axis=0)))
        is_clear = clear[at] > np.maximum(_SURE * noise, _CLEARER * np.sort(rest, axis=0)[-2])
        full = _left_of(corners, circles["radius"][rows]) * norm[at] * np.maximum(np.abs(circles["contrast"][rows]), 1e-6)
        like = size[at] / full
        share = np.maximum(share, np.where(is_clear & (like < _TOO_MUCH), like, 0.0))
    return share


def polygon_swings(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, circles: dict[str, NDArray[np.float64]], rows: NDArray[np.int64],
    sigma: float,
) -> NDArray[np.float64]:  # fmt: skip
    """The same as `polygon_areas`, for polygons of 4 to 8 corners in an (H, W) image of which a pattern was smoothed away with
    `sigma` (px)."""
    valid = np.ones((1, 1), np.bool_) if mask is None else mask
    waves = np.arange(_IN_PATTERN[0] - 1, _IN_PATTERN[-1] + _AROUND + 1)
    steps = np.arange(-3 * sigma, 3 * sigma + 0.25, 0.5)
    share = np.zeros(len(rows))

    def sums(row: NDArray[np.int64], between: NDArray[np.float64], first: int, orders: int) -> NDArray[np.float64]:
        """Waves of the sum of grey levels along each radius; the first of order 0 is its mean."""
        size = np.zeros((orders, 1))
        x, y, radius = circles["x"], circles["y"], circles["radius"]
        _measure(pixels, valid, mask is not None, x, y, radius, row, between, np.ones((orders, len(between))), first, size)
        return size[:, 0]

    for k in np.flatnonzero(circles["radius"][rows] > 3 * sigma).tolist():
        row, radius = rows[k : k + 1], float(circles["radius"][rows[k]])
        between = 1 + steps / radius
        contrast = abs(float(sums(row, between[:1], 0, 1)[0] - sums(row, between[-1:], 0, 1)[0]))
        # Along a radius grey levels add up to the contrast times how far out the rim is.
        swing = 2 * sums(row, between, int(waves[0]), len(waves)) * (steps[1] - steps[0]) / max(contrast, 1e-6)
        for corners in _IN_PATTERN:
            at = int(corners - waves[0])
            rest = np.delete(swing[max(at - _AROUND, 0) : at + _AROUND + 1], min(at, _AROUND))
            like = swing[at] / (_first_wave(corners) * radius * math.exp(-0.5 * (corners * sigma / radius) ** 2))
            if swing[at] > _CLEARER * rest.max() and like < _TOO_MUCH:
                share[k] = max(share[k], _CAUTION * like)
    return share


@cache
def _first_wave(corners: int) -> float:
    """How far the outline of a regular polygon of mean radius 1 swings as many times a turn as it has corners."""
    reach = _outline(corners)
    return float(2 * abs(np.mean(reach * np.exp(-1j * corners * _TURN))) / reach.mean())


def _left_of(corners: int, radius: NDArray[np.float64]) -> NDArray[np.float64]:
    """What blur leaves of the change that a polygon makes, a function of the blur over the swing of the outline about its mean
    radius: computed polygons of 4 to 10 corners and 15 to 70 px, blurred by 0.7 to 1.4 px, lie within 0.05 of it."""
    swing = 0.5 * (1 - np.cos(np.pi / corners)) * radius
    return np.asarray(1 / (1 + (_BLUR / (1.05 * swing)) ** 1.6))
