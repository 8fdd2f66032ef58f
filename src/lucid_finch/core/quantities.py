"""How a number goes from an image's own pixel frame to the source's: by the quantity that its column declares."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Frame

Array = NDArray[Any]
Quantity = Literal[
    "", "x", "y", "x error", "y error", "length", "across", "path", "box", "length error", "area", "slope", "direction",
    "line angle", "pose angle", "row",
]  # fmt: skip
"""What a column holds. `x` and `x error` name their other half, the column of y. `length`: along the angle that its `pair` names,
else along any; `across`: at a right angle to it; `path`: along the outline; `box`: a side of the smallest
rectangle around it, the one that the column is named after; `length error`: one standard deviation of the
column that it names. `direction`: degrees of a gradient, in [0, 360); `line angle`: in [0, 180); `pose angle`: in (-180, 180];
`slope`: grey levels per px; `row`: the place of another finding. Everything else does not change with the frame."""


class HasQuantity(Protocol):
    """What a column has to say."""

    @property
    def name(self) -> str: ...
    @property
    def quantity(self) -> Quantity: ...
    @property
    def pair(self) -> str: ...


def to_source(columns: Mapping[str, Array], declared: Sequence[HasQuantity], frame: Frame) -> dict[str, Array]:
    """Columns of an image's own frame as those of the source; columns that are not declared stay as they are."""
    moved = dict(columns)
    if frame.is_identity:
        return moved
    for column in declared:
        if column.name not in columns:
            continue
        values = columns[column.name]
        match column.quantity:
            case "x":
                moved[column.name], moved[column.pair] = frame.to_source(values, columns[column.pair])
            case "x error":
                moved[column.name], moved[column.pair] = frame.errors_to_source(values, columns[column.pair])
            case "length" | "across" | "path" | "box" | "length error":
                moved[column.name] = values * frame.scale
            case "area":
                moved[column.name] = values * frame.scale**2
            case "slope":
                moved[column.name] = values / frame.scale
            case "direction":
                moved[column.name] = frame.gradient_direction(values)
            case "line angle":
                moved[column.name] = frame.angle_to_source(values) % 180.0
            case "pose angle":
                turned = frame.angle_to_source(values) % 360.0
                moved[column.name] = np.where(turned > 180.0, turned - 360.0, turned)
    return moved
