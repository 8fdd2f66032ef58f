"""Ellipses fitted to edge points from a first guess: which points support the rim, and how well they fit.

As `rims` does for circles: Gauss-Newton on the distances, the share of the rim that is seen, what its chains do besides, and how
much of the turn of the rim's normal the gradient makes.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.fitting.angles import normalized_angle
from lucid_finch.core.numerics.fitting.arcs import SAMPLES, Arcs, Seeds
from lucid_finch.core.numerics.fitting.curve_refinement import from_rim, pack_ellipse, refine_curves
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
from lucid_finch.core.numerics.fitting.small_systems import cholesky, cholesky_solve
from lucid_finch.core.numerics.hough.tiles import TILE
from lucid_finch.core.numerics.ragged import owners
from lucid_finch.core.numerics.runtime.compiling import helper, inner, kernel, reduction

Floats = NDArray[np.float32]

COLUMNS = (
    "x",
    "y",
    "semi_major",
    "semi_minor",
    "turn",
    "sign",
    "coverage",
    "fidelity",
    "rms",
    "density",
    "count",
    "turning",
    "systematic_residual",
)
_HIDDEN = 0.3
"""Share of a rim that must be hidden for all points that leave it to count: five numbers fit more by chance than three."""
_KNOTS = 256


@kernel
def _near(x, y, first, across, down, shape, margin, out):  # type: ignore[no-untyped-def]
    """Points within `margin` px of the rim, more or less; returns how many. `out` has room for one more than there are points."""
    c, s = shape[5], shape[6]
    a, b = shape[2], shape[3]
    wide = math.sqrt((a * c) ** 2 + (b * s) ** 2) + margin
    high = math.sqrt((a * s) ** 2 + (b * c) ** 2) + margin
    left, right = max(int((shape[0] - wide) / TILE), 0), min(int((shape[0] + wide) / TILE), across - 1)
    top, bottom = max(int((shape[1] - high) / TILE), 0), min(int((shape[1] + high) / TILE), down - 1)
    # A step of one px changes the scaled radius by no more than 1 / b.
    inner2, outer2 = max(1 - margin / b, 0.0) ** 2, (1 + margin / b) ** 2
    far = (margin + 0.75 * TILE) / b
    inner_tile2, outer_tile2 = max(1 - far, 0.0) ** 2, (1 + far) ** 2
    ca, sa, cb, sb = c / a, s / a, c / b, s / b
    found = 0
    for row in range(top, bottom + 1):
        for column in range(left, right + 1):
            tile = row * across + column
            if first[tile] == first[tile + 1]:
                continue
            dx, dy = (column + 0.5) * TILE - 0.5 - shape[0], (row + 0.5) * TILE - 0.5 - shape[1]
            g2 = (dx * ca + dy * sa) ** 2 + (dy * cb - dx * sb) ** 2
            if not inner_tile2 <= g2 <= outer_tile2:
                continue
            for k in range(first[tile], first[tile + 1]):
                dx, dy = x[k] - shape[0], y[k] - shape[1]
                g2 = (dx * ca + dy * sa) ** 2 + (dy * cb - dx * sb) ** 2
                out[found] = k
                found += (inner2 <= g2) & (g2 <= outer2)
    return found


@reduction
def _normal_equations(x, y, nx, ny, cx, cy, a, b, c, s, sign, tolerance, matrix, right):  # type: ignore[no-untyped-def]
    """Normal equations of the five parameters of an ellipse, centre (cx, cy), semi-axes a and b, angle of cosine c and sine s,
    from the points within `tolerance` of it that look along its normal: the lower half of `matrix` (5, 5) and `right` (5);
    returns how many points there are. Distances are those of `from_rim`, all numbers float32."""
    zero, one = np.float32(0), np.float32(1)
    n = np.int32(0)
    r0, r1, r2, r3, r4 = zero, zero, zero, zero, zero
    m00, m10, m11, m20, m21, m22, m30, m31, m32, m33 = zero, zero, zero, zero, zero, zero, zero, zero, zero, zero
    m40, m41, m42, m43, m44 = zero, zero, zero, zero, zero
    for k in range(x.size):
        dx, dy = x[k] - cx, y[k] - cy
        p, q = dx * c + dy * s, dy * c - dx * s
        g = np.sqrt((p / a) ** 2 + (q / b) ** 2)
        # The normal in the ellipse's own axes, then in the image's.
        nu, nv = p / (a * a), q / (b * b)
        steep = max(np.sqrt(nu * nu + nv * nv), np.float32(1e-12))
        nu, nv = nu / steep, nv / steep
        e = (g - one) * g / steep
        u, v = nu * c - nv * s, nu * s + nv * c
        on = (abs(e) <= tolerance) & (sign * (u * nx[k] + v * ny[k]) >= np.float32(0.9))
        w = one if on else zero
        e = e if on else zero
        # The place on the rim beside the point, and how it moves with each parameter.
        p, q = p - e * nu, q - e * nv
        j2, j3, j4 = nu * p / a, nv * q / b, nv * p - nu * q
        n += np.int32(on)
        r0 += u * e
        r1 += v * e
        r2 += j2 * e
        r3 += j3 * e
        r4 += j4 * e
        m00 += w * u * u
        m10 += w * u * v
        m11 += w * v * v
        m20 += w * j2 * u
        m21 += w * j2 * v
        m22 += w * j2 * j2
        m30 += w * j3 * u
        m31 += w * j3 * v
        m32 += w * j3 * j2
        m33 += w * j3 * j3
        m40 += w * j4 * u
        m41 += w * j4 * v
        m42 += w * j4 * j2
        m43 += w * j4 * j3
        m44 += w * j4 * j4
    right[0], right[1], right[2], right[3], right[4] = r0, r1, r2, r3, r4
    matrix[0, 0], matrix[1, 0], matrix[1, 1], matrix[2, 0], matrix[2, 1], matrix[2, 2] = m00, m10, m11, m20, m21, m22
    matrix[3, 0], matrix[3, 1], matrix[3, 2], matrix[3, 3] = m30, m31, m32, m33
    matrix[4, 0], matrix[4, 1], matrix[4, 2], matrix[4, 3], matrix[4, 4] = m40, m41, m42, m43, m44
    return n


class EllipseSearch(NamedTuple):
    """Least and largest semi-axis, least ratio of both, and least visible share."""

    least: float
    most: float
    flattest: float
    coverage: float
    alike: float


class Perimeter(NamedTuple):
    """Length along the perimeter at even steps of the ellipse's parameter, and cosine and sine halfway between these."""

    length: Any
    cosines: Any
    sines: Any


@inner
def _new_perimeter():  # type: ignore[no-untyped-def]
    between = (np.arange(_KNOTS) + 0.5) * (2 * math.pi / _KNOTS)
    return Perimeter(np.empty(_KNOTS + 1), np.cos(between), np.sin(between))


@inner
def _measure_perimeter(shape, perimeter):  # type: ignore[no-untyped-def]
    """Fill in the lengths; returns the whole perimeter, px."""
    length = perimeter.length
    length[0] = 0.0
    for k in range(_KNOTS):
        step = math.sqrt((shape[2] * perimeter.sines[k]) ** 2 + (shape[3] * perimeter.cosines[k]) ** 2)
        length[k + 1] = length[k] + step * 2 * math.pi / _KNOTS
    return length[_KNOTS]


@helper
def _ellipse_tolerance(shape):  # type: ignore[no-untyped-def]
    """px that a point may lie off the ellipse."""
    return min(within_rim(math.sqrt(shape[2] * shape[3]), 0.0), 0.3 * shape[3] + 0.5)


@inner
def _gauss_newton_step(near, ring, origin, shape, sign, tolerance, matrix, step):  # type: ignore[no-untyped-def]
    """One Gauss-Newton step of an ellipse, in place; False if too few points support it. `near`: points seen from `origin`."""
    n = _normal_equations(
        near[0, :ring], near[1, :ring], near[2, :ring], near[3, :ring], np.float32(shape[0] - origin[0]),
        np.float32(shape[1] - origin[1]), np.float32(shape[2]), np.float32(shape[3]), np.float32(shape[5]),
        np.float32(shape[6]), np.float32(sign), np.float32(tolerance), matrix, step,
    )  # fmt: skip
    if n < 8:
        return False
    # A circle has no angle: a little damping keeps it.
    matrix[4, 4] += 1e-4 * n * shape[3] * shape[3] + 1e-9
    for g in range(4):
        matrix[g, g] += 1e-4 * n
    if not cholesky(matrix, 5):
        return False
    cholesky_solve(matrix, step, 5)
    for g in range(4):
        shape[g] += step[g]
    shape[4] += min(max(step[4], -0.5), 0.5)
    if shape[3] > shape[2]:
        shape[2], shape[3] = shape[3], shape[2]
        shape[4] += 0.5 * math.pi
    pack_ellipse(shape[:5], shape)
    return True


@inner
def _settle_ellipse(points, seed, sign, shape, chosen, near):  # type: ignore[no-untyped-def]
    """Fit an ellipse to the points around a first guess, in place. Returns whether there is one, and how many points are near."""
    pack_ellipse(seed, shape)
    a0, b0, origin = shape[2], shape[3], (shape[0], shape[1])
    step, matrix = np.empty(5), np.empty((5, 5))
    margin = 0.28 * b0 + 5.0
    ring = _near(points.x, points.y, points.first, points.across, points.down, shape, margin + 2.0, chosen)
    if ring < 8:
        return False, ring
    copied(points.x, points.y, points.nx, points.ny, chosen, ring, origin[0], origin[1], near)
    for again in range(9):
        tolerance = max((4.0, 3.0, 2.2, 1.6, 0.0, 0.0, 0.0, 0.0, 0.0)[again], within_rim(math.sqrt(shape[2] * shape[3]), 0.0))
        tolerance = min(tolerance, 0.3 * shape[3] + 0.5)
        if not _gauss_newton_step(near, ring, origin, shape, sign, tolerance, matrix, step):
            return False, ring
        a, b = shape[2], shape[3]
        away = (shape[0] - seed[0]) ** 2 + (shape[1] - seed[1]) ** 2
        if not (b > 2.0 and b > 0.5 * b0 and a < 2.0 * a0 + 4 and away < a0 * a0):
            return False, ring
        if again == 3:
            ring = _near(points.x, points.y, points.first, points.across, points.down, shape, margin, chosen)
            copied(points.x, points.y, points.nx, points.ny, chosen, ring, origin[0], origin[1], near)
        elif again > 4 and abs(step[0]) + abs(step[1]) + abs(step[2]) + abs(step[3]) < 0.01:
            break
    return True, ring


@inner
def _ellipse_support(  # type: ignore[no-untyped-def]
    points, chosen, ring, shape, sign, parts, perimeter, mark, density, marks, sections, output
):
    """Collect the points on an ellipse and their sums along it; how many, the sum of squared distances, the density there."""
    tolerance, length = _ellipse_tolerance(shape), perimeter.length
    begin, room = output.start[output.made[0]], output.support.size
    held, ss, dense = 0, 0.0, 0.0
    a, b, c, s = shape[2], shape[3], shape[5], shape[6]
    inner2, outer2 = max(1 - tolerance / b, 0.0) ** 2, (1 + tolerance / b) ** 2
    for k in range(ring):
        i = chosen[k]
        dx, dy = points.x[i] - shape[0], points.y[i] - shape[1]
        p, q = (dx * c + dy * s) / a, (dy * c - dx * s) / b
        # Most are too far off, as `from_rim` would have it.
        if not inner2 <= p * p + q * q <= outer2:
            continue
        e, u, v = from_rim(points.x[i], points.y[i], shape)
        if abs(e) <= tolerance and sign * (u * points.nx[i] + v * points.ny[i]) > 0.9358968:
            t = normalized_angle(q, p) * _KNOTS
            at = min(int(t), _KNOTS - 1)
            slot = min(int((length[at] + (t - at) * (length[at + 1] - length[at])) / length[_KNOTS] * parts), parts - 1)
            sections.covered[slot] = 1
            stretch = min(slot * STRETCHES // parts, STRETCHES - 1)
            sections.drift[stretch] += e
            sections.drift2[stretch] += e * e
            sections.count[stretch] += 1.0
            sections.leaning[slot] += sign * (u * points.ny[i] - v * points.nx[i])
            sections.many[slot] += 1.0
            if begin + held < room:
                output.support[begin + held] = i
                output.place[begin + held] = (slot + 0.5) / parts
            held += 1
            ss += e * e
            mark_on_rim(i, points, mark, marks)
            dense += density_at(points.x[i], points.y[i], density)
    return held, ss, dense


@inner
def _mark_beside_ellipse(points, chosen, ring, shape, sign, mark, marks):  # type: ignore[no-untyped-def]
    """Note which points of the ellipse's chains that are not on it follow a tangent of it."""
    tolerance = _ellipse_tolerance(shape)
    a, b, c, s = shape[2], shape[3], shape[5], shape[6]
    for k in range(ring):
        i = chosen[k]
        chain, place = points.chain[i], points.along[i]
        if marks.stamp[chain] == mark and marks.seen_by[chain] >= 4 and marks.state[place] != 4 * mark + ON:
            u, v = sign * points.nx[i], sign * points.ny[i]
            touching = math.sqrt((a * (u * c + v * s)) ** 2 + (b * (v * c - u * s)) ** 2)
            if abs((points.x[i] - shape[0]) * u + (points.y[i] - shape[1]) * v - touching) <= within_tangent(b):
                e, _, _ = from_rim(points.x[i], points.y[i], shape)
                marks.state[place] = 4 * mark + (AWAY if abs(e) > tolerance + 0.5 else BESIDE)


@inner
def _normal_directions(shape, parts, perimeter, normal):  # type: ignore[no-untyped-def]
    """The direction of the normal, radians, in the middle of each part of the perimeter."""
    length, knot = perimeter.length, 0
    for k in range(parts):
        at = (k + 0.5) / parts * length[_KNOTS]
        while knot < _KNOTS - 1 and length[knot + 1] < at:
            knot += 1
        t = (knot + (at - length[knot]) / (length[knot + 1] - length[knot])) * 2 * math.pi / _KNOTS
        normal[k] = 2 * math.pi * normalized_angle(math.sin(t) / shape[3], math.cos(t) / shape[2])


@inner
def _ellipse_rotation(sections, parts, normal, around):  # type: ignore[no-untyped-def]
    """How much of the rotation of an ellipse's normal the gradient makes along it, seen over short windows."""
    against, spread = 0.0, 0.0
    k = 0
    while k < parts:
        w, sk, sl, skk, skl = 0.0, 0.0, 0.0, 0.0, 0.0
        j = k
        while j < parts and (j < k + 3 or normal[j] - normal[k] < WINDOW or (j - k) * around / parts < 8.0):
            w += sections.many[j]
            sk += sections.many[j] * normal[j]
            sl += sections.leaning[j]
            skk += sections.many[j] * normal[j] ** 2
            skl += sections.leaning[j] * normal[j]
            j += 1
        if w >= 3:
            against += skl - sk * sl / w
            spread += skk - sk * sk / w
        k = j
    return 1.0 + against / max(spread, 1e-9)


@inner
def _is_double(output, shape, sign):  # type: ignore[no-untyped-def]
    """Whether the fitted ellipse is one that is known."""
    out = output.columns
    a, b = shape[2], shape[3]
    for k in range(output.made[0]):
        apart = abs(out[2, k] - a) + abs(out[3, k] - b) + abs(out[0, k] - shape[0]) + abs(out[1, k] - shape[1])
        if apart < 2.5 and out[5, k] == sign and abs(math.sin(out[4, k] - shape[4])) * (a - b) < 1.5:
            return True
    return False


@inner
def _explain_arcs(samples, shape, sign, explained):  # type: ignore[no-untyped-def]
    """Arcs that lie on this ellipse are seeds of no other."""
    tolerance = _ellipse_tolerance(shape)
    for i in range(samples.shape[0]):
        if explained[i]:
            continue
        e, u, v = from_rim(samples[i, 0, 8], samples[i, 1, 8], shape)
        if abs(e) > tolerance or sign * (u * samples[i, 2, 8] + v * samples[i, 3, 8]) < 0.9:
            continue
        inside = 0
        for k in range(SAMPLES):
            e, u, v = from_rim(samples[i, 0, k], samples[i, 1, k], shape)
            inside += abs(e) <= tolerance + 0.3
        if inside >= 0.8 * SAMPLES:
            explained[i] = True


@inner
def _measure_ellipse(  # type: ignore[no-untyped-def]
    points, shape, sign, ring, search, density, marks, mark, sections, perimeter, normal, output, chosen
):
    """Measure a fitted ellipse and add it to the output if enough of it is visible; the number of its row, or -1."""
    around = _measure_perimeter(shape, perimeter)
    parts = min(max(int(around / 1.5), 16), MOST_PARTS)
    clear_sections(sections, parts)
    begin = output.start[output.made[0]]
    held, ss, dense = _ellipse_support(
        points, chosen, ring, shape, sign, parts, perimeter, mark, density, marks, sections, output
    )  # fmt: skip
    if held < 8 or begin + held > output.support.size:
        return -1
    coverage = share_covered(sections.covered, parts)
    if coverage < search.coverage:
        return -1
    _mark_beside_ellipse(points, chosen, ring, shape, sign, mark, marks)
    leaving = points_leaving(points, output.support, begin, held, mark, marks.state)
    _normal_directions(shape, parts, perimeter, normal)
    n, out = output.made[0], output.columns
    if n >= out.shape[1] or _is_double(output, shape, sign):
        return -1
    for k in range(5):
        out[k, n] = shape[k]
    out[5, n], out[6, n], out[7, n] = sign, coverage, held / (held + leaving * counts_as_leaving(coverage, _HIDDEN))
    out[8, n], out[9, n], out[10, n] = math.sqrt(ss / max(held - 5, 1)), dense / held, held
    out[11, n] = _ellipse_rotation(sections, parts, normal, around)
    out[12, n] = systematic_residual(sections.drift, sections.drift2, sections.count, search.alike)
    output.made[0] = n + 1
    output.start[n + 1] = begin + held
    return n


@kernel
def _fit_ellipses(  # type: ignore[no-untyped-def]
    points, seeds, signs, of, samples, from_row, to_row, search, density, marks, explained, output
):
    """Fit ellipses to the seeds from_row .. to_row - 1: shapes `seeds` (n, 5), from the arcs `of` (n, 2)."""
    shape, normal = np.empty(7), np.zeros(MOST_PARTS)
    near = np.empty((4, points.x.size), np.float32)
    chosen = np.empty(points.x.size + 1, np.int32)
    sections, perimeter = new_sections(), _new_perimeter()
    mark = 0
    for row in range(from_row, to_row):
        if explained[of[row, 0]] and explained[of[row, 1]]:
            continue
        sign = signs[row]
        sound, ring = _settle_ellipse(points, seeds[row], sign, shape, chosen, near)
        a, b = shape[2], shape[3]
        if not sound or b < search.least or a > search.most or b < search.flattest * a:
            continue
        mark += 1
        n = _measure_ellipse(
            points, shape, sign, ring, search, density, marks, mark, sections, perimeter, normal, output, chosen
        )  # fmt: skip
        if n < 0:
            if output.made[0] >= output.columns.shape[1]:
                return
            continue
        coverage, fidelity, rms, turning = output.columns[6, n], output.columns[7, n], output.columns[8, n], output.columns[11, n]
        if coverage > 0.5 and fidelity > 0.85 and turning > 0.7 and (rms < 0.35 or coverage > 0.85):
            _explain_arcs(samples, shape, sign, explained)


def fit_ellipses(
    filed: Filed, seeds: Seeds, arcs: Arcs, axis: tuple[float, float], flattest: float, least_seen: float, density: Density,
    sigma: float, most: int = 4000,
) -> Rims:  # fmt: skip
    """Ellipses from first guesses whose rims are seen at least to the share `least_seen`; `sigma` (px) has smoothed the points.
    Raises `Cancelled`."""
    output, marks = new_output(len(COLUMNS), most, len(filed.x)), new_marks(filed)
    explained = np.zeros(len(arcs), np.bool_)
    search = EllipseSearch(float(axis[0]), float(axis[1]), float(flattest), float(least_seen), alike_points(sigma))

    def fit(first: int, last: int) -> None:
        _fit_ellipses(
            filed.table, seeds.shape, seeds.sign, seeds.arcs, arcs.samples, first, last, search, density, marks, explained, output
        )

    run_rows(fit, len(seeds.sign), marks)
    return rims_of(filed, output, COLUMNS)


def refine_ellipses(pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: Floats, y: Floats, rims: Rims, sigma: float) -> Rims:
    """The ellipses refined by profiles across their rims, with contrast and standard deviations as further columns.
    Unlikely ones stay where they are. `x`, `y`: the edge points, whose smoothing was `sigma`."""
    c = dict(rims.columns)
    likely = likely_rims(c)
    names = ("x", "y", "semi_major", "semi_minor", "turn")
    shape = np.stack([c[name] for name in names], axis=1)
    moved = refine_curves(pixels, mask, x, y, rims.start, rims.support, shape, c["sign"], c["rms"], 5, likely, sigma)
    swap = moved.shape[:, 3] > moved.shape[:, 2]
    order = np.where(swap[:, None], (0, 1, 3, 2, 4), (0, 1, 2, 3, 4))
    shape, std = np.take_along_axis(moved.shape, order, 1), np.take_along_axis(moved.std, order, 1)
    shape[:, 4] = (shape[:, 4] + np.where(swap, 0.5 * np.pi, 0.0)) % np.pi
    for k, name in enumerate(names):
        c[name], c[f"{name}_std"] = shape[:, k].copy(), std[:, k].copy()
    c["contrast"], c["blur2"] = moved.contrast, moved.blur2
    radius = np.sqrt(c["semi_major"] * c["semi_minor"])
    c["polygon"] = polygon_share(_on_circle(x, y, rims, c, radius), c, radius, likely, sigma)
    return replace(rims, columns=c)


def _on_circle(x: Floats, y: Floats, rims: Rims, c: dict[str, NDArray[np.float64]], radius: NDArray[np.float64]) -> RimPoints:
    """The points of ellipses where they are on the circles that these are seen from."""
    owner = owners(rims.start)
    a, b, cos, sin = c["semi_major"][owner], c["semi_minor"][owner], np.cos(c["turn"])[owner], np.sin(c["turn"])[owner]
    dx, dy = x[rims.support] - c["x"][owner], y[rims.support] - c["y"][owner]
    place = (dx * cos + dy * sin) / a + 1j * (dy * cos - dx * sin) / b
    far = np.abs(place)
    direction = place / np.maximum(far, 1e-9)
    # Evenly spaced along the ellipse, they are not on the circle.
    speed = np.hypot(a * direction.imag, b * direction.real)
    return RimPoints(owner, direction, (far - 1) * radius[owner], 1 / np.maximum(speed, 1e-9))
