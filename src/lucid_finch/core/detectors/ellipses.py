"""Ellipses: oval rims and circles seen at a slant, of any direction and either polarity.

Chains are cut into smooth arcs (`numerics.fitting.arcs`), arcs alone and in pairs give first ellipses, which are fitted to the
edge points near them (`numerics.fitting.ellipse_fitting`), refined across the rim and judged as circles are.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap
from lucid_finch.core.detector import Candidates, Context, DetectorParameters, Reason, Task
from lucid_finch.core.detectors.shared.declarations import FALSE_ALARMS_COLUMN
from lucid_finch.core.detectors.shared.edge_features import SLOPE, OrientedPoints, oriented_points
from lucid_finch.core.detectors.shared.image_variants import calmed
from lucid_finch.core.detectors.shared.round_shapes import (
    BEYOND,
    COVERAGE,
    COVERAGE_FLOOR,
    LEAST,
    ON_RIM,
    POLARITIES,
    SIZE_TOLERANCE,
    Gathered,
    RoundParameters,
    RoundShapes,
    VisibleShape,
    edge_reasons,
    left_out,
    longest_stretch,
    most_shapes,
    reasons_of,
    size_range,
    with_corners,
)
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.fitting.arcs import Arcs, Seeds, cut_arcs, pair_arcs
from lucid_finch.core.numerics.fitting.ellipse_fitting import fit_ellipses, refine_ellipses
from lucid_finch.core.numerics.fitting.rim_support import Density, Rims, filed_points
from lucid_finch.core.numerics.hough.line_votes import DENSITY_BLOCK, block_density
from lucid_finch.core.numerics.ragged import owners, places, starts
from lucid_finch.core.numerics.runtime.threads import cancellable
from lucid_finch.core.parameters import Range, gathers, judges
from lucid_finch.core.table import Array, Column

_FLATTEST = 0.15
"""Ratio of the axes below which nothing is gathered unless asked for."""
_IN_PIECES, _STRETCH = 0.6, (0.3, 0.38)
"""Coverage that an ellipse needs whose longest stretch is no longer than the first share of it; from the second on, no more than
others: two arcs and some points between them make an ellipse of many a curve."""
_PIECES_SURE = 12.0
"""-log10 of expected false alarms up to which that is so; from twice as many on an ellipse that deviates little is sure."""
_POLYGON = 0.7
"""Share of the swing of a regular polygon, seen at a slant, that an ellipse may have."""


class _Size(DetectorParameters):
    axis: Range | None = gathers(
        None,
        label="Semi-axes",
        unit="px",
        least=0.0,
        usual=(3.0, 200.0),
        is_range=True,
        criterion="semi_minor",
        upper_criterion="semi_major",
        tolerance=SIZE_TOLERANCE,
        auto=f"{LEAST:g} px to half the shorter side of the image",
        help="Minimum and maximum of both semi-axes. Draw a line along the longer axis of an object to set it.",
    )
    ratio_min: float = judges(
        0.25,
        label="Axis ratio, min",
        least=0.05,
        most=1.0,
        usual=(0.1, 1.0),
        criterion="ratio",
        help="Minor over major axis: flatter ones are rejected.",
    )


class EllipsesParameters(RoundParameters, _Size):
    """Parameters of `ellipses`: the size, then what both kinds of round shapes take."""


@dataclass(frozen=True)
class _Begun:
    """What the ellipses were fitted from."""

    arcs: Arcs
    seeds: Seeds


class Ellipses(RoundShapes):
    kind = "ellipses"
    purpose = "Oval rims and circles seen at a slant, of any direction, dark and bright, hidden up to half."
    Parameters = EllipsesParameters
    columns = (
        Column("semi_major", "semi-major", "px", "half of the longer axis, corrected for the smoothing", 2, "length", "angle"),
        Column("semi_minor", "semi-minor", "px", "half of the shorter axis, corrected for the smoothing", 2, "across", "angle"),
        Column("angle", "angle", "deg", "of the longer axis, 0 along x, 90 down, in [0, 180)", 2, "line angle"),
        Column("ratio", "ratio", "", "shorter over longer axis", 3),
        FALSE_ALARMS_COLUMN,
        Column("coverage", "coverage", "", "share of the rim along which there are edge points", 2),
        Column("contrast", "contrast", "grey", "step of the grey level at the rim", 1),
        Column("contrast_pct", "contrast", "%", "the same in percent of the value range", 1),
        Column("polarity", "polarity", "", "dark or bright inside", names=POLARITIES),
        Column("rms", "rms", "px", "root of the mean squared distance of its points", 3, "length"),
        Column("x_std", "x ±", "px", "one standard deviation, from the noise alone", 3, "x error", "y_std"),
        Column("y_std", "y ±", "px", "one standard deviation, from the noise alone", 3, "y error"),
        Column(
            "semi_major_std",
            "semi-major ±",
            "px",
            "one standard deviation, from the noise alone",
            3,
            "length error",
            "semi_major",
        ),
        Column(
            "semi_minor_std",
            "semi-minor ±",
            "px",
            "one standard deviation, from the noise alone",
            3,
            "length error",
            "semi_minor",
        ),
        Column("angle_std", "angle ±", "deg", "one standard deviation, from the noise alone; 180 of a circle", 2),
        Column("roundness", "roundness", "", "share of the points of the rim's chains that are on it", 2),
    )
    # Five numbers fit many a curve.
    mostly = 0.7
    rim_columns = ("semi_major", "semi_minor", "semi_major_std", "semi_minor_std")
    sized_by = "axis"

    def gather(self, task: Task) -> Gathered:
        seen = calmed(task.image, task.context)
        image, parameters, context = seen.image, task.parameters, seen.context
        oriented = oriented_points(image, parameters.region, parameters.sigma, context)
        low, high = size_range(parameters.axis, image, oriented.smoothing.sigma)
        coverage, flattest = self.floor(parameters)
        wide = max(low / BEYOND, 3.0), max(high * BEYOND, low / BEYOND + 1.0)
        with cancellable(context.cancelled):
            which, begun, rims = _fitted(image, oriented, wide, flattest, coverage)
            x, y = oriented.points.x[which], oriented.points.y[which]
            rims = refine_ellipses(image.pixels, image.mask, x, y, rims, oriented.smoothing.sigma)
        step = oriented.background.independent_step
        places = math.log(max(image.width * image.height / step**2, 10.0))
        tests = places + 2 * math.log(max((high - low) / step, 2.0)) + math.log(max(math.pi * high / step, 4.0))
        most = most_shapes(image)
        notes = left_out(begun.arcs.dropped, most + 1000, "arcs") + left_out(begun.seeds.dropped, most, "first guesses")
        notes += seen.notes
        return Gathered(oriented, which, rims, step, tests, (low, high), image, begun, notes)

    def floor(self, parameters: EllipsesParameters) -> tuple[float, float]:
        return super().floor(parameters) or COVERAGE_FLOOR, min(_FLATTEST, math.floor(parameters.ratio_min * 20) / 20)

    def form(self, task: Task) -> Candidates:
        candidates = super().form(task)
        columns, c = candidates.columns, task.gathered.rims.columns
        columns["ratio"] = c["semi_minor"] / c["semi_major"]
        columns["angle"] = np.degrees(c["turn"])
        # Beyond half a turn all directions are alike.
        columns["angle_std"] = np.minimum(np.degrees(c["turn_std"]), 180.0)
        return candidates

    def needed_coverage(self, task: Task, gain: Array, deviation: Array) -> Array:
        more = np.interp(longest_stretch(task.gathered.rims), _STRETCH, (_IN_PIECES - COVERAGE, 0.0))
        sure = np.clip(gain / math.log(10) / _PIECES_SURE - 1, 0.0, 1.0) * np.clip(2 - 2 * deviation, 0.0, 1.0)
        return np.maximum(super().needed_coverage(task, gain, deviation), COVERAGE + (1 - sure) * more)

    def deviation(self, gathered: Gathered, gain: Array) -> Array:
        return with_corners(super().deviation(gathered, gain), gathered.rims.columns["polygon"] / _POLYGON)

    def sized_like(self, parameters: EllipsesParameters, size: float, ratio: float | None = None) -> tuple[float, float]:
        return 0.75 * size * (parameters.ratio_min if ratio is None else ratio), 1.3 * size

    def size(self, columns: dict[str, Array]) -> Array:
        return np.sqrt(columns["semi_major"] * columns["semi_minor"])

    def around(self, columns: dict[str, Array]) -> Array:
        a, b = columns["semi_major"], columns["semi_minor"]
        # Ramanujan's first.
        return np.asarray(np.pi * (3 * (a + b) - np.sqrt((3 * a + b) * (a + 3 * b))))

    def outline(self, columns: dict[str, Array], angles: Array) -> Array:
        x, y, a, b, turn = (columns[n][:, None] for n in ("x", "y", "semi_major", "semi_minor", "turn"))
        u, v = a * np.cos(angles), b * np.sin(angles)
        return np.stack([x + u * np.cos(turn) - v * np.sin(turn), y + u * np.sin(turn) + v * np.cos(turn)], axis=2)

    def measured(self, task: Task) -> dict[str, Any]:
        return {**super().measured(task), "arcs": len(task.gathered.detail.arcs)}

    def distances(self, task: Task, x: float, y: float) -> Array:
        """From the rim or, inside, from the centre, whichever is nearer."""
        c = task.candidates.columns
        u, v = x - c["x"], y - c["y"]
        cos, sin = np.cos(np.radians(c["angle"])), np.sin(np.radians(c["angle"]))
        p, q = (u * cos + v * sin) / c["semi_major"], (v * cos - u * sin) / c["semi_minor"]
        g = np.hypot(p, q)
        rim = np.abs(g - 1) * g / np.maximum(np.hypot(p / c["semi_major"], q / c["semi_minor"]), 1e-9)
        rim = np.where(g > 0.05, rim, c["semi_minor"])
        return np.where(g <= 1, np.minimum(rim, 0.25 * np.hypot(u, v)), rim)

    def evidence(self, task: Task) -> list[EvidenceMap]:
        gathered: Gathered = task.gathered
        maps, before, supporting = self.steps(task)
        begun: _Begun = gathered.detail
        size = task.image.height, task.image.width
        oriented = gathered.oriented

        @cache
        def marked() -> Array:
            out = np.zeros(size, np.uint8)
            points = oriented.chains.order[_members(begun.arcs)]
            place = np.round(oriented.points.y[points]).astype(int), np.round(oriented.points.x[points]).astype(int)
            out[np.clip(place[0], 0, size[0] - 1), np.clip(place[1], 0, size[1] - 1)] = 1
            return out

        @cache
        def votes() -> Array:
            out = np.zeros(size, np.float32)
            x, y = np.round(begun.seeds.shape[:, 0]).astype(int), np.round(begun.seeds.shape[:, 1]).astype(int)
            inside = (x >= 0) & (x < size[1]) & (y >= 0) & (y < size[0])
            np.add.at(out, (y[inside], x[inside]), begun.seeds.merit[inside])
            return np.asarray(smoothed(out, gaussian_kernel(1.5)) * (2 * math.pi * 1.5**2))

        def part(values: Any) -> Any:
            return lambda left, top, right, bottom: np.ascontiguousarray(values()[top:bottom, left:right])

        arcs = maps.map("arcs", "arcs", "", "mask", part(marked), "smooth arcs that turn one way, where an ellipse can begin", 0)

        def points_at(column: float, row: float) -> Array:
            near = np.hypot(begun.seeds.shape[:, 0] - column, begun.seeds.shape[:, 1] - row) <= 3
            samples = begun.arcs.samples[np.unique(begun.seeds.arcs[near])]
            return np.stack([samples[:, 0].ravel(), samples[:, 1].ravel()], axis=1)

        def votes_of(x: float, y: float) -> list[Array]:
            if not len(begun.arcs):
                return []
            u, v = task.image.frame.from_source(x, y)
            far = np.hypot(begun.arcs.samples[:, 0] - u, begun.arcs.samples[:, 1] - v)
            arc, k = np.unravel_index(int(np.argmin(far)), far.shape)
            if far[arc, k] > 12:
                return []
            start = begun.arcs.samples[arc, :2, k]
            own = np.flatnonzero((begun.seeds.arcs == arc).any(axis=1))[:_SHOWN]
            return [np.stack([start, begun.seeds.shape[seed, :2]]) for seed in own]

        text = "centres of the ellipses that arcs, alone and in pairs, point to; each weighted by the share of its rim they cover"
        accumulator = maps.map("accumulator", "votes", "votes", "grey", part(votes), text, 0)
        return [*before, arcs, replace(accumulator, links=self.links(task, points_at, votes_of)), supporting]

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        if reasons := self.outside(task, x, y):
            return reasons
        u, v = (float(w) for w in task.image.frame.from_source(x, y))
        shape = _visible_around(task, u, v)
        on_rim = shape is not None and np.hypot(*(shape.trace - (x, y)).T).min() <= ON_RIM * task.image.frame.scale
        if not on_rim and (reasons := edge_reasons(task, x, y, "ellipse")):
            return reasons
        if shape is None:
            text = "no arcs that make an ellipse are above the noise around this place"
            return [Reason("gradient", 0.0, None, SLOPE, False, text, nothing=True)]
        return reasons_of(shape, task, "axis", "too uneven or too flat to be an ellipse")


_SHOWN = 40
"""Votes of one arc that are drawn at most."""
_WINDOW = 400
"""px: half the side of what is searched around a place when asked why."""
_MOST_AROUND = 120
"""Ellipses that are fitted when asked why."""
_FAINT = 0.5
"""Share of the usual gradient limit that is searched when asked why."""


def _members(arcs: Arcs) -> NDArray[np.int64]:
    """Indices, in the order of the chains, of all points of the arcs."""
    start = starts(arcs.last - arcs.first)
    return arcs.first[owners(start)] + places(start)


def _fitted(
    image: Image,
    oriented: OrientedPoints,
    axis: tuple[float, float],
    flattest: float,
    coverage: float,
    around: tuple[float, float] | None = None,
) -> tuple[NDArray[np.int64], _Begun, Rims]:
    """Ellipses through the reliable points, which these are, and what the ellipses were fitted from; `around`: only such as a
    place lies in."""
    p, chains, most = oriented.points, oriented.chains, most_shapes(image)
    arcs = cut_arcs(chains.order, chains.start, p.x, p.y, oriented.nx, oriented.ny, oriented.clear, most + 1000)
    seeds = pair_arcs(arcs, axis, flattest, 0.75 * coverage, most)
    if around is not None:
        seeds = seeds.around(*around, _MOST_AROUND)
    which = oriented.reliable()
    x, y, nx, ny = (a[which] for a in (p.x, p.y, oriented.nx, oriented.ny))
    filed = filed_points(x, y, nx, ny, oriented.chain_of[which], oriented.along[which], (image.width, image.height))
    density = Density.of(block_density(x, y, image.width, image.height), DENSITY_BLOCK)
    sigma = oriented.smoothing.sigma
    return which, _Begun(arcs, seeds), fit_ellipses(filed, seeds, arcs, axis, flattest, coverage, density, sigma, most + 1000)


def _visible_around(task: Task, x: float, y: float) -> VisibleShape | None:
    """The most plausible ellipse around a place of the image, of any size and polarity, fainter or with less coverage."""
    gathered: Gathered = task.gathered
    image = gathered.image
    reach = int(min(_WINDOW, 2 * gathered.range[1] + 20))
    left, top = max(int(x) - reach, 0), max(int(y) - reach, 0)
    pixels = np.ascontiguousarray(image.pixels[top : int(y) + reach + 1, left : int(x) + reach + 1])
    crop = Image.from_array(pixels, copy=False)
    limit = 2.4 * float(gathered.oriented.background.typical)
    oriented = oriented_points(crop, None, task.parameters.sigma, Context(), floor=_FAINT * limit)
    which, _, rims = _fitted(crop, oriented, (3.0, float(reach)), 0.1, 0.1, (x - left, y - top))
    c = rims.columns
    u, v = x - left - c["x"], y - top - c["y"]
    cos, sin = np.cos(c["turn"]), np.sin(c["turn"])
    inside = np.hypot((u * cos + v * sin) / c["semi_major"], (v * cos - u * sin) / c["semi_minor"]) <= 1.15
    # An arc and its chord make an oval too, but an uneven one.
    uneven = c["systematic_residual"] / (0.2 + 0.008 * np.sqrt(c["semi_major"] * c["semi_minor"]))
    sound = inside & (c["fidelity"] > 0.5) & (c["turning"] > 0.4)
    score = np.where(sound, c["count"] * c["coverage"] / (1 + 4 * uneven**2), 0.0)
    if not len(score) or score.max() <= 0:
        return None
    k = int(np.argmax(score))
    points = which[rims.points_of(np.array([k]))[0]]
    a, b = float(c["semi_major"][k]), float(c["semi_minor"][k])
    scale = image.frame.scale
    text = f"{{inside}} inside a rim with semi-axes {a * scale:.1f} and {b * scale:.1f} px around this place"
    slope = float(np.median(oriented.points.strength[points]))
    at = left + oriented.points.x[points].astype(float), top + oriented.points.y[points].astype(float)
    trace = np.stack(image.frame.to_source(*at), axis=1)
    return VisibleShape((b, a), float(c["sign"][k]), slope, float(c["coverage"][k]), text, trace)
