"""Findings of two runs belong together by their places; lines anywhere along them."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from lucid_finch.core.explanation.comparing import gained_and_lost


def lines(*ends: tuple[float, float, float, float]) -> dict[str, Any]:
    x1, y1, x2, y2 = np.array(ends, float).reshape(-1, 4).T
    return {"x": (x1 + x2) / 2, "y": (y1 + y2) / 2, "x1": x1, "y1": y1, "x2": x2, "y2": y2}


def spots(*places: tuple[float, float]) -> dict[str, Any]:
    x, y = np.array(places, float).reshape(-1, 2).T
    return {"x": x, "y": y}


class Counterparts(unittest.TestCase):
    def changes(self, before: Any, after: Any, within: float = 3.0) -> tuple[list[int], list[int]]:
        gained, lost = gained_and_lost(before, after, within)
        return gained.tolist(), lost.tolist()

    def test_spots_by_their_places(self) -> None:
        before, after = spots((10, 10), (50, 50)), spots((51, 50), (90, 90))
        self.assertEqual(self.changes(before, after), ([1], [0]))
        self.assertEqual(self.changes(before, after, 0.5), ([0, 1], [0, 1]))
        # Only one of two that are near is the same.
        self.assertEqual(self.changes(spots((10, 10)), spots((10.5, 10), (12, 10))), ([1], []))

    def test_mutual_neighbours_are_the_same(self) -> None:
        before, after = spots((0, 0), (10, 0), (50, 50)), spots((0.5, 0), (1.0, 0), (80, 80))
        self.assertEqual(self.changes(before, after, 2.0), ([1, 2], [1, 2]))

    def test_a_line_whose_ends_vary_is_the_same(self) -> None:
        before = lines((0, 20, 100, 20))
        self.assertEqual(self.changes(before, lines((0, 20.5, 60, 20.5))), ([], []))
        # Beside it, or across it with its middle elsewhere, it is another.
        self.assertEqual(self.changes(before, lines((0, 27, 100, 27))), ([0], [0]))
        self.assertEqual(self.changes(before, lines((50, 20, 50, 90))), ([0], [0]))

    def test_nothing_on_either_side(self) -> None:
        self.assertEqual(self.changes(spots(), spots((1, 1))), ([0], []))
        self.assertEqual(self.changes(lines((0, 0, 9, 9)), lines()), ([], [0]))
        self.assertEqual(self.changes(lines(), lines()), ([], []))


if __name__ == "__main__":
    unittest.main()
