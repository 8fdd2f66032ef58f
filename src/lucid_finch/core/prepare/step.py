"""What a preparation step is: a parameter model and a function from image to image."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from lucid_finch.core.image import Image
from lucid_finch.core.parameters import Parameters, gathers

Border = Literal["mirror", "replicate", "constant", "trim"]


class PreparationStep:
    """Base of all steps; instances hold no state."""

    name: ClassVar[str]
    purpose: ClassVar[str]
    """One line for lists."""
    Parameters: ClassVar[type[Parameters]]

    def apply(self, image: Image, parameters: Any) -> Image:
        """The image after the step, its frame and mask kept up. Raises `ParameterError`."""
        raise NotImplementedError


class BorderedParameters(Parameters):
    """What every step with a neighbourhood takes."""

    border: Border = gathers(
        "mirror",
        label="Border",
        help="What stands for the pixels beyond the border: mirror (about the edge pixel's centre), replicate (the edge "
        "pixel), constant (black), or trim (the result loses the margin instead).",
    )
