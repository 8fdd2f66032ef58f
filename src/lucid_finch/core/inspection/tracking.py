"""Gives the same object the same number over the frames of a clip or a camera.

Each object is expected where its motion so far leads; the nearest finding of a like size within a gate is taken to be it, all
pairs at once by the least total cost. Kuhn, "The Hungarian method for the assignment problem", Naval Research Logistics 2, 1955;
the expected place as in an alpha-beta filter (Sittler, IEEE Transactions on Military Electronics 8(2), 1964).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import linear_sum_assignment
from scipy.spatial import cKDTree

from lucid_finch.core.table import Column

Floats = NDArray[np.float64]

COLUMN = Column("track", "track", "", "number of the object over the frames", 0)
SIZES = ("radius", "semi_major", "height", "box_width", "length")
"""Columns that tell an object's size, the first that there is."""
GAP = 5
"""Frames for which an object may be missing and still be the same one."""
_ALIKE = 0.35
"""Sizes whose logarithms differ by more are of different objects."""
_PLACE, _SPEED = 0.7, 0.4
"""How far a new place changes the expected place, and the expected motion."""
_SURE = 4.0
"""Standard deviations of the misses seen, within which an object is looked for."""
_LEAST = 3.0
"""px that the gate has at least."""
_MOST_AT_ONCE = 1500
"""Above so many objects the nearest pairs are taken first, rather than the least total."""


@dataclass(frozen=True)
class _Tracks:
    """What is followed."""

    number: NDArray[np.int64]
    at: Floats
    """(n, 2): last place, smoothed."""
    speed: Floats
    """(n, 2): px a second."""
    known: NDArray[np.bool_]
    """Whether its speed has been seen."""
    size: Floats
    time: Floats
    missing: NDArray[np.int64]
    """Frames since it was seen."""


def _none() -> _Tracks:
    empty = np.empty(0)
    return _Tracks(np.empty(0, np.int64), np.empty((0, 2)), np.empty((0, 2)), np.empty(0, bool), empty, empty,
                   np.empty(0, np.int64))  # fmt: skip


class Tracker:
    """Follows the findings of one detector from frame to frame."""

    def __init__(self, gap: int = GAP) -> None:
        self.gap = gap
        self._tracks = _none()
        self._next = 1
        self._miss = 0.0
        """px, one standard deviation by which places were missed along one axis."""

    def numbers(self, at: Floats, size: Floats, time: float) -> NDArray[np.int64]:
        """The number of each finding at (n, 2) with its size (0: unknown), in the frame of that time (s); times rise."""
        t = self._tracks
        expected = self._expected(at, size, time)
        pairs = self._pairs(t, expected, at, size)
        numbers = np.zeros(len(at), np.int64)
        numbers[pairs[:, 1]] = t.number[pairs[:, 0]]
        born = np.flatnonzero(numbers == 0)
        numbers[born] = self._next + np.arange(len(born))
        self._next += len(born)
        self._tracks = self._moved(t, expected, pairs, at, size, time, numbers, born)
        return numbers

    def _expected(self, at: Floats, size: Floats, time: float) -> Floats:
        """Where each object should be now; one whose motion is not known yet moves as the others do."""
        t = self._tracks
        if not len(t.number):
            return t.at
        wait = (time - t.time)[:, None]
        if t.known.any():
            usual = np.median(t.speed[t.known], axis=0)
            return np.asarray(t.at + np.where(t.known[:, None], t.speed, usual) * wait)
        return t.at + common_shift(t.at, t.size, at, size)

    def _pairs(self, t: _Tracks, expected: Floats, at: Floats, size: Floats) -> NDArray[np.int64]:
        """(k, 2): which object is which finding."""
        if not len(expected) or not len(at):
            return np.empty((0, 2), np.int64)
        gate = self._gates(t, expected)
        near = cKDTree(at).query_ball_point(expected, gate)
        a = np.repeat(np.arange(len(expected)), [len(some) for some in near])
        b = np.array([one for some in near for one in some], np.int64)
        if not len(a):
            return np.empty((0, 2), np.int64)
        unlike = np.where(
            (t.size[a] > 0) & (size[b] > 0), np.abs(np.log(np.maximum(t.size[a], 1e-9) / np.maximum(size[b], 1e-9))), 0
        )
        cost = ((expected[a] - at[b]) ** 2).sum(axis=1) / gate[a] ** 2 + (unlike / _ALIKE) ** 2
        alike = unlike < _ALIKE
        a, b, cost = a[alike], b[alike], cost[alike]
        if max(len(expected), len(at)) > _MOST_AT_ONCE:
            return _nearest_first(a, b, cost)
        table = np.full((len(expected), len(at)), 1e3)
        table[a, b] = cost
        rows, columns = linear_sum_assignment(table)
        kept = table[rows, columns] < 1e3
        return np.stack([rows[kept], columns[kept]], axis=1)

    def _gates(self, t: _Tracks, expected: Floats) -> Floats:
        """px within which each object is looked for: by how far places were missed, at first by size and distance of objects."""
        apart = np.inf
        if len(expected) > 1:
            apart = float(np.median(cKDTree(expected).query(expected, k=2)[0][:, 1]))
        first = np.where(t.size > 0, np.minimum(1.5 * t.size, 0.5 * apart), 0.5 * apart if np.isfinite(apart) else 100.0)
        seen = _SURE * self._miss * np.sqrt(1.0 + t.missing)
        return np.maximum(np.where(t.known, np.minimum(np.maximum(seen, 0.3 * first), 2.0 * first), first), _LEAST)

    def _moved(
        self, t: _Tracks, expected: Floats, pairs: NDArray[np.int64], at: Floats, size: Floats, time: float,
        numbers: NDArray[np.int64], born: NDArray[np.int64],
    ) -> _Tracks:  # fmt: skip
        rows, found = pairs[:, 0], pairs[:, 1]
        off = at[found] - expected[rows]
        if len(off):
            # Of a normal spread, from the median of what was missed; the last frames count most.
            now = float(np.median(np.hypot(*off.T))) / 1.1774
            self._miss = now if self._miss == 0 else 0.8 * self._miss + 0.2 * now
        wait = np.maximum(time - t.time[rows], 1e-6)[:, None]
        speed = np.where(
            t.known[rows, None], t.speed[rows] + _SPEED * off / wait, (at[found] - t.at[rows]) / wait
        )  # fmt: skip
        place = np.where(t.known[rows, None], expected[rows] + _PLACE * off, at[found])
        lost = np.setdiff1d(np.arange(len(t.number)), rows)
        lost = lost[t.missing[lost] < self.gap]

        def all_of(followed: Any, new: Any, missed: Any) -> Any:
            return np.concatenate([followed, new, missed[lost]])

        count = len(born)
        return _Tracks(
            all_of(t.number[rows], numbers[born], t.number), all_of(place, at[born], t.at),
            all_of(speed, np.zeros((count, 2)), t.speed), all_of(np.ones(len(rows), bool), np.zeros(count, bool), t.known),
            all_of(size[found], size[born], t.size), all_of(np.full(len(rows), time), np.full(count, time), t.time),
            all_of(np.zeros(len(rows), np.int64), np.zeros(count, np.int64), t.missing + 1),
        )  # fmt: skip


def common_shift(before: Floats, size_before: Floats, after: Floats, size_after: Floats) -> Floats:
    """(2,): the motion that brings the most objects of one frame (n, 2) upon objects of a like size of the next; 0 where none
    does so for more than half of them."""
    if len(before) < 3 or len(after) < 3 or len(before) * len(after) > 4_000_000:
        return np.zeros(2)
    shifts = after[None, :] - before[:, None]
    with np.errstate(divide="ignore", invalid="ignore"):
        unlike = np.abs(np.log(size_after[None, :] / size_before[:, None]))
    alike = ~(unlike > _ALIKE)
    shifts = shifts[alike]
    if not len(shifts):
        return np.zeros(2)
    apart = float(np.median(cKDTree(after).query(after, k=2)[0][:, 1]))
    reach = max(_LEAST, 0.1 * apart)
    tree = cKDTree(shifts)
    votes = tree.query_ball_point(shifts, reach, return_length=True)
    most = votes.max()
    if most < 0.5 * min(len(before), len(after)) + 1:
        return np.zeros(2)
    # Of motions that explain as many, as in even rows, the shortest.
    good = np.flatnonzero(votes >= 0.9 * most)
    chosen = good[np.argmin(np.hypot(*shifts[good].T))]
    return np.asarray(shifts[tree.query_ball_point(shifts[chosen], reach)].mean(axis=0))


def _nearest_first(a: NDArray[np.int64], b: NDArray[np.int64], cost: Floats) -> NDArray[np.int64]:
    taken_a, taken_b, found = set[int](), set[int](), []
    for n in np.argsort(cost, kind="stable"):
        one, other = int(a[n]), int(b[n])
        if one not in taken_a and other not in taken_b:
            taken_a.add(one)
            taken_b.add(other)
            found.append((one, other))
    return np.array(found, np.int64).reshape(-1, 2)
