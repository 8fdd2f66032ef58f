"""Command-line options made from the declarations of parameters."""

from __future__ import annotations

import json
from typing import Any, get_args, get_origin

import click

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.parameters import Declaration, Parameters


def parameter_options(model: type[Parameters]) -> list[click.Option]:
    """One option a parameter: its name with dashes, its help, unit, what is allowed and the default."""
    from lucid_finch.core.documentation import default_of

    options = []
    for declared in model.declarations().values():
        default = default_of(model, declared)
        shown = "" if default is None else f" [default: {str(default).lower() if isinstance(default, bool) else default}]"
        text = f"{declared.help} ({declared.allowed}){shown}"
        flag = "--" + declared.name.replace("_", "-")
        count = (
            len(get_args(declared.type)) if get_origin(declared.type) is tuple and Ellipsis not in get_args(declared.type) else 1
        )
        metavar = " ".join([declared.unit.upper().replace(" ", "-") or "VALUE"] * count)
        if declared.type is bool:
            options.append(click.Option([f"{flag}/--no-{declared.name.replace('_', '-')}"], default=None, help=text))
        elif declared.choices:
            options.append(click.Option([flag], metavar="|".join(declared.choices), help=text))
        else:
            options.append(click.Option([flag], nargs=count, metavar=metavar, help=text))
    return options


def given_parameters(model: type[Parameters], values: dict[str, Any]) -> dict[str, Any]:
    """The parameters that were given on the command line, as the types that their declarations want."""
    return {
        name: _typed(model.declarations()[name], value)
        for name, value in values.items()
        if value is not None and name in model.declarations()
    }


def _typed(declared: Declaration, value: Any) -> Any:
    """Text to number where the declaration wants one; anything else is left for validation to refuse in its own words."""
    if isinstance(value, tuple):
        return tuple(_typed(declared, v) for v in value)
    if not isinstance(value, str) or declared.choices or declared.type is str:
        return value
    if value.lower() in ("none", "auto") and declared.optional:
        return None
    try:
        number = float(value)
        return int(number) if declared.type is int and number.is_integer() else number
    except ValueError:
        pass
    if value.lstrip().startswith("{"):
        try:
            return json.loads(value)
        except ValueError as error:
            raise ParameterError(f"{declared.name}: is not valid JSON ({error}); it must be {declared.allowed}") from None
    return value
