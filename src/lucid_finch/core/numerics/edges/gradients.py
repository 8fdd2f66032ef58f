"""Separable gradient operators, normalised so that a ramp of one grey level per pixel gives 1, and their planes.

An operator is a pair of odd one-dimensional kernels of one length: `smooth` (even, sums to 1) runs across the
differentiated axis and `derive` (odd, first moment 1) along it, both as correlations. Each carries the Gaussian of the
requested sigma, so one fused kernel serves every operator. The Gaussian's own pair is the sampled Gaussian and its sampled
derivative (Canny, "A computational approach to edge detection", PAMI 8(6), 1986).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

OPERATORS = ("gaussian", "sobel", "scharr", "prewitt", "difference")

_ACROSS = {"sobel": (1.0, 2.0, 1.0), "scharr": (3.0, 10.0, 3.0), "prewitt": (1.0, 1.0, 1.0), "difference": (0.0, 1.0, 0.0)}

Kernel1D = NDArray[np.float32]


def gaussian_kernel(sigma: float) -> NDArray[np.float64]:
    """Sampled Gaussian of standard deviation `sigma` (px), cut at 3.5 sigma, summing to 1; `[1]` for sigma 0."""
    if sigma <= 0:
        return np.ones(1)
    radius = max(1, int(3.5 * sigma + 0.5))
    offsets = np.arange(-radius, radius + 1)
    weights = np.exp(-0.5 * (offsets / max(sigma, 1e-3)) ** 2)
    return np.asarray(weights / weights.sum())


def operator_kernels(operator: str, sigma: float) -> tuple[Kernel1D, Kernel1D]:
    """The pair (smooth, derive) of one operator after a Gaussian of `sigma` px, float32, of equal odd length."""
    blur = gaussian_kernel(sigma)
    if operator == "gaussian":
        radius = max(1, len(blur) // 2)
        offsets = np.arange(-radius, radius + 1)
        smooth = np.zeros(2 * radius + 1)
        smooth[radius - len(blur) // 2 : radius + len(blur) // 2 + 1] = blur
        # Below 0.3 px the sampled derivative has no weight beside the centre: the central difference is its limit.
        derive: Any = offsets * np.maximum(smooth, np.where(np.abs(offsets) == 1, 1e-6, 0.0))
    else:
        across = np.array(_ACROSS[operator])
        smooth = np.convolve(blur, across / across.sum())
        derive = np.convolve(blur, [-0.5, 0.0, 0.5])
    derive = derive / np.sum(derive * np.arange(-(len(derive) // 2), len(derive) // 2 + 1))
    return smooth.astype(np.float32), derive.astype(np.float32)


def noise_gain(smooth: Kernel1D, derive: Kernel1D) -> float:
    """Standard deviation of one gradient component for white noise of standard deviation 1."""
    return float(np.sqrt(np.sum(smooth.astype(float) ** 2) * np.sum(derive.astype(float) ** 2)))


def mirror_indices(length: int, margin: int) -> NDArray[np.int64]:
    """Indices -margin .. length-1+margin folded about the centres of the edge pixels."""
    if length == 1:
        return np.zeros(1 + 2 * margin, np.int64)
    if margin < length:
        # Divisions of all of them would take as long as a filter's rows.
        found = np.arange(-margin, length + margin)
        found[:margin] = np.arange(margin, 0, -1)
        found[length + margin :] = np.arange(length - 2, length - 2 - margin, -1)
        return found
    period = 2 * (length - 1)
    folded: Any = np.abs(np.arange(-margin, length + margin)) % period
    return np.asarray(np.where(folded >= length, period - folded, folded), np.int64)


@helper
def _tap(weights, k):  # type: ignore[no-untyped-def]
    """The weight k places from the middle, 0 beyond the end."""
    radius = weights.size // 2
    return weights[radius + k] if k <= radius else np.float32(0.0)


@helper
def gradient_row(pixels, rows, columns, y, smooth, derive, across, along, gx, gy):  # type: ignore[no-untyped-def]
    """One row of both components into gx, gy (length W); `across` and `along` are scratch rows of length W + 2 radius."""
    radius = smooth.size // 2
    width = pixels.shape[1]
    weight = smooth[radius]
    # Slices start at zero and so need no test for negative indices: with one, none of these loops is vectorised.
    centre = pixels[rows[y + radius]]
    inner_across = across[radius : radius + width]
    inner_along = along[radius : radius + width]
    # Two pairs of taps a pass halve the traffic to the accumulators (with four, the registers run out), and the first
    # pass stores instead of adding.
    for k in range(1, radius + 1, 2):
        further = min(k + 1, radius)
        above, below = pixels[rows[y + radius - k]], pixels[rows[y + radius + k]]
        above2, below2 = pixels[rows[y + radius - further]], pixels[rows[y + radius + further]]
        s, s2 = _tap(smooth, k), _tap(smooth, k + 1)
        d, d2 = _tap(derive, k), _tap(derive, k + 1)
        if k == 1:
            for x in range(width):
                a, b = np.float32(above[x]), np.float32(below[x])
                a2, b2 = np.float32(above2[x]), np.float32(below2[x])
                inner_across[x] = weight * np.float32(centre[x]) + s * (a + b) + s2 * (a2 + b2)
                inner_along[x] = d * (b - a) + d2 * (b2 - a2)
        else:
            for x in range(width):
                a, b = np.float32(above[x]), np.float32(below[x])
                a2, b2 = np.float32(above2[x]), np.float32(below2[x])
                inner_across[x] += s * (a + b) + s2 * (a2 + b2)
                inner_along[x] += d * (b - a) + d2 * (b2 - a2)
    for x in range(radius):
        first = columns[x] + radius
        last = columns[width + radius + x] + radius
        across[x] = across[first]
        along[x] = along[first]
        across[width + radius + x] = across[last]
        along[width + radius + x] = along[last]
    for k in range(1, radius + 1, 2):
        further = min(k + 1, radius)
        s, s2 = _tap(smooth, k), _tap(smooth, k + 1)
        d, d2 = _tap(derive, k), _tap(derive, k + 1)
        left, right = across[radius - k : radius - k + width], across[radius + k : radius + k + width]
        up, down = along[radius - k : radius - k + width], along[radius + k : radius + k + width]
        left2 = across[radius - further : radius - further + width]
        right2 = across[radius + further : radius + further + width]
        up2 = along[radius - further : radius - further + width]
        down2 = along[radius + further : radius + further + width]
        if k == 1:
            for x in range(width):
                gx[x] = d * (right[x] - left[x]) + d2 * (right2[x] - left2[x])
                gy[x] = weight * inner_along[x] + s * (down[x] + up[x]) + s2 * (down2[x] + up2[x])
        else:
            for x in range(width):
                gx[x] += d * (right[x] - left[x]) + d2 * (right2[x] - left2[x])
                gy[x] += s * (down[x] + up[x]) + s2 * (down2[x] + up2[x])


@kernel
def gradient_band(pixels, rows, columns, smooth, derive, top, bottom, gx, gy):  # type: ignore[no-untyped-def]
    """Both gradient components of rows top .. bottom-1 into the planes gx, gy (bottom - top rows, W columns)."""
    radius = smooth.size // 2
    width = pixels.shape[1]
    across = np.empty(width + 2 * radius, np.float32)
    along = np.empty(width + 2 * radius, np.float32)
    for y in range(top, bottom):
        gradient_row(pixels, rows, columns, y, smooth, derive, across, along, gx[y - top], gy[y - top])


@kernel
def smooth_band(pixels, rows, columns, down, across, top, bottom, out):  # type: ignore[no-untyped-def]
    """Rows top .. bottom-1 correlated with the even kernels `down` (along y) and `across` (along x), into `out`."""
    radius = down.size // 2
    margin = across.size // 2
    width = pixels.shape[1]
    padded = np.empty(width + 2 * margin, np.float32)
    middle = padded[margin : margin + width]
    for y in range(top, bottom):
        centre = pixels[rows[y + radius]]
        weight = down[radius]
        for x in range(width):
            middle[x] = weight * np.float32(centre[x])
        for k in range(1, radius + 1):
            above = pixels[rows[y + radius - k]]
            below = pixels[rows[y + radius + k]]
            weight = down[radius + k]
            for x in range(width):
                middle[x] += weight * (np.float32(above[x]) + np.float32(below[x]))
        for x in range(margin):
            padded[x] = padded[columns[x] + margin]
            padded[width + margin + x] = padded[columns[width + margin + x] + margin]
        result = out[y - top]
        weight = across[margin]
        for x in range(width):
            result[x] = weight * middle[x]
        for k in range(1, margin + 1):
            before = padded[margin - k : margin - k + width]
            after = padded[margin + k : margin + k + width]
            weight = across[margin + k]
            for x in range(width):
                result[x] += weight * (before[x] + after[x])


def smoothed(pixels: NDArray[np.generic], weights: NDArray[np.float64]) -> NDArray[np.float32]:
    """(H, W) float32: `pixels` (uint8, uint16 or float32) correlated with the even kernel `weights` along both axes."""
    height, width = pixels.shape
    line = weights.astype(np.float32)
    rows, columns = mirror_indices(height, len(line) // 2), mirror_indices(width, len(line) // 2)
    out = np.empty((height, width), np.float32)
    over_bands(lambda top, bottom: smooth_band(pixels, rows, columns, line, line, top, bottom, out[top:bottom]), height)
    return out


def gradient_planes(
    pixels: NDArray[np.generic], kernels: tuple[Kernel1D, Kernel1D]
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Both gradient components, (H, W) float32 in grey levels per pixel, mirrored at the border."""
    smooth, derive = kernels
    height, width = pixels.shape
    rows, columns = mirror_indices(height, len(smooth) // 2), mirror_indices(width, len(smooth) // 2)
    gx, gy = np.empty((height, width), np.float32), np.empty((height, width), np.float32)
    over_bands(
        lambda top, bottom: gradient_band(pixels, rows, columns, smooth, derive, top, bottom, gx[top:bottom], gy[top:bottom]),
        height,
    )
    return gx, gy


def magnitude(gx: NDArray[np.float32], gy: NDArray[np.float32]) -> NDArray[np.float32]:
    """(H, W) float32: the length of the gradient, without needless planes in between."""
    out = np.square(gx)
    out += np.square(gy)
    return np.asarray(np.sqrt(out, out=out))
