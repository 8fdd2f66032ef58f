"""How often chance makes a template agree as well with an image, measured on the image itself.

The template is compared with the image in random poses, and the spread of these agreements, texture and repeated structure
included, is the scale against which a candidate counts.
"""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from lucid_finch.core.numerics.matching.locating import (
    AS_GOOD,
    FINE,
    Floats,
    Model,
    Pyramid,
    Ranges,
    agreement_of,
    aligned_at,
    distinct,
    fine_factor,
)
from lucid_finch.core.numerics.normal_tail import log_tail

_RANDOM_POSES = 300
_ALIGNED = 1.7
"""A candidate was moved to where it agrees best, and images hold structure: so many times the spread of random poses is
chance."""
_SAME, _COPY = 1e-7, 20.0
"""A correlation this near to 1 is that of a copy, and the log_nfa that it has at least."""
_AFTER = 8
"""The candidate that shows how well chance agrees: so many places after those that stand out."""
_FEWEST = 24
"""Candidates at distinct places from which on they are compared."""
_WIDER = 1.2
"""Factor on that spread: the best look-alikes agree better than a normal law fitted to the others predicts."""


def _pitches(model: Model) -> tuple[float, ...]:
    """Levels at which candidates are compared with chance: the finer has more independent pixels, the coarser less noise."""
    fine = fine_factor(model)
    coarse = max(1.0, 2.0 * model.side / FINE)
    return (fine,) if coarse <= 1.2 * fine else (fine, coarse)


def by_chance(pyramid: Pyramid, model: Model, ranges: Ranges, pitch: float) -> float:
    """Standard deviation of the agreement of the template with the image in random poses at a level, by whichever of middle
    and tail is wider, and what alignment adds."""
    height, width = pyramid.pixels.shape
    random = np.random.default_rng(20261129)
    low, high = ranges.rotation
    log_low, log_high = math.log(ranges.scale[0]), math.log(ranges.scale[1])
    n = _RANDOM_POSES
    poses = np.stack(
        [
            random.uniform(0, width, n), random.uniform(0, height, n),
            np.radians(random.uniform(low, high, n)), np.exp(random.uniform(log_low, log_high, n)),
        ],
        axis=1,
    )  # fmt: skip
    centred = aligned_at(pyramid, model, ranges, poses, pitch, 0, 1.0)
    seen = centred.plain[centred.inside > 0.5]
    if len(seen) < 20:
        return _ALIGNED * 0.3
    middle = 1.4826 * float(np.median(np.abs(seen)))
    tail = float(np.quantile(np.abs(seen), 0.95)) / 1.96
    return _ALIGNED * max(middle, tail, 0.5 * pitch / max(model.side, 2.0))


def by_correlation(values: Floats, varied: float, pixels: int, count: float) -> Floats:
    """-log10 of how many of `count` correlations chance makes as large, by their mean square `varied` over the image.

    Of n independent pairs of values, 1 / (n - 1) is the mean square, and (1 + r) / 2 follows a beta law (Fisher, Biometrika
    10, 1915).
    """
    from scipy import special

    # As with random poses, a map holds structure besides chance.
    free = min(1.0 / max(_ALIGNED**2 * varied, 1e-6), max(pixels - 1.0, 2.0))
    r = np.clip(np.asarray(values, float), -1.0, 1.0 - 1e-12)
    chance = special.betainc(0.5 * max(free - 1.0, 1.0), 0.5 * max(free - 1.0, 1.0), 0.5 * (1.0 - r))
    found = -np.log10(np.maximum(chance, 1e-300)) - math.log10(max(count, 1.0))
    # What is the same pixel for pixel is a copy, however smooth it is.
    return np.asarray(np.where(r > 1.0 - _SAME, np.maximum(found, _COPY), found))


def tests(pyramid: Pyramid, model: Model, ranges: Ranges) -> float:
    """log10 of how many poses can be told apart: places a pixel of the fine level apart, angles and scales that move the rim
    by one."""
    factor = fine_factor(model)
    height, width = pyramid.pixels.shape
    reach = max(0.5 * model.side / factor, 1.0)
    angles = max(1.0, math.radians(min(ranges.rotation[1] - ranges.rotation[0], 360.0)) * reach)
    scales = max(1.0, math.log(ranges.scale[1] / ranges.scale[0]) * reach)
    return math.log10(max(height * width / factor**2, 1.0) * angles * scales * (2 if ranges.either else 1))


class Chance:
    """How likely agreements are by chance, in one image."""

    def __init__(self, pyramid: Pyramid, model: Model, ranges: Ranges, poses: Floats) -> None:
        """`poses` (n, 4): all candidates that were aligned, right or wrong."""
        self.pyramid, self.model, self.ranges = pyramid, model, ranges
        self.tests = tests(pyramid, model, ranges)
        self.spread = {}
        """Standard deviation of chance for each level, px of the image per px."""
        agreements = {pitch: self._agreement(poses, pitch) for pitch in _pitches(model)}
        for pitch, agreement in agreements.items():
            falling = self._distinct(poses, agreement)
            self.spread[pitch] = max(by_chance(pyramid, model, ranges, pitch), look_alikes(falling, self.tests))
        self.of_candidates = self._log_nfa(agreements)
        """-log10 of how many agreements as good as those of `poses` chance makes."""

    def _agreement(self, poses: Floats, pitch: float) -> Floats:
        return agreement_of(aligned_at(self.pyramid, self.model, self.ranges, poses, pitch, 0, 1.0), self.ranges.either)

    def _distinct(self, poses: Floats, agreement: Floats) -> Floats:
        """Agreements of the candidates that do not lie on a better one, falling."""
        order = np.argsort(-agreement, kind="stable")
        near = 0.4 * self.model.side * float(np.median(poses[:, 3])) if len(poses) else 1.0
        return agreement[order][distinct(poses[order], near)]

    def log_nfa(self, poses: Floats) -> Floats:
        """-log10 of how many such agreements chance makes in the image, at the level where that is least."""
        return self._log_nfa({pitch: self._agreement(poses, pitch) for pitch in self.spread})

    def _log_nfa(self, agreements: Mapping[float, Floats]) -> Floats:
        by_level = [-log_tail(agreement / self.spread[pitch]) for pitch, agreement in agreements.items()]
        return np.asarray(np.max(by_level, axis=0) - math.log10(len(by_level)) - self.tests)


def look_alikes(falling: Floats, tests: float) -> float:
    """Standard deviation of chance from the agreements of candidates at distinct places, best first.

    Parts of an image resemble the template: edges agree with edges. The candidates that rank after the outstanding ones are such
    places; the spread is the one for which chance makes `_AFTER` of them among 10 ** `tests`. The outstanding ones are counted
    by iteration from above: a limit that is too low counts too many, and rises in the next round.
    """
    from scipy import special

    if len(falling) < _FEWEST:
        return 0.0
    good = int((falling >= AS_GOOD * falling[0]).sum())
    after, accepted = (-float(special.ndtri(min(count / 10**tests, 0.4))) for count in (_AFTER, 0.01))
    outstanding, spread = (len(falling) + good) // 2, 0.0
    for _ in range(len(falling)):
        spread = _WIDER * max(float(falling[min(outstanding + _AFTER, len(falling) - 1)]), 0.0) / after
        count = int((falling >= accepted * spread).sum())
        if count >= outstanding:
            break
        outstanding = count
    return spread
