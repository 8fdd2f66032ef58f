"""Resizing and rotating; results keep the coordinates of the source."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.numerics.filtering.warping import resampled, resampling, warped
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.prepare.step import PreparationStep, dilated_invalid, joined, planes_of

_COARSEST = 10_000.0
"""px of the image that a new pixel may cover, where the image is smaller than that."""
_MOST_PIXELS = 400_000_000


class ResizeParameters(Parameters):
    """Parameters of `resize`."""

    factor: float | None = gathers(
        None,
        label="Factor",
        above=0.0,
        most=16.0,
        usual=(0.1, 4.0),
        help="0.5 halves both sides.",
        auto="from what else is given",
    )
    width: int | None = gathers(
        None, label="Width", unit="px", least=1, most=100_000, help="The height follows unless given too.", auto="not asked for"
    )
    height: int | None = gathers(
        None, label="Height", unit="px", least=1, most=100_000, help="The width follows unless given too.", auto="not asked for"
    )
    width_max: int | None = gathers(
        None, label="Width at most", unit="px", least=1, most=100_000, help="Shrink if wider.", auto="any width"
    )
    height_max: int | None = gathers(
        None, label="Height at most", unit="px", least=1, most=100_000, help="Shrink if higher.", auto="any height"
    )


class Resize(PreparationStep):
    name = "resize"
    purpose = "Fewer or more pixels; results keep the coordinates of the source."
    Parameters = ResizeParameters
    examples = ({"factor": 0.7}, {"factor": 1.5})

    def summary(self, given: Mapping[str, Any]) -> str:
        names = ("factor", "width", "height", "width_max", "height_max")
        return ", ".join(f"{name.replace('_', ' ')} {given[name]:g}" for name in names if given.get(name))

    def suggested(self, image: Image | None) -> dict[str, Any]:
        return {"factor": 0.5}

    def apply(self, image: Image, parameters: ResizeParameters) -> Image:
        """Means of what each new pixel covers when shrinking, cubic interpolation when enlarging."""
        return self._resized(image, *_steps(image, parameters))

    def follow(self, template: Image, parameters: ResizeParameters, image: Image) -> Image:
        """As many pixels of the template to a new one as of the image."""
        return self._resized(template, *_steps(image, parameters))

    def _resized(self, image: Image, across: float, down: float) -> Image:
        """With so many pixels to a new one."""
        if across == down == 1.0:
            return image
        if max(across, down) > max(_COARSEST, image.width, image.height):
            raise ParameterError(
                f"resize: one new pixel would be {across:.3g} by {down:.3g} px, far more than the image has", "factor"
            )
        size = (max(1, round(image.width / across)), max(1, round(image.height / down)))
        if size[0] * size[1] > _MOST_PIXELS:
            raise ParameterError(f"resize: {size[0]} x {size[1]} px is too large; at most {_MOST_PIXELS:,} pixels in all")
        rows, columns = resampling(image.height, size[1], down), resampling(image.width, size[0], across)
        pixels = joined([resampled(plane, rows, columns) for plane in planes_of(image)])
        mask = None
        if image.mask is not None:
            mask = resampled(np.where(image.mask, 0, 255).astype(np.uint8), rows, columns) < 0.5
        frame = image.frame.after(Frame(((across, 0.0), (0.0, down)), (0.5 * across - 0.5, 0.5 * down - 0.5)))
        return image.with_pixels(pixels, frame=frame, mask=mask)

    def reach(self, image: Image, parameters: ResizeParameters) -> float:
        return 2.0 if min(_steps(image, parameters)) < 1 else 0.0


def _steps(image: Image, given: ResizeParameters) -> tuple[float, float]:
    """Old pixels a new pixel, across and down; the same both ways unless width and height are both given."""
    asked = {
        n: getattr(given, n) for n in ("factor", "width", "height", "width_max", "height_max") if getattr(given, n) is not None
    }
    groups = [g for g in (("factor",), ("width", "height"), ("width_max", "height_max")) if any(n in asked for n in g)]
    if len(groups) != 1:
        text = ", ".join(asked) or "nothing"
        raise ParameterError(
            f"resize: {text} is given; it must be factor, or width and/or height, or width_max and/or height_max",
            next(iter(asked), "factor"),
        )
    if "factor" in asked:
        return 1 / asked["factor"], 1 / asked["factor"]
    if groups[0] == ("width", "height"):
        across = image.width / asked["width"] if "width" in asked else None
        down = image.height / asked["height"] if "height" in asked else None
        return across or down or 1.0, down or across or 1.0
    step = max(1.0, image.width / asked.get("width_max", math.inf), image.height / asked.get("height_max", math.inf))
    return step, step


class RotateParameters(Parameters):
    """Parameters of `rotate`."""

    angle: float = gathers(
        0.0,
        label="Angle",
        unit="degrees",
        least=-360.0,
        most=360.0,
        usual=(-180.0, 180.0),
        help="Rotation about the centre, from +x towards +y (clockwise on the screen).",
    )
    expand: bool = gathers(True, label="Expand", help="Make room for the rotated corners; otherwise the size stays.")


class Rotate(PreparationStep):
    name = "rotate"
    purpose = "Rotate the image; results keep the coordinates of the source."
    Parameters = RotateParameters
    examples = ({"angle": 10.0}, {"angle": 90.0})

    def summary(self, given: Mapping[str, Any]) -> str:
        return f"{given['angle']:g}°"

    def apply(self, image: Image, parameters: RotateParameters) -> Image:
        """Cubic interpolation; what comes in from outside is black and invalid. Quarter turns move whole pixels."""
        turn = math.radians(parameters.angle)
        # Sine and cosine of whole quarter turns are whole numbers.
        c, s = (round(v) if abs(v - round(v)) < 1e-12 else v for v in (math.cos(turn), math.sin(turn)))
        if c == 1:
            return image
        width, height = image.width, image.height
        if parameters.expand:
            width = math.ceil(abs(image.width * c) + abs(image.height * s) - 1e-6)
            height = math.ceil(abs(image.width * s) + abs(image.height * c) - 1e-6)
        # Back from the turned picture: about the middles of both.
        x0, y0 = (width - 1) / 2, (height - 1) / 2
        x1, y1 = (image.width - 1) / 2, (image.height - 1) / 2
        back = Frame(((c, s), (-s, c)), (x1 - c * x0 - s * y0, y1 + s * x0 - c * y0))
        matrix = np.array([[c, s, back.offset[0]], [-s, c, back.offset[1]]], float)
        pixels = joined([warped(plane, matrix, (width, height), image.black) for plane in planes_of(image)])
        valid = np.full((image.height, image.width), 255, np.uint8)
        mask = dilated_invalid(image.mask, 1, 1)
        if mask is not None:
            valid[~mask] = 0
        mask = warped(valid, matrix, (width, height), 0) > 254.5
        if abs(c) in (0, 1) and image.pixels.dtype != np.float32:
            pixels = np.round(pixels).astype(image.pixels.dtype)
        kept = None if mask.all() else mask
        return image.with_pixels(pixels, frame=image.frame.after(back), mask=kept)

    def follow(self, template: Image, parameters: RotateParameters, image: Image) -> Image:
        """With room for the corners, whatever the image has."""
        return self.run(template, RotateParameters(angle=parameters.angle))

    def reach(self, image: Image, parameters: RotateParameters) -> float:
        return 0.0 if parameters.angle % 90 == 0 else 2.0
