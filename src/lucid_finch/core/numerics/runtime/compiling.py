"""Compiles the pixel loops: the decorators of kernels, reductions and inlined helpers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import llvmlite.binding
import numba
import numba.np.linalg

from lucid_finch.core.numerics.runtime.kernel_cache import keep_on_disk


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

_OPTIONS: dict[str, Any] = {"nogil": True, "error_model": "numpy"}
_UNWRAPPED: dict[str, Any] = {"no_cpython_wrapper": True, **_OPTIONS}


def kernel(function: Callable[..., Any]) -> Any:
    """A serial, nogil, disk-cached kernel that takes a band of rows; drive it with `threads.over_bands`."""
    return keep_on_disk(numba.njit(**_OPTIONS)(function))


def reduction(function: Callable[..., Any]) -> Any:
    """A kernel whose sums may be taken in any order, so that they are vectorised; for numbers that are never NaN or infinite."""
    return keep_on_disk(numba.njit(fastmath={"reassoc", "nsz", "contract"}, **_OPTIONS)(function))


def helper(function: Callable[..., Any]) -> Any:
    """A small function that the compiler puts into the kernels that call it; it has no Python wrapper of its own.

    Inlined by LLVM, not by rewriting the caller: that would be typed again at each place.
    """
    return numba.njit(forceinline=True, **_UNWRAPPED)(function)


def inner(function: Callable[..., Any]) -> Any:
    """A part of a kernel as a function of its own, without a Python wrapper; it is kept with the kernels that call it."""
    return numba.njit(**_UNWRAPPED)(function)


def specialisations(compiled: Any) -> int:
    """How many argument layouts a kernel has been compiled for."""
    return len(compiled.signatures)
