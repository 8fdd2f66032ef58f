"""Homographies, lenses, lattices and the fit of planes behind a lens."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.numerics.targets.homographies import fit_homography, mapped, mapped_discs
from lucid_finch.core.numerics.targets.lattice import filled, find_lattices, oriented
from lucid_finch.core.numerics.targets.lens import distorted, turning_radius, undistorted
from lucid_finch.core.numerics.targets.plane_fits import Seen, fit_planes

TILTED = np.array([[0.9, 0.2, 0.1], [-0.1, 0.7, 0.05], [0.05, -0.3, 1.0]])
GRID = np.stack(np.meshgrid(np.arange(9.0), np.arange(7.0)), axis=-1).reshape(-1, 2)


class Homographies(unittest.TestCase):
    def test_found_from_four_points_or_more(self) -> None:
        square = np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]])
        for points in (square, (GRID - [4, 3]) / 8):
            found = fit_homography(points, mapped(TILTED, points))
            assert found is not None
            np.testing.assert_allclose(found, TILTED, atol=1e-9)

    def test_not_from_points_on_a_line(self) -> None:
        line = np.array([[0, 0], [1, 1], [2, 2], [3, 3], [4, 4.0]]) / 8
        self.assertIsNone(fit_homography(line, mapped(TILTED, line)))
        self.assertIsNone(fit_homography(GRID[:3], GRID[:3]))
        self.assertIsNone(fit_homography(np.ones((6, 2)), GRID[:6]))
        self.assertIsNone(fit_homography(np.full((6, 2), np.nan), GRID[:6]))

    def test_nothing_beyond_the_horizon(self) -> None:
        self.assertTrue(np.isnan(mapped(TILTED, np.array([[0.0, 4.0]]))).all())

    def test_the_middle_of_a_disc_s_ellipse(self) -> None:
        turn = np.linspace(0, 2 * np.pi, 2000, endpoint=False)
        rim = np.array([1.0, 0.5]) + 0.4 * np.stack([np.cos(turn), np.sin(turn)], axis=1)
        seen = mapped(TILTED, rim)
        # The middle of an ellipse is halfway between its extremes along any direction.
        middle = (seen.min(axis=0) + seen.max(axis=0)) / 2
        found = mapped_discs(TILTED, np.array([[1.0, 0.5]]), 0.4)[0]
        np.testing.assert_allclose(found, middle, atol=1e-6)
        self.assertGreater(np.hypot(*(found - mapped(TILTED, np.array([[1.0, 0.5]]))[0])), 1e-3)


class Lenses(unittest.TestCase):
    def test_there_and_back(self) -> None:
        places = np.random.default_rng(0).uniform(-0.7, 0.7, (200, 2))
        for k1, k2 in ((-0.2, 0.03), (0.15, 0.0), (0.0, 0.0), (-0.3, 0.1)):
            back = undistorted(distorted(places, k1, k2), k1, k2)
            np.testing.assert_allclose(back, places, atol=1e-9)

    def test_nothing_where_the_model_turns_back(self) -> None:
        radius = turning_radius(-0.3, 0.0)
        self.assertAlmostEqual(radius, np.sqrt(1 / 0.9))
        farthest = radius * (1 - 0.3 * radius**2)
        self.assertTrue(np.isnan(undistorted(np.array([[1.05 * farthest, 0.0]]), -0.3, 0.0)).all())
        self.assertTrue(np.isfinite(undistorted(np.array([[0.95 * farthest, 0.0]]), -0.3, 0.0)).all())
        self.assertEqual(turning_radius(0.1, 0.0), np.inf)


class Lattices(unittest.TestCase):
    def setUp(self) -> None:
        self.random = np.random.default_rng(3)
        self.points = 60 * mapped(np.array([[1, 0.1, 0], [-0.1, 0.8, 0], [0.01, 0.03, 1.0]]), GRID)

    def places(self, points: np.ndarray, columns: int | None = None, rows: int | None = None) -> dict[int, tuple[int, int]]:
        found = oriented(filled(find_lattices(points)[0]), points, columns, rows)
        return {int(p): (int(c), int(r)) for p, (c, r) in zip(found.points, found.places, strict=True)}

    def test_in_order_among_clutter(self) -> None:
        order = self.random.permutation(len(GRID))
        clutter = self.random.uniform(-100, 600, (40, 2))
        far = np.hypot(*(clutter[:, None] - self.points[None]).transpose(2, 0, 1)).min(axis=1)
        found = self.places(np.concatenate([self.points[order], clutter[far > 25]]))
        # A speck beside the grid may pass for the beginning of another column; the fit of a plane leaves it out.
        own = {point: place for point, place in found.items() if point < len(GRID)}
        shift = np.array([np.array(place) - GRID[order[point]] for point, place in own.items()])
        self.assertEqual(np.ptp(shift, axis=0).tolist(), [0, 0])
        self.assertEqual(len(own), len(GRID))
        self.assertLess(len(found), len(GRID) + 8)

    def test_across_a_gap(self) -> None:
        kept = np.flatnonzero(~np.isin(GRID[:, 0], (4, 5)))
        found = self.places(self.points[kept])
        self.assertEqual(len(found), len(kept))
        for point, place in found.items():
            self.assertEqual(place, tuple(GRID[kept[point]].astype(int)))

    def test_a_strong_lean_along_the_diagonal(self) -> None:
        c, s = np.cos(np.pi / 4), np.sin(np.pi / 4)
        lean = np.array([[c, -s], [s, c]]) @ np.diag([1.0, 0.5]) @ np.array([[c, s], [-s, c]])
        found = self.places(50 * GRID @ lean.T)
        self.assertEqual(len(found), len(GRID))
        self.assertEqual(max(found.values()), (8, 6))

    def test_turned_into_the_size_that_is_known(self) -> None:
        upright = 40 * GRID[:, ::-1]
        self.assertEqual(max(self.places(upright).values()), (6, 8))
        self.assertEqual(max(self.places(upright, 9, 7).values()), (8, 6))
        cut = self.places(self.points, 7, 7)
        self.assertEqual((len(cut), max(cut.values())), (49, (6, 6)))

    def test_none_among_few_or_scattered_points(self) -> None:
        self.assertEqual(find_lattices(np.empty((0, 2))), [])
        self.assertEqual(find_lattices(np.ones((12, 2))), [])
        line = np.stack([np.arange(20.0), np.zeros(20)], axis=1)
        self.assertEqual(find_lattices(line), [])


class PlaneFits(unittest.TestCase):
    middle, reference = (319.5, 239.5), 400.0
    bend = -0.12

    def seen(self, turn: np.ndarray, noise: float, seed: int = 0) -> Seen:
        u = mapped(turn, (GRID - [4, 3]) / 8)
        at = self.reference * distorted(u, self.bend, 0.0) + self.middle
        return Seen(GRID, at + np.random.default_rng(seed).normal(0, noise, at.shape))

    def test_exact_without_noise(self) -> None:
        fit = fit_planes([self.seen(TILTED, 0.0)], self.middle, self.reference)
        assert fit is not None
        self.assertAlmostEqual(fit.k1, self.bend, places=4)
        self.assertLess(fit.rms, 1e-3)

    def test_the_lens_of_several_views(self) -> None:
        turned = TILTED @ np.array([[0.9, -0.3, 0.1], [0.3, 0.9, -0.1], [0.1, 0.2, 1.0]])
        views = [self.seen(h, 0.05, k) for k, h in enumerate((TILTED, turned, np.diag([0.9, 0.9, 1.0])))]
        fit = fit_planes(views, self.middle, self.reference)
        assert fit is not None
        self.assertLess(abs(fit.k1 - self.bend), 0.003)
        self.assertLess(abs(fit.rms / 0.0707 - 1), 0.15)

    def test_terms_that_do_not_pay_are_left_out(self) -> None:
        at = self.reference * mapped(TILTED, (GRID - [4, 3]) / 8) + self.middle
        noisy = at + np.random.default_rng(1).normal(0, 0.1, at.shape)
        fit = fit_planes([Seen(GRID, noisy)], self.middle, self.reference)
        assert fit is not None
        self.assertEqual((fit.terms, fit.k1, fit.k2), (0, 0.0, 0.0))

    def test_outliers_are_left_out(self) -> None:
        seen = self.seen(TILTED, 0.03)
        seen.at[[5, 40]] += [3.0, -2.0]
        fit = fit_planes([seen], self.middle, self.reference)
        assert fit is not None
        self.assertEqual(np.flatnonzero(~fit.used[0]).tolist(), [5, 40])
        self.assertLess(abs(fit.k1 - self.bend), 0.01)

    def test_points_on_a_line_fix_no_plane(self) -> None:
        row = self.seen(TILTED, 0.0)
        on_line = GRID[:, 1] == 0
        self.assertIsNone(fit_planes([Seen(GRID[on_line], row.at[on_line])], self.middle, self.reference))
        self.assertIsNone(fit_planes([], self.middle, self.reference))


if __name__ == "__main__":
    unittest.main()
