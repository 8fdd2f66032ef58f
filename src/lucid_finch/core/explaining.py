"""Answers "why is something, or nothing, found here?": criteria, measurements and limits, and what a change would do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lucid_finch.core.detection import Detection, Outlines
from lucid_finch.core.detector import Context, Reason, Task
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.judging import Limit, Outcome, gained_and_lost, judge
from lucid_finch.core.parameters import Stage
from lucid_finch.core.table import Array, expected_text

_TRIED = 0.4
"""Seconds of runs that one answer may take."""
_SAME = 1.5
"""px between candidates of two runs that count as the same."""


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
    measured_text: str
    limit_text: str
    """Both as people are shown them, with the unit."""


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
    """found, failed, suppressed or surplus."""
    id: int
    """Number of the finding, or 0."""
    distance: float
    x: float
    y: float
    criteria: tuple[Criterion, ...]
    lost_to: int
    change: Change | None
    unchanged: str = ""
    """Why no change is proposed, where it failed a limit."""


@dataclass(frozen=True, repr=False)
class Explanation:
    """The whole answer."""

    at: tuple[float, float]
    summary: str
    candidates: tuple[Near, ...]
    reasons: tuple[Reason, ...]
    """What was measured at the place itself, where no candidate was formed."""

    def __repr__(self) -> str:
        said = self.summary if len(self.summary) <= 80 else f"{self.summary[:77]}..."
        return f"<Explanation at ({self.at[0]:g}, {self.at[1]:g}): {said}>"


def explain(result: Detection, at: Sequence[float], most: int = 3) -> Explanation:
    """Why something is or is not found at (x, y) of the source. Raises `ParameterError` for a place outside the image."""
    task: Task = result.task
    if task.image is None:
        raise ParameterError("the detection was pickled without its measurements; run the detector again", "result")
    x, y = float(at[0]), float(at[1])
    u, v = task.image.frame.from_source(x, y)
    if not (-0.5 <= u <= task.image.width - 0.5 and -0.5 <= v <= task.image.height - 0.5):
        raise ParameterError(f"at: ({x:g}, {y:g}) is outside the image that the detector saw", "at")
    ids = np.zeros(len(task.candidates), np.int64)
    ids[task.rows] = result.findings["id"]
    distance = task.detector.distances(task, x, y)
    close = np.flatnonzero(distance <= task.detector.near)
    # Of those about as near, the best by rank.
    score = np.asarray(task.candidates.rank_score)[close]
    close = close[np.lexsort((-score, np.round(distance[close] / 4.0)))][:most]
    # What needs a run is tried only where that takes no longer than somebody waits for an answer.
    runs = result.seconds <= _TRIED / max(len(close), 1)
    near = tuple(_near(task, int(c), float(distance[c]), ids, runs) for c in close)
    reasons: tuple[Reason, ...] = ()
    # What fails several limits is often a fragment of something else: the place itself is measured too.
    fragment = near and near[0].outcome == "failed" and sum(not c.passed for c in near[0].criteria) > 1
    if not near or near[0].distance > 3.0 or fragment:
        reasons = tuple(task.detector.probe(task, x, y))
    return Explanation((x, y), _summary(near, reasons), near, reasons)


def candidate_shapes(result: Detection, candidates: Sequence[int]) -> tuple[dict[str, Array], Outlines]:
    """Columns and outlines, in the source, of candidates by number, such as those that a change would admit."""
    task: Task = result.task
    chosen = np.asarray(candidates, np.int64)
    finished = task.detector.finish(task, chosen)
    return finished.columns, finished.source_outlines(np.arange(len(chosen)), task.image)


def _near(task: Task, candidate: int, distance: float, ids: Any, runs: bool) -> Near:
    judgement, columns = task.judgement, task.candidates.columns
    criteria = tuple(_criterion(task, limit, float(columns[limit.criterion][candidate])) for limit in judgement.limits)
    outcome = Outcome(int(judgement.outcome[candidate]))
    lost = int(judgement.lost_to[candidate])
    change: Change | None = None
    unchanged = ""
    if outcome is Outcome.FAILED:
        change, unchanged = _change(task, candidate, runs)
    return Near(
        candidate=candidate,
        outcome=outcome.name.lower(),
        id=int(ids[candidate]),
        distance=distance,
        x=float(columns["x"][candidate]),
        y=float(columns["y"][candidate]),
        criteria=criteria,
        lost_to=int(ids[lost]) if lost >= 0 else 0,
        change=change,
        unchanged=unchanged,
    )


def _criterion(task: Task, limit: Limit, measured: float) -> Criterion:
    column = task.detector.criterion(limit.criterion)
    if column.scale == "expected":
        # A larger -log10 is a smaller expected number.
        texts = [f"{expected_text(value)} per image" for value in (measured, limit.value)]
        sense = {"at least": "at most", "at most": "at least"}[limit.sense]
    else:
        texts = [f"{value:.3g} {column.unit}".rstrip() for value in (measured, limit.value)]
        sense = limit.sense
    return Criterion(
        limit.parameter, column.label, column.unit, sense, measured, limit.value, bool(limit.passed(measured)), *texts
    )  # fmt: skip


def _change(task: Task, candidate: int, runs: bool) -> tuple[Change | None, str]:
    """All limits that fail, loosened just enough, and tried; or None and why not. `runs`: whether another run may be made."""
    values: dict[str, Any] = {}
    for limit in task.judgement.limits:
        measured = float(task.candidates.columns[limit.criterion][candidate])
        if limit.passed(measured):
            continue
        label = task.detector.Parameters.declarations()[limit.parameter].label
        if not np.isfinite(measured):
            return None, f"what {label} limits cannot be measured here"
        if limit.admits is not None:
            values[limit.parameter] = limit.admits
            continue
        number = _admitting(task, limit, measured)
        if number is None:
            return None, f"no allowed value of {label} accepts it"
        values[limit.parameter] = _with_end(task, limit, number, values)
    if not values:
        return None, ""
    try:
        changed = task.given.changed(task.detector.kind, **values)
    except ParameterError as error:
        return None, str(error)
    alone = _is_judged_alone(task, changed, values)
    if not alone and not runs:
        return None, "only another run can tell what would accept it"
    effect = (_effect if alone else _effect_of_run)(task, changed, candidate)
    if effect is None:
        return None, "with every failed limit loosened it is still not found"
    gained, lost = effect
    declared = task.detector.Parameters.declarations()
    asked = ", ".join(
        f"{declared[name].label} {declared[name].type.show(value)} {declared[name].unit}".rstrip()
        for name, value in values.items()
    )
    others = len(gained) - 1
    text = f"{asked}: accepts this" + (f" and {others} more" if others else " alone") + f", loses {len(lost) or 'none'}"
    indices = (tuple(int(i) for i in gained), tuple(int(i) for i in lost))
    return Change(values, len(gained), len(lost), *indices, text), ""


def _is_judged_alone(task: Task, changed: Any, values: Mapping[str, Any]) -> bool:
    """Whether the candidates stay what they are with the changed parameters."""
    declared = task.detector.Parameters.declarations()
    judged = all(declared[name].stage is Stage.JUDGE for name in values)
    return judged and task.detector.floor(changed) == task.detector.floor(task.given)


def _effect(task: Task, changed: Any, candidate: int) -> tuple[Sequence[int], Sequence[int]] | None:
    """Candidates that would be gained and lost if the same ones were judged with changed parameters; None if this one still
    fails."""
    limits, candidates = task.detector.limits(task.settled(changed)), task.candidates
    after = judge(candidates.columns, limits, candidates.rank_score, candidates.exclusions, task.parameters.keep)
    gained, lost = gained_and_lost(task.judgement, after)
    return (list(gained), list(lost)) if candidate in gained else None


def _effect_of_run(task: Task, changed: Any, candidate: int) -> tuple[Sequence[int], Sequence[int]] | None:
    """The same by a run with the changed parameters, for those that change the candidates. What is gained is given by the
    candidates of now nearest to it."""
    detector = task.detector
    again = Task(detector, task.image, changed, Context(assets=task.context.assets), parameters=changed)
    again = replace(again, gathered=detector.gather(again)).settled(changed)
    columns = (*detector.all_columns(), *detector.criteria)
    formed = detector.form(again).converted(columns, task.image)
    limits = detector.limits(replace(again, candidates=formed))
    found = judge(formed.columns, limits, formed.rank_score, formed.exclusions, again.parameters.keep).found
    now, then = _spots(task.candidates.columns), _spots(formed.columns)[found]
    if not len(then):
        return None
    nearest = [int(np.argmin(np.hypot(*(now - spot).T))) for spot in then]
    close = [float(np.hypot(*(now[k] - spot))) <= _SAME for k, spot in zip(nearest, then, strict=True)]
    kept = {k for k, near in zip(nearest, close, strict=True) if near}
    if candidate not in kept:
        return None
    before = set(task.judgement.found.tolist())
    return [k for k in nearest if k not in before], sorted(before - kept)


def _spots(columns: Mapping[str, Any]) -> Any:
    return np.stack([np.asarray(columns["x"], float), np.asarray(columns["y"], float)], axis=1)


def _admitting(task: Task, limit: Limit, measured: float) -> Any:
    """The parameter's value, rounded to few digits on the admitting side, that lets `measured` pass; None if none is allowed."""
    declared = task.detector.Parameters.declarations()[limit.parameter]
    try:
        exact = declared.from_limit(measured)
    except OverflowError:
        return None
    if not np.isfinite(exact):
        return None
    for digits in (2, 3, 5, 8, 15):
        for nudge in (0.0, 1.0, -1.0):
            rounded = float(f"{exact:.{digits}g}")
            rounded += nudge * 10.0 ** (np.floor(np.log10(abs(exact))) - digits + 1) if exact else 0.0
            rounded = float(f"{rounded:.{digits}g}")
            try:
                resolved = _limit_of(task, limit, rounded)
            except (ParameterError, ValueError):
                continue
            close = abs(rounded - exact) <= 0.05 * abs(exact) + 1e-12
            if close and limit.__class__("", "", limit.sense, resolved).passed(measured):
                return rounded
    return None


def _limit_of(task: Task, limit: Limit, value: float) -> float:
    """The limit's value if its parameter had another one. Raises `ParameterError`."""
    changed = task.given.changed(task.detector.kind, **{limit.parameter: _with_end(task, limit, value)})
    limits = task.detector.limits(task.settled(changed))
    return next(l.value for l in limits if (l.parameter, l.end) == (limit.parameter, limit.end))


def _with_end(task: Task, limit: Limit, value: float, values: Mapping[str, Any] | None = None) -> Any:
    """The parameter's value with the limit set to a number: the number itself, or a range with that end. `values`: what has
    been changed already."""
    if limit.end < 0:
        return value
    before = (values or {}).get(limit.parameter) or getattr(task.given, limit.parameter) or (None, None)
    return (value, before[1]) if limit.end == 0 else (before[0], value)


def _summary(near: Sequence[Near], reasons: Sequence[Reason]) -> str:
    if near and near[0].distance <= 3.0:
        first = near[0]
        if first.outcome == "found":
            return f"finding {first.id} is here"
        if first.outcome == "suppressed":
            return f"a candidate is here, but finding {first.lost_to} suppresses it"
        if first.outcome == "surplus":
            return "a candidate is here, but more are found than the maximum count"
        failed = "; ".join(f"{c.label} {c.measured_text}, {c.sense} {c.limit_text}" for c in first.criteria if not c.passed)
        place = "".join(f". At the place itself: {r.text}" for r in reasons[:1])
        return f"a candidate is here, but fails: {failed}{place}"
    if reasons:
        return "no candidate is here: " + "; ".join(r.text for r in reasons)
    return "no candidate is here"
