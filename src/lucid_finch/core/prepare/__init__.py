"""The preparation steps, one module a family, and the table that names them."""

from __future__ import annotations

from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.prepare.colour import Channel, ContrastAxis
from lucid_finch.core.prepare.cut import Crop
from lucid_finch.core.prepare.derivatives import Derivative, Kernel
from lucid_finch.core.prepare.lighting import Flatten
from lucid_finch.core.prepare.morphology import Morphology
from lucid_finch.core.prepare.resampling import Resize, Rotate
from lucid_finch.core.prepare.smoothing import Sharpen, Smooth
from lucid_finch.core.prepare.step import PreparationStep
from lucid_finch.core.prepare.tones import Tone

_ALL = (Channel, ContrastAxis, Tone, Flatten, Smooth, Sharpen, Derivative, Kernel, Crop, Resize, Rotate, Morphology)

STEPS: dict[str, type[PreparationStep]] = {step.name: step for step in _ALL}
"""Every preparation step by name."""


def step_of(name: str) -> PreparationStep:
    """The step of that name. Raises `ParameterError`."""
    if name not in STEPS:
        raise ParameterError(f'step: "{name}" is not known{nearest(name, STEPS)}; there are: {", ".join(STEPS)}', "step")
    return STEPS[name]()
