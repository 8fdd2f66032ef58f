"""Calibrating, rectifying and millimetres on the command line."""

from __future__ import annotations

import json

import numpy as np
from PIL import Image as Pillow

from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.demo import recipe_text, scene
from tests.command_line.test_main import CommandCase


class Calibrating(CommandCase):
    def setUp(self) -> None:
        super().setUp()
        self.target = self.path("plate.png")
        Pillow.fromarray(scene("dot_target").image.pixels).save(self.target)
        self.out = self.path("bench.calibration.json")

    def calibrated(self, *more: object) -> tuple[int, str, str]:
        return self.call("calibrate", self.target, "--target", "dots", "--pitch", 7.5, "--out", self.out, *more)

    def test_a_target_and_its_residuals(self) -> None:
        status, _, said = self.calibrated("--residuals", self.path("off"), "--columns", 11, "--rows", 8)
        self.assertEqual(status, 0)
        self.assertRegex(said, r"0\.1174\d+ \+- .* mm/px.*88 points in 1 pictures.*tilted 24\.0 deg")
        made = Calibration.parse(self.out.read_bytes())
        self.assertEqual((made.name, made.columns, made.rows), ("bench", 11, 8))
        with Pillow.open(self.path("off") / "plate.residuals.png") as drawn:
            off = np.abs(np.asarray(drawn.convert("RGB"), int) - scene("dot_target").image.pixels)
        self.assertGreater((off.max(axis=2) > 60).sum(), 500)

    def test_what_is_there_is_kept(self) -> None:
        self.out.write_text("precious")
        status, _, said = self.calibrated()
        self.assertEqual((status, self.out.read_text()), (2, "precious"))
        self.assertIn("--overwrite", said)
        self.assertEqual(self.calibrated("--overwrite")[0], 0)

    def test_no_target(self) -> None:
        status, _, said = self.call("calibrate", self.picture, "--pitch", 5, "--out", self.out)
        self.assertEqual(status, 2)
        self.assertRegex(said, "disc.png: no chessboard is found")
        self.assertFalse(self.out.exists())

    def test_a_line(self) -> None:
        given = ("--target", "line", "--line", 10, 20, 110, 20, "--pitch", 25, "--out", self.out)
        self.assertEqual(self.call("calibrate", self.picture, *given)[0], 0)
        found = json.loads(self.call("detect", "circles", self.picture, "--calibration", self.out, "--json", "-")[1])
        row = found["detections"][0]["findings"][0]
        self.assertAlmostEqual(row["radius_mm"], 0.25 * row["radius"], places=3)
        self.assertEqual(found["calibration"]["name"], "bench")
        self.assertEqual(found["detections"][0]["units"]["radius_mm"], "mm")

    def test_a_run_takes_it_from_a_file_or_from_its_recipe(self) -> None:
        self.assertEqual(self.calibrated()[0], 0)
        recipe = self.path("dots.finch.json")
        recipe.write_text(json.dumps({**json.loads(recipe_text("dot_target")), "calibration": None}))
        out = self.path("out")
        status, _, said = self.call("run", recipe, self.target, "--out", out)
        self.assertEqual(status, 2)
        self.assertIn("needs a calibration", said)
        self.assertEqual(self.call("run", recipe, self.target, "--out", out, "--calibration", self.out)[0], 0)
        self.assertEqual(self.summary(out)[0]["calibration"], "bench")
        written = json.loads(next(out.glob("plate*.findings.json")).read_text())
        self.assertEqual(written["calibration"]["sha256"], Calibration.parse(self.out.read_bytes()).sha256)
        head = next(out.glob("plate*.dots.csv")).read_text().splitlines()[0]
        self.assertTrue(head.endswith("x_std_mm,y_std_mm"))

    def test_a_picture_of_another_size_fails_and_is_named(self) -> None:
        self.assertEqual(self.calibrated()[0], 0)
        out = self.path("out")
        recipe = self.path("dots.finch.json")
        recipe.write_text(recipe_text("dot_target"))
        status, _, said = self.call("run", recipe, self.picture, self.target, "--out", out)
        self.assertEqual(status, 1)
        self.assertRegex(said, r"disc.png: calibration: it is for pictures of 1100 x 800 px")
        self.assertEqual([row["findings"] for row in self.summary(out)], ["", "88"])

    def test_rectified(self) -> None:
        self.assertEqual(self.calibrated()[0], 0)
        flat = self.path("flat.png")
        status, _, said = self.call("rectify", self.target, "--calibration", self.out, "--out", flat)
        self.assertEqual(status, 0)
        self.assertRegex(said, r"mm/px; pixel \(0, 0\) is at")
        lens = self.path("lens.tif")
        given = ("--calibration", self.out, "--keep-perspective", "--out", lens)
        self.assertEqual(self.call("rectify", self.target, *given)[0], 0)
        self.assertTrue(lens.exists())
        status, _, said = self.call("rectify", self.picture, "--calibration", self.out, "--out", flat)
        self.assertEqual(status, 2)
        self.assertIn("it is for pictures of 1100 x 800", said)
