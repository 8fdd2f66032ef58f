"""Gives memory that is free inside the process back to the system."""

from __future__ import annotations

import ctypes
from functools import cache
from typing import Any


@cache
def _trim() -> Any:
    try:
        return ctypes.CDLL(None).malloc_trim
    except (OSError, AttributeError):
        # Another C library than glibc.
        return None


def give_back() -> None:
    """Thousands of frames, each of somewhat other sizes, leave holes that glibc keeps; a few milliseconds."""
    trim = _trim()
    if trim is not None:
        trim(0)
