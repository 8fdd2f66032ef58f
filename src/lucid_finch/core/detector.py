"""What a detector is: one class in one module gives gathering, forming, judging, explaining, options and documentation.

To add one, write a module in `detectors/` with a subclass of `Detector` and enter it in the table of `detectors`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import ID, NO_OUTLINES, RANK, SCORE, Array, Column, EvidenceMap, Outlines, X, Y
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Judgement, Limit, Rivals
from lucid_finch.core.parameters import SCALES, Length, Parameters, Stage, gathers, judges
from lucid_finch.core.regions import Region
from lucid_finch.core.viewing.profiles import Profile


class DetectorParameters(Parameters):
    """What every detector takes."""

    region: Region | None = gathers(
        None, label="Region", help="Where to look, in source pixels; the whole image if nothing is given.", auto="the whole image"
    )
    keep: int | None = judges(
        None, label="Keep at most", help="Only this many, the best by rank.", least=1, auto="no limit", usual=(1, 500)
    )
    sort: str = judges(
        "reading", label="Order", help="Order of the rows: reading, rank, or a column; a - in front sorts descending."
    )


@dataclass(frozen=True)
class Candidates:
    """All plausible candidates: one entry a candidate in every column."""

    columns: dict[str, Array]
    """Position (x, y in the image's own frame) and every criterion."""
    merit: Array
    """Bigger ranks higher."""
    size: float
    """Typical extent in px, for the reading order."""
    rivals: Rivals | None = None
    detail: Any = None
    """What the detector needs to finish or explain (chains, outlines)."""

    def __len__(self) -> int:
        return len(self.merit)


@dataclass(frozen=True)
class Finished:
    """Columns and geometry of the candidates asked for, in the order asked, in the image's own frame."""

    columns: dict[str, Array]
    outlines: Outlines = NO_OUTLINES
    points: Callable[[], dict[str, Array]] | None = None
    """Makes the table of points when it is asked for; its column `chain` counts the chosen candidates from 0."""
    fit: dict[str, Any] | None = None
    places: Array | None = None
    """Where the label of each is drawn, (n, 2) in the source; None: at x, y."""


@dataclass(frozen=True)
class Reason:
    """One thing that was measured at a place, in words."""

    label: str
    measured: float
    limit: float | None
    unit: str
    passed: bool
    text: str
    change: tuple[str, Any] | None = None
    """The parameter and value that would do away with it."""


@dataclass(frozen=True)
class Votes:
    """What lies behind one cell of a map of votes."""

    candidate: int
    """The candidate whose votes meet here, or -1."""
    points: Array
    """(n, 2), source: the points that voted for the cell."""


@dataclass
class Context:
    """What the engine lends a detector while it works."""

    cancelled: Callable[[], bool] | None = None
    shared: Callable[[str, Callable[[], Any]], Any] = field(default=lambda key, make: make())
    """Work on the same image that other detectors may have done already: `shared(key, make)`."""


@dataclass(frozen=True)
class Work:
    """All that one run of a detector left behind: enough to judge again, to explain and to show evidence."""

    detector: Detector
    image: Image
    """The prepared image that the detector saw."""
    parameters: Any
    gathered: Any
    candidates: Candidates
    judgement: Judgement
    rows: NDArray[np.int64]
    """The candidate behind each row of the findings."""
    near_rows: NDArray[np.int64]
    """The candidate behind each row of the near misses."""


class Detector:
    """Base of all detectors; instances hold no state."""

    kind: ClassVar[str]
    purpose: ClassVar[str]
    """One line for lists."""
    Parameters: ClassVar[type[DetectorParameters]]
    columns: ClassVar[tuple[Column, ...]]
    """Columns of a finding besides id, rank, x, y and score."""
    named_by: ClassVar[str] = ""
    """A text column that is shown beside the number of each finding."""
    near: ClassVar[float] = 12.0
    """Candidates within so many px of a place are named when asked why."""

    def gather(self, image: Image, parameters: Any, context: Context) -> Any:
        """Pixels to sparse measurements that are complete above the floor. Slow; depends on nothing but the parameters
        of the gathering stage and on `floor`."""
        raise NotImplementedError

    def floor(self, parameters: Any) -> Any:
        """Below what nothing is gathered, from the recipe alone; hashable, and coarse, so that a moving limit seldom changes
        it."""
        return None

    def form(self, image: Image, gathered: Any, parameters: Any) -> Candidates:
        """Measurements to all plausible candidates."""
        raise NotImplementedError

    def limits(self, image: Image, gathered: Any, parameters: Any) -> tuple[Limit, ...]:
        """Every limit that is in force, with its resolved value."""
        found = []
        for name, declared in self.Parameters.declarations().items():
            value = getattr(parameters, name)
            if declared.stage is not Stage.JUDGE or not declared.criterion or value is None:
                continue
            if declared.is_range:
                for end, (number, sense) in enumerate(zip(value, _SENSES, strict=True)):
                    if number is not None:
                        found.append(Limit(name, declared.criterion, sense, float(number), end))
            else:
                number = value.pixels(*image.source_size) / image.frame.scale if isinstance(value, Length) else float(value)
                found.append(Limit(name, declared.criterion, declared.sense, SCALES[declared.scale].to_limit(number)))
        return tuple(found)

    def resolved(self, image: Image, gathered: Any, parameters: Any) -> dict[str, Any]:
        """Values that parameters left open took from the image."""
        return {}

    def finish(self, image: Image, gathered: Any, candidates: Candidates, chosen: NDArray[np.int64], parameters: Any) -> Finished:
        """Final columns of the chosen candidates."""
        return Finished({name: values[chosen] for name, values in candidates.columns.items()})

    def finish_near(
        self, image: Image, gathered: Any, candidates: Candidates, chosen: NDArray[np.int64], parameters: Any, found: Finished
    ) -> Finished:
        """Final columns of near misses, beside what was `found`."""
        return self.finish(image, gathered, candidates, chosen, parameters)

    def fit_outlines(self, work: Work, fit: Mapping[str, Any]) -> list[Array]:
        """Lines, (n, 2) in the source, that show a fit on the image."""
        return []

    def related_fit(self, parameters: Any, fit: dict[str, Any], fits: Mapping[str, Any]) -> dict[str, Any]:
        """A fit with what follows from those of the other detectors of a recipe, by name."""
        return fit

    def guides(self, work: Work) -> list[Array]:
        """Lines, (n, 2) in the source, that show where and which way was looked."""
        return []

    def profile_of(self, work: Work, candidate: int) -> tuple[str, Profile] | None:
        """A heading and the profile that a candidate was found in, if it was found in one."""
        return None

    def peaks(self, work: Work, map_name: str) -> Array | None:
        """Where the findings are in a map of votes, (rows, 2) columns and rows of the map; None if the map is none."""
        return None

    def votes_at(self, work: Work, map_name: str, column: float, row: float) -> Votes | None:
        """What voted for a cell of a map of votes."""
        return None

    def votes_of(self, work: Work, map_name: str, x: float, y: float) -> list[Array]:
        """Lines, (n, 2) columns and rows of a map of votes, along which the edge point nearest to a source place has voted."""
        return []

    @classmethod
    def fit_text(cls, fit: Mapping[str, Any]) -> str:
        """A fit in a few words."""
        return ""

    def notes(self, gathered: Any) -> tuple[str, ...]:
        """What should be told of this image."""
        return ()

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        """Which candidates are worth being listed as near misses."""
        return np.ones(len(candidates), bool)

    def evidence(self, work: Work) -> list[EvidenceMap]:
        """The maps that the decision rests on, in the order of the stages."""
        return []

    def distances(self, candidates: Candidates, x: float, y: float) -> Array:
        """Distance in px of each candidate from a place in the image's own frame."""
        return np.hypot(candidates.columns["x"] - x, candidates.columns["y"] - y)

    def probe(self, image: Image, gathered: Any, parameters: Any, x: float, y: float) -> list[Reason]:
        """What is measured at a place where no candidate was gathered."""
        return []

    @classmethod
    def all_columns(cls) -> tuple[Column, ...]:
        return (ID, RANK, X, Y, SCORE, *cls.columns)

    @classmethod
    def criterion(cls, name: str) -> Column:
        """The declaration of a criterion column."""
        return next(c for c in (*cls.all_columns(), *cls.criteria) if c.name == name)

    criteria: ClassVar[tuple[Column, ...]] = ()
    """Columns that only judging sees."""


Sense = Literal["at least", "at most"]
_SENSES: tuple[Sense, Sense] = ("at least", "at most")
Registry = Mapping[str, type[Detector]]
