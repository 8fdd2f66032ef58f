"""Thresholds: the noise of pixels and the side of the background, on the fast path and the plain one."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from lucid_finch.core.detectors.shared.thresholds import Level, _frame_is_dark
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.regions.thresholding import has_noise, pixel_noise


def pictures() -> list[Any]:
    """Flat, half flat, ramps and noise, in every pixel type, with rows of even and odd length."""
    random = np.random.default_rng(5)
    found: list[Any] = []
    for width in (3, 8, 41):
        noise = random.integers(0, 200, (30, width))
        half = noise.copy()
        half[:, : width // 2 + 1] = 90
        for plane in (np.full((30, width), 77), noise, half, np.tile(np.arange(width), (30, 1))):
            found += [plane.astype(np.uint8), plane.astype(np.uint16) * 300, (plane / 200).astype(np.float32)]
    return found


class Noise(unittest.TestCase):
    def test_whether_there_is_any_agrees_with_how_much(self) -> None:
        answers = [has_noise(plane) for plane in pictures()]
        self.assertEqual(answers, [pixel_noise(plane) > 0 for plane in pictures()])
        self.assertEqual({True, False}, set(answers))

    def test_its_size_is_right_in_every_type(self) -> None:
        noise = np.random.default_rng(1).normal(0, 4, (300, 400))
        self.assertAlmostEqual(pixel_noise(noise.astype(np.float32)), 4.0, delta=0.05)
        # Of whole numbers the median is one: half a step of it is a twentieth here.
        for plane in ((100 + noise).round().astype(np.uint8), (20_000 + noise).round().astype(np.uint16)):
            self.assertAlmostEqual(pixel_noise(plane), 4.0, delta=0.3)

    def test_narrow_images_have_none(self) -> None:
        self.assertEqual(pixel_noise(np.zeros((5, 2), np.uint8)), 0.0)
        self.assertFalse(has_noise(np.zeros((5, 2), np.uint8)))


class Frame(unittest.TestCase):
    def test_the_outermost_pixels_decide_with_and_without_a_mask(self) -> None:
        for inside, outside, dark in ((200, 40, True), (40, 200, False)):
            plane = np.full((30, 40), outside, np.uint8)
            plane[5:-5, 5:-5] = inside
            image = Image.from_array(plane)
            level = Level("fixed", True, 0.0, None, None, None, 120.0, None, 0, 0.0)
            self.assertEqual(_frame_is_dark(image, level, None), dark)
            self.assertEqual(_frame_is_dark(image, level, np.zeros(plane.shape, np.uint8)), dark)
            # Where the rim is masked out, what lies behind it decides.
            masked = np.ones(plane.shape, np.uint8)
            masked[5:-5, 5:-5] = 0
            self.assertEqual(_frame_is_dark(image, level, masked), not dark)


if __name__ == "__main__":
    unittest.main()
