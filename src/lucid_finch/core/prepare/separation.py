"""How well a channel separates two sampled areas, and the colour direction that separates them best."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any, get_args

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.numerics.filtering.channels import mix
from lucid_finch.core.prepare.colour_channels import Take, take_channel
from lucid_finch.core.regions import box_in

AXIS = "contrast axis"
"""Name of the colour direction that separates two sampled areas best, among the channels."""

_LIGHT = 0.1
"""Assumed variation of the light over the scene, even if the samples do not show it."""

_MOST_SAMPLED = 100_000

_KEPT = 0.6
"""Share of a sample that is used: the rest may belong to something else."""


def samples(image: Image, inside: Any, outside: Any) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(n, channels) values of both regions, of valid pixels only. Raises `ParameterError` where one holds no pixel."""
    found = []
    for name, region, other in (("inside", inside, None), ("outside", outside, inside)):
        left, top, right, bottom = box_in(image, region)
        x, y = np.arange(left, right, dtype=float)[None, :], np.arange(top, bottom, dtype=float)[:, None]
        places = image.frame.to_source(x, y)
        chosen = region.contains(*places)
        if image.mask is not None:
            chosen = chosen & image.mask[top:bottom, left:right]
        if not chosen.any():
            raise ParameterError(
                f"contrast_axis: {name} holds no pixel of the image, which covers x from -0.5 to "
                f"{image.source_size[0] - 0.5:g} and y from -0.5 to {image.source_size[1] - 0.5:g}",
                name,
            )
        if other is not None:
            chosen &= ~other.contains(*places)
        if not chosen.any():
            raise ParameterError("contrast_axis: outside lies within inside; nothing is left to compare with", "outside")
        channels = image.pixels.shape[2] if image.is_colour else 1
        values = image.pixels[top:bottom, left:right][chosen].reshape(-1, channels)
        found.append(_core(values[:: max(1, len(values) // _MOST_SAMPLED)].astype(float), image))
    return found[0], found[1]


def _core(values: NDArray[np.float64], image: Image) -> NDArray[np.float64]:
    """The most compact part of a sample, so that one that crosses the edge of the object does no harm.

    Concentration steps as in Rousseeuw and Van Driessen, "A fast algorithm for the minimum covariance determinant
    estimator", Technometrics 41(3), 1999.
    """
    if len(values) < 10:
        return values
    count = math.ceil(_KEPT * len(values))
    off = values - np.median(values, axis=0)
    distance = (off**2).sum(axis=1)
    for _ in range(8):
        kept = values[np.argpartition(distance, count - 1)[:count]]
        scatter = np.atleast_2d(np.cov(kept.T)) + _floor(image) * np.eye(values.shape[1])
        off = values - kept.mean(axis=0)
        distance = np.einsum("ij,ij->i", off, np.linalg.solve(scatter, off.T).T)
    return values[np.argpartition(distance, count - 1)[:count]]


def _floor(image: Image) -> float:
    """Smallest variance that a sample can show."""
    return max(image.quantum**2 / 12, (1e-3 * image.span) ** 2)


def _kept_share(channels: int) -> float:
    """Variance of the core of a normal sample, as a share of that of the whole."""
    from scipy import special

    q = special.gammaincinv(channels / 2, _KEPT)
    return float(special.gammainc(channels / 2 + 1, q) / _KEPT)


def axis_weights(inside: NDArray[np.float64], outside: NDArray[np.float64], image: Image) -> NDArray[np.float64]:
    """(3,) of length 1: Fisher's linear discriminant ("The use of multiple measurements in taxonomic problems", Annals of
    Eugenics 7(2), 1936) of two samples of colours.

    Besides the samples' own scatter, light that varies by a tenth counts as scatter along both colours: so an axis on which
    the object differs in hue is preferred to one that shadows would upset. White noise of deviation 1 gives deviation 1.
    """
    means = inside.mean(axis=0), outside.mean(axis=0)
    scatter = _floor(image) * np.eye(3)
    for values, mean in zip((inside, outside), means, strict=True):
        lit = _LIGHT * (mean - image.black)
        own = np.cov(values.T) / _kept_share(3) if len(values) > 1 else np.zeros((3, 3))
        scatter += 0.5 * own + 0.5 * np.outer(lit, lit)
    difference = means[0] - means[1]
    if not np.any(np.abs(difference) > 1e-9 * image.span):
        raise ParameterError("contrast_axis: inside and outside have the same mean colour; no axis separates them", "inside")
    weights: Any = np.linalg.solve(scatter, difference)
    return np.asarray(weights / np.linalg.norm(weights))


def channel_separations(image: Image, inside: Any, outside: Any) -> list[tuple[str, float]]:
    """Every channel of a colour image, and the contrast axis, with its separation of two regions; the best first.

    The separation is the distance of both means in standard deviations, which include noise and texture of the samples and a
    variation of the light by a tenth: above 3 hardly a pixel is misclassified. Hue is used as the picture that it is, with its
    jump from 360 to 0. Raises `ParameterError`.
    """
    areas = [values[:: max(1, len(values) // 4000)] for values in samples(image, inside, outside)]
    count = len(areas[0])
    plain = np.concatenate(areas)
    # The sampled pixels as a picture of three rows: in their own light, in less and in more.
    rows = np.stack([(plain - image.black) * light + image.black for light in (1.0, 1 - _LIGHT, 1 + _LIGHT)])
    pixels = np.ascontiguousarray(rows, np.float32)
    small = replace(image, pixels=pixels if image.is_colour else pixels[..., 0], mask=None, frame=Frame())
    if not image.is_colour:
        return [("grey", _separation(small, count, 1))]
    pictures = {take: take_channel(small, take) for take in get_args(Take) if take != "weights"}
    weights = axis_weights(areas[0], areas[1], image)
    pictures[AXIS] = small.with_pixels(mix(small.pixels, (weights[0], weights[1], weights[2])), quantum=0.0)
    found = [(name, _separation(picture, count, 3)) for name, picture in pictures.items()]
    return sorted(found, key=lambda pair: -pair[1])


def _separation(picture: Image, count: int, channels: int) -> float:
    """Separation of the first `count` columns from the others; row 0 is as it is, 1 and 2 in other light."""
    values = picture.pixels.astype(float)
    variance = max(picture.quantum**2 / 12, (1e-4 * picture.span) ** 2)
    means = []
    for part in (values[:, :count], values[:, count:]):
        own = part[0].var() / _kept_share(channels)
        light = 0.5 * (part[2].mean() - part[1].mean())
        variance += 0.5 * (own + light * light)
        means.append(part[0].mean())
    return float(abs(means[0] - means[1]) / np.sqrt(variance))
