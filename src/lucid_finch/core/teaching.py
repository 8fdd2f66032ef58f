"""Teaching a template: cuts it out of an image with a margin, says how good it is, and averages it over its matches."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.luma import as_luma
from lucid_finch.core.numerics.filtering.filters import separable
from lucid_finch.core.numerics.filtering.warping import warped
from lucid_finch.core.numerics.matching.alignment import sampled
from lucid_finch.core.numerics.matching.correlation import Pattern, correlation_map
from lucid_finch.core.numerics.matching.views import gaussian, reduced
from lucid_finch.core.numerics.matching.visibility import correlation, gain_and_offset
from lucid_finch.core.regions import Region, box_in, masked_pixels, region_of

MARGIN = 12
"""px of surroundings that are kept around a template: what its preparation needs."""
_INDISTINCT = 0.97
STEP_SCORE = 0.9
"""The score to which a step of angle or scale lowers that of a template with itself."""
_DIFFERS, _DIFFERS_BY = 3.0, 0.04
"""A pixel differs from match to match if its standard deviation is so many typical ones, and so much of the value range."""
_LARGEST = 2_000_000
"""Pixels of an image in which look-alikes are sought at full size."""


@dataclass(frozen=True)
class Taught:
    """A template as it was cut out."""

    image: Image
    """Pixels of the source, with the margin."""
    outline: dict[str, Any] | None
    """The taught region in pixels of that picture; None: all of it."""
    across: float
    """Its correlation with itself one px along x: 1 would not fix the place."""
    down: float
    turn: float
    """Degrees by which it may be turned until its score is `STEP_SCORE`; NaN where any turn keeps more."""
    growth: float
    """The same of its scale, in percent."""
    look_alike: tuple[float, float, float]
    """Score, x and y of what agrees best with it elsewhere in the image, at the same angle and size; NaN where nothing else has
    room."""

    @property
    def quality(self) -> str:
        """How good a template it is, in words."""
        if max(self.across, self.down) < _INDISTINCT:
            place = f"a shift by 1 px lowers its score to {self.across:.2f} along x and {self.down:.2f} along y"
        else:
            along = " and ".join(axis for axis, value in (("x", self.across), ("y", self.down)) if value >= _INDISTINCT)
            most = max(self.across, self.down)
            place = f"it hardly fixes the place along {along}: a shift by 1 px keeps a score of {most:.3f}"
        turn = "any angle" if math.isnan(self.turn) else f"{self.turn:.1f}°"
        growth = "any scale" if math.isnan(self.growth) else f"{self.growth:.1f} % of scale"
        score, x, y = self.look_alike
        other = "" if math.isnan(score) else f"; most alike elsewhere at this angle: {score:.2f} at ({x:.0f}, {y:.0f})"
        return f"{place}; {turn} and {growth} lower it to {STEP_SCORE}{other}"


def taught_kind() -> str:
    """The kind of detector that looks for what was taught: the one that takes a picture and a region of it."""
    return next(name for name, kind in KINDS.items() if any(d.of_picture for d in kind.Parameters.declarations().values()))


def teach(image: Image, region: Mapping[str, Any]) -> Taught:
    """Cut a template out of an image that nothing was done to. `region` as plain data. Raises `ParameterError`."""
    shape = region_of(dict(region))
    left, top, right, bottom = box_in(image, shape)
    inside = shape.contains(np.arange(left, right, dtype=float)[None, :], np.arange(top, bottom, dtype=float)[:, None])
    rows, columns = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
    if len(rows) < 2 or len(columns) < 2:
        raise ParameterError("template: the region holds too little of the image for a template")
    x0, y0 = max(left + int(columns[0]) - MARGIN, 0), max(top + int(rows[0]) - MARGIN, 0)
    x1, y1 = min(left + int(columns[-1]) + 1 + MARGIN, image.width), min(top + int(rows[-1]) + 1 + MARGIN, image.height)
    part = np.ascontiguousarray(image.pixels[y0:y1, x0:x1])
    cut = replace(
        image, pixels=part, mask=None, frame=Frame(), source_size=(x1 - x0, y1 - y0), name="template", notes=(), valid_region=None
    )
    outline = _moved(dict(region), -x0, -y0)
    grey = as_luma(cut).pixels.astype(np.float32)
    masked = masked_pixels(cut, region_of(outline), 0)
    mask = np.ones(grey.shape, bool) if masked is None else masked == 0
    if mask.sum() < 4:
        raise ParameterError("template: the region holds too little of the image for a template")
    if float(np.ptp(grey[mask])) <= 0.0:
        raise ParameterError("template: the region has the same value everywhere, so that it would agree with nothing")
    across, down = _sharpness(grey, mask, image)
    turn, growth = _steps(grey, mask)
    box = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    place = x0 + int(box[1][0]), y0 + int(box[0][0])
    return Taught(cut, outline, across, down, turn, growth, _look_alike(grey, mask, image, place))


def _steps(grey: np.ndarray, mask: np.ndarray) -> tuple[float, float]:
    """The turn (degrees) and the growth (percent) that lower the score of a template with itself to `STEP_SCORE`."""
    rows, columns = np.nonzero(mask)
    middle = columns.mean(), rows.mean()
    size = grey.shape[1], grey.shape[0]
    values, inside = grey.astype(np.float32), mask.astype(np.float32)

    def score(angle: float, scale: float) -> float:
        cosine, sine = math.cos(angle) / scale, math.sin(angle) / scale
        matrix = np.array(
            [
                [cosine, sine, middle[0] - cosine * middle[0] - sine * middle[1]],
                [-sine, cosine, middle[1] + sine * middle[0] - cosine * middle[1]],
            ]
        )
        both = mask & (warped(inside, matrix, size, 0.0) > 0.99)
        return correlation(warped(values, matrix, size, 0.0).astype(np.float64), values.astype(np.float64), both)

    def until(change: Callable[[float], float], steps: np.ndarray) -> float:
        scores = [1.0, *(change(float(step)) for step in steps)]
        for k in range(1, len(scores)):
            if scores[k] < STEP_SCORE:
                share = (scores[k - 1] - STEP_SCORE) / (scores[k - 1] - scores[k])
                before = 0.0 if k == 1 else float(steps[k - 2])
                return before + share * (float(steps[k - 1]) - before)
        return math.nan

    turns, growths = np.geomspace(0.5, 60.0, 24), np.geomspace(0.5, 40.0, 20)
    return until(lambda turn: score(math.radians(turn), 1.0), turns), until(lambda p: score(0.0, 1.0 + p / 100), growths)


def _look_alike(grey: np.ndarray, mask: np.ndarray, image: Image, place: tuple[int, int]) -> tuple[float, float, float]:
    """Score and place (of its middle) of what agrees best with a template elsewhere in its image; `place`: its first pixel."""
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    part, used = (a[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1] for a in (grey, mask))
    whole = np.ascontiguousarray(as_luma(image).pixels, np.float32)
    factor = math.sqrt(max(whole.size / _LARGEST, 1.0))
    if factor > 1.0 and min(part.shape) / factor >= 8:
        whole, part = reduced(whole, factor), reduced(part, factor)
        used = np.asarray(reduced(used.astype(np.float32), factor) > 0.5)
    else:
        factor = 1.0
    scores = correlation_map(whole, Pattern.of(part, used), image.quantum, image.span)
    height, width = part.shape
    left, top = round(place[0] / factor), round(place[1] / factor)
    # What shares more than half of it is the template itself.
    scores[max(top - height // 2, 0) : top + height // 2 + 1, max(left - width // 2, 0) : left + width // 2 + 1] = -2.0
    best = int(np.argmax(scores))
    y, x = divmod(best, scores.shape[1])
    if scores[y, x] <= -1.5:
        return math.nan, math.nan, math.nan
    return float(scores[y, x]), factor * (x + 0.5 * (width - 1)), factor * (y + 0.5 * (height - 1))


@dataclass(frozen=True)
class Averaged:
    """A template as the mean of its matches."""

    image: Image
    differs: np.ndarray
    """(h, w) bool: pixels that differ from match to match by more than the others do."""
    typical: float
    """Median standard deviation of a pixel from match to match, grey levels."""


def averaged(
    image: Image, template: Image, outline: Region | None, reference: Sequence[float] | None, poses: np.ndarray
) -> Averaged:
    """The mean of the matches of a template, each turned upright and brought to its grey levels.

    `image` is one that nothing was done to; `outline` and `reference` as the detector's parameters; `poses` (n, 4): x, y (px of
    the image), angle (degrees) and scale of the matches. Raises `ParameterError`.
    """
    if len(poses) < 2:
        raise ParameterError("template: averaging needs two matches or more in this image")
    if template.is_colour and not image.is_colour:
        raise ParameterError("template: it is in colour, and this image is grey")
    height, width = template.pixels.shape[:2]
    masked = masked_pixels(template, outline, 0)
    mask = np.ones((height, width), bool) if masked is None else masked == 0
    at = _middle(mask) if reference is None else reference
    y, x = (a.ravel().astype(np.float64) for a in np.mgrid[:height, :width])
    turned = np.asarray(poses, np.float64).copy()
    turned[:, 2] = np.radians(turned[:, 2])

    def seen(pixels: np.ndarray) -> np.ndarray:
        """(matches, height, width) float64, NaN beyond the image."""
        plane = np.ascontiguousarray(pixels, np.float32)
        return sampled(plane, (1.0, 1.0), (x - at[0], y - at[1]), turned).reshape(-1, height, width).astype(np.float64)

    grey, own = seen(as_luma(image).pixels), as_luma(template).pixels.astype(np.float64)
    lines = [gain_and_offset(np.nan_to_num(one).ravel(), own.ravel(), (mask & np.isfinite(one)).ravel()) for one in grey]
    if any(abs(gain) < 1e-6 for gain, _ in lines):
        raise ParameterError("template: one of the matches has no contrast")
    gains, offsets = (np.array(v)[:, None, None] for v in zip(*lines, strict=True))
    brought = (grey - offsets) / gains
    mean = grey_mean = _mean_of(brought, own)
    if template.is_colour:
        channels = zip(np.moveaxis(image.pixels, 2, 0), np.moveaxis(template.pixels, 2, 0), strict=True)
        mean = np.stack([_mean_of((seen(a) - offsets) / gains, b.astype(np.float64)) for a, b in channels], axis=2)
    if template.pixels.dtype.kind == "u":
        mean = np.clip(np.round(mean), 0, np.iinfo(template.pixels.dtype).max)
    spread = np.sqrt(_mean_of((brought - grey_mean) ** 2, np.zeros(own.shape)))
    typical = float(np.median(spread[mask]))
    differs = mask & (_softened(spread) > max(_DIFFERS * typical, _DIFFERS_BY * image.span, 1e-9))
    return Averaged(replace(template, pixels=np.ascontiguousarray(mean, template.pixels.dtype)), differs, typical)


def _middle(mask: np.ndarray) -> tuple[float, float]:
    """x, y of the middle of the box around a mask."""
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    return 0.5 * (columns[0] + columns[-1]), 0.5 * (rows[0] + rows[-1])


def _mean_of(matches: np.ndarray, otherwise: np.ndarray) -> np.ndarray:
    """The mean of the values there are at each pixel."""
    there = np.isfinite(matches)
    count = there.sum(axis=0)
    total = np.where(there, matches, 0.0).sum(axis=0)
    return np.where(count > 0, total / np.maximum(count, 1), otherwise)


def _softened(plane: np.ndarray) -> np.ndarray:
    """A Gaussian of one pixel, so that noise of single pixels is no difference."""
    weights = gaussian(1.0)
    return np.asarray(separable(np.ascontiguousarray(plane, np.float32), weights, weights))


def _moved(region: dict[str, Any], dx: float, dy: float) -> dict[str, Any]:
    """A region, its exclusions included, at another place."""
    moved = dict(region)
    if "points" in moved:
        moved["points"] = [[x + dx, y + dy] for x, y in moved["points"]]
    else:
        moved["x"], moved["y"] = moved["x"] + dx, moved["y"] + dy
    if moved.get("exclude"):
        moved["exclude"] = [_moved(dict(hole), dx, dy) for hole in moved["exclude"]]
    return moved


def _sharpness(grey: np.ndarray, mask: np.ndarray, image: Image) -> tuple[float, float]:
    """Correlation of a template with what lies one px beside it, along x and y."""
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    window = slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1)
    padded = np.pad(grey, 1, mode="reflect")
    around = padded[rows[0] : rows[-1] + 3, columns[0] : columns[-1] + 3]
    scores = correlation_map(np.ascontiguousarray(around), Pattern.of(grey[window], mask[window]), image.quantum, image.span)
    return float(max(scores[1, 0], scores[1, 2])), float(max(scores[0, 1], scores[2, 1]))
