"""Cutting out a part of the image."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.prepare.step import PreparationStep, suggested_box, trimmed
from lucid_finch.core.regions import Region


class CropParameters(Parameters):
    """Parameters of `crop`."""

    region: Region = gathers(
        ..., label="Region", help="What to keep, in source pixels; of a shape that is no upright rectangle, the box around it."
    )


class Crop(PreparationStep):
    name = "crop"
    purpose = "Keep a part of the image; positions stay those of the source."
    Parameters = CropParameters
    examples = ({"region": {"shape": "rectangle", "x": 40.0, "y": 40.0, "width": 50.0, "height": 50.0}},)

    def summary(self, given: Mapping[str, Any]) -> str:
        region = given["region"]
        return f"{region['shape']} at {region['x']:.0f}, {region['y']:.0f}" if "x" in region else str(region["shape"])

    def suggested(self, image: Image | None) -> dict[str, Any]:
        return {"region": suggested_box(image, (0.5, 0.5), (1.0, 1.0))}

    def apply(self, image: Image, parameters: CropParameters) -> Image:
        x = np.arange(image.width, dtype=float)[None, :]
        y = np.arange(image.height, dtype=float)[:, None]
        inside = parameters.region.contains(*image.frame.to_source(x, y))
        rows, columns = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
        if not len(rows):
            raise ParameterError(
                f"crop: region holds no pixel of the image, which covers x from -0.5 to {image.source_size[0] - 0.5:g} "
                f"and y from -0.5 to {image.source_size[1] - 0.5:g}",
                "region",
            )
        window = (slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1))
        return trimmed(image, window, None if inside[window].all() else inside[window])

    def follow(self, template: Image, parameters: CropParameters, image: Image) -> Image:
        """A part of the image is cut out; what is sought in it stays whole."""
        return template
