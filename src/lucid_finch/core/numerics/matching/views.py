"""A template and an image at reduced sizes, and the local normalisation under which both are compared while searching.

Every level is an area average, so that nothing aliases. Under local normalisation (difference from the local mean over the local
standard deviation) light and contrast drop out, and a pixel that is hidden weighs no more than any other.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.filtering.filters import separable
from lucid_finch.core.numerics.filtering.warping import resampled, resampling

Plane = NDArray[np.float32]

LOCAL = 1.8
"""Standard deviation (px of a level) of the neighbourhood that a pixel is compared with."""

_MARGIN = 1
"""px of a view along the border of a template that are not compared under local normalisation."""
_ENOUGH = 0.3


@dataclass(frozen=True)
class View:
    """A template as it looks at one level: its pixels have the pitch of the level's."""

    values: Plane
    """(h, w): grey levels, with what surrounds the template."""
    normalised: Plane
    """(h, w): the same under local normalisation."""
    mask: NDArray[np.bool_]
    """(h, w): pixels that belong to the template."""
    pitch: tuple[float, float]
    """Template pixels per pixel of the view, along x and y."""

    @cached_property
    def core(self) -> NDArray[np.bool_]:
        """(h, w): pixels whose neighbourhood belongs to the template. Further out, local normalisation depends on the ground
        that it lies on. The whole mask where little would be left."""
        core = eroded(self.mask, _MARGIN)
        return core if core.sum() >= _ENOUGH * self.mask.sum() else self.mask

    def places(self, reference: tuple[float, float]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Offsets from the reference, in template pixels, of the pixels that belong to it, row by row."""
        rows, columns = np.nonzero(self.mask)
        x = (columns + 0.5) * self.pitch[0] - 0.5 - reference[0]
        y = (rows + 0.5) * self.pitch[1] - 0.5 - reference[1]
        return np.asarray(x, np.float64), np.asarray(y, np.float64)

    def all_places(self, reference: tuple[float, float]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The same of all pixels of the view, what surrounds the template included."""
        rows, columns = (a.ravel() for a in np.indices(self.values.shape))
        x = np.asarray((columns + 0.5) * self.pitch[0] - 0.5 - reference[0], np.float64)
        return x, np.asarray((rows + 0.5) * self.pitch[1] - 0.5 - reference[1], np.float64)

    def slopes(self, values: Plane) -> NDArray[np.float64]:
        """(2, n): change of `values` per template pixel along x and y, at the pixels that belong to the template."""
        found = []
        for axis, pitch in ((1, self.pitch[0]), (0, self.pitch[1])):
            flat = values.shape[axis] < 2
            slope = np.zeros(values.shape) if flat else np.gradient(values.astype(np.float64), pitch, axis=axis)
            found.append(slope[self.mask])
        return np.stack(found)


def eroded(mask: NDArray[np.bool_], margin: int) -> NDArray[np.bool_]:
    """The pixels of a mask with nothing else within `margin` px along x and y."""
    inner = np.pad(mask, margin)
    for axis in (0, 1):
        shifted = [np.roll(inner, k, axis) for k in range(-margin, margin + 1)]
        inner = np.logical_and.reduce(shifted)
    return np.asarray(inner[margin:-margin, margin:-margin] if margin else inner)


def gaussian(sigma: float) -> NDArray[np.float32]:
    """Weights of a Gaussian, cut at three standard deviations."""
    reach = max(1, math.ceil(3 * sigma))
    weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
    return np.asarray(weights / weights.sum(), np.float32)


def reduced(plane: Plane, factor: float) -> Plane:
    """A plane shrunk (or enlarged) by a factor along both axes; its outer edges stay where they are."""
    height, width = plane.shape
    rows, columns = max(1, round(height / factor)), max(1, round(width / factor))
    if (rows, columns) == (height, width):
        return plane
    return resampled(plane, resampling(height, rows, height / rows), resampling(width, columns, width / columns))


def details(plane: Plane, sigma: float = LOCAL) -> Plane:
    """Difference from the local mean, the neighbourhood a Gaussian of `sigma` px."""
    weights = gaussian(sigma)
    return plane - separable(plane, weights, weights)


def locally_normalised(plane: Plane, noise: float, sigma: float = LOCAL) -> Plane:
    """(value - local mean) / root(local variance + noise^2), the neighbourhood a Gaussian of `sigma` px; within +-3.

    `noise` in grey levels keeps what is flat near 0.
    """
    off, weights = details(plane, sigma), gaussian(sigma)
    spread = separable(np.square(off), weights, weights)
    spread += np.float32(noise * noise)
    np.sqrt(np.maximum(spread, np.float32(1e-30)), out=spread)
    off /= spread
    return np.clip(off, np.float32(-3), np.float32(3), out=off)


def noise_of(plane: Plane) -> float:
    """Standard deviation of the noise of a plane: the median of a second difference along the rows, of every fourth row."""
    rows = plane[::4]
    if rows.shape[1] < 3:
        return 0.0
    second = np.abs(rows[:, 2:] - 2 * rows[:, 1:-1] + rows[:, :-2])
    return float(np.median(second)) / (0.6745 * math.sqrt(6))


def template_view(pixels: Plane, mask: NDArray[np.bool_], factor: float, noise: float) -> View:
    """The template (h, w), its surroundings included, with `factor` of its pixels to one of the view."""
    values = reduced(pixels, factor)
    share = reduced(mask.astype(np.float32), factor) if values is not pixels else mask
    pitch = pixels.shape[1] / values.shape[1], pixels.shape[0] / values.shape[0]
    used = np.asarray(share > 0.9)
    if not used.any():
        used = np.asarray(share >= share.max())
    return View(values, locally_normalised(values, noise), used, pitch)


def with_holes(plane: Plane, valid: Any) -> Plane:
    """The plane with NaN where it is not valid."""
    return plane if valid is None else np.where(valid, plane, np.float32(np.nan))
