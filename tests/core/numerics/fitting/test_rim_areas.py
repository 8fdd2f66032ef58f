"""Polygons by the grey levels between them and a circle: told in noise and screens, at any phase and polarity; discs are none."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.fitting.rim_areas import polygon_areas, polygon_swings

_SIZE, _RADIUS = 128, 34.0


def _picture(
    corners: int, noise: float, seed: int, contrast: float = 60.0, turn: float = 0.0, radius: float = _RADIUS, blur: float = 0.8
) -> NDArray[np.float32]:
    """A regular polygon of a mean radius, or a disc (`corners` 0), blurred, in noise."""
    y, x = np.mgrid[: 4 * _SIZE, : 4 * _SIZE] / 4 - 63.6
    at = np.arctan2(y, x) + turn
    reach: Any = radius
    if corners:
        half = math.pi / corners
        reach = 1 / np.cos((at + half) % (2 * half) - half)
        reach = radius * reach / reach.mean()
    inside = (np.hypot(x, y) < reach).reshape(_SIZE, 4, _SIZE, 4).mean(axis=(1, 3))
    drawn = 100 + contrast * ndimage.gaussian_filter(inside, blur)
    return (drawn + np.random.default_rng(seed).normal(0, noise, drawn.shape)).astype(np.float32)


def _share(pixels: NDArray[np.float32], radius: float = _RADIUS, x: float = 63.2, mask: Any = None) -> float:
    circles = {"x": np.array([x]), "y": np.array([63.2]), "radius": np.array([radius]), "contrast": np.array([60.0])}
    return float(polygon_areas(pixels, mask, circles, np.array([0]))[0])


def _swing(corners: int, radius: float, turn: float = 0.0) -> float:
    """The share in a screen of cells of 6 px, which is smoothed away."""
    y, x = np.mgrid[:_SIZE, :_SIZE].astype(float)
    screen = 45 * np.cos(2 * np.pi * (0.9 * x + 0.4 * y) / 6) * np.cos(2 * np.pi * (0.9 * y - 0.4 * x) / 6)
    pixels = smoothed((_picture(corners, 3, 1, turn=turn, radius=radius) + screen).astype(np.float32), gaussian_kernel(3.2))
    circles = {"x": np.array([63.2, 5.0]), "y": np.array([63.2, 5.0]), "radius": np.array([radius, radius])}
    shares = polygon_swings(pixels, None, circles, np.arange(2), 3.2)
    # Of the second, too little is inside the image.
    assert shares[1] == 0.0
    return float(shares[0])


class PolygonSwings(unittest.TestCase):
    def test_polygons_and_discs_in_a_screen(self) -> None:
        for corners, radius in ((6, 26.0), (6, 40.0), (8, 28.0), (8, 40.0)):
            with self.subTest(corners=corners, radius=radius):
                for turn in (0.0, 0.2, 0.31):
                    self.assertTrue(0.6 < _swing(corners, radius, turn) < 1.1)
        self.assertEqual(_swing(0, 9.0), 0.0)
        self.assertLess(max(_swing(0, radius) for radius in (24.0, 30.0, 40.0)), 0.2)


class PolygonAreas(unittest.TestCase):
    def test_polygons_in_noise(self) -> None:
        for corners in (5, 6, 8):
            shares = [_share(_picture(corners, 40, seed, turn=0.1 * seed)) for seed in range(6)]
            with self.subTest(corners=corners):
                self.assertGreater(min(shares), 0.55)
                self.assertLess(abs(float(np.mean(shares)) - 1), 0.35)
        self.assertGreater(_share(_picture(6, 40, 0, contrast=-60.0)), 0.55)

    def test_what_blur_leaves_follows_the_size(self) -> None:
        for corners, radius in ((6, 18.0), (6, 50.0), (8, 24.0), (8, 34.0), (8, 54.0), (10, 54.0)):
            with self.subTest(corners=corners, radius=radius):
                shares = [_share(_picture(corners, 4, seed, radius=radius, blur=1.0), radius) for seed in range(3)]
                self.assertLess(abs(float(np.mean(shares)) - 1), 0.12, shares)

    def test_discs_in_noise(self) -> None:
        self.assertEqual([_share(_picture(0, noise, seed)) for noise in (5, 40) for seed in range(6)], [0.0] * 12)
        # One that is hidden by a bar in part makes many waves at once.
        pixels = _picture(0, 20, 1)
        pixels[55:75, 63:] = 160
        self.assertEqual(_share(pixels), 0.0)

    def test_what_is_not_seen_is_not_judged(self) -> None:
        pixels = _picture(6, 5, 0)
        self.assertGreater(_share(pixels), 0.7)
        self.assertEqual(_share(pixels, x=20.0), 0.0)
        valid = np.ones(pixels.shape, bool)
        valid[:, 70:] = False
        self.assertEqual(_share(pixels, mask=valid), 0.0)
        self.assertEqual(_share(np.full((_SIZE, _SIZE), 90, np.float32)), 0.0)


if __name__ == "__main__":
    unittest.main()
