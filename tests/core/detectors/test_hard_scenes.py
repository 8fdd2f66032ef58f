"""Defaults hold in blurred, noisy, compressed and printed pictures: the smoothing follows the image, and what it was is said."""

from __future__ import annotations

import unittest
from itertools import product
from typing import Any

import numpy as np

import lucid_finch as lf
from benchmarks.hard import SCENES, score, seals
from benchmarks.hard_scenes import photographed
from lucid_finch.core.execution.engine import Engine, detect
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.filtering.impulses import without_impulses
from lucid_finch.core.recipe import Recipe
from tests.support import disc

HARD = ("motion 13", "defocus 5", "JPEG 30", "salt 5", "photons 8", "glare")
PRINTED = ("grating", "halftone 7")


class HardScenes(unittest.TestCase):
    def _found(self, kind: str, conditions: tuple[str, ...], least: float, seed: int) -> None:
        for condition in conditions:
            with self.subTest(kind, condition=condition):
                scene = SCENES[kind](seed, "plain")
                given = {} if scene.template is None else {"template": Image.from_array(scene.template)}
                right, missed, _ = score(kind, lf.detect(kind, photographed(scene, condition, seed), **given), scene)
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

    def test_corners(self) -> None:
        self._found("corners", ("motion 7", "defocus 5", "JPEG 30", "salt 5", "glare", "grating"), 0.8, 15)

    def test_blobs(self) -> None:
        self._found("blobs", ("defocus 5", "JPEG 30", "salt 5", "vignette"), 0.9, 16)

    def test_templates(self) -> None:
        self._found("templates", ("motion 13", "defocus 5", "JPEG 30", "salt 5"), 0.9, 17)

    def test_faces(self) -> None:
        self._found("faces", ("photons 8", "salt 5", "glare"), 0.8, 0)

    def test_what_was_chosen_finds_the_same_when_it_is_given(self) -> None:
        for kind, condition in product(("circles", "ellipses", "lines", "contours", "corners"), ("photons 8", "halftone 7")):
            with self.subTest(kind, condition=condition):
                image = photographed(SCENES[kind](601, "plain"), condition, 601)
                found = detect(kind, image, {})
                again = detect(kind, image, found.task.detector.frozen(found.task).plain())
                self.assertEqual(found.findings["x"].tolist(), again.findings["x"].tolist())

    def test_blocks_of_compression_are_no_blobs(self) -> None:
        scene = SCENES["blobs"](302, "plain")
        found = detect("blobs", photographed(scene, "JPEG 30", 302), {}).findings
        far = [min(np.hypot(row["x"] - p.x, row["y"] - p.y) for p in scene.pieces) for row in found.rows()]
        self.assertLessEqual(sum(d > 8 for d in far), 2)

    def test_ramps_of_light_are_no_lines(self) -> None:
        scene = SCENES["lines"](301, "plain")
        image = photographed(scene, "glare", 301)
        right, _, others = score("lines", detect("lines", image, {}), scene)
        self.assertGreaterEqual(right, 11)
        self.assertLessEqual(others, 2)
        near = detect("lines", image, {}).near_misses
        self.assertGreaterEqual(int((near["failed"] == "sharpness_min").sum()), 3)
        self.assertGreater(score("lines", detect("lines", image, {"sharpness_min": 0.0}), scene)[2], 3)

    def test_polygons_are_no_circles(self) -> None:
        for seed in (21, 22):
            scene = SCENES["circles"](seed, "plain")
            found = detect("circles", photographed(scene, "clear", seed), {}).findings
            for piece in scene.pieces:
                if piece.what in ("hexagon", "octagon"):
                    near = np.hypot(found["x"] - piece.x, found["y"] - piece.y) < 4
                    self.assertFalse(np.any(near & (np.abs(found["radius"] - piece.size) < 0.2 * piece.size)), (seed, piece))

    def test_polygons_are_none_where_blur_rounds_their_corners(self) -> None:
        discs = polygons = 0
        for seed in (400, 401, 406):
            scene = SCENES["circles"](seed, "plain")
            found = detect("circles", photographed(scene, "defocus 5", seed), {}).findings
            discs += sum(bool(np.any(np.hypot(found["x"] - o.x, found["y"] - o.y) < 2)) for o in scene.ovals)
            polygons += sum(
                bool(np.any(np.hypot(found["x"] - p.x, found["y"] - p.y) < 4)) for p in scene.pieces if p.what.endswith("gon")
            )
        self.assertGreaterEqual(discs, 41)
        self.assertEqual(polygons, 0)

    def test_stamped_seals(self) -> None:
        for ground in ("wood", "noisy"):
            right, _, others = np.sum([seals((ground, seed, {})) for seed in (31, 32)], axis=0)
            with self.subTest(ground):
                self.assertGreaterEqual(right, 8, (right, others))


class UnevenRims(unittest.TestCase):
    """Rims that lie off a circle by more than the usual tolerance, and relief in light from one side."""

    @staticmethod
    def _picture(reach: Any, contrast: Any) -> Image:
        random = np.random.default_rng(5)
        y, x = np.mgrid[:200, :240] - np.array([100.0, 120.0])[:, None, None]
        angle, far = np.arctan2(y, x), np.hypot(x, y)
        plane = 120 + contrast(angle, far - reach(angle)) + random.normal(0, 3, far.shape)
        return Image.from_array(np.clip(np.round(plane), 0, 255).astype(np.uint8))

    @staticmethod
    def _step(angle: Any, off: Any) -> Any:
        return 50 / (1 + np.exp(np.clip(off / 0.6, -50, 50)))

    def test_an_uneven_disc_is_one_circle(self) -> None:
        found = detect("circles", self._picture(lambda a: 50 + 1.9 * np.cos(3 * a) + 1.2 * np.cos(2 * a + 1), self._step), {})
        self.assertEqual(len(found.findings), 1)
        one = next(found.findings.rows())
        self.assertLess(np.hypot(one["x"] - 120, one["y"] - 100), 0.6)
        self.assertLess(abs(one["radius"] - 50), 0.5)
        # Its points scatter: the error bars say so.
        self.assertTrue(0.1 < one["x_std"] < 1.0 and 0.1 < one["radius_std"] < 1.0, one)

    def test_polygons_and_squares_are_none(self) -> None:
        def polygon(corners: int) -> Any:
            half = np.pi / corners
            return lambda a: 50 * np.cos(half) / np.cos((a + half) % (2 * half) - half)

        for corners in (4, 5, 6, 8):
            found = detect("circles", self._picture(polygon(corners), self._step), {})
            self.assertEqual(len(found.findings), 0, corners)

    def test_tips_and_roots_of_a_gear(self) -> None:
        def gear(teeth: int) -> Any:
            return lambda a: 80 * np.where(np.sin(teeth * a) > 0, 1.0, 0.88)

        for teeth in (18, 20):
            found = detect("circles", self._picture(gear(teeth), self._step), {})
            radii = sorted(row["radius"] for row in found.findings.rows() if np.hypot(row["x"] - 120, row["y"] - 100) < 1)
            self.assertEqual(len(radii), 2, (teeth, found.findings))
            np.testing.assert_allclose(radii, (70.4, 80.0), atol=0.5)
            self.assertLess(min(row["coverage"] for row in found.findings.rows()), 0.4)
            # As much of a rim on one side only is none.
        arc = self._picture(lambda a: np.where(np.abs(a) < 1.1, 80.0, 0.0), self._step)
        self.assertFalse(any(row["coverage"] < 0.4 for row in detect("circles", arc, {}).findings.rows()))

    def test_relief_that_is_bright_on_one_side_and_dark_on_the_other(self) -> None:
        def lit(angle: Any, off: Any) -> Any:
            return np.cos(angle - 0.7) * np.exp(np.clip(off, -50, 0) / 20) * self._step(angle, off)

        found = detect("circles", self._picture(lambda a: 0 * a + 45, lit), {})
        near = np.hypot(found.findings["x"] - 120, found.findings["y"] - 100) < 1.5
        self.assertTrue(np.any(near & (np.abs(found.findings["radius"] - 45) < 1.5)), found.findings)


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

    def test_lines_take_less_where_noise_alone_hides_edges(self) -> None:
        scene = SCENES["lines"](404, "plain")
        image = photographed(scene, "photons 3", 404)
        found = detect("lines", image, {})
        self.assertEqual((detect("circles", image, {}).resolved["sigma"], found.resolved["sigma"]), (4.0, 2.4))
        self.assertGreaterEqual(score("lines", found, scene)[0], 10)
        # A screen needs the widest for lines as well.
        screened = photographed(SCENES["lines"](404, "plain"), "halftone 7", 404)
        self.assertEqual(detect("lines", screened, {}).resolved["sigma"], 4.0)

    def test_a_grating_is_smoothed_until_it_is_gone(self) -> None:
        scene = SCENES["lines"](9, "plain")
        found = detect("lines", photographed(scene, "grating", 6), {})
        self.assertEqual((found.resolved["sigma"], score("lines", found, scene)), (4.0, (12, 0, 0)))

    def test_lines_of_a_blurred_picture_are_the_same_when_the_smoothing_is_given(self) -> None:
        scene = SCENES["lines"](401, "plain")
        image = photographed(scene, "defocus 5", 401)
        found = detect("lines", image, {})
        self.assertEqual(score("lines", found, scene)[0], 12)
        again = detect("lines", image, {"sigma": found.resolved["sigma"]})
        for name in ("x", "y", "length", "breadth"):
            np.testing.assert_array_equal(found.findings[name], again.findings[name])
        # Nor does it matter who shared the edge points first.
        given = {"name": "given", "kind": "lines", "parameters": {"sigma": found.resolved["sigma"]}}
        recipe = Recipe.make({"lucid_finch_recipe": 2, "name": "both", "detectors": [given, {"name": "auto", "kind": "lines"}]})
        for one in Engine().run(recipe, image).detections.values():
            np.testing.assert_array_equal(found.findings["length"], one.findings["length"])

    def test_outlines_need_less_support_where_noise_hides_edges(self) -> None:
        scene = SCENES["contours"](501, "plain")
        clear, noisy = (photographed(scene, condition, 501) for condition in ("clear", "photons 8"))
        self.assertEqual(detect("contours", clear, {}).resolved["support_min"], 0.5)
        found = detect("contours", noisy, {})
        self.assertEqual(found.resolved["support_min"], 0.25)
        before = detect("contours", noisy, {"support_min": 0.5})
        self.assertGreater(score("contours", found, scene)[0], score("contours", before, scene)[0])
        self.assertEqual(score("contours", found, scene)[2], 0)

    def test_corners_and_faces_say_what_was_chosen_and_do_the_same_when_it_is_given(self) -> None:
        for kind, seed, condition, names in (
            ("corners", 5, "grating", ("sigma_gradient", "sigma_window")), ("faces", 0, "photons 8", ("sigma",)),
        ):  # fmt: skip
            with self.subTest(kind):
                image = photographed(SCENES[kind](seed, "plain"), condition, seed)
                found = detect(kind, image, {})
                self.assertTrue(any(note.startswith("smoothed by") and "since" in note for note in found.notes), found.notes)
                given = {name: found.resolved[name] for name in names}
                self.assertGreater(min(given.values()), 2.0)
                again = detect(kind, image, given)
                self.assertGreater(len(found.findings), 5)
                for name in ("x", "y", "score"):
                    np.testing.assert_array_equal(found.findings[name], again.findings[name])

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
