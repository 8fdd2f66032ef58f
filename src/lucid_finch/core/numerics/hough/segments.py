"""Line segments out of the points that support a line: where to cut, and what each segment measures.

Without a given bridge, which pieces belong together follows from the pieces themselves: one line more must pay
(`line_votes.best_parts`). Each segment is fitted by orthogonal least squares on its own points.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.hough.line_votes import (
    JOINED,
    MOST_PIECES,
    Traced,
    VotingPoints,
    best_parts,
    covered_pieces,
    entropy_gain,
    new_pieces,
)
from lucid_finch.core.numerics.profiles.normal_profiles import normal_profiles
from lucid_finch.core.numerics.ragged import take_rows
from lucid_finch.core.numerics.runtime.compiling import inner, kernel

_END = 4.0
"""px at either end of a segment that do not tell its direction."""
_SQUARES = 2 * math.sqrt(math.pi)
"""Sum of the autocorrelation of what a Gaussian has smoothed, over its standard deviation."""

_ALIKE = 1.6
"""The same for places a px apart that are interpolated between pixels."""

_SWEEP = 8.0
"""The same for directions, each the mean of some neighbours' along the chain."""

COLUMNS = (
    "theta",
    "rho",
    "t1",
    "t2",
    "held",
    "rms",
    "angle_std",
    "offset_std",
    "sagitta",
    "sagitta_std",
    "gain",
    "votes",
    "side",
)
"""theta, rho: normal form from the centre. t1, t2: ends along (-sin, cos) theta. held: px with support. side: -1 to 1, whether
the gradients point along the normal. sagitta: px between arc and chord. gain: nats above what one line more costs."""


@dataclass(frozen=True)
class Segments:
    """One entry a segment in each of `COLUMNS`, the line that it was cut from, and its points."""

    columns: dict[str, NDArray[np.float64]]
    line: NDArray[np.int64]
    start: NDArray[np.int64]
    support: NDArray[np.int32]
    bridged: float
    """px: the longest gap that was joined."""

    def __len__(self) -> int:
        return len(self.line)


class Points(NamedTuple):
    """Voting points: place from the centre, unit normal, weight."""

    x: Any
    y: Any
    nx: Any
    ny: Any
    weight: Any


class LineTable(NamedTuple):
    """Lines in normal form, the points of each, and the chance of a background point."""

    theta: Any
    rho: Any
    start: Any
    support: Any
    chance: Any


class CutSearch(NamedTuple):
    """Longest gap to join (px; negative: by gain), px of an independent step, nats of one more line, px of alike errors."""

    bridge: float
    step: float
    cost: float
    slack: float
    grain: float


class SegmentOutput(NamedTuple):
    """Segments as they are found, and their points."""

    columns: Any
    line: Any
    start: Any
    support: Any


@inner
def _sort_along(points, chosen, c, s, reach, cover, first):  # type: ignore[no-untyped-def]
    """The points of a line in order along it. Fills, for each bin of 1 px, how many it holds and where the next bin's begin;
    returns the points, the lowest and the highest bin."""
    cover[:] = 0
    lowest, highest = cover.size, -1
    for k in range(chosen.size):
        i = chosen[k]
        at = int(points.y[i] * c - points.x[i] * s + reach) + 1
        cover[at] += 1
        lowest, highest = min(lowest, at), max(highest, at)
    total = 0
    for k in range(lowest, highest + 2):
        first[k] = total
        total += cover[k]
    ordered = np.empty(chosen.size, np.int32)
    for k in range(chosen.size):
        i = chosen[k]
        at = int(points.y[i] * c - points.x[i] * s + reach) + 1
        ordered[first[at]] = i
        first[at] += 1
    return ordered, lowest, highest


@inner
def _join_pieces(pieces, parts, chance, search, begins, ends):  # type: ignore[no-untyped-def]
    """First and last piece of each stretch that belongs together; returns how many."""
    stretches = 0
    if search.bridge < 0.0:
        best_parts(
            pieces.begin[:parts], pieces.end[:parts], pieces.held[:parts], chance, search.step,
            max(search.cost - search.slack, 1.0), pieces.score, pieces.back,
        )  # fmt: skip
        j = parts
        for _ in range(parts):
            if j <= 0:
                break
            if pieces.back[j] == j:
                j -= 1
                continue
            begins[stretches], ends[stretches] = pieces.back[j], j
            stretches += 1
            j = pieces.back[j]
        return stretches
    for j in range(parts):
        if stretches and pieces.begin[j] - pieces.end[j - 1] <= search.bridge:
            ends[stretches - 1] = j + 1
        else:
            begins[stretches], ends[stretches] = j, j + 1
            stretches += 1
    return stretches


@inner
def _fit_segment(points, ordered, theta, rho, lead, tail):  # type: ignore[no-untyped-def]
    """Orthogonal least squares through the points whose place along the line (theta) lies within lead .. tail, those beyond three
    times the scatter left out. Returns the normal form, the scatter, and how far a point may lie off."""
    c, s = math.cos(theta), math.sin(theta)
    turn, offset, limit, rms = theta, rho, 1e9, 0.0
    for _ in range(4):
        cc, ss = math.cos(turn), math.sin(turn)
        n, mx, my = 0.0, 0.0, 0.0
        for k in range(ordered.size):
            x, y = points.x[ordered[k]], points.y[ordered[k]]
            if abs(x * cc + y * ss - offset) <= limit and lead <= y * c - x * s <= tail:
                n += 1.0
                mx += x
                my += y
        if n < 3:
            break
        mx /= n
        my /= n
        sxx, sxy, syy = 0.0, 0.0, 0.0
        for k in range(ordered.size):
            x, y = points.x[ordered[k]], points.y[ordered[k]]
            if abs(x * cc + y * ss - offset) <= limit and lead <= y * c - x * s <= tail:
                dx, dy = x - mx, y - my
                sxx += dx * dx
                sxy += dx * dy
                syy += dy * dy
        new = 0.5 * math.atan2(2 * sxy, sxx - syy) + 0.5 * math.pi
        if math.cos(new - turn) < 0:
            new += math.pi
        turn = new
        offset = mx * math.cos(turn) + my * math.sin(turn)
        cc, ss = math.cos(turn), math.sin(turn)
        least = sxx * cc * cc + 2 * sxy * cc * ss + syy * ss * ss
        rms = math.sqrt(max(least, 0.0) / max(n - 2, 1.0))
        limit = max(3.0 * rms, 0.05)
    return turn, offset, rms, limit


@inner
def _sagitta(points, ordered, turn, offset, limit, middle, aside, n, half, rms, wide):  # type: ignore[no-untyped-def]
    """px between arc and chord and its variance, and the sum of squares along the line.

    Two witnesses: the parabola that no line explains, and how the normal turns; the latter is more certain on short stretches.
    """
    cc, ss = math.cos(turn), math.sin(turn)
    s2, s3, s4, sd1, sd2, leaning, lean2 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for k in range(ordered.size):
        i = ordered[k]
        t = points.y[i] * cc - points.x[i] * ss - middle
        d = points.x[i] * cc + points.y[i] * ss - offset - aside
        if abs(d + aside) <= limit:
            s2 += t * t
            s3 += t * t * t
            s4 += t * t * t * t
            sd1 += d * t
            sd2 += d * t * t
            nx, ny = points.nx[i], points.ny[i]
            lean = (ny * cc - nx * ss) * (1.0 if nx * cc + ny * ss > 0 else -1.0)
            leaning += lean * t
            lean2 += lean * lean
    rest = s4 - s3 * s3 / max(s2, 1e-9) - s2 * s2 / max(n, 1.0)
    rest = max(rest, 1e-9)
    bend = (sd2 - s3 * sd1 / max(s2, 1e-9)) / rest
    sagitta, variance = bend * half * half, (rms * half * half) ** 2 * wide / rest
    turn_rate = leaning / max(s2, 1e-9)
    loose = max(lean2 - leaning * turn_rate, 1e-6) / max(n - 2, 1.0) * _SWEEP / max(s2, 1e-9)
    turned, turned_var = -0.5 * turn_rate * half * half, 0.25 * loose * half**4
    share = variance / (variance + turned_var)
    return sagitta + share * (turned - sagitta), variance * turned_var / (variance + turned_var), s2


@inner
def _measure_segment(points, ordered, turn, offset, rms, limit, grain, out, made):  # type: ignore[no-untyped-def]
    """What the points tell of a fitted segment, into column `made`."""
    cc, ss = math.cos(turn), math.sin(turn)
    n, mt, md, side, votes = 0.0, 0.0, 0.0, 0.0, 0.0
    t1, t2 = 1e18, -1e18
    for k in range(ordered.size):
        i = ordered[k]
        t, d = points.y[i] * cc - points.x[i] * ss, points.x[i] * cc + points.y[i] * ss - offset
        t1, t2 = min(t1, t), max(t2, t)
        side += points.nx[i] * cc + points.ny[i] * ss
        votes += points.weight[i]
        if abs(d) <= limit:
            n += 1.0
            mt += t
            md += d
    mt /= max(n, 1.0)
    md /= max(n, 1.0)
    half, wide = 0.5 * max(t2 - t1, 1.0), max(1.0, grain)
    sagitta, variance, s2 = _sagitta(points, ordered, turn, offset, limit, mt, md, n, half, rms, wide)
    out[0, made], out[1, made], out[2, made], out[3, made] = turn, offset, t1, t2
    out[5, made] = rms
    out[6, made] = rms * math.sqrt(wide / max(s2, 1e-9))
    out[7, made] = rms * math.sqrt(wide / max(n, 1.0))
    out[8, made], out[9, made] = sagitta, math.sqrt(variance)
    out[11, made], out[12, made] = votes, side / ordered.size


@kernel
def _cut(points, lines, reach, search, output):  # type: ignore[no-untyped-def]
    """Cut all lines into segments; returns how many, and the longest gap that was joined."""
    size = int(2 * reach) + 4
    first, cover = np.zeros(size + 1, np.int64), np.zeros(size, np.int32)
    pieces = new_pieces()
    ends, begins = np.empty(MOST_PIECES, np.int64), np.empty(MOST_PIECES, np.int64)
    made, used, longest = 0, 0, 0.0
    for l in range(lines.theta.size):
        chosen = lines.support[lines.start[l] : lines.start[l + 1]]
        if chosen.size < 3:
            continue
        c, s = math.cos(lines.theta[l]), math.sin(lines.theta[l])
        ordered, lowest, highest = _sort_along(points, chosen, c, s, reach, cover, first)
        parts = covered_pieces(
            cover[lowest : highest + 1], highest + 1 - lowest, JOINED, pieces.begin, pieces.end, pieces.held, MOST_PIECES
        )
        for q in range(_join_pieces(pieces, parts, lines.chance[l], search, begins, ends)):
            if made >= output.line.size:
                return made, used, longest
            a, b = begins[q], ends[q]
            covered, length = 0.0, pieces.end[b - 1] - pieces.begin[a]
            for j in range(a, b):
                covered += pieces.held[j]
                if j > a:
                    longest = max(longest, pieces.begin[j] - pieces.end[j - 1])
            from_bin, to_bin = lowest + int(pieces.begin[a]), lowest + int(pieces.end[b - 1])
            mine = ordered[(first[from_bin - 1] if from_bin > lowest else 0) : first[to_bin - 1]]
            if mine.size < 3:
                continue
            # At its ends an edge bends round a corner: what lies there pulls with the longest lever.
            short = min(_END, 0.15 * length)
            turn, offset, rms, limit = _fit_segment(
                points, mine, lines.theta[l], lines.rho[l], from_bin + short - reach - 1, to_bin - short - reach - 1
            )  # fmt: skip
            _measure_segment(points, mine, turn, offset, rms, limit, search.grain, output.columns, made)
            output.columns[4, made] = covered
            gain = length / search.step * entropy_gain(min(covered / length, 1.0), lines.chance[l]) - search.cost
            output.columns[10, made] = gain
            output.line[made] = l
            for k in range(mine.size):
                output.support[used] = mine[k]
                used += 1
            made += 1
            output.start[made] = used
    return made, used, longest


def cut_segments(voting: VotingPoints, traced: Traced, reach: float, bridge: float | None, grain: float) -> Segments:
    """Segments of all lines; `bridge` (px): the longest gap that is joined, None: by gain. `grain` (px): how far the errors
    of neighbouring points are alike (one standard deviation of what smoothed them)."""
    lines = len(traced.theta)
    room = max(16, len(traced.support) // 3 + lines)
    out, line = np.empty((len(COLUMNS), room)), np.empty(room, np.int64)
    start, support = np.zeros(room + 1, np.int64), np.empty(max(len(traced.support), 1), np.int32)
    made, used, longest = _cut(
        Points(voting.x, voting.y, voting.nx, voting.ny, voting.weight),
        LineTable(traced.theta, traced.rho, traced.start, traced.support, traced.chance),
        float(reach),
        CutSearch(
            -1.0 if bridge is None else float(bridge), float(traced.step), float(traced.cost), float(traced.slack),
            float(_SQUARES * grain),
        ),
        SegmentOutput(out, line, start, support),
    )  # fmt: skip
    columns = {name: out[k, :made].copy() for k, name in enumerate(COLUMNS)}
    return Segments(columns, line[:made], start[: made + 1], support[:used], float(longest))


_ACROSS = 2.0
"""px by which the neighbourhood of a line is smoothed across it: where a photograph's edges err least."""
_FIRST = 40
"""Points of a segment that the first round takes at least, if it has them."""
_APART = 0.3
"""px: where the wider smoothing moves a line by more, something beside it is the reason."""


@kernel
def _feet(x, y, start, stride, theta, rho, left, top, feet, along, first):  # type: ignore[no-untyped-def]
    """Where every so many points of each segment stand on its line: place in the image and normal into `feet` (4, n), place along
    the line into `along`; those of segment q are `first[q]` .. `first[q + 1]`."""
    made = 0
    for q in range(theta.size):
        c, s = math.cos(theta[q]), math.sin(theta[q])
        for k in range(start[q], start[q + 1], stride[q]):
            t = y[k] * c - x[k] * s
            feet[0, made], feet[1, made] = rho[q] * c - t * s + left, rho[q] * s + t * c + top
            feet[2, made], feet[3, made] = c, s
            along[made] = t
            made += 1
        first[q + 1] = made


@kernel
def _straighten(along, slope, bend, third, first, theta, rho, moved, shift, measured):  # type: ignore[no-untyped-def]
    """Fit each line to the places of steepest slope across it; those beyond three times the scatter do not
    count. `measured` (5, segments): how many count, the mean third derivative, rms, sum of squares along the line, all that were
    asked."""
    for q in range(theta.size):
        a, b = first[q], first[q + 1]
        sum_third, sound = 0.0, 0
        for k in range(a, b):
            if np.isfinite(slope[k]) and slope[k] != 0:
                sum_third += third[k] if slope[k] > 0 else -third[k]
                sound += 1
        mean_third = sum_third / max(sound, 1)
        for k in range(a, b):
            shift[k] = np.inf
            if np.isfinite(slope[k]) and slope[k] != 0:
                shift[k] = (-bend[k] if slope[k] > 0 else bend[k]) / min(mean_third, -1e-9)
        tilt, offset, middle, rms, limit = 0.0, 0.0, 0.0, 0.0, np.inf
        n, spread = 0.0, 1e-9
        for _ in range(2):
            n, total, aside = 0.0, 0.0, 0.0
            for k in range(a, b):
                if abs(shift[k]) < 1.0 and abs(shift[k] - offset - tilt * (along[k] - middle)) <= limit:
                    n += 1.0
                    total += along[k]
                    aside += shift[k]
            new_middle, new_offset = total / max(n, 1.0), aside / max(n, 1.0)
            spread, cross = 1e-9, 0.0
            for k in range(a, b):
                if abs(shift[k]) < 1.0 and abs(shift[k] - offset - tilt * (along[k] - middle)) <= limit:
                    off = along[k] - new_middle
                    spread += off * off
                    cross += off * shift[k]
            new_tilt = cross / spread
            squares = 0.0
            for k in range(a, b):
                if abs(shift[k]) < 1.0 and abs(shift[k] - offset - tilt * (along[k] - middle)) <= limit:
                    rest = shift[k] - new_offset - new_tilt * (along[k] - new_middle)
                    squares += rest * rest
            rms = math.sqrt(squares / max(n - 2.0, 1.0))
            tilt, offset, middle, limit = new_tilt, new_offset, new_middle, 3.0 * rms
        c, s = math.cos(theta[q]), math.sin(theta[q])
        px, py = (rho[q] + offset) * c - middle * s, (rho[q] + offset) * s + middle * c
        theta[q] -= math.atan(tilt)
        rho[q] = px * math.cos(theta[q]) + py * math.sin(theta[q])
        moved[q] += offset
        measured[0, q], measured[1, q], measured[2, q], measured[3, q], measured[4, q] = n, mean_third, rms, spread, b - a


def refine_segments(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, voting: VotingPoints, segments: Segments, rows: NDArray[np.int64]
) -> Segments:
    """The segments with those of `rows` refined by profiles across them; one with close neighbours stays as it is."""
    if not len(rows):
        return segments
    height, width = pixels.shape
    index, start = take_rows(segments.start, rows)
    points, count = segments.support[index], np.diff(start)
    x, y = voting.x[points].astype(float), voting.y[points].astype(float)
    theta, rho = segments.columns["theta"][rows].copy(), segments.columns["rho"][rows].copy()
    moved, measured, first = np.zeros(len(rows)), np.empty((5, len(rows))), np.zeros(len(rows) + 1, np.int64)
    feet, along, shift = np.empty((4, len(x))), np.empty(len(x)), np.empty(len(x))
    for sparsest in (100, 1):
        # The first round needs no more than some of the points.
        stride = np.clip(count // _FIRST, 1, sparsest)
        _feet(x, y, start, stride, theta, rho, 0.5 * (width - 1), 0.5 * (height - 1), feet, along, first)
        at_x, at_y, nx, ny = feet[:, : first[-1]]
        section = normal_profiles(pixels, mask, at_x, at_y, nx, ny, (_ACROSS,))
        _straighten(along, section.slope, section.bend, section.third, first, theta, rho, moved, shift, measured)
    n, third, rms, spread, asked = measured
    good = (n >= 0.6 * asked) & (third < 0) & (np.abs(moved) <= _APART) & (rms <= 0.5)
    columns = {name: values.copy() for name, values in segments.columns.items()}
    here = rows[good]
    # The ends keep their places along the line.
    columns["theta"][here], columns["rho"][here] = theta[good], rho[good]
    columns["rms"][here] = rms[good]
    columns["angle_std"][here] = rms[good] * np.sqrt(_ALIKE / spread[good])
    columns["offset_std"][here] = rms[good] * np.sqrt(_ALIKE / n[good])
    return replace(segments, columns=columns)
