"""Thresholds between foreground and background: from the histogram, from a window around each pixel, or from edges.

The level that maximises the variance between both classes follows Otsu (IEEE SMC 9(1), 1979). A level that varies over the
image passes through the grey levels on its edges, which are half-way between both sides (Yanowitz and Bruckstein, CVGIP 46,
1989), here by averages in cells that are filled up from coarser and coarser ones (as in Gortler et al., SIGGRAPH 1996).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.masks import kernel_mask
from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]

CELL = 8
"""Sides of the cells in which grey levels on edges are averaged, px."""

_BINS = 1024
_DIAGONAL = np.sqrt(6.0) * 0.6745


@kernel
def _byte_counts(pixels, masked, top, bottom, counts):  # type: ignore[no-untyped-def]
    """How often each value of a byte occurs; four tables, since equal neighbours would wait for each other."""
    width = pixels.shape[1]
    whole = width // 4 * 4
    for y in range(top, bottom):
        row = pixels[y]
        if masked.shape[0] == pixels.shape[0]:
            for x in range(width):
                counts[0, row[x]] += 1 - min(masked[y, x], 1)
            continue
        for x in range(0, whole, 4):
            counts[0, row[x]] += 1
            counts[1, row[x + 1]] += 1
            counts[2, row[x + 2]] += 1
            counts[3, row[x + 3]] += 1
        for x in range(whole, width):
            counts[0, row[x]] += 1


@kernel
def _real_counts(pixels, masked, low, factor, top, bottom, counts):  # type: ignore[no-untyped-def]
    """How many values fall into each bin, counted from `low` in steps of 1 / factor; values beyond go to the last ones."""
    width = pixels.shape[1]
    last = counts.shape[1] - 1
    has_mask = masked.shape[0] == pixels.shape[0]
    for y in range(top, bottom):
        for x in range(width):
            if has_mask and masked[y, x]:
                continue
            value = (np.float32(pixels[y, x]) - low) * factor
            counts[0, min(max(int(value), 0), last)] += 1


def histogram(pixels: NDArray[Any], masked: NDArray[np.uint8] | None = None) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Counts of grey levels and the level of each count; (H, W) uint8, uint16 or float32, without `masked` pixels."""
    used = kernel_mask(masked, pixels.shape[0])
    if pixels.dtype == np.uint8:

        def band(top: int, bottom: int) -> NDArray[np.int64]:
            counts = np.zeros((4, 256), np.int64)
            _byte_counts(pixels, used, top, bottom, counts)
            return counts.sum(axis=0)

        return np.sum(over_bands(band, len(pixels)), axis=0), np.arange(256.0)
    low, high = float(pixels.min()), float(pixels.max())
    # Whole numbers have a bin each while there are few of them.
    whole = pixels.dtype == np.uint16 and high - low < 4 * _BINS
    bins = int(high - low) + 1 if whole else _BINS
    factor = 1.0 if whole else bins / max(high - low, 1e-30)

    def some(top: int, bottom: int) -> NDArray[np.int64]:
        counts = np.zeros((1, bins), np.int64)
        _real_counts(pixels, used, np.float32(low), np.float32(factor), top, bottom, counts)
        return counts[0]

    levels = low + (np.arange(bins) + (0.0 if whole else 0.5)) / factor
    return np.sum(over_bands(some, len(pixels)), axis=0), np.asarray(levels, np.float64)


@dataclass(frozen=True)
class OtsuLevel:
    """The level that separates a histogram best into two classes."""

    level: float
    share: float
    """Of the variance that lies between both classes, 0 to 1."""


def otsu(counts: NDArray[np.int64], levels: NDArray[np.float64]) -> OtsuLevel:
    """The level with the largest variance between what is above and what is not; the middle of all that do equally well."""
    weight = counts / max(int(counts.sum()), 1)
    below = np.cumsum(weight)
    moment = np.cumsum(weight * levels)
    mean = moment[-1]
    with np.errstate(invalid="ignore", divide="ignore"):
        between = (mean * below - moment) ** 2 / (below * (1 - below))
    between = np.nan_to_num(between[:-1], nan=0.0, posinf=0.0)
    total = float((weight * (levels - mean) ** 2).sum())
    if not len(between) or total <= 0 or between.max() <= 0:
        return OtsuLevel(float(mean), 0.0)
    best = np.flatnonzero(between >= between.max() * (1 - 1e-12))
    level = (levels[best[0]] + levels[best[-1] + 1]) / 2
    return OtsuLevel(float(level), float(between.max() / total))


def _second_differences(pixels: NDArray[Any]) -> NDArray[Any]:
    """Along some 400 rows; of whole numbers as whole numbers."""
    rows = pixels[:: max(1, len(pixels) // 400)]
    rows = rows.astype({"u1": np.int16, "u2": np.int32}.get(rows.dtype.str[1:], np.float32))
    return np.asarray(rows[:, :-2] - 2 * rows[:, 1:-1] + rows[:, 2:])


def pixel_noise(pixels: NDArray[Any]) -> float:
    """Standard deviation of the noise of single pixels in grey levels, from the median of second differences along rows;
    0 where most of the image is flat."""
    if pixels.shape[1] < 3:
        return 0.0
    return float(np.median(np.abs(_second_differences(pixels))) / _DIAGONAL)


def has_noise(pixels: NDArray[Any]) -> bool:
    """Whether `pixel_noise` is above 0, which takes less time."""
    if pixels.shape[1] < 3:
        return False
    off = _second_differences(pixels)
    return bool(2 * np.count_nonzero(off) >= off.size)


@dataclass(frozen=True)
class Surface:
    """A level that varies over the image: values at the middles of cells of `CELL` px, linear between them."""

    cells: Plane

    @property
    def nbytes(self) -> int:
        return self.cells.nbytes

    def rows(self, top: int, bottom: int, width: int) -> Plane:
        """The level at the pixels of some rows."""
        out = np.empty((bottom - top, width), np.float32)
        _surface_rows(self.cells, top, out)
        return out


@kernel
def _surface_rows(cells, top, out):  # type: ignore[no-untyped-def]
    height, width = cells.shape
    row = np.empty(width, np.float32)
    for i in range(out.shape[0]):
        place = min(max((top + i + 0.5) / CELL - 0.5, 0.0), height - 1.0)
        above = int(place)
        below = min(above + 1, height - 1)
        share = np.float32(place - above)
        for k in range(width):
            row[k] = cells[above, k] + share * (cells[below, k] - cells[above, k])
        for x in range(out.shape[1]):
            place = min(max((x + 0.5) / CELL - 0.5, 0.0), width - 1.0)
            left = int(place)
            right = min(left + 1, width - 1)
            out[i, x] = row[left] + np.float32(place - left) * (row[right] - row[left])


@kernel
def _gather_levels(pixels, x, y, sums, count):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    for i in range(x.size):
        u, v = min(max(float(x[i]), 0.0), width - 1.0), min(max(float(y[i]), 0.0), height - 1.0)
        left, top = int(u), int(v)
        right, bottom = min(left + 1, width - 1), min(top + 1, height - 1)
        a, b = u - left, v - top
        value = (1 - b) * ((1 - a) * pixels[top, left] + a * pixels[top, right]) + b * (
            (1 - a) * pixels[bottom, left] + a * pixels[bottom, right]
        )
        row, column = int((v + 0.5) / CELL), int((u + 0.5) / CELL)
        sums[row, column] += value
        count[row, column] += 1.0


def surface_through(pixels: Plane, x: NDArray[np.float32], y: NDArray[np.float32], otherwise: float) -> Surface:
    """The level through the grey levels of a smoothed image (H, W) at places x, y; `otherwise` where there are none at all."""
    height, width = pixels.shape
    shape = (-(-height // CELL), -(-width // CELL))
    sums, count = np.zeros(shape), np.zeros(shape)
    _gather_levels(pixels, np.asarray(x, np.float32), np.asarray(y, np.float32), sums, count)
    return Surface(_filled(_softened(sums), _softened(count), otherwise).astype(np.float32))


def _softened(cells: NDArray[np.float64]) -> NDArray[np.float64]:
    """Cells mixed with their neighbours, 1 : 2 : 1 in both directions."""
    for axis in (0, 1):
        padded = np.pad(cells, [(1, 1) if a == axis else (0, 0) for a in (0, 1)])
        before, after = np.delete(padded, [-1, -2], axis), np.delete(padded, [0, 1], axis)
        cells = 0.25 * before + 0.5 * cells + 0.25 * after
    return cells


def _filled(sums: NDArray[np.float64], count: NDArray[np.float64], otherwise: float) -> NDArray[np.float64]:
    """Means where there are any, and those of ever larger cells where not."""
    if sums.size == 1 or not count.any():
        return np.where(count > 0, sums / np.maximum(count, 1e-9), otherwise)
    height, width = sums.shape

    def halved(a: NDArray[np.float64]) -> NDArray[np.float64]:
        padded = np.pad(a, ((0, height % 2), (0, width % 2)))
        return np.asarray(padded.reshape(padded.shape[0] // 2, 2, padded.shape[1] // 2, 2).sum(axis=(1, 3)))

    coarse = _filled(halved(sums), halved(count), otherwise)
    places = [np.clip((np.arange(n) + 0.5) / 2 - 0.5, 0, m - 1) for n, m in zip(sums.shape, coarse.shape, strict=True)]
    for axis, place in enumerate(places):
        first = place.astype(np.int64)
        share = np.expand_dims(place - first, 1 - axis)
        last = np.minimum(first + 1, coarse.shape[axis] - 1)
        coarse = np.take(coarse, first, axis) * (1 - share) + np.take(coarse, last, axis) * share
    # Half a place's weight of what lies around, so that the surface bends instead of jumping.
    return np.asarray((sums + 0.5 * coarse) / (count + 0.5))
