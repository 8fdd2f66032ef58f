"""Circles: discs, holes and rings of either polarity over a range of radii; cut, partly hidden and touching ones included.

Edge points vote for centres (`numerics.hough.circle_votes`), circles are fitted to the edge points near each candidate centre
(`numerics.fitting.circle_fitting`) and refined to where the grey levels across the rim change fastest. A circle is accepted if
the background produces one like it less often than `false_alarms`; points that a more significant circle explains do not count.
"""

from __future__ import annotations

import math
from dataclasses import replace
from functools import cache

import numpy as np

from lucid_finch.core.detection import EvidenceMap
from lucid_finch.core.detector import DetectorParameters, Reason, Task
from lucid_finch.core.detectors.shared.declarations import FALSE_ALARMS_COLUMN
from lucid_finch.core.detectors.shared.edge_features import SLOPE, oriented_points, smoothing_of
from lucid_finch.core.detectors.shared.image_variants import calmed
from lucid_finch.core.detectors.shared.round_shapes import (
    ALL_AROUND,
    BEYOND,
    COVERAGE,
    COVERAGE_FLOOR,
    LEAST,
    LEAVING,
    ON_RIM,
    POLARITIES,
    SIZE_TOLERANCE,
    USUAL,
    Gathered,
    RoundParameters,
    RoundShapes,
    VisibleShape,
    all_around,
    edge_reasons,
    left_out,
    most_shapes,
    reasons_of,
    size_range,
    with_corners,
)
from lucid_finch.core.numerics.fitting.circle_fitting import UNEVEN_SEEN, fit_circles, refine_circles
from lucid_finch.core.numerics.fitting.rim_search import rim_profile
from lucid_finch.core.numerics.fitting.rim_support import Density, Rims, filed_points, rim_tolerance
from lucid_finch.core.numerics.hough.circle_votes import centre_votes, find_centres
from lucid_finch.core.numerics.hough.line_votes import DENSITY_BLOCK, block_density
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.parameters import Range, gathers
from lucid_finch.core.table import Array, Column

_UNEVEN = 0.036
"""px a px of radius that an uneven rim lies off a circle, most of which is visible."""
_STRAIGHT = 0.35
"""Share of its rotation that the gradient along a rim may lack, if it deviates in no other way."""

_POLYGON = 0.55
"""Share of the swing of a regular polygon that a circle may have."""

_FAINT = (7.0, 9.0)
"""Times the background that the points of a rim stand out, up to which texture pulls them aside, and from which it does not."""
_ASIDE = 1.5
"""Times as much as usual that a rim deviates in texture, where another one about its centre tells that it is none by chance."""
_ABOUT, _APART = 0.08, (1.07, 1.35)
"""Distance of their centres over the radius, and ratio of the radii, of two rims of one thing, such as a seal or a cap."""
_OTHER = (0.3, 3.0, 0.7)
"""Coverage that the other one must have, deviation that it may have, and roundness that it must have."""

_STD = "one standard deviation, from the noise alone; of uneven rims from the scatter of their points"


class _Size(DetectorParameters):
    radius: Range | None = gathers(
        None,
        label="Radius",
        unit="px",
        least=0.0,
        usual=(3.0, 200.0),
        is_range=True,
        criterion="radius",
        tolerance=SIZE_TOLERANCE,
        auto=f"{LEAST:g} px to half the shorter side of the image",
        help="Minimum and maximum radius. Draw a line across an object to set it.",
    )


class CirclesParameters(RoundParameters, _Size):
    """Parameters of `circles`: the size, then what both kinds of round shapes take."""


class Circles(RoundShapes):
    kind = "circles"
    purpose = "Discs, holes and rings over a whole range of radii, dark and bright, hidden up to half."
    Parameters = CirclesParameters
    columns = (
        Column("radius", "radius", "px", "of the rim, corrected for the smoothing", 2, "length"),
        FALSE_ALARMS_COLUMN,
        Column("coverage", "coverage", "", "share of the rim along which there are edge points", 2),
        Column("contrast", "contrast", "grey", "step of the grey level at the rim", 1),
        Column("contrast_pct", "contrast", "%", "the same in percent of the value range", 1),
        Column("polarity", "polarity", "", "dark or bright inside", names=POLARITIES),
        Column("rms", "rms", "px", "root of the mean squared distance of its points", 3, "length"),
        Column("x_std", "x ±", "px", _STD, 3, "x error", "y_std"),
        Column("y_std", "y ±", "px", _STD, 3, "y error"),
        Column("radius_std", "radius ±", "px", _STD, 3, "length error", "radius"),
        Column("roundness", "roundness", "", "share of the points of the rim's chains that are on it", 2),
    )
    # Stamped, printed or seen at a slant, few are perfect.
    usual_sure = (0.0, 0.03)
    least_coverage = ALL_AROUND
    rim_columns = ("radius", "radius_std")
    sized_by = "radius"

    def gather(self, task: Task) -> Gathered:
        seen = calmed(task.image, task.context)
        image, parameters, context = seen.image, task.parameters, seen.context
        oriented = oriented_points(image, parameters.region, parameters.sigma, context)
        low, high = size_range(parameters.radius, image, oriented.smoothing.sigma)
        which = oriented.reliable()
        x, y, nx, ny = (a[which] for a in (oriented.points.x, oriented.points.y, oriented.nx, oriented.ny))
        size = image.width, image.height
        wide = max(low / BEYOND, 3.0), max(high * BEYOND, low / BEYOND + 1.0)
        least = self.floor(parameters) or COVERAGE_FLOOR
        with cancellable(context.cancelled):
            most = most_shapes(image)
            centres = find_centres(x, y, nx, ny, size, wide, least, most)
            filed = filed_points(x, y, nx, ny, oriented.chain_of[which], oriented.along[which], size)
            density, sigma = Density.of(block_density(x, y, *size), DENSITY_BLOCK), oriented.smoothing.sigma
            rims = fit_circles(filed, centres, wide, least, density, sigma, most + 1000)
            # Measured in any case, so that a recipe that gives the smoothing finds the same.
            suits = oriented.smoothing
            if parameters.sigma is not None:
                suits = smoothing_of(image, parameters.region, None, context)
            pattern = suits.sigma if suits.is_pattern else 0.0
            rims = refine_circles(image.pixels, image.mask, x, y, rims, sigma, suits.is_noisy, pattern)
        step = oriented.background.independent_step
        tests = math.log(max(image.width * image.height / step**2, 10.0) * max((high - low) / step, 2.0))
        notes = (*left_out(centres.dropped, most, "candidate centres"), *seen.notes)
        return Gathered(oriented, which, rims, step, tests, (low, high), image, notes=notes)

    def size(self, columns: dict[str, Array]) -> Array:
        return columns["radius"]

    def needed_coverage(self, task: Task, gain: Array, deviation: Array) -> Array:
        needed = super().needed_coverage(task, gain, deviation)
        return np.where((needed == COVERAGE) & all_around(task.gathered.rims), ALL_AROUND, needed)

    def around(self, columns: dict[str, Array]) -> Array:
        return np.asarray(2 * np.pi * columns["radius"])

    def tolerance(self, columns: dict[str, Array]) -> Array:
        return rim_tolerance(columns["radius"], columns["uneven"]) * (1 + columns["mixed"])

    def deviation(self, gathered: Gathered, gain: Array) -> Array:
        c = gathered.rims.columns
        # Along a side of a polygon the gradient does not rotate.
        straight = np.maximum(1 - c["turning"], 0.0) / _STRAIGHT
        found, sure = np.hypot(super().deviation(gathered, gain), straight), self.certainty(gathered, gain)
        # Most of it visible, turning steadily, and no work of chance: it may be uneven.
        usual = np.maximum(_UNEVEN * sure, USUAL[1]) * c["radius"]
        uneven = np.hypot(np.hypot(1 - c["fidelity"], 1 - c["turning"]) / LEAVING, c["systematic_residual"] / usual)
        either = np.where(c["coverage"] >= UNEVEN_SEEN, np.minimum(uneven, found), found)
        found = np.where(c["uneven"] > 0, uneven, either)
        found = found / allowed_in_texture(gathered.rims, gathered.oriented.clear[gathered.which], found)
        return with_corners(found, c["polygon"] / _POLYGON)

    def outline(self, columns: dict[str, Array], angles: Array) -> Array:
        x, y, reach = (columns[n][:, None] for n in ("x", "y", "radius"))
        return np.stack([x + reach * np.cos(angles), y + reach * np.sin(angles)], axis=2)

    def distances(self, task: Task, x: float, y: float) -> Array:
        """From the rim or, inside, from the centre, whichever is nearer."""
        c = task.candidates.columns
        centre = np.hypot(c["x"] - x, c["y"] - y)
        rim = np.abs(centre - c["radius"])
        return np.where(centre <= c["radius"], np.minimum(rim, 0.25 * centre), rim)

    def evidence(self, task: Task) -> list[EvidenceMap]:
        gathered: Gathered = task.gathered
        maps, before, supporting = self.steps(task)
        px, py, nx, ny = gathered.voting()
        low, high = gathered.range

        @cache
        def votes() -> Array:
            return centre_votes(px, py, nx, ny, (task.image.width, task.image.height), gathered.range)

        def part(left: int, top: int, right: int, bottom: int) -> Array:
            return np.ascontiguousarray(votes()[top:bottom, left:right])

        def points_at(column: float, row: float) -> Array:
            u, v = px - column, py - row
            far = np.hypot(u, v)
            chosen = np.flatnonzero((np.abs(u * ny - v * nx) <= 1.0) & (far >= low - 0.5) & (far <= high + 0.5))
            return np.stack([px[chosen], py[chosen]], axis=1)

        def votes_of(x: float, y: float) -> list[Array]:
            u, v = task.image.frame.from_source(x, y)
            far = np.hypot(px - u, py - v)
            k = int(np.argmin(far)) if len(far) else -1
            if k < 0 or far[k] > 12:
                return []
            ends = np.array(gathered.range)
            return [np.stack([px[k] + s * nx[k] * ends, py[k] + s * ny[k] * ends], axis=1) for s in (-1, 1)]

        text = "votes for a centre, of all edge points over the whole range of radii and both polarities"
        accumulator = maps.map("accumulator", "votes", "votes", "grey", part, text, 0)
        return [*before, replace(accumulator, links=self.links(task, points_at, votes_of)), supporting]

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        if reasons := self.outside(task, x, y):
            return reasons
        image, frame = task.gathered.image, task.image.frame
        u, v = (float(w) for w in frame.from_source(x, y))
        seen = rim_profile(image.pixels, image.mask, u, v, 0.5 * min(image.width, image.height), task.parameters.sigma)
        # Whoever points at an edge asks about that edge.
        off = abs(math.hypot(seen.x - u, seen.y - v) - seen.radius) if seen is not None else 0.0
        if (seen is None or off > ON_RIM) and (reasons := edge_reasons(task, x, y, "circle")):
            return reasons
        if seen is None:
            text = "no rim of any radius is above the noise around this place"
            return [Reason("gradient", 0.0, None, SLOPE, False, text, nothing=True)]
        centre = frame.to_source(seen.x, seen.y)
        at = f"{{inside}} inside a rim of radius {seen.radius * frame.scale:.1f} px around ({centre[0]:.0f}, {centre[1]:.0f})"
        trace = np.stack(frame.to_source(*seen.trace()), axis=1)
        shape = VisibleShape((seen.radius, seen.radius), seen.sign, seen.slope, seen.coverage, at, trace)
        return reasons_of(shape, task, "radius", "too uneven to be a circle")


def allowed_in_texture(rims: Rims, clear: Array, deviation: Array) -> Array:
    """Times as much as usual that each rim may deviate. `clear`: times the background that each point stands out.

    Texture pulls edge points aside and adds its own, so that rims in it deviate by more than the scatter of their points; that
    another rim has the same centre tells that this one is not a work of chance.
    """
    c = rims.columns
    allowed = np.ones(len(rims))
    covered, deviating, rounded = _OTHER
    others = np.flatnonzero((c["coverage"] >= covered) & (deviation < deviating) & (c["fidelity"] > rounded))
    x, y, radius = (c[name][others] for name in ("x", "y", "radius"))
    for row in np.flatnonzero((deviation > 1) & (deviation <= _ASIDE)).tolist():
        near = np.hypot(x - c["x"][row], y - c["y"][row]) <= _ABOUT * c["radius"][row] + 1
        ratio = radius[near] / c["radius"][row]
        ratio = np.maximum(ratio, 1 / ratio)
        if np.any((ratio > _APART[0]) & (ratio < _APART[1])):
            stands_out = np.median(clear[rims.support[rims.start[row] : rims.start[row + 1]]])
            allowed[row] = np.interp(stands_out, _FAINT, (_ASIDE, 1.0))
    return allowed
