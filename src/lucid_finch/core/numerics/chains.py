"""Edge points to ordered chains, and to connected components for hysteresis, from sparse lists of points.

A point is linked to the one ahead of it and the one behind it along the edge (the gradient turned by a quarter), if each
is the other's best choice; what is left unlinked is then joined greedily. So a chain has no branches, runs with the
brighter side on its left as seen on screen walking forward, and closes where its end meets its start (after Grompone
von Gioi and Randall, "A sub-pixel edge detector", IPOL 7, 2017). Components are those of 8-connected pixels.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics import threads
from lucid_finch.core.numerics.compiling import helper, kernel
from lucid_finch.core.numerics.edge_points import EdgePoints

Integers = NDArray[np.int32]


@helper
def _root(parent, i):  # type: ignore[no-untyped-def]
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@kernel
def _neighbours(column, row_start, width, first, other):  # type: ignore[no-untyped-def]
    """All pairs of 8-neighbours as (later point, earlier point) in row-major order; returns their number.

    Free of branches on the data: a pair is written in any case and counted only if there is a neighbour.
    """
    index = np.full((2, width + 2), -1, np.int32)
    n = 0
    for y in range(row_start.size - 1):
        here = index[y % 2]
        up = index[(y + 1) % 2]
        for p in range(row_start[y], row_start[y + 1]):
            c = column[p] + 1
            here[c] = p
            for k in range(3):
                q = up[c - 1 + k]
                first[n] = p
                other[n] = q
                n += q >= 0
            q = here[c - 1]
            first[n] = p
            other[n] = q
            n += q >= 0
        if y > 0:
            for i in range(row_start[y - 1], row_start[y]):
                up[column[i] + 1] = -1
    return n


@kernel
def _costs(x, y, ux, uy, first, other, pairs, cost):  # type: ignore[no-untyped-def]
    """How badly the two points of each pair follow each other: negative if the later one comes first along the edge.

    The same from both sides: the squared distance, a step aside (along the mean gradient) weighing more than a step along
    the edge. Directions more than 60 degrees apart belong to different edges: they get 1e9.
    """
    for i in range(pairs):
        p = first[i]
        q = other[i]
        gx = ux[p] + ux[q]
        gy = uy[p] + uy[q]
        dx = x[q] - x[p]
        dy = y[q] - y[p]
        norm = gx * gx + gy * gy
        aside = dx * gx + dy * gy
        size = dx * dx + dy * dy + np.float32(3.0) * aside * aside / max(norm, np.float32(3.0))
        size = size if norm >= np.float32(3.0) else np.float32(1e9)
        cost[i] = size if dy * gx - dx * gy >= np.float32(0.0) else -size


@kernel
def _choose(first, other, pairs, cost, ahead, behind, best):  # type: ignore[no-untyped-def]
    """Best neighbour ahead and behind of each point, -1 for none; `best` (n, 2) is scratch."""
    for p in range(ahead.size):
        ahead[p] = -1
        behind[p] = -1
        best[p, 0] = np.float32(1e8)
        best[p, 1] = np.float32(1e8)
    for i in range(pairs):
        c = abs(cost[i])
        forward = cost[i] > np.float32(0.0)
        back = first[i] if forward else other[i]
        front = other[i] if forward else first[i]
        if c < best[back, 0]:
            best[back, 0] = c
            ahead[back] = front
        if c < best[front, 1]:
            best[front, 1] = c
            behind[front] = back
    # Where the wish is not mutual but the other has no mutual partner either, it is granted.
    for p in range(ahead.size):
        q = ahead[p]
        if q >= 0 and behind[q] != p:
            r = behind[q]
            if r < 0 or ahead[r] != q:
                behind[q] = p


@kernel
def _trace(x, y, strength, weights, ahead, behind, order, chain_of, chain_start, closed, sums):  # type: ignore[no-untyped-def]
    """Walk the mutual links into `order` and return the number of chains; `chain_of` must come in as -1.

    sums get length, sum of weights and largest strength a chain.
    """
    chains = 0
    filled = 0
    for closing in range(2):
        for start in range(ahead.size):
            if chain_of[start] >= 0:
                continue
            b = behind[start]
            if closing == 0 and b >= 0 and ahead[b] == start:
                continue
            chain_start[chains] = filled
            closed[chains] = False
            length = np.float32(0.0)
            energy = np.float32(0.0)
            peak = np.float32(0.0)
            p = start
            while True:
                chain_of[p] = chains
                order[filled] = p
                filled += 1
                peak = max(peak, strength[p])
                energy += weights[p]
                q = ahead[p]
                if q < 0 or behind[q] != p:
                    break
                dx = x[q] - x[p]
                dy = y[q] - y[p]
                length += np.sqrt(dx * dx + dy * dy)
                if q == start:
                    closed[chains] = True
                    break
                p = q
            sums[chains, 0] = length
            sums[chains, 1] = energy
            sums[chains, 2] = peak
            chains += 1
    chain_start[chains] = filled
    return chains


@kernel
def _spread_peaks(first, other, pairs, chain_of, reach):  # type: ignore[no-untyped-def]
    """Raise reach (one a chain) to the largest in its 8-connected component."""
    parent = np.arange(reach.size).astype(np.int32)
    for i in range(pairs):
        a = chain_of[first[i]]
        b = chain_of[other[i]]
        if a != b:
            a = _root(parent, a)
            b = _root(parent, b)
            parent[max(a, b)] = min(a, b)
    for c in range(reach.size):
        r = _root(parent, c)
        reach[r] = max(reach[r], reach[c])
    for c in range(reach.size):
        reach[c] = reach[_root(parent, c)]


@dataclass(frozen=True)
class Chains:
    """Ordered chains: the points of chain i are `order[start[i]:start[i + 1]]`."""

    order: Integers
    start: NDArray[np.int64]
    closed: NDArray[np.bool_]
    reach: NDArray[np.float32]
    """Strongest gradient in the 8-connected component that the chain belongs to."""
    length: NDArray[np.float32]
    energy: NDArray[np.float32]
    """Sum over the points of the weights that were handed in."""
    peak: NDArray[np.float32]

    def __len__(self) -> int:
        return len(self.closed)


def _pair_room(size: int) -> tuple[Integers, Integers]:
    return np.empty(size, np.int32), np.empty(size, np.int32)


def _cost_room(size: int) -> NDArray[np.float32]:
    return np.empty(size, np.float32)


def link_chains(points: EdgePoints, width: int, weights: NDArray[np.float32]) -> Chains:
    """All chains of the points, single points included. `weights`: a number a point, summed along each chain."""
    n = len(points)
    first, other = threads.scratch("pairs", _pair_room, 4 * n + 1)
    pairs = _neighbours(points.column, points.row_start, width, first, other)
    cost = threads.scratch("costs", _cost_room, 4 * n + 1)
    _costs(points.x, points.y, points.gx / points.strength, points.gy / points.strength, first, other, pairs, cost)
    ahead, behind, order = (np.empty(n, np.int32) for _ in range(3))
    _choose(first, other, pairs, cost, ahead, behind, np.empty((n, 2), np.float32))
    chain_of = np.full(n, -1, np.int32)
    start = np.empty(n + 1, np.int64)
    closed = np.empty(n, np.bool_)
    sums = np.empty((n, 3), np.float32)
    count = _trace(points.x, points.y, points.strength, weights, ahead, behind, order, chain_of, start, closed, sums)
    length, energy, peak = (sums[:count, i].copy() for i in range(3))
    reach = peak.copy()
    _spread_peaks(first, other, pairs, chain_of, reach)
    return Chains(order, start[: count + 1].copy(), closed[:count].copy(), reach, length, energy, peak)


@kernel
def _medians(values, start, out):  # type: ignore[no-untyped-def]
    for i in range(out.size):
        out[i] = np.median(values[start[i] : start[i + 1]])


def chain_medians(values: NDArray[np.float32], start: NDArray[np.int64]) -> NDArray[np.float64]:
    """Median of `values` in each of the runs that begin at `start` (one more entry than runs)."""
    out = np.empty(len(start) - 1)
    _medians(values, start, out)
    return out
