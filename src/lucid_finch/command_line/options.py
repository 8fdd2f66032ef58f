"""Command-line options made from the declarations of parameters."""

from __future__ import annotations

from typing import Any

import click

from lucid_finch.core.parameters import Parameters


def parameter_options(model: type[Parameters]) -> list[click.Option]:
    """One option per parameter: its name with dashes, its help, unit, what is allowed and the default."""
    options = []
    for declared in model.declarations().values():
        default = declared.plain_default()
        shown = "" if default is None else f" [default: {str(default).lower() if isinstance(default, bool) else default}]"
        text = f"{declared.help} ({declared.allowed}){shown}"
        flag = "--" + declared.name.replace("_", "-")
        about = declared.type.option(declared)
        if about.is_switch:
            options.append(click.Option([f"{flag}/--no-{flag[2:]}"], default=None, help=text))
        else:
            options.append(click.Option([flag], nargs=about.words, metavar=about.placeholder, help=text))
    return options


def given_parameters(model: type[Parameters], values: dict[str, Any]) -> dict[str, Any]:
    """The parameters that were given on the command line, as values; what cannot be read is left for validation."""
    found = {}
    for name, declared in model.declarations().items():
        value = values.get(name)
        if isinstance(value, bool):
            found[name] = value
        elif value is not None:
            found[name] = declared.type.from_words((value,) if isinstance(value, str) else value, declared)
    return found
