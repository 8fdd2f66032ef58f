"""The parts that circles and ellipses are made of: tiles, matched weights, arcs, and rims moved to the grey levels."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.fitting.arcs import cut_arcs, pair_arcs
from lucid_finch.core.numerics.fitting.curve_refinement import refine_curves
from lucid_finch.core.numerics.hough.line_votes import VotingPoints, _runs
from lucid_finch.core.numerics.hough.tiles import TILE, tiled
from lucid_finch.core.numerics.profiles.normal_profiles import matched, matched_filter, matched_profiles, normal_profiles


def along_ellipse(
    a: float, b: float, turn: float, first: float, last: float, count: int, at: tuple[float, float] = (60.0, 50.0)
) -> tuple[Any, ...]:
    """Places on an ellipse with outward unit normals, as float32."""
    t = np.linspace(first, last, count)
    c, s = math.cos(turn), math.sin(turn)
    u, v, nu, nv = a * np.cos(t), b * np.sin(t), np.cos(t) / a, np.sin(t) / b
    size = np.hypot(nu, nv)
    x, y = at[0] + u * c - v * s, at[1] + u * s + v * c
    nx, ny = (nu * c - nv * s) / size, (nu * s + nv * c) / size
    return tuple(np.asarray(values, np.float32) for values in (x, y, nx, ny))


def arcs_of(*chains: tuple[Any, ...]) -> Any:
    """Arcs of chains of points that stand out well."""
    x, y, nx, ny = (np.concatenate([chain[k] for chain in chains]) for k in range(4))
    start = np.concatenate([[0], np.cumsum([len(chain[0]) for chain in chains])]).astype(np.int64)
    order = np.arange(len(x), dtype=np.int32)
    return cut_arcs(order, start, x, y, nx, ny, np.full(len(x), 20.0, np.float32), 100)


class Tiled(unittest.TestCase):
    def test_each_point_lies_in_its_tile(self) -> None:
        random = np.random.default_rng(3)
        x, y = (random.uniform(-0.5, n - 0.5, 300).astype(np.float32) for n in (100, 70))
        tiles = tiled(x, y, (100, 70))
        self.assertEqual((tiles.across, tiles.down), (7, 5))
        self.assertEqual(sorted(tiles.order.tolist()), list(range(300)))
        for tile in range(tiles.across * tiles.down):
            for i in tiles.order[tiles.first[tile] : tiles.first[tile + 1]].tolist():
                self.assertEqual((int(max(y[i], 0) // TILE), int(max(x[i], 0) // TILE)), divmod(tile, tiles.across))

    def test_points_beyond_count_to_the_nearest(self) -> None:
        far = np.array([-500.0, 500.0], np.float32)
        tiles = tiled(far, far, (40, 40), 20.0, 20.0)
        self.assertEqual(tiles.order[: tiles.first[1]].tolist(), [0])
        self.assertEqual(tiles.order[tiles.first[-2] :].tolist(), [1])

    def test_no_points(self) -> None:
        nothing = np.empty(0, np.float32)
        self.assertEqual(tiled(nothing, nothing, (40, 40)).first.tolist(), [0] * 10)


class MatchedWeights(unittest.TestCase):
    def _step(self, offset: float, blur: float, height: float) -> Any:
        row = 100 + height * np.array([0.5 * (1 + math.erf((k - 30 - offset) / blur / math.sqrt(2))) for k in range(61)])
        return np.tile(row.astype(np.float32), (20, 1))

    def test_a_step_lies_where_they_say_whatever_is_added(self) -> None:
        for blur in (0.8, 1.5):
            weights, gain = matched_filter(2.0, blur, 8)
            ramp = np.linspace(0, 30, 61, dtype=np.float32)[None, :]
            for added in (0.0, 40.0, ramp):
                pixels = np.ascontiguousarray(self._step(0.2, blur, 50.0) + np.float32(1) * added, np.float32)
                one = np.ones(3)
                found = matched_profiles(
                    pixels, None, 30 * one, 8 + np.arange(3.0), one, 0 * one, [weights], np.zeros(1, np.int64)
                )
                np.testing.assert_allclose(found.bend / (50.0 * gain), 0.2, atol=0.03)

    def test_they_err_less_than_the_second_derivative(self) -> None:
        blur, wide, noise = 0.95, 2.0, 3.0
        weights, gain = matched_filter(wide, blur, 7)
        step = np.ascontiguousarray(np.tile(self._step(0.2, blur, 40.0), (40, 1)), np.float32)
        noisy = np.ascontiguousarray(step + np.random.default_rng(1).normal(0, noise, step.shape), np.float32)
        one = np.ones(780)
        spread = []
        for by_match in (False, True):
            found = []
            for pixels in (step, noisy):
                given = pixels, None, 30 * one, 8 + np.arange(780.0), one, 0 * one
                plain = normal_profiles(*given, (wide,))
                section = matched_profiles(*given, [weights], np.zeros(1, np.int64))
                found.append(section.bend / (40.0 * gain) if by_match else -plain.bend / plain.third.mean())
            spread.append(found[1].std() / (found[0].mean() / 0.2))
        self.assertLess(spread[1], 0.99 * spread[0])

    def test_the_longer_they_reach_the_less_the_level_costs(self) -> None:
        efficiency = []
        for reach in (4, 6, 9):
            weights, gain = matched(0.95, reach)
            self.assertAlmostEqual(float(weights.sum()), 0.0, places=12)
            efficiency.append(gain**2 / float((weights**2).sum()))
        self.assertEqual(efficiency, sorted(efficiency))


class Arcs(unittest.TestCase):
    def test_a_whole_rim_is_one_arc(self) -> None:
        found = arcs_of(along_ellipse(30, 18, 0.4, 0.0, 2 * math.pi, 150))
        self.assertAlmostEqual(float(found.turn[0]), 2 * math.pi, delta=0.1)
        self.assertEqual(float(found.sign[0]), 1.0)
        np.testing.assert_allclose(found.shape[0, :4], (60, 50, 30, 18), atol=0.1)

    def test_an_edge_that_turns_both_ways_is_cut(self) -> None:
        one = along_ellipse(25, 25, 0.0, 0.0, 2.0, 50, (40.0, 40.0))
        x, y, nx, ny = (a[::-1] for a in along_ellipse(25, 25, 0.0, 2.0 + math.pi - 2.0, 2.0 + math.pi, 50, (0.0, 0.0)))
        # It goes on with the other sense, its normals turned round.
        joined = [
            np.concatenate([a, b]) for a, b in zip(one, (x - x[0] + one[0][-1], y - y[0] + one[1][-1], -nx, -ny), strict=True)
        ]
        found = arcs_of(tuple(np.ascontiguousarray(a, np.float32) for a in joined))
        self.assertGreaterEqual(len(found), 2)
        self.assertEqual(set(found.sign[:2].tolist()), {1.0, -1.0})

    def test_a_straight_edge_is_none(self) -> None:
        line = np.arange(60, dtype=np.float32)
        flat = np.zeros(60, np.float32)
        self.assertEqual(len(arcs_of((line, flat, flat, flat + 1))), 0)

    def test_two_arcs_of_one_ellipse_are_paired_and_two_of_others_are_not(self) -> None:
        one, two = along_ellipse(32, 18, 0.7, 0.2, 1.7, 45), along_ellipse(32, 18, 0.7, 3.3, 4.9, 45)
        pair = arcs_of(one, two)
        seeds = pair_arcs(pair, (5.0, 80.0), 0.2, 0.2, 100)
        best = next(k for k in range(len(seeds.sign)) if seeds.arcs[k, 0] != seeds.arcs[k, 1])
        np.testing.assert_allclose(seeds.shape[best, :4], (60, 50, 32, 18), atol=0.3)
        # The same two back to back: each lies on the outer side of the other.
        apart = arcs_of(one, along_ellipse(32, 18, 0.7, 3.3, 4.9, 45, (160.0, 140.0)))
        seeds = pair_arcs(apart, (5.0, 80.0), 0.2, 0.2, 100)
        self.assertFalse(any(a != b for a, b in seeds.arcs.tolist()))


class RefinedCurves(unittest.TestCase):
    def test_rims_move_to_the_grey_levels(self) -> None:
        fine = 4
        y, x = (np.mgrid[: 110 * fine, : 130 * fine].astype(np.float32) + 0.5) / fine - 0.5
        c, s = math.cos(0.5), math.sin(0.5)
        u, v = ((x - 62.3) * c + (y - 54.8) * s) / 34, ((y - 54.8) * c - (x - 62.3) * s) / 20
        plane = smoothed((90 + 60 * (u * u + v * v < 1)).astype(np.float32), gaussian_kernel(0.9 * fine))
        pixels = np.ascontiguousarray(plane.reshape(110, fine, 130, fine).mean(axis=(1, 3)), np.float32)
        px, py, _, _ = along_ellipse(33.8, 19.8, 0.5, 0.0, 6.2, 150, (62.4, 54.7))
        began = np.array([[62.4, 54.7, 33.8, 19.8, 0.5]])
        ends, which = np.array([0, 150]), np.arange(150, dtype=np.int32)
        given = pixels, None, px, py, ends, which, began, np.array([-1.0]), np.array([0.2]), 5
        found = refine_curves(*given, np.array([True]), 1.2)
        self.assertTrue(bool(found.measured[0]))
        np.testing.assert_allclose(found.shape[0], (62.3, 54.8, 34, 20, 0.5), atol=0.02)
        self.assertAlmostEqual(float(found.contrast[0]), 60.0, delta=1.0)
        # What is hardly a rim stays, but for what smoothing took.
        stays = refine_curves(*given, np.array([False]), 1.2)
        self.assertFalse(bool(stays.measured[0]))
        np.testing.assert_allclose(stays.shape[0, :2], began[0, :2])


class Runs(unittest.TestCase):
    def test_neighbours_along_a_chain_vote_as_one(self) -> None:
        x = np.arange(7, dtype=np.float32)
        flat, up = np.zeros(7, np.float32), np.ones(7, np.float32)
        ny = up.copy()
        ny[5:] = 0.0
        nx = 1 - ny
        voting = VotingPoints(x, flat, nx, ny, np.full(7, 0.2, np.float32), np.arange(1, 8, dtype=np.int32))
        # Points 0 to 3 and 4 to 6 are two chains; the last two of the second turn a corner.
        runs, run = _runs(voting, np.array([0, 1, 2, 3, 5, 6, 7], np.int32))
        self.assertEqual(run.tolist(), [0, 0, 0, 1, 2, 3, 3])
        self.assertEqual(runs.weight.tolist(), [6, 4, 5, 13])
        np.testing.assert_allclose(runs.x, [1, 3, 4, 5.5])
        np.testing.assert_allclose(np.hypot(runs.nx, runs.ny), 1.0, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
