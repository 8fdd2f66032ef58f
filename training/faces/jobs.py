"""Runs jobs in processes of their own, each with one thread: painting is plain Python and NumPy."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from typing import Any

from lucid_finch.core.numerics.runtime.threads import set_thread_count

Job = tuple[Callable[..., Any], tuple[Any, ...]]
_ONE_THREAD = {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}


def _done(call: Callable[..., Any], arguments: tuple[Any, ...]) -> Any:
    set_thread_count(1)
    return call(*arguments)


def done(jobs: Sequence[Job]) -> list[Any]:
    """What each (function, arguments) returns, in their order."""
    if not jobs:
        return []
    before = {name: os.environ.get(name) for name in _ONE_THREAD}
    os.environ.update(_ONE_THREAD)
    try:
        with ProcessPoolExecutor(os.cpu_count(), mp_context=multiprocessing.get_context("spawn")) as pool:
            return list(pool.map(_done, *zip(*jobs, strict=True)))
    finally:
        for name, value in before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value
