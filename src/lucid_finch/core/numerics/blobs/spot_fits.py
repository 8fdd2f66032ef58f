"""Fits round spots, from a Gaussian to a disc with a sharp rim: place, radius, contrast and error bars.

Model: a disc under a Gaussian blur on a plane of grey levels, by least squares (Levenberg, Quart. Appl. Math. 2, 1944; Marquardt,
SIAM J. Appl. Math. 11, 1963). Along the radius, a blurred disc is a noncentral chi-square distribution of two degrees of
freedom; a disc much smaller than its blur is a Gaussian. Of independent noise this is the maximum likelihood estimate.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.fitting.small_systems import cholesky, cholesky_solve
from lucid_finch.core.numerics.runtime.compiling import inner, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Floats = NDArray[np.float64]

_LEAST, _MOST, _SHARPNESSES = 0.4, 16.0, 64
"""Radius over blur: range and number of the tabled profiles."""
_STEP, _PLACES = 0.1, 215
"""Of the distance from the middle, in blurs."""
_ROUNDS = 15
_WIDE, _NARROW, _BEYOND = 2.2, 1.5, 1.5
"""The window: so many radii and px around the middle; the narrow one where something else is near."""
_CROWDED = 0.1
"""Residual over the contrast from which on a spot is fitted again in the narrow window."""
_DISC = (1.5, 3.0)
"""Radius over blur below which a spot is as good as Gaussian, and above which it is a disc."""


@cache
def _profiles() -> NDArray[np.float32]:
    """(sharpness, distance): blurred discs, 1 in the middle."""
    from scipy import special  # here, since loading it takes a tenth of a second

    sharp = np.geomspace(_LEAST, _MOST, _SHARPNESSES)[:, None]
    distance = _STEP * np.arange(_PLACES)[None, :]
    values = special.chndtr(sharp**2, 2.0, np.maximum(distance**2, 1e-12))
    return np.ascontiguousarray(values / values[:, :1], np.float32)


@inner
def _place_in_table(p, place):  # type: ignore[no-untyped-def]
    """Blur, and row of the table and share of the next one, of the parameters p, into place (3): the same for all pixels."""
    v = (p[3] - np.log(_LEAST)) * ((_SHARPNESSES - 1) / np.log(_MOST / _LEAST))
    v = min(max(v, 0.0), _SHARPNESSES - 1.001)
    place[0], place[1], place[2] = np.exp(p[2]), np.floor(v), v - np.floor(v)


@inner
def _row(table, p, place, u, v, row):  # type: ignore[no-untyped-def]
    """The model at a place and its derivatives by the eight parameters, into row (8): x, y, log blur, log sharpness, level, both
    slopes, contrast."""
    dx, dy, blur = u - p[0], v - p[1], place[0]
    far = np.sqrt(dx * dx + dy * dy)
    w = min(far / (blur * _STEP), _PLACES - 1.001)
    i, j = int(place[1]), int(w)
    a, b = place[2], w - j
    p00, p01, p10, p11 = float(table[i, j]), float(table[i, j + 1]), float(table[i + 1, j]), float(table[i + 1, j + 1])
    upper, lower = p00 + b * (p01 - p00), p10 + b * (p11 - p10)
    value = upper + a * (lower - upper)
    by_distance = ((1 - a) * (p01 - p00) + a * (p11 - p10)) / _STEP
    contrast = p[7]
    along = -contrast * by_distance / (blur * max(far, 1e-9))
    row[0], row[1] = along * dx, along * dy
    row[2] = -contrast * by_distance * far / blur
    row[3] = contrast * (lower - upper) * ((_SHARPNESSES - 1) / np.log(_MOST / _LEAST))
    row[4], row[5], row[6], row[7] = 1.0, u, v, value
    return p[4] + p[5] * u + p[6] * v + contrast * value


@inner
def _residual(table, p, values, places, count, place, row):  # type: ignore[no-untyped-def]
    _place_in_table(p, place)
    total = 0.0
    for k in range(count):
        off = values[k] - _row(table, p, place, places[0, k], places[1, k], row)
        total += off * off
    return total / count


@inner
def _window(pixels, start, wide, values, places):  # type: ignore[no-untyped-def]
    """The pixels around a start (x, y, radius, contrast) and their places from it; returns how many, and the ground."""
    height, width = pixels.shape
    x0, y0, radius = start[0], start[1], start[2]
    reach = wide * radius + _BEYOND
    count = 0
    ground = rim = 0.0
    for y in range(max(int(np.floor(y0 - reach)), 0), min(int(np.ceil(y0 + reach)), height - 1) + 1):
        for x in range(max(int(np.floor(x0 - reach)), 0), min(int(np.ceil(x0 + reach)), width - 1) + 1):
            far = np.hypot(x - x0, y - y0)
            if far <= reach and count < values.size:
                values[count], places[0, count], places[1, count] = pixels[y, x], x - x0, y - y0
                count += 1
                if far > 1.25 * radius:
                    ground += pixels[y, x]
                    rim += 1.0
    return count, (ground / rim if rim > 0 else 0.0)


@inner
def _accumulate(table, p, values, places, count, place, row, normal, right):  # type: ignore[no-untyped-def]
    """The normal equations of one round."""
    normal[:] = 0.0
    right[:] = 0.0
    _place_in_table(p, place)
    for k in range(count):
        off = values[k] - _row(table, p, place, places[0, k], places[1, k], row)
        for i in range(8):
            right[i] += row[i] * off
            for j in range(i + 1):
                normal[i, j] += row[i] * row[j]


@inner
def _solved(normal, right, damping, p, radius, work, trial):  # type: ignore[no-untyped-def]
    """The parameters after a damped step, within what makes sense, into trial; False where there is none."""
    for i in range(8):
        trial[i] = right[i]
        for j in range(i + 1):
            work[i, j] = normal[i, j]
        work[i, i] = work[i, i] * (1.0 + damping) + 1e-9
    if not cholesky(work, 8):
        return False
    cholesky_solve(work, trial, 8)
    for i in range(8):
        trial[i] += p[i]
    trial[2] = min(max(trial[2], np.log(0.25)), np.log(3.0 * radius))
    trial[3] = min(max(trial[3], np.log(_LEAST * 1.01)), np.log(_MOST * 0.99))
    return True


@kernel
def _fit_band(pixels, table, starts, wide, first, last, out):  # type: ignore[no-untyped-def]
    """Each spot from its start (n, 4): x, y, radius, contrast; into out (n, 8): x, y, blur, radius of the disc, contrast,
    variances of x and y, mean squared residual. The last is negative where the fit did not end well."""
    p, trial, row = np.empty(8), np.empty(8), np.empty(8)
    normal, work, right, place = np.empty((8, 8)), np.empty((8, 8)), np.empty(8), np.empty(3)
    for n in range(first, last):
        radius = starts[n, 2]
        side = 2 * int(np.ceil(wide * radius + _BEYOND)) + 3
        values, places = np.empty(side * side), np.empty((2, side * side))
        count, ground = _window(pixels, starts[n], wide, values, places)
        out[n, 7] = -1.0
        if count < 12:
            continue
        p[:] = 0.0
        # Between a Gaussian and a disc.
        p[2], p[3], p[4], p[7] = np.log(max(radius / 2.0, 0.3)), np.log(1.6), ground, starts[n, 3]
        best = _residual(table, p, values, places, count, place, row)
        damping, good = 1e-2, True
        for _round in range(_ROUNDS):
            _accumulate(table, p, values, places, count, place, row, normal, right)
            moved, step = False, 0.0
            for _try in range(7):
                if _solved(normal, right, damping, p, radius, work, trial):
                    after = _residual(table, trial, values, places, count, place, row)
                    if after <= best:
                        step = max(abs(trial[0] - p[0]), abs(trial[1] - p[1]), radius * abs(trial[2] - p[2]))
                        moved = after < best * (1.0 - 1e-6)
                        for i in range(8):
                            p[i] = trial[i]
                        best, damping = after, max(0.2 * damping, 1e-9)
                        break
                damping *= 6.0
            if np.hypot(p[0], p[1]) > 0.8 * radius + 0.5:
                good = False
                break
            if not moved or step < 1e-3:
                break
        for i in range(8):
            normal[i, i] += 1e-9
        blur = np.exp(p[2])
        out[n, 0], out[n, 1], out[n, 2] = starts[n, 0] + p[0], starts[n, 1] + p[1], blur
        out[n, 3], out[n, 4] = blur * np.exp(p[3]), p[7]
        if good and cholesky(normal, 8):
            variance = best * count / max(count - 8.0, 1.0)
            for axis in range(2):
                right[:] = 0.0
                right[axis] = 1.0
                cholesky_solve(normal, right, 8)
                out[n, 5 + axis] = variance * right[axis]
            out[n, 7] = best


@dataclass(frozen=True)
class Spots:
    """One entry a spot, in px of the image that was fitted."""

    x: Floats
    y: Floats
    radius: Floats
    """Of the disc; sqrt(2) standard deviations of a Gaussian spot."""
    contrast: Floats
    """Of the middle against the ground, grey levels."""
    x_std: Floats
    y_std: Floats
    residual: Floats
    """Root mean square, grey levels."""
    sharpness: Floats
    """Radius of the disc over its blur: below about 1.5 as smooth as a Gaussian."""
    good: NDArray[np.bool_]
    """Whether the fit ended well; else the start is given."""


def fit_spots(pixels: NDArray[Any], x: Floats, y: Floats, radius: Floats, contrast: Floats) -> Spots:
    """Fit spots to an image (H, W) from about where they are. `radius` in px, `contrast` in grey levels with its sign."""
    starts = np.ascontiguousarray(np.stack([x, y, radius, contrast], axis=1), np.float64)
    plane = np.ascontiguousarray(pixels, np.float32)
    out = _fitted(plane, starts, _WIDE)
    crowded = np.flatnonzero((out[:, 7] < 0) | (out[:, 7] > (_CROWDED * out[:, 4]) ** 2))
    again = _fitted(plane, starts[crowded], _NARROW)
    better = (again[:, 7] >= 0) & ((out[crowded, 7] < 0) | (again[:, 7] < 0.5 * out[crowded, 7]))
    out[crowded[better]] = again[better]
    blur, disc = np.maximum(out[:, 2], 1e-9), out[:, 3]
    # A small disc under a wide blur is as good as a Gaussian, whose radius is that of the best response.
    as_gaussian = np.sqrt(disc**2 / 2 + np.sqrt(disc**4 / 4 + 4 * blur**4))
    share = np.clip((disc / blur - _DISC[0]) / (_DISC[1] - _DISC[0]), 0.0, 1.0)
    share = share**2 * (3 - 2 * share)
    found = as_gaussian * (1 - share) + disc * share
    good = (out[:, 7] >= 0) & (np.sign(out[:, 4]) == np.sign(contrast)) & (found < 2.5 * radius) & (found > 0.3 * radius)
    rough = 0.3 * np.asarray(radius)

    def chosen(fitted: Floats, otherwise: Any) -> Floats:
        return np.where(good, fitted, otherwise)

    return Spots(
        chosen(out[:, 0], x), chosen(out[:, 1], y), chosen(found, radius), chosen(out[:, 4], contrast),
        chosen(np.sqrt(np.maximum(out[:, 5], 0)), rough), chosen(np.sqrt(np.maximum(out[:, 6], 0)), rough),
        np.sqrt(np.maximum(out[:, 7], 0)), np.where(good, disc / blur, 0.0), good,
    )  # fmt: skip


def _fitted(plane: NDArray[np.float32], starts: Floats, wide: float) -> Floats:
    """(n, 8): what `_fit_band` finds."""
    out, table = np.zeros((len(starts), 8)), _profiles()
    over_bands(lambda first, last: _fit_band(plane, table, starts, wide, first, last, out), len(starts), band_height=32)
    return out


def fitted_octave(radius: Floats) -> NDArray[np.int64]:
    """How many times an image is halved before a spot of that radius (px) is fitted: so that it is some pixels across."""
    return np.maximum(np.ceil(np.log2(np.maximum(radius, 1e-9) / 9.0)), 0).astype(np.int64)
