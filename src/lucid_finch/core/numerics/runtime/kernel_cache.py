"""Keeps compiled kernels on disk, keyed by module and content: another checkout, a clone or another date compiles nothing.

What is used of Numba's private classes is in this module only; where they are missing, Numba's own cache serves.
"""

from __future__ import annotations

import atexit
import contextlib
import fcntl
import hashlib
import os
import re
import shutil
import stat
import sys
import tempfile
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import numba
import platformdirs

_ROOT = Path(__file__).parent.parent
"""The folder of the kernels: `numerics`."""
_PREFIX = "lucid_finch.core.numerics."
_IMPORT = re.compile(
    rb"^[ \t]*from " + re.escape(_PREFIX.rstrip(".")).encode() + rb"([\w.]*) import (\([^)]*\)|.*)$", re.MULTILINE
)
_NAME = re.compile(rb"(?:^|[(,])\s*(\w+)")
_CODE = Path(__file__).parents[2]
"""The folder of everything that calls kernels: `core`."""
_WITHOUT_KERNELS = {"runtime.kernel_cache", "runtime.threads", "ragged", "masks"}
"""Modules that no kernel takes code or constants from."""


@cache
def cache_folder() -> Path:
    """Where compiled kernels are kept: the user's cache, else a private folder among the temporary ones.

    What is read from it is run, so that a folder that others may write to is not used.
    """
    root = os.environ.get("LUCID_FINCH_KERNELS") or platformdirs.user_cache_dir("lucid-finch")
    temporary = Path(tempfile.gettempdir()) / f"lucid-finch-{os.getuid()}"
    for folder in (Path(root) / "kernels", temporary):
        with contextlib.suppress(OSError):
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            if os.access(folder, os.W_OK) and _is_private(folder):
                return folder
    made = Path(tempfile.mkdtemp(prefix="lucid-finch-"))
    atexit.register(shutil.rmtree, made, True)
    return made


def _is_private(folder: Path) -> bool:
    """Whether it belongs to the user, is no link, and cannot be written by everybody."""
    status = folder.lstat()
    return stat.S_ISDIR(status.st_mode) and status.st_uid == os.getuid() and not status.st_mode & stat.S_IWOTH


def imported_modules(source: bytes) -> set[str]:
    """Modules of `numerics` that a source imports, relative to it; of `from a import b` both a and a.b.

    By a pattern: to parse all sources took a sixth of the start of the window.
    """
    found = set()
    for match in _IMPORT.finditer(source):
        module = match[1].decode().removeprefix(".")
        found |= {module, *(f"{module}.{name.decode()}".removeprefix(".") for name in _NAME.findall(match[2]))}
    return found


@cache
def _source_and_imports(module: str) -> tuple[bytes, frozenset[str]]:
    path = _ROOT / f"{module.replace('.', '/')}.py"
    if not module or not path.exists():
        return b"", frozenset()
    source = path.read_bytes()
    return source, frozenset(imported_modules(source) - _WITHOUT_KERNELS)


@cache
def closure_digest(module: str) -> str:
    """Hash of a module of `numerics` (such as "edges.chains") and of all modules of it that it imports, directly or not.

    Numba does not notice that a helper has changed in another module, so what it keeps is keyed by all of them.
    """
    known: set[str] = set()
    pending = {module}
    while pending:
        known |= pending
        pending = {name for one in pending for name in _source_and_imports(one)[1]} - known
    digest = hashlib.sha256(f"{numba.__version__} {sys.version_info[:2]}".encode())
    for name in sorted(known):
        source = _source_and_imports(name)[0]
        if source:
            digest.update(f"{name} {len(source)} ".encode() + source)
    return digest.hexdigest()[:16]


def complete_marker(code: Path = _CODE) -> Path:
    """The file that says that every kernel of these sources has been compiled; by the content of all that calls kernels."""
    digest = hashlib.sha256(numba.__version__.encode())
    for path in sorted(code.rglob("*.py")):
        digest.update(str(path.relative_to(code)).encode() + path.read_bytes())
    return cache_folder() / f"complete-{digest.hexdigest()[:16]}"


try:
    from numba.core.caching import CompileResultCacheImpl, FunctionCache, _CacheLocator

    class _ContentLocator(_CacheLocator):
        """Keeps a kernel in a folder that is named by its module and the content of all that it is made of."""

        def __init__(self, function: Callable[..., Any], file: str) -> None:
            self._py_file = file
            self._line = function.__code__.co_firstlineno
            module = function.__module__.removeprefix(_PREFIX)
            self._digest = closure_digest(module)
            self._path = str(cache_folder() / f"{module}-{self._digest}")

        def get_cache_path(self) -> str:
            return self._path

        def get_source_stamp(self) -> str:
            return self._digest

        def get_disambiguator(self) -> str:
            return str(self._line)

        @classmethod
        def from_function(cls, function: Callable[..., Any], file: str) -> _ContentLocator | None:
            if not function.__module__.startswith(_PREFIX):
                return None
            found = cls(function, file)
            try:
                found.ensure_cache_path()  # type: ignore[no-untyped-call]
            except OSError:
                return None
            return found

    class _KernelImplementation(CompileResultCacheImpl):
        _locator_classes = [_ContentLocator, *CompileResultCacheImpl._locator_classes]

    class _KernelCache(FunctionCache):
        _impl_class = _KernelImplementation

        def save_overload(self, signature: Any, data: Any) -> None:
            """Under a lock: two processes that add to one index would lose an entry or share a file."""
            lock = Path(self._cache_path) / f"{self._impl.filename_base}.lock"
            with contextlib.suppress(OSError), lock.open("w") as stream:
                fcntl.flock(stream, fcntl.LOCK_EX)
                super().save_overload(signature, data)  # type: ignore[no-untyped-call]

    def keep_on_disk(dispatcher: Any) -> Any:
        """Have a compiled function loaded from, and saved to, the cache."""
        dispatcher._cache = _KernelCache(dispatcher.py_func)  # type: ignore[no-untyped-call]
        return dispatcher

except (ImportError, AttributeError):  # another version of Numba
    numba.config.CACHE_DIR = str(cache_folder())  # type: ignore[attr-defined]

    def keep_on_disk(dispatcher: Any) -> Any:
        """Have a compiled function loaded from, and saved to, Numba's own cache."""
        dispatcher.enable_caching()
        return dispatcher
