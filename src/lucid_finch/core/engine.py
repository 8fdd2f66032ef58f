"""Runs preparation, detectors and whole recipes: shares and keeps work, reports progress, can be cancelled."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.cache import Cache
from lucid_finch.core.combining import Combined, combine
from lucid_finch.core.detection import (
    Array,
    Column,
    Detection,
    EvidenceMap,
    Findings,
    NearMisses,
    transform_columns,
)  # fmt: skip
from lucid_finch.core.detector import Candidates, Context, Detector, DetectorParameters, Finished, Work
from lucid_finch.core.detectors import KINDS, detector_of
from lucid_finch.core.errors import Cancelled, ParameterError, nearest
from lucid_finch.core.image import LUMA, Image
from lucid_finch.core.judging import Outcome, judge, reading_order
from lucid_finch.core.numerics.filtering.channels import mix
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.parameters import Stage
from lucid_finch.core.prepare import step_of
from lucid_finch.core.recipe import DetectorEntry, Recipe, Unmet
from lucid_finch.core.regions import Region, lies_outside

MOST_NEAR_MISSES = 500

Progress = Callable[[float, str], None]
"""Called with the share done (0 to 1) and what is being done."""


@dataclass(frozen=True)
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


@dataclass
class Engine:
    """Runs recipes; keep one to have work shared and remembered between calls."""

    cache: Cache = field(default_factory=Cache)

    def prepared(
        self,
        image: Image,
        steps: Sequence[Mapping[str, Any]],
        cancelled: Callable[[], bool] | None = None,
    ) -> Image:
        """The image after the preparation steps. Raises `ParameterError`, `Cancelled`."""
        for number, given in enumerate(steps, 1):
            if cancelled is not None and cancelled():
                raise Cancelled()
            options = dict(given)
            if not options.pop("on", True):
                continue
            name = str(options.pop("step", ""))
            step = step_of(name)
            parameters = step.Parameters.make(options, f"preparation {number}, {name}")
            with cancellable(cancelled):
                image = self.cache.get((image.digest, name, parameters.model_dump_json()), lambda: step.run(image, parameters))  # noqa: B023
        return image

    def detect(
        self,
        kind: str,
        image: Image,
        parameters: DetectorParameters,
        name: str = "",
        cancelled: Callable[[], bool] | None = None,
    ) -> Detection:
        """One detector on one image; what is kept of an earlier call with the same image is not done again."""
        started = time.perf_counter()
        detector = detector_of(kind)
        image = self._grey(image)
        source = image.digest
        context = Context(cancelled, lambda key, make: self.cache.get((source, key), make))
        gather_key = (source, kind, repr(parameters.plain(Stage.GATHER)), detector.floor(parameters))
        gathered = self.cache.get(gather_key, lambda: detector.gather(image, parameters, context))
        form_key = (*gather_key, repr(parameters.plain(Stage.FORM)))
        candidates = self.cache.get(form_key, lambda: detector.form(image, gathered, parameters))
        with cancellable(cancelled):
            return conclude(detector, image, gathered, candidates, parameters, name or kind, started)

    def run(
        self,
        recipe: Recipe,
        image: Image,
        progress: Progress | None = None,
        cancelled: Callable[[], bool] | None = None,
    ) -> Run:
        """All detectors of a recipe on one image. Raises `ParameterError` naming the detector, `Cancelled`."""
        started = time.perf_counter()
        detections: dict[str, Detection] = {}
        unmet: list[Unmet] = []
        common = self.prepared(image, [step.plain() for step in recipe.prepare], cancelled)
        for number, entry in enumerate(recipe.running):
            if cancelled is not None and cancelled():
                raise Cancelled()
            if progress is not None:
                progress(number / len(recipe.running), entry.name)
            detections[entry.name] = self.run_entry(entry, common, cancelled, recipe.region)
            unmet += entry.unmet(detections[entry.name])
        if progress is not None:
            progress(1.0, "")
        detections = related(detections)
        combined = tuple(combine(detections, group) for group in recipe.combine)
        return Run(recipe, image, detections, tuple(unmet), time.perf_counter() - started, combined)

    def run_entry(
        self,
        entry: DetectorEntry,
        common: Image,
        cancelled: Callable[[], bool] | None = None,
        region: Region | None = None,
        ready: bool = False,
    ) -> Detection:
        """One detector of a recipe on the commonly prepared image; `region` is that of the recipe. With `ready` the
        detector's own preparation has been done already."""
        prepared = common if ready else self.prepared(common, [step.plain() for step in entry.prepare], cancelled)
        return self.detect(entry.kind, prepared, entry.made_parameters(region), entry.name, cancelled)

    def _grey(self, image: Image) -> Image:
        return self.cache.get((image.digest, "luma"), lambda: as_grey(image)) if image.is_colour else image


def as_grey(image: Image) -> Image:
    """The luma of a colour image; a grey one as it is."""
    return image.with_pixels(mix(image.pixels, LUMA)) if image.is_colour else image


def detect(kind: str, image: Image, given: Mapping[str, Any]) -> Detection:
    """One detector on one image, once, with nothing kept. Raises `ParameterError`."""
    started = time.perf_counter()
    detector = detector_of(kind)
    parameters = detector.Parameters.make(given, kind)
    image = as_grey(image)
    gathered = detector.gather(image, parameters, Context())
    candidates = detector.form(image, gathered, parameters)
    return conclude(detector, image, gathered, candidates, parameters, kind, started)


def conclude(
    detector: Detector,
    image: Image,
    gathered: Any,
    candidates: Candidates,
    parameters: DetectorParameters,
    name: str,
    started: float,
) -> Detection:
    """Judge, finish and number: candidates to a detection in the source frame."""
    limits = detector.limits(image, gathered, parameters)
    judgement = judge(candidates.columns, limits, candidates.merit, candidates.rivals, parameters.keep)
    best_first = judgement.found
    x, y = (candidates.columns[c][best_first] for c in ("x", "y"))
    x, y = image.frame.to_source(x, y)
    reading = reading_order(x, y, candidates.size * image.frame.scale)
    # Numbers count in reading order whatever the order of the rows.
    number_of = np.empty(len(best_first), np.int64)
    number_of[reading] = np.arange(1, len(best_first) + 1)
    finished = detector.finish(image, gathered, candidates, best_first, parameters)
    columns = {**finished.columns, "id": number_of, "rank": np.arange(1, len(best_first) + 1)}
    declared = detector.all_columns()
    columns = _numbered(columns, declared, number_of)
    columns = transform_columns(columns, declared, image.frame)
    rows = _sorted_rows(parameters.sort, columns, declared, reading)
    findings = Findings({n: np.asarray(columns[n])[rows] for n in (c.name for c in declared)}, declared)
    near = judgement.order[judgement.outcome[judgement.order] != Outcome.FOUND]
    near = near[detector.plausible(candidates)[near]][:MOST_NEAR_MISSES]
    missed = detector.finish_near(image, gathered, candidates, near, parameters, finished)
    ids = np.zeros(len(candidates), np.int64)
    ids[best_first] = number_of
    units = {c.name: c.unit for c in declared if c.unit}
    work = Work(detector, image, parameters, gathered, candidates, judgement, best_first[rows], near)
    notes = (*image.notes, *detector.notes(gathered))
    if parameters.region is not None and lies_outside(parameters.region, image.source_size):
        notes = (*notes, "the region lies outside the image, so nothing is looked at")
    seconds = time.perf_counter() - started
    return Detection(
        kind=detector.kind,
        name=name,
        findings=findings,
        near_misses=_near_misses(detector, missed, work, ids),
        evidence=_Evidence(work),
        resolved={**parameters.plain(), **detector.resolved(image, gathered, parameters)},
        units=units,
        seconds=seconds,
        outlines=finished.outlines.take(rows, image.frame),
        near_outlines=missed.outlines.take(np.arange(len(near)), image.frame),
        points=_Points(finished, rows, number_of, image),
        fit=finished.fit,
        notes=notes,
        places=None if finished.places is None else finished.places[rows],
        work=work,
    )


def _numbered(columns: Mapping[str, Array], declared: Sequence[Column], number_of: NDArray[np.int64]) -> dict[str, Array]:
    """Columns that name other findings by place (-1 for none), by number (0 for none)."""
    numbers = np.append(number_of, 0)
    return {**columns, **{c.name: numbers[columns[c.name]] for c in declared if c.role == "row"}}


def related(detections: Mapping[str, Detection]) -> dict[str, Detection]:
    """The same detections, those whose fit refers to that of another with what follows from both."""
    fits = {name: d.fit for name, d in detections.items() if d.fit is not None}
    found = {}
    for name, d in detections.items():
        fit = d.work.detector.related_fit(d.work.parameters, d.fit, fits) if d.fit is not None else None
        found[name] = d if fit is d.fit else replace(d, fit=fit)
    return found


class _Evidence(Mapping[str, EvidenceMap]):
    """Evidence maps by name, made when asked for."""

    def __init__(self, work: Work) -> None:
        self._maps = {m.name: m for m in work.detector.evidence(work)}

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


def _near_misses(detector: Detector, missed: Finished, work: Work, ids: NDArray[np.int64]) -> NearMisses:
    judgement, near = work.judgement, work.near_rows
    limits = judgement.limits
    parameters = tuple(dict.fromkeys(["", *(limit.parameter for limit in limits), "keep"]))
    which, outcome = judgement.failed[near], judgement.outcome[near]
    failed = np.zeros(len(near), np.int16)
    measured, limit = np.full(len(near), np.nan), np.full(len(near), np.nan)
    for number, one in enumerate(limits):
        here = which == number
        failed[here] = parameters.index(one.parameter)
        measured[here] = work.candidates.columns[one.criterion][near[here]]
        limit[here] = one.value
    failed[outcome == int(Outcome.SURPLUS)] = parameters.index("keep")
    if work.candidates.rivals is not None:
        name = work.candidates.rivals.parameter
        parameters = parameters if name in parameters else (*parameters, name)
        failed[outcome == int(Outcome.BEATEN)] = parameters.index(name)
    lost = judgement.lost_to[near]
    declared = [c for c in detector.all_columns() if c.name not in ("id", "rank")]
    # A near miss lies in none of the findings, as far as numbers go: they count among themselves.
    columns = transform_columns(_numbered(missed.columns, declared, np.zeros(len(near), np.int64)), declared, work.image.frame)
    columns |= {
        "failed": failed,
        "measured": measured,
        "limit": limit,
        "lost_to": np.where(lost >= 0, ids[lost], 0),
    }
    extra = (
        Column("failed", "fell short of", "", "the limit that was missed by most", 0, names=parameters),
        Column("measured", "measured", "", "what was measured for that limit"),
        Column("limit", "demanded", "", "what the limit demands"),
        Column("lost_to", "lost to", "", "number of the finding that excludes it, or 0", 0),
    )
    return NearMisses(columns, [*extra, *declared])


class _Points(Mapping[str, Array]):
    """Point columns in the order of the rows, `chain` turned from place to id; made when first looked at."""

    def __init__(self, finished: Finished, rows: NDArray[Any], number_of: NDArray[Any], image: Image) -> None:
        self._given = (finished, rows, number_of, image)
        self._columns: dict[str, Array] | None = None

    def _made(self) -> dict[str, Array]:
        if self._columns is None:
            finished, rows, number_of, image = self._given
            columns = finished.points() if finished.points is not None else {}
            if columns:
                chain = columns["chain"]
                place_of_row = np.empty(len(rows), np.int64)
                place_of_row[rows] = np.arange(len(rows))
                order = np.argsort(place_of_row[chain], kind="stable")
                columns = {name: values[order] for name, values in columns.items()}
                columns["chain"] = number_of[columns["chain"]]
                columns["x"], columns["y"] = image.frame.to_source(columns["x"], columns["y"])
                if not image.frame.is_identity and "direction" in columns:
                    columns["direction"] = image.frame.slope_direction(columns["direction"])
                    columns["strength"] = columns["strength"] / image.frame.scale
            self._columns = columns
        return self._columns

    def __getitem__(self, name: str) -> Array:
        return self._made()[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._made())

    def __len__(self) -> int:
        return len(self._made())


def kinds() -> list[str]:
    """Names of all kinds of detectors."""
    return list(KINDS)
