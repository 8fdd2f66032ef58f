"""Switches, choices and texts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from lucid_finch.core.parameter_types.base import Declared, Option, ParameterType


class Switch(ParameterType):
    """On or off."""

    def parse(self, text: str, declared: Declared) -> Any:
        return {"true": True, "yes": True, "on": True, "false": False, "no": False, "off": False}.get(text.lower(), text)

    def show(self, value: Any) -> str:
        return "" if value is None else "on" if value else "off"

    def hint(self) -> str:
        return "bool"

    def allowed(self, declared: Declared) -> str:
        return "true or false"

    def option(self, declared: Declared) -> Option:
        return Option(is_switch=True)

    def sweep(self, declared: Declared, current: Any, measured: Sequence[float] = ()) -> list[Any]:
        return [False, True]


class Choice(ParameterType):
    """One of some texts."""

    def __init__(self, choices: tuple[str, ...]) -> None:
        self.choices = choices

    def hint(self) -> str:
        return "Literal[" + ", ".join(f'"{choice}"' for choice in self.choices) + "]"

    def allowed(self, declared: Declared) -> str:
        return "one of " + ", ".join(self.choices)

    def option(self, declared: Declared) -> Option:
        return Option(placeholder="|".join(self.choices))

    def sweep(self, declared: Declared, current: Any, measured: Sequence[float] = ()) -> list[Any]:
        # A choice that needs another parameter to be given is nothing to try blindly.
        return [choice for choice in self.choices if choice not in declared.incomplete]


class Text(ParameterType):
    """Any text."""

    def hint(self) -> str:
        return "str"

    def allowed(self, declared: Declared) -> str:
        return "a text"
