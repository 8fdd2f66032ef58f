"""Proposes changes of parameters that would admit what was rejected; every one is tried before it is shown."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detector import Context, Task
from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.explanation.comparing import gained_and_lost as findings_changed
from lucid_finch.core.explanation.comparing import nearest, positions
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.metric_parameters import in_pixels, metric_ends
from lucid_finch.core.inspection.millimetres import with_metric_criteria
from lucid_finch.core.judging import Limit, Outcome, gained_and_lost, judge
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.parameter_types.base import AUTO
from lucid_finch.core.parameters import Declaration, Stage

_SAME = 1.5
"""px between candidates of two runs that count as the same."""
_SHIFTED = 3.0
"""The same of findings, which another smoothing shifts."""


@dataclass(frozen=True)
class Change:
    """The smallest change of parameters that would admit something, and what else it does."""

    values: dict[str, Any]
    """New values by parameter."""
    gains: int
    """Findings that there would be and are not now, the one asked for included."""
    loses: int
    gained: tuple[int, ...]
    """Numbers of those candidates of now that would be found, for showing them; what has none now is missing."""
    lost: tuple[int, ...]
    text: str
    rank_score: float = 0.0
    """Of what would be found at the place, less if it is beside it."""


@dataclass(frozen=True)
class Budget:
    """Until when changes may be tried, and how long a run takes."""

    seconds: float
    run: float
    """Of a whole run, like those of the budget."""
    until: float

    @classmethod
    def of(cls, seconds: float, run: float) -> Budget:
        """So many seconds from now on."""
        return cls(seconds, run, time.perf_counter() + seconds)

    def again(self) -> Budget:
        """As many seconds once more, from now on."""
        return Budget.of(self.seconds, self.run)

    @property
    def allows_run(self) -> bool:
        return time.perf_counter() + self.run <= self.until

    def is_over(self) -> bool:
        return time.perf_counter() > self.until


@dataclass(frozen=True)
class _Effect:
    """What another run would find."""

    gains: int
    loses: int
    gained: tuple[int, ...]
    lost: tuple[int, ...]
    rank_score: float


def change_for(task: Task, candidate: int, budget: Budget) -> tuple[Change | None, str]:
    """The smallest change that admits a candidate that failed; or None and why not."""
    if task.detector.is_background(task, candidate):
        return None, "it does not stand out from the background"
    values, why = _loosened(task, candidate)
    if not values:
        return None, why
    try:
        changed = task.given.changed(task.detector.kind, **values)
        if _is_judged_alone(task, changed, values):
            effect = _effect(task, changed, candidate)
        else:
            spot = positions(task.candidates.columns)[candidate]
            after = _run(task, changed, budget)
            off = np.hypot(*(positions(after.candidates.columns) - spot).T)
            effect = _effect_of_run(task, after, (off <= _SAME).astype(float))
    except _TooLong:
        return None, _NOT_TRIED
    except ParameterError as error:
        return None, str(error)
    if effect is None:
        return None, "with every failed limit loosened it is still not found"
    return _change(task, values, effect), ""


def change_at(task: Task, values: Mapping[str, Any], at: tuple[float, float], budget: Budget) -> Change | None:
    """A change of parameters if it makes something be found at a place where nothing was, a limit that it then fails loosened
    as well; None if it does not, or if it takes too long to find out."""
    detector, tried = task.detector, dict(values)
    try:
        for _ in range(2):
            changed = task.given.changed(detector.kind, **tried)
            after = _run(task, changed, budget)
            far = detector.distances(after, *at)
            # What is centred at the place rather than beside or around it.
            effect = _effect_of_run(task, after, np.where(far <= detector.here, 1 - 0.9 * far / detector.here, 0.0))
            if effect is not None:
                return _change(task, tried, effect)
            here = np.flatnonzero((far <= detector.here) & (after.judgement.outcome == Outcome.FAILED))
            if not len(here):
                return None
            best = int(here[np.argmax(np.asarray(after.candidates.rank_score)[here])])
            if detector.expected_by_chance(after, best) is not None or detector.is_background(after, best):
                return None
            loosened = _loosened(after, best)[0]
            if len(loosened) > 1:
                # What fails several limits is often a fragment of something else, or what surrounds it.
                return None
            tried |= loosened
    except (_TooLong, ParameterError):
        pass
    return None


_NOT_TRIED = "only another run can tell what would accept it"


class _TooLong(Exception):
    """A run does not fit into the budget."""


def _loosened(task: Task, candidate: int) -> tuple[dict[str, Any], str]:
    """All limits that a candidate fails, loosened just enough; or nothing and why."""
    values: dict[str, Any] = {}
    for limit in task.judgement.limits:
        measured = float(task.candidates.columns[limit.criterion][candidate])
        if limit.passed(measured):
            continue
        label = task.detector.Parameters.declarations()[limit.parameter].label
        if not np.isfinite(measured):
            return {}, f"what {label} limits cannot be measured here"
        if limit.admits is not None:
            values[limit.parameter] = limit.admits
            continue
        number = _admitting(task, limit, measured)
        if number is None:
            return {}, f"no allowed value of {label} accepts it"
        values[limit.parameter] = _with_end(task, limit, number, values)
    return values, ""


def _change(task: Task, values: Mapping[str, Any], effect: _Effect) -> Change:
    declared = task.detector.Parameters.declarations()
    asked = ", ".join(f"{declared[name].label} {_shown(declared[name], value)}" for name, value in values.items())
    others = effect.gains - 1
    text = f"{asked}: accepts this" + (f" and {others} more" if others else " alone") + f", loses {effect.loses or 'none'}"
    return Change(dict(values), effect.gains, effect.loses, effect.gained, effect.lost, text, effect.rank_score)


def _shown(declared: Declaration, value: Any) -> str:
    return AUTO if value is None else f"{declared.type.show(value)} {declared.unit}".rstrip()


def _is_judged_alone(task: Task, changed: Any, values: Mapping[str, Any]) -> bool:
    """Whether the candidates stay what they are with the changed parameters."""
    return _stays(task, changed, values, (Stage.JUDGE,))


def _stays(task: Task, changed: Any, values: Iterable[str], stages: tuple[Stage, ...]) -> bool:
    """Whether the change concerns only these stages."""
    declared = task.detector.Parameters.declarations()
    changed = in_pixels(changed, task.calibration)
    only = all(declared[name].stage in stages for name in values)
    return only and task.detector.floor(changed) == task.detector.floor(in_pixels(task.given, task.calibration))


def _effect(task: Task, changed: Any, candidate: int) -> _Effect | None:
    """What is found of the same candidates, judged with changed parameters; None if this one still fails."""
    task = task.settled(changed)
    limits, candidates = task.detector.limits(task), with_metric_criteria(task).candidates
    after = judge(candidates.columns, limits, candidates.rank_score, candidates.exclusions, task.parameters.keep)
    gained, lost = (tuple(int(i) for i in some) for some in gained_and_lost(task.judgement, after))
    rank_score = float(np.asarray(candidates.rank_score)[candidate])
    return _Effect(len(gained), len(lost), gained, lost, rank_score) if candidate in gained else None


def _run(task: Task, changed: Any, budget: Budget) -> Task:
    """The task with changed parameters, judged. Raises `_TooLong`, `ParameterError`."""
    before, after = task.given.plain(), changed.plain()
    names = [name for name, value in after.items() if value != before[name]]
    return _again(task, changed, budget, _stays(task, changed, names, (Stage.FORM, Stage.JUDGE)))


def found_on(task: Task, image: Image, at: tuple[float, float], budget: Budget) -> bool:
    """Whether the same parameters find something at a place of another picture of the same scene; False if it takes too long."""
    try:
        after = _again(replace(task, image=image), task.given, budget, False)
    except (_TooLong, ParameterError):
        return False
    found = np.asarray(after.judgement.found)
    return bool((task.detector.distances(after, *at)[found] <= task.detector.here).any())


def _again(task: Task, changed: Any, budget: Budget, keeps_gathered: bool) -> Task:
    if not budget.allows_run:
        raise _TooLong
    detector = task.detector
    context = Context(budget.is_over, assets=task.context.assets)
    pixels = in_pixels(changed, task.calibration)
    again = Task(detector, task.image, changed, context, parameters=pixels, calibration=task.calibration)
    try:
        with cancellable(budget.is_over):
            again = replace(again, gathered=task.gathered if keeps_gathered else detector.gather(again)).settled(changed)
            columns = (*detector.all_columns(), *detector.criteria)
            formed = detector.form(again).converted(columns, task.image)
    except Cancelled:
        raise _TooLong from None
    again = with_metric_criteria(replace(again, candidates=formed))
    formed = again.candidates
    limits = detector.limits(again)
    judged = judge(formed.columns, limits, formed.rank_score, formed.exclusions, again.parameters.keep)
    return replace(again, judgement=judged)


def _effect_of_run(task: Task, after: Task, weight: NDArray[np.float64]) -> _Effect | None:
    """What another run finds against what is found now; None if it finds nothing new that is wanted. `weight`: of each candidate
    of the run, how much it is the wanted one, 0 to 1."""
    found = np.asarray(after.judgement.found)
    before = np.asarray(task.judgement.found)
    now, then = positions(task.candidates.columns), positions(after.candidates.columns)
    new, lost = findings_changed(_rows(task, before), _rows(after, found), _SHIFTED)
    wanted = found[new][weight[found[new]] > 0]
    if not len(wanted):
        return None
    rank_score = float(np.max(np.asarray(after.candidates.rank_score)[wanted] * weight[wanted]))
    gained = nearest(now, then[found[new]], _SAME)
    old = tuple(dict.fromkeys(gained[gained >= 0].tolist()))
    return _Effect(len(new), len(lost), old, tuple(before[lost].tolist()), rank_score)


def _rows(task: Task, which: NDArray[np.int64]) -> dict[str, Any]:
    return {name: values[which] for name, values in task.candidates.columns.items()}


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


def _with_end(task: Task, limit: Limit, value: Any, values: Mapping[str, Any] | None = None) -> Any:
    """The parameter's value with the limit set to a number: the number itself, or a range with that end. `values`: what has
    been changed already."""
    given = getattr(task.given, limit.parameter)
    before = (values or {}).get(limit.parameter) or given
    metric = metric_ends(task.detector.Parameters.declarations()[limit.parameter], given)
    if limit.end in metric:
        # What was given in millimetres stays so.
        was = given if limit.end < 0 else given[limit.end]
        value = str(replace(was, value=value))
    if limit.end < 0:
        return value
    least, most = before or (None, None)
    return (value, most) if limit.end == 0 else (least, value)
