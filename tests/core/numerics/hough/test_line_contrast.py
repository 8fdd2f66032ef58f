"""Lines in noise: a short and turned piece is lengthened and turned to the whole line; noise and rows of spots have none."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.hough.line_contrast import LineContrast, line_contrast

_SHAPE = 240, 320
_NOISE = 30.0


def _place(theta: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Distance from the line through the centre with a normal, and position along it, of each pixel."""
    y, x = np.mgrid[: _SHAPE[0], : _SHAPE[1]].astype(float)
    x, y = x - 0.5 * (_SHAPE[1] - 1), y - 0.5 * (_SHAPE[0] - 1)
    return x * math.cos(theta) + y * math.sin(theta), y * math.cos(theta) - x * math.sin(theta)


def _noisy(picture: Any, seed: int = 0) -> NDArray[np.float32]:
    return np.asarray(picture + np.random.default_rng(seed).normal(0, _NOISE, _SHAPE), np.float32)


def _measured(pixels: NDArray[np.float32], *lines: tuple[float, ...], mask: Any = None) -> LineContrast:
    """Of lines as (theta, rho, t1, t2, side)."""
    columns = dict(zip(("theta", "rho", "t1", "t2", "side"), np.array(lines, float).T.copy(), strict=True))
    return line_contrast(pixels, mask, 1.0, columns, np.arange(len(lines)))


class LineContrasts(unittest.TestCase):
    def test_a_piece_becomes_the_whole_line(self) -> None:
        for theta in (0.4, 1.5, 2.6):
            across, along = _place(theta)
            inside = (across > 0) & (across < 30) & (along > -70) & (along < 90)
            found = _measured(_noisy(100 + 25 * inside), (theta + 0.03, 1.5, -30, 20, 1))
            with self.subTest(theta=theta):
                self.assertGreater(found.clear[0], 8)
                self.assertLess(abs(found.theta[0] - theta), math.radians(0.6))
                self.assertLess(abs(found.rho[0]), 1.2)
                self.assertLess(abs(found.t1[0] + 70), 8)
                self.assertLess(abs(found.t2[0] - 90), 8)
                self.assertGreater(found.held[0], 120)

    def test_the_wrong_polarity_has_none(self) -> None:
        across, _ = _place(0.4)
        found = _measured(_noisy(100 + 25 * (across > 0)), (0.4, 0.0, -60, 60, -1), (0.4, 0.0, -60, 60, 0.1))
        self.assertEqual(found.clear.tolist(), [0, 0])
        self.assertEqual(found.theta.tolist(), [0.4, 0.4])

    def test_noise_has_none(self) -> None:
        random = np.random.default_rng(1)
        lines = [(random.uniform(0, 3), random.uniform(-40, 40), -h, h, 1) for h in random.uniform(20, 70, 60)]
        self.assertLess(_measured(_noisy(np.full(_SHAPE, 100.0)), *lines).clear.max(), 6)

    def test_a_row_of_spots_is_no_line(self) -> None:
        across, along = _place(0.4)
        even = _measured(_noisy(100 + 60 * (across > 0)), (0.4, 0.0, -80, 80, 1)).clear[0]
        spots = (across > 0) & (across < 12) & (np.abs((along % 60) - 30) < 8)
        self.assertLess(_measured(_noisy(100 + 200 * spots), (0.4, 0.0, -80, 80, 1)).clear[0], 0.4 * even)

    def test_nothing_is_read_where_the_image_is_masked(self) -> None:
        across, along = _place(0.4)
        pixels = _noisy(100 + 25 * (across > 0))
        pixels[along > 40] = 1e6
        found = _measured(pixels, (0.4, 0.0, -60, 20, 1), mask=along <= 40)
        self.assertLess(found.t2[0], 42)
        self.assertLess(abs(found.theta[0] - 0.4), math.radians(0.6))
