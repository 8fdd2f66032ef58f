"""Structured values: regions and tables of coefficients."""

from __future__ import annotations

import json
import re
from typing import Any

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.parameter_types.base import Declared, ParameterType

Coefficients = tuple[tuple[float, ...], ...]
"""Rows of numbers."""


class RegionType(ParameterType):
    """A region of interest as plain data."""

    def parse(self, text: str, declared: Declared) -> Any:
        if not text.lstrip().startswith("{"):
            return _short_region(text)
        try:
            return json.loads(text)
        except ValueError as error:
            raise ParameterError(f"{declared.name}: is not valid JSON ({error}); it must be {declared.allowed}") from None

    def show(self, value: Any) -> str:
        return "" if value is None else json.dumps(value)

    def hint(self) -> str:
        return "Mapping[str, Any]"

    def allowed(self, declared: Declared) -> str:
        return 'a region such as {"shape": "rectangle", "x": 50, "y": 40, "width": 60, "height": 30} (x, y the centre)'


def _short_region(text: str) -> Any:
    """A rectangle from "x,y,width,height" or "x,y,width,height,angle"; anything else as it is."""
    try:
        numbers = [float(part) for part in text.split(",")]
    except ValueError:
        return text
    names = ("x", "y", "width", "height", "angle")
    return {"shape": "rectangle", **dict(zip(names, numbers, strict=False))} if len(numbers) in (4, 5) else text


class CoefficientsType(ParameterType):
    """Rows of numbers, an odd count of rows and of columns."""

    def parse(self, text: str, declared: Declared) -> Any:
        if text.lstrip().startswith("["):
            try:
                return json.loads(text)
            except ValueError:
                return text
        return rows_of_numbers(text)

    def show(self, value: Any) -> str:
        return "" if value is None else "; ".join(" ".join(f"{number:g}" for number in row) for row in value)

    def hint(self) -> str:
        return "Sequence[Sequence[float]]"

    def allowed(self, declared: Declared) -> str:
        return "rows of numbers such as [[1, 0, -1], [2, 0, -2], [1, 0, -1]], an odd count of rows and of columns"


def rows_of_numbers(text: str) -> Any:
    """Rows from a text such as "1 0 -1; 2 0 -2": numbers separated by spaces, commas or tabs, rows by semicolons or new lines.

    What cannot be read is returned as it is, for validation to refuse.
    """
    try:
        rows = [row for row in re.split(r"[;\n]", text.strip()) if row.strip()]
        return tuple(tuple(float(cell) for cell in re.split(r"[\s,]+", row.strip(" \t,"))) for row in rows)
    except ValueError:
        return text
