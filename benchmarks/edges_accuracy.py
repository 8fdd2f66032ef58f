"""Accuracy of edge points on rendered steps: error over the Cramer-Rao bound of one row of pixels, bias, coverage."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from benchmarks.scenes import blurred_step
from lucid_finch.core.execution.engine import detect
from lucid_finch.core.image import Image

SIZE = 161
BLUR, NOISE = 0.9, 4.0


def measured(contrast: float, angle: float, offset: float, seed: int) -> tuple[NDArray[np.float64], float]:
    """Errors along the normal of the points near the step, and the share of it that is covered."""
    picture = blurred_step(angle, offset, contrast, BLUR, NOISE, SIZE, seed)
    found = detect("edges", Image.from_array(picture, value_range=(0, 255)), {})
    x, y = (found.points[c] - (SIZE - 1) / 2 for c in "xy")
    c, s = np.cos(np.radians(angle)), np.sin(np.radians(angle))
    error = x * c + y * s - offset
    near = np.abs(error) < 2
    along = (y * c - x * s)[near]
    places = np.arange(-70, 71)
    share = np.mean([np.abs(along - p).min(initial=9) <= 1 for p in places])
    return np.asarray(error[near], float), float(share)


def main() -> None:
    for contrast in (60.0, 12.0):
        bound = NOISE / contrast * np.sqrt(2 * np.sqrt(np.pi) * BLUR)
        angles = np.arange(0, 360, 7.5)
        random = np.random.default_rng(1)
        errors, shares, biases = [], [], []
        for angle in angles:
            several = [measured(contrast, angle, random.uniform(-0.5, 0.5), int(random.integers(1 << 30))) for _ in range(8)]
            errors.append(np.concatenate([e for e, _ in several]))
            shares += [s for _, s in several]
            biases.append(errors[-1].mean())
        everything = np.concatenate(errors)
        print(f"contrast {contrast:g}, noise {NOISE:g}, blur {BLUR:g}: {len(angles)} angles, {8 * len(angles)} pictures")
        print(
            f"  error along the normal {everything.std():.4f} px = {everything.std() / bound:.2f} times the bound {bound:.4f} px"
        )
        print(f"  bias {everything.mean():+.4f} px, largest at one angle {np.abs(biases).max():.4f} px")
        print(f"  covered: mean {100 * np.mean(shares):.1f} %, least {100 * np.min(shares):.1f} %")


if __name__ == "__main__":
    main()
