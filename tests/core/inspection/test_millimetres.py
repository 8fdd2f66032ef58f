"""Findings in millimetres: every quantity, error bars, limits, expectations, recipes."""

from __future__ import annotations

import dataclasses
import unittest
from typing import Any

import numpy as np

import lucid_finch as lf
from lucid_finch.core.detection import NO_OUTLINES, Outlines
from lucid_finch.core.detectors import KINDS
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.engine import Engine, judged_again
from lucid_finch.core.execution.plan import Plan
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.inspection.millimetres import in_millimetres, metric_columns
from lucid_finch.core.recipe import VERSION, Recipe, frozen
from lucid_finch.core.table import Column
from tests.support import disc, leaning_camera, line_calibration, seen_by


def recipe(calibration: Calibration | None, *detectors: dict[str, Any], **fields: Any) -> Recipe:
    plain = calibration.plain() if calibration is not None else None
    return Recipe.make({"lucid_finch_recipe": VERSION, "detectors": list(detectors), "calibration": plain, **fields})


def plates(x: Any, y: Any) -> Any:
    """A rectangle of 12 x 6 mm, a disc of radius 3 mm and a stroke of 20 x 1 mm on the plane."""
    rectangle = (np.abs(x + 15) < 6) & (np.abs(y + 8) < 3)
    stroke = (np.abs(x - 2) < 10) & (np.abs(y - 12) < 0.5)
    return np.where(rectangle | (np.hypot(x - 10, y + 8) < 3) | stroke, 180.0, 60.0)


class Columns(unittest.TestCase):
    def test_every_kind_has_them_by_quantity(self) -> None:
        image = disc(30.0, noise=2.0)
        calibration = line_calibration(0.1)
        for kind, detector in KINDS.items():
            if kind == "templates":
                continue
            with self.subTest(kind):
                found = lf.detect(kind, image, calibration=calibration).findings
                plain = lf.detect(kind, image).findings
                self.assertEqual(found.columns[: len(plain.columns)], plain.columns)
                metric = [c.name for c in metric_columns(detector.all_columns())]
                self.assertEqual(list(found.columns[len(plain.columns) :]), metric)
                for name in metric:
                    base = name.rpartition("_")[0]
                    scale = 0.01 if name.endswith("_mm2") else 0.1
                    self.assertEqual(found.declared[name].unit, "mm²" if name.endswith("_mm2") else "mm")
                    if not base.endswith("_std"):
                        np.testing.assert_allclose(found[name], scale * np.asarray(found[base], float), rtol=1e-4, atol=1e-6)

    def test_sizes_in_perspective(self) -> None:
        camera = leaning_camera(35.0)
        image = seen_by(camera, plates, noise=1.0)
        shapes = lf.detect("contours", image, binarize="fixed", level=120.0, foreground="bright", calibration=camera).findings
        rectangle = shapes[np.hypot(shapes["x_mm"] + 15, shapes["y_mm"] + 8) < 1].row(0)
        self.assertAlmostEqual(rectangle["area_mm2"], 72.0, delta=0.7)
        self.assertAlmostEqual(rectangle["perimeter_mm"], 36.0, delta=0.5)
        self.assertAlmostEqual(rectangle["box_width_mm"], 12.0, delta=0.25)
        self.assertAlmostEqual(rectangle["box_height_mm"], 6.0, delta=0.25)
        round_one = shapes[np.hypot(shapes["x_mm"] - 10, shapes["y_mm"] + 8) < 1].row(0)
        self.assertAlmostEqual(round_one["area_mm2"], np.pi * 9, delta=0.3)
        ellipse = lf.detect("ellipses", image, calibration=camera).findings.row(0)
        self.assertAlmostEqual(ellipse["semi_major_mm"], 3.0, delta=0.05)
        self.assertAlmostEqual(ellipse["semi_minor_mm"], 3.0, delta=0.05)
        stroke = lf.detect("lines", image, pair=True, length_min=120, calibration=camera).findings
        stroke = stroke[np.abs(stroke["y_mm"] - 12) < 1].row(0)
        # Ends of thin strokes come out short by two pixels.
        self.assertAlmostEqual(stroke["length_mm"], 20.0, delta=0.6)
        self.assertAlmostEqual(stroke["breadth_mm"], 1.0, delta=0.06)
        edge = lf.detect("edges", image, length_min=300, calibration=camera)
        around = edge.findings[np.argmin(np.abs(edge.findings["length_mm"] - 42))[None]].row(0)
        self.assertAlmostEqual(around["length_mm"], 42.0, delta=1.0)
        points = edge.points
        x, y = camera.to_plane(points["x"], points["y"])
        np.testing.assert_allclose(points["x_mm"], x)
        np.testing.assert_allclose(points["y_mm"], y)

    def test_errors_hold_the_noise_and_the_calibration(self) -> None:
        declared = (
            Column("x", "x", quantity="x", pair="y"), Column("y", "y", quantity="y"), Column("radius", "r", quantity="length"),
            Column("x_std", "x", quantity="x error", pair="y_std"), Column("y_std", "y", quantity="y error"),
            Column("radius_std", "r", quantity="length error", pair="radius"),
        )  # fmt: skip
        columns = {n: np.array([v]) for n, v in zip(
            ("x", "y", "radius", "x_std", "y_std", "radius_std"), (50.0, 40.0, 20.0, 0.3, 0.4, 0.1), strict=True
        )}  # fmt: skip
        made = line_calibration(0.1)
        found = {name: float(v[0]) for name, v in in_millimetres(made, columns, declared).items()}
        relative = made.mm_per_px_std / made.mm_per_px
        self.assertAlmostEqual(found["radius_std_mm"], np.hypot(0.01, 2.0 * relative), places=3)
        self.assertAlmostEqual(found["x_std_mm"], np.hypot(0.03, 5.0 * relative), places=3)
        self.assertAlmostEqual(found["y_std_mm"], np.hypot(0.04, 4.0 * relative), places=3)

    def test_lengths_without_and_with_outlines(self) -> None:
        declared = (
            Column("x", "x", quantity="x", pair="y"), Column("y", "y", quantity="y"), Column("area", "a", quantity="area"),
            Column("long", "l", quantity="path"),
        )  # fmt: skip
        columns = {"x": np.array([300.0]), "y": np.array([200.0]), "area": np.array([400.0]), "long": np.array([80.0])}
        camera = leaning_camera(30.0, 0.0)
        square = Outlines.of([np.array([[290, 190], [310, 190], [310, 210], [290, 210.0]])], closed=True)
        there = np.stack(camera.to_plane(*square.points.T), axis=1)
        sides = np.hypot(*(np.roll(there, -1, axis=0) - there).T)
        with_outlines = in_millimetres(camera, columns, declared, lambda: square)
        self.assertAlmostEqual(float(with_outlines["long_mm"][0]), float(sides.sum()), places=9)
        for outlines in (square, NO_OUTLINES):
            area = float(in_millimetres(camera, columns, declared, lambda o=outlines: o)["area_mm2"][0])  # type: ignore[misc]
            self.assertAlmostEqual(area / (400 * abs(np.linalg.det(camera.slopes(300.0, 200.0)))), 1.0, places=3)

    def test_fits_and_merged_findings(self) -> None:
        image, calibration = disc(40.0, noise=2.0), line_calibration(0.1)
        region = {"shape": "annulus", "x": 79.5, "y": 79.5, "inner": 25.0, "outer": 55.0, "start": 0.0, "sweep": 360.0}
        fit = lf.detect("edge_scan", image, region=region, fit="circle", calibration=calibration).fit
        assert fit is not None
        self.assertAlmostEqual(fit["radius_mm"], 0.1 * fit["radius"], places=6)
        self.assertGreater(fit["radius_std_mm"], 0.1 * fit["radius_std"])
        both = recipe(
            calibration, {"name": "a", "kind": "circles"}, {"name": "b", "kind": "ellipses"}, combine=[["a", "b"]]
        )  # fmt: skip
        merged = Engine().run(both, image).combined[0].findings
        self.assertAlmostEqual(float(merged["x_mm"][0]), 0.1 * float(merged["x"][0]), places=5)


class Limits(unittest.TestCase):
    def setUp(self) -> None:
        y, x = np.mgrid[:160, :160]
        picture = np.full((160, 160), 60.0)
        for number, radius in enumerate((8, 12, 16)):
            picture[np.hypot(x - 30 - 50 * number, y - 80) < radius] = 170
        picture += np.random.default_rng(0).normal(0, 2, picture.shape)
        self.image = Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8))
        self.calibration = line_calibration(0.1)

    def test_of_ranges_lengths_and_areas(self) -> None:
        for kind, given, count in (
            ("circles", {"radius": ("1mm", "1.4mm")}, 1), ("circles", {"radius": ("1mm", 20)}, 2),
            ("contours", {"area": ("3.5mm2", None), "foreground": "bright"}, 2), ("blobs", {"radius": (None, "1 mm")}, 1),
            ("edges", {"length_min": "6 mm"}, 2),
        ):  # fmt: skip
            with self.subTest(given):
                found = lf.detect(kind, self.image, calibration=self.calibration, **given)
                self.assertEqual(len(found.findings), count)

    def test_compared_where_each_lies(self) -> None:
        camera = leaning_camera(40.0)
        image = seen_by(
            camera, lambda x, y: np.where((np.hypot(x, y + 14) < 2) | (np.hypot(x, y - 14) < 2.4), 180.0, 60.0)
        )  # fmt: skip
        all_ = lf.detect("ellipses", image, calibration=camera, axis=(10, 60))
        self.assertEqual(len(all_.findings), 2)
        # The smaller one is nearer to the camera's side and seen larger: only millimetres tell them apart.
        found = lf.detect("ellipses", image, calibration=camera, axis=("1mm", "2.2mm"))
        self.assertEqual(len(found.findings), 1)
        self.assertAlmostEqual(float(found.findings["semi_major_mm"][0]), 2.0, delta=0.06)
        failed = found.near_misses[found.near_misses["failed"] == "axis"]
        self.assertIn("mm", str(failed.declared["semi_major_mm"].unit))
        self.assertTrue((np.abs(failed["limit"] - 2.2) < 1e-9).any())

    def test_changes_are_proposed_in_millimetres(self) -> None:
        found = lf.detect("circles", self.image, calibration=self.calibration, radius=("1mm", "1.4mm"))
        answer = lf.explain(found, (130.0, 80.0))
        change = answer.candidates[0].change if answer.candidates else answer.change
        assert change is not None
        self.assertIn("mm", str(change.values["radius"][1]))
        again = lf.detect("circles", self.image, calibration=self.calibration, radius=change.values["radius"])
        self.assertEqual(len(again.findings), 2)

    def test_judged_again_as_by_a_fresh_run(self) -> None:
        engine = Engine()
        one = recipe(self.calibration, {"name": "c", "kind": "contours", "parameters": {"area": ["3.5mm2", None]}})
        other = recipe(self.calibration, {"name": "c", "kind": "contours", "parameters": {"area": ["6mm2", None]}})
        before = engine.run(one, self.image).detections
        again = judged_again(Plan.of(other), self.image, before, 10_000)
        assert again is not None
        fresh = engine.run(other, self.image).detections["c"]
        self.assertEqual(again[0]["c"].findings["area_mm2"].tolist(), fresh.findings["area_mm2"].tolist())
        # Another calibration judges again, too.
        twice = recipe(line_calibration(0.2), {"name": "c", "kind": "contours", "parameters": {"area": ["6mm2", None]}})
        again = judged_again(Plan.of(twice), self.image, before, 10_000)
        fresh = Engine().run(twice, self.image).detections["c"]
        found = (again[0]["c"] if again is not None else fresh).findings
        self.assertEqual(found["area_mm2"].tolist(), fresh.findings["area_mm2"].tolist())

    def test_clear_words(self) -> None:
        cases = {
            "needs a calibration": ("circles", {"radius": ("1mm", None)}, None),
            "minimum comes first": ("circles", {"radius": ("3mm", "1mm")}, self.calibration),
            "radius.*is not allowed": ("circles", {"radius": ("3mm2", None)}, self.calibration),
            "area.*is not allowed": ("contours", {"area": ("3mm", None)}, self.calibration),
            "is for pictures of 80 x 60": ("circles", {}, line_calibration(0.1, 80, 60)),
        }
        for words, (kind, given, calibration) in cases.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                lf.detect(kind, self.image, calibration=calibration, **given)


class Recipes(unittest.TestCase):
    entry = {"name": "c", "kind": "circles", "parameters": {"radius": ["2mm", "6mm"], "sort": "-radius_mm"}}

    def test_carried_and_written(self) -> None:
        made = recipe(line_calibration(), {**self.entry, "expect": {"radius_mm": [3.5, 4.5]}})
        again = Recipe.parse(made.text())
        self.assertEqual(again.plain(), made.plain())
        self.assertEqual(again.plain()["detectors"][0]["parameters"]["radius"], ["2mm", "6mm"])
        run = Engine().run(again, disc(40.0, noise=2.0))
        self.assertEqual(run.unmet, ())
        run = Engine().run(made.calibrated(line_calibration(0.2)), disc(20.0, noise=2.0))
        self.assertEqual(len(run.unmet), 0)
        self.assertNotEqual(made.sha256, made.calibrated(line_calibration(0.2)).sha256)

    def test_needs_a_calibration(self) -> None:
        with self.assertRaisesRegex(ParameterError, "radius.*needs a calibration"):
            recipe(None, self.entry)
        with self.assertRaisesRegex(ParameterError, "radius_mm needs a calibration"):
            recipe(None, {"name": "c", "kind": "circles", "expect": {"radius_mm": [1, 2]}})
        with self.assertRaisesRegex(ParameterError, "size.*needs a calibration"):
            recipe(None, {"name": "c", "kind": "circles"}, prepare=[{"step": "flatten", "size": "5mm"}])
        with self.assertRaisesRegex(ParameterError, "needs a calibration"):
            recipe(line_calibration(), self.entry).calibrated(None)

    def test_steps_in_millimetres(self) -> None:
        image = disc(40.0, noise=2.0)
        steps = [[{"step": "flatten", "size": size}] for size in ("5mm", 50)]
        one, other = (
            Engine().run(recipe(line_calibration(), {"name": "c", "kind": "circles"}, prepare=s), image).detections["c"]
            for s in steps
        )  # fmt: skip
        self.assertEqual(one.findings["radius"].tolist(), other.findings["radius"].tolist())

    def test_frozen_keeps_millimetres(self) -> None:
        made = recipe(line_calibration(), self.entry)
        found = Engine().run(made, disc(40.0, noise=2.0))
        self.assertEqual(frozen(made, found.detections).plain()["detectors"][0]["parameters"]["radius"], ["2mm", "6mm"])

    def test_a_picture_of_another_size_is_refused(self) -> None:
        with self.assertRaisesRegex(ParameterError, "160 x 160"):
            Engine().run(recipe(line_calibration(), self.entry), disc(40.0, size=120))

    def test_resized_pictures_measure_the_same(self) -> None:
        image = disc(40.0, noise=1.0)
        steps = [{"step": "resize", "factor": 0.5}]
        one, other = (
            Engine().run(recipe(line_calibration(), {"name": "c", "kind": "circles"}, prepare=p), image).detections["c"].findings
            for p in ([], steps)
        )  # fmt: skip
        self.assertAlmostEqual(float(one["radius_mm"][0]), float(other["radius_mm"][0]), delta=0.01)
        self.assertAlmostEqual(float(one["x_mm"][0]), float(other["x_mm"][0]), delta=0.01)

    def test_every_positional_column_declares_its_quantity(self) -> None:
        apart = {"rho"}
        for kind, detector in KINDS.items():
            for column in detector.all_columns():
                if column.unit in ("px", "px²") and column.name not in apart:
                    self.assertNotEqual(column.quantity, "", (kind, column.name))
                    names = {c.name for c in detector.all_columns()}
                    self.assertTrue(not column.pair or column.pair in names, (kind, column.name))
                    self.assertTrue(dataclasses.is_dataclass(column))


if __name__ == "__main__":
    unittest.main()
