"""The errors that Lucid Finch raises on purpose; every one says what was wrong in words for the user."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager


class ParameterError(ValueError):
    """A parameter, or a whole recipe, that cannot be used: names the parameter, its value and what is allowed."""

    def __init__(self, message: str, parameter: str = "") -> None:
        super().__init__(message)
        self.parameter = parameter


class FileError(OSError):
    """A file that cannot be read or written: names the file and the reason."""

    def __init__(self, path: object, reason: str) -> None:
        super().__init__(f"{path}: {reason}")
        self.path = str(path)
        self.reason = reason


class Cancelled(Exception):
    """Work was given up because somebody asked for it; nothing was changed."""


@contextmanager
def within_memory(what: str) -> Iterator[None]:
    """Turns a lack of memory within it into a `ParameterError` that says what was too large."""
    try:
        yield
    except MemoryError as error:
        raise ParameterError(f"{what}: does not fit into memory" + (f" ({error})" if str(error) else "")) from error


def nearest(name: str, known: Iterable[str]) -> str:
    """' (did you mean "sigma"?)' for the closest known name, or an empty text."""
    close = difflib.get_close_matches(name, list(known), n=1, cutoff=0.5)
    return f' (did you mean "{close[0]}"?)' if close else ""
