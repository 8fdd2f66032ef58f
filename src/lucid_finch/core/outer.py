"""What outer layers provide for results of the core, which reads and writes no files: saving, pictures for notebooks."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

_provided: dict[str, Callable[..., Any]] = {}


def provide(**functions: Callable[..., Any]) -> None:
    """Register functions by name; the package's API does so."""
    _provided.update(functions)


def provided(name: str) -> Callable[..., Any]:
    """The function of that name. Raises `RuntimeError` where the API was not imported."""
    if name not in _provided:
        raise RuntimeError(f"{name} is available after `import lucid_finch` and the use of one of its names")
    return _provided[name]
