"""The sizes at which an image is searched: planes halved and sampled, so that an object of each size fills a window."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.filtering.halving import halved
from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

Plane = NDArray[np.float32]


@helper
def _inside(n, count):  # type: ignore[no-untyped-def]
    """A place mirrored into 0 .. count-1, where it lies at most a whole length outside."""
    n = -n - 1 if n < 0 else n
    n = 2 * count - 1 - n if n >= count else n
    return min(max(n, 0), count - 1)


@kernel
def _sampled(plane, left, top, step, first, last, out):  # type: ignore[no-untyped-def]
    """Linear samples at left + step c, top + step r; places beyond the border take the value mirrored there."""
    height, width = plane.shape
    for r in range(first, last):
        v = top + step * r
        y = int(np.floor(v))
        fy = np.float32(v - y)
        y0, y1 = _inside(y, height), _inside(y + 1, height)
        for c in range(out.shape[1]):
            u = left + step * c
            x = int(np.floor(u))
            fx = np.float32(u - x)
            x0, x1 = _inside(x, width), _inside(x + 1, width)
            above = plane[y0, x0] + fx * (plane[y0, x1] - plane[y0, x0])
            below = plane[y1, x0] + fx * (plane[y1, x1] - plane[y1, x0])
            out[r, c] = above + fy * (below - above)


class Octaves:
    """The planes of an image, each halved as often as is asked for."""

    def __init__(self, planes: tuple[Plane, ...]) -> None:
        self.levels = {0: planes}

    def sampled(self, scale: float, left: float, top: float, width: int, height: int) -> tuple[Plane, ...]:
        """Planes at `scale` of the image's size: pixel (0, 0) lies at (left, top) of that size."""
        octave, rest = 0, scale
        while rest <= 0.5 and min(self.levels[octave][0].shape) >= 4:
            octave, rest = octave + 1, 2 * rest
            # Two threads may make the same octave; it is the same.
            if octave not in self.levels:
                self.levels[octave] = tuple(halved(plane) for plane in self.levels[octave - 1])
        step = 1.0 / rest
        # Pixel centres: place p of the scaled image is (p + 0.5) step - 0.5 of the halved one.
        u, v = (left + 0.5) * step - 0.5, (top + 0.5) * step - 0.5
        out = []
        for plane in self.levels[octave]:
            made = np.empty((height, width), np.float32)
            over_bands(lambda a, b, p=plane, m=made: _sampled(p, u, v, step, a, b, m), height)  # type: ignore[misc]
            out.append(made)
        return tuple(out)
