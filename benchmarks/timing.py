"""Times functions against each other in one run: ratios of the fastest of several turns."""

from __future__ import annotations

import time
from collections.abc import Callable


def fastest(functions: dict[str, Callable[[], object]], turns: int = 7) -> dict[str, float]:
    """Seconds of the fastest turn of each, after one turn that does not count; the turns alternate."""
    best = dict.fromkeys(functions, float("inf"))
    for turn in range(turns + 1):
        for name, function in functions.items():
            started = time.perf_counter()
            function()
            if turn:
                best[name] = min(best[name], time.perf_counter() - started)
    return best
