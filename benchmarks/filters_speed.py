"""Speed of the filters against their plain NumPy/SciPy compositions, on 1920 x 1080, one thread: ratios of one run."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from benchmarks.scenes import photograph
from benchmarks.timing import fastest
from lucid_finch.core.numerics.edges.gradients import gradient_planes, magnitude, operator_kernels
from lucid_finch.core.numerics.filtering import filters, median_filters
from lucid_finch.core.numerics.runtime import threads


def composed_gradients(pixels: NDArray[Any]) -> tuple[Any, ...]:
    """Gaussian smoothing, both derivatives of it and their magnitude, array by array."""
    image = pixels.astype(np.float32)
    smooth = ndimage.gaussian_filter(image, 1.2, mode="mirror", truncate=3.5)
    gx = ndimage.gaussian_filter(image, 1.2, order=(0, 1), mode="mirror", truncate=3.5)
    gy = ndimage.gaussian_filter(image, 1.2, order=(1, 0), mode="mirror", truncate=3.5)
    return smooth, gx, gy, np.hypot(gx, gy)


def our_gradients(pixels: NDArray[Any]) -> tuple[Any, ...]:
    """The same, as the detectors take it."""
    kernels = operator_kernels("gaussian", 1.2)
    gx, gy = gradient_planes(pixels, kernels)
    return gx, gy, magnitude(gx, gy)


def composed_bilateral(pixels: NDArray[Any], sigma: float, spread: float) -> NDArray[np.float32]:
    """Neighbour by neighbour over whole arrays."""
    offsets, weights = filters.bilateral_offsets(sigma)
    radius = int(offsets.max())
    value = pixels.astype(np.float32)
    height, width = value.shape
    padded = np.pad(value, radius, "reflect")
    total, norm = value.copy(), np.ones_like(value)
    for (dy, dx), weight in zip([*offsets, *-offsets], [*weights, *weights], strict=True):
        other = padded[radius + dy : radius + dy + height, radius + dx : radius + dx + width]
        difference = other - value
        share = weight * np.exp(difference * difference * np.float32(-0.5 / spread**2))
        total += share * other
        norm += share
    return total / norm


def main() -> None:
    threads.set_thread_count(1)
    pixels = photograph(1920, 1080)
    size = 51
    rows: list[tuple[str, float, Callable[[], Any], Callable[[], Any], int]] = [
        ("smoothing with gradients", 10, lambda: our_gradients(pixels), lambda: composed_gradients(pixels), 5),
        ("median 5 x 5, bytes", 300, lambda: median_filters.median(pixels, 5), lambda: ndimage.median_filter(pixels, 5), 3),
        (
            f"local mean {size}", 10, lambda: filters.box_mean(pixels, size),
            lambda: ndimage.uniform_filter(pixels.astype(np.float32), size, mode="mirror"), 7,
        ),
        ("bilateral, sigma 2", 5, lambda: filters.bilateral(pixels, 2.0, 20.0), lambda: composed_bilateral(pixels, 2.0, 20.0), 2),
    ]  # fmt: skip
    for name, asked, ours, composed, times in rows:
        best = fastest({"ours": ours, "composed": composed}, times)
        mine, theirs = 1000 * best["ours"], 1000 * best["composed"]
        print(f"{name:26} {mine:7.2f} ms, composition {theirs:7.1f} ms: {theirs / mine:6.1f} times (asked {asked:g})")


if __name__ == "__main__":
    main()
