"""Panes: number, links, dividers, differences, display ranges, large maps in parts, axes, coloured marks."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest

from lucid_finch.core.detection import EvidenceMap, Outlines
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.rendering import viewing
from lucid_finch.core.numerics.runtime.compiling import specialisations
from lucid_finch.core.table import Column
from lucid_finch.desktop.canvas.pane import SHADES, Marks, beside, round_values
from lucid_finch.desktop.study import picture as picture_module
from lucid_finch.desktop.study.picture import Difference, Picture
from tests.desktop.support import BenchCase, WindowCase, two_squares
from tests.support import disc


class Tags(unittest.TestCase):
    def test_beside_boxes_hide_nothing(self) -> None:
        corners = np.random.default_rng(4).uniform(0, 600, (60, 2))
        boxes = np.concatenate([corners, corners + 34], axis=1)
        widths = np.full(60, 22.0)
        lefts, tops = beside(boxes, widths, 15.0, (640, 640))
        placed = np.flatnonzero(np.isfinite(lefts))
        self.assertGreater(len(placed), 30)
        tags = np.stack([lefts, tops, lefts + 22, tops + 15], axis=1)[placed]
        everything = np.concatenate([boxes, tags])
        for n, tag in enumerate(tags):
            over = np.minimum(tag[2:], everything[:, 2:]) - np.maximum(tag[:2], everything[:, :2])
            hides = np.flatnonzero((over > 1e-9).all(axis=1))
            self.assertEqual(hides.tolist(), [60 + n])
        self.assertFalse(np.isfinite(beside(boxes + 5000, widths, 15.0, (640, 640))[0]).any())

    def test_a_box_alone_has_its_tag_above(self) -> None:
        left, top = beside(np.array([[100.0, 100.0, 140.0, 140.0]]), np.array([20.0]), 15.0, (640, 480))
        self.assertEqual((left.tolist(), top.tolist()), ([110.0], [84.0]))


class Several(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.open(two_squares())
        self.panes = self.bench.panes

    def test_one_two_and_four(self) -> None:
        for count in (1, 4, 2):
            self.bench.actions_by_name[f"panes_{count}"].trigger()
            self.assertEqual([f.isVisible() for f in self.bench.frames], [n < count for n in range(4)])
            for frame in self.panes.shown:
                self.assertIsNotNone(frame.pane.picture)

    def test_each_link_can_be_parted(self) -> None:
        a, b = (frame.view for frame in self.panes.shown)
        a.set(50.0, 60.0, 2.0)
        self.assertEqual((b.x, b.y, b.scale), (50.0, 60.0, 2.0))
        self.bench.actions_by_name["link_zoom"].trigger()
        a.set(70.0, 80.0, 5.0)
        self.assertEqual((b.x, b.y, b.scale), (70.0, 80.0, 2.0))
        self.bench.actions_by_name["link_place"].trigger()
        a.set(10.0, 20.0, 6.0)
        self.assertEqual((b.x, b.y, b.scale), (70.0, 80.0, 2.0))
        a.set_cursor((3.0, 4.0))
        self.assertEqual(b.cursor, (3.0, 4.0))
        self.bench.actions_by_name["link_cursor"].trigger()
        a.set_cursor((5.0, 6.0))
        self.assertEqual(b.cursor, (3.0, 4.0))
        self.bench.panes.activate(0)
        for what in ("zoom", "place"):
            self.bench.actions_by_name[f"link_{what}"].trigger()
        self.assertEqual((b.x, b.y, b.scale), (10.0, 20.0, 6.0))

    def test_a_divided_pane_shows_one_map_on_either_side(self) -> None:
        self.panes.show_map(1, "source")
        self.panes.compare(1, "divide", "edges")
        pane = self.bench.frames[1].pane
        pane.view.set(150.0, 100.0, 1.0)
        pane.set_divider(0.5)
        shown = pane.grab().toImage()
        ratio = shown.devicePixelRatio()
        for x, name in ((60.0, "source"), (240.0, "edges")):
            place = pane.from_source(x, 20.0)
            value = self.panes.pictures[name].value_at(x, 20.0)
            expected = int(255 * (value - self.panes.pictures[name].low) / (self.panes.pictures[name].high or 1))
            colour = shown.pixelColor(round(place.x() * ratio), round(place.y() * ratio))
            self.assertAlmostEqual(colour.red(), expected, delta=40, msg=name)
        middle = QPoint(round(pane.width() / 2), 30)
        QTest.mousePress(pane, Qt.MouseButton.LeftButton, pos=middle)
        QTest.mouseMove(pane, QPoint(round(pane.width() * 0.8), 30))
        QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=QPoint(round(pane.width() * 0.8), 30))
        self.assertEqual(pane.view.x, 150.0)
        self.assertAlmostEqual(pane.divider, 0.8, delta=0.05)
        pane.setFocus()
        QTest.keyClick(pane, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
        self.assertLess(pane.divider, 0.79)

    def test_the_difference_of_two_maps(self) -> None:
        self.panes.show_map(1, "prepared")
        self.panes.compare(1, "difference", "smoothed")
        shown = self.bench.frames[1].pane.picture
        self.assertIsInstance(shown, Difference)
        pictures = self.panes.pictures
        for x, y in ((40.0, 75.0), (170.0, 60.0), (10.0, 10.0)):
            expected = float(pictures["prepared"].value_at(x, y)) - float(pictures["smoothed"].value_at(x, y))
            self.assertAlmostEqual(shown.value_at(x, y), expected, places=4)
        self.assertEqual(shown.low, -shown.high)
        out = np.empty((40, 60), np.float32)
        shown.draw_values(20.0 - 0.5, 50.0 - 0.5, 1.0, out)
        self.assertAlmostEqual(float(out[25, 20]), shown.value_at(40.0, 75.0), places=3)
        self.panes.compare(1, "", "")
        self.assertEqual(self.bench.frames[1].pane.picture.name, "prepared")

    def test_the_menu_of_a_pane(self) -> None:
        frame = self.bench.frames[1]
        frame.menu.aboutToShow.emit()
        texts = [a.text() for a in frame.menu.actions()]
        self.assertEqual(texts[:4], ["source", "prepared", "smoothed", "gradient x"])
        self.assertEqual(texts[-2:], ["Divide with", "Less another map"])
        frame.menu.actions()[3].trigger()
        self.assertEqual(frame.pane.picture.name, "gradient_x")

    def test_a_display_range_is_kept_when_the_map_is_made_anew(self) -> None:
        frame = self.bench.frames[1]
        before = self.panes.pictures["magnitude"].levels[0].copy()
        frame.open_range()
        histogram = frame.card.histogram
        QTest.mouseClick(histogram, Qt.MouseButton.LeftButton, pos=QPoint(round(0.5 * histogram.width()), 20))
        QTest.keyClick(histogram, Qt.Key.Key_Left)
        low, high = frame.pane.picture.low, frame.pane.picture.high
        self.assertEqual(self.panes.ranges["magnitude"], (low, high))
        np.testing.assert_array_equal(self.panes.pictures["magnitude"].levels[0], before)
        self.bench.settings.editors["", "sigma"].edited.emit("sigma", 2.0, False)
        self.settle()
        self.assertEqual((frame.pane.picture.low, frame.pane.picture.high), (low, high))
        frame.card.show_picture(frame.pane.picture)
        frame.card._reset()
        self.assertNotIn("magnitude", self.panes.ranges)
        self.assertNotEqual((frame.pane.picture.low, frame.pane.picture.high), (low, high))

    def test_signed_maps_stay_even_around_zero(self) -> None:
        self.panes.show_map(1, "gradient_x")
        frame = self.bench.frames[1]
        frame.open_range()
        frame.card.histogram.active = 0
        frame.card.histogram.move_to(-3.5)
        self.assertEqual((frame.pane.picture.low, frame.pane.picture.high), (-3.5, 3.5))
        frame.card.take_percentiles(2.0, 98.0)
        self.assertEqual(frame.pane.picture.low, -frame.pane.picture.high)

    def test_marks_coloured_by_a_column(self) -> None:
        plain = self.bench.frames[0].pane.grab().toImage()
        menu = self.bench.findings.column_menu([c.name for c in self.bench.findings.rows.columns].index("length"))
        menu.actions()[0].trigger()
        marks = self.bench.frames[0].pane.marks[0]
        self.assertEqual(sorted(marks.shades.tolist()), [0, len(SHADES) - 1])
        self.assertIn("length", marks.scale_text)
        self.assertNotEqual(self.bench.frames[0].pane.grab().toImage(), plain)
        self.bench.overlays.set_colour_by("")
        self.assertIsNone(self.bench.frames[0].pane.marks[0].shades)


class Warm(BenchCase):
    def test_nothing_is_compiled_in_the_window_that_was_not_warmed_up(self) -> None:
        kernels = [
            viewing.sample,
            viewing.sample_turned,
            viewing.sample_linear,
            viewing.sample_values,
            viewing.strokes,
            viewing.tint,
        ]
        viewing.warm_up()
        before = [specialisations(kernel) for kernel in kernels]
        self.open(two_squares())
        self.bench.panes.show_map(1, "prepared")
        self.bench.panes.compare(1, "difference", "smoothed")
        self.bench.findings.selectRow(0)
        self.bench.overlays.set_colour_by("length")
        self.bench.grab()
        self.assertEqual([specialisations(kernel) for kernel in kernels], before)


class Large(BenchCase):
    def test_what_is_in_sight_of_a_large_map_is_computed_then(self) -> None:
        with mock.patch.object(picture_module, "WHOLE", 10_000), mock.patch.object(picture_module, "_OVERVIEW", 3_000):
            self.open(disc(60.0, noise=2.0, size=400))
            pictures = self.bench.panes.pictures
            magnitude = pictures["magnitude"]
            self.assertGreater(magnitude.first, 1)
            whole = self.bench.study.detection.evidence["magnitude"].values
            self.bench.stages.show_map("magnitude")
            view = self.bench.frames[0].view
            for scale in (1.5, 0.4):
                view.set(150.0, 200.0, scale)
                pane = self.bench.active_frame.pane
                pane.repaint()
                self.wait(lambda p=pane: (p.repaint(), not p.wishes())[1], 20, "the part in sight")
            view.set(140.0, 200.0, 20.0)
            pane.repaint()
            self.wait(lambda: (pane.repaint(), not pane.wishes())[1], 20, "the pixels in sight")
            out = np.empty((60, 60), np.float32)
            magnitude.draw_values(130 - 0.5, 190 - 0.5, 1.0, out)
            np.testing.assert_allclose(out[:20, :20], whole[190:210, 130:150], atol=1e-3)
            self.assertAlmostEqual(float(magnitude.value_at(141.0, 203.0)), float(whole[203, 141]), places=3)
            edges = pictures["edges"]
            self.assertEqual(max(float(level.max()) for level in edges.levels), 1.0)

    def test_reduced_maps_keep_means_and_thin_marks(self) -> None:
        values = np.random.default_rng(0).random((37, 53)).astype(np.float32)

        def compute(left: int, top: int, right: int, bottom: int) -> np.ndarray:  # type: ignore[type-arg]
            return values[top:bottom, left:right]

        grey = EvidenceMap("m", "m", "", "grey", 53, 37, compute).reduced(8)
        self.assertEqual(grey.shape, (5, 7))
        self.assertAlmostEqual(float(grey[0, 0]), float(values[:8, :8].mean()), places=5)
        self.assertAlmostEqual(float(grey[4, 6]), float(values[32:, 48:].mean()), places=5)
        mask = EvidenceMap("m", "m", "", "mask", 53, 37, compute).reduced(4, (4, 8, 20, 16))
        self.assertEqual(mask.shape, (2, 4))
        self.assertEqual(float(mask[0, 0]), float(values[8:12, 4:8].max()))


class Parts(WindowCase):
    def test_maps_that_are_no_images_have_axes(self) -> None:
        values = np.zeros((90, 180), np.float32)
        values[30, 45] = 7
        evidence = EvidenceMap(
            "accumulator", "accumulator", "votes", "grey", 180, 90, lambda l, t, r, b: values[t:b, l:r],
            axes=(np.arange(180.0), np.linspace(-500, 500, 90), "angle deg", "offset px"),
        )  # fmt: skip
        self.assertEqual((float(evidence.x[45]), round(float(evidence.y[30]))), (45.0, -163))
        picture = Picture.of_map(evidence)
        self.assertEqual(picture.value_at(45.0, 30.0), 7)
        from lucid_finch.desktop.canvas.panes import PaneFrame

        frame = PaneFrame("pane", "accumulator")
        frame.resize(400, 300)
        frame.show()
        self.addCleanup(frame.close)
        frame.show_pictures({"accumulator": picture})
        frame.pane.fit()
        frame.pane.view.set_cursor((45.0, 30.0))
        self.assertIn("(45, -162.9)", frame.info.text())
        frame.grab()

    def test_marks_know_their_boxes_and_the_nearest(self) -> None:
        outlines = Outlines.of([[(0, 0), (10, 0)], [], [(5, 5), (5, 9), (6, 9)]], [False, False, True])
        marks = Marks.of(outlines, [0, 1, 5], [0, 1, 5], [1, 2, 3], QColor("red"))
        self.assertEqual(marks.box([0, 2]), (0.0, 0.0, 10.0, 9.0))
        self.assertEqual(marks.nearest(5.4, 8.0, 2.0), 2)
        self.assertEqual(marks.nearest(9.0, 1.0, 2.0), 0)
        self.assertEqual(marks.nearest(50.0, 50.0, 2.0), -1)
        column = Column("length", "length", "px", digits=1)
        self.assertEqual(marks.coloured(np.array([1.0, np.nan, 9.0]), column).shades.tolist(), [0, 0, len(SHADES) - 1])

    def test_pictures_of_unusual_values(self) -> None:
        for pixels in (np.full((5, 5), np.nan), np.array([[np.inf, 0.0]]), np.zeros((1, 1))):
            values = np.where(np.isfinite(pixels), pixels, 0).astype(np.float32)
            picture = Picture.of_image(Image.from_array(values), "p", "p")
            self.assertLess(picture.low, picture.high)
            picture.thumbnail(20, 20)
            self.assertIsNone(picture.value_at(-3.0, 0.0))
        self.assertEqual(QPointF(0, 0), QPointF())


class RoundValues(unittest.TestCase):
    def test_they_are_round_and_lie_where_the_axis_says(self) -> None:
        for begin, each, count in ((0.0, 1.0, 180), (-721.1, 1.0, 1443), (3.25, 0.125, 400), (900.0, -2.5, 300)):
            axis = begin + each * np.arange(count)
            for first, last, most in ((0.0, count - 1.0, 6), (-40.0, count + 40.0, 5), (17.3, 61.8, 4)):
                found = round_values(axis, first, last, most)
                self.assertGreaterEqual(len(found), 2)
                self.assertLessEqual(len(found), 2 * most + 1)
                for place, value in found:
                    self.assertAlmostEqual(float(np.interp(place, np.arange(count), axis)), value, places=6)
                    self.assertTrue(max(first, 0) - 1e-6 <= place <= min(last, count - 1) + 1e-6)
                steps = np.diff([value for _, value in found])
                np.testing.assert_allclose(steps, steps[0])
                self.assertIn(round(steps[0] / 10 ** np.floor(np.log10(steps[0])), 6), (1.0, 2.0, 5.0))

    def test_directions_are_parts_of_a_turn(self) -> None:
        values = [value for _, value in round_values(np.arange(180.0), 0, 179, 6, turns=True)]
        self.assertEqual(values, [0, 30, 60, 90, 120, 150])
        fine = [value for _, value in round_values(np.arange(180.0), 40, 46, 6, turns=True)]
        self.assertEqual(fine, [40, 41, 42, 43, 44, 45, 46])

    def test_nothing_in_sight(self) -> None:
        self.assertEqual(round_values(np.arange(50.0), 70, 90, 6), [])
        self.assertEqual(round_values(np.zeros(1), 0, 1, 6), [])


if __name__ == "__main__":
    unittest.main()
