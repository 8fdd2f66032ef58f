"""The threshold between foreground and background, for every pixel, as the parameters of contours ask for it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detector import Context
from lucid_finch.core.detectors.shared.edge_features import chains_of, measured_points, smoothing_of
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.edges.smoothing_choice import SMOOTHINGS, SmoothingChoice
from lucid_finch.core.numerics.filtering.filters import box_mean
from lucid_finch.core.numerics.regions.thresholding import (
    OtsuLevel,
    Surface,
    has_noise,
    histogram,
    otsu,
    pixel_noise,
    surface_through,
)

Method = Literal["fixed", "otsu", "local", "hysteresis", "edges", "iso"]

_SURE = 2.0
"""log_nfa of the edges that the level passes through: one in a hundred images has a false one."""
_EXPLAINED = 0.5
"""Share of the border between two clear classes that must be on edges for the edges to decide."""
_BESIDE, _SMOOTHED, _ROUNDS = (4, 8), 2.0, 4
"""px to either side of an outline that its step is measured from, at least and at most; times the smoothing that they are
between; how often a threshold is moved."""
_CLEAR = 0.15
"""Share of the clearest steps below which one may be shading."""
_CLEARLY_TWO = 0.8
"""A share of the variance between both classes that noise alone (0.64) or even shading (0.75) does not reach."""


@dataclass(frozen=True)
class Level:
    """The threshold of each pixel."""

    method: Method
    bright: bool
    sigma: float
    otsu: float | None
    """The Otsu level, if it was needed."""
    share: float | None
    """Share of the variance that the Otsu level explains."""
    noise: float | None
    """Noise after the smoothing, if it was needed."""
    value: float | None = None
    """One level for all pixels, or None."""
    surface: Surface | None = None
    window: int = 0
    offset: float = 0.0
    smoothing: SmoothingChoice | None = None
    """That of the edges, if they were asked."""
    halfway: NDArray[np.float32] | None = None
    """The threshold of each pixel (H, W) where it was moved to half of the step at each outline."""


def smoothed_image(image: Image, sigma: float) -> NDArray[np.float32]:
    """The image after a Gaussian of `sigma` px, (H, W)."""
    return smoothed(image.pixels, gaussian_kernel(sigma)) if sigma > 0 else image.pixels.astype(np.float32)


def smoothed_part(image: Image, sigma: float, left: int, top: int, right: int, bottom: int) -> NDArray[np.float32]:
    """The same of a rectangle of its pixels alone."""
    margin = len(gaussian_kernel(sigma)) // 2 if sigma > 0 else 0
    x0, y0 = max(left - margin, 0), max(top - margin, 0)
    part = np.ascontiguousarray(image.pixels[y0 : bottom + margin, x0 : right + margin])
    whole = smoothed(part, gaussian_kernel(sigma)) if sigma > 0 else part.astype(np.float32)
    return np.ascontiguousarray(whole[top - y0 : bottom - y0, left - x0 : right - x0])


def level_part(image: Image, level: Level, left: int, top: int, right: int, bottom: int) -> NDArray[np.float32]:
    """What the pixels of a rectangle are compared with, grey levels."""
    if level.value is not None:
        return np.full((bottom - top, right - left), level.value, np.float32)
    if level.halfway is not None:
        return np.ascontiguousarray(level.halfway[top:bottom, left:right])
    if level.surface is not None:
        return np.ascontiguousarray(level.surface.rows(top, bottom, image.width)[:, left:right])
    sign = 1.0 if level.bright else -1.0
    mean = box_mean(smoothed_image(image, level.sigma), level.window)
    return np.ascontiguousarray(mean[top:bottom, left:right]) + np.float32(sign * level.offset)


def signed_level(plane: NDArray[np.float32], level: Level) -> NDArray[np.float32]:
    """Distance of each pixel of a smoothed image (H, W) from its threshold, positive in the foreground, grey levels."""
    sign = np.float32(1.0 if level.bright else -1.0)
    if level.value is not None:
        # The weaker level of a hysteresis lies towards the background.
        extra = np.float32(level.offset if level.method == "hysteresis" else 0.0)
        signed = np.subtract(plane, np.float32(level.value))
        signed *= sign
        signed += extra
        return signed
    if level.halfway is not None:
        return np.asarray((plane - level.halfway) * sign, np.float32)
    if level.surface is not None:
        return np.asarray((plane - level.surface.rows(0, len(plane), plane.shape[1])) * sign, np.float32)
    middle = np.float32(plane.mean(dtype=np.float64))
    off = plane - middle
    mean = box_mean(off, level.window)
    square = box_mean(off * off, level.window)
    signed = (off - mean) * sign - np.float32(level.offset)
    # A window that holds nothing but noise has no foreground.
    flat = square - mean * mean < np.float32(max(1.5 * (level.noise or 0.0), level.offset / 2) ** 2)
    signed[flat] = np.minimum(signed[flat], -np.float32(max(level.offset, 1e-6)))
    return np.asarray(signed, np.float32)


def at_halfway(plane: NDArray[np.float32], level: Level, edges: NDArray[np.uint8] | None = None) -> Level:
    """A threshold moved to half of the step across each outline of a smoothed image (H, W), except beside `edges`.

    The mean of a window lies nearer to the ground than to a small object, so that outlines would run where an edge begins; and
    a level that follows edges is that of others where an object shows none. Moved by at most 4 px a round, or twice
    the smoothing.
    """
    beside = min(max(_BESIDE[0], round(_SMOOTHED * level.sigma)), _BESIDE[1])
    sign = np.float32(1.0 if level.bright else -1.0)
    signed, raised = signed_level(plane, level), plane * sign
    for _ in range(_ROUNDS):
        place, high, low = _steps_across(raised, signed > 0, beside)
        if not len(place):
            break
        step = high - low
        clear = step >= max(6 * (level.noise or 0.0), 2 * level.offset, _CLEAR * float(np.percentile(step, 90)))
        if edges is not None:
            clear &= edges.ravel()[place] == 0
        half, known = _spread(place[clear], 0.5 * (high + low)[clear], plane.shape, beside)
        if edges is not None:
            known &= edges == 0
        np.copyto(signed, raised - half, where=known)
    return replace(level, halfway=plane - sign * signed)


def _steps_across(plane: NDArray[np.float32], above: NDArray[np.bool_], beside: int) -> tuple[NDArray[np.int64], Any, Any]:
    """The pixels just inside the outlines of `above`, as places in the flat plane, with the highest level inside and the lowest
    outside within `beside` px across."""
    height, width = plane.shape
    places, highs, lows = [], [], []
    for down, across in ((0, 1), (1, 0)):
        first, second = above[: height - down, : width - across], above[down:, across:]
        row, column = np.nonzero(first != second)
        outwards = np.where(first[row, column], 1, -1)
        row, column = row + down * (outwards < 0), column + across * (outwards < 0)
        high, low = plane[row, column], plane[row, column]
        for step in range(1, beside + 1):
            inside, outside = (
                plane[
                    np.clip(row + down * way * outwards, 0, height - 1), np.clip(column + across * way * outwards, 0, width - 1)
                ]
                for way in (-step, step)
            )
            high, low = np.maximum(high, inside), np.minimum(low, outside)
        places.append(row * width + column)
        highs.append(high)
        lows.append(low)
    return np.concatenate(places), np.concatenate(highs), np.concatenate(lows)


def _spread(
    place: NDArray[np.int64], value: NDArray[np.float32], shape: tuple[int, ...], beside: int
) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
    """The mean of the values at all places within `beside` px of each pixel, and where there are any."""
    size, box = shape[0] * shape[1], 2 * beside + 1
    sums = np.bincount(place, value, size).reshape(shape).astype(np.float32)
    count = box_mean(np.bincount(place, minlength=size).reshape(shape).astype(np.float32), box)
    mean = np.asarray(box_mean(sums, box) / np.maximum(count, np.float32(1e-9)), np.float32)
    return mean, count > 0.5 / box**2


class _Measures:
    """What is measured of an image when it is needed."""

    def __init__(self, image: Image, masked: NDArray[np.uint8] | None) -> None:
        self._image, self._masked = image, masked

    @cached_property
    def noise(self) -> float:
        return pixel_noise(self._image.pixels)

    @cached_property
    def counts(self) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        return histogram(self._image.pixels, self._masked)

    @cached_property
    def otsu(self) -> OtsuLevel:
        return otsu(*self.counts)

    def has(self, name: str) -> bool:
        """Whether it has been measured."""
        return name in self.__dict__


def choose_level(
    image: Image, parameters: Any, masked: NDArray[np.uint8] | None, context: Context
) -> tuple[Level, NDArray[np.uint8] | None]:
    """The threshold, and the pixels beside edges if it follows those. Only what the parameters leave open is measured."""
    measures = _Measures(image, masked)
    smoothing, sigma = None, parameters.sigma
    few = parameters.binarize is None and np.count_nonzero(measures.counts[0]) <= 2
    if parameters.binarize in (None, "edges") and not few:
        smoothing = smoothing_of(image, parameters.region, None, context)
        if sigma is None and smoothing.sigma > SMOOTHINGS[0]:
            sigma = smoothing.sigma
    if sigma is None:
        sigma = 1.0 if has_noise(image.pixels) else 0.0
    method: Method
    if parameters.binarize is None:
        method, surface, edges = _automatic_method(image, parameters, sigma, measures, smoothing, context)
    else:
        method, surface, edges = parameters.binarize, None, None
        if smoothing is not None:
            surface, edges = _level_on_edges(image, parameters, smoothing.sigma, measures.otsu.level, context)
    value = None
    if method in ("fixed", "iso", "hysteresis", "otsu"):
        value = parameters.level if parameters.level is not None and method != "otsu" else measures.otsu.level
    window, offset = 0, 0.0
    if method == "local":
        window = parameters.window if parameters.window is not None else max(15, min(image.width, image.height) // 4)
        window |= 1
    # What is left of the noise of a pixel after the smoothing.
    calmer = max(1.0, 2 * math.sqrt(math.pi) * sigma)
    if method in ("local", "hysteresis"):
        given = parameters.offset_pct
        offset = 3 * max(measures.noise / calmer, 0.3 * image.quantum) if given is None else given * image.span / 100
    bright = parameters.foreground == "bright"
    if parameters.foreground is None:
        noise = measures.noise if method == "local" else None
        unsigned = Level(method, True, sigma, None, None, noise, value, surface, window, 0.0)
        bright = _frame_is_dark(image, unsigned, masked)
    noise = measures.noise / calmer if measures.has("noise") or method == "local" else None
    best = measures.otsu if measures.has("otsu") else None
    level, share = (best.level, best.share) if best is not None else (None, None)
    return Level(method, bright, sigma, level, share, noise, value, surface, window, offset, smoothing), edges


def _automatic_method(
    image: Image, parameters: Any, sigma: float, measures: _Measures, smoothing: SmoothingChoice | None, context: Context
) -> tuple[Method, Surface | None, NDArray[np.uint8] | None]:
    """A threshold that follows the edges, or that of Otsu where edges explain little of two clear classes."""
    if smoothing is None:
        return "otsu", None, None
    surface, edges = _level_on_edges(image, parameters, smoothing.sigma, measures.otsu.level, context)
    if measures.otsu.share >= _CLEARLY_TWO:
        above = smoothed_image(image, sigma) > measures.otsu.level
        rim = np.zeros(above.shape, bool)
        rim[:, 1:] |= above[:, 1:] != above[:, :-1]
        rim[1:] |= above[1:] != above[:-1]
        if not rim.any() or float(edges[rim].mean()) < _EXPLAINED:
            return "otsu", None, None
    return "edges", surface, edges


def _level_on_edges(
    image: Image, parameters: Any, sigma: float, otherwise: float, context: Context
) -> tuple[Surface, NDArray[np.uint8]]:
    points, _ = measured_points(image, parameters.region, sigma, context)
    sure = chains_of(image, parameters.region, sigma, context).points_above(_SURE)
    near = np.zeros((image.height, image.width), np.uint8)
    rows, columns = points.row[sure], points.column[sure]
    # The wider the smoothing, the less sure the place of an edge.
    beside = range(-max(1, round(0.75 * sigma)), max(1, round(0.75 * sigma)) + 1)
    for dy in beside:
        for dx in beside:
            near[np.clip(rows + dy, 0, image.height - 1), np.clip(columns + dx, 0, image.width - 1)] = 1
    # Read where the edges were found: another smoothing would have moved the outlines.
    return surface_through(smoothed_image(image, sigma), points.x[sure], points.y[sure], otherwise), near


def _frame_is_dark(image: Image, level: Level, masked: NDArray[np.uint8] | None) -> bool:
    """Whether most of the outermost pixels that are looked at lie below the level."""
    plane = smoothed_image(image, level.sigma)
    if masked is None and level.value is not None:
        outermost = np.concatenate([plane[0], plane[-1], plane[1:-1, 0], plane[1:-1, -1]])
        return float((outermost > np.float32(level.value)).mean()) <= 0.5
    signed = signed_level(plane, level)
    looked = np.ones(signed.shape, bool) if masked is None else masked == 0
    rim = looked.copy()
    rim[1:-1, 1:-1] &= ~(looked[:-2, 1:-1] & looked[2:, 1:-1] & looked[1:-1, :-2] & looked[1:-1, 2:])
    return not rim.any() or float((signed[rim] > 0).mean()) <= 0.5
