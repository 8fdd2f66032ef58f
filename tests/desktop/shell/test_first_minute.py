"""The first minute: demo scenes as pictures, what was opened last, the tour, and what each detector finds on this image."""

from __future__ import annotations

import math
import unittest

import numpy as np
from PIL import Image as Pillow
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QDialogButtonBox

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.execution.assets import Assets
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

    def marks(self) -> np.ndarray:
        """Three noisy copies of a pattern, one corner of which differs from copy to copy."""
        random = np.random.default_rng(4)
        pattern = random.integers(60, 190, (10, 10)).repeat(3, axis=0).repeat(3, axis=1).astype(float)
        picture = np.full((200, 240), 110.0)
        for k, (x, y) in enumerate(((20, 20), (130, 40), (60, 150))):
            copy = pattern.copy()
            copy[:9, :9] = (40, 120, 210)[k]
            picture[y : y + 30, x : x + 30] = copy
        return np.clip(picture + random.normal(0, 6, picture.shape), 0, 255).astype(np.uint8)

    def test_a_template_is_averaged_and_what_differs_is_masked(self) -> None:
        self.bench.teaching.average()
        self.assertIn("select a detector", self.bench.failure)
        self.open(Image.from_array(self.marks()))
        self.bench.teaching.teach({"shape": "rectangle", "x": 34.5, "y": 34.5, "width": 30.0, "height": 30.0, "angle": 0.0})
        self.settle()
        for part in ("a shift by 1 px", "lower it to 0.9", "most alike elsewhere"):
            self.assertIn(part, self.bench.notice.text.text())
        study = self.bench.study
        name = study.chosen
        study.edit_detector(name, {"score_min": 0.4}, "lower")
        self.settle()
        self.assertEqual(len(study.detections[name].findings), 3)
        before = study.recipe.detectors[-1].parameters["template"]
        self.bench.actions_by_name["differences"].trigger()
        self.settle()
        mask = Assets(study.recipe.assets)[study.recipe.detectors[-1].parameters["mask"]].pixels == 0
        # The margin around it is 12 px.
        self.assertGreater(float(mask[13:20, 13:20].mean()), 0.9)
        self.assertLess(float(mask[24:40, 24:40].mean()), 0.05)
        self.assertGreater(float(study.detections[name].findings["score"].min()), 0.9)
        self.bench.actions_by_name["average"].trigger()
        self.settle()
        after = study.recipe.detectors[-1].parameters["template"]
        self.assertNotEqual(after, before)
        noise = [float(Assets(study.recipe.assets)[after].pixels[24:27, 24:27].std())]
        self.bench.actions_by_name["undo"].trigger()
        self.settle()
        noise.append(float(Assets(study.recipe.assets)[before].pixels[24:27, 24:27].std()))
        self.assertLess(noise[0], noise[1])

    def test_a_mask_is_painted(self) -> None:
        self.bench.actions_by_name["paint_mask"].trigger()
        self.assertIn("select a detector", self.bench.failure)
        self.open(Image.from_array(self.marks()))
        self.bench.teaching.teach({"shape": "rectangle", "x": 34.5, "y": 34.5, "width": 30.0, "height": 30.0, "angle": 0.0})
        self.settle()
        painter = self.bench.teaching.painter()
        painter.show()
        canvas = painter.canvas
        painter.brush.setValue(6)
        corner = QPoint(round(16.5 * canvas.zoom), round(16.5 * canvas.zoom))
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, pos=corner)
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=corner)
        self.assertAlmostEqual(float(canvas.hidden.sum()), math.pi * 36, delta=6)
        self.assertTrue(canvas.hidden[16, 16])
        canvas.setFocus()
        QTest.keyClick(canvas, Qt.Key.Key_Backspace)
        self.assertFalse(canvas.hidden.any())
        canvas.undo()
        self.bench.teaching.take_mask(canvas.hidden)
        painter.close()
        self.settle()
        study = self.bench.study
        self.assertEqual(len(study.detections[study.chosen].findings), 3)
        again = self.bench.teaching.painter()
        self.assertEqual(again.canvas.hidden.tolist(), canvas.hidden.tolist())
        again.canvas.put(np.ones_like(canvas.hidden))
        self.assertFalse(again.buttons.button(QDialogButtonBox.StandardButton.Ok).isEnabled())
        self.bench.teaching.take_mask(np.zeros_like(canvas.hidden))
        self.assertNotIn("mask", {k for k, v in study.recipe.detectors[-1].parameters.items() if v is not None})

    def test_the_score_is_spelled_out(self) -> None:
        self.open(Image.from_array(self.marks()))
        self.bench.teaching.teach({"shape": "rectangle", "x": 34.5, "y": 34.5, "width": 30.0, "height": 30.0, "angle": 0.0})
        self.settle()
        self.bench.actions_by_name["values"].trigger()
        self.bench.panes.show_map(0, "score")
        frame = self.bench.frames[0]
        frame.view.set_cursor((35.0, 35.0))
        self.settle()
        page = self.bench.drawer.values
        score = self.bench.study.detections[self.bench.study.chosen].evidence["score"]
        u, v = (math.floor(float(w) + 0.5) for w in score.frame.from_source(35.0, 35.0))
        titles = [grid.title.split(" (")[0] for line in page.view.lines for grid in line]
        self.assertEqual(titles, ["image", "template", "image less its mean", "template less its mean", "products"])
        self.assertAlmostEqual(float(page.view.foot.rpartition("= ")[2]), float(score.values[v, u]), places=3)
        frame.view.set_cursor((3.0, 3.0))
        self.settle()
        self.assertIn("hangs over the border", page.about.text())

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
