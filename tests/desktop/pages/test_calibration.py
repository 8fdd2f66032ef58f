"""The calibration in the window: finding a target, a drawn line, millimetres everywhere, rectified pictures."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from lucid_finch.core.image import Image
from lucid_finch.desktop.shell.screenshots import settle
from lucid_finch.files.calibrations import Calibration
from tests.desktop.support import BenchCase, two_squares
from tests.support import dot_grid, leaning_camera, line_calibration, seen_by

PLATE = seen_by(leaning_camera(20.0), dot_grid)


class OnThePage(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.page = self.bench.drawer.calibration
        self.open(PLATE)
        self.bench.actions_by_name["calibrate"].trigger()
        self.settle()

    def find(self, pitch: float = 5.0) -> None:
        self.page.target.setCurrentIndex(1)
        self.page.pitch.setValue(pitch)
        self.page.find_button.click()
        self.settle()

    def test_found_used_and_undone(self) -> None:
        self.assertIn("No calibration", self.page.result.text())
        self.find()
        assert self.page.made is not None
        self.assertIsNone(self.bench.study.recipe.calibration)
        self.assertIn("48 points in 8 columns and 6 rows", self.page.result.text())
        self.page.use_button.click()
        self.settle()
        self.assertIsNotNone(self.bench.study.recipe.calibration)
        self.assertIn("in use", self.page.result.text())
        found = self.bench.study.detection
        assert found is not None
        self.assertIn("x_mm", found.findings)
        columns = [c.name for c in self.bench.findings.rows.columns]
        self.assertEqual(columns.index("x_mm"), columns.index("x") + 1)
        self.bench.study.undo.undo()
        self.settle()
        found = self.bench.study.detection
        assert found is not None
        self.assertNotIn("x_mm", found.findings)
        self.assertFalse(self.page.drop_button.isEnabled())

    def test_residuals_are_drawn_while_the_page_is_in_front(self) -> None:
        self.find()
        self.assertEqual(sum(len(m.start) - 1 for m in self.bench.overlays.arrows), 48)
        shown = self.bench.frames[0].pane.marks
        self.assertEqual(len(shown), len(self.bench.overlays.arrows))
        self.bench.drawer.setCurrentIndex(0)
        self.assertEqual(self.bench.overlays.arrows, [])

    def test_what_is_missing_is_said(self) -> None:
        self.find(0.0)
        self.assertIn("how far", self.bench.failure)
        self.open(two_squares())
        self.find()
        self.assertIn("no grid of dots is found", self.page.result.text())
        self.assertIsNone(self.page.made)

    def test_a_line_of_known_length(self) -> None:
        self.page.target.setCurrentIndex(2)
        self.assertFalse(self.page.columns.isVisible())
        self.page.pitch.setValue(20.0)
        self.page.find_button.click()
        self.assertEqual(self.bench.drawing.kind, "line")
        pane = self.bench.frames[0].pane
        start, end = pane.from_source(100, 100), pane.from_source(300, 100)
        QTest.mousePress(pane, Qt.MouseButton.LeftButton, pos=start.toPoint())
        QTest.mouseMove(pane, end.toPoint())
        QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=end.toPoint())
        self.settle()
        assert self.page.made is not None
        self.assertAlmostEqual(self.page.made.mm_per_px, 0.1, delta=0.003)
        self.page.pitch.setValue(40.0)
        self.assertAlmostEqual(self.page.made.mm_per_px, 0.2, delta=0.006)
        self.page.use_button.click()
        self.settle()
        self.assertEqual(self.bench.study.rectified, ())

    def test_saved_loaded_and_removed(self) -> None:
        self.find()
        path = self.folder / "bench"
        self.page.save_to(path)
        path = path.with_name("bench.calibration.json")
        made = Calibration.load(path)
        self.page.load_from(path)
        self.settle()
        self.assertEqual(self.bench.study.recipe.calibration, made)
        self.page.drop_button.click()
        self.assertIsNone(self.bench.study.recipe.calibration)
        (self.folder / "broken.json").write_text("{}")
        self.page.load_from(self.folder / "broken.json")
        self.assertIn("no calibration of Lucid Finch", self.bench.failure)


class InUse(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.open(PLATE)
        self.bench.study.edit({"calibration": leaning_camera(20.0).plain()}, "calibrate")
        self.settle()

    def test_rectified_pictures_carry_the_marks(self) -> None:
        names = [name for name, _ in self.bench.stages.listed()]
        self.assertEqual(names[-2:], ["undistorted", "from_above"])
        self.bench.panes.activate(1)
        self.bench.stages.show_map("from_above")
        self.settle()
        frame = self.bench.frames[1]
        assert frame.pane.picture is not None and frame.pane.picture.axes is not None
        self.assertEqual(frame.pane.picture.axes[2], "x (mm)")
        drawn = [m for m in frame.pane.marks if m.only_on == "from_above"]
        found = self.bench.study.detection
        assert found is not None and len(found.findings)
        own = next(m for m in drawn if len(m.start) - 1 == len(found.findings))
        across, down, _, _ = frame.pane.picture.axes
        outline = own.points[own.start[0] : own.start[1]].mean(axis=0)
        place = across[0] + outline[0] * (across[1] - across[0]), down[0] + outline[1] * (down[1] - down[0])
        x, y = leaning_camera(20.0).to_plane(*np.asarray(found.outlines[0]).mean(axis=0))
        self.assertLess(np.hypot(place[0] - x, place[1] - y), 0.3)
        # A click there selects the finding.
        rows = self.bench.overlays.at(frame, *(float(w) for w in own.points[own.start[0]]))
        self.assertEqual(rows and rows[0], 0)
        self.bench.study.edit({"calibration": None}, "none")
        self.settle()
        self.assertNotIn("from_above", [name for name, _ in self.bench.stages.listed()])
        self.assertNotEqual(frame.map_name, "from_above")

    def test_limits_can_be_typed_in_millimetres(self) -> None:
        self.bench.study.add_detector("circles")
        self.settle()
        editor = self.bench.settings.editors["", "radius"]
        editor.field.setText("1, 1.6 mm")
        editor.field.editingFinished.emit()
        self.settle()
        entry = self.bench.study.recipe.detectors[-1]
        self.assertEqual(entry.plain()["parameters"]["radius"], ["1mm", "1.6mm"])
        found = self.bench.study.detections["circles"]
        self.assertGreater(len(found.findings), 0)
        self.assertEqual({limit.criterion for limit in found.task.judgement.limits if limit.parameter == "radius"}, {"radius_mm"})
        # The handle of the histogram moves millimetres.
        editor.histogram.limit_moved.emit(1.8, 1)
        self.settle()
        self.assertEqual(self.bench.study.recipe.detectors[-1].plain()["parameters"]["radius"], ["1mm", "1.8mm"])

    def test_measured_in_both(self) -> None:
        measure = self.bench.drawer.measure
        self.bench.drawer.start_measuring("line")
        for shape, name in (
            ({"shape": "line", "points": [[200, 200], [300, 200]]}, "length"),
            ({"shape": "box", "points": [[200, 200], [300, 260]]}, "area"),
            ({"shape": "circle", "points": [[200, 200], [300, 200], [250, 250]]}, "radius"),
        ):
            with self.subTest(shape["shape"]):
                self.bench.drawing.changed.emit("measure", shape, False)
                line = dict(measure.values.lines)[name]
                self.assertRegex(line, r"px²? +[\d.]+ mm")
                self.assertRegex(measure.text(), rf"{name}\t[\d.]+\tpx²?\t[\d.]+\tmm")

    def test_places_under_the_pointer(self) -> None:
        frame = self.bench.frames[0]
        frame.view.set_cursor((300.0, 200.0))
        self.assertIn(" mm", frame.info.text())

    def test_a_picture_of_another_size_is_not_measured(self) -> None:
        self.open(Image.from_array(two_squares().pixels, name="other"))
        self.assertIsNone(self.bench.study.calibration)
        self.assertIn("it is for pictures of 640 x 480", self.bench.failure)
        self.assertEqual(self.bench.study.rectified, ())
        self.bench.drawing.changed.emit("measure", {"shape": "line", "points": [[20, 20], [90, 20]]}, False)
        self.assertNotIn("mm", " ".join(value for _, value in self.bench.drawer.measure.values.lines))

    def test_the_ruler_says_both(self) -> None:
        self.bench.study.add_detector("circles")
        self.settle()
        self.bench.applier.ruled("ruler", {"shape": "line", "points": [[200, 200], [230, 200]]}, False)
        self.assertRegex(self.bench.notice.text.text(), r"px \([\d.]+ to [\d.]+ mm\)")


class OneLine(BenchCase):
    def test_the_window_closes_while_a_target_is_looked_for(self) -> None:
        self.open(PLATE)
        self.bench.drawer.show_calibration()
        page = self.bench.drawer.calibration
        page.target.setCurrentIndex(1)
        page.pitch.setValue(5.0)
        page.start()
        self.bench.close()
        self.assertIsNone(self.bench.study.recipe.calibration)

    def test_scale_alone_of_a_recipe_that_is_opened(self) -> None:
        self.open(two_squares())
        self.bench.study.edit({"calibration": line_calibration(0.1, 300, 200).plain()}, "calibrate")
        settle(self.bench)
        found = self.bench.study.detection
        assert found is not None
        np.testing.assert_allclose(found.findings["x_mm"], 0.1 * found.findings["x"])
