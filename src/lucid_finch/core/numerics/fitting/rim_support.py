"""Which edge points support a circle or ellipse: points by tile, what a fit notes of chains, and the rims that result."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.hough.tiles import tiled
from lucid_finch.core.numerics.ragged import owners, take_rows
from lucid_finch.core.numerics.runtime.compiling import helper, inner, kernel
from lucid_finch.core.numerics.runtime.threads import cancelled_here

Floats = NDArray[np.float32]
WINDOW = 0.6
"""Radians of a rim over which a side of a polygon would be straight."""


@dataclass(frozen=True)
class Filed:
    """Edge points by tiles, with what a rim asks of them."""

    x: Floats
    y: Floats
    nx: Floats
    ny: Floats
    chain: NDArray[np.int32]
    along: NDArray[np.int32]
    """Place along all chains, one after the other; no two chains are neighbours."""
    order: NDArray[np.int32]
    first: NDArray[np.int64]
    across: int
    down: int
    chains: int

    @property
    def table(self) -> PointTable:
        """As kernels take it."""
        return PointTable(
            self.x, self.y, self.nx, self.ny, self.chain, self.along, self.first, int(self.across), int(self.down)
        )  # fmt: skip


def filed_points(
    x: Floats, y: Floats, nx: Floats, ny: Floats, chain: NDArray[np.int32], along: NDArray[np.int32], size: tuple[int, int]
) -> Filed:
    """The points of an image of that width and height, filed by place."""
    tiles = tiled(x, y, size)
    by = tiles.order
    across, down, chains = tiles.across, tiles.down, int(chain.max(initial=0)) + 1
    return Filed(x[by], y[by], nx[by], ny[by], chain[by], along[by], by, tiles.first, across, down, chains)


_OFF_LARGE = (1.1, 0.006)
_OFF_SMALL = (0.35, 0.11)
"""px, and px a px of radius, that a point may lie off a rim: a little more on large ones, which are seldom perfect; less on small
ones. The lesser of both holds."""


_OFF_UNEVEN = 0.04
"""px a px of radius that a point may lie farther off an uneven one."""


@helper
def within_rim(radius, uneven):  # type: ignore[no-untyped-def]
    """px that a point may lie off a rim; more if `uneven` is 1."""
    usual = min(_OFF_LARGE[0] + _OFF_LARGE[1] * radius, _OFF_SMALL[0] + _OFF_SMALL[1] * radius)
    return usual + uneven * _OFF_UNEVEN * radius


def rim_tolerance(radius: NDArray[np.float64], uneven: NDArray[np.float64] | float = 0.0) -> NDArray[np.float64]:
    """The same for many rims."""
    usual = np.minimum(_OFF_LARGE[0] + _OFF_LARGE[1] * radius, _OFF_SMALL[0] + _OFF_SMALL[1] * radius)
    return usual + uneven * _OFF_UNEVEN * radius


@helper
def within_tangent(radius):  # type: ignore[no-untyped-def]
    """px by which the tangent of a chain that has left a rim may miss the rim, for the chain to have left it smoothly."""
    return 1.0 + 0.08 * radius


ON, BESIDE, AWAY = 1, 2, 3


@helper
def _count_leaving(place, state, mark):  # type: ignore[no-untyped-def]
    """Points by which a chain goes on along a tangent where it leaves a rim at `place`. `state`: for each place along the
    chains, four times the number of the rim and whether the point lies on it, beside it or farther away."""
    left = 0
    for step in (-1, 1):
        at = place + step
        while 0 <= at < state.size and (state[at] == 4 * mark + BESIDE or state[at] == 4 * mark + AWAY):
            left += state[at] == 4 * mark + AWAY
            state[at] = 0
            at += step
    return left


@helper
def counts_as_leaving(coverage, hidden):  # type: ignore[no-untyped-def]
    """Weight of points that leave a rim as evidence against it: 0 where nearly all of it is visible, as with a touching wire; 1
    where at least the share `hidden` of it is not."""
    return min(max((1.0 - coverage) / hidden, 0.0), 1.0)


STRETCHES = 24
"""Of a rim, whose mean distances are compared with the scatter within them."""
MOST_PARTS = 1024
"""Of a rim, each covered or not."""
_ROWS = 200
"""Candidates that are fitted between two looks at whether to go on."""


def alike_points(sigma: float) -> float:
    """Neighbouring points err alike, the more so the wider the smoothing (px): so many count as one."""
    return 4.2 * max(sigma / 1.2, 1.0)


@kernel
def systematic_residual(drift, drift2, count, alike):  # type: ignore[no-untyped-def]
    """px that the stretches of a rim lie off it beyond what their scatter explains, from sums of distances and squares.
    `alike`: so many neighbouring points count as one."""
    within, free, between, seen = 0.0, 0.0, 0.0, 0.0
    for k in range(STRETCHES):
        if count[k] >= 3:
            within += drift2[k] - drift[k] * drift[k] / count[k]
            free += count[k] - 1
            between += drift[k] * drift[k] / count[k]
            seen += count[k]
    scatter = within / max(free, 1.0)
    used = 0
    for k in range(STRETCHES):
        if count[k] >= 3:
            used += 1
    return math.sqrt(max(between - used * alike * scatter, 0.0) / max(seen, 1.0))


@kernel
def copied(x, y, nx, ny, chosen, count, cx, cy, near):  # type: ignore[no-untyped-def]
    """Some points seen from (cx, cy) and their gradients, side by side: what is looked at often."""
    for k in range(count):
        i = chosen[k]
        near[0, k], near[1, k], near[2, k], near[3, k] = x[i] - cx, y[i] - cy, nx[i], ny[i]


class PointTable(NamedTuple):
    """Edge points by tiles, as kernels take them."""

    x: Any
    y: Any
    nx: Any
    ny: Any
    chain: Any
    along: Any
    first: Any
    across: int
    down: int


class Density(NamedTuple):
    """Edge points per pixel in square blocks, row by row."""

    values: Any
    block: int
    columns: int

    @staticmethod
    def of(values: Floats, block: int) -> Density:
        """Of a map of blocks (rows, columns), `block` px wide."""
        return Density(np.ascontiguousarray(values.ravel()), block, values.shape[1])


class Marks(NamedTuple):
    """What is noted of chains and points while a rim is measured, by the number of the rim."""

    stamp: Any
    seen_by: Any
    state: Any


class Sections(NamedTuple):
    """Sums along a rim: by parts of it, and by stretches."""

    covered: Any
    leaning: Any
    many: Any
    drift: Any
    drift2: Any
    count: Any


class RimOutput(NamedTuple):
    """Rims as they are found, and their points."""

    columns: Any
    made: Any
    start: Any
    support: Any
    place: Any


@inner
def new_sections():  # type: ignore[no-untyped-def]
    """Work arrays for the sums along one rim."""
    return Sections(
        np.zeros(MOST_PARTS, np.uint8), np.zeros(MOST_PARTS), np.zeros(MOST_PARTS), np.zeros(STRETCHES), np.zeros(STRETCHES),
        np.zeros(STRETCHES),
    )  # fmt: skip


@inner
def clear_sections(sections, parts):  # type: ignore[no-untyped-def]
    """Set the sums of the first `parts` parts, and of all stretches, to zero."""
    for k in range(parts):
        sections.covered[k] = 0
        sections.leaning[k] = 0.0
        sections.many[k] = 0.0
    for k in range(STRETCHES):
        sections.drift[k], sections.drift2[k], sections.count[k] = 0.0, 0.0, 0.0


@helper
def density_at(x, y, density):  # type: ignore[no-untyped-def]
    """Edge points per pixel around a place."""
    return density.values[int(max(y, 0)) // density.block * density.columns + int(max(x, 0)) // density.block]


@helper
def mark_on_rim(i, points, mark, marks):  # type: ignore[no-untyped-def]
    """Note that point i is on the rim number `mark`."""
    chain = points.chain[i]
    if marks.stamp[chain] != mark:
        marks.stamp[chain] = mark
        marks.seen_by[chain] = 0
    marks.seen_by[chain] += 1
    marks.state[points.along[i]] = 4 * mark + ON


@inner
def share_covered(covered, parts):  # type: ignore[no-untyped-def]
    """Share of the parts of a rim that hold points."""
    filled = 0
    for k in range(parts):
        filled += covered[k]
    return filled / parts


@inner
def points_leaving(points, support, begin, held, mark, state):  # type: ignore[no-untyped-def]
    """Points by which chains continue along a tangent where they leave a rim."""
    leaving = 0
    for k in range(begin, begin + held):
        leaving += _count_leaving(points.along[support[k]], state, mark)
    return leaving


@dataclass(frozen=True)
class Rims:
    """One entry a rim in each column; the points of each."""

    columns: dict[str, NDArray[np.float64]]
    start: NDArray[np.int64]
    support: NDArray[np.int32]
    """Indices into the points as they were given."""
    place: NDArray[np.float64]
    """How far round the rim each point lies, 0 to 1."""

    def __len__(self) -> int:
        return len(self.start) - 1

    def points_of(self, rows: NDArray[np.int64]) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
        """Points of some rows, and the place among these of the one that each belongs to."""
        index, start = take_rows(self.start, rows)
        return self.support[index], owners(start)


def new_output(columns: int, most: int, points: int) -> RimOutput:
    """Room for `most` rims, found from so many points."""
    support = np.empty(max(8 * points, 4096), np.int32)
    closeness = np.zeros(len(support), np.float32)
    return RimOutput(np.empty((columns, most)), np.zeros(1, np.int64), np.zeros(most + 1, np.int64), support, closeness)


def new_marks(filed: Filed) -> Marks:
    """Room for what is noted of the chains and points."""
    return Marks(
        np.zeros(filed.chains, np.int64), np.zeros(filed.chains, np.int32),
        np.zeros(int(filed.along.max(initial=0)) + 2, np.int64),
    )  # fmt: skip


def run_rows(work: Callable[[int, int], None], count: int, marks: Marks) -> None:
    """Call `work(first, last)` for some rows at a time, so that it can be cancelled. Raises `Cancelled`."""
    cancelled = cancelled_here()
    for first in range(0, count, _ROWS):
        if cancelled is not None and cancelled():
            raise Cancelled()
        marks.stamp[:], marks.state[:] = 0, 0
        work(first, min(first + _ROWS, count))


def rims_of(filed: Filed, output: RimOutput, columns: Sequence[str]) -> Rims:
    """The rims that were found."""
    n = int(output.made[0])
    used = int(output.start[n])
    values = {name: output.columns[k, :n].copy() for k, name in enumerate(columns)}
    place = output.place[:used].astype(float)
    return Rims(values, output.start[: n + 1].copy(), filed.order[output.support[:used]], place)


def shared_points(start: NDArray[np.int64], support: NDArray[np.int32]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Pairs of rows that have points in common, and the share of the smaller one's points that are."""
    count = np.diff(start)
    owner = owners(start)
    by_point = np.argsort(support, kind="stable")
    points, rims = support[by_point], owner[by_point]
    pairs: list[Any] = []
    # Points of many owners give all pairs of them: neighbours in the order at every distance.
    away = 1
    while True:
        same = np.flatnonzero(points[away:] == points[:-away]) if away < len(points) else np.empty(0, np.int64)
        if not len(same) or away > 40:
            break
        pairs.append(np.stack([rims[same], rims[same + away]], axis=1))
        away += 1
    if not pairs:
        return np.empty((0, 2), np.int64), np.empty(0)
    joined = np.sort(np.concatenate(pairs), axis=1)
    keys, times = np.unique(joined[:, 0] * len(count) + joined[:, 1], return_counts=True)
    found = np.stack([keys // len(count), keys % len(count)], axis=1)
    return found, times / np.minimum(count[found[:, 0]], count[found[:, 1]])


@kernel
def _own(order, start, support, place, parts, taken, covered, out):  # type: ignore[no-untyped-def]
    for k in range(order.size):
        row = order[k]
        n = parts[row]
        for j in range(n):
            covered[j] = 0
        for j in range(start[row], start[row + 1]):
            i = support[j]
            if taken[i] == 0:
                taken[i] = 1
                covered[min(int(place[j] * n), n - 1)] = 1
        total = 0
        for j in range(n):
            total += covered[j]
        out[row] = total / n


def own_coverage(rims: Rims, around: NDArray[np.float64], merit: NDArray[np.float64]) -> NDArray[np.float64]:
    """Share of each rim, `around` px long, seen by points that no rim of more merit has."""
    out = np.zeros(len(rims))
    if not len(rims):
        return out
    parts = np.clip((around / 1.5).astype(np.int64), 16, 1024)
    taken = np.zeros(int(rims.support.max(initial=0)) + 1, np.uint8)
    order = np.argsort(-merit, kind="stable")
    _own(order, rims.start, rims.support, rims.place, parts, taken, np.zeros(1024, np.uint8), out)
    return out


def likely_rims(columns: dict[str, NDArray[np.float64]]) -> NDArray[np.bool_]:
    """Which rims are likely enough to be refined."""
    return np.asarray((columns["fidelity"] > 0.5) & (columns["turning"] > 0.35) & (columns["coverage"] > 0.3))
