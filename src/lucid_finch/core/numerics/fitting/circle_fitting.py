"""Circles laid through edge points around candidate centres: which points are of the rim, and how well they make a circle.

Around each centre the gradients' lines are intersected by least squares, which needs no radius; a histogram of distances then
gives the radii, and Gauss-Newton on the distances the circle. A chain that follows the rim for a while and then leaves it along
a tangent tells against a circle: the side of a square does so, and of a bar with a round end; what hides a rim crosses it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.fitting.angles import share_of_turn
from lucid_finch.core.numerics.fitting.curve_refinement import moved_rims
from lucid_finch.core.numerics.hough.circle_votes import Centres
from lucid_finch.core.numerics.hough.tiles import TILE, tiled
from lucid_finch.core.numerics.profiles.normal_profiles import cross_sections
from lucid_finch.core.numerics.runtime.compiling import helper, kernel, reduction
from lucid_finch.core.numerics.runtime.threads import cancelled_here

Floats = NDArray[np.float32]

_AGREES = 0.36
"""Radians by which a gradient may differ from the radius."""

_WHOLE = 0.8
"""Share of a rim from which on it leaves no votes for another of its size beside it."""
_MOSTLY = 0.65
"""Share of a rim from which on its points need no other explanation."""
_LARGE = 80.0
"""px: of rims from this radius on every so many points are enough to find them by."""
_FEWER = 6
_FEW = 0.7
"""Points a px of what must be seen of a rim below which there is no use in laying a circle through them."""

WINDOW = 0.6
"""Radians of a rim over which a side of a polygon would be straight."""

COLUMNS = ("x", "y", "radius", "sign", "coverage", "fidelity", "rms", "crowd", "count", "turning", "stray")
"""sign: 1 where it is brighter outside. coverage: share of the rim with points. fidelity: share of the points of the rim's
chains that lie on it, of those and of what leaves it smoothly, which counts the less the more of the rim is seen. crowd: edge
points a pixel along the rim. turning: how much of the turn that a circle makes the gradient makes along the rim; 1 for a circle,
0 for straight sides that touch it. stray: px that stretches of the rim lie off it in the mean, beyond what the scatter within
them explains."""


@dataclass(frozen=True)
class Filed:
    """Edge points by tiles, with what a rim asks of them."""

    x: Floats
    y: Floats
    nx: Floats
    ny: Floats
    chain: NDArray[np.int32]
    along: NDArray[np.int32]
    """Place along all chains, one after the other; no two chains are neighbours."""
    order: NDArray[np.int32]
    first: NDArray[np.int64]
    across: int
    down: int
    chains: int


def filed_points(
    x: Floats, y: Floats, nx: Floats, ny: Floats, chain: NDArray[np.int32], along: NDArray[np.int32], size: tuple[int, int]
) -> Filed:
    """The points of an image of that width and height, filed by place."""
    tiles = tiled(x, y, size)
    by = tiles.order
    across, down, chains = tiles.across, tiles.down, int(chain.max(initial=0)) + 1
    return Filed(x[by], y[by], nx[by], ny[by], chain[by], along[by], by, tiles.first, across, down, chains)


_OFF_LARGE = (1.1, 0.006)
_OFF_SMALL = (0.35, 0.11)
"""px, and px a px of radius, that a point may lie off a rim: a little more on large ones, which are seldom perfect; less on small
ones. The lesser of both holds."""


@helper
def within_rim(radius):  # type: ignore[no-untyped-def]
    """px that a point may lie off a rim."""
    return min(_OFF_LARGE[0] + _OFF_LARGE[1] * radius, _OFF_SMALL[0] + _OFF_SMALL[1] * radius)


def rim_tolerance(radius: NDArray[np.float64]) -> NDArray[np.float64]:
    """The same for many rims."""
    return np.minimum(_OFF_LARGE[0] + _OFF_LARGE[1] * radius, _OFF_SMALL[0] + _OFF_SMALL[1] * radius)


@helper
def within_tangent(radius):  # type: ignore[no-untyped-def]
    """px by which the tangent of a chain that has left a rim may miss the rim, for the chain to have left it smoothly."""
    return 1.0 + 0.08 * radius


ON, BESIDE, AWAY = 1, 2, 3


@helper
def left_from(place, state, mark):  # type: ignore[no-untyped-def]
    """Points by which a chain goes on along a tangent where it leaves a rim at `place`. `state`: for each place along the
    chains, four times the number of the rim and whether the point lies on it, beside it or farther away."""
    left = 0
    for step in (-1, 1):
        at = place + step
        while at >= 0 and (state[at] == 4 * mark + BESIDE or state[at] == 4 * mark + AWAY):
            left += state[at] == 4 * mark + AWAY
            state[at] = 0
            at += step
    return left


@helper
def counts_as_leaving(coverage):  # type: ignore[no-untyped-def]
    """How much what leaves a rim tells against it: nothing where nearly all of it is seen, a wire that touches a whole disc."""
    return min(max((1.0 - coverage) / 0.3, 0.0), 1.0)


STRETCHES = 24
_ALIKE = 4.2
"""Neighbouring points err alike: so many count as one."""


@kernel
def strayed(drift, drift2, count):  # type: ignore[no-untyped-def]
    """px that the stretches of a rim lie off it beyond what their scatter explains, from sums of distances and squares."""
    within, free, between, seen = 0.0, 0.0, 0.0, 0.0
    for k in range(STRETCHES):
        if count[k] >= 3:
            within += drift2[k] - drift[k] * drift[k] / count[k]
            free += count[k] - 1
            between += drift[k] * drift[k] / count[k]
            seen += count[k]
    scatter = within / max(free, 1.0)
    used = 0
    for k in range(STRETCHES):
        if count[k] >= 3:
            used += 1
    return math.sqrt(max(between - used * _ALIKE * scatter, 0.0) / max(seen, 1.0))


@kernel
def _ring(x, y, first, across, down, cx, cy, low, high, each, out):  # type: ignore[no-untyped-def]
    """Points whose tiles meet the ring between two radii and that lie in it, or one of so many; returns how many. `out` has room
    for one more than there are points."""
    found = 0
    top = max(int((cy - high) / TILE), 0)
    bottom = min(int((cy + high) / TILE), down - 1)
    low2, high2 = low * low, high * high
    for row in range(top, bottom + 1):
        # The part of the row of tiles that the outer circle spans.
        near = max(max(row * TILE - 0.5 - cy, cy - (row + 1) * TILE + 0.5), 0.0)
        if near > high:
            continue
        reach = math.sqrt(high2 - near * near)
        left = max(int((cx - reach) / TILE), 0)
        right = min(int((cx + reach) / TILE), across - 1)
        if right < left:
            continue
        # Tiles wholly inside the inner circle hold nothing.
        far = max(abs(row * TILE - 1.0 - cy), abs((row + 1) * TILE - cy))
        skip_from, skip_to = right + 1, right
        if far < low:
            hole = math.sqrt(low2 - far * far)
            skip_from = max(math.ceil((cx - hole + 1.0) / TILE), left)
            skip_to = min(math.floor((cx + hole - 1.0) / TILE) - 1, right)
            if skip_to < skip_from:
                skip_from, skip_to = right + 1, right
        for part in range(2):
            a = left if part == 0 else skip_to + 1
            b = skip_from - 1 if part == 0 else right
            if a > b:
                continue
            begin = (first[row * across + a] + each - 1) // each * each
            for k in range(begin, first[row * across + b + 1], each):
                dx, dy = x[k] - cx, y[k] - cy
                d2 = dx * dx + dy * dy
                out[found] = k
                found += (d2 >= low2) & (d2 <= high2)
    return found


@kernel
def copied(x, y, nx, ny, chosen, count, cx, cy, near):  # type: ignore[no-untyped-def]
    """Some points seen from (cx, cy) and their gradients, side by side: what is looked at often."""
    for k in range(count):
        i = chosen[k]
        near[0, k], near[1, k], near[2, k], near[3, k] = x[i] - cx, y[i] - cy, nx[i], ny[i]


@reduction
def _meeting(x, y, nx, ny, cx, cy, aside):  # type: ignore[no-untyped-def]
    """Normal equations of the place where the lines along gradients meet, from those that pass within about `aside` of (cx, cy):
    three of the matrix, two of the right side, and how many lines there are."""
    a, b, c, p, q = np.float32(0), np.float32(0), np.float32(0), np.float32(0), np.float32(0)
    used = np.int32(0)
    finer = np.float32(1) / aside
    for k in range(x.size):
        dx, dy = x[k] - cx, y[k] - cy
        off, outward = dx * ny[k] - dy * nx[k], dx * nx[k] + dy * ny[k]
        far = np.sqrt(dx * dx + dy * dy)
        near = (abs(off) < np.float32(0.75) * abs(outward)) & (abs(off) <= aside + np.float32(0.15) * far)
        w = np.float32(1) / (np.float32(1) + (off * finer) ** 2) if near else np.float32(0)
        u, v = ny[k], -nx[k]
        a += w * u * u
        b += w * u * v
        c += w * v * v
        p += w * u * off
        q += w * v * off
        used += np.int32(near)
    return np.float64(a), np.float64(b), np.float64(c), np.float64(p), np.float64(q), used


@kernel
def _distances(x, y, nx, ny, cx, cy, span, out):  # type: ignore[no-untyped-def]
    """Twice the distance of each point from (cx, cy) in whole px, and 1 more where it is brighter outside; twice `span` where the
    gradient points elsewhere or the distance is no less."""
    most = np.float32(span)
    for k in range(x.size):
        dx, dy = x[k] - cx, y[k] - cy
        outward = dx * nx[k] + dy * ny[k]
        far = np.sqrt(dx * dx + dy * dy)
        told = (abs(outward) > np.float32(0.88) * far) & (far < most)
        out[k] = 2 * np.int32(far) + np.int32(outward > 0) if told else 2 * span


@reduction
def _pulls(x, y, nx, ny, cx, cy, radius, sign, tolerance):  # type: ignore[no-untyped-def]
    """Sums over the points within `tolerance` of a circle that look along its radius: how many, their unit vectors, distances
    from the circle, products of the vectors, and of vectors and distances."""
    n = np.int32(0)
    sx, sy, sr = np.float32(0), np.float32(0), np.float32(0)
    xx, xy, yy, ex, ey = np.float32(0), np.float32(0), np.float32(0), np.float32(0), np.float32(0)
    for k in range(x.size):
        dx, dy = x[k] - cx, y[k] - cy
        d = np.sqrt(dx * dx + dy * dy)
        e = d - radius
        on = (abs(e) <= tolerance) & (sign * (dx * nx[k] + dy * ny[k]) > np.float32(0.9358968) * d)
        finer = np.float32(1) / d if on else np.float32(0)
        e = e if on else np.float32(0)
        u, v = dx * finer, dy * finer
        n += np.int32(on)
        sx += u
        sy += v
        sr += e
        xx += u * u
        xy += u * v
        yy += v * v
        ex += u * e
        ey += v * e
    return n, float(sx), float(sy), float(sr), float(xx), float(xy), float(yy), float(ex), float(ey)


@kernel
def _settled(x, y, nx, ny, guess, sign, least_seen, furthest2):  # type: ignore[no-untyped-def]
    """The circle through points about its centre, by Gauss-Newton in ever narrower bands around it: whether there is one, by how
    much its centre lies off, its radius."""
    mx, my, radius = 0.0, 0.0, guess
    sound = True
    for again in range(7):
        tolerance = max((3.0, 2.2, 1.6, 0.0, 0.0, 0.0, 0.0)[again], within_rim(radius))
        n, sx, sy, sr, xx, xy, yy, ex, ey = _pulls(
            x, y, nx, ny, np.float32(mx), np.float32(my), np.float32(radius), np.float32(sign), np.float32(tolerance)
        )
        if n < max(6.0, _FEW * least_seen * 2 * math.pi * radius):
            sound = False
            break
        # Normal equations of e = dr + u dx + v dy, dr eliminated.
        axx, axy, ayy = xx - sx * sx / n, xy - sx * sy / n, yy - sy * sy / n
        bx, by = ex - sx * sr / n, ey - sy * sr / n
        determinant = axx * ayy - axy * axy
        if determinant <= 1e-4 * (axx + ayy) ** 2 or determinant <= 0.0:
            sound = False
            break
        ux, uy = (ayy * bx - axy * by) / determinant, (axx * by - axy * bx) / determinant
        dr = (sr - ux * sx - uy * sy) / n
        mx += ux
        my += uy
        radius += dr
        if mx * mx + my * my > furthest2 or not (0.6 * guess < radius < 1.6 * guess):
            sound = False
            break
        if again > 3 and abs(ux) + abs(uy) + abs(dr) < 0.003:
            break
    return sound, mx, my, radius


@kernel
def _fit_rims(  # type: ignore[no-untyped-def]
    x, y, nx, ny, chain, along, first, across, down, cx0, cy0, low0, high0, unsure, least_radius, most_radius, least_seen,
    density, block, block_columns, from_row, to_row, stamp, seen_by, state, free, out, made, start, support,
):  # fmt: skip
    room = support.size
    points, chosen = np.empty(x.size + 1, np.int32), np.empty(x.size + 1, np.int32)
    distance = np.empty(x.size, np.int32)
    near, beside = np.empty((4, x.size), np.float32), np.empty((4, x.size), np.float32)
    bins = np.zeros((2, int(most_radius * 1.3) + 8), np.int32)
    covered = np.zeros(1024, np.uint8)
    leaning = np.zeros(1024)
    many = np.zeros(1024)
    drift, drift2, count_of = np.zeros(STRETCHES), np.zeros(STRETCHES), np.zeros(STRETCHES)
    mark = 0
    for row in range(from_row, to_row):
        cx, cy = cx0[row], cy0[row]
        low, high = low0[row], high0[row]
        slack = unsure[row]
        # A whole rim that was found from a neighbouring cell is what brought this one its votes.
        known = False
        for k in range(made[0]):
            if (
                (out[0, k] - cx) ** 2 + (out[1, k] - cy) ** 2 < 0.36 * slack * slack
                and low <= out[2, k] <= high
                and out[4, k] > _WHOLE
            ):
                known = True
        if known:
            continue
        outer = high + slack
        inner = max(low - slack, 1.0)
        each = _FEWER if low >= _LARGE else 1
        count = _ring(x, y, first, across, down, cx, cy, inner, outer, each, points)
        # What a surer rim explains points to no other.
        kept = 0
        for k in range(count):
            i = points[k]
            points[kept] = i
            kept += free[i]
        count = kept
        if count < 6:
            continue
        copied(x, y, nx, ny, points, count, cx, cy, near)
        # Where the lines along the gradients meet.
        good = True
        moved_x, moved_y = 0.0, 0.0
        px, py, dx_of, dy_of = near[0, :count], near[1, :count], near[2, :count], near[3, :count]
        for turn in range(3):
            aside = (1.2, 0.8, 0.5)[turn] * slack + 0.5
            a, b, c, p, q, used = _meeting(px, py, dx_of, dy_of, np.float32(moved_x), np.float32(moved_y), np.float32(aside))
            determinant = a * c - b * b
            if used < 6 or determinant <= 1e-3 * (a + c) * (a + c):
                good = used >= 6
                break
            moved_x += (c * p - b * q) / determinant
            moved_y += (a * q - b * p) / determinant
            if moved_x**2 + moved_y**2 > 9.0 * slack * slack:
                good = False
                break
        if not good:
            continue
        cx += moved_x
        cy += moved_y
        span = int(outer + slack) + 3
        if span >= bins.shape[1]:
            span = bins.shape[1] - 1
        for s in range(2):
            for r in range(span + 1):
                bins[s, r] = 0
        _distances(px, py, dx_of, dy_of, np.float32(moved_x), np.float32(moved_y), span, distance)
        for k in range(count):
            bins[distance[k] & 1, distance[k] >> 1] += 1
        # Those that look elsewhere.
        bins[0, span] = 0
        for s in range(2):
            for _ in range(2):
                # The fullest three neighbouring bins, for their size.
                best, at = 0.0, -1
                for r in range(max(int(inner) - 1, 1), span - 1):
                    share = each * (bins[s, r - 1] + bins[s, r] + bins[s, r + 1]) / (r + 0.5)
                    if share > best:
                        best, at = share, r
                if at < 0 or best < 2 * math.pi * least_seen * 0.7:
                    break
                for r in range(max(at - 3, 0), min(at + 4, span + 1)):
                    bins[s, r] = 0
                sign = 1.0 if s == 1 else -1.0
                mx, my, radius = cx, cy, at + 0.5
                # Reached from another cell before.
                known = False
                for k in range(made[0]):
                    if (
                        abs(out[2, k] - radius) < 2.5
                        and out[3, k] == sign
                        and (out[0, k] - cx) ** 2 + (out[1, k] - cy) ** 2 < 4.0
                    ):
                        known = True
                        break
                if known:
                    continue
                wide = 8.0 + 0.06 * radius
                ring = _ring(x, y, first, across, down, mx, my, max(radius - wide, 0.5), radius + wide, 1, chosen)
                copied(x, y, nx, ny, chosen, ring, mx, my, beside)
                sound, aside_x, aside_y, radius = _settled(
                    beside[0, :ring], beside[1, :ring], beside[2, :ring], beside[3, :ring], radius, sign, least_seen,
                    4 * slack * slack + 9,
                )  # fmt: skip
                mx += aside_x
                my += aside_y
                if not sound or radius < least_radius or radius > most_radius:
                    continue
                # Support, coverage, and what the chains of the support do besides.
                ring = _ring(x, y, first, across, down, mx, my, max(0.75 * radius - 4, 0.5), 1.28 * radius + 5, 1, chosen)
                mark += 1
                tolerance = within_rim(radius)
                parts = min(max(int(2 * math.pi * radius / 1.5), 16), 1024)
                for k in range(parts):
                    covered[k] = 0
                    leaning[k] = 0.0
                    many[k] = 0.0
                for k in range(STRETCHES):
                    drift[k], drift2[k], count_of[k] = 0.0, 0.0, 0.0
                begin = start[made[0]]
                held, ss, crowd = 0, 0.0, 0.0
                for k in range(ring):
                    i = chosen[k]
                    dx, dy = x[i] - mx, y[i] - my
                    d = math.sqrt(dx * dx + dy * dy)
                    if abs(d - radius) <= tolerance and sign * (dx * nx[i] + dy * ny[i]) > 0.9358968 * d:
                        turned = share_of_turn(dy, dx)
                        slot = int(turned * parts) % parts
                        stretch = int(turned * STRETCHES) % STRETCHES
                        drift[stretch] += d - radius
                        drift2[stretch] += (d - radius) ** 2
                        count_of[stretch] += 1.0
                        covered[slot] = 1
                        leaning[slot] += sign * (dx * ny[i] - dy * nx[i]) / d
                        many[slot] += 1.0
                        if begin + held < room:
                            support[begin + held] = i
                        held += 1
                        ss += (d - radius) ** 2
                        c = chain[i]
                        if stamp[c] != mark:
                            stamp[c] = mark
                            seen_by[c] = 0
                        seen_by[c] += 1
                        state[along[i]] = 4 * mark + ON
                        crowd += density[int(max(y[i], 0)) // block * block_columns + int(max(x[i], 0)) // block]
                if held < 6 or begin + held > room:
                    continue
                filled = 0
                for k in range(parts):
                    filled += covered[k]
                coverage = filled / parts
                if coverage < least_seen:
                    continue
                for k in range(ring):
                    i = chosen[k]
                    if stamp[chain[i]] == mark and seen_by[chain[i]] >= 4 and state[along[i]] != 4 * mark + ON:
                        dx, dy = x[i] - mx, y[i] - my
                        if abs(sign * (dx * nx[i] + dy * ny[i]) - radius) <= within_tangent(radius):
                            far = abs(math.sqrt(dx * dx + dy * dy) - radius) > tolerance + 0.5
                            state[along[i]] = 4 * mark + (AWAY if far else BESIDE)
                leaving = 0
                for k in range(begin, begin + held):
                    leaving += left_from(along[support[k]], state, mark)
                # Along a straight side the gradient stays while the radius turns: it leans the other way.
                window = max(int(max(WINDOW, 8.0 / radius) / (2 * math.pi) * parts), 3)
                against, spread = 0.0, 0.0
                for k in range(0, parts, window):
                    w, sk, sl, skk, skl = 0.0, 0.0, 0.0, 0.0, 0.0
                    for j in range(k, min(k + window, parts)):
                        w += many[j]
                        sk += many[j] * j
                        sl += leaning[j]
                        skk += many[j] * j * j
                        skl += leaning[j] * j
                    if w >= 3:
                        against += skl - sk * sl / w
                        spread += skk - sk * sk / w
                turning = 1.0 + against / max(spread, 1e-9) * parts / (2 * math.pi)
                n = made[0]
                if n >= out.shape[1]:
                    return
                # The same circle, reached from another cell.
                twice = False
                for k in range(n):
                    if abs(out[2, k] - radius) < 1.0 and abs(out[0, k] - mx) + abs(out[1, k] - my) < 1.5 and out[3, k] == sign:
                        twice = True
                        break
                if twice:
                    continue
                out[0, n], out[1, n], out[2, n], out[3, n] = mx, my, radius, sign
                out[4, n], out[5, n] = coverage, held / (held + leaving * counts_as_leaving(coverage))
                out[6, n], out[7, n], out[8, n] = math.sqrt(ss / max(held - 3, 1)), crowd / held, held
                out[9, n], out[10, n] = turning, strayed(drift, drift2, count_of)
                made[0] = n + 1
                start[n + 1] = begin + held
                if coverage > _MOSTLY and out[5, n] > 0.9 and turning > 0.8 and out[10, n] < 0.3:
                    for k in range(begin, begin + held):
                        free[support[k]] = False


@dataclass(frozen=True)
class Rims:
    """One entry a rim in each column; the points of each."""

    columns: dict[str, NDArray[np.float64]]
    start: NDArray[np.int64]
    support: NDArray[np.int32]
    """Indices into the points as they were given."""
    place: NDArray[np.float64]
    """How far round the rim each point lies, 0 to 1."""

    def __len__(self) -> int:
        return len(self.start) - 1

    def points_of(self, rows: NDArray[np.int64]) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
        """Points of some rows, and the place among these of the one that each belongs to."""
        count = np.diff(self.start)[rows]
        first = np.cumsum(count) - count
        owner = np.repeat(np.arange(len(rows)), count)
        return self.support[np.repeat(self.start[rows] - first, count) + np.arange(len(owner))], owner


def fit_circles(
    filed: Filed, centres: Centres, radius: tuple[float, float], least_seen: float, density: Floats, block: int, most: int = 4000
) -> Rims:
    """Circles around the centres whose rims are seen at least to the share `least_seen`. Raises `Cancelled`."""
    out, made = np.empty((len(COLUMNS), most)), np.zeros(1, np.int64)
    start = np.zeros(most + 1, np.int64)
    support = np.empty(max(8 * len(filed.x), 4096), np.int32)
    stamp, seen_by = np.zeros(filed.chains, np.int64), np.zeros(filed.chains, np.int32)
    state = np.zeros(int(filed.along.max(initial=0)) + 2, np.int64)
    free = np.ones(max(len(filed.x), 1), np.bool_)
    cancelled = cancelled_here()
    flat = np.ascontiguousarray(density.ravel())
    for first in range(0, len(centres.x), 200):
        if cancelled is not None and cancelled():
            raise Cancelled()
        stamp[:], state[:] = 0, 0
        _fit_rims(
            filed.x, filed.y, filed.nx, filed.ny, filed.chain, filed.along, filed.first, filed.across, filed.down, centres.x,
            centres.y, centres.low, centres.high, centres.unsure, float(radius[0]), float(radius[1]), least_seen, flat, block,
            density.shape[1], first, min(first + 200, len(centres.x)), stamp, seen_by, state, free, out, made, start,
            support,
        )  # fmt: skip
    n = int(made[0])
    columns = {name: out[k, :n].copy() for k, name in enumerate(COLUMNS)}
    used = support[: int(start[n])]
    return Rims(columns, start[: n + 1].copy(), filed.order[used], np.zeros(len(used)))


def shared_points(start: NDArray[np.int64], support: NDArray[np.int32]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Pairs of rows that have points in common, and the share of the smaller one's points that are."""
    count = np.diff(start)
    owner = np.repeat(np.arange(len(count)), count)
    by_point = np.argsort(support, kind="stable")
    points, owners = support[by_point], owner[by_point]
    pairs: list[Any] = []
    # Points of many owners give all pairs of them: neighbours in the order at every distance.
    away = 1
    while True:
        same = np.flatnonzero(points[away:] == points[:-away]) if away < len(points) else np.empty(0, np.int64)
        if not len(same) or away > 40:
            break
        pairs.append(np.stack([owners[same], owners[same + away]], axis=1))
        away += 1
    if not pairs:
        return np.empty((0, 2), np.int64), np.empty(0)
    joined = np.sort(np.concatenate(pairs), axis=1)
    keys, times = np.unique(joined[:, 0] * len(count) + joined[:, 1], return_counts=True)
    found = np.stack([keys // len(count), keys % len(count)], axis=1)
    return found, times / np.minimum(count[found[:, 0]], count[found[:, 1]])


@kernel
def _own(order, start, support, place, parts, taken, covered, out):  # type: ignore[no-untyped-def]
    for k in range(order.size):
        row = order[k]
        n = parts[row]
        for j in range(n):
            covered[j] = 0
        for j in range(start[row], start[row + 1]):
            i = support[j]
            if taken[i] == 0:
                taken[i] = 1
                covered[min(int(place[j] * n), n - 1)] = 1
        total = 0
        for j in range(n):
            total += covered[j]
        out[row] = total / n


def own_coverage(rims: Rims, around: NDArray[np.float64], merit: NDArray[np.float64]) -> NDArray[np.float64]:
    """Share of each rim, `around` px long, seen by points that no rim of more merit has."""
    out = np.zeros(len(rims))
    if not len(rims):
        return out
    parts = np.clip((around / 1.5).astype(np.int64), 16, 1024)
    taken = np.zeros(int(rims.support.max(initial=0)) + 1, np.uint8)
    order = np.argsort(-merit, kind="stable")
    _own(order, rims.start, rims.support, rims.place, parts, taken, np.zeros(1024, np.uint8), out)
    return out


def likely_rims(columns: dict[str, NDArray[np.float64]]) -> NDArray[np.bool_]:
    """Which rims are worth being measured closely."""
    return np.asarray((columns["fidelity"] > 0.5) & (columns["turning"] > 0.35) & (columns["coverage"] > 0.3))


def refine_circles(pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: Floats, y: Floats, rims: Rims, sigma: float) -> Rims:
    """The circles laid through what is measured across their rims, with contrast and standard deviations as columns more.
    Those that are hardly circles stay where they are. `x`, `y`: the edge points, whose smoothing was `sigma`."""
    c = dict(rims.columns)
    likely = likely_rims(c)
    shape = np.stack([c["x"], c["y"], c["radius"], c["radius"], np.zeros(len(rims))], axis=1)
    moved = moved_rims(pixels, mask, x, y, rims.start, rims.support, shape, c["sign"], c["rms"], 3, likely, sigma)
    for k, name in enumerate(("x", "y", "radius")):
        c[name], c[f"{name}_std"] = moved.shape[:, k], moved.std[:, k]
    c["contrast"], c["blur2"] = moved.contrast, moved.blur2
    owner = np.repeat(np.arange(len(rims)), np.diff(rims.start))
    place = np.arctan2(y[rims.support] - c["y"][owner], x[rims.support] - c["x"][owner]) / (2 * np.pi) % 1.0
    return replace(rims, columns=c, place=place)


_RAYS = 64
_CLEAR = 6.0
"""A rim around a place must stand out by so many times what chance makes: many are tried."""


@dataclass(frozen=True)
class SeenRim:
    """What a rim around a place looks like, whatever its radius."""

    x: float
    y: float
    radius: float
    sign: float
    slope: float
    """Mean gradient across the rim where it is seen, grey levels per px."""
    coverage: float


def rim_profile(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: float, y: float, most: float, sigma: float
) -> SeenRim | None:
    """The clearest rim around a place up to a radius of `most` px; None where nothing stands out of the noise.

    The mean gradient along the normal of every circle is held against what such a mean scatters by; the centre is looked for
    some px around the place, ever more finely.
    """
    turns = np.linspace(0, 2 * np.pi, _RAYS + 1)[:-1]
    cos, sin = np.cos(turns), np.sin(turns)
    best, best_slope = (0.0, x, y, 0.0), np.zeros(_RAYS)
    spread = 0.0
    for step in (3.0, 1.5, 0.75):
        _, middle_x, middle_y, radius = best
        radii = np.arange(4.0, max(most, 6.0), 1.0) if radius == 0.0 else np.maximum(radius + np.arange(-4, 5) * step / 3, 3.0)
        enough = np.minimum(_RAYS, 2 * np.pi * radii / (2 * sigma))
        for i in (0, -1, 1):
            for j in (0, -1, 1):
                at_x, at_y = middle_x + i * step, middle_y + j * step
                r = np.repeat(radii, _RAYS)
                u, v = np.tile(cos, len(radii)), np.tile(sin, len(radii))
                slope = cross_sections(pixels, mask, at_x + r * u, at_y + r * v, u, v, (max(sigma, 1.0),)).slope
                slope = slope.reshape(len(radii), _RAYS)
                seen = np.isfinite(slope)
                n = seen.sum(axis=1)
                mean = np.where(seen, slope, 0.0).sum(axis=1) / np.maximum(n, 1)
                if spread == 0.0:
                    off = np.where(seen, slope - mean[:, None], np.nan)[n >= _RAYS // 4]
                    spread = float(1.4826 * np.nanmedian(np.abs(off))) if np.isfinite(off).any() else 1.0
                    spread = max(spread, 1e-6)
                clear = np.where(n >= _RAYS // 4, np.abs(mean) * np.sqrt(enough * n / _RAYS) / spread, 0.0)
                k = int(np.argmax(clear))
                if clear[k] > best[0]:
                    best = (float(clear[k]), at_x, at_y, float(radii[k]))
                    best_slope = np.where(seen[k], slope[k], 0.0)
    if best[0] < _CLEAR:
        return None
    sign = float(np.sign(best_slope.mean()))
    # Neighbouring rays see nearly the same: their mean tells where the rim is there.
    rays = np.convolve(np.tile(sign * best_slope, 3), np.full(5, 0.2), "same")[_RAYS : 2 * _RAYS]
    there = rays > 0.5 * np.quantile(rays, 0.9)
    return SeenRim(best[1], best[2], best[3], sign, float((sign * best_slope)[there].mean()), float(there.mean()))
