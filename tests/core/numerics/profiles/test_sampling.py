"""Grey levels between pixels, along scan lines and across curves, and quick directions, each against a plain version."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from lucid_finch.core.numerics.fitting.angles import fast_atan2, normalized_angle
from lucid_finch.core.numerics.profiles.normal_profiles import (
    _AT_ONCE,
    matched,
    matched_filter,
    matched_profiles,
    normal_profiles,
)
from lucid_finch.core.numerics.profiles.sampling import sample_inside, sample_one
from lucid_finch.core.numerics.profiles.scan_lines import ScanLines, sample_scans, slope_kernel, slopes
from lucid_finch.core.numerics.runtime import threads


@numba.njit(error_model="numpy")  # type: ignore[untyped-decorator]
def _many(pixels: Any, u: Any, v: Any) -> Any:
    height, width = pixels.shape
    n = u.size
    places, shares, corners = np.empty(n, np.int32), np.empty((2, n), np.float32), np.empty((4, n), np.float32)
    values = np.empty(n, np.float32)
    sample_inside(pixels.reshape(-1), width, height, u, v, n, places, shares, corners, values)
    return values


@numba.njit(error_model="numpy")  # type: ignore[untyped-decorator]
def _one_by_one(pixels: Any, mask: Any, masked: Any, u: Any, v: Any) -> Any:
    values = np.empty(u.size, np.float32)
    for k in range(u.size):
        values[k] = sample_one(pixels, mask, masked, u[k], v[k])
    return values


@numba.njit(error_model="numpy")  # type: ignore[untyped-decorator]
def _turns(y: Any, x: Any) -> Any:
    found = np.empty((2, x.size))
    for k in range(x.size):
        found[0, k], found[1, k] = fast_atan2(y[k], x[k]), normalized_angle(y[k], x[k])
    return found


def interpolated(pixels: NDArray[Any], u: NDArray[np.float64], v: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(ndimage.map_coordinates(pixels.astype(float), [v, u], order=1, mode="nearest"))


def some_pixels(dtype: Any, height: int = 40, width: int = 53) -> NDArray[Any]:
    most = {np.uint8: 255, np.uint16: 65535}.get(dtype, 1.0)
    return (np.random.default_rng(3).random((height, width)) * most).astype(dtype)


class Sampling(unittest.TestCase):
    def test_many_at_once_are_linear_between_pixels_in_every_type(self) -> None:
        random = np.random.default_rng(1)
        u, v = random.uniform(0, 52, 500), random.uniform(0, 39, 500)
        # The outermost centres belong to it.
        u[:4], v[:4] = (0, 52, 0, 52), (0, 0, 39, 39)
        for dtype in (np.uint8, np.uint16, np.float32):
            pixels = some_pixels(dtype)
            scale = float(pixels.max())
            np.testing.assert_allclose(_many(pixels, u, v) / scale, interpolated(pixels, u, v) / scale, atol=1e-6)

    def test_one_reaches_half_a_pixel_beyond_and_no_further(self) -> None:
        pixels, mask = some_pixels(np.float32), np.ones((40, 53), np.uint8)
        u, v = np.array([-0.5, -0.51, 52.5, 52.6, 10.0, 10.0]), np.array([7.25, 7.25, 7.25, 7.25, 39.5, 39.7])
        told = _one_by_one(pixels, mask, False, u, v)
        self.assertEqual(np.isnan(told).tolist(), [False, True, False, True, False, True])
        np.testing.assert_allclose(told[[0, 2, 4]], interpolated(pixels, u, v)[[0, 2, 4]], atol=1e-6)

    def test_beside_a_pixel_that_is_not_valid_nothing_is_told(self) -> None:
        pixels, mask = some_pixels(np.uint8), np.ones((40, 53), np.uint8)
        mask[12, 20] = 0
        u, v = np.array([20.5, 21.5, 18.0, 20.0]), np.array([12.5, 12.5, 11.5, 12.0])
        self.assertEqual(np.isnan(_one_by_one(pixels, mask, True, u, v)).tolist(), [True, False, False, True])
        self.assertFalse(np.isnan(_one_by_one(pixels, mask, False, u, v)).any())


class Scans(unittest.TestCase):
    def _scans(self, count: int, turn: float, x: float, y: float) -> ScanLines:
        way = np.array([math.cos(turn), math.sin(turn)])
        side = np.array([-way[1], way[0]])
        start = np.array([x, y]) + np.arange(count)[:, None] * 0.7 * side
        return ScanLines(start, np.tile(way, (count, 1)), np.tile(side, (count, 1)), 25)

    def test_slanted_lines_and_their_means(self) -> None:
        pixels = some_pixels(np.uint8, 90, 120)
        scans = self._scans(30, 0.4, 40.3, 20.2)
        for lines in (1, 2, 5):
            told = sample_scans(pixels, None, scans, lines)
            k = np.arange(25)
            plain = np.zeros((30, 25))
            for off in np.arange(lines) - (lines - 1) / 2:
                place = scans.start[:, None] + k[:, None] * scans.along[:, None] + off * scans.across[:, None]
                plain += interpolated(pixels, place[..., 0], place[..., 1]) / lines
            np.testing.assert_allclose(told, plain, atol=1e-3)

    def test_a_line_that_leaves_the_image_is_told_as_far_as_it_lies_in_it(self) -> None:
        pixels = some_pixels(np.float32, 30, 30)
        told = sample_scans(pixels, None, self._scans(3, 0.0, 20.0, 10.0), 1)
        self.assertEqual(np.isfinite(told).sum(axis=1).tolist(), [10, 10, 10])
        np.testing.assert_allclose(told[0, :10], pixels[10, 20:], atol=1e-6)

    def test_the_same_for_any_number_of_threads(self) -> None:
        pixels, scans = some_pixels(np.uint16, 300, 200), self._scans(280, 0.1, 30.0, 5.0)
        before = threads.thread_count()
        try:
            threads.set_thread_count(1)
            one = sample_scans(pixels, None, scans, 3)
            threads.set_thread_count(3)
            np.testing.assert_array_equal(one, sample_scans(pixels, None, scans, 3))
        finally:
            threads.set_thread_count(before)

    def test_slopes_of_a_ramp_are_one_and_nothing_is_told_at_the_ends(self) -> None:
        ramp = np.tile(np.arange(40, dtype=np.float32), (2, 1))
        weights = slope_kernel(1.5)
        told = slopes(ramp, weights)
        reach = len(weights) // 2
        np.testing.assert_allclose(told[:, reach:-reach], 1.0, atol=1e-5)
        self.assertTrue(np.isnan(told[:, :reach]).all() and np.isnan(told[:, -reach:]).all())


class AcrossCurves(unittest.TestCase):
    def setUp(self) -> None:
        y, x = np.mgrid[0:100, 0:140].astype(float)
        self.pixels = np.asarray(100 + 0.3 * x + 0.02 * (y - 50) ** 2, np.float32)

    def test_derivatives_of_a_parabola_are_its_own(self) -> None:
        n = 3 * _AT_ONCE + 5
        x, y = np.linspace(30, 110, n), np.linspace(20, 80, n)
        section = normal_profiles(self.pixels, None, x, y, np.zeros(n), np.ones(n), (1.5,))
        np.testing.assert_allclose(section.slope, 0.04 * (y - 50), atol=2e-3)
        np.testing.assert_allclose(section.bend, 0.04, atol=2e-3)
        np.testing.assert_allclose(section.third, 0.0, atol=1e-3)

    def test_places_are_told_alike_alone_and_among_others(self) -> None:
        """Also beside the border, where some of a block of places reach beyond the image."""
        random = np.random.default_rng(6)
        n = 2 * _AT_ONCE + 31
        x, y, turn = random.uniform(-1, 141, n), random.uniform(-1, 101, n), random.uniform(0, 2 * np.pi, n)
        which = np.repeat(np.arange(3), -(-n // 3))[:n]
        args = np.cos(turn), np.sin(turn)
        whole = normal_profiles(self.pixels, None, x, y, *args, (1.0, 1.5, 2.0), which)
        for k in range(0, n, 7):
            here = slice(k, k + 1)
            one = normal_profiles(self.pixels, None, x[here], y[here], args[0][here], args[1][here], ((1.0, 1.5, 2.0)[which[k]],))
            for name in ("slope", "bend", "third"):
                np.testing.assert_allclose(getattr(whole, name)[here], getattr(one, name), atol=1e-4)
        self.assertTrue(np.isnan(whole.slope).any() and np.isfinite(whole.slope).any())

    def test_what_is_not_valid_is_not_told(self) -> None:
        mask = np.ones(self.pixels.shape, bool)
        mask[:, 60] = False
        x, y = np.array([40.0, 58.0, 80.0]), np.full(3, 50.0)
        section = normal_profiles(self.pixels, mask, x, y, np.ones(3), np.zeros(3), (1.0,))
        self.assertEqual(np.isnan(section.slope).tolist(), [False, True, False])

    def test_weights_of_ones_own(self) -> None:
        weights, gain = matched_filter(1.0, 1.2, 6)
        plain, plain_gain = matched(1.2, 6)
        self.assertEqual(gain, plain_gain)
        x, y = np.array([50.0, 61.5]), np.array([40.0, 55.25])
        told = matched_profiles(self.pixels, None, x, y, np.ones(2), np.zeros(2), [weights], np.zeros(1, np.int64)).bend
        reach = len(plain) // 2
        values = np.stack([interpolated(self.pixels, x + d, y) for d in range(-reach, reach + 1)])
        np.testing.assert_allclose(told, plain @ values, atol=1e-4)


class Directions(unittest.TestCase):
    def test_quick_directions_are_nearly_exact(self) -> None:
        turns = np.linspace(-np.pi, np.pi, 4001)
        for size in (1e-6, 1.0, 1e5):
            x, y = size * np.cos(turns), size * np.sin(turns)
            quick, share = _turns(y, x)
            off = (quick - np.arctan2(y, x) + np.pi) % (2 * np.pi) - np.pi
            self.assertLess(float(np.abs(off).max()), 1.2e-5)
            self.assertTrue(((share >= 0) & (share <= 1)).all())
            away = np.abs(share - (np.arctan2(y, x) / (2 * np.pi)) % 1.0)
            self.assertLess(float(np.minimum(away, 1 - away).max()), 2e-6)

    def test_along_the_axes_and_nowhere(self) -> None:
        quick, share = _turns(np.array([0.0, 1.0, 0.0, -1.0, 0.0]), np.array([1.0, 0.0, -1.0, 0.0, 0.0]))
        np.testing.assert_allclose(quick[:4], [0, np.pi / 2, np.pi, -np.pi / 2], atol=1e-9)
        np.testing.assert_allclose(share[:4], [0, 0.25, 0.5, 0.75], atol=1e-9)
        self.assertEqual(quick[4], 0.0)


if __name__ == "__main__":
    unittest.main()
