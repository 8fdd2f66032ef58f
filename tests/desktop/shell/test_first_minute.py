"""The first minute: demo scenes as pictures, what was opened last, the tour, and what each detector finds on this image."""

from __future__ import annotations

import unittest

from PIL import Image as Pillow
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from lucid_finch.core.detectors import KINDS
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


if __name__ == "__main__":
    unittest.main()
