"""What a detection gives: findings and near misses as columns, evidence maps on demand, outlines, points."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.image import Frame
from lucid_finch.core.numerics.ragged import starts, take_rows
from lucid_finch.core.quantities import Quantity

Array = NDArray[Any]


@dataclass(frozen=True)
class Column:
    """Declares a column: its name in files, a short label for people, unit, meaning and digits shown."""

    name: str
    label: str
    unit: str = ""
    help: str = ""
    digits: int = 2
    quantity: Quantity = ""
    """What it measures: how the number changes from an image's own frame to the source's. `row`: the place of another
    finding, which becomes its number."""
    pair: str = ""
    """Of an `x` or `x error` column: the column of y that belongs to it."""
    names: tuple[str, ...] = ()
    """For a text column: what its codes stand for."""
    scale: Literal["same", "expected", "flag", "number"] = "same"
    """`expected`: -log10 of an expected number of events, which is what people are shown; `flag`: 1 is yes, 0 is no; `number`: of
    a finding, 0 for none."""

    def text(self, value: Any) -> str:
        """A value of this column as people are shown it, without its unit."""
        if self.names:
            return self.names[int(value)]
        if self.scale == "expected":
            return expected_text(value)
        if self.scale == "flag":
            return "yes" if value else "no"
        if self.scale == "number" and value == 0:
            return "–"
        if isinstance(value, (float, np.floating)):
            return f"{value:.{self.digits}f}" if np.isfinite(value) else "–"
        return str(value)


def expected_text(log_nfa: float) -> str:
    """An expected number of events from its -log10, such as 0.011 or 1e-12."""
    if not np.isfinite(log_nfa):
        return "–"
    if -4 <= log_nfa <= 3:
        expected = 10.0**-log_nfa
        return f"{expected:.2g}" if expected < 100 else f"{expected:.0f}"
    # Not by way of the number itself, which may be smaller than any that can be held.
    exponent = int(np.floor(-log_nfa))
    digit = round(10.0 ** (-log_nfa - exponent))
    return f"1e{exponent + 1}" if digit == 10 else f"{digit}e{exponent}"


ID = Column("id", "no.", help="1, 2, 3 ... in reading order", digits=0)
RANK = Column("rank", "rank", help="1 for the best", digits=0)
X = Column("x", "x", "px", "position, pixel centres at whole numbers", quantity="x", pair="y")
Y = Column("y", "y", "px", "position, growing downwards", quantity="y")
SCORE = Column("score", "score", help="0 to 1, 1 is ideal", digits=3)


POINTS = (
    Column("x", "x", "px", "position", quantity="x", pair="y"),
    Column("y", "y", "px", "position", quantity="y"),
    Column("direction", "direction", "deg", "of the gradient, from dark to bright", quantity="direction"),
    Column("strength", "strength", "grey/px", "gradient", quantity="slope"),
    Column("chain", "chain", "", "number of the finding that it belongs to", 0),
    Column("place", "place", "", "0, 1, ... along the finding", 0),
)
"""Columns of the points of findings."""


class Table(Mapping[str, Array]):
    """Columns of one length. Indexing gives NumPy arrays; text columns are codes into `names[column]`."""

    def __init__(self, columns: Mapping[str, Array], declared: Sequence[Column]) -> None:
        self.declared = {c.name: c for c in declared}
        self._columns = {name: columns[name] for name in self.declared}

    def __getitem__(self, name: str) -> Array:
        return self._columns[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._columns)

    def __len__(self) -> int:
        """Number of rows (not of columns)."""
        return len(next(iter(self._columns.values()))) if self._columns else 0

    def __bool__(self) -> bool:
        return len(self) > 0

    @property
    def names(self) -> dict[str, tuple[str, ...]]:
        return {c.name: c.names for c in self.declared.values() if c.names}

    def row(self, index: int) -> dict[str, Any]:
        """One row with Python values, texts spelled out."""
        return {name: self._value(name, index) for name in self._columns}

    def counts(self, column: str) -> dict[str, int]:
        """How many rows have each text of a text column, the most frequent first."""
        names = self.declared[column].names
        many = np.bincount(np.asarray(self._columns[column], np.int64), minlength=len(names))
        return {names[code]: int(many[code]) for code in np.argsort(-many, kind="stable").tolist() if many[code]}

    def text(self, name: str, index: int) -> str:
        """One value as people are shown it."""
        return self.declared[name].text(self[name][index])

    def rows(self) -> Iterator[dict[str, Any]]:
        """Rows one by one, for people."""
        return (self.row(i) for i in range(len(self)))

    def _value(self, name: str, index: int) -> Any:
        value = self._columns[name][index]
        names = self.declared[name].names
        return names[int(value)] if names else value.item() if isinstance(value, np.generic) else value


class Findings(Table):
    """What was accepted."""


class NearMisses(Table):
    """What was rejected: the columns of findings and "failed" (code of a parameter), "measured", "limit", "lost_to"; made
    when first read, since most results are used without them."""

    def __init__(
        self, count: int, declared: Sequence[Column], make: Callable[[], Mapping[str, Array]], criteria: Mapping[str, Column]
    ) -> None:
        """`criteria`: the column that each limit compares, by parameter: `measured` and `limit` are values of it."""
        self.declared = {c.name: c for c in declared}
        self._count, self._make, self._criteria = count, make, criteria

    def text(self, name: str, index: int) -> str:
        failed = self.declared["failed"].names[int(self["failed"][index])]
        if name in ("measured", "limit") and failed in self._criteria:
            return self._criteria[failed].text(self[name][index])
        return super().text(name, index)

    def __getstate__(self) -> dict[str, Any]:
        return {"declared": self.declared, "_count": self._count, "_criteria": self._criteria, "_columns": self._columns}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        columns = state["_columns"]
        self._make = lambda: columns

    @cached_property
    def _columns(self) -> dict[str, Array]:  # type: ignore[override]
        made = self._make()
        return {name: made[name] for name in self.declared}

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[str]:
        return iter(self.declared)


SAME_FRAME = Frame()


class Outlines(Sequence[Array]):
    """Outlines as (n, 2) arrays of x, y, cut from one array of points without copies."""

    def __init__(self, points: Array, start: NDArray[np.int64], closed: NDArray[np.bool_]) -> None:
        self.points, self.start, self.closed = points, start, closed

    @staticmethod
    def of(outlines: Sequence[Any], closed: Any = False) -> Outlines:
        """From separate arrays; `closed` one for all or one each."""
        start = starts(np.array([len(o) for o in outlines], np.int64))
        points = np.concatenate([np.asarray(o, float).reshape(-1, 2) for o in outlines]) if len(outlines) else np.empty((0, 2))
        return Outlines(points, start, np.broadcast_to(np.asarray(closed, bool), len(outlines)).copy())

    def __len__(self) -> int:
        return len(self.start) - 1

    def __getitem__(self, index: Any) -> Any:
        if isinstance(index, slice):
            return [self[i] for i in range(*index.indices(len(self)))]
        if not -len(self) <= index < len(self):
            raise IndexError(index)
        index %= len(self)
        return self.points[self.start[index] : self.start[index + 1]]

    def take(self, rows: NDArray[Any], frame: Frame = SAME_FRAME) -> Outlines:
        """These outlines in this order, from an image's own frame to the source's; none at all if there are none."""
        if not len(self):
            return self
        index, start = take_rows(self.start, rows)
        points = self.points[index]
        if not frame.is_identity:
            points = np.stack(frame.to_source(*points.T), axis=1)
        return Outlines(points, start, self.closed[rows])


NO_OUTLINES = Outlines(np.empty((0, 2)), np.zeros(1, np.int64), np.zeros(0, bool))


def _blocks(values: Array, factor: int, strongest: bool) -> Array:
    """Means, or maxima, of squares of pixels; those at the right and bottom may be of fewer."""
    rows, columns = (np.arange(0, n, factor) for n in values.shape)
    if strongest:
        return np.maximum.reduceat(np.maximum.reduceat(values, rows, axis=0), columns, axis=1)
    sums = np.add.reduceat(np.add.reduceat(values, rows, axis=0), columns, axis=1)
    high, wide = np.diff(rows, append=values.shape[0]), np.diff(columns, append=values.shape[1])
    return np.asarray(sums / np.outer(high, wide), np.float32)


MapKind = Literal["grey", "signed", "cyclic", "mask"]


@dataclass(frozen=True)
class Votes:
    """What is behind one cell of an accumulator."""

    candidate: int
    """The candidate whose votes meet here, or -1."""
    points: Array
    """(n, 2), source: the points that voted for the cell."""


@dataclass(frozen=True)
class MapLinks:
    """How an accumulator and the image belong together; places of the map are its columns and rows."""

    peaks: Callable[[], Array]
    """(findings, 2): where the findings are in the map."""
    votes_at: Callable[[float, float], Votes]
    """What voted for the cell at a column and a row."""
    votes_of: Callable[[float, float], list[Array]]
    """Lines, (n, 2) places of the map, for which the edge point nearest to a source place voted."""


@dataclass(frozen=True)
class Overlay:
    """Lines, (n, 2) each in the source, that are drawn with the findings: where was looked, or what was fitted."""

    role: Literal["scan", "fit"]
    lines: list[Array]


@dataclass(frozen=True)
class Arithmetic:
    """How a map is made of another: sums of its pixels times coefficients, and perhaps the root of their squares."""

    of: str
    """Name of the map that the coefficients apply to."""
    kernels: Mapping[str, Array]
    """Tables of odd sides, by label, applied as written (no flip)."""
    root: bool = False
    """Whether the value is the root of the sum of the squares of the sums."""
    border: str = "mirror"
    black: float = 0.0
    """The value beyond the border where that is constant."""


@dataclass(frozen=True)
class EvidenceMap:
    """A map that a decision rests on, computed when looked at.

    `compute(left, top, right, bottom)` gives the values of that rectangle of pixels, float32 or uint8.
    """

    name: str
    label: str
    unit: str
    kind: MapKind
    width: int
    height: int
    compute: Callable[[int, int, int, int], Array] = field(repr=False)
    frame: Frame = field(default_factory=Frame)
    help: str = ""
    judged: bool = False
    """Whether it changes with a limit that only judging looks at."""
    axes: tuple[Array, Array, str, str] | None = None
    """Where the map is no image: the values of its columns and of its rows, and what both are (with units)."""
    arithmetic: Arithmetic | None = None
    """How each value comes about, where that is a weighted sum."""
    valid_region: tuple[tuple[float, float], ...] | None = None
    """Corners, in the source, of the pixels whose filter support lies inside the image; None: all of it."""
    links: MapLinks | None = None
    """How a map of votes and the image belong together; None of other maps."""

    @property
    def values(self) -> Array:
        """All of it, (H, W)."""
        return self.compute(0, 0, self.width, self.height)

    @property
    def x(self) -> Array:
        """Position of each column along the x axis; px where the map is an image."""
        return self.axes[0] if self.axes is not None else np.arange(self.width, dtype=float)

    @property
    def y(self) -> Array:
        """Position of each row along the y axis; px where the map is an image."""
        return self.axes[1] if self.axes is not None else np.arange(self.height, dtype=float)

    def part(self, left: int, top: int, right: int, bottom: int) -> Array:
        """The values of columns left .. right-1 and rows top .. bottom-1, clipped to the map."""
        left, right = sorted((min(max(left, 0), self.width), min(max(right, 0), self.width)))
        top, bottom = sorted((min(max(top, 0), self.height), min(max(bottom, 0), self.height)))
        if left == right or top == bottom:
            return np.empty((bottom - top, right - left), np.float32)
        return self.compute(left, top, right, bottom)

    def reduced(
        self, factor: int, box: tuple[int, int, int, int] | None = None, cancelled: Callable[[], bool] | None = None
    ) -> Array:
        """The map, or the rectangle `box` (left, top, right, bottom) of it, shrunk by a whole factor, band by band.

        Means, but maxima of masks, so that thin marks stay. Blocks that reach beyond the rectangle are of what is inside.
        Raises `Cancelled`.
        """
        left, top, right, bottom = box or (0, 0, self.width, self.height)
        factor = max(1, int(factor))
        if factor == 1:
            return self.part(left, top, right, bottom)
        rows = []
        # Some million pixels at a time: the steps that lead to them take several times their memory.
        band = max(1, min(256, 1_000_000 // max(right - left, 1)) // factor) * factor
        for first in range(top, bottom, band):
            if cancelled is not None and cancelled():
                raise Cancelled()
            part = self.part(left, first, right, min(first + band, bottom))
            rows.append(_blocks(np.asarray(part, np.float32), factor, self.kind == "mask"))
        return np.concatenate(rows)

    def save(self, path: str | Path) -> None:
        """Write as PNG (with its display range beside it), float TIFF or NPY, by the ending of `path`."""
        if MAP_WRITER is None:
            raise RuntimeError("maps are written through `import lucid_finch`, which was not imported")
        MAP_WRITER(path, self)


MAP_WRITER: Callable[[str | Path, EvidenceMap], None] | None = None
"""Set by the package's API: core itself reads and writes no files."""


class LeftOut(Mapping[str, "EvidenceMap"]):
    """The evidence of a detection that was pickled: none, and why."""

    def __getitem__(self, name: str) -> EvidenceMap:
        raise ParameterError(f'the map "{name}" was left out when the detection was pickled; run the detector again', "evidence")

    def __iter__(self) -> Iterator[str]:
        return iter(())

    def __len__(self) -> int:
        return 0


def _same(value: Any) -> Any:
    return value


@dataclass(frozen=True)
class Detection:
    """The result of one detector on one image; all coordinates in the source frame."""

    kind: str
    name: str
    findings: Findings
    near_misses: NearMisses
    evidence: Mapping[str, EvidenceMap]
    resolved: dict[str, Any]
    """Every parameter as it was used, automatic ones included, and what was measured for them."""
    units: dict[str, str]
    seconds: float
    outlines: Outlines
    make_near_outlines: Callable[[], Outlines] = field(repr=False)
    points: Mapping[str, Array]
    fit: dict[str, Any] | None
    notes: tuple[str, ...]
    places: Array | None
    """Where the label of each finding is drawn, (n, 2); None: at x, y."""
    task: Any = field(repr=False)
    """What is kept to judge again and to answer questions: a `detector.Task`."""

    def __getstate__(self) -> dict[str, Any]:
        """Without evidence and measurements, which take as much memory as the image."""
        near = self.near_outlines
        light = replace(self.task, image=None, keys=None, gathered=None, candidates=None, judgement=None, context=None)
        return {
            **self.__dict__, "evidence": LeftOut(), "points": dict(self.points), "task": light,
            "make_near_outlines": partial(_same, near),
        }  # fmt: skip

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)

    @property
    def near_outlines(self) -> Outlines:
        """Outlines of the near misses, made when asked for."""
        return self.make_near_outlines()

    @property
    def named_by(self) -> str:
        """The text column that is shown beside the number of each finding, or ""."""
        return str(self.task.detector.named_by)

    @property
    def labels(self) -> dict[str, str]:
        """Labels of the parameters, by name."""
        return {name: declared.label for name, declared in self.task.detector.Parameters.declarations().items()}

    @property
    def overlays(self) -> list[Overlay]:
        """Lines that are drawn with the findings."""
        return list(self.task.detector.overlays(self.task, self.fit))

    @property
    def fit_text(self) -> str:
        """The fit in a few words, or ""."""
        return str(self.task.detector.fit_text(self.fit)) if self.fit is not None else ""

    @property
    def main_maps(self) -> tuple[str, ...]:
        """Names of the maps that say most, first the one to show beside the source."""
        return tuple(self.task.detector.main_maps)

    def place(self, row: int) -> tuple[float, float]:
        """Where the label of a finding is drawn."""
        if self.places is not None:
            return float(self.places[row, 0]), float(self.places[row, 1])
        return float(self.findings["x"][row]), float(self.findings["y"][row])

    def label(self, row: int) -> str:
        """Number and, where there is one, name of a finding."""
        number = str(int(self.findings["id"][row]))
        if not self.named_by:
            return number
        return f"{number} {self.findings.names[self.named_by][int(self.findings[self.named_by][row])]}"

    def measured(self, criterion: str) -> Array:
        """A criterion of all candidates that could matter: hardly anything is seen among ten thousand specks."""
        candidates = self.task.candidates
        plausible = self.task.detector.plausible(candidates)
        values = np.asarray(candidates.columns[criterion], float)
        return values[plausible] if plausible.sum() >= 5 else values

    def candidate_near(self, x: float, y: float) -> int:
        """The candidate nearest to a place of the source, or -1."""
        if not len(self.task.candidates):
            return -1
        return int(np.argmin(self.task.detector.distances(self.task, x, y)))

    def profile(self, candidate: int) -> tuple[str, Any] | None:
        """A heading and the profile that a candidate was found in, if it was found in one."""
        found: tuple[str, Any] | None = self.task.detector.profile(self.task, candidate)
        return found
