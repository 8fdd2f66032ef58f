"""Zero-mean normalised cross-correlation of a template with every place of an image.

J. P. Lewis, "Fast normalized cross-correlation", Vision Interface 1995: the products by Fourier transform, the sums of each
window by running sums. The transform is taken over tiles that fit the processor's cache (overlap-save).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache, cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]

_DIRECT = 150
"""Templates of up to so many pixels are multiplied out: exact, and as fast as the transform."""
_TILES = (64, 128, 256, 512, 1024, 2048, 4096)
_ROUNDING = 1e-6
"""Error of a correlation by single precision, as a share of the root mean square of a tile, over the contrast of its window."""
_ALLOWED = 5e-6
"""Error of a correlation that is accepted."""


@dataclass(frozen=True)
class Pattern:
    """A template ready to be correlated."""

    values: NDArray[np.float64]
    """(h, w): less their mean over the mask, 0 outside of it."""
    mask: NDArray[np.bool_]
    """(h, w): pixels that count."""

    @staticmethod
    def of(pixels: NDArray[Any], mask: NDArray[np.bool_] | None = None) -> Pattern:
        """From grey levels (h, w); without a mask all pixels count."""
        used = np.ones(pixels.shape, bool) if mask is None else mask
        values = np.where(used, pixels.astype(np.float64), 0.0)
        mean = values[used].mean() if used.any() else 0.0
        return Pattern(np.where(used, values - mean, 0.0), used)

    @cached_property
    def norm(self) -> float:
        """Root of the sum of the squared values."""
        return float(np.sqrt((self.values**2).sum()))

    @property
    def count(self) -> int:
        """Pixels that count."""
        return int(self.mask.sum())


@kernel
def _multiply_band(pixels, rows, columns, weights, top, bottom, out):  # type: ignore[no-untyped-def]
    """Sums of pixel times weight at the offsets (rows, columns) of the template's pixels."""
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            total = 0.0
            for k in range(weights.size):
                total += weights[k] * pixels[y + rows[k], x + columns[k]]
            out[y, x] = total


@kernel
def _normalise_band(pixels, products, height, width, norm, least, top, bottom, out):  # type: ignore[no-untyped-def]
    """Products over both norms, for a rectangular template: the sums of each window run down the columns and along the row."""
    count = height * width
    first = np.zeros(pixels.shape[1])
    second = np.zeros(pixels.shape[1])
    for y in range(top, top + height):
        for x in range(pixels.shape[1]):
            value = np.float64(pixels[y, x])
            first[x] += value
            second[x] += value * value
    sums = np.empty((2, out.shape[1]))
    for y in range(top, bottom):
        total, squares = 0.0, 0.0
        for x in range(width):
            total += first[x]
            squares += second[x]
        for x in range(out.shape[1] - 1):
            sums[0, x], sums[1, x] = total, squares
            total += first[x + width] - first[x]
            squares += second[x + width] - second[x]
        sums[0, out.shape[1] - 1], sums[1, out.shape[1] - 1] = total, squares
        # In a loop of its own, which the compiler vectorises.
        for x in range(out.shape[1]):
            varied = sums[1, x] - sums[0, x] * sums[0, x] / count
            flat = varied <= least
            root = np.sqrt(1.0 if flat else varied)
            out[y, x] = 0.0 if flat else products[y, x] / (norm * root)
        if y + 1 < bottom:
            for x in range(pixels.shape[1]):
                old, new = np.float64(pixels[y, x]), np.float64(pixels[y + height, x])
                first[x] += new - old
                second[x] += new * new - old * old


def flat_below(count: int, quantum: float, span: float) -> float:
    """Sum of squared differences from the mean below which a window of `count` pixels is flat: a change of half a grey level in
    one pixel, or what rounding leaves."""
    return max(0.2 * quantum**2, 1e-11 * span**2 * count)


def correlation_map(pixels: Plane, pattern: Pattern, quantum: float, span: float, error: float = _ALLOWED) -> Plane:
    """(H - h + 1, W - w + 1) float32: the correlation, -1 to 1, with the window whose top left pixel is (row, column).

    `pixels` (H, W) float32. Windows without contrast give 0. `quantum` is the step between grey levels (0: continuous), `span`
    the value range, `error` what is accepted of single precision.
    """
    height, width = pattern.values.shape
    # Taken about the middle grey, so that squares stay small.
    level = np.float32(np.round(pixels[:: max(1, pixels.shape[0] // 64), :: max(1, pixels.shape[1] // 64)].mean()))
    centred = pixels - level
    products = correlation_sums(centred, pattern.values, error)
    least = flat_below(pattern.count, quantum, span)
    out = np.empty(products.shape, np.float32)
    norm = max(pattern.norm, 1e-30)
    if pattern.mask.all():
        over_bands(lambda top, bottom: _normalise_band(centred, products, height, width, norm, least, top, bottom, out), len(out))
    else:
        weights = pattern.mask.astype(np.float64)
        total = correlation_sums(centred, weights, 0.0)
        squares = correlation_sums(centred.astype(np.float64) ** 2, weights, 0.0)
        varied = squares - total**2 / pattern.count
        good = varied > max(least, 1e-12 * float(squares.max(initial=0.0)))
        out[:] = np.where(good, products / (norm * np.sqrt(np.where(good, varied, 1.0))), 0.0)
    return np.clip(out, -1.0, 1.0, out=out)


def correlation_sums(pixels: NDArray[Any], weights: NDArray[np.float64], error: float = _ALLOWED) -> NDArray[np.float64]:
    """(H - h + 1, W - w + 1) float64: sums of pixel times weight, the weights (h, w) laid over each window, not flipped.

    Tiles that hold windows of much less contrast than the rest of the tile are transformed in double precision, so that the
    error of a correlation is below `error`; with 0 all are.
    """
    height, width = weights.shape
    shape = pixels.shape[0] - height + 1, pixels.shape[1] - width + 1
    out = np.empty(shape)
    if np.count_nonzero(weights) <= _DIRECT:
        rows, columns = np.nonzero(weights)
        kept = weights[rows, columns]
        source = np.ascontiguousarray(pixels, np.float32)
        over_bands(lambda top, bottom: _multiply_band(source, rows, columns, kept, top, bottom, out), shape[0])
        return out
    size = _tile_side(height, width, shape)
    step_y, step_x = size[0] - height + 1, size[1] - width + 1
    places = [(y, x) for y in range(0, shape[0], step_y) for x in range(0, shape[1], step_x)]
    import scipy.fft  # here, since loading it takes a tenth of a second

    @cache
    def spectrum(kind: type) -> NDArray[Any]:
        return np.asarray(np.conj(scipy.fft.rfft2(weights.astype(kind), size)))

    exact = error <= 0.0
    contrast, down, across = (np.zeros((0, 0)), 1, 1) if exact else _block_contrast(pixels, height, width)

    def tile(number: int, _: int) -> None:
        y, x = places[number]
        part = pixels[y : y + size[0], x : x + size[1]]
        mean = part.mean()
        block = part - mean
        inside = contrast[y // down : (y + size[0]) // down + 1, x // across : (x + size[1]) // across + 1]
        rough = _ROUNDING * float(np.sqrt(np.mean(block[::4, ::4] ** 2))) > error * float(inside.min(initial=np.inf))
        kind = np.float64 if exact or rough else np.float32
        block = block.astype(kind, copy=False)
        found = scipy.fft.irfft2(scipy.fft.rfft2(block, size) * spectrum(kind), size)
        rows, columns = min(step_y, shape[0] - y), min(step_x, shape[1] - x)
        out[y : y + rows, x : x + columns] = found[:rows, :columns]
        if exact:
            out[y : y + rows, x : x + columns] += mean * weights.sum()

    over_bands(tile, len(places), band_height=1)
    return out


def _tile_side(height: int, width: int, shape: tuple[int, int]) -> tuple[int, int]:
    """Rows and columns of a tile: about four times the template, and no more than the image needs."""
    sides = []
    for length, valid in ((height, shape[0]), (width, shape[1])):
        least = next((n for n in _TILES if n >= 3 * length), 2 * length + 64)
        sides.append(min(max(least, 256), valid + length - 1))
    import scipy.fft

    rows, columns = (scipy.fft.next_fast_len(n, real=True) for n in sides)
    return int(rows), int(columns)


def _block_contrast(pixels: NDArray[Any], height: int, width: int) -> tuple[NDArray[np.float32], int, int]:
    """Root of the sum of squared differences from the mean in each block, and the rows and columns of a block: every window
    of the template's size holds a whole block, so that it has at least the least of their contrasts."""
    down, across = max((height + 1) // 2, 1), max((width + 1) // 2, 1)
    rows, columns = pixels.shape[0] // down, pixels.shape[1] // across
    blocks = pixels[: rows * down, : columns * across].reshape(rows, down, columns, across)
    mean = blocks.mean(axis=(1, 3), dtype=np.float32)
    squares = np.einsum("aibj,aibj->ab", blocks, blocks)
    return np.sqrt(np.maximum(squares - down * across * mean**2, 0.0)), down, across
