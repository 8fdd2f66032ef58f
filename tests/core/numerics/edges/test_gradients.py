"""Gradient operators against closed forms, the fused pass against plain steps, the background's statistics."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from lucid_finch.core.numerics.edges import edge_points, gradients
from lucid_finch.core.numerics.edges.background import Background, measure_background
from lucid_finch.core.numerics.edges.edge_points import find_edge_points, scale_plane
from lucid_finch.core.numerics.edges.gradients import (
    OPERATORS,
    gaussian_kernel,
    gradient_planes,
    mirror_indices,
    noise_gain,
    operator_kernels,
    smoothed,
)
from lucid_finch.core.numerics.runtime.compiling import specialisations
from tests.support import noise_pictures


def flat_background(height: int, width: int, scale: float = 1.0) -> Background:
    return Background(np.full((-(-height // 64), -(-width // 64)), scale, np.float32), 1.2, scale)


class Operators(unittest.TestCase):
    def test_a_ramp_gives_its_slope(self) -> None:
        y, x = np.mgrid[0:60, 0:70].astype(np.float32)
        for operator in OPERATORS:
            for sigma in (0.0, 0.2, 0.7, 1.2, 4.0):
                with self.subTest(operator=operator, sigma=sigma):
                    kernels = operator_kernels(operator, sigma)
                    gx, gy = gradient_planes(2.0 * x - 3.0 * y, kernels)
                    m = len(kernels[0]) // 2
                    np.testing.assert_allclose(gx[m:-m, m:-m], 2.0, atol=2e-4)
                    np.testing.assert_allclose(gy[m:-m, m:-m], -3.0, atol=2e-4)

    def test_planes_against_plain_correlation(self) -> None:
        random = np.random.default_rng(0)
        for dtype in (np.uint8, np.uint16, np.float32):
            for shape in ((40, 33), (1, 9), (9, 1), (1, 1), (3, 200)):
                picture = random.integers(0, 250, shape).astype(dtype)
                smooth, derive = operator_kernels("gaussian", 1.2)
                gx, gy = gradient_planes(picture, (smooth, derive))
                image = picture.astype(float)
                across = ndimage.correlate1d(ndimage.correlate1d(image, smooth, 0, mode="mirror"), derive, 1, mode="mirror")
                down = ndimage.correlate1d(ndimage.correlate1d(image, derive, 0, mode="mirror"), smooth, 1, mode="mirror")
                np.testing.assert_allclose(gx, across, atol=2e-3)
                np.testing.assert_allclose(gy, down, atol=2e-3)

    def test_smoothing_against_plain_correlation(self) -> None:
        picture = np.random.default_rng(1).integers(0, 255, (50, 41)).astype(np.uint8)
        weights = gaussian_kernel(2.5)
        expected = picture.astype(float)
        for axis in (0, 1):
            expected = ndimage.correlate1d(expected, weights, axis, mode="mirror")
        np.testing.assert_allclose(smoothed(picture, weights), expected, atol=1e-3)

    def test_noise_gain(self) -> None:
        noise = np.random.default_rng(2).normal(0, 3, (400, 500)).astype(np.float32)
        for operator in OPERATORS:
            kernels = operator_kernels(operator, 1.0)
            gx, gy = gradient_planes(noise, kernels)
            self.assertAlmostEqual(gx.std() / (3 * noise_gain(*kernels)), 1.0, delta=0.03)
            self.assertAlmostEqual(gy.std() / (3 * noise_gain(*kernels)), 1.0, delta=0.03)


def plain_thinning(m: NDArray[Any], gx: NDArray[Any], gy: NDArray[Any]) -> NDArray[np.bool_]:
    """Suppression along the gradient direction, pixel by pixel, by bilinear interpolation one pixel step away."""
    height, width = m.shape
    padded = np.pad(m, 1, mode="reflect")
    keep = np.zeros(m.shape, bool)
    for y in range(height):
        for x in range(width):
            if m[y, x] == 0:
                continue
            dx, dy = gx[y, x], gy[y, x]
            longest = max(abs(dx), abs(dy))
            ux, uy = dx / longest, dy / longest
            values = []
            for sign in (1, -1):
                px, py = x + 1 + sign * ux, y + 1 + sign * uy
                x0, y0 = int(np.floor(px + 1e-7)), int(np.floor(py + 1e-7))
                fx, fy = max(px - x0, 0.0), max(py - y0, 0.0)
                x1, y1 = min(x0 + 1, width + 1), min(y0 + 1, height + 1)
                values.append(
                    (1 - fy) * ((1 - fx) * padded[y0, x0] + fx * padded[y0, x1])
                    + fy * ((1 - fx) * padded[y1, x0] + fx * padded[y1, x1])
                )
            keep[y, x] = m[y, x] > values[0] + 1e-4 and m[y, x] > values[1] + 1e-4
    return keep


class Thinning(unittest.TestCase):
    def test_against_plain_interpolation(self) -> None:
        picture = noise_pictures(5, 60, 70)["correlated"]
        kernels = operator_kernels("gaussian", 1.2)
        gx, gy = gradient_planes(picture, kernels)
        m = np.sqrt(gx * gx + gy * gy)
        points = find_edge_points(picture, kernels, flat_background(60, 70), 0.0, 1e-9)
        fused = np.zeros(m.shape, bool)
        fused[points.row, points.column] = True
        plain = plain_thinning(m, gx, gy)
        # Clear maxima are all kept; what else is kept are ties within rounding.
        self.assertTrue(fused[plain].all())
        self.assertLess((fused & ~plain).sum(), 0.01 * fused.sum())
        np.testing.assert_allclose(points.strength, m[points.row, points.column], rtol=1e-4)

    def test_of_two_equal_neighbours_one_stays(self) -> None:
        picture = np.full((20, 20), 50, np.uint8)
        picture[:, 10:] = 150
        points = find_edge_points(picture, operator_kernels("gaussian", 1.2), flat_background(20, 20), 1.0)
        self.assertEqual(np.bincount(points.row).tolist(), [1] * 20)
        np.testing.assert_allclose(points.x, 9.5, atol=1e-3)

    def test_the_floor_follows_the_background(self) -> None:
        scale = np.array([[1.0, 5.0]], np.float32)
        plane = scale_plane(scale, 128, 0, 3)
        self.assertEqual((plane[0, 0], plane[0, 127]), (1.0, 5.0))
        self.assertAlmostEqual(float(plane[0, 63]), 3.0, delta=0.05)
        picture = noise_pictures(6, 64, 128)["white"]
        kernels = operator_kernels("gaussian", 1.2)
        points = find_edge_points(picture, kernels, Background(scale, 1.2, 1.0), 0.5)
        self.assertTrue((points.strength >= 0.5 * points.scale - 1e-5).all())
        everything = find_edge_points(picture, kernels, Background(scale, 1.2, 1.0), 0.0)
        passing = everything.strength >= np.float32(0.5) * everything.scale
        np.testing.assert_array_equal(everything.take(passing).x, points.x)
        np.testing.assert_array_equal(everything.take(passing).row_start, points.row_start)

    def test_blocked_pixels_have_no_points(self) -> None:
        picture = noise_pictures(6, 64, 64)["white"]
        blocked = np.zeros((64, 64), np.uint8)
        blocked[20:40, 10:50] = 1
        points = find_edge_points(picture, operator_kernels("gaussian", 1.2), flat_background(64, 64), 0.1, 0.0, blocked)
        self.assertFalse(blocked[points.row, points.column].any())

    def test_few_specialisations(self) -> None:
        """Every other array layout would compile the fused pass again."""
        for array in (np.zeros((9, 9), np.uint8), np.zeros((9, 9), np.uint16), np.zeros((9, 9), np.float32)):
            find_edge_points(array, operator_kernels("gaussian", 1.2), flat_background(9, 9), 1.0)
            find_edge_points(array, operator_kernels("sobel", 0.0), flat_background(9, 9), 1.0, 0.0, np.zeros((9, 9), np.uint8))
        self.assertLessEqual(specialisations(edge_points._points_band), 3)
        self.assertLessEqual(specialisations(gradients.gradient_band), 3)


class Backgrounds(unittest.TestCase):
    def test_white_noise_gives_its_gradient_scale(self) -> None:
        random = np.random.default_rng(0)
        for operator, sigma in (("gaussian", 0.8), ("gaussian", 1.2), ("gaussian", 3.0), ("sobel", 1.0)):
            kernels = operator_kernels(operator, sigma)
            picture = (100 + random.normal(0, 5, (300, 400))).astype(np.float32)
            measured = measure_background(picture, kernels, 0.0)
            self.assertAlmostEqual(measured.typical / (5 * noise_gain(*kernels)), 1.0, delta=0.06)

    def test_correlation(self) -> None:
        random = np.random.default_rng(0)
        for own in (1.2, 2.5, 4.0):
            field = ndimage.gaussian_filter(random.normal(size=(300, 400)), own) * 100
            measured = measure_background(field.astype(np.float32), operator_kernels("gaussian", 1.2), 0.0)
            self.assertAlmostEqual(measured.correlation / np.hypot(own, 1.2), 1.0, delta=0.12)

    def test_a_grain_that_runs_one_way(self) -> None:
        kernels = operator_kernels("gaussian", 1.2)
        noise = np.random.default_rng(0).normal(size=(256, 320))
        for turned in (False, True):
            field = ndimage.gaussian_filter(noise, (0.0, 8.0) if turned else (8.0, 0.0)) * 100
            measured = measure_background(field.astype(np.float32), kernels, 0.0)
            assert measured.grain is not None
            xx, xy, yy = np.median(measured.grain, axis=(0, 1))
            scale = np.square(measured.typical)
            along, across = (xx, yy) if turned else (yy, xx)
            self.assertLess(abs(xy), 0.1 * across)
            gy, gx = (ndimage.gaussian_filter(field, 1.2, order=order) for order in ((1, 0), (0, 1)))
            self.assertAlmostEqual(across * scale / (gy if turned else gx).var(), 1.0, delta=0.25)
            self.assertTrue(0.8 < along * scale / (gx if turned else gy).var() < 2.5)
        # Noise has none, nor has a ramp of light beneath it or its steps.
        ramp = np.linspace(0, 300, 256)[:, None] + 2 * noise
        for field in (noise * 5, ramp, np.round(np.linspace(100, 140, 256))[:, None] * np.ones((1, 320))):
            self.assertIsNone(measure_background(field.astype(np.float32), kernels, 1.0).grain)

    def test_edges_hardly_raise_it(self) -> None:
        picture = 100 + np.random.default_rng(0).normal(0, 4, (256, 256))
        plain = measure_background(picture.astype(np.float32), operator_kernels("gaussian", 1.2), 0.0).typical
        picture[:, 32::64] += 60
        picture[:, 33::64] += 60
        ruled = measure_background(picture.astype(np.float32), operator_kernels("gaussian", 1.2), 0.0).typical
        self.assertLess(ruled / plain, 1.35)

    def test_a_blank_half_takes_over_the_other(self) -> None:
        picture = np.zeros((256, 256), np.float32)
        picture[:, 128:] = 100 + np.random.default_rng(0).normal(0, 4, (256, 128))
        scale = measure_background(picture, operator_kernels("gaussian", 1.2), 0.0).scale
        np.testing.assert_allclose(scale[:, 0], scale[:, 2], rtol=0.2)

    def test_quantisation_is_not_nothing(self) -> None:
        ramp = np.round(np.linspace(100, 110, 300))[None, :] * np.ones((200, 1))
        self.assertGreater(measure_background(ramp.astype(np.uint8), operator_kernels("gaussian", 1.2), 1.0).typical, 0.1)
        blank = measure_background(np.full((80, 80), 9, np.uint8), operator_kernels("gaussian", 1.2), 0.0)
        self.assertEqual(blank.typical, 0.0)


class Borders(unittest.TestCase):
    def test_places_beyond_the_border_are_folded_about_the_outermost_centres(self) -> None:
        for length in (1, 2, 3, 5, 50):
            for margin in (0, 1, 2, 4, 5, 9, 49, 60):
                plain = []
                for place in range(-margin, length + margin):
                    while not 0 <= place < length:
                        place = -place if place < 0 else 2 * (length - 1) - place
                        place = 0 if length == 1 else place
                    plain.append(place)
                found = mirror_indices(length, margin)
                self.assertEqual(found.dtype, np.int64)
                self.assertEqual(found.tolist(), plain, (length, margin))
