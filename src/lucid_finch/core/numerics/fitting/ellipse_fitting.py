"""Ellipses laid through edge points from a first guess: which points are of the rim, and how well they make an ellipse.

As `rims` does for circles: Gauss-Newton on the distances, the share of the rim that is seen, what its chains do besides, and how
much of the turn of the rim's normal the gradient makes.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.fitting.angles import share_of_turn
from lucid_finch.core.numerics.fitting.arcs import SAMPLES, Arcs, Seeds
from lucid_finch.core.numerics.fitting.circle_fitting import (
    AWAY,
    BESIDE,
    ON,
    STRETCHES,
    WINDOW,
    Filed,
    Rims,
    copied,
    counts_as_leaving,
    left_from,
    likely_rims,
    strayed,
    within_rim,
    within_tangent,
)
from lucid_finch.core.numerics.fitting.curve_refinement import decomposed, from_rim, moved_rims, substituted, taken
from lucid_finch.core.numerics.hough.tiles import TILE
from lucid_finch.core.numerics.runtime.compiling import kernel, reduction
from lucid_finch.core.numerics.runtime.threads import cancelled_here

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
    "crowd",
    "count",
    "turning",
    "stray",
)
_PARTS = 1024
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
def _pulls(x, y, nx, ny, cx, cy, a, b, c, s, sign, tolerance, matrix, right):  # type: ignore[no-untyped-def]
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


@kernel
def _lay(  # type: ignore[no-untyped-def]
    x, y, nx, ny, chain, along, first, across, down, seeds, signs, of, samples, least, most, flattest, least_seen, density, block,
    block_columns, from_row, to_row, explained, stamp, seen_by, state, chosen, out, made, start, support, place,
):  # fmt: skip
    room = support.size
    shape, r5, m5 = np.empty(7), np.empty(5), np.empty((5, 5))
    near = np.empty((4, x.size), np.float32)
    covered = np.zeros(_PARTS, np.uint8)
    leaning, many, normal = np.zeros(_PARTS), np.zeros(_PARTS), np.zeros(_PARTS)
    drift, drift2, count_of = np.zeros(STRETCHES), np.zeros(STRETCHES), np.zeros(STRETCHES)
    length = np.empty(_KNOTS + 1)
    between = (np.arange(_KNOTS) + 0.5) * (2 * math.pi / _KNOTS)
    cosines, sines = np.cos(between), np.sin(between)
    mark = 0
    for row in range(from_row, to_row):
        if explained[of[row, 0]] and explained[of[row, 1]]:
            continue
        sign = signs[row]
        taken(seeds[row], shape)
        a0, b0 = shape[2], shape[3]
        margin = 0.28 * b0 + 5.0
        ring = _near(x, y, first, across, down, shape, margin + 2.0, chosen)
        if ring < 8:
            continue
        x0, y0 = shape[0], shape[1]
        copied(x, y, nx, ny, chosen, ring, x0, y0, near)
        sound = True
        for again in range(9):
            a, b = shape[2], shape[3]
            tolerance = max((4.0, 3.0, 2.2, 1.6, 0.0, 0.0, 0.0, 0.0, 0.0)[again], within_rim(math.sqrt(a * b)))
            tolerance = min(tolerance, 0.3 * b + 0.5)
            n = _pulls(
                near[0, :ring], near[1, :ring], near[2, :ring], near[3, :ring], np.float32(shape[0] - x0),
                np.float32(shape[1] - y0), np.float32(a), np.float32(b), np.float32(shape[5]), np.float32(shape[6]),
                np.float32(sign), np.float32(tolerance), m5, r5,
            )  # fmt: skip
            if n < 8:
                sound = False
                break
            # A circle has no angle: a little damping keeps it.
            m5[4, 4] += 1e-4 * n * b * b + 1e-9
            for g in range(4):
                m5[g, g] += 1e-4 * n
            if not decomposed(m5, 5):
                sound = False
                break
            substituted(m5, r5, 5)
            for g in range(4):
                shape[g] += r5[g]
            shape[4] += min(max(r5[4], -0.5), 0.5)
            if shape[3] > shape[2]:
                shape[2], shape[3] = shape[3], shape[2]
                shape[4] += 0.5 * math.pi
            taken(shape[:5], shape)
            a, b = shape[2], shape[3]
            away = (shape[0] - seeds[row, 0]) ** 2 + (shape[1] - seeds[row, 1]) ** 2
            if not (b > 2.0 and b > 0.5 * b0 and a < 2.0 * a0 + 4 and away < a0 * a0):
                sound = False
                break
            if again == 3:
                ring = _near(x, y, first, across, down, shape, margin, chosen)
                copied(x, y, nx, ny, chosen, ring, x0, y0, near)
            elif again > 4 and abs(r5[0]) + abs(r5[1]) + abs(r5[2]) + abs(r5[3]) < 0.01:
                break
        a, b = shape[2], shape[3]
        if not sound or b < least or a > most or b < flattest * a:
            continue
        # Length along the rim, and how far the normal has turned there.
        length[0] = 0.0
        for k in range(_KNOTS):
            length[k + 1] = length[k] + math.sqrt((a * sines[k]) ** 2 + (b * cosines[k]) ** 2) * 2 * math.pi / _KNOTS
        around = length[_KNOTS]
        mark += 1
        tolerance = min(within_rim(math.sqrt(a * b)), 0.3 * b + 0.5)
        parts = min(max(int(around / 1.5), 16), _PARTS)
        for k in range(parts):
            covered[k] = 0
            leaning[k] = 0.0
            many[k] = 0.0
        for k in range(STRETCHES):
            drift[k], drift2[k], count_of[k] = 0.0, 0.0, 0.0
        begin = start[made[0]]
        held, ss, crowd = 0, 0.0, 0.0
        c, s = shape[5], shape[6]
        inner2, outer2 = max(1 - tolerance / b, 0.0) ** 2, (1 + tolerance / b) ** 2
        for k in range(ring):
            i = chosen[k]
            dx, dy = x[i] - shape[0], y[i] - shape[1]
            p, q = (dx * c + dy * s) / a, (dy * c - dx * s) / b
            # Most are too far off, as `from_rim` would have it.
            if not inner2 <= p * p + q * q <= outer2:
                continue
            e, u, v = from_rim(x[i], y[i], shape)
            if abs(e) <= tolerance and sign * (u * nx[i] + v * ny[i]) > 0.9358968:
                t = share_of_turn(q, p) * _KNOTS
                at = min(int(t), _KNOTS - 1)
                slot = min(int((length[at] + (t - at) * (length[at + 1] - length[at])) / around * parts), parts - 1)
                covered[slot] = 1
                stretch = min(slot * STRETCHES // parts, STRETCHES - 1)
                drift[stretch] += e
                drift2[stretch] += e * e
                count_of[stretch] += 1.0
                leaning[slot] += sign * (u * ny[i] - v * nx[i])
                many[slot] += 1.0
                if begin + held < room:
                    support[begin + held] = i
                    place[begin + held] = (slot + 0.5) / parts
                held += 1
                ss += e * e
                w = chain[i]
                if stamp[w] != mark:
                    stamp[w] = mark
                    seen_by[w] = 0
                seen_by[w] += 1
                state[along[i]] = 4 * mark + ON
                crowd += density[int(max(y[i], 0)) // block * block_columns + int(max(x[i], 0)) // block]
        if held < 8 or begin + held > room:
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
                u, v = sign * nx[i], sign * ny[i]
                touching = math.sqrt((a * (u * c + v * s)) ** 2 + (b * (v * c - u * s)) ** 2)
                if abs((x[i] - shape[0]) * u + (y[i] - shape[1]) * v - touching) <= within_tangent(b):
                    e, _, _ = from_rim(x[i], y[i], shape)
                    state[along[i]] = 4 * mark + (AWAY if abs(e) > tolerance + 0.5 else BESIDE)
        leaving = 0
        for k in range(begin, begin + held):
            leaving += left_from(along[support[k]], state, mark)
        knot = 0
        for k in range(parts):
            at = (k + 0.5) / parts * around
            while knot < _KNOTS - 1 and length[knot + 1] < at:
                knot += 1
            t = (knot + (at - length[knot]) / (length[knot + 1] - length[knot])) * 2 * math.pi / _KNOTS
            normal[k] = 2 * math.pi * share_of_turn(math.sin(t) / b, math.cos(t) / a)
        against, spread = 0.0, 0.0
        k = 0
        while k < parts:
            w, sk, sl, skk, skl = 0.0, 0.0, 0.0, 0.0, 0.0
            j = k
            while j < parts and (j < k + 3 or normal[j] - normal[k] < WINDOW or (j - k) * around / parts < 8.0):
                w += many[j]
                sk += many[j] * normal[j]
                sl += leaning[j]
                skk += many[j] * normal[j] ** 2
                skl += leaning[j] * normal[j]
                j += 1
            if w >= 3:
                against += skl - sk * sl / w
                spread += skk - sk * sk / w
            k = j
        turning = 1.0 + against / max(spread, 1e-9)
        n = made[0]
        if n >= out.shape[1]:
            return
        twice = False
        for k in range(n):
            apart = abs(out[2, k] - a) + abs(out[3, k] - b) + abs(out[0, k] - shape[0]) + abs(out[1, k] - shape[1])
            if apart < 2.5 and out[5, k] == sign and abs(math.sin(out[4, k] - shape[4])) * (a - b) < 1.5:
                twice = True
                break
        if twice:
            continue
        for k in range(5):
            out[k, n] = shape[k]
        out[5, n], out[6, n], out[7, n] = sign, coverage, held / (held + leaving * counts_as_leaving(coverage))
        out[8, n], out[9, n], out[10, n], out[11, n] = math.sqrt(ss / max(held - 5, 1)), crowd / held, held, turning
        out[12, n] = strayed(drift, drift2, count_of)
        made[0] = n + 1
        start[n + 1] = begin + held
        if coverage > 0.5 and out[7, n] > 0.85 and turning > 0.7 and (out[8, n] < 0.35 or coverage > 0.85):
            # Arcs that this one explains point to no other.
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


def fit_ellipses(
    filed: Filed, seeds: Seeds, arcs: Arcs, axis: tuple[float, float], flattest: float, least_seen: float, density: Floats,
    block: int, most: int = 4000,
) -> Rims:  # fmt: skip
    """Ellipses from first guesses whose rims are seen at least to the share `least_seen`. Raises `Cancelled`."""
    out, made = np.empty((len(COLUMNS), most)), np.zeros(1, np.int64)
    start = np.zeros(most + 1, np.int64)
    support = np.empty(max(8 * len(filed.x), 4096), np.int32)
    place = np.empty(len(support), np.float32)
    stamp, seen_by = np.zeros(filed.chains, np.int64), np.zeros(filed.chains, np.int32)
    state = np.zeros(int(filed.along.max(initial=0)) + 2, np.int64)
    explained, chosen = np.zeros(len(arcs), np.bool_), np.empty(len(filed.x) + 1, np.int32)
    flat = np.ascontiguousarray(density.ravel())
    cancelled = cancelled_here()
    for first in range(0, len(seeds.sign), 200):
        if cancelled is not None and cancelled():
            raise Cancelled()
        stamp[:], state[:] = 0, 0
        _lay(
            filed.x, filed.y, filed.nx, filed.ny, filed.chain, filed.along, filed.first, filed.across, filed.down, seeds.shape,
            seeds.sign, seeds.arcs, arcs.samples, float(axis[0]), float(axis[1]), flattest, least_seen, flat, block,
            density.shape[1], first, min(first + 200, len(seeds.sign)), explained, stamp, seen_by, state, chosen, out, made,
            start, support, place,
        )  # fmt: skip
    n = int(made[0])
    columns = {name: out[k, :n].copy() for k, name in enumerate(COLUMNS)}
    used = int(start[n])
    return Rims(columns, start[: n + 1].copy(), filed.order[support[:used]], place[:used].astype(float))


def refine_ellipses(pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: Floats, y: Floats, rims: Rims, sigma: float) -> Rims:
    """The ellipses laid through what is measured across their rims, with contrast and standard deviations as columns more.
    Those that are hardly ellipses stay where they are. `x`, `y`: the edge points, whose smoothing was `sigma`."""
    c = dict(rims.columns)
    likely = likely_rims(c)
    names = ("x", "y", "semi_major", "semi_minor", "turn")
    shape = np.stack([c[name] for name in names], axis=1)
    moved = moved_rims(pixels, mask, x, y, rims.start, rims.support, shape, c["sign"], c["rms"], 5, likely, sigma)
    swap = moved.shape[:, 3] > moved.shape[:, 2]
    order = np.where(swap[:, None], (0, 1, 3, 2, 4), (0, 1, 2, 3, 4))
    shape, std = np.take_along_axis(moved.shape, order, 1), np.take_along_axis(moved.std, order, 1)
    shape[:, 4] = (shape[:, 4] + np.where(swap, 0.5 * np.pi, 0.0)) % np.pi
    for k, name in enumerate(names):
        c[name], c[f"{name}_std"] = shape[:, k], std[:, k]
    c["contrast"], c["blur2"] = moved.contrast, moved.blur2
    return replace(rims, columns=c)
