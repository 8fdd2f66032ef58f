"""Objects keep their number: even motion, motion of their own, gaps, false findings, neighbours closer than a step."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.inspection.tracking import Tracker, common_shift


def followed(
    count: int = 40, speed: tuple[float, float] = (30.0, 0.0), own: float = 0.0, missing: float = 0.05, false: float = 0.02,
    frames: int = 60, uneven: float = 0.0, seed: int = 0,
) -> tuple[int, int, int]:  # fmt: skip
    """Wrong numbers, right ones, and frames in which a number was given twice, over a belt 1200 x 800 px."""
    random = np.random.default_rng(seed)
    wide, high = 1200, 800
    at = np.stack(np.divmod(np.arange(count), int(np.ceil(count**0.5))), axis=1) * [wide, high] / np.ceil(count**0.5)
    at = at + random.uniform(4, 40, (count, 2))
    motion, size, name = np.array(speed) + random.normal(0, own, (count, 2)), random.uniform(10, 14, count), np.arange(count)
    tracker, given = Tracker(), dict[int, int]()
    wrong = right = twice = 0
    time, named = 0.0, count
    for _ in range(frames):
        step = max(0.2, 1 + random.normal(0, uneven))
        time, at = time + step / 30, at + motion * step
        out = (at[:, 0] > wide) | (at[:, 0] < 0) | (at[:, 1] > high) | (at[:, 1] < 0)
        at[out, 0] = np.where(motion[out, 0] > 0, 0, wide)
        at[out, 1] = random.uniform(0, high, int(out.sum()))
        name[out] = named + np.arange(out.sum())
        named += int(out.sum())
        seen = random.random(count) > missing
        others = random.poisson(false * count)
        seen_at = at[seen] + random.normal(0, 0.3, (int(seen.sum()), 2))
        places = np.concatenate([seen_at, random.uniform(0, 1, (others, 2)) * [wide, high]])
        sizes = np.concatenate([size[seen], random.uniform(8, 16, others)]) * np.exp(random.normal(0, 0.02, len(places)))
        who = np.concatenate([name[seen], np.full(others, -1)])
        order = random.permutation(len(places))
        numbers = tracker.numbers(places[order], sizes[order], time)
        twice += len(set(numbers.tolist())) < len(numbers)
        for one, number in zip(who[order].tolist(), numbers.tolist(), strict=True):
            if one in given:
                wrong, right = wrong + (given[one] != number), right + (given[one] == number)
            if one >= 0:
                given[one] = number
    return wrong, right, twice


class Following(unittest.TestCase):
    def test_motions(self) -> None:
        for given in ({}, {"speed": (80.0, 0.0)}, {"speed": (5.0, 2.0), "own": 3.0}, {"count": 150}, {"missing": 0.2},
                      {"speed": (60.0, 0.0), "uneven": 0.1}, {"count": 8, "speed": (100.0, 0.0)}):  # fmt: skip
            with self.subTest(given):
                wrong, right, twice = followed(**given)  # type: ignore[arg-type]
                self.assertEqual(twice, 0)
                self.assertGreater(right, 300)
                self.assertLess(wrong / right, 0.003)

    def test_gone_for_too_long_is_another_one(self) -> None:
        for missing, same in ((4, True), (7, False)):
            tracker = Tracker(gap=5)
            place, size = np.array([[50.0, 50.0]]), np.array([10.0])
            first = tracker.numbers(place, size, 0.0)
            for frame in range(1, missing + 1):
                tracker.numbers(np.empty((0, 2)), np.empty(0), frame / 10)
            self.assertEqual(tracker.numbers(place, size, (missing + 1) / 10)[0] == first[0], same)

    def test_another_size_is_another_object(self) -> None:
        tracker = Tracker()
        tracker.numbers(np.array([[50.0, 50.0]]), np.array([10.0]), 0.0)
        self.assertEqual(tracker.numbers(np.array([[50.5, 50.0]]), np.array([20.0]), 0.1).tolist(), [2])

    def test_nothing_and_many(self) -> None:
        tracker = Tracker()
        self.assertEqual(tracker.numbers(np.empty((0, 2)), np.empty(0), 0.0).shape, (0,))
        many = np.random.default_rng(0).uniform(0, 4000, (3000, 2))
        first = tracker.numbers(many, np.zeros(3000), 0.1)
        again = tracker.numbers(many + 0.4, np.zeros(3000), 0.2)
        self.assertGreater((first == again).mean(), 0.99)

    def test_the_motion_of_all(self) -> None:
        random = np.random.default_rng(1)
        before, size, moved = random.uniform(0, 500, (30, 2)), np.full(30, 9.0), np.array([47.0, -12.0])
        shift = common_shift(before, size, before + moved + random.normal(0, 0.3, (30, 2)), size)
        np.testing.assert_allclose(shift, [47, -12], atol=0.5)
        self.assertEqual(common_shift(before, size, random.uniform(0, 500, (30, 2)), size).tolist(), [0, 0])


if __name__ == "__main__":
    unittest.main()
