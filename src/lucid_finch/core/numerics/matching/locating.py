"""Finds every place, angle and scale at which a template occurs: coarse search, then alignment from level to level.

The coarse level is where the template is about `COARSE` pixels across: fewer leave chance too many look-alikes, more cost
time. Each further level has half the pitch, down to the image's own, and keeps what still agrees.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.filtering.filters import separable
from lucid_finch.core.numerics.filtering.warping import warped
from lucid_finch.core.numerics.matching.approaching import Frame, approach
from lucid_finch.core.numerics.matching.search import best_responses, local_maxima
from lucid_finch.core.numerics.matching.views import (
    View,
    details,
    gaussian,
    locally_normalised,
    reduced,
    template_view,
    with_holes,
)
from lucid_finch.core.numerics.matching.visibility import Part

Plane = NDArray[np.float32]
Floats = NDArray[np.float64]
Cancel = Callable[[], bool]

COARSE = 20.0
"""Pixels across the template at the coarse level."""
_FINER = 25.0
"""The same for fine texture, of which little is left there."""
_FINE_TEXTURE = 0.7
FINE = 80.0
"""Pixels across the template at the level where candidates are compared with chance."""
_KEPT = (3000, 1000, 300)
"""Candidates that are followed after the coarse search and the levels after it; more where many are nearly as good as the
best."""
MOST = 10_000
"""Candidates that are followed at all."""
AS_GOOD = 0.7
"""Share of the best agreement from which on a candidate is followed however many there are."""
_GROUPED = 3
"""Neighbouring scales of which only the best pose at a place is followed."""
_FLOOR = 0.3
"""Share of the contrast of the template's details."""
_SCALE_STEP = 0.1
"""Step of the logarithm of the scale: the rim of a template of `COARSE` px moves by less than a pixel."""


@dataclass(frozen=True)
class Model:
    """A template to be found."""

    pixels: Plane
    """(h, w): grey levels, with what surrounds the template."""
    mask: NDArray[np.bool_]
    """(h, w): pixels that belong to it."""
    reference: tuple[float, float]
    """x, y of the point that a pose places."""
    noise: float
    """Grey levels."""
    _parts: dict[int, Part] = field(default_factory=dict, repr=False, compare=False)

    @property
    def side(self) -> float:
        """Side of the square of the same area, px."""
        return math.sqrt(max(int(self.mask.sum()), 1))

    def view(self, factor: float) -> View:
        """The template with so many of its pixels to one of the view."""
        return self.part(factor).view

    def part(self, factor: float) -> Part:
        """The same in blocks."""
        key = round(1000 * factor)
        if key not in self._parts:
            view = template_view(self.pixels, self.mask, factor, math.hypot(self.noise, self.floor))
            self._parts[key] = Part(view, self.noise / math.sqrt(max(factor, 1.0)))
        return self._parts[key]

    def _details(self, factor: float) -> float:
        """Root mean square of the details at a level, grey levels."""
        values, mask = reduced(self.pixels, factor), np.asarray(reduced(self.mask.astype(np.float32), factor) > 0.9)
        return float(np.sqrt(np.mean(details(values)[mask if mask.any() else ...] ** 2)))

    @cached_property
    def texture(self) -> float:
        """Details at the coarse level over those at the fine one: 1 for most patterns, more for smooth ones, less where fine
        texture averages out."""
        return self._details(max(1.0, self.side / COARSE)) / max(self._details(fine_factor(self)), 1e-9)

    @cached_property
    def floor(self) -> float:
        """Contrast below which details count less under local normalisation, grey levels: a share of that of the template's
        own. Otherwise what blur, noise and compression leave of flat areas would count as much as structure."""
        return _FLOOR * self._details(fine_factor(self))


@dataclass(frozen=True)
class Ranges:
    """Where is searched: angles in degrees, scales, and whether contrast may be reversed."""

    rotation: tuple[float, float] = (0.0, 0.0)
    scale: tuple[float, float] = (1.0, 1.0)
    either: bool = False

    @property
    def free(self) -> tuple[bool, bool]:
        """Whether angle and scale may change."""
        return self.rotation[1] > self.rotation[0], self.scale[1] > self.scale[0]

    def angles(self, step: float) -> Floats:
        """Angles (degrees) to try; a full turn has no angle twice."""
        low, high = self.rotation
        span = min(high - low, 360.0)
        count = max(1, math.ceil(span / step)) if span > 0 else 1
        if span >= 360.0:
            return np.asarray(low + span * np.arange(count) / count)
        return np.linspace(low, high, count + 1) if span > 0 else np.array([low])

    def scales(self) -> Floats:
        """Scales to try, equal factors apart."""
        low, high = math.log(self.scale[0]), math.log(self.scale[1])
        count = math.ceil((high - low) / _SCALE_STEP - 1e-9)
        return np.asarray(np.exp(np.linspace(low, high, count + 1))) if count > 0 else np.array([self.scale[0]])


@dataclass(frozen=True)
class Level:
    """The image at one size."""

    plane: Plane
    """Under local normalisation, NaN where not valid."""
    grey: Plane
    """Grey levels, NaN where not valid."""
    factor: tuple[float, float]
    """px of the image per px, along x and y."""


@dataclass(frozen=True)
class Located:
    """One entry a candidate, best first."""

    poses: Floats
    """(n, 4): x, y, angle (radians), scale."""
    dropped: int
    """Candidates beyond the most that are followed."""
    coarse: tuple[float, float]
    """px of the image per px of the coarse search."""
    log_nfa: Floats | None = None
    """-log10 of how many agreements as good chance makes, where that is known from a map of correlations."""
    of_map: tuple[float, float] = (0.0, 0.0)
    """Mean square and number of that map's values."""


@dataclass(frozen=True)
class Compared:
    """One entry a pose."""

    poses: Floats
    """(n, 4): x, y (px of the image), angle (radians), scale."""
    plain: Floats
    """Correlation, the plane being 0 beyond the image."""
    inside: Floats
    """Share of the template's pixels within the image."""


@dataclass(frozen=True)
class _Coarse:
    """What the coarse search found."""

    poses: Floats
    agreement: Floats
    dropped: int
    responses: Plane
    """The best of all poses at each place."""
    factor: tuple[float, float]
    pitch: float
    turn: float
    """Degrees between the angles that were tried."""


class Pyramid:
    """The image at every size that is asked for, made once."""

    def __init__(self, pixels: Plane, valid: NDArray[np.bool_] | None, noise: float, floor: float = 0.0) -> None:
        self.pixels, self.valid, self.noise, self.floor = pixels, valid, noise, floor
        self._levels: dict[int, Level] = {}
        self._padded: dict[int, tuple[Plane, int]] = {}

    def noise_at(self, factor: float) -> float:
        """Grey levels: the mean of several pixels has less noise, and neighbours share some of it."""
        return self.noise / math.sqrt(max(factor, 1.0))

    def padded(self, factor: float, margin: float) -> tuple[Plane, Frame]:
        """A locally normalised plane that is 0 where not valid and for at least `margin` px of the image around it, and where its
        pixels lie."""
        level = self.level(factor, holes=False)
        border = math.ceil(margin / min(level.factor)) + 2
        key = round(1000 * factor)
        if key not in self._padded or self._padded[key][1] < border:
            self._padded[key] = np.pad(level.plane, border), border
        plane, border = self._padded[key]
        return plane, Frame(level.factor, (0.5 - border) * level.factor[0] - 0.5, (0.5 - border) * level.factor[1] - 0.5)

    def level(self, factor: float, holes: bool = True) -> Level:
        """The image with so many of its pixels to one of the level."""
        holes = holes and self.valid is not None
        key = round(1000 * factor) * 2 + holes
        if key not in self._levels:
            small = reduced(self.pixels, factor)
            pitch = self.pixels.shape[1] / small.shape[1], self.pixels.shape[0] / small.shape[0]
            plane = locally_normalised(small, max(math.hypot(self.noise_at(factor), self.floor), 1e-6))
            if self.valid is not None:
                share = reduced(self.valid.astype(np.float32), factor) if small is not self.pixels else self.valid
                valid = np.asarray(share > 0.99)
                plane = with_holes(plane, valid) if holes else np.where(valid, plane, np.float32(0))
                small = with_holes(small, valid)
            self._levels[key] = Level(plane, small, pitch)
        return self._levels[key]


def coarse_factor(model: Model, ranges: Ranges) -> float:
    """px of the image per px of the coarse level."""
    middle = math.sqrt(ranges.scale[0] * ranges.scale[1])
    return max(1.0, model.side * middle / (_FINER if model.texture < _FINE_TEXTURE else COARSE))


def _posed(view: View, angle: float, reference: tuple[float, float], side: int) -> Plane:
    """The locally normalised template turned about its reference in the middle of a square, with zero mean and such a norm that a
    perfect match gives 1."""
    turn = math.radians(angle)
    cosine, sine = math.cos(turn), math.sin(turn)
    middle = side // 2
    x, y = ((reference[0] + 0.5) / view.pitch[0] - 0.5, (reference[1] + 0.5) / view.pitch[1] - 0.5)
    # Output (u, v) shows the view at the inverse turn about the reference.
    matrix = np.array([[cosine, sine, x - cosine * middle - sine * middle], [-sine, cosine, y + sine * middle - cosine * middle]])
    values = warped(view.normalised, matrix, (side, side), 0.0)
    inside = warped(view.core.astype(np.float32), matrix, (side, side), 0.0) > 0.5
    count = max(int(inside.sum()), 1)
    values = np.where(inside, values - values[inside].mean() if inside.any() else 0.0, 0.0).astype(np.float32)
    norm = math.sqrt(float((values**2).sum()) * count)
    return np.asarray(values / np.float32(max(norm, 1e-6)), np.float32)


def _middle(model: Model) -> tuple[float, float]:
    """The middle of the box around the template."""
    rows, columns = np.nonzero(model.mask.any(axis=1))[0], np.nonzero(model.mask.any(axis=0))[0]
    return 0.5 * (columns[0] + columns[-1]), 0.5 * (rows[0] + rows[-1])


def _reach(model: Model, centre: tuple[float, float]) -> float:
    """Distance of the farthest pixel of the template from a point of it."""
    rows, columns = np.nonzero(model.mask)
    return float(np.hypot(columns - centre[0], rows - centre[1]).max(initial=0.0)) + 0.71


def _coarse(
    pyramid: Pyramid, model: Model, ranges: Ranges, centre: tuple[float, float], least: float, cancelled: Cancel | None
) -> _Coarse:
    """Peaks of the best response over all angles, for each group of neighbouring scales: where a part is hidden, a smaller
    template agrees as well, and would take the place of the right one."""
    factor = coarse_factor(model, ranges)
    scales = ranges.scales()
    reach = _reach(model, centre) / factor
    level = pyramid.level(factor, holes=False)
    contrast = _contrast(level.plane, 0.3 * model.side / factor)
    groups = np.array_split(scales, -(-len(scales) // _GROUPED))
    # A larger template has a rim that moves further.
    side = 2 * math.ceil(reach * float(scales[-1]) + 1) + 1
    steps = [math.degrees(1.2 / max(0.5 * model.side * float(group[-1]) / factor, 1.0)) for group in groups]
    angles = [ranges.angles(step) for step in steps]
    kernels = [
        [_posed(model.view(factor / float(scale)), float(angle), centre, side) for scale in group for angle in turns]
        for group, turns in zip(groups, angles, strict=True)
    ]
    found = best_responses(level.plane, kernels, ranges.either, cancelled)
    responses = [each.best / contrast for each in found]
    poses, agreement, dropped = [], [], 0
    for group, turns, response, each in zip(groups, angles, responses, found, strict=True):
        # Texture has peaks without number; the strongest are followed.
        rows, columns, more = local_maxima(response, least, MOST // len(groups))
        value = response[rows, columns].astype(float)
        followed = _followed(value, 0, len(groups))
        rows, columns, dropped = rows[followed], columns[followed], dropped + more
        pose = each.which[rows, columns]
        x, y = (columns + 0.5) * level.factor[0] - 0.5, (rows + 0.5) * level.factor[1] - 0.5
        poses.append(np.stack([x, y, np.radians(turns[pose % len(turns)]), group[pose // len(turns)]], axis=1))
        agreement.append(value[followed])
    best = np.max(responses, axis=0)
    return _Coarse(np.concatenate(poses), np.concatenate(agreement), dropped, best, level.factor, factor, steps[-1])


def locate(
    pyramid: Pyramid, model: Model, ranges: Ranges, least: float, most: int, cancelled: Cancel | None = None
) -> tuple[Located, Plane]:
    """Candidates whose agreement under local normalisation is at least `least` at the coarse level, at most `most`; and the best
    agreement of all poses at each place there."""
    centre = _middle(model)
    coarse = _coarse(pyramid, model, ranges, centre, least, cancelled)
    poses, total = coarse.poses, coarse.agreement
    about = replace(model, reference=centre)
    for number, at in enumerate(_levels(coarse.pitch, fine_factor(model))):
        if cancelled is not None and cancelled():
            raise Cancelled()
        aligned = aligned_at(pyramid, about, ranges, poses, at, 4 if number == 0 else 6, 4.0 * at)
        agreement = agreement_of(aligned, ranges.either)
        total = total + agreement
        keep = np.flatnonzero((agreement > 0) & (aligned.inside > 0.4))
        # Of neighbours the one that agrees best here goes on; the sum over the levels says which places do.
        keep = keep[np.argsort(-agreement[keep], kind="stable")]
        keep = keep[distinct(aligned.poses[keep], min(0.15 * model.side, 3.0 * at), 0.5 * coarse.turn, _SCALE_STEP)]
        keep = keep[np.argsort(-total[keep], kind="stable")]
        keep = keep[_followed(total[keep], number + 1)]
        poses, total = aligned.poses[keep], total[keep]
    placed = moved_reference(poses, centre, model.reference)
    return Located(placed[:most], coarse.dropped, coarse.factor), coarse.responses


def _followed(falling: Floats, number: int, parts: int = 1) -> slice:
    """Which of the candidates of one of several `parts`, best first, go on to the next level."""
    good = int((falling >= AS_GOOD * falling[0]).sum()) if len(falling) else 0
    return slice(good + _KEPT[min(number, len(_KEPT) - 1)] // parts)


def _contrast(plane: Plane, sigma: float) -> Plane:
    """Root of the mean square around each pixel: a response divided by it is a correlation."""
    weights = gaussian(sigma)
    mean = separable(np.square(plane), weights, weights)
    return np.sqrt(np.maximum(mean, np.float32(0.05)))


def agreement_of(aligned: Compared, either: bool) -> Floats:
    """Correlation under local normalisation, less for what lies beyond the border: the plane is 0 there, which takes off a root
    of the share, and so does this."""
    return (np.abs(aligned.plain) if either else aligned.plain) * np.sqrt(aligned.inside)


def moved_reference(poses: Floats, before: tuple[float, float], after: tuple[float, float]) -> Floats:
    """The same poses, given as the place of another point of the template."""
    dx, dy = after[0] - before[0], after[1] - before[1]
    cosine, sine = poses[:, 3] * np.cos(poses[:, 2]), poses[:, 3] * np.sin(poses[:, 2])
    x, y = poses[:, 0] + cosine * dx - sine * dy, poses[:, 1] + sine * dx + cosine * dy
    return np.stack([x, y, poses[:, 2], poses[:, 3]], axis=1)


def fine_factor(model: Model) -> float:
    """px of the image per px of the level where candidates are compared with chance."""
    return max(1.0, model.side / FINE)


def _levels(factor: float, last: float) -> list[float]:
    """Pitches from the coarse one to the fine one, each half of the one before."""
    found = [factor]
    while found[-1] > 1.25 * last:
        found.append(max(last, 0.5 * found[-1]))
    return found


def nearest_scales(poses: Floats, scales: Floats) -> NDArray[np.int64]:
    """For each pose which of the scales is nearest: the view of the template that it is compared with."""
    return np.argmin(np.abs(np.log(poses[:, 3])[:, None] - np.log(scales)[None, :]), axis=1)


def aligned_at(
    pyramid: Pyramid, model: Model, ranges: Ranges, poses: Floats, factor: float, rounds: int, most: float
) -> Compared:
    """Poses moved to where a level of the image agrees best with the view of the nearest scale, both locally normalised."""
    plane, pitch = pyramid.padded(factor, _reach(model, model.reference) * ranges.scale[1] * 1.1 + most)
    scales = ranges.scales()
    nearest = nearest_scales(poses, scales)
    moved, plain, inside = np.array(poses, np.float64), np.zeros(len(poses)), np.zeros(len(poses))
    for k, scale in enumerate(scales):
        chosen = np.flatnonzero(nearest == k)
        if not len(chosen):
            continue
        view = model.view(factor / float(scale))
        given = pitch, view.places(model.reference), view.normalised[view.mask], view.slopes(view.normalised)
        moved[chosen], found = approach(plane, *given, poses[chosen], ranges.free, rounds, most)
        plain[chosen] = np.nan_to_num(found)
        inside[chosen] = _share_inside(pyramid.pixels.shape, given[1], moved[chosen])
    return Compared(moved, plain, inside)


_SAMPLES = 64
"""Pixels of a template from which its share in the image is estimated."""


def _share_inside(shape: tuple[int, ...], places: tuple[Floats, Floats], poses: Floats) -> Floats:
    """Share of the template's pixels that lie within the image, for each pose."""
    step = max(1, len(places[0]) // _SAMPLES)
    px, py = (p[step // 2 :: step] for p in places)
    cosine, sine = (poses[:, 3] * f(poses[:, 2]) for f in (np.cos, np.sin))
    u = poses[:, :1] + cosine[:, None] * px - sine[:, None] * py
    v = poses[:, 1:2] + sine[:, None] * px + cosine[:, None] * py
    within = (u >= -0.5) & (u <= shape[1] - 0.5) & (v >= -0.5) & (v <= shape[0] - 0.5)
    return np.asarray(within.mean(axis=1), np.float64)


def distinct(poses: Floats, near: float, turn: float = 360.0, grow: float = math.inf) -> NDArray[np.int64]:
    """Of poses in order, those that are not the same as an earlier one: closer than `near` px, `turn` degrees and `grow` in the
    logarithm of the scale."""
    kept: list[int] = []
    cells: dict[tuple[int, int], list[int]] = {}
    for k in range(len(poses)):
        x, y, angle, scale = poses[k]
        if not (math.isfinite(x) and math.isfinite(y)):
            continue
        column, row = int(x // near), int(y // near)
        around = [i for c in (-1, 0, 1) for r in (-1, 0, 1) for i in cells.get((column + c, row + r), ())]
        same = any(
            math.hypot(poses[i, 0] - x, poses[i, 1] - y) < near
            and abs(math.remainder(poses[i, 2] - angle, 2 * math.pi)) < math.radians(turn)
            and abs(math.log(poses[i, 3] / scale)) < grow
            for i in around
        )
        if not same:
            kept.append(k)
            cells.setdefault((column, row), []).append(k)
    return np.array(kept, np.int64)


__all__ = ["MOST", "Located", "Model", "Pyramid", "Ranges", "aligned_at", "locate"]
