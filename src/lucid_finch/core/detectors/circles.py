"""Circles: discs, holes and rings of either polarity over a whole range of radii, cut, hidden and touching ones included.

Edge points vote for centres (`numerics.hough.circle_votes`), circles are laid through what lies around the best of them
(`numerics.fitting.circle_fitting`) and moved to where the grey levels across the rim change fastest. Accepted is what the background would bring
forth less often than `false_alarms`; points that a surer circle explains count for no other.
"""

from __future__ import annotations

import math
from functools import cache
from typing import Any

import numpy as np

from lucid_finch.core.detection import Array, Column, EvidenceMap
from lucid_finch.core.detector import Candidates, Context, DetectorParameters, Reason, Votes, Work
from lucid_finch.core.detectors.shared.edge_features import SLOPE, oriented_points
from lucid_finch.core.detectors.shared.round_shapes import (
    BEYOND,
    LEAST,
    POLARITIES,
    SEEN,
    Gathered,
    RoundParameters,
    RoundShapes,
    SeenShape,
    reasons_of,
    size_range,
)
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Limit
from lucid_finch.core.numerics.fitting.circle_fitting import filed_points, fit_rims, refined_rims, rim_profile
from lucid_finch.core.numerics.hough.circle_votes import centre_votes, find_centres
from lucid_finch.core.numerics.hough.line_votes import _BLOCK, block_density
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.parameters import Range, gathers

_MOST_CENTRES = 3000


class _Size(DetectorParameters):
    radius: Range | None = gathers(
        None,
        label="Radius",
        unit="px",
        least=0.0,
        usual=(3.0, 200.0),
        is_range=True,
        criterion="radius",
        auto=f"{LEAST:g} px to half the shorter side of the image",
        help="Least and most radius. Draw a line across an object to set it.",
    )


class CirclesParameters(RoundParameters, _Size):
    """Parameters of `circles`, the size before what both kinds of round shapes take."""


class Circles(RoundShapes):
    kind = "circles"
    purpose = "Discs, holes and rings over a whole range of radii, dark and bright, hidden up to half."
    Parameters = CirclesParameters
    columns = (
        Column("radius", "radius", "px", "of the rim, the shrinkage of smoothing taken off", 2, "length"),
        Column("log_nfa", "sureness", "", "-log10 of the expected number of false alarms", 1),
        Column("coverage", "rim seen", "", "share of the rim along which there are edge points", 2),
        Column("contrast", "contrast", "grey", "step of the grey level at the rim", 1),
        Column("contrast_pct", "contrast", "%", "the same in percent of the value range", 1),
        Column("polarity", "polarity", "", "dark or bright inside", names=POLARITIES),
        Column("rms", "rms", "px", "root of the mean squared distance of its points", 3, "length"),
        Column("x_std", "x ±", "px", "one standard deviation, from the noise alone", 3, "length"),
        Column("y_std", "y ±", "px", "one standard deviation, from the noise alone", 3, "length"),
        Column("radius_std", "radius ±", "px", "one standard deviation, from the noise alone", 3, "length"),
        Column("roundness", "on the rim", "", "share of the points of the rim's chains that lie on it", 2),
    )
    rim_columns = ("radius", "radius_std")

    def gather(self, image: Image, parameters: CirclesParameters, context: Context) -> Gathered:
        oriented = oriented_points(image, parameters.region, parameters.sigma, context)
        low, high = size_range(parameters.radius, image)
        which = oriented.telling()
        x, y, nx, ny = (a[which] for a in (oriented.points.x, oriented.points.y, oriented.nx, oriented.ny))
        size = image.width, image.height
        wide = max(low / BEYOND, 3.0), max(high * BEYOND, low / BEYOND + 1.0)
        seen = self.floor(parameters) or SEEN
        with cancellable(context.cancelled):
            centres = find_centres(x, y, nx, ny, size, wide, seen, _MOST_CENTRES)
            filed = filed_points(x, y, nx, ny, oriented.chain_of[which], oriented.along[which], size)
            rims = fit_rims(filed, centres, wide, seen, block_density(x, y, *size), _BLOCK)
            rims = refined_rims(image.pixels, image.mask, x, y, rims, parameters.sigma)
        step = 2.5 * max(oriented.background.correlation, 0.8)
        tests = math.log(max(image.width * image.height / step**2, 10.0) * max((high - low) / step, 2.0))
        return Gathered(oriented, which, rims, step, tests, (low, high))

    def size(self, columns: dict[str, Array]) -> Array:
        return columns["radius"]

    def around(self, columns: dict[str, Array]) -> Array:
        return np.asarray(2 * np.pi * columns["radius"])

    def outline(self, columns: dict[str, Array], turns: Array) -> Array:
        x, y, reach = (columns[n][:, None] for n in ("x", "y", "radius"))
        return np.stack([x + reach * np.cos(turns), y + reach * np.sin(turns)], axis=2)

    def no_least(self, parameters: CirclesParameters) -> bool:
        return parameters.radius is None or parameters.radius[0] is None

    def limits(self, image: Image, gathered: Gathered, parameters: CirclesParameters) -> tuple[Limit, ...]:
        low, high = size_range(parameters.radius, image)
        ends = Limit("radius", "radius", "at least", low, 0), Limit("radius", "radius", "at most", high, 1)
        return (*super().limits(image, gathered, parameters), *ends)

    def resolved(self, image: Image, gathered: Gathered, parameters: CirclesParameters) -> dict[str, Any]:
        scale = image.frame.scale
        return {
            "radius": [round(v * scale, 2) for v in gathered.range],
            "background": gathered.oriented.background.typical,
            "points": len(gathered.oriented.points),
        }

    def distances(self, candidates: Candidates, x: float, y: float) -> Array:
        """From the rim or, inside, from the centre, whichever is nearer."""
        c = candidates.columns
        centre = np.hypot(c["x"] - x, c["y"] - y)
        return np.minimum(np.abs(centre - c["radius"]), 0.25 * centre)

    def evidence(self, work: Work) -> list[EvidenceMap]:
        gathered: Gathered = work.gathered
        maps, before, supporting = self.steps(work)

        @cache
        def votes() -> Array:
            return centre_votes(*gathered.voting(), (work.image.width, work.image.height), gathered.range)

        def part(left: int, top: int, right: int, bottom: int) -> Array:
            return np.ascontiguousarray(votes()[top:bottom, left:right])

        told = "votes for a centre here, of all edge points and the whole range of radii, darker and brighter ones together"
        return [*before, maps.map("accumulator", "votes", "votes", "grey", part, told, 0), supporting]

    def votes_at(self, work: Work, map_name: str, column: float, row: float) -> Votes | None:
        if map_name != "accumulator":
            return None
        x, y, nx, ny = work.gathered.voting()
        u, v = x - column, y - row
        far = np.hypot(u, v)
        low, high = work.gathered.range
        points = np.flatnonzero((np.abs(u * ny - v * nx) <= 1.0) & (far >= low - 0.5) & (far <= high + 0.5))
        places = np.stack(work.image.frame.to_source(x[points], y[points]), axis=1)
        return Votes(self.centred_at(work, column, row), places)

    def votes_of(self, work: Work, map_name: str, x: float, y: float) -> list[Array]:
        px, py, nx, ny = work.gathered.voting()
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
        if blocked := self.outside(image, parameters, x, y):
            return blocked
        seen = rim_profile(image.pixels, image.mask, x, y, 0.5 * min(image.width, image.height), parameters.sigma)
        if seen is None:
            text = "too faint: no rim of any radius stands out of the noise around this place"
            return [Reason("gradient", 0.0, None, SLOPE, False, text)]
        at = f"{{inside}} inside a rim of radius {seen.radius * image.frame.scale:.1f} px around ({seen.x:.0f}, {seen.y:.0f})"
        shape = SeenShape((seen.radius, seen.radius), seen.sign, seen.slope, seen.coverage, at)
        return reasons_of(shape, image, gathered, parameters, "radius", "too uneven to be taken for a circle")
