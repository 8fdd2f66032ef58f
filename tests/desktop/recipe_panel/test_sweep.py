"""The sweep: counts as a curve, two parameters as a grid, pictures of what the active pane shows."""

from __future__ import annotations

import unittest

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from tests.desktop.support import BenchCase, two_squares


class SweepModes(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.open(two_squares())
        self.bench.show()

    def test_the_curve_has_the_counts(self) -> None:
        self.bench.bar.modes["sweep"].click()
        card = self.bench.sweep.card
        self.assertTrue(card.isVisible())
        self.assertTrue(self.bench.bar.modes["sweep"].isChecked())
        self.bench.sweep.open("length_min")
        self.wait(lambda: all(view.sample.text for view in card.views), 60, "all pictures")
        self.assertTrue(card.curve.isVisible())
        expected = [int(view.sample.text.split()[0]) for view in card.views]
        self.assertEqual(card.curve.counts, expected)
        self.bench.bar.modes["tune"].click()
        self.assertFalse(card.isVisible())
        self.assertTrue(self.bench.bar.modes["tune"].isChecked())

    def test_pictures_show_the_map_and_part_of_the_active_pane(self) -> None:
        self.bench.panes.show_map(1, "magnitude")
        view = self.bench.frames[1].view
        view.set(60.0, 60.0, 6.0)
        look = self.bench._look()
        self.assertEqual(look.map_name, "magnitude")
        self.assertLess(look.box[2] - look.box[0], 150)
        pictures = []
        for marks in (True, False):
            self.bench.sweep.card.marks.setChecked(marks)
            self.bench.sweep.open("sigma")
            views = self.bench.sweep.card.views
            self.wait(lambda v=views: all(view.sample.text for view in v), 60, "all pictures")
            pictures.append(views[0].sample.pixels.copy())
        self.assertFalse(np.array_equal(*pictures))

    def test_a_grid_over_two_parameters(self) -> None:
        sweep = self.bench.sweep
        sweep.open("length_min")
        second = sweep.card.second
        second.setCurrentIndex(second.findData("sigma"))
        grid = sweep.card.pairs
        self.assertTrue(grid.isVisible())
        cells = len(grid.across) * len(grid.down)
        self.wait(lambda: len(grid.counts) == cells, 60, "all counts")
        self.assertGreaterEqual(max(grid.counts.values()), 2)
        first, other, across, down = sweep._pair
        box = grid._box(1, 2)
        self.click(grid, QPointF(box.center()))
        self.settle()
        self.assertFalse(sweep.card.isVisible())
        given = self.bench.study.recipe.detectors[0].made_parameters().plain()
        self.assertEqual((given[first], given[other]), (across[1], down[2]))
        self.assertEqual(len(self.bench.study.detection.findings), grid.counts[1, 2])
        self.bench.study.undo.undo()
        self.settle()
        # With the keyboard alone.
        sweep.open("length_min")
        second.setCurrentIndex(second.findData("sigma"))
        self.wait(lambda: len(grid.counts) == cells, 60, "all counts")
        grid.setFocus()
        before = grid.cell
        QTest.keyClick(grid, Qt.Key.Key_Right)
        self.assertEqual(grid.cell, (min(before[0] + 1, len(grid.across) - 1), before[1]))
        QTest.keyClick(grid, Qt.Key.Key_Return)
        self.settle()
        self.assertFalse(sweep.card.isVisible())


if __name__ == "__main__":
    unittest.main()
