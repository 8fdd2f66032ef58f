"""Lines: straight edges and strokes, broken or dashed ones included, from votes over angle and offset.

Edge points vote (`numerics.hough.line_votes`); the points of a line are cut into segments and fitted (`numerics.hough.segments`).
In noise the grey levels beside a segment say how far it goes, and that it is one (`numerics.hough.line_contrast`).
A line is accepted if the background produces one like it less often than `false_alarms`, so that no number of peaks or votes is
needed.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.detection import EvidenceMap, MapLinks, Outlines, Votes
from lucid_finch.core.detector import Candidates, Detector, DetectorParameters, Example, Finished, Reason, Task
from lucid_finch.core.detectors.shared.declarations import FALSE_ALARMS_COLUMN, false_alarms_parameter, sigma_parameter
from lucid_finch.core.detectors.shared.edge_features import (
    ABOVE_NOISE,
    SLOPE,
    GradientMaps,
    OrientedPoints,
    oriented_points,
    other_smoothings,
    smoothing_of,
)
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Exclusions, Limit
from lucid_finch.core.numerics.edges.edge_points import EdgePoints
from lucid_finch.core.numerics.hough.line_contrast import line_contrast
from lucid_finch.core.numerics.hough.line_ends import settle_ends
from lucid_finch.core.numerics.hough.line_sharpness import line_sharpness
from lucid_finch.core.numerics.hough.line_votes import LineSpace, Traced, VotingPoints, line_votes, trace_lines
from lucid_finch.core.numerics.hough.segments import Segments, cut_segments, refine_segments
from lucid_finch.core.numerics.normal_tail import log_tail
from lucid_finch.core.parameters import Length, Range, forms, gathers, judges
from lucid_finch.core.table import Array, Column

_THIN = 8.5
"""px: a stroke up to this width is one line, not two edges."""
_UNSURE = 1.5
"""px: by how much sides in noise may lie farther apart."""

_APPARENT = 2.6
"""Times the smoothing that the sides of a thin stroke are apart at most, because of it."""

_SOFT, _SOFT_STROKE, _SLIM = 1.2, 20.0, 6.0
"""px of blur from which on a stroke may seem so wide (px), if it is so many times as long and stands alone."""

_STROKE = 60.0
"""px: wider strokes are not paired, even on request."""

_SLACK = 2.0
"""Near misses are kept up to this power of ten of expected false alarms."""

_ENOUGH = (0.2, 0.8, 0.9)
_SCATTERED = (0.3, 0.56)
"""Coverage that a line needs at least, whose points scatter by so much, px;"""
_DOUBTFUL = (30.0, 60.0)
"""the most where it stands out by no more than the first -log10 of expected false alarms."""

_REMAINS = 3.0
"""-log10 of false alarms by which a line must stand out more where a pattern was smoothed away: what is left of it makes rows."""
_CLOSE = 2.0
"""px: parallel lines closer than this are the same edge."""

_SHOWN_ANGLES = 360
_SHOWN_OFFSETS = 480


class LinesParameters(DetectorParameters):
    """Parameters of `lines`."""

    sigma: float | None = sigma_parameter(more=True)
    angle_step: float = gathers(
        1.0,
        label="Angle step",
        unit="degrees",
        least=0.1,
        most=5.0,
        usual=(0.25, 2.0),
        help="Width of a cell of the accumulator. Lines are refined afterwards, so it has little effect.",
        more=True,
    )
    offset_step: float = gathers(
        1.0,
        label="Offset step",
        unit="px",
        least=0.25,
        most=20.0,
        usual=(0.5, 4.0),
        help="Height of a cell of the accumulator.",
        more=True,
    )
    angles: Range | None = forms(
        None,
        label="Angles",
        unit="degrees",
        least=-180.0,
        most=360.0,
        usual=(0.0, 180.0),
        is_range=True,
        criterion="unwrapped_angle",
        auto="all",
        help="Minimum and maximum angle of the lines: 0 is along x, 90 down. A range may extend past 180: 170 to 190.",
    )
    bridge: Length | None = forms(
        None,
        label="Gap, max",
        unit="px",
        is_length=True,
        usual=(0.0, 100.0),
        auto="as long as the pieces make likely",
        help="Longest gap within a line: px, or % of the image's diagonal, %w, %h.",
    )
    pair: bool | None = forms(
        None,
        label="Pair stroke sides",
        auto="strokes up to 8 px wide, wider ones in blurred images",
        help="The two sides of a stroke become its centre line, with its width.",
    )
    extent: Literal["segments", "full"] = forms(
        "segments",
        label="Extent",
        help="segments: from end to end; full: across the whole image, one per line.",
        more=True,
    )
    false_alarms: float = false_alarms_parameter("Accept lines that the image's background produces less often than this.")
    length_min: Length = judges(
        Length(0.0),
        label="Length, min",
        unit="px",
        usual=(0.0, 500.0),
        criterion="length",
        tolerance=1.0,
        help="Shorter lines are rejected: px, or % of the image's diagonal, %w, %h. 1 px less is not held against a line.",
    )
    coverage_min: float | None = judges(
        None,
        label="Coverage, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="coverage",
        auto=f"{_ENOUGH[0]:g}; up to {_ENOUGH[2]:g} for lines whose points scatter, since those of texture do",
        help="Share of a line along which there are edge points.",
    )
    bow_max: float = judges(
        1.2,
        label="Sagitta, max",
        unit="% of the length",
        least=0.0,
        most=50.0,
        usual=(0.0, 10.0),
        criterion="sagitta",
        sense="at most",
        help="Height of the arc over its chord: rejects arcs of circles.",
        more=True,
    )
    sharpness_min: float = judges(
        0.55,
        label="Sharpness, min",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="sharpness",
        help="How much less steep the grey levels are a few px beside a line than across it: 1 at an edge, 0 on an even ramp,"
        " as of a highlight.",
        more=True,
    )


@dataclass(frozen=True)
class Gathered:
    """Voting points, the geometry of the accumulator, and the lines of its peaks, in the frame of the image."""

    oriented: OrientedPoints
    voting: VotingPoints
    which: NDArray[np.int64]
    """The edge point behind each voting point."""
    space: LineSpace
    traced: Traced
    tests: float
    """Logarithm of how many lines there may be."""

    @property
    def nbytes(self) -> int:
        return self.oriented.nbytes + 6 * self.voting.x.nbytes + self.traced.support.nbytes


@dataclass(frozen=True)
class _Formed:
    segments: Segments
    sides: NDArray[np.int64]
    """(n, 2) segments behind each candidate; the second is -1 except for strokes."""


class Lines(Detector):
    kind = "lines"
    purpose = "Straight edges and strokes, broken and dashed ones joined."
    Parameters = LinesParameters
    columns = (
        FALSE_ALARMS_COLUMN,
        Column("length", "length", "px", "from end to end", 1, "length", "angle"),
        Column("angle", "angle", "deg", "0 along x, 90 down, in [0, 180)", 2),
        Column("angle_std", "angle ±", "deg", "one standard deviation, from the noise alone", 4),
        Column("coverage", "coverage", "", "share of the length along which there are edge points or, in noise, contrast", 2),
        Column("rms", "rms", "px", "root of the mean squared distance of its points", 3, "across", "angle"),
        Column(
            "breadth",
            "breadth",
            "px",
            "width of a stroke whose two sides were paired; NaN for a single edge",
            2,
            "across",
            "angle",
        ),
        Column("rho", "offset", "px", "rho: x cos theta + y sin theta of every point of the line", 2),
        Column("theta", "normal", "deg", "direction of the normal, in [0, 180)", 2),
        Column("votes", "votes", "", "weighted votes of its points", 0),
        Column("x1", "x1", "px", "one end", 2, "x", "y1"),
        Column("y1", "y1", "px", "one end", 2, "y"),
        Column("x2", "x2", "px", "other end", 2, "x", "y2"),
        Column("y2", "y2", "px", "other end", 2, "y"),
    )
    criteria = (
        Column("enough", "coverage for its scatter", "", "coverage over what a line so uneven needs", 2),
        Column("sharpness", "sharpness", "", "share of the slope across the line that is gone beside it", 2),
        Column("sagitta", "sagitta", "% of the length", "height of the arc over its chord, less what noise explains", 2),
        Column("unwrapped_angle", "angle", "deg", "the angle, in the half turn around the middle of the range", 2),
    )
    near = 8.0
    main_maps = ("magnitude", "accumulator", "supporting")
    examples = (Example(), Example({"pair": True, "extent": "full", "angles": (0.0, 170.0)}))

    def gather(self, task: Task) -> Gathered:
        image, parameters = task.image, task.parameters
        # How soft the strokes are is a matter of the image, whatever the smoothing.
        smoothing = smoothing_of(image, parameters.region, None, task.context).for_lines(parameters.sigma)
        oriented = oriented_points(image, parameters.region, smoothing.sigma, task.context)
        oriented = replace(oriented, smoothing=smoothing)
        voting, which = voting_points(oriented, image)
        reach = 0.5 * math.hypot(image.width, image.height) + 1
        space = LineSpace(max(18, round(180 / parameters.angle_step)), parameters.offset_step, reach)
        step = oriented.background.independent_step
        # Every pair of ends that can be distinguished.
        tests = 2 * math.log(max(image.width * image.height / step**2, 10.0))
        slack = (_SLACK + (self.floor(parameters) or 0.0)) * math.log(10)
        traced = trace_lines(voting, oriented.along[which], space, image.width, image.height, step, tests, slack)
        return Gathered(oriented, voting, which, space, traced, tests)

    def floor(self, parameters: LinesParameters) -> float | None:
        # Powers of ten above one false alarm per image, rounded up: more lines have to be traced.
        return float(max(0, math.ceil(math.log10(parameters.false_alarms))))

    def settle(self, task: Task) -> LinesParameters:
        given: LinesParameters = task.parameters
        return given.model_copy(update={"sigma": task.gathered.oriented.smoothing.sigma})

    def remedies(self, task: Task) -> list[dict[str, Any]]:
        others = other_smoothings(task.parameters.sigma, task.given.sigma)
        paired = [{**other, "pair": True} for other in others[-1:]]
        faint = {"bridge": 60.0, "coverage_min": 0.3, "false_alarms": max(1.0, task.parameters.false_alarms)}
        noisy = [{"sigma": 3.0, "pair": True}, {**faint, "sigma": 3.0}] if task.gathered.oriented.smoothing.hides_edges else []
        return [*others, {"bridge": 25.0}, {"pair": True}, *paired, faint, *noisy]

    def notes(self, task: Task) -> tuple[str, ...]:
        oriented: OrientedPoints = task.gathered.oriented
        return oriented.smoothing.notes()

    def form(self, task: Task) -> Candidates:
        image, parameters = task.image, task.parameters
        gathered: Gathered = task.gathered
        bridge = None if parameters.bridge is None else parameters.bridge.pixels(*image.source_size) / image.frame.scale
        if parameters.extent == "full":
            bridge = math.inf
        segments = cut_segments(
            gathered.voting, gathered.traced, gathered.space.reach, bridge, gathered.oriented.background.correlation
        )
        significant = np.flatnonzero(segments.columns["gain"] > 0)
        segments = refine_segments(image.pixels, image.mask, gathered.voting, segments, significant)
        smoothing = gathered.oriented.smoothing
        if smoothing.is_noisy and bridge is None:
            segments = _seen_together(image, segments, gathered.tests)
        s = segments.columns
        soft = max(0.7, np.nan_to_num(smoothing.softest))
        thin = _THIN + (_UNSURE if smoothing.hides_edges else 0.0)
        widest = {True: _STROKE, False: 0.0, None: max(thin, _APPARENT * math.hypot(smoothing.sigma, 0.7))}[parameters.pair]
        sides = _paired(s, widest, _SOFT_STROKE if parameters.pair is None and soft > _SOFT else 0.0)
        one, other = sides[:, 0], sides[:, 1]
        both = other >= 0
        c = {name: values[one] for name, values in s.items()}
        apart = np.full(len(one), np.nan)
        if both.any():
            apart[both] = _join(c, s, one, other, both)
        # Some soft edges elsewhere, as of a highlight, say nothing of strokes.
        blur = math.hypot(smoothing.sigma, max(0.7, np.nan_to_num(smoothing.blur)))
        breadth = stroke_breadth(apart, blur)
        full = parameters.extent == "full"
        if not full:
            c["t1"], c["t2"] = settle_ends(image.pixels, image.mask, c, breadth, soft, np.flatnonzero(c["gain"] > 0))
        clear = np.flatnonzero(c["gain"] > 0)
        sharpness = line_sharpness(image.pixels, image.mask, c, apart, smoothing.sigma, clear)
        low, high = _span(c, image)
        # The centre of a stroke may leave the image before its sides do.
        c["t1"], c["t2"] = (low, high) if full else (np.clip(c["t1"], low, high), np.clip(c["t2"], low, high))
        ends = [_places(c, c[t]) for t in ("t1", "t2")]
        left, top = 0.5 * (image.width - 1), 0.5 * (image.height - 1)
        (x1, y1), (x2, y2) = ((x + left, y + top) for x, y in ends)
        # Left to right, or downwards.
        swap = (x2 < x1) | ((x2 == x1) & (y2 < y1))
        x1, x2, y1, y2 = np.where(swap, x2, x1), np.where(swap, x1, x2), np.where(swap, y2, y1), np.where(swap, y1, y2)
        length = c["t2"] - c["t1"]
        log_nfa = c["gain"] / math.log(10) - (_REMAINS if smoothing.is_pattern else 0.0)
        u, v = image.frame.to_source(np.stack([x1, x2]), np.stack([y1, y2]))
        angle = np.degrees(np.arctan2(v[1] - v[0], u[1] - u[0])) % 180.0
        sagitta = np.maximum(np.abs(c["sagitta"]) - 2 * c["sagitta_std"] - 0.15, 0.0) / np.maximum(length, 1.0) * 100
        columns = {
            "x": 0.5 * (x1 + x2), "y": 0.5 * (y1 + y2), "x1": x1, "y1": y1, "x2": x2, "y2": y2,
            "length": np.hypot(x2 - x1, y2 - y1), "angle": angle, "angle_std": np.degrees(c["angle_std"]),
            "coverage": np.minimum(c["held"] / np.maximum(length, 1.0), 1.0), "rms": c["rms"], "breadth": breadth,
            "enough": np.minimum(c["held"] / np.maximum(length, 1.0), 1.0) / _needed(c["rms"], smoothing.sigma, log_nfa),
            "votes": c["votes"], "log_nfa": log_nfa, "sagitta": sagitta, "sharpness": sharpness,
             "unwrapped_angle": _unwrapped(angle, parameters.angles),
            **dict(zip(("theta", "rho"), _normal_form(u, v), strict=True)),
        }  # fmt: skip
        pairs, closeness = _close_parallels(c, breadth)
        return Candidates(columns, log_nfa, 40.0, Exclusions("spacing", pairs, closeness, -_CLOSE), _Formed(segments, sides))

    def limits(self, task: Task) -> tuple[Limit, ...]:
        found = super().limits(task)
        if task.given.coverage_min is None:
            found += (Limit("coverage_min", "enough", "at least", 1.0, admits=0.0),)
        return found

    def measured(self, task: Task) -> dict[str, Any]:
        gathered: Gathered = task.gathered
        typical = gathered.oriented.background.typical / task.image.frame.scale
        return {"background": typical, "points": len(gathered.voting)}

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["log_nfa"] > -_SLACK)

    def finish(self, task: Task, chosen: NDArray[np.int64]) -> Finished:
        gathered: Gathered = task.gathered
        columns = {name: values[chosen] for name, values in task.candidates.columns.items()}
        close = 1 / (1 + (np.nan_to_num(columns["rms"]) / (0.5 * task.image.frame.scale)) ** 2)
        columns["score"] = columns["coverage"] * close
        xy = np.stack([columns[n] for n in ("x1", "y1", "x2", "y2")], axis=1).reshape(-1, 2)
        start = np.arange(len(chosen) + 1, dtype=np.int64) * 2
        points, chain = _supporting(task.candidates.detail, chosen)

        def listed() -> dict[str, Array]:
            return gathered.oriented.listed(gathered.which[points], chain)

        return Finished(columns, Outlines(xy, start, np.zeros(len(chosen), bool)), listed, outlines_in_source=True)

    def distances(self, task: Task, x: float, y: float) -> Array:
        c = task.candidates.columns
        dx, dy = c["x2"] - c["x1"], c["y2"] - c["y1"]
        along = ((x - c["x1"]) * dx + (y - c["y1"]) * dy) / np.maximum(dx * dx + dy * dy, 1e-9)
        along = np.clip(along, 0.0, 1.0)
        return np.hypot(c["x1"] + along * dx - x, c["y1"] + along * dy - y)

    def evidence(self, task: Task) -> list[EvidenceMap]:
        gathered: Gathered = task.gathered
        points = gathered.oriented.points
        maps = GradientMaps(task.image, points, gathered.oriented.background, task.parameters.sigma)

        @cache
        def supporting() -> tuple[EdgePoints, NDArray[np.bool_]]:
            kept = np.zeros(len(points), bool)
            kept[gathered.which[_supporting(task.candidates.detail, task.judgement.found)[0]]] = True
            return points, kept

        steps = [m for m in maps.listed() if m.name in ("smoothed", "magnitude", "thinned")]
        return [*steps, _accumulator(task), maps.marked("supporting", "supporting", "points of the accepted lines", supporting)]

    def probe(self, task: Task, x: float, y: float) -> list[Reason]:
        if reasons := self.outside(task, x, y):
            return reasons
        oriented: OrientedPoints = task.gathered.oriented
        points, scale = oriented.points, task.image.frame.scale
        u, v = task.image.frame.from_source(x, y)
        near = np.flatnonzero(np.hypot(points.x - u, points.y - v) <= 6.0)
        strongest = GradientMaps(task.image, points, oriented.background, task.parameters.sigma).strongest_near(x, y)
        if strongest.measured < strongest.limit or len(near) < 5:
            text = f"the strongest gradient within {strongest.reach} px is {strongest.measured:.2f} {SLOPE}, "
            text += f"points need {strongest.limit:.2f} here, and neighbours"
            nothing = strongest.measured < ABOVE_NOISE * strongest.limit
            return [Reason("gradient", strongest.measured, strongest.limit, SLOPE, False, text, nothing=nothing)]
        # Whether neighbours share a direction shows if anything straight is here.
        c, s = oriented.nx[near], oriented.ny[near]
        agree = abs(complex(np.mean((c + 1j * s) ** 2)))
        text = f"{len(near)} edge points are within {6 * scale:.0f} px; " + (
            "they share a direction, but too few follow it: the stretch is too short"
            if agree > 0.8
            else "they have different directions: a corner, a curve or texture"
        )
        return [Reason("alignment", agree, 0.8, "", False, text)]


def voting_points(oriented: OrientedPoints, image: Image) -> tuple[VotingPoints, NDArray[np.int64]]:
    """The reliable points as they vote, relative to the centre of the image, and which they are."""
    which = oriented.reliable()
    z = oriented.clear[which]
    left, top = 0.5 * (image.width - 1), 0.5 * (image.height - 1)
    angle_error = np.clip(1.4 / z, 0.08, 0.35).astype(np.float32)
    weight = np.clip(np.round(1.5 * (z - 1)), 1, 8).astype(np.int32)
    points = oriented.points
    x, y = points.x[which] - np.float32(left), points.y[which] - np.float32(top)
    return VotingPoints(x, y, oriented.nx[which], oriented.ny[which], angle_error, weight), which


def _needed(rms: Array, sigma: float, log_nfa: Array) -> Array:
    """Coverage that lines need; of wide smoothing the points of any line scatter more."""
    low, high = (end * max(1.0, sigma / 1.2) for end in _SCATTERED)
    most = np.interp(log_nfa, _DOUBTFUL, _ENOUGH[:0:-1])
    return _ENOUGH[0] + (most - _ENOUGH[0]) * np.clip((np.nan_to_num(rms) - low) / (high - low), 0.0, 1.0)


def _places(c: dict[str, Array], t: Array) -> tuple[Array, Array]:
    """Points at `t` along lines in normal form."""
    cos, sin = np.cos(c["theta"]), np.sin(c["theta"])
    return c["rho"] * cos - t * sin, c["rho"] * sin + t * cos


def _seen_together(image: Image, segments: Segments, tests: float) -> Segments:
    """Segments with the place, ends and gain that the grey levels beside them give, where those say more than edge points."""
    columns = dict(segments.columns)
    seen = line_contrast(image.pixels, image.mask, image.quantum, columns, np.arange(len(segments)))
    gain = -math.log(10) * log_tail(seen.clear) - tests
    more = gain > columns["gain"]
    half = np.maximum(0.5 * (seen.t2 - seen.t1), 1.0)
    better = {
        "theta": seen.theta, "rho": seen.rho, "t1": seen.t1, "t2": seen.t2, "gain": gain, "held": seen.held,
        "angle_std": np.maximum(columns["angle_std"], 0.5 / half),
    }  # fmt: skip
    columns.update({name: np.where(more, values, columns[name]) for name, values in better.items()})
    return replace(segments, columns=columns)


def _span(c: dict[str, Array], image: Image) -> tuple[Array, Array]:
    """Where lines enter and leave the image, as positions along the lines."""
    cos, sin = np.cos(c["theta"]), np.sin(c["theta"])
    low, high = np.full(len(cos), -np.inf), np.full(len(cos), np.inf)
    for at, way, half in ((c["rho"] * cos, -sin, 0.5 * image.width), (c["rho"] * sin, cos, 0.5 * image.height)):
        slow = np.abs(way) < 1e-9
        with np.errstate(divide="ignore", invalid="ignore"):
            one, other = (-half - at) / way, (half - at) / way
        low = np.where(slow, low, np.maximum(low, np.minimum(one, other)))
        high = np.where(slow, high, np.minimum(high, np.maximum(one, other)))
    return low, np.maximum(high, low)


def _normal_form(u: Array, v: Array) -> tuple[Array, Array]:
    """theta in [0, 180) degrees and rho of lines through two places each of the source."""
    turn = np.arctan2(u[0] - u[1], v[1] - v[0]) % np.pi
    turn = np.where(turn >= np.pi, 0.0, turn)
    return np.degrees(turn), u.mean(axis=0) * np.cos(turn) + v.mean(axis=0) * np.sin(turn)


def _unwrapped(angle: Array, wanted: Range | None) -> Array:
    """Angles in the half turn around the middle of the range."""
    if wanted is None:
        return angle
    low = wanted[0] if wanted[0] is not None else (wanted[1] or 0.0) - 180.0
    high = wanted[1] if wanted[1] is not None else low + 180.0
    middle = 0.5 * (low + high)
    return (angle - middle + 90.0) % 180.0 - 90.0 + middle


def _neighbours(s: dict[str, Array], widest: float, most_turned: float) -> tuple[Array, Array, Array, Array]:
    """Pairs of nearly parallel segments up to `widest` px apart, their distance where they overlap, and the overlap as a share
    of the shorter one."""
    count = len(s["theta"])
    nothing = np.empty(0, np.int64)
    if count < 2:
        return nothing, nothing, np.empty(0), np.empty(0)
    cos, sin = np.cos(s["theta"]), np.sin(s["theta"])
    length = s["t2"] - s["t1"]
    middle = 0.5 * (s["t1"] + s["t2"])
    mx, my = s["rho"] * cos - middle * sin, s["rho"] * sin + middle * cos
    turn = s["theta"] % np.pi
    by_turn = np.argsort(turn, kind="stable")
    ring = np.concatenate([turn[by_turn], turn[by_turn] + np.pi])
    last = np.minimum(np.searchsorted(ring, turn[by_turn] + most_turned, side="right"), np.arange(count) + count)
    times = last - np.arange(count) - 1
    first = np.repeat(np.arange(count), times)
    a = by_turn[first]
    b = by_turn[(first + 1 + np.arange(len(first)) - np.repeat(np.cumsum(times) - times, times)) % count]
    off = np.abs((mx[b] - mx[a]) * cos[a] + (my[b] - my[a]) * sin[a])
    near = off <= widest + most_turned * 0.5 * (length[a] + length[b])
    a, b = a[near], b[near]
    # Along and across the longer one.
    swap = length[b] > length[a]
    a, b = np.where(swap, b, a), np.where(swap, a, b)
    at = []
    for end in ("t1", "t2"):
        x, y = s["rho"][b] * cos[b] - s[end][b] * sin[b], s["rho"][b] * sin[b] + s[end][b] * cos[b]
        at.append((y * cos[a] - x * sin[a], x * cos[a] + y * sin[a] - s["rho"][a]))
    low, high = np.minimum(at[0][0], at[1][0]), np.maximum(at[0][0], at[1][0])
    overlap = np.minimum(high, s["t2"][a]) - np.maximum(low, s["t1"][a])
    share = overlap / np.maximum(length[b], 1.0)
    apart = 0.5 * (at[0][1] + at[1][1])
    return a, b, apart, share


def _paired(s: dict[str, Array], widest: float, soft: float) -> NDArray[np.int64]:
    """(n, 2): which segments become one candidate, the second -1 where one stands alone. The closest pairs come first.

    Sides up to `widest` px apart; in a blurred image, long ones that end together up to `soft` px.
    """
    count = len(s["theta"])
    alone = np.stack([np.arange(count), np.full(count, -1)], axis=1)
    if widest <= 0 or count < 2:
        return alone
    a, b, apart, share = _neighbours(s, max(widest, soft), math.radians(4.0))
    length = s["t2"] - s["t1"]
    isolated = (length[b] > 0.8 * length[a]) & (share > 0.8) & (length[b] > _SLIM * np.abs(apart)) & (np.abs(apart) <= soft)
    # The gradients of a stroke's sides point away from each other, or towards each other.
    flip = np.where(np.cos(s["theta"][a] - s["theta"][b]) < 0, -1.0, 1.0)
    opposite = (s["side"][a] * s["side"][b] * flip < -0.25) & ((np.abs(apart) <= widest) | isolated) & (np.abs(apart) > 0.5)
    alike = (share > 0.5) & (s["t2"][b] - s["t1"][b] > 0.5 * (s["t2"][a] - s["t1"][a]))
    use = np.flatnonzero(opposite & alike & (s["gain"][a] > 0) & (s["gain"][b] > 0))
    partner = np.full(count, -1)
    for k in use[np.argsort(np.abs(apart[use]), kind="stable")]:
        if partner[a[k]] < 0 and partner[b[k]] < 0:
            partner[a[k]], partner[b[k]] = b[k], a[k]
    first = (partner < 0) | (np.arange(count) < partner)
    return np.stack([np.flatnonzero(first), partner[first]], axis=1)


def _join(c: dict[str, Array], s: dict[str, Array], one: Array, other: Array, both: Array) -> Array:
    """Replaces the first of two sides by their centre line; how far they were apart, px."""
    i, j = one[both], other[both]
    back = np.cos(s["theta"][j] - s["theta"][i]) < 0
    theta = s["theta"][j] + np.where(back, np.pi, 0.0)
    theta += 2 * np.pi * np.round((s["theta"][i] - theta) / (2 * np.pi))
    turn = 0.5 * (theta + s["theta"][i])
    cos, sin = np.cos(turn), np.sin(turn)
    along, off = [], []
    for k in (i, j):
        ends = [_places({n: s[n][k] for n in ("theta", "rho")}, s[t][k]) for t in ("t1", "t2")]
        along += [y * cos - x * sin for x, y in ends]
        off.append(0.5 * sum(x * cos + y * sin for x, y in ends))
    c["theta"][both], c["rho"][both] = turn, 0.5 * (off[0] + off[1])
    c["t1"][both], c["t2"][both] = np.min(along, axis=0), np.max(along, axis=0)
    c["held"][both] = np.maximum(s["held"][i], s["held"][j])
    for name in ("gain", "votes"):
        c[name][both] = s[name][i] + s[name][j]
    c["rms"][both] = np.sqrt(0.5 * (s["rms"][i] ** 2 + s["rms"][j] ** 2))
    c["angle_std"][both] = 0.5 * np.hypot(s["angle_std"][i], s["angle_std"][j])
    for name in ("sagitta", "sagitta_std"):
        c[name][both] = 0.5 * (np.abs(s[name][i]) + np.abs(s[name][j]))
    return np.asarray(np.abs(off[0] - off[1]))


def stroke_breadth(apart: Array, blur: float) -> Array:
    """Width of strokes, px, whose sides are `apart` px from each other after a Gaussian of `blur` px.

    The slopes of two near sides cancel between them, which moves their extrema outwards: with half the width b and half the
    distance a, (a + b) / (a - b) = exp(2 a b / blur^2).
    """
    half = 0.5 * np.asarray(apart, float)
    low, high = np.zeros_like(half), half.copy()
    for _ in range(50):
        b = 0.5 * (low + high)
        grows = np.log((half + b) / np.maximum(half - b, 1e-12)) > 2 * half * b / blur**2
        low, high = np.where(grows, low, b), np.where(grows, b, high)
    return np.where(half >= 3 * blur, apart, low + high)


def _close_parallels(c: dict[str, Array], breadth: Array) -> tuple[Array, Array]:
    """Pairs of candidates so close that they are the same edge, or one is a piece of a side of the other, a stroke; and their
    negative distance."""
    a, b, apart, share = _neighbours(c, 2 * _CLOSE + 0.5 * float(np.nanmax(breadth, initial=0.0)), math.radians(4.0))
    flip = np.where(np.cos(c["theta"][a] - c["theta"][b]) < 0, -1.0, 1.0)
    same = (share > 0.5) & (c["side"][a] * c["side"][b] * flip > -0.5)
    # The side of a stroke is half its width from its middle.
    wide = np.nan_to_num(0.5 * np.fmax(breadth[a], breadth[b]))
    away = np.where(same, np.abs(apart), np.abs(np.abs(apart) - wide))
    use = same & (np.abs(apart) <= 2 * _CLOSE) | (share > 0.7) & (np.isnan(breadth[a]) != np.isnan(breadth[b]))
    return np.stack([a[use], b[use]], axis=1), -away[use]


def _supporting(formed: _Formed, chosen: NDArray[np.int64]) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
    """Voting points of the chosen candidates, and the place among them of the candidate that each supports."""
    start, support = formed.segments.start, formed.segments.support
    parts, chain = [np.empty(0, np.int32)], [np.empty(0, np.int64)]
    for k, candidate in enumerate(chosen.tolist()):
        for segment in formed.sides[candidate].tolist():
            if segment >= 0:
                parts.append(support[start[segment] : start[segment + 1]])
                chain.append(np.full(len(parts[-1]), k))
    return np.concatenate(parts), np.concatenate(chain)


def _cells(task: Task, candidates: NDArray[np.int64]) -> NDArray[np.float64]:
    """Column and row of each candidate in the accumulator as it is shown."""
    space, c = _shown_space(task), task.candidates.columns
    return np.stack([c["theta"][candidates] * space.angles / 180, c["rho"][candidates] / space.step + space.middle], axis=1)


def _shown_space(task: Task) -> LineSpace:
    """The cells of the accumulator as it is shown: over the source, finer in angle, so that it is about as wide as high."""
    width, height = task.image.source_size
    reach = math.hypot(width, height) + 1
    return LineSpace(_SHOWN_ANGLES, max(task.gathered.space.step, 2 * reach / _SHOWN_OFFSETS), reach)


def _source_points(task: Task) -> VotingPoints:
    """The voting points in the source."""
    v, frame = task.gathered.voting, task.image.frame
    left, top = (np.float32(0.5 * (n - 1)) for n in (task.image.width, task.image.height))
    x, y, nx, ny = v.x + left, v.y + top, v.nx, v.ny
    if not frame.is_identity:
        x, y = frame.to_source(x, y)
        direction = np.radians(frame.gradient_direction(np.degrees(np.arctan2(ny, nx))))
        nx, ny = np.cos(direction), np.sin(direction)
    x, y, nx, ny = (np.ascontiguousarray(a, np.float32) for a in (x, y, nx, ny))
    return VotingPoints(x, y, nx, ny, v.angle_error, v.weight)


def _accumulator(task: Task) -> EvidenceMap:
    """Votes over the direction of the normal and the offset from pixel (0, 0) of the source."""
    space = _shown_space(task)

    @cache
    def votes() -> Array:
        return np.ascontiguousarray(line_votes(_source_points(task), space).T.astype(np.float32))

    def compute(left: int, top: int, right: int, bottom: int) -> Array:
        return np.ascontiguousarray(votes()[top:bottom, left:right])

    axes = (
        np.degrees(space.turns), (np.arange(space.offsets) - space.middle) * space.step,
        "normal, degrees", "offset, px",
    )  # fmt: skip
    text = "weighted votes of all edge points, over the normal of a line and its offset from pixel (0, 0)"
    return EvidenceMap(
        "accumulator", "votes", "votes", "grey", space.angles, space.offsets, compute, help=text, axes=axes, links=_links(task)
    )


def _links(task: Task) -> MapLinks:
    """How the accumulator, as it is shown, and the image belong together."""
    space = _shown_space(task)

    @cache
    def points() -> VotingPoints:
        return _source_points(task)

    def votes_at(column: float, row: float) -> Votes:
        v = points()
        theta, rho = column * math.pi / space.angles, (row - space.middle) * space.step
        cos, sin = math.cos(theta), math.sin(theta)
        near = np.abs(v.x * cos + v.y * sin - rho) <= max(0.75 * space.step, 1.5)
        chosen = np.flatnonzero(near & (np.abs(v.nx * sin - v.ny * cos) <= np.sin(v.angle_error)))
        every = np.concatenate([task.rows, task.judgement.order])
        cells = _cells(task, every)
        away = np.abs(cells - (column, row))
        # Half a turn on, the same line has its offset with the other sign.
        other = np.stack([space.angles - away[:, 0], np.abs(cells[:, 1] - (2 * space.middle - row))], axis=1)
        away = np.minimum(away.max(axis=1), other.max(axis=1))
        best = int(np.argmin(away)) if len(away) else -1
        candidate = int(every[best]) if best >= 0 and away[best] <= 4 else -1
        if candidate >= 0:
            # The cell of a stroke is between those of its sides: its votes are those of its supporting points.
            chosen = _supporting(task.candidates.detail, np.array([candidate]))[0].astype(np.int64)
        return Votes(candidate, np.stack([v.x[chosen], v.y[chosen]], axis=1))

    def votes_of(x: float, y: float) -> list[Array]:
        v = points()
        far = np.hypot(v.x - x, v.y - y)
        k = int(np.argmin(far)) if len(far) else -1
        if k < 0 or far[k] > 12:
            return []
        columns = np.arange(space.angles, dtype=float)
        rows = (v.x[k] * np.cos(space.turns) + v.y[k] * np.sin(space.turns)) / space.step + space.middle
        return [np.stack([columns, rows], axis=1)]

    return MapLinks(lambda: _cells(task, task.rows), votes_at, votes_of)
