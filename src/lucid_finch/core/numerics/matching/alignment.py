"""Moves a template over an image, in position, angle and scale, to where both agree best, to a fraction of a pixel.

Gauss-Newton on the squared differences under a free gain and offset (Lucas and Kanade, IJCAI 1981; Baker and Matthews,
IJCV 56(3), 2004), by the slopes of the template (Hager and Belhumeur, PAMI 20(10), 1998), with weights that fall for pixels
that do not fit (Huber, "Robust statistics", 1981), so that a hidden part does not pull. The image is read between pixels by cubic
splines (Unser, Aldroubi and Eden, PAMI 13(3), 1991): a cubic of the pixels themselves would place a sharp template 0.005 px off.
The normal equations of the last round give the error bars.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.fitting.small_systems import cholesky, cholesky_solve
from lucid_finch.core.numerics.runtime.compiling import helper, inner, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]
Floats = NDArray[np.float64]

_STOP = 5e-4
"""A round that moves less than this many px is the last."""
_BORDER = 3
"""Coefficients around a window, mirrored."""


@helper
def _cubic(t):  # type: ignore[no-untyped-def]
    """Keys' weights at a place t (0 to 1) after the second of four pixels."""
    t2 = t * t
    t3 = t2 * t
    return (
        np.float32(-0.5) * t3 + t2 - np.float32(0.5) * t,
        np.float32(1.5) * t3 - np.float32(2.5) * t2 + np.float32(1),
        np.float32(-1.5) * t3 + np.float32(2) * t2 + np.float32(0.5) * t,
        np.float32(0.5) * t3 - np.float32(0.5) * t2,
    )


@helper
def _sample(level, u, v):  # type: ignore[no-untyped-def]
    """The value at a place: cubic, linear within a pixel of the border, NaN beyond it."""
    height, width = level.shape
    if not (1.0 <= u <= width - 2.0 and 1.0 <= v <= height - 2.0):
        if -0.5 <= u <= width - 0.5 and -0.5 <= v <= height - 0.5:
            i, j = min(max(int(u), 0), width - 1), min(max(int(v), 0), height - 1)
            k, l = min(i + 1, width - 1), min(j + 1, height - 1)
            a = np.float32(min(max(u - i, 0.0), 1.0))
            b = np.float32(min(max(v - j, 0.0), 1.0))
            upper = level[j, i] + a * (level[j, k] - level[j, i])
            lower = level[l, i] + a * (level[l, k] - level[l, i])
            return upper + b * (lower - upper)
        return np.float32(np.nan)
    i, j = min(int(u), width - 3), min(int(v), height - 3)
    a0, a1, a2, a3 = _cubic(np.float32(u - i))
    b0, b1, b2, b3 = _cubic(np.float32(v - j))
    first = a0 * level[j - 1, i - 1] + a1 * level[j - 1, i] + a2 * level[j - 1, i + 1] + a3 * level[j - 1, i + 2]
    second = a0 * level[j, i - 1] + a1 * level[j, i] + a2 * level[j, i + 1] + a3 * level[j, i + 2]
    third = a0 * level[j + 1, i - 1] + a1 * level[j + 1, i] + a2 * level[j + 1, i + 1] + a3 * level[j + 1, i + 2]
    fourth = a0 * level[j + 2, i - 1] + a1 * level[j + 2, i] + a2 * level[j + 2, i + 1] + a3 * level[j + 2, i + 2]
    return b0 * first + b1 * second + b2 * third + b3 * fourth


@inner
def _correlation(values, template, weights, count):  # type: ignore[no-untyped-def]
    """Weighted correlation, gain and offset of values against the template: values = gain * template + offset."""
    total = first = second = 0.0
    for k in range(count):
        total += weights[k]
        first += weights[k] * values[k]
        second += weights[k] * template[k]
    if total <= 0:
        return 0.0, 0.0, 0.0
    first /= total
    second /= total
    both = one = other = 0.0
    for k in range(count):
        a, b = values[k] - first, template[k] - second
        both += weights[k] * a * b
        one += weights[k] * a * a
        other += weights[k] * b * b
    if one <= 1e-12 * total or other <= 1e-12 * total:
        return 0.0, 0.0, first
    gain = both / other
    return both / np.sqrt(one * other), gain, first - gain * second


@helper
def _spline(t):  # type: ignore[no-untyped-def]
    """Weights of four coefficients of a cubic spline at a place t (0 to 1) after the second."""
    r = 1.0 - t
    return (
        r * r * r / 6.0,
        (4.0 - 6.0 * t * t + 3.0 * t * t * t) / 6.0,
        (4.0 - 6.0 * r * r + 3.0 * r * r * r) / 6.0,
        t * t * t / 6.0,
    )


@inner
def _place(coefficients, valid, corner, pose, px, py, values, even, count):  # type: ignore[no-untyped-def]
    """Values of a window where a pose puts each template pixel, 0 and weight 0 where there are none; returns how many there are.

    `corner`: x, y of the first coefficient, which lies `_BORDER` px before the first pixel.
    """
    height, width = coefficients.shape
    cosine, sine = pose[3] * np.cos(pose[2]), pose[3] * np.sin(pose[2])
    inside = 0
    for k in range(count):
        u = pose[0] + cosine * px[k] - sine * py[k] - corner[0]
        v = pose[1] + sine * px[k] + cosine * py[k] - corner[1]
        values[k], even[k] = 0.0, 0.0
        if _BORDER - 0.5 <= u <= width - _BORDER - 0.5 and _BORDER - 0.5 <= v <= height - _BORDER - 0.5:
            i, j = int(u), int(v)
            if valid[int(v + 0.5), int(u + 0.5)]:
                a0, a1, a2, a3 = _spline(u - i)
                b0, b1, b2, b3 = _spline(v - j)
                total = 0.0
                for row, weight in ((j - 1, b0), (j, b1), (j + 1, b2), (j + 2, b3)):
                    total += weight * (
                        a0 * coefficients[row, i - 1] + a1 * coefficients[row, i]
                        + a2 * coefficients[row, i + 1] + a3 * coefficients[row, i + 2]
                    )  # fmt: skip
                values[k], even[k] = total, 1.0
                inside += 1
    return inside


@inner
def _middle_value(values, count):  # type: ignore[no-untyped-def]
    """The value that half of the first `count` are below (Hoare's selection); puts them into another order."""
    first, last, middle = 0, count - 1, count // 2
    while first < last:
        pivot = values[(first + last) // 2]
        i, j = first, last
        while i <= j:
            while values[i] < pivot:
                i += 1
            while pivot < values[j]:
                j -= 1
            if i <= j:
                values[i], values[j] = values[j], values[i]
                i += 1
                j -= 1
        if middle <= j:
            last = j
        elif middle >= i:
            first = i
        else:
            break
    return values[middle] if count > 0 else 0.0


@inner
def _robust_weights(values, template, even, gain, offset, weights, spare, count):  # type: ignore[no-untyped-def]
    """Weights that fall as the residual exceeds the median one, 0 beyond the image; returns the scale of the residuals."""
    seen = 0
    for k in range(count):
        if even[k] > 0.0:
            spare[seen] = abs(values[k] - gain * template[k] - offset)
            seen += 1
    scale = 1.4826 * _middle_value(spare, seen)
    limit = max(3.0 * scale, 1e-6)
    for k in range(count):
        r = (values[k] - gain * template[k] - offset) / limit
        weights[k] = even[k] / ((1.0 + r * r) * (1.0 + r * r))
    return scale


@inner
def _equations(pose, px, py, template, slopes, values, weights, gain, offset, free, matrix, right, count):  # type: ignore[no-untyped-def]
    """Normal equations of position, angle, logarithm of the scale, gain and offset, by the slopes of the template.

    Those of the image would hold its noise too, and each step would be too short.
    """
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    columns = np.empty(6)
    matrix[:] = 0.0
    right[:] = 0.0
    for k in range(count):
        w = weights[k]
        if w <= 0.0:
            continue
        # A slope of the template as it lies in the image.
        gx = gain * (cosine * slopes[0, k] - sine * slopes[1, k]) / pose[3]
        gy = gain * (sine * slopes[0, k] + cosine * slopes[1, k]) / pose[3]
        rx, ry = pose[3] * (cosine * px[k] - sine * py[k]), pose[3] * (sine * px[k] + cosine * py[k])
        columns[0], columns[1] = gx, gy
        columns[2] = (gy * rx - gx * ry) if free[0] else 0.0
        columns[3] = (gx * rx + gy * ry) if free[1] else 0.0
        columns[4], columns[5] = -template[k], -1.0
        off = values[k] - gain * template[k] - offset
        for i in range(6):
            wi = w * columns[i]
            right[i] -= wi * off
            for j in range(i + 1):
                matrix[i, j] += wi * columns[j]
    for i in range(6):
        for j in range(i):
            matrix[j, i] = matrix[i, j]


@inner
def _step(matrix, right, free, pose, reach):  # type: ignore[no-untyped-def]
    """Solve for the change of the pose and apply it, at most two pixels; returns its length in px, NaN if there
    is none."""
    for i in range(6):
        fixed = 2 <= i < 4 and not free[i - 2]
        matrix[i, i] = 1.0 if fixed else matrix[i, i] * (1.0 + 1e-9) + 1e-9
    if not cholesky(matrix, 6):
        return np.nan
    cholesky_solve(matrix, right, 6)
    # Further off the slopes say nothing.
    turn, grow = abs(right[2]) * reach * pose[3], abs(right[3]) * reach * pose[3]
    length = max(np.sqrt(right[0] ** 2 + right[1] ** 2), max(turn, grow))
    if not length < 1e30:
        return np.nan
    share = min(1.0, 2.0 / max(length, 1e-30))
    pose[0] += share * right[0]
    pose[1] += share * right[1]
    pose[2] += share * right[2]
    pose[3] *= np.exp(min(max(share * right[3], -0.3), 0.3))
    return length


@kernel
def _align(coefficients, valid, corner, px, py, template, slopes, free, rounds, most, poses, stats, normal):  # type: ignore[no-untyped-def]
    """Move each pose (x, y, angle in radians, scale); `free`: whether angle and scale may change. The best pose of all
    rounds is kept.

    Into stats (n, 5): correlation of all pixels, that weighted by fit, gain, residual scale, share of pixels in the image. Into
    normal (n, 4, 4): the normal equations of the pose.
    """
    count = px.size
    values, weights, spare, even = np.empty(count), np.empty(count), np.empty(count), np.empty(count)
    reach = 0.0
    for k in range(count):
        reach += px[k] * px[k] + py[k] * py[k]
    reach = max(np.sqrt(reach / max(count, 1)), 0.5)
    matrix, right, pose = np.empty((6, 6)), np.empty(6), np.empty(4)
    for n in range(len(poses)):
        for i in range(4):
            pose[i] = poses[n, i]
        start_x, start_y = pose[0], pose[1]
        best, length = -2.0, np.inf
        for round_ in range(rounds + 1):
            inside = _place(coefficients, valid, corner, pose, px, py, values, even, count)
            plain, gain, offset = _correlation(values, template, even, count)
            if inside < 6 or gain == 0.0:
                if round_ == 0:
                    stats[n, 4] = inside / count
                break
            scale = _robust_weights(values, template, even, gain, offset, weights, spare, count)
            fitted, gain, offset = _correlation(values, template, weights, count)
            _equations(pose, px, py, template, slopes, values, weights, gain, offset, free, matrix, right, count)
            if abs(fitted) * inside > best * count:
                best = abs(fitted) * inside / count
                for i in range(4):
                    poses[n, i] = pose[i]
                stats[n, 0], stats[n, 1], stats[n, 2], stats[n, 3] = plain, fitted, gain, scale
                stats[n, 4] = inside / count
                for i in range(4):
                    for j in range(4):
                        normal[n, i, j] = matrix[i, j]
            elif abs(fitted) * inside < 0.8 * best * count:
                break
            if round_ == rounds or length < _STOP or gain == 0.0:
                break
            length = _step(matrix, right, free, pose, reach)
            if np.isnan(length) or abs(pose[0] - start_x) > most or abs(pose[1] - start_y) > most:
                break


@kernel
def _sample_band(level, factor, px, py, first, last, poses, out):  # type: ignore[no-untyped-def]
    """Values of the level, float32, where each pose puts the template's pixels; NaN beyond the image."""
    for n in range(first, last):
        pose = poses[n]
        cosine, sine = pose[3] * np.cos(pose[2]), pose[3] * np.sin(pose[2])
        for k in range(px.size):
            u = pose[0] + cosine * px[k] - sine * py[k]
            v = pose[1] + sine * px[k] + cosine * py[k]
            out[n, k] = _sample(level, (u + 0.5) / factor[0] - 0.5, (v + 0.5) / factor[1] - 0.5)


@dataclass(frozen=True)
class Aligned:
    """One entry a pose."""

    poses: Floats
    """(n, 4): x, y (px of the image), angle (radians), scale."""
    plain: Floats
    """Correlation of all pixels."""
    gain: Floats
    scale: Floats
    """Robust standard deviation of the residuals, grey levels."""
    inside: Floats
    """Share of the template's pixels within the image."""
    normal: Floats
    """(n, 4, 4): normal equations of the pose at the last place."""


@dataclass(frozen=True)
class Window:
    """A part of an image as coefficients of a cubic spline."""

    coefficients: Plane
    valid: NDArray[np.bool_]
    corner: Floats
    """x, y of the first coefficient."""

    @staticmethod
    def around(plane: Plane, x: float, y: float, reach: float) -> Window:
        """What lies within `reach` px of a place along x and y; `plane` float32, NaN where not valid."""
        from scipy import ndimage  # here, since loading it takes half a second

        height, width = plane.shape
        left, top = (min(max(math.floor(v - reach), 0), n - 1) for v, n in ((x, width), (y, height)))
        right, bottom = (min(max(math.ceil(v + reach) + 1, 1), n) for v, n in ((x, width), (y, height)))
        part = plane[top : max(bottom, top + 1), left : max(right, left + 1)]
        valid = np.isfinite(part)
        if not valid.all():
            # What is not valid has no value; the spline must not see a step there.
            middle = float(part[valid].mean()) if valid.any() else 0.0
            part = np.where(valid, part, np.float32(middle))
            valid = ndimage.binary_erosion(valid, iterations=2, border_value=1)
        filtered = ndimage.spline_filter(part, 3, np.float32, "mirror")
        mode = "reflect" if min(part.shape) > _BORDER else "edge"
        return Window(
            np.ascontiguousarray(np.pad(filtered, _BORDER, mode)),  # type: ignore[call-overload]
            np.ascontiguousarray(np.pad(valid, _BORDER, "edge")),
            np.array([left - _BORDER, top - _BORDER], np.float64),
        )


def align(
    window: Window,
    places: tuple[Floats, Floats],
    template: NDArray[Any],
    slopes: Floats,
    poses: Floats,
    free: tuple[bool, bool],
    rounds: int,
    most: float,
) -> Aligned:
    """Move poses to where the template agrees best with a part of an image.

    `places`: offsets of the template's pixels from its reference; `template`: their values; `slopes` (2, n): per template pixel,
    along x and y; `free`: whether angle and scale may change; `rounds`: at most; `most`: px that a pose may move before it is
    given up.
    """
    count = len(poses)
    moved = np.ascontiguousarray(poses, np.float64).copy()
    stats, normal = np.zeros((count, 5)), np.zeros((count, 4, 4))
    px, py = (np.ascontiguousarray(p, np.float64) for p in places)
    values = np.ascontiguousarray(template, np.float64)
    given = np.ascontiguousarray(slopes, np.float64)
    freedom = np.array(free, np.bool_)
    part = window.coefficients, window.valid, window.corner
    _align(*part, px, py, values, given, freedom, rounds, most, moved, stats, normal)
    return Aligned(moved, stats[:, 0], stats[:, 2], stats[:, 3], stats[:, 4], normal)


def sampled(level: Plane, factor: tuple[float, float], places: tuple[Floats, Floats], poses: Floats) -> Plane:
    """(poses, pixels) float32: the image where each pose puts the template's pixels; NaN beyond the image."""
    px, py = (np.ascontiguousarray(p, np.float64) for p in places)
    out = np.empty((len(poses), len(px)), np.float32)
    pitch = np.array(factor, np.float64)
    given = np.ascontiguousarray(poses, np.float64)
    over_bands(lambda first, last: _sample_band(level, pitch, px, py, first, last, given, out), len(poses), band_height=16)
    return out
