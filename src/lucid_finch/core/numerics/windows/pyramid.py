"""The sizes at which an image is searched: planes halved and sampled, so that an object of each size fills a window."""

from __future__ import annotations

from lucid_finch.core.numerics.filtering.halving import halved
from lucid_finch.core.numerics.windows.channels import Planes, View


class Octaves:
    """The planes of an image, each halved as often as is asked for."""

    def __init__(self, planes: Planes) -> None:
        self.levels = {0: planes}

    def view(self, scale: float, left: float, top: float, width: int, height: int) -> View:
        """The image at `scale` of its size: pixel (0, 0) lies at (left, top) of that size."""
        octave, rest = 0, scale
        while rest <= 0.5 and min(self.levels[octave][0].shape) >= 4:
            octave, rest = octave + 1, 2 * rest
            # Two threads may make the same octave; it is the same.
            if octave not in self.levels:
                self.levels[octave] = tuple(halved(plane) for plane in self.levels[octave - 1])
        step = 1.0 / rest
        # Pixel centres: place p of the scaled image is (p + 0.5) step - 0.5 of the halved one.
        return View(self.levels[octave], (left + 0.5) * step - 0.5, (top + 0.5) * step - 0.5, step, width, height)
