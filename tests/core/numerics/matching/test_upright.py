"""The coarse to fine search for an upright template against the whole map."""

from __future__ import annotations

import unittest

import numpy as np
from scipy import ndimage

from lucid_finch.core.numerics.filtering.halving import halved
from lucid_finch.core.numerics.matching.correlation import Pattern, correlation_map
from lucid_finch.core.numerics.matching.upright import correlation_peaks


class UprightPeaks(unittest.TestCase):
    def setUp(self) -> None:
        self.random = np.random.default_rng(11)
        self.part = 120 + 40 * self._smooth(60, 75, 3.0)
        self.scene = 120 + 12 * self._smooth(500, 640, 4.0) + self.random.normal(0, 3, (500, 640))
        self.places = [(37, 41), (203, 322), (411, 150), (440, 565)]
        for number, (row, column) in enumerate(self.places):
            # Of the later ones more and more is hidden.
            shown = 75 - 9 * number
            self.scene[row : row + 60, column : column + shown] = self.part[:, :shown]
        self.scene = np.round(np.clip(self.scene + self.random.normal(0, 4, self.scene.shape), 0, 255)).astype(np.float32)

    def _smooth(self, height: int, width: int, sigma: float) -> np.ndarray:
        values = ndimage.gaussian_filter(self.random.normal(size=(height, width)), sigma)
        return np.asarray(values / values.std())

    def test_peaks_and_values_are_those_of_the_map(self) -> None:
        y, x = np.mgrid[-1:1:60j, -1:1:75j]
        for mask in (None, np.hypot(x, y) < 1.1):
            pattern = Pattern.of(self.part, mask)
            peaks = correlation_peaks(self.scene, pattern, 1.0, 255.0, 0.4)
            assert peaks is not None
            whole = correlation_map(self.scene, pattern, 1.0, 255.0)
            there = [(int(r), int(c)) for r, c in zip(*np.nonzero(whole >= 0.5), strict=True) if self._is_peak(whole, r, c)]
            found = [(int(r), int(c)) for r, c in zip(peaks.rows, peaks.columns, strict=True)]
            self.assertLessEqual(set(there), set(found))
            self.assertGreaterEqual(len(there), 3)
            np.testing.assert_allclose(peaks.values, whole[peaks.rows, peaks.columns], atol=1e-5)
            self.assertTrue((np.diff(peaks.values) <= 0).all())
            self.assertAlmostEqual(peaks.varied / float(np.mean(whole**2)), 1.0, delta=0.4)

    def _is_peak(self, whole: np.ndarray, row: int, column: int) -> bool:
        around = whole[max(row - 4, 0) : row + 5, max(column - 4, 0) : column + 5]
        return bool(whole[row, column] == around.max())

    def test_reversed_contrast_on_request(self) -> None:
        pattern = Pattern.of(255 - self.part)
        same, either = (correlation_peaks(self.scene, pattern, 1.0, 255.0, 0.4, reverse) for reverse in (False, True))
        assert same is not None and either is not None
        self.assertNotIn((37, 41), list(zip(same.rows, same.columns, strict=True)))
        self.assertEqual((either.rows[0], either.columns[0]), (37, 41))
        self.assertLess(either.values[0], -0.9)

    def test_the_map_is_asked_for_where_shrinking_leaves_too_little(self) -> None:
        fine = Pattern.of(self.random.normal(120, 40, (40, 40)))
        self.assertIsNone(correlation_peaks(self.scene, fine, 1.0, 255.0, 0.4))
        self.assertIsNone(correlation_peaks(self.scene, Pattern.of(self.part[:9, :9]), 1.0, 255.0, 0.4))
        self.assertIsNone(correlation_peaks(self.scene[:60, :75], Pattern.of(self.part), 1.0, 255.0, 0.4))

    def test_a_last_row_and_column_count_twice(self) -> None:
        np.testing.assert_allclose(halved(np.array([[1, 3, 5], [5, 7, 9], [2, 4, 6]], np.float32)), [[4, 7], [3, 6]])
