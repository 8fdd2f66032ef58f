"""Lines: straight edges and strokes, broken or dashed ones included, out of votes over angle and offset.

Edge points vote (`numerics.hough.line_votes`); what supports a line is cut into segments and fitted (`numerics.hough.segments`). Accepted is
what the background would bring forth less often than `false_alarms`, so that neither a number of peaks nor of votes is asked.
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
from lucid_finch.core.detectors.shared.edge_features import SLOPE, GradientMaps, OrientedPoints, oriented_points
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Limit, Rivals
from lucid_finch.core.numerics.edges.edge_points import EdgePoints
from lucid_finch.core.numerics.hough.line_votes import LineSpace, Traced, Voters, line_votes, trace_lines
from lucid_finch.core.numerics.hough.segments import Segments, cut_segments, refined
from lucid_finch.core.parameters import Length, Range, forms, gathers, judges
from lucid_finch.core.regions import blocked_pixels

_THIN = 8.0
"""px: a stroke up to so wide is seen as one line, not as two edges."""

_STROKE = 60.0
"""px: wider ones are not paired, even when asked for."""

_SLACK = 2.0
"""Near misses are kept down to so many powers of ten below an expected number of one."""

_CLOSE = 2.0

_SHOWN_ANGLES = 360
_SHOWN_OFFSETS = 480


class LinesParameters(DetectorParameters):
    """Parameters of `lines`."""

    sigma: float = gathers(
        1.2,
        label="Smoothing",
        unit="px",
        least=0.3,
        most=50.0,
        usual=(0.5, 6.0),
        help="Standard deviation of the Gaussian before the gradient is taken.",
    )
    angle_step: float = gathers(
        1.0,
        label="Angle step",
        unit="degrees",
        least=0.1,
        most=5.0,
        usual=(0.25, 2.0),
        help="Width of a cell of the accumulator. Lines are refined afterwards: it hardly matters.",
    )
    offset_step: float = gathers(
        1.0,
        label="Offset step",
        unit="px",
        least=0.25,
        most=20.0,
        usual=(0.5, 4.0),
        help="Height of a cell of the accumulator.",
    )
    angles: Range | None = forms(
        None,
        label="Angles",
        unit="degrees",
        least=-180.0,
        most=360.0,
        usual=(0.0, 180.0),
        is_range=True,
        criterion="turned",
        auto="all",
        help="Only lines whose angle lies between these: 0 runs along x, 90 down. A range may run past 180: 170 to 190.",
    )
    bridge: Length | None = forms(
        None,
        label="Bridge gaps up to",
        unit="px",
        is_length=True,
        usual=(0.0, 100.0),
        auto="what the pieces themselves make likely",
        help="The longest gap within a line: px, or % of the image's diagonal, %w, %h.",
    )
    pair: bool | None = forms(
        None,
        label="Pair the sides of strokes",
        auto=f"those of strokes up to {_THIN:g} px wide",
        help="Two sides of a stroke become its centre line, with its breadth.",
    )
    extent: Literal["segments", "full"] = forms(
        "segments", label="Extent", help="segments: where they begin and end; full: across the whole image, one a line."
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
        help="Accept lines that the image's own background would bring forth less often than this.",
    )
    length_min: Length = judges(
        Length(0.0),
        label="Length, at least",
        unit="px",
        usual=(0.0, 500.0),
        criterion="length",
        help="Shorter lines are dropped: px, or % of the image's diagonal, %w, %h.",
    )
    coverage_min: float = judges(
        0.0,
        label="Edge seen, at least",
        least=0.0,
        most=1.0,
        usual=(0.0, 1.0),
        criterion="coverage",
        help="Share of a line along which there are edge points.",
    )
    bow_max: float = judges(
        1.2,
        label="Bow, at most",
        unit="% of the length",
        least=0.0,
        most=50.0,
        usual=(0.0, 10.0),
        criterion="bow",
        sense="at most",
        help="How far a line may be bent: the arc of a circle is none.",
    )


@dataclass(frozen=True)
class Gathered:
    """Points, their votes' geometry, and the lines that they point to, in the frame of the image."""

    oriented: OrientedPoints
    voters: Voters
    which: NDArray[np.int64]
    """The point behind each voter."""
    space: LineSpace
    traced: Traced

    @property
    def nbytes(self) -> int:
        return self.oriented.nbytes + 6 * self.voters.x.nbytes + self.traced.support.nbytes


@dataclass(frozen=True)
class _Formed:
    segments: Segments
    sides: NDArray[np.int64]
    """(n, 2) segments behind each candidate; the second is -1 but for strokes."""


class Lines(Detector):
    kind = "lines"
    purpose = "Straight edges and strokes, broken and dashed ones joined."
    Parameters = LinesParameters
    columns = (
        Column("log_nfa", "sureness", "", "-log10 of the expected number of false alarms", 1),
        Column("length", "length", "px", "from end to end", 1, "length"),
        Column("angle", "angle", "deg", "0 along x, 90 down, in [0, 180)", 2),
        Column("angle_std", "angle ±", "deg", "one standard deviation, from the noise alone", 4),
        Column("coverage", "edge seen", "", "share of the length along which there are edge points", 2),
        Column("rms", "rms", "px", "root of the mean squared distance of its points", 3, "length"),
        Column("breadth", "breadth", "px", "of a stroke whose two sides were paired; NaN of a single edge", 2, "length"),
        Column("rho", "offset", "px", "x cos theta + y sin theta of every point of the line", 2),
        Column("theta", "normal", "deg", "direction of the normal, in [0, 180)", 2),
        Column("votes", "votes", "", "weighted votes of its points", 0),
        Column("x1", "x1", "px", "one end", 2, "x"),
        Column("y1", "y1", "px", "one end", 2, "y"),
        Column("x2", "x2", "px", "other end", 2, "x"),
        Column("y2", "y2", "px", "other end", 2, "y"),
    )
    criteria = (
        Column("bow", "bow", "% of the length", "distance between arc and chord, beyond what noise explains", 2),
        Column("turned", "angle", "deg", "the angle, counted so that it can be held against the range", 2),
    )
    near = 8.0

    def gather(self, image: Image, parameters: LinesParameters, context: Context) -> Gathered:
        oriented = oriented_points(image, parameters.region, parameters.sigma, context)
        voters, which = as_voters(oriented, image)
        reach = 0.5 * math.hypot(image.width, image.height) + 1
        space = LineSpace(max(18, round(180 / parameters.angle_step)), parameters.offset_step, reach)
        step = 2.5 * max(oriented.background.correlation, 0.8)
        # Every pair of ends that could be told apart.
        tests = 2 * math.log(max(image.width * image.height / step**2, 10.0))
        slack = (_SLACK + (self.floor(parameters) or 0.0)) * math.log(10)
        traced = trace_lines(voters, oriented.along[which], space, image.width, image.height, step, tests, slack)
        return Gathered(oriented, voters, which, space, traced)

    def floor(self, parameters: LinesParameters) -> float | None:
        # Powers of ten above one false alarm an image, rounded up: more than that has to be looked for.
        return float(max(0, math.ceil(math.log10(parameters.false_alarms))))

    def form(self, image: Image, gathered: Gathered, parameters: LinesParameters) -> Candidates:
        bridge = None if parameters.bridge is None else parameters.bridge.pixels(*image.source_size) / image.frame.scale
        if parameters.extent == "full":
            bridge = math.inf
        segments = cut_segments(
            gathered.voters, gathered.traced, gathered.space.reach, bridge, gathered.oriented.background.correlation
        )
        segments = refined(image.pixels, image.mask, gathered.voters, segments, np.flatnonzero(segments.columns["worth"] > 0))
        s = segments.columns
        widest = {True: _STROKE, False: 0.0, None: _THIN}[parameters.pair]
        sides = _paired(s, widest)
        one, other = sides[:, 0], sides[:, 1]
        both = other >= 0
        c = {name: values[one] for name, values in s.items()}
        breadth = np.full(len(one), np.nan)
        blur = math.hypot(parameters.sigma, 0.7)
        if both.any():
            _join(c, s, one, other, both, breadth, blur)
        low, high = _span(c, image)
        full = parameters.extent == "full"
        # The centre of a stroke may leave the image before its sides do.
        c["t1"], c["t2"] = (low, high) if full else (np.clip(c["t1"], low, high), np.clip(c["t2"], low, high))
        ends = [_places(c, c[t]) for t in ("t1", "t2")]
        left, top = 0.5 * (image.width - 1), 0.5 * (image.height - 1)
        (x1, y1), (x2, y2) = ((x + left, y + top) for x, y in ends)
        # Left to right, or downwards.
        swap = (x2 < x1) | ((x2 == x1) & (y2 < y1))
        x1, x2, y1, y2 = np.where(swap, x2, x1), np.where(swap, x1, x2), np.where(swap, y2, y1), np.where(swap, y1, y2)
        length = c["t2"] - c["t1"]
        log_nfa = c["worth"] / math.log(10)
        u, v = image.frame.to_source(np.stack([x1, x2]), np.stack([y1, y2]))
        angle = np.degrees(np.arctan2(v[1] - v[0], u[1] - u[0])) % 180.0
        bow = np.maximum(np.abs(c["bow"]) - 2 * c["bow_std"] - 0.15, 0.0) / np.maximum(length, 1.0) * 100
        columns = {
            "x": 0.5 * (x1 + x2), "y": 0.5 * (y1 + y2), "x1": x1, "y1": y1, "x2": x2, "y2": y2,
            "length": np.hypot(x2 - x1, y2 - y1), "angle": angle, "angle_std": np.degrees(c["angle_std"]),
            "coverage": np.minimum(c["held"] / np.maximum(length, 1.0), 1.0), "rms": c["rms"], "breadth": breadth,
            "votes": c["votes"], "log_nfa": log_nfa, "bow": bow, "turned": _turned(angle, parameters.angles),
            **dict(zip(("theta", "rho"), _normal_form(u, v), strict=True)),
        }  # fmt: skip
        pairs, closeness = _close_parallels(c, breadth)
        return Candidates(columns, log_nfa, 40.0, Rivals("spacing", pairs, closeness, -_CLOSE), _Formed(segments, sides))

    def limits(self, image: Image, gathered: Gathered, parameters: LinesParameters) -> tuple[Limit, ...]:
        found = super().limits(image, gathered, parameters)
        for end, (value, sense) in enumerate(zip(parameters.angles or (None, None), ("at least", "at most"), strict=True)):
            if value is not None:
                found += (Limit("angles", "turned", sense, float(value), end),)  # type: ignore[arg-type]
        return found

    def resolved(self, image: Image, gathered: Gathered, parameters: LinesParameters) -> dict[str, Any]:
        return {"background": gathered.oriented.background.typical, "points": len(gathered.voters)}

    def plausible(self, candidates: Candidates) -> NDArray[np.bool_]:
        return np.asarray(candidates.columns["log_nfa"] > -_SLACK)

    def finish(
        self, image: Image, gathered: Gathered, candidates: Candidates, chosen: NDArray[np.int64], parameters: LinesParameters
    ) -> Finished:
        formed: _Formed = candidates.detail
        columns = {name: values[chosen] for name, values in candidates.columns.items()}
        close = 1 / (1 + (np.nan_to_num(columns["rms"]) / 0.5) ** 2)
        columns["score"] = columns["coverage"] * close
        xy = np.stack([columns[n] for n in ("x1", "y1", "x2", "y2")], axis=1).reshape(-1, 2)
        start = np.arange(len(chosen) + 1, dtype=np.int64) * 2
        points, chain = _supporting(formed, chosen)

        def listed() -> dict[str, Array]:
            return gathered.oriented.listed(gathered.which[points], chain)

        return Finished(columns, Outlines(xy, start, np.zeros(len(chosen), bool)), listed)

    def distances(self, candidates: Candidates, x: float, y: float) -> Array:
        c = candidates.columns
        dx, dy = c["x2"] - c["x1"], c["y2"] - c["y1"]
        along = ((x - c["x1"]) * dx + (y - c["y1"]) * dy) / np.maximum(dx * dx + dy * dy, 1e-9)
        along = np.clip(along, 0.0, 1.0)
        return np.hypot(c["x1"] + along * dx - x, c["y1"] + along * dy - y)

    def evidence(self, work: Work) -> list[EvidenceMap]:
        gathered: Gathered = work.gathered
        points = gathered.oriented.points
        maps = GradientMaps(work.image, points, gathered.oriented.background, work.parameters.sigma)

        @cache
        def supporting() -> tuple[EdgePoints, NDArray[np.bool_]]:
            kept = np.zeros(len(points), bool)
            kept[gathered.which[_supporting(work.candidates.detail, work.judgement.found)[0]]] = True
            return points, kept

        steps = [m for m in maps.listed() if m.name in ("smoothed", "magnitude", "thinned")]
        return [*steps, _accumulator(work), maps.marked("supporting", "supporting", "points of the lines that stand", supporting)]

    def peaks(self, work: Work, map_name: str) -> Array | None:
        if map_name != "accumulator":
            return None
        return _cells(work, work.rows)

    def votes_at(self, work: Work, map_name: str, column: float, row: float) -> Votes | None:
        if map_name != "accumulator":
            return None
        space, v = _shown_space(work), _source_voters(work)
        theta, rho = column * math.pi / space.angles, (row - space.middle) * space.step
        cos, sin = math.cos(theta), math.sin(theta)
        near = np.abs(v.x * cos + v.y * sin - rho) <= max(0.75 * space.step, 1.5)
        points = np.flatnonzero(near & (np.abs(v.nx * sin - v.ny * cos) <= np.sin(v.fan)))
        every = np.concatenate([work.rows, work.judgement.order])
        away = np.abs(_cells(work, every) - (column, row))
        # Half a turn on, the same line has its offset from the other side.
        other = np.stack([space.angles - away[:, 0], np.abs(_cells(work, every)[:, 1] - (2 * space.middle - row))], axis=1)
        away = np.minimum(away.max(axis=1), other.max(axis=1))
        best = int(np.argmin(away)) if len(away) else -1
        candidate = int(every[best]) if best >= 0 and away[best] <= 4 else -1
        if candidate >= 0:
            # The cell of a stroke lies between those of its sides: what supports it is what it got its votes from.
            points = _supporting(work.candidates.detail, np.array([candidate]))[0].astype(np.int64)
        return Votes(candidate, np.stack([v.x[points], v.y[points]], axis=1))

    def votes_of(self, work: Work, map_name: str, x: float, y: float) -> list[Array]:
        v = _source_voters(work)
        if map_name != "accumulator" or not len(v):
            return []
        far = np.hypot(v.x - x, v.y - y)
        k = int(np.argmin(far))
        if far[k] > 12:
            return []
        space = _shown_space(work)
        columns = np.arange(space.angles, dtype=float)
        turns = space.turns
        rows = (v.x[k] * np.cos(turns) + v.y[k] * np.sin(turns)) / space.step + space.middle
        return [np.stack([columns, rows], axis=1)]

    def probe(self, image: Image, gathered: Gathered, parameters: LinesParameters, x: float, y: float) -> list[Reason]:
        reasons = []
        column, row = (min(max(round(v), 0), size - 1) for v, size in ((x, image.width), (y, image.height)))
        blocked = blocked_pixels(image, parameters.region, 0)
        if blocked is not None and blocked[row, column]:
            text = "this place is outside the region, or its pixels are not valid"
            return [Reason("region", 0.0, None, "", False, text, ("region", None) if parameters.region is not None else None)]
        points = gathered.oriented.points
        near = np.flatnonzero(np.hypot(points.x - x, points.y - y) <= 6.0)
        maps = GradientMaps(image, points, gathered.oriented.background, parameters.sigma)
        box = (max(column - 3, 0), max(row - 3, 0), min(column + 4, image.width), min(row + 4, image.height))
        measured, limit = float(maps.magnitude(*box).max(initial=0.0)), float(maps.limit(*box).max())
        if measured < limit or len(near) < 5:
            text = f"too faint: the strongest gradient within 3 px is {measured:.2f} {SLOPE}, "
            text += f"points need {limit:.2f} here, and neighbours"
            reasons.append(Reason("gradient", measured, limit, SLOPE, False, text))
        else:
            # The longest run of neighbours that share a direction tells whether anything straight passes.
            c, s = gathered.oriented.nx[near], gathered.oriented.ny[near]
            agree = abs(complex(np.mean((c + 1j * s) ** 2)))
            text = f"{len(near)} edge points lie within 6 px; "
            text += "they share a direction, but too few follow it: too short a stretch" if agree > 0.8 else (
                "they run in different directions: a corner, a curve or texture"
            )  # fmt: skip
            reasons.append(Reason("alignment", agree, 0.8, "", False, text))
        return reasons


def as_voters(oriented: OrientedPoints, image: Image) -> tuple[Voters, NDArray[np.int64]]:
    """The points that tell, as they vote and seen from the centre of the image, and which they are."""
    which = oriented.telling()
    z = oriented.clear[which]
    left, top = 0.5 * (image.width - 1), 0.5 * (image.height - 1)
    fan = np.clip(1.4 / z, 0.08, 0.35).astype(np.float32)
    weight = np.clip(np.round(1.5 * (z - 1)), 1, 8).astype(np.int32)
    points = oriented.points
    x, y = points.x[which] - np.float32(left), points.y[which] - np.float32(top)
    return Voters(x, y, oriented.nx[which], oriented.ny[which], fan, weight), which


def _places(c: dict[str, Array], t: Array) -> tuple[Array, Array]:
    """Points at `t` along lines in normal form."""
    cos, sin = np.cos(c["theta"]), np.sin(c["theta"])
    return c["rho"] * cos - t * sin, c["rho"] * sin + t * cos


def _span(c: dict[str, Array], image: Image) -> tuple[Array, Array]:
    """Where lines enter and leave the image, along themselves."""
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


def _turned(angle: Array, wanted: Range | None) -> Array:
    """Angles by half turns nearest to the middle of the range."""
    if wanted is None:
        return angle
    low = wanted[0] if wanted[0] is not None else (wanted[1] or 0.0) - 180.0
    high = wanted[1] if wanted[1] is not None else low + 180.0
    middle = 0.5 * (low + high)
    return (angle - middle + 90.0) % 180.0 - 90.0 + middle


def _neighbours(s: dict[str, Array], widest: float, most_turned: float) -> tuple[Array, Array, Array, Array]:
    """Pairs of nearly parallel segments up to `widest` px apart, their distance where they overlap, and by what share of the
    shorter one they do."""
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


def _paired(s: dict[str, Array], widest: float) -> NDArray[np.int64]:
    """(n, 2): which segments become one candidate, the second -1 where one stands alone. The closest pairs come first."""
    count = len(s["theta"])
    alone = np.stack([np.arange(count), np.full(count, -1)], axis=1)
    if widest <= 0 or count < 2:
        return alone
    a, b, apart, share = _neighbours(s, widest, math.radians(4.0))
    # The gradients of a stroke's sides point away from each other, or towards each other.
    flip = np.where(np.cos(s["theta"][a] - s["theta"][b]) < 0, -1.0, 1.0)
    opposite = (s["side"][a] * s["side"][b] * flip < -0.25) & (np.abs(apart) <= widest) & (np.abs(apart) > 0.5)
    alike = (share > 0.5) & (s["t2"][b] - s["t1"][b] > 0.5 * (s["t2"][a] - s["t1"][a]))
    use = np.flatnonzero(opposite & alike & (s["worth"][a] > 0) & (s["worth"][b] > 0))
    partner = np.full(count, -1)
    for k in use[np.argsort(np.abs(apart[use]), kind="stable")]:
        if partner[a[k]] < 0 and partner[b[k]] < 0:
            partner[a[k]], partner[b[k]] = b[k], a[k]
    first = (partner < 0) | (np.arange(count) < partner)
    return np.stack([np.flatnonzero(first), partner[first]], axis=1)


def _join(c: dict[str, Array], s: dict[str, Array], one: Array, other: Array, both: Array, breadth: Array, blur: float) -> None:
    """Puts the centre line of two sides in the place of the first."""
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
    for name in ("worth", "votes"):
        c[name][both] = s[name][i] + s[name][j]
    c["rms"][both] = np.sqrt(0.5 * (s["rms"][i] ** 2 + s["rms"][j] ** 2))
    c["angle_std"][both] = 0.5 * np.hypot(s["angle_std"][i], s["angle_std"][j])
    for name in ("bow", "bow_std"):
        c[name][both] = 0.5 * (np.abs(s[name][i]) + np.abs(s[name][j]))
    breadth[both] = stroke_breadth(np.abs(off[0] - off[1]), blur)


def stroke_breadth(apart: Array, blur: float) -> Array:
    """Breadth of strokes, px, whose sides are seen `apart` px after a Gaussian of `blur` px.

    The slopes of two near sides cancel between them, so their extrema lie too far out: with half the breadth b and half the
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
    """Pairs of candidates that run so close that they are one edge told twice, or one a piece of a side of the other, a stroke;
    and how close (the negative distance)."""
    a, b, apart, share = _neighbours(c, 2 * _CLOSE + 0.5 * float(np.nanmax(breadth, initial=0.0)), math.radians(4.0))
    flip = np.where(np.cos(c["theta"][a] - c["theta"][b]) < 0, -1.0, 1.0)
    same = (share > 0.5) & (c["side"][a] * c["side"][b] * flip > -0.5)
    # The side of a stroke lies half the breadth from its middle.
    wide = np.nan_to_num(0.5 * np.fmax(breadth[a], breadth[b]))
    away = np.where(same, np.abs(apart), np.abs(np.abs(apart) - wide))
    use = same & (np.abs(apart) <= 2 * _CLOSE) | (share > 0.7) & (np.isnan(breadth[a]) != np.isnan(breadth[b]))
    return np.stack([a[use], b[use]], axis=1), -away[use]


def _supporting(formed: _Formed, chosen: NDArray[np.int64]) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
    """Points of the chosen candidates, and the place among them of the candidate that each supports."""
    start, support = formed.segments.start, formed.segments.support
    parts, chain = [np.empty(0, np.int32)], [np.empty(0, np.int64)]
    for k, candidate in enumerate(chosen.tolist()):
        for segment in formed.sides[candidate].tolist():
            if segment >= 0:
                parts.append(support[start[segment] : start[segment + 1]])
                chain.append(np.full(len(parts[-1]), k))
    return np.concatenate(parts), np.concatenate(chain)


def _cells(work: Work, candidates: NDArray[np.int64]) -> NDArray[np.float64]:
    """Column and row of each candidate in the accumulator as it is shown."""
    space, c = _shown_space(work), work.candidates.columns
    return np.stack([c["theta"][candidates] * space.angles / 180, c["rho"][candidates] / space.step + space.middle], axis=1)


def _shown_space(work: Work) -> LineSpace:
    """The cells of the accumulator as it is shown: over the source, finer in angle, so that it is about as wide as high."""
    width, height = work.image.source_size
    reach = math.hypot(width, height) + 1
    return LineSpace(_SHOWN_ANGLES, max(work.gathered.space.step, 2 * reach / _SHOWN_OFFSETS), reach)


def _source_voters(work: Work) -> Voters:
    """The voters in the source."""
    v, frame = work.gathered.voters, work.image.frame
    left, top = (np.float32(0.5 * (n - 1)) for n in (work.image.width, work.image.height))
    x, y, nx, ny = v.x + left, v.y + top, v.nx, v.ny
    if not frame.is_identity:
        x, y = frame.to_source(x, y)
        turn = np.radians(frame.slope_direction(np.degrees(np.arctan2(ny, nx))))
        nx, ny = np.cos(turn), np.sin(turn)
    x, y, nx, ny = (np.ascontiguousarray(a, np.float32) for a in (x, y, nx, ny))
    return Voters(x, y, nx, ny, v.fan, v.weight)


def _accumulator(work: Work) -> EvidenceMap:
    """Votes over the direction of the normal and the offset from pixel (0, 0) of the source."""
    space = _shown_space(work)

    @cache
    def votes() -> Array:
        return np.ascontiguousarray(line_votes(_source_voters(work), space).T.astype(np.float32))

    def compute(left: int, top: int, right: int, bottom: int) -> Array:
        return np.ascontiguousarray(votes()[top:bottom, left:right])

    axes = (
        np.degrees(space.turns), (np.arange(space.offsets) - space.middle) * space.step,
        "normal, degrees", "offset, px",
    )  # fmt: skip
    told = "weighted votes of all edge points, over a line's normal and its offset from pixel (0, 0)"
    return EvidenceMap("accumulator", "votes", "votes", "grey", space.angles, space.offsets, compute, help=told, axes=axes)
