"""What a candidate of a template is worth: its correlation, how much of it is visible, error bars, and how often chance does
as well.

Chance is measured on the image itself: the template is compared with it in random poses, and the spread of these agreements,
texture and repeated structure included, is the scale against which a candidate counts.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.matching.alignment import Aligned, align, sampled
from lucid_finch.core.numerics.matching.locating import (
    FINE,
    Floats,
    Located,
    Model,
    Pyramid,
    Ranges,
    agreement_of,
    aligned_at,
    fine_factor,
    nearest_scales,
)
from lucid_finch.core.numerics.matching.views import View

_RANDOM_POSES = 300
_BLOCKS = 8
"""Blocks along the side of a template, each of which is visible or hidden as a whole."""
_FEWEST = 16
"""Pixels of a block, at least."""
_HIDDEN = 0.55
"""Root mean square residual, in standard deviations of the template, above which a block is hidden."""
_BESIDE = 1.7
"""The same in typical residuals: a block is hidden only above both."""
_HALVED = 40.0
"""Side of a template from which on its score is also taken at half the size."""
_DIFFERENT = 0.4
"""Correlation within a block, as a share of what the noise allows, below which the block shows something else."""
_ALIGNED = 1.7
"""A candidate was moved to where it agrees best, and images hold structure: so many times the spread of random poses is
chance."""
_MEASURED = 12
"""Candidates that are measured at full size in any case; others only where chance makes fewer than `MANY` of them."""
MANY = 1e3
"""The same, at least, whatever false alarms are allowed."""


@dataclass(frozen=True)
class Verified:
    """One entry a candidate."""

    poses: Floats
    """(n, 4): x, y, angle (radians), scale."""
    score: Floats
    """0 to 1."""
    correlation: Floats
    """Of all its pixels within the image, -1 to 1."""
    visible: Floats
    """Share of its pixels that are in the image and fit."""
    reversed_: NDArray[np.bool_]
    """Whether its contrast is reversed."""
    errors: Floats
    """(n, 4): standard deviations of x, y (px), angle (degrees) and scale."""
    log_nfa: Floats


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


def log_tail(z: Floats) -> Floats:
    """log10 of the chance that a normal deviate exceeds z."""
    from scipy import special  # here, since loading it takes a tenth of a second

    return np.asarray(special.log_ndtr(-np.asarray(z, float)) / math.log(10))


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
    return np.asarray(-np.log10(np.maximum(chance, 1e-300)) - math.log10(max(count, 1.0)))


def tests(pyramid: Pyramid, model: Model, ranges: Ranges) -> float:
    """log10 of how many poses can be told apart: places a pixel of the fine level apart, angles and scales that move the rim
    by one."""
    factor = fine_factor(model)
    height, width = pyramid.pixels.shape
    reach = max(0.5 * model.side / factor, 1.0)
    angles = max(1.0, math.radians(min(ranges.rotation[1] - ranges.rotation[0], 360.0)) * reach)
    scales = max(1.0, math.log(ranges.scale[1] / ranges.scale[0]) * reach)
    return math.log10(max(height * width / factor**2, 1.0) * angles * scales * (2 if ranges.either else 1))


def verify(
    pyramid: Pyramid,
    model: Model,
    ranges: Ranges,
    located: Located,
    quantum: float,
    similarity: str = "intensity",
    many: float = MANY,
    cancelled: Callable[[], bool] | None = None,
) -> Verified:
    """Measure the candidates of which chance makes fewer than `many`, and the best others, at full size. `quantum`: step between
    grey levels."""
    if not len(located.poses):
        none = np.zeros(0)
        return Verified(np.zeros((0, 4)), none, none, none, none.astype(bool), np.zeros((0, 4)), none)
    spread = {pitch: by_chance(pyramid, model, ranges, pitch) for pitch in _pitches(model)}
    poses = located.poses
    expected = _expected(pyramid, model, ranges, poses, spread)
    if located.log_nfa is not None:
        expected = np.maximum(expected, located.log_nfa)
    order = np.argsort(-expected, kind="stable")
    order = order[: max(_MEASURED, int((expected >= -math.log10(many)).sum()))]
    grey = similarity == "intensity"
    aligned = aligned_at(pyramid, model, ranges, poses[order], 1.0, 8, 0.25 * model.side + 2.0, grey)
    found = [_one(pyramid, model, ranges, aligned, n, quantum) for n in _unless(cancelled, range(len(order)))]
    columns = [np.array([one[k] for one in found], float).reshape(len(found), -1) for k in range(5)]
    poses = columns[0].reshape(-1, 4)
    score, correlation, visible = (column[:, 0] if len(column) else np.zeros(0) for column in columns[1:4])
    log_nfa = _expected(pyramid, model, ranges, poses, spread)
    if located.log_nfa is not None:
        varied, count = located.of_map
        log_nfa = np.maximum(log_nfa, by_correlation(np.abs(correlation), varied, int(model.mask.sum()), count))
    return Verified(poses, score, correlation, visible, correlation < 0, columns[4].reshape(-1, 4), log_nfa)


def _unless(cancelled: Callable[[], bool] | None, numbers: range) -> Iterator[int]:
    for number in numbers:
        if cancelled is not None and cancelled():
            raise Cancelled()
        yield number


def _expected(pyramid: Pyramid, model: Model, ranges: Ranges, poses: Floats, spread: Mapping[float, float]) -> Floats:
    """-log10 of how many such agreements chance makes in the image, at the level where that is least."""
    found = np.full(len(poses), -np.inf)
    for pitch, chance in spread.items():
        agreement = agreement_of(aligned_at(pyramid, model, ranges, poses, pitch, 0, 1.0), ranges.either)
        found = np.maximum(found, -log_tail(agreement / chance) - math.log10(len(spread)))
    return np.asarray(found - tests(pyramid, model, ranges))


def _one(pyramid: Pyramid, model: Model, ranges: Ranges, aligned: Aligned, n: int, quantum: float) -> tuple[Any, ...]:
    """Pose, score, correlation, visible share and errors of one candidate; where a part is hidden, it is aligned by the rest
    alone."""
    scales = ranges.scales()
    pose = aligned.poses[n : n + 1]
    view = model.view(1.0 / float(scales[nearest_scales(pose, scales)[0]]))
    template = view.values[view.mask].astype(np.float64)
    slopes, places = view.slopes(view.values), view.places(model.reference)
    blocks, sizes = _blocks(view)
    level = pyramid.level(1.0)
    normal, scale = aligned.normal[n : n + 1], aligned.scale[n : n + 1]
    measured = _measured(sampled(level.grey, level.factor, places, pose)[0], template, blocks, sizes, ranges.either)
    for _ in range(2):
        shown = measured.shown
        if shown.all() or shown.sum() < 0.2 * len(shown):
            break
        part = places[0][shown], places[1][shown]
        again = align(
            level.grey, level.factor, part, template[shown], slopes[:, shown], pose, ranges.free, 8, 0.1 * model.side + 2.0, True
        )
        after = _measured(sampled(level.grey, level.factor, places, again.poses)[0], template, blocks, sizes, ranges.either)
        if after.score < measured.score:
            break
        pose, normal, scale, measured = again.poses, again.normal, again.scale, after
    errors = _errors(normal, scale, ranges.free, quantum, pose[:, 3])[0]
    score, visible = measured.score, float(measured.shown.mean())
    if model.side >= _HALVED:
        # Blur and noise of single pixels lower the correlation of a right match; at half the size they hardly do.
        half = _measured_at(pyramid, model, ranges, pose, 2.0)
        if half.score > score:
            score, visible = half.score, float(half.shown.mean())
    return pose[0], score, measured.correlation, visible, errors


def _measured_at(pyramid: Pyramid, model: Model, ranges: Ranges, pose: Floats, pitch: float) -> _Measured:
    """One pose at a level."""
    scales = ranges.scales()
    view = model.view(pitch / float(scales[nearest_scales(pose, scales)[0]]))
    level = pyramid.level(pitch)
    seen = sampled(level.grey, level.factor, view.places(model.reference), pose)[0]
    return _measured(seen, view.values[view.mask].astype(np.float64), *_blocks(view), ranges.either)


@dataclass(frozen=True)
class _Measured:
    correlation: float
    score: float
    shown: NDArray[np.bool_]
    """Pixels that are in the image and fit."""


def _blocks(view: View) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The block of each pixel of the template, and the pixels of each block."""
    rows, columns = np.nonzero(view.mask)
    side = max(math.sqrt(len(rows)) / _BLOCKS, math.sqrt(_FEWEST))
    across = int(columns.max() // side) + 1
    blocks = (rows // side).astype(np.int64) * across + (columns // side).astype(np.int64)
    _, numbered = np.unique(blocks, return_inverse=True)
    return numbered, np.bincount(numbered)


def _measured(seen: Any, template: Floats, blocks: NDArray[np.int64], sizes: NDArray[np.int64], either: bool) -> _Measured:
    """One candidate from the image's values at the template's pixels."""
    inside = np.isfinite(seen)
    if inside.sum() < 4:
        return _Measured(0.0, 0.0, inside)
    values = np.where(inside, seen, 0.0).astype(np.float64)
    plain = _correlation(values, template, inside)
    shown = inside
    for _ in range(3):
        gain, offset = gain_and_offset(values, template, shown)
        contrast = abs(gain) * float(template[shown].std())
        off = np.where(inside, values - gain * template - offset, 0.0)
        # By the median, so that what is hidden does not widen what is allowed.
        typical = 1.4826 * float(np.median(np.abs(off[shown])))
        allowed = max(_BESIDE * typical, _HIDDEN * contrast)
        count = np.maximum(np.bincount(blocks, inside), 1)
        rms = np.sqrt(np.bincount(blocks, off**2) / count)
        fits = (
            (rms <= allowed) & (count >= 0.5 * sizes) & _structure_agrees(values, template, inside, blocks, count, gain, typical)
        )
        after = inside & fits[blocks]
        if after.sum() < 4 or (after == shown).all():
            break
        shown = after
    share = float(shown.sum()) / len(values)
    part = _correlation(values, template, shown)
    if not either:
        plain_score, part_score = max(plain, 0.0), max(part, 0.0)
    else:
        plain_score, part_score = abs(plain), abs(part)
    return _Measured(plain, max(plain_score * float(inside.mean()), part_score * share), shown)


def _structure_agrees(
    values: Floats, template: Floats, inside: NDArray[np.bool_], blocks: NDArray[np.int64], count: Any, gain: float, noise: float
) -> NDArray[np.bool_]:
    """For each block whether the image varies as the template does there; true where the template hardly varies, or where what
    it varies by would not show above the noise."""
    first, second = np.where(inside, values, 0.0), np.where(inside, template, 0.0)
    a, b = np.bincount(blocks, first) / count, np.bincount(blocks, second) / count
    one = np.maximum(np.bincount(blocks, first**2) / count - a**2, 0.0)
    other = np.maximum(np.bincount(blocks, second**2) / count - b**2, 0.0)
    both = np.bincount(blocks, first * second) / count - a * b
    correlation = both * math.copysign(1.0, gain) / np.maximum(np.sqrt(one * other), 1e-12)
    shows = gain**2 * other > max(noise**2, 0.2 * gain**2 * float(template[inside].var()))
    expected = 1.0 / np.sqrt(1.0 + noise**2 / np.maximum(gain**2 * other, 1e-12))
    return np.asarray(~shows | (correlation > _DIFFERENT * expected))


def gain_and_offset(values: Floats, template: Floats, used: NDArray[np.bool_]) -> tuple[float, float]:
    """Gain and offset with values = gain * template + offset, by repeated least squares that give less to what is far off."""
    weights = used.astype(np.float64)
    gain = offset = 0.0
    for _ in range(4):
        total = max(float(weights.sum()), 1e-12)
        a, b = float(weights @ values) / total, float(weights @ template) / total
        varied = float(weights @ (template - b) ** 2)
        gain = float(weights @ ((values - a) * (template - b))) / varied if varied > 0 else 0.0
        offset = a - gain * b
        off = np.abs(values - gain * template - offset)
        limit = max(3 * 1.4826 * float(np.median(off[used])), 1e-9)
        weights = used / (1.0 + (off / limit) ** 2) ** 2
    return gain, offset


def _correlation(values: Floats, template: Floats, used: NDArray[np.bool_]) -> float:
    a, b = values[used], template[used]
    a, b = a - a.mean(), b - b.mean()
    norm = math.sqrt(float(a @ a) * float(b @ b))
    return float(a @ b) / norm if norm > 1e-9 * len(a) else 0.0


def _errors(normal: Floats, scale: Floats, free: tuple[bool, bool], quantum: float, sizes: Floats) -> Floats:
    """(n, 4): standard deviations from the normal equations, the residuals' noise and the rounding of grey levels."""
    chosen = [0, 1, *(2 + k for k in (0, 1) if free[k])]
    errors = np.zeros((len(normal), 4))
    if len(normal):
        part = normal[:, chosen][:, :, chosen] + 1e-9 * np.eye(len(chosen))
        inverse = np.diagonal(np.linalg.pinv(part, hermitian=True), axis1=1, axis2=2)
        errors[:, chosen] = np.sqrt(np.maximum(inverse, 0) * (scale**2 + quantum**2 / 12)[:, None])
    errors[:, 2] = np.degrees(errors[:, 2])
    errors[:, 3] *= sizes
    return errors
