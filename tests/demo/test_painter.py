"""What the painter of the scenes computes for parts of a picture only, against the whole."""

from __future__ import annotations

import unittest
from itertools import pairwise

import numpy as np

from lucid_finch.demo.painter import Canvas, polygon, polyline

POINTS = np.array([[10.0, 12.0], [41.5, 15.0], [30.0, 38.0], [-6.0, 30.0]])


def cells() -> tuple[np.ndarray, np.ndarray]:
    return np.arange(0, 60, 0.5, np.float32)[None, :], np.arange(0, 50, 0.5, np.float32)[:, None]


def from_all(points: np.ndarray) -> np.ndarray:
    """Distance from straight pieces, of every cell from every piece."""
    x, y = np.broadcast_arrays(*cells())
    nearest = np.full(x.shape, np.inf)
    for one, other in pairwise(points):
        step = other - one
        along = np.clip(((x - one[0]) * step[0] + (y - one[1]) * step[1]) / (step @ step), 0, 1)
        nearest = np.minimum(nearest, np.hypot(x - one[0] - along * step[0], y - one[1] - along * step[1]))
    return nearest


class Distances(unittest.TestCase):
    def test_a_stroke_is_exact_where_it_is_and_beside_it(self) -> None:
        for width, beyond in ((3.0, 2.0), (9.0, 2.0), (1.0, 6.0)):
            found, exact = polyline(POINTS, width, beyond)(*cells()), from_all(POINTS) - width / 2
            near = exact < beyond - 1e-3
            np.testing.assert_allclose(found[near], exact[near], atol=1e-4)
            self.assertTrue((found[~near] > beyond - 2e-3).all())

    def test_a_polygon_is_negative_inside_and_as_far_as_asked(self) -> None:
        closed = np.concatenate([POINTS, POINTS[:1]])
        found, exact = polygon(POINTS, 5.0)(*cells()), from_all(closed)
        near = exact < 5.0 - 1e-3
        np.testing.assert_allclose(np.abs(found[near]), exact[near], atol=1e-4)
        x, y = (int(2 * v) for v in (27.0, 22.0))
        self.assertLess(found[y, x], 0)
        self.assertGreater(found[2, 2], 0)

    def test_what_is_filled_does_not_depend_on_how_far_distances_go(self) -> None:
        painted = []
        for beyond in (2.0, 100.0):
            canvas = Canvas(60, 50, (100.0, 100.0, 100.0), 1)
            canvas.fill(polyline(POINTS, 4.0, beyond), (10.0, 20.0, 30.0), opacity=0.4)
            canvas.fill(polygon(POINTS, beyond), (200.0, 20.0, 30.0))
            painted.append(canvas.cells)
        np.testing.assert_array_equal(*painted)
        self.assertGreater(int((painted[0] != 100.0).sum()), 1000)


if __name__ == "__main__":
    unittest.main()
