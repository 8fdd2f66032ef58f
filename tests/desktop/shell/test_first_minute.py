"""The first minute: demo scenes as pictures, what was opened last, the tour, and what each detector finds on this image."""

from __future__ import annotations

import unittest

import numpy as np
from PIL import Image as Pillow
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.image import Image
from lucid_finch.demo import SCENES
from tests.desktop.support import BenchCase, two_squares
from tests.support import disc


class FirstMinute(BenchCase):
    def test_the_empty_bench_offers_scenes_and_recent_files(self) -> None:
        empty = self.bench.empty
        self.assertTrue(empty.isVisible())
        pictured = [button for button in empty.buttons if button.objectName() == "scene"]
        self.assertEqual(len(pictured), len(SCENES))
        self.assertFalse(any(button.icon().isNull() for button in pictured))
        Pillow.fromarray(disc(30.0, noise=2.0).pixels).save(self.folder / "disc.png")
        self.bench.preferences.recent = [str(self.folder / "gone.png"), str(self.folder / "disc.png")]
        self.bench._show_empty()
        self.assertEqual([button.accessibleName() for button in empty.recent], ["Open disc.png"])
        empty.recent[0].click()
        self.settle()
        self.assertEqual(self.bench.study.image.name, "disc.png")
        self.assertFalse(empty.isVisible())

    def test_the_tour_goes_to_every_part_and_can_be_left(self) -> None:
        self.open(two_squares())
        self.bench.actions_by_name["tour"].trigger()
        tour = self.bench.tour
        for number, (widget, title, _) in enumerate(tour.stops):
            self.assertEqual((tour.place, tour.title.text()), (number, title))
            self.assertTrue(tour.frame.isVisible())
            self.assertEqual(tour.frame.size(), widget.size())
            self.assertTrue(self.bench._whole.rect().contains(tour.geometry()), title)
            self.assertGreaterEqual(tour.text.height(), tour.text.heightForWidth(tour.text.width()))
            QTest.keyClick(tour, Qt.Key.Key_Return)
        self.assertFalse(tour.isVisible() or tour.frame.isVisible())
        self.bench.start_tour()
        QTest.keyClick(tour, Qt.Key.Key_Escape)
        self.assertFalse(tour.isVisible() or tour.frame.isVisible())

    def test_what_each_detector_finds_is_shown_and_added_by_a_click(self) -> None:
        self.open(disc(30.0, noise=2.0))
        self.bench.recipe_cards.kinds_wanted.emit()
        views = self.bench.sweep.card.views
        self.wait(lambda: all(view.sample.text for view in views), 60, "all pictures")
        self.assertEqual([view.sample.value for view in views], list(KINDS))
        circles = next(view for view in views if view.sample.value == "circles")
        self.assertEqual(circles.sample.text, "1 found")
        self.assertEqual([entry.kind for entry in self.bench.study.recipe.detectors], ["edges"])
        circles.chosen.emit("circles")
        self.settle()
        self.assertEqual([entry.kind for entry in self.bench.study.recipe.detectors], ["edges", "circles"])
        self.assertFalse(self.bench.sweep.card.isVisible())
        self.assertEqual(self.bench.failure, "")


class Teaching(BenchCase):
    def test_a_template_is_drawn_taught_found_and_undone(self) -> None:
        picture = np.array(two_squares().pixels)
        picture[60:90, 20:50] = np.random.default_rng(4).integers(40, 200, (10, 10)).repeat(3, axis=0).repeat(3, axis=1)
        picture[130:160, 40:70] = picture[60:90, 20:50]
        self.open(Image.from_array(picture))
        self.bench.actions_by_name["teach"].trigger()
        self.assertEqual(self.bench.drawing.kind, "rectangle")
        pane = self.bench.active_frame.pane
        corners = [pane.from_source(x, y).toPoint() for x, y in ((20, 60), (50, 90))]
        QTest.mousePress(pane, Qt.MouseButton.LeftButton, pos=corners[0])
        QTest.mouseMove(pane, corners[1])
        QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=corners[1])
        self.settle()
        self.assertEqual(self.bench.failure, "")
        self.assertIn("taught", self.bench.notice.text.text())
        entry = self.bench.study.recipe.detectors[-1]
        self.assertEqual((entry.kind, self.bench.study.chosen), ("templates", entry.name))
        self.assertEqual(set(self.bench.study.recipe.assets), {entry.parameters["template"]})
        found = self.bench.study.detections[entry.name].findings
        self.assertEqual(len(found), 2)
        self.assertAlmostEqual(float(np.ptp(found["y"])), 70.0, delta=0.2)
        editor = self.bench.settings.editors["", "template"]
        self.assertFalse(editor.picture.pixmap().isNull())
        # Taught again, the picture before is not kept; undo brings it back.
        self.bench.teaching.teach({"shape": "ellipse", "x": 215.0, "y": 60.0, "width": 60.0, "height": 30.0, "angle": 0.0})
        self.settle()
        again = self.bench.study.recipe
        self.assertEqual(len(again.detectors), 2)
        self.assertEqual(len(again.assets), 1)
        self.assertNotIn(entry.parameters["template"], again.assets)
        self.bench.actions_by_name["undo"].trigger()
        self.settle()
        self.assertIn(entry.parameters["template"], self.bench.study.recipe.assets)

    def test_what_cannot_be_taught_is_refused(self) -> None:
        self.bench.teaching.start()
        self.assertIn("Open an image first", self.bench.failure)
        flat = np.full((80, 90), 90, np.uint8)
        flat[60:, 60:] = 200
        self.open(Image.from_array(flat))
        self.bench.teaching.teach({"shape": "rectangle", "x": 20.0, "y": 20.0, "width": 20.0, "height": 20.0, "angle": 0.0})
        self.assertIn("same value everywhere", self.bench.failure)
        self.bench.teaching.take_file("template", str(self.folder / "none.png"))
        self.assertIn("none.png", self.bench.failure)

    def test_numbers_are_pasted_as_image_and_as_template(self) -> None:
        clipboard = self.application.clipboard()
        rows = [[3, 7, 1, 9, 4, 2, 8], [6, 2, 5, 8, 1, 7, 3], [4, 9, 2, 6, 5, 3, 1], [7, 1, 8, 3, 9, 2, 6], [2, 5, 4, 7, 1, 8, 9]]
        clipboard.setText("\n".join("\t".join(str(v) for v in row) for row in rows))
        self.bench.actions_by_name["paste"].trigger()
        self.wait(lambda: self.bench.study.image is not None)
        self.settle()
        np.testing.assert_array_equal(self.bench.study.image.pixels, rows)
        clipboard.setText("; ".join(" ".join(str(v) for v in row[1:5]) for row in rows[1:4]))
        self.bench.actions_by_name["paste_template"].trigger()
        self.settle()
        found = self.bench.study.detections["templates"].findings
        self.assertEqual([(round(r["x"], 6), round(r["y"], 6), round(r["score"], 6)) for r in found.rows()], [(2.5, 2.0, 1.0)])
        clipboard.setText("no numbers")
        self.bench.actions_by_name["paste"].trigger()
        self.assertIn("rows of numbers are needed", self.bench.failure)
        self.assertEqual(self.bench.study.image.width, 7)

    def test_a_picture_is_pasted(self) -> None:
        pixels = np.random.default_rng(3).integers(0, 255, (20, 31, 3)).astype(np.uint8)
        picture = QImage(pixels.tobytes(), 31, 20, 93, QImage.Format.Format_RGB888)
        self.application.clipboard().setImage(picture)
        self.bench.actions_by_name["paste"].trigger()
        self.wait(lambda: self.bench.study.image is not None)
        np.testing.assert_array_equal(self.bench.study.image.pixels, pixels)

    def test_a_template_from_a_file(self) -> None:
        self.open(two_squares())
        part = two_squares().pixels[30:120, 20:120]
        Pillow.fromarray(part).save(self.folder / "part.png")
        self.bench.teaching.take_file("template", str(self.folder / "part.png"))
        self.settle()
        self.assertEqual(self.bench.failure, "")
        self.assertEqual(len(self.bench.study.detections["templates"].findings), 1)


if __name__ == "__main__":
    unittest.main()
