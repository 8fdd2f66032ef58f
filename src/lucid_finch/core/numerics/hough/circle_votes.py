"""Centres of circles out of edge points: votes along the gradient, in bands of radii whose cells grow with the radius.

Each point votes for centres on both sides of its edge (Kimme, Ballard and Sklansky, CACM 18(2), 1975; one plane for a range of
radii as in Yuen, Princen, Illingworth and Kittler, Image and Vision Computing 8(1), 1990). An error of direction carries a vote
aside by a share of the radius, so a cell is a share of the radius too: the same evidence meets in one cell at every size, and
the whole range costs little more than its smallest radii.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.hough.accumulators import CELLS_AT_ONCE, most_votes
from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import cancelled_here, scratch

Floats = NDArray[np.float32]

_RATIO = 1.3
"""From one band of radii to the next."""
_CELL = 6.0
"""Cells to a radius."""
_SMALLEST = 2.0
"""px: no cell is smaller."""
_BEYOND = 0.3
"""Radii by which a centre may lie outside the image."""
_STANDING_OUT = 4.0
"""Standard deviations by which a cell must have more votes than most."""
_SPARSE = 9.0
"""px of radius from which on every second point votes, from twice that on every third, and so on: large rims have many."""
_SPARSEST = 12
_AT_ONCE = 64
"""Points that vote together."""
_GATHERED = 1.45
"""Votes that a rim brings together at its centre, for each point of it, at the least: a cell is pooled with its neighbours."""


@kernel
def _vote_band(x, y, nx, ny, low, high, cell, margin, both, rows, columns, votes):  # type: ignore[no-untyped-def]
    """Adds votes to a plane of cells in one row, which has one more at its end: what lies beyond the plane goes there."""
    finer = np.float32(1.0 / cell)
    steps = max(1, int((high - low) / cell + 0.5))
    stride = (high - low) / steps
    places = np.empty(_AT_ONCE, np.int32)
    nowhere = np.int32(votes.size - 1)
    wide, tall = np.float32(columns), np.float32(rows)
    for begin in range(0, x.size, _AT_ONCE):
        end = begin + _AT_ONCE
        px, py, dx, dy = x[begin:end], y[begin:end], nx[begin:end], ny[begin:end]
        for k in range(2 * steps):
            side = 1 if k < steps else -1
            if side == both:
                continue
            r = np.float32(side * (low + (k % steps + 0.5) * stride))
            # In two loops, since the compiler vectorises the first alone.
            for i in range(px.size):
                u, v = (px[i] + margin + dx[i] * r) * finer, (py[i] + margin + dy[i] * r) * finer
                inside = (u >= 0) & (v >= 0) & (u < wide) & (v < tall)
                places[i] = np.int32(v) * np.int32(columns) + np.int32(u) if inside else nowhere
            for i in range(px.size):
                votes[np.uint64(places[i])] += 1


@kernel
def _pool(votes, out):  # type: ignore[no-untyped-def]
    """Sums of 2 by 2 cells, kept at the upper left one; 0 in the last row and column."""
    rows, columns = votes.shape
    out[rows - 1, :] = 0
    out[:, columns - 1] = 0
    for j in range(rows - 1):
        upper, lower, row = votes[j], votes[j + 1], out[j]
        for i in range(columns - 1):
            row[i] = upper[i] + upper[i + 1] + lower[i] + lower[i + 1]


@kernel
def _peaks(pooled, least, out_row, out_column, out_votes):  # type: ignore[no-untyped-def]
    rows, columns = pooled.shape
    found = 0
    for j in range(rows - 1):
        row = pooled[j]
        above = pooled[max(j - 1, 0)]
        under = pooled[min(j + 1, rows - 1)]
        for begin in range(0, columns - 1, CELLS_AT_ONCE):
            end = min(begin + CELLS_AT_ONCE, columns - 1)
            if most_votes(row, begin, end) < least:
                continue
            for i in range(begin, end):
                here = row[i]
                if here < least:
                    continue
                l, r = max(i - 1, 0), min(i + 1, columns - 1)
                if j > 0 and (here <= above[l] or here <= above[i] or here <= above[r]):
                    continue
                if (i > 0 and here <= row[l]) or here < row[r] or here < under[l] or here < under[i] or here < under[r]:
                    continue
                if found < out_row.size:
                    out_row[found], out_column[found], out_votes[found] = j, i, here
                found += 1
    return min(found, out_row.size)


@dataclass(frozen=True)
class Centres:
    """Places where many votes of one band of radii meet."""

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    low: NDArray[np.float64]
    high: NDArray[np.float64]
    """Ends of the band, px."""
    share: NDArray[np.float64]
    """Votes above what lies everywhere, over the circumference."""
    unsure: NDArray[np.float64]
    """px that the centre may be off."""
    dropped: int = 0
    """Weaker ones that were left out, since there were more than asked for."""


def bands(least: float, most: float) -> list[tuple[float, float]]:
    """Bands of radii from `least` to `most` px."""
    count = max(1, math.ceil(math.log(max(most / least, 1.0001)) / math.log(_RATIO)))
    edges = least * (most / least) ** (np.arange(count + 1) / count)
    return list(zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True))


def find_centres(
    x: Floats, y: Floats, nx: Floats, ny: Floats, size: tuple[int, int], radius: tuple[float, float], seen: float, most: int
) -> Centres:
    """At most `most` centres of an image of that width and height, the best first. `nx`, `ny`: unit gradients; `seen`: the
    share of a rim that must be seen.

    Raises `Cancelled`.
    """
    width, height = size
    cancelled = cancelled_here()
    found: list[NDArray[Any]] = []
    for low, high in bands(*radius):
        if cancelled is not None and cancelled():
            raise Cancelled()
        middle = 0.5 * (low + high)
        cell = max(_SMALLEST, middle / _CELL)
        margin = _BEYOND * high
        rows, columns = (math.ceil((n + 2 * margin) / cell) + 1 for n in (height, width))
        cells = rows * columns
        votes, pooled_row = scratch("centres", lambda n: np.empty((2, n), np.int32), cells + 1)[:, : cells + 1]
        votes[:] = 0
        each = min(max(int(low / _SPARSE), 1), _SPARSEST)
        some_of = (np.ascontiguousarray(a[::each]) for a in (x, y, nx, ny))
        _vote_band(*some_of, low, high, cell, np.float32(margin + 0.5), 0, rows, columns, votes)
        pooled = pooled_row[:-1].reshape(rows, columns)
        _pool(votes[:-1].reshape(rows, columns), pooled)
        # Counts of counts tell quantiles faster than sorting.
        tally = np.cumsum(np.bincount(pooled.ravel()[:: max(1, pooled.size // 20_000)]))
        usual, upper = (float(np.searchsorted(tally, share * tally[-1])) for share in (0.5, 0.8))
        # The tail of what lies everywhere, from its upper quartile: clutter is rougher than chance.
        rough = max(upper - usual, math.sqrt(usual), 0.5) / 0.84
        rim = 2 * math.pi * middle / each
        least = min(usual + max(_GATHERED * seen * rim, _STANDING_OUT * rough), 0.8 * rim)
        peaks = np.empty((3, max(20_000, 2 * most)), np.int32)
        n = _peaks(pooled, int(least), *peaks)
        row, column, here = peaks[:, :n]
        place = [(v.astype(float) + 1.0) * cell - margin - 0.5 for v in (column, row)]
        found.append(np.stack([*place, np.full(n, low), np.full(n, high), (here - usual) / rim, np.full(n, cell)]))
    every = np.concatenate(found, axis=1)
    best = every[:, np.argsort(-every[4], kind="stable")[:most]]
    at_x, at_y, low_end, high_end, share, unsure = best
    return Centres(at_x, at_y, low_end, high_end, share, unsure, every.shape[1] - best.shape[1])


def centre_votes(
    x: Floats, y: Floats, nx: Floats, ny: Floats, size: tuple[int, int], radius: tuple[float, float], polarity: int = 0
) -> Floats:
    """(H, W) votes for a centre at each pixel, one for each px of radius and point; `polarity` 1 only where it is brighter
    outside, -1 only where it is brighter inside, 0 both."""
    width, height = size
    votes = np.zeros(height * width + 1, np.int32)
    first, last = math.ceil(radius[0]), math.floor(radius[1])
    if last >= first:
        _vote_band(x, y, nx, ny, first - 0.5, last + 0.5, 1.0, np.float32(0.5), polarity, height, width, votes)
    return votes[:-1].reshape(height, width).astype(np.float32)
