"""Directions of edge points that their chains have steadied, and where along its chain each point lies."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel

Floats = NDArray[np.float32]

STEADIED = 3
"""Points of a chain to either side whose gradients are added to that of an unsure point."""
_SURE = 6.0
"""From so many times the background on, a point's own direction is better than the mean of many: one to either side is enough."""


@kernel
def _orient(order, start, closed, gx, gy, clear, steadied, sure, nx, ny, chain_of, along, members):  # type: ignore[no-untyped-def]
    for c in range(start.size - 1):
        first, last = start[c], start[c + 1]
        count = last - first
        for k in range(first, last):
            i = order[k]
            span = 1 if clear[i] > sure else steadied
            if not closed[c]:
                # The same number of points ahead and behind, lest the mean lean to one side.
                span = min(span, k - first, last - 1 - k)
            else:
                span = min(span, (count - 1) // 2)
            sx, sy = np.float32(0), np.float32(0)
            for j in range(k - span, k + span + 1):
                at = j
                if at < first:
                    at += count
                elif at >= last:
                    at -= count
                m = order[at]
                sx += gx[m]
                sy += gy[m]
            size = max(np.sqrt(sx * sx + sy * sy), np.float32(1e-20))
            nx[i], ny[i] = sx / size, sy / size
            chain_of[i], along[i], members[i] = c, k + c, count


@dataclass(frozen=True)
class ChainNormals:
    """One entry a point: unit gradient from dark to bright, and the point's place in its chain."""

    nx: Floats
    ny: Floats
    chain: NDArray[np.int32]
    along: NDArray[np.int32]
    """Place along all chains, one after the other; no two chains are neighbours."""
    members: NDArray[np.int32]
    """Points of its chain."""


def chain_normals(
    order: Any, start: Any, closed: Any, gx: Floats, gy: Floats, clear: Floats, steadied: int = STEADIED
) -> ChainNormals:
    """Unit gradients of edge points, each the mean of up to `steadied` points of its chain on either side, of one where it is
    `clear` (strength over that of the background)."""
    nx, ny = np.zeros_like(gx), np.zeros_like(gy)
    chain, along, members = (np.zeros(len(gx), np.int32) for _ in range(3))
    _orient(order, start, closed, gx, gy, clear, steadied, _SURE, nx, ny, chain, along, members)
    return ChainNormals(nx, ny, chain, along, members)
