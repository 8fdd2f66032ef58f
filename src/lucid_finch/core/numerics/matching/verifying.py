"""Measures candidates of a template at full size: score, visible share, error bars, and how often chance does as well."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.matching.alignment import Window, align, sampled
from lucid_finch.core.numerics.matching.chance import Chance, by_correlation
from lucid_finch.core.numerics.matching.locating import Floats, Located, Model, Pyramid, Ranges, nearest_scales
from lucid_finch.core.numerics.matching.visibility import Measured, Part, measured, orientation_agreement

_FEWEST_ACROSS = 24.0
"""px across the template below which it is not measured at a reduced size."""
_REDUCED = (2.0, 4.0)
"""Blur and noise of single pixels lower the correlation of a right match; at these sizes, px to one, they hardly do."""
_MEASURED = 8
"""Candidates that are measured at full size besides those of which chance makes fewer than `MANY`: the best look-alikes."""
MANY = 10.0
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
    poses, grey = located.poses, similarity == "intensity"
    chance = Chance(pyramid, model, ranges, poses)
    expected = chance.of_candidates
    if located.log_nfa is not None:
        expected = np.maximum(expected, located.log_nfa)
    order = np.argsort(-expected, kind="stable")
    order = order[: _MEASURED + int((expected >= -math.log10(many)).sum())]
    found = [_one(pyramid, model, ranges, poses[n : n + 1], quantum, grey) for n in _unless(cancelled, order)]
    poses = np.array([one.pose for one in found])
    score, correlation, visible = (np.array([getattr(one, k) for one in found]) for k in ("score", "correlation", "visible"))
    expected = chance.log_nfa(poses)
    if located.log_nfa is not None:
        varied, count = located.of_map
        expected = np.maximum(expected, by_correlation(np.abs(correlation), varied, int(model.mask.sum()), count))
    errors = np.array([one.errors for one in found])
    return Verified(poses, score, correlation, visible, correlation < 0, errors, expected)


def _unless(cancelled: Callable[[], bool] | None, numbers: Iterable[int]) -> Iterator[int]:
    for number in numbers:
        if cancelled is not None and cancelled():
            raise Cancelled()
        yield number


@dataclass(frozen=True)
class _One:
    """A candidate at full size."""

    pose: Floats
    score: float
    correlation: float
    visible: float
    errors: Floats


def _one(pyramid: Pyramid, model: Model, ranges: Ranges, pose: Floats, quantum: float, grey: bool) -> _One:
    """Measure one candidate, aligned by its visible part alone: what is hidden would pull.

    `grey`: by grey levels, else under local normalisation.
    """
    part, level = _part_at(model, ranges, pose, 1.0), pyramid.level(1.0)
    view, places = part.view, part.view.places(model.reference)
    plane, values, template = (level.grey, view.values, part.values) if grey else (level.plane, view.normalised, part.normalised)
    slopes, most = view.slopes(values), 0.1 * model.side + 2.0
    here = _measured_at(pyramid, model, part, pose, 1.0, ranges.either, grey)
    reach = float(np.hypot(*places).max(initial=0.0)) * pose[0, 3] * 1.1 + 2.0 * most
    window = Window.around(plane, pose[0, 0], pose[0, 1], reach)
    normal, scale = np.zeros((1, 4, 4)), np.zeros(1)
    for round_ in range(3):
        shown = here.shown if here.shown.sum() >= 0.2 * here.shown.size else np.ones(here.shown.size, bool)
        seen = places[0][shown], places[1][shown]
        again = align(window, seen, template[shown], slopes[:, shown], pose, ranges.free, 8, most)
        after = _measured_at(pyramid, model, part, again.poses, 1.0, ranges.either, grey)
        if round_ and after.score <= here.score:
            break
        pose, normal, scale, here = again.poses, again.normal, again.scale, after
        if shown.all() and here.shown.all():
            break
    sizes = [pitch for pitch in _REDUCED if model.side * pose[0, 3] >= _FEWEST_ACROSS * pitch]
    others = [
        _measured_at(pyramid, model, _part_at(model, ranges, pose, pitch), pose, pitch, ranges.either, grey) for pitch in sizes
    ]
    best = max([here, *others], key=lambda m: m.score)
    errors = _errors(normal, scale, ranges.free, quantum, pose[:, 3])[0]
    return _One(pose[0], best.score, here.correlation, float(best.shown.mean()), errors)


def _part_at(model: Model, ranges: Ranges, pose: Floats, pitch: float) -> Part:
    """The template as it is compared with a level, px of the image per px, in one pose."""
    scales = ranges.scales()
    return model.part(pitch / float(scales[nearest_scales(pose, scales)[0]]))


def _measured_at(pyramid: Pyramid, model: Model, part: Part, pose: Floats, pitch: float, either: bool, grey: bool) -> Measured:
    """How a part agrees with a level of the image in one pose; `grey`: by grey levels, else by directions of the gradient."""
    level = pyramid.level(pitch)
    places = part.view.places(model.reference)
    seen, local = (sampled(plane, level.factor, places, pose)[0] for plane in (level.grey, level.plane))
    found = measured(part, seen, local, pyramid.noise_at(pitch), either)
    if grey:
        return found
    upright = sampled(level.grey, level.factor, part.view.all_places(model.reference), pose)[0]
    return replace(found, score=orientation_agreement(part, upright.reshape(part.view.values.shape), found.shown, either))


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
