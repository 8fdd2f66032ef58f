"""What each pixel is compared with to part an image in foreground and background, as a contour's parameters ask for it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detector import Context
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.background import measure_background
from lucid_finch.core.numerics.edges.chain_significance import Z_LOW
from lucid_finch.core.numerics.edges.edge_points import find_edge_points
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, operator_kernels, smoothed
from lucid_finch.core.numerics.edges.significant_chains import linked
from lucid_finch.core.numerics.filtering.filters import box_mean
from lucid_finch.core.numerics.regions.thresholding import Surface, histogram, otsu, pixel_noise, surface_through
from lucid_finch.core.regions import blocked_pixels

Method = Literal["fixed", "otsu", "local", "hysteresis", "edges", "iso"]

_EDGE_SIGMA = 1.2
_SURE = 2.0
"""Edges that the level is laid through are false once in a hundred images."""
_EXPLAINED = 0.5
"""Share of the border of two clear classes that must lie on edges for those to say more."""
_CLEARLY_TWO = 0.8
"""A share of the variance between both classes that noise alone (0.64) or even shading (0.75) does not reach."""


@dataclass(frozen=True)
class Level:
    """What each pixel is compared with."""

    method: Method
    bright: bool
    sigma: float
    otsu: float
    share: float
    """Of the variance that Otsu's level explains."""
    noise: float
    value: float | None = None
    """One level for all pixels, or None."""
    surface: Surface | None = None
    window: int = 0
    offset: float = 0.0


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
    if level.surface is not None:
        return np.ascontiguousarray(level.surface.rows(top, bottom, image.width)[:, left:right])
    sign = 1.0 if level.bright else -1.0
    mean = box_mean(smoothed_image(image, level.sigma), level.window)
    return np.ascontiguousarray(mean[top:bottom, left:right]) + np.float32(sign * level.offset)


def signed_level(plane: NDArray[np.float32], level: Level) -> NDArray[np.float32]:
    """By how much each pixel of a smoothed image (H, W) lies on the foreground's side of the level, grey levels."""
    sign = np.float32(1.0 if level.bright else -1.0)
    if level.value is not None:
        # The weaker level of a hysteresis lies towards the background.
        extra = np.float32(level.offset if level.method == "hysteresis" else 0.0)
        return np.asarray((plane - np.float32(level.value)) * sign + extra, np.float32)
    if level.surface is not None:
        return np.asarray((plane - level.surface.rows(0, len(plane), plane.shape[1])) * sign, np.float32)
    middle = np.float32(plane.mean(dtype=np.float64))
    off = plane - middle
    mean = box_mean(off, level.window)
    square = box_mean(off * off, level.window)
    signed = (off - mean) * sign - np.float32(level.offset)
    # A window that holds nothing but noise has no foreground.
    flat = square - mean * mean < np.float32(max(1.5 * level.noise, level.offset / 2) ** 2)
    signed[flat] = np.minimum(signed[flat], -np.float32(max(level.offset, 1e-6)))
    return np.asarray(signed, np.float32)


def choose_level(
    image: Image, parameters: Any, blocked: NDArray[np.uint8] | None, context: Context
) -> tuple[Level, NDArray[np.uint8] | None]:
    """The level, and the pixels beside edges where it follows those."""
    noise = pixel_noise(image.pixels)
    sigma = parameters.sigma if parameters.sigma is not None else (1.0 if noise > 0 else 0.0)
    counts, levels = histogram(image.pixels, blocked)
    parting = otsu(counts, levels)
    method = parameters.binarize
    surface = edges = None
    if method is None and np.count_nonzero(counts) <= 2:
        method = "otsu"
    if method in (None, "edges"):
        surface, edges = _level_on_edges(image, parameters, parting.level, context)
        if method is None:
            method = "edges"
            if parting.share >= _CLEARLY_TWO:
                above = smoothed_image(image, sigma) > parting.level
                rim = np.zeros(above.shape, bool)
                rim[:, 1:] |= above[:, 1:] != above[:, :-1]
                rim[1:] |= above[1:] != above[:-1]
                if not rim.any() or float(edges[rim].mean()) < _EXPLAINED:
                    method, surface, edges = "otsu", None, None
    # What is left of the noise of a pixel after the smoothing.
    left = noise / max(1.0, 2 * math.sqrt(math.pi) * sigma)
    value = None
    window, offset = 0, 0.0
    if method in ("fixed", "iso", "hysteresis", "otsu"):
        value = parameters.level if parameters.level is not None and method != "otsu" else parting.level
    if method == "local":
        window = parameters.window if parameters.window is not None else max(15, min(image.width, image.height) // 4)
        window |= 1
    if method in ("local", "hysteresis"):
        offset = 3 * max(left, 0.3 * image.quantum) if parameters.offset_pct is None else parameters.offset_pct * image.span / 100
    bright = parameters.foreground == "bright"
    if parameters.foreground is None:
        frame = Level(method, True, sigma, parting.level, parting.share, noise, value, surface, window, 0.0)
        bright = _frame_is_dark(image, frame, blocked)
    return Level(method, bright, sigma, parting.level, parting.share, left, value, surface, window, offset), edges


def _level_on_edges(image: Image, parameters: Any, otherwise: float, context: Context) -> tuple[Surface, NDArray[np.uint8]]:
    kernels = operator_kernels("gaussian", _EDGE_SIGMA)
    closed = blocked_pixels(image, parameters.region, len(kernels[0]) // 2)
    region = parameters.region.model_dump_json() if parameters.region is not None else ""
    background = context.shared(
        f"background gaussian {_EDGE_SIGMA!r} {region}",
        lambda: measure_background(image.pixels, kernels, image.quantum, closed, context.cancelled),
    )
    points = find_edge_points(image.pixels, kernels, background, Z_LOW, 1e-6 * image.span, closed, context.cancelled)
    sure = linked(points, background, (image.width, image.height)).points_above(_SURE)
    near = np.zeros((image.height, image.width), np.uint8)
    rows, columns = points.row[sure], points.column[sure]
    for dy in (-1, 0, 1):
        for dx in (-1, 0, 1):
            near[np.clip(rows + dy, 0, image.height - 1), np.clip(columns + dx, 0, image.width - 1)] = 1
    # Read where the edges were found: another smoothing would have drawn the rims to other places.
    return surface_through(smoothed_image(image, _EDGE_SIGMA), points.x[sure], points.y[sure], otherwise), near


def _frame_is_dark(image: Image, level: Level, blocked: NDArray[np.uint8] | None) -> bool:
    """Whether most of the outermost pixels that are looked at lie below the level."""
    signed = signed_level(smoothed_image(image, level.sigma), level)
    looked = np.ones(signed.shape, bool) if blocked is None else blocked == 0
    rim = looked.copy()
    rim[1:-1, 1:-1] &= ~(looked[:-2, 1:-1] & looked[2:, 1:-1] & looked[1:-1, :-2] & looked[1:-1, 2:])
    return not rim.any() or float((signed[rim] > 0).mean()) <= 0.5
