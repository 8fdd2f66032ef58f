"""How a parameter is declared, once: its stage, type, label, unit, range, default and help, and errors in our own words."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import cache, cached_property
from types import NoneType
from typing import Any, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.parameter_types import alternatives, type_of
from lucid_finch.core.parameter_types.base import ParameterType
from lucid_finch.core.parameter_types.numbers import Length, Range, RangeType
from lucid_finch.core.parameter_types.structures import Coefficients, RegionType

__all__ = [
    "Coefficients", "Declaration", "Length", "Parameters", "Range", "Stage", "forms", "gathers", "judges",
]  # fmt: skip


class Stage(StrEnum):
    """What has to be done again when a parameter changes."""

    GATHER = "gather"
    FORM = "form"
    JUDGE = "judge"


@dataclass(frozen=True)
class Scale:
    """How a parameter's value becomes the value that its criterion is compared with, and back."""

    to_limit: Callable[[float], float]
    from_limit: Callable[[float], float]


_SCALES = {
    "same": Scale(lambda value: value, lambda limit: limit),
    "expected": Scale(lambda value: -math.log10(value), lambda limit: 10.0**-limit),
}
"""`expected`: a number of expected events, judged as -log10 of it."""


@dataclass(frozen=True)
class Declaration:
    """All that is known of one parameter."""

    name: str
    stage: Stage
    label: str
    help: str
    default: Any
    annotation: Any
    unit: str = ""
    least: float | None = None
    most: float | None = None
    above: float | None = None
    usual: tuple[float, float] | None = None
    """The range that a slider spans."""
    auto: str = ""
    """What a value of None means."""
    criterion: str = ""
    sense: Literal["at least", "at most"] = "at least"
    tolerance: float = 0.0
    """Of a limit in px: by how much it may be missed, since nothing is measured better."""
    scale: Literal["same", "expected"] = "same"
    over: Literal["", "grey"] = ""
    """Of what a histogram is shown with it, where it judges no criterion: the grey levels of the image."""
    only_with: tuple[str, tuple[str, ...]] | None = None
    """Another parameter and the values of it with which this one has an effect; None: always."""
    odd: bool = False
    """Whether only odd whole numbers make sense."""
    incomplete: tuple[str, ...] = ()
    """Choices that need another parameter to be given."""
    upper_criterion: str = ""
    """Of a range: the column that its upper end is compared with, where that is another one."""
    admits: Any = None
    """Of a choice or switch with a criterion: the value that sets no limit."""
    unless: str = ""
    """Another parameter that takes the place of this limit where it is given."""
    shared: bool = False
    """Whether all detectors, or all steps with a neighbourhood, take it: such ones are listed last."""
    more: bool = False
    """Whether it is rarely changed: the window folds such ones away."""
    of_picture: bool = False
    """Whether it is in pixels of a picture among the parameters, not of the image."""
    sketch: Literal["", "border"] = ""
    """A drawing that is shown with it."""

    @cached_property
    def type(self) -> ParameterType:
        """How its values are read, shown, described and swept."""
        return type_of(self.annotation, self.scale)

    @property
    def optional(self) -> bool:
        """Whether the program may choose the value."""
        return NoneType in alternatives(self.annotation)

    @property
    def choices(self) -> tuple[str, ...]:
        """The allowed texts, or nothing if it is no choice."""
        return getattr(self.type, "choices", ())

    @property
    def is_region(self) -> bool:
        return isinstance(self.type, RegionType)

    @property
    def is_range(self) -> bool:
        return isinstance(self.type, RangeType)

    @property
    def allowed(self) -> str:
        """What may be given, in words."""
        return self.type.allowed(self) + (f", or auto: {self.auto}" if self.optional and self.auto else "")

    def to_limit(self, value: float) -> float:
        """The value that the criterion is compared with."""
        return _SCALES[self.scale].to_limit(value)

    def from_limit(self, limit: float) -> float:
        """The parameter's value behind a limit of its criterion. Raises `OverflowError`."""
        return _SCALES[self.scale].from_limit(limit)

    def plain_default(self) -> Any:
        """The default as it is written to a recipe; None also for what must be given."""
        plain = getattr(self.default, "plain", None)
        if plain is not None:
            return plain()
        return None if self.default is ... or repr(self.default) == "PydanticUndefined" else self.default


def _declare(stage: Stage, default: Any, label: str, help: str, extra: dict[str, Any]) -> Any:
    # A number's bounds are checked by pydantic; those of lengths and of the ends of ranges by the model.
    bounds = {"ge": extra.get("least"), "le": extra.get("most"), "gt": extra.get("above")}
    if isinstance(default, Length) or extra.pop("is_length", False) or extra.pop("is_range", False):
        bounds = {}
    declared = {"stage": str(stage), **extra}
    given = {name: value for name, value in bounds.items() if value is not None}
    return Field(default, description=help, title=label, json_schema_extra={"finch": declared}, **given)


def gathers(default: Any, *, label: str, help: str, **extra: Any) -> Any:
    """A parameter whose change visits the pixels again."""
    return _declare(Stage.GATHER, default, label, help, extra)


def forms(default: Any, *, label: str, help: str, **extra: Any) -> Any:
    """A parameter whose change forms the candidates again, from what was gathered."""
    return _declare(Stage.FORM, default, label, help, extra)


def judges(default: Any, *, label: str, help: str, criterion: str = "", **extra: Any) -> Any:
    """A parameter that only judging uses; with a `criterion`, a limit on that column of the candidates."""
    return _declare(Stage.JUDGE, default, label, help, {"criterion": criterion, **extra})


class Parameters(BaseModel):
    """Base of every parameter model: strict, frozen, no unknown names."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, validate_default=True, allow_inf_nan=False)

    @model_validator(mode="after")
    def _ranges(self) -> Self:
        """The ends of ranges are within their bounds and in order."""
        for name, declared in self.declarations().items():
            given = getattr(self, name)
            if not declared.is_range or given is None:
                continue
            lengths = [end for end in given if isinstance(end, Length)]
            units = {"px": ("mm", "%", "%w", "%h"), "px²": ("mm2",)}.get(declared.unit, ())
            if any(end.unit not in units for end in lengths):
                raise ValueError(f"{name} = {list(map(str, given))} is not allowed; it must be {declared.allowed}")
            if len(lengths) == 2 and lengths[0].unit == lengths[1].unit and lengths[0].value > lengths[1].value:
                raise ValueError(f"{name} = {list(map(str, given))} is not allowed; the minimum comes first")
            ends = [end for end in given if end is not None and not isinstance(end, Length)]
            beyond = any(
                (declared.least is not None and end < declared.least) or (declared.most is not None and end > declared.most)
                for end in ends
            )
            if beyond or ends != sorted(ends):
                why = f"it must be {declared.allowed}" if beyond else "the minimum comes first"
                raise ValueError(f"{name} = {list(given)} is not allowed; {why}")
        return self

    @classmethod
    def declarations(cls) -> dict[str, Declaration]:
        """Every parameter by name, in the order declared."""
        return _declarations(cls)

    @classmethod
    def make(cls, given: Mapping[str, Any], what: str) -> Self:
        """Validate; raises `ParameterError` that names the parameter, its value and what is allowed."""
        try:
            return cls.model_validate({name: _plain(value) for name, value in given.items()})
        except ValidationError as error:
            raise _in_our_words(error, cls, what) from None

    def changed(self, what: str, **changes: Any) -> Self:
        """A validated copy with some values replaced."""
        return type(self).make({**self.plain(), **changes}, what)

    def plain(self, stage: Stage | None = None) -> dict[str, Any]:
        """Values as they are written to a recipe; only those of one stage if given."""
        dumped = self.model_dump(mode="json")
        if stage is None:
            return dumped
        return {name: dumped[name] for name, d in self.declarations().items() if d.stage is stage}


@cache
def _declarations(model: type[Parameters]) -> dict[str, Declaration]:
    found = {}
    for name, info in model.model_fields.items():
        declared: Any = info.json_schema_extra or {}
        extra = dict(declared.get("finch", {"stage": "gather"}))
        stage = Stage(extra.pop("stage"))
        for several in ("usual", "incomplete"):
            if extra.get(several) is not None:
                extra[several] = tuple(extra[several])
        other = extra.pop("only_with", None)
        found[name] = Declaration(
            name=name, stage=stage, label=info.title or name, help=info.description or "", default=info.default,
            annotation=info.annotation, only_with=(other[0], tuple(other[1])) if other else None, **extra,
        )  # fmt: skip
    return found


def _plain(value: Any) -> Any:
    """NumPy scalars and lists to what strict validation takes."""
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, (list, np.ndarray)):
        return tuple(_plain(v) for v in value)
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    return value


def _in_our_words(error: ValidationError, model: type[Parameters], what: str) -> ParameterError:
    problem = min(error.errors(), key=lambda e: e["type"] != "extra_forbidden")
    place = [str(part) for part in problem["loc"]]
    name = place[0] if place else ""
    known = model.declarations()
    if problem["type"] == "extra_forbidden" and len(place) == 1:
        hint = nearest(name, known)
        return ParameterError(f'{what} has no parameter "{name}"{hint}; there are: {", ".join(known)}', name)
    if problem["type"] == "missing" and len(place) == 1:
        return ParameterError(f"{what}: {name} is needed; {known[name].allowed}", name)
    if not name:
        return ParameterError(f"{what}: {problem['msg'].removeprefix('Value error, ')}")
    where = ".".join(p for p in place if p not in ("tuple", "function-after"))
    value = problem["input"]
    shown = f'"{value}"' if isinstance(value, str) else repr(value)
    if len(place) == 1:
        return ParameterError(f"{what}: {name} = {shown} is not allowed; it must be {known[name].allowed}", name)
    reason = problem["msg"].removeprefix("Value error, ")
    return ParameterError(f"{what}: {where} = {shown} is not allowed ({reason}); {name} must be {known[name].allowed}", name)
