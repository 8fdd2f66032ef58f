"""Blobs: place and size of spots, texture that is none, components, and why one is missing."""

from __future__ import annotations

import math
import unittest

import numpy as np
from scipy import ndimage

import lucid_finch as lf
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.numerics.blobs.rims import rims_around
from lucid_finch.core.numerics.blobs.scale_space import find_extrema, response_plane, scales_between
from lucid_finch.core.numerics.blobs.spot_fits import fit_spots
from lucid_finch.core.numerics.blobs.texture import response_rarity, usual_evidence
from lucid_finch.core.recipe import Recipe
from lucid_finch.demo import recipe_text, scene

_FINE = 6


def spotted(
    shape: tuple[int, int], spots: list[tuple[float, float, float]], contrast: float = -60.0, disc: bool = True
) -> np.ndarray:
    """A plain ground with spots (x, y, radius), averaged over each pixel."""
    y, x = (np.mgrid[: shape[0] * _FINE, : shape[1] * _FINE] + 0.5) / _FINE - 0.5
    cover = np.zeros(x.shape)
    for cx, cy, r in spots:
        far = np.hypot(x - cx, y - cy)
        cover += (far < r) if disc else np.exp(-((far / r) ** 2))
    fine = ndimage.gaussian_filter(150 + contrast * cover, 0.7 * _FINE)
    return np.asarray(fine.reshape(shape[0], _FINE, shape[1], _FINE).mean(axis=(1, 3)))


def noisy(picture: np.ndarray, noise: float, seed: int = 0) -> np.ndarray:
    return np.clip(np.round(picture + np.random.default_rng(seed).normal(0, noise, picture.shape)), 0, 255).astype(np.uint8)


SPOTS = [(30.3, 40.6, 3.0), (80.2, 35.1, 5.0), (140.4, 60.7, 8.0), (60.8, 105.2, 6.0), (150.6, 130.3, 4.0)]


class ScaleSpace(unittest.TestCase):
    def test_extrema_at_place_and_size_in_every_octave(self) -> None:
        for radius in (2.0, 4.0, 9.0, 20.0):
            picture = spotted((160, 170), [(83.3, 78.6, radius)])
            found, dropped = find_extrema(picture, scales_between(1.0, 20.0), False, 5.0, None)
            best = int(np.argmax(np.abs(found.response)))
            self.assertLess(math.hypot(found.x[best] - 83.3, found.y[best] - 78.6), 0.15)
            self.assertAlmostEqual(math.sqrt(2) * found.sigma[best] / radius, 1.0, delta=0.12)
            self.assertGreater(found.response[best], 0)
            self.assertLess(found.ratio[best], 1.2)
            self.assertEqual(dropped, 0)

    def test_the_response_is_that_of_the_filter(self) -> None:
        values = np.random.default_rng(3).normal(100, 20, (120, 130)).astype(np.float32)
        for scale in scales_between(2.0, 5.0):
            expected = scale.sigma**2 * ndimage.gaussian_laplace(values.astype(float), scale.sigma, mode="mirror")
            found = response_plane(values, scale, False)
            inner = slice(30, -30), slice(30, -30)
            self.assertGreater(np.corrcoef(found[inner].ravel(), expected[inner].ravel())[0, 1], 0.97)
            self.assertAlmostEqual(float(found[inner].std() / expected[inner].std()), 1.0, delta=0.15)

    def test_both_responses_and_the_mask(self) -> None:
        picture = spotted((160, 180), SPOTS)
        masked = np.zeros(picture.shape, np.uint8)
        masked[:, :50] = 1
        for determinant in (False, True):
            found, _ = find_extrema(picture, scales_between(1.4, 8.0), determinant, 8.0, masked)
            strong = found.take(np.abs(found.response) > 20)
            self.assertFalse((np.hypot(strong.x - 30.3, strong.y - 40.6) < 3).any())
            for x, y, _ in SPOTS[1:]:
                self.assertTrue((np.hypot(strong.x - x, strong.y - y) < 1).any())


class Fits(unittest.TestCase):
    def test_discs_and_gaussian_spots(self) -> None:
        for disc in (True, False):
            for radius in (2.5, 5.0):
                picture = noisy(spotted((60, 60), [(30.3, 29.8, radius)], disc=disc), 2.0)
                found = fit_spots(picture, np.array([30.0]), np.array([30.0]), np.array([1.2 * radius]), np.array([-40.0]))
                self.assertTrue(found.good[0])
                self.assertLess(math.hypot(found.x[0] - 30.3, found.y[0] - 29.8), 0.12)
                wide = radius if disc else math.sqrt(radius**2 + 2 * 0.7**2)
                self.assertAlmostEqual(found.radius[0] / wide, 1.0, delta=0.05)
                self.assertAlmostEqual(found.residual[0], 2.0, delta=0.5)
                self.assertTrue(0.2 < math.hypot(found.x[0] - 30.3, found.y[0] - 29.8) / found.x_std[0] < 5)

    def test_a_closed_rim_has_no_weak_side(self) -> None:
        picture = spotted((60, 60), [(30.0, 30.0, 6.0)]).astype(np.float32)
        edge = np.where(np.arange(60)[None, :] < 30, 90, 150).repeat(60, axis=0).astype(np.float32)
        at = np.array([30.0]), np.array([30.0]), np.array([6.0]), np.array([True])
        whole, half = (rims_around(p, *at) for p in (picture, edge))
        self.assertGreater(whole.lower_tenth[0], 40)
        self.assertLess(half.lower_tenth[0], 5)
        self.assertLess(whole.outside[0], 1)


class Texture(unittest.TestCase):
    def test_rarity_follows_the_law_of_noise(self) -> None:
        values = np.random.default_rng(4).normal(size=(700, 700)).astype(np.float32)
        found, _ = find_extrema(values, scales_between(1.4, 4.0), False, 0.0, None)
        rarity, like_noise = response_rarity(np.abs(found.response) / found.typical, found.scale)
        self.assertTrue(like_noise.mean() > 0.9)
        for least in (1.0, 2.0):
            # No commoner than it says; somewhat rarer.
            self.assertAlmostEqual(math.log10((rarity > least).mean()), -least - 0.35, delta=0.5)

    def test_about_as_many_false_alarms_as_are_accepted(self) -> None:
        found = 0
        for seed in range(6):
            values = np.random.default_rng(seed).normal(size=(400, 500))
            found += len(lf.detect("blobs", np.clip(np.round(120 + 12 * values), 0, 255).astype(np.uint8)).findings)
        self.assertLess(found, 16)
        self.assertEqual(len(lf.detect("blobs", np.full((80, 80), 7, np.uint8)).findings), 0)
        self.assertEqual(len(lf.detect("blobs", np.zeros((1, 1), np.uint8)).findings), 0)

    def test_few_pieces_say_little_of_the_texture(self) -> None:
        self.assertEqual(usual_evidence(np.zeros(0), 5.0), 5.0)
        self.assertAlmostEqual(usual_evidence(np.full(100, 15.0), 5.0), 10.0)


class Found(unittest.TestCase):
    def test_dark_and_bright_spots_with_and_without_noise(self) -> None:
        for contrast, polarity in ((-60.0, "dark"), (60.0, "bright")):
            for noise in (0.0, 3.0):
                picture = noisy(spotted((160, 180), SPOTS, contrast), noise)
                found = lf.detect("blobs", picture, polarity=polarity).findings
                for x, y, radius in SPOTS:
                    far = np.hypot(found["x"] - x, found["y"] - y)
                    best = int(np.argmin(far))
                    self.assertLess(far[best], 0.3, (contrast, noise, radius))
                    self.assertAlmostEqual(found["radius"][best] / radius, 1.0, delta=0.06)
                    self.assertAlmostEqual(found["contrast"][best], 60.0, delta=9)
                    self.assertEqual(found["polarity"][best], polarity)
                self.assertLess(len(found), len(SPOTS) + 3)
                other = "bright" if polarity == "dark" else "dark"
                wrong = lf.detect("blobs", picture, polarity=other).findings
                self.assertFalse(any((np.hypot(wrong["x"] - x, wrong["y"] - y) < 1).any() for x, y, _ in SPOTS))

    def test_an_image_full_of_spots(self) -> None:
        picture = spotted((168, 240), [(12.0 + 24 * i, 12.0 + 24 * k, 6.5) for i in range(10) for k in range(7)])
        for noise in (0.0, 2.0):
            self.assertEqual(len(lf.detect("blobs", noisy(picture, noise)).findings), 70)

    def test_limits_and_the_size_range(self) -> None:
        picture = noisy(spotted((160, 180), SPOTS), 2.0)
        found = lf.detect("blobs", picture, radius=(4.5, 7.0), false_alarms=0.01).findings
        self.assertEqual(sorted(np.round(found["radius"]).astype(int).tolist()), [5, 6])
        none = lf.detect("blobs", picture, contrast_min_pct=60.0)
        self.assertEqual(len(none.findings), 0)
        self.assertIn("contrast_min_pct", none.near_misses["failed"].tolist())
        stroke = noisy(spotted((80, 160), [(40.0 + 2 * k, 40.0, 3.0) for k in range(30)], -20.0), 1.0)
        self.assertEqual(len(lf.detect("blobs", np.clip(stroke, 60, 255), false_alarms=0.01).findings), 0)

    def test_only_within_a_region_and_where_pixels_are_valid(self) -> None:
        picture = noisy(spotted((160, 180), SPOTS), 2.0)
        region = {"shape": "rectangle", "x": 145.0, "y": 95.0, "width": 60.0, "height": 120.0, "angle": 0.0}
        for method in ("scale_space", "components"):
            found = lf.detect("blobs", picture, region=region, method=method, polarity="dark", false_alarms=0.01).findings
            self.assertEqual(np.round(found["x"]).astype(int).tolist(), [140, 151])
        masked = np.ma.masked_array(picture, np.arange(180)[None, :].repeat(160, axis=0) < 100)
        found = lf.detect("blobs", lf.Image.from_array(masked), polarity="dark", false_alarms=0.01).findings
        self.assertEqual(np.round(found["x"]).astype(int).tolist(), [140, 151])

    def test_bad_parameters_are_named(self) -> None:
        picture = noisy(spotted((60, 60), [(30.0, 30.0, 5.0)]), 1.0)
        for given, name in (
            ({"radius": (5.0, 2.0)}, "radius"),
            ({"method": "moments"}, "method"),
            ({"overlap_max": 2.0}, "overlap_max"),
        ):
            with self.assertRaisesRegex(lf.ParameterError, name):
                lf.detect("blobs", picture, **given)

    def test_after_a_resize_in_the_source(self) -> None:
        picture = lf.prepare("resize", lf.Image.from_array(noisy(spotted((160, 180), SPOTS), 2.0)), factor=0.5)
        found = lf.detect("blobs", picture, polarity="dark", radius=(4.0, 10.0)).findings
        best = int(np.argmin(np.hypot(found["x"] - 140.4, found["y"] - 60.7)))
        self.assertLess(math.hypot(found["x"][best] - 140.4, found["y"][best] - 60.7), 0.4)
        self.assertAlmostEqual(found["radius"][best], 8.0, delta=0.5)
        self.assertAlmostEqual(found["area"][best], math.pi * found["radius"][best] ** 2, delta=1.0)

    def test_components_with_the_measures_of_outlines(self) -> None:
        picture = spotted((160, 180), SPOTS)
        picture[100:112, 95:140] = 90
        for polarity in ("dark", "either"):
            result = lf.detect("blobs", noisy(picture, 2.0), method="components", polarity=polarity)
            found = result.findings
            self.assertEqual(len(found), len(SPOTS))
            for x, y, radius in SPOTS:
                best = int(np.argmin(np.hypot(found["x"] - x, found["y"] - y)))
                self.assertLess(math.hypot(found["x"][best] - x, found["y"][best] - y), 0.3)
                self.assertAlmostEqual(found["radius"][best], radius, delta=0.35)
            self.assertGreater(found["circularity"].min(), 0.8)
        long = lf.detect("blobs", noisy(picture, 2.0), method="components", eccentricity_max=1.0)
        self.assertEqual(len(long.findings), len(SPOTS) + 1)
        round_ = lf.detect("blobs", noisy(picture, 2.0), method="components", eccentricity_max=1.0, circularity_min=0.8)
        self.assertEqual(len(round_.findings), len(SPOTS))
        self.assertEqual(len(long.outlines), len(long.findings))
        self.assertIn("threshold", str(lf.explain(long, at=(10.0, 10.0))))

    def test_asking_why(self) -> None:
        picture = noisy(spotted((160, 180), SPOTS), 2.0)
        result = lf.detect("blobs", picture, radius=(2.0, 4.5))
        self.assertIn("radius", str(lf.explain(result, at=(80.2, 35.1))).lower())
        self.assertIn("response here is largest at radius", str(lf.explain(result, at=(110.0, 20.0))))
        self.assertEqual(result.evidence["response"].values.shape, (160, 180))

    def test_the_pinholes_of_the_demo(self) -> None:
        drawn = scene("pinholes")
        found = Engine().run(Recipe.parse(recipe_text("pinholes")), drawn.image).detections["defects"].findings
        off = []
        for mark in drawn.marks:
            far = np.hypot(found["x"] - mark["x"], found["y"] - mark["y"])
            best = int(np.argmin(far))
            off.append(far[best])
            self.assertEqual(found["polarity"][best], mark["polarity"])
        self.assertLess(max(off), 1.0)
        self.assertLess(float(np.median(off)), 0.15)
        self.assertLess(len(found), len(drawn.marks) + 3)

    def test_the_dots_of_the_demo(self) -> None:
        drawn = scene("dot_target")
        found = Engine().run(Recipe.parse(recipe_text("dot_target")), drawn.image).detections["dots"].findings
        far = [float(np.hypot(found["x"] - m["x"], found["y"] - m["y"]).min()) for m in drawn.marks]
        self.assertLess(max(far), 0.5)


if __name__ == "__main__":
    unittest.main()
