"""Edges: where grey levels change fastest, as ordered chains of sub-pixel points.

Gradient, non-maximum suppression, hysteresis and linking follow Canny (PAMI 8(6), 1986); the sub-pixel position and the linking
are described in `numerics.edges.edge_points` and `numerics.edges.chains`, acceptance by the expected number of false alarms in
`numerics.edges.chain_significance`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import model_validator

from lucid_finch.core.detection import EvidenceMap, Outlines
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Finished, Reason, Task
from lucid_finch.core.detectors.shared.declarations import FALSE_ALARMS_COLUMN, false_alarms_parameter, sigma_parameter
from lucid_finch.core.detectors.shared.edge_features import (
    ABOVE_NOISE,
    SLOPE,
    GradientMaps,
    chains_of,
    measured_points,
    other_smoothings,
    smoothing_of,
)
from lucid_finch.core.image import LARGEST
from lucid_finch.core.numerics.edges import chain_significance
from lucid_finch.core.numerics.edges.background import Background
from lucid_finch.core.numerics.edges.chains import Chains, chain_medians
from lucid_finch.core.numerics.edges.edge_points import EdgePoints
from lucid_finch.core.numerics.edges.significant_chains import significant_chains
from lucid_finch.core.numerics.edges.smoothing_choice import SmoothingChoice
from lucid_finch.core.numerics.ragged import owners, places, take_rows
from lucid_finch.core.parameters import Length, forms, gathers, judges
from lucid_finch.core.table import Array, Column


class EdgesParameters(DetectorParameters):
    """Parameters of `edges`."""

    operator: Literal["gaussian", "sobel", "scharr", "prewitt", "difference"] = gathers(
        "gaussian",
        label="Gradient operator",
        help="How the gradient is computed after smoothing. Each is scaled so that a ramp of one grey level per pixel gives 1.",
        more=True,
    )
    sigma: float | None = sigma_parameter(
        least=0.0, usual=(0.0, 6.0), help="More finds fainter edges, less separates closer ones."
    )
    low: float | None = forms(
        None,
        label="Low threshold",
        unit=SLOPE,
        above=0.0,
        usual=(0.0, 30.0),
        auto=f"{chain_significance.Z_LOW:g} times the background gradient around each point",
        help="Lower hysteresis threshold: points with a smaller gradient belong to no chain.",
    )
    high: float | None = judges(
        None,
        label="High threshold",
        unit=SLOPE,
        above=0.0,
        usual=(0.0, 60.0),
        criterion="reach",
        auto="acceptance by false alarms instead",
        help="Upper hysteresis threshold: a chain is accepted if its strongest point, or that of a chain it touches, reaches "
        "this gradient. If given, it replaces acceptance by false alarms.",
    )
    false_alarms: float = false_alarms_parameter(
        "Accept chains that the image's background produces less often than this. No effect if a high threshold is given.",
        unless="high",
    )
    length_min: Length = judges(
        Length(0.0),
        label="Length, min",
        unit="px",
        usual=(0.0, 300.0),
        criterion="length",
        help="Shorter chains are rejected: px, or % of the image's diagonal, %w, %h.",
    )
    subpixel: bool = forms(
        True,
        label="Sub-pixel",
        help="Points at the sub-pixel edge position; otherwise at the centres of the pixels.",
        more=True,
    )

    @model_validator(mode="after")
    def _ordered(self) -> EdgesParameters:
        if self.low is not None and self.high is not None and self.high < self.low:
            raise ValueError(f"high = {self.high:g} is not allowed; it must be at least low, which is {self.low:g}")
        return self


@dataclass(frozen=True)
class Gathered:
    """Thinned points above a floor, and the background that they were measured against."""

    points: EdgePoints
    background: Background
    smoothing: SmoothingChoice

    @property
    def nbytes(self) -> int:
        return self.points.nbytes + self.background.nbytes


@dataclass(frozen=True)
class _Formed:
    points: EdgePoints
    chains: Chains

    @property
    def nbytes(self) -> int:
        return self.points.nbytes + self.chains.order.nbytes


class Edges(Detector):
    kind = "edges"
    purpose = "Where grey levels change fastest: ordered chains of sub-pixel points."
    Parameters = EdgesParameters
    columns = (
        FALSE_ALARMS_COLUMN,
        Column("length", "length", "px", "along the chain", 1, "path"),
        Column("strength", "strength", SLOPE, "median gradient", 2, "slope"),
        Column("peak", "peak strength", SLOPE, "largest gradient", 2, "slope"),
        Column("closed", "closed", "", "1 if the end meets the start", 0, scale="flag"),
        Column("points", "points", "", "number of points", 0),
    )
    criteria = (Column("reach", "peak strength", SLOPE, "largest gradient of all chains that it touches", 2, "slope"),)
    main_maps = ("magnitude", "thinned", "edges")

    def gather(self, task: Task) -> Gathered:
        given: EdgesParameters = task.parameters
        floor = self.floor(given)
        floor = None if floor is None else floor * task.image.frame.scale
        smoothing = smoothing_of(task.image, given.region, given.sigma, task.context)
        points, background = measured_points(task.image, given.region, smoothing.sigma, task.context, given.operator, floor)
        return Gathered(points, background, smoothing)

    def floor(self, parameters: EdgesParameters) -> float | None:
        # Automatic, the low threshold follows from the background. Given, the floor is the next power of two below it.
        return None if parameters.low is None else 2.0 ** math.floor(math.log2(parameters.low))

    def settle(self, task: Task) -> EdgesParameters:
        given: EdgesParameters = task.parameters
        return given.model_copy(update={"sigma": task.gathered.smoothing.sigma})

    def remedies(self, task: Task) -> list[dict[str, Any]]:
        return other_smoothings(task.parameters.sigma, task.given.sigma)

    def notes(self, task: Task) -> tuple[str, ...]:
        gathered: Gathered = task.gathered
        return gathered.smoothing.notes()

    def form(self, task: Task) -> Candidates:
        gathered: Gathered = task.gathered
        points, background = gathered.points, gathered.background
        low = _own_low(task)
        if low is None:
            given: EdgesParameters = task.parameters
            found = chains_of(task.image, given.region, gathered.smoothing.sigma, task.context, given.operator)
        else:
            points = points.take(points.strength >= np.float32(low))
            found = significant_chains(points, background, (task.image.width, task.image.height), low)
        chains, log_nfa, count = found.chains, found.log_nfa, np.diff(found.chains.start)
        # Linking needs the position of the edge, whatever is reported.
        points = points if task.parameters.subpixel else points.at_centres()
        middle = chains.order[(chains.start[:-1] + chains.start[1:] - 1) // 2] if len(chains) else np.empty(0, np.int32)
        columns = {
            "x": points.x[middle],
            "y": points.y[middle],
            "length": chains.length,
            "peak": chains.peak,
            "reach": chains.reach,
            "closed": chains.closed.astype(np.int8),
            "points": count.astype(np.int32),
            "log_nfa": log_nfa,
        }
        # What has become a column need not be kept twice.
        none = np.empty(0, np.float32)
        chains = replace(chains, reach=none, length=none, energy=none, peak=none)
        return Candidates(columns, log_nfa, size=40.0, detail=_Formed(points, chains))

    def measured(self, task: Task) -> dict[str, Any]:
        background, scale = task.gathered.background, task.image.frame.scale
        low = task.parameters.low
        return {
            "low": low if low is not None else chain_significance.Z_LOW * background.typical / scale,
            "background": background.typical / scale,
            "background_correlation": background.correlation * scale,
        }

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["log_nfa"] > -1.0)

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        formed: _Formed = task.candidates.detail
        points, chains = formed.points, formed.chains
        entries, start = take_rows(chains.start, chosen)
        index = chains.order[entries]
        columns = {name: values[chosen] for name, values in task.candidates.columns.items()}
        for name in ("x", "y", "length", "peak", "reach"):
            columns[name] = columns[name].astype(float)
        columns["strength"] = chain_medians(points.strength[index], start) / task.image.frame.scale
        significance = np.maximum(columns["log_nfa"], 0.0)
        columns["score"] = significance / (significance + 10.0)
        xy = np.stack([points.x[index], points.y[index]], axis=1)

        # Computed when asked for: kept, they would take as much memory as the points themselves.
        def listed() -> dict[str, Array]:
            index = chains.order[take_rows(chains.start, chosen)[0]]
            return {
                "x": points.x[index],
                "y": points.y[index],
                "direction": np.degrees(np.arctan2(points.gy[index], points.gx[index])) % 360.0,
                "strength": points.strength[index],
                "chain": owners(start),
                "place": places(start),
            }

        return Finished(columns, Outlines(xy, start, chains.closed[chosen]), listed)

    def outlines(self, task: Task, chosen: NDArray[np.int64]) -> Outlines:
        formed: _Formed = task.candidates.detail
        entries, start = take_rows(formed.chains.start, chosen)
        index = formed.chains.order[entries]
        x, y = task.image.frame.to_source(formed.points.x[index].astype(float), formed.points.y[index].astype(float))
        return Outlines(np.stack([x, y], axis=1), start, formed.chains.closed[chosen])

    def evidence(self, task: Task) -> list[EvidenceMap]:
        maps = _maps(task)

        @cache
        def accepted() -> tuple[EdgePoints, NDArray[np.bool_]]:
            formed: _Formed = task.candidates.detail
            keep = np.zeros(len(formed.chains), bool)
            keep[task.judgement.found] = True
            kept = np.zeros(len(formed.points), bool)
            kept[formed.chains.order[keep[owners(formed.chains.start)]]] = True
            return formed.points, kept

        return [*maps.listed(), maps.marked("edges", "edges", "points of the accepted chains", accepted)]

    def distances(self, task: Task, x: float, y: float) -> Array:
        formed: _Formed = task.candidates.detail
        if not len(formed.chains):
            return np.empty(0)
        u, v = task.image.frame.from_source(x, y)
        order = formed.chains.order
        far = (formed.points.x[order] - np.float32(u)) ** 2 + (formed.points.y[order] - np.float32(v)) ** 2
        return np.sqrt(np.minimum.reduceat(far, formed.chains.start[:-1])) * task.image.frame.scale

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        maps = _maps(task)
        near = maps.strongest_near(x, y)
        reasons = self.outside(task, x, y, len(maps.kernels[0]) // 2)
        enough = near.measured >= near.limit
        noise = chain_significance.Z_LOW * float(maps.background.typical) / task.image.frame.scale
        text = f"the strongest gradient within {near.reach} px is {near.measured:.2f} {SLOPE}, at ({near.x:.0f}, {near.y:.0f}); "
        if enough:
            text += "it is no maximum along its own direction: it belongs to the flank of an edge nearby"
        else:
            text += f"the low threshold is {near.limit:.2f}"
            if task.parameters.low is None:
                text += f", {chain_significance.Z_LOW:g} times the background here"
        # With automatic thresholds, which are lower here, its significance decides.
        nothing = not enough and near.measured < ABOVE_NOISE * noise
        given = {name: None for name in ("low", "high") if getattr(task.parameters, name) is not None}
        change = given if given and not enough and near.measured >= noise else None
        return [*reasons, Reason("gradient", near.measured, near.limit, SLOPE, enough, text, change, nothing)]


def _own_low(task: Task) -> float | None:
    """The low threshold in grey levels per px of the image."""
    low: float | None = task.parameters.low
    return None if low is None else min(low * task.image.frame.scale, LARGEST)


def _maps(task: Task) -> GradientMaps:
    gathered: Gathered = task.gathered
    parameters: EdgesParameters = task.parameters
    sigma = gathered.smoothing.sigma
    return GradientMaps(task.image, gathered.points, gathered.background, sigma, parameters.operator, _own_low(task))
