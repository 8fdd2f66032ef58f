"""Limits, exclusions, order and what a change would bring."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.judging import Exclusions, Limit, Outcome, gained_and_lost, judge, reading_order, with_limit

STRENGTH = Limit("strength_min", "strength", "at least", 5.0)
ERROR = Limit("error_max", "error", "at most", 2.0)
COLUMNS = {"strength": np.array([9.0, 4.0, 7.0, np.nan, 6.0]), "error": np.array([1.0, 3.0, 5.0, 0.0, 2.0])}
SCORE = np.array([9.0, 4.0, 7.0, 1.0, 6.0])


class Judging(unittest.TestCase):
    def test_limits_and_the_worst_failure(self) -> None:
        result = judge(COLUMNS, (STRENGTH, ERROR), SCORE)
        self.assertEqual(result.outcome.tolist(), [0, 1, 1, 1, 0])
        self.assertEqual(result.failed.tolist(), [-1, 1, 1, 0, -1])
        self.assertEqual(result.found.tolist(), [0, 4])

    def test_not_a_number_never_passes(self) -> None:
        self.assertFalse(STRENGTH.passed(np.nan) or ERROR.passed(np.nan))

    def test_the_best_is_accepted_and_suppresses(self) -> None:
        exclusions = Exclusions("spacing", np.array([[0, 2], [2, 4]]), np.array([1.0, 1.0]), 0.5)
        result = judge(COLUMNS, (), SCORE, exclusions)
        # 0 suppresses 2; since 2 is gone, 4 is accepted.
        self.assertEqual(result.outcome.tolist(), [0, 0, Outcome.SUPPRESSED, 0, 0])
        self.assertEqual(result.lost_to[2], 0)

    def test_a_rejected_candidate_suppresses_nothing(self) -> None:
        exclusions = Exclusions("spacing", np.array([[2, 4]]), np.array([1.0]), 0.5)
        result = judge(COLUMNS, (ERROR,), SCORE, exclusions)
        self.assertEqual(result.outcome[4], Outcome.FOUND)

    def test_keep(self) -> None:
        result = judge(COLUMNS, (), SCORE, keep=2)
        self.assertEqual(result.found.tolist(), [0, 2])
        self.assertEqual((result.outcome == Outcome.SURPLUS).sum(), 3)

    def test_loosening_can_lose(self) -> None:
        exclusions = Exclusions("spacing", np.array([[2, 4]]), np.array([1.0]), 0.5)
        before = judge(COLUMNS, (ERROR,), SCORE, exclusions)
        after = judge(COLUMNS, with_limit((ERROR,), ERROR, 5.0), SCORE, exclusions)
        gained, lost = gained_and_lost(before, after)
        self.assertEqual((gained.tolist(), lost.tolist()), ([1, 2], [4]))

    def test_the_ends_of_a_range_are_limits_of_their_own(self) -> None:
        values = np.array([1.0, 5.0, 9.0, np.nan])
        low, high = Limit("area", "area", "at least", 3.0, 0), Limit("area", "area", "at most", 7.0, 1)
        score = np.array([4.0, 3.0, 2.0, 1.0])
        result = judge({"area": values}, (low, high), score)
        self.assertEqual(result.found.tolist(), [1])
        self.assertEqual(result.failed.tolist()[::2], [0, 1])
        loose = judge({"area": values}, with_limit((low, high), high, 9.0), score)
        self.assertEqual(loose.found.tolist(), [1, 2])
        self.assertEqual(with_limit((low, high), high, 9.0)[0], low)

    def test_nothing_at_all(self) -> None:
        result = judge({"strength": np.empty(0)}, (STRENGTH,), np.empty(0))
        self.assertEqual(len(result.found), 0)

    def test_many_exclusions_against_a_plain_loop(self) -> None:
        random = np.random.default_rng(4)
        score = random.random(400)
        pairs = random.integers(0, 400, (3000, 2))
        pairs = pairs[pairs[:, 0] != pairs[:, 1]]
        result = judge({}, (), score, Exclusions("r", pairs, np.ones(len(pairs)), 0.0))
        neighbours: dict[int, set[int]] = {i: set() for i in range(400)}
        for a, b in pairs.tolist():
            neighbours[a].add(b)
            neighbours[b].add(a)
        standing: set[int] = set()
        for i in np.argsort(-score).tolist():
            if not neighbours[i] & standing:
                standing.add(i)
        self.assertEqual(set(result.found.tolist()), standing)


class ReadingOrder(unittest.TestCase):
    def test_rows_then_columns(self) -> None:
        x = np.array([50.0, 10.0, 30.0, 12.0, 48.0])
        y = np.array([10.0, 12.0, 11.0, 60.0, 58.0])
        self.assertEqual(reading_order(x, y, 20.0).tolist(), [1, 2, 0, 3, 4])

    def test_a_small_shift_does_not_renumber(self) -> None:
        random = np.random.default_rng(0)
        x, y = np.tile(np.arange(6) * 40.0, 4), np.repeat(np.arange(4) * 40.0, 6)
        before = reading_order(x, y, 20.0)
        after = reading_order(x + random.uniform(-2, 2, 24), y + random.uniform(-2, 2, 24), 20.0)
        np.testing.assert_array_equal(before, after)
