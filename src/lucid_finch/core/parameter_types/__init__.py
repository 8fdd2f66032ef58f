"""The types of parameters, and the table from the annotation of a field to its type."""

from __future__ import annotations

from types import NoneType
from typing import Any, Literal, get_args, get_origin

from lucid_finch.core.parameter_types.base import ParameterType
from lucid_finch.core.parameter_types.choices import Choice, Switch, Text
from lucid_finch.core.parameter_types.numbers import (
    ExpectedNumber,
    Length,
    LengthType,
    Number,
    Numbers,
    Range,
    RangeType,
    WholeNumber,
)
from lucid_finch.core.parameter_types.references import Asset, AssetType, Pose, PoseType, Reference, ReferenceType
from lucid_finch.core.parameter_types.structures import Coefficients, CoefficientsType, RegionType

_BY_ANNOTATION: dict[Any, ParameterType] = {
    bool: Switch(),
    int: WholeNumber(),
    float: Number(),
    str: Text(),
    Length: LengthType(),
    Range: RangeType(),
    # Of a field that cannot be None, pydantic tells the type without its annotation.
    get_args(Range)[0]: RangeType(),
    Coefficients: CoefficientsType(),
    Asset: AssetType(),
    Reference: ReferenceType(),
    Pose: PoseType(),
}
_EXPECTED = ExpectedNumber()
_REGION = RegionType()


def alternatives(annotation: Any) -> tuple[Any, ...]:
    """The parts of an annotation that may be None; else the annotation alone."""
    return get_args(annotation) if get_origin(annotation) is not Literal and NoneType in get_args(annotation) else (annotation,)


def type_of(annotation: Any, scale: str = "same") -> ParameterType:
    """The type of a parameter with that annotation; anything that is no other type is a region."""
    kind = next(a for a in alternatives(annotation) if a is not NoneType)
    if kind is float and scale == "expected":
        return _EXPECTED
    if get_origin(kind) is Literal:
        return Choice(tuple(get_args(kind)))
    try:
        known = _BY_ANNOTATION.get(kind)
    except TypeError:
        known = None
    if known is not None:
        return known
    if get_origin(kind) is tuple and Ellipsis not in get_args(kind):
        return Numbers(len(get_args(kind)))
    return _REGION
