"""Names the shape of an outline by fit: straight-sided models of every count, circle and ellipse, compared by what they leave.

The outline is averaged into at most some hundred places. Its best parting into k straight pieces, for each k, follows from
dynamic programming over the residuals of orthogonal lines (Perez and Vidal, Pattern Recognition Letters 15(8), 1994). Each
piece is then fitted on its middle part alone, so that rounded corners do not matter, and the worst places are left out, so
that a dent does not. The conic is fitted with the weights of Sampson (CGIP 18(1), 1982). Models compete by a penalised
likelihood (Schwarz, Annals of Statistics 6(2), 1978); sides that bow outwards make an arc and no polygon.

A quadrilateral is a rectangle if its angles are right within 4 degrees, and a square if also its sides differ by no more than
5 %, both beyond the error of the fit; an ellipse is a circle if its axes differ by no more than some 5 %. A pentagon or hexagon
is convex; what has more corners, or as many and is not, is a polygon.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.runtime.compiling import helper, kernel

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
"""A side whose bow is a larger share of its length is bent."""
_DENT = 0.07
"""Share of the places that may lie anywhere."""
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
        while left > 1e-12:
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


@helper
def _solve(a, b, n):  # type: ignore[no-untyped-def]
    """Gaussian elimination in place; the solution is left in b. False where the system is singular."""
    good = True
    for i in range(n):
        best = i
        for r in range(i + 1, n):
            if abs(a[r, i]) > abs(a[best, i]):
                best = r
        if abs(a[best, i]) < 1e-14:
            good = False
            break
        if best != i:
            for c in range(n):
                a[i, c], a[best, c] = a[best, c], a[i, c]
            b[i], b[best] = b[best], b[i]
        for r in range(i + 1, n):
            f = a[r, i] / a[i, i]
            for c in range(i, n):
                a[r, c] -= f * a[i, c]
            b[r] -= f * b[i]
    if good:
        for i in range(n - 1, -1, -1):
            for c in range(i + 1, n):
                b[i] -= a[i, c] * b[c]
            b[i] /= a[i, i]
    return good


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
        if not _solve(a, b, 5):
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
def _line(sums, i, j):  # type: ignore[no-untyped-def]
    """Mean, scatter matrix of places i .. j-1 from running sums."""
    n = sums[j, 0] - sums[i, 0]
    mx, my = (sums[j, 1] - sums[i, 1]) / n, (sums[j, 2] - sums[i, 2]) / n
    xx = sums[j, 3] - sums[i, 3] - n * mx * mx
    xy = sums[j, 4] - sums[i, 4] - n * mx * my
    yy = sums[j, 5] - sums[i, 5] - n * my * my
    return n, mx, my, xx, xy, yy


@kernel
def _parted(p, most, best, back):  # type: ignore[no-untyped-def]
    """Residuals of the best partings of the (open) row of places into 1 .. most straight pieces, and where they part."""
    n = p.shape[0]
    sums = np.zeros((n + 1, 6))
    for i in range(n):
        u, v = p[i, 0], p[i, 1]
        sums[i + 1, 0] = sums[i, 0] + 1
        sums[i + 1, 1] = sums[i, 1] + u
        sums[i + 1, 2] = sums[i, 2] + v
        sums[i + 1, 3] = sums[i, 3] + u * u
        sums[i + 1, 4] = sums[i, 4] + u * v
        sums[i + 1, 5] = sums[i, 5] + v * v
    cost = np.full((n + 1, n + 1), 1e18)
    for i in range(n):
        for j in range(i + 2, n + 1):
            _, _, _, xx, xy, yy = _line(sums, i, j)
            cost[i, j] = max(0.0, 0.5 * (xx + yy) - math.sqrt(0.25 * (xx - yy) * (xx - yy) + xy * xy))
    for j in range(n + 1):
        best[1, j] = cost[0, j]
        back[1, j] = 0
    for k in range(2, most + 1):
        for j in range(n + 1):
            least, where = 1e18, 0
            for i in range(2 * (k - 1), j - 1):
                value = best[k - 1, i] + cost[i, j]
                if value < least:
                    least, where = value, i
            best[k, j] = least
            back[k, j] = where


@kernel
def _fit_sides(p, cuts, k, waviness, lines, corners, off):  # type: ignore[no-untyped-def]
    """Fits k lines to the middle parts of the pieces that begin at `cuts`, meets them in corners, and measures.

    `off` gets the distances of the places in the middle parts; returns how many there are, the share of the length that
    is bent, the mean bow of the sides beyond doubt (a share of their length, outwards positive), and whether the polygon is sound
    (convexity aside)."""
    n = p.shape[0]
    sound = True
    for turn in range(3):
        for s in range(k):
            if turn == 0:
                first, last = cuts[s], cuts[s + 1]
                ax, ay = p[first % n, 0], p[first % n, 1]
                bx, by = p[(last - 1) % n, 0], p[(last - 1) % n, 1]
                first, last = first - 1, last + 1
            else:
                first, last = cuts[s] - 2, cuts[s + 1] + 2
                ax, ay = corners[s, 0], corners[s, 1]
                bx, by = corners[s + 1, 0], corners[s + 1, 1]
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
                for i in range(cuts[s], cuts[s + 1]):
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
            lines[s, 0], lines[s, 1], lines[s, 2], lines[s, 3] = sx, sy, c, d
        for s in range(k):
            a, b = lines[(s + k - 1) % k], lines[s]
            cross = a[2] * b[3] - a[3] * b[2]
            if abs(cross) < 0.1:
                sound = False
                break
            t = ((b[0] - a[0]) * b[3] - (b[1] - a[1]) * b[2]) / cross
            corners[s, 0], corners[s, 1] = a[0] + t * a[2], a[1] + t * a[3]
        if not sound:
            break
        corners[k] = corners[0]
    m = 0
    bent, whole, bows, doubts, straight = 0.0, 0.0, 0.0, 0.0, 0
    if sound:
        for s in range(k):
            ax, ay, bx, by = corners[s, 0], corners[s, 1], corners[s + 1, 0], corners[s + 1, 1]
            dx, dy = bx - ax, by - ay
            length = math.hypot(dx, dy) + 1e-12
            if (dx * lines[s, 2] + dy * lines[s, 3]) <= 0:
                sound = False
            # The bow of the middle part: residuals against the centred square of the place along it.
            q0, q2, q4, r0, r2 = 0.0, 0.0, 0.0, 0.0, 0.0
            began = m
            for i in range(cuts[s] - 2, cuts[s + 1] + 2):
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
            whole += length
            det = q0 * q4 - q2 * q2
            if m - began >= 3 and det > 1e-12:
                # The sagitta of the whole side, as a share of its length; outwards is positive.
                bow = -(q0 * r2 - q2 * r0) / det * 0.25 / length
                bows += bow
                straight += 1
                # A parabola through the middle part alone tells the bow of the whole side with nine times its error.
                doubt = 9.3 * waviness / math.sqrt(m - began) / length
                doubts += doubt
                if abs(bow) > _BENT + doubt:
                    bent += length
    if m == 0:
        sound = False
    # Sides too short to tell whether they are straight make no polygon of many sides.
    sound = sound and (k < 7 or straight > 0.7 * k)
    told = max(straight, 1)
    return m, bent / (whole + 1e-12), bows / told - 0.6 * doubts / told / math.sqrt(told), sound


@kernel
def _costs(x, y, jitter, costs, residual, corners_of):  # type: ignore[no-untyped-def]
    """Costs of all names for one closed outline (smaller is better), what each leaves (px) and how many corners it has."""
    n = x.size
    count = min(_PLACES, max(24, 3 * n // 4))
    p = np.empty((count, 2))
    _resampled(x, y, count, p)
    costs[:] = 1e9
    residual[:] = np.nan
    corners_of[:] = 0
    area = 0.0
    for i in range(count):
        j = i + 1 if i + 1 < count else 0
        area += p[i, 0] * p[j, 1] - p[j, 0] * p[i, 1]
    if area < 0:
        # Holes run the other way round.
        p = p[::-1].copy()
    size = math.sqrt(abs(area) / 2) + 1e-9
    # The best partings into straight pieces, from the sharpest bend on.
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
    most = min(_MOST_SIDES, count // 5)
    best, back = np.empty((most + 1, count + 1)), np.zeros((most + 1, count + 1), np.int64)
    _parted(q, most, best, back)
    # What even many straight pieces leave is the outline's own waviness.
    waviness = max(0.7 * jitter, 0.6 * math.sqrt(best[most, count] / count))
    floor = 0.1 + waviness + 0.002 * size
    off = np.empty(3 * count + 4 * _MOST_SIDES + 64)
    # Round ones.
    ellipse = _fit_ellipse(p, off)
    if ellipse[2] == ellipse[2]:
        rms = _trimmed(off, count, _DENT)
        ratio = ellipse[3] / ellipse[2]
        uneven = max(0.0, (ellipse[2] - ellipse[3]) / 2 / math.sqrt(2) - 0.009 * 2 * math.sqrt(ellipse[2] * ellipse[3]))
        costs[7] = _SAMPLES * math.log(1 + (rms * rms + uneven * uneven) / (floor * floor)) + 3
        residual[7] = math.sqrt(rms * rms + uneven * uneven)
        costs[8] = _SAMPLES * math.log(1 + (rms / floor) ** 2) + 5 + (6.0 if ratio > 0.95 else 0.0)
        residual[8] = rms
    lines, corners = np.empty((_MOST_SIDES, 4)), np.empty((_MOST_SIDES + 1, 2))
    cuts = np.empty(_MOST_SIDES + 1, np.int64)
    for k in range(3, most + 1):
        cuts[k] = count
        j = count
        for s in range(k, 0, -1):
            j = back[s, j]
            cuts[s - 1] = j
        m, bent, bow, sound = _fit_sides(q, cuts, k, waviness, lines, corners, off)
        if not sound:
            continue
        # The more sides, the more a polygon could imitate an arc.
        straight = 0.03 if k < 5 else 0.014 if k < 7 else 0.008
        if bent > (0.5 if k < 5 else 0.3) or bow > straight:
            continue
        rms = _trimmed(off, m, _DENT)
        # How sharply the corners turn, how far they stand off the outline, and whether all turn the same way.
        convex, square, off_most = True, 0.0, 0.0
        shortest, longest = 1e18, 0.0
        for s in range(k):
            a, b = lines[(s + k - 1) % k], lines[s]
            turn = math.degrees(math.atan2(a[2] * b[3] - a[3] * b[2], a[2] * b[2] + a[3] * b[3]))
            if turn <= 0:
                convex = False
            square = max(square, abs(abs(turn) - 90.0))
            side = math.hypot(corners[s + 1, 0] - corners[s, 0], corners[s + 1, 1] - corners[s, 1])
            shortest, longest = min(shortest, side), max(longest, side)
        for s in range(k):
            before = math.hypot(corners[s, 0] - corners[(s + k - 1) % k, 0], corners[s, 1] - corners[(s + k - 1) % k, 1])
            after = math.hypot(corners[s + 1, 0] - corners[s, 0], corners[s + 1, 1] - corners[s, 1])
            near = 1e18
            for i in range(cuts[s] - count // 6, cuts[s] + count // 6):
                near = min(near, math.hypot(q[i % count, 0] - corners[s, 0], q[i % count, 1] - corners[s, 1]))
            off_most = max(off_most, (near - 1.0) / min(before, after))
        if off_most > 0.25:
            continue
        base = _SAMPLES * math.log(1 + (rms / floor) ** 2)
        if k == 3:
            names, given = 0, 6.0
        elif k == 4 and convex:
            names, given = 3, 8.0
            loose = 4.0 + 60.0 * floor / shortest
            slant = 30.0 * max(0.0, square / loose - 1)
            a = math.hypot(corners[1, 0] - corners[0, 0], corners[1, 1] - corners[0, 1])
            b = math.hypot(corners[2, 0] - corners[1, 0], corners[2, 1] - corners[1, 1])
            c = math.hypot(corners[3, 0] - corners[2, 0], corners[3, 1] - corners[2, 1])
            d = math.hypot(corners[4, 0] - corners[3, 0], corners[4, 1] - corners[3, 1])
            one, two = (a + c) / 2, (b + d) / 2
            uneven = abs(one - two) / max(one, two)
            costs[2] = base + 5 + slant
            costs[1] = base + 4 + slant + 30.0 * max(0.0, uneven / (0.05 + 0.5 * floor / size) - 1)
            residual[1] = rms
            residual[2] = rms
            corners_of[1] = 4
            corners_of[2] = 4
        elif k == 4:
            names, given = 3, 8.0
        elif k == 5 and convex:
            names, given = 4, 10.0
        elif k == 6 and convex:
            names, given = 5, 12.0
        else:
            names, given = 6, 2.0 * k
        if base + given < costs[names]:
            costs[names] = base + given
            residual[names] = rms
            corners_of[names] = k
    loose = 1.0 + _OTHER * size / floor
    costs[9] = _SAMPLES * math.log(1 + loose * loose)
    residual[9] = loose * floor
    return size


@kernel
def _name(x, y, start, jitter, rows, first, last, code, second, score, corners):  # type: ignore[no-untyped-def]
    costs, residual = np.empty(len(NAMES)), np.empty(len(NAMES))
    corners_of = np.empty(len(NAMES), np.int64)
    for k in range(first, last):
        n = rows[k]
        begin, end = start[n], start[n + 1]
        _costs(x[begin:end], y[begin:end], jitter[n], costs, residual, corners_of)
        best = np.argmin(costs)
        allowed = residual[_LAST]
        least = costs[best]
        costs[best] = 1e12
        other = np.argmin(costs)
        code[k], second[k] = best, other
        # What the best model of a shape that is none would have scored speaks against its being none.
        which = other if best == _LAST else best
        fits = math.exp(-0.5 * (residual[which] / allowed) ** 2) if costs[which] < 1e8 or best != _LAST else 0.0
        if best == _LAST and fits > 0:
            fits = min(fits, math.exp(0.05 * (least - costs[which])))
        score[k] = 1 - fits if best == _LAST else fits
        corners[k] = corners_of[best]


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


def name_outlines(
    x: NDArray[np.float64],
    y: NDArray[np.float64],
    start: NDArray[np.int64],
    jitter: NDArray[np.float64],
    rows: NDArray[np.int64],
    cancelled: Callable[[], bool] | None = None,
) -> Named:
    """Names the closed outlines `rows`; outline n has the places start[n] .. start[n + 1] and was smoothed by `jitter` px.

    Raises `Cancelled`."""
    count = len(rows)
    code, second, corners = (np.zeros(count, np.int64) for _ in range(3))
    score = np.zeros(count)
    for first in range(0, count, _CHUNK):
        if cancelled is not None and cancelled():
            raise Cancelled()
        _name(x, y, start, jitter, rows, first, min(first + _CHUNK, count), code, second, score, corners)
    return Named(code, second, score, corners)
