"""Sharpness of lines: 1 at edges and strokes, 0 on an even ramp, whatever lies on one side."""

from __future__ import annotations

import unittest

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.hough.line_sharpness import line_sharpness

_X = np.arange(200) - 99.5


def _sharpness(across: NDArray[np.float64], apart: float = np.nan, sigma: float = 1.2, length: float = 120.0) -> float:
    """Of a vertical line through the middle of an image whose rows are all alike."""
    pixels = np.ascontiguousarray(np.tile(across, (160, 1)).astype(np.float32))
    ends = {"theta": np.zeros(1), "rho": np.zeros(1), "t1": np.array([-length / 2]), "t2": np.array([length / 2])}
    return float(line_sharpness(pixels, None, ends, np.array([apart]), sigma, np.array([0]))[0])


class LineSharpness(unittest.TestCase):
    def test_edges_and_ramps(self) -> None:
        self.assertGreater(_sharpness(100 + 50 * np.tanh(_X / 1.5)), 0.99)
        self.assertLess(_sharpness(100 + 2.0 * _X), 0.01)
        # The wider the blur, the less it falls off.
        blurred = [_sharpness(100 + 50 * np.tanh(_X / wide)) for wide in (2.0, 5.0, 10.0, 20.0)]
        self.assertEqual(blurred, sorted(blurred, reverse=True))
        self.assertGreater(_sharpness(100 + 50 * np.tanh(_X / 5.0), sigma=4.0), 0.9)

    def test_something_else_on_one_side_does_not_matter(self) -> None:
        step = 100 + 50 * np.tanh(_X / 1.5) + 5.0 * np.clip(_X - 2, 0, 20)
        self.assertGreater(_sharpness(step), 0.99)

    def test_strokes_are_looked_at_beside_both_sides(self) -> None:
        stroke = 100 + 60 * (np.abs(_X) < 3)
        self.assertGreater(_sharpness(stroke, apart=6.0), 0.99)
        ridge = 100 + 60 * np.exp(-((_X / 20) ** 2))
        self.assertLess(_sharpness(ridge, apart=28.0), 0.5)

    def test_rows_that_are_not_asked_for_and_lines_beyond_the_image(self) -> None:
        pixels = np.zeros((50, 50), np.float32)
        lines = {"theta": np.zeros(2), "rho": np.array([0.0, 500.0]), "t1": np.full(2, -10.0), "t2": np.full(2, 10.0)}
        found = line_sharpness(pixels, None, lines, np.full(2, np.nan), 1.2, np.array([1]))
        np.testing.assert_array_equal(found, [1.0, 1.0])


if __name__ == "__main__":
    unittest.main()
