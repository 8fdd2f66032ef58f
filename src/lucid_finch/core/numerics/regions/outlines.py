"""Measures closed outlines: area, centroid, moments, length, hull, smallest rectangle; and simplifies them.

Area and moments follow from Green's theorem. The length is that of the outline after each place has been put on a parabola
through its neighbours (Savitzky and Golay, Analytical Chemistry 36(8), 1964), which takes the staircase of pixels and the
noise away and leaves curvature. The smallest rectangle has a side along the hull (Freeman and Shapira, CACM 18(7), 1975).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.runtime.compiling import helper, kernel

_CHUNK = 500

MEASURES = (
    "area", "x", "y", "xx", "xy", "yy", "perimeter", "jitter", "hull_area", "box_width", "box_height", "angle",
    "left", "top", "right", "bottom",
)  # fmt: skip


@kernel
def _smooth(x, y, m, u, v):  # type: ignore[no-untyped-def]
    """Each place on a parabola through m neighbours on either side, into u and v."""
    n = x.size
    norm = (2 * m - 1) * (2 * m + 1) * (2 * m + 3)
    for k in range(n):
        a, b = 0.0, 0.0
        for i in range(-m, m + 1):
            j = k + i
            if j < 0:
                j += n
            elif j >= n:
                j -= n
            weight = 3.0 * (3 * m * m + 3 * m - 1 - 5 * i * i) / norm
            a += weight * x[j]
            b += weight * y[j]
        u[k] = a
        v[k] = b


@kernel
def _smoothed_outline(x, y, u, v):  # type: ignore[no-untyped-def]
    """The outline without noise and staircase, into u and v; returns how far its places lay off (rms of a coordinate).

    Only as many neighbours as the noise asks for: more of them cut corners."""
    n = x.size
    most = min(6, n // 12)
    if most < 1:
        u[:] = x
        v[:] = y
        return 0.0
    _smooth(x, y, most, u, v)
    # From the median, so that corners do not count as noise.
    off = np.sqrt(np.median((u - x) ** 2 + (v - y) ** 2) / (2 * math.log(2)))
    m = 2 if off < 0.05 else 4 if off < 0.075 else 6
    if m < most:
        _smooth(x, y, m, u, v)
    return off


@helper
def _turn(ax, ay, bx, by, cx, cy):  # type: ignore[no-untyped-def]
    return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)


@kernel
def _hull(x, y, hx, hy):  # type: ignore[no-untyped-def]
    """The convex hull into hx, hy (Andrew, Information Processing Letters 9(5), 1979); returns its number of corners."""
    n = x.size
    # By x, then by y: places lie on the lines between pixel centres, so that many share one x.
    order = np.argsort(x * 1e6 + y)
    count = 0
    for way in range(2):
        least = count + 1
        for k in range(n):
            i = order[k] if way == 0 else order[n - 1 - k]
            while count > least and _turn(hx[count - 2], hy[count - 2], hx[count - 1], hy[count - 1], x[i], y[i]) <= 0:
                count -= 1
            hx[count] = x[i]
            hy[count] = y[i]
            count += 1
        count -= 1
    return count


@kernel
def _measure(x, y, start, first, last, out):  # type: ignore[no-untyped-def]
    longest = 0
    for n in range(first, last):
        longest = max(longest, start[n + 1] - start[n])
    u, v = np.empty(longest), np.empty(longest)
    hx, hy = np.empty(2 * longest + 2), np.empty(2 * longest + 2)
    for n in range(first, last):
        begin, end = start[n], start[n + 1]
        count = end - begin
        px, py = x[begin:end], y[begin:end]
        # About the first place, so that large coordinates lose nothing.
        x0, y0 = px[0], py[0]
        area, sx, sy, xx, xy, yy = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        left, right, top, bottom = px[0], px[0], py[0], py[0]
        for i in range(count):
            j = i + 1 if i + 1 < count else 0
            a, b, c, d = px[i] - x0, py[i] - y0, px[j] - x0, py[j] - y0
            w = a * d - c * b
            area += w
            sx += w * (a + c)
            sy += w * (b + d)
            xx += w * (a * a + a * c + c * c)
            yy += w * (b * b + b * d + d * d)
            xy += w * (a * d + 2 * a * b + 2 * c * d + c * b)
            left, right = min(left, px[i]), max(right, px[i])
            top, bottom = min(top, py[i]), max(bottom, py[i])
        row = out[n]
        whole = area / 2
        if abs(whole) > 1e-9:
            cx, cy = sx / (6 * whole), sy / (6 * whole)
            row[3] = xx / (12 * whole) - cx * cx
            row[4] = xy / (24 * whole) - cx * cy
            row[5] = yy / (12 * whole) - cy * cy
            row[1], row[2] = x0 + cx, y0 + cy
        else:
            row[1], row[2] = (left + right) / 2, (top + bottom) / 2
            row[3], row[4], row[5] = 0.0, 0.0, 0.0
        row[0] = abs(whole)
        row[7] = _smoothed_outline(px, py, u[:count], v[:count])
        length = 0.0
        for i in range(count):
            j = i + 1 if i + 1 < count else 0
            length += math.hypot(u[j] - u[i], v[j] - v[i])
        row[6] = length
        corners = _hull(px, py, hx, hy)
        hull = 0.0
        least, wide, high, angle = 1e300, right - left, bottom - top, 0.0
        for i in range(corners):
            j = i + 1 if i + 1 < corners else 0
            hull += (hx[i] - x0) * (hy[j] - y0) - (hx[j] - x0) * (hy[i] - y0)
            dx, dy = hx[j] - hx[i], hy[j] - hy[i]
            side = math.hypot(dx, dy)
            if side < 1e-9:
                continue
            c, s = dx / side, dy / side
            a0, a1, b0, b1 = 1e300, -1e300, 1e300, -1e300
            for k in range(corners):
                a = (hx[k] - x0) * c + (hy[k] - y0) * s
                b = (hy[k] - y0) * c - (hx[k] - x0) * s
                a0, a1 = min(a0, a), max(a1, a)
                b0, b1 = min(b0, b), max(b1, b)
            size = (a1 - a0) * (b1 - b0)
            if size < least - 1e-9:
                least = size
                wide, high, angle = a1 - a0, b1 - b0, math.degrees(math.atan2(s, c))
        row[8] = abs(hull) / 2
        if wide < high:
            wide, high, angle = high, wide, angle + 90
        row[9], row[10], row[11] = wide, high, angle % 180.0
        row[12], row[13], row[14], row[15] = left, top, right, bottom


def measure_outlines(
    x: NDArray[np.float64], y: NDArray[np.float64], start: NDArray[np.int64], cancelled: Callable[[], bool] | None = None
) -> dict[str, NDArray[np.float64]]:
    """Measures of closed outlines, one entry each; outline n has the places start[n] .. start[n + 1].

    `area` (px squared, of all that is enclosed), `x`, `y` (its centroid), `xx`, `xy`, `yy` (its second central moments by its
    area), `perimeter`, `jitter` (px, rms by which smoothing moved a coordinate), `hull_area`, `box_width`, `box_height`,
    `angle` (degrees in [0, 180), of the longer side of the smallest rectangle), `left`, `top`, `right`, `bottom`. Raises
    `Cancelled`.
    """
    count = len(start) - 1
    out = np.zeros((count, len(MEASURES)))
    for first in range(0, count, _CHUNK):
        if cancelled is not None and cancelled():
            raise Cancelled()
        _measure(x, y, start, first, min(first + _CHUNK, count), out)
    return {name: np.ascontiguousarray(column) for name, column in zip(MEASURES, out.T, strict=True)}


@kernel
def _simplify(x, y, tolerance, keep):  # type: ignore[no-untyped-def]
    """Marks the places of an open line that stay (Douglas and Peucker, Cartographica 10(2), 1973)."""
    n = x.size
    stack = np.empty((n + 1, 2), np.int64)
    stack[0, 0], stack[0, 1] = 0, n - 1
    depth = 1
    keep[0] = True
    keep[n - 1] = True
    for _ in range(2 * n + 1):
        if depth == 0:
            break
        depth -= 1
        a, b = stack[depth, 0], stack[depth, 1]
        dx, dy = x[b] - x[a], y[b] - y[a]
        side = math.hypot(dx, dy)
        far, where = -1.0, -1
        for i in range(a + 1, b):
            if side > 1e-12:
                t = min(max(((x[i] - x[a]) * dx + (y[i] - y[a]) * dy) / (side * side), 0.0), 1.0)
                off = math.hypot(x[i] - x[a] - t * dx, y[i] - y[a] - t * dy)
            else:
                off = math.hypot(x[i] - x[a], y[i] - y[a])
            if off > far:
                far, where = off, i
        if far > tolerance:
            keep[where] = True
            stack[depth, 0], stack[depth, 1] = a, where
            stack[depth + 1, 0], stack[depth + 1, 1] = where, b
            depth += 2


def simplified(points: NDArray[np.float64], tolerance: float) -> NDArray[np.float64]:
    """Corners (m, 2) of a closed outline (n, 2), so that none of its places lies further than `tolerance` px off."""
    if len(points) < 4:
        return points
    # Two places that surely stay: the one furthest from the middle, and the one furthest from that.
    far = int(np.argmax(((points - points.mean(axis=0)) ** 2).sum(axis=1)))
    turned = np.roll(points, -far, axis=0)
    other = int(np.argmax(((turned - turned[0]) ** 2).sum(axis=1)))
    keep = np.zeros(len(points) + 1, np.bool_)
    x, y = (np.ascontiguousarray(np.append(c, c[0])) for c in turned.T)
    for a, b in ((0, other), (other, len(points))):
        if b - a > 0:
            _simplify(x[a : b + 1], y[a : b + 1], float(tolerance), keep[a : b + 1])
    return np.asarray(turned[keep[:-1]])


@kernel
def _middles(x, y, start, children, child_start, cx, cy, out):  # type: ignore[no-untyped-def]
    most = 0
    for n in range(start.size - 1):
        most = max(most, start[n + 1] - start[n])
    for n in range(start.size - 1):
        top, bottom = 1e300, -1e300
        total = start[n + 1] - start[n]
        for i in range(start[n], start[n + 1]):
            top, bottom = min(top, y[i]), max(bottom, y[i])
        for c in range(child_start[n], child_start[n + 1]):
            total += start[children[c] + 1] - start[children[c]]
        crossings = np.empty(total + 1)
        best = -1.0
        # The row of the centroid first: only where it is clearly narrower does another row take the label.
        for step in range(8):
            row = cy[n] if step == 0 else top + (bottom - top) * step / 8
            count = 0
            for c in range(child_start[n] - 1, child_start[n + 1]):
                m = n if c < child_start[n] else children[c]
                for i in range(start[m], start[m + 1]):
                    j = i + 1 if i + 1 < start[m + 1] else start[m]
                    if (y[i] <= row) != (y[j] <= row):
                        crossings[count] = x[i] + (row - y[i]) * (x[j] - x[i]) / (y[j] - y[i])
                        count += 1
            inside = np.sort(crossings[:count])
            for k in range(0, count - 1, 2):
                wide = inside[k + 1] - inside[k]
                centred = step == 0 and inside[k] + 0.3 * wide <= cx[n] <= inside[k + 1] - 0.3 * wide
                if centred or wide > best * (1.4 if step > 0 else 1.0):
                    best = wide * (4.0 if centred else 1.0)
                    out[n, 0] = cx[n] if centred else inside[k] + wide / 2
                    out[n, 1] = row


def label_places(
    x: NDArray[np.float64],
    y: NDArray[np.float64],
    start: NDArray[np.int64],
    parent: NDArray[np.int64],
    cx: NDArray[np.float64],
    cy: NDArray[np.float64],
) -> NDArray[np.float64]:
    """Where a label of each outline lies in it and in none of the outlines in it, (n, 2): at its centroid if that will do.

    `parent` is the outline that surrounds each (-1 if none)."""
    count = len(start) - 1
    order = np.argsort(parent, kind="stable")
    held = np.bincount(parent[parent >= 0], minlength=count)[:count] if count else np.zeros(0, np.int64)
    child_start = np.concatenate([[0], np.cumsum(held)]).astype(np.int64)
    children = order[np.count_nonzero(parent < 0) :].astype(np.int64)
    out = np.stack([cx, cy], axis=1).astype(float)
    _middles(x, y, start, children, child_start, np.asarray(cx, float), np.asarray(cy, float), out)
    return out


def points_of(x: Any, y: Any, start: Any, n: int) -> NDArray[np.float64]:
    """Outline n as (count, 2)."""
    return np.stack([x[start[n] : start[n + 1]], y[start[n] : start[n + 1]]], axis=1)
