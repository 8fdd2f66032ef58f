"""Lucid Finch detects and localises edges and shapes in images, with the evidence always in sight.

Names load on first use, so that importing the package costs next to nothing.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from lucid_finch.api import *  # noqa: F403

__version__ = "0.1.0"


def _api() -> Any:
    # Not `from lucid_finch import api`: that asks `__getattr__` below for the name first.
    return importlib.import_module("lucid_finch.api")


def __getattr__(name: str) -> Any:
    if name.startswith("_"):
        raise AttributeError(name)
    api = _api()
    if name not in api.__all__:
        raise AttributeError(f"module 'lucid_finch' has no attribute {name!r}; there are: {', '.join(api.__all__)}")
    return getattr(api, name)


def __dir__() -> list[str]:
    return [*_api().__all__, "__version__"]
