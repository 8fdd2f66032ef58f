"""What a detection gives: findings and near misses as columns, evidence maps on demand, outlines, points."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.image import Frame

Array = NDArray[Any]


@dataclass(frozen=True)
class Column:
    """Declares a column: its name in files, a short label for people, unit, meaning and digits shown."""

    name: str
    label: str
    unit: str = ""
    help: str = ""
    digits: int = 2
    role: Literal["", "x", "y", "length", "angle", "slope", "row"] = ""
    """How the number changes from the image's own frame to the source's; `row`: the place of another finding, which becomes
    its number."""
    names: tuple[str, ...] = ()
    """For a text column: what its codes stand for."""


ID = Column("id", "no.", help="1, 2, 3 ... in reading order", digits=0)
RANK = Column("rank", "rank", help="1 for the best", digits=0)
X = Column("x", "x", "px", "position, pixel centres at whole numbers", role="x")
Y = Column("y", "y", "px", "position, growing downwards", role="y")
SCORE = Column("score", "score", help="0 to 1, 1 is ideal", digits=3)


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

    def rows(self) -> Iterator[dict[str, Any]]:
        """Rows one by one, for people."""
        return (self.row(i) for i in range(len(self)))

    def _value(self, name: str, index: int) -> Any:
        value = self._columns[name][index]
        names = self.declared[name].names
        return names[int(value)] if names else value.item() if isinstance(value, np.generic) else value


class Findings(Table):
    """What stands."""


class NearMisses(Table):
    """What fell short: the columns of findings and "failed" (code of a parameter), "measured", "limit", "lost_to"."""


def transform_columns(columns: dict[str, Array], declared: Sequence[Column], frame: Frame) -> dict[str, Array]:
    """Columns from an image's own frame to the source's."""
    if frame.is_identity:
        return columns
    moved = dict(columns)
    for c in declared:
        if c.role == "x":
            y = c.name.replace("x", "y")
            moved[c.name], moved[y] = frame.to_source(columns[c.name], columns[y])
        elif c.role == "length":
            moved[c.name] = columns[c.name] * frame.scale
        elif c.role == "slope":
            moved[c.name] = columns[c.name] / frame.scale
        elif c.role == "angle":
            moved[c.name] = (columns[c.name] + frame.turn) % 360.0
    return moved


class Outlines(Sequence[Array]):
    """Outlines as (n, 2) arrays of x, y, cut from one array of points without copies."""

    def __init__(self, points: Array, start: NDArray[np.int64], closed: NDArray[np.bool_]) -> None:
        self.points, self.start, self.closed = points, start, closed

    @staticmethod
    def of(outlines: Sequence[Any], closed: Any = False) -> Outlines:
        """From separate arrays; `closed` one for all or one each."""
        start = np.concatenate([[0], np.cumsum([len(o) for o in outlines])]).astype(np.int64)
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

    def take(self, rows: NDArray[Any], frame: Frame) -> Outlines:
        """These outlines in this order, mapped from an image's own frame to the source's; none at all if there are none."""
        if not len(self):
            return self
        count = np.diff(self.start)[rows]
        start = np.concatenate([[0], np.cumsum(count)]).astype(np.int64)
        points = self.points[np.repeat(self.start[:-1][rows] - start[:-1], count) + np.arange(start[-1])]
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
class Arithmetic:
    """How a map is made of another: sums of its pixels times coefficients, and perhaps the root of their squares."""

    of: str
    """Name of the map that the coefficients are laid on."""
    kernels: Mapping[str, Array]
    """Tables of odd sides, by label, laid on as written (no flip)."""
    root: bool = False
    """Whether the value is the root of the sum of the squares of the sums."""
    border: str = "mirror"
    black: float = 0.0
    """What stands beyond the border where that is constant."""


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
    sure: tuple[tuple[float, float], ...] | None = None
    """Corners, in the source, of the part that nothing beyond a border has reached; None: all of it."""

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


@dataclass(frozen=True)
class Detection:
    """The result of one detector on one image; all coordinates in the source frame."""

    kind: str
    name: str
    findings: Findings
    near_misses: NearMisses
    evidence: Mapping[str, EvidenceMap]
    resolved: dict[str, Any]
    """Every limit as it was used, those that follow from the image included."""
    units: dict[str, str]
    seconds: float
    outlines: Outlines = NO_OUTLINES
    near_outlines: Outlines = NO_OUTLINES
    points: Mapping[str, Array] = field(default_factory=dict)
    fit: dict[str, Any] | None = None
    notes: tuple[str, ...] = ()
    places: Array | None = None
    """Where the label of each finding is drawn, (n, 2); None: at x, y."""
    work: Any = field(default=None, repr=False)
    """What the engine keeps to answer further questions; see `engine.Work`."""

    def place(self, row: int) -> tuple[float, float]:
        """Where the label of a finding is drawn."""
        if self.places is not None:
            return float(self.places[row, 0]), float(self.places[row, 1])
        return float(self.findings["x"][row]), float(self.findings["y"][row])

    def label(self, row: int) -> str:
        """Number and, where there is one, name of a finding."""
        named = self.work.detector.named_by
        number = str(int(self.findings["id"][row]))
        return f"{number} {self.findings.names[named][int(self.findings[named][row])]}" if named else number
