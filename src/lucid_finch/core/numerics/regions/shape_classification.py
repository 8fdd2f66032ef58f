"""Classify the shape of an outline by fit: polygons of every number of sides, circle and ellipse, compared by their residuals.

The outline is averaged into at most some hundred places. Its best parting into k straight pieces, for each k, follows from
dynamic programming over the residuals of orthogonal lines (Perez and Vidal, Pattern Recognition Letters 15(8), 1994). Each
piece is then fitted on its middle part alone, so that rounded corners do not matter, and the worst places are left out, so
that a dent does not. The conic is fitted with the weights of Sampson (CGIP 18(1), 1982). Models compete by a penalised
likelihood (Schwarz, Annals of Statistics 6(2), 1978); sides that bulge outwards make an arc and no polygon.

A quadrilateral is a rectangle if its angles are right within 4 degrees, and a square if also its sides differ by no more than
5 %, both beyond the error of the fit; an ellipse is a circle if its axes differ by no more than some 5 %. A round outline that
is longer than that of the ellipse has teeth, as a gear has, and is neither. A pentagon or hexagon is convex; what has more
corners, or as many and is not, is a polygon.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.fitting.small_systems import eliminate
from lucid_finch.core.numerics.runtime.compiling import helper, inner, kernel

_PLACES = 120
_MOST_SIDES = 12
_CHUNK = 100

NAMES = ("triangle", "square", "rectangle", "quadrilateral", "pentagon", "hexagon", "polygon", "circle", "ellipse", "other")
"""All names, in the order of their codes."""

_LAST = len(NAMES) - 1

_SAMPLES = 40.0
"""So many independent places weigh residuals against the number of parameters."""
_MIDDLE = 0.3
"""Sides are fitted where they are no further from their middle than this share of their length."""
_BENT = 0.03
"""A side whose sagitta is a larger share of its length is bent."""
_DENT = 0.07
"""Share of the places that may lie anywhere."""
_LONGER, _TOOTHED = 0.03, 60.0
"""Share by which an outline may be longer than the ellipse through it, and what as much again costs."""
_OTHER = 0.018
"""What a model may leave, as a share of the square root of the area, before `other` says more."""


@kernel
def _resampled(x, y, count, out):  # type: ignore[no-untyped-def]
    """Means of equal stretches of a closed outline into the first rows of `out`; returns its length."""
    n = x.size
    total = 0.0
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        total += math.hypot(x[j] - x[i], y[j] - y[i])
    step = total / count
    weight = np.zeros(count)
    out[:count] = 0.0
    gone = 0.0
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        left = math.hypot(x[j] - x[i], y[j] - y[i])
        length = left
        at = 0.0
        # Every part ends where its place along the outline ends: there are no more parts than places.
        for _ in range(2 * count + 4):
            if not left > 1e-12:
                break
            k = int(gone / step)
            if k >= count:
                k = count - 1
                part = left
            else:
                part = min(left, (k + 1) * step - gone)
                if part <= 1e-12:
                    gone += 1e-9
                    left -= 1e-9
                    continue
            middle = (at + part / 2) / length
            out[k, 0] += part * (x[i] + middle * (x[j] - x[i]))
            out[k, 1] += part * (y[i] + middle * (y[j] - y[i]))
            weight[k] += part
            at += part
            gone += part
            left -= part
    for k in range(count):
        if weight[k] > 0:
            out[k] /= weight[k]
    return total


@kernel
def _trimmed(values, count, share):  # type: ignore[no-untyped-def]
    """Root of the mean square of all but the largest share."""
    ordered = np.sort(values[:count])
    kept = max(1, count - int(share * count))
    total = 0.0
    for i in range(kept):
        total += ordered[i] * ordered[i]
    return math.sqrt(total / kept)


@kernel
def _fit_ellipse(p, off):  # type: ignore[no-untyped-def]
    """The ellipse through closed outline places: centre, semi-axes, angle of the major one (radians); distances into `off`."""
    n = p.shape[0]
    mx, my = 0.0, 0.0
    for i in range(n):
        mx += p[i, 0]
        my += p[i, 1]
    mx /= n
    my /= n
    size = 0.0
    for i in range(n):
        size += (p[i, 0] - mx) ** 2 + (p[i, 1] - my) ** 2
    size = math.sqrt(size / n) + 1e-12
    a, b = np.zeros((5, 5)), np.zeros(5)
    row = np.zeros(5)
    weight = np.ones(n)
    found = np.full(5, np.nan)
    for _ in range(4):
        a[:] = 0.0
        b[:] = 0.0
        for i in range(n):
            u, v = (p[i, 0] - mx) / size, (p[i, 1] - my) / size
            row[0], row[1], row[2], row[3], row[4] = u * u - v * v, 2 * u * v, u, v, 1.0
            for r in range(5):
                b[r] += weight[i] * row[r] * (u * u + v * v)
                for c in range(5):
                    a[r, c] += weight[i] * row[r] * row[c]
        if not eliminate(a, b, 5):
            return found
        # (1 - A)(u^2) + (1 + A)(v^2) - 2 B u v - D u - E v = F
        aa, cc, bb, dd, ee, ff = 1 - b[0], 1 + b[0], -b[1], -b[2], -b[3], -b[4]
        for i in range(n):
            u, v = (p[i, 0] - mx) / size, (p[i, 1] - my) / size
            gu, gv = 2 * aa * u + 2 * bb * v + dd, 2 * bb * u + 2 * cc * v + ee
            g = max(gu * gu + gv * gv, 1e-9)
            q = aa * u * u + 2 * bb * u * v + cc * v * v + dd * u + ee * v + ff
            off[i] = abs(q) / math.sqrt(g) * size
            weight[i] = 1.0 / g
            # Dents count less.
        for i in range(n):
            r = off[i] / size
            weight[i] *= 1.0 / (1.0 + (r / 0.03) ** 2)
    det = aa * cc - bb * bb
    if det <= 1e-9:
        return found
    u0, v0 = (bb * ee - cc * dd) / (2 * det), (bb * dd - aa * ee) / (2 * det)
    level = -(aa * u0 * u0 + 2 * bb * u0 * v0 + cc * v0 * v0 + dd * u0 + ee * v0 + ff)
    mean, half = (aa + cc) / 2, math.hypot((aa - cc) / 2, bb)
    if level <= 0 or mean - half <= 1e-9:
        return found
    found[0], found[1] = mx + size * u0, my + size * v0
    found[2], found[3] = size * math.sqrt(level / (mean - half)), size * math.sqrt(level / (mean + half))
    found[4] = 0.5 * math.atan2(-2 * bb, cc - aa)
    return found


@helper
def _line_residuals(sums, j, out):  # type: ignore[no-untyped-def]
    """Squared residuals of the orthogonal line through the places i .. j - 1, for every i up to j - 2, from running sums: their
    count, x, y, xx, xy and yy."""
    counts, xs, ys, xxs, xys, yys = sums[0], sums[1], sums[2], sums[3], sums[4], sums[5]
    ends = counts[j], xs[j], ys[j], xxs[j], xys[j], yys[j]
    for i in range(j - 1):
        n = ends[0] - counts[i]
        mx, my = (ends[1] - xs[i]) / n, (ends[2] - ys[i]) / n
        xx = ends[3] - xxs[i] - n * mx * mx
        xy = ends[4] - xys[i] - n * mx * my
        yy = ends[5] - yys[i] - n * my * my
        left = 0.5 * (xx + yy) - np.sqrt(0.25 * (xx - yy) * (xx - yy) + xy * xy)
        out[i] = left if left > 0.0 else 0.0


@kernel
def _parted(p, most, best, back):  # type: ignore[no-untyped-def]
    """Residuals of the best partitions of the (open) row of places into 1 .. most straight pieces, and where they part."""
    n = p.shape[0]
    sums = np.zeros((6, n + 1))
    for i in range(n):
        u, v = p[i, 0], p[i, 1]
        sums[0, i + 1] = sums[0, i] + 1
        sums[1, i + 1] = sums[1, i] + u
        sums[2, i + 1] = sums[2, i] + v
        sums[3, i + 1] = sums[3, i] + u * u
        sums[4, i + 1] = sums[4, i] + u * v
        sums[5, i + 1] = sums[5, i] + v * v
    # Of the piece of places i .. j - 1 at [j, i]: the loops below run along i.
    cost = np.full((n + 1, n + 1), 1e18)
    for j in range(2, n + 1):
        _line_residuals(sums, j, cost[j])
    for j in range(n + 1):
        best[1, j] = cost[j, 0]
        back[1, j] = 0
    for k in range(2, most + 1):
        for j in range(n + 1):
            least, where = 1e18, 0
            # A longer piece leaves no less: once it alone leaves more than all pieces need to, so does every longer one.
            for i in range(j - 2, 2 * (k - 1) - 1, -1):
                if cost[j, i] > least:
                    break
                value = best[k - 1, i] + cost[j, i]
                if value <= least:
                    least, where = value, i
            best[k, j] = least
            back[k, j] = where


class Polygon(NamedTuple):
    """A polygon that is being fitted: where its sides begin in the row of places, its lines (place and direction) and corners."""

    cuts: Any
    lines: Any
    corners: Any


@inner
def _fit_side(p, first, last, whole_first, whole_last, ax, ay, bx, by, line):  # type: ignore[no-untyped-def]
    """Fit a line to those of the places first .. last - 1 that lie near the middle between (ax, ay) and (bx, by); to the places
    whole_first .. whole_last - 1 where there are fewer than two."""
    n = p.shape[0]
    dx, dy = bx - ax, by - ay
    square = dx * dx + dy * dy + 1e-12
    m, sx, sy, xx, xy, yy = 0, 0.0, 0.0, 0.0, 0.0, 0.0
    for i in range(first, last):
        u, v = p[i % n, 0], p[i % n, 1]
        t = ((u - ax) * dx + (v - ay) * dy) / square
        if abs(t - 0.5) <= _MIDDLE:
            m += 1
            sx += u
            sy += v
            xx += u * u
            xy += u * v
            yy += v * v
    if m < 2:
        # Too short a side for its middle part: all of it.
        m, sx, sy, xx, xy, yy = 0, 0.0, 0.0, 0.0, 0.0, 0.0
        for i in range(whole_first, whole_last):
            u, v = p[i % n, 0], p[i % n, 1]
            m += 1
            sx += u
            sy += v
            xx += u * u
            xy += u * v
            yy += v * v
    sx /= m
    sy /= m
    xx, xy, yy = xx - m * sx * sx, xy - m * sx * sy, yy - m * sy * sy
    angle = 0.5 * math.atan2(2 * xy, xx - yy)
    c, d = math.cos(angle), math.sin(angle)
    if c * dx + d * dy < 0:
        c, d = -c, -d
    line[0], line[1], line[2], line[3] = sx, sy, c, d


@inner
def _meet_sides(k, lines, corners):  # type: ignore[no-untyped-def]
    """The corners where k lines meet; False where two neighbours are nearly parallel."""
    for s in range(k):
        a, b = lines[(s + k - 1) % k], lines[s]
        cross = a[2] * b[3] - a[3] * b[2]
        if abs(cross) < 0.1:
            return False
        t = ((b[0] - a[0]) * b[3] - (b[1] - a[1]) * b[2]) / cross
        corners[s, 0], corners[s, 1] = a[0] + t * a[2], a[1] + t * a[3]
    corners[k] = corners[0]
    return True


@inner
def _side_sagitta(p, first, last, ax, ay, dx, dy, length, off, m):  # type: ignore[no-untyped-def]
    """The sagitta of a side as a share of its length, outwards positive, and whether it can be measured; distances of the places
    in its middle part into `off` from m on, and the next free entry of that.

    From the residuals of the middle part against the centred square of the place along it.
    """
    n = p.shape[0]
    q0, q2, q4, r0, r2 = 0.0, 0.0, 0.0, 0.0, 0.0
    began = m
    for i in range(first, last):
        u, v = p[i % n, 0] - ax, p[i % n, 1] - ay
        t = (u * dx + v * dy) / (length * length) - 0.5
        if abs(t) <= _MIDDLE:
            r = (u * dy - v * dx) / length
            off[m] = abs(r)
            m += 1
            q0 += 1
            q2 += t * t
            q4 += t * t * t * t
            r0 += r
            r2 += r * t * t
    det = q0 * q4 - q2 * q2
    if m - began >= 3 and det > 1e-12:
        return -(q0 * r2 - q2 * r0) / det * 0.25 / length, True, m
    return 0.0, False, m


@kernel
def _fit_sides(p, polygon, k, waviness, off):  # type: ignore[no-untyped-def]
    """Fits k lines to the middle parts of the pieces that begin at the cuts, meets them in corners, and measures.

    `off` gets the distances of the places in the middle parts; returns how many there are, the share of the length that
    is bent, the mean sagitta of the sides beyond doubt (a share of their length, outwards positive), and whether the polygon is
    sound (convexity aside)."""
    n, cuts, lines, corners = p.shape[0], polygon.cuts, polygon.lines, polygon.corners
    for turn in range(3):
        for s in range(k):
            first, last = cuts[s], cuts[s + 1]
            if turn == 0:
                a, b = p[first % n], p[(last - 1) % n]
                _fit_side(p, first - 1, last + 1, first, last, a[0], a[1], b[0], b[1], lines[s])
            else:
                a, b = corners[s], corners[s + 1]
                _fit_side(p, first - 2, last + 2, first, last, a[0], a[1], b[0], b[1], lines[s])
        if not _meet_sides(k, lines, corners):
            return 0, 0.0, 0.0, False
    m, sound = 0, True
    bent, whole, sagittas, doubts, straight = 0.0, 0.0, 0.0, 0.0, 0
    for s in range(k):
        ax, ay = corners[s, 0], corners[s, 1]
        dx, dy = corners[s + 1, 0] - ax, corners[s + 1, 1] - ay
        length = math.hypot(dx, dy) + 1e-12
        if (dx * lines[s, 2] + dy * lines[s, 3]) <= 0:
            sound = False
        began = m
        sagitta, known, m = _side_sagitta(p, cuts[s] - 2, cuts[s + 1] + 2, ax, ay, dx, dy, length, off, m)
        whole += length
        if known:
            sagittas += sagitta
            straight += 1
            # A parabola through the middle part alone gives the sagitta of the whole side with nine times its error.
            doubt = 9.3 * waviness / math.sqrt(m - began) / length
            doubts += doubt
            if abs(sagitta) > _BENT + doubt:
                bent += length
    # Sides too short to tell whether they are straight make no polygon of many sides.
    sound = sound and m > 0 and (k < 7 or straight > 0.7 * k)
    known_sides = max(straight, 1)
    return m, bent / (whole + 1e-12), sagittas / known_sides - 0.6 * doubts / known_sides / math.sqrt(known_sides), sound


class Costs(NamedTuple):
    """Of each name: penalised log-likelihood (smaller is better), what its model leaves (px), and how many corners it has."""

    cost: Any
    residual: Any
    corners: Any


@inner
def _from_sharpest_bend(p):  # type: ignore[no-untyped-def]
    """The closed row of places, begun where it bends most."""
    count = p.shape[0]
    reach = max(2, count // 10)
    sharpest, begin = -1.0, 0
    for i in range(count):
        a, b = (i - reach) % count, (i + reach) % count
        bend = math.hypot(p[a, 0] + p[b, 0] - 2 * p[i, 0], p[a, 1] + p[b, 1] - 2 * p[i, 1])
        if bend > sharpest:
            sharpest, begin = bend, i
    q = np.empty((count, 2))
    for i in range(count):
        q[i] = p[(begin + i) % count]
    return q


@inner
def _round_costs(p, length, floor, size, off, costs):  # type: ignore[no-untyped-def]
    """Costs of circle and ellipse; an outline that is much longer than they are has teeth."""
    ellipse = _fit_ellipse(p, off)
    if ellipse[2] != ellipse[2]:
        return
    rms = _trimmed(off, p.shape[0], _DENT)
    ratio = ellipse[3] / ellipse[2]
    uneven = max(0.0, (ellipse[2] - ellipse[3]) / 2 / math.sqrt(2) - 0.009 * 2 * math.sqrt(ellipse[2] * ellipse[3]))
    a, b = ellipse[2], ellipse[3]
    longer = length / (math.pi * (3 * (a + b) - math.sqrt((3 * a + b) * (a + 3 * b)))) - 1
    toothed = _TOOTHED * max(0.0, longer / (_LONGER + 0.3 * floor / size) - 1)
    costs.cost[7] = _SAMPLES * math.log(1 + (rms * rms + uneven * uneven) / (floor * floor)) + 3 + toothed
    costs.residual[7] = math.sqrt(rms * rms + uneven * uneven)
    costs.cost[8] = _SAMPLES * math.log(1 + (rms / floor) ** 2) + 5 + (6.0 if ratio > 0.95 else 0.0) + toothed
    costs.residual[8] = rms


@inner
def _corner_angles(k, polygon):  # type: ignore[no-untyped-def]
    """Whether all corners turn the same way, the largest deviation from a right angle (degrees), and the shortest side."""
    lines, corners = polygon.lines, polygon.corners
    convex, square, shortest = True, 0.0, 1e18
    for s in range(k):
        a, b = lines[(s + k - 1) % k], lines[s]
        turn = math.degrees(math.atan2(a[2] * b[3] - a[3] * b[2], a[2] * b[2] + a[3] * b[3]))
        if turn <= 0:
            convex = False
        square = max(square, abs(abs(turn) - 90.0))
        shortest = min(shortest, math.hypot(corners[s + 1, 0] - corners[s, 0], corners[s + 1, 1] - corners[s, 1]))
    return convex, square, shortest


@inner
def _corner_offset(q, k, polygon):  # type: ignore[no-untyped-def]
    """How far a corner stands off the outline at most, as a share of the shorter of its sides."""
    count, corners = q.shape[0], polygon.corners
    off_most = 0.0
    for s in range(k):
        before = math.hypot(corners[s, 0] - corners[(s + k - 1) % k, 0], corners[s, 1] - corners[(s + k - 1) % k, 1])
        after = math.hypot(corners[s + 1, 0] - corners[s, 0], corners[s + 1, 1] - corners[s, 1])
        near = 1e18
        for i in range(polygon.cuts[s] - count // 6, polygon.cuts[s] + count // 6):
            near = min(near, math.hypot(q[i % count, 0] - corners[s, 0], q[i % count, 1] - corners[s, 1]))
        off_most = max(off_most, (near - 1.0) / min(before, after))
    return off_most


@inner
def _rectangle_costs(corners, base, rms, square, shortest, floor, size, costs):  # type: ignore[no-untyped-def]
    """Costs of square and rectangle, for a convex polygon of four sides."""
    loose = 4.0 + 60.0 * floor / shortest
    slant = 30.0 * max(0.0, square / loose - 1)
    a = math.hypot(corners[1, 0] - corners[0, 0], corners[1, 1] - corners[0, 1])
    b = math.hypot(corners[2, 0] - corners[1, 0], corners[2, 1] - corners[1, 1])
    c = math.hypot(corners[3, 0] - corners[2, 0], corners[3, 1] - corners[2, 1])
    d = math.hypot(corners[4, 0] - corners[3, 0], corners[4, 1] - corners[3, 1])
    one, two = (a + c) / 2, (b + d) / 2
    uneven = abs(one - two) / max(one, two)
    costs.cost[2] = base + 5 + slant
    costs.cost[1] = base + 4 + slant + 30.0 * max(0.0, uneven / (0.05 + 0.5 * floor / size) - 1)
    for name in range(1, 3):
        costs.residual[name] = rms
        costs.corners[name] = 4


@inner
def _polygon_costs(q, k, polygon, waviness, floor, size, off, costs):  # type: ignore[no-untyped-def]
    """Costs of the names of polygons of k sides that begin at the cuts."""
    m, bent, sagitta, sound = _fit_sides(q, polygon, k, waviness, off)
    if not sound:
        return
    # The more sides, the more a polygon could imitate an arc.
    straight = 0.03 if k < 5 else 0.014 if k < 7 else 0.008
    if bent > (0.5 if k < 5 else 0.3) or sagitta > straight:
        return
    rms = _trimmed(off, m, _DENT)
    convex, square, shortest = _corner_angles(k, polygon)
    if _corner_offset(q, k, polygon) > 0.25:
        return
    base = _SAMPLES * math.log(1 + (rms / floor) ** 2)
    if k == 3:
        name, given = 0, 6.0
    elif k == 4:
        name, given = 3, 8.0
        if convex:
            _rectangle_costs(polygon.corners, base, rms, square, shortest, floor, size, costs)
    elif k == 5 and convex:
        name, given = 4, 10.0
    elif k == 6 and convex:
        name, given = 5, 12.0
    else:
        name, given = 6, 2.0 * k
    if base + given < costs.cost[name]:
        costs.cost[name] = base + given
        costs.residual[name] = rms
        costs.corners[name] = k


@kernel
def _costs(x, y, jitter, costs):  # type: ignore[no-untyped-def]
    """Costs of all names for one closed outline, smoothed by `jitter` px; returns the square root of half its area."""
    n = x.size
    count = min(_PLACES, max(24, 3 * n // 4))
    p = np.empty((count, 2))
    length = _resampled(x, y, count, p)
    costs.cost[:] = 1e9
    costs.residual[:] = np.nan
    costs.corners[:] = 0
    area = 0.0
    for i in range(count):
        j = i + 1 if i + 1 < count else 0
        area += p[i, 0] * p[j, 1] - p[j, 0] * p[i, 1]
    if area < 0:
        # Holes run the other way round.
        p = p[::-1].copy()
    size = math.sqrt(abs(area) / 2) + 1e-9
    q = _from_sharpest_bend(p)
    most = min(_MOST_SIDES, count // 5)
    best, back = np.empty((most + 1, count + 1)), np.zeros((most + 1, count + 1), np.int64)
    _parted(q, most, best, back)
    # What even many straight pieces leave is the outline's own waviness.
    waviness = max(0.7 * jitter, 0.6 * math.sqrt(best[most, count] / count))
    floor = 0.1 + waviness + 0.002 * size
    off = np.empty(3 * count + 4 * _MOST_SIDES + 64)
    _round_costs(p, length, floor, size, off, costs)
    polygon = Polygon(np.empty(_MOST_SIDES + 1, np.int64), np.empty((_MOST_SIDES, 4)), np.empty((_MOST_SIDES + 1, 2)))
    for k in range(3, most + 1):
        polygon.cuts[k] = count
        j = count
        for s in range(k, 0, -1):
            j = back[s, j]
            polygon.cuts[s - 1] = j
        _polygon_costs(q, k, polygon, waviness, floor, size, off, costs)
    loose = 1.0 + _OTHER * size / floor
    costs.cost[_LAST] = _SAMPLES * math.log(1 + loose * loose)
    costs.residual[_LAST] = loose * floor
    return size


@kernel
def _classify(x, y, start, jitter, rows, first, last, code, second, score, corners):  # type: ignore[no-untyped-def]
    every = Costs(np.empty(len(NAMES)), np.empty(len(NAMES)), np.empty(len(NAMES), np.int64))
    cost, residual = every.cost, every.residual
    for k in range(first, last):
        n = rows[k]
        begin, end = start[n], start[n + 1]
        _costs(x[begin:end], y[begin:end], jitter[n], every)
        best = np.argmin(cost)
        allowed = residual[_LAST]
        least = cost[best]
        cost[best] = 1e12
        other = np.argmin(cost)
        code[k], second[k] = best, other
        # What the best model of a shape that is none would have scored speaks against its being none.
        which = other if best == _LAST else best
        fits = math.exp(-0.5 * (residual[which] / allowed) ** 2) if cost[which] < 1e8 or best != _LAST else 0.0
        if best == _LAST and fits > 0:
            fits = min(fits, math.exp(0.05 * (least - cost[which])))
        score[k] = 1 - fits if best == _LAST else fits
        corners[k] = every.corners[best]


@dataclass(frozen=True)
class Named:
    """Names of outlines, one entry each: codes into `NAMES`."""

    code: NDArray[np.int64]
    second: NDArray[np.int64]
    """What came next."""
    score: NDArray[np.float64]
    """exp(-r^2 / 2), r being what the model leaves by what it may leave; for `other`, 1 minus that of the next best."""
    corners: NDArray[np.int64]
    """Of the model; 0 where it has none."""


def classify_outlines(
    x: NDArray[np.float64],
    y: NDArray[np.float64],
    start: NDArray[np.int64],
    jitter: NDArray[np.float64],
    rows: NDArray[np.int64],
    cancelled: Callable[[], bool] | None = None,
) -> Named:
    """Classify the closed outlines `rows`; outline n has the places start[n] .. start[n + 1] and was smoothed by `jitter` px.

    Raises `Cancelled`."""
    count = len(rows)
    code, second, corners = (np.zeros(count, np.int64) for _ in range(3))
    score = np.zeros(count)
    for first in range(0, count, _CHUNK):
        if cancelled is not None and cancelled():
            raise Cancelled()
        _classify(x, y, start, jitter, rows, first, min(first + _CHUNK, count), code, second, score, corners)
    return Named(code, second, score, corners)
