"""The image as some detectors look at it: without single pixels far off their neighbours, or shrunk by blocks."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from lucid_finch.core.detector import Context
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.numerics.filtering.halving import any_in_block, block_means
from lucid_finch.core.numerics.filtering.impulses import without_impulses
from lucid_finch.core.numerics.regions.thresholding import pixel_noise

_NOISE_ROWS = 48
"""Rows that the noise of a pixel is measured in, before anything else is known."""


@dataclass(frozen=True)
class Variant:
    """An image made of another, and a context of its own for what is shared of it."""

    image: Image
    context: Context
    notes: tuple[str, ...] = ()

    @property
    def is_calmed(self) -> bool:
        """Whether single pixels were left out."""
        return bool(self.notes)


def _own(context: Context, prefix: str) -> Context:
    return replace(context, shared=lambda what, make: context.shared(f"{prefix} {what}", make))


def calmed(image: Image, context: Context) -> Variant:
    """Without single pixels far off their neighbours, where the image, or a colour of it, has many; else as it is."""

    def make() -> Image:
        pixels = image.pixels
        planes = [pixels] if pixels.ndim == 2 else [np.ascontiguousarray(pixels[..., k]) for k in range(pixels.shape[2])]
        rows = slice(None, None, max(1, image.height // _NOISE_ROWS))
        calm = [without_impulses(plane, image.span, pixel_noise(plane[rows])) for plane in planes]
        if all(plane is None for plane in calm):
            return image
        both = [plane if own is None else own for plane, own in zip(planes, calm, strict=True)]
        return replace(image, pixels=both[0] if pixels.ndim == 2 else np.stack(both, axis=2))

    # Colours that are calmed before they are mixed give another luma.
    what = "calm colour" if image.is_colour else "calm"
    found: Image = context.shared(what, make)
    if found is image:
        return Variant(image, context)
    return Variant(found, _own(context, what), ("single pixels far off their neighbours were left out",))


def shrunk_by(image: Image, side: int, context: Context) -> Variant:
    """Shrunk: a pixel is the mean of a block of `side` x `side`, and masked where one of them is."""
    if side <= 1:
        return Variant(image, context)

    def make() -> Image:
        frame = image.frame.after(Frame(((side, 0.0), (0.0, side)), (0.5 * (side - 1), 0.5 * (side - 1))))
        masked = any_in_block(None if image.mask is None else ~image.mask, side)
        mask = None if masked is None else masked == 0
        return replace(image, pixels=block_means(image.pixels, side), mask=mask, frame=frame, quantum=image.quantum / side**2)

    return Variant(context.shared(f"shrunk {side}", make), _own(context, f"shrunk {side}"))
