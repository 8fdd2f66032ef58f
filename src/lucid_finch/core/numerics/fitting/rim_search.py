"""The clearest rim around a place, whatever its radius: from the mean gradient across circles of every size."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.profiles.normal_profiles import normal_profiles

Floats = NDArray[np.float32]
_RAYS = 64
_CLEAR = 6.0
"""A rim around a place must stand out by so many times what chance makes: many are tried."""


@dataclass(frozen=True)
class SeenRim:
    """What a rim around a place looks like, whatever its radius."""

    x: float
    y: float
    radius: float
    sign: float
    slope: float
    """Mean gradient across the rim where it is seen, grey levels per px."""
    coverage: float
    visible: NDArray[np.bool_]
    """By direction from the centre: where it is seen."""

    def trace(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Places on the rim where it is seen."""
        turns = np.linspace(0, 2 * np.pi, len(self.visible) + 1)[:-1][self.visible]
        return self.x + self.radius * np.cos(turns), self.y + self.radius * np.sin(turns)


def rim_profile(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: float, y: float, most: float, sigma: float
) -> SeenRim | None:
    """The clearest rim around a place up to a radius of `most` px; None where nothing stands out of the noise.

    The mean gradient along the normal of every circle is held against what such a mean scatters by; the centre is looked for
    some px around the place, ever more finely.
    """
    turns = np.linspace(0, 2 * np.pi, _RAYS + 1)[:-1]
    cos, sin = np.cos(turns), np.sin(turns)
    best, best_slope = (0.0, x, y, 0.0), np.zeros(_RAYS)
    spread = 0.0
    for step in (3.0, 1.5, 0.75):
        _, middle_x, middle_y, radius = best
        radii = np.arange(4.0, max(most, 6.0), 1.0) if radius == 0.0 else np.maximum(radius + np.arange(-4, 5) * step / 3, 3.0)
        enough = np.minimum(_RAYS, 2 * np.pi * radii / (2 * sigma))
        for i in (0, -1, 1):
            for j in (0, -1, 1):
                at_x, at_y = middle_x + i * step, middle_y + j * step
                r = np.repeat(radii, _RAYS)
                u, v = np.tile(cos, len(radii)), np.tile(sin, len(radii))
                slope = normal_profiles(pixels, mask, at_x + r * u, at_y + r * v, u, v, (max(sigma, 1.0),)).slope
                slope = slope.reshape(len(radii), _RAYS)
                seen = np.isfinite(slope)
                n = seen.sum(axis=1)
                mean = np.where(seen, slope, 0.0).sum(axis=1) / np.maximum(n, 1)
                if spread == 0.0:
                    off = np.where(seen, slope - mean[:, None], np.nan)[n >= _RAYS // 4]
                    spread = float(1.4826 * np.nanmedian(np.abs(off))) if np.isfinite(off).any() else 1.0
                    spread = max(spread, 1e-6)
                clear = np.where(n >= _RAYS // 4, np.abs(mean) * np.sqrt(enough * n / _RAYS) / spread, 0.0)
                k = int(np.argmax(clear))
                if clear[k] > best[0]:
                    best = (float(clear[k]), at_x, at_y, float(radii[k]))
                    best_slope = np.where(seen[k], slope[k], 0.0)
    if best[0] < _CLEAR:
        return None
    sign = float(np.sign(best_slope.mean()))
    # Neighbouring rays see nearly the same: their mean shows where the rim is visible.
    rays = np.convolve(np.tile(sign * best_slope, 3), np.full(5, 0.2), "same")[_RAYS : 2 * _RAYS]
    there = rays > 0.5 * np.quantile(rays, 0.9)
    return SeenRim(best[1], best[2], best[3], sign, float((sign * best_slope)[there].mean()), float(there.mean()), there)
