"""What a preparation step is: a parameter model and a function from image to image."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.valid_region import clipped, shrunk

Border = Literal["mirror", "replicate", "constant", "trim"]

PADDING = {"mirror": "reflect", "replicate": "edge", "constant": "constant"}
"""What NumPy calls the ways to go on beyond the border."""


class PreparationStep:
    """Base of all steps; instances hold no state."""

    name: ClassVar[str]
    purpose: ClassVar[str]
    """One line for lists."""
    Parameters: ClassVar[type[Parameters]]

    def apply(self, image: Image, parameters: Any) -> Image:
        """The image after the step, its frame and mask kept up. Raises `ParameterError`."""
        raise NotImplementedError

    def reach(self, image: Image, parameters: Any) -> float:
        """How far a pixel's neighbourhood goes, px of `image`: so near the border, results rest on what is not there."""
        return 0.0

    def kernels(self, parameters: Any) -> dict[str, NDArray[np.float64]]:
        """The arithmetic of the step as tables of coefficients, by label; none if it is no weighted sum."""
        return {}

    def run(self, image: Image, parameters: Any) -> Image:
        """`apply`, and what is then sure near the border."""
        result = self.apply(image, parameters)
        reach = self.reach(image, parameters)
        sure = image.sure
        if reach > 0:
            sure = shrunk(clipped(image.corners, sure), reach * image.frame.scale)
        return replace(result, sure=sure) if sure is not result.sure else result


class BorderedParameters(Parameters):
    """What every step with a neighbourhood takes."""

    border: Border = gathers(
        "mirror",
        label="Border",
        help="What stands for the pixels beyond the border: mirror (about the edge pixel's centre), replicate (the edge "
        "pixel), constant (black), or trim (the result loses the margin instead).",
    )


def over_planes(
    image: Image, run: Callable[[NDArray[Any]], NDArray[Any]], margin: tuple[int, int], border: str, what: str, **changes: Any
) -> Image:
    """The image with `run` over each of its planes; `run` mirrors, the other borders are laid on before and cut off after.

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
    mask = spread_invalid(image.mask, down, across)
    result = image.with_pixels(pixels, **{"mask": mask, "quantum": 0.0, **changes})
    return without_margin(result, down, across, what) if border == "trim" else result


def planes_of(image: Image) -> list[NDArray[Any]]:
    """The one plane of a grey image, or the three of a colour image, each contiguous."""
    return [np.ascontiguousarray(image.pixels[..., c]) for c in range(3)] if image.is_colour else [image.pixels]


def joined(planes: list[NDArray[Any]]) -> NDArray[Any]:
    """What `planes_of` took apart, together again."""
    return planes[0] if len(planes) == 1 else np.stack(planes, axis=2)


def spread_invalid(mask: NDArray[np.bool_] | None, down: int, across: int) -> NDArray[np.bool_] | None:
    """The mask, invalid wherever an invalid pixel lies within so many rows and columns: no value of the scene is there."""
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
