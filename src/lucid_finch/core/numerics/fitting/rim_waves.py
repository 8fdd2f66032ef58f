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
from lucid_finch.core.numerics.runtime.compiling import inner, kernel

_CORNERS = range(4, 11)
_CORNER_SURE = 3.5
"""Standard deviations that a wave along the rim must stand out by."""
_CLEARER = 2.0
"""Times as large as the second largest other wave, and as half of an oval's, a polygon's own must be."""
_ENOUGH_SEEN = 0.55
"""Share of a rim from which on its waves can be told apart."""

_RIDGE = 0.01
"""Of a whole rim's sum: waves that the gaps of a rim leave open stay small."""


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
    share = np.zeros(len(radius))
    rows = np.flatnonzero((c["coverage"] >= _ENOUGH_SEEN) & likely)
    if not len(rows):
        return share
    place = np.full(len(radius), -1)
    place[rows] = np.arange(len(rows))
    use = place[points.owner] >= 0
    weight = None if points.weight is None else points.weight[use]
    waves = _waves(place[points.owner[use]], len(rows), points.direction[use], points.off[use].astype(float), weight)
    least = _CORNER_SURE * np.sqrt(alike_points(sigma)) * waves.std
    blurred = sigma**2 + np.maximum(c["blur2"][rows], 0.0)
    radius = np.maximum(radius[rows], 1.0)
    for corners in _CORNERS:
        smoothing = np.exp(-0.5 * blurred * (corners / radius) ** 2)
        own = waves.size[corners] / (_WAVES[corners] * radius * np.maximum(smoothing, 0.1))
        others = np.sort([waves.size[swings] for swings in range(3, len(waves.size)) if swings != corners], axis=0)[-2]
        others = np.maximum(others, 0.5 * waves.size[2])
        is_clear = waves.size[corners] > np.maximum(least[corners], _CLEARER * others)
        share[rows] = np.maximum(share[rows], np.where(is_clear, own, 0.0))
    return share


class _Waves(NamedTuple):
    """Of some rims, by how many times a turn they swing: their size, and one standard deviation of it (waves, rims), px."""

    size: NDArray[np.float64]
    std: NDArray[np.float64]


def _waves(owner: NDArray[np.int64], rims: int, unit: NDArray[Any], off: NDArray[Any], weight: NDArray[Any] | None) -> _Waves:
    """All slow waves of some rims together, by least squares, so that gaps of a rim make no waves of their own.

    In the basis exp(i k t) the normal equations are Toeplitz: they hold the sums of exp(i m t) over the points.
    """
    most = _CORNERS[-1]
    weight = np.ones(len(owner)) if weight is None else weight
    unit = np.ascontiguousarray(unit, np.complex128)
    total, moments = np.zeros(rims), np.zeros((rims, 2 * most + 1), np.complex128)
    against = np.zeros((rims, most + 1), np.complex128)
    _sum_powers(owner, unit, off, weight, total, moments, against)
    total = np.maximum(total, 1e-9)
    moments, against = moments / total[:, None], against / total[:, None]
    found, own = np.empty_like(against), np.empty((rims, most + 1))
    _solve_waves(moments, against, found, own)
    # What is left besides all slow waves is scatter.
    scatter = np.zeros(rims)
    _sum_scatter(owner, unit, off, weight, found, scatter)
    count = np.maximum(np.bincount(owner, minlength=rims), 1)
    variance = 2 * np.maximum(scatter / total, 1e-3) / count * own.T
    return _Waves(2 * np.abs(found.T), np.sqrt(np.maximum(variance, 0.0)))


@inner
def _factor(moments, m, inverse):  # type: ignore[no-untyped-def]
    """Inverse of the Cholesky factor of the normal equations of a rim, lower half; `m` is scratch of the same size."""
    n = m.shape[0]
    for i in range(n):
        for j in range(i + 1):
            total = moments[i - j].conjugate()
            if i == j:
                total += _RIDGE
            for k in range(j):
                total -= m[i, k] * m[j, k].conjugate()
            m[i, j] = complex(np.sqrt(max(total.real, 1e-9)), 0.0) if i == j else total / m[j, j].real
    for j in range(n):
        for i in range(j, n):
            total = complex(1.0 if i == j else 0.0, 0.0)
            for k in range(j, i):
                total -= m[i, k] * inverse[k, j]
            inverse[i, j] = total / m[i, i].real


@kernel
def _solve_waves(moments, against, found, own):  # type: ignore[no-untyped-def]
    """Waves 0 and up of each rim, and the diagonal of the inverse of its normal equations there."""
    most = against.shape[1] - 1
    n = 2 * most + 1
    m, inverse, half = (np.zeros((n, n), np.complex128), np.zeros((n, n), np.complex128), np.empty(n, np.complex128))
    for row in range(against.shape[0]):
        _factor(moments[row], m, inverse)
        for i in range(n):
            half[i] = complex(0.0, 0.0)
            for j in range(i + 1):
                right = against[row, j - most] if j >= most else against[row, most - j].conjugate()
                half[i] += inverse[i, j] * right
        for k in range(most, n):
            total, size = complex(0.0, 0.0), 0.0
            for i in range(k, n):
                total += inverse[i, k].conjugate() * half[i]
                size += inverse[i, k].real ** 2 + inverse[i, k].imag ** 2
            found[row, k - most], own[row, k - most] = total, size


@kernel
def _sum_powers(owner, unit, off, weight, total, moments, against):  # type: ignore[no-untyped-def]
    """Sums over the points of each rim: weights, powers of where they are, and conjugates times how far off."""
    for i in range(owner.size):
        row, power = owner[i], complex(weight[i], 0.0)
        total[row] += weight[i]
        for k in range(moments.shape[1]):
            moments[row, k] += power
            if k < against.shape[1]:
                against[row, k] += off[i] * power.conjugate()
            power *= unit[i]


@kernel
def _sum_scatter(owner, unit, off, weight, found, scatter):  # type: ignore[no-untyped-def]
    """Weighted squares of what the waves `found` (rims, waves) leave of how far off the points of each rim are."""
    for i in range(owner.size):
        row, left, power = owner[i], off[i] - found[owner[i], 0].real, complex(1.0, 0.0)
        for k in range(1, found.shape[1]):
            power *= unit[i]
            left -= 2 * (found[row, k] * power).real
        scatter[row] += weight[i] * left * left
