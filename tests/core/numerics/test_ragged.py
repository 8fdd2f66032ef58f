"""Ragged arrays: rows taken in any order, owners and places, rows without entries."""

from __future__ import annotations

import doctest
import itertools
import unittest

import numpy as np

from lucid_finch.core.numerics import ragged
from lucid_finch.core.numerics.masks import kernel_mask


class Ragged(unittest.TestCase):
    def test_as_lists_would_have_it(self) -> None:
        random = np.random.default_rng(4)
        for _ in range(30):
            rows = [random.integers(0, 99, random.integers(0, 5)) for _ in range(random.integers(1, 8))]
            start, flat = ragged.starts(np.array([len(row) for row in rows])), np.concatenate(rows)
            self.assertEqual(ragged.owners(start).tolist(), [k for k, row in enumerate(rows) for _ in row])
            self.assertEqual(ragged.places(start).tolist(), [n for row in rows for n in range(len(row))])
            for wanted in (random.integers(0, len(rows), 6), random.random(len(rows)) < 0.5, np.empty(0, np.int64)):
                taken, begun = ragged.take_rows(start, wanted)
                numbers = np.flatnonzero(wanted) if wanted.dtype == bool else wanted
                expected = [rows[k].tolist() for k in numbers]
                self.assertEqual([flat[taken][a:b].tolist() for a, b in itertools.pairwise(begun)], expected)

    def test_the_examples_run(self) -> None:
        self.assertEqual(doctest.testmod(ragged).failed, 0)


class Masks(unittest.TestCase):
    def test_none_never_has_the_height_of_the_image(self) -> None:
        for height in (1, 2, 3, 100):
            self.assertNotEqual(len(kernel_mask(None, height)), height)
            mask = np.ones((height, 4), bool)
            self.assertTrue((kernel_mask(mask, height) == 1).all())


if __name__ == "__main__":
    unittest.main()
