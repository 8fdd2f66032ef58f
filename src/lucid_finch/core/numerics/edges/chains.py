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

from lucid_finch.core.numerics.edges.edge_points import EdgePoints
from lucid_finch.core.numerics.runtime import threads
from lucid_finch.core.numerics.runtime.compiling import helper, kernel

Integers = NDArray[np.int32]

# A pair of points, or a cost and a point, in one number of 64 bits.
_HALF = np.uint64(32)
_LOWER = np.uint64(0xFFFFFFFF)
_POSITIVE = np.uint64(0x7FFFFFFF)
_NOBODY = np.uint64(0xFFFFFFFFFFFFFFFF)
_TOO_BAD = np.uint64(int(np.float32(1e8).view(np.uint32)) << 32)


@helper
def _root(parent, i):  # type: ignore[no-untyped-def]
    for _ in range(parent.size):
        if parent[i] == i:
            break
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@helper
def _costs(x, y, ux, uy, pairs, cost):  # type: ignore[no-untyped-def]
    """How badly the two points of each pair follow each other: negative if the later one comes first along the edge.

    The same from both sides: the squared distance, a step aside (along the mean gradient) weighing more than a step along
    the edge. Directions more than 60 degrees apart belong to different edges: they get 1e9.
    """
    for i in range(pairs.size):
        p = pairs[i] >> _HALF
        q = pairs[i] & _LOWER
        gx = ux[p] + ux[q]
        gy = uy[p] + uy[q]
        dx = x[q] - x[p]
        dy = y[q] - y[p]
        norm = gx * gx + gy * gy
        aside = dx * gx + dy * gy
        size = dx * dx + dy * dy + np.float32(3.0) * aside * aside / max(norm, np.float32(3.0))
        size = size if norm >= np.float32(3.0) else np.float32(1e9)
        cost[i] = size if dy * gx - dx * gy >= np.float32(0.0) else -size


@helper
def _offer(pairs, cost, bits, best_ahead, best_behind):  # type: ignore[no-untyped-def]
    """Lower best_ahead and best_behind to the smallest (cost, index) that the pairs offer each point.

    Cost and index share one number, `bits` is the cost seen as integers: positive floats order as their bits do, so a
    minimum chooses both without a branch, and the order of the pairs does not matter.
    """
    for i in range(pairs.size):
        p = pairs[i] >> _HALF
        q = pairs[i] & _LOWER
        forward = cost[i] > np.float32(0.0)
        key = (np.uint64(bits[i]) & _POSITIVE) << _HALF
        back = p if forward else q
        front = q if forward else p
        best_ahead[back] = min(best_ahead[back], key | front)
        best_behind[front] = min(best_behind[front], key | back)


@kernel
def _link_band(  # type: ignore[no-untyped-def]
    column,
    row_start,
    top,
    bottom,
    x,
    y,
    gx,
    gy,
    strength,
    ux,
    uy,
    index,
    pairs,
    cost,
    bits,
    best_ahead,
    best_behind,
):
    """Pairs of 8-neighbours whose later point lies in rows top .. bottom-1, and what they offer each other.

    A pair is `later << 32 | earlier`. The pairs with the row above `top`, which belongs to another band, come first and
    offer nothing yet. Returns their number and the number of all. `index` (2, width + 2) is scratch that holds -1.
    """
    first, last = row_start[top], row_start[bottom]
    for i in range(first, last):
        ux[i] = gx[i] / strength[i]
        uy[i] = gy[i] / strength[i]
    for i in range(first, last):
        best_ahead[i] = _NOBODY
        best_behind[i] = _NOBODY
    # What older rows left in `index` is smaller than `above`, the first point of the row above.
    above = row_start[top - 1] if top > 0 else first
    up = index[(top + 1) % 2]
    for i in range(above, first):
        up[column[i] + 1] = i
    n = 0
    for i in range(first, row_start[top + 1]):
        for k in range(3):
            q = up[column[i] + k]
            pairs[n] = np.uint64(i) << _HALF | np.uint64(q)
            n += q >= above
    seam = n
    above = first
    for row in range(top, bottom):
        here = index[row % 2]
        up = index[(row + 1) % 2]
        begin = row_start[row]
        # Free of branches on the data: a pair is written in any case and counted only if there is a neighbour.
        for i in range(begin, row_start[row + 1]):
            c = column[i]
            later = np.uint64(i) << _HALF
            here[c + 1] = i
            q0, q1, q2, q3 = up[c], up[c + 1], up[c + 2], here[c]
            pairs[n] = later | np.uint64(q0)
            n += q0 >= above
            pairs[n] = later | np.uint64(q1)
            n += q1 >= above
            pairs[n] = later | np.uint64(q2)
            n += q2 >= above
            pairs[n] = later | np.uint64(q3)
            n += q3 >= begin
        above = begin
    _costs(x, y, ux, uy, pairs[seam:n], cost[seam:n])
    _offer(pairs[seam:n], cost[seam:n], bits[seam:n], best_ahead, best_behind)
    return seam, n


@kernel
def _link_seam(x, y, ux, uy, pairs, cost, bits, best_ahead, best_behind):  # type: ignore[no-untyped-def]
    """What `_link_band` left over: the pairs between one band and the one above."""
    _costs(x, y, ux, uy, pairs, cost)
    _offer(pairs, cost, bits, best_ahead, best_behind)


@kernel
def _settle(best_ahead, best_behind, wish_ahead, wish_behind, ahead, behind, refused):  # type: ignore[no-untyped-def]
    """From the best offers to links that both ends agree on; -1 for none. The last five (n) are written."""
    n = ahead.size
    for p in range(n):
        wish_ahead[p] = np.int32(best_ahead[p] & _LOWER) if best_ahead[p] < _TOO_BAD else np.int32(-1)
        wish_behind[p] = np.int32(best_behind[p] & _LOWER) if best_behind[p] < _TOO_BAD else np.int32(-1)
    for p in range(n):
        q = wish_ahead[p]
        other = wish_behind[np.uint32(max(q, np.int32(0)))]
        ahead[p] = q if (q >= 0) & (other == p) else np.int32(-1)
    for p in range(n):
        q = wish_behind[p]
        other = wish_ahead[np.uint32(max(q, np.int32(0)))]
        behind[p] = q if (q >= 0) & (other == p) else np.int32(-1)
    wishes = 0
    for p in range(n):
        refused[wishes] = p
        wishes += (wish_ahead[p] >= 0) & (ahead[p] < 0)
    # Where the wish is not mutual but the other has no mutual partner either, it is granted.
    for i in range(wishes):
        p = refused[i]
        q = wish_ahead[p]
        if behind[q] < 0:
            ahead[p] = q
            behind[q] = p


@kernel
def _trace(ahead, behind, order, chain_of, chain_start, closed):  # type: ignore[no-untyped-def]
    """Walk the links into `order` and return the number of chains: those with two ends first, then the closed ones."""
    chain_of[:] = -1
    chains = 0
    filled = 0
    for start in range(ahead.size):
        if behind[start] < 0:
            chain_start[chains] = filled
            closed[chains] = False
            p = start
            while p >= 0 and filled < ahead.size:
                chain_of[p] = chains
                order[filled] = p
                filled += 1
                p = ahead[p]
            chains += 1
    if filled < ahead.size:
        for start in range(ahead.size):
            if chain_of[start] < 0:
                chain_start[chains] = filled
                closed[chains] = True
                p = start
                while chain_of[p] < 0 and filled < ahead.size:
                    chain_of[p] = chains
                    order[filled] = p
                    filled += 1
                    p = ahead[p]
                chains += 1
    chain_start[chains] = filled
    return chains


@kernel
def _sum_up(x, y, strength, weights, order, chain_start, closed, length, energy, peak):  # type: ignore[no-untyped-def]
    """Length, sum of the weights and largest strength of each chain."""
    for c in range(length.size):
        first, last = chain_start[c], chain_start[c + 1]
        p = np.uint32(order[last - 1] if closed[c] else order[first])
        before_x, before_y = x[p], y[p]
        path = np.float32(0.0)
        total = np.float32(0.0)
        most = np.float32(0.0)
        for i in range(first, last):
            p = np.uint32(order[i])
            here_x, here_y = x[p], y[p]
            dx = here_x - before_x
            dy = here_y - before_y
            path += np.sqrt(dx * dx + dy * dy)
            total += weights[p]
            most = max(most, strength[p])
            before_x, before_y = here_x, here_y
        length[c] = path
        energy[c] = total
        peak[c] = most


@kernel
def _spread_peaks(pairs, parts, chain_of, reach):  # type: ignore[no-untyped-def]
    """Raise reach (one a chain) to the largest in its 8-connected component; parts (n, 2) says where in `pairs` they lie."""
    parent = np.arange(reach.size).astype(np.int32)
    for part in range(parts.shape[0]):
        for i in range(parts[part, 0], parts[part, 1]):
            a = chain_of[pairs[i] >> _HALF]
            b = chain_of[pairs[i] & _LOWER]
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


@dataclass(frozen=True)
class _Room:
    """Working memory for `size` points, used again from call to call."""

    size: int
    pairs: NDArray[np.uint64]
    cost: NDArray[np.float32]
    bits: NDArray[np.uint32]
    offers: tuple[NDArray[np.uint64], ...]
    floats: tuple[NDArray[np.float32], ...]
    integers: tuple[Integers, ...]

    @classmethod
    def make(cls, size: int) -> _Room:
        cost = np.empty(4 * size + 1, np.float32)
        return cls(
            size,
            np.empty(4 * size + 1, np.uint64),
            cost,
            cost.view(np.uint32),
            tuple(np.empty(size, np.uint64) for _ in range(2)),
            tuple(np.empty(size, np.float32) for _ in range(2)),
            tuple(np.empty(size, np.int32) for _ in range(6)),
        )


def link_chains(points: EdgePoints, width: int, weights: NDArray[np.float32]) -> Chains:
    """All chains of the points, single points included. `weights`: a number a point, summed along each chain."""
    n = len(points)
    row_start = points.row_start
    room = threads.scratch("linking", _Room.make, n + 1)
    pairs, cost, bits, offers, floats = room.pairs, room.cost, room.bits, room.offers, room.floats

    def band(top: int, bottom: int) -> tuple[int, int, int]:
        index = np.full((2, width + 2), -1, np.int32)
        begin = 4 * int(row_start[top])
        own = slice(begin, 4 * int(row_start[bottom]) + 1)
        seam, end = _link_band(
            points.column, row_start, top, bottom, points.x, points.y, points.gx, points.gy, points.strength,
            *floats, index, pairs[own], cost[own], bits[own], *offers,
        )  # fmt: skip
        return begin, begin + seam, begin + end

    parts = threads.over_bands(band, len(row_start) - 1)
    for begin, seam, _ in parts[1:]:
        _link_seam(points.x, points.y, *floats, pairs[begin:seam], cost[begin:seam], bits[begin:seam], *offers)
    wish_ahead, wish_behind, refused, ahead, behind, chain_of = room.integers
    ahead, behind, chain_of = ahead[:n], behind[:n], chain_of[:n]
    _settle(*offers, wish_ahead, wish_behind, ahead, behind, refused)
    order = np.empty(n, np.int32)
    start = np.empty(n + 1, np.int64)
    closed = np.empty(n, np.bool_)
    count = _trace(ahead, behind, order, chain_of, start, closed)
    start, closed = start[: count + 1].copy(), closed[:count].copy()
    length, energy, peak = (np.empty(count, np.float32) for _ in range(3))
    _sum_up(points.x, points.y, points.strength, weights, order, start, closed, length, energy, peak)
    reach = peak.copy()
    _spread_peaks(pairs, np.array([(begin, end) for begin, _, end in parts]), chain_of, reach)
    return Chains(order, start, closed, reach, length, energy, peak)


@kernel
def _medians(values, start, out):  # type: ignore[no-untyped-def]
    for i in range(out.size):
        out[i] = np.median(values[start[i] : start[i + 1]])


def chain_medians(values: NDArray[np.float32], start: NDArray[np.int64]) -> NDArray[np.float64]:
    """Median of `values` in each of the runs that begin at `start` (one more entry than runs)."""
    out = np.empty(len(start) - 1)
    _medians(values, start, out)
    return out
