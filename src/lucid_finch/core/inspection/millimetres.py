"""Columns in millimetres beside those in pixels, by the quantity that each column declares, with propagated uncertainty."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import NO_OUTLINES, Outlines
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.inspection.metric_parameters import metric_ends
from lucid_finch.core.numerics.regions.outlines import measure_outlines
from lucid_finch.core.table import Array, Column

Floats = NDArray[np.float64]

_ENDINGS = {
    **dict.fromkeys(("x", "y", "x error", "y error", "length", "across", "path", "box", "length error"), "mm"), "area": "mm2"
}  # fmt: skip
_UNITS = {"mm": "mm", "mm2": "mm²"}


def metric_name(column: Column) -> str:
    """Name of the column in millimetres that goes with a column, such as radius_mm or area_mm2; "" if there is none."""
    ending = _ENDINGS.get(column.quantity)
    return f"{column.name}_{ending}" if ending is not None else ""


def metric_columns(declared: Sequence[Column], px_per_mm: float = 1.0) -> tuple[Column, ...]:
    """The columns in millimetres that go with the declared ones; of digits, as many as pixels show at that scale."""
    more = max(0, math.ceil(math.log10(max(px_per_mm, 1e-6))))
    found = []
    for column in declared:
        name = metric_name(column)
        if name:
            unit = _UNITS[_ENDINGS[column.quantity]]
            digits = column.digits + (2 * more if unit == "mm²" else more)
            help_text = column.help.replace("from the noise alone", "from the noise and the calibration")
            found.append(
                replace(column, name=name, unit=unit, digits=digits, help=f"{help_text}, in the calibrated plane", pair="")
            )
    return tuple(found)


def in_millimetres(
    calibration: Calibration, columns: Mapping[str, Array], declared: Sequence[Column],
    outlines: Callable[[], Outlines] = lambda: NO_OUTLINES, wanted: Collection[str] | None = None,
) -> dict[str, Array]:  # fmt: skip
    """Columns in millimetres by name, of rows in the source frame.

    `outlines`: of the rows, where there are some: lengths along them and areas follow them through the perspective. `wanted`:
    only these.
    """
    by_name = {metric_name(c): c for c in declared if metric_name(c) and (wanted is None or metric_name(c) in wanted)}
    made = _Conversion(calibration, columns, declared, outlines)
    return {name: made.column(column) for name, column in by_name.items()}


def with_metric_criteria(task: Any) -> Any:
    """A detector's `Task` whose candidates have the columns in millimetres that its limits compare."""
    detector, candidates = task.detector, task.candidates
    given = task.given
    wanted = [
        column
        for name, declared in given.declarations().items()
        for end in metric_ends(declared, getattr(given, name))
        if (column := (declared.upper_criterion if end == 1 else "") or declared.criterion)
    ]
    if not wanted or task.calibration is None:
        return task
    declared_columns = (*detector.all_columns(), *detector.criteria)
    names = {metric_name(detector.criterion(column)) for column in wanted}
    found = in_millimetres(
        task.calibration, candidates.columns, declared_columns, lambda: detector.outlines(task, np.arange(len(candidates))), names
    )
    return replace(task, candidates=replace(candidates, columns={**candidates.columns, **found}))


class _Conversion:
    """Numbers of one table; what several columns need is worked out once."""

    def __init__(
        self, calibration: Calibration, columns: Mapping[str, Array], declared: Sequence[Column],
        outlines: Callable[[], Outlines],
    ) -> None:  # fmt: skip
        self.calibration, self.columns, self._outlines = calibration, columns, outlines
        self.declared = {c.name: c for c in declared}
        self.x, self.y = (np.asarray(columns[name], float) for name in ("x", "y"))
        # An x or y error belongs to the pair that names both.
        self._x_of = {c.pair: c.name for c in declared if c.quantity in ("x", "x error")}
        self._known: dict[str, Any] = {}

    def _once(self, key: str, make: Callable[[], Any]) -> Any:
        if key not in self._known:
            self._known[key] = make()
        return self._known[key]

    def column(self, column: Column) -> Floats:
        values = np.asarray(self.columns[column.name], float)
        match column.quantity:
            case "x" | "y":
                along = column.name if column.quantity == "x" else self._x_of[column.name]
                down = self.declared[along].pair
                both = self._once(along, lambda: self.calibration.to_plane(self.columns[along], self.columns[down]))
                found: Any = both[0 if column.quantity == "x" else 1]
            case "x error" | "y error":
                along = column.name if column.quantity == "x error" else self._x_of[column.name]
                both = self._once(along, lambda: self._errors(along, self.declared[along].pair))
                found = both[0 if column.quantity == "x error" else 1]
            case "length" | "across" if column.pair:
                found = self._along(values, column)
            case "path":
                found = values * self._ratio(closed=False)
            case "box":
                found = values * self._box_ratio(column.name)
            case "area":
                found = values * self._ratio(closed=True)
            case "length error":
                of = self.declared[column.pair]
                # The scale along the same way, and the scale's own error.
                local = self.column(of) / np.asarray(self.columns[column.pair], float)
                found = np.hypot(values * local, self.column(of) * self._scale_error)
            case _:
                found = values * self._scale
        return np.asarray(found, float)

    @property
    def _slopes(self) -> Floats:
        return np.asarray(self._once("slopes of the plane", lambda: self.calibration.slopes(self.x, self.y)))

    @property
    def _scale(self) -> Floats:
        """mm for each px, whatever the direction."""
        return np.sqrt(np.abs(np.linalg.det(self._slopes)))

    @property
    def _scale_error(self) -> Floats:
        return np.asarray(self._once("scale error", lambda: self.calibration.relative_scale_error(self.x, self.y)))

    def _errors(self, along: str, down: str) -> tuple[Floats, Floats]:
        noise = np.stack([np.asarray(self.columns[name], float) ** 2 for name in (along, down)], axis=-1)
        own = self._once("place covariance", lambda: self.calibration.place_covariance(self.x, self.y))
        total = (self._slopes**2 @ noise[..., None])[..., 0] + np.diagonal(own, axis1=-2, axis2=-1)
        return np.sqrt(total[..., 0]), np.sqrt(total[..., 1])

    def _along(self, values: Floats, column: Column) -> Floats:
        """Lengths that lie along a direction, their middle at x, y: the distance of both ends in the plane."""
        turn = np.radians(np.asarray(self.columns[column.pair], float) + (90.0 if column.quantity == "across" else 0.0))
        # What is short is measured over a pixel, and scaled.
        reach = 0.5 * np.maximum(np.nan_to_num(values), 1.0)
        dx, dy = reach * np.cos(turn), reach * np.sin(turn)
        (x1, y1), (x2, y2) = (self.calibration.to_plane(self.x + s * dx, self.y + s * dy) for s in (-1.0, 1.0))
        return np.asarray(np.hypot(x2 - x1, y2 - y1) * values / (2 * reach))

    def _ratio(self, closed: bool) -> Floats:
        """mm² for each px² within the outlines, or mm for each px along them; where there are none, at x, y."""
        outlines: Outlines = self._once("outlines", self._outlines)
        local = self._scale**2 if closed else self._scale
        if not len(outlines):
            return local
        before, after = self._once("sizes", lambda: self._sizes(outlines))
        which = 1 if closed else 0
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = after[which] / before[which]
        return np.where(np.isfinite(ratio) & (before[which] > 0), ratio, local)

    def _box_ratio(self, side: str) -> Floats:
        """mm for each px of a side of the smallest rectangle around each outline, in the plane and in the picture."""
        outlines: Outlines = self._once("outlines", self._outlines)
        if not len(outlines):
            return self._scale

        def boxes() -> tuple[Any, Any]:
            points = np.asarray(outlines.points, float)
            there = np.stack(self.calibration.to_plane(points[:, 0], points[:, 1]), axis=1) * self.calibration.scale
            columns = (np.ascontiguousarray(one) for one in (*points.T, *np.nan_to_num(there).T))
            x, y, u, v = columns
            return measure_outlines(x, y, outlines.start), measure_outlines(u, v, outlines.start)

        before, after = self._once("boxes", boxes)
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = after[side] / (before[side] * self.calibration.scale)
        return np.where(np.isfinite(ratio), ratio, self._scale)

    def _sizes(self, outlines: Outlines) -> tuple[tuple[Floats, Floats], tuple[Floats, Floats]]:
        points = np.asarray(outlines.points, float)
        there = np.stack(self.calibration.to_plane(points[:, 0], points[:, 1]), axis=1)
        return _lengths_and_areas(points, outlines), _lengths_and_areas(there, outlines)


def _lengths_and_areas(points: Floats, outlines: Outlines) -> tuple[Floats, Floats]:
    """Length and area of each outline; open ones have no area."""
    start, closed = outlines.start, outlines.closed
    count = np.diff(start)
    follows = np.arange(1, len(points) + 1)
    ends, full = start[1:] - 1, count > 0
    follows[ends[full]] = start[:-1][full]
    steps = points[follows] - points
    if len(ends):
        # The way back to the start is none of an open line.
        steps[ends[full & ~closed]] = 0.0
    length, cross = np.hypot(*steps.T), points[:, 0] * points[follows, 1] - points[follows, 0] * points[:, 1]
    owner = np.repeat(np.arange(len(outlines)), count)
    lengths = np.asarray(np.bincount(owner, length, minlength=len(outlines)), np.float64)
    areas = 0.5 * np.abs(np.bincount(owner, cross, minlength=len(outlines)))
    return lengths, np.asarray(np.where(closed, areas, 0.0), np.float64)
