"""Measures how strong and how correlated the gradient of the image's own background is: noise, grain and texture alike.

In a background that is a Gaussian random field the gradient magnitude follows a Rayleigh law, so any quantile of it gives
its scale; a low one is little disturbed by the edges that cross a block. The correlation is taken from how often a
component keeps its sign over a distance (the arcsine law, Van Vleck and Middleton, Proc. IEEE 54, 1966), which does not
depend on strengths at all.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics import threads
from lucid_finch.core.numerics.compiling import kernel
from lucid_finch.core.numerics.gradients import Kernel1D, gradient_row, mirror_indices, noise_gain

BLOCK = 64
"""Side of the squares, in pixels, over which the background is measured."""

_OCTAVE = 8
_BINS = 80 * _OCTAVE
_LOWEST = -40


@dataclass(frozen=True)
class Background:
    """Gradient statistics of the background."""

    scale: NDArray[np.float32]
    """Standard deviation of one gradient component, grey levels per pixel; (rows, columns) of blocks."""
    correlation: float
    """Width s of the equivalent white noise smoothed by a Gaussian of s px."""
    typical: float
    """Median of `scale`."""

    @property
    def nbytes(self) -> int:
        return self.scale.nbytes


@kernel
def _sample_band(pixels, blocked, rows, columns, smooth, derive, top, bottom, step, lag, counts, same, seen):  # type: ignore[no-untyped-def]
    """Histograms of log2 |gradient|^2 of one row of blocks, and how often components keep their sign over `lag` px.

    counts (block columns, bins); same and seen (block columns, 2): the y component along x, the x component along y.
    """
    radius = smooth.size // 2
    height, width = pixels.shape
    use_blocked = blocked.shape[0] == height
    across = np.empty(width + 2 * radius, np.float32)
    along = np.empty(width + 2 * radius, np.float32)
    gx = np.empty(width, np.float32)
    gy = np.empty(width, np.float32)
    below = np.empty(width, np.float32)
    spare = np.empty(width, np.float32)
    squared = np.empty(width, np.float32)
    place = np.empty(width, np.int32)
    bits = squared.view(np.int32)
    first_row = top + step // 2
    for y in range(first_row, bottom, step):
        gradient_row(pixels, rows, columns, y, smooth, derive, across, along, gx, gy)
        for x in range(width):
            squared[x] = gx[x] * gx[x] + gy[x] * gy[x]
        for x in range(width):
            # The exponent and the first three bits of the mantissa: eight bins an octave.
            p = (bits[x] >> np.int32(20)) - np.int32((127 + _LOWEST) * _OCTAVE)
            place[x] = min(max(p, np.int32(0)), np.int32(_BINS - 1))
        pair = (y - first_row) // step % 2 == 0 and y + lag < height
        if pair:
            gradient_row(pixels, rows, columns, y + lag, smooth, derive, across, along, below, spare)
        for block in range(counts.shape[0]):
            first = block * BLOCK
            last = min(first + BLOCK, width)
            histogram = counts[block]
            for x in range(first, last):
                histogram[place[x]] += 1
            if use_blocked:
                for x in range(first, last):
                    histogram[place[x]] -= blocked[y, x] != 0
            agree = np.int32(0)
            valid = np.int32(0)
            here = gy[first : max(last - lag, first)]
            there = gy[min(first + lag, last) : last]
            for i in range(here.size):
                product = here[i] * there[i]
                agree += np.int32(product > 0)
                valid += np.int32(product != 0)
            same[block, 0] += agree
            seen[block, 0] += valid
            if pair:
                agree = np.int32(0)
                valid = np.int32(0)
                here = gx[first:last]
                there = below[first:last]
                for i in range(here.size):
                    product = here[i] * there[i]
                    agree += np.int32(product > 0)
                    valid += np.int32(product != 0)
                same[block, 1] += agree
                seen[block, 1] += valid


def _quantile(counts: NDArray[np.int64], share: float) -> NDArray[np.float64]:
    """Squared magnitude below which `share` of each row of histograms lies; 0 where a row is empty."""
    running = np.cumsum(counts, axis=1)
    wanted = share * running[:, -1:]
    place = np.argmax(running >= np.maximum(wanted, 1), axis=1)
    index = np.arange(len(counts))
    inside = counts[index, place]
    fraction = 1.0 - (running[index, place] - wanted[:, 0]) / np.maximum(inside, 1)
    octave, eighth = np.divmod(place, _OCTAVE)
    value = 2.0 ** (octave + _LOWEST) * (1 + (eighth + np.clip(fraction, 0, 1)) / _OCTAVE)
    return np.where((running[:, -1] == 0) | (place == 0), 0.0, value)


def _scales(counts: NDArray[np.int64]) -> NDArray[np.float64]:
    """Rayleigh scale of each block from its histogram; NaN where too little of the block varies to tell.

    The 65 % quantile copes with grain that fills only part of a block (strongly compressed pictures), but not more than
    half above what the 35 % quantile says: the rest are the edges of objects.
    """
    low, high = (np.sqrt(_quantile(counts, share) / (-2 * np.log1p(-share))) for share in (0.35, 0.65))
    scale = np.minimum(high, 1.5 * low)
    still = counts[:, 0] > 0.25 * counts.sum(axis=1)
    return np.where(still, np.nan, scale)


def _filled(scale: NDArray[np.float64]) -> NDArray[np.float64]:
    """Blocks that are mostly without any gradient (clipped, blank) take over what the nearest others say, or 0."""
    unknown = np.isnan(scale)
    if unknown.all():
        return np.zeros_like(scale)
    if not unknown.any():
        return scale
    from scipy import ndimage  # here, since loading it takes half a second

    nearest = ndimage.distance_transform_edt(unknown, return_distances=False, return_indices=True)
    return np.asarray(scale[tuple(nearest)])


def measure_background(
    pixels: NDArray[np.generic],
    kernels: tuple[Kernel1D, Kernel1D],
    quantum: float,
    blocked: NDArray[np.uint8] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> Background:
    """Background statistics of an (H, W) image for one gradient operator.

    `quantum` is the step between neighbouring grey levels (0 for continuous data): a smooth shading turns into a staircase
    of such steps, and none of them is an edge. Raises `Cancelled`.
    """
    smooth, derive = kernels
    height, width = pixels.shape
    radius = len(smooth) // 2
    rows, columns = mirror_indices(height, radius), mirror_indices(width, radius)
    step = int(np.clip(np.sqrt(height * width) / 120, 1, 10))
    # The width of the operator's own smoothing, from its effective number of pixels across.
    own = float(1 / (2 * np.sqrt(np.pi) * np.sum(smooth.astype(float) ** 2)))
    lag = max(1, round(1.5 * own))
    nothing = np.zeros((1 if height > 1 else 2, 1), np.uint8)
    mask = nothing if blocked is None else blocked
    across = -(-width // BLOCK)

    def band(top: int, bottom: int) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        counts = np.zeros((across, _BINS), np.int64)
        same, seen = np.zeros((across, 2), np.int64), np.zeros((across, 2), np.int64)
        _sample_band(pixels, mask, rows, columns, smooth, derive, top, bottom, step, lag, counts, same, seen)
        return counts, same, seen

    parts = threads.over_bands(band, height, cancelled, BLOCK)
    counts, same, seen = (np.concatenate([part[i] for part in parts]) for i in range(3))
    scale = _filled(_scales(counts).reshape(len(parts), across))
    # An undithered step of one quantum has this slope; below it, strength says nothing.
    slope = quantum * float(np.max(np.cumsum(-derive[: len(derive) // 2].astype(float)))) if quantum else 0.0
    scale = np.maximum(scale, np.where(scale < 0.35 * quantum * noise_gain(smooth, derive), 0.45 * slope, 0.0))
    told = seen[:, :] >= 100
    agreement = [np.median((same / np.maximum(seen, 1))[told[:, i], i]) if told[:, i].any() else 0.5 for i in (0, 1)]
    rho = float(np.clip(np.sin(np.pi * (max(agreement) - 0.5)), 1e-6, 0.995))
    correlation = max(own, lag / (2 * float(np.sqrt(-np.log(rho)))))
    return Background(scale.astype(np.float32), correlation, float(np.median(scale)))
