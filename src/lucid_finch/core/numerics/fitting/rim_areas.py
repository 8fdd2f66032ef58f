"""Tests in noise whether a rim is a regular polygon, by the grey levels between the circle and each polygon of its size.

Edge points far off a circle do not count as its own, and in noise those at the corners of a polygon are few. The matched filter
for a known change of grey levels, of unknown phase, is the best that can be done with the pixels themselves (Kay 1998,
Fundamentals of Statistical Signal Processing II, 7.6).
"""

from __future__ import annotations

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
_BLURRED = 0.73
"""What blur of about 1 px leaves of an octagon of 30 px."""
_SEEN = 0.9
"""Share of the places that have to lie inside the image."""


@cache
def _differences() -> NDArray[np.float64]:
    """(corners, distances): by how much the share inside of a regular polygon rises and falls as many times a turn as it has
    corners, at each distance from its centre; its mean radius is 1, a corner lies at angle 0."""
    turn = (np.arange(3600) + 0.5) * 2 * np.pi / 3600
    rows = []
    for corners in _CORNERS:
        half = np.pi / corners
        side = 1 / float(np.mean(1 / np.cos((turn + half) % (2 * half) - half)))
        beyond = np.arccos(np.clip(side / _BETWEEN, -1.0, 1.0))
        rows.append(np.sin(corners * np.clip(half - beyond, 0.0, half)) / np.pi)
    return np.array(rows)


@inner
def _sums(pixels, mask, masked, x, y, radius, between, differences, sums):  # type: ignore[no-untyped-def]
    """Sums of grey levels along each direction, weighted by what each polygon changes there (corners, directions); returns the
    share of places that lie inside the image."""
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
    """Grey levels by which the rims `rows` rise and fall with each polygon (corners, rims), 0 where too little of one is inside
    the image; polygons have `first` corners and more."""
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
        full = _BLURRED * norm[at] * np.maximum(np.abs(circles["contrast"][rows]), 1e-6)
        share = np.maximum(share, np.where(is_clear, size[at] / full, 0.0))
    return share
