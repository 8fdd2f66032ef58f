"""Neighbourhood filters over whole images, mirrored at the border: separable kernels, box means, any kernel, bilateral."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.gradients import mirror_indices
from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]

_MOST_TAPS = 600
"""Kernels of more coefficients that are no product of a column and a row go through the Fourier transform."""

_BOX_BAND = 540
"""Rows a band of running sums: each band starts with a whole window of rows."""


@kernel
def _separable_band(pixels, rows, columns, down, across, top, bottom, out):  # type: ignore[no-untyped-def]
    """Rows top .. bottom-1 correlated with any odd kernels `down` (along y) and `across` (along x)."""
    margin = across.size // 2
    width = pixels.shape[1]
    padded = np.empty(width + 2 * margin, np.float32)
    middle = padded[margin : margin + width]
    for y in range(top, bottom):
        middle[:] = np.float32(0)
        for k in range(down.size):
            weight = down[k]
            if weight == 0:
                continue
            row = pixels[rows[y + k]]
            for x in range(width):
                middle[x] += weight * np.float32(row[x])
        for x in range(margin):
            padded[x] = padded[columns[x] + margin]
            padded[width + margin + x] = padded[columns[width + margin + x] + margin]
        result = out[y - top]
        result[:] = np.float32(0)
        for k in range(across.size):
            weight = across[k]
            if weight == 0:
                continue
            shifted = padded[k : k + width]
            for x in range(width):
                result[x] += weight * shifted[x]


def separable(pixels: NDArray[Any], down: NDArray[Any], across: NDArray[Any]) -> Plane:
    """(H, W) float32: `pixels` (uint8, uint16 or float32) correlated with `down` along y and `across` along x.

    Both kernels are of odd length; the cost grows with the sum of their lengths.
    """
    height, width = pixels.shape
    rows, columns = mirror_indices(height, len(down) // 2), mirror_indices(width, len(across) // 2)
    one, other = down.astype(np.float32), across.astype(np.float32)
    out = np.empty((height, width), np.float32)
    over_bands(lambda top, bottom: _separable_band(pixels, rows, columns, one, other, top, bottom, out[top:bottom]), height)
    return out


@kernel
def _correlate_band(pixels, rows, columns, coefficients, top, bottom, out):  # type: ignore[no-untyped-def]
    width = pixels.shape[1]
    margin = coefficients.shape[1] // 2
    padded = np.empty(width + 2 * margin, np.float32)
    for y in range(top, bottom):
        result = out[y - top]
        result[:] = np.float32(0)
        for i in range(coefficients.shape[0]):
            row = pixels[rows[y + i]]
            inner = padded[margin : margin + width]
            for x in range(width):
                inner[x] = np.float32(row[x])
            for x in range(margin):
                padded[x] = padded[columns[x] + margin]
                padded[width + margin + x] = padded[columns[width + margin + x] + margin]
            for j in range(coefficients.shape[1]):
                weight = coefficients[i, j]
                if weight == 0:
                    continue
                shifted = padded[j : j + width]
                for x in range(width):
                    result[x] += weight * shifted[x]


def correlated(pixels: NDArray[Any], coefficients: NDArray[np.float64]) -> Plane:
    """(H, W) float32: the sum over the neighbourhood of pixel times coefficient, applied as written (no flip).

    `coefficients` (odd, odd). One that is the product of a column and a row (rank 1) is run as two passes.
    """
    u, s, v = np.linalg.svd(coefficients)
    if min(coefficients.shape) > 1 and (len(s) == 1 or s[1] <= 1e-12 * s[0]):
        return separable(pixels, u[:, 0] * s[0], v[0])
    if coefficients.size > _MOST_TAPS:
        return _by_transform(pixels, coefficients)
    height, width = pixels.shape
    rows, columns = (mirror_indices(n, k // 2) for n, k in zip(pixels.shape, coefficients.shape, strict=True))
    weights = coefficients.astype(np.float32)
    out = np.empty((height, width), np.float32)
    over_bands(lambda top, bottom: _correlate_band(pixels, rows, columns, weights, top, bottom, out[top:bottom]), height)
    return out


def _by_transform(pixels: NDArray[Any], coefficients: NDArray[np.float64]) -> Plane:
    """`correlated` through the Fourier transform, whose time hardly depends on the size of the kernel."""
    from scipy import fft

    down, across = (n // 2 for n in coefficients.shape)
    rows, columns = mirror_indices(pixels.shape[0], down), mirror_indices(pixels.shape[1], across)
    padded = pixels[rows][:, columns].astype(np.float64)
    shape = [fft.next_fast_len(n, real=True) for n in padded.shape]
    spectrum = fft.rfft2(padded, shape)
    spectrum *= np.conj(fft.rfft2(coefficients, shape))
    return np.ascontiguousarray(fft.irfft2(spectrum, shape)[: pixels.shape[0], : pixels.shape[1]], np.float32)


@kernel
def _byte_box_band(pixels, rows, columns, size, top, bottom, out):  # type: ignore[no-untyped-def]
    """Box means of bytes. Sums run down the columns and then along the row; three rows share one 64-bit number, so that one
    chain of additions serves them all (what is subtracted was added before: no part ever borrows from the next)."""
    width = pixels.shape[1]
    radius = size // 2
    length = width + 2 * radius
    share = np.float32(1.0 / (size * size))
    part = np.uint64(0x1FFFFF)
    sums = np.zeros(width, np.uint32)
    packed = np.zeros(length + 1, np.uint64)
    middle, ahead = packed[radius : radius + width], packed[size:]
    totals = np.empty(width, np.uint64)
    # As they were a row earlier, in numbers that wrap around; so that every row begins alike.
    for k in range(size - 1):
        row = pixels[rows[top + k]]
        for x in range(width):
            sums[x] += row[x]
    before = pixels[rows[max(top - 1, 0)]]
    for x in range(width):
        sums[x] += before[x]
    for y in range(top, bottom, 3):
        # Beyond the last row of a band stands that row; the first of those that share it is written last.
        y1, y2 = min(y + 1, bottom - 1), min(y + 2, bottom - 1)
        gone, come = pixels[rows[max(y - 1, 0)]], pixels[rows[y + 2 * radius]]
        gone1, come1 = pixels[rows[max(y1 - 1, 0)]], pixels[rows[y1 + 2 * radius]]
        gone2, come2 = pixels[rows[max(y2 - 1, 0)]], pixels[rows[y2 + 2 * radius]]
        for x in range(width):
            a = np.uint32(sums[x] + np.uint32(come[x]) - np.uint32(gone[x]))
            b = np.uint32(a + np.uint32(come1[x]) - np.uint32(gone1[x]))
            c = np.uint32(b + np.uint32(come2[x]) - np.uint32(gone2[x]))
            sums[x] = c
            middle[x] = np.uint64(a) | (np.uint64(b) << np.uint64(21)) | (np.uint64(c) << np.uint64(42))
        for x in range(radius):
            packed[x] = middle[columns[x]]
            packed[width + radius + x] = middle[columns[width + radius + x]]
        total = np.uint64(0)
        for x in range(size):
            total += packed[x]
        for x in range(width):
            totals[x] = ahead[x] - packed[x]
        for x in range(width):
            step = totals[x]
            totals[x] = total
            total += step
        first, second, third = out[y - top], out[y1 - top], out[y2 - top]
        for x in range(width):
            all_three = totals[x]
            third[x] = np.float32(np.int32(all_three >> np.uint64(42))) * share
            second[x] = np.float32(np.int32((all_three >> np.uint64(21)) & part)) * share
            first[x] = np.float32(np.int32(all_three & part)) * share


@kernel
def _real_box_band(pixels, rows, columns, size, top, bottom, out):  # type: ignore[no-untyped-def]
    """Box means of any type, summed as float64; two rows at a time, since each addition waits for the one before."""
    width = pixels.shape[1]
    radius = size // 2
    length = width + 2 * radius
    share = 1.0 / (size * size)
    above, below = np.zeros(length + 1), np.zeros(length + 1)
    upper, lower = above[radius : radius + width], below[radius : radius + width]
    above_ahead, below_ahead = above[size:], below[size:]
    for k in range(size):
        row = pixels[rows[top + k]]
        for x in range(width):
            upper[x] += row[x]
    for y in range(top, bottom, 2):
        if y > top:
            gone, come = pixels[rows[y - 1]], pixels[rows[y + 2 * radius]]
            for x in range(width):
                upper[x] = lower[x] + come[x] - gone[x]
        other = min(y + 1, bottom - 1)
        gone, come = pixels[rows[other - 1]], pixels[rows[other + 2 * radius]]
        for x in range(width):
            lower[x] = upper[x] + come[x] - gone[x]
        for x in range(radius):
            above[x], above[width + radius + x] = upper[columns[x]], upper[columns[width + radius + x]]
            below[x], below[width + radius + x] = lower[columns[x]], lower[columns[width + radius + x]]
        one, two = 0.0, 0.0
        for x in range(size):
            one += above[x]
            two += below[x]
        first, second = out[y - top], out[other - top]
        # Where both are one row, the first is written last.
        for x in range(width):
            second[x] = two * share
            first[x] = one * share
            two += below_ahead[x] - below[x]
            one += above_ahead[x] - above[x]


def box_mean(pixels: NDArray[Any], size: int) -> Plane:
    """(H, W) float32: the mean over the square of `size` (odd) px about each pixel; the cost hardly grows with the size.

    Sums are whole numbers for bytes up to 89 px, else float64.
    """
    height, width = pixels.shape
    rows, columns = mirror_indices(height, size // 2), mirror_indices(width, size // 2)
    # Three sums of bytes fit 63 bits up to here.
    band = _byte_box_band if pixels.dtype == np.uint8 and 255 * size * size < 1 << 21 else _real_box_band
    out = np.empty((height, width), np.float32)
    over_bands(lambda top, bottom: band(pixels, rows, columns, size, top, bottom, out[top:bottom]), height, band_height=_BOX_BAND)
    return out


@helper
def _decay(t):  # type: ignore[no-untyped-def]
    """exp(-t) for t >= 0 to 2e-6: a polynomial for exp(-t / 16), squared four times, since nothing here vectorises exp."""
    u = min(t, np.float32(24.0)) * np.float32(-0.0625)
    p = np.float32(1.0) + u * (
        np.float32(1.0)
        + u
        * (
            np.float32(0.5)
            + u
            * (
                np.float32(1 / 6)
                + u * (np.float32(1 / 24) + u * (np.float32(1 / 120) + u * (np.float32(1 / 720) + u * np.float32(1 / 5040))))
            )
        )
    )
    p = p * p
    p = p * p
    p = p * p
    return p * p


@kernel
def _bilateral_band(pixels, rows, columns, offsets, weights, fall, top, bottom, out):  # type: ignore[no-untyped-def]
    """Each pair of offset and its opposite is one entry of `offsets`."""
    width = pixels.shape[1]
    radius = (rows.size - pixels.shape[0]) // 2
    high = bottom - top + 2 * radius
    padded = np.empty((high, width + 2 * radius), np.float32)
    for i in range(high):
        row = pixels[rows[top + i]]
        for x in range(width + 2 * radius):
            padded[i, x] = np.float32(row[columns[x]])
    total = np.empty(width, np.float32)
    for y in range(bottom - top):
        middle = padded[y + radius, radius:]
        result = out[y]
        for x in range(width):
            result[x] = middle[x]
            total[x] = np.float32(1.0)
        for n in range(weights.size):
            dy, dx = offsets[n, 0], offsets[n, 1]
            one, other = padded[y + radius + dy, radius + dx :], padded[y + radius - dy, radius - dx :]
            weight = weights[n]
            for x in range(width):
                a = one[x] - middle[x]
                b = other[x] - middle[x]
                wa = weight * _decay(a * a * fall)
                wb = weight * _decay(b * b * fall)
                result[x] += wa * one[x] + wb * other[x]
                total[x] += wa + wb
        for x in range(width):
            result[x] /= total[x]


def bilateral(pixels: NDArray[Any], sigma: float, range_sigma: float) -> Plane:
    """(H, W) float32: a mean weighted by distance (Gaussian of `sigma` px, cut at 2 sigma) and by difference in grey level
    (Gaussian of `range_sigma` grey levels). Tomasi and Manduchi, "Bilateral filtering for gray and color images", ICCV 1998.
    """
    offsets, weights = bilateral_offsets(sigma)
    height, width = pixels.shape
    radius = int(offsets.max(initial=0))
    rows, columns = mirror_indices(height, radius), mirror_indices(width, radius)
    fall = np.float32(0.5 / range_sigma**2)
    out = np.empty((height, width), np.float32)
    over_bands(
        lambda top, bottom: _bilateral_band(pixels, rows, columns, offsets, weights, fall, top, bottom, out[top:bottom]), height
    )
    return out


def bilateral_offsets(sigma: float) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """Half of the neighbours (row, column) within 2 sigma, the other half being opposite, and their weights."""
    radius = max(1, math.ceil(2 * sigma))
    places = [
        (dy, dx)
        for dy in range(radius + 1)
        for dx in range(-radius, radius + 1)
        if (dy > 0 or dx > 0) and dy * dy + dx * dx <= (radius + 0.5) ** 2
    ]
    offsets = np.array(places, np.int64)
    return offsets, np.exp(-0.5 * (offsets**2).sum(axis=1) / max(sigma, 1e-3) ** 2).astype(np.float32)
