"""Circles and ellipses moved to where the grey levels across their rims change fastest, with error bars and contrast.

What a Gaussian of s px moves a rim inwards by, s^2 / 2 times its curvature, is put back; s, the blur of the image included,
follows from the slope across the rim and its third derivative.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.fitting.angles import normalized_angle
from lucid_finch.core.numerics.fitting.small_systems import cholesky, cholesky_solve
from lucid_finch.core.numerics.profiles.normal_profiles import matched_filter, matched_profiles, normal_profiles, own_blur
from lucid_finch.core.numerics.ragged import take_rows
from lucid_finch.core.numerics.runtime.compiling import kernel, reduction

Floats = NDArray[np.float64]

_WIDTHS = (1.0, 1.5, 2.0, 2.5, 3.0)
"""px by which the neighbourhood of a rim may be smoothed across it."""
_APART = 0.5
"""px: where that moves a rim by more, something beside it is the reason."""
_FIRST = 24
"""Points of a rim that the first rounds take at least, if it has them."""
_STEP = 1.0
"""px between the places on a rim that its shape is taken from."""
_BESIDE = 0.9
"""px of a rim to either side of a point of it that count as seen."""
_REACH = 6.5
"""Blurs to either side of a rim that its place is taken from, if it does not bend too much."""
_ALIKE = 1.75
"""px of a rim along which places err alike, interpolated between pixels as they are."""


@kernel
def pack_ellipse(five, shape):  # type: ignore[no-untyped-def]
    """Centre, semi-axes and angle into a shape as `from_rim` wants it."""
    for k in range(5):
        shape[k] = five[k]
    shape[5], shape[6] = math.cos(five[4]), math.sin(five[4])


@kernel
def from_rim(x, y, shape):  # type: ignore[no-untyped-def]
    """Distance from the rim of an ellipse to first order (exact for a circle), positive outside, and the unit normal.

    `shape` (7): centre, semi-axes, angle of the first in radians, its cosine and sine.
    """
    c, s = shape[5], shape[6]
    dx, dy = x - shape[0], y - shape[1]
    u, v = (dx * c + dy * s) / shape[2], (dy * c - dx * s) / shape[3]
    g = math.sqrt(u * u + v * v)
    p, q = u / shape[2], v / shape[3]
    steep = math.sqrt(p * p + q * q)
    if steep < 1e-12:
        return -shape[3], 1.0, 0.0
    return (g - 1) * g / steep, (p * c - q * s) / steep, (p * s + q * c) / steep


@kernel
def moves(px, py, u, v, shape, free, basis):  # type: ignore[no-untyped-def]
    """How far a place on the rim moves along its normal (u, v) with each of the `free` parameters: 3 of a circle, 5."""
    basis[0], basis[1] = u, v
    if free == 3:
        basis[2] = 1.0
    else:
        c, s = shape[5], shape[6]
        dx, dy = px - shape[0], py - shape[1]
        p, q = dx * c + dy * s, dy * c - dx * s
        nu, nv = u * c + v * s, v * c - u * s
        basis[2], basis[3], basis[4] = nu * p / shape[2], nv * q / shape[3], nv * p - nu * q


@kernel
def _places(x, y, support, start, shapes, stride, begin, at_x, at_y, nx, ny, curved):  # type: ignore[no-untyped-def]
    """The places on each rim nearest to every so many of its points, from `begin` on, and the curvature there."""
    made = 0
    shape = np.empty(7)
    for row in range(shapes.shape[0]):
        pack_ellipse(shapes[row], shape)
        c, s = shape[5], shape[6]
        a2, b2 = shape[2] ** 2, shape[3] ** 2
        for j in range(start[row], start[row + 1], stride[row]):
            px, py = x[support[j]] + 0.0, y[support[j]] + 0.0
            e, u, v = from_rim(px, py, shape)
            px, py = px - e * u, py - e * v
            at_x[made], at_y[made], nx[made], ny[made] = px, py, u, v
            dx, dy = px - shape[0], py - shape[1]
            p, q = (dx * c + dy * s) / a2, (dy * c - dx * s) / b2
            curved[made] = 1.0 / (a2 * b2 * (p * p + q * q) ** 1.5)
            made += 1
        begin[row + 1] = made
    return made


@kernel
def _even_places(x, y, support, start, shapes, begin, at_x, at_y, nx, ny, curved):  # type: ignore[no-untyped-def]
    """Places at even steps along the parts of each rim where it has points, as `_places` gives them."""
    made = 0
    shape = np.empty(7)
    longest = 0.0
    for row in range(shapes.shape[0]):
        longest = max(longest, shapes[row, 2], shapes[row, 3])
    covered = np.zeros(int(2 * math.pi * longest) + 17, np.uint8)
    full = 2 * math.pi
    for row in range(shapes.shape[0]):
        pack_ellipse(shapes[row], shape)
        c, s = shape[5], shape[6]
        a, b = shape[2], shape[3]
        slots = int(full * max(a, b)) + 16
        for k in range(slots):
            covered[k] = 0
        for j in range(start[row], start[row + 1]):
            dx, dy = x[support[j]] - shape[0], y[support[j]] - shape[1]
            co, si = (dx * c + dy * s) / a, (dy * c - dx * s) / b
            t = normalized_angle(si, co)
            half = _BESIDE / full * math.sqrt((co * co + si * si) / max((a * si) ** 2 + (b * co) ** 2, 1e-12))
            for k in range(int((t - half + 1.0) * slots), int((t + half + 1.0) * slots) + 1):
                covered[k % slots] = 1
        t, co, si = 0.0, 1.0, 0.0
        # The step is _STEP px, so that this many steps reach once around; a degenerate shape must not go on for ever.
        for _ in range(2 * slots):
            if not t < full:
                break
            speed = math.sqrt((a * si) ** 2 + (b * co) ** 2)
            if covered[int(t / full * slots) % slots] and made < at_x.size:
                at_x[made], at_y[made] = shape[0] + a * co * c - b * si * s, shape[1] + a * co * s + b * si * c
                nx[made], ny[made] = (b * co * c - a * si * s) / speed, (b * co * s + a * si * c) / speed
                curved[made] = a * b / speed**3
                made += 1
            # A small turn by its series, the next term of which is below 1e-7 of it.
            dt = _STEP / speed
            dc, ds = 1 - 0.5 * dt * dt + dt**4 / 24, dt - dt**3 / 6 + dt**5 / 120
            co, si = co * dc - si * ds, si * dc + co * ds
            t += dt
        begin[row + 1] = made
    return made


@reduction
def _product(a, b, weight):  # type: ignore[no-untyped-def]
    total = 0.0
    for k in range(a.size):
        total += a[k] * b[k] * weight[k]
    return total


@kernel
def _solved(  # type: ignore[no-untyped-def]
    at_x, at_y, nx, ny, curved, slope, bend, third, start, shapes, sign, free, own, gain, matched, last, blur2, steep_of,
    rms_of, share, bent, std,
):  # fmt: skip
    shape, basis, right = np.empty(7), np.empty(5), np.empty(5)
    m, inverse = np.empty((5, 5)), np.empty(5)
    longest = 1
    for row in range(start.size - 1):
        longest = max(longest, start[row + 1] - start[row])
    shift, left, use, sound = np.empty(longest), np.empty(longest), np.empty(longest), np.empty(longest, np.bool_)
    parts = np.empty((5, longest))
    for row in range(start.size - 1):
        lo, hi = start[row], start[row + 1]
        pack_ellipse(shapes[row], shape)
        s = sign[row]
        n, steep, deep = 0, 0.0, 0.0
        for k in range(lo, hi):
            if np.isfinite(slope[k]) and slope[k] * s > 0:
                n += 1
                steep += slope[k] * s
                deep += third[k] * s
        steep /= max(n, 1)
        deep /= max(n, 1)
        seen2 = steep / max(-deep, 1e-9) if deep < 0 else 0.0
        seen2 = min(max(seen2, own[row]), own[row] + 25.0)
        blur2[row] = seen2 - own[row]
        steep_of[row], bent[row] = max(steep, 0.0) * math.sqrt(2 * math.pi * seen2), deep
        # What a px beside the rim makes of `bend`: the third derivative, or what matched weights make of the step.
        per_px = -steep_of[row] * gain[row] * matched[row] if matched[row] > 0 else deep
        for k in range(lo, hi):
            sound[k - lo] = np.isfinite(slope[k]) and slope[k] * s > 0
            moved = -bend[k] * s / min(per_px, -1e-9) if sound[k - lo] else 0.0
            use[k - lo] = 1.0 if sound[k - lo] and abs(moved) < 1.2 else 0.0
            shift[k - lo] = moved + (0.5 * blur2[row] * min(curved[k], 0.5) if last else 0.0)
        count = hi - lo
        for k in range(count):
            moves(at_x[lo + k], at_y[lo + k], nx[lo + k], ny[lo + k], shape, free, basis)
            for i in range(free):
                parts[i, k] = basis[i]
        rms, used = 0.0, 0.0
        for _ in range(2):
            used = _product(use[:count], use[:count], use[:count])
            for i in range(free):
                right[i] = _product(parts[i, :count], shift[:count], use[:count])
                for j in range(i + 1):
                    m[i, j] = _product(parts[i, :count], parts[j, :count], use[:count])
                m[i, i] += 1e-6
            if free == 5:
                m[4, 4] += 1e-5 * used * shape[2] ** 2
            cholesky(m, free)
            cholesky_solve(m, right, free)
            left[:count] = shift[:count]
            for i in range(free):
                for k in range(count):
                    left[k] -= parts[i, k] * right[i]
            rms = math.sqrt(_product(left[:count], left[:count], use[:count]) / max(used - free, 1.0))
            furthest = 1.2 + (0.25 * blur2[row] if last else 0.0)
            for k in range(count):
                use[k] = 1.0 if sound[k] and abs(left[k]) <= 3 * rms and abs(shift[k]) < furthest else 0.0
        rms_of[row], share[row] = rms, used / max(count, 1)
        for k in range(free):
            for i in range(free):
                inverse[i] = 1.0 if i == k else 0.0
            cholesky_solve(m, inverse, free)
            std[row, k] = math.sqrt(max(inverse[k], 0.0))
        for k in range(4 if free == 5 else 3):
            shapes[row, k] += right[k]
        if free == 5:
            shapes[row, 4] += right[4]
        else:
            shapes[row, 3] = shapes[row, 2]


@dataclass(frozen=True)
class RefinedCurves:
    """One entry a rim."""

    shape: Floats
    """(n, 5) centre, semi-axes, angle in radians."""
    std: Floats
    """(n, 5) standard deviations; of a circle the third stands for the radius."""
    contrast: Floats
    measured: NDArray[np.bool_]
    """Whether the grey levels across it measured where it is; else it stayed where it was."""
    blur2: Floats
    """Squared blur of the image across it, px^2."""


def refine_curves(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: Any, y: Any, start: NDArray[np.int64], support: NDArray[np.int32],
    shape: Floats, sign: Floats, rms: Floats, free: int, likely: NDArray[np.bool_], sigma: float,
) -> RefinedCurves:  # fmt: skip
    """Rims as lists of points (indices `support[start[i]:start[i + 1]]` into x, y); `free` parameters each: 3 for circles, 5.

    `rms` (px) of the points, whose smoothing was `sigma`. What is not `likely` stays where it is and is only measured.
    """
    result = shape.copy()
    std, contrast, measured, blur2 = np.zeros((len(sign), 5)), np.zeros(len(sign)), np.zeros(len(sign), bool), np.zeros(len(sign))
    for rows, turns in ((np.flatnonzero(likely), 2), (np.flatnonzero(~likely), 1)):
        if not len(rows):
            continue
        index, first = take_rows(start, rows)
        part = _refine(pixels, mask, x, y, first, support[index], shape[rows], sign[rows], rms[rows], free, turns, sigma)
        result[rows], std[rows], contrast[rows], measured[rows] = part.shape, part.std, part.contrast, part.measured
        blur2[rows] = part.blur2
    return RefinedCurves(result, std, contrast, measured, blur2)


def _matched_weights(blur: Floats, wide: Floats, most: Floats) -> tuple[list[Floats], NDArray[np.int64], Floats]:
    """For rims of such blurs, smoothed across by `wide` px and at the most by `most`: weights for their sections, which of them
    is for which rim, and what they make of a px."""
    steps = np.round(np.clip(blur, 0.5, 4.0) * 8).astype(np.int64)
    reach = np.minimum(np.ceil(_REACH * blur), np.ceil(3 * most)).astype(np.int64)
    keys, of_row = np.unique(
        np.stack([steps, np.maximum(reach, 3), np.round(2 * wide).astype(np.int64)]), axis=1, return_inverse=True
    )
    every = [matched_filter(w / 2, step / 8, r) for step, r, w in keys.T.tolist()]
    return [one[0] for one in every], of_row.ravel().astype(np.int64), np.array([one[1] for one in every])[of_row.ravel()]


def _degenerate(shape: Floats, began: Floats) -> NDArray[np.bool_]:
    """Which shapes (n, 5) are not finite, or have left half to twice the semi-axes, or the place, that they began with."""
    axes, before = shape[:, 2:4], began[:, 2:4]
    with np.errstate(invalid="ignore", over="ignore"):
        sound = np.isfinite(shape).all(axis=1) & (axes.min(axis=1) > 0.5 * before.min(axis=1))
        sound &= (axes.max(axis=1) < 2 * before.max(axis=1)) & (np.hypot(*(shape - began).T[:2]) < before.max(axis=1))
    return ~sound


def _refine(
    pixels: Any, mask: Any, x: Any, y: Any, start: Any, points: Any, began: Floats, sign: Floats, rms: Floats, free: int,
    turns: int, sigma: float,
) -> RefinedCurves:  # fmt: skip
    n = len(sign)
    around = np.pi * (began[:, 2] + began[:, 3]) * 1.3
    total = max(len(points), int((around / _STEP + 2).sum()))
    shape = began.copy()
    count = 2.0 * np.diff(start)
    blur2, steep, rest, share, deep, std = np.ones(n), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.zeros((n, 5))
    # Rims that bend much bear less smoothing across; else the best is twice the blur, which the first round measures.
    mean = np.sqrt(shape[:, 2] * shape[:, 3])
    tightest = np.minimum(mean, 2.0 * shape.T[2:4].min(axis=0) ** 2 / shape.T[2:4].max(axis=0))
    most = np.clip(np.floor(tightest / 2.0) / 2.0, _WIDTHS[0], _WIDTHS[-1])
    wide = np.minimum(most, 2.0)
    places = [np.empty(total) for _ in range(5)]
    begin = np.zeros(n + 1, np.int64)
    blurs = np.array([own_blur(width) for width in _WIDTHS])
    lost = np.zeros(n, bool)
    for turn in range(turns):
        last = turn == turns - 1
        if turn:
            best = np.round(2 * 2.2 * np.sqrt(np.maximum(blur2, 0.5))) / 2
            wide = np.minimum(np.clip(best, 1.5, None), most)
        # The first rounds need no more than some of the points; the last looks everywhere along what is seen.
        whole = last and turns > 1
        if whole:
            made = _even_places(x, y, points, start, shape, begin, *places)
        else:
            made = _places(x, y, points, start, shape, np.maximum(np.diff(start) // _FIRST, 1), begin, *places)
        at_x, at_y, nx, ny, curved = (a[:made] for a in places)
        which = np.round((wide - _WIDTHS[0]) * 2).astype(np.int64)
        places_each = np.diff(begin)
        if whole:
            weights, of_row, matched = _matched_weights(np.sqrt(np.maximum(blur2, 0.3)), wide, most)
            section = matched_profiles(pixels, mask, at_x, at_y, nx, ny, weights, np.repeat(of_row, places_each))
        else:
            matched = np.zeros(n)
            section = normal_profiles(pixels, mask, at_x, at_y, nx, ny, _WIDTHS, np.repeat(which, places_each))
        own, gain = np.ascontiguousarray(blurs[which].T)
        _solved(
            at_x, at_y, nx, ny, curved, section.slope, section.bend, section.third, begin, shape, sign, free, own, gain, matched,
            whole, blur2, steep, rest, share, deep, std,
        )  # fmt: skip
        # A shape that ran away or collapsed is no longer one: it stays where it was.
        lost |= _degenerate(shape, began)
        shape[lost] = began[lost]
    moved = np.hypot(*(shape - began).T[:2]) + np.abs(shape - began)[:, 2:4].max(axis=1)
    points_std = rms * np.sqrt(2 * 4.2 / np.maximum(count, 3))
    measured = (turns > 1) & ~lost & (share >= 0.5) & (deep < 0) & (rest <= 1.0)
    measured &= moved <= _APART + 3 * points_std + 0.5 * blur2 / np.maximum(tightest, 2.0)
    std *= rest[:, None] * math.sqrt(_ALIKE / _STEP)
    fallback = np.stack([points_std, points_std, points_std / math.sqrt(2), points_std / math.sqrt(2), points_std / mean], axis=1)
    std = np.where(measured[:, None], std, fallback)
    shrunk = (sigma**2 + 0.5) / (2 * np.maximum(mean, 2.0))
    shape = np.where(measured[:, None], shape, began + np.outer(shrunk, (0, 0, 1, 1, 0)))
    if free == 3:
        shape[:, 3] = shape[:, 2]
    return RefinedCurves(shape, std, steep * gain, measured, blur2)
