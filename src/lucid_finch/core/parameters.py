"""How a parameter is declared, once: its stage, label, unit, range, default and help, and errors in our own words."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import cache
from types import NoneType
from typing import Any, Literal, Self, get_args, get_origin

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, GetCoreSchemaHandler, ValidationError, model_validator
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import PydanticCustomError, core_schema

from lucid_finch.core.errors import ParameterError, nearest


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


SCALES = {
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
    scale: str = "same"
    over: Literal["", "grey"] = ""
    """Of what a histogram is shown with it, where it judges no criterion: the grey levels of the image."""
    only_with: tuple[str, tuple[str, ...]] | None = None
    """Another parameter and the values of it with which this one has an effect; None: always."""

    @property
    def choices(self) -> tuple[str, ...]:
        """The allowed texts, or nothing if it is no choice."""
        literal = next((a for a in _alternatives(self.annotation) if get_origin(a) is Literal), None)
        return tuple(get_args(literal)) if literal is not None else ()

    @property
    def optional(self) -> bool:
        return NoneType in _alternatives(self.annotation)

    @property
    def is_region(self) -> bool:
        return self.name in ("region", "inside", "outside")

    @property
    def is_range(self) -> bool:
        return self.type == Range

    @property
    def type(self) -> Any:
        """The annotation without None."""
        return next(a for a in _alternatives(self.annotation) if a is not NoneType)

    @property
    def allowed(self) -> str:
        """What may be given, in words."""
        kind = self.type
        unit = f" {self.unit}" if self.unit else ""
        if self.choices:
            text = "one of " + ", ".join(self.choices)
        elif kind is bool:
            text = "true or false"
        elif kind in (int, float) or kind is Length:
            noun = "a whole number" if kind is int else "a length such as 25, 25px, 3%, 20%w" if kind is Length else "a number"
            text = noun + self._bounds() + unit
        elif kind == Coefficients:
            text = "rows of numbers such as [[1, 0, -1], [2, 0, -2], [1, 0, -1]], an odd count of rows and of columns"
        elif self.is_range:
            text = f"the least and the most, two numbers{self._bounds()}{unit}, either of which may be left open"
        elif get_origin(kind) is tuple:
            text = f"{len(get_args(kind))} numbers{self._bounds()}{unit}"
        elif kind is str:
            text = "a text"
        else:
            text = 'a region such as {"shape": "rectangle", "x": 50, "y": 40, "width": 60, "height": 30}'
        return text + (f", or nothing: {self.auto}" if self.optional and self.auto else "")

    def _bounds(self) -> str:
        if self.least is not None and self.most is not None:
            return f" from {self.least:g} to {self.most:g}"
        if self.above is not None:
            return f" above {self.above:g}" + (f" and at most {self.most:g}" if self.most is not None else "")
        return f" of at least {self.least:g}" if self.least is not None else ""


def _alternatives(annotation: Any) -> tuple[Any, ...]:
    return get_args(annotation) if get_origin(annotation) is not Literal and NoneType in get_args(annotation) else (annotation,)


def _declare(stage: Stage, default: Any, extra: dict[str, Any]) -> Any:
    constraints = {"ge": extra.get("least"), "le": extra.get("most"), "gt": extra.get("above")}
    is_range = extra.pop("is_range", False)
    if isinstance(default, Length) or extra.pop("is_length", False) or is_range:
        constraints = {}
    return Field(
        default,
        description=extra["help"],
        title=extra["label"],
        json_schema_extra={"finch": {"stage": str(stage), **{k: v for k, v in extra.items() if k not in ("help", "label")}}},
        **{k: v for k, v in constraints.items() if v is not None},
    )


def gathers(default: Any, *, label: str, help: str, **extra: Any) -> Any:
    """A parameter that the pixels have to be visited again for."""
    return _declare(Stage.GATHER, default, {"label": label, "help": help, **extra})


def forms(default: Any, *, label: str, help: str, **extra: Any) -> Any:
    """A parameter that candidates are formed anew for, from what was gathered."""
    return _declare(Stage.FORM, default, {"label": label, "help": help, **extra})


def judges(default: Any, *, label: str, help: str, criterion: str = "", **extra: Any) -> Any:
    """A parameter that only judging looks at; with a `criterion`, a limit on that column of the candidates."""
    return _declare(Stage.JUDGE, default, {"label": label, "help": help, "criterion": criterion, **extra})


_LENGTH = re.compile(r"\s*([0-9]*\.?[0-9]+(?:e[-+]?[0-9]+)?)\s*(px|%w|%h|%|mm)?\s*", re.IGNORECASE)


@dataclass(frozen=True)
class Length:
    """A length that may carry a unit: px (the default), % of the diagonal, %w, %h of width or height, or mm."""

    value: float
    unit: str = "px"

    @staticmethod
    def parse(given: object) -> Length:
        """From a number or a text such as "3%". Raises ValueError."""
        if isinstance(given, Length):
            return given
        if isinstance(given, str) and (match := _LENGTH.fullmatch(given)) and math.isfinite(float(match[1])):
            return Length(float(match[1]), (match[2] or "px").lower())
        if isinstance(given, (int, float)) and not isinstance(given, bool) and math.isfinite(given) and given >= 0:
            return Length(float(given))
        raise ValueError(f"{given!r} is no length")

    def pixels(self, width: int, height: int) -> float:
        """The length in px of an image of that size. Raises `ParameterError` for mm: there is no calibration yet."""
        whole = {"px": 100.0, "%": math.hypot(width, height), "%w": float(width), "%h": float(height)}
        if self.unit not in whole:
            raise ParameterError(f"{self}: a length in mm needs a calibrated image")
        return self.value * whole[self.unit] / 100.0

    def plain(self) -> float | str:
        """As it is written to a recipe."""
        return self.value if self.unit == "px" else str(self)

    def __str__(self) -> str:
        return f"{self.value:g}{self.unit}"

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> core_schema.CoreSchema:
        def check(given: object) -> Length:
            try:
                return cls.parse(given)
            except ValueError as error:
                raise PydanticCustomError("length", "{reason}", {"reason": str(error)}) from error

        write = core_schema.plain_serializer_function_ser_schema(lambda length: length.plain())
        return core_schema.no_info_plain_validator_function(check, serialization=write)

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: Any, handler: Any) -> JsonSchemaValue:
        return {"anyOf": [{"type": "number", "minimum": 0}, {"type": "string", "pattern": r"^[0-9.]+(px|%|%w|%h|mm)?$"}]}


Coefficients = tuple[tuple[float, ...], ...]
"""Rows of numbers."""

Range = tuple[float | None, float | None]
"""The least and the most; None for no such end."""


def rows_of_numbers(text: str) -> Any:
    """Rows from a text such as "1 0 -1; 2 0 -2": numbers parted by spaces, commas or tabs, rows by semicolons or new lines.

    What cannot be read is returned as it is, for validation to refuse.
    """
    try:
        rows = [row for row in re.split(r"[;\n]", text.strip()) if row.strip()]
        return tuple(tuple(float(cell) for cell in re.split(r"[\s,]+", row.strip(" \t,"))) for row in rows)
    except ValueError:
        return text


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
            ends = [end for end in given if end is not None]
            beyond = any(
                (declared.least is not None and end < declared.least) or (declared.most is not None and end > declared.most)
                for end in ends
            )
            if beyond or ends != sorted(ends):
                why = f"it must be {declared.allowed}" if beyond else "the least comes first"
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
        extra.pop("is_range", None)
        stage = Stage(extra.pop("stage"))
        usual = extra.pop("usual", None)
        other = extra.pop("only_with", None)
        found[name] = Declaration(
            name=name, stage=stage, label=info.title or name, help=info.description or "", default=info.default,
            annotation=info.annotation, usual=tuple(usual) if usual else None,
            only_with=(other[0], tuple(other[1])) if other else None, **extra,
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
