"""How much of a template is visible at its place in an image, and how well the visible part agrees.

The template is divided into blocks. Where it holds structure, a block is visible if the image agrees with it under local
normalisation, whatever the light; where it is flat, if the grey levels fit.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.filtering.filters import separable
from lucid_finch.core.numerics.matching.views import View, details, gaussian

Floats = NDArray[np.float64]
Mask = NDArray[np.bool_]

_BLOCKS = 8
"""Blocks along the side of a template, each of which is visible or hidden as a whole."""
_FEWEST = 16
"""Pixels of a block, at least."""
_HIDDEN = 0.55
"""Root mean square residual, in standard deviations of the template, above which a flat block is hidden."""
_BESIDE = 1.7
"""The same in typical residuals: a flat block is hidden only above both."""
_DIFFERENT = 0.4
"""Agreement of a block, as a share of what the better blocks reach, below which it shows something else."""
_LEAST = 0.12
"""Agreement of a block below which it shows something else in any case."""
_FIGURE = 0.1
"""The same against the blocks that vary most."""
_ENOUGH = 1500
"""Pixels, evenly spread, from which gain and offset are taken."""
_SHOWS = 2.0
"""Structure counts where its variance is so many times that of the noise."""


@dataclass(frozen=True)
class Part:
    """A template at one level, in blocks."""

    view: View
    noise: float
    """Of the template at this level, grey levels."""

    @cached_property
    def values(self) -> Floats:
        """Grey levels of its pixels."""
        return self.view.values[self.view.mask].astype(np.float64)

    @cached_property
    def normalised(self) -> Floats:
        """Its pixels under local normalisation."""
        return self.view.normalised[self.view.mask].astype(np.float64)

    @cached_property
    def _pixels(self) -> tuple[NDArray[np.int64], NDArray[np.int64], float]:
        """Rows and columns of its pixels, and the side of a block."""
        rows, columns = np.nonzero(self.view.mask)
        return rows, columns, max(math.sqrt(len(rows)) / _BLOCKS, math.sqrt(_FEWEST))

    @cached_property
    def blocks(self) -> NDArray[np.int64]:
        """The block of each pixel."""
        rows, columns, side = self._pixels
        across = int(columns.max() // side) + 1
        block = (rows // side).astype(np.int64) * across + (columns // side).astype(np.int64)
        return np.asarray(np.unique(block, return_inverse=True)[1], np.int64)

    @cached_property
    def around(self) -> Floats:
        """(blocks, blocks): weight of a block in the sums of another, 1 for itself, less for its neighbours, 0 for others."""
        rows, columns, side = self._pixels
        count = np.bincount(self.blocks)
        y, x = (np.bincount(self.blocks, v) / count for v in (rows, columns))
        apart = np.hypot(y[:, None] - y[None, :], x[:, None] - x[None, :]) / side
        return np.where(apart < 1.7, np.exp(-0.7 * apart**2), 0.0)

    @cached_property
    def gradient(self) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Change along y and x at each pixel of the view."""
        return _gradient(self.view.values)

    @cached_property
    def structure(self) -> Floats:
        """Variance of each block about the local mean, grey levels squared."""
        off = details(self.view.values)[self.view.mask].astype(np.float64)
        return np.asarray(np.bincount(self.blocks, off**2) / np.bincount(self.blocks))

    @cached_property
    def structured(self) -> Mask:
        """Blocks that hold structure: above the noise, and not the mere texture of a ground on which a figure stands out."""
        least = max(_SHOWS * self.noise**2, _FIGURE * float(np.quantile(self.structure, 0.9)))
        return np.asarray(self.structure > least)


@dataclass(frozen=True)
class Measured:
    """A template at one place."""

    correlation: float
    """Of all its pixels within the image, -1 to 1."""
    score: float
    """Correlation of the visible part times its share, or of all pixels if that is more; 0 to 1."""
    shown: Mask
    """Pixels that are in the image and fit."""


def measured(part: Part, grey: NDArray[np.float32], local: NDArray[np.float32], noise: float, either: bool) -> Measured:
    """Compare a template with the image at its pixels.

    `grey` (n,) and `local` (n,): the image there in grey levels and under local normalisation, NaN beyond it; `noise`: of the
    image at this level, grey levels; `either`: contrast may be reversed.
    """
    inside = np.isfinite(grey)
    if inside.sum() < 4:
        return Measured(0.0, 0.0, inside)
    values = np.where(inside, grey, 0.0).astype(np.float64)
    template, blocks = part.values, part.blocks
    plain = correlation(values, template, inside)
    sizes = np.bincount(blocks)
    count = np.maximum(np.bincount(blocks, inside), 1)
    near = np.where(inside & np.isfinite(local), local, 0.0).astype(np.float64)
    agreement = _agreement(part, near, inside)
    if either and plain < 0:
        agreement = -agreement
    shown = inside
    for _ in range(3):
        gain, offset = gain_and_offset(values, template, shown)
        contrast = abs(gain) * float(template[shown].std())
        off = np.where(inside, values - gain * template - offset, 0.0)
        # By the median, so that what is hidden does not widen what is allowed.
        typical = 1.4826 * float(np.median(np.abs(off[shown][:: max(1, len(off) // _ENOUGH)])))
        allowed = max(_BESIDE * typical, _HIDDEN * contrast)
        fits = np.sqrt(np.bincount(blocks, off**2) / count) <= allowed
        shows = part.structured & (gain**2 * part.structure > _SHOWS * noise**2)
        if shows.any():
            reached = float(np.quantile(agreement[shows], 0.75))
            fits = np.where(shows, agreement > max(_DIFFERENT * reached, _LEAST), fits)
        after = inside & (fits & (count >= 0.5 * sizes))[blocks]
        if after.sum() < 4 or (after == shown).all():
            break
        shown = after
    share = float(shown.sum()) / len(values)
    seen = correlation(values, template, shown)
    signed = (abs(plain), abs(seen)) if either else (max(plain, 0.0), max(seen, 0.0))
    return Measured(plain, max(signed[0] * float(inside.mean()), signed[1] * share), shown)


def _agreement(part: Part, near: Floats, inside: Mask) -> Floats:
    """Correlation of each block under local normalisation, its neighbours taken in."""
    template = np.where(inside, part.normalised, 0.0)
    sums = (np.bincount(part.blocks, v) @ part.around for v in (near * template, near**2, template**2))
    both, one, other = sums
    return np.asarray(both / np.maximum(np.sqrt(one * other), 1e-9))


def orientation_agreement(part: Part, upright: NDArray[np.float32], shown: Mask, either: bool) -> float:
    """Mean cosine between the gradients of the template and of the image, weighted by those of the template, times the share of
    the template that is visible; 0 to 1. Light and contrast do not matter.

    `upright` (h, w): the image at the pixels of the view, NaN beyond it; `shown`: visible ones of the template's pixels.
    """
    y, x = part.gradient
    v, u = _gradient(np.where(np.isfinite(upright), upright, np.float32(np.nanmean(upright) if shown.any() else 0.0)))
    mask = part.view.mask
    strength = np.hypot(x, y)[mask]
    # Where noise makes the gradient there is no direction.
    weights = np.where(shown & (strength > part.noise), strength, 0.0)
    cosine = (x * u + y * v)[mask] / np.maximum(strength * np.hypot(u, v)[mask], 1e-9)
    mean = float((weights * cosine).sum() / max(float(weights.sum()), 1e-9))
    return (abs(mean) if either else max(mean, 0.0)) * float(shown.mean())


def _gradient(plane: NDArray[np.float32]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Change along y and x, grey levels per px, after a Gaussian of one px."""
    weights = gaussian(1.0)
    smooth = separable(np.ascontiguousarray(plane, np.float32), weights, weights)
    flat = np.zeros_like(smooth)
    y, x = (np.gradient(smooth, axis=axis) if smooth.shape[axis] > 1 else flat for axis in (0, 1))
    return y, x


def gain_and_offset(values: Floats, template: Floats, used: Mask) -> tuple[float, float]:
    """Gain and offset with values = gain * template + offset, by repeated least squares that give less to what is far off."""
    # A robust line needs no more.
    step = max(1, len(values) // _ENOUGH)
    values, template, used = values[::step], template[::step], used[::step]
    if not used.any():
        return 0.0, 0.0
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


def correlation(values: Floats, template: Floats, used: Mask) -> float:
    """Zero-mean normalised cross-correlation over some pixels; 0 where either is flat."""
    a, b = values[used], template[used]
    a, b = a - a.mean(), b - b.mean()
    norm = math.sqrt(float(a @ a) * float(b @ b))
    return float(a @ b) / norm if norm > 1e-9 * len(a) else 0.0
