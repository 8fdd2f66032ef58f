"""Pictures that benchmarks work on."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage, special


def photograph(width: int = 1920, height: int = 1080, seed: int = 3) -> NDArray[np.uint8]:
    """A photograph-like scene, 8 bit: shaded ground, some hundred discs and bars of all contrasts, blur, texture, noise."""
    random = np.random.default_rng(seed)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    picture = 110 + 40 * np.sin(x / 700) + 25 * y / height
    for _ in range(160):
        cx, cy, r = random.uniform(0, width), random.uniform(0, height), random.uniform(8, 90)
        level, turn, flat = random.uniform(20, 235), random.uniform(0, np.pi), random.uniform(0.25, 1)
        x0, x1, y0, y1 = (
            int(np.clip(v, 0, m)) for v, m in ((cx - r, width), (cx + r + 1, width), (cy - r, height), (cy + r + 1, height))
        )
        u, v = x[y0:y1, x0:x1] - cx, y[y0:y1, x0:x1] - cy
        a, b = u * np.cos(turn) + v * np.sin(turn), (v * np.cos(turn) - u * np.sin(turn)) / flat
        inside = np.hypot(a, b) < r if random.random() < 0.5 else np.maximum(abs(a), abs(b)) < 0.7 * r
        picture[y0:y1, x0:x1][inside] += 0.6 * (level - picture[y0:y1, x0:x1][inside])
    picture = ndimage.gaussian_filter(picture, 0.9)
    picture += 1.5 * ndimage.gaussian_filter(random.normal(size=picture.shape), 2.0) / 0.14
    picture += random.normal(0, 1, picture.shape) * np.sqrt(1.5 + 0.02 * np.maximum(picture, 0))
    return np.clip(np.round(picture), 0, 255).astype(np.uint8)


def blurred_step(
    angle: float, offset: float, contrast: float, blur: float, noise: float, size: int, seed: int
) -> NDArray[np.float32]:
    """A straight step through the middle, its gradient towards `angle` degrees, `offset` px from the centre."""
    random = np.random.default_rng(seed)
    y, x = np.mgrid[0:size, 0:size].astype(float) - (size - 1) / 2
    distance = x * np.cos(np.radians(angle)) + y * np.sin(np.radians(angle)) - offset
    picture = 100 + contrast * 0.5 * (1 + special.erf(distance / blur / np.sqrt(2)))
    return np.asarray(picture + random.normal(0, noise, picture.shape), np.float32)
