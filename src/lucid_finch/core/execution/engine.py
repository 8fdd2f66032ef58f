"""The one executor: runs a plan made from a recipe, task by task, with a cache, events and cancelling.

The window, the image list, the parameter sweep, batches and the command line all run recipes here.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Generator, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import Detection, EvidenceMap, Outlines
from lucid_finch.core.detector import Context, DetectorParameters, Finished, Task
from lucid_finch.core.detectors import detector_of
from lucid_finch.core.errors import Cancelled, ParameterError, nearest, within_memory
from lucid_finch.core.execution.assets import Assets, Trail
from lucid_finch.core.execution.cache import Cache
from lucid_finch.core.execution.combining import Combined, combine
from lucid_finch.core.execution.plan import Plan, PlannedDetector, PlannedStep
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.inspection.millimetres import in_millimetres, metric_columns, with_metric_criteria
from lucid_finch.core.judging import Outcome, judge, reading_order
from lucid_finch.core.luma import as_luma
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.outer import provided
from lucid_finch.core.quantities import to_source
from lucid_finch.core.recipe import Recipe, Unmet
from lucid_finch.core.regions import lies_outside
from lucid_finch.core.table import POINTS, Array, Column, Findings, NearMisses

MOST_NEAR_MISSES = 500

Progress = Callable[[int, int, str], None]
"""Called with how many steps and detectors are done, how many there are, and the name of the one that is run."""
Cancel = Callable[[], bool]


@dataclass(frozen=True, repr=False)
class Run:
    """A recipe's result on one image."""

    recipe: Recipe
    image: Image
    detections: dict[str, Detection]
    unmet: tuple[Unmet, ...]
    """Expectations of the recipe that were not met."""
    seconds: float
    combined: tuple[Combined, ...] = ()
    """What the recipe merges, in its order."""

    def __repr__(self) -> str:
        counts = ", ".join(f"{name} {len(d.findings)}" for name, d in self.detections.items())
        unmet = f", {len(self.unmet)} expectations not met" if self.unmet else ""
        return f"<Run {self.recipe.name or 'recipe'}: {counts or 'no detectors'}{unmet}, {self.seconds:.2g} s>"

    def _repr_html_(self) -> str:
        return str(provided("run_html")(self))

    def save(
        self, folder: str | Path, outputs: Sequence[str] = ("findings", "csv"), *, name: str = "", image_path: str | Path = ""
    ) -> list[Path]:
        """Write findings, csv, parquet, svg, annotated, maps or crops into a folder; returns the files.

        Their names begin with `name`, else with the name of the image. `image_path`: the file that the findings name as
        their source, with its sha256. Raises `ParameterError`, `FileError`.
        """
        saved: list[Path] = provided("save_run")(self, folder, outputs, name, image_path)
        return saved


@dataclass(frozen=True)
class StepDone:
    """A preparation step has run."""

    step: PlannedStep
    image: Image


@dataclass(frozen=True)
class Started:
    """The image of a detector is prepared; the detector runs next."""

    name: str
    image: Image


@dataclass(frozen=True)
class Detected:
    """A detector has run, or its fit follows another detector's that has run since."""

    name: str
    detection: Detection


@dataclass(frozen=True)
class Failed:
    """A step or a detector was refused; what does not depend on it goes on."""

    source: PlannedStep | PlannedDetector
    error: ParameterError


Event = StepDone | Started | Detected | Failed


@dataclass
class Engine:
    """Runs recipes; keep one to have work shared and remembered between calls."""

    cache: Cache = field(default_factory=Cache)

    def events(
        self, plan: Plan, image: Image, cancelled: Cancel | None = None, only: Sequence[str] | None = None
    ) -> Generator[Event, None, None]:
        """Run a plan, or the detectors `only` of it, and tell what is done. A step that fails is skipped. Raises `Cancelled`."""
        common, common_key, trail = yield from self._prepare(plan.common, image, plan.source_key(image), cancelled)
        detections: dict[str, Detection] = {}
        for planned in plan.detectors:
            if only is not None and planned.name not in only:
                continue
            prepared, key, own = yield from self._prepare(planned.steps, common, common_key, cancelled)
            yield Started(planned.name, prepared)
            try:
                assets = Assets(plan.assets, (*trail, *own))
                detections[planned.name] = self._detect(planned, prepared, key, cancelled, assets)
            except ParameterError as error:
                yield Failed(planned, error)
            else:
                yield Detected(planned.name, detections[planned.name])
        for name, detection in related(detections).items():
            if detection is not detections[name]:
                yield Detected(name, detection)

    def _prepare(
        self, steps: Sequence[PlannedStep], image: Image, key: Hashable, cancelled: Cancel | None
    ) -> Generator[StepDone | Failed, None, tuple[Image, Hashable, Trail]]:
        """Run preparation steps; returns the image, its key, and the steps that were run, each with the image before it."""
        trail: list[tuple[PlannedStep, Image]] = []
        for step in steps:
            if cancelled is not None and cancelled():
                raise Cancelled()
            try:
                after = step.key_after(key)
                with cancellable(cancelled), within_memory(f"{step.step.name} on {image.width} x {image.height} pixels"):
                    before, image = image, self.cache.get(after, lambda: step.run(image))  # noqa: B023
                trail.append((step, before))
                key = after
            except ParameterError as error:
                yield Failed(step, error)
            yield StepDone(step, image)
        return image, key, trail

    def _detect(
        self, planned: PlannedDetector, image: Image, key: Hashable, cancelled: Cancel | None, assets: Mapping[str, Any]
    ) -> Detection:
        with within_memory(f"{planned.name} on {image.width} x {image.height} pixels"):
            return self._detected(planned, image, key, cancelled, assets)

    def _detected(
        self, planned: PlannedDetector, image: Image, key: Hashable, cancelled: Cancel | None, assets: Mapping[str, Any]
    ) -> Detection:
        started = time.perf_counter()
        planned, detector = planned.on(image), planned.detector
        if planned.calibration is not None:
            planned.calibration.check_size(image.source_size)
        colour = image if detector.reads == "luma" and image.is_colour else None
        if colour is not None:
            image = self.cache.get((key, "luma"), lambda: as_luma(colour))
        keys = planned.keys(key)
        context = Context(cancelled, lambda what, make: self.cache.get((key, what), make), assets)
        task = Task(
            detector, image, planned.given, context, colour, keys, parameters=planned.parameters, calibration=planned.calibration
        )  # fmt: skip
        task = replace(task, gathered=self.cache.get(keys.gathered, lambda: detector.gather(task)))
        task = task.settled(planned.given)
        columns = (*detector.all_columns(), *detector.criteria)
        candidates = self.cache.get(keys.formed, lambda: detector.form(task).converted(columns, image))
        with cancellable(cancelled):
            return conclude(replace(task, candidates=candidates), planned.name, started)

    def run(
        self,
        recipe: Recipe,
        image: Image,
        progress: Progress | None = None,
        cancelled: Cancel | None = None,
    ) -> Run:
        """All detectors of a recipe on one image. Raises `ParameterError` naming the detector, `Cancelled`."""
        started = time.perf_counter()
        plan = Plan.of(recipe)
        detections: dict[str, Detection] = {}
        total = len(plan.common) + sum(len(planned.steps) + 1 for planned in plan.detectors)
        steps = 0
        for event in self.events(plan, image, cancelled):
            if isinstance(event, Failed):
                raise event.error
            steps += isinstance(event, StepDone)
            if isinstance(event, Detected):
                detections[event.name] = event.detection
            if progress is not None:
                current = event.step.step.name if isinstance(event, StepDone) else event.name
                progress(steps + len(detections), total, current)
        unmet = [u for entry in recipe.running for u in entry.unmet(detections[entry.name])]
        combined = tuple(combine(detections, group) for group in recipe.combine)
        return Run(recipe, image, detections, tuple(unmet), time.perf_counter() - started, combined)

    def detect(
        self,
        kind: str,
        image: Image,
        parameters: DetectorParameters,
        name: str = "",
        cancelled: Cancel | None = None,
        assets: Mapping[str, Image] | None = None,
        calibration: Calibration | None = None,
    ) -> Detection:
        """One detector on one image; `assets`: pictures that its parameters name. Raises `ParameterError`, `Cancelled`."""
        planned = PlannedDetector(name or kind, detector_of(kind), parameters, (), calibration)
        return self._detect(planned, image, Plan.source_key(image), cancelled, Assets(assets or {}))

    def prepared(self, image: Image, steps: Sequence[Mapping[str, Any]], cancelled: Cancel | None = None) -> Image:
        """The image after preparation steps. Raises `ParameterError`, `Cancelled`."""
        for event in self._prepare(PlannedStep.of(steps), image, Plan.source_key(image), cancelled):
            if isinstance(event, Failed):
                raise event.error
            image = event.image
        return image


def detect(kind: str, image: Image, given: Mapping[str, Any], assets: Mapping[str, Image] | None = None) -> Detection:
    """One detector on one image, once, with nothing kept. Raises `ParameterError`."""
    return Engine().detect(kind, image, detector_of(kind).Parameters.make(given, kind), assets=assets)


def judged_again(
    plan: Plan, image: Image, before: Mapping[str, Detection], most: int
) -> tuple[dict[str, Detection], list[str]] | None:
    """Detections after a change of limits alone, and which of them are new; None if more than judging has to be done, or
    one of them has more than `most` candidates. Raises `ParameterError`."""
    if set(before) != {planned.name for planned in plan.detectors}:
        return None
    changed = []
    for planned in (planned.on(image) for planned in plan.detectors):
        task = before[planned.name].task
        if task.keys != planned.keys(plan.prepared_key(planned, image)) or len(task.candidates) > most:
            return None
        if task.given != planned.given or task.calibration != planned.calibration:
            changed.append(planned)
    after = dict(before)
    for planned in changed:
        task = before[planned.name].task
        task = replace(task, calibration=planned.calibration).settled(planned.given)
        found = conclude(task, planned.name, time.perf_counter())
        # The time that is shown is that of the whole work, not of this judging alone.
        after[planned.name] = replace(found, seconds=before[planned.name].seconds)
    after = related(after)
    return after, [name for name in after if after[name] is not before[name]]


def conclude(task: Task, name: str, started: float) -> Detection:
    """Judge, finish and number the candidates of a task."""
    task = with_metric_criteria(task)
    detector, candidates, given = task.detector, task.candidates, task.given
    judgement = judge(
        candidates.columns, detector.limits(task), candidates.rank_score, candidates.exclusions, task.parameters.keep
    )
    best_first = judgement.found
    task = replace(task, judgement=judgement, context=Context(assets=task.context.assets))
    reading = reading_order(candidates.columns["x"][best_first], candidates.columns["y"][best_first], candidates.size)
    # Numbers count in reading order whatever the order of the rows.
    number_of = np.empty(len(best_first), np.int64)
    number_of[reading] = np.arange(1, len(best_first) + 1)
    finished = detector.finish(task, best_first)
    declared = detector.all_columns()
    columns = {**finished.columns, "id": number_of, "rank": np.arange(1, len(best_first) + 1)}
    columns = _numbered(columns, declared, number_of)
    metric, metric_declared = _in_millimetres(task, columns, finished)
    columns, declared = columns | metric, (*declared, *metric_declared)
    rows = _sorted_rows(given.sort, columns, declared, reading)
    findings = Findings({n: np.asarray(columns[n])[rows] for n in (c.name for c in declared)}, declared)
    near = judgement.order[judgement.outcome[judgement.order] != Outcome.FOUND]
    near = near[detector.plausible(candidates)[near]][:MOST_NEAR_MISSES]
    ids = np.zeros(len(candidates), np.int64)
    ids[best_first] = number_of
    task = replace(task, rows=best_first[rows], near_rows=near)
    notes = (*task.image.notes, *detector.notes(task))
    if given.region is not None and lies_outside(given.region, task.image.source_size):
        notes = (*notes, "the region lies outside the image, so nothing is searched")
    rejected = _Rejected(task, finished, ids)
    return Detection(
        kind=detector.kind,
        name=name,
        findings=findings,
        near_misses=NearMisses(len(near), rejected.declared, rejected.columns, rejected.criteria),
        evidence=_Evidence(task),
        resolved={**task.parameters.plain(), **detector.measured(task)},
        units={c.name: c.unit for c in declared if c.unit},
        seconds=time.perf_counter() - started,
        outlines=finished.source_outlines(rows, task.image),
        make_near_outlines=rejected.outlines,
        points=_Points(finished, rows, number_of, task),
        fit=_fit_in_millimetres(task, finished.fit),
        notes=notes,
        places=None if finished.places is None else finished.places[rows],
        task=task,
    )


def _in_millimetres(task: Task, columns: Mapping[str, Array], finished: Finished) -> tuple[dict[str, Array], tuple[Column, ...]]:
    """The columns in millimetres that go with finished ones, and their declarations; none without a calibration."""
    if task.calibration is None:
        return {}, ()
    declared = task.detector.all_columns()
    every = np.arange(len(columns["x"]))
    outlines = partial(finished.source_outlines, every, task.image)
    return in_millimetres(task.calibration, columns, declared, outlines), metric_columns(declared, task.calibration.scale)


def _fit_in_millimetres(task: Task, fit: dict[str, Any] | None) -> dict[str, Any] | None:
    """A fit with its places and lengths in millimetres, too, if the image is calibrated."""
    if fit is None or task.calibration is None or "x" not in fit:
        return fit
    known = tuple(c for c in task.detector.fit_columns if c.name in fit and (not c.pair or c.pair in fit))
    rows = {name: np.array([fit[name]], float) for name in {n for c in known for n in (c.name, c.pair) if n} | {"x", "y"}}
    return fit | {name: float(values[0]) for name, values in in_millimetres(task.calibration, rows, known).items()}


def _numbered(columns: Mapping[str, Array], declared: Sequence[Column], number_of: NDArray[np.int64]) -> dict[str, Array]:
    """Columns that name other findings by place (-1 for none), by number (0 for none)."""
    numbers = np.append(number_of, 0)
    return {**columns, **{c.name: numbers[columns[c.name]] for c in declared if c.quantity == "row"}}


def related(detections: Mapping[str, Detection]) -> dict[str, Detection]:
    """The same detections; where a fit refers to that of another, with what follows from both."""
    fits = {name: d.fit for name, d in detections.items() if d.fit is not None}
    found = {}
    for name, d in detections.items():
        fit = d.task.detector.related_fit(d.task.parameters, d.fit, fits) if d.fit is not None else None
        found[name] = d if fit == d.fit else replace(d, fit=fit)
    return found


class _Evidence(Mapping[str, EvidenceMap]):
    """Evidence maps by name, made when asked for."""

    def __init__(self, task: Task) -> None:
        self._maps = {m.name: m for m in task.detector.evidence(task)}

    def __getitem__(self, name: str) -> EvidenceMap:
        if name not in self._maps:
            raise ParameterError(f'there is no map "{name}"{nearest(name, self._maps)}; there are: {", ".join(self._maps)}')
        return self._maps[name]

    def __iter__(self) -> Any:
        return iter(self._maps)

    def __len__(self) -> int:
        return len(self._maps)

    def __contains__(self, name: object) -> bool:
        return name in self._maps


def _sorted_rows(sort: str, columns: Mapping[str, Array], declared: Sequence[Column], reading: NDArray[np.int64]) -> NDArray[Any]:
    name = sort.removeprefix("-")
    if name == "reading":
        rows = reading
    elif name in {c.name for c in declared}:
        rows = np.argsort(np.asarray(columns[name]), kind="stable")
    else:
        known = ["reading", *(c.name for c in declared)]
        raise ParameterError(f'sort: "{sort}" is no column{nearest(name, known)}; there are: {", ".join(known)}', "sort")
    return rows[::-1] if sort.startswith("-") else rows


class _Rejected:
    """The near misses of a task, made when first looked at: often nobody does."""

    def __init__(self, task: Task, found: Finished, ids: NDArray[np.int64]) -> None:
        self._task, self._found, self._ids = task, found, ids
        self._declared = [c for c in task.detector.all_columns() if c.name not in ("id", "rank")]
        limits = task.judgement.limits
        names = ["", *(limit.parameter for limit in limits), "keep"]
        if task.candidates.exclusions is not None:
            names.append(task.candidates.exclusions.parameter)
        self._parameters = tuple(dict.fromkeys(names))
        if task.calibration is not None:
            self._declared += metric_columns(self._declared, task.calibration.scale)
        self.criteria = {limit.parameter: task.detector.criterion(limit.criterion) for limit in limits}
        self.declared = [
            Column("failed", "failed", "", "the limit that was missed by most", 0, names=self._parameters),
            Column("measured", "measured", "", "what was measured for that limit"),
            Column("limit", "limit", "", "the limit"),
            Column("lost_to", "suppressed by", "", "number of the finding that excludes it, or 0", 0, scale="number"),
            *self._declared,
        ]

    @cached_property
    def _finished(self) -> Finished:
        return self._task.detector.finish_near(self._task, self._task.near_rows, self._found)

    def outlines(self) -> Outlines:
        return self._finished.source_outlines(np.arange(len(self._task.near_rows)), self._task.image)

    def columns(self) -> dict[str, Array]:
        task, near = self._task, self._task.near_rows
        judgement, exclusions = task.judgement, task.candidates.exclusions
        which, outcome = judgement.failed[near], judgement.outcome[near]
        failed = np.zeros(len(near), np.int16)
        measured, bound = np.full(len(near), np.nan), np.full(len(near), np.nan)
        for number, limit in enumerate(judgement.limits):
            here = which == number
            failed[here] = self._parameters.index(limit.parameter)
            measured[here] = task.candidates.columns[limit.criterion][near[here]]
            bound[here] = limit.value
        failed[outcome == int(Outcome.SURPLUS)] = self._parameters.index("keep")
        if exclusions is not None:
            failed[outcome == int(Outcome.SUPPRESSED)] = self._parameters.index(exclusions.parameter)
        lost = judgement.lost_to[near]
        # A near miss lies in none of the findings, as far as numbers go: they count among themselves.
        columns = _numbered(self._finished.columns, self._declared, np.zeros(len(near), np.int64))
        return columns | _in_millimetres(task, columns, self._finished)[0] | {
            "failed": failed, "measured": measured, "limit": bound, "lost_to": np.where(lost >= 0, self._ids[lost], 0),
        }  # fmt: skip


class _Points(Mapping[str, Array]):
    """Point columns in the order of the rows, `chain` turned from place to id; made when first looked at."""

    def __init__(self, finished: Finished, rows: NDArray[Any], number_of: NDArray[Any], task: Task) -> None:
        self._given = (finished, rows, number_of, task.image, task.calibration)

    @cached_property
    def _columns(self) -> dict[str, Array]:
        finished, rows, number_of, image, calibration = self._given
        columns = finished.points() if finished.points is not None else {}
        if columns:
            chain = columns["chain"]
            place_of_row = np.empty(len(rows), np.int64)
            place_of_row[rows] = np.arange(len(rows))
            order = np.argsort(place_of_row[chain], kind="stable")
            columns = {name: values[order] for name, values in columns.items()}
            columns["chain"] = number_of[columns["chain"]]
            columns = to_source(columns, POINTS, image.frame)
            if calibration is not None:
                columns |= in_millimetres(calibration, columns, POINTS)
        return columns

    def __getitem__(self, name: str) -> Array:
        return self._columns[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._columns)

    def __len__(self) -> int:
        return len(self._columns)
