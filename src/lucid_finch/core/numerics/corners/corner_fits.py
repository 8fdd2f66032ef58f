"""Places a corner where its edges meet, to a fraction of a pixel: fits a saddle or a wedge of two blurred edges.

The maximum of a response lies inside the corner, by up to 2 px, and its place on a chessboard is 10 to 70 times worse than it
could be. Model: two straight edges between two grey levels under a Gaussian blur; place, both angles, both levels and the blur
by least squares (Levenberg, Quart. Appl. Math. 2, 1944; Marquardt, SIAM J. Appl. Math. 11, 1963). Of independent noise this is
the maximum likelihood estimate. What is neither a saddle nor a wedge gets the point where the lines across all gradients meet
best (Foerstner and Guelch, ISPRS Intercommission Workshop 1987).
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.fitting.small_systems import cholesky, cholesky_solve
from lucid_finch.core.numerics.runtime.compiling import helper, inner, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Floats = NDArray[np.float64]

FORMS = ("point", "saddle", "wedge")
_RADII = (6, 4)
"""px around the place that a fit sees: the larger first."""
_ROUNDS = 15
_BINS = 36
"""Of the directions of edges, 5 degrees each."""
_APART = 4
"""Bins between both directions, at least."""
_OFF, _BEYOND_NOISE = 0.07, 1.5
"""Residual of a fit that is accepted: a share of the contrast, and so many times the noise."""
_HOPELESS = 6.0
"""So many times the mean square that is accepted are given up after some rounds."""
_BESIDE = 1.2
"""px between the fit and the point where the lines across the gradients meet: further off the model is not what is there."""
_REFINED = 3.5
"""px that a fit may move."""
_MOVED = 4.5
"""px from the maximum to the corner."""


_NODES = np.stack(np.polynomial.legendre.leggauss(6))


@helper
def _erf(x):  # type: ignore[no-untyped-def]
    """The error function and exp(-x^2) (Abramowitz and Stegun, 7.1.26, within 2e-7)."""
    size = abs(x)
    e = np.exp(-size * size)
    t = 1.0 / (1.0 + 0.3275911 * size)
    value = 1.0 - ((((1.061405429 * t - 1.453152027) * t + 1.421413741) * t - 0.284496736) * t + 0.254829592) * t * e
    return (value if x >= 0 else -value), e


@helper
def _normal(x):  # type: ignore[no-untyped-def]
    """Distribution and density of a standard normal deviate."""
    value, e = _erf(0.7071067811865476 * x)
    return 0.5 * (1.0 + value), 0.3989422804014327 * e


_PLACE = 9
"""Numbers of a model before those of the integral."""


@inner
def _prepared(p, nodes, q):  # type: ignore[no-untyped-def]
    """What all pixels have in common, from p = (x, y, two angles, blur) into q: place, cosines and sines, blur, correlation of
    both edges, its complement; then sine, half inverse squared cosine and weight of each node of the integral."""
    q[0], q[1], q[6] = p[0], p[1], p[4]
    q[2], q[3], q[4], q[5] = np.cos(p[2]), np.sin(p[2]), np.cos(p[3]), np.sin(p[3])
    rho = min(max(q[2] * q[4] + q[3] * q[5], -0.98), 0.98)
    q[7], q[8] = rho, np.sqrt(1.0 - rho * rho)
    half = 0.5 * np.arcsin(rho)
    for n in range(nodes.shape[1]):
        sine = np.sin(half * (1.0 + nodes[0, n]))
        at = _PLACE + 3 * n
        q[at], q[at + 1], q[at + 2] = sine, 0.5 / (1.0 - sine * sine), nodes[1, n] * half / (2.0 * np.pi)


@inner
def _terms(form, q, u, v, terms):  # type: ignore[no-untyped-def]
    """Shape of the model at a place and its derivatives by x, y, both angles and the blur, into terms (6).

    A wedge blurred by a Gaussian is a normal distribution of two deviates, correlated by the cosine between the normals of the
    edges; a saddle is made of the same. What the correlation adds is an integral over its arc sine (Drezner and Wesolowsky,
    J. Statist. Comput. Simul. 35, 1990).
    """
    dx, dy, c1, s1, c2, s2, s, rho, root = u - q[0], v - q[1], q[2], q[3], q[4], q[5], q[6], q[7], q[8]
    d1, d2 = c1 * dx + s1 * dy, c2 * dx + s2 * dy
    h, k = d1 / s, d2 / s
    p1, g1 = _normal(h)
    p2, g2 = _normal(k)
    value = p1 * p2
    if max(abs(h), abs(k)) < 4.5:
        for n in range(_PLACE, q.size, 3):
            value += q[n + 2] * np.exp(-(h * h + k * k - 2.0 * h * k * q[n]) * q[n + 1])
    inner1, density = _normal((k - rho * h) / root)
    inner2, _ = _normal((h - rho * k) / root)
    w1, w2, w3 = g1 * inner1 / s, g2 * inner2 / s, g1 * density / root
    if form == 1:
        value = 4.0 * value - 2.0 * (p1 + p2) + 1.0
        w1, w2, w3 = 4.0 * w1 - 2.0 * g1 / s, 4.0 * w2 - 2.0 * g2 / s, 4.0 * w3
    turn = w3 * (s1 * c2 - c1 * s2)
    terms[0] = value
    terms[1] = -c1 * w1 - c2 * w2
    terms[2] = -s1 * w1 - s2 * w2
    terms[3] = w1 * (c1 * dy - s1 * dx) - turn
    terms[4] = w2 * (c2 * dy - s2 * dx) + turn
    terms[5] = -(d1 * w1 + d2 * w2) / s


@inner
def _levels(form, p, values, places, count, nodes, q, terms):  # type: ignore[no-untyped-def]
    """Offset a, factor b and mean squared residual of the best a + b shape."""
    _prepared(p, nodes, q)
    total = shape = both = square = squares = 0.0
    for k in range(count):
        _terms(form, q, places[0, k], places[1, k], terms)
        f, value = terms[0], values[k]
        total += value
        shape += f
        both += f * value
        square += f * f
        squares += value * value
    varied = square - shape * shape / count
    b = (both - shape * total / count) / varied if varied > 1e-9 * count else 0.0
    a = (total - b * shape) / count
    left = squares - total * total / count - b * (both - shape * total / count)
    return a, b, max(left, 0.0) / count


@inner
def _fit(form, p, values, places, count, normal, right, nodes, q, terms, allowed, most):  # type: ignore[no-untyped-def]
    """Levenberg-Marquardt from p = (x, y, two angles, blur), which it moves; returns a, b, the mean squared residual, and
    whether it ended well. The factor of the normal equations is left in `normal` (7, 7)."""
    x0, y0 = p[0], p[1]
    trial = np.empty(5)
    row = np.empty(7)
    damping = 1e-3
    a, b, best = _levels(form, p, values, places, count, nodes, q, terms)
    for round_ in range(_ROUNDS):
        normal[:] = 0.0
        right[:] = 0.0
        _prepared(p, nodes, q)
        for k in range(count):
            _terms(form, q, places[0, k], places[1, k], terms)
            off = values[k] - a - b * terms[0]
            for i in range(5):
                row[i] = b * terms[1 + i]
            row[5], row[6] = 1.0, terms[0]
            for i in range(7):
                right[i] += row[i] * off
                for j in range(i + 1):
                    normal[i, j] += row[i] * row[j]
        moved = False
        step = 0.0
        for _try in range(6):
            work = normal.copy()
            z = right.copy()
            for i in range(7):
                work[i, i] = work[i, i] * (1.0 + damping) + 1e-9
            if cholesky(work, 7):
                cholesky_solve(work, z, 7)
                for i in range(5):
                    trial[i] = p[i] + z[i]
                trial[4] = min(max(trial[4], 0.25), 3.0)
                ta, tb, after = _levels(form, trial, values, places, count, nodes, q, terms)
                if after <= best:
                    step = max(abs(trial[0] - p[0]), abs(trial[1] - p[1]))
                    for i in range(5):
                        p[i] = trial[i]
                    moved = after < best * (1.0 - 1e-7)
                    a, b, best = ta, tb, after
                    damping = max(0.2 * damping, 1e-9)
                    break
            damping *= 6.0
        if not moved or step < 1e-3:
            break
        hopeless = round_ >= 4 and best > _HOPELESS * (allowed * allowed + (_OFF * b) ** 2)
        if hopeless or np.hypot(p[0] - x0, p[1] - y0) > most:
            return a, b, best, False
    return a, b, best, bool(np.hypot(p[0] - x0, p[1] - y0) <= most)


@inner
def _gradients(patch, side, gx, gy):  # type: ignore[no-untyped-def]
    """Central differences, smoothed across by (1, 2, 1) / 4, of the inner pixels of a patch."""
    for j in range(1, side - 1):
        for i in range(1, side - 1):
            gx[j, i] = 0.125 * (
                patch[j - 1, i + 1]
                - patch[j - 1, i - 1]
                + 2 * (patch[j, i + 1] - patch[j, i - 1])
                + patch[j + 1, i + 1]
                - patch[j + 1, i - 1]
            )
            gy[j, i] = 0.125 * (
                patch[j + 1, i - 1]
                - patch[j - 1, i - 1]
                + 2 * (patch[j + 1, i] - patch[j - 1, i])
                + patch[j + 1, i + 1]
                - patch[j - 1, i + 1]
            )


@inner
def _meeting(gx, gy, side, radius, sigma, at, out):  # type: ignore[no-untyped-def]
    """Where the lines across all gradients meet best, around `at`; into out: x, y, and the variances and covariance of both."""
    middle = side // 2
    for _ in range(3):
        xx = xy = yy = px = py = weight = 0.0
        for j in range(1, side - 1):
            for i in range(1, side - 1):
                dx, dy = float(i - middle), float(j - middle)
                if np.hypot(dx, dy) > radius + 0.5:
                    continue
                w = np.exp(-0.5 * ((dx - at[0]) ** 2 + (dy - at[1]) ** 2) / (sigma * sigma))
                a, b, c = w * gx[j, i] ** 2, w * gx[j, i] * gy[j, i], w * gy[j, i] ** 2
                xx += a
                xy += b
                yy += c
                px += a * dx + b * dy
                py += b * dx + c * dy
                weight += w
        det = xx * yy - xy * xy
        if not det > 1e-12 * (xx + yy) ** 2:
            return False
        at[0], at[1] = (yy * px - xy * py) / det, (xx * py - xy * px) / det
        if np.hypot(at[0], at[1]) > _REFINED:
            return False
    left = 0.0
    for j in range(1, side - 1):
        for i in range(1, side - 1):
            dx, dy = float(i - middle), float(j - middle)
            if np.hypot(dx, dy) <= radius + 0.5:
                w = np.exp(-0.5 * ((dx - at[0]) ** 2 + (dy - at[1]) ** 2) / (sigma * sigma))
                left += w * (gx[j, i] * (dx - at[0]) + gy[j, i] * (dy - at[1])) ** 2
    variance = left / max(weight - 2.0, 1.0)
    out[0], out[1] = at[0], at[1]
    out[2], out[3], out[4] = variance * yy / det, variance * xx / det, -variance * xy / det
    return True


@inner
def _directions(gx, gy, side, radius, counts, smooth, normals):  # type: ignore[no-untyped-def]
    """The two commonest directions of the gradient into normals (2): angles that point to where it brightens, on the whole."""
    middle = side // 2
    counts[:] = 0.0
    for j in range(1, side - 1):
        for i in range(1, side - 1):
            if np.hypot(i - middle, j - middle) <= radius + 0.5:
                turn = np.arctan2(gy[j, i], gx[j, i]) / np.pi * _BINS
                place = int(np.floor(turn)) % _BINS
                counts[place] += gx[j, i] ** 2 + gy[j, i] ** 2
    for k in range(_BINS):
        smooth[k] = counts[(k - 1) % _BINS] + 2 * counts[k] + counts[(k + 1) % _BINS]
    first = int(np.argmax(smooth))
    second, most = -1, 0.0
    for k in range(_BINS):
        apart = abs(k - first)
        apart = min(apart, _BINS - apart)
        if apart < _APART:
            continue
        # A maximum of its own, not the flank of the first one.
        if smooth[k] > most and smooth[k] >= smooth[(k - 1) % _BINS] and smooth[k] >= smooth[(k + 1) % _BINS]:
            second, most = k, smooth[k]
    if second < 0 or most <= 0.02 * smooth[first]:
        return False
    for n, chosen in enumerate((first, second)):
        angle = (chosen + 0.5) * np.pi / _BINS
        cosine, sine = np.cos(angle), np.sin(angle)
        along = 0.0
        for j in range(1, side - 1):
            for i in range(1, side - 1):
                if np.hypot(i - middle, j - middle) <= radius + 0.5:
                    size = np.hypot(gx[j, i], gy[j, i])
                    part = cosine * gx[j, i] + sine * gy[j, i]
                    if abs(part) > 0.94 * size:
                        along += part * size
        normals[n] = angle if along >= 0 else angle + np.pi
    return True


@inner
def _centred(pixels, row, column, sigma, patch, gx, gy, at, point):  # type: ignore[no-untyped-def]
    """A window around the corner near a maximum into `patch`, its gradients, and where these meet, from the middle of the window
    (`at`), with its variances (`point`); returns the middle of the window, and whether the gradients meet."""
    height, width = pixels.shape
    side = patch.shape[0]
    middle = side // 2
    y, x = row, column
    met = False
    for number in range(3):
        for j in range(side):
            for i in range(side):
                patch[j, i] = pixels[min(max(y + j - middle, 0), height - 1), min(max(x + i - middle, 0), width - 1)]
        _gradients(patch, side, gx, gy)
        at[:] = 0.0
        point[:] = 0.0
        met = _meeting(gx, gy, side, _RADII[0], sigma, at, point)
        if not met:
            at[:] = 0.0
            break
        down, right = y + int(np.floor(at[1] + 0.5)), x + int(np.floor(at[0] + 0.5))
        # The window is laid around the corner, unless that is far from the maximum.
        if (down == y and right == x) or number == 2 or np.hypot(down - row, right - column) > _MOVED:
            break
        y, x = down, right
    return y, x, met


@inner
def _within(patch, row, column, size, at, radius, values, places):  # type: ignore[no-untyped-def]
    """The pixels of a window within a radius of a place and in the image (`size`: rows, columns); returns how many."""
    side = patch.shape[0]
    middle = side // 2
    count = 0
    for j in range(side):
        for i in range(side):
            dx, dy = i - middle, j - middle
            inside = 0 <= row + dy < size[0] and 0 <= column + dx < size[1]
            if inside and np.hypot(dx - at[0], dy - at[1]) <= radius + 0.5:
                values[count], places[0, count], places[1, count] = patch[j, i], dx, dy
                count += 1
    return count


@inner
def _nearest_form(p, at, normals, values, places, count, nodes, q, terms):  # type: ignore[no-untyped-def]
    """A saddle, a bright wedge or a dark one, whichever comes nearest as it stands; its parameters are left in p."""
    form, turned, nearest = 0, 0.0, np.inf
    for kind in range(3):
        p[0], p[1], p[4] = at[0], at[1], 0.9
        extra = np.pi if kind == 2 else 0.0
        p[2], p[3] = normals[0] + extra, normals[1] + extra
        _, _, left = _levels(1 if kind == 0 else 2, p, values, places, count, nodes, q, terms)
        if left < nearest:
            form, turned, nearest = (1 if kind == 0 else 2), extra, left
    p[0], p[1], p[2], p[3], p[4] = at[0], at[1], normals[0] + turned, normals[1] + turned, 0.9
    return form


@inner
def _variances(normal, right, variance, out):  # type: ignore[no-untyped-def]
    """Variance of x and of y and their covariance from the normal equations, into out (3); False where they are singular."""
    for i in range(7):
        normal[i, i] += 1e-9
    if not cholesky(normal, 7):
        return False
    for axis in range(2):
        right[:] = 0.0
        right[axis] = 1.0
        cholesky_solve(normal, right, 7)
        out[axis] = variance * right[axis]
        out[2] = variance * right[1 - axis]
    return True


@kernel
def _refine_band(pixels, rows, columns, noise, sigma, nodes, first, last, out, forms):  # type: ignore[no-untyped-def]
    """Into out (n, 10): x, y, variance of x and of y, covariance, contrast, both angles of the normals, blur, residual; and the
    form of each."""
    side = 2 * (_RADII[0] + 1) + 1
    patch, gx, gy = np.zeros((side, side)), np.zeros((side, side)), np.zeros((side, side))
    values, places = np.empty(side * side), np.empty((2, side * side))
    counts, smooth, normals = np.empty(_BINS), np.empty(_BINS), np.empty(2)
    normal, right, terms = np.empty((7, 7)), np.empty(7), np.empty(6)
    q = np.empty(_PLACE + 3 * nodes.shape[1])
    p, at, point = np.empty(5), np.empty(2), np.zeros(5)
    for n in range(first, last):
        forms[n] = 0
        row, column, met = _centred(pixels, rows[n], columns[n], sigma, patch, gx, gy, at, point)
        for i in range(5):
            out[n, i] = point[i]
        if not met:
            out[n, 2], out[n, 3], out[n, 4] = sigma * sigma, sigma * sigma, 0.0
        out[n, 5:] = 0.0
        for r in range(len(_RADII)):
            if forms[n] != 0 or not _directions(gx, gy, side, _RADII[r], counts, smooth, normals):
                continue
            count = _within(patch, row, column, pixels.shape, at, _RADII[r], values, places)
            if count < 20:
                continue
            form = _nearest_form(p, at, normals, values, places, count, nodes, q, terms)
            near, clear = _BESIDE if met else _REFINED, _BEYOND_NOISE * noise[n]
            _, b, left, good = _fit(form, p, values, places, count, normal, right, nodes, q, terms, clear, near)
            contrast = abs(b) * (2.0 if form == 1 else 1.0)
            allowed = clear * clear + (_OFF * contrast) ** 2
            if not good or abs(np.sin(p[2] - p[3])) < 0.2 or left > allowed or np.hypot(p[0], p[1]) > _REFINED:
                continue
            if not _variances(normal, right, left * count / max(count - 7.0, 1.0), out[n, 2:5]):
                continue
            out[n, 0], out[n, 1] = p[0], p[1]
            # The normals point into the wedge; whether that is dark or bright is the sign of the contrast.
            out[n, 5] = -contrast if form == 2 and b < 0 else contrast
            out[n, 6], out[n, 7], out[n, 8], out[n, 9] = p[2], p[3], p[4], np.sqrt(left)
            forms[n] = form
        out[n, 0] += column
        out[n, 1] += row


@dataclass(frozen=True)
class RefinedCorners:
    """One entry a corner."""

    x: Floats
    y: Floats
    x_std: Floats
    y_std: Floats
    form: NDArray[np.int8]
    """Number among `FORMS`."""
    contrast: Floats
    """Grey levels between both sides; negative for a dark wedge; 0 for a point."""
    opening: Floats
    """Angle between both edges, degrees; NaN for a point."""
    direction: Floats
    """Of the middle of a wedge, or of one of the edges of a saddle (in [0, 180)), degrees from +x towards +y; NaN for a point."""
    residual: Floats
    """Root mean square of what the fit leaves, grey levels; 0 for a point."""
    blur: Floats
    """Standard deviation across the edges, px; NaN for a point."""
    one_edge: Floats
    """Direction of an edge, away from the corner, degrees; NaN for a point."""
    other_edge: Floats

    def arms(self, rows: NDArray[Any], reach: float) -> list[NDArray[np.float64]]:
        """Lines (n, 2) through some of the corners along their edges, `reach` px to each side; a cross at a point."""
        found = []
        for n in rows.tolist():
            known = self.form[n] > 0
            angles = np.radians([self.one_edge[n], self.other_edge[n]] if known else [0.0, 90.0])
            middle = np.array([self.x[n], self.y[n]])
            one, other = (reach * np.array([np.cos(a), np.sin(a)]) for a in angles)
            through = [one, 0 * one, other] if self.form[n] == 2 else [one, -one, 0 * one, other, -other]
            found.append(middle + np.array(through))
        return found

    def enlarged(self, factor: float) -> RefinedCorners:
        """The same in an image with so many pixels to one of this, whose pixels were means of blocks."""
        if factor == 1:
            return self
        places = {name: factor * getattr(self, name) + 0.5 * (factor - 1) for name in ("x", "y")}
        return replace(self, **places, x_std=factor * self.x_std, y_std=factor * self.y_std, blur=factor * self.blur)

    def among(self, count: int, which: NDArray[Any], rows: NDArray[Any], columns: NDArray[Any], sigma: float) -> RefinedCorners:
        """The same for all of `count` maxima at (rows, columns), of which those of `which` were fitted; others stay at their
        pixel, as points with an error of the window's `sigma`."""
        values: dict[str, Any] = {field.name: np.full(count, np.nan) for field in fields(self)}
        values |= {"x": columns.astype(float), "y": rows.astype(float), "form": np.zeros(count, np.int8)}
        values |= {name: np.full(count, sigma) for name in ("x_std", "y_std")}
        values |= {name: np.zeros(count) for name in ("contrast", "residual")}
        for name, value in values.items():
            value[which] = getattr(self, name)
        return RefinedCorners(**values)


def refine_corners(
    pixels: NDArray[Any], rows: NDArray[np.int32], columns: NDArray[np.int32], noise: Floats, sigma: float
) -> RefinedCorners:
    """Fit a corner at each pixel. `noise` (n,): standard deviation there, grey levels; `sigma`: of the window, px, for those that
    are no saddle and no wedge."""
    out, forms = np.zeros((len(rows), 10)), np.zeros(len(rows), np.int8)
    over_bands(
        lambda first, last: _refine_band(pixels, rows, columns, noise, sigma, _NODES, first, last, out, forms),
        len(rows),
        band_height=64,
    )
    known = forms > 0
    one, other = out[:, 6], out[:, 7]
    # The normals point into the wedge: it opens by what is left of a half turn.
    between = np.abs((one - other + np.pi) % (2 * np.pi) - np.pi)
    x, y = np.cos(one) + np.cos(other), np.sin(one) + np.sin(other)
    wedge = np.degrees(np.arctan2(y, x)) % 360.0
    saddle = np.degrees(one + 0.5 * np.pi) % 180.0
    opening = np.degrees(np.where(forms == 2, np.pi - between, np.minimum(between, np.pi - between)))
    return RefinedCorners(
        out[:, 0], out[:, 1], np.sqrt(np.maximum(out[:, 2], 0.0)), np.sqrt(np.maximum(out[:, 3], 0.0)), forms, out[:, 5],
        np.where(known, opening, np.nan), np.where(known, np.where(forms == 2, wedge, saddle), np.nan), out[:, 9],
        np.where(known, out[:, 8], np.nan),
        np.where(known, np.where(forms == 2, wedge - opening / 2, np.degrees(one) + 90.0), np.nan),
        np.where(known, np.where(forms == 2, wedge + opening / 2, np.degrees(other) + 90.0), np.nan),
    )  # fmt: skip
