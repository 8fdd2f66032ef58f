"""Edge points to ordered chains, and to connected components for hysteresis, from sparse lists of points.

A point is linked to the one ahead of it and the one behind it along the edge (the gradient turned by a quarter), if each
is the other's best choice; what is left unlinked is then joined greedily. So a chain has no branches, runs with the
brighter side on its right as seen on screen walking forward, and closes where its end meets its start (after Grompone
von Gioi and Randall, "A sub-pixel edge detector", IPOL 7, 2017). Components are those of 8-connected pixels.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

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
def _choose(records, first, other, pairs, links, costs):  # type: ignore[no-untyped-def]
    """Best neighbour ahead and behind of each point and next-best ahead, into links (n, 4), -1 for none.

    `records` has x, y and the unit gradient a point. The cost of a pair is the same from both sides: the squared distance,
    a step aside (along the mean gradient) weighing more than a step along the edge.
    """
    for p in range(links.shape[0]):
        for k in range(4):
            links[p, k] = -1
            costs[p, k] = np.float32(1e9)
    for i in range(pairs):
        p = first[i]
        q = other[i]
        gx = records[p, 2] + records[q, 2]
        gy = records[p, 3] + records[q, 3]
        norm = gx * gx + gy * gy
        # Directions more than 60 degrees apart belong to different edges.
        if norm < np.float32(3.0):
            continue
        dx = records[q, 0] - records[p, 0]
        dy = records[q, 1] - records[p, 1]
        aside = dx * gx + dy * gy
        cost = dx * dx + dy * dy + np.float32(3.0) * aside * aside / norm
        forward = dy * gx - dx * gy >= np.float32(0.0)
        back = p if forward else q
        front = q if forward else p
        best = costs[back, 0]
        better = cost < best
        runner = costs[back, 2]
        second = cost < runner
        links[back, 2] = links[back, 0] if better else (front if second else links[back, 2])
        costs[back, 2] = best if better else (cost if second else runner)
        links[back, 0] = front if better else links[back, 0]
        costs[back, 0] = cost if better else best
        nearer = cost < costs[front, 1]
        links[front, 1] = back if nearer else links[front, 1]
        costs[front, 1] = cost if nearer else costs[front, 1]


@kernel
def _trace(records, strength, weights, links, order, chain_of, chain_start, closed, sums):  # type: ignore[no-untyped-def]
    """Walk the links into `order` and return the number of chains; `chain_of` must come in as -1."""
    n = records.shape[0]
    kept = np.empty((n, 2), np.int32)
    for p in range(n):
        ahead = links[p, 0]
        behind = links[p, 1]
        kept[p, 0] = ahead if ahead >= 0 and links[ahead, 1] == p else -1
        kept[p, 1] = behind if behind >= 0 and links[behind, 0] == p else -1
    # Joins that were not mutual: take a free neighbour ahead, best first, unless that would close a loop of two.
    for p in range(n):
        if kept[p, 0] >= 0:
            continue
        q = links[p, 0]
        if q < 0 or kept[q, 1] >= 0 or kept[q, 0] == p:
            q = links[p, 2]
            if q < 0 or kept[q, 1] >= 0 or kept[q, 0] == p:
                continue
        kept[p, 0] = q
        kept[q, 1] = p
    chains = 0
    filled = 0
    for closing in range(2):
        for start in range(n):
            if chain_of[start] >= 0 or (closing == 0 and kept[start, 1] >= 0):
                continue
            chain_start[chains] = filled
            p = start
            while True:
                chain_of[p] = chains
                order[filled] = p
                filled += 1
                p = kept[p, 0]
                if p < 0 or p == start:
                    break
            closed[chains] = closing == 1
            chains += 1
    chain_start[chains] = filled
    for c in range(chains):
        length = np.float32(0.0)
        energy = np.float32(0.0)
        peak = np.float32(0.0)
        begin, end = chain_start[c], chain_start[c + 1]
        before = order[end - 1] if closed[c] else order[begin]
        for i in range(begin, end):
            p = order[i]
            dx = records[p, 0] - records[before, 0]
            dy = records[p, 1] - records[before, 1]
            length += np.sqrt(dx * dx + dy * dy)
            energy += weights[p]
            peak = max(peak, strength[p])
            before = p
        sums[c, 0] = length
        sums[c, 1] = energy
        sums[c, 2] = peak
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


def link_chains(points: EdgePoints, width: int, weights: NDArray[np.float32]) -> Chains:
    """All chains of the points, single points included. `weights`: a number a point, summed along each chain."""
    n = len(points)
    first, other = np.empty(4 * n + 1, np.int32), np.empty(4 * n + 1, np.int32)
    pairs = _neighbours(points.column, points.row_start, width, first, other)
    records = np.empty((n, 4), np.float32)
    records[:, 0] = points.x
    records[:, 1] = points.y
    np.divide(points.gx, points.strength, out=records[:, 2])
    np.divide(points.gy, points.strength, out=records[:, 3])
    links = np.empty((n, 4), np.int32)
    _choose(records, first, other, pairs, links, np.empty((n, 4), np.float32))
    order = np.empty(n, np.int32)
    chain_of = np.full(n, -1, np.int32)
    start = np.empty(n + 1, np.int64)
    closed = np.empty(n, np.bool_)
    sums = np.empty((n, 3), np.float32)
    count = _trace(records, points.strength, weights, links, order, chain_of, start, closed, sums)
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
