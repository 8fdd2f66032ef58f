"""What circles and ellipses have in common: how their rims are judged and described, and their evidence."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap, MapLinks, Outlines, Votes
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Finished, Reason, Task
from lucid_finch.core.detectors.shared.declarations import false_alarms_parameter, sigma_parameter
from lucid_finch.core.detectors.shared.edge_features import ABOVE_NOISE, SLOPE, GradientMaps, OrientedPoints, other_smoothings
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Exclusions, Limit
from lucid_finch.core.numerics.edges.edge_points import EdgePoints
from lucid_finch.core.numerics.fitting.rim_support import Rims, own_coverage, rim_tolerance, shared_points
from lucid_finch.core.numerics.hough.line_votes import relative_entropy
from lucid_finch.core.numerics.ragged import owners
from lucid_finch.core.numerics.suppression import close_pairs
from lucid_finch.core.parameters import Range, forms, judges
from lucid_finch.core.table import Array, Column

LEAST = 5.0
"""px: the smallest automatic radius or semi-axis."""
_SPECK = 2.2
"""Times the smoothing that the smallest automatic size is at least."""
COVERAGE_FLOOR = 0.3
"""Rims with a lower coverage are not gathered unless asked for."""
COVERAGE = 0.4
"""The automatic minimum of the coverage,"""
ALL_AROUND = 0.3
"""and that of rims with parts in every direction, such as the tips of a gear's teeth."""
_DIRECTIONS = 12
_PARTS = 60
"""Of a rim that tell where it is seen."""
SIZE_TOLERANCE = 0.15
"""px by which a size may miss the range that was asked for: about two standard deviations of a small, faint one."""
BEYOND = 1.25
"""Sizes up to so many times outside the range are gathered as near misses."""
_SLACK = 2.0
USUAL = (0.2, 0.008)
"""px, and px a px of size, that a rim lies off its shape."""
_SURE = 5.0
"""-log10 of expected false alarms up to which a rim has to be near its shape; from twice as many on it is sure."""
_PARTLY = 0.45, 0.7
"""Coverage up to which much else would pass for a shape, and from which on little."""
LEAVING = 0.2
"""Share of the points of a rim's chains that may leave it along a tangent, if it deviates in no other way."""
_PLURAL = 0.5
"""Two rims that share more than this of the points of the smaller one are the same."""
POLARITIES = ("dark", "bright")


class RoundParameters(DetectorParameters):
    """Parameters of `circles` and `ellipses` but for their sizes."""

    sigma: float | None = sigma_parameter(more=True)
    polarity: Literal["dark", "bright", "either"] = forms(
        "either",
        label="Polarity",
        criterion="agrees",
        admits="either",
        help="dark: darker inside the rim than outside; bright: brighter.",
    )
    false_alarms: float = false_alarms_parameter("Accept shapes that the image's background produces less often than this.")
    coverage_min: float | None = judges(
        None,
        label="Coverage, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="coverage",
        auto=f"{COVERAGE:g}, {ALL_AROUND:g} of circles with parts in all directions, as of gears; more for small shapes if no"
        " minimum size is given, since ends of bars are half circles, and for ellipses that are seen in short pieces",
        help="Share of the rim along which there are edge points.",
    )
    roundness_min: float = judges(
        0.85,
        label="Roundness, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="roundness",
        help="Share of the edge points of the rim's chains that are on it, rather than leave it along a tangent: low for squares"
        " and bars with round ends.",
        more=True,
    )
    deviation_max: float = judges(
        1.0,
        label="Deviation, max",
        least=0.0,
        most=100.0,
        usual=(0.0, 5.0),
        criterion="deviation",
        sense="at most",
        help="Systematic deviation of the rim from the shape, without noise, in units of the usual one: 0.2 px and 0.8 % of the"
        " size for a whole rim, half of that if half is visible; of circles that are no work of chance 3 %, and 3.6 % if most of"
        " them is visible. Chains that leave the rim along a tangent count too, and corners at even distances.",
        more=True,
    )
    turning_min: float = judges(
        0.6,
        label="Gradient rotation, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="turning",
        help="How much the gradient rotates along the rim, as a share of the rotation of its normal: none along straight sides.",
        more=True,
    )
    contrast_min_pct: float = judges(
        0.0,
        label="Contrast, min",
        unit="% of the value range",
        least=0.0,
        most=100.0,
        usual=(0.0, 50.0),
        criterion="contrast_pct",
        help="Step of the grey level at the rim.",
    )
    spacing: float = forms(
        0.0,
        label="Spacing, min",
        unit="px",
        least=0.0,
        most=1e5,
        usual=(0.0, 200.0),
        help="Of two shapes with closer centres only the more significant one is kept; 0 keeps both rims of a ring.",
        more=True,
    )


def most_shapes(image: Image) -> int:
    """How many shapes are looked for at most: more in larger images."""
    return max(3000, image.width * image.height // 400)


def left_out(dropped: int, most: int, what: str) -> tuple[str, ...]:
    """A note, where there were more than are looked at."""
    text = f"{dropped:,} of the weakest {what} were not looked at: the limit is {most:,} for an image of this size"
    return (text,) if dropped else ()


@dataclass(frozen=True)
class Gathered:
    """Rims with their measurements, in the frame of the image."""

    oriented: OrientedPoints
    which: NDArray[np.int64]
    """The edge point behind each point of a rim."""
    rims: Rims
    step: float
    tests: float
    """Natural logarithm of the number of shapes that can be distinguished."""
    range: tuple[float, float]
    """Minimum and maximum size, px of the image."""
    image: Image
    """What was looked at."""
    detail: Any = None
    notes: tuple[str, ...] = ()

    @property
    def nbytes(self) -> int:
        return self.oriented.nbytes + self.rims.support.nbytes + self.image.pixels.nbytes

    def voting(self) -> tuple[Array, Array, Array, Array]:
        """Positions and directions of the voting points, in the frame of the image."""
        o, which = self.oriented, self.which
        return o.points.x[which], o.points.y[which], o.nx[which], o.ny[which]


class RoundShapes(Detector):
    """Base of both; a subclass gathers, and computes sizes and outlines."""

    usual_sure: ClassVar[tuple[float, float]] = USUAL
    """The same of a rim that is no work of chance."""
    least_coverage: ClassVar[float] = COVERAGE
    """The lowest automatic minimum of the coverage."""
    mostly: ClassVar[float] = 0.5
    """Share of a rim below which it must agree even better."""
    rim_columns: ClassVar[tuple[str, ...]]
    """Columns of the rims that findings list as they are."""
    main_maps = ("magnitude", "accumulator", "supporting")
    criteria: ClassVar[tuple[Column, ...]] = (
        Column("turning", "gradient rotation", "", "rotation of the gradient along the rim over that of its normal", 2),
        Column("enough", "coverage for its size", "", "coverage over what such a shape needs", 2),
        Column("deviation", "deviation", "", "systematic deviation of the rim from the shape, in units of the usual one", 2),
        Column("agrees", "polarity", "", "1 if the polarity is the one asked for", 0),
    )
    near = 12.0
    failed_by_parts = frozenset({"coverage_min"})

    def size(self, columns: dict[str, Array]) -> Array:
        """Radius in px, or the mean of both semi-axes."""
        raise NotImplementedError

    def around(self, columns: dict[str, Array]) -> Array:
        """Length of the rim in px."""
        raise NotImplementedError

    def outline(self, columns: dict[str, Array], angles: Array) -> Array:
        """(n, angles, 2) points on the rims."""
        raise NotImplementedError

    def tolerance(self, columns: dict[str, Array]) -> Array:
        """px that points may lie off each rim; twice as much where either direction of the gradient counts."""
        return rim_tolerance(self.size(columns))

    def certainty(self, gathered: Gathered, gain: Array) -> Array:
        """0 to 1 for each rim: how little chance, or anything else that is partly round, explains it. `gain`: nats by which
        each is more than chance."""
        seen = gathered.rims.columns["coverage"]
        partly = np.clip((seen - _PARTLY[0]) / (_PARTLY[1] - _PARTLY[0]), 0.0, 1.0)
        return np.asarray(np.clip(gain / math.log(10) / _SURE - 1, 0.0, 1.0) * partly)

    def deviation(self, gathered: Gathered, gain: Array) -> Array:
        """Systematic deviation of each rim in units of the usual one, chains that leave it included. `gain`: nats by which each
        is more than chance."""
        c = gathered.rims.columns
        size, seen = self.size(c), c["coverage"]
        strict, wide = (fixed + growing * size for fixed, growing in (USUAL, self.usual_sure))
        usual = strict + self.certainty(gathered, gain) * np.maximum(wide - strict, 0.0)
        usual = usual * np.clip(seen, 0.5, 1.0) * np.clip(seen / self.mostly, 0.7, 1.0)
        return np.hypot(c["systematic_residual"] / usual, (1 - c["fidelity"]) / LEAVING)

    def remedies(self, task: Task) -> list[dict[str, Any]]:
        return [
            *other_smoothings(task.parameters.sigma, task.given.sigma),
            {"deviation_max": 2.0 * max(task.parameters.deviation_max, 0.5)},
        ]

    def notes(self, task: Task) -> tuple[str, ...]:
        gathered: Gathered = task.gathered
        return (*gathered.notes, *gathered.oriented.smoothing.notes())

    def floor(self, parameters: Any) -> Any:
        # Given lower than usual, the next step of a coarse ladder below it.
        wanted = parameters.coverage_min
        return None if wanted is None or wanted >= COVERAGE_FLOOR else max(0.05, math.floor(wanted * 20) / 20)

    def settle(self, task: Task) -> Any:
        given, scale = task.parameters, task.image.frame.scale
        sigma = task.gathered.oriented.smoothing.sigma
        sizes = size_range(getattr(given, self.sized_by), task.image, sigma)
        values: dict[str, Any] = {"sigma": sigma, self.sized_by: tuple(end * scale for end in sizes)}
        if given.coverage_min is None:
            values["coverage_min"] = self.least_coverage
        return given.model_copy(update=values)

    def frozen(self, task: Task) -> Any:
        if task.given.coverage_min is not None:
            return task.parameters
        # As a number it would hold for all shapes alike, and with a minimum size small ones would need no more than others.
        size = getattr(task.parameters, self.sized_by)
        size = (None, size[1]) if _has_no_least(getattr(task.given, self.sized_by)) else size
        return task.parameters.model_copy(update={"coverage_min": None, self.sized_by: size})

    def needed_coverage(self, task: Task, gain: Array, deviation: Array) -> Array:
        """Coverage that each rim needs where no minimum is given. `gain`: nats by which each is more than chance."""
        size = self.size(task.gathered.rims.columns)
        # Small shapes need more where no minimum size is given.
        low = 6.0 / size if _has_no_least(getattr(task.given, self.sized_by)) else np.zeros(len(size))
        return np.clip(low, COVERAGE, 0.8)

    def form(self, task: Task) -> Candidates:
        gathered: Gathered = task.gathered
        rims = gathered.rims
        c = rims.columns
        size, around = self.size(c), self.around(c)
        # The share of a rim that chance covers, and the gain in log-likelihood of what is covered.
        near = 2 * self.tolerance(c)
        chance = np.clip(1 - np.exp(-near * c["density"] * 0.36 / np.pi), 0.01, 0.5)
        steps = around / gathered.step
        gain = steps * relative_entropy(c["coverage"], chance) - gathered.tests
        deviation = self.deviation(gathered, gain)
        # Where rims share points, the sounder one has them.
        rank_score = gain * np.clip(c["fidelity"], 0.1, 1.0) / (1 + deviation**4)
        own = own_coverage(rims, around, rank_score)
        log_nfa = (steps * relative_entropy(own, chance) - gathered.tests) / math.log(10)
        pairs, share = shared_points(rims.start, rims.support)
        close = close_pairs(c["x"], c["y"], task.parameters.spacing / task.image.frame.scale)
        pairs = np.concatenate([pairs[share > _PLURAL], close])
        polarity = np.asarray(c["sign"] < 0, np.int8)
        asked = task.parameters.polarity
        agrees = np.ones(len(rims), bool) if asked == "either" else polarity == POLARITIES.index(asked)
        columns: dict[str, Array] = {
            **{n: c[n] for n in ("x", "y", "coverage", "rms", "contrast", "x_std", "y_std", *self.rim_columns)},
            "turning": np.clip(c["turning"], 0.0, 1.0),
            "deviation": deviation,
            "contrast_pct": 100 * c["contrast"] / task.image.span,
            "log_nfa": log_nfa,
            "roundness": c["fidelity"],
            "polarity": polarity,
            "agrees": np.asarray(agrees, float),
            "enough": c["coverage"] / self.needed_coverage(task, gain, deviation),
        }
        typical = float(np.median(size)) if len(rims) else 20.0
        return Candidates(columns, rank_score, typical, Exclusions("spacing", pairs, np.ones(len(pairs)), 0.0))

    def limits(self, task: Task) -> tuple[Limit, ...]:
        found = super().limits(task)
        if task.given.coverage_min is None:
            found += (Limit("coverage_min", "enough", "at least", 1.0, admits=self.least_coverage),)
        return found

    def measured(self, task: Task) -> dict[str, Any]:
        gathered: Gathered = task.gathered
        return {
            self.sized_by: [round(end, 2) for end in getattr(task.parameters, self.sized_by)],
            "background": gathered.oriented.background.typical / task.image.frame.scale,
            "points": len(gathered.oriented.points),
        }

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["log_nfa"] > -_SLACK)

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        gathered: Gathered = task.gathered
        rims = gathered.rims
        columns = {name: values[chosen] for name, values in task.candidates.columns.items()}
        rms = rims.columns["rms"][chosen]
        columns["score"] = columns["coverage"] * columns["roundness"] / (1 + (rms / 0.7) ** 2)
        angles = np.linspace(0, 2 * np.pi, 73)[:-1]
        xy = self.outline({name: values[chosen] for name, values in rims.columns.items()}, angles)
        start = np.arange(len(chosen) + 1, dtype=np.int64) * len(angles)

        def listed() -> dict[str, Array]:
            points, chain = rims.points_of(chosen)
            return dict(gathered.oriented.listed(gathered.which[points], chain))

        return Finished(columns, Outlines(xy.reshape(-1, 2), start, np.ones(len(chosen), bool)), listed)

    def steps(self, task: Task) -> tuple[GradientMaps, list[EvidenceMap], EvidenceMap]:
        """Maps of the gradient: their maker, those before the shapes, and the points of the accepted shapes."""
        gathered: Gathered = task.gathered
        points = gathered.oriented.points
        maps = GradientMaps(gathered.image, points, gathered.oriented.background, task.parameters.sigma)

        @cache
        def supporting() -> tuple[EdgePoints, NDArray[np.bool_]]:
            kept = np.zeros(len(points), bool)
            kept[gathered.which[gathered.rims.points_of(task.judgement.found)[0]]] = True
            return points, kept

        before = [m for m in maps.listed() if m.name in ("smoothed", "magnitude", "thinned")]
        return maps, before, maps.marked("supporting", "supporting", f"points of the accepted {self.kind}", supporting)

    def links(
        self, task: Task, points_at: Callable[[float, float], Array], votes_of: Callable[[float, float], list[Array]]
    ) -> MapLinks:
        """The links of the map of votes for centres; `points_at` gives the points (image) that voted for a cell."""
        centres = task.gathered.rims.columns

        def peaks() -> Array:
            return np.stack([centres["x"][task.rows], centres["y"][task.rows]], axis=1)

        def votes_at(column: float, row: float) -> Votes:
            every = np.concatenate([task.rows, task.judgement.order])
            away = np.hypot(centres["x"][every] - column, centres["y"][every] - row)
            # A found one before others, within 3 px.
            best = int(np.argmin(away)) if len(away) else -1
            candidate = int(every[best]) if best >= 0 and away[best] <= 3 else -1
            points = points_at(column, row)
            return Votes(candidate, np.stack(task.image.frame.to_source(points[:, 0], points[:, 1]), axis=1))

        return MapLinks(peaks, votes_at, votes_of)


@dataclass(frozen=True)
class VisibleShape:
    """What is visible around a place, whatever its size; px of the image."""

    sizes: tuple[float, float]
    """Minimum and maximum radius or semi-axis."""
    sign: float
    slope: float
    coverage: float
    text: str
    """In words, with `{inside}` where darker or brighter goes."""
    trace: Array
    """(n, 2), source: places on its rim."""


def reasons_of(shape: VisibleShape, task: Task, size: str, uneven: str) -> list[Reason]:
    """Why a shape that is visible is not found: size (the parameter of that name), polarity, gradient, or coverage."""
    gathered: Gathered = task.gathered
    parameters, scale = task.parameters, task.image.frame.scale
    low, high = (end * scale for end in gathered.range)
    at = shape.text.format(inside="darker" if shape.sign > 0 else "brighter")
    reasons = []
    limit = 2.4 * float(gathered.oriented.background.typical) / scale
    slope = shape.slope / scale
    least, most = (end * scale for end in shape.sizes)
    if least < low or most > high:
        wide = (min(low, 0.95 * least), max(high, 1.05 * most))
        text = f"{size} outside the range: it is {at}; the range is {low:g} to {high:g} px"
        wider = {size: tuple(float(f"{v:.3g}") for v in wide)}
        measured, limit_size = (most, high) if most > high else (least, low)
        reasons.append(Reason(size, measured, limit_size, "px", False, text, wider, trace=shape.trace))
    asked = parameters.polarity
    if asked != "either" and POLARITIES.index(asked) != int(shape.sign < 0):
        text = f"wrong polarity: it is {at}, and only {asked} ones are accepted"
        reasons.append(Reason("polarity", float(shape.sign), None, "", False, text, {"polarity": "either"}, trace=shape.trace))
    if slope < limit:
        text = f"too faint: it is {at}, where the gradient is {slope:.2f} {SLOPE}; points need {limit:.2f}"
        reasons.append(Reason("gradient", slope, limit, SLOPE, False, text, trace=shape.trace))
    needed = parameters.coverage_min
    if shape.coverage < needed:
        text = f"coverage too low: it is {at}, of which {100 * shape.coverage:.0f} % is visible"
        change = {"coverage_min": float(f"{0.95 * shape.coverage:.2g}")}
        reasons.append(Reason("coverage", shape.coverage, needed, "", False, text, change, trace=shape.trace))
    if slope < limit and shape.coverage < 0.5:
        # Some faint arcs make an oval around any place.
        return [replace(reason, nothing=True, proposal=None) for reason in reasons]
    if not reasons:
        reasons.append(Reason("rim", shape.coverage, None, "", False, f"it is {at}, but {uneven}", trace=shape.trace))
    return reasons


ON_RIM = 4.0
"""px: a place at most so far from a rim is on it."""


def edge_reasons(task: Task, x: float, y: float, shape: str) -> list[Reason]:
    """Where a clear edge runs through a place of the source: that no shape was fitted along it."""
    oriented: OrientedPoints = task.gathered.oriented
    strongest = GradientMaps(task.gathered.image, oriented.points, oriented.background, task.parameters.sigma).strongest_near(
        x, y, 2
    )
    if strongest.measured < ABOVE_NOISE * strongest.limit:
        return []
    text = f"an edge of {strongest.measured:.2f} {SLOPE} is here, but no {shape} fits along it: straight, uneven or too short"
    return [Reason("rim", strongest.measured, strongest.limit, SLOPE, False, text)]


def all_around(rims: Rims) -> NDArray[np.bool_]:
    """Which rims have points in every direction from their centres."""
    direction = np.minimum((rims.place * _DIRECTIONS).astype(np.int64), _DIRECTIONS - 1)
    has = np.zeros((len(rims), _DIRECTIONS), bool)
    has[owners(rims.start), direction] = True
    return np.asarray(has.all(axis=1))


def longest_stretch(rims: Rims) -> Array:
    """The longest stretch of each rim along which there are edge points, as a share of the rim; gaps of one part are
    bridged."""
    seen = np.zeros((len(rims), _PARTS), bool)
    seen[owners(rims.start), np.minimum((rims.place * _PARTS).astype(np.int64), _PARTS - 1)] = True
    bridged = seen | (np.roll(seen, 1, axis=1) & np.roll(seen, -1, axis=1))
    run, best = np.zeros(len(rims)), np.zeros(len(rims))
    for k in range(2 * _PARTS):
        run = np.where(bridged[:, k % _PARTS], run + 1, 0.0)
        best = np.maximum(best, run)
    return np.minimum(best / _PARTS, 1.0)


def with_corners(deviation: Array, polygon: Array) -> Array:
    """The deviation of rims, their corners included: a polygon deviates by these whatever else is uneven, so that only much of
    either counts. `polygon`: how much each swings as a polygon does, over what it may."""
    return np.asarray((deviation**4 + polygon**4) ** 0.25)


def _has_no_least(size: Range | None) -> bool:
    return size is None or size[0] is None


def size_range(given: Range | None, image: Image, sigma: float) -> tuple[float, float]:
    """Minimum and maximum size in px of the image; automatic ends follow from its size and from the smoothing (px)."""
    low, high = given or (None, None)
    scale = image.frame.scale
    # A speck that is smoothed has a rim of its own.
    least = max(LEAST, _SPECK * sigma) if low is None else low / scale
    most = max(0.5 * min(image.width, image.height), least + 1) if high is None else high / scale
    # The arc of a rim larger than the diagonal of the image cannot be distinguished from a line.
    most = min(most, math.hypot(image.width, image.height))
    return min(max(least, 1.0), most), most
