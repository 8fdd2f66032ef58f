"""Grey-level morphology with flat shapes: erosion, dilation and what is made of them."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.core.numerics.runtime.threads import over_bands
from lucid_finch.core.parameters import gathers
from lucid_finch.core.prepare.step import BorderedParameters, PreparationStep, odd, over_planes

Run = tuple[int, int, int]
"""Row offset, first and last column offset."""


class MorphologyParameters(BorderedParameters):
    """Parameters of `morphology`."""

    operation: Literal["open", "close", "erode", "dilate", "gradient", "top_hat", "bottom_hat"] = gathers(
        "open",
        label="Operation",
        help="erode (least of the neighbourhood), dilate (greatest), open (erode, then dilate: small bright things go), close "
        "(small dark things go), gradient (dilated less eroded), top_hat (what opening takes away), bottom_hat (what closing "
        "fills).",
    )
    shape: Literal["disc", "square", "line"] = gathers("disc", label="Shape", help="The neighbourhood.")
    size: int = gathers(
        5, label="Size", unit="px", least=1, most=301, usual=(1, 61), odd=True, help="Diameter, side or length of the shape."
    )
    angle: float = gathers(
        0.0,
        label="Angle",
        unit="degrees",
        least=-360.0,
        most=360.0,
        usual=(0.0, 180.0),
        only_with=("shape", ("line",)),
        help="Direction of a line; 0 is along x.",
    )


def shape_runs(shape: str, size: int, angle: float) -> list[Run]:
    """A flat shape about its middle as runs of columns."""
    radius = size // 2
    if shape == "square":
        return [(dy, -radius, radius) for dy in range(-radius, radius + 1)]
    if shape == "disc":
        halves = [int(math.sqrt((radius + 0.3) ** 2 - dy * dy)) for dy in range(-radius, radius + 1)]
        return [(dy, -half, half) for dy, half in zip(range(-radius, radius + 1), halves, strict=True)]
    c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
    # One pixel for each step along the longer axis.
    scale = max(abs(c), abs(s))
    places = {(round(k * s / scale), round(k * c / scale)) for k in range(-radius, radius + 1)}
    rows = sorted({dy for dy, _ in places})
    return [(dy, min(x for y, x in places if y == dy), max(x for y, x in places if y == dy)) for dy in rows]


def _extreme(plane: NDArray[Any], runs: list[Run], greatest: bool) -> NDArray[Any]:
    """Least or greatest value over a shape, mirrored at the border.

    A run's extreme is put together from those of runs half as long, so the cost grows with the number of different runs.
    """
    choose: Any = np.maximum if greatest else np.minimum
    # A dilation looks at the shape turned about its middle, so that opening and closing stay in place.
    sign = -1 if greatest else 1
    turned = [(sign * dy, *sorted((sign * first, sign * last))) for dy, first, last in runs]
    down = max(abs(dy) for dy, _, _ in turned)
    across = max(max(abs(first), abs(last)) for _, first, last in turned)
    padded = np.pad(plane, ((down, down), (across, across)), "reflect")
    height, width = plane.shape
    out = np.empty_like(plane)

    def band(top: int, bottom: int) -> None:
        part = padded[top : bottom + 2 * down]
        spans = {1: part}
        while 2 * max(spans) <= max(last - first + 1 for _, first, last in turned):
            n = max(spans)
            spans[2 * n] = choose(spans[n][:, : spans[n].shape[1] - n], spans[n][:, n:])
        target = out[top:bottom]
        for number, (dy, first, last) in enumerate(sorted(turned)):
            length = last - first + 1
            n = 1 << (length.bit_length() - 1)
            rows = slice(down + dy, down + dy + bottom - top)
            start, end = across + first, across + last + 1 - n
            if number == 0:
                target[:] = spans[n][rows, start : start + width]
            else:
                choose(target, spans[n][rows, start : start + width], out=target)
            if end != start:
                choose(target, spans[n][rows, end : end + width], out=target)

    over_bands(band, height)
    return out


class Morphology(PreparationStep):
    name = "morphology"
    purpose = "Remove, fill or outline what is smaller than a shape."
    Parameters = MorphologyParameters

    def summary(self, given: Mapping[str, Any]) -> str:
        return f"{given['operation'].replace('_', ' ')}, {given['shape']} {given['size']} px"

    def apply(self, image: Image, parameters: MorphologyParameters) -> Image:
        runs = shape_runs(parameters.shape, odd(parameters.size, "morphology"), parameters.angle)
        operation = parameters.operation

        def run(plane: NDArray[Any]) -> NDArray[Any]:
            if operation in ("erode", "dilate"):
                return _extreme(plane, runs, operation == "dilate")
            if operation == "gradient":
                return np.asarray(_extreme(plane, runs, True) - _extreme(plane, runs, False))
            opens = operation in ("open", "top_hat")
            result = _extreme(_extreme(plane, runs, not opens), runs, opens)
            return np.asarray(
                plane - result if operation == "top_hat" else result - plane if operation == "bottom_hat" else result
            )

        margin = int(self.reach(image, parameters))
        result = over_planes(image, run, (margin, margin), parameters.border, "morphology", quantum=image.quantum)
        differs = operation in ("gradient", "top_hat", "bottom_hat")
        return replace(result, black=0.0, white=image.span) if differs else result

    def reach(self, image: Image, parameters: MorphologyParameters) -> float:
        return (parameters.size // 2) * (1 if parameters.operation in ("erode", "dilate", "gradient") else 2)
