"""Templates: typed numbers, turned, scaled, hidden, look-alikes; frames, assets and what is refused."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

import lucid_finch as lf
from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import Recipe
from lucid_finch.demo import recipe_text, scene
from lucid_finch.demo.maker_marks import taught_mark
from lucid_finch.files.assets import asset_of, decode_asset
from tests.support import noise_pictures

TYPED = [
    [3, 7, 1, 9, 4, 2, 8], [6, 2, 5, 8, 1, 7, 3], [4, 9, 2, 6, 5, 3, 1], [7, 1, 8, 3, 9, 2, 6], [2, 5, 4, 7, 1, 8, 9],
    [8, 3, 6, 1, 4, 5, 2], [1, 6, 9, 2, 7, 4, 5],
]  # fmt: skip


def pattern(side: int = 64, seed: int = 0) -> np.ndarray:
    """A figure of several strokes and dots, without symmetry."""
    y, x = np.mgrid[:side, :side] / side - 0.5
    random = np.random.default_rng(seed)
    figure = np.zeros((side, side))
    for _ in range(9):
        (cx, cy), a = random.uniform(-0.32, 0.32, 2), float(random.uniform(0, np.pi))
        u, v = (x - cx) * np.cos(a) + (y - cy) * np.sin(a), (y - cy) * np.cos(a) - (x - cx) * np.sin(a)
        figure += np.where((np.abs(u) < 0.16) & (np.abs(v) < 0.05), float(random.choice([-60, 60])), 0)
    return np.clip(110 + figure, 0, 255)


def with_pattern(figure: np.ndarray, poses: list[tuple[float, float, float, float]], noise: float = 3.0) -> np.ndarray:
    """A textured ground with the figure at several poses (x, y, degrees, scale); each pixel is the mean of nine places."""
    height, width = 400, 560
    ground = next(iter(noise_pictures(7, height, width).values())).astype(float)
    ground = 100 + 0.5 * (ground - ground.mean())
    side = figure.shape[0]
    for cx, cy, angle, scale in poses:
        total, weight = np.zeros((height, width)), np.zeros((height, width))
        for dy in (-1 / 3, 0, 1 / 3):
            for dx in (-1 / 3, 0, 1 / 3):
                y, x = np.mgrid[:height, :width].astype(float)
                c, s = math.cos(math.radians(angle)) / scale, math.sin(math.radians(angle)) / scale
                u, v = c * (x + dx - cx) + s * (y + dy - cy), -s * (x + dx - cx) + c * (y + dy - cy)
                column, row = np.round(u + (side - 1) / 2).astype(int), np.round(v + (side - 1) / 2).astype(int)
                inside = (column >= 0) & (column < side) & (row >= 0) & (row < side)
                total[inside] += figure[row[inside], column[inside]]
                weight[inside] += 1
        ground = np.where(weight > 0, (total + (9 - weight) * ground) / 9, ground)
    noisy = ground + np.random.default_rng(1).normal(0, noise, ground.shape)
    return np.clip(np.round(noisy), 0, 255).astype(np.uint8)


POSES = [(110.0, 100.0, 0.0, 1.0), (300.4, 120.6, 35.0, 0.8), (450.0, 270.0, -120.0, 1.25), (150.0, 300.0, 170.0, 1.0)]


class Plain(unittest.TestCase):
    def test_typed_numbers(self) -> None:
        image = np.array(TYPED, np.uint8)
        found = lf.detect("templates", image, template=image[2:5, 1:5])
        self.assertEqual(len(found.findings), 1)
        row = next(found.findings.rows())
        self.assertAlmostEqual(row["x"], 2.5, places=6)
        self.assertAlmostEqual(row["y"], 3.0, places=6)
        self.assertAlmostEqual(row["score"], 1.0, places=6)
        self.assertEqual((row["left"], row["top"], row["width"], row["height"]), (0.5, 1.5, 4.0, 3.0))
        # The map is as large as the image; each value stands where the reference falls.
        values = found.evidence["score"].values
        self.assertEqual(values.shape, image.shape)
        self.assertEqual(np.unravel_index(int(values.argmax()), values.shape), (3, 3))
        frame = found.evidence["score"].frame
        self.assertEqual(frame.to_source(3, 3), (2.5, 3.0))
        self.assertLess(values.min(), -0.5)

    def test_small_ones_at_their_place(self) -> None:
        picture = with_pattern(pattern(), [])
        for side in (16, 31, 47):
            found = lf.detect("templates", picture, template=picture[150 : 150 + side, 200 : 200 + side])
            best = next(found.findings[found.findings["rank"] == 1].rows())
            self.assertAlmostEqual(best["x"], 200 + (side - 1) / 2, delta=1e-3)
            self.assertAlmostEqual(best["score"], 1.0, places=4)

    def test_the_reference_is_what_is_reported(self) -> None:
        picture = with_pattern(pattern(), POSES[:1])
        template = picture[68:133, 78:143]
        middle, corner = (lf.detect("templates", picture, template=template, reference=r) for r in (None, (0, 0)))
        self.assertAlmostEqual(middle.findings["x"][0] - corner.findings["x"][0], 32.0, places=6)
        self.assertAlmostEqual(middle.findings["left"][0], corner.findings["left"][0], places=6)

    def test_reversed_contrast(self) -> None:
        picture = with_pattern(pattern(), POSES[:1], 1.0)
        template = 255 - picture[68:133, 78:143]
        self.assertEqual(len(lf.detect("templates", picture, template=template).findings), 0)
        found = lf.detect("templates", picture, template=template, polarity="either")
        self.assertEqual(found.findings["polarity"].tolist(), ["reversed"])


class Posed(unittest.TestCase):
    def setUp(self) -> None:
        self.figure = pattern()
        self.picture = with_pattern(self.figure, POSES)
        self.template = self.figure.astype(np.uint8)

    def check(self, found: Any, delta: float = 0.15) -> None:
        f = found.findings
        self.assertEqual(len(f), len(POSES), list(f.rows()))
        for x, y, angle, scale in POSES:
            k = int(np.argmin(np.hypot(f["x"] - x, f["y"] - y)))
            self.assertLess(np.hypot(f["x"][k] - x, f["y"][k] - y), delta)
            self.assertLess(abs(math.remainder(f["angle"][k] - angle, 360)), 0.4)
            self.assertAlmostEqual(f["scale"][k] / scale, 1.0, delta=0.01)
            self.assertGreater(f["visible"][k], 0.9)

    def test_turned_and_scaled(self) -> None:
        found = lf.detect("templates", self.picture, template=self.template, rotation=(-180, 180), scale=(0.7, 1.4))
        self.check(found)
        self.assertLess(found.findings["x_std"].max(), 0.1)
        self.assertEqual(len(found.outlines), len(POSES))

    def test_a_part_may_be_hidden_and_is_told(self) -> None:
        picture = self.picture.copy()
        picture[80:140, 122:150] = 200
        found = lf.detect("templates", picture, template=self.template, rotation=(-180, 180), scale=(0.7, 1.4))
        f = found.findings
        k = int(np.argmin(np.hypot(f["x"] - 110, f["y"] - 100)))
        self.assertLess(np.hypot(f["x"][k] - 110, f["y"][k] - 100), 0.5)
        self.assertTrue(0.55 < f["visible"][k] < 0.85, f["visible"][k])

    def test_nothing_is_found_outside_the_ranges(self) -> None:
        for given in ({"rotation": (25, 32), "scale": (0.75, 0.85)}, {"rotation": (30, 40), "scale": (0.84, 0.9)}):
            found = lf.detect("templates", self.picture, template=self.template, score_min=0.3, **given)
            for table in (found.findings, found.near_misses):
                self.assertTrue(
                    ((table["angle"] >= given["rotation"][0] - 1) & (table["angle"] <= given["rotation"][1] + 1)).all()
                )
                self.assertTrue((table["scale"] >= given["scale"][0] - 0.02).all())
        found = lf.detect("templates", self.picture, template=self.template, rotation=(30, 40), scale=(0.75, 0.85))
        self.assertEqual(len(found.findings), 1)

    def test_each_match_is_shown_beside_the_template(self) -> None:
        found = lf.detect("templates", self.picture, template=self.template, rotation=(-180, 180), scale=(0.7, 1.4))
        shown = found.evidence["matches"]
        self.assertEqual((shown.width, shown.height), (3 * 64, len(POSES) * 64))
        rows = shown.values.reshape(len(POSES), 64, 3, 64).transpose(0, 2, 1, 3)
        for template, upright, difference in rows:
            np.testing.assert_allclose(template, self.template)
            self.assertGreater(np.corrcoef(template.ravel(), upright.ravel())[0, 1], 0.9)
            np.testing.assert_allclose(difference, np.abs(upright - template), atol=1e-3)

    def test_other_figures_are_not_found(self) -> None:
        other = pattern(seed=5).astype(np.uint8)
        found = lf.detect("templates", self.picture, template=other, rotation=(-180, 180), scale=(0.7, 1.4))
        self.assertEqual(len(found.findings), 0)

    def test_preparation_is_run_on_the_template_too(self) -> None:
        sha, data = asset_of(Image.from_array(self.template))
        for steps in (
            [{"step": "resize", "factor": 0.7}],
            [{"step": "resize", "width": 401}],
            [{"step": "tone", "invert": True}],
            [{"step": "rotate", "angle": 30.0}],
            [{"step": "crop", "region": {"shape": "rectangle", "x": 280.0, "y": 200.0, "width": 540.0, "height": 380.0}}],
        ):
            entry = {
                "name": "marks",
                "kind": "templates",
                "parameters": {"template": sha, "rotation": [-180, 180], "scale": [0.7, 1.4]},
            }
            entry["parameters"]["rotation"] = [-180.0, 180.0]
            made = Recipe.make(
                {"lucid_finch_recipe": 2, "prepare": steps, "detectors": [entry], "assets": {sha: data.model_dump()}}
            )
            with self.subTest(steps=steps):
                self.check(lf.run(made, self.picture).detections["marks"], 0.35)

    def test_gradient_similarity_under_a_shadow(self) -> None:
        shadow = np.where(np.arange(560) > 300, 0.45, 1.0)[None, :]
        picture = np.clip(self.picture * shadow, 0, 255).astype(np.uint8)
        found = lf.detect(
            "templates", picture, template=self.template, rotation=(-180, 180), scale=(0.7, 1.4), similarity="gradient"
        )
        self.assertGreaterEqual(len(found.findings), 3)

    def test_gradients_agree_where_grey_levels_do_not(self) -> None:
        """Light that falls off from edge to edge of the pattern, by more than its own contrast."""
        random = np.random.default_rng(5)
        picture = np.full((200, 300), 90.0)
        pattern = self.template.astype(float)
        picture[60:124, 90:154] = 90 + 0.4 * (pattern - pattern.mean()) + np.linspace(-70, 70, 64)[None, :]
        seen = np.clip(picture + random.normal(0, 2, picture.shape), 0, 255).astype(np.uint8)
        scores = {}
        for similarity in ("intensity", "gradient"):
            found = lf.detect("templates", seen, template=self.template, similarity=similarity, score_min=0.0, false_alarms=1e6)
            near = np.hypot(found.findings["x"] - 121.5, found.findings["y"] - 91.5) < 2
            scores[similarity] = float(found.findings["score"][near].max(initial=0.0))
        self.assertGreater(scores["gradient"], 0.7)
        self.assertGreater(scores["gradient"], scores["intensity"] + 0.1)

    def test_hundreds_of_instances_at_any_angle(self) -> None:
        """More than the candidates that are followed in any case."""
        random = np.random.default_rng(101)
        tile = np.kron(random.integers(40, 200, (8, 8)), np.ones((3, 3)))
        picture = np.tile(np.pad(tile, 6, constant_values=120), (20, 25)) + random.normal(0, 4, (720, 900))
        found = lf.detect(
            "templates", np.clip(picture, 0, 255).astype(np.uint8), template=tile.astype(np.uint8), rotation=(-180, 180)
        )
        self.assertEqual(len(found.findings), 500)
        self.assertLess(float(np.abs(found.findings["angle"]).max()), 2.0)

    def test_an_exact_copy_is_found_among_its_like(self) -> None:
        wave = 120 + 40 * np.sin(np.add.outer(np.arange(200) / 5, np.arange(260) / 7))
        picture = np.clip(wave + np.random.default_rng(0).normal(0, 6, wave.shape), 0, 255).astype(np.uint8)
        found = lf.detect("templates", picture, template=picture[50:80, 60:90].copy()).findings
        self.assertEqual((len(found), float(found["score"][0])), (1, 1.0))
        self.assertAlmostEqual(float(found["x"][0]), 74.5, places=3)

    def test_the_same_bytes_each_time(self) -> None:
        given = {"template": self.template, "rotation": (-40, 40)}
        first, second = (lf.detect("templates", self.picture, **given) for _ in range(2))
        for name in ("x", "angle", "score", "log_nfa"):
            self.assertEqual(first.findings[name].tobytes(), second.findings[name].tobytes())

    def test_a_limit_that_is_lowered_finds_what_a_fresh_run_finds(self) -> None:
        picture = self.picture.copy()
        noisy = self.template + np.random.default_rng(8).normal(0, 50, self.template.shape)
        picture[10:74, 480:544] = np.clip(noisy, 0, 255)
        image, engine = Image.from_array(picture), Engine()
        sha, data = asset_of(Image.from_array(self.template))
        for first, then in (({"score_min": 0.95}, {"score_min": 0.35}), ({"false_alarms": 1e-9}, {"false_alarms": 1e6})):
            found = []
            for using, given in ((engine, first), (engine, then), (Engine(), then)):
                entry = {"name": "marks", "kind": "templates", "parameters": {"template": sha, "score_min": 0.3, **given}}
                made = {"lucid_finch_recipe": 2, "detectors": [entry], "assets": {sha: data.model_dump()}}
                found.append(using.run(Recipe.make(made), image).detections["marks"])
            self.assertEqual([*found[1].findings.rows()], [*found[2].findings.rows()])
            self.assertEqual(len(found[1].near_misses), len(found[2].near_misses))
            self.assertGreaterEqual(len(found[1].findings), len(found[0].findings) + ("score_min" in first))

    def test_asking_why(self) -> None:
        found = lf.detect("templates", self.picture, template=self.template, score_min=0.999)
        answer = lf.explain(found, at=(110.0, 100.0))
        self.assertIn("score", answer.summary)
        change = answer.candidates[0].change
        assert change is not None
        self.assertIn("score_min", change.values)
        nothing = lf.explain(found, at=(500.0, 30.0))
        self.assertRegex(nothing.summary, "score|agrees|nothing")


class Demo(unittest.TestCase):
    def test_the_marks_of_the_workshop(self) -> None:
        drawn = scene("maker_marks")
        recipe = Recipe.parse(recipe_text("maker_marks"))
        f = lf.run(recipe, drawn.image).detections["marks"].findings
        self.assertEqual(len(f), len(drawn.marks))
        for mark in drawn.marks:
            k = int(np.argmin(np.hypot(f["x"] - mark["x"], f["y"] - mark["y"])))
            self.assertLess(np.hypot(f["x"][k] - mark["x"], f["y"][k] - mark["y"]), 0.7, mark)
            self.assertLess(abs(math.remainder(f["angle"][k] - mark["angle"], 360)), 1.5, mark)

    def test_the_recipe_holds_the_taught_mark(self) -> None:
        recipe = Recipe.parse(recipe_text("maker_marks"))
        (data,) = recipe.assets.values()
        np.testing.assert_array_equal(decode_asset(data).pixels, taught_mark().pixels)


class Refused(unittest.TestCase):
    def test_clear_words(self) -> None:
        picture = with_pattern(pattern(), [])
        part = picture[20:50, 30:60]
        for given, words in (
            ({}, "template is missing"),
            ({"template": np.full((20, 20), 9, np.uint8)}, "same value everywhere"),
            ({"template": np.full((1, 1), 9, np.uint8)}, "too few"),
            ({"template": np.zeros((900, 900), np.uint8) + np.arange(900, dtype=np.uint8)}, "larger than the image"),
            ({"template": part, "mask": np.zeros((30, 30), np.uint8)}, "leave no pixel"),
            ({"template": part, "mask": np.ones((9, 30), np.uint8)}, "mask has 30 x 9"),
            ({"template": part, "scale": (1.4, 0.7)}, "minimum comes first"),
            ({"template": part, "outline": {"shape": "rectangle", "x": 900, "y": 9, "width": 5, "height": 5}}, "leave no pixel"),
            ({"template": "0" * 64}, "not there"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(ParameterError, words):
                lf.detect("templates", picture, **given)
        with self.assertRaises(OSError):
            lf.detect("templates", picture, template="nowhere.png")

    def test_it_can_be_cancelled(self) -> None:
        picture = with_pattern(pattern(), POSES)
        with self.assertRaises(Cancelled):
            lf.detect("templates", picture, template=pattern().astype(np.uint8), rotation=(-180, 180), cancelled=lambda: True)

    def test_other_depths_and_colour(self) -> None:
        picture = with_pattern(pattern(), POSES[:1], 1.0)
        part = picture[68:133, 78:143]
        for image in (picture.astype(np.uint16) * 257, picture.astype(np.float32) / 255, np.repeat(picture[..., None], 3, 2)):
            found = lf.detect("templates", image, template=part)
            self.assertEqual(len(found.findings), 1)
            self.assertAlmostEqual(found.findings["score"][0], 1.0, places=2)

    def test_many_at_once(self) -> None:
        tile = pattern(24, 3)
        picture = np.tile(tile, (16, 20)).astype(np.uint8)
        found = lf.detect("templates", picture, template=tile.astype(np.uint8))
        self.assertEqual(len(found.findings), 16 * 20)


if __name__ == "__main__":
    unittest.main()
