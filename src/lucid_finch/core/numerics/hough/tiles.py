"""Files points by square tiles, so that what lies near a curve is found without looking at all of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel

TILE = 16
"""px."""


@kernel
def _file(x, y, left, top, across, down, where, first, order):  # type: ignore[no-untyped-def]
    n = x.size
    for i in range(n):
        column = min(max(int((x[i] + left) / TILE), 0), across - 1)
        row = min(max(int((y[i] + top) / TILE), 0), down - 1)
        where[i] = row * across + column
        first[where[i] + 1] += 1
    for k in range(first.size - 1):
        first[k + 1] += first[k]
    for i in range(n):
        order[first[where[i]]] = i
        first[where[i]] += 1
    for k in range(first.size - 1, 0, -1):
        first[k] = first[k - 1]
    first[0] = 0


@dataclass(frozen=True)
class Tiles:
    """Which points lie in which tile."""

    order: NDArray[np.int32]
    """Points by tile, row by row."""
    first: NDArray[np.int64]
    """Where those of each tile begin in `order`; one entry more than there are tiles."""
    across: int
    down: int


def tiled(x: NDArray[np.float32], y: NDArray[np.float32], size: tuple[int, int], left: float = 0.0, top: float = 0.0) -> Tiles:
    """Points of an image of that width and height; its upper left pixel lies at (-left, -top). Points beyond it count to the
    nearest tile."""
    across, down = -(-size[0] // TILE), -(-size[1] // TILE)
    order, first = np.empty(len(x), np.int32), np.zeros(across * down + 1, np.int64)
    _file(x, y, np.float32(left), np.float32(top), across, down, np.empty(len(x), np.int32), first, order)
    return Tiles(order, first, across, down)
