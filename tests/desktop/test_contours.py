"""Contours and edge scans on the bench: nested rows, names on marks, ranges, levels over grey levels, the profile of a scan."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from lucid_finch.core.image import Image
from lucid_finch.core.judging import Limit
from lucid_finch.desktop.pages.tables import nested
from lucid_finch.desktop.recipe_panel.editors import Histogram, ParameterEditor
from tests.desktop.support import BenchCase, WindowCase


class Tree(WindowCase):
    def test_rows_follow_those_that_they_lie_in(self) -> None:
        order, depth = nested(np.array([1, 2, 3, 4, 5]), np.array([3, 0, 2, 0, 1]))
        self.assertEqual(order.tolist(), [1, 2, 0, 4, 3])
        self.assertEqual(depth.tolist(), [2, 0, 1, 0, 3])
        self.assertEqual(nested(np.empty(0, int), np.empty(0, int))[0].tolist(), [])

    def test_a_range_has_two_handles_and_the_nearer_one_moves(self) -> None:
        histogram = Histogram("area")
        histogram.resize(300, 54)
        limits = (Limit("area", "area", "at least", 20.0, 0), Limit("area", "area", "at most", 400.0, 1))
        histogram.show_values(np.geomspace(5, 900, 60), limits)
        self.assertLess(histogram.place_of(20.0), histogram.place_of(400.0))
        told = []
        histogram.limit_moved.connect(lambda value, end: told.append((value, end)))
        histogram._held = 1
        histogram._emit(histogram.place_of(500.0))
        self.assertEqual(told[0][1], 1)
        self.assertAlmostEqual(told[0][0], 500.0, delta=10.0)
        histogram.grab()


class Pieces(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.bench.documents.open_demo("cutouts")
        self.settle()

    def editor(self, name: str) -> ParameterEditor:
        editor = self.bench.settings.editors["", name]
        assert isinstance(editor, ParameterEditor)
        return editor

    def test_the_table_is_a_tree_until_it_is_sorted(self) -> None:
        table = self.bench.findings
        self.assertEqual(table.rows.rowCount(), 28)
        self.assertTrue(table.rows.is_tree)
        found = self.bench.study.detection.findings
        for place, row in enumerate(table.rows.order.tolist()):
            if found["parent"][row]:
                above = table.rows.order[:place]
                self.assertIn(found["parent"][row], found["id"][above].tolist())
        table.grab()
        column = [c.name for c in table.rows.columns].index("area")
        table.sortByColumn(column, Qt.SortOrder.DescendingOrder)
        self.assertFalse(table.rows.is_tree)
        self.assertEqual(table.rows.order[0], int(np.argmax(found["area"])))
        table.sortByColumn(-1, Qt.SortOrder.AscendingOrder)
        self.assertTrue(table.rows.is_tree)

    def test_counts_of_shapes_stand_above_the_table(self) -> None:
        said = self.bench.drawer.findings_page.said.text()
        self.assertTrue(said.startswith("circle 9"), said)
        self.bench.drawer.findings_page.field.setText("depth = 0")
        self.bench.drawer.findings_page.apply()
        self.assertEqual(self.bench.drawer.findings_page.said.text(), "20 of 28")

    def test_numbers_and_names_lie_in_the_shapes(self) -> None:
        marks = next(m for m in self.bench.frames[0].pane.marks if m.names)
        self.assertEqual(len(marks.names), 28)
        found = self.bench.study.detection.findings
        ring = int(np.flatnonzero((found["holes"] == 1) & (found["depth"] == 0))[0])
        hole = int(np.flatnonzero(found["parent"] == found["id"][ring])[0])
        x, y = marks.at[ring]
        self.assertFalse(
            found["left"][hole] + 2 < x < found["left"][hole] + found["width"][hole] - 2
            and found["top"][hole] + 2 < y < found["top"][hole] + found["height"][hole] - 2
        )
        self.bench.frames[0].view.set(x, y, 2.0)
        places = self.bench.frames[0].pane._tag_places(16, 7.0)
        self.assertGreater(max(width for *_, width in places), 40)
        self.bench.grab()

    def test_an_area_is_typed_and_dragged_as_a_range(self) -> None:
        editor = self.editor("area")
        assert editor.field is not None and editor.histogram is not None
        editor.field.setText("500, 3000")
        editor.field.editingFinished.emit()
        self.settle()
        area = self.bench.study.detection.findings["area"]
        self.assertTrue(((area >= 500) & (area <= 3000)).all())
        self.assertEqual([limit.end for limit in editor.histogram.limits], [0, 1])
        editor.histogram.limit_moved.emit(2000.0, 1)
        self.settle()
        self.assertEqual(self.bench.study.recipe.detectors[0].made_parameters().area, (500.0, 2000.0))
        editor.field.setText("open, 900")
        editor.field.editingFinished.emit()
        self.settle()
        self.assertEqual(self.bench.study.recipe.detectors[0].made_parameters().area, (None, 900.0))

    def test_the_level_stands_over_the_grey_levels(self) -> None:
        self.assertFalse(self.editor("level").isVisible())
        self.assertIn("edges", self.editor("binarize").choice.itemText(0))
        self.bench.settings.edit("", "binarize", "fixed", False)
        self.settle()
        editor = self.editor("level")
        self.assertFalse(editor.isHidden())
        self.assertGreater(len(editor.histogram.values), 10_000)
        editor.histogram.limit_moved.emit(140.0, -1)
        self.settle()
        self.assertEqual(self.bench.study.detection.resolved["level"], 140.0)
        self.assertAlmostEqual(editor.histogram.limits[0].value, 140.0)
        self.bench.study.undo.undo()
        self.bench.study.undo.undo()
        self.settle()
        self.assertEqual(len(self.bench.study.detection.findings), 28)

    def test_a_choice_left_open_stays_open(self) -> None:
        choice = self.editor("binarize").choice
        choice.setCurrentText("otsu")
        self.settle()
        self.assertEqual(self.bench.study.recipe.detectors[0].made_parameters().binarize, "otsu")
        choice.setCurrentIndex(0)
        self.settle()
        self.assertIsNone(self.bench.study.recipe.detectors[0].made_parameters().binarize)


class Scans(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.bench.documents.open_demo("glaze_edge")
        self.settle()

    def test_the_chosen_row_shows_its_scan(self) -> None:
        findings = self.bench.study.detection.findings
        self.bench.choose([7], [])
        heading, profile = self.bench.drawer.measure.seen
        self.assertEqual(heading, f"scan {int(findings['scan'][7])}")
        picked = [c for c in profile.crossings if c.picked]
        self.assertEqual(len(picked), 1)
        np.testing.assert_allclose([picked[0].x, picked[0].y], [findings["x"][7], findings["y"][7]])
        self.assertGreater(abs(picked[0].slope), 0.8 * findings["strength"][7])
        self.assertIs(self.bench.drawer.measure.plot.profile, profile)
        self.bench.choose([], [0])
        self.assertFalse(all(c.picked for c in self.bench.drawer.measure.seen[1].crossings))
        self.bench.drawer.setCurrentWidget(self.bench.drawer.measure)
        self.bench.grab()

    def test_the_profile_follows_what_changes_and_goes_with_the_last_crossing(self) -> None:
        self.bench.choose([40], [])
        before = self.bench.drawer.measure.seen[1]
        place = np.array([before.crossings[0].x, before.crossings[0].y])
        self.bench.study.edit_detector("glaze boundary", {"sigma": 4.0}, "sigma")
        self.settle()
        heading, after = self.bench.drawer.measure.seen
        # The same scan, more smoothly differentiated.
        self.assertLess(np.nanmax(np.abs(after.slope)), 0.9 * np.nanmax(np.abs(before.slope)))
        self.assertLess(min(np.hypot(*(place - (c.x, c.y))) for c in after.crossings), 3.0)
        task = self.bench.study.detection.task
        number = int(heading.split()[1])
        np.testing.assert_array_equal(
            after.values[:, 0], task.gathered.profiles[number - 1][task.gathered.margin : -task.gathered.margin]
        )
        self.bench.study.remove("glaze boundary")
        self.settle()
        self.assertIsNone(self.bench.drawer.measure.seen)
        self.assertIsNone(self.bench.drawer.measure.plot.profile)

    def test_scans_are_drawn_with_their_direction(self) -> None:
        guides = next(o for o in self.bench.study.detection.overlays if o.role == "scan").lines
        self.assertEqual(len(guides), 16)
        for guide in guides:
            way = guide[1] - guide[0]
            # The head's ends lie behind the tip.
            self.assertTrue((((guide[[2, 4]] - guide[1]) @ way) < 0).all())
        nameless = [m for m in self.bench.frames[0].pane.marks if m.nameless]
        self.assertEqual(sorted(len(m.start) - 1 for m in nameless), [1, 16])

    def test_a_scan_is_copied_as_text_and_what_is_drawn_takes_its_place(self) -> None:
        self.bench.drawer.setCurrentWidget(self.bench.drawer.measure)
        self.settle()
        self.bench.choose([3], [])
        rows = self.bench.drawer.measure.text().splitlines()
        self.assertEqual(rows[0], self.bench.drawer.measure.seen[0])
        crossings = len(self.bench.drawer.measure.plot.profile.crossings)
        self.assertEqual(rows.index("at\tvalue\tslope") - rows.index("edge\tat\tstd\tslope\tx\ty") - 2, crossings)
        drawn = {"shape": "line", "points": [[300.0, 200.0], [420.0, 260.0]]}
        self.bench.drawing.changed.emit("measure", drawn, False)
        self.assertAlmostEqual(float(self.bench.drawer.measure.plot.profile.at[-1]), np.hypot(120, 60), places=6)
        self.bench.drawer.measure.clear_button.click()
        self.assertIs(self.bench.drawer.measure.plot.profile, self.bench.drawer.measure.seen[1])

    def test_a_line_that_is_not_there_is_refused(self) -> None:
        self.bench.settings.edit("", "reference_line", "nowhere", False)
        self.assertIn('no detector is called "nowhere"', self.bench.failure)
        self.bench.study.duplicate("glaze boundary")
        self.settle()
        other = self.bench.study.chosen
        self.bench.study.choose("glaze boundary")
        self.bench.settings.edit("", "reference_line", other, False)
        self.settle()
        self.assertIn(f"0.000° to {other}", self.bench.study.detection.fit_text)
        self.bench.study.rename(other, "edge b")
        self.settle()
        self.assertIn("0.000° to edge b", self.bench.study.detections["glaze boundary"].fit_text)
        self.bench.study.remove("edge b")
        self.settle()
        self.assertEqual(self.bench.study.recipe.detectors[0].references, {})

    def test_no_pane_waits_for_a_map_that_the_detector_does_not_have(self) -> None:
        self.bench.stages.set_panes(4)
        self.settle()
        evidence = self.bench.study.detection.evidence
        self.assertNotIn("magnitude", evidence)
        for frame in self.bench.frames:
            self.assertIn(frame.map_name, {"source", "prepared", *evidence})
            self.assertIsNotNone(frame.pane.picture)

    def test_an_angle_is_told_against_another_line(self) -> None:
        entry = self.bench.study.recipe.plain()["detectors"][0]
        other = {**entry, "name": "again", "parameters": {**entry["parameters"], "reference_line": "glaze boundary"}}
        self.bench.study.edit({"detectors": [entry, other]}, "two")
        self.settle()
        fit = self.bench.study.detections["again"].fit
        self.assertAlmostEqual(fit["angle_to_reference"], 0.0, places=6)
        self.assertIn("0.000° to glaze boundary", self.bench.study.detections["again"].task.detector.fit_text(fit))
        region = {**entry["parameters"]["region"], "x": 480.0, "height": 300.0}
        self.bench.study.edit_detector("glaze boundary", {"region": region}, "region")
        self.settle()
        fits = [self.bench.study.detections[name].fit for name in ("again", "glaze boundary")]
        self.assertAlmostEqual(fits[0]["angle_to_reference"], fits[0]["angle"] - fits[1]["angle"], places=9)
        self.assertNotEqual(fits[0]["angle_to_reference"], 0.0)


class Plain(BenchCase):
    def test_a_bench_full_of_specks_stays_usable(self) -> None:
        picture = np.zeros((300, 400), np.uint8)
        picture[2::6, 2::6] = 255
        self.open(Image.from_array(picture))
        self.bench.study.add_detector("contours")
        self.settle()
        self.assertEqual(len(self.bench.study.detection.findings), 50 * 67)
        self.bench.grab()
