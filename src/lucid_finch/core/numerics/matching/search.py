"""The coarse search over position, angle and scale: correlation of a locally normalised image with the template in every pose.

The poses of a template are much alike. A basis of fewer patterns spans most of what they hold (singular value decomposition):
the image is correlated with the patterns of the basis, by products of spectra over tiles (overlap-save), and the responses of
the poses are sums of those. Of all poses of a group only the best at each place is kept.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import helper, reduction
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]

_ENERGY = 0.8
"""Share of the energy of all poses that the basis holds; against chance, the responses lose the root of what it does not."""
_TILES = (64, 96, 108, 128, 160, 192, 256, 320, 384, 512)
_BLOCK = 256
"""Places at once, so that what is added up stays in the first level of the cache."""


@helper
def _keep(value, pose, k, best, which):  # type: ignore[no-untyped-def]
    """Keep a response and its pose where it is the best so far."""
    better = value > best[k]
    best[k] = value if better else best[k]
    which[k] = pose if better else which[k]


@reduction
def _best_of(weights, found, first, last, either, best, which):  # type: ignore[no-untyped-def]
    """At each place the largest response of the poses `first` to `last`, and which of them, counted from `first`.

    A response is the sum of found (r, places) by the weights (poses, r) of a pose; `either`: its sign does not matter. Poses
    and r come in fours: four poses and four terms are added up at once.
    """
    places = found.shape[1]
    one, two = np.empty(_BLOCK, np.float32), np.empty(_BLOCK, np.float32)
    three, four = np.empty(_BLOCK, np.float32), np.empty(_BLOCK, np.float32)
    for start in range(0, places, _BLOCK):
        n = min(_BLOCK, places - start)
        for p in range(first, last, 4):
            one[:] = 0
            two[:] = 0
            three[:] = 0
            four[:] = 0
            for r in range(0, found.shape[0], 4):
                f, g = found[r, start : start + n], found[r + 1, start : start + n]
                h, i = found[r + 2, start : start + n], found[r + 3, start : start + n]
                a0, a1, a2, a3 = weights[p, r], weights[p, r + 1], weights[p, r + 2], weights[p, r + 3]
                b0, b1, b2, b3 = weights[p + 1, r], weights[p + 1, r + 1], weights[p + 1, r + 2], weights[p + 1, r + 3]
                c0, c1, c2, c3 = weights[p + 2, r], weights[p + 2, r + 1], weights[p + 2, r + 2], weights[p + 2, r + 3]
                d0, d1, d2, d3 = weights[p + 3, r], weights[p + 3, r + 1], weights[p + 3, r + 2], weights[p + 3, r + 3]
                for x in range(n):
                    one[x] += a0 * f[x] + a1 * g[x] + a2 * h[x] + a3 * i[x]
                    two[x] += b0 * f[x] + b1 * g[x] + b2 * h[x] + b3 * i[x]
                    three[x] += c0 * f[x] + c1 * g[x] + c2 * h[x] + c3 * i[x]
                    four[x] += d0 * f[x] + d1 * g[x] + d2 * h[x] + d3 * i[x]
            for x in range(n):
                k = start + x
                _keep(abs(one[x]) if either else one[x], p - first, k, best, which)
                _keep(abs(two[x]) if either else two[x], p - first + 1, k, best, which)
                _keep(abs(three[x]) if either else three[x], p - first + 2, k, best, which)
                _keep(abs(four[x]) if either else four[x], p - first + 3, k, best, which)


@dataclass(frozen=True)
class Responses:
    """The best response of all poses of a group at each place."""

    best: Plane
    """(H, W), about -1 to 1: the template's centre lies on that pixel."""
    which: NDArray[np.int32]
    """(H, W): the pose that gave it, counted within its group."""


def _basis(poses: Plane) -> tuple[Plane, Plane]:
    """Patterns (r, n) and weights (poses, r) whose products come near the poses (poses, n); r a multiple of four."""
    values, vectors = np.linalg.eigh((poses @ poses.T).astype(np.float64))
    share = np.cumsum(values[::-1]) / max(float(values.sum()), 1e-30)
    rank = min(-(-(int(np.searchsorted(share, _ENERGY)) + 1) // 4) * 4, len(poses))
    weights = np.ascontiguousarray(vectors[:, ::-1][:, :rank], np.float32)
    patterns = weights.T @ poses
    # Each approximated pose is scaled to the norm of the exact one: otherwise a pose that the basis represents badly counts less.
    norms = np.sqrt((poses**2).sum(axis=1) / np.maximum(((weights @ patterns) ** 2).sum(axis=1), 1e-30))
    return patterns, np.ascontiguousarray(weights * norms[:, None], np.float32)


def best_responses(
    plane: Plane, groups: Sequence[Sequence[Plane]], either: bool, cancelled: Callable[[], bool] | None
) -> list[Responses]:
    """Correlate a plane (H, W) with the kernels of each group (all of one odd side, squared) and keep the best of each group at
    each place.

    A kernel is the template in one pose, with zero mean over its pixels and a norm such that 1 is a perfect match. Beyond the
    border the plane counts as 0.
    """
    import scipy.fft  # here, since loading it takes a tenth of a second

    height, width = plane.shape
    side = len(groups[0][0])
    groups = [[*group, *[group[-1]] * (-len(group) % 4)] for group in groups]
    patterns, weights = _basis(np.concatenate([np.stack(group) for group in groups]).reshape(-1, side * side))
    ends = np.cumsum([0, *(len(group) for group in groups)])
    size = _tile_side(height, width, side)
    step = size - side + 1
    down, across = -(-height // step), -(-width // step)
    padded = np.zeros((down * step + side - 1, across * step + side - 1), np.float32)
    padded[side // 2 : side // 2 + height, side // 2 : side // 2 + width] = plane
    spectra = np.conj(scipy.fft.rfft2(patterns.reshape(-1, side, side), (size, size)))
    best = np.full((len(groups), height, width), -np.inf, np.float32)
    which = np.zeros(best.shape, np.int32)

    def tile(number: int, _: int) -> None:
        top, left = number // across * step, number % across * step
        rows, columns = min(step, height - top), min(step, width - left)
        spectrum = scipy.fft.rfft2(padded[top : top + size, left : left + size], (size, size))
        found = np.empty((len(patterns), rows * columns), np.float32)
        for k in range(0, len(patterns), 8):
            products = scipy.fft.irfft2(spectrum * spectra[k : k + 8], (size, size))
            found[k : k + 8] = products[:, :rows, :columns].reshape(-1, rows * columns)
        for group in range(len(groups)):
            most, pose = np.full(rows * columns, -np.inf, np.float32), np.zeros(rows * columns, np.int32)
            _best_of(weights, found, ends[group], ends[group + 1], either, most, pose)
            best[group, top : top + rows, left : left + columns] = most.reshape(rows, columns)
            which[group, top : top + rows, left : left + columns] = pose.reshape(rows, columns)

    over_bands(tile, down * across, cancelled, band_height=1)
    return [Responses(best[g], which[g]) for g in range(len(groups))]


def _tile_side(height: int, width: int, side: int) -> int:
    """The side of the tiles that take the fewest steps."""
    import scipy.fft

    def cost(size: int) -> float:
        step = size - side + 1
        return -(-height // step) * -(-width // step) * size**2 * math.log(size)

    sizes = [size for size in _TILES if size >= 1.5 * side] or [scipy.fft.next_fast_len(2 * side, real=True)]
    return min(sizes, key=cost)


def local_maxima(plane: Plane, least: float, most: int) -> tuple[NDArray[np.int64], NDArray[np.int64], int]:
    """Rows and columns of pixels of at least `least` that no neighbour exceeds, the `most` strongest, strongest first; and how
    many more there were."""
    padded = np.pad(plane, 1, constant_values=-np.inf)
    height, width = plane.shape
    peak = plane >= least
    for dy in (0, 1, 2):
        for dx in (0, 1, 2):
            if (dy, dx) != (1, 1):
                # Of equal neighbours the first in reading order is the peak.
                other = padded[dy : dy + height, dx : dx + width]
                peak &= plane > other if (dy, dx) < (1, 1) else plane >= other
    rows, columns = np.nonzero(peak)
    order = np.argsort(-plane[rows, columns], kind="stable")
    return rows[order[:most]], columns[order[:most]], max(len(order) - most, 0)
