"""Orders points that lie on a grid in perspective: which column and row each one has.

A seed and two steps to its neighbours are carried on from point to point, each predicted by the steps of the point before; what
lies apart from the rest, behind something that hides a part, is reached through a homography. Follows the idea of growing a
board by prediction of Geiger, Moosmann, Car and Schuster, "Automatic camera and range sensor calibration using a single shot",
ICRA 2012.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.targets.homographies import fit_homography, mapped

Floats = NDArray[np.float64]

_NEIGHBOURS = 12
_REACH = 0.28
"""A neighbour lies within this part of a step from its predicted place."""
_OPPOSITE = 0.3
"""Opposite steps of a seed differ at most by this part of their length: perspective makes them unequal."""
_UNEQUAL = 2.5
"""The longer of both steps over the shorter, at most."""
_SKEW = 0.35
"""Least sine of the angle between both steps: 45 degrees of tilt leave 0.7 of a right angle's."""
_APART = 0.2
"""Points beyond a gap lie within this part of a step from a place of the grid."""
_ALIKE = float(np.log(1.5))
"""Neighbours differ in size by less than this factor."""
_ROUNDS = 6
_MOST_PIECES = 5
_LEAST_PIECE = 5
"""Points of a piece of a grid that may count: two and two neighbours of one, at least."""


@dataclass(frozen=True)
class Lattice:
    """The points of one grid."""

    points: NDArray[np.int64]
    """(n,): which of the given points belong to it."""
    places: NDArray[np.int64]
    """(n, 2): column and row of each."""

    def __len__(self) -> int:
        return len(self.points)

    @property
    def size(self) -> tuple[int, int]:
        """Columns and rows that it spans."""
        if not len(self):
            return 0, 0
        columns, rows = np.ptp(self.places, axis=0) + 1
        return int(columns), int(rows)

    def taken(self, rows: NDArray[Any]) -> Lattice:
        """Only these of its points."""
        return Lattice(self.points[rows], self.places[rows])


EMPTY = Lattice(np.empty(0, np.int64), np.empty((0, 2), np.int64))


def find_lattices(points: Floats, sizes: Floats | None = None) -> list[Lattice]:
    """Grids among points (n, 2), the largest first, each with what lies beyond gaps; most points may belong to none.

    `sizes`: of the points (n,), where neighbours must be about as large; None: no matter. Columns and rows count along two ways
    of the grid, from wherever it was begun.
    """
    if len(points) < _LEAST_PIECE:
        return []
    logs = np.zeros(len(points)) if sizes is None else np.log(np.maximum(sizes, 1e-9))
    from scipy.spatial import cKDTree  # here, since loading it takes time

    tree = cKDTree(points)
    count = min(_NEIGHBOURS, len(points) - 1)
    _, near = tree.query(points, count + 1)
    pieces: list[Lattice] = []
    tried = np.zeros(len(points), bool)
    # Points in the midst of others first; of what is left, such as the rim around something that hides the rest, the corners of
    # parallelograms.
    for steps_of in (_steps, _steps_of_parallelogram):
        for seed in range(len(points)):
            if tried[seed]:
                continue
            alike = near[seed, 1:]
            steps = steps_of(points, seed, alike[np.abs(logs[alike] - logs[seed]) < _ALIKE])
            if steps is None:
                continue
            grown = _grown(points, tree, seed, steps, logs)
            if len(grown) >= _LEAST_PIECE:
                tried[grown.points] = True
                pieces.append(grown)
    pieces.sort(key=len, reverse=True)
    return [_joined(points, piece, [other for other in pieces if other is not piece]) for piece in pieces[:_MOST_PIECES]]


def _steps(points: Floats, seed: int, near: NDArray[Any]) -> tuple[Floats, Floats] | None:
    """Two steps from a point to neighbours that have others opposite; the shortest such. None if there are none."""
    offsets = points[near] - points[seed]
    long = np.hypot(*offsets.T)
    found: list[Floats] = []
    for k in range(len(near)):
        if long[k] <= 0:
            continue
        gap = np.hypot(*(offsets + offsets[k]).T)
        if gap.min(initial=np.inf) > _OPPOSITE * long[k]:
            continue
        step = 0.5 * (offsets[k] - offsets[int(np.argmin(gap))])
        if found:
            sine = abs(found[0][0] * step[1] - found[0][1] * step[0]) / max(np.hypot(*found[0]) * np.hypot(*step), 1e-300)
            if sine < _SKEW:
                continue
        found.append(step)
        if len(found) == 2:
            return found[0], found[1]
    return None


def _steps_of_parallelogram(points: Floats, seed: int, near: NDArray[Any]) -> tuple[Floats, Floats] | None:
    """The two shortest steps from a point to neighbours whose sum leads to a third one."""
    offsets = points[near] - points[seed]
    long = np.hypot(*offsets.T)
    for second in range(1, len(near)):
        for first in range(second):
            u, v = offsets[first], offsets[second]
            product = float(long[first] * long[second])
            if product <= 0 or long[second] > _UNEQUAL * long[first]:
                continue
            if abs(u[0] * v[1] - u[1] * v[0]) < _SKEW * product:
                continue
            if np.hypot(*(offsets - u - v).T).min() < _REACH * long[first]:
                return u, v
    return None


@dataclass
class _Growth:
    """Places that are taken, and the steps at each."""

    at: dict[tuple[int, int], int] = field(default_factory=dict)
    of: dict[int, tuple[int, int]] = field(default_factory=dict)
    steps: dict[int, tuple[Floats, Floats]] = field(default_factory=dict)

    def put(self, point: int, place: tuple[int, int], steps: tuple[Floats, Floats]) -> None:
        self.at[place], self.of[point], self.steps[point] = point, place, steps

    def lattice(self) -> Lattice:
        if not self.of:
            return EMPTY
        chosen = np.array(sorted(self.of), np.int64)
        return Lattice(chosen, np.array([self.of[int(p)] for p in chosen], np.int64).reshape(-1, 2))


_WAYS = ((1, 0), (0, 1), (-1, 0), (0, -1))


def _grown(points: Floats, tree: Any, seed: int, steps: tuple[Floats, Floats], logs: Floats) -> Lattice:
    """All points that are reached from a seed."""
    growth = _Growth()
    growth.put(seed, (0, 0), steps)
    waiting = deque([seed])
    while waiting:  # every point is put once at most
        point = waiting.popleft()
        place, (u, v) = growth.of[point], growth.steps[point]
        for way in _WAYS:
            there = place[0] + way[0], place[1] + way[1]
            if there in growth.at:
                continue
            step = way[0] * u + way[1] * v
            far, other = tree.query(points[point] + step, distance_upper_bound=_REACH * float(np.hypot(*step)))
            if not np.isfinite(far) or int(other) in growth.of or abs(logs[other] - logs[point]) > _ALIKE:
                continue
            seen = (points[other] - points[point]) * (way[0] + way[1])
            # Half of what was seen, half of what was expected: one misplaced point does not lead astray.
            after = (0.4 * u + 0.6 * seen, v) if way[0] else (u, 0.4 * v + 0.6 * seen)
            growth.put(int(other), there, after)
            waiting.append(int(other))
    return growth.lattice()


def _joined(points: Floats, lattice: Lattice, others: list[Lattice]) -> Lattice:
    """The grid with the pieces and points beyond gaps: whole pieces anywhere near, single points inside it."""
    for _ in range(_ROUNDS):
        homography = fit_homography(lattice.places.astype(float), points[lattice.points])
        back = _inverse(homography)
        if back is None:
            return lattice
        there = mapped(back, points)
        places = np.where(np.isfinite(there), np.round(there), 0).astype(np.int64)
        off = np.nan_to_num(np.hypot(*(there - places).T), nan=np.inf)
        low, high = lattice.places.min(axis=0), lattice.places.max(axis=0)
        inside = ((places >= low) & (places <= high)).all(axis=1)
        wanted = inside & (off < _APART)
        for piece in others:
            span = 3 * np.maximum(high - low, 3)
            near = ((places[piece.points] >= low - span) & (places[piece.points] <= high + span)).all()
            wanted[piece.points] |= bool(near and (off[piece.points] < _APART).all())
        free = np.ones(len(points), bool)
        free[lattice.points] = False
        taken = set(map(tuple, lattice.places.tolist()))
        added: list[int] = []
        for point in np.flatnonzero(free & wanted)[np.argsort(off[free & wanted], kind="stable")].tolist():
            place = (int(places[point, 0]), int(places[point, 1]))
            if place not in taken:
                taken.add(place)
                added.append(point)
        if not added:
            return lattice
        lattice = _without_strays(
            Lattice(np.append(lattice.points, added), np.concatenate([lattice.places, places[added]]))
        )  # fmt: skip
    return lattice


def _inverse(homography: Floats | None) -> Floats | None:
    if homography is None:
        return None
    try:
        return np.asarray(np.linalg.inv(homography))
    except np.linalg.LinAlgError:
        return None


def _without_strays(lattice: Lattice) -> Lattice:
    """Without points that have no neighbour in the grid."""
    places = set(map(tuple, lattice.places.tolist()))
    kept = [any((c + dc, r + dr) in places for dc, dr in _WAYS) for c, r in lattice.places.tolist()]
    return lattice.taken(np.flatnonzero(kept))


_UNSHEARED = [
    np.array(m).reshape(2, 2) for m in product((-1, 0, 1), repeat=4) if abs(m[0] * m[3] - m[1] * m[2]) == 1
]  # fmt: skip
"""Changes of the two steps by sums and differences of them."""


def filled(lattice: Lattice) -> Lattice:
    """The grid with such steps that it fills its rectangle best: a strong tilt makes diagonals the shorter steps."""
    for _ in range(3 if len(lattice) else 0):

        def area(turn: NDArray[Any], places: NDArray[np.int64] = lattice.places) -> tuple[int, float]:
            return int(np.prod(np.ptp(places @ turn, axis=0) + 1)), float(np.abs(turn - np.eye(2)).sum())

        best = min(_UNSHEARED, key=area)
        if area(best)[0] >= area(np.eye(2, dtype=int))[0]:
            break
        lattice = Lattice(lattice.points, lattice.places @ best)
    return lattice


def oriented(lattice: Lattice, points: Floats, columns: int | None = None, rows: int | None = None) -> Lattice:
    """The grid turned so that columns count along +x and rows along +y of the image, as far as its size allows, from 0.

    With `columns` and `rows` given, of the turns into which it fits; what spans more is cut to the part with most points.
    """
    if not len(lattice):
        return lattice
    homography = fit_homography(lattice.places.astype(float), points[lattice.points])
    middle = lattice.places.mean(axis=0)
    if homography is None:
        return lattice
    around = mapped(homography, middle + np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]]))
    u, v = around[1] - around[0], around[2] - around[0]
    places = lattice.places
    if u[0] * v[1] - u[1] * v[0] < 0:
        places, u, v = places[:, ::-1], v, u
    turns = []
    for _ in range(4):
        turns.append((places - places.min(axis=0), u))
        # A quarter turn: columns along what was the way of rows.
        places, u, v = np.column_stack([places[:, 1], -places[:, 0]]), v, -u
    wanted = (columns or np.inf, rows or np.inf)

    def unfit(turn: tuple[NDArray[np.int64], Floats]) -> tuple[float, float]:
        spans = np.ptp(turn[0], axis=0) + 1
        too_many = sum(max(0.0, float(span) - most) for span, most in zip(spans, wanted, strict=True))
        return too_many, -float(turn[1][0] / max(np.hypot(*turn[1]), 1e-300))

    best = min(turns, key=unfit)[0]
    found = Lattice(lattice.points, best)
    for axis, most in enumerate((columns, rows)):
        if most is not None and found.size[axis] > most:
            found = _cut(found, axis, most)
    return Lattice(found.points, found.places - found.places.min(axis=0)) if len(found) else found


def _cut(lattice: Lattice, axis: int, most: int) -> Lattice:
    """The part of `most` columns (axis 0) or rows (1) that holds most points."""
    along = lattice.places[:, axis]
    counts = np.bincount(along - along.min())
    sums = np.convolve(counts, np.ones(most), "valid")
    first = int(np.argmax(sums)) + int(along.min())
    return lattice.taken(np.flatnonzero((along >= first) & (along < first + most)))
