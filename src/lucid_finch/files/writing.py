"""Writes a file whole or not at all: beside the target first, then renamed over it."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

from lucid_finch.core.errors import FileError


@contextlib.contextmanager
def whole_file(path: str | Path, text: bool = False) -> Iterator[IO[Any]]:
    """A file to write to that takes the place of `path` once it is complete. Raises `FileError`."""
    target = Path(path)
    temporary = ""
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=f".{target.name}.", suffix=".part", dir=target.parent)
        options = {"mode": "w", "encoding": "utf-8", "newline": ""} if text else {"mode": "wb"}
        with os.fdopen(handle, **options) as stream:  # type: ignore[call-overload]
            yield stream
            stream.flush()
            os.fsync(stream.fileno())
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(temporary, 0o666 & ~umask)
        os.replace(temporary, target)
        temporary = ""
    except OSError as error:
        if isinstance(error, FileError):
            raise
        raise FileError(path, f"cannot be written: {error.strerror or error}") from error
    finally:
        if temporary:
            with contextlib.suppress(OSError):
                os.unlink(temporary)


def write_text(path: str | Path, text: str) -> None:
    """A UTF-8 text file, whole or not at all. Raises `FileError`."""
    with whole_file(path, text=True) as stream:
        stream.write(text)
