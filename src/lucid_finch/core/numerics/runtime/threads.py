"""Runs kernels over bands of rows on one shared pool; the bands never depend on the number of threads."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from typing import Any, TypeVar, cast

from lucid_finch.core.errors import Cancelled

Result = TypeVar("Result")

_MOST_KEPT = 600_000

BAND_HEIGHT = 128
"""Rows a band. Fixed, so that the same recipe gives the same bytes whatever the number of threads."""

_state = threading.local()
_lock = threading.Lock()
_pool: ThreadPoolExecutor | None = None
_threads = max(1, min(16, len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1))


def thread_count() -> int:
    """Number of threads that `over_bands` uses."""
    return _threads


def set_thread_count(count: int) -> None:
    """Use `count` threads (at least one) from now on."""
    global _threads, _pool
    with _lock:
        _threads = max(1, int(count))
        if _pool is not None:
            _pool.shutdown(wait=False)
            _pool = None


@contextmanager
def cancellable(cancelled: Callable[[], bool] | None) -> Iterator[None]:
    """Within it, `over_bands` of this thread looks at `cancelled` before each band where it is not given one itself."""
    before = getattr(_state, "cancelled", None)
    _state.cancelled = cancelled
    try:
        yield
    finally:
        _state.cancelled = before


def cancelled_here() -> Callable[[], bool] | None:
    """What `cancellable` was given, for loops of this thread that go over no bands."""
    found: Callable[[], bool] | None = getattr(_state, "cancelled", None)
    return found


def bands(height: int, band_height: int = BAND_HEIGHT) -> list[tuple[int, int]]:
    """Row ranges (first, one past the last) that cover `height` rows."""
    return [(top, min(height, top + band_height)) for top in range(0, height, band_height)]


def over_bands(
    work: Callable[[int, int], Result],
    height: int,
    cancelled: Callable[[], bool] | None = None,
    band_height: int = BAND_HEIGHT,
) -> list[Result]:
    """Call `work(top, bottom)` for each band and return the results from top to bottom.

    `cancelled` is looked at before each band; raises `Cancelled`. A call from inside the pool runs serially, since a job
    that waits for its own pool would never end.
    """
    parts = bands(height, band_height)
    cancelled = cancelled or cancelled_here()

    def one(part: tuple[int, int]) -> Result:
        if cancelled is not None and cancelled():
            raise Cancelled()
        _state.inside = True
        try:
            return work(*part)
        finally:
            _state.inside = False

    if _threads == 1 or len(parts) == 1 or getattr(_state, "inside", False):
        return [one(part) for part in parts] if not getattr(_state, "inside", False) else [work(*p) for p in parts]
    return list(_shared_pool().map(one, parts))


def _reset_in_child() -> None:
    """Threads do not outlive a fork: the child makes its own, and its own lock."""
    global _pool, _lock, _state
    _pool, _lock, _state = None, threading.Lock(), threading.local()


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_reset_in_child)


def _shared_pool() -> ThreadPoolExecutor:
    global _pool
    with _lock:
        if _pool is None:
            _pool = ThreadPoolExecutor(_threads, thread_name_prefix="finch-band")
        return _pool


def scratch(name: str, make: Callable[[int], Result], size: int) -> Result:
    """A buffer of at least `size` items, one a thread and name, used again: fresh memory costs as much as the work.

    Very large ones are not kept: there the work takes long enough, and memory counts for more.
    """
    if size > _MOST_KEPT:
        return make(size)
    kept: dict[str, tuple[int, Any]] = _state.__dict__.setdefault("scratch", {})
    if name not in kept or kept[name][0] < size:
        kept[name] = (size, make(size))
    return cast(Result, kept[name][1])
