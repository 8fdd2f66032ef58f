"""Answers "why is something, or nothing, found here?": criteria, measurements and limits, and what a change would do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lucid_finch.core.detection import Detection, Outlines
from lucid_finch.core.detector import HERE, Reason, Task
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.explanation.channels import better_channel
from lucid_finch.core.explanation.proposing import Budget, Change, change_at, change_for
from lucid_finch.core.judging import Limit, Outcome
from lucid_finch.core.table import Array, expected_text

QUICK = 0.25
"""Seconds that runs with changed parameters may take where somebody waits for the answer."""
_SECONDS = 2.0
"""The same where nobody does, of each way to look for a change."""
_ALONG_FOUND = 0.5
"""What is seen around a place belongs to findings if more than this share of it runs along their outlines,"""
_NEAR_FOUND = 2.5
"""so many px from them."""
_FLOOD = 10
"""Findings besides the one asked for that any change may bring, or as many as there are."""
_MOST_OTHERS = 3
"""Findings besides the one asked for that a remedy may bring, unless nothing is found at all."""


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
    is_background: bool = False
    """Whether noise or texture makes many such in an image."""


@dataclass(frozen=True, repr=False)
class Explanation:
    """The whole answer."""

    at: tuple[float, float]
    summary: str
    candidates: tuple[Near, ...]
    reasons: tuple[Reason, ...]
    """What was measured at the place itself, where no candidate was formed."""
    change: Change | None = None
    """What would make something be found at the place itself."""
    is_short: bool = False
    """Whether what is proposed may admit a part only, and there was no time to look for the whole."""

    @property
    def is_open(self) -> bool:
        """Whether more time may find a better change, or one at all where nothing is found."""
        found = any(near.outcome == "found" and near.distance <= HERE for near in self.candidates)
        return self.is_short or (self.change is None and not found and all(near.change is None for near in self.candidates))

    def __repr__(self) -> str:
        said = self.summary if len(self.summary) <= 80 else f"{self.summary[:77]}..."
        return f"<Explanation at ({self.at[0]:g}, {self.at[1]:g}): {said}>"


def explain(result: Detection, at: Sequence[float], most: int = 3, seconds: float = _SECONDS) -> Explanation:
    """Why something is or is not found at (x, y) of the source: the `most` nearest candidates, or what is measured there.

    Changes of parameters are proposed where they could be tried within `seconds`. Raises `ParameterError` for a place outside
    the image.
    """
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
    budget = Budget.of(seconds, result.seconds)
    # Beside what is found at the place, nothing is proposed for what is elsewhere.
    found = np.any(distance[task.judgement.found] <= HERE)
    reach = HERE if found else task.detector.here
    near = tuple(_near(task, int(c), float(distance[c]), ids, reach, budget) for c in close)
    reasons: tuple[Reason, ...] = ()
    change: Change | None = None
    is_short = False
    # What may be a part of something else is not all: the place itself is measured too.
    fragment = bool(near) and near[0].outcome == "failed" and _is_part(task, near[0])
    if not near or near[0].distance > HERE or fragment:
        reasons = tuple(task.detector.probe(task, x, y))
        owner = _owner(result, reasons)
        if owner:
            text = f"what is seen around this place is the outline of finding {owner}"
            reasons = (Reason("outline", 0.0, None, "", False, text, nothing=True),)
        values = {name: value for reason in reasons for name, value in (reason.proposal or {}).items()}
        if values:
            change = change_at(task, values, (x, y), Budget.of(seconds, result.seconds))
            change = None if change is not None and _is_flood(task, change) else change
    proposed = next((one.change for one in near if one.change is not None), None)
    helped = any(one.outcome == "found" and one.distance <= HERE for one in near) or (proposed is not None and not fragment)
    if change is None and not helped and not (reasons and reasons[0].label in ("outline", "region")):
        reasons, change, is_short = _for_the_place(task, (x, y), reasons, proposed, Budget.of(seconds, result.seconds))
    if change is not None:
        reasons = tuple(replace(reason, nothing=False) for reason in reasons)
    return Explanation((x, y), _summary(near, reasons), near, reasons, change, is_short)


def _for_the_place(
    task: Task, at: tuple[float, float], reasons: tuple[Reason, ...], proposed: Change | None, budget: Budget
) -> tuple[tuple[Reason, ...], Change | None, bool]:
    """Another channel, as a reason, or a remedy that is better than what is proposed for a candidate; and whether there was no
    time to look for a better one."""
    if proposed is None:
        coloured = better_channel(task, at, budget)
        if coloured is not None:
            return (coloured, *(reason for reason in reasons if not reason.nothing)), None, False
        budget = budget.again()
    change = _remedy(task, at, budget)
    if proposed is None:
        return reasons, change, False
    is_better = change is not None and _merit(change) > _merit(proposed)
    return reasons, change if is_better else None, not budget.allows_run


def _is_part(task: Task, near: Near) -> bool:
    """Whether what fails several limits, or one that a part of something larger fails, may be just that."""
    failed = [c.parameter for c in near.criteria if not c.passed]
    return len(failed) > 1 or not task.detector.failed_by_parts.isdisjoint(failed)


def _remedy(task: Task, at: tuple[float, float], budget: Budget) -> Change | None:
    """Of the changes that often help, the one that makes something be found at a place and little else."""
    best: Change | None = None
    for values in task.detector.remedies(task):
        if not budget.allows_run:
            break
        change = change_at(task, values, at, budget)
        if change is None or not _is_little(task, change):
            continue
        if best is None or _merit(change) > _merit(best):
            best = change
        if _is_automatic(change):
            # What the program would have chosen itself.
            break
    return best


def _is_automatic(change: Change) -> bool:
    return set(change.values.values()) == {None}


def _is_little(task: Task, change: Change) -> bool:
    """Whether little else comes and goes with a change; what the program would have chosen itself may bring more."""
    if _is_automatic(change):
        return not _is_flood(task, change)
    return (change.gains - 1 <= _MOST_OTHERS and change.loses <= _MOST_OTHERS) or not len(task.rows)


def _merit(change: Change) -> float:
    """Rank of a change: by that of the finding at the place, since what stands out most is most likely whole, less for each other
    finding that is gained or lost."""
    return change.rank_score / (1 + 0.25 * (change.gains - 1) + 0.5 * change.loses)


def _is_flood(task: Task, change: Change) -> bool:
    """Whether a change brings so much else that nobody would want it."""
    return change.gains - 1 > max(_FLOOD, len(task.rows))


def _owner(result: Detection, reasons: Sequence[Reason]) -> int:
    """The finding whose outline is what a probe saw, or 0."""
    trace = next((reason.trace for reason in reasons if reason.trace is not None), None)
    if trace is None or not len(trace) or not len(result.outlines.points):
        return 0
    from scipy.spatial import cKDTree  # here, since loading it takes time

    steps = np.hypot(*np.diff(result.outlines.points[:200], axis=0).T)
    # Between two points of an outline one is half a step from the nearer.
    reach = _NEAR_FOUND + 0.5 * (float(np.median(steps)) if len(steps) else 0.0)
    far, which = cKDTree(result.outlines.points).query(trace, distance_upper_bound=reach)
    along = np.isfinite(far)
    if along.mean() <= _ALONG_FOUND:
        return 0
    rows = np.searchsorted(result.outlines.start, which[along], side="right") - 1
    return int(result.findings["id"][np.bincount(rows).argmax()])


def candidate_shapes(result: Detection, candidates: Sequence[int]) -> tuple[dict[str, Array], Outlines]:
    """Columns and outlines, in the source, of candidates by number, such as those that a change would admit."""
    task: Task = result.task
    chosen = np.asarray(candidates, np.int64)
    finished = task.detector.finish(task, chosen)
    return finished.columns, finished.source_outlines(np.arange(len(chosen)), task.image)


def _near(task: Task, candidate: int, distance: float, ids: Any, reach: float, budget: Budget) -> Near:
    """`reach`: px within which a change is proposed."""
    judgement, columns = task.judgement, task.candidates.columns
    criteria = tuple(_criterion(task, limit, float(columns[limit.criterion][candidate])) for limit in judgement.limits)
    outcome = Outcome(int(judgement.outcome[candidate]))
    lost = int(judgement.lost_to[candidate])
    change: Change | None = None
    unchanged = ""
    if outcome is Outcome.FAILED and distance <= reach:
        change, unchanged = change_for(task, candidate, budget)
        if change is not None and _is_flood(task, change):
            unchanged, change = f"what accepts it accepts {change.gains - 1} others, too", None
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
        is_background=outcome is Outcome.FAILED and task.detector.is_background(task, candidate),
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


def _summary(near: Sequence[Near], reasons: Sequence[Reason]) -> str:
    if near and near[0].distance <= HERE:
        first = near[0]
        if first.outcome == "found":
            return f"finding {first.id} is here"
        if first.outcome == "suppressed":
            return f"a candidate is here, but finding {first.lost_to} suppresses it"
        if first.outcome == "surplus":
            return "a candidate is here, but more are found than the maximum count"
        failed = "; ".join(f"{c.label} {c.measured_text}, {c.sense} {c.limit_text}" for c in first.criteria if not c.passed)
        place = "".join(f". At the place itself: {r.text}" for r in reasons[:1])
        if first.is_background:
            return f"nothing is here that stands out: {failed}{place}"
        return f"a candidate is here, but fails: {failed}{place}"
    if reasons and all(reason.nothing for reason in reasons):
        return "nothing is here: " + "; ".join(r.text for r in reasons)
    if reasons:
        return "no candidate is here: " + "; ".join(r.text for r in reasons)
    return "no candidate is here"
