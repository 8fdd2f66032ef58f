"""What a detection gives: findings and near misses as columns, evidence maps on demand, outlines, points."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.image import Frame
from lucid_finch.core.numerics.ragged import starts, take_rows
from lucid_finch.core.outer import provided
from lucid_finch.core.table import Array, Findings, NearMisses

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
class Correlation:
    """How a value of a score map is made: the correlation of a template with the pixels of another map that it lies on."""

    of: str
    """Name of the map that the template is compared with."""
    template: Array
    """(h, w): grey levels, NaN where a pixel does not count."""
    reference: tuple[float, float]
    """x, y in the template of the point that lies on the pixel of the score map."""


@dataclass(frozen=True, repr=False)
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
    arithmetic: Arithmetic | Correlation | None = None
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
        """Write as PNG (with its display range beside it), float TIFF or NPY, by the ending of `path`. Raises `FileError`."""
        provided("save_map")(path, self)

    def __repr__(self) -> str:
        return f"<EvidenceMap {self.name}: {self.width} x {self.height} {self.unit}".rstrip() + ">"

    def _repr_png_(self) -> bytes:
        return bytes(provided("map_png")(self))


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


@dataclass(frozen=True, repr=False)
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

    def __repr__(self) -> str:
        called = self.kind if self.name == self.kind else f'{self.kind} "{self.name}"'
        return f"<Detection {called}: {len(self.findings)} findings, {len(self.near_misses)} near misses, {self.seconds:.2g} s>"

    def _repr_html_(self) -> str:
        return str(provided("detection_html")(self))

    def save(self, folder: str | Path, outputs: Sequence[str] = ("findings", "csv")) -> list[Path]:
        """Write into a folder; see `Run.save`. Raises `ParameterError`, `FileError`."""
        saved: list[Path] = provided("save_detection")(self, folder, outputs)
        return saved

    def __getstate__(self) -> dict[str, Any]:
        """Without evidence and measurements, which take as much memory as the image."""
        near = self.near_outlines
        light = replace(
            self.task, image=None, colour=None, keys=None, gathered=None, candidates=None, judgement=None, context=None
        )
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
        return f"{number} {self.findings[self.named_by][row]}"

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
