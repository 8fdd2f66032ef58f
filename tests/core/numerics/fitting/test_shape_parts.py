"""The parts that lines and circles are made of, each against a plain version of itself."""

from __future__ import annotations

import math
import unittest
from itertools import combinations, pairwise

import numpy as np

from lucid_finch.core.numerics.edges.chain_normals import chain_normals
from lucid_finch.core.numerics.fitting.rim_support import Rims, filed_points, own_coverage
from lucid_finch.core.numerics.hough.line_votes import best_parts, block_density, relative_entropy
from lucid_finch.core.numerics.profiles.scan_lines import find_extrema
from lucid_finch.core.numerics.suppression import suppress


class Partition(unittest.TestCase):
    def _worth(self, begin: list[float], end: list[float], held: list[float], first: int, last: int) -> float:
        """What the stretch of the pieces first .. last is worth, by its definition."""
        length = sum(end[k] - begin[k] for k in range(first, last + 1))
        for k in range(first, last):
            gap = begin[k + 1] - end[k]
            # What of all pieces lies within three gaps of this one.
            low, high = end[k] - 3 * gap, begin[k + 1] + 3 * gap
            near = sum(max(min(e, high) - max(b, low), 0.0) for b, e in zip(begin, end, strict=True))
            length += gap * min(2 * gap / near, 1.0)
        share = min(sum(held[first : last + 1]) / max(length, 1.0), 1.0)
        return length / 3.0 * float(relative_entropy(share, 0.05)) - 12.0

    def test_the_best_partition_is_that_of_trying_all(self) -> None:
        random = np.random.default_rng(2)
        for _ in range(12):
            count = 6
            steps = random.uniform(3, 40, 2 * count)
            ends = np.cumsum(steps)
            begin, end = ends[0::2].copy(), ends[1::2].copy()
            held = (end - begin) * random.uniform(0.5, 1.0, count)
            score, back = np.empty(count + 1), np.empty(count + 1, np.int64)
            found = best_parts(begin, end, held, 0.05, 3.0, 12.0, score, back)
            best = 0.0
            spans = [(a, b) for a in range(count) for b in range(a, count)]
            for number in range(1, 4):
                for chosen in combinations(spans, number):
                    if all(x[1] < y[0] for x, y in pairwise(chosen)):
                        best = max(best, sum(self._worth(begin.tolist(), end.tolist(), held.tolist(), *s) for s in chosen))
            self.assertGreaterEqual(found, best - 1e-9)
            # What it says it chose is worth what it says.
            total, j = 0.0, count
            while j > 0:
                if back[j] == j:
                    j -= 1
                    continue
                total += self._worth(begin.tolist(), end.tolist(), held.tolist(), int(back[j]), j - 1)
                j = int(back[j])
            self.assertAlmostEqual(found, total, places=9)

    def test_nothing_is_worth_nothing(self) -> None:
        score, back = np.empty(2), np.empty(2, np.int64)
        one = np.array([0.0]), np.array([4.0]), np.array([4.0])
        self.assertEqual(best_parts(*one, 0.05, 3.0, 12.0, score, back), 0.0)


class Points(unittest.TestCase):
    def test_density_of_blocks(self) -> None:
        x, y = np.array([3.0, 10.0, 70.0, 130.0]), np.array([3.0, 60.0, 5.0, 70.0])
        density = block_density(x, y, 140, 80)
        self.assertEqual(density.shape, (2, 3))
        self.assertAlmostEqual(float(density[0, 0]), 2 / 4096, places=7)
        self.assertAlmostEqual(float(density[1, 2]), 1 / max(12 * 16, 256), places=7)

    def test_directions_are_means_along_the_chain(self) -> None:
        turns = np.radians([0.0, 10.0, 20.0, 30.0, 40.0])
        gx, gy = np.cos(turns).astype(np.float32), np.sin(turns).astype(np.float32)
        order, start = np.arange(5, dtype=np.int32), np.array([0, 5])
        unsure = np.ones(5, np.float32)
        found = chain_normals(order, start, np.array([False]), gx, gy, unsure, 2)
        # At the ends nothing lies on one side: they keep their own.
        np.testing.assert_allclose(np.degrees(np.arctan2(found.ny, found.nx)), [0, 10, 20, 30, 40], atol=1e-4)
        np.testing.assert_array_equal(found.along, np.arange(5))
        np.testing.assert_array_equal(found.members, np.full(5, 5))
        around = chain_normals(order, start, np.array([True]), gx, gy, unsure, 1)
        self.assertAlmostEqual(float(around.nx[0]), math.cos(math.radians(50 / 3)), delta=0.02)

    def test_filed_points_are_all_there(self) -> None:
        random = np.random.default_rng(1)
        x, y = (random.uniform(-0.4, n - 0.6, 200).astype(np.float32) for n in (90, 50))
        filed = filed_points(x, y, x, y, *2 * [np.arange(200, dtype=np.int32)], (90, 50))
        self.assertEqual(sorted(filed.order.tolist()), list(range(200)))
        self.assertEqual(int(filed.first[-1]), 200)
        np.testing.assert_array_equal(filed.x, x[filed.order])

    def test_points_count_for_the_better_circle_alone(self) -> None:
        angle = np.concatenate([np.arange(16) / 16, np.arange(16) / 16]) + 0.01
        support = np.concatenate([np.arange(16), np.arange(8, 24)]).astype(np.int32)
        rims = Rims({"radius": np.array([3.8, 3.8])}, np.array([0, 16, 32]), support, angle)
        np.testing.assert_allclose(own_coverage(rims, np.full(2, 24.0), np.array([2.0, 1.0])), [1.0, 0.5])
        np.testing.assert_allclose(own_coverage(rims, np.full(2, 24.0), np.array([1.0, 2.0])), [0.5, 1.0])


class Loops(unittest.TestCase):
    def test_extrema_are_those_of_looking_at_each(self) -> None:
        slope = np.random.default_rng(4).normal(0, 1, (30, 60)).astype(np.float32)
        slope[3, 5:9] = np.nan
        scan, at, sizes = find_extrema(slope, 0.8)
        size = np.abs(slope)
        expected = [
            (s, k) for s in range(30) for k in range(1, 59)
            if size[s, k] >= 0.8 and size[s, k] > size[s, k - 1] and size[s, k] >= size[s, k + 1]
        ]  # fmt: skip
        self.assertEqual(list(zip(scan.tolist(), at.tolist(), strict=True)), expected)
        np.testing.assert_array_equal(sizes[:, 1].astype(np.float32), size[scan, at])

    def test_many_rivals_are_beaten_by_the_best_of_them(self) -> None:
        random = np.random.default_rng(6)
        count = 60
        order = random.permutation(count)
        pairs = random.integers(0, count, (150, 2))
        pairs = pairs[pairs[:, 0] != pairs[:, 1]]
        stands, beaten_by = suppress(order, pairs, np.ones(count, bool))
        expected = np.ones(count, bool)
        for a in order.tolist():
            if expected[a]:
                place = {c: n for n, c in enumerate(order.tolist())}
                for p, q in pairs.tolist():
                    other = q if p == a else p if q == a else -1
                    if other >= 0 and place[other] > place[a]:
                        expected[other] = False
        np.testing.assert_array_equal(stands, expected)
        self.assertTrue((beaten_by[~stands] >= 0).all() and (beaten_by[stands] < 0).all())


if __name__ == "__main__":
    unittest.main()
