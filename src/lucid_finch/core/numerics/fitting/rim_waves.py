"""Waves along rims tell regular polygons, seen at any slant, from circles and ellipses.

The distance of a polygon's outline from its circle swings as many times a turn as it has corners. Blur and smoothing weaken
that, by a known factor. Motion, blocks of compression and screens make several waves at once, so a polygon's own must be
clearly larger than the others.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.fitting.rim_support import alike_points

_CORNERS = range(4, 11)
_CORNER_SURE = 3.5
"""Standard deviations that a wave along the rim must stand out by."""
_CLEARER = 2.0
"""Times as large as the second largest other wave, and as half of an oval's, a polygon's own must be."""
_ENOUGH_SEEN = 0.55
"""Share of a rim from which on its waves can be told apart."""


class RimPoints(NamedTuple):
    """Points that support rims, one entry each."""

    owner: NDArray[np.int64]
    """The rim."""
    direction: NDArray[Any]
    """Complex, of length 1: where on the circle, or on that which an ellipse is seen from."""
    off: NDArray[Any]
    """px off that circle, outwards; of an ellipse in units of its mean semi-axis over it."""
    weight: NDArray[Any] | None = None
    """By how much less of the circle each stands for, if they are not evenly spaced around it."""


def _polygon_wave(corners: int) -> float:
    """How far the outline of a regular polygon swings about its mean radius, as many times a turn as it has corners; px a px."""
    turn = (np.arange(720) + 0.5) * 2 * np.pi / 720
    reach = 1 / np.cos((turn + np.pi / corners) % (2 * np.pi / corners) - np.pi / corners)
    return float(abs(2 * np.mean(reach * np.exp(1j * corners * turn)) / reach.mean()))


_WAVES = {corners: _polygon_wave(corners) for corners in _CORNERS}


def polygon_share(
    points: RimPoints, c: dict[str, NDArray[np.float64]], radius: NDArray[np.float64], likely: NDArray[np.bool_], sigma: float
) -> NDArray[np.float64]:
    """How much each rim swings as a regular polygon of 4 to 10 corners would after the smoothing of `sigma` px: 1 like one, 0
    not at all, or not for sure. `c`: "coverage" and "blur2" of the rims."""
    rims = len(radius)
    share = np.zeros(rims)
    seen = (c["coverage"] >= _ENOUGH_SEEN) & likely
    if not seen.any():
        return share
    use = seen[points.owner]
    owner, unit, off = points.owner[use], points.direction[use], points.off[use].astype(float)
    weight = np.ones(len(owner)) if points.weight is None else points.weight[use]
    count = np.maximum(np.bincount(owner, minlength=rims), 1)
    total = np.maximum(np.bincount(owner, weight, rims), 1e-9)
    wave, size = unit, {}
    # The radius is corrected for the smoothing, the points are not. What is left besides all slow waves is scatter.
    off -= (np.bincount(owner, weight * off, rims) / total)[owner]
    scatter = np.bincount(owner, weight * off * off, rims) / total
    for swings in range(2, _CORNERS[-1] + 1):
        wave = wave * unit
        product = weight * off * wave.conj()
        real, imaginary = (np.bincount(owner, part, rims) for part in (product.real, product.imag))
        size[swings] = 2 / total * np.hypot(real, imaginary)
        scatter -= 0.5 * size[swings] ** 2
    least = _CORNER_SURE * np.sqrt(2 * np.maximum(scatter, 1e-3) * alike_points(sigma) / count)
    blurred = sigma**2 + np.maximum(c["blur2"], 0.0)
    for corners in _CORNERS:
        smoothing = np.exp(-0.5 * blurred * (corners / np.maximum(radius, 1.0)) ** 2)
        own = size[corners] / (_WAVES[corners] * radius * np.maximum(smoothing, 0.1))
        others = np.sort([size[swings] for swings in size if swings not in (2, corners)], axis=0)[-2]
        others = np.maximum(others, 0.5 * size[2])
        share = np.maximum(share, np.where(size[corners] > np.maximum(least, _CLEARER * others), own, 0.0))
    return share
