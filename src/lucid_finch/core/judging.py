"""Judging: compares every candidate with its limits, suppresses non-maxima, and answers "what if?"."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.suppression import distances_to_earlier, suppress

Floats = NDArray[np.float64]


_LARGEST = 1e37


class Outcome(IntEnum):
    """What became of a candidate."""

    FOUND = 0
    FAILED = 1
    """A criterion missed its limit."""
    SUPPRESSED = 2
    """A better candidate excludes it."""
    SURPLUS = 3
    """More than `keep` are found."""


@dataclass(frozen=True)
class Limit:
    """One criterion against one value."""

    parameter: str
    criterion: str
    sense: Literal["at least", "at most"]
    value: float
    end: int = -1
    """0 or 1 where the parameter is a range and this is its lower or upper end."""
    admits: Any = None
    """Value of the parameter that removes the limit, where that is no number."""
    tolerance: float = 0.0
    """By how much the limit may be missed all the same, since nothing is measured better."""

    def passed(self, measured: Any) -> Any:
        """Where the measured value meets the limit; NaN never does."""
        return self.shortfall(measured) <= 0

    @property
    def bound(self) -> float:
        """The value within what columns of single precision can hold."""
        return min(max(self.value, -_LARGEST), _LARGEST)

    def shortfall(self, measured: Any) -> Any:
        """By how much the limit is missed, in the criterion's own unit; positive where it is missed."""
        short = self.bound - measured if self.sense == "at least" else measured - self.bound
        return short - self.tolerance if self.tolerance else short


@dataclass(frozen=True)
class Exclusions:
    """Pairs of candidates that exclude each other where `measure` is above `most` (an overlap, a negative distance)."""

    parameter: str
    pairs: NDArray[np.int64]
    measure: Floats
    most: float

    def suppress(self, order: NDArray[np.int64], passed: NDArray[np.bool_]) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
        """Which of those that `passed` are accepted, and for each of the others what suppressed it (-1)."""
        return suppress(order, self.pairs[self.measure > self.most], passed)

    def surplus(self, found: NDArray[np.int64], keep: int) -> NDArray[np.int64]:
        """Which of the accepted candidates, best first, are more than `keep`."""
        return found[keep:]


@dataclass(frozen=True)
class EvenExclusions(Exclusions):
    """The same; of more than `keep` candidates, those farthest from any better one stay."""

    places: Floats
    """(n, 2): x, y of each candidate."""

    def surplus(self, found: NDArray[np.int64], keep: int) -> NDArray[np.int64]:
        far = distances_to_earlier(self.places[found])
        return found[np.sort(np.argsort(-far, kind="stable")[keep:])]


@dataclass(frozen=True)
class OneOfEach:
    """Candidates of one group exclude each other: of each group the best is found."""

    parameter: str
    group: NDArray[np.int64]

    def suppress(self, order: NDArray[np.int64], passed: NDArray[np.bool_]) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
        """Which of those that `passed` are accepted, and for each of the others what suppressed it (-1)."""
        best_first = order[passed[order]]
        _, first, which = np.unique(self.group[best_first], return_index=True, return_inverse=True)
        best = best_first[first][which]
        accepted, lost_to = np.zeros(len(passed), bool), np.full(len(passed), -1, np.int64)
        accepted[best] = True
        lost_to[best_first] = np.where(best == best_first, -1, best)
        return accepted, lost_to

    def surplus(self, found: NDArray[np.int64], keep: int) -> NDArray[np.int64]:
        """Which of the accepted candidates, best first, are more than `keep`."""
        return found[keep:]


@dataclass(frozen=True)
class Judgement:
    """One entry a candidate."""

    outcome: NDArray[np.int8]
    failed: NDArray[np.int16]
    """Index of the limit that was missed by most, or -1."""
    lost_to: NDArray[np.int64]
    """The candidate that suppressed it, or -1."""
    order: NDArray[np.int64]
    """All candidates from best to worst."""
    limits: tuple[Limit, ...]

    @property
    def found(self) -> NDArray[np.int64]:
        """The accepted candidates, best first."""
        return self.order[self.outcome[self.order] == Outcome.FOUND]


def judge(
    columns: Mapping[str, NDArray[Any]],
    limits: Sequence[Limit],
    rank_score: NDArray[Any],
    exclusions: Exclusions | OneOfEach | None = None,
    keep: int | None = None,
) -> Judgement:
    """Judge all candidates. `rank_score`: bigger ranks higher, ties by place in the table."""
    count = len(rank_score)
    order = ranking(rank_score)
    failed = np.full(count, -1, np.int16)
    worst = np.full(count, -np.inf)
    for number, limit in enumerate(limits):
        measured = columns[limit.criterion]
        missed = ~limit.passed(measured)
        # How badly, relative to the limit, so that limits of different units can be compared.
        badly = np.nan_to_num(limit.shortfall(measured) / max(abs(limit.bound), 1e-9), nan=np.inf)
        take = missed & (badly >= worst)
        failed[take] = number
        worst[take] = badly[take]
    passed = failed < 0
    outcome = np.where(passed, Outcome.FOUND, Outcome.FAILED).astype(np.int8)
    # One number for all where nothing is suppressed.
    lost_to = np.broadcast_to(np.int64(-1), count)
    if exclusions is not None:
        accepted, lost_to = exclusions.suppress(order, passed)
        outcome[passed & ~accepted] = Outcome.SUPPRESSED
    if keep is not None:
        found = order[outcome[order] == Outcome.FOUND]
        outcome[found[keep:] if exclusions is None else exclusions.surplus(found, keep)] = Outcome.SURPLUS
    return Judgement(outcome, failed, lost_to, order, tuple(limits))


def ranking(rank_score: NDArray[Any]) -> NDArray[np.int64]:
    """Indices from the biggest score to the smallest, equal ones (to seven digits) by place, NaN last."""
    falling = -np.nan_to_num(np.asarray(rank_score, np.float32), nan=-np.inf) + np.float32(0)
    bits = falling.view(np.int32)
    # Bits that order as the numbers do, with the place below them: sorting such keys takes a quarter of an argsort.
    ordered = np.where(bits < 0, ~bits, bits ^ np.int32(-(2**31))).view(np.uint32)
    keys = ordered.astype(np.uint64) << np.uint64(32) | np.arange(len(falling), dtype=np.uint64)
    keys.sort()
    return (keys & np.uint64(0xFFFFFFFF)).astype(np.int64)


def with_limit(limits: Sequence[Limit], changed: Limit, value: float) -> tuple[Limit, ...]:
    """The limits with one of them set to another value."""
    return tuple(replace(limit, value=value) if limit == changed else limit for limit in limits)


def gained_and_lost(before: Judgement, after: Judgement) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Candidates that are found only after, and only before."""
    was, now = before.outcome == Outcome.FOUND, after.outcome == Outcome.FOUND
    return np.flatnonzero(now & ~was), np.flatnonzero(was & ~now)


def reading_order(x: NDArray[Any], y: NDArray[Any], size: float) -> NDArray[np.int64]:
    """Indices row by row, left to right; a row ends where y jumps by more than half the median `size` of the findings."""
    by_y = np.argsort(y, kind="stable")
    gaps = np.diff(np.asarray(y, float)[by_y], prepend=y[by_y[0]] if len(y) else 0.0)
    row = np.cumsum(gaps > max(0.5 * size, 1e-9))
    return by_y[np.lexsort((np.asarray(x)[by_y], row))]
