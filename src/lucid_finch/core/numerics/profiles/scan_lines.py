"""Grey levels along many scan lines at once, averaged across each, and their derivative."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.gradients import gaussian_kernel
from lucid_finch.core.numerics.masks import kernel_mask
from lucid_finch.core.numerics.profiles.sampling import sample_inside, sample_one
from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Values = NDArray[np.float32]


def slope_kernel(sigma: float) -> NDArray[np.float64]:
    """Derivative of a Gaussian of `sigma` samples, to be correlated with; a ramp of 1 a sample gives 1."""
    line = gaussian_kernel(sigma)
    k = np.arange(len(line)) - len(line) // 2
    derive = k * line
    return np.asarray(derive / (derive * k).sum())


@dataclass(frozen=True)
class ScanLines:
    """Scan lines in the frame of the image they are read from: start, step along and step across, (n, 2) each."""

    start: NDArray[np.float64]
    along: NDArray[np.float64]
    across: NDArray[np.float64]
    count: int
    """Samples a line."""


@kernel
def _sample_band(pixels, mask, start, along, across, lines, top, bottom, out):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    masked = mask.shape[0] == height
    count = out.shape[1]
    flat = pixels.reshape(-1)
    us, vs, values = np.empty(count), np.empty(count), np.empty(count, np.float32)
    places, shares, corners = np.empty(count, np.int32), np.empty((2, count), np.float32), np.empty((4, count), np.float32)
    for s in range(top, bottom):
        row = out[s - top]
        inside = not masked and width > 1 and height > 1
        # A scan whose ends and sides lie between pixel centres does so everywhere: nothing to ask a sample.
        for k in (0, count - 1):
            for off in (-(lines - 1) * 0.5, (lines - 1) * 0.5):
                u = start[s, 0] + k * along[s, 0] + off * across[s, 0]
                v = start[s, 1] + k * along[s, 1] + off * across[s, 1]
                inside &= 0.0 <= u <= width - 1.0 and 0.0 <= v <= height - 1.0
        row[:] = np.float32(0)
        for j in range(lines):
            off = j - (lines - 1) * 0.5
            u0, v0 = start[s, 0] + off * across[s, 0], start[s, 1] + off * across[s, 1]
            for k in range(count):
                us[k], vs[k] = u0 + np.float64(np.int32(k)) * along[s, 0], v0 + np.float64(np.int32(k)) * along[s, 1]
            if inside:
                sample_inside(flat, width, height, us, vs, count, places, shares, corners, values)
            else:
                for k in range(count):
                    values[k] = sample_one(pixels, mask, masked, us[k], vs[k])
            for k in range(count):
                row[k] += values[k]
        for k in range(count):
            row[k] /= np.float32(lines)


def sample_scans(pixels: NDArray[Any], mask: NDArray[np.bool_] | None, scans: ScanLines, lines: int) -> Values:
    """(n, count) float32: grey levels along each line, linear between pixels, the mean of `lines` parallel ones; NaN where
    one of them leaves the image or meets an invalid pixel."""
    valid = kernel_mask(mask, pixels.shape[0])
    out = np.empty((len(scans.start), scans.count), np.float32)
    over_bands(
        lambda top, bottom: _sample_band(
            pixels, valid, scans.start, scans.along, scans.across, lines, top, bottom, out[top:bottom]
        ),
        len(out),
    )
    return out


@kernel
def _slope_band(profiles, weights, top, bottom, out):  # type: ignore[no-untyped-def]
    radius = weights.size // 2
    count = profiles.shape[1]
    for s in range(top, bottom):
        row, result = profiles[s], out[s - top]
        result[:] = np.float32(np.nan)
        inner = result[radius : count - radius]
        inner[:] = np.float32(0)
        for j in range(weights.size):
            weight = weights[j]
            shifted = row[j : j + count - 2 * radius]
            for k in range(inner.size):
                inner[k] += weight * shifted[k]


def slopes(profiles: Values, weights: NDArray[np.float64]) -> Values:
    """(n, count) float32: profiles correlated with an odd kernel; NaN where it would reach beyond an end or meets NaN."""
    out = np.empty_like(profiles)
    line = weights.astype(np.float32)
    over_bands(lambda top, bottom: _slope_band(profiles, line, top, bottom, out[top:bottom]), len(out))
    return out


@kernel
def _find_extrema(slope, least, scan, at, values):  # type: ignore[no-untyped-def]
    found = 0
    room = scan.size
    for s in range(slope.shape[0]):
        row = slope[s]
        for k in range(1, row.size - 1):
            here, before, after = abs(row[k]), abs(row[k - 1]), abs(row[k + 1])
            if (here >= least) & (here > before) & (here >= after):
                if found < room:
                    scan[found], at[found] = s, k
                    values[found, 0], values[found, 1], values[found, 2] = before, here, after
                found += 1
    return found


def find_extrema(slope: Values, least: float) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float64]]:
    """Scan, sample, and sizes before, at and after (n, 3) of every local extremum of the slope of at least `least`."""
    room = max(1024, 12 * len(slope))
    scan, at, values = np.empty(room, np.int64), np.empty(room, np.int64), np.empty((room, 3))
    found = _find_extrema(slope, np.float32(least), scan, at, values)
    if found > room:
        scan, at, values = np.empty(found, np.int64), np.empty(found, np.int64), np.empty((found, 3))
        found = _find_extrema(slope, np.float32(least), scan, at, values)
    return scan[:found], at[:found], values[:found]
