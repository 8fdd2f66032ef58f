"""Defaults hold in blurred, noisy, compressed and printed pictures: the smoothing follows the image, and what it was is said."""

from __future__ import annotations

import unittest

import numpy as np

from benchmarks.hard import SCENES, score
from benchmarks.hard_scenes import photographed
from lucid_finch.core.execution.engine import detect
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.filtering.impulses import without_impulses
from tests.support import disc

HARD = ("motion 13", "defocus 5", "JPEG 30", "salt 5", "photons 8", "glare")
PRINTED = ("grating", "halftone 7")


class HardScenes(unittest.TestCase):
    def _found(self, kind: str, conditions: tuple[str, ...], least: float, seed: int) -> None:
        for condition in conditions:
            with self.subTest(kind, condition=condition):
                scene = SCENES[kind](seed, "plain")
                right, missed, _ = score(kind, detect(kind, photographed(scene, condition, seed), {}), scene)
                self.assertGreaterEqual(right / (right + missed), least)

    def test_circles(self) -> None:
        self._found("circles", HARD, 0.8, 11)
        self._found("circles", PRINTED, 0.75, 11)

    def test_ellipses(self) -> None:
        self._found("ellipses", HARD, 0.8, 12)
        self._found("ellipses", PRINTED, 0.75, 12)

    def test_lines(self) -> None:
        self._found("lines", HARD, 0.9, 13)
        self._found("lines", PRINTED, 0.75, 13)

    def test_contours(self) -> None:
        self._found("contours", HARD, 0.8, 14)
        self._found("contours", PRINTED, 0.75, 14)

    def test_polygons_are_no_circles(self) -> None:
        for seed in (21, 22):
            scene = SCENES["circles"](seed, "plain")
            found = detect("circles", photographed(scene, "clear", seed), {}).findings
            for piece in scene.pieces:
                if piece.what in ("hexagon", "octagon"):
                    near = np.hypot(found["x"] - piece.x, found["y"] - piece.y) < 4
                    self.assertFalse(np.any(near & (np.abs(found["radius"] - piece.size) < 0.2 * piece.size)), (seed, piece))


class Smoothing(unittest.TestCase):
    def test_a_clear_picture_keeps_the_narrow_one_and_says_nothing(self) -> None:
        for kind in ("edges", "lines", "circles", "ellipses"):
            found = detect(kind, disc(30.0, noise=2.0), {})
            self.assertEqual(found.resolved["sigma"], 1.2, kind)
            self.assertEqual([note for note in found.notes if "smoothed" in note], [])

    def test_what_was_chosen_is_said_and_the_same_when_given(self) -> None:
        scene = SCENES["circles"](5, "plain")
        image = photographed(scene, "photons 8", 5)
        found = detect("circles", image, {})
        self.assertEqual(found.resolved["sigma"], 2.4)
        self.assertTrue(any("smoothed by 2.4 px, since" in note for note in found.notes))
        again = detect("circles", image, {"sigma": 2.4})
        np.testing.assert_array_equal(found.findings["x"], again.findings["x"])
        self.assertFalse(any("smoothed" in note for note in again.notes))

    def test_nothing_but_noise_keeps_the_narrow_one(self) -> None:
        for seed in range(3):
            noise = np.random.default_rng(seed).normal(120, 25, (300, 400))
            found = detect("circles", Image.from_array(np.clip(noise, 0, 255).astype(np.uint8)), {})
            self.assertEqual((found.resolved["sigma"], len(found.findings)), (1.2, 0))


class Impulses(unittest.TestCase):
    def test_single_pixels_go_and_the_rest_stays(self) -> None:
        random = np.random.default_rng(3)
        clean = disc(40.0, noise=2.0).pixels
        salted = clean.copy()
        where = random.random(clean.shape) < 0.02
        salted[where] = 255
        calm = without_impulses(salted, 255.0, 2.0)
        assert calm is not None
        self.assertLess(int((np.abs(calm.astype(int) - clean) > 40).sum()), 0.1 * where.sum())
        changed = calm != salted
        self.assertLess(int((changed & ~where).sum()), 0.02 * where.sum())

    def test_details_are_none(self) -> None:
        self.assertIsNone(without_impulses(disc(40.0, noise=2.0).pixels, 255.0, 2.0))
        dots = np.zeros((90, 90), np.uint8)
        dots[1::3, 1::3] = 255
        self.assertIsNone(without_impulses(dots, 255.0, 0.0))
        stripes = np.zeros((90, 90), np.uint8)
        stripes[:, ::9] = 255
        self.assertIsNone(without_impulses(stripes, 255.0, 0.0))


if __name__ == "__main__":
    unittest.main()
