"""What circles and ellipses have in common: how their rims are judged, what is told of them, and their evidence."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import Array, Column, EvidenceMap, Outlines
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Finished, Reason, Work
from lucid_finch.core.detectors.shared.edge_features import SLOPE, GradientMaps, OrientedPoints
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Limit, Rivals
from lucid_finch.core.numerics.edges.edge_points import EdgePoints
from lucid_finch.core.numerics.fitting.circle_fitting import Rims, own_coverage, rim_tolerance, shared_points
from lucid_finch.core.numerics.hough.line_votes import relative_entropy
from lucid_finch.core.parameters import Range, forms, gathers, judges
from lucid_finch.core.regions import blocked_pixels

LEAST = 5.0
"""px: the least radius or semi-axis that is looked for where none is given."""
SEEN = 0.3
"""Rims of which less is seen are not gathered unless asked for."""
SEEN_USUALLY = 0.4
BEYOND = 1.25
"""Sizes up to so many times outside the range are gathered as near misses."""
_SLACK = 2.0
_LEAVING = 0.2
"""Share of the points of a rim's chains that may leave it along a tangent, where it strays no further otherwise."""
_PLURAL = 0.5
"""Two rims that share more than this of the points of the smaller are one."""
POLARITIES = ("dark", "bright")


class RoundParameters(DetectorParameters):
    """Parameters of `circles` and `ellipses` but for their sizes."""

    sigma: float = gathers(
        1.2,
        label="Smoothing",
        unit="px",
        least=0.3,
        most=50.0,
        usual=(0.5, 6.0),
        help="Standard deviation of the Gaussian before the gradient is taken.",
    )
    polarity: Literal["dark", "bright", "either"] = forms(
        "either", label="Polarity", help="dark: darker inside the rim than outside; bright: brighter."
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
        help="Accept those that the image's own background would bring forth less often than this.",
    )
    coverage_min: float | None = judges(
        None,
        label="Rim seen, at least",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="coverage",
        auto=f"{SEEN_USUALLY:g}; more of small ones where no least size is given: ends of bars are half circles",
        help="Share of the rim along which there are edge points.",
    )
    roundness_min: float = judges(
        0.85,
        label="On the rim, at least",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="roundness",
        help="Share of the edge points of the rim's own chains that lie on it, of those and of what leaves it along a tangent:"
        " squares and bars with round ends have few.",
    )
    deviation_max: float = judges(
        1.0,
        label="Deviation, at most",
        least=0.0,
        most=100.0,
        usual=(0.0, 5.0),
        criterion="deviation",
        sense="at most",
        help="How far the rim strays from the shape beyond what the noise explains, in units of what is usual: 0.2 px and 0.8 %"
        " of the size of a whole rim, half of that where half is seen. What leaves the rim along a tangent counts too.",
    )
    turning_min: float = judges(
        0.6,
        label="Turn of the gradient, at least",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="turning",
        help="How much of the rim's turn the gradient makes along it: straight sides that touch it make none.",
    )
    contrast_min_pct: float = judges(
        0.0,
        label="Contrast, at least",
        unit="% of the value range",
        least=0.0,
        most=100.0,
        usual=(0.0, 50.0),
        criterion="contrast_pct",
        help="Step of the grey level at the rim.",
    )
    spacing: float = forms(
        0.0,
        label="Spacing, at least",
        unit="px",
        least=0.0,
        most=1e5,
        usual=(0.0, 200.0),
        help="Of two whose centres are closer, only the surer counts; 0 keeps both rims of a ring.",
    )


@dataclass(frozen=True)
class Gathered:
    """Rims with all that was measured of each, in the frame of the image."""

    oriented: OrientedPoints
    which: NDArray[np.int64]
    """The edge point behind each point of a rim."""
    rims: Rims
    step: float
    tests: float
    """Natural logarithm of the number of shapes that could be told apart."""
    range: tuple[float, float]
    detail: Any = None

    @property
    def nbytes(self) -> int:
        return self.oriented.nbytes + self.rims.support.nbytes

    def voting(self) -> tuple[Array, Array, Array, Array]:
        """Places and directions of the points that tell, in the frame of the image."""
        o, which = self.oriented, self.which
        return o.points.x[which], o.points.y[which], o.nx[which], o.ny[which]


class RoundShapes(Detector):
    """Base of both; a subclass gathers, and says how large its shapes are."""

    rim_columns: tuple[str, ...]
    """Columns of the rims that findings list as they are."""
    criteria: ClassVar[tuple[Column, ...]] = (
        Column("turning", "turn of the gradient", "", "share of the rim's turn that the gradient makes along it", 2),
        Column("enough", "rim seen for its size", "", "share of the rim that is seen, over what so small a one needs", 2),
        Column("deviation", "deviation", "", "how far the rim strays from the shape, in units of what is usual", 2),
        Column("agrees", "polarity", "", "1 where the polarity is the one asked for", 0),
    )
    near = 12.0

    def size(self, columns: dict[str, Array]) -> Array:
        """Radius in px, or what stands for it."""
        raise NotImplementedError

    def around(self, columns: dict[str, Array]) -> Array:
        """Length of the rim in px."""
        raise NotImplementedError

    def outline(self, columns: dict[str, Array], turns: Array) -> Array:
        """(n, turns, 2) places on the rims."""
        raise NotImplementedError

    def deviation(self, gathered: Any, parameters: Any) -> Array:
        """How far each rim strays beyond the noise, in units of what is usual, and what leaves it."""
        c = gathered.rims.columns
        usual = (0.2 + 0.008 * self.size(c)) * np.clip(c["coverage"], 0.5, 1.0)
        return np.asarray(np.hypot(c["stray"] / usual, (1 - c["fidelity"]) / _LEAVING))

    def soundness(self, gathered: Any, parameters: Any) -> Array:
        """What the worth of each rim is multiplied by where rims compete for points."""
        fidelity = np.clip(gathered.rims.columns["fidelity"], 0.1, 1.0)
        return np.asarray(fidelity / (1 + self.deviation(gathered, parameters) ** 2))

    def no_least(self, parameters: Any) -> bool:
        """Whether the least size follows from the image alone."""
        raise NotImplementedError

    def floor(self, parameters: Any) -> Any:
        # Given lower than usual, the next step of a coarse ladder below it.
        wanted = parameters.coverage_min
        return None if wanted is None or wanted >= SEEN else max(0.05, math.floor(wanted * 20) / 20)

    def form(self, image: Image, gathered: Any, parameters: Any) -> Candidates:
        rims: Rims = gathered.rims
        c = rims.columns
        size, around = self.size(c), self.around(c)
        # What a step of the rim may hold by chance, and what all that are held are worth.
        chance = np.clip(1 - np.exp(-2 * rim_tolerance(size) * c["crowd"] * 0.36 / np.pi), 0.01, 0.5)
        steps = around / gathered.step
        worth = steps * relative_entropy(c["coverage"], chance) - gathered.tests
        merit = worth * self.soundness(gathered, parameters)
        own = own_coverage(rims, around, merit)
        log_nfa = (steps * relative_entropy(own, chance) - gathered.tests) / math.log(10)
        pairs, share = shared_points(rims.start, rims.support)
        pairs = np.concatenate([pairs[share > _PLURAL], _closer_than(c["x"], c["y"], parameters.spacing)])
        polarity = np.asarray(c["sign"] < 0, np.int8)
        asked = parameters.polarity
        agrees = np.ones(len(rims), bool) if asked == "either" else polarity == POLARITIES.index(asked)
        columns: dict[str, Array] = {
            **{n: c[n] for n in ("x", "y", "coverage", "rms", "contrast", "x_std", "y_std", *self.rim_columns)},
            "turning": np.clip(c["turning"], 0.0, 1.0),
            "deviation": self.deviation(gathered, parameters),
            "contrast_pct": 100 * c["contrast"] / image.span,
            "log_nfa": log_nfa,
            "roundness": c["fidelity"],
            "polarity": polarity,
            "agrees": np.asarray(agrees, float),
            "enough": c["coverage"] / np.clip(6.0 / size, SEEN_USUALLY, 0.8),
        }
        typical = float(np.median(size)) if len(rims) else 20.0
        return Candidates(columns, merit, typical, Rivals("spacing", pairs, np.ones(len(pairs)), 0.0), detail=rims)

    def limits(self, image: Image, gathered: Any, parameters: Any) -> tuple[Limit, ...]:
        found = super().limits(image, gathered, parameters)
        if parameters.polarity != "either":
            found += (Limit("polarity", "agrees", "at least", 1.0, admits="either"),)
        if parameters.coverage_min is None:
            found += (Limit("coverage_min", "coverage", "at least", SEEN_USUALLY),)
            if self.no_least(parameters):
                found += (Limit("coverage_min", "enough", "at least", 1.0, admits=SEEN_USUALLY),)
        return found

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["log_nfa"] > -_SLACK)

    def finish(self, image: Image, gathered: Any, candidates: Candidates, chosen: NDArray[np.int64], parameters: Any) -> Finished:
        columns = {name: values[chosen] for name, values in candidates.columns.items()}
        columns["score"] = columns["coverage"] * columns["roundness"] / (1 + (columns["rms"] / 0.7) ** 2)
        turns = np.linspace(0, 2 * np.pi, 73)[:-1]
        xy = self.outline(columns, turns)
        start = np.arange(len(chosen) + 1, dtype=np.int64) * len(turns)
        rims: Rims = candidates.detail

        def listed() -> dict[str, Array]:
            points, chain = rims.points_of(chosen)
            return dict(gathered.oriented.listed(gathered.which[points], chain))

        return Finished(columns, Outlines(xy.reshape(-1, 2), start, np.ones(len(chosen), bool)), listed)

    def steps(self, work: Work) -> tuple[GradientMaps, list[EvidenceMap], EvidenceMap]:
        """Maps of the gradient: their maker, those before the shapes, and the points of the shapes that stand."""
        gathered: Gathered = work.gathered
        points = gathered.oriented.points
        maps = GradientMaps(work.image, points, gathered.oriented.background, work.parameters.sigma)

        @cache
        def supporting() -> tuple[EdgePoints, NDArray[np.bool_]]:
            kept = np.zeros(len(points), bool)
            kept[gathered.which[gathered.rims.points_of(work.judgement.found)[0]]] = True
            return points, kept

        before = [m for m in maps.listed() if m.name in ("smoothed", "magnitude", "thinned")]
        return maps, before, maps.marked("supporting", "supporting", f"points of the {self.kind} that stand", supporting)

    def peaks(self, work: Work, map_name: str) -> Array | None:
        if map_name != "accumulator":
            return None
        c = work.candidates.columns
        return np.stack([c["x"][work.rows], c["y"][work.rows]], axis=1)

    def centred_at(self, work: Work, column: float, row: float) -> int:
        """The candidate, one that stands if there is one, whose centre is within 3 px; or -1."""
        c = work.candidates.columns
        every = np.concatenate([work.rows, work.judgement.order])
        away = np.hypot(c["x"][every] - column, c["y"][every] - row)
        best = int(np.argmin(away)) if len(away) else -1
        return int(every[best]) if best >= 0 and away[best] <= 3 else -1

    def outside(self, image: Image, parameters: Any, x: float, y: float) -> list[Reason]:
        """The reason why nothing can be found at a place that no pixel tells of, if that is so."""
        column, row = (min(max(round(v), 0), size - 1) for v, size in ((x, image.width), (y, image.height)))
        blocked = blocked_pixels(image, parameters.region, 0)
        if blocked is None or not blocked[row, column]:
            return []
        text = "this place is outside the region, or its pixels are not valid"
        return [Reason("region", 0.0, None, "", False, text, ("region", None) if parameters.region is not None else None)]


@dataclass(frozen=True)
class SeenShape:
    """What is seen around a place, whatever its size."""

    sizes: tuple[float, float]
    """Least and most radius or semi-axis, px of the image."""
    sign: float
    slope: float
    coverage: float
    told: str
    """In words, with `{inside}` where darker or brighter goes."""


def reasons_of(seen: SeenShape, image: Image, gathered: Gathered, parameters: Any, size: str, uneven: str) -> list[Reason]:
    """Why a shape that is there is not found: size (the parameter of that name), polarity, gradient, or what is hidden."""
    low, high = gathered.range
    scale = image.frame.scale
    at = seen.told.format(inside="darker" if seen.sign > 0 else "brighter")
    reasons = []
    limit = 2.4 * float(gathered.oriented.background.typical)
    least, most = seen.sizes
    if least < low or most > high:
        wide = (min(low, 0.95 * least) * scale, max(high, 1.05 * most) * scale)
        text = f"{size} outside the range: it is {at}; from {low * scale:g} to {high * scale:g} px are looked for"
        wider = (size, tuple(float(f"{v:.3g}") for v in wide))
        measured, limit_size = (most, high) if most > high else (least, low)
        reasons.append(Reason(size, measured * scale, limit_size * scale, "px", False, text, wider))
    asked = parameters.polarity
    if asked != "either" and POLARITIES.index(asked) != int(seen.sign < 0):
        text = f"wrong polarity: it is {at}, and {asked} ones are looked for"
        reasons.append(Reason("polarity", float(seen.sign), None, "", False, text, ("polarity", "either")))
    if seen.slope < limit:
        text = f"too faint: it is {at}, where the gradient is {seen.slope:.2f} {SLOPE}; points need {limit:.2f}"
        reasons.append(Reason("gradient", seen.slope, limit, SLOPE, False, text))
    needed = SEEN_USUALLY if parameters.coverage_min is None else parameters.coverage_min
    if seen.coverage < needed:
        text = f"hidden too far: it is {at}, of which {100 * seen.coverage:.0f} % is seen"
        change = ("coverage_min", float(f"{0.95 * seen.coverage:.2g}"))
        reasons.append(Reason("coverage", seen.coverage, needed, "", False, text, change))
    if not reasons:
        reasons.append(Reason("rim", seen.coverage, None, "", False, f"it is {at}, but {uneven}"))
    return reasons


def size_range(given: Range | None, image: Image) -> tuple[float, float]:
    """Least and most size in px of the image's own frame; open ends follow from its size."""
    low, high = given or (None, None)
    scale = image.frame.scale
    least = LEAST if low is None else low / scale
    most = max(0.5 * min(image.width, image.height), least + 1) if high is None else high / scale
    # A rim beyond the image's diagonal leaves no arc that could be told from a line.
    most = min(most, math.hypot(image.width, image.height))
    return min(max(least, 1.0), most), most


def _closer_than(x: Array, y: Array, spacing: float) -> NDArray[np.int64]:
    """Pairs of centres less than `spacing` px apart."""
    if spacing <= 0 or len(x) < 2:
        return np.empty((0, 2), np.int64)
    from scipy.spatial import cKDTree  # here, since loading it takes time

    return cKDTree(np.stack([x, y], axis=1)).query_pairs(spacing, output_type="ndarray").astype(np.int64)
