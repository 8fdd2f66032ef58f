"""Peaks of the correlation of an upright template, coarse to fine: the same as those of the whole map, several times sooner.

Both are shrunk by whole blocks, the small map is computed everywhere, and each of its peaks is followed up to the image's own
pixels. What the template is worth at a reduced size is measured on itself, at the worst place between two blocks; where that is
too little, or too many peaks would have to be followed, the caller computes the whole map.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.filtering.halving import halved
from lucid_finch.core.numerics.matching.correlation import Pattern, correlation_map, flat_below
from lucid_finch.core.numerics.matching.search import local_maxima
from lucid_finch.core.numerics.runtime.compiling import helper, reduction
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]

SURE = 0.5
"""Correlation from which on no peak is missed."""
_FACTORS = (8, 4, 2)
_SMALLEST = 8
"""Blocks along the shorter side of a template, at least: fewer agree with too much."""
_KEPT = 0.65
"""What the template has in common with itself, half a block off along both axes and shrunk, at least."""
_SLACK = 0.8
"""Part of what a peak should reach at the reduced size from which on it is followed."""
_MORE = (100, 60, 40, 30)
"""Weaker peaks that are followed as well, from level to level: the best look-alikes."""
_WORK = 30.0
"""Products to follow the peaks by a level, over the pixels of the image, above which the whole map is no slower."""
_PLACES = 25
"""Places at which a window is compared to follow a peak by a level, about."""
_SAMPLES = 200
"""Places at which the correlation is computed to learn its mean square."""
_ROUGH = 1e-3
"""Error of the correlations of the small map that is accepted."""
_CLIMBS = 32
"""Moves to a better neighbour, at most."""
_CONTRAST = 0.5
"""Part of the template's contrast that is left at a reduced size, at least."""


@dataclass(frozen=True)
class Peaks:
    """One entry a peak, best first."""

    rows: NDArray[np.int64]
    columns: NDArray[np.int64]
    """Top left pixel of the window."""
    values: NDArray[np.float64]
    """Correlation."""
    varied: float
    """Mean square of the correlation over the image."""


@helper
def _sums(pixels, weights, mask, top, left, level, sums):  # type: ignore[no-untyped-def]
    """Of a window: pixel times weight, pixels and their squares, less a level. Rows come in fours, which are added up at once."""
    width, end = weights.shape[1], pixels.shape[0] - 1
    both = once = twice = 0.0
    for y in range(0, weights.shape[0], 4):
        a = b = c = np.float32(0)
        w0, w1, w2, w3 = weights[y], weights[y + 1], weights[y + 2], weights[y + 3]
        m0, m1, m2, m3 = mask[y], mask[y + 1], mask[y + 2], mask[y + 3]
        p0, p1 = pixels[min(top + y, end), left : left + width], pixels[min(top + y + 1, end), left : left + width]
        p2, p3 = pixels[min(top + y + 2, end), left : left + width], pixels[min(top + y + 3, end), left : left + width]
        for x in range(width):
            s0, s1, s2, s3 = m0[x] * (p0[x] - level), m1[x] * (p1[x] - level), m2[x] * (p2[x] - level), m3[x] * (p3[x] - level)
            a += w0[x] * s0 + w1[x] * s1 + w2[x] * s2 + w3[x] * s3
            b += s0 + s1 + s2 + s3
            c += s0 * s0 + s1 * s1 + s2 * s2 + s3 * s3
        both += float(a)
        once += float(b)
        twice += float(c)
    sums[0], sums[1], sums[2] = both, once, twice


@reduction
def _climb_band(pixels, weights, mask, height, limits, first, last, places, found):  # type: ignore[no-untyped-def]
    """Move each place (row, column of a window) to where the correlation is largest within reach, and on to a peak.

    `weights`: the template less its mean, over its norm; `mask`: 1 where it counts; both have rows of 0 below the template's
    `height` up to a multiple of four. `limits`: pixels that count, sum of squared differences below which a window is flat,
    reach in px, moves at most, 1 if the sign does not matter.
    """
    count, least, reach, moves, either = limits[0], limits[1], int(limits[2]), int(limits[3]), limits[4] > 0
    rows, columns = pixels.shape[0] - height, pixels.shape[1] - weights.shape[1]
    sums = np.empty(3)
    for n in range(first, last):
        row, column = places[n, 0], places[n, 1]
        # About the mean of the window, so that the squares stay small.
        _sums(pixels, weights, mask, row, column, np.float32(0), sums)
        level = np.float32(sums[1] / count)
        best, value = -2.0, 0.0
        for move in range(moves):
            y0, x0 = row, column
            around = reach if move == 0 else 1
            for top in range(max(y0 - around, 0), min(y0 + around, rows) + 1):
                for left in range(max(x0 - around, 0), min(x0 + around, columns) + 1):
                    _sums(pixels, weights, mask, top, left, level, sums)
                    varied = sums[2] - sums[1] * sums[1] / count
                    here = sums[0] / np.sqrt(varied) if varied > least else 0.0
                    size = abs(here) if either else here
                    if size > best:
                        best, value, row, column = size, here, top, left
            if row == y0 and column == x0:
                break
        places[n, 0], places[n, 1] = row, column
        found[n] = value


@dataclass(frozen=True)
class _Level:
    """Image and template at one size."""

    pixels: Plane
    pattern: Pattern
    factor: int
    quantum: float
    span: float

    def followed(self, places: NDArray[np.int64], reach: int, moves: int, either: bool) -> tuple[NDArray[np.int64], Any]:
        """The best places near to those given (n, 2: row, column), and the correlation there."""
        at, found = np.ascontiguousarray(places, np.int64).copy(), np.zeros(len(places))
        at[:, 0] = np.clip(at[:, 0], 0, self.pixels.shape[0] - self.pattern.values.shape[0])
        at[:, 1] = np.clip(at[:, 1], 0, self.pixels.shape[1] - self.pattern.values.shape[1])
        height = len(self.pattern.values)
        below = (0, -height % 4), (0, 0)
        weights = np.pad((self.pattern.values / max(self.pattern.norm, 1e-30)).astype(np.float32), below)
        mask = np.pad(self.pattern.mask.astype(np.float32), below)
        least = flat_below(self.pattern.count, self.quantum, self.span)
        limits = np.array([self.pattern.count, least, reach, moves, either], np.float64)
        pixels = self.pixels
        over_bands(
            lambda first, last: _climb_band(pixels, weights, mask, height, limits, first, last, at, found),
            len(at),
            band_height=32,
        )
        return at, found


def _shrunk(plane: Plane, factor: int) -> Plane:
    """The mean of each block of `factor` x `factor` pixels, a power of two."""
    while factor > 1:
        plane, factor = halved(plane), factor // 2
    return plane


def _shrunk_pattern(pattern: Pattern, factor: int) -> Pattern:
    """Of the blocks that lie wholly in the template; the first block begins with its first pixel."""
    height, width = (n // factor * factor for n in pattern.values.shape)
    values, inside = (np.ascontiguousarray(a[:height, :width], np.float32) for a in (pattern.values, pattern.mask))
    return Pattern.of(_shrunk(values, factor), _shrunk(inside, factor) > 0.999)


def _worth(pattern: Pattern, factor: int) -> float:
    """Correlation of the shrunk template with itself half a block off along both axes: what a peak reaches at least, as a share.
    0 where too little is left of the template."""
    half = factor // 2
    own = _shrunk_pattern(pattern, factor)
    off = _shrunk_pattern(Pattern(pattern.values[half:, half:], pattern.mask[half:, half:]), factor)
    height, width = (min(a, b) for a, b in zip(own.values.shape, off.values.shape, strict=True))
    both = own.mask[:height, :width] & off.mask[:height, :width]
    if own.count < _SMALLEST**2 or both.sum() < 0.5 * own.count:
        return 0.0
    if own.norm / np.sqrt(own.count) < _CONTRAST * pattern.norm / np.sqrt(pattern.count):
        return 0.0
    a, b = own.values[:height, :width][both], off.values[:height, :width][both]
    a, b = a - a.mean(), b - b.mean()
    return float(a @ b) / max(float(np.sqrt((a @ a) * (b @ b))), 1e-30)


def _chosen_factor(pattern: Pattern) -> tuple[int, float]:
    """The largest factor at which enough of the template is left, and what it is worth there; 1 if none."""
    for factor in _FACTORS:
        if min(pattern.values.shape) >= _SMALLEST * factor:
            worth = _worth(pattern, factor)
            if worth >= _KEPT:
                return factor, worth
    return 1, 1.0


def correlation_peaks(
    pixels: Plane, pattern: Pattern, quantum: float, span: float, least: float, either: bool = False
) -> Peaks | None:
    """Peaks of the correlation (as of `correlation_map`) of at least `least`: all from `SURE` on, and the best of the others.

    `either`: reversed contrast counts as well. None where the whole map is needed, or is no slower.
    """
    factor, worth = _chosen_factor(pattern)
    if factor == 1 or min(a - b for a, b in zip(pixels.shape, pattern.values.shape, strict=True)) < factor:
        return None
    levels = [_Level(pixels, pattern, 1, quantum, span)]
    while levels[-1].factor < factor:
        at = 2 * levels[-1].factor
        levels.append(_Level(halved(levels[-1].pixels), _shrunk_pattern(pattern, at), at, 0.0, span))
    coarse = levels.pop()
    whole = correlation_map(coarse.pixels, coarse.pattern, 0.0, span, _ROUGH)
    rows, columns, _ = local_maxima(np.abs(whole) if either else whole, min(least, SURE) * worth * _SLACK, whole.size)
    found = np.abs(whole[rows, columns]).astype(float)
    places = np.stack([rows, columns], axis=1)
    before = coarse.factor
    for number, level in enumerate(reversed(levels)):
        enough = SURE * (worth if number == 0 else _worth(pattern, before)) * _SLACK
        kept = int((found >= enough).sum()) + _MORE[min(number, len(_MORE) - 1)]
        if kept * _PLACES * level.pattern.count > _WORK * pixels.size:
            return None
        order = np.argsort(-found, kind="stable")[:kept]
        last = level.factor == 1
        places, values = level.followed(places[order] * 2, 2 if number == 0 else 1, _CLIMBS if last else 1, either)
        _, first = np.unique(places, axis=0, return_index=True)
        places, values = places[first], values[first]
        found, before = np.abs(values) if either else values, level.factor
    order = np.argsort(-found, kind="stable")
    order = order[found[order] >= least]
    random = np.random.default_rng(20261129)
    extent = [a - b + 1 for a, b in zip(pixels.shape, pattern.values.shape, strict=True)]
    _, values_there = levels[0].followed(random.integers(0, extent, (_SAMPLES, 2)), 0, 1, False)
    rows, columns = places[order].T
    return Peaks(rows, columns, values[order], float(np.mean(np.square(values_there))))
