"""Measures how strong and how correlated the gradient of the image's own background is: noise, grain and texture alike.

In a background that is a Gaussian random field the gradient magnitude follows a Rayleigh law, so any quantile of it gives
its scale; a low one is little disturbed by the edges that cross a block. The correlation is taken from how often a
component keeps its sign over a distance (the arcsine law, Van Vleck and Middleton, Proc. IEEE 54, 1966), which does not
depend on strengths at all.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.gradients import Kernel1D, gradient_row, mirror_indices, noise_gain
from lucid_finch.core.numerics.masks import kernel_mask
from lucid_finch.core.numerics.runtime import threads
from lucid_finch.core.numerics.runtime.compiling import kernel, reduction

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
    grain: NDArray[np.float32] | None = None
    """Variance xx, xy and yy of the gradient of each block in units of the squared scale (rows, columns, 3), if any block has a
    texture that runs one way; 1, 0 and 1 of the others."""

    @property
    def nbytes(self) -> int:
        return self.scale.nbytes + (self.grain.nbytes if self.grain is not None else 0)

    @property
    def independent_step(self) -> float:
        """px between places whose gradients count as independent tests."""
        return 2.5 * max(self.correlation, 0.8)


_ONE_WAY, _LEAST_RATIO = 0.5, 0.05
"""Ratio of the smaller to the larger variance of the gradient below which a texture runs one way, and what it is at least."""
_FEWEST = 24
"""Samples that a block must have to tell its scale."""


@kernel
def _sample_band(pixels, blocked, rows, columns, smooth, derive, top, bottom, step, lag, counts, samples):  # type: ignore[no-untyped-def]
    """Histograms (block columns, bins) of log2 |gradient|^2 of one row of blocks, from every `step`-th row.

    The rows themselves go into samples (rows, 3, W): both components, and the x component `lag` rows further down (of
    every other row; else NaN).
    """
    radius = smooth.size // 2
    height, width = pixels.shape
    use_blocked = blocked.shape[0] == height
    across = np.empty(width + 2 * radius, np.float32)
    along = np.empty(width + 2 * radius, np.float32)
    spare = np.empty(width, np.float32)
    squared = np.empty(width, np.float32)
    place = np.empty(width, np.int32)
    bits = squared.view(np.int32)
    for number in range(samples.shape[0]):
        y = top + step // 2 + number * step
        gx, gy, below = samples[number, 0], samples[number, 1], samples[number, 2]
        gradient_row(pixels, rows, columns, y, smooth, derive, across, along, gx, gy)
        for x in range(width):
            squared[x] = gx[x] * gx[x] + gy[x] * gy[x]
        for x in range(width):
            # The exponent and the first three bits of the mantissa: eight bins an octave.
            p = (bits[x] >> np.int32(20)) - np.int32((127 + _LOWEST) * _OCTAVE)
            place[x] = min(max(p, np.int32(0)), np.int32(_BINS - 1))
        if number % 2 == 0 and y + lag < height:
            gradient_row(pixels, rows, columns, y + lag, smooth, derive, across, along, below, spare)
        else:
            below[:] = np.nan
        for block in range(counts.shape[0]):
            histogram = counts[block]
            for x in range(block * BLOCK, min(block * BLOCK + BLOCK, width)):
                histogram[place[x]] += 1
            if use_blocked:
                for x in range(block * BLOCK, min(block * BLOCK + BLOCK, width)):
                    histogram[place[x]] -= blocked[y, x] != 0


@kernel
def _agreeing(here, there, most):  # type: ignore[no-untyped-def]
    """Of the pairs that are both weak, less their mean: how many agree in sign, and how many there are.

    Strong ones are edges, whose sign lasts; and without taking the mean away, a smooth shading would keep its sign for ever.
    """
    mean = np.float32(0.0)
    count = np.int32(0)
    for i in range(here.size):
        weak = (abs(here[i]) < most) & (abs(there[i]) < most)
        mean += here[i] + there[i] if weak else np.float32(0.0)
        count += np.int32(2) if weak else np.int32(0)
    mean /= np.float32(max(count, np.int32(1)))
    agree = np.int32(0)
    valid = np.int32(0)
    for i in range(here.size):
        product = (here[i] - mean) * (there[i] - mean)
        weak = (abs(here[i]) < most) & (abs(there[i]) < most)
        agree += np.int32(weak & (product > 0))
        valid += np.int32(weak & (product != 0))
    return agree, valid


@kernel
def _signs(samples, scale, lag, same, seen):  # type: ignore[no-untyped-def]
    """How often components keep their sign over `lag` px: same and seen (block columns, 2), y along x and x along y."""
    width = samples.shape[2]
    # Every row: a coarser choice falls into step with the blocks of compressed pictures.
    for number in range(samples.shape[0]):
        gx, gy, below = samples[number, 0], samples[number, 1], samples[number, 2]
        for block in range(scale.size):
            first = block * BLOCK
            last = min(first + BLOCK, width)
            most = np.float32(3.0) * scale[block]
            agree, valid = _agreeing(gy[first : max(last - lag, first)], gy[min(first + lag, last) : last], most)
            same[block, 0] += agree
            seen[block, 0] += valid
            agree, valid = _agreeing(gx[first:last], below[first:last], most)
            same[block, 1] += agree
            seen[block, 1] += valid


@reduction
def _weak_moments(gx, gy, finer):  # type: ignore[no-untyped-def]
    """Sums over gradients of at most 3 times their scale, in units of it: xx, xy, yy, x, y and their count."""
    xx, xy, yy, sx, sy, count = np.float32(0), np.float32(0), np.float32(0), np.float32(0), np.float32(0), np.float32(0)
    for k in range(gx.size):
        u, v = gx[k] * finer, gy[k] * finer
        weak = np.float32(1) if u * u + v * v < np.float32(9) else np.float32(0)
        u, v = u * weak, v * weak
        xx += u * u
        xy += u * v
        yy += v * v
        sx += u
        sy += v
        count += weak
    return xx, xy, yy, sx, sy, count


@kernel
def _moments(samples, scale, sums):  # type: ignore[no-untyped-def]
    """Adds the sums of `_weak_moments` over each block to `sums` (block columns, 6)."""
    width = samples.shape[2]
    for number in range(samples.shape[0]):
        for block in range(scale.size):
            part = slice(block * BLOCK, min(block * BLOCK + BLOCK, width))
            finer = np.float32(1.0) / max(scale[block], np.float32(1e-15))
            found = _weak_moments(samples[number, 0, part], samples[number, 1, part], finer)
            for k in range(6):
                sums[block, k] += found[k]


@kernel
def _quantiles(counts, shares, out):  # type: ignore[no-untyped-def]
    """Squared magnitude below which each of the rising `shares` of each histogram lies, into out (histograms, shares)."""
    for h in range(counts.shape[0]):
        total = counts[h].sum()
        out[h, :] = 0.0
        running = 0
        s = 0
        for place in range(counts.shape[1]):
            inside = counts[h, place]
            if inside <= 0:
                continue
            running += inside
            while s < shares.size and running >= max(shares[s] * total, 1.0):
                if place > 0:
                    fraction = 1.0 - (running - max(shares[s] * total, 1.0)) / inside
                    octave = place // _OCTAVE
                    out[h, s] = 2.0 ** (octave + _LOWEST) * (1 + (place % _OCTAVE + fraction) / _OCTAVE)
                s += 1
            if s == shares.size:
                break


def _scales(
    counts: NDArray[Any], slope: float, dithered: float
) -> tuple[NDArray[np.float64], NDArray[np.bool_], NDArray[np.bool_]]:
    """Rayleigh scale of each block from its histogram, and which blocks vary too little to tell it, or the correlation.

    The 65 % quantile copes with grain that fills only part of a block (strongly compressed pictures), but not more than
    half above what the 35 % quantile says: the rest are the edges of objects. Where quantiles lie too far apart for any
    grain, and the upper ones are those of steps of many grey levels, edges fill the block: the 10 % quantile is all that is
    left of the background.
    """
    shares = np.array([0.1, 0.2, 0.35, 0.65, 0.8])
    squared = np.empty((len(counts), len(shares)))
    _quantiles(counts, shares, squared)
    lowest, lower, low, high, highest = np.sqrt(squared / (-2 * np.log1p(-shares))).T
    scale = np.minimum(high, 1.5 * low)
    spread = highest / np.maximum(lower, 1e-12)
    filled = np.where(highest > 8 * slope, np.clip((spread - 6) / 3, 0, 1), 0.0)
    # Of a block that is (nearly) all blocked nothing is known either.
    still = (counts[:, 0] > 0.25 * counts.sum(axis=1)) | (counts.sum(axis=1) < _FEWEST)
    others = scale[(filled == 0) & ~still]
    # If there are blocks that tell, those that do not are hardly much calmer.
    least = 0.7 * float(np.median(others)) if len(others) > 0.1 * len(scale) else 1e-12
    scale = np.maximum(scale, 1e-12) ** (1 - filled) * np.maximum(lowest, least) ** filled
    # Of a block that is partly flat, the rest may be a shading in steps of one grey level: as much as that explains.
    moving = counts[still].copy()
    moving[:, 0] = 0
    squared = np.empty((len(moving), len(shares)))
    _quantiles(moving, shares, squared)
    scale[still] = np.minimum(np.sqrt(squared[:, 3] / (-2 * np.log1p(-shares[3]))), 0.75 * slope)
    # Where noise does not blur the steps between grey levels, one such step is no edge.
    stepped = low < dithered
    return np.maximum(scale, np.where(stepped, 0.45 * slope, 0.0)), still, still | stepped


def _filled(scale: NDArray[np.float64], unknown: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Blocks that are mostly without any gradient (clipped, blank) take over what the nearest others say, if it is more."""
    if unknown.all() or not unknown.any():
        return scale
    from scipy import ndimage  # here, since loading it takes half a second

    nearest = ndimage.distance_transform_edt(unknown, return_distances=False, return_indices=True)
    return np.maximum(scale, scale[tuple(nearest)])


def _grain(sums: NDArray[np.float64], unsure: NDArray[np.bool_]) -> NDArray[np.float32] | None:
    """The variance of the gradient of each block by its direction, from its sums (rows, columns, 6) and those around it."""
    padded = np.pad(sums, ((1, 1), (1, 1), (0, 0)))
    height, width = sums.shape[:2]
    around = np.sum([padded[j : j + height, i : i + width] for j in range(3) for i in range(3)], axis=0)
    xx, xy, yy, x, y = np.moveaxis(around[..., :5] / np.maximum(around[..., 5:], 1.0), 2, 0)
    # A ramp of light is no grain.
    xx, xy, yy = xx - x * x, xy - x * y, yy - y * y
    half, mean = np.hypot(0.5 * (xx - yy), xy), 0.5 * (xx + yy)
    ratio = np.clip((mean - half) / np.maximum(mean + half, 1e-12), _LEAST_RATIO, 1.0)
    # Steps between grey levels run along smooth shades, and nothing says how noise would run there.
    one_way = (ratio < _ONE_WAY) & (around[..., 5] >= _FEWEST) & ~unsure
    if not one_way.any():
        return None
    # The scale follows from the 65 % quantile of the squared magnitude: 2.1 variances of two equal components, 0.87 of a single
    # one. So it underestimates the larger of two that differ.
    strong = 1.0 + 1.4 * (1 - ratio)
    weak = np.maximum(mean - half, _LEAST_RATIO * strong)
    c, s = (xx - yy) / np.maximum(2 * half, 1e-12), xy / np.maximum(half, 1e-12)
    middle, swing = 0.5 * (strong + weak), 0.5 * (strong - weak)
    grain = np.stack([middle + swing * c, swing * s, middle - swing * c], axis=2)
    return np.where(one_way[..., None], grain, np.array([1.0, 0.0, 1.0])).astype(np.float32)


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
    mask = kernel_mask(blocked, height)
    across = -(-width // BLOCK)

    def band(top: int, bottom: int) -> tuple[NDArray[Any], NDArray[Any]]:
        counts = np.zeros((across, _BINS), np.int32)
        samples = np.empty((len(range(top + step // 2, bottom, step)), 3, width), np.float32)
        _sample_band(pixels, mask, rows, columns, smooth, derive, top, bottom, step, lag, counts, samples)
        return counts, samples

    parts = threads.over_bands(band, height, cancelled, BLOCK)
    counts = np.concatenate([part[0] for part in parts])
    # An undithered step of one quantum has this slope; below it, strength says nothing.
    slope = quantum * float(np.max(np.cumsum(-derive[: len(derive) // 2].astype(float))))
    scale, still, unsure = _scales(counts, slope, 0.4 * quantum * noise_gain(smooth, derive))
    blocks = scale.reshape(len(parts), across).astype(np.float32)
    same, seen = np.zeros((len(counts), 2), np.int64), np.zeros((len(counts), 2), np.int64)
    sums = np.zeros((len(parts), across, 6))

    def signs(number: int, _: int) -> None:
        row = slice(number * across, (number + 1) * across)
        _signs(parts[number][1], blocks[number], lag, same[row], seen[row])
        _moments(parts[number][1], blocks[number], sums[number])

    threads.over_bands(signs, len(parts), cancelled, 1)
    scale = _filled(scale.reshape(len(parts), across), still.reshape(len(parts), across))
    enough = (seen >= 100) & ~unsure[:, None]
    agreement = [np.median((same / np.maximum(seen, 1))[enough[:, i], i]) if enough[:, i].any() else 0.5 for i in (0, 1)]
    rho = float(np.clip(np.sin(np.pi * (max(agreement) - 0.5)), 1e-6, 0.995))
    correlation = max(own, lag / (2 * float(np.sqrt(-np.log(rho)))))
    return Background(
        scale.astype(np.float32), correlation, float(np.median(scale)), _grain(sums, unsure.reshape(len(parts), across))
    )
