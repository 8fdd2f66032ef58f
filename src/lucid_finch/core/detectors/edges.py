"""Edges: where grey levels change fastest, as ordered chains of sub-pixel points.

Gradient, suppression along its direction, hysteresis and linking follow Canny (PAMI 8(6), 1986); the sub-pixel position and
the linking are described in `numerics.edges.edge_points` and `numerics.edges.chains`, acceptance by the expected number of false alarms
in `numerics.edges.chain_significance`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import model_validator

from lucid_finch.core.detection import Array, Column, EvidenceMap, Outlines
from lucid_finch.core.detector import Candidates, Context, Detector, DetectorParameters, Finished, Reason, Work
from lucid_finch.core.detectors.shared.edge_features import SLOPE, GradientMaps, measured_points
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Limit
from lucid_finch.core.numerics.edges import chain_significance
from lucid_finch.core.numerics.edges.background import Background
from lucid_finch.core.numerics.edges.chains import Chains, chain_medians
from lucid_finch.core.numerics.edges.edge_points import EdgePoints
from lucid_finch.core.numerics.edges.significant_chains import linked
from lucid_finch.core.parameters import Length, forms, gathers, judges
from lucid_finch.core.regions import blocked_pixels


class EdgesParameters(DetectorParameters):
    """Parameters of `edges`."""

    operator: Literal["gaussian", "sobel", "scharr", "prewitt", "difference"] = gathers(
        "gaussian",
        label="Operator",
        help="How the gradient is taken after smoothing. Each is scaled so that a ramp of one grey level per pixel gives 1.",
    )
    sigma: float = gathers(
        1.2,
        label="Smoothing",
        unit="px",
        least=0.0,
        most=50.0,
        usual=(0.0, 6.0),
        help="Standard deviation of the Gaussian smoothing. More finds fainter and softer edges, less separates closer ones.",
    )
    low: float | None = forms(
        None,
        label="Weakest link",
        unit=SLOPE,
        above=0.0,
        usual=(0.0, 30.0),
        auto=f"{chain_significance.Z_LOW:g} times the background's gradient around each point",
        help="Lower hysteresis limit: points with a smaller gradient belong to no chain.",
    )
    high: float | None = judges(
        None,
        label="Strongest link, at least",
        unit=SLOPE,
        above=0.0,
        usual=(0.0, 60.0),
        criterion="reach",
        auto="acceptance by false alarms instead",
        help="Upper hysteresis limit: a chain stands if it, or what it touches, is somewhere at least this strong. "
        "Given, it replaces the acceptance by false alarms.",
    )
    false_alarms: float = judges(
        0.01,
        label="False alarms",
        unit="an image",
        above=0.0,
        most=1e6,
        usual=(1e-12, 100.0),
        criterion="log_nfa",
        scale="expected",
        help="Accept chains that the image's own background would bring forth less often than this. "
        "Without effect where the strongest link is given.",
    )
    length_min: Length = judges(
        Length(0.0),
        label="Length, at least",
        unit="px",
        usual=(0.0, 300.0),
        criterion="length",
        help="Shorter chains are dropped: px, or % of the image's diagonal, %w, %h.",
    )
    subpixel: bool = forms(
        True, label="Sub-pixel", help="Points between pixel centres where the edge is; otherwise at the centres of the pixels."
    )

    @model_validator(mode="after")
    def _ordered(self) -> EdgesParameters:
        if self.low is not None and self.high is not None and self.high < self.low:
            raise ValueError(f"high = {self.high:g} is not allowed; it must be at least low, which is {self.low:g}")
        return self


@dataclass(frozen=True)
class Gathered:
    """Thinned points above a floor, and the background they were measured against."""

    points: EdgePoints
    background: Background

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
        Column("log_nfa", "sureness", "", "-log10 of the expected number of false alarms", 1),
        Column("length", "length", "px", "along the chain", 1, "length"),
        Column("strength", "strength", SLOPE, "median gradient", 2, "slope"),
        Column("peak", "strongest", SLOPE, "largest gradient", 2, "slope"),
        Column("closed", "closed", "", "1 where the end meets the start", 0),
        Column("points", "points", "", "number of points", 0),
    )
    criteria = (Column("reach", "strongest link", SLOPE, "largest gradient of all that the chain touches", 2, "slope"),)

    def gather(self, image: Image, parameters: EdgesParameters, context: Context) -> Gathered:
        points, background = measured_points(
            image, parameters.region, parameters.sigma, context, parameters.operator, self.floor(parameters)
        )
        return Gathered(points, background)

    def floor(self, parameters: EdgesParameters) -> float | None:
        # Left open, the lower limit follows from the background. Given, the floor is the next power of two below it.
        return None if parameters.low is None else 2.0 ** math.floor(math.log2(parameters.low))

    def form(self, image: Image, gathered: Gathered, parameters: EdgesParameters) -> Candidates:
        points, background = gathered.points, gathered.background
        low = parameters.low
        if low is not None:
            points = points.take(points.strength >= np.float32(low))
        found = linked(points, background, (image.width, image.height), low)
        chains, log_nfa, count = found.chains, found.log_nfa, np.diff(found.chains.start)
        # Linking needs to know where the edge runs, whatever is reported.
        points = points if parameters.subpixel else points.at_centres()
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

    def limits(self, image: Image, gathered: Gathered, parameters: EdgesParameters) -> tuple[Limit, ...]:
        found = super().limits(image, gathered, parameters)
        return tuple(l for l in found if l.parameter != "false_alarms") if parameters.high is not None else found

    def resolved(self, image: Image, gathered: Gathered, parameters: EdgesParameters) -> dict[str, Any]:
        typical = gathered.background.typical
        return {
            "low": parameters.low if parameters.low is not None else chain_significance.Z_LOW * typical,
            "background": typical,
            "background_correlation": gathered.background.correlation,
        }

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["log_nfa"] > -1.0)

    def finish(
        self, image: Image, gathered: Gathered, candidates: Candidates, chosen: NDArray[np.int64], parameters: EdgesParameters
    ) -> Finished:
        formed: _Formed = candidates.detail
        points, chains = formed.points, formed.chains
        count = np.diff(chains.start)[chosen]
        start = np.concatenate([[0], np.cumsum(count)]).astype(np.int64)

        def chosen_points() -> tuple[NDArray[np.int64], NDArray[np.int32]]:
            """Place along its chain and index of each point of the chosen chains."""
            place = np.arange(start[-1]) - np.repeat(start[:-1], count)
            return place, chains.order[np.repeat(chains.start[:-1][chosen], count) + place]

        index = chosen_points()[1]
        columns = {name: values[chosen] for name, values in candidates.columns.items()}
        for name in ("x", "y", "length", "peak", "reach"):
            columns[name] = columns[name].astype(float)
        columns["strength"] = chain_medians(points.strength[index], start)
        sure = np.maximum(columns["log_nfa"], 0.0)
        columns["score"] = sure / (sure + 10.0)
        xy = np.stack([points.x[index], points.y[index]], axis=1)

        # Worked out anew: kept, they would take as much memory as the points themselves.
        def listed() -> dict[str, Array]:
            place, index = chosen_points()
            return {
                "x": points.x[index],
                "y": points.y[index],
                "direction": np.degrees(np.arctan2(points.gy[index], points.gx[index])) % 360.0,
                "strength": points.strength[index],
                "chain": np.repeat(np.arange(len(chosen)), count),
                "place": place,
            }

        return Finished(columns, Outlines(xy, start, chains.closed[chosen]), listed)

    def evidence(self, work: Work) -> list[EvidenceMap]:
        maps = _maps(work.image, work.gathered, work.parameters)

        @cache
        def standing() -> tuple[EdgePoints, NDArray[np.bool_]]:
            formed: _Formed = work.candidates.detail
            keep = np.zeros(len(formed.chains), bool)
            keep[work.judgement.found] = True
            kept = np.zeros(len(formed.points), bool)
            kept[formed.chains.order[np.repeat(keep, np.diff(formed.chains.start))]] = True
            return formed.points, kept

        return [*maps.listed(), maps.marked("edges", "edges", "points of the chains that stand", standing)]

    def distances(self, candidates: Candidates, x: float, y: float) -> Array:
        formed: _Formed = candidates.detail
        if not len(formed.chains):
            return np.empty(0)
        order = formed.chains.order
        far = (formed.points.x[order] - np.float32(x)) ** 2 + (formed.points.y[order] - np.float32(y)) ** 2
        return np.sqrt(np.minimum.reduceat(far, formed.chains.start[:-1]))

    def probe(self, image: Image, gathered: Gathered, parameters: EdgesParameters, x: float, y: float) -> list[Reason]:
        maps = _maps(image, gathered, parameters)
        reach = 3
        column, row = round(x), round(y)
        box = (
            max(column - reach, 0),
            max(row - reach, 0),
            min(column + reach + 1, image.width),
            min(row + reach + 1, image.height),
        )
        magnitude = maps.magnitude(*box)
        limit = float(maps.limit(*box).max())
        measured = float(magnitude.max(initial=0.0))
        where = np.unravel_index(int(np.argmax(magnitude)), magnitude.shape)
        u, v = image.frame.to_source(box[0] + float(where[1]), box[1] + float(where[0]))
        reasons = []
        blocked = blocked_pixels(image, parameters.region, len(maps.kernels[0]) // 2)
        if blocked is not None and blocked[min(row, image.height - 1), min(column, image.width - 1)]:
            reasons.append(
                Reason("region", 0.0, None, "", False, "this place is outside the region, or its pixels are not valid")
            )
        enough = measured >= limit
        text = f"the strongest gradient within {reach} px is {measured:.2f} {SLOPE}, at ({u:.0f}, {v:.0f}); "
        if enough:
            text += "it is no maximum along its own direction: it belongs to the flank of an edge nearby"
        else:
            text += f"the weakest link must have {limit:.2f}, {chain_significance.Z_LOW:g} times the background here"
            if parameters.low is not None:
                text = text[: text.index("the weakest link")] + f"the weakest link must have {limit:.2f}"
        change = None if enough or measured <= 0 else ("low", float(f"{0.98 * measured:.3g}"))
        reasons.append(Reason("gradient", measured, limit, SLOPE, enough, text, change))
        return reasons


def _maps(image: Image, gathered: Gathered, parameters: EdgesParameters) -> GradientMaps:
    return GradientMaps(image, gathered.points, gathered.background, parameters.sigma, parameters.operator, parameters.low)
