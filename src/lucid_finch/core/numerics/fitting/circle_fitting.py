"""Circles fitted to edge points around candidate centres: which points support the rim, and how well they fit.

Around each centre the gradients' lines are intersected by least squares, which needs no radius; a histogram of distances then
gives the radii, and Gauss-Newton on the distances the circle. A chain that follows the rim and then continues along the
tangent is evidence against a circle (the side of a square or of a bar with a round end); what occludes a rim crosses it.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.fitting.angles import normalized_angle
from lucid_finch.core.numerics.fitting.curve_refinement import refine_curves
from lucid_finch.core.numerics.fitting.rim_areas import polygon_areas, polygon_swings
from lucid_finch.core.numerics.fitting.rim_support import (
    AWAY,
    BESIDE,
    MOST_PARTS,
    ON,
    STRETCHES,
    WINDOW,
    Density,
    Filed,
    Rims,
    alike_points,
    clear_sections,
    copied,
    counts_as_leaving,
    density_at,
    likely_rims,
    mark_on_rim,
    new_marks,
    new_output,
    new_sections,
    points_leaving,
    rims_of,
    run_rows,
    share_covered,
    systematic_residual,
    within_rim,
    within_tangent,
)
from lucid_finch.core.numerics.fitting.rim_waves import RimPoints, polygon_share
from lucid_finch.core.numerics.hough.circle_votes import Centres
from lucid_finch.core.numerics.hough.tiles import TILE
from lucid_finch.core.numerics.ragged import owners
from lucid_finch.core.numerics.runtime.compiling import inner, kernel, reduction

Floats = NDArray[np.float32]
_AGREES = 0.36
"""Radians by which a gradient may differ from the radius."""
_WHOLE = 0.8
"""Share of a rim from which on it leaves no votes for another of its size beside it."""
_MOSTLY = 0.65
"""Share of a rim from which on its points need no other explanation."""
_HIDDEN = 0.45
"""Share of a rim that must be hidden for all points that leave it to count."""
_LARGE = 80.0
"""px: of rims from this radius on every so many points are enough to find them by."""
_FEWER = 6
_FEW = 0.7
"""Points a px of what must be seen of a rim below which there is no use in laying a circle through them."""
_OF_SMOOTHING = 0.8
"""Share of the smoothing that is enough for the grey levels around a rim, where a pattern asked for it."""
_UNEVEN_FROM = 12
"""px of radius from which on rims are also looked for whose points lie farther off."""
UNEVEN_SEEN, _MORE = 0.7, 0.08
"""Share of an uneven rim that must be visible, and by how much more of it than of an even one."""
_LIT = 0.42
"""Share of the points of a mixed rim by which one side must be brighter, the other darker; of two even halves it is 0.64."""
_ENOUGH_AROUND = 0.7
"""Points for each px of its rim that an uneven one needs around it, to be worth a fit."""
COLUMNS = (
    "x", "y", "radius", "sign", "coverage", "fidelity", "rms", "density", "count", "turning", "systematic_residual",
    "uneven", "mixed",
)  # fmt: skip
"""sign: 1 where it is brighter outside. coverage: share of the rim with points. fidelity: share of the points of the rim's
chains that lie on it, of those and of what leaves it smoothly, which counts the less the more of the rim is seen. density: edge
points a pixel along the rim. turning: how much of the turn that a circle makes the gradient makes along the rim; 1 for a circle,
0 for straight sides that touch it. systematic_residual: px, rms of segment means minus the part
that scatter explains. uneven: 1 where points count that lie farther off.
mixed: 1 where it is brighter outside along one part of the rim and darker along another, as of relief in light from one side."""


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
        aligned = (abs(outward) > np.float32(0.88) * far) & (far < most)
        out[k] = 2 * np.int32(far) + np.int32(outward > 0) if aligned else 2 * span


@reduction
def _normal_equations(x, y, nx, ny, cx, cy, radius, sign, tolerance):  # type: ignore[no-untyped-def]
    """Sums over the points within `tolerance` of a circle that look along its radius, either way if `sign` is 0: how many, their
    unit vectors, distances from the circle, products of the vectors, and of vectors and distances."""
    n = np.int32(0)
    sx, sy, sr = np.float32(0), np.float32(0), np.float32(0)
    xx, xy, yy, ex, ey = np.float32(0), np.float32(0), np.float32(0), np.float32(0), np.float32(0)
    for k in range(x.size):
        dx, dy = x[k] - cx, y[k] - cy
        d = np.sqrt(dx * dx + dy * dy)
        e = d - radius
        outward = dx * nx[k] + dy * ny[k]
        on = (abs(e) <= tolerance) & ((abs(outward) if sign == 0 else sign * outward) > np.float32(0.9358968) * d)
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
def _gauss_newton(x, y, nx, ny, guess, sign, least_seen, furthest2, uneven):  # type: ignore[no-untyped-def]
    """The circle through points about its centre, by Gauss-Newton in ever narrower bands around it: whether there is one, by how
    much its centre lies off, its radius."""
    mx, my, radius = 0.0, 0.0, guess
    sound = True
    for again in range(7):
        tolerance = max((3.0, 2.2, 1.6, 0.0, 0.0, 0.0, 0.0)[again], within_rim(radius, uneven))
        n, sx, sy, sr, xx, xy, yy, ex, ey = _normal_equations(
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


class Circle(NamedTuple):
    """Centre, radius (px), 1 where it is brighter outside (0: here brighter, there darker), and 1 where its points may lie
    farther off."""

    x: float
    y: float
    radius: float
    sign: float
    uneven: float


class Search(NamedTuple):
    """What is looked for."""

    least: float
    most: float
    coverage: float
    alike: float


@inner
def _is_found_whole(output, x, y, low, high, slack):  # type: ignore[no-untyped-def]
    """Whether a whole circle that is known explains the votes of a cell."""
    known, out = False, output.columns
    for k in range(output.made[0]):
        if (out[0, k] - x) ** 2 + (out[1, k] - y) ** 2 < 0.36 * slack * slack and low <= out[2, k] <= high and out[4, k] > _WHOLE:
            known = True
    return known


@inner
def _is_found(output, circle, apart_radius, apart2):  # type: ignore[no-untyped-def]
    """Whether a circle was reached from another cell before."""
    out = output.columns
    for k in range(output.made[0]):
        if (
            abs(out[2, k] - circle.radius) < apart_radius
            and out[3, k] == circle.sign
            and (out[0, k] - circle.x) ** 2 + (out[1, k] - circle.y) ** 2 < apart2
        ):
            return True
    return False


@inner
def _is_double(output, circle):  # type: ignore[no-untyped-def]
    """Whether the fitted circle is one that is known."""
    out = output.columns
    for k in range(output.made[0]):
        near = abs(out[0, k] - circle.x) + abs(out[1, k] - circle.y) < 1.5
        mixed = circle.sign == 0
        alike = (mixed or out[3, k] == circle.sign) and out[11, k] == circle.uneven and (out[12, k] == 1) == mixed
        if abs(out[2, k] - circle.radius) < 1.0 and near and alike:
            return True
    return False


@inner
def _common_centre(near, count, slack):  # type: ignore[no-untyped-def]
    """Where the lines along the gradients of some points meet, from the centre that they are seen from; whether they do."""
    x, y = 0.0, 0.0
    px, py, dx, dy = near[0, :count], near[1, :count], near[2, :count], near[3, :count]
    for turn in range(3):
        aside = (1.2, 0.8, 0.5)[turn] * slack + 0.5
        a, b, c, p, q, used = _meeting(px, py, dx, dy, np.float32(x), np.float32(y), np.float32(aside))
        determinant = a * c - b * b
        if used < 6 or determinant <= 1e-3 * (a + c) * (a + c):
            return used >= 6, x, y
        x += (c * p - b * q) / determinant
        y += (a * q - b * p) / determinant
        if x**2 + y**2 > 9.0 * slack * slack:
            return False, x, y
    return True, x, y


@inner
def _fullest_radius(counts, inner_radius, span, each):  # type: ignore[no-untyped-def]
    """The radius, whole px, whose bin and both neighbours hold most points for their size, and how many px of rim those are."""
    best, at = 0.0, -1
    for r in range(max(int(inner_radius) - 1, 1), span - 1):
        share = each * (counts[r - 1] + counts[r] + counts[r + 1]) / (r + 0.5)
        if share > best:
            best, at = share, r
    return best, at


@inner
def _share_around(bins, s, at, span, each):  # type: ignore[no-untyped-def]
    """Share of a rim of that radius for which there are points about as far off: of one sign, and of both."""
    reach = int(within_rim(float(at), 1.0)) + 2
    same, other = 0.0, 0.0
    for r in range(max(at - reach, 1), min(at + reach + 1, span)):
        same += each * bins[s, r] / (r + 0.5)
        other += each * bins[1 - s, r] / (r + 0.5)
    return same / (2 * math.pi), (same + other) / (2 * math.pi)


@inner
def _circle_support(points, chosen, ring, circle, parts, mark, density, marks, sections, output):  # type: ignore[no-untyped-def]
    """Collects the points on a circle and their sums along it; how many, the sum of squared distances, the density there,
    how many more are brighter outside than inside, and by how many that differs from one side of the circle to the other."""
    tolerance = within_rim(circle.radius, circle.uneven)
    begin, room = output.start[output.made[0]], output.support.size
    held, ss, dense, balance, lit_x, lit_y = 0, 0.0, 0.0, 0.0, 0.0, 0.0
    for k in range(ring):
        i = chosen[k]
        dx, dy = points.x[i] - circle.x, points.y[i] - circle.y
        d = math.sqrt(dx * dx + dy * dy)
        outward = dx * points.nx[i] + dy * points.ny[i]
        sign = circle.sign if circle.sign != 0 else (1.0 if outward > 0 else -1.0)
        if abs(d - circle.radius) <= tolerance and sign * outward > 0.9358968 * d:
            turned = normalized_angle(dy, dx)
            slot = int(turned * parts) % parts
            stretch = int(turned * STRETCHES) % STRETCHES
            sections.drift[stretch] += d - circle.radius
            sections.drift2[stretch] += (d - circle.radius) ** 2
            sections.count[stretch] += 1.0
            sections.covered[slot] = 1
            sections.leaning[slot] += sign * (dx * points.ny[i] - dy * points.nx[i]) / d
            sections.many[slot] += 1.0
            if begin + held < room:
                output.support[begin + held] = i
            held += 1
            balance += sign
            lit_x += sign * dx / d
            lit_y += sign * dy / d
            ss += (d - circle.radius) ** 2
            mark_on_rim(i, points, mark, marks)
            dense += density_at(points.x[i], points.y[i], density)
    return held, ss, dense, balance, math.sqrt(lit_x * lit_x + lit_y * lit_y)


@inner
def _mark_beside_circle(points, chosen, ring, circle, mark, marks):  # type: ignore[no-untyped-def]
    """Notes which points of the circle's chains that are not on it follow a tangent of it."""
    tolerance = within_rim(circle.radius, circle.uneven)
    for k in range(ring):
        i = chosen[k]
        chain, place = points.chain[i], points.along[i]
        if marks.stamp[chain] == mark and marks.seen_by[chain] >= 4 and marks.state[place] != 4 * mark + ON:
            dx, dy = points.x[i] - circle.x, points.y[i] - circle.y
            outward = dx * points.nx[i] + dy * points.ny[i]
            outward = abs(outward) if circle.sign == 0 else circle.sign * outward
            if abs(outward - circle.radius) <= within_tangent(circle.radius):
                far = abs(math.sqrt(dx * dx + dy * dy) - circle.radius) > tolerance + 0.5
                marks.state[place] = 4 * mark + (AWAY if far else BESIDE)


@inner
def _circle_rotation(sections, parts, radius):  # type: ignore[no-untyped-def]
    """How much of the rotation of a circle's normal the gradient makes along it, seen over short windows.

    Along a straight side the gradient stays while the radius rotates: it leans the other way.
    """
    window = max(int(max(WINDOW, 8.0 / radius) / (2 * math.pi) * parts), 3)
    against, spread = 0.0, 0.0
    for k in range(0, parts, window):
        w, sk, sl, skk, skl = 0.0, 0.0, 0.0, 0.0, 0.0
        for j in range(k, min(k + window, parts)):
            w += sections.many[j]
            sk += sections.many[j] * j
            sl += sections.leaning[j]
            skk += sections.many[j] * j * j
            skl += sections.leaning[j] * j
        if w >= 3:
            against += skl - sk * sl / w
            spread += skk - sk * sk / w
    return 1.0 + against / max(spread, 1e-9) * parts / (2 * math.pi)


@inner
def _settle_circle(points, guess, slack, search, chosen, beside):  # type: ignore[no-untyped-def]
    """The circle fitted to the points around a guess, and whether there is one of the sizes looked for."""
    wide = 8.0 + 0.06 * guess.radius
    low = max(guess.radius - wide, 0.5)
    ring = _ring(
        points.x, points.y, points.first, points.across, points.down, guess.x, guess.y, low, guess.radius + wide, 1, chosen
    )  # fmt: skip
    copied(points.x, points.y, points.nx, points.ny, chosen, ring, guess.x, guess.y, beside)
    sound, x, y, radius = _gauss_newton(
        beside[0, :ring], beside[1, :ring], beside[2, :ring], beside[3, :ring], guess.radius, guess.sign, search.coverage,
        4 * slack * slack + 9, guess.uneven,
    )  # fmt: skip
    return sound and search.least <= radius <= search.most, Circle(guess.x + x, guess.y + y, radius, guess.sign, guess.uneven)


@inner
def _measure_circle(points, circle, search, least, density, marks, mark, sections, output, free, chosen):  # type: ignore[no-untyped-def]
    """Measures a fitted circle and adds it to the output if the share `least` of it is visible; False if no room is left."""
    radius = circle.radius
    low = max(0.75 * radius - 4, 0.5)
    ring = _ring(
        points.x, points.y, points.first, points.across, points.down, circle.x, circle.y, low, 1.28 * radius + 5, 1, chosen
    )  # fmt: skip
    parts = min(max(int(2 * math.pi * radius / 1.5), 16), MOST_PARTS)
    clear_sections(sections, parts)
    held, ss, dense, balance, lit = _circle_support(points, chosen, ring, circle, parts, mark, density, marks, sections, output)
    begin = output.start[output.made[0]]
    if held < 6 or begin + held > output.support.size:
        return True
    coverage = share_covered(sections.covered, parts)
    if coverage < least or (circle.sign == 0 and lit < _LIT * held):
        return True
    _mark_beside_circle(points, chosen, ring, circle, mark, marks)
    leaving = points_leaving(points, output.support, begin, held, mark, marks.state)
    turning = _circle_rotation(sections, parts, radius)
    n, out = output.made[0], output.columns
    if n >= out.shape[1]:
        return False
    if _is_double(output, circle):
        return True
    out[0, n], out[1, n], out[2, n], out[3, n] = circle.x, circle.y, radius, 1.0 if balance > 0 else -1.0
    out[4, n], out[5, n] = coverage, held / (held + leaving * counts_as_leaving(coverage, _HIDDEN))
    out[6, n], out[7, n], out[8, n] = math.sqrt(ss / max(held - 3, 1)), dense / held, held
    out[9, n], out[10, n] = turning, systematic_residual(sections.drift, sections.drift2, sections.count, search.alike)
    out[11, n], out[12, n] = circle.uneven, 1.0 if circle.sign == 0 else 0.0
    output.made[0] = n + 1
    output.start[n + 1] = begin + held
    if coverage > _MOSTLY and out[5, n] > 0.9 and turning > 0.8 and out[10, n] < 0.3:
        for k in range(begin, begin + held):
            free[output.support[k]] = False
    return True


@kernel
def _fit_circles(points, cells, from_row, to_row, search, density, marks, free, output):  # type: ignore[no-untyped-def]
    """Fits circles around the cells from_row .. to_row - 1; `cells` (5, n): x, y, least and largest radius, uncertainty."""
    found, chosen = np.empty(points.x.size + 1, np.int32), np.empty(points.x.size + 1, np.int32)
    distance = np.empty(points.x.size, np.int32)
    near, beside = np.empty((4, points.x.size), np.float32), np.empty((4, points.x.size), np.float32)
    bins = np.zeros((2, int(search.most * 1.3) + 8), np.int32)
    sections = new_sections()
    mark = 0
    for row in range(from_row, to_row):
        cx, cy, low, high, slack = cells[0, row], cells[1, row], cells[2, row], cells[3, row], cells[4, row]
        if _is_found_whole(output, cx, cy, low, high, slack):
            continue
        outer, nearest = high + slack, max(low - slack, 1.0)
        each = _FEWER if low >= _LARGE else 1
        count = _ring(points.x, points.y, points.first, points.across, points.down, cx, cy, nearest, outer, each, found)
        # Points that a better rim explains vote for no other.
        kept = 0
        for k in range(count):
            i = found[k]
            found[kept] = i
            kept += free[i]
        count = kept
        if count < 6:
            continue
        copied(points.x, points.y, points.nx, points.ny, found, count, cx, cy, near)
        good, moved_x, moved_y = _common_centre(near, count, slack)
        if not good:
            continue
        span = min(int(outer + slack) + 3, bins.shape[1] - 1)
        bins[:, : span + 1] = 0
        _distances(
            near[0, :count], near[1, :count], near[2, :count], near[3, :count], np.float32(moved_x), np.float32(moved_y), span,
            distance,
        )  # fmt: skip
        for k in range(count):
            bins[distance[k] & 1, distance[k] >> 1] += 1
        # Those whose gradients point elsewhere.
        bins[0, span] = 0
        for s in range(2):
            for _ in range(2):
                best, at = _fullest_radius(bins[s], nearest, span, each)
                if at < 0 or best < 2 * math.pi * search.coverage * 0.7:
                    break
                same, every = _share_around(bins, s, at, span, each)
                for r in range(max(at - 3, 0), min(at + 4, span + 1)):
                    bins[s, r] = 0
                guess = Circle(cx + moved_x, cy + moved_y, at + 0.5, 1.0 if s == 1 else -1.0, 0.0)
                if _is_found(output, guess, 2.5, 4.0):
                    continue
                least = search.coverage
                for attempt in range(3):
                    if attempt and (at < _UNEVEN_FROM or (same if attempt == 1 else every) < _ENOUGH_AROUND):
                        continue
                    sign = 0.0 if attempt == 2 else guess.sign
                    first = Circle(guess.x, guess.y, guess.radius, sign, 0.0 if attempt == 0 else 1.0)
                    sound, circle = _settle_circle(points, first, slack, search, chosen, beside)
                    if not sound:
                        continue
                    mark += 1
                    made = output.made[0]
                    if not _measure_circle(
                        points, circle, search, least, density, marks, mark, sections, output, free, chosen
                    ):  # fmt: skip
                        return
                    if output.made[0] > made:
                        least = output.columns[4, made] + _MORE
                    least = max(least, UNEVEN_SEEN)


def fit_circles(
    filed: Filed, centres: Centres, radius: tuple[float, float], least_seen: float, density: Density, sigma: float,
    most: int = 4000,
) -> Rims:  # fmt: skip
    """Circles around the centres whose rims are seen at least to the share `least_seen`; `sigma` (px) has smoothed the points.
    Raises `Cancelled`."""
    output = new_output(len(COLUMNS), most, len(filed.x))
    marks = new_marks(filed)
    free = np.ones(max(len(filed.x), 1), np.bool_)
    cells = np.array([centres.x, centres.y, centres.low, centres.high, centres.unsure], np.float64)
    search = Search(float(radius[0]), float(radius[1]), float(least_seen), alike_points(sigma))

    def fit(first: int, last: int) -> None:
        _fit_circles(filed.table, cells, first, last, search, density, marks, free, output)

    run_rows(fit, len(centres.x), marks)
    return rims_of(filed, output, COLUMNS)


def refine_circles(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: Floats, y: Floats, rims: Rims, sigma: float,
    in_noise: bool = False, pattern: float = 0.0,
) -> Rims:  # fmt: skip
    """The circles refined by profiles across their rims, with contrast and standard deviations as further columns.
    Unlikely ones stay where they are. `x`, `y`: the edge points, whose smoothing was `sigma`;
    `in_noise`, `pattern`: noise, or a pattern that asks for so much smoothing (px), hides many of them, so that polygons are also
    tested for on the pixels."""
    c = dict(rims.columns)
    likely = likely_rims(c) & (c["uneven"] == 0)
    shape = np.stack([c["x"], c["y"], c["radius"], c["radius"], np.zeros(len(rims))], axis=1)
    moved = refine_curves(pixels, mask, x, y, rims.start, rims.support, shape, c["sign"], c["rms"], 3, likely, sigma)
    for k, name in enumerate(("x", "y", "radius")):
        # Copies, so that kernels get columns of one layout, however many rims there are.
        c[name], c[f"{name}_std"] = moved.shape[:, k].copy(), moved.std[:, k].copy()
    c["contrast"], c["blur2"] = moved.contrast, moved.blur2
    # An uneven rim is where its points are; their scatter is what makes its place uncertain, not noise.
    independent = np.clip(c["count"] / alike_points(sigma), 3, STRETCHES / 2)
    for name, factor in (("x", 2.0), ("y", 2.0), ("radius", 1.0)):
        scattered = c["rms"] * np.sqrt(factor / independent)
        c[f"{name}_std"] = np.where(c["uneven"] > 0, scattered, c[f"{name}_std"])
    owner = owners(rims.start)
    dx, dy = x[rims.support] - c["x"][owner], y[rims.support] - c["y"][owner]
    place = np.arctan2(dy, dx) / (2 * np.pi) % 1.0
    far = np.hypot(dx, dy)
    points = RimPoints(owner, (dx + 1j * dy) / np.maximum(far, 1e-9), far - c["radius"][owner])
    c["polygon"] = polygon_share(points, c, c["radius"], likely_rims(c), sigma)
    if in_noise:
        rows = np.flatnonzero(likely_rims(c))
        c["polygon"][rows] = np.maximum(c["polygon"][rows], polygon_areas(pixels, mask, c, rows))
    if pattern > 0:
        rows, enough = np.flatnonzero(likely_rims(c)), _OF_SMOOTHING * pattern
        swings = polygon_swings(smoothed(pixels, gaussian_kernel(enough)), mask, c, rows, enough)
        c["polygon"][rows] = np.maximum(c["polygon"][rows], swings)
    return replace(rims, columns=c, place=place)
