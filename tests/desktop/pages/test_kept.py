"""Kept results: gained and lost findings, on the image too, and settings that come back."""

from __future__ import annotations

import unittest

from tests.desktop.support import BenchCase, two_squares


class Kept(BenchCase):
    def test_what_is_gained_and_lost(self) -> None:
        self.open(two_squares())
        page = self.bench.drawer.kept
        self.bench.actions_by_name["keep"].trigger()
        self.assertEqual(len(page.kept), 1)
        self.assertIn("0 gained, 0 lost, 2 the same", page.about.text())
        before = self.bench.study.recipe.plain()
        self.bench.study.edit_detector("edges", {"keep": 1}, "keep")
        self.settle()
        self.assertIn("0 gained, 1 lost, 1 the same", page.about.text())
        self.assertEqual([page.table.item(row, 0).text() for row in range(page.table.rowCount())], ["lost"])
        marks = self.bench.frames[0].pane.marks
        self.assertTrue(any(m.dashed and len(m.boxes) == 1 and m.nameless for m in marks))
        page.restore.click()
        self.settle()
        self.assertEqual(self.bench.study.recipe.plain(), before)
        self.bench.study.undo.undo()
        self.settle()
        # Elsewhere in the drawer the marks are gone.
        self.bench.drawer.setCurrentIndex(0)
        self.assertEqual(self.bench.overlays.standing, [])
        self.bench.drawer.setCurrentWidget(page)
        self.open(two_squares())
        self.assertIn("another image", page.about.text())
        page.forget.click()
        self.assertEqual(page.kept, [])

    def test_the_page_is_current_when_it_is_turned_to(self) -> None:
        self.open(two_squares())
        page = self.bench.drawer.kept
        self.bench.drawer.setCurrentWidget(page)
        self.assertTrue(page.keep.isEnabled())
        page.keep.click()
        self.bench.drawer.setCurrentIndex(0)
        self.bench.study.edit_detector("edges", {"keep": 1}, "keep")
        self.settle()
        self.bench.drawer.setCurrentWidget(page)
        self.assertIn("1 lost", page.about.text())


if __name__ == "__main__":
    unittest.main()
