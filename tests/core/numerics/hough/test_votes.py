"""Votes for lines and for centres of circles, against histograms of every vote."""

from __future__ import annotations

import itertools
import math
import unittest

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.hough.circle_votes import bands, centre_votes, find_centres
from lucid_finch.core.numerics.hough.line_votes import LineSpace, VotingPoints, line_votes, trace_lines


def voting(count: int, reach: float, seed: int = 0) -> VotingPoints:
    random = np.random.default_rng(seed)
    x, y = (random.uniform(-reach, reach, count).astype(np.float32) for _ in range(2))
    turn = random.uniform(0, 2 * np.pi, count)
    angle_error, weight = random.uniform(0.02, 0.35, count).astype(np.float32), random.integers(1, 9, count).astype(np.int32)
    return VotingPoints(x, y, np.cos(turn).astype(np.float32), np.sin(turn).astype(np.float32), angle_error, weight)


class Lines(unittest.TestCase):
    def test_every_vote_lands_in_its_cell(self) -> None:
        v = voting(400, 70.0)
        for angles, step in ((180, 1.0), (90, 2.0), (360, 0.5)):
            space = LineSpace(angles, step, 100.0)
            plain = np.zeros((angles, space.offsets), np.int64)
            low, high = space.angle_error(v)
            for i in range(len(v)):
                for b in range(low[i], high[i] + 1):
                    k = b % angles
                    turn = math.pi * k / angles
                    rho = float(v.x[i]) * math.cos(turn) + float(v.y[i]) * math.sin(turn)
                    plain[k, math.floor(rho / step + 0.5) + space.middle] += v.weight[i]
            votes = line_votes(v, space)
            self.assertEqual(int(votes.sum()), int(plain.sum()))
            # Rounding may move a vote to the next cell.
            self.assertLess(np.abs(votes - plain).sum(), 0.004 * plain.sum())

    def test_the_tables_repeat_with_every_half_turn(self) -> None:
        space = LineSpace(45, 1.0, 50.0)
        cosines, sines, rows = space.tables()
        for k in (0, 17, 44):
            for turn in range(3):
                at = turn * 45 + k
                self.assertAlmostEqual(float(cosines[at]), math.cos(math.pi * k / 45), places=6)
                self.assertAlmostEqual(float(sines[at]), math.sin(math.pi * k / 45), places=6)
                self.assertEqual(int(rows[at]), k * space.offsets)

    def test_nobody_votes(self) -> None:
        self.assertEqual(int(line_votes(voting(0, 1.0), LineSpace(180, 1.0, 50.0)).sum()), 0)

    def _row_of_points(self, turn: float, rho: float, count: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        t = np.arange(count) - count / 2
        return rho * math.cos(turn) - t * math.sin(turn), rho * math.sin(turn) + t * math.cos(turn)

    def test_lines_are_traced_in_every_direction_and_far_from_the_middle(self) -> None:
        """A long line is found as a whole although its first guess misses its ends by many px."""
        random = np.random.default_rng(4)
        for turn in np.radians([0.3, 44.6, 89.7, 90.4, 135.2, 179.6]).tolist():
            for rho in (-150.0, 3.0, 120.0):
                x, y = self._row_of_points(turn, rho, 420)
                inside = (np.abs(x) < 299) & (np.abs(y) < 219)
                x, y = x[inside], y[inside]
                side = np.full(len(x), turn) + random.normal(0, 0.03, len(x))
                off = random.normal(0, 0.15, len(x))
                x, y = x + off * math.cos(turn), y + off * math.sin(turn)
                extra = voting(300, 200.0, seed=7)
                both = VotingPoints(
                    np.concatenate([x, extra.x]).astype(np.float32), np.concatenate([y, extra.y]).astype(np.float32),
                    np.concatenate([np.cos(side), extra.nx]).astype(np.float32),
                    np.concatenate([np.sin(side), extra.ny]).astype(np.float32),
                    np.full(len(x) + 300, 0.1, np.float32), np.full(len(x) + 300, 4, np.int32),
                )  # fmt: skip
                # The row is one chain, every other point one of its own.
                along = np.concatenate([np.arange(len(x)), len(x) + 2 * np.arange(1, 301)]).astype(np.int32)
                traced = trace_lines(both, along, LineSpace(180, 1.0, 380.0), 600, 440, 2.5, 25.0)
                held = [set(traced.support[a:b].tolist()) for a, b in zip(traced.start[:-1], traced.start[1:], strict=True)]
                self.assertTrue(held)
                best = int(np.argmax([len(points) for points in held]))
                self.assertGreater(len(held[best] & set(range(len(x)))), 0.98 * len(x))
                away = abs((traced.theta[best] - turn + np.pi / 2) % np.pi - np.pi / 2)
                self.assertLess(math.degrees(away), 0.1)


class Centres(unittest.TestCase):
    def _points(self, count: int, seed: int) -> tuple[NDArray[np.float32], ...]:
        random = np.random.default_rng(seed)
        x, y = random.uniform(0, 99, count), random.uniform(0, 79, count)
        turn = random.uniform(0, 2 * np.pi, count)
        return tuple(np.asarray(a, np.float32) for a in (x, y, np.cos(turn), np.sin(turn)))

    def test_votes_are_those_of_every_radius_on_the_sides_asked_for(self) -> None:
        x, y, nx, ny = self._points(300, 2)
        for polarity, sides in ((0, (-1, 1)), (1, (-1,)), (-1, (1,))):
            plain = np.zeros((80, 100))
            for side in sides:
                for r in range(10, 21):
                    column = np.floor(x + side * r * nx + np.float32(0.5)).astype(int)
                    row = np.floor(y + side * r * ny + np.float32(0.5)).astype(int)
                    inside = (column >= 0) & (row >= 0) & (column < 100) & (row < 80)
                    np.add.at(plain, (row[inside], column[inside]), 1)
            votes = centre_votes(x, y, nx, ny, (100, 80), (10.0, 20.0), polarity)
            self.assertLess(np.abs(votes - plain).sum(), 0.002 * plain.sum() + 2)
            self.assertLess(abs(votes.sum() - plain.sum()), 3)

    def test_the_last_pixel_has_its_votes_and_none_of_those_from_beyond(self) -> None:
        x, y = np.full(40, 99.0, np.float32), np.full(40, 64.0, np.float32)
        nx, ny = np.zeros(40, np.float32), np.ones(40, np.float32)
        votes = centre_votes(x, y, nx, ny, (100, 80), (15.0, 15.0))
        self.assertEqual(float(votes[79, 99]), 40.0)
        self.assertEqual(float(votes.sum()), 80.0)
        self.assertEqual(float(centre_votes(x, y, nx, ny, (100, 80), (30.0, 30.0), -1).sum()), 0.0)

    def test_a_rim_is_found_among_points_of_chance(self) -> None:
        turns = np.linspace(0, 2 * np.pi, 200)[:-1]
        for cx, cy, radius in ((50.2, 40.7, 25.0), (30.0, 33.3, 9.0), (97.0, 40.0, 31.0)):
            rim = (cx + radius * np.cos(turns), cy + radius * np.sin(turns), np.cos(turns), np.sin(turns))
            seen = (rim[0] > 0) & (rim[0] < 99) & (rim[1] > 0) & (rim[1] < 79)
            every = tuple(
                np.concatenate([np.asarray(a[seen], np.float32), b]) for a, b in zip(rim, self._points(400, 5), strict=True)
            )
            found = find_centres(*every, (100, 80), (6.0, 40.0), 0.3, 50)
            near = np.hypot(found.x - cx, found.y - cy) <= found.unsure
            near &= (found.low - 1 <= radius) & (radius <= found.high + 1)
            self.assertTrue(near.any(), (cx, cy, radius))
            self.assertLess(int(np.flatnonzero(near)[0]), 5)
            self.assertTrue((np.diff(found.share) <= 0).all())

    def test_bands_cover_the_range_without_a_gap(self) -> None:
        found = bands(5.0, 100.0)
        self.assertAlmostEqual(found[0][0], 5.0)
        self.assertAlmostEqual(found[-1][1], 100.0)
        for (_, end), (begin, _) in itertools.pairwise(found):
            self.assertAlmostEqual(end, begin)


if __name__ == "__main__":
    unittest.main()
