"""Compiles the pixel loops: one decorator, one on-disk cache that is keyed by the sources of every kernel."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import llvmlite.binding
import numba
import numba.np.linalg
import platformdirs


@cache
def source_digest() -> str:
    """Hash of all kernel sources: Numba does not notice a helper that changed in another module, so the folder does."""
    digest = hashlib.sha256(numba.__version__.encode())
    for path in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(path.name.encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()[:16]


@cache
def cache_folder() -> Path:
    """Where compiled kernels of exactly these sources are kept; a temporary place if the user's own cannot be written."""
    root = os.environ.get("LUCID_FINCH_KERNELS") or platformdirs.user_cache_dir("lucid-finch")
    folder = Path(root) / "kernels" / source_digest()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if os.access(folder, os.W_OK):
            return folder
    except OSError:
        pass
    return Path(tempfile.gettempdir()) / f"lucid-finch-{os.getuid()}" / source_digest()


def completion_mark(sources: Path = Path(__file__).parent) -> Path:
    """The file that says that every kernel of these sources has been compiled. Numba keeps what it compiles by place and time of
    each source file, not by what is in it: another checkout, or files written anew, are compiled again."""
    digest = hashlib.sha256()
    for path in sorted(sources.glob("*.py")):
        stamp = path.stat()
        digest.update(f"{path.resolve()} {stamp.st_mtime_ns} {stamp.st_size}\n".encode())
    return cache_folder() / f"complete-{digest.hexdigest()[:16]}"


numba.config.CACHE_DIR = str(cache_folder())  # type: ignore[attr-defined]


def _no_blas() -> None:
    raise ImportError("no kernel multiplies matrices")


# Else the first kernel that is called loads SciPy's linear algebra, for matrix products: a quarter of a second.
if hasattr(numba.np.linalg, "ensure_blas"):
    numba.np.linalg.ensure_blas = _no_blas

# Where the processor has 512-bit registers the compiler would still use 256 bits; these loops gain from the wider ones.
if llvmlite.binding.get_host_cpu_features().get("avx512f") and numba.config.CPU_NAME is None:  # type: ignore[attr-defined]
    numba.config.CPU_NAME = llvmlite.binding.get_host_cpu_name()  # type: ignore[attr-defined]
    numba.config.CPU_FEATURES = (  # type: ignore[attr-defined]
        llvmlite.binding.get_host_cpu_features().flatten() + ",-prefer-256-bit"
    )

_OPTIONS: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}


def kernel(function: Callable[..., Any]) -> Any:
    """A serial, nogil, disk-cached kernel that takes a band of rows; drive it with `threads.over_bands`."""
    return numba.njit(**_OPTIONS)(function)


def reduction(function: Callable[..., Any]) -> Any:
    """A kernel whose sums may be taken in any order, so that they are vectorised; for numbers that are never NaN or infinite."""
    return numba.njit(fastmath={"reassoc", "nsz", "contract"}, **_OPTIONS)(function)


def helper(function: Callable[..., Any]) -> Any:
    """A small function that is inlined into the kernels that call it and has no Python wrapper of its own."""
    options: dict[str, Any] = {"inline": "always", "no_cpython_wrapper": True}
    return numba.njit(nogil=True, error_model="numpy", **options)(function)


def specialisations(compiled: Any) -> int:
    """How many argument layouts a kernel has been compiled for."""
    return len(compiled.signatures)
