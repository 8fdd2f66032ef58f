"""What a preparation step is: a parameter model and a function from image to image."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.valid_region import clipped, shrunk

Border = Literal["mirror", "replicate", "constant", "trim"]

PADDING = {"mirror": "reflect", "replicate": "edge", "constant": "constant"}
"""NumPy's names of the border modes."""


@dataclass(frozen=True)
class Alternative:
    """Another step that could take the place of one."""

    value: str
    label: str
    step: dict[str, Any]
    """As plain data."""


class PreparationStep:
    """Base of all steps; instances hold no state."""

    name: ClassVar[str]
    purpose: ClassVar[str]
    """One line for lists."""
    Parameters: ClassVar[type[Parameters]]
    examples: ClassVar[tuple[Mapping[str, Any], ...]] = ({},)
    """Parameters that the step is tried with: all of its kernels are compiled by its examples."""
    separates: ClassVar[bool] = False
    """Whether it makes grey of colour, so that areas of an object and of its surroundings can be sampled."""

    def apply(self, image: Image, parameters: Any) -> Image:
        """The image after the step, with its frame and mask. Raises `ParameterError`."""
        raise NotImplementedError

    def follow(self, template: Image, parameters: Any, image: Image) -> Image:
        """What the step makes of a template that is sought in `image`, whose content and size decide where they matter."""
        return self.run(template, parameters)

    def reach(self, image: Image, parameters: Any) -> float:
        """Radius of the filter support, px of `image`: nearer to the border, results depend on the border mode."""
        return 0.0

    def kernels(self, parameters: Any) -> dict[str, NDArray[np.float64]]:
        """The arithmetic of the step as tables of coefficients, by label; none if it is no weighted sum."""
        return {}

    def summary(self, given: Mapping[str, Any]) -> str:
        """What the step does, in a few words, from its parameters as plain data."""
        return ""

    def suggested(self, image: Image | None) -> dict[str, Any]:
        """Parameters that a new step starts with on an image, besides its defaults."""
        return {}

    def sampled(self, given: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any]] | None:
        """Areas of object and surroundings among its own parameters."""
        return None

    def alternatives(
        self, image: Image, given: Mapping[str, Any], sampled: Sequence[Mapping[str, Any]] | None
    ) -> list[Alternative]:
        """Other steps to compare with this one, the best first; `sampled`: areas of object and surroundings. Raises
        `ParameterError`."""
        return []

    def run(self, image: Image, parameters: Any) -> Image:
        """`apply`, and the valid region after it."""
        result = self.apply(image, parameters)
        reach = self.reach(image, parameters)
        region = image.valid_region
        if reach > 0:
            region = shrunk(clipped(image.corners, region), reach * image.frame.scale)
        return replace(result, valid_region=region) if region is not result.valid_region else result


def suggested_box(image: Image | None, centre: tuple[float, float], size: tuple[float, float]) -> dict[str, Any]:
    """A rectangle as plain data; centre and size as shares of the source image."""
    width, height = image.source_size if image is not None else (100, 100)
    numbers = {
        "x": centre[0] * (width - 1), "y": centre[1] * (height - 1), "width": size[0] * width, "height": size[1] * height,
    }  # fmt: skip
    return {"shape": "rectangle", **{name: round(value, 1) for name, value in numbers.items()}}


class BorderedParameters(Parameters):
    """What every step with a neighbourhood takes."""

    border: Border = gathers(
        "mirror",
        label="Border",
        shared=True,
        sketch="border",
        help="Values of the pixels beyond the border: mirror (about the edge pixel's centre), replicate (the edge pixel), "
        "constant (black), or trim (the result is smaller instead).",
        more=True,
    )


def over_planes(
    image: Image, run: Callable[[NDArray[Any]], NDArray[Any]], margin: tuple[int, int], border: str, what: str, **changes: Any
) -> Image:
    """The image with `run` over each of its planes; `run` mirrors, the other borders are padded before and cropped after.

    `margin` (rows, columns) is what a neighbourhood needs beyond the border. Pixels whose neighbourhood holds an invalid
    one become invalid. `changes` are further fields of the image. Raises `ParameterError` where a trim leaves nothing.
    """
    down, across = margin
    results = []
    for plane in planes_of(image):
        if border in ("mirror", "trim") or not (down or across):
            results.append(run(plane))
            continue
        filled = {"constant_values": image.black} if border == "constant" else {}
        padded = np.pad(plane, ((down, down), (across, across)), PADDING[border], **filled)  # type: ignore[call-overload]
        results.append(run(padded)[down : down + image.height, across : across + image.width])
    pixels = joined(results)
    mask = dilated_invalid(image.mask, down, across)
    result = image.with_pixels(pixels, **{"mask": mask, "quantum": 0.0, **changes})
    return without_margin(result, down, across, what) if border == "trim" else result


def planes_of(image: Image) -> list[NDArray[Any]]:
    """The one plane of a grey image, or the three of a colour image, each contiguous."""
    return [np.ascontiguousarray(image.pixels[..., c]) for c in range(3)] if image.is_colour else [image.pixels]


def joined(planes: list[NDArray[Any]]) -> NDArray[Any]:
    """Planes as one array again."""
    return planes[0] if len(planes) == 1 else np.stack(planes, axis=2)


def dilated_invalid(mask: NDArray[np.bool_] | None, down: int, across: int) -> NDArray[np.bool_] | None:
    """The mask, invalid wherever an invalid pixel is within so many rows and columns."""
    if mask is None or not (down or across):
        return mask
    from scipy import ndimage  # here, since loading it takes half a second

    return np.asarray(~ndimage.maximum_filter(~mask, (2 * down + 1, 2 * across + 1), mode="nearest"))


def trimmed(image: Image, window: tuple[slice, slice], inside: np.ndarray | None = None) -> Image:
    """The part of the image in `window` (rows, columns), its mask narrowed to `inside`."""
    mask = image.mask[window] if image.mask is not None else None
    if inside is not None:
        mask = inside if mask is None else mask & inside
    frame = image.frame.after(Frame.shifted(window[1].start, window[0].start))
    return replace(image, pixels=np.ascontiguousarray(image.pixels[window]), mask=mask, frame=frame)


def without_margin(image: Image, down: float, across: float, what: str) -> Image:
    """The image less so many rows above and below and columns at both sides. Raises `ParameterError` if nothing is left."""
    rows, columns = math.ceil(down), math.ceil(across)
    if image.width <= 2 * columns or image.height <= 2 * rows:
        raise ParameterError(
            f"{what}: border = trim leaves nothing of {image.width} x {image.height} px; the margin is {max(rows, columns)} px"
        )
    return trimmed(image, (slice(rows, image.height - rows), slice(columns, image.width - columns)))


def odd(size: int, what: str, name: str = "size") -> int:
    """`size` if it is odd. Raises `ParameterError`."""
    if size % 2 == 0:
        raise ParameterError(f"{what}: {name} = {size} is not allowed; it must be odd", name)
    return size
