"""The demo scenes: the same on every machine, with a truth that the defaults find."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.recipe import Recipe
from lucid_finch.demo import SCENES, recipe_text, scene
from lucid_finch.demo.painter import Canvas, rounded_rectangle, rounded_rectangle_outline, uneven_light


class Scenes(unittest.TestCase):
    def test_every_scene_is_complete(self) -> None:
        for name in SCENES:
            drawn = scene(name)
            self.assertEqual(drawn.image.pixels.dtype, np.uint8)
            self.assertGreater(len(drawn.marks), 0)
            self.assertEqual(Recipe.parse(recipe_text(name)).text(), recipe_text(name))

    def test_the_tile_panel_is_found_with_default_limits(self) -> None:
        drawn = scene("tile_panel")
        recipe = Recipe.parse(recipe_text("tile_panel"))
        found = next(iter(Engine().run(recipe, drawn.image).detections.values()))
        points = np.stack([found.points["x"], found.points["y"]], axis=1)
        errors = []
        for mark in drawn.marks:
            if not mark.get("closed"):
                continue
            outline = np.array(mark["points"])
            far = np.sqrt(((outline[:, None] - points[None]) ** 2).sum(-1).min(axis=1))
            self.assertGreater((far < 1.5).mean(), 0.97, mark["x"])
            errors.append(np.median(far))
        self.assertLess(np.median(errors), 0.4)
        # Hardly anything else: every finding lies on a joint, on the outline of a tile cut by the border, or on the crack.
        self.assertLess(len(found.findings), 60)

    def test_the_swatches_are_found_on_the_contrast_axis_and_not_in_luma(self) -> None:
        drawn = scene("glaze_swatches")
        recipe = Recipe.parse(recipe_text("glaze_swatches"))
        found = Engine().run(recipe, drawn.image).detections["swatch outlines"]
        self.assertEqual((len(drawn.marks), len(found.findings), int(found.findings["closed"].sum())), (24, 24, 24))
        points = np.stack([found.points["x"], found.points["y"]], axis=1)
        for mark in drawn.marks:
            far = np.sqrt(((np.array(mark["points"])[:, None] - points[None]) ** 2).sum(-1).min(axis=1))
            self.assertGreater((far < 1.5).mean(), 0.97)
            self.assertLess(np.median(far), 0.4)
        plain = Recipe.make({**recipe.plain(), "prepare": [{"step": "channel", "take": "luma"}]})
        self.assertLess(len(Engine().run(plain, drawn.image).detections["swatch outlines"].findings), 3)

    def test_every_cut_out_piece_is_found_named_and_nested(self) -> None:
        drawn = scene("cutouts")
        found = Engine().run(Recipe.parse(recipe_text("cutouts")), drawn.image).detections["pieces"].findings
        self.assertEqual(len(found), len(drawn.marks))
        named = 0
        for mark in drawn.marks:
            off = np.hypot(found["x"] - mark["x"], found["y"] - mark["y"]) + (found["depth"] != mark["depth"]) * 1e3
            row = found.row(int(np.argmin(off)))
            self.assertLess(off.min(), 0.2 if mark["shape"] != "other" else 1.0)
            self.assertEqual((row["holes"], row["border"]), (mark["holes"], mark["border"]))
            self.assertAlmostEqual(row["area"] / mark["area"], 1.0, delta=0.06 if mark["area"] < 1500 else 0.04)
            named += row["shape"] == mark["shape"]
        self.assertGreaterEqual(named, len(drawn.marks) - 1)

    def test_the_glaze_edge_is_measured_despite_its_drips(self) -> None:
        drawn = scene("glaze_edge")
        run = Engine().run(Recipe.parse(recipe_text("glaze_edge")), drawn.image)
        fit, truth = run.detections["glaze boundary"].fit, drawn.marks[0]
        assert fit is not None
        self.assertAlmostEqual(fit["angle"], truth["angle"], delta=max(4 * fit["angle_std"], 0.02))
        self.assertAlmostEqual(fit["rho"], truth["rho"], delta=1.0)
        theta = np.radians(truth["theta"])
        self.assertAlmostEqual(fit["x"] * np.cos(theta) + fit["y"] * np.sin(theta), truth["rho"], delta=0.1)
        self.assertLess(fit["used"], 0.95 * fit["of"])
        self.assertGreater(fit["used"], 0.6 * fit["of"])
        self.assertEqual(run.unmet, ())

    def test_a_faint_line_is_missing_and_said_to_be(self) -> None:
        found = next(iter(Engine().run(Recipe.parse(recipe_text("tile_panel")), scene("tile_panel").image).detections.values()))
        crack = np.array(next(m for m in scene("tile_panel").marks if m.get("name") == "hairline crack")["points"])
        near = [
            np.hypot(*(crack[:, None] - np.asarray(outline)[None]).transpose(2, 0, 1)).min() < 4
            for outline in found.near_outlines
        ]
        self.assertTrue(any(near))


class Painting(unittest.TestCase):
    def test_shapes_lie_where_they_are_said_to(self) -> None:
        canvas = Canvas(80, 60, (0.0, 0.0, 0.0), seed=0)
        canvas.fill(rounded_rectangle(40.25, 30.5, 30.0, 20.0, 4.0, 0.0), (200.0, 200.0, 200.0))
        pixels = canvas.photograph(0.9, 1.0, 0.0, 0.0)[..., 0].astype(float)
        y, x = np.mgrid[0:60, 0:80]
        self.assertAlmostEqual((pixels * x).sum() / pixels.sum(), 40.25, delta=0.02)
        self.assertAlmostEqual((pixels * y).sum() / pixels.sum(), 30.5, delta=0.02)
        area = 30 * 20 - (4 - np.pi) * 16
        self.assertAlmostEqual(pixels.sum() / 200, area, delta=0.005 * area)

    def test_outline_lies_on_the_shape(self) -> None:
        numbers = (40.0, 30.0, 33.0, 21.0, 5.0, 17.0)
        outline = rounded_rectangle_outline(*numbers)
        distance = rounded_rectangle(*numbers)(outline[:, 0].astype(np.float32), outline[:, 1].astype(np.float32))
        self.assertLess(np.abs(distance).max(), 1e-3)
        steps = np.hypot(*np.diff(outline, axis=0).T)
        self.assertLess(steps.max(), 1.6)

    def test_light_falls_as_asked(self) -> None:
        light = uneven_light(100, 80, 0.0, 0.3, 0.1)
        self.assertAlmostEqual(float(light[40, 0] - light[40, 99]), 0.3, delta=0.01)
        self.assertLess(light[0, 99], light[40, 99])
