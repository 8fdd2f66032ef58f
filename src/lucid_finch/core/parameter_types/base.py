"""What every type of parameter can do: read and show values, say what is allowed, make an option, list values to compare."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from pydantic import TypeAdapter

AUTO = "auto"
"""What people write for a value that the program chooses."""
SWEEP_COUNT = 7
"""How many values of a number are compared, the current one apart."""


class Declared(Protocol):
    """What a type asks of the declaration of a parameter."""

    @property
    def name(self) -> str: ...
    @property
    def unit(self) -> str: ...
    @property
    def annotation(self) -> Any: ...
    @property
    def least(self) -> float | None: ...
    @property
    def most(self) -> float | None: ...
    @property
    def above(self) -> float | None: ...
    @property
    def usual(self) -> tuple[float, float] | None: ...
    @property
    def criterion(self) -> str: ...
    @property
    def scale(self) -> str: ...
    @property
    def odd(self) -> bool: ...
    @property
    def incomplete(self) -> tuple[str, ...]: ...
    @property
    def optional(self) -> bool: ...
    @property
    def allowed(self) -> str: ...
    def from_limit(self, limit: float) -> float: ...


@dataclass(frozen=True)
class Option:
    """A command-line option: how many words it takes, their placeholder, and whether it is a switch."""

    words: int = 1
    placeholder: str = ""
    is_switch: bool = False


class ParameterType:
    """Base of all types; instances hold no state but what defines the values (the choices of a choice)."""

    is_number = False
    """Whether values lie on an axis, so that a slider and a histogram make sense."""

    def parse(self, text: str, declared: Declared) -> Any:
        """The value behind a text that a person wrote; what cannot be read is returned as it is, for validation to refuse."""
        return text

    def from_words(self, words: Sequence[str], declared: Declared) -> Any:
        """The value behind the words of a command-line option."""
        return self.read(words[0], declared)

    def read(self, text: str, declared: Declared) -> Any:
        """`parse`, where "auto", "none" or nothing stands for an automatic value."""
        stripped = text.strip()
        if declared.optional and stripped.lower() in ("", AUTO, "none"):
            return None
        return self.parse(stripped, declared)

    def show(self, value: Any) -> str:
        """A value as it is shown in a field; an automatic one is an empty text."""
        return "" if value is None else str(value)

    def allowed(self, declared: Declared) -> str:
        """What may be given, in words."""
        raise NotImplementedError

    def hint(self) -> str:
        """The type of a value in Python, for editors and type checkers."""
        raise NotImplementedError

    def option(self, declared: Declared) -> Option:
        """How the command line asks for it."""
        return Option(placeholder=_unit_word(declared))

    def schema(self, declared: Declared) -> dict[str, Any]:
        """The JSON Schema of a value."""
        return TypeAdapter(declared.annotation).json_schema()

    def sweep(self, declared: Declared, current: Any, measured: Sequence[float] = ()) -> list[Any]:
        """Values to compare, the current one among them; `measured`: the criterion that it judges, of all candidates."""
        return []

    def fit(self, number: float, declared: Declared) -> Any:
        """The allowed value nearest to a number that a slider, a ruler or a limit's handle gives."""
        return number

    def moved(self, before: Any, number: float, declared: Declared) -> Any:
        """The allowed value that a dragged limit of its criterion gives, in the unit of the value `before`."""
        return self.fit(number, declared)


def _unit_word(declared: Declared) -> str:
    return declared.unit.upper().replace(" ", "-") or "VALUE"


def within_bounds(number: float, declared: Declared) -> float:
    """The number, moved to the nearest bound if it lies outside."""
    if declared.least is not None:
        number = max(number, declared.least)
    if declared.most is not None:
        number = min(number, declared.most)
    if declared.above is not None and number <= declared.above:
        # Expected numbers of events may be as small as one likes; other values keep a distance that can be seen.
        return 1e-300 if declared.scale == "expected" else declared.above + 1e-3
    return number


def bounds_in_words(declared: Declared) -> str:
    """Such as " from 0 to 100"."""
    if declared.least is not None and declared.most is not None:
        return f" from {declared.least:g} to {declared.most:g}"
    if declared.above is not None:
        return f" above {declared.above:g}" + (f" and at most {declared.most:g}" if declared.most is not None else "")
    return f" of at least {declared.least:g}" if declared.least is not None else ""


def unit_in_words(declared: Declared) -> str:
    return f" {declared.unit}" if declared.unit else ""


def spread_out(low: float, high: float) -> list[float]:
    """Numbers over a range, by equal factors where that spans more than a factor of 15, else by equal steps."""
    least = low if low > 0 else high / 20
    if low >= 0 and high / max(least, 1e-12) > 15:
        first = [low] if low == 0 else []
        count = SWEEP_COUNT - len(first)
        least = max(least, 1e-9)
        return first + [least * (high / least) ** (k / (count - 1)) for k in range(count)]
    return [low + (high - low) * k / (SWEEP_COUNT - 1) for k in range(SWEEP_COUNT)]


def quantiles(values: Sequence[float]) -> list[float]:
    """Limits to compare: quantiles of what was measured, towards the upper end, since low limits let everything in."""
    known = sorted({float(v) for v in values if math.isfinite(v)})
    if len(known) < 2:
        return []
    found = []
    for k in range(SWEEP_COUNT):
        place = (0.02 + (0.995 - 0.02) * k / (SWEEP_COUNT - 1)) * (len(known) - 1)
        below = int(place)
        above = min(below + 1, len(known) - 1)
        found.append(known[below] + (place - below) * (known[above] - known[below]))
    return found
