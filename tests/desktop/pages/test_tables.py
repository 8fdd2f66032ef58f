"""Tables: conditions, chosen columns, selections of many rows; and the search of all actions."""

from __future__ import annotations

import unittest

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QMenu, QScrollBar, QWidget

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.table import Column, Findings, expected_text
from lucid_finch.core.viewing.row_filter import matching
from lucid_finch.desktop.pages.tables import FilteredTable, TableModel
from tests.desktop.support import BenchCase, WindowCase, two_squares

DECLARED = (
    Column("id", "no."),
    Column("length", "length", "px"),
    Column("closed", "closed"),
    Column("failed", "fell short of", names=("", "length_min", "false_alarms")),
)


def table(count: int = 6) -> Findings:
    numbers = np.arange(count)
    columns = {"id": numbers + 1, "length": 10.0 * numbers, "closed": numbers % 2, "failed": numbers % 3}
    return Findings(columns, DECLARED)


class Texts(unittest.TestCase):
    def test_false_alarms_are_shown_as_numbers(self) -> None:
        shown = {
            1.96: "0.011", 0.0: "1", -1.5: "32", -3.0: "1000", 12.0: "1e-12", 11.7: "2e-12", 4.02: "1e-4", 12.01: "1e-12",
            400.3: "5e-401",
        }  # fmt: skip
        for log_nfa, text in shown.items():
            self.assertEqual(expected_text(log_nfa), text)
        self.assertEqual(expected_text(np.inf), "–")

    def test_near_misses_show_what_they_failed_in_the_terms_of_the_setting(self) -> None:
        image = two_squares()
        found = engine.detect("edges", image, {"false_alarms": 1e-300, "length_min": 20})
        near = found.near_misses
        row = int(np.flatnonzero(near["failed"] == "false_alarms")[0])
        model = TableModel()
        model.show_table(near)
        shown = {c.name: model.index(row, place).data() for place, c in enumerate(model.columns)}
        self.assertEqual(shown["limit"], "1e-300")
        self.assertEqual(shown["measured"], expected_text(float(near["measured"][row])))
        self.assertRegex(shown["measured"], r"^\de-\d+$")


class Conditions(unittest.TestCase):
    def rows(self, text: str) -> list[int]:
        return np.flatnonzero(matching(table(), text, {"length_min": "Length, at least"})).tolist()

    def test_numbers_texts_and_yes(self) -> None:
        self.assertEqual(self.rows("length > 20"), [3, 4, 5])
        self.assertEqual(self.rows("length >= 20 and length<=40px"), [2, 3, 4])
        self.assertEqual(self.rows("closed = yes, no. != 4"), [1, 5])
        self.assertEqual(self.rows("Fell Short Of = false_alarms"), [2, 5])
        self.assertEqual(self.rows("failed != false_alarms and length == 10"), [1])
        self.assertEqual(self.rows(""), list(range(6)))

    def test_what_is_wrong_is_said(self) -> None:
        for text, said in (
            ("lenght > 3", r'no column "lenght" \(did you mean "length"\?\)'),
            ("length", "is no condition"),
            ("length > long", '"long" is not a number'),
            ("failed > 3", "is a text"),
        ):
            with self.subTest(text), self.assertRaisesRegex(ParameterError, said):
                self.rows(text)


class Rows(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.page = FilteredTable("findings")
        self.page.resize(600, 300)
        self.page.show()
        self.addCleanup(self.page.close)
        self.page.show_table(table(100_000), {})
        self.application.processEvents()
        self.chosen: list[list[int]] = []
        self.page.table.rows_chosen.connect(self.chosen.append)

    def test_a_filter_and_a_sort_keep_rows_and_places_together(self) -> None:
        self.page.field.setText("length >= 500000")
        self.page.apply()
        self.assertEqual(self.page.table.rows.rowCount(), 50_000)
        self.assertEqual(self.page.said.text(), "50000 of 100000")
        self.page.table.sortByColumn(1, Qt.SortOrder.DescendingOrder)
        self.assertEqual(self.page.table.rows.place_of(99_999), 0)
        self.assertEqual(self.page.table.rows.place_of(3), -1)
        self.page.table.choose([70_000, 3])
        self.assertEqual(self.page.table.chosen_rows().tolist(), [70_000])
        self.page.field.setText("nonsense")
        self.page.apply()
        self.assertEqual(self.page.table.rows.rowCount(), 100_000)
        self.assertTrue(self.page.field.property("wrong"))

    def test_a_table_of_another_kind_begins_in_its_own_order(self) -> None:
        self.page.table.sortByColumn(1, Qt.SortOrder.DescendingOrder)
        self.page.show_table(table(50), {})
        self.assertEqual(self.page.table.rows.order.tolist(), list(range(49, -1, -1)))
        declared = (Column("id", "no."), Column("radius", "radius", "px"))
        other = Findings({"id": np.arange(3), "radius": np.array([2.0, 1.0, 3.0])}, declared)
        self.page.show_table(other, {})
        self.assertEqual(self.page.table.rows.order.tolist(), [0, 1, 2])
        self.assertEqual(self.page.table.horizontalHeader().sortIndicatorSection(), -1)

    def test_all_rows_can_be_selected(self) -> None:
        self.page.table.selectAll()
        self.application.processEvents()
        self.assertEqual(len(self.page.table.chosen_rows()), 100_000)
        self.assertEqual(len(self.chosen[-1]), 2000)

    def test_hidden_columns_are_not_copied(self) -> None:
        self.page.table.show_column("closed", False)
        self.assertTrue(self.page.table.isColumnHidden(2))
        self.page.table.selectRow(4)
        self.page.table.copy()
        self.assertEqual(self.application.clipboard().text(), "id\tlength\tfailed\n5\t40.00\tlength_min\n")
        for name in ("id", "length", "failed"):
            self.page.table.show_column(name, False)
        self.assertLess(len(self.page.table.hidden), 4)
        self.page.table.show_all_columns()
        self.assertFalse(self.page.table.isColumnHidden(2))
        self.page.grab()


class Finding(BenchCase):
    def test_an_action_is_found_by_typing_and_done(self) -> None:
        self.open(two_squares())
        self.assertEqual(self.bench.actions_by_name["find"].shortcut().toString(), "Ctrl+K")
        self.bench.actions_by_name["find"].trigger()
        finder = self.bench.finder
        self.assertTrue(finder.isVisible())
        QTest.keyClicks(finder.field, "four pan")
        self.assertEqual(finder.list.count(), 1)
        self.assertIn("Ctrl+4", finder.list.item(0).text())
        QTest.keyClick(finder.field, Qt.Key.Key_Return)
        self.assertFalse(finder.isVisible())
        self.assertEqual(self.bench.panes.count, 4)
        finder.open()
        self.assertGreater(finder.list.count(), 30)
        QTest.keyClick(finder.field, Qt.Key.Key_Down)
        self.assertEqual(finder.list.currentRow(), 1)
        QTest.keyClick(finder.field, Qt.Key.Key_Escape)
        self.assertFalse(finder.isVisible())

    def test_every_action_has_a_text_and_no_shortcut_is_taken_twice(self) -> None:
        shortcuts = [a.shortcut().toString() for a in self.bench.actions_by_name.values() if not a.shortcut().isEmpty()]
        self.assertEqual(len(shortcuts), len(set(shortcuts)))
        self.assertTrue(all(a.text() and a.toolTip() for a in self.bench.actions_by_name.values()))

    def test_everything_that_takes_the_keyboard_has_a_name(self) -> None:
        self.open(two_squares())
        nameless = [
            f"{type(widget).__name__} in {type(widget.parentWidget()).__name__}"
            for widget in self.bench.findChildren(QWidget)
            if widget.focusPolicy() != Qt.FocusPolicy.NoFocus
            and widget.isVisibleTo(self.bench)
            and not (widget.accessibleName() or (isinstance(widget, QAbstractButton) and widget.text()))
            and not isinstance(widget, (QScrollBar, QMenu))
        ]
        self.assertEqual(nameless, [])

    def test_help_has_the_guide_and_all_actions(self) -> None:
        self.bench.show_help()
        pages = [self.bench.help.list.item(n).text() for n in range(self.bench.help.list.count())]
        self.assertIn("Edges", pages)
        self.bench.help.list.setCurrentRow(len(pages) - 1)
        text = self.bench.help.page.toPlainText()
        for action in self.bench.actions_by_name.values():
            self.assertIn(action.text().replace("…", ""), text)

    def test_hidden_columns_are_remembered_by_kind(self) -> None:
        self.open(two_squares())
        self.bench.findings.show_column("peak", False)
        self.assertEqual(self.bench.preferences.hidden_columns, {"edges": ["peak"]})
        self.open(two_squares())
        column = [c.name for c in self.bench.near_misses.rows.columns].index("peak")
        self.assertTrue(self.bench.near_misses.isColumnHidden(column))


if __name__ == "__main__":
    unittest.main()
