"""Answers "why is something, or nothing, found here?": criteria, measured and demanded, and what a change would bring."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from lucid_finch.core.detection import Detection
from lucid_finch.core.detector import Reason, Work
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.judging import Limit, Outcome, gained_and_lost, judge, with_limit
from lucid_finch.core.parameters import SCALES, Length


@dataclass(frozen=True)
class Criterion:
    """One criterion of one candidate."""

    parameter: str
    label: str
    unit: str
    sense: str
    measured: float
    limit: float
    passed: bool


@dataclass(frozen=True)
class Change:
    """The smallest change of limits that would admit a candidate, and what else it does."""

    values: dict[str, Any]
    """New values by parameter."""
    gains: int
    """Candidates that would be found and are not now, the one asked for included."""
    loses: int
    gained: tuple[int, ...]
    """Candidate numbers, for showing them."""
    lost: tuple[int, ...]
    text: str


@dataclass(frozen=True)
class Near:
    """A candidate near the place."""

    candidate: int
    outcome: str
    """found, short, beaten or surplus."""
    id: int
    """Number of the finding, or 0."""
    distance: float
    x: float
    y: float
    criteria: tuple[Criterion, ...]
    lost_to: int
    change: Change | None


@dataclass(frozen=True)
class Explanation:
    """The whole answer."""

    at: tuple[float, float]
    summary: str
    candidates: tuple[Near, ...]
    reasons: tuple[Reason, ...]
    """What was measured at the place itself, where no candidate was formed."""


def explain(result: Detection, at: Sequence[float], most: int = 3) -> Explanation:
    """Why something is or is not found at (x, y) of the source. Raises `ParameterError` for a place outside the image."""
    work: Work = result.work
    x, y = work.image.frame.from_source(float(at[0]), float(at[1]))
    if not (-0.5 <= x <= work.image.width - 0.5 and -0.5 <= y <= work.image.height - 0.5):
        raise ParameterError(f"at: ({at[0]:g}, {at[1]:g}) is outside the image that the detector saw", "at")
    ids = np.zeros(len(work.candidates), np.int64)
    ids[work.rows] = result.findings["id"]
    distance = work.detector.distances(work.candidates, x, y)
    close = np.flatnonzero(distance <= work.detector.near)
    # What stands or nearly does is the answer; among the rest, the nearest.
    worth = np.asarray(work.candidates.merit)[close]
    close = close[np.lexsort((-worth, np.round(distance[close] / 4.0)))][:most]
    near = tuple(_near(work, int(c), float(distance[c]), ids) for c in close)
    reasons: tuple[Reason, ...] = ()
    # What falls short in several ways is often a scrap of something else: the place itself is asked too.
    scrap = near and near[0].outcome == "short" and sum(not c.passed for c in near[0].criteria) > 1
    if not near or near[0].distance > 3.0 or scrap:
        reasons = tuple(work.detector.probe(work.image, work.gathered, work.parameters, x, y))
    return Explanation((float(at[0]), float(at[1])), _summary(near, reasons), near, reasons)


def _near(work: Work, candidate: int, distance: float, ids: Any) -> Near:
    judgement, columns = work.judgement, work.candidates.columns
    criteria = []
    for limit in judgement.limits:
        column = work.detector.criterion(limit.criterion)
        measured = float(columns[limit.criterion][candidate])
        criteria.append(
            Criterion(
                limit.parameter, column.label, column.unit, limit.sense, measured, limit.value, bool(limit.passed(measured))
            )
        )
    x, y = work.image.frame.to_source(float(columns["x"][candidate]), float(columns["y"][candidate]))
    outcome = Outcome(int(judgement.outcome[candidate]))
    lost = int(judgement.lost_to[candidate])
    change = _change(work, candidate) if outcome is Outcome.SHORT else None
    return Near(
        candidate, outcome.name.lower(), int(ids[candidate]), distance, x, y, tuple(criteria),
        int(ids[lost]) if lost >= 0 else 0, change,
    )  # fmt: skip


def _change(work: Work, candidate: int) -> Change | None:
    """All limits that fail, loosened just enough, judged again."""
    limits = work.judgement.limits
    values: dict[str, Any] = {}
    for limit in work.judgement.limits:
        measured = float(work.candidates.columns[limit.criterion][candidate])
        if limit.passed(measured):
            continue
        if not np.isfinite(measured):
            return None
        if limit.admits is not None:
            values[limit.parameter] = limit.admits
            limits = tuple(other for other in limits if other != limit)
            continue
        number = _admitting(work, limit, measured)
        limits = with_limit(limits, limit, _limit_of(work, limit, number))
        values[limit.parameter] = _with_end(work, limit, number)
    if not values:
        return None
    after = judge(work.candidates.columns, limits, work.candidates.merit, work.candidates.rivals, work.parameters.keep)
    gained, lost = gained_and_lost(work.judgement, after)
    if candidate not in gained:
        return None
    declared = work.detector.Parameters.declarations()
    asked = ", ".join(f"{declared[name].label} {_told(value)} {declared[name].unit}".rstrip() for name, value in values.items())
    others = len(gained) - 1
    text = f"{asked}: admits this" + (f" and {others} more" if others else " alone") + f", loses {len(lost) or 'none'}"
    return Change(
        values, len(gained), len(lost), tuple(int(i) for i in gained), tuple(int(i) for i in lost), text
    )  # fmt: skip


def _admitting(work: Work, limit: Limit, measured: float) -> Any:
    """The parameter's value, rounded to three digits on the admitting side, that lets `measured` pass."""
    declared = work.detector.Parameters.declarations()[limit.parameter]
    exact = SCALES[declared.scale].from_limit(measured)
    if declared.type is Length:
        exact *= work.image.frame.scale
    for digits in (2, 3, 5, 8, 15):
        for nudge in (0.0, 1.0, -1.0):
            rounded = float(f"{exact:.{digits}g}")
            rounded += nudge * 10.0 ** (np.floor(np.log10(abs(exact))) - digits + 1) if exact else 0.0
            rounded = float(f"{rounded:.{digits}g}")
            try:
                resolved = _limit_of(work, limit, rounded)
            except (ParameterError, ValueError):
                continue
            close = abs(rounded - exact) <= 0.05 * abs(exact) + 1e-12
            if close and limit.__class__("", "", limit.sense, resolved).passed(measured):
                return rounded
    return exact


def _limit_of(work: Work, limit: Limit, value: float) -> float:
    changed = work.parameters.changed(work.detector.kind, **{limit.parameter: _with_end(work, limit, value)})
    limits = work.detector.limits(work.image, work.gathered, changed)
    return next(l.value for l in limits if (l.parameter, l.end) == (limit.parameter, limit.end))


def _with_end(work: Work, limit: Limit, value: float) -> Any:
    """The parameter's value with the limit set to a number: the number itself, or a range with that end."""
    if limit.end < 0:
        return value
    before = getattr(work.parameters, limit.parameter) or (None, None)
    return (value, before[1]) if limit.end == 0 else (before[0], value)


def _told(value: Any) -> str:
    if isinstance(value, tuple):
        return " to ".join("open" if end is None else f"{end:g}" for end in value)
    return f"{value:g}" if isinstance(value, (int, float)) and not isinstance(value, bool) else str(value)


def _summary(near: Sequence[Near], reasons: Sequence[Reason]) -> str:
    if near and near[0].outcome == "found" and near[0].distance <= 3.0:
        return f"finding {near[0].id} lies here"
    if near and near[0].distance <= 3.0:
        first = near[0]
        if first.outcome == "beaten":
            return f"a candidate lies here, but finding {first.lost_to} excludes it"
        if first.outcome == "surplus":
            return "a candidate lies here, but more are found than are kept"
        short = [c for c in first.criteria if not c.passed]
        told = "; ".join(f"{c.label} {c.measured:.3g} {c.unit}".rstrip() + f", {c.sense} {c.limit:.3g} wanted" for c in short)
        besides = "".join(f". At the place itself: {r.text}" for r in reasons[:1])
        return f"a candidate lies here, but falls short: {told}{besides}"
    if reasons:
        return "no candidate lies here: " + "; ".join(r.text for r in reasons)
    return "no candidate lies here"
