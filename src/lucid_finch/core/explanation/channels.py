"""Where there is no contrast in the luma of a place: which other channel of its colours has some, and whether that finds it."""

from __future__ import annotations

import numpy as np

from lucid_finch.core.detector import Reason, Task
from lucid_finch.core.explanation.proposing import Budget, found_on
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.background import measure_background
from lucid_finch.core.numerics.edges.gradients import gradient_planes, magnitude, operator_kernels
from lucid_finch.core.prepare.colour_channels import Take, take_channel

_TRIED: tuple[Take, ...] = ("a", "b", "saturation", "red", "green", "blue")
_AROUND, _REACH = 128, 64
"""px around a place whose background is measured, and within which its contrast is looked for."""
_CLEAR, _CLEARER = 8.0, 2.0
"""Times the background that a channel must show, and times what the luma shows."""


def better_channel(task: Task, at: tuple[float, float], budget: Budget) -> Reason | None:
    """The channel of the colours behind the image in which something stands out at a place (x, y of the source) that hardly does
    in the luma; tried. None where there is none, or where there are no colours."""
    colour = task.colour
    if colour is None or task.image is None:
        return None
    part = _around(colour, at)
    luma = _stands_out(_around(task.image, at))
    shown = {take: _stands_out(take_channel(part, take)) for take in _TRIED}
    for take in sorted(shown, key=lambda name: -shown[name])[:2]:
        if shown[take] < max(_CLEAR, _CLEARER * luma):
            break
        if found_on(task, take_channel(colour, take), at, budget):
            text = (
                f"the luma shows {luma:.0f} times its background here, the channel {take} {shown[take]:.0f} times: "
                f"after the step channel with take = {take} this is found"
            )
            return Reason("channel", luma, shown[take], "", False, text)
    return None


def _around(image: Image, at: tuple[float, float]) -> Image:
    """The part of an image about a place of the source."""
    u, v = (round(float(w)) for w in image.frame.from_source(*at))
    rows, columns = (slice(max(w - _AROUND, 0), w + _AROUND + 1) for w in (v, u))
    return Image.from_array(np.ascontiguousarray(image.pixels[rows, columns]), value_range=(image.black, image.white))


def _stands_out(part: Image) -> float:
    """The strongest gradient about the middle over the scale of the background's."""
    kernels = operator_kernels("gaussian", 1.2)
    scale = measure_background(part.pixels, kernels, part.quantum).typical
    strength = magnitude(*gradient_planes(part.pixels, kernels))
    rows, columns = (slice(max(n // 2 - _REACH, 0), n // 2 + _REACH + 1) for n in strength.shape)
    # An edge has many strong pixels, noise one.
    strongest = float(np.quantile(strength[rows, columns], 0.995))
    return strongest / max(scale, 1e-6 * part.span)
