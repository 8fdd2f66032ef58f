"""Circles: discs, holes and rings of either polarity over a whole range of radii, cut, hidden and touching ones included.

Edge points vote for centres (`numerics.circle_votes`), circles are laid through what lies around the best of them
(`numerics.rims`) and moved to where the grey levels across the rim change fastest. Accepted is what the background would bring
forth less often than `false_alarms`; points that a surer circle explains count for no other.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import Array, Column, EvidenceMap, Outlines
from lucid_finch.core.detector import Candidates, Context, Detector, DetectorParameters, Finished, Reason, Votes, Work
from lucid_finch.core.edge_evidence import SLOPE, GradientMaps, OrientedPoints, oriented_points
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Limit, Rivals
from lucid_finch.core.numerics.circle_votes import centre_votes, find_centres
from lucid_finch.core.numerics.edge_points import EdgePoints
from lucid_finch.core.numerics.line_votes import _BLOCK, block_density, relative_entropy
from lucid_finch.core.numerics.rims import Rims, filed_points, fit_rims, own_coverage, refined_rims, rim_profile, shared_points
from lucid_finch.core.numerics.threads import cancellable
from lucid_finch.core.parameters import Range, forms, gathers, judges
from lucid_finch.core.regions import blocked_pixels

_LEAST_RADIUS = 5.0
_MOST_CENTRES = 3000
_SEEN = 0.2
"""Rims of which less is seen are not gathered unless asked for."""
_SEEN_USUALLY = 0.4
_BEYOND = 1.25
"""Radii up to so many times outside the range are gathered as near misses."""
_SLACK = 2.0
_PLURAL = 0.5
"""Two circles that share more than this of the points of the smaller are one."""
_POLARITIES = ("dark", "bright")


class CirclesParameters(DetectorParameters):
    """Parameters of `circles`."""

    radius: Range | None = gathers(
        None,
        label="Radius",
        unit="px",
        least=0.0,
        usual=(3.0, 200.0),
        is_range=True,
        criterion="radius",
        auto=f"{_LEAST_RADIUS:g} px to half the shorter side of the image",
        help="Least and most radius. Draw a line across an object to set it.",
    )
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
        help="Accept circles that the image's own background would bring forth less often than this.",
    )
    coverage_min: float | None = judges(
        None,
        label="Rim seen, at least",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="coverage",
        auto=f"{_SEEN_USUALLY:g}; more below 15 px of radius where no least radius is given: ends of bars are half circles",
        help="Share of the rim along which there are edge points.",
    )
    roundness_min: float = judges(
        0.65,
        label="On the rim, at least",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="roundness",
        help="Share of the edge points of the rim's own chains, near it, that lie on the circle: a square has few.",
    )
    turning_min: float = judges(
        0.6,
        label="Turn of the gradient, at least",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="turning",
        help="How much of a circle's turn the gradient makes along the rim: straight sides that touch a circle make none.",
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
        help="Of two circles whose centres are closer, only the surer counts; 0 keeps both rims of a ring.",
    )


@dataclass(frozen=True)
class Gathered:
    """Circles with all that was measured of each, in the frame of the image."""

    oriented: OrientedPoints
    which: NDArray[np.int64]
    """The edge point behind each point of a rim."""
    rims: Rims
    step: float
    tests: float
    """Natural logarithm of the number of circles that could be told apart."""
    range: tuple[float, float]

    @property
    def nbytes(self) -> int:
        return self.oriented.nbytes + self.rims.support.nbytes


class Circles(Detector):
    kind = "circles"
    purpose = "Discs, holes and rings over a whole range of radii, dark and bright, hidden up to half."
    Parameters = CirclesParameters
    columns = (
        Column("radius", "radius", "px", "of the rim, the shrinkage of smoothing taken off", 2, "length"),
        Column("log_nfa", "sureness", "", "-log10 of the expected number of false alarms", 1),
        Column("coverage", "rim seen", "", "share of the rim along which there are edge points", 2),
        Column("contrast", "contrast", "grey", "step of the grey level at the rim", 1),
        Column("contrast_pct", "contrast", "%", "the same in percent of the value range", 1),
        Column("polarity", "polarity", "", "dark or bright inside", names=_POLARITIES),
        Column("rms", "rms", "px", "root of the mean squared distance of its points", 3, "length"),
        Column("x_std", "x ±", "px", "one standard deviation, from the noise alone", 3, "length"),
        Column("y_std", "y ±", "px", "one standard deviation, from the noise alone", 3, "length"),
        Column("radius_std", "radius ±", "px", "one standard deviation, from the noise alone", 3, "length"),
        Column("roundness", "on the rim", "", "share of the points of the rim's chains that lie on it", 2),
    )
    criteria = (
        Column("turning", "turn of the gradient", "", "share of a circle's turn that the gradient makes along the rim", 2),
        Column("enough", "rim seen for its size", "", "share of the rim that is seen, over what so small a circle needs", 2),
        Column("agrees", "polarity", "", "1 where the polarity is the one asked for", 0),
    )
    near = 12.0

    def gather(self, image: Image, parameters: CirclesParameters, context: Context) -> Gathered:
        oriented = oriented_points(image, parameters.region, parameters.sigma, context)
        low, high = radius_range(parameters.radius, image)
        which = oriented.telling()
        x, y, nx, ny = (a[which] for a in (oriented.points.x, oriented.points.y, oriented.nx, oriented.ny))
        size = image.width, image.height
        wide = max(low / _BEYOND, 3.0), max(high * _BEYOND, low / _BEYOND + 1.0)
        with cancellable(context.cancelled):
            centres = find_centres(x, y, nx, ny, size, wide, _MOST_CENTRES)
            filed = filed_points(x, y, nx, ny, oriented.chain_of[which], size)
            rims = fit_rims(filed, centres, wide, self.floor(parameters) or _SEEN, block_density(x, y, *size), _BLOCK)
            rims = refined_rims(image.pixels, image.mask, x, y, rims, parameters.sigma)
        step = 2.5 * max(oriented.background.correlation, 0.8)
        tests = math.log(max(image.width * image.height / step**2, 10.0) * max((high - low) / step, 2.0))
        return Gathered(oriented, which, rims, step, tests, (low, high))

    def floor(self, parameters: CirclesParameters) -> float | None:
        # Given lower than usual, the next step of a coarse ladder below it.
        wanted = parameters.coverage_min
        return None if wanted is None or wanted >= _SEEN else max(0.05, math.floor(wanted * 20) / 20)

    def form(self, image: Image, gathered: Gathered, parameters: CirclesParameters) -> Candidates:
        rims = gathered.rims
        c = rims.columns
        # What a step of the rim may hold by chance, and what all that are held are worth.
        tolerance = np.minimum(1.1 + 0.006 * c["radius"], 0.35 + 0.11 * c["radius"])
        chance = np.clip(1 - np.exp(-2 * tolerance * c["crowd"] * 0.36 / np.pi), 0.01, 0.5)
        steps = 2 * np.pi * c["radius"] / gathered.step
        worth = steps * relative_entropy(c["coverage"], chance) - gathered.tests
        own = own_coverage(rims, worth * np.clip(c["fidelity"], 0.1, 1.0))
        log_nfa = (steps * relative_entropy(own, chance) - gathered.tests) / math.log(10)
        pairs, share = shared_points(rims.start, rims.support)
        one = share > _PLURAL
        apart = _closer_than(c["x"], c["y"], parameters.spacing)
        pairs = np.concatenate([pairs[one], apart])
        columns: dict[str, Array] = {
            **{n: c[n] for n in ("x", "y", "radius", "coverage", "rms", "contrast", "x_std", "y_std", "radius_std")},
            "turning": np.clip(c["turning"], 0.0, 1.0),
            "contrast_pct": 100 * c["contrast"] / image.span,
            "log_nfa": log_nfa,
            "roundness": c["fidelity"],
            "polarity": np.asarray(c["sign"] < 0, np.int8),
        }
        asked = parameters.polarity
        agrees = np.ones(len(rims), bool) if asked == "either" else columns["polarity"] == _POLARITIES.index(asked)
        columns["agrees"] = np.asarray(agrees, float)
        columns["enough"] = c["coverage"] / np.clip(6.0 / c["radius"], _SEEN_USUALLY, 0.8)
        merit = worth * np.clip(c["fidelity"], 0.1, 1.0)
        typical = float(np.median(c["radius"])) if len(rims) else 20.0
        return Candidates(columns, merit, typical, Rivals("spacing", pairs, np.ones(len(pairs)), 0.0), detail=rims)

    def limits(self, image: Image, gathered: Gathered, parameters: CirclesParameters) -> tuple[Limit, ...]:
        found = super().limits(image, gathered, parameters)
        if parameters.polarity != "either":
            found += (Limit("polarity", "agrees", "at least", 1.0, admits="either"),)
        if parameters.coverage_min is None:
            found += (Limit("coverage_min", "coverage", "at least", _SEEN_USUALLY),)
            if parameters.radius is None or parameters.radius[0] is None:
                found += (Limit("coverage_min", "enough", "at least", 1.0, admits=_SEEN_USUALLY),)
        low, high = radius_range(parameters.radius, image)
        return (*found, Limit("radius", "radius", "at least", low, 0), Limit("radius", "radius", "at most", high, 1))

    def resolved(self, image: Image, gathered: Gathered, parameters: CirclesParameters) -> dict[str, Any]:
        scale = image.frame.scale
        return {
            "radius": [round(v * scale, 2) for v in gathered.range],
            "background": gathered.oriented.background.typical,
            "points": len(gathered.oriented.points),
        }

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["log_nfa"] > -_SLACK)

    def finish(
        self, image: Image, gathered: Gathered, candidates: Candidates, chosen: NDArray[np.int64], parameters: CirclesParameters
    ) -> Finished:
        columns = {name: values[chosen] for name, values in candidates.columns.items()}
        columns["score"] = columns["coverage"] * columns["roundness"] / (1 + (columns["rms"] / 0.7) ** 2)
        turns = np.linspace(0, 2 * np.pi, 73)[:-1]
        reach = columns["radius"][:, None]
        xy = np.stack([columns["x"][:, None] + reach * np.cos(turns), columns["y"][:, None] + reach * np.sin(turns)], axis=2)
        start = np.arange(len(chosen) + 1, dtype=np.int64) * len(turns)
        rims: Rims = candidates.detail

        def listed() -> dict[str, Array]:
            points, chain = rims.points_of(chosen)
            return gathered.oriented.listed(gathered.which[points], chain)

        return Finished(columns, Outlines(xy.reshape(-1, 2), start, np.ones(len(chosen), bool)), listed)

    def distances(self, candidates: Candidates, x: float, y: float) -> Array:
        """From the rim or, inside, from the centre, whichever is nearer."""
        c = candidates.columns
        centre = np.hypot(c["x"] - x, c["y"] - y)
        return np.minimum(np.abs(centre - c["radius"]), 0.25 * centre)

    def evidence(self, work: Work) -> list[EvidenceMap]:
        gathered: Gathered = work.gathered
        points = gathered.oriented.points
        maps = GradientMaps(work.image, points, gathered.oriented.background, work.parameters.sigma)

        @cache
        def supporting() -> tuple[EdgePoints, NDArray[np.bool_]]:
            kept = np.zeros(len(points), bool)
            kept[gathered.which[gathered.rims.points_of(work.judgement.found)[0]]] = True
            return points, kept

        @cache
        def votes() -> Array:
            o, which = gathered.oriented, gathered.which
            return centre_votes(
                points.x[which], points.y[which], o.nx[which], o.ny[which], (work.image.width, work.image.height), gathered.range
            )

        def part(left: int, top: int, right: int, bottom: int) -> Array:
            return np.ascontiguousarray(votes()[top:bottom, left:right])

        steps = [m for m in maps.listed() if m.name in ("smoothed", "magnitude", "thinned")]
        told = "votes for a centre here, of all edge points and the whole range of radii, darker and brighter ones together"
        accumulator = maps.map("accumulator", "votes", "votes", "grey", part, told, 0)
        return [*steps, accumulator, maps.marked("supporting", "supporting", "points of the circles that stand", supporting)]

    def peaks(self, work: Work, map_name: str) -> Array | None:
        if map_name != "accumulator":
            return None
        c = work.candidates.columns
        return np.stack([c["x"][work.rows], c["y"][work.rows]], axis=1)

    def votes_at(self, work: Work, map_name: str, column: float, row: float) -> Votes | None:
        if map_name != "accumulator":
            return None
        x, y, nx, ny = _voting(work)
        u, v = x - column, y - row
        far = np.hypot(u, v)
        low, high = work.gathered.range
        points = np.flatnonzero((np.abs(u * ny - v * nx) <= 1.0) & (far >= low - 0.5) & (far <= high + 0.5))
        c = work.candidates.columns
        every = np.concatenate([work.rows, work.judgement.order])
        away = np.hypot(c["x"][every] - column, c["y"][every] - row)
        best = int(np.argmin(away)) if len(away) else -1
        candidate = int(every[best]) if best >= 0 and away[best] <= 3 else -1
        return Votes(candidate, np.stack(work.image.frame.to_source(x[points], y[points]), axis=1))

    def votes_of(self, work: Work, map_name: str, x: float, y: float) -> list[Array]:
        px, py, nx, ny = _voting(work)
        if map_name != "accumulator" or not len(px):
            return []
        u, v = work.image.frame.from_source(x, y)
        far = np.hypot(px - u, py - v)
        k = int(np.argmin(far))
        if far[k] > 12:
            return []
        ends = np.array(work.gathered.range)
        return [np.stack([px[k] + s * nx[k] * ends, py[k] + s * ny[k] * ends], axis=1) for s in (-1, 1)]

    def probe(self, image: Image, gathered: Gathered, parameters: CirclesParameters, x: float, y: float) -> list[Reason]:
        column, row = (min(max(round(v), 0), size - 1) for v, size in ((x, image.width), (y, image.height)))
        blocked = blocked_pixels(image, parameters.region, 0)
        if blocked is not None and blocked[row, column]:
            text = "this place is outside the region, or its pixels are not valid"
            return [Reason("region", 0.0, None, "", False, text, ("region", None) if parameters.region is not None else None)]
        seen = rim_profile(image.pixels, image.mask, x, y, 0.5 * min(image.width, image.height), parameters.sigma)
        if seen is None:
            text = "too faint: no rim of any radius stands out of the noise around this place"
            return [Reason("gradient", 0.0, None, SLOPE, False, text)]
        low, high = gathered.range
        scale = image.frame.scale
        inside = "darker" if seen.sign > 0 else "brighter"
        at = f"{inside} inside a rim of radius {seen.radius * scale:.1f} px around ({seen.x:.0f}, {seen.y:.0f})"
        reasons = []
        limit = 2.4 * float(gathered.oriented.background.typical)
        if not low <= seen.radius <= high:
            text = f"radius outside the range: it is {at}; from {low * scale:g} to {high * scale:g} px are looked for"
            wide = (min(low, 0.95 * seen.radius) * scale, max(high, 1.05 * seen.radius) * scale)
            wider = ("radius", tuple(float(f"{v:.3g}") for v in wide))
            limit_radius = (high if seen.radius > high else low) * scale
            reasons.append(Reason("radius", seen.radius * scale, limit_radius, "px", False, text, wider))
        asked = parameters.polarity
        if asked != "either" and _POLARITIES.index(asked) != int(seen.sign < 0):
            text = f"wrong polarity: it is {at}, and {asked} ones are looked for"
            reasons.append(Reason("polarity", float(seen.sign), None, "", False, text, ("polarity", "either")))
        if seen.slope < limit:
            text = f"too faint: it is {at}, where the gradient is {seen.slope:.2f} {SLOPE}; points need {limit:.2f}"
            reasons.append(Reason("gradient", seen.slope, limit, SLOPE, False, text))
        least = _SEEN_USUALLY if parameters.coverage_min is None else parameters.coverage_min
        if seen.coverage < least:
            text = f"hidden too far: it is {at}, of which {100 * seen.coverage:.0f} % is seen"
            change = ("coverage_min", float(f"{0.95 * seen.coverage:.2g}"))
            reasons.append(Reason("coverage", seen.coverage, least, "", False, text, change))
        if not reasons:
            reasons.append(Reason("rim", seen.coverage, None, "", False, f"it is {at}, but too uneven to be taken for a circle"))
        return reasons


def _voting(work: Work) -> tuple[Array, Array, Array, Array]:
    """Places and directions of the points that vote, in the frame of the image."""
    o, which = work.gathered.oriented, work.gathered.which
    return o.points.x[which], o.points.y[which], o.nx[which], o.ny[which]


def radius_range(given: Range | None, image: Image) -> tuple[float, float]:
    """Least and most radius in px of the image's own frame; open ends follow from its size."""
    low, high = given or (None, None)
    scale = image.frame.scale
    least = _LEAST_RADIUS if low is None else low / scale
    most = max(0.5 * min(image.width, image.height), least + 1) if high is None else high / scale
    # A circle beyond the image's diagonal leaves no arc that could tell it from a line.
    most = min(most, math.hypot(image.width, image.height))
    return min(max(least, 1.0), most), most


def _closer_than(x: Array, y: Array, spacing: float) -> NDArray[np.int64]:
    """Pairs of centres less than `spacing` px apart."""
    if spacing <= 0 or len(x) < 2:
        return np.empty((0, 2), np.int64)
    from scipy.spatial import cKDTree  # here, since loading it takes time

    return cKDTree(np.stack([x, y], axis=1)).query_pairs(spacing, output_type="ndarray").astype(np.int64)
