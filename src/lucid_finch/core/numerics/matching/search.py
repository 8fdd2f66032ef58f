"""The coarse search over position, angle and scale: correlation of a locally normalised image with the template in every pose.

Each pose costs a product of spectra over tiles (overlap-save); of all poses only the best at each place is kept.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]


@kernel
def _keep_best(found, rows, columns, pose, either, best, which):  # type: ignore[no-untyped-def]
    """Where a response is above the best one so far, keep it and its pose; `either`: its sign does not matter."""
    for t in range(found.shape[0]):
        for y in range(rows):
            for x in range(columns):
                value = abs(found[t, y, x]) if either else found[t, y, x]
                better = value > best[t, y, x]
                best[t, y, x] = value if better else best[t, y, x]
                which[t, y, x] = pose if better else which[t, y, x]


@dataclass(frozen=True)
class Responses:
    """The best response of all poses at each place."""

    best: Plane
    """(H, W), about -1 to 1: the template's centre lies on that pixel."""
    which: NDArray[np.int32]
    """(H, W): the pose that gave it."""


_TILES = (64, 96, 128, 192, 256, 384, 512)


def best_responses(
    plane: Plane, kernels: Sequence[Callable[[], Plane]], side: int, either: bool, cancelled: Callable[[], bool] | None
) -> Responses:
    """Correlate a plane (H, W) with every kernel (`side` squared, odd) and keep the best at each place.

    `kernels` make the template in one pose each, with zero mean over its pixels and a norm such that 1 is a perfect match.
    Beyond the border the plane counts as 0.
    """
    import scipy.fft  # here, since loading it takes a tenth of a second

    height, width = plane.shape
    reach = side // 2
    size = next((n for n in _TILES if n >= 3 * side), scipy.fft.next_fast_len(3 * side, real=True))
    step = size - side + 1
    down, across = -(-height // step), -(-width // step)
    padded = np.zeros((down * step + side - 1, across * step + side - 1), np.float32)
    padded[reach : reach + height, reach : reach + width] = plane
    tiles = np.lib.stride_tricks.sliding_window_view(padded, (size, size))[::step, ::step].reshape(-1, size, size)
    spectra = [np.conj(scipy.fft.rfft2(make(), (size, size))) for make in kernels]
    best = np.full((len(tiles), step, step), -np.inf, np.float32)
    which = np.zeros((len(tiles), step, step), np.int32)

    def some(first: int, last: int) -> None:
        transformed = scipy.fft.rfft2(np.ascontiguousarray(tiles[first:last]))
        for number, spectrum in enumerate(spectra):
            found = scipy.fft.irfft2(transformed * spectrum, (size, size))
            _keep_best(found, step, step, number, either, best[first:last], which[first:last])

    over_bands(some, len(tiles), cancelled, band_height=2)
    whole = [a.reshape(down, across, step, step).swapaxes(1, 2).reshape(down * step, -1)[:height, :width] for a in (best, which)]
    return Responses(np.ascontiguousarray(whole[0]), np.ascontiguousarray(whole[1]))


def local_maxima(plane: Plane, least: float, most: int) -> tuple[NDArray[np.int64], NDArray[np.int64], int]:
    """Rows and columns of pixels of at least `least` that no neighbour exceeds, the `most` strongest, strongest first; and how
    many more there were."""
    padded = np.pad(plane, 1, constant_values=-np.inf)
    height, width = plane.shape
    peak = plane >= least
    for dy in (0, 1, 2):
        for dx in (0, 1, 2):
            if (dy, dx) != (1, 1):
                # Of equal neighbours the first in reading order is the peak.
                other = padded[dy : dy + height, dx : dx + width]
                peak &= plane > other if (dy, dx) < (1, 1) else plane >= other
    rows, columns = np.nonzero(peak)
    order = np.argsort(-plane[rows, columns], kind="stable")
    return rows[order[:most]], columns[order[:most]], max(len(order) - most, 0)
