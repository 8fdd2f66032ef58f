"""Parameters that are given in millimetres or in percent of the image: what they are in pixels, and which stay millimetres."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.parameters import Declaration, Length, Parameters

Made = TypeVar("Made", bound=Parameters)


def metric_ends(declared: Declaration, value: Any) -> Mapping[int, float]:
    """mm or mm2 of those ends (0, 1) of a range that are given so, of any other length under -1."""
    if declared.is_range:
        ends = enumerate(value or ())
        return {place: end.value for place, end in ends if isinstance(end, Length) and end.is_metric}
    return {-1: value.value} if isinstance(value, Length) and value.is_metric else {}


def in_pixels(parameters: Made, calibration: Calibration | None) -> Made:
    """The parameters with what is in millimetres as pixels. Limits take the scale at which they let most pass, anywhere in the
    picture: judging then compares millimetres. Raises `ParameterError` where there is no calibration."""
    changes: dict[str, Any] = {}
    for name, declared in parameters.declarations().items():
        value = getattr(parameters, name)
        metric = metric_ends(declared, value)
        if not metric:
            continue
        if calibration is None:
            shown = declared.type.show(value)
            raise ParameterError(f"{name} = {shown}: a length in mm needs a calibration", name)
        power = 2 if declared.unit == "px²" else 1
        if declared.is_range:
            ends = list(value)
            for end, number in metric.items():
                ends[end] = number * calibration.scale_range[end] ** power
            changes[name] = tuple(ends)
        else:
            loosest = {"at least": 0, "at most": 1}[declared.sense]
            scale = calibration.scale_range[loosest] if declared.criterion else calibration.scale
            changes[name] = Length(metric[-1] * scale)
    return parameters.model_copy(update=changes) if changes else parameters


def of_image(parameters: Made, size: tuple[int, int]) -> Made:
    """The parameters with the ends of ranges that are in percent as pixels of an image of that size (width, height). Raises
    `ParameterError` where there the minimum does not come first."""
    changes: dict[str, Any] = {}
    for name, declared in parameters.declarations().items():
        ends = (getattr(parameters, name) or ()) if declared.is_range else ()
        if any(isinstance(end, Length) and not end.is_metric for end in ends):
            made = [end.pixels(*size) if isinstance(end, Length) and not end.is_metric else end for end in ends]
            numbers = [end for end in made if isinstance(end, float)]
            if numbers != sorted(numbers):
                shown = f"{name} = {declared.type.show(ends)}"
                raise ParameterError(f"{shown}: on this image {numbers[0]:g} to {numbers[1]:g} px; the minimum comes first", name)
            changes[name] = tuple(made)
    return parameters.model_copy(update=changes) if changes else parameters
