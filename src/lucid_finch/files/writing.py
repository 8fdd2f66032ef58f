"""Writes a file whole or not at all: beside the target first, then renamed over it."""

from __future__ import annotations

import contextlib
import os
import stat
import tempfile
from collections.abc import Iterable, Iterator
from contextvars import ContextVar
from pathlib import Path
from typing import IO, Any

from lucid_finch.core.errors import FileError


class Inputs:
    """Files that nothing may be written over; whether a file is one of them is told at once, however many there are."""

    def __init__(self, paths: Iterable[str | Path] = ()) -> None:
        self.paths = tuple(str(path) for path in paths)
        self._known: tuple[set[str], set[tuple[int, int]]] | None = None

    def hold(self, target: Path) -> bool:
        """Whether it is one of them, under whatever name."""
        try:
            about = target.stat()
        except OSError:
            return False
        if self._known is None:
            names, numbers = set(), set()
            for path in self.paths:
                names.add(os.path.abspath(path))
                with contextlib.suppress(OSError):
                    own = os.stat(path)
                    numbers.add((own.st_dev, own.st_ino))
            self._known = names, numbers
        return (about.st_dev, about.st_ino) in self._known[1] or str(target) in self._known[0]

    def __getstate__(self) -> dict[str, Any]:
        return {"paths": self.paths, "_known": None}


_kept: ContextVar[tuple[Inputs, ...]] = ContextVar("_kept", default=())


@contextlib.contextmanager
def inputs_kept(paths: Inputs | Iterable[str | Path]) -> Iterator[None]:
    """Within it, no file is written over one of these."""
    inputs, before = paths if isinstance(paths, Inputs) else Inputs(paths), _kept.get()
    token = _kept.set(before if any(one is inputs for one in before) else (*before, inputs))
    try:
        yield
    finally:
        _kept.reset(token)


def refuse_inputs(target: Path) -> None:
    """Raises `FileError` where a file is one of `inputs_kept`."""
    if any(inputs.hold(target) for inputs in _kept.get()):
        raise FileError(target, "is an input and is not written over")


@contextlib.contextmanager
def whole_file(path: str | Path, text: bool = False) -> Iterator[IO[Any]]:
    """A file to write to that takes the place of `path` once it is complete; what a link leads to is written, and devices and
    pipes are written to as they are. Raises `FileError`, also for an input (`inputs_kept`)."""
    options = {"mode": "w", "encoding": "utf-8", "newline": ""} if text else {"mode": "wb"}
    temporary = ""
    try:
        if _is_stream(Path(path)):
            with open(path, **options) as stream:  # type: ignore[call-overload]
                yield stream
            return
        target = Path(os.path.realpath(path))
        refuse_inputs(target)
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=f".{target.name}.", suffix=".part", dir=target.parent)
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


def _is_stream(path: Path) -> bool:
    """Whether it is a device, a pipe, or a file that this process holds open by number."""
    if str(path).startswith(("/dev/fd/", "/proc/self/fd/", "/dev/std")):
        return True
    with contextlib.suppress(OSError):
        mode = path.stat().st_mode
        return stat.S_ISCHR(mode) or stat.S_ISBLK(mode) or stat.S_ISFIFO(mode) or stat.S_ISSOCK(mode)
    return False


def write_text(path: str | Path, text: str) -> None:
    """A UTF-8 text file, whole or not at all. Raises `FileError`."""
    with whole_file(path, text=True) as stream:
        stream.write(text)


def read_document(path: str | Path) -> bytes:
    """The bytes of a recipe or another document. Raises `FileError` where there are none."""
    try:
        data = Path(path).read_bytes()
    except FileNotFoundError as error:
        raise FileError(path, "does not exist") from error
    except OSError as error:
        raise FileError(path, f"cannot be read: {error.strerror or error}") from error
    if not data.strip():
        raise FileError(path, "is empty")
    return data
