"""The tone curve: black and white point, gamma, inversion."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.prepare.step import PreparationStep

_LEAST_SPAN = 1e-6
"""Smallest distance of black and white that counts, as a share of the value range."""


class ToneParameters(Parameters):
    """Parameters of `tone`."""

    gamma: float = gathers(
        1.0, label="Gamma", above=0.0, most=20.0, usual=(0.2, 5.0), help="Exponent of the curve; above 1 darkens the middle."
    )
    black_pct: float = gathers(
        0.0, label="Black", unit="%", least=0.0, most=100.0, usual=(0.0, 100.0), help="What becomes black, of the value range."
    )
    white_pct: float = gathers(
        100.0, label="White", unit="%", least=0.0, most=100.0, usual=(0.0, 100.0), help="What becomes white, of the value range."
    )
    invert: bool = gathers(False, label="Invert", help="Swap dark and bright afterwards.")


class Tone(PreparationStep):
    name = "tone"
    purpose = "Stretch, bend or invert the grey levels."
    Parameters = ToneParameters

    def summary(self, given: Mapping[str, Any]) -> str:
        return f"gamma {given['gamma']:g}, {given['black_pct']:g} to {given['white_pct']:g} %"

    def apply(self, image: Image, parameters: ToneParameters) -> Image:
        low, high = parameters.black_pct / 100, parameters.white_pct / 100
        if low >= high:
            raise ParameterError(
                f"tone: black_pct = {parameters.black_pct:g} is not allowed; it must be below white_pct, which is "
                f"{parameters.white_pct:g}",
                "black_pct",
            )

        span = max(high - low, _LEAST_SPAN)

        def curve(values: np.ndarray) -> np.ndarray:
            share = (values.astype(np.float32) - np.float32(image.black)) / np.float32(image.span)
            share = np.clip((share - np.float32(low)) / np.float32(max(high - low, _LEAST_SPAN)), 0, 1) ** np.float32(
                parameters.gamma
            )
            if parameters.invert:
                share = 1 - share
            return np.asarray(share * np.float32(image.span) + np.float32(image.black), np.float32)

        if image.pixels.dtype != np.float32:
            # Few grey levels: the curve of each, then a look-up.
            table = curve(np.arange(np.iinfo(image.pixels.dtype).max + 1))
            return replace(image, pixels=table[image.pixels], quantum=image.quantum / span)
        return image.with_pixels(curve(image.pixels), quantum=image.quantum / span)
