"""What a detector is: one class in one module gives gathering, forming, judging, explaining, options and documentation.

To add one, write a module in `detectors/` with a subclass of `Detector` and enter it in the table of `detectors`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import NO_OUTLINES, EvidenceMap, Outlines, Overlay
from lucid_finch.core.errors import Cancelled
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.inspection.metric_parameters import in_pixels, metric_ends
from lucid_finch.core.inspection.millimetres import metric_columns, metric_name
from lucid_finch.core.judging import Exclusions, Limit, OneOfEach
from lucid_finch.core.parameters import Declaration, Length, Parameters, Stage, gathers, judges
from lucid_finch.core.quantities import to_source
from lucid_finch.core.regions import Region, masked_pixels
from lucid_finch.core.table import ID, RANK, SCORE, Array, Column, X, Y
from lucid_finch.core.viewing.profiles import Profile

HERE = 3.0
"""px: a candidate at most so far from a place, by `distances`, is at the place."""


class DetectorParameters(Parameters):
    """What every detector takes."""

    region: Region | None = gathers(
        None,
        label="Region",
        help="Where to look, in source pixels; the whole image if not given.",
        auto="the whole image",
        shared=True,
    )
    keep: int | None = judges(
        None,
        label="Maximum count",
        help="Only this many, the best by rank.",
        least=1,
        auto="no limit",
        usual=(1, 500),
        shared=True,
        more=True,
    )
    sort: str = judges(
        "reading",
        label="Order",
        help="Order of the rows: reading, rank, or a column; a leading - sorts in descending order.",
        shared=True,
        more=True,
    )


@dataclass(frozen=True)
class Candidates:
    """All plausible candidates: one entry a candidate in every column."""

    columns: dict[str, Array]
    """Position (x, y) and every criterion."""
    rank_score: Array
    """Bigger ranks higher."""
    size: float
    """Typical extent in px, for the reading order."""
    exclusions: Exclusions | OneOfEach | None = None
    detail: Any = None
    """What the detector needs to finish or explain (chains, outlines)."""
    in_source: bool = False
    """Whether columns and size are of the source already; else they are of the image's own frame."""

    def __len__(self) -> int:
        return len(self.rank_score)

    def converted(self, declared: Sequence[Column], image: Image) -> Candidates:
        """The same with columns of the source."""
        if self.in_source:
            return self
        columns = to_source(self.columns, declared, image.frame)
        return replace(self, columns=columns, size=self.size * image.frame.scale, in_source=True)


@dataclass(frozen=True)
class Finished:
    """Columns of the candidates asked for, in the order asked and in the source; outlines and points."""

    columns: dict[str, Array]
    outlines: Outlines = NO_OUTLINES
    points: Callable[[], dict[str, Array]] | None = None
    """Makes the table of points (columns `detection.POINTS`), in the image's own frame; its column `chain` counts the chosen
    candidates from 0."""
    fit: dict[str, Any] | None = None
    places: Array | None = None
    """Where the label of each is drawn, (n, 2) in the source; None: at x, y."""
    outlines_in_source: bool = False
    """Whether the outlines are of the source already; else they are of the image's own frame."""

    def source_outlines(self, rows: NDArray[Any], image: Image) -> Outlines:
        """Outlines of some of these candidates, in the source."""
        return self.outlines.take(rows) if self.outlines_in_source else self.outlines.take(rows, image.frame)


_MANY = 10.0
"""What chance makes more often in an image is nothing to accept: a change would bring all of it."""


@dataclass(frozen=True)
class Reason:
    """One thing that was measured at a place, in words."""

    label: str
    measured: float
    limit: float | None
    unit: str
    passed: bool
    text: str
    proposal: Mapping[str, Any] | None = None
    """Values of parameters that may remove it; they are tried before they are shown."""
    nothing: bool = False
    """Whether it says that nothing stands out here."""
    trace: Array | None = field(default=None, repr=False, compare=False)
    """(n, 2), source: places along the outline that it is about."""


@dataclass
class Context:
    """What the engine lends a detector while it works."""

    cancelled: Callable[[], bool] | None = None
    shared: Callable[[str, Callable[[], Any]], Any] = field(default=lambda key, make: make())
    """Work on the same image that other detectors may have done already: `shared(key, make)`."""
    assets: Mapping[str, Any] = field(default_factory=dict)
    """The pictures that parameters name, by sha256, prepared as the image is."""

    def check(self) -> None:
        """Raises `Cancelled` if the work is no longer wanted."""
        if self.cancelled is not None and self.cancelled():
            raise Cancelled()


@dataclass(frozen=True)
class StageKeys:
    """What the result of each stage depends on, as keys of the cache."""

    prepared: Hashable
    gathered: Hashable
    formed: Hashable


@dataclass(frozen=True)
class Task:
    """One detector on one image: what every stage is given, and adds to. Fields without a value come with later stages."""

    detector: Detector
    image: Image
    """The prepared image."""
    given: Any
    """Parameters as the recipe has them."""
    context: Context = field(default_factory=Context, repr=False)
    colour: Image | None = field(default=None, repr=False)
    """The colours that `image` is the luma of, if it is."""
    keys: StageKeys | None = None
    gathered: Any = None
    parameters: Any = None
    """Parameters with the automatic values settled."""
    candidates: Any = None
    """All `Candidates`, in the source."""
    judgement: Any = None
    """The `Judgement` of the candidates."""
    calibration: Calibration | None = field(default=None, repr=False)
    """What makes millimetres of pixels, if the image is calibrated."""
    rows: Any = None
    """(findings,) int64: the candidate behind each row of the findings."""
    near_rows: Any = None
    """The candidate behind each row of the near misses, by falling rank."""

    def settled(self, given: Any) -> Task:
        """The task with other parameters, their automatic values taken from what was gathered."""
        changed = replace(self, given=given, parameters=in_pixels(given, self.calibration))
        return replace(changed, parameters=self.detector.settle(changed))


@dataclass(frozen=True)
class Example:
    """Parameters that a detector or step is tried with: all of its kernels are compiled by its examples."""

    parameters: Mapping[str, Any] = field(default_factory=dict)
    assets: Mapping[str, Image] = field(default_factory=dict)
    """Pictures that the parameters name."""


Sense = Literal["at least", "at most"]
_SENSES: tuple[Sense, Sense] = ("at least", "at most")


class Detector:
    """Base of all detectors; instances hold no state."""

    kind: ClassVar[str]
    purpose: ClassVar[str]
    """One line for lists."""
    Parameters: ClassVar[type[DetectorParameters]]
    reads: ClassVar[Literal["luma", "colour"]] = "luma"
    """What it is given of a colour image."""
    columns: ClassVar[tuple[Column, ...]]
    """Columns of a finding besides id, rank, x, y and score."""
    fit_columns: ClassVar[tuple[Column, ...]] = ()
    """Places and lengths among the numbers of a fit."""
    criteria: ClassVar[tuple[Column, ...]] = ()
    """Columns of the candidates that only judging uses."""
    numbers_beside: ClassVar[bool] = False
    """Numbers are written only where they hide no finding."""
    named_by: ClassVar[str] = ""
    """A text column that is shown beside the number of each finding."""
    near: ClassVar[float] = 12.0
    """Candidates within so many px of a place are named when asked why."""
    here: ClassVar[float] = 5.0
    """Changes are proposed for candidates within so many px, by `distances`."""
    failed_by_parts: ClassVar[frozenset[str]] = frozenset()
    """Limits that a part of something larger fails."""
    examples: ClassVar[tuple[Example, ...]] = (Example(),)
    main_maps: ClassVar[tuple[str, ...]] = ()
    """Names of the maps that say most, first the one to show beside the source."""
    sized_by: ClassVar[str] = ""
    """The range of sizes (px) among its parameters, if it looks for sizes."""

    # Stages

    def gather(self, task: Task) -> Any:
        """Pixels to sparse measurements that are complete above the floor. Slow; depends on nothing but the given parameters
        of the gathering stage and on `floor`."""
        raise NotImplementedError

    def floor(self, parameters: Any) -> Hashable:
        """Below what nothing is gathered, from the recipe alone; coarse, so that a moving limit seldom changes it."""
        return None

    def settle(self, task: Task) -> Any:
        """The parameters with every automatic value set to what was gathered; all later stages use these."""
        return task.parameters

    def frozen(self, task: Task) -> Any:
        """The parameters with automatic values as numbers, to be written to a recipe: on the same image they give the same
        findings. What is a rule rather than a number stays automatic."""
        return task.parameters

    def form(self, task: Task) -> Candidates:
        """Measurements to all plausible candidates; depends on the parameters of the forming stage."""
        raise NotImplementedError

    def limits(self, task: Task) -> tuple[Limit, ...]:
        """Every limit that applies: those that the declarations name. Numbers are of the source."""
        found: list[Limit] = []
        for name, declared in self.Parameters.declarations().items():
            value = getattr(task.parameters, name)
            replaced = declared.unless and getattr(task.given, declared.unless) is not None
            if declared.criterion and value is not None and not replaced:
                metric = metric_ends(declared, getattr(task.given, name))
                found += [self._in_millimetres(limit, metric) for limit in _limits_of(declared, value, task.image)]
        return tuple(found)

    def _in_millimetres(self, limit: Limit, metric: Mapping[int, float]) -> Limit:
        """A limit that was given in millimetres, as one of the column in millimetres; another one as it is."""
        if limit.end not in metric:
            return limit
        criterion = self.criterion(limit.criterion)
        return replace(limit, criterion=metric_name(criterion), value=metric[limit.end], tolerance=0.0)

    def measured(self, task: Task) -> dict[str, Any]:
        """What was measured on this image besides the settled parameters, for the record."""
        return {}

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        """Final columns of the chosen candidates."""
        return Finished({name: values[chosen] for name, values in task.candidates.columns.items()})

    def outlines(self, task: Task, chosen: NDArray[np.int64]) -> Outlines:
        """Outlines of the chosen candidates, in the source, where lengths along them or areas are among the columns."""
        return NO_OUTLINES

    def finish_near(self, task: Task, chosen: NDArray[np.int64], found: Finished) -> Finished:
        """Final columns of near misses, beside what was `found`."""
        return self.finish(task, chosen)

    # What is reported of a result

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        """Which candidates are listed as near misses."""
        return np.ones(len(candidates), bool)

    def evidence(self, task: Task) -> list[EvidenceMap]:
        """The maps that the decision rests on, in the order of the stages."""
        return []

    def overlays(self, task: Task, fit: Mapping[str, Any] | None) -> list[Overlay]:
        """Lines that are drawn with the findings."""
        return []

    def related_fit(self, parameters: Any, fit: dict[str, Any], fits: Mapping[str, Any]) -> dict[str, Any]:
        """A fit with what follows from those of the other detectors of a recipe, by name."""
        return fit

    @classmethod
    def fit_text(cls, fit: Mapping[str, Any]) -> str:
        """A fit in a few words."""
        return ""

    def profile(self, task: Task, candidate: int) -> tuple[str, Profile] | None:
        """A heading and the profile that a candidate was found in, if it was found in one."""
        return None

    def notes(self, task: Task) -> tuple[str, ...]:
        """What the user should know of this image."""
        return ()

    # Questions

    def distances(self, task: Task, x: float, y: float) -> Array:
        """Distance in px of each candidate from a place of the source."""
        columns = task.candidates.columns
        return np.hypot(columns["x"] - x, columns["y"] - y)

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        """What is measured at a place of the source where no candidate was gathered."""
        return []

    def remedies(self, task: Task) -> list[dict[str, Any]]:
        """Changes of parameters that often help where no limit says why nothing was found; each is tried before it is shown."""
        return []

    def is_background(self, task: Task, candidate: int) -> bool:
        """Whether a rejected candidate is what noise or texture makes many of in an image: no change is proposed for it."""
        expected = self.expected_by_chance(task, candidate)
        return expected is not None and expected < -math.log10(_MANY)

    def expected_by_chance(self, task: Task, candidate: int) -> float | None:
        """-log10 of the number per image of such candidates that chance makes, where that is too many for the limit."""
        for limit in task.judgement.limits:
            if self.criterion(limit.criterion).scale == "expected":
                measured = float(task.candidates.columns[limit.criterion][candidate])
                if not limit.passed(measured):
                    return measured
        return None

    def outside(self, task: Task, x: float, y: float, margin: int = 0) -> list[Reason]:
        """The reason why nothing can be found at a place of the source that is masked out, if that is so."""
        u, v = task.image.frame.from_source(x, y)
        column, row = (min(max(round(float(w)), 0), n - 1) for w, n in ((u, task.image.width), (v, task.image.height)))
        masked = masked_pixels(task.image, task.given.region, margin)
        if masked is None or not masked[row, column]:
            return []
        change = {"region": None} if task.given.region is not None else None
        text = "this place is outside the region, or its pixels are not valid"
        return [Reason("region", 0.0, None, "", False, text, change)]

    def sized_like(self, parameters: Any, size: float, ratio: float | None = None) -> tuple[float, float]:
        """A range of sizes around a size in px; of what has two axes, `ratio` is the shorter over the longer one, None: any."""
        return 0.75 * size, 1.3 * size

    # Declarations

    @classmethod
    def all_columns(cls) -> tuple[Column, ...]:
        return (ID, RANK, X, Y, SCORE, *cls.columns)

    @classmethod
    def criterion(cls, name: str) -> Column:
        """The declaration of a column of the candidates, also of one in millimetres."""
        declared = (*cls.all_columns(), *cls.criteria)
        return next(c for c in (*declared, *metric_columns(declared)) if c.name == name)


def _limits_of(declared: Declaration, value: Any, image: Image) -> list[Limit]:
    """The limits behind the value of one parameter."""
    name, criterion, sense = declared.name, declared.criterion, declared.sense
    if declared.is_range:
        columns = (criterion, declared.upper_criterion or criterion)
        ends = enumerate(zip(columns, _SENSES, value, strict=True))
        return [
            Limit(name, column, way, float(end), place, tolerance=declared.tolerance)
            for place, (column, way, end) in ends
            if end is not None
        ]
    if declared.choices or isinstance(value, bool):
        # The criterion is 1 (or 0, at most) where a candidate agrees with the choice.
        bound = 1.0 if sense == "at least" else 0.0
        return [] if value == declared.admits else [Limit(name, criterion, sense, bound, admits=declared.admits)]
    number = value.pixels(*image.source_size) if isinstance(value, Length) else float(value)
    return [Limit(name, criterion, sense, declared.to_limit(number), tolerance=declared.tolerance)]


__all__ = [
    "Candidates", "Context", "Detector", "DetectorParameters", "Example", "Finished", "Reason", "Stage", "StageKeys", "Task",
]  # fmt: skip
