"""How sharply the grey level changes all around a blob: the mean along rays, where texture averages out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Floats = NDArray[np.float64]

_RAYS = 24
_INNER, _OUTER = 0.65, 1.45
"""Radii, over that of the blob, between which the rim is sought."""
_STEP = 0.5
"""px along a ray."""
_ACROSS = (1.2, 0.25)
"""Half of what a change across a rim is taken over: px at least, and part of the radius."""
_AROUND = 1.5
"""Radius, over that of the blob, of the circle that tells how the ground varies."""
_BESIDE = 1.0
"""px to both sides of a place over which a change is taken."""


@helper
def _sample(flat, width, height, x, y):  # type: ignore[no-untyped-def]
    """The level at a place, that of the border beyond it."""
    u, v = min(max(x, 0.0), width - 1.001), min(max(y, 0.0), height - 1.001)
    column, row = np.uint64(u), np.uint64(v)
    a, b = u - column, v - row
    at = row * np.uint64(width) + column
    below = at + np.uint64(width)
    upper = flat[at] + a * (flat[at + np.uint64(1)] - flat[at])
    lower = flat[below] + a * (flat[below + np.uint64(1)] - flat[below])
    return upper + b * (lower - upper)


@kernel
def _rim_band(level, blobs, rays, first, last, out):  # type: ignore[no-untyped-def]
    """Into out (n, 2): largest mean change per px along the rays, in the sense of the blob, and at which radius. `blobs` (n, 4):
    x, y, radius, and 1 for dark or -1 for bright ones."""
    height, width = level.shape
    flat = level.ravel()
    for n in range(first, last):
        x, y, radius, sign = blobs[n, 0], blobs[n, 1], blobs[n, 2], blobs[n, 3]
        low = max(_INNER * radius - _BESIDE, 0.0)
        count = int((_OUTER * radius + _BESIDE - low) / _STEP) + 2
        mean = np.zeros(count, np.float32)
        for k in range(rays.shape[0]):
            for i in range(count):
                far = low + _STEP * i
                mean[i] += np.float32(_sample(flat, width, height, x + far * rays[k, 0], y + far * rays[k, 1]))
        apart = int(_BESIDE / _STEP)
        best, place = -1e30, radius
        for i in range(apart, count - apart):
            change = sign * float(mean[i + apart] - mean[i - apart]) / (2.0 * _BESIDE * rays.shape[0])
            if change > best:
                best, place = change, low + _STEP * i
        out[n, 0], out[n, 1] = best, place


def rim_changes(level: NDArray[np.float32], x: Floats, y: Floats, radius: Floats, dark: NDArray[Any]) -> tuple[Floats, Floats]:
    """The mean change per px (grey levels) along rays from each blob, where it is largest, and the radius there; positive if the
    middle is `dark` as it should be. `level` (H, W): the smoothed image, at least 2 x 2."""
    blobs = np.stack([x, y, radius, np.where(dark, 1.0, -1.0)], axis=1)
    rays = _directions()
    out = np.zeros((len(blobs), 2))
    over_bands(lambda first, last: _rim_band(level, blobs, rays, first, last, out), len(blobs), band_height=256)
    return out[:, 0], out[:, 1]


@dataclass(frozen=True)
class Rims:
    """One entry a blob, grey levels."""

    change: Floats
    """Across the rim, positive in the sense of the blob: mean over all directions."""
    lower_quarter: Floats
    """What a quarter of the directions stay below: a closed rim has no weak side."""
    lower_tenth: Floats
    outside: Floats
    """Standard deviation along a circle around the blob."""


@kernel
def _around_band(level, blobs, rays, first, last, out):  # type: ignore[no-untyped-def]
    """Mean, lower quarter and lower tenth of the change across the rim, and standard deviation around, into out (n, 4)."""
    height, width = level.shape
    flat = level.ravel()
    count = rays.shape[0]
    changes = np.empty(count)
    for n in range(first, last):
        x, y, radius, sign = blobs[n, 0], blobs[n, 1], blobs[n, 2], blobs[n, 3]
        half = max(_ACROSS[0], _ACROSS[1] * radius)
        inner, outer, around = max(radius - half, 0.0), radius + half, _AROUND * radius
        total = once = twice = 0.0
        for k in range(count):
            c, s = rays[k, 0], rays[k, 1]
            change = sign * (
                _sample(flat, width, height, x + outer * c, y + outer * s)
                - _sample(flat, width, height, x + inner * c, y + inner * s)
            )
            beyond = _sample(flat, width, height, x + around * c, y + around * s)
            total += change
            once += beyond
            twice += beyond * beyond
            # Sorted as they come.
            place = k
            while place > 0 and changes[place - 1] > change:
                changes[place] = changes[place - 1]
                place -= 1
            changes[place] = change
        out[n, 0], out[n, 1], out[n, 2] = total / count, changes[count // 4], changes[count // 10]
        out[n, 3] = np.sqrt(max(twice / count - (once / count) ** 2, 0.0))


def rims_around(level: NDArray[np.float32], x: Floats, y: Floats, radius: Floats, dark: NDArray[Any]) -> Rims:
    """How the grey level changes across the rim of fitted blobs. `level` (H, W): the smoothed image, at least 2 x 2."""
    blobs = np.stack([x, y, radius, np.where(dark, 1.0, -1.0)], axis=1)
    out = np.zeros((len(blobs), 4))
    over_bands(lambda first, last: _around_band(level, blobs, _directions(), first, last, out), len(blobs), band_height=256)
    return Rims(*out.T)


def _directions() -> Floats:
    """(rays, 2): unit vectors all around."""
    turn = 2.0 * np.pi * np.arange(_RAYS) / _RAYS
    return np.stack([np.cos(turn), np.sin(turn)], axis=1)
