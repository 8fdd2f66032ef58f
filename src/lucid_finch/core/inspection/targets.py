"""Finds a calibration target in a picture: the inner corners of a chessboard or the dots of a grid, in order."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.engine import detect
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.targets.lattice import EMPTY, Lattice, filled, find_lattices, oriented
from lucid_finch.core.numerics.targets.plane_fits import Seen, fit_planes
from lucid_finch.core.table import Findings

Floats = NDArray[np.float64]
TargetKind = Literal["chessboard", "dots"]
TARGETS: tuple[TargetKind, ...] = ("chessboard", "dots")

LEAST_POINTS, LEAST_LINES = 9, 3
"""A target has at least so many points, in so many columns and rows."""
_SLACK = 0.4
"""px that a point of a grid may be off its place; half hidden dots are more."""
_REGULAR = 0.02
"""Points of a grid lie so exactly in order, over its step; those of a repeating texture do not."""


@dataclass(frozen=True)
class Target:
    """The points of a target that are seen in a picture."""

    kind: TargetKind
    x: Floats
    y: Floats
    """(n,): px of the source."""
    columns: NDArray[np.int64]
    rows: NDArray[np.int64]
    """(n,): which point of the grid each is, from 0; columns along +x as far as the grid's size allows."""
    radius: Floats
    """(n,): px, of dots; 0 of corners."""

    def __len__(self) -> int:
        return len(self.x)

    @property
    def places(self) -> Floats:
        """(n, 2): columns and rows."""
        return np.stack([self.columns, self.rows], axis=1).astype(float)

    @property
    def size(self) -> tuple[int, int]:
        """Columns and rows that are seen."""
        return int(np.ptp(self.columns)) + 1, int(np.ptp(self.rows)) + 1


def find_target(image: Image, kind: TargetKind, columns: int | None = None, rows: int | None = None) -> Target:
    """The target in a picture; it may be tilted, partly hidden or cut by the border.

    `columns`, `rows`: how many inner corners or dots it has, if known. Raises `ParameterError` that says what was seen where
    there is none.
    """
    best, spots = EMPTY, _Spots(np.empty((0, 2)), np.empty(0))
    seen = _SEEN[kind](image)
    for some in seen:
        sizes = some.radius if kind == "dots" else None
        for lattice in find_lattices(some.points, sizes):
            fitting = _fitting(lattice, some.points, image.source_size)
            if len(fitting) > len(best):
                best, spots = fitting, some
    lattice = oriented(filled(best), spots.points, columns, rows)
    _check(kind, lattice, sum(len(some.points) for some in seen))
    at, places = spots.points[lattice.points], lattice.places
    return Target(kind, at[:, 0], at[:, 1], places[:, 0], places[:, 1], spots.radius[lattice.points])


@dataclass(frozen=True)
class _Spots:
    """What may be points of a target."""

    points: Floats
    """(n, 2), source."""
    radius: Floats


def _fitting(lattice: Lattice, points: Floats, size: tuple[int, int]) -> Lattice:
    """Those points of a grid that lie on a plane behind a lens; none of a grid that is none."""
    middle = (size[0] - 1) / 2, (size[1] - 1) / 2
    rms = np.inf
    for terms in (1, 2):
        seen = Seen(lattice.places.astype(float), points[lattice.points])
        fit = fit_planes([seen], middle, reference_of(size), terms, _SLACK)
        if fit is None:
            return EMPTY
        lattice, rms = lattice.taken(np.flatnonzero(fit.used[0])), fit.rms
    step = np.median(np.hypot(*np.diff(points[lattice.points][np.lexsort(lattice.places.T)], axis=0).T))
    return lattice if rms < _REGULAR * step else EMPTY


def reference_of(size: tuple[int, int]) -> float:
    """px: half the diagonal of a picture, the unit of distances from the centre of distortion."""
    return 0.5 * float(np.hypot(*size))


def _check(kind: TargetKind, lattice: Lattice, seen: int) -> None:
    """Raises `ParameterError` where the grid is too small."""
    what = {"chessboard": "inner corners", "dots": "dots"}[kind]
    if len(lattice) >= LEAST_POINTS and min(lattice.size) >= LEAST_LINES:
        return
    if seen == 0:
        few = f"no {what} were seen"
    elif seen == 1:
        few = f"only one {what[:-1]} was seen"
    elif not len(lattice):
        few = f"the {seen} {what} that were seen lie on no grid"
    else:
        few = f"of {seen} {what} that were seen, at most {len(lattice)} lie on one grid"
        if len(lattice) >= LEAST_POINTS:
            few = f"{len(lattice)} {what} were seen in {lattice.size[0]} columns and {lattice.size[1]} rows"
    raise ParameterError(
        f"no {'chessboard' if kind == 'chessboard' else 'grid of dots'} is found: {few}; "
        f"{LEAST_POINTS} in {LEAST_LINES} columns and {LEAST_LINES} rows are needed",
        "target",
    )


def _corners(image: Image) -> list[_Spots]:
    found = detect("corners", image, {"isotropy_min": 0.05, "strength_min_pct": 0.2, "false_alarms": 1.0}).findings
    return [_spots(found[found["form"] == "saddle"])]


def _dots(image: Image) -> list[_Spots]:
    found = detect("blobs", image, {"eccentricity_max": 0.97, "false_alarms": 30.0}).findings
    return [_spots(found[found["polarity"] == polarity]) for polarity in ("dark", "bright")]


def _spots(found: Findings) -> _Spots:
    radius = np.asarray(found["radius"], float) if "radius" in found else np.zeros(len(found))
    return _Spots(np.stack([found["x"], found["y"]], axis=1).astype(float), radius)


_SEEN: dict[TargetKind, Callable[[Image], list[_Spots]]] = {"chessboard": _corners, "dots": _dots}
