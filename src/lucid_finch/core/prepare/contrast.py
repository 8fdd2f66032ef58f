"""The colour direction that best separates two sampled areas, and how well any picture separates them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, get_args

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.numerics.channels import mix
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.prepare.colour import Channel, ChannelParameters, Take
from lucid_finch.core.prepare.step import PreparationStep
from lucid_finch.core.regions import Region

_LIGHT = 0.1
"""Light is taken to vary by this share over the scene, though the samples may lie where it does not."""

_MOST_SAMPLED = 200_000


class ContrastAxisParameters(Parameters):
    """Parameters of `contrast_axis`."""

    inside: Region = gathers(..., label="Object", help="An area of the object, in source pixels; it shall become bright.")
    outside: Region = gathers(
        ..., label="Surroundings", help="An area of what surrounds it; pixels that lie in both areas count as object."
    )


class ContrastAxis(PreparationStep):
    name = "contrast_axis"
    purpose = "Turn colour to the one axis on which an object differs most from its surroundings."
    Parameters = ContrastAxisParameters

    def apply(self, image: Image, parameters: ContrastAxisParameters) -> Image:
        """Red, green and blue summed with `axis_weights`; a grey image stays as it is."""
        inside, outside = samples(image, parameters.inside, parameters.outside)
        if not image.is_colour:
            return image
        weights = axis_weights(inside, outside, image)
        low, high = np.minimum(weights, 0).sum(), np.maximum(weights, 0).sum()
        result = image.with_pixels(mix(image.pixels, (float(weights[0]), float(weights[1]), float(weights[2]))), quantum=0.0)
        black, white = image.black * high + image.white * low, image.white * high + image.black * low
        return replace(result, black=float(black), white=float(white))


@dataclass(frozen=True)
class Separation:
    """How far two samples lie apart."""

    spreads: float
    """Distance of the means in pooled standard deviations: above some 3 hardly a pixel is mistaken."""
    brighter: bool
    """Whether the object is the brighter one."""

    def __str__(self) -> str:
        return f"{self.spreads:.1f}"


def samples(image: Image, inside: Any, outside: Any) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(n, channels) values of both regions, of valid pixels only. Raises `ParameterError` where one holds no pixel."""
    x = np.arange(image.width, dtype=float)[None, :]
    y = np.arange(image.height, dtype=float)[:, None]
    places = image.frame.to_source(x, y)
    chosen, around = inside.contains(*places), outside.contains(*places)
    if image.mask is not None:
        chosen, around = chosen & image.mask, around & image.mask
    for name, which in (("inside", chosen), ("outside", around)):
        if not which.any():
            raise ParameterError(
                f"contrast_axis: {name} holds no pixel of the image, which covers x from -0.5 to "
                f"{image.source_size[0] - 0.5:g} and y from -0.5 to {image.source_size[1] - 0.5:g}",
                name,
            )
    around &= ~chosen
    if not around.any():
        raise ParameterError("contrast_axis: outside lies within inside; nothing is left to compare with", "outside")
    channels = image.pixels.shape[2] if image.is_colour else 1
    found = []
    for which in (chosen, around):
        values = image.pixels[which].reshape(-1, channels)
        found.append(values[:: max(1, len(values) // _MOST_SAMPLED)].astype(float))
    return found[0], found[1]


def axis_weights(inside: NDArray[np.float64], outside: NDArray[np.float64], image: Image) -> NDArray[np.float64]:
    """(3,) of length 1: Fisher's linear discriminant ("The use of multiple measurements in taxonomic problems", Annals of
    Eugenics 7(2), 1936) of two samples of colours.

    Besides the samples' own scatter, light that varies by a tenth counts as scatter along both colours: so an axis on which
    the object differs in hue is preferred to one that shadows would upset. White noise of deviation 1 gives deviation 1.
    """
    means = inside.mean(axis=0), outside.mean(axis=0)
    floor = max(image.quantum**2 / 12, (1e-3 * image.span) ** 2)
    scatter = floor * np.eye(3)
    for values, mean in zip((inside, outside), means, strict=True):
        lit = _LIGHT * (mean - image.black)
        scatter += 0.5 * (np.cov(values.T) if len(values) > 1 else 0.0) + 0.5 * np.outer(lit, lit)
    difference = means[0] - means[1]
    if not np.any(np.abs(difference) > 1e-9 * image.span):
        raise ParameterError("contrast_axis: inside and outside have the same mean colour; no axis separates them", "inside")
    weights: Any = np.linalg.solve(scatter, difference)
    return np.asarray(weights / np.linalg.norm(weights))


def channel_separations(image: Image, inside: Any, outside: Any) -> list[tuple[str, Separation]]:
    """Every channel of a colour image, and the contrast axis, with how well it tells two regions apart; the best first.

    Raises `ParameterError`.
    """
    if not image.is_colour:
        return [("grey", separation(image, inside, outside))]
    areas = [values[:: max(1, len(values) // 4000)] for values in samples(image, inside, outside)]
    counts = [len(values) for values in areas]
    # The sampled pixels as a picture of one row.
    row = np.concatenate(areas)[None].astype(image.pixels.dtype)
    small = replace(image, pixels=np.ascontiguousarray(row), mask=None, frame=Frame())
    pictures = {take: Channel().apply(small, ChannelParameters(take=take)) for take in get_args(Take) if take != "weights"}
    weights = axis_weights(areas[0], areas[1], image)
    pictures["contrast axis"] = small.with_pixels(mix(small.pixels, (weights[0], weights[1], weights[2])), quantum=0.0)
    found = []
    for name, picture in pictures.items():
        values = picture.pixels[0].astype(float)
        found.append((name, _apart(values[: counts[0]], values[counts[0] :], picture)))
    return sorted(found, key=lambda pair: -pair[1].spreads)


def separation(image: Image, inside: Any, outside: Any) -> Separation:
    """How well one grey picture tells two regions apart. Raises `ParameterError`."""
    a, b = (values.mean(axis=1) for values in samples(image, inside, outside))
    return _apart(a, b, image)


def _apart(a: NDArray[np.float64], b: NDArray[np.float64], image: Image) -> Separation:
    least = max(image.quantum / 12**0.5, 1e-4 * image.span)
    spread = float(np.sqrt(0.5 * (a.var() + b.var()) + least**2))
    return Separation(float(abs(a.mean() - b.mean())) / spread, bool(a.mean() > b.mean()))
