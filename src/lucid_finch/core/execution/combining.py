"""Merges the findings of several detectors: what two of them found is listed once, with a note of who found it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import Detection
from lucid_finch.core.judging import reading_order
from lucid_finch.core.numerics.ragged import owners, places, starts
from lucid_finch.core.table import Array, Column, Findings

_SPACING = 2.0
"""px between the points along an outline at which two are compared."""
_NEAR = 2.0
"""px: closer outlines run along each other; for large ones, a share of their size."""
_NEAR_SHARE = 0.05
_SAME = 0.5
"""Two findings are the same if more than this of each outline runs along the other."""

COLUMNS = (
    Column("id", "no.", help="1, 2, 3 ... in reading order over all detectors", digits=0),
    Column("x", "x", "px", "position in the source"),
    Column("y", "y", "px", "position in the source"),
    Column("score", "score", help="that of the finding", digits=3),
    Column(
        "log_nfa",
        "false alarms",
        "",
        "expected number per image; NaN if its detector gives none; -log10 of it in files",
        1,
        scale="expected",
    ),
    Column("detector", "found by", "", "name of the detector whose finding it is"),
    Column("number", "its no.", "", "number of the finding there", 0),
    Column("also", "also found by", "", "detectors that found the same with less significance, and its number there"),
)


@dataclass(frozen=True)
class Combined:
    """Findings of several detectors, each once."""

    of: tuple[str, ...]
    """Names of the detectors."""
    findings: Findings
    """`COLUMNS`, and the geometry (radius, axes, angle ...) that the merged kinds have, NaN where a kind has none."""
    duplicates: int

    @property
    def name(self) -> str:
        return " + ".join(self.of)


def combine(detections: Mapping[str, Detection], of: Sequence[str]) -> Combined:
    """The findings of the detectors `of`, the most significant first; one that runs along a more significant one of another
    detector is left out.

    The larger `log_nfa` is the more significant; detectors without one come after those with one, by score.
    """
    present = [name for name in of if name in detections]
    parts = [(name, detections[name]) for name in present]
    counts = [len(d.findings) for _, d in parts]
    begun = starts(np.asarray(counts, np.int64))
    owner, row = owners(begun), places(begun)

    def column(name: str) -> NDArray[np.float64]:
        values = [
            np.asarray(d.findings[name], float) if name in d.findings else np.full(len(d.findings), np.nan) for _, d in parts
        ]
        return np.concatenate(values or [np.empty(0)])

    x, y, score, significance, number = (column(n) for n in ("x", "y", "score", "log_nfa", "id"))
    outlines = [_resampled(parts[k][1], r) for k, r in zip(owner.tolist(), row.tolist(), strict=True)]
    order = np.lexsort((np.arange(len(row)), -np.nan_to_num(score), -np.nan_to_num(significance, nan=-np.inf)))
    also: dict[int, list[str]] = {}
    boxes = np.array([[*o.min(axis=0), *o.max(axis=0)] for o in outlines]).reshape(-1, 4)
    accepted = np.zeros(len(row), bool)
    for i in order.tolist():
        meets = (boxes[:, :2] <= boxes[i, 2:] + _NEAR).all(axis=1) & (boxes[i, :2] <= boxes[:, 2:] + _NEAR).all(axis=1)
        near = np.flatnonzero(accepted & (owner != owner[i]) & meets)
        same = next((k for k in near.tolist() if _alike(outlines[k], outlines[i])), -1)
        if same < 0:
            accepted[i] = True
        else:
            also.setdefault(same, []).append(f"{present[owner[i]]} {int(number[i])}")
    chosen = np.flatnonzero(accepted)
    extent = float(np.median((boxes[:, 2:] - boxes[:, :2]).max(axis=1))) if len(boxes) else 1.0
    chosen = chosen[reading_order(x[chosen], y[chosen], extent)] if len(chosen) else chosen
    columns: dict[str, Array] = {
        "id": np.arange(1, len(chosen) + 1), "x": x[chosen], "y": y[chosen], "score": score[chosen],
        "log_nfa": significance[chosen],
        "detector": np.array([present[owner[k]] for k in chosen.tolist()], str), "number": number[chosen].astype(np.int64),
        "also": np.array([", ".join(also.get(k, ())) for k in chosen.tolist()], str),
    }  # fmt: skip
    declared = [_with_codes(c, columns) for c in COLUMNS]
    geometry = _geometry(d for _, d in parts)
    columns |= {c.name: column(c.name)[chosen] for c in geometry}
    return Combined(tuple(of), Findings(columns, (*declared, *geometry)), len(row) - len(chosen))


def _with_codes(column: Column, columns: dict[str, Array]) -> Column:
    """The column as declared; one of texts is turned into places in the column's names."""
    if columns[column.name].dtype.kind != "U":
        return column
    names, codes = np.unique(columns[column.name], return_inverse=True)
    columns[column.name] = codes.astype(np.int64)
    return replace(column, names=tuple(str(n) for n in names))


def _geometry(detections: Iterable[Detection]) -> tuple[Column, ...]:
    """Columns of the detectors that say where and how large a finding is, those of `COLUMNS` apart."""
    known = {c.name for c in COLUMNS}
    found = {c.name: c for d in detections for c in d.findings.declared.values() if c.quantity not in ("", "row", "slope")}
    return tuple(c for name, c in found.items() if name not in known)


def _resampled(d: Detection, row: int) -> NDArray[np.float64]:
    """Points along the outline of a finding about 2 px apart; its position if it has none."""
    if not len(d.outlines):
        return np.array([[float(d.findings["x"][row]), float(d.findings["y"][row])]])
    points = np.asarray(d.outlines[row], float)
    if d.outlines.closed[row] and len(points):
        points = np.concatenate([points, points[:1]])
    if len(points) < 2:
        return points.reshape(-1, 2)
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
    at = np.linspace(0.0, along[-1], max(2, int(along[-1] / _SPACING) + 1))
    return np.stack([np.interp(at, along, points[:, k]) for k in (0, 1)], axis=1)


def _alike(a: NDArray[np.float64], b: NDArray[np.float64]) -> bool:
    """Whether more than half of each outline runs along the other."""
    from scipy.spatial import cKDTree  # here, since loading it takes time

    extent = min(float((p.max(axis=0) - p.min(axis=0)).max()) for p in (a, b))
    near = max(_NEAR, _NEAR_SHARE * extent)
    shares = [float((cKDTree(q).query(p)[0] <= near).mean()) for p, q in ((a, b), (b, a))]
    return min(shares) > _SAME
