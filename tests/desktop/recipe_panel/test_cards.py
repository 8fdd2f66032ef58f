"""The recipe column: every step and detector can be added, switched, renamed, moved, duplicated and removed."""

from __future__ import annotations

import unittest

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.study.study import SOURCE, Study, step_card
from tests.desktop.support import BenchCase, two_squares
from tests.support import disc


class Cards(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.open(two_squares())
        self.study = self.bench.study

    def names(self) -> list[str]:
        return [entry.name for entry in self.study.recipe.detectors]

    def test_a_second_detector_is_found_and_shown_beside_the_first(self) -> None:
        self.bench.actions_by_name[next(n for n in self.bench.actions_by_name if n.startswith("add edges"))].trigger()
        self.settle()
        self.assertEqual(self.names(), ["edges", "edges 2"])
        self.assertEqual(self.study.chosen, "edges 2")
        self.assertEqual(set(self.study.detections), {"edges", "edges 2"})
        self.bench.settings.editors["", "sigma"].edited.emit("sigma", 3.0, False)
        self.settle()
        self.assertEqual([e.made_parameters().sigma for e in self.study.recipe.detectors], [None, 3.0])
        self.assertEqual(len(self.bench.frames[0].pane.marks), 3)
        self.study.choose("edges")
        self.settle()
        self.assertIsNone(self.bench.settings.editors["", "sigma"].value)

    def test_the_maps_follow_the_chosen_detector(self) -> None:
        self.study.add_detector("edges")
        self.bench.settings.editors["", "sigma"].edited.emit("sigma", 4.0, False)
        self.settle()
        smooth = self.bench.panes.pictures["magnitude"].levels[0].copy()
        self.study.choose("edges")
        self.settle()
        self.assertGreater(float(abs(self.bench.panes.pictures["magnitude"].levels[0] - smooth).max()), 1.0)

    def test_switched_off_means_not_run(self) -> None:
        self.study.duplicate("edges")
        self.settle()
        card = self.bench.recipe_cards.cards["edges"]
        QTest.mouseClick(card.on, Qt.MouseButton.LeftButton)
        self.settle()
        self.assertEqual(set(self.study.detections), {"edges 2"})
        self.assertFalse(self.study.recipe.detectors[0].on)
        self.assertIn("off", self.bench.recipe_cards.cards["edges"].brief.text())
        again = Recipe.parse(self.study.recipe.text())
        self.assertEqual([e.on for e in again.detectors], [False, True])
        run = Engine().run(again, self.study.image)
        self.assertEqual(list(run.detections), ["edges 2"])
        self.study.undo.undo()
        self.settle()
        self.assertEqual(set(self.study.detections), {"edges", "edges 2"})

    def test_a_step_that_is_off_changes_nothing(self) -> None:
        self.study.add_step("tone")
        self.study.edit_step(1, {"invert": True}, "invert")
        self.settle()
        self.assertEqual(int(self.study.prepared.pixels[0, 0]), 255 - int(self.study.image.pixels[0, 0]))
        self.study.switch(step_card(1), False)
        self.settle()
        self.assertEqual(int(self.study.prepared.pixels[0, 0]), int(self.study.image.pixels[0, 0]))

    def test_renaming_by_typing_and_a_name_that_is_taken(self) -> None:
        self.study.duplicate("edges")
        self.study.choose("edges")
        self.bench.actions_by_name["rename"].trigger()
        field = self.bench.recipe_cards.cards["edges"].field
        self.assertFalse(field.isHidden())
        field.setText("edges 2")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertIn('two detectors are called "edges 2"', self.bench.failure)
        self.bench.recipe_cards.cards["edges"].start_rename()
        field.setText("rim")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.names(), ["rim", "edges 2"])
        self.assertEqual(self.study.chosen, "rim")
        self.assertIn("rim", self.study.detections)
        self.study.undo.undo()
        self.assertEqual(self.study.chosen, "edges")

    def test_moving_and_removing(self) -> None:
        self.study.add_step("smooth")
        self.study.add_step("tone")
        self.bench.actions_by_name["move_up"].trigger()
        self.assertEqual([s.step for s in self.study.recipe.prepare], ["channel", "tone", "smooth"])
        self.assertEqual(self.study.chosen, step_card(1))
        self.bench.actions_by_name["remove"].trigger()
        self.assertEqual([s.step for s in self.study.recipe.prepare], ["channel", "smooth"])
        self.study.choose("edges")
        self.bench.actions_by_name["remove"].trigger()
        self.settle()
        self.assertEqual(self.names(), [])
        self.assertEqual(self.bench.findings.rows.rowCount(), 0)
        self.study.choose(SOURCE)
        self.bench.actions_by_name["remove"].trigger()
        self.assertIsNotNone(self.study.image)
        for _ in range(3):
            self.study.undo.undo()
        self.settle()
        self.assertEqual(self.names(), ["edges"])
        self.assertEqual(self.bench.findings.rows.rowCount(), 2)

    def test_a_failed_step_says_why_and_the_rest_goes_on(self) -> None:
        self.study.add_step("crop")
        region = {"shape": "rectangle", "x": 900.0, "y": 10.0, "width": 5.0, "height": 5.0}
        self.study.edit_step(1, {"region": region}, "crop")
        self.study.add_step("tone")
        self.wait(lambda: step_card(1) in self.bench.recipe_cards.failures)
        self.settle()
        self.assertIn("holds no pixel", self.bench.recipe_cards.cards[step_card(1)].about.text())
        self.assertEqual(self.bench.recipe_cards.cards[step_card(1)].count.text(), "!")
        self.assertEqual(self.bench.findings.rows.rowCount(), 2)

    def test_an_expected_count_is_marked_where_it_differs(self) -> None:
        field = self.bench.settings.expected
        field.setText("2")
        field.editingFinished.emit()
        self.settle()
        self.assertEqual(self.study.recipe.detectors[0].expect, {"count": 2})
        self.assertNotIn("expected", self.bench.recipe_cards.cards["edges"].about.text())
        field.setText("3, 5")
        field.editingFinished.emit()
        self.settle()
        self.assertIn("count 2, expected 3 to 5", self.bench.recipe_cards.cards["edges"].about.text())
        field.setText("many")
        field.editingFinished.emit()
        self.assertIn("whole numbers", self.bench.failure)
        field.setText("")
        field.editingFinished.emit()
        self.assertEqual(self.study.recipe.detectors[0].expect, {})

    def test_the_menu_offers_what_the_keys_do(self) -> None:
        texts = [a.text() for a in self.bench.recipe_cards.card_menu("edges").actions()]
        self.assertEqual(
            texts,
            ["Rename", "Own preparation", "Merge findings with", "Duplicate", "Move up", "Move down", "Switch off", "", "Remove"],
        )
        self.assertNotIn("Rename", [a.text() for a in self.bench.recipe_cards.card_menu(step_card(0)).actions()])

    def test_everything_off_is_an_empty_answer(self) -> None:
        self.study.switch("edges", False)
        self.settle()
        self.assertEqual(self.study.detections, {})
        self.assertEqual(self.bench.findings.rows.rowCount(), 0)
        self.open(disc(30.0))
        self.assertEqual(self.study.detections, {})


class Merged(unittest.TestCase):
    def test_a_group_follows_its_detectors(self) -> None:
        detectors = [{"name": name, "kind": "circles"} for name in ("dark", "all", "outlines")]
        study = Study()
        study.open_recipe(
            Recipe.make({"lucid_finch_recipe": 1, "detectors": detectors, "combine": [["dark", "all", "outlines"]]}), None
        )
        study.rename("dark", "holes")
        self.assertEqual(study.recipe.combine, (("holes", "all", "outlines"),))
        study.remove("all")
        self.assertEqual(study.recipe.combine, (("holes", "outlines"),))
        study.remove("outlines")
        self.assertEqual(study.recipe.combine, ())
        study.undo.undo()
        study.undo.undo()
        self.assertEqual(study.recipe.combine, (("holes", "all", "outlines"),))


class Removing(BenchCase):
    def test_the_marks_of_a_detector_that_is_removed_go_with_it(self) -> None:
        self.open(two_squares())
        self.bench.study.add_detector("lines")
        self.settle()
        edges = {mark.colour.name() for mark in self.bench.frames[0].pane.marks}
        self.bench.study.remove("edges")
        self.settle()
        lines = {mark.colour.name() for mark in self.bench.frames[0].pane.marks}
        self.assertLess(len(lines), len(edges))


class Merging(BenchCase):
    def test_merged_by_the_menu_of_a_card(self) -> None:
        self.open(disc(24, noise=1.0))
        study = self.bench.study
        study.add_detector("circles")
        study.add_detector("contours")
        self.settle()
        self.assertTrue(self.bench.recipe_cards.merged.isHidden())
        menu = self.bench.recipe_cards.card_menu("circles")
        merge = next(a.menu() for a in menu.actions() if a.text() == "Merge findings with")
        action = next(a for a in merge.actions() if a.text() == "contours")
        self.assertFalse(action.isChecked())
        action.trigger()
        self.settle()
        self.assertEqual(study.recipe.combine, (("circles", "contours"),))
        self.assertEqual(self.bench.recipe_cards.merged.text(), "circles + contours: 1 merged, 1 duplicates")
        tab = self.bench.drawer.indexOf(self.bench.drawer.merged_page)
        self.assertTrue(self.bench.drawer.isTabVisible(tab))
        self.assertEqual(self.bench.drawer.tabText(tab), "Merged 1")
        study.merge("circles", "contours", False)
        self.settle()
        self.assertEqual(study.recipe.combine, ())
        self.assertFalse(self.bench.drawer.isTabVisible(tab))
        self.assertTrue(self.bench.recipe_cards.merged.isHidden())
        study.undo.undo()
        self.assertEqual(study.recipe.combine, (("circles", "contours"),))

    def test_the_page_of_merged_findings(self) -> None:
        y, x = np.mgrid[:120, :200]
        plane = 100.0 + 60 * (np.hypot(x - 60, y - 60) < 25) + 50 * ((np.abs(x - 150) < 20) & (np.abs(y - 60) < 15))
        self.open(Image.from_array(np.clip(plane + np.random.default_rng(0).normal(0, 1, plane.shape), 0, 255).astype(np.uint8)))
        bench, study = self.bench, self.bench.study
        study.add_detector("circles")
        study.add_detector("contours")
        study.remove("edges")
        self.settle()
        study.merge("circles", "contours", True)
        self.settle()
        bench.drawer.setCurrentWidget(bench.drawer.merged_page)
        table = bench.drawer.merged_page.table
        rows = [[table.rows.text(r, c) for c in range(table.rows.columnCount())] for r in range(table.rows.rowCount())]
        self.assertEqual([row[0] for row in rows], ["1", "2"])
        names = [c.name for c in table.rows.columns]
        self.assertEqual(sorted(row[names.index("detector")] for row in rows)[-1], "contours")
        self.assertTrue(any("1" in row[names.index("also")] for row in rows))
        # The marks are those of the table, each once.
        drawn = [m for m in bench.frames[0].pane.marks if not m.nameless]
        self.assertEqual(sorted(int(n) for m in drawn for n in m.numbers), [1, 2])
        at = next(k for k, row in enumerate(rows) if row[names.index("detector")] == "contours" and float(row[1]) > 100)
        table.choose([at])
        bench.drawer.merged_page.picked.emit("contours", int(rows[at][names.index("number")]))
        self.settle()
        self.assertEqual(study.detector, "contours")
        self.assertIs(bench.drawer.currentWidget(), bench.drawer.merged_page)
        chosen = [m for m in bench.frames[0].pane.marks if m.chosen]
        self.assertEqual(len(chosen), 1)
        self.assertAlmostEqual(float(chosen[0].at[0, 0]), 149.5, delta=1.5)
        bench.drawer.merged_page.field.setText("detector = contours")
        bench.drawer.merged_page.apply()
        self.assertEqual(table.rows.rowCount(), sum(row[names.index("detector")] == "contours" for row in rows))
        bench.drawer.setCurrentIndex(0)
        self.assertGreater(sum(len(m.numbers) for m in bench.frames[0].pane.marks if not m.dashed), 2)


if __name__ == "__main__":
    unittest.main()
