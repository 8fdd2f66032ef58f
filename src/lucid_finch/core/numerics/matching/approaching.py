"""Moves many poses of a template towards where it agrees with an image level, quickly, while searching.

Gauss-Newton with equations that are set up once, by the slopes of the template alone, and turned with the pose (inverse
compositional: Baker and Matthews, IJCV 56(3), 2004). Pixels are read by bilinear interpolation and all count alike.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.profiles.sampling import sample_inside
from lucid_finch.core.numerics.runtime.compiling import kernel, reduction
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]
Floats = NDArray[np.float64]

_NEAR = 0.05
"""A round that moves less than this many px of the level is the last."""


class Frame(NamedTuple):
    """Where the pixels of a plane lie in the image."""

    pitch: tuple[float, float]
    """px of the image per px, along x and y."""
    x: float
    """Of the centre of the first pixel, px of the image."""
    y: float


@reduction
def _sums(columns, values, count, out):  # type: ignore[no-untyped-def]
    """Products of each of the six columns with the values, the sum of the values and of their squares."""
    a = b = c = d = e = g = h = np.float32(0)
    for k in range(count):
        value = values[k]
        a += columns[0, k] * value
        b += columns[1, k] * value
        c += columns[2, k] * value
        d += columns[3, k] * value
        e += columns[4, k] * value
        g += value
        h += value * value
    out[0], out[1], out[2], out[3], out[4], out[5], out[6] = a, b, c, d, e, g, h


@kernel
def _approach_band(level, pitch, places, columns, solver, limits, first, last, poses, stats):  # type: ignore[no-untyped-def]
    """Move each pose.

    `pitch`: px of the image per px of the level along x and y, and the place of its first pixel; `columns` (5, n): change of the
    template by x, y, angle and logarithm of the scale, and the template, all with zero mean; `solver` (5, 5): inverse of their
    products; `limits`: rounds, most px that a pose may move, squared norm of the template, reach of its pixels.

    Into stats (n, 2): correlation, and 1; or NaN for poses that reach beyond the level.
    """
    height, width = level.shape
    flat = level.ravel()
    count = places.shape[1]
    u, v, values = np.empty(count), np.empty(count), np.empty(count, np.float32)
    at, shares, corners = np.empty(count, np.int32), np.empty((2, count), np.float32), np.empty((4, count), np.float32)
    sums, step, pose = np.empty(7), np.empty(5), np.empty(4)
    rounds, most, norm, reach = int(limits[0]), limits[1], limits[2], limits[3]
    for n in range(first, last):
        for i in range(4):
            pose[i] = poses[n, i]
        x0, y0 = pose[0], pose[1]
        best, length = -2.0, np.inf
        for round_ in range(rounds + 1):
            cosine, sine = pose[3] * np.cos(pose[2]), pose[3] * np.sin(pose[2])
            x, y = (pose[0] - pitch[2]) / pitch[0], (pose[1] - pitch[3]) / pitch[1]
            a, b, c, d = cosine / pitch[0], -sine / pitch[0], sine / pitch[1], cosine / pitch[1]
            left = right = x
            top = bottom = y
            for k in range(count):
                u[k] = x + a * places[0, k] + b * places[1, k]
                v[k] = y + c * places[0, k] + d * places[1, k]
                left, right = min(left, u[k]), max(right, u[k])
                top, bottom = min(top, v[k]), max(bottom, v[k])
            if not (left >= 0.0 and top >= 0.0 and right <= width - 1.0 and bottom <= height - 1.0):
                if round_ == 0:
                    stats[n, 0] = np.nan
                break
            sample_inside(flat, width, height, u, v, count, at, shares, corners, values)
            _sums(columns, values, count, sums)
            varied = sums[6] - sums[5] * sums[5] / count
            if not varied < np.inf:
                # Beside pixels that are not valid.
                if round_ == 0:
                    stats[n, 0] = np.nan
                break
            found = sums[4] / np.sqrt(norm * varied) if varied > 1e-9 * count else 0.0
            if abs(found) > best:
                best = abs(found)
                for i in range(4):
                    poses[n, i] = pose[i]
                stats[n, 0], stats[n, 1] = found, 1.0
            elif abs(found) < 0.8 * best:
                break
            if round_ == rounds or length < _NEAR * pitch[0]:
                break
            for i in range(5):
                step[i] = 0.0
                for j in range(5):
                    step[i] += solver[i, j] * sums[j]
            gain = step[4]
            if abs(gain) < 1e-6:
                break
            # What the template has to move by, in its own pixels, moves the pose the other way.
            dx, dy, turn, grow = -step[0] / gain, -step[1] / gain, -step[2] / gain, -step[3] / gain
            length = max(np.hypot(dx, dy), max(abs(turn), abs(grow)) * reach) * pose[3]
            if not length < 1e30:
                break
            share = min(1.0, 2.0 * pitch[0] / max(length, 1e-30))
            pose[0] += share * (cosine * dx - sine * dy)
            pose[1] += share * (sine * dx + cosine * dy)
            pose[2] += share * turn
            pose[3] *= np.exp(min(max(share * grow, -0.3), 0.3))
            if abs(pose[0] - x0) > most or abs(pose[1] - y0) > most:
                break


def approach(
    level: Plane,
    frame: Frame,
    places: tuple[Floats, Floats],
    template: NDArray[Any],
    slopes: Floats,
    poses: Floats,
    free: tuple[bool, bool],
    rounds: int,
    most: float,
) -> tuple[Floats, Floats]:
    """Move poses to where the template agrees best with a plane.

    `level`: float32; `places`: offsets of the template's pixels from its reference; `template`: their values; `slopes` (2, n):
    per template pixel, along x and y; `free`: whether angle and scale may change; `rounds`: at most; `most`: px that a pose may
    move before it is given up. Returns the poses and their correlations, NaN for a pose that reaches beyond the plane or
    beside NaN.
    """
    moved = np.ascontiguousarray(poses, np.float64).copy()
    stats = np.zeros((len(poses), 2))
    px, py = places
    gx, gy = slopes
    columns = np.stack([gx, gy, gy * px - gx * py, gx * px + gy * py, np.asarray(template, np.float64)])
    columns -= columns.mean(axis=1, keepdims=True)
    for k, used in ((2, free[0]), (3, free[1])):
        columns[k] *= used
    products = columns @ columns.T
    # A direction in which the template does not change is left alone.
    solver = np.linalg.pinv(products, rcond=1e-9, hermitian=True)
    reach = float(np.sqrt(np.mean(px**2 + py**2))) if len(px) else 0.0
    limits = np.array([rounds, most, products[4, 4], max(reach, 0.5)])
    given = np.ascontiguousarray(np.stack(places), np.float64)
    packed = np.ascontiguousarray(columns, np.float32)
    pitch = np.array([*frame.pitch, frame.x, frame.y], np.float64)
    if min(level.shape) < 2 or products[4, 4] <= 0.0:
        return moved, np.full(len(poses), np.nan)
    over_bands(
        lambda first, last: _approach_band(level, pitch, given, packed, solver, limits, first, last, moved, stats),
        len(poses),
        band_height=16,
    )
    return moved, stats[:, 0]
