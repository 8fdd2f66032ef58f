"""Uneven light taken out: the picture is divided by, or has taken off, its own slowly varying brightness."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.filtering import median_filters
from lucid_finch.core.numerics.filtering.warping import resampled, resampling
from lucid_finch.core.parameters import Length, Parameters, gathers
from lucid_finch.core.prepare.step import PreparationStep, joined, planes_of

_WORKING = 25
"""The light is estimated at a size at which the neighbourhood is so many pixels wide: it varies slowly."""

_DARKEST = 0.02
"""Light below this share of the value range is taken as that: dividing by less would only raise noise."""


class FlattenParameters(Parameters):
    """Parameters of `flatten`."""

    method: Literal["median", "gaussian", "polynomial"] = gathers(
        "median",
        label="Method",
        help="How the light is estimated: median of the neighbourhood (objects smaller than half of it do not count), "
        "gaussian mean, or a polynomial of second degree through the whole picture (objects are left out as outliers).",
    )
    size: Length = gathers(
        Length(20.0, "%"),
        label="Size",
        unit="px",
        only_with=("method", ("median", "gaussian")),
        help="Side of the neighbourhood; at least twice the largest object. Not used by polynomial.",
    )
    by: Literal["division", "difference"] = gathers(
        "division",
        label="Removed by",
        help="division (light falls on the scene and multiplies it) or difference (haze or dark current is added to it).",
    )


class Flatten(PreparationStep):
    name = "flatten"
    purpose = "Remove uneven light."
    Parameters = FlattenParameters
    examples = ({}, {"method": "gaussian"})

    def summary(self, given: Mapping[str, Any]) -> str:
        return f"{given['method']}, {given['by']}"

    def apply(self, image: Image, parameters: FlattenParameters) -> Image:
        """The mean brightness of the light stays, so grey levels keep their meaning."""
        size = max(3.0, parameters.size.pixels(image.width, image.height))
        pixels = joined([self._flat(plane, image, size, parameters) for plane in planes_of(image)])
        return image.with_pixels(pixels)

    def _flat(self, plane: NDArray[Any], image: Image, size: float, parameters: FlattenParameters) -> NDArray[np.float32]:
        light = light_of(plane, parameters.method, size, image.mask)
        level = np.float32(light.mean())
        values = plane.astype(np.float32)
        if parameters.by == "difference":
            return np.asarray(values - light + level, np.float32)
        black, least = np.float32(image.black), np.float32(_DARKEST * image.span)
        share = np.maximum(level - black, least) / np.maximum(light - black, least)
        return np.asarray((values - black) * share + black, np.float32)


def light_of(plane: NDArray[Any], method: str, size: float, mask: NDArray[np.bool_] | None = None) -> NDArray[np.float32]:
    """(H, W) float32: the slowly varying brightness of a plane; `size` (px) is the neighbourhood."""
    height, width = plane.shape
    if mask is not None:
        # What is not valid must not pull at the light beside it.
        plane = np.where(mask, plane, np.asarray(np.median(plane[mask]) if mask.any() else 0).astype(plane.dtype))
    step = max(1.0, size / _WORKING)
    small = resampled(plane, *(resampling(n, max(1, round(n / step)), n / max(1, round(n / step))) for n in plane.shape))
    window = max(3, round(size / step) | 1)
    if method == "median":
        small = smoothed(np.ascontiguousarray(median_filters.median(small, window)), gaussian_kernel(window / 6))
    elif method == "gaussian":
        small = smoothed(small, gaussian_kernel(window / 4))
    else:
        small = _polynomial(small)
    back = [resampling(a, n, a / n) for a, n in zip(small.shape, (height, width), strict=True)]
    return resampled(np.ascontiguousarray(small), back[0], back[1])


def _polynomial(small: NDArray[np.float32]) -> NDArray[np.float32]:
    """Second degree in x and y; what lies off it is left out by and by (iteratively reweighted least squares, Tukey's weight)."""
    y, x = np.meshgrid(np.linspace(-1, 1, small.shape[0]), np.linspace(-1, 1, small.shape[1]), indexing="ij")
    terms = np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=-1).reshape(-1, 6)
    values = small.reshape(-1).astype(float)
    weights = np.ones(len(values))
    found = np.zeros(6)
    for _ in range(12):
        root = np.sqrt(weights)
        found = np.linalg.lstsq(terms * root[:, None], values * root, rcond=None)[0]
        off = np.abs(values - terms @ found)
        spread = 4.685 * 1.4826 * max(float(np.median(off)), 1e-9)
        weights = np.clip(1 - (off / spread) ** 2, 0, None) ** 2
    return np.asarray((terms @ found).reshape(small.shape), np.float32)
