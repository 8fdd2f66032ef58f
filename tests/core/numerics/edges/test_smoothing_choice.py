"""Smoothing chosen from an image: narrow where it is sharp and clear, wider for blur, noise and patterns, with the reason."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from scipy import ndimage

from lucid_finch.core.detector import Context
from lucid_finch.core.detectors.shared.edge_features import smoothing_of
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.smoothing_choice import SmoothingChoice


def squares(blur: float, noise: float, pattern: float = 0.0, period: float = 6.0) -> Image:
    """Bright squares, blurred, with a grating over them."""
    y, x = np.mgrid[:360, :480]
    plane = 90.0 + 70.0 * ((x % 120 > 30) & (x % 120 < 95) & (y % 120 > 30) & (y % 120 < 95))
    plane = ndimage.gaussian_filter(plane, blur) + pattern * np.sin(2 * np.pi * (0.8 * x + 0.6 * y) / period)
    return Image.from_array(np.clip(plane + np.random.default_rng(4).normal(0, noise, plane.shape), 0, 255).astype(np.uint8))


def chosen(image: Image) -> SmoothingChoice:
    return smoothing_of(image, None, None, Context())


class Choice(unittest.TestCase):
    def test_blur_is_measured(self) -> None:
        for blur in (0.8, 1.5, 3.0, 5.0):
            found = chosen(squares(blur, 1.0))
            self.assertAlmostEqual(found.blur, blur, delta=0.1 + 0.12 * blur)
            self.assertGreaterEqual(found.softest, found.blur)
            self.assertEqual(found.is_blurred, blur >= 1.4)

    def test_the_width_follows_blur(self) -> None:
        for blur, sigma in ((0.8, 1.2), (2.4, 2.4), (4.0, 4.0)):
            found = chosen(squares(blur, 1.0))
            self.assertEqual((found.sigma, "blurred" in found.reason), (sigma, sigma > 1.2), blur)
            self.assertFalse(found.hides_edges)
            self.assertEqual(found.for_lines(None), found)

    def test_noise_asks_for_less_for_lines(self) -> None:
        found = chosen(squares(0.8, 65.0))
        self.assertEqual((found.sigma, found.hides_edges, found.is_pattern), (4.0, True, False))
        along = found.for_lines(None)
        self.assertEqual((along.sigma, along.blur is found.blur), (2.4, True))
        self.assertIn("stand out", along.notes()[0])
        # What is given is taken, without a reason.
        self.assertEqual((found.for_lines(3.0).sigma, found.for_lines(3.0).notes()), (3.0, ()))

    def test_a_grating_is_a_pattern(self) -> None:
        found: Any = chosen(squares(0.8, 2.0, 30.0, 8.0))
        self.assertEqual((found.sigma, found.is_pattern, found.hides_edges), (4.0, True, True))
        self.assertEqual(found.for_lines(None).sigma, 4.0)


if __name__ == "__main__":
    unittest.main()
