"""Looking on the real window: regions by hand, numbers, measuring, comparing over a range, maps saved, own preparation."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
from PIL import Image as Pillow
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.canvas.shapes import circle_through, handles, measured, with_handle
from lucid_finch.desktop.study.study import SOURCE, step_card
from tests.desktop.support import BenchCase, two_squares

LEFT = Qt.MouseButton.LeftButton


class LookingCase(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.open(two_squares())
        self.study = self.bench.study
        self.pane = self.bench.frames[0].pane

    def at(self, x: float, y: float) -> QPoint:
        return self.pane.from_source(x, y).toPoint()

    def drag(self, start: tuple[float, float], end: tuple[float, float]) -> None:
        QTest.mousePress(self.pane, LEFT, pos=self.at(*start))
        for share in (0.3, 0.7, 1.0):
            place = [a + share * (b - a) for a, b in zip(start, end, strict=True)]
            QTest.mouseMove(self.pane, self.at(*place))
        QTest.mouseRelease(self.pane, LEFT, pos=self.at(*end))

    def click_at(self, x: float, y: float) -> None:
        self.click(self.pane, QPointF(self.at(x, y)))

    def point_at(self, widget: QWidget, x: float, y: float) -> None:
        QTest.mouseMove(widget, self.at(x, y))

    def region(self) -> Any:
        region = self.study.recipe.detectors[0].made_parameters().region
        return None if region is None else region.model_dump()


class Regions(LookingCase):
    def draw(self, kind: str, hole: bool = False) -> None:
        self.bench.settings.editors["", "region"].draw_wanted.emit("region", kind, hole)

    def test_a_drawn_rectangle_keeps_findings_inside_and_is_undone(self) -> None:
        self.draw("rectangle")
        self.drag((15, 25), (140, 130))
        self.settle()
        region = self.region()
        self.assertAlmostEqual(region["x"], 77.5, delta=1.5)
        self.assertAlmostEqual(region["width"], 125, delta=2.5)
        found = self.study.detections["edges"].findings
        self.assertTrue(len(found) and (found["x"] < 141).all())
        while self.study.undo.canUndo():
            self.study.undo.undo()
        self.settle()
        self.assertIsNone(self.region())
        self.assertNotIn("region", self.bench.drawing.items)

    def test_handles_inside_and_keys_change_it(self) -> None:
        self.draw("rectangle")
        self.drag((30, 40), (110, 110))
        before = self.region()
        # A corner, with the one across in its place.
        self.drag((110, 110), (150, 130))
        after = self.region()
        self.assertAlmostEqual(after["width"] - before["width"], 40, delta=2)
        self.assertAlmostEqual(after["x"] - after["width"] / 2, before["x"] - before["width"] / 2, delta=0.6)
        # The inside moves it.
        self.drag((60, 60), (70, 65))
        moved = self.region()
        self.assertAlmostEqual(moved["x"] - after["x"], 10, delta=1.5)
        QTest.keyClick(self.pane, Qt.Key.Key_Left)
        QTest.keyClick(self.pane, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
        self.assertAlmostEqual(self.region()["x"], moved["x"] - 1, places=2)
        self.assertAlmostEqual(self.region()["y"], moved["y"] + 10, places=2)
        # Each movement is undone on its own.
        self.study.undo.undo()
        self.assertAlmostEqual(self.region()["x"], moved["x"], places=2)
        self.study.undo.undo()
        self.assertAlmostEqual(self.region()["x"], after["x"], places=2)
        self.study.undo.redo()
        self.study.undo.redo()
        # The knob turns it.
        knob = handles(self.bench.drawing.items["region"].shape)[4]
        centre = self.region()["x"], self.region()["y"]
        self.drag(knob, (centre[0] + 40, centre[1] + 40))
        self.assertAlmostEqual(self.region()["angle"], 45, delta=2)
        QTest.keyClick(self.pane, Qt.Key.Key_Delete)
        self.assertIsNone(self.region())

    def test_polygons_annuli_and_exclusions(self) -> None:
        self.draw("polygon")
        for place in ((20, 30), (140, 30), (140, 130), (20, 130)):
            self.click_at(*place)
        QTest.keyClick(self.pane, Qt.Key.Key_Return)
        self.assertEqual(len(self.region()["points"]), 4)
        self.draw("ellipse", hole=True)
        self.drag((60, 60), (90, 90))
        self.settle()
        self.assertEqual(self.region()["exclude"][0]["shape"], "ellipse")
        self.assertIn("region/0", self.bench.drawing.items)
        self.assertIn("1 excluded", self.bench.settings.editors["", "region"].about.text())
        self.bench.drawing.active = "region/0"
        QTest.keyClick(self.pane, Qt.Key.Key_Delete)
        self.assertFalse(self.region()["exclude"])
        self.draw("annulus")
        self.drag((200, 100), (240, 100))
        self.assertAlmostEqual(self.region()["outer"], 40, delta=1)
        self.draw("polygon")
        self.click_at(20, 30)
        QTest.keyClick(self.pane, Qt.Key.Key_Escape)
        self.assertEqual(self.bench.drawing.kind, "")
        self.assertEqual(self.region()["shape"], "annulus")

    def test_numbers_are_typed_and_wrong_ones_refused(self) -> None:
        self.draw("rectangle")
        self.drag((30, 40), (110, 110))
        field = self.bench.settings.editors["", "region"].fields["width"]
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, "55.5")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual(self.region()["width"], 55.5)
        field.selectAll()
        QTest.keyClicks(field, "-3")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual(self.region()["width"], 55.5)
        self.assertIn("region", self.bench.failure)

    def test_a_region_beside_the_image_is_said(self) -> None:
        for x in (-200.0, 900.0):
            region = {"shape": "ellipse", "x": x, "y": 50.0, "width": 50.0, "height": 60.0}
            self.study.edit_detector("edges", {"region": region}, "away")
            self.settle()
            self.assertIn("outside the image", self.bench.recipe_cards.cards["edges"].about.text())
            self.assertEqual(len(self.study.detections["edges"].findings), 0)

    def test_a_common_region_serves_every_detector_without_one(self) -> None:
        self.study.duplicate("edges")
        self.study.choose(SOURCE)
        self.bench.settings.draw_wanted.emit("rectangle", "region")
        self.drag((15, 25), (140, 130))
        self.settle()
        self.assertIsNotNone(self.study.recipe.region)
        for found in self.study.detections.values():
            self.assertTrue((found.findings["x"] < 141).all())
        self.study.choose("edges 2")
        own = {"shape": "rectangle", "x": 215.0, "y": 105.0, "width": 160.0, "height": 170.0}
        self.study.edit_detector("edges 2", {"region": own}, "own")
        self.settle()
        self.assertTrue((self.study.detections["edges 2"].findings["x"] > 130).all())
        again = Recipe.parse(self.study.recipe.text())
        self.assertEqual(again.text(), self.study.recipe.text())


class Preparation(LookingCase):
    def test_own_steps_change_one_detector_alone(self) -> None:
        self.study.duplicate("edges")
        self.study.add_step("tone", "edges 2")
        self.assertEqual(self.study.chosen, step_card(0, "edges 2"))
        self.study.edit_step(0, {"invert": True}, "invert", owner="edges 2")
        self.settle()
        one, other = (self.study.detections[n].task.image.pixels for n in ("edges", "edges 2"))
        np.testing.assert_allclose(other, 255 - one, atol=1e-3)
        self.assertIn("1 tone", [label for _, label in self.bench.stages.listed()] + [self.study.stage_title(self.study.chosen)])
        editor = self.bench.settings.editors["0", "gamma"]
        editor.edited.emit("gamma", 2.0, False)
        self.assertEqual(self.study.steps_of("edges 2")[0]["gamma"], 2.0)
        self.study.duplicate(self.study.chosen)
        self.study.move(self.study.chosen, -1)
        self.study.switch(self.study.chosen, False)
        self.assertEqual([s.get("on", True) for s in self.study.steps_of("edges 2")], [False, True])
        self.study.remove(self.study.chosen)
        self.study.rename("edges 2", "inverted")
        self.assertIn(step_card(0, "inverted"), self.study.cards)

    def test_a_step_is_seen_while_it_is_chosen(self) -> None:
        self.study.add_step("smooth")
        self.study.add_step("tone")
        self.settle()
        before = self.bench.active_frame.map_name
        self.study.choose(step_card(1))
        self.settle()
        self.assertEqual(self.bench.active_frame.map_name, step_card(1))
        self.assertEqual(self.bench.active_frame.pane.picture.title, "2 smooth")
        self.study.choose("edges")
        self.assertNotEqual(self.bench.active_frame.map_name, step_card(1))
        self.assertIn(before, ("magnitude", "prepared"))

    def test_turned_and_resized_pictures_lie_on_the_source(self) -> None:
        for step, given in (("rotate", {"angle": 30.0}), ("resize", {"factor": 0.5}), ("rotate", {"angle": 90.0})):
            self.study.edit({"prepare": [{"step": "channel"}, {"step": step, **given}]}, "x")
            self.settle()
            picture = self.bench.panes.pictures["prepared"]
            # A place in the strong square and one beside it, by their source coordinates.
            self.assertGreater(float(picture.value_at(70, 75)), float(picture.value_at(145, 20)) + 40)
            out = np.empty((200, 300), np.uint32)
            picture.draw(-0.5, -0.5, 1.0, out)
            grey = (out & 255).astype(float)
            self.assertGreater(grey[60:100, 50:90].mean(), grey[5:30, 130:150].mean() + 30)
            found = self.study.detections["edges"].findings
            self.assertTrue(((found["x"] > 0) & (found["x"] < 300)).all())

    def test_wrong_coefficients_are_refused_and_nothing_is_lost(self) -> None:
        self.study.add_step("kernel")
        editor = self.bench.settings.editors["1", "coefficients"]
        editor.table.item(0, 0).setText("2.5")
        self.assertEqual(self.study.steps_of("")[1]["coefficients"][0][0], 2.5)
        editor.table.item(0, 0).setText("many")
        self.assertEqual(editor.table.item(0, 0).text(), "2.5")
        QApplication.clipboard().setText("1\t2\n3\t4")
        editor.paste()
        self.settle()
        self.assertIn("odd", self.bench.recipe_cards.cards[step_card(1)].about.text())
        self.study.undo.undo()
        self.settle()
        self.assertNotIn(step_card(1), self.bench.runner.failures)
        editor.columns.setCurrentText("5")
        editor.columns.activated.emit(0)
        self.assertEqual([len(row) for row in self.study.steps_of("")[1]["coefficients"]], [5, 5, 5])

    def test_the_border_is_drawn_and_its_margin_hatched(self) -> None:
        self.study.add_step("smooth")
        self.study.edit_step(1, {"method": "box", "size": 41}, "wide")
        self.settle()
        sketch = self.bench.settings.border
        self.assertEqual(sketch.values[3:], self.study.image.pixels[100, :4].tolist())
        self.assertEqual(sketch.values[:3], sketch.values[4:7][::-1] if len(sketch.values) > 6 else sketch.values[:3])
        frame = self.bench.frames[0]
        self.bench.panes.show_map(0, "prepared")
        plain = frame.pane.grab().toImage()
        self.bench.actions_by_name["shade"].trigger()
        hatched = frame.pane.grab().toImage()
        margin, inside = self.at(10, 100), self.at(150, 20 + 40)
        self.assertNotEqual(plain.pixelColor(margin), hatched.pixelColor(margin))
        self.assertEqual(plain.pixelColor(inside), hatched.pixelColor(inside))


class Numbers(LookingCase):
    def setUp(self) -> None:
        super().setUp()
        self.bench.actions_by_name["values"].trigger()
        self.numbers = self.bench.drawer.values

    def test_a_gradient_as_on_paper(self) -> None:
        self.study.edit_detector("edges", {"operator": "sobel", "sigma": 0.0}, "plain")
        self.settle()
        self.bench.panes.show_map(0, "magnitude")
        self.point_at(self.pane, 30, 75)
        u, v = (round(c) for c in self.bench.frames[0].view.cursor)
        patch = self.study.image.pixels[v - 1 : v + 2, u - 1 : u + 2].astype(float)
        gx = ((patch[:, 2] - patch[:, 0]) * (1, 2, 1)).sum() / 8
        gy = ((patch[2] - patch[0]) * (1, 2, 1)).sum() / 8
        worked = self.numbers.worked
        self.assertAlmostEqual(worked.sums[0].total, gx, places=6)
        self.assertAlmostEqual(worked.sums[1].total, gy, places=6)
        self.assertAlmostEqual(worked.value, float(np.hypot(gx, gy)), places=6)
        self.assertAlmostEqual(worked.value, float(self.pane.picture.value_at(u, v)), places=3)
        self.assertIn(f"column {u}, row {v}", self.numbers.about.text())
        self.numbers.copy()
        rows = [row.split("\t") for row in QApplication.clipboard().text().splitlines()]
        self.assertIn(["", str(u - 1), str(u), str(u + 1)], rows)
        self.assertIn([str(v), *(f"{x:.7g}" for x in patch[1])], rows)

    def test_it_follows_holds_and_steps(self) -> None:
        self.bench.panes.show_map(0, "source")
        self.point_at(self.pane, 50, 60)
        first = self.numbers.about.text()
        self.numbers.hold.setChecked(True)
        self.point_at(self.pane, 90, 80)
        self.numbers.refresh()
        self.assertEqual(self.numbers.about.text(), first)
        column = int(first.split("column ")[1].split(",")[0])
        self.numbers.go(1, 0)
        self.assertIn(f"column {column + 1}", self.numbers.about.text())
        self.assertIn(str(self.study.image.pixels[60, 50]), self.numbers.text)

    def test_a_crop_keeps_the_numbers_of_the_source(self) -> None:
        region = {"shape": "rectangle", "x": 80.0, "y": 80.0, "width": 100.0, "height": 100.0}
        self.study.edit({"prepare": [{"step": "crop", "region": region}, {"step": "smooth", "method": "box", "size": 3}]}, "x")
        self.settle()
        self.bench.panes.show_map(0, "prepared")
        self.numbers.hold.setChecked(False)
        self.bench.panes.activate(0)
        self.bench.frames[0].view.set_cursor((60.0, 70.0))
        self.assertIn("column 60, row 70", self.numbers.about.text())
        expected = self.study.image.pixels[69:72, 59:62].mean()
        self.assertAlmostEqual(self.numbers.worked.value, float(expected), places=3)

    def test_own_numbers(self) -> None:
        self.numbers.own.setChecked(True)
        self.numbers.operator.setCurrentText("sobel")
        QApplication.clipboard().setText("0 0 8\n0 0 8\n0 0 8")
        self.numbers.patch.paste()
        self.assertEqual(self.numbers.worked.value, 4.0)
        QApplication.clipboard().setText("1 2")
        self.numbers.patch.paste()
        self.assertIn("3 by 3", self.numbers.about.text())


class Measuring(LookingCase):
    def test_a_line_its_profile_and_a_length_from_it(self) -> None:
        self.bench.actions_by_name["measure_line"].trigger()
        self.drag((10, 75), (140, 75))
        page = self.bench.drawer.measure
        length = {n: v for n, v, _ in measured(page.shape)}["length"]
        self.assertAlmostEqual(length, 130, delta=1.5)
        self.bench.panes.show_map(0, "source")
        page.width_box.setValue(9)
        edges = page.plot.profile.crossings
        self.assertEqual(len(edges), 2)
        for edge, at in zip(edges, (29.5, 109.5), strict=True):
            self.assertAlmostEqual(edge.x, at, delta=0.25)
            self.assertLess(edge.std, 0.2)
        self.assertIn("edge\tat\tstd", page.text())
        page._fill_menu()
        entry = next(a for a in page.menu.actions() if a.text().startswith("half") and "Length" in a.text())
        entry.trigger()
        self.assertAlmostEqual(self.study.recipe.detectors[0].made_parameters().length_min.value, length / 2, delta=0.1)
        QTest.keyClick(self.pane, Qt.Key.Key_Right)
        self.assertAlmostEqual(page.shape["points"][0][0], 11, delta=1.0)
        self.study.add_step("morphology")
        page.use_wanted.emit("size", 12.4)
        self.assertEqual(self.study.steps_of("")[1]["size"], 13)
        page.clear_button.click()
        self.assertIsNone(page.shape)
        self.assertNotIn("measure", self.bench.drawing.items)

    def test_circle_box_and_angle(self) -> None:
        shapes = {
            "circle": {"points": [[10, 0], [0, 10], [-10, 0]]}, "box": {"points": [[10, 20], [4, 50]]},
            "angle": {"points": [[0, 0], [10, 0], [5, 5], [5, 25]]},
        }  # fmt: skip
        found = {k: {n: v for n, v, _ in measured({"shape": k, **s})} for k, s in shapes.items()}
        self.assertAlmostEqual(found["circle"]["radius"], 10)
        self.assertAlmostEqual(found["circle"]["x"], 0)
        self.assertEqual((found["box"]["width"], found["box"]["height"], found["box"]["area"]), (6, 30, 180))
        self.assertAlmostEqual(found["angle"]["angle"], 90)
        self.assertIsNone(circle_through([[0, 0], [5, 5], [10, 10]]))
        self.bench.actions_by_name["measure_circle"].trigger()
        for place in ((70, 40), (110, 75), (70, 110)):
            self.click_at(*place)
        self.assertEqual(self.bench.drawer.measure.shape["shape"], "circle")
        self.assertFalse(self.bench.drawer.measure.tools["circle"].isChecked())
        self.bench.actions_by_name["measure_angle"].trigger()
        for place in ((20, 20), (80, 20), (50, 40), (50, 120)):
            self.click_at(*place)
        self.assertAlmostEqual(measured(self.bench.drawer.measure.shape)[0][1], 90, delta=1.5)

    def test_corners_stay_where_they_are(self) -> None:
        shape = {"shape": "rectangle", "x": 50.0, "y": 40.0, "width": 30.0, "height": 20.0, "angle": 25.0}
        before = handles(shape)
        after = handles(with_handle(shape, 0, 20.0, 15.0))
        np.testing.assert_allclose(after[2], before[2], atol=1e-9)
        np.testing.assert_allclose(after[0], (20.0, 15.0), atol=1e-9)


class Ranges(LookingCase):
    def test_samples_are_counted_and_one_is_adopted(self) -> None:
        self.bench.settings.editors["", "sigma"].sweep_wanted.emit("sigma")
        card = self.bench.sweep.card
        self.assertTrue(card.isVisible())
        self.settle()
        self.assertTrue(5 <= len(card.views) <= 9)
        self.assertTrue(all(view.sample.pixels is not None for view in card.views))
        wanted = next(v for v in card.views if v.sample.value == 6.0)
        self.click(wanted, QPointF(20, 20))
        self.settle()
        self.assertFalse(card.isVisible())
        self.assertEqual(self.study.recipe.detectors[0].made_parameters().sigma, 6.0)
        self.assertIn(f"{len(self.study.detections['edges'].findings)} found", wanted.sample.text)
        self.study.undo.undo()
        self.assertIsNone(self.study.recipe.detectors[0].made_parameters().sigma)

    def test_limits_are_taken_from_the_candidates(self) -> None:
        self.bench.sweep.open("false_alarms")
        self.settle()
        counts = [int(v.sample.text.split()[0]) for v in self.bench.sweep.card.views]
        self.assertEqual(counts, sorted(counts))
        self.assertGreater(counts[-1], counts[0])
        QTest.keyClick(self.bench.sweep.card, Qt.Key.Key_Escape)
        self.assertFalse(self.bench.sweep.card.isVisible())

    def test_steps_choices_and_what_is_refused(self) -> None:
        self.study.add_step("smooth")
        self.settle()
        self.bench.sweep.open("size")
        self.settle()
        views = self.bench.sweep.card.views
        self.assertTrue(all(v.sample.value % 2 for v in views))
        self.bench.sweep.open("method")
        self.settle()
        self.assertEqual([v.sample.value for v in self.bench.sweep.card.views], ["gaussian", "box", "median", "bilateral"])
        self.study.edit_step(1, {"method": "box", "border": "trim"}, "trim")
        self.bench.sweep.open("size")
        self.settle()
        self.assertTrue(all(v.sample.text for v in self.bench.sweep.card.views))

    def test_the_source_has_nothing_to_compare(self) -> None:
        self.study.choose(SOURCE)
        editor = self.bench.settings.editors["marks", "thickness"]
        self.assertTrue(editor.sweep.isHidden())
        editor.sweep_wanted.emit("thickness")
        self.assertIn("steps and detectors", self.bench.failure)
        self.assertFalse(self.bench.sweep.card.isVisible())

    def test_values(self) -> None:
        from lucid_finch.core.detectors.edges import EdgesParameters
        from lucid_finch.core.parameter_types.numbers import Number
        from lucid_finch.core.prepare import step_of

        for model in (
            EdgesParameters,
            *(step_of(n).Parameters for n in ("tone", "smooth", "derivative", "rotate", "morphology")),
        ):
            for declared in model.declarations().values():
                if not isinstance(declared.type, Number):
                    continue
                values = declared.type.sweep(declared, declared.default)
                self.assertLessEqual(len(values), 9)
                self.assertEqual(values, sorted(set(values)))
                for value in values:
                    model.make({declared.name: value}, "model")


class Colours(BenchCase):
    def test_the_axis_and_the_channels_of_the_colour_scene(self) -> None:
        self.bench.documents.open_demo("glaze_swatches")
        self.settle()
        study = self.bench.study
        self.assertEqual(len(study.detections["swatch outlines"].findings), 24)
        axis = study.steps_of("")[0]
        study.edit({"prepare": [{"step": "channel", "take": "luma"}]}, "luma")
        study.choose(step_card(0))
        self.bench.settings.samples_wanted.emit()
        self.assertEqual({k for k in self.bench.drawing.items if k != "measure"}, {"sample.0", "sample.1"})
        study.sample(axis["inside"], axis["outside"])
        self.settle()
        # What the guide says of the scene.
        lines = dict(line.rsplit("  ", 1) for line in self.bench.settings.separation.text().splitlines()[1:])
        self.assertEqual((lines["contrast axis"], lines["a"], lines["red"]), ("13.8", "13.6", "3.4"))
        self.bench.sweep.open("take")
        self.settle()
        views = self.bench.sweep.card.views
        self.assertEqual(len(views), 13)
        self.assertEqual((views[0].sample.value, views[0].sample.text), ("contrast axis", "24 found"))
        self.assertEqual((views[1].sample.value, views[1].sample.text), ("a", "24 found"))
        self.assertIn("0 found", next(v for v in views if v.sample.value == "luma").sample.text)
        self.click(views[0], QPointF(20, 20))
        self.settle()
        self.assertEqual(study.steps_of("")[0], axis)
        study.undo.undo()
        self.settle()
        self.bench.sweep.open("take")
        self.settle()
        self.click(self.bench.sweep.card.views[1], QPointF(20, 20))
        self.settle()
        self.assertEqual(study.steps_of("")[0]["take"], "a")
        self.assertEqual(len(study.detections["swatch outlines"].findings), 24)
        # A new axis starts from what was sampled.
        study.add_step("contrast_axis")
        self.assertEqual(study.steps_of("")[1]["inside"], axis["inside"])
        with self.assertRaises(ParameterError):
            study.edit_step(1, {"inside": None}, "nothing")


class Saving(LookingCase):
    def test_maps_from_the_window(self) -> None:
        self.bench.panes.show_map(0, "magnitude")
        picture = self.bench.active_frame.pane.picture
        self.bench.panes._set_range("magnitude", (0.0, 5.0))
        self.bench.panes.put_picture(picture)
        for ending in ("png", "tif", "npy"):
            self.bench.exporter.save_map(self.folder / f"m.{ending}")
            self.settle()
        about = json.loads((self.folder / "m.png.json").read_text())
        self.assertEqual((about["map"], about["white"]), ("magnitude", 5.0))
        values = self.study.detection.evidence["magnitude"].values
        np.testing.assert_array_equal(np.load(self.folder / "m.npy"), values)
        self.assertEqual(np.asarray(Pillow.open(self.folder / "m.png")).max(), 255)
        for name in ("source", "prepared"):
            self.bench.panes.show_map(0, name)
            self.bench.exporter.save_map(self.folder / f"{name}.npy")
            self.settle()
            self.assertEqual(np.load(self.folder / f"{name}.npy").shape, (200, 300))

    def test_maps_of_every_image(self) -> None:
        folder = self.folder / "many"
        folder.mkdir()
        for n in range(3):
            self.picture_file(f"many/p{n}.png", two_squares())
        (folder / "broken.png").write_bytes(b"nothing")
        self.bench.documents.open_path(folder)
        self.settle()
        self.wait(lambda: not self.bench.images.busy)
        self.bench.panes.show_map(0, "edges")
        self.bench.exporter.save_maps(self.folder / "out", "npy")
        self.settle()
        self.assertEqual(sorted(p.name for p in (self.folder / "out").iterdir()), [f"p{n}.png.edges.edges.npy" for n in range(3)])
        self.assertIn("broken", self.bench.notice.text.text())

    def test_the_style_of_annotated_pictures_is_kept(self) -> None:
        self.study.choose(SOURCE)
        editor = self.bench.settings.editors["marks", "colour"]
        editor.edited.emit("colour", "#ff0000", False)
        editor.edited.emit("colour", "red", False)
        self.assertIn("marks", self.bench.failure)
        self.bench.settings.editors["marks", "numbers"].edited.emit("numbers", False, False)
        self.assertEqual(self.study.recipe.marks.colour, "#ff0000")
        self.bench.exporter.export_to(self.folder / "out")
        self.settle()
        written = np.asarray(Pillow.open(self.folder / "out" / "squares.png.annotated.png")).astype(int)
        self.assertGreater(int(((written[..., 0] > 200) & (written[..., 1] < 60)).sum()), 100)
        self.assertEqual(Recipe.parse(self.study.recipe.text()).marks, self.study.recipe.marks)


class LargeImages(BenchCase):
    def test_numbers_and_steps_of_what_is_not_computed_whole(self) -> None:
        """Of more than six megapixels only an overview is kept; numbers are still those of the pixel."""
        random = np.random.default_rng(0)
        pixels = random.integers(0, 255, (2500, 2600)).astype(np.uint8)
        self.open(Image.from_array(pixels))
        self.bench.drawer.show_values()
        self.bench.panes.show_map(0, "gradient_x")
        self.bench.panes.activate(0)
        self.bench.frames[0].view.set_cursor((1203.0, 711.0))
        value = self.bench.study.detection.evidence["gradient_x"].part(1203, 711, 1204, 712)[0, 0]
        self.assertAlmostEqual(self.bench.drawer.values.worked.value, float(value), delta=2e-3)
