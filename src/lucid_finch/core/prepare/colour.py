"""Steps that turn colour to grey: one channel, or the axis that separates an object from its surroundings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, get_args

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.core.numerics.filtering.channels import mix
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.prepare.colour_channels import Take, take_channel
from lucid_finch.core.prepare.separation import AXIS, axis_weights, channel_separations, samples
from lucid_finch.core.prepare.step import Alternative, PreparationStep, suggested_box
from lucid_finch.core.regions import Region, region_of


class ChannelParameters(Parameters):
    """Parameters of `channel`."""

    take: Take = gathers(
        "luma",
        label="Take",
        help="luma (Rec. 601), luma709, mean, a colour channel, hue (degrees), saturation and value (0 to 1 of the value "
        "range), lightness, a, b (CIE L*a*b*), or weights.",
        incomplete=("weights",),
    )
    weights: tuple[float, float, float] | None = gathers(
        None,
        label="Weights",
        help="Of red, green and blue, for take = weights.",
        auto="only used with take = weights",
        only_with=("take", ("weights",)),
    )


class _ToGrey(PreparationStep):
    """What both steps have in common: sampled areas order the channels by their separation."""

    separates = True

    def alternatives(
        self, image: Image, given: Mapping[str, Any], sampled: Sequence[Mapping[str, Any]] | None
    ) -> list[Alternative]:
        """All channels, the best separation first if areas were sampled, and the contrast axis of those areas."""
        plain = [take for take in get_args(Take) if take != "weights"]
        if sampled is None:
            return [Alternative(take, take, {"step": "channel", "take": take}) for take in plain]
        axis = {"step": "contrast_axis", "inside": dict(sampled[0]), "outside": dict(sampled[1])}
        found = []
        for name, separation in channel_separations(image, *(region_of(area) for area in sampled)):
            if name in plain or name == AXIS:
                step = axis if name == AXIS else {"step": "channel", "take": name}
                found.append(Alternative(name, f"{name}  {separation:.1f} σ", step))
        return found


class Channel(_ToGrey):
    name = "channel"
    purpose = "Turn colour to one channel."
    Parameters = ChannelParameters
    examples = ({}, {"take": "hue"}, {"take": "a"})

    def apply(self, image: Image, parameters: ChannelParameters) -> Image:
        return take_channel(image, parameters.take, parameters.weights)

    def summary(self, given: Mapping[str, Any]) -> str:
        return str(given["take"])


class ContrastAxisParameters(Parameters):
    """Parameters of `contrast_axis`."""

    inside: Region = gathers(..., label="Object", help="An area of the object, in source pixels; it becomes bright.")
    outside: Region = gathers(
        ..., label="Surroundings", help="An area of its surroundings; pixels in both areas count as object."
    )


class ContrastAxis(_ToGrey):
    name = "contrast_axis"
    purpose = "Turn colour to the axis on which an object differs most from its surroundings."
    Parameters = ContrastAxisParameters
    examples = ()

    def summary(self, given: Mapping[str, Any]) -> str:
        return "object against surroundings"

    def suggested(self, image: Image | None) -> dict[str, Any]:
        width, height = image.source_size if image is not None else (100, 100)
        side = 0.04 * max(width, height)
        small = side / width, side / height
        return {"inside": suggested_box(image, (0.5, 0.5), small), "outside": suggested_box(image, (0.4, 0.5), small)}

    def sampled(self, given: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any]] | None:
        return given["inside"], given["outside"]

    def apply(self, image: Image, parameters: ContrastAxisParameters) -> Image:
        """Red, green and blue summed with `axis_weights`; a grey image stays as it is."""
        return self.follow(image, parameters, image)

    def follow(self, template: Image, parameters: ContrastAxisParameters, image: Image) -> Image:
        """The template on the axis that the image's areas give."""
        inside, outside = samples(image, parameters.inside, parameters.outside)
        if not template.is_colour or not image.is_colour:
            return template
        return _on_axis(template, axis_weights(inside, outside, image))


def _on_axis(image: Image, weights: np.ndarray) -> Image:
    """Red, green and blue summed with the weights."""
    low, high = np.minimum(weights, 0).sum(), np.maximum(weights, 0).sum()
    result = image.with_pixels(mix(image.pixels, (float(weights[0]), float(weights[1]), float(weights[2]))), quantum=0.0)
    black, white = image.black * high + image.white * low, image.white * high + image.black * low
    return replace(result, black=float(black), white=float(white))
