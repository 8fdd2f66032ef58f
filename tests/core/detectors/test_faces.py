"""Faces: the shipped model on painted people, sizes, places, near misses, reasons, maps, and pictures of all kinds."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

import lucid_finch as lf
from lucid_finch.core.detectors.faces import model
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.demo import scene


def boxes(name: str) -> tuple[Image, np.ndarray]:
    drawn = scene(name)
    return drawn.image, np.array([(m["x"], m["y"], m["width"], m["angle"]) for m in drawn.marks])


def matches(found: Any, truth: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which of the true boxes are found, and which findings are of one."""
    x, y, side = (np.asarray(found[n], float)[:, None] for n in ("x", "y", "width"))
    near = (np.hypot(x - truth[:, 0], y - truth[:, 1]) < 0.35 * truth[:, 2]) & (np.abs(np.log(side / truth[:, 2])) < 0.5)
    return near.any(axis=0), near.any(axis=1)


class OnPeople(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.image, cls.truth = boxes("open_day")
        cls.result = lf.detect("faces", cls.image)

    def test_nearly_all_are_found(self) -> None:
        hit, true = matches(self.result.findings, self.truth)
        self.assertGreaterEqual(hit.mean(), 0.9)
        # Those that others hide in part are found, too, and are not in the truth.
        self.assertLess(len(true) - true.sum(), 24)
        plaques, truth = boxes("plaques")
        found = lf.detect("faces", plaques).findings
        hit, true = matches(found, truth)
        self.assertGreaterEqual(hit.sum(), 11)
        self.assertLessEqual((~true).sum(), 1)

    def test_the_box_is_a_square_from_hairline_to_chin(self) -> None:
        f = self.result.findings
        np.testing.assert_allclose(f["width"], f["height"])
        np.testing.assert_allclose(f["left"] + f["width"] / 2, f["x"])
        np.testing.assert_allclose(f["top"] + f["height"] / 2, f["y"])
        outline = np.asarray(self.result.outlines[0])
        self.assertAlmostEqual(float(outline[:, 0].min()), float(f["left"][0]), places=3)
        off = []
        for x, y, side, _ in self.truth:
            far = np.hypot(f["x"] - x, f["y"] - y)
            k = int(np.argmin(far))
            if far[k] < 0.35 * side:
                off.append((far[k] / side, abs(np.log(f["width"][k] / side))))
        self.assertLess(np.median([o[0] for o in off]), 0.08)
        self.assertLess(np.median([o[1] for o in off]), 0.12)

    def test_grey_costs_little(self) -> None:
        grey = lf.detect("faces", lf.prepare("channel", self.image, take="luma"))
        colour_hit, grey_hit = (matches(r.findings, self.truth)[0].mean() for r in (self.result, grey))
        self.assertGreater(grey_hit, colour_hit - 0.08)

    def test_the_lean_of_heads(self) -> None:
        image, truth = boxes("plaques")
        turned = lf.prepare("rotate", image, angle=15.0, expand=True)
        f = lf.detect("faces", turned).findings
        off = []
        for x, y, side, angle in truth:
            far = np.hypot(f["x"] - x, f["y"] - y)
            if len(far) and far.min() < 0.35 * side:
                off.append((f["angle"][int(np.argmin(far))] - angle + 180) % 360 - 180)
        # Findings are of the picture as loaded, whatever was turned on the way.
        self.assertGreater(len(off), 8)
        self.assertLess(np.median(np.abs(off)), 10.0)

    def test_sizes_and_regions(self) -> None:
        large = lf.detect("faces", self.image, size=(60, 120)).findings
        self.assertTrue(((large["height"] >= 60) & (large["height"] <= 120)).all())
        self.assertLess(len(large), len(self.result.findings))
        region = {"shape": "rectangle", "x": 300.0, "y": 400.0, "width": 600.0, "height": 800.0}
        left = lf.detect("faces", self.image, region=region).findings
        self.assertTrue((left["x"] < 640).all())
        self.assertGreater(len(left), 5)

    def test_near_misses_and_reasons(self) -> None:
        strict = lf.detect("faces", self.image, score_min=0.9999)
        self.assertGreater(len(strict.near_misses), 0)
        self.assertIn("score_min", set(strict.near_misses["failed"].tolist()))
        nothing = lf.explain(self.result, at=(600.0, 20.0))
        self.assertIn("nothing is here", nothing.summary)
        small = lf.detect("faces", self.image, size=(600, 800))
        x, y, _, _ = self.truth[np.argmax(self.truth[:, 2])]
        self.assertIn("size", " ".join(r.label for r in lf.explain(small, at=(x, y)).reasons))

    def test_crops_are_upright_and_of_one_size(self) -> None:
        image, truth = boxes("plaques")
        found = lf.detect("faces", image).findings
        crops = lf.crops(image, found, 48, fitted=True, turned=True)
        self.assertEqual(crops.shape, (len(found), 48, 48, 3))
        # What is found again in a crop with its surroundings stands upright.
        wide = lf.crops(image, found, 160, turned=True)
        angles = [a for crop in wide for a in lf.detect("faces", crop).findings["angle"][:1]]
        self.assertGreater(len(angles), 8)
        self.assertLess(np.median(np.abs(angles)), np.median(np.abs(truth[:, 3])) + 2.0)

    def test_numbers_hide_no_face(self) -> None:
        f, places = self.result.findings, self.result.places
        on = [
            n for n in range(len(f)) for k in range(len(f))
            if abs(places[n, 0] - f["x"][k]) < 0.3 * f["width"][k] and abs(places[n, 1] - f["y"][k]) < 0.3 * f["height"][k]
        ]  # fmt: skip
        self.assertLess(len(on), 0.1 * len(f))

    def test_maps(self) -> None:
        evidence = self.result.evidence
        self.assertIn("channel_magnitude", evidence)
        score = evidence["score"]
        values = score.values
        self.assertEqual(values.shape, (score.height, score.width))
        row = self.result.findings[np.argsort(-self.result.findings["score"])[:1]].row(0)
        u, v = score.frame.from_source(row["x"], row["y"])
        patch = values[int(v) - 3 : int(v) + 4, int(u) - 3 : int(u) + 4]
        self.assertGreater(patch.max(), np.quantile(values, 0.99))
        part = score.part(10, 12, 30, 40)
        np.testing.assert_array_equal(part, values[12:40, 10:30])


class OnOtherPictures(unittest.TestCase):
    def test_none_where_there_are_none(self) -> None:
        total = 0
        for name in ("tile_panel", "pierced_screen", "cutouts", "glaze_edge", "pinholes"):
            total += len(lf.detect("faces", scene(name).image).findings)
        self.assertLessEqual(total, 2)

    def test_any_depth_and_size(self) -> None:
        image, truth = boxes("plaques")
        deep = Image.from_array(image.pixels.astype(np.uint16) * 257)
        hit, _ = matches(lf.detect("faces", deep).findings, truth)
        self.assertGreaterEqual(hit.sum(), 11)
        for shape in ((1, 1), (1, 50), (20, 20), (39, 41)):
            self.assertEqual(len(lf.detect("faces", np.full(shape, 90, np.uint8)).findings), 0)
        self.assertEqual(len(lf.detect("faces", np.zeros((100, 100, 3), np.float32)).findings), 0)

    def test_clear_words(self) -> None:
        picture = np.zeros((60, 80), np.uint8)
        self.assertIn("larger than the picture", lf.detect("faces", picture, size=(500, 600)).notes[0])
        with self.assertRaisesRegex(ParameterError, "minimum comes first"):
            lf.detect("faces", picture, size=(90, 30))
        with self.assertRaisesRegex(ParameterError, "score_min = 2"):
            lf.detect("faces", picture, score_min=2)

    def test_the_model_and_its_card(self) -> None:
        card = model().card
        self.assertEqual(card["trees"], len(model().trees))
        self.assertGreater(card["figures"]["recall_from_30_px"][0], 0.9)
        self.assertLess(len(model().written()), 200_000)


if __name__ == "__main__":
    unittest.main()
