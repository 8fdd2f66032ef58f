"""The grey image that most detectors read of a colour image."""

from __future__ import annotations

from lucid_finch.core.image import LUMA, Image
from lucid_finch.core.numerics.filtering.channels import mix


def as_luma(image: Image) -> Image:
    """The luma of a colour image; a grey one as it is."""
    return image.with_pixels(mix(image.pixels, LUMA)) if image.is_colour else image
