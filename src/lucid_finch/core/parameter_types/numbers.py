"""Numbers: real and whole ones, several at once, and lengths that may carry a unit."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import GetCoreSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import PydanticCustomError, core_schema

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.parameter_types.base import (
    Declared,
    Option,
    ParameterType,
    bounds_in_words,
    quantiles,
    spread_out,
    unit_in_words,
    within_bounds,
)


class Number(ParameterType):
    """A real number."""

    is_number = True

    def parse(self, text: str, declared: Declared) -> Any:
        try:
            return float(text)
        except ValueError:
            return text

    def show(self, value: Any) -> str:
        return "" if value is None else f"{value:.6g}"

    def hint(self) -> str:
        return "float"

    def allowed(self, declared: Declared) -> str:
        return f"a number{bounds_in_words(declared)}{unit_in_words(declared)}"

    def fit(self, number: float, declared: Declared) -> Any:
        return within_bounds(float(f"{number:.3g}"), declared)

    def sweep(self, declared: Declared, current: Any, measured: Sequence[float] = ()) -> list[Any]:
        number = self.number_of(current)
        given = []
        for limit in quantiles(measured) if declared.criterion else []:
            try:
                given.append(declared.from_limit(limit))
            except OverflowError:
                continue
        if not given:
            low, high = declared.usual or self._around(number, declared)
            given = spread_out(low, high)
        found = set()
        for value in given:
            fitted = self.fit(float(f"{value:.2g}"), declared)
            if math.isfinite(value) and (declared.above is None or value > declared.above):
                found.add(fitted)
        if number is not None:
            found.add(self._same_kind(number))
        return sorted(found)

    def number_of(self, value: Any) -> float | None:
        """The number behind a value as recipes have it, or None."""
        return float(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else None

    def _same_kind(self, number: float) -> Any:
        return number

    def _around(self, number: float | None, declared: Declared) -> tuple[float, float]:
        middle = number or 1.0
        low, high = sorted((middle / 3, middle * 3))
        return low, high


class ExpectedNumber(Number):
    """An expected number of events: three digits say enough of it."""

    def show(self, value: Any) -> str:
        return "" if value is None else f"{value:.3g}"


class WholeNumber(Number):
    """A whole number; only odd ones where the declaration says so."""

    def parse(self, text: str, declared: Declared) -> Any:
        number = super().parse(text, declared)
        return int(number) if isinstance(number, float) and number.is_integer() else number

    def show(self, value: Any) -> str:
        return "" if value is None else str(value)

    def hint(self) -> str:
        return "int"

    def allowed(self, declared: Declared) -> str:
        odd = "an odd number" if declared.odd else "a whole number"
        return f"{odd}{bounds_in_words(declared)}{unit_in_words(declared)}"

    def fit(self, number: float, declared: Declared) -> Any:
        if not math.isfinite(number):
            return int(declared.least or 1)
        whole = int(within_bounds(round(number), declared))
        if declared.odd and whole % 2 == 0:
            whole += 1 if declared.most is None or whole + 1 <= declared.most else -1
        return whole

    def _same_kind(self, number: float) -> Any:
        return int(number)


_LENGTH = re.compile(r"\s*([0-9]*\.?[0-9]+(?:e[-+]?[0-9]+)?)\s*(px|%w|%h|%|mm2|mm²|mm)?\s*", re.IGNORECASE)


@dataclass(frozen=True)
class Length:
    """A length that may carry a unit: px (the default), % of the diagonal, %w, %h of width or height, mm; or an area in mm2."""

    value: float
    unit: str = "px"

    @staticmethod
    def parse(given: object) -> Length:
        """From a number or a text such as "3%". Raises ValueError."""
        if isinstance(given, Length):
            return given
        if isinstance(given, str) and (match := _LENGTH.fullmatch(given)) and math.isfinite(float(match[1])):
            return Length(float(match[1]), (match[2] or "px").lower().replace("²", "2"))
        if isinstance(given, (int, float)) and not isinstance(given, bool) and math.isfinite(given) and given >= 0:
            return Length(float(given))
        raise ValueError(f"{given!r} is no length")

    @property
    def is_metric(self) -> bool:
        """Whether it is in millimetres, which only a calibration makes pixels of."""
        return self.unit in ("mm", "mm2")

    def pixels(self, width: int, height: int) -> float:
        """The length in px of an image of that size. Raises `ParameterError` for mm: see `inspection.metric_parameters`."""
        whole = {"px": 100.0, "%": math.hypot(width, height), "%w": float(width), "%h": float(height)}
        if self.unit not in whole:
            raise ParameterError(f"{self}: a length in mm needs a calibration")
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


class LengthType(Number):
    """A `Length`."""

    def parse(self, text: str, declared: Declared) -> Any:
        return text

    def show(self, value: Any) -> str:
        number = value.plain() if isinstance(value, Length) else value
        return "" if number is None else f"{number:.6g}" if isinstance(number, float) else str(number)

    def hint(self) -> str:
        return "float | str"

    def allowed(self, declared: Declared) -> str:
        return f"a length such as 25, 25px, 3%, 20%w, 1.2mm{bounds_in_words(declared)}{unit_in_words(declared)}"

    def fit(self, number: float, declared: Declared) -> Any:
        return max(float(f"{number:.3g}"), 0.0)

    def moved(self, before: Any, number: float, declared: Declared) -> Any:
        metric = before is not None and Length.parse(before).is_metric
        fitted = self.fit(number, declared)
        return str(Length(fitted, "mm")) if metric else fitted

    def number_of(self, value: Any) -> float | None:
        return None if value is None else Length.parse(value).value


class Numbers(ParameterType):
    """A fixed count of numbers."""

    def __init__(self, count: int) -> None:
        self.count = count

    def parse(self, text: str, declared: Declared) -> Any:
        try:
            return tuple(float(part) for part in re.split(r"[;,\s]+", text.strip()) if part)
        except ValueError:
            return text

    def from_words(self, words: Sequence[str], declared: Declared) -> Any:
        return self.parse(" ".join(words), declared)

    def show(self, value: Any) -> str:
        return "" if value is None else ", ".join(f"{v:.6g}" for v in value)

    def hint(self) -> str:
        return "Sequence[float]"

    def allowed(self, declared: Declared) -> str:
        return f"{self.count} numbers{bounds_in_words(declared)}{unit_in_words(declared)}"

    def option(self, declared: Declared) -> Option:
        word = super().option(declared).placeholder
        return Option(self.count, " ".join([word] * self.count))


class _RangeEnds:
    """How a `Range` is validated and written: numbers, None for no such end, texts with a unit."""

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> core_schema.CoreSchema:
        def check(given: object) -> tuple[Any, Any]:
            if not isinstance(given, (tuple, list)) or len(given) != 2:
                raise PydanticCustomError("range", "two ends are needed")
            return cls._end(given[0]), cls._end(given[1])

        def write(value: tuple[Any, Any]) -> list[Any]:
            return [end.plain() if isinstance(end, Length) else end for end in value]

        return core_schema.no_info_plain_validator_function(
            check, serialization=core_schema.plain_serializer_function_ser_schema(write)
        )

    @classmethod
    def _end(cls, given: object) -> Any:
        if given is None:
            return None
        if isinstance(given, (int, float)) and not isinstance(given, bool) and math.isfinite(given):
            return float(given)
        try:
            length = Length.parse(given)
        except ValueError as error:
            raise PydanticCustomError("range", "{reason}", {"reason": str(error)}) from None
        return length.value if length.unit == "px" else length

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: Any, handler: Any) -> JsonSchemaValue:
        end = {"anyOf": [{"type": "number"}, {"type": "string", "pattern": r"^[0-9.]+(px|%|%w|%h|mm|mm2)?$"}, {"type": "null"}]}
        return {"type": "array", "prefixItems": [end, end], "minItems": 2, "maxItems": 2}


Range = Annotated[tuple[float | None, float | None], _RangeEnds]
"""The least and the most; None for no such end. As recipes have it, an end may be a `Length`; detectors see px."""


class RangeType(ParameterType):
    """A `Range`."""

    is_number = True

    def parse(self, text: str, declared: Declared) -> Any:
        parts = [part.strip().lower() for part in re.split(r"[;,]|\bto\b", text)]
        try:
            ends: list[Any] = [None if part in ("", "auto", "none", "open") else _number_or_length(part) for part in parts]
        except ValueError:
            return text
        # "4, 6 mm": the unit is of both.
        if len(ends) == 2 and isinstance(ends[1], Length) and isinstance(ends[0], float):
            ends[0] = Length(ends[0], ends[1].unit)
        return (ends[0], None) if len(ends) == 1 else tuple(ends)

    def from_words(self, words: Sequence[str], declared: Declared) -> Any:
        return self.parse(",".join(words), declared)

    def show(self, value: Any) -> str:
        if value is None:
            return ""
        ends = [_end_of(end) for end in value]
        if all(isinstance(end, Length) for end in ends) and ends[0].unit == ends[1].unit:
            # As it can be typed: the unit is of both.
            return f"{ends[0].value:g}, {ends[1].value:g} {ends[1].unit}"
        return ", ".join(_end_in_words(end) for end in ends)

    def hint(self) -> str:
        return "Sequence[float | None] | tuple[float | str | None, float | str | None]"

    def allowed(self, declared: Declared) -> str:
        bounds = bounds_in_words(declared) + unit_in_words(declared)
        others = {"px": ", or such as 1.2mm, 10%h", "px²": ", or such as 1.2mm2"}.get(declared.unit, "")
        return f"minimum and maximum, two numbers{bounds}{others}; auto for either"

    def option(self, declared: Declared) -> Option:
        word = super().option(declared).placeholder
        return Option(2, f"{word} {word}")

    def fit(self, number: float, declared: Declared) -> Any:
        return float(f"{within_bounds(number, declared):.3g}")

    def with_end(self, value: Any, end: int, number: float) -> tuple[Any, Any]:
        """The range with its lower (0) or upper (1) end set, in mm where it is so already; the other end gives way."""
        least, most = (_end_of(one) for one in value or (None, None))
        before = most if end else least
        moved: Any = Length(max(number, 0.0), before.unit) if isinstance(before, Length) and before.is_metric else number
        if end == 0:
            return moved, moved if _comes_after(moved, most) else most
        return moved if _comes_after(least, moved) else least, moved


def _number_or_length(text: str) -> float | Length:
    """Raises ValueError."""
    try:
        return float(text)
    except ValueError:
        length = Length.parse(text)
        return length.value if length.unit == "px" else length


def _end_of(value: Any) -> Any:
    """An end of a range from how recipes have it."""
    return _number_or_length(value) if isinstance(value, str) else value


def _end_in_words(end: Any) -> str:
    return "auto" if end is None else str(end) if isinstance(end, (Length, str)) else f"{end:.6g}"


def _comes_after(one: Any, other: Any) -> bool:
    """Whether one end of a range is larger than the other, as far as they can be compared."""
    if isinstance(one, Length) and isinstance(other, Length):
        return one.unit == other.unit and one.value > other.value
    return isinstance(one, float | int) and isinstance(other, float | int) and one > other
