"""The structure tensor, the responses of corners that are made of it, and their maxima.

The tensor is the mean of the products of the gradient's components under a Gaussian window (Foerstner and Guelch, ISPRS
Intercommission Workshop 1987). Responses: det - k trace^2 (Harris and Stephens, Alvey Vision Conference 1988), the smaller
eigenvalue (Shi and Tomasi, CVPR 1994), det / trace (Foerstner and Guelch).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.gradients import (
    Kernel1D,
    gaussian_kernel,
    gradient_row,
    mirror_indices,
    operator_kernels,
)
from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]

RESPONSES = ("harris", "min_eigenvalue", "foerstner")


class Operator(NamedTuple):
    """What the response is computed with."""

    gradient: tuple[Kernel1D, Kernel1D]
    """Smoothing and derivative."""
    window: NDArray[np.float32]
    """Weights of the tensor's window along each axis; they sum to 1."""
    response: int
    """Number among `RESPONSES`."""
    k: float

    @property
    def margin(self) -> int:
        """px around a place that its response depends on."""
        return len(self.gradient[0]) // 2 + len(self.window) // 2


def operator(response: str, sigma_gradient: float, sigma_window: float, k: float) -> Operator:
    """The operator for Gaussians of these standard deviations, px."""
    window = gaussian_kernel(sigma_window).astype(np.float32)
    return Operator(operator_kernels("gaussian", sigma_gradient), window, RESPONSES.index(response), k)


@helper
def _window_row(planes, number, y, window, sums):  # type: ignore[no-untyped-def]
    """Weighted sum of one of the three planes of products over the rows around row y of the band, into sums."""
    m = window.size // 2
    width = sums.size
    centre = planes[y + m, number]
    weight = window[m]
    for x in range(width):
        sums[x] = weight * centre[x]
    for k in range(1, m + 1):
        w = window[m + k]
        above, below = planes[y + m - k, number], planes[y + m + k, number]
        for x in range(width):
            sums[x] += w * (above[x] + below[x])


@helper
def _window_columns(padded, window, width, out):  # type: ignore[no-untyped-def]
    m = window.size // 2
    weight = window[m]
    centre = padded[m : m + width]
    for x in range(width):
        out[x] = weight * centre[x]
    for k in range(1, m + 1):
        w = window[m + k]
        left, right = padded[m - k : m - k + width], padded[m + k : m + k + width]
        for x in range(width):
            out[x] += w * (left[x] + right[x])


@kernel
def _response_band(pixels, rows, columns, fold, smooth, derive, window, response, k, top, bottom, out):  # type: ignore[no-untyped-def]
    """Responses of rows top .. bottom-1 into out. `rows` are mirrored by the margin of both filters, `columns` by that of the
    gradient, `fold` by that of the window."""
    width = pixels.shape[1]
    m, radius = window.size // 2, smooth.size // 2
    count = bottom - top + 2 * m
    planes = np.empty((count, 3, width), np.float32)
    across, along = np.empty(width + 2 * radius, np.float32), np.empty(width + 2 * radius, np.float32)
    gx, gy = np.empty(width, np.float32), np.empty(width, np.float32)
    for n in range(count):
        gradient_row(pixels, rows, columns, top + n, smooth, derive, across, along, gx, gy)
        a, b, c = planes[n, 0], planes[n, 1], planes[n, 2]
        for x in range(width):
            a[x] = gx[x] * gx[x]
            b[x] = gx[x] * gy[x]
            c[x] = gy[x] * gy[x]
    padded = np.empty(width + 2 * m, np.float32)
    inner = padded[m : m + width]
    tensor = np.empty((3, width), np.float32)
    factor = np.float32(k)
    for y in range(bottom - top):
        for number in range(3):
            _window_row(planes, number, y, window, inner)
            # Mirrored, the gradient across changes its sign.
            sign = np.float32(-1.0 if number == 1 else 1.0)
            for x in range(m):
                padded[x] = sign * padded[fold[x] + m]
                padded[width + m + x] = sign * padded[fold[width + m + x] + m]
            _window_columns(padded, window, width, tensor[number])
        a, b, c, to = tensor[0], tensor[1], tensor[2], out[y]
        if response == 0:
            for x in range(width):
                trace = a[x] + c[x]
                to[x] = (a[x] * c[x] - b[x] * b[x]) - factor * (trace * trace)
        elif response == 1:
            for x in range(width):
                difference = a[x] - c[x]
                to[x] = np.float32(0.5) * (a[x] + c[x] - np.sqrt(difference * difference + np.float32(4) * (b[x] * b[x])))
        else:
            for x in range(width):
                to[x] = (a[x] * c[x] - b[x] * b[x]) / (a[x] + c[x] + np.float32(1e-20))


def response_plane(pixels: NDArray[Any], op: Operator, cancelled: Callable[[], bool] | None = None) -> Plane:
    """(H, W) float32: the response at every pixel; the image is mirrored at its border. Harris in grey levels^4 per px^4, the
    others in grey levels^2 per px^2. Raises `Cancelled`."""
    height, width = pixels.shape
    (smooth, derive), window = op.gradient, op.window
    radius, m = len(smooth) // 2, len(window) // 2
    rows, columns, fold = mirror_indices(height, radius + m), mirror_indices(width, radius), mirror_indices(width, m)
    out = np.empty((height, width), np.float32)
    over_bands(
        lambda top, bottom: _response_band(
            pixels, rows, columns, fold, smooth, derive, window, op.response, op.k, top, bottom, out[top:bottom]
        ),
        height,
        cancelled,
        64,
    )
    return out


@kernel
def _maxima_band(plane, masked, least, margin, top, bottom, rows, columns):  # type: ignore[no-untyped-def]
    """Pixels above `least` that no neighbour exceeds, at least `margin` px within the plane; returns how many."""
    height, width = plane.shape
    use_mask = masked.shape[0] == height
    found = 0
    peak = np.empty(width, np.uint8)
    first, last = max(margin, 1), width - max(margin, 1)
    for y in range(max(top, margin, 1), min(bottom, height - max(margin, 1))):
        above, here, below = plane[y - 1], plane[y], plane[y + 1]
        # Of equal neighbours the first in reading order is the peak. In a loop of its own, which is vectorised.
        for x in range(1, width - 1):
            value = here[x]
            first_three = max(max(above[x - 1], above[x]), max(above[x + 1], here[x - 1]))
            last_three = max(max(below[x - 1], below[x]), max(below[x + 1], here[x + 1]))
            peak[x] = (value > least) & (value > first_three) & (value >= last_three)
        for x in range(first, last):
            if peak[x] and not (use_mask and masked[y, x]):
                rows[found], columns[found] = y, x
                found += 1
    return found


def maxima(
    plane: Plane, least: float, margin: int, masked: NDArray[np.uint8] | None, cancelled: Callable[[], bool] | None = None
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Rows and columns of the local maxima above `least`, in reading order; none within `margin` px of the border, nor where
    `masked` is not 0."""
    blocked = np.zeros((0, 0), np.uint8) if masked is None else masked

    def band(top: int, bottom: int) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
        most = (bottom - top + 1) // 2 * (plane.shape[1] // 2 + 1) + plane.shape[1]
        rows, columns = np.empty(most, np.int32), np.empty(most, np.int32)
        count = _maxima_band(plane, blocked, np.float32(least), margin, top, bottom, rows, columns)
        return rows[:count].copy(), columns[:count].copy()

    parts = over_bands(band, plane.shape[0], cancelled, 128)
    return np.concatenate([r for r, _ in parts]), np.concatenate([c for _, c in parts])


@dataclass(frozen=True)
class Tensors:
    """Structure tensors at some places, one entry a place."""

    xx: NDArray[np.float64]
    xy: NDArray[np.float64]
    yy: NDArray[np.float64]

    @property
    def trace(self) -> NDArray[np.float64]:
        return self.xx + self.yy

    @cached_property
    def least(self) -> NDArray[np.float64]:
        """The smaller eigenvalue."""
        return np.maximum(0.5 * (self.trace - np.sqrt((self.xx - self.yy) ** 2 + 4 * self.xy**2)), 0.0)

    @property
    def direction(self) -> NDArray[np.float64]:
        """Radians: along which the gradient is that of the smaller eigenvalue."""
        return 0.5 * np.arctan2(2 * self.xy, self.xx - self.yy) + 0.5 * np.pi

    @property
    def isotropy(self) -> NDArray[np.float64]:
        """4 det / trace^2: 1 where the gradient has all directions alike, 0 on a straight edge."""
        most = self.trace - self.least
        return np.asarray(4 * self.least * most / np.maximum(self.trace**2, 1e-30))


@kernel
def _tensors_band(pixels, smooth, derive, window, rows, columns, first, last, out):  # type: ignore[no-untyped-def]
    """xx, xy and yy of the tensor at each place, into out (3, n)."""
    height, width = pixels.shape
    m, radius = window.size // 2, smooth.size // 2
    side = 2 * m + 1
    reach = m + radius
    patch = np.empty((side + 2 * radius, side + 2 * radius), np.float32)
    low, high = np.empty((side, side + 2 * radius), np.float32), np.empty((side, side + 2 * radius), np.float32)
    for n in range(first, last):
        for j in range(patch.shape[0]):
            y = min(max(rows[n] + j - reach, 0), height - 1)
            for i in range(patch.shape[1]):
                patch[j, i] = pixels[y, min(max(columns[n] + i - reach, 0), width - 1)]
        for j in range(side):
            low[j, :] = np.float32(0)
            high[j, :] = np.float32(0)
            for t in range(2 * radius + 1):
                s, d = smooth[t], derive[t]
                line = patch[j + t]
                for i in range(line.size):
                    low[j, i] += s * line[i]
                    high[j, i] += d * line[i]
        xx = xy = yy = 0.0
        for j in range(side):
            for i in range(side):
                gx = gy = np.float32(0)
                for t in range(2 * radius + 1):
                    gx += derive[t] * low[j, i + t]
                    gy += smooth[t] * high[j, i + t]
                w = window[j] * window[i]
                xx += float(w * gx * gx)
                xy += float(w * gx * gy)
                yy += float(w * gy * gy)
        out[0, n], out[1, n], out[2, n] = xx, xy, yy


def tensors_at(
    pixels: NDArray[Any], rows: NDArray[np.int32], columns: NDArray[np.int32], sigma_gradient: float, sigma_window: float
) -> Tensors:
    """The structure tensors at some pixels."""
    smooth, derive = operator_kernels("gaussian", sigma_gradient)
    window = gaussian_kernel(sigma_window).astype(np.float32)
    out = np.empty((3, len(rows)))
    over_bands(
        lambda first, last: _tensors_band(pixels, smooth, derive, window, rows, columns, first, last, out),
        len(rows),
        band_height=64,
    )
    return Tensors(*out)
