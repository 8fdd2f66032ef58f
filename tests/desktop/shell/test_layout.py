"""Pictures come first: sizes of the panes, parts that can be hidden, folded settings, messages that move nothing."""

from __future__ import annotations

import itertools
import re
import unittest

import numpy as np
from PySide6.QtCore import QRect, Qt, QTranslator
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QLabel, QLineEdit, QMessageBox, QWidget

from lucid_finch.core.image import Image
from lucid_finch.desktop.shell.application import first_size
from lucid_finch.desktop.study.study import SOURCE
from lucid_finch.desktop.toolkit.labels import Elided
from tests.desktop.support import BenchCase


def landscape(width: int = 1200, height: int = 800) -> Image:
    """A bright square on a dark ground."""
    pixels = np.full((height, width), 60, np.uint8)
    pixels[height // 3 : height // 2, width // 3 : width // 2] = 160
    return Image.from_array(pixels + np.random.default_rng(0).integers(0, 6, pixels.shape).astype(np.uint8))


class Sizes(BenchCase):
    def widths(self) -> list[float]:
        """px that the image takes in each pane in sight."""
        image = self.bench.study.image
        return [frame.view.scale * image.width for frame in self.bench.panes.shown]

    def test_the_sizes_of_the_design(self) -> None:
        self.bench.resize(1280, 800)
        self.open(landscape())
        self.settle()
        self.assertGreaterEqual(min(self.widths()), 470)
        self.bench.actions_by_name["panes_1"].trigger()
        self.bench.actions_by_name["show_drawer"].trigger()
        self.settle()
        self.assertGreaterEqual(min(self.widths()), 940)

    def test_the_first_window_fits_the_screen(self) -> None:
        for screen in ((1280, 800), (1920, 1080), (1024, 700)):
            size = first_size(QRect(0, 0, *screen))
            self.assertLessEqual(size.width(), screen[0])
            self.assertLessEqual(size.height() + 37, screen[1])
            self.bench.resize(size)
            self.assertEqual(self.bench.size(), size)

    def test_panes_lie_as_shows_the_image_larger(self) -> None:
        self.bench.resize(1280, 800)
        self.open(landscape(900, 900))
        self.settle()
        self.assertEqual(self.bench.panes._rows[0].orientation(), Qt.Orientation.Horizontal)
        self.open(landscape(2000, 300))
        self.settle()
        self.assertEqual(self.bench.panes._rows[0].orientation(), Qt.Orientation.Vertical)
        self.assertGreaterEqual(min(self.widths()), 900)

    def test_the_image_is_fitted_again_unless_it_was_zoomed(self) -> None:
        self.bench.resize(1280, 800)
        self.open(landscape())
        self.settle()
        before = self.widths()[0]
        self.bench.resize(1000, 800)
        self.settle()
        self.assertLess(self.widths()[0], before - 50)
        view = self.bench.frames[0].view
        view.set(view.x, view.y, 1.5)
        self.bench.resize(1280, 800)
        self.settle()
        self.assertEqual(view.scale, 1.5)

    def test_parts_hide_with_one_key_and_remember_it(self) -> None:
        self.open(landscape())
        for name, key in (("column", Qt.Key.Key_F6), ("strip", Qt.Key.Key_F7), ("drawer", Qt.Key.Key_F8)):
            part = self.bench.appearance.parts[name]
            self.assertTrue(part.isVisible(), name)
            QTest.keyClick(self.bench, key)
            self.assertFalse(part.isVisible(), name)
            self.assertIn(name, self.bench.preferences.hidden_parts)
            QTest.keyClick(self.bench, key)
            self.assertTrue(part.isVisible(), name)
            self.assertNotIn(name, self.bench.preferences.hidden_parts)

    def test_a_message_moves_nothing(self) -> None:
        self.open(landscape())
        self.settle()
        before = [w.mapTo(self.bench, w.rect().topLeft()) for w in (self.bench.panes, self.bench.drawer, self.bench.settings)]
        self.bench.show_failure("something went wrong " * 20)
        self.settle()
        self.assertTrue(self.bench.notice.isVisible())
        after = [w.mapTo(self.bench, w.rect().topLeft()) for w in (self.bench.panes, self.bench.drawer, self.bench.settings)]
        self.assertEqual(before, after)
        text = self.bench.notice.text
        self.assertGreaterEqual(text.height(), text.heightForWidth(text.width()))
        self.bench.notice._stays.setInterval(1)
        self.bench.notice._stays.start()
        self.wait(lambda: not self.bench.notice.isVisible(), 5, "the message to fade")


class LongWords(QTranslator):
    """Labels a third longer than ours, as in another language; placeholders and tags stay."""

    def translate(self, context: str, text: str, disambiguation: str | None = None, n: int = -1) -> str:
        return re.sub(r"(\{[^}]*\}|<[^>]*>|&\w+;|%\w)|([A-Za-z]{3})", lambda m: m[1] or m[2] + m[2][-1].lower(), text)


def cut_off(bench: QWidget) -> list[tuple[str, int, int]]:
    """Texts in sight that have less room than they need: text, room, need in px."""
    cut = []
    for widget in bench.findChildren(QWidget):
        if not isinstance(widget, (QLabel, QAbstractButton)) or isinstance(widget, Elided) or not widget.isVisible():
            continue
        wraps = isinstance(widget, QLabel) and (widget.wordWrap() or "<" in widget.text())
        text = max(widget.text().splitlines() or [""], key=len)
        needed = widget.fontMetrics().horizontalAdvance(text.replace("&", ""))
        if not wraps and widget.width() + 1 < needed:
            cut.append((widget.text(), widget.width(), needed))
    return cut


class Small(BenchCase):
    def check(self) -> None:
        """No text of any kind of card is cut off in a small window, and the window keeps its size."""
        self.bench.resize(1024, 700)
        self.open(landscape())
        for kind in ("edges", "lines", "circles"):
            if kind != "edges":
                self.bench.study.add_detector(kind)
            self.settle()
            self.assertLessEqual((self.bench.width(), self.bench.height()), (1024, 700))
            self.assertEqual(cut_off(self.bench), [])
            self.bench.asking.ask(505.0, 300.0)
            self.turns()
            self.assertTrue(self.bench.explanation.isVisible())
            self.assertEqual(cut_off(self.bench), [])
            self.bench.explanation.put_away()
        self.bench.study.choose(SOURCE)
        self.settle()
        self.assertEqual(cut_off(self.bench), [])

    def test_nothing_is_cut_off_in_a_small_window_with_large_text(self) -> None:
        self.addCleanup(self.bench.appearance.scale_text, 1 / 1.21)
        self.bench.appearance.scale_text(1.21)
        self.check()

    def test_nothing_is_cut_off_with_longer_words(self) -> None:
        words = LongWords()
        self.application.installTranslator(words)
        self.addCleanup(self.application.removeTranslator, words)
        self.bench = self.make_bench()
        self.assertIn("Expportt", [b.text().strip("…") for b in self.bench.findChildren(QAbstractButton)])
        self.check()

    def test_a_long_name_does_not_widen_the_window(self) -> None:
        self.bench.study.edit({"name": "inspection of the glazed tiles of the third kiln " * 4}, "name")
        self.check()


class Folded(BenchCase):
    def test_rarely_changed_parameters_are_folded_with_a_count(self) -> None:
        self.open(landscape())
        settings = self.bench.settings
        assert settings.fold is not None
        self.assertFalse(settings.editors["", "operator"].isVisible())
        self.assertTrue(settings.editors["", "sigma"].isVisible())
        self.assertNotIn("changed", settings.fold.button.text())
        self.bench.study.edit_detector(self.bench.study.chosen, {"operator": "sobel"}, "operator")
        self.settle()
        self.assertIn("1 changed", settings.fold.button.text())
        settings.fold.button.click()
        self.assertTrue(settings.editors["", "operator"].isVisible())
        # It stays open for the next card.
        self.bench.study.add_detector("lines")
        self.settle()
        self.assertTrue(settings.editors["", "angle_step"].isVisible())


class Refused(BenchCase):
    def test_an_error_speaks_of_the_card_and_not_of_the_document(self) -> None:
        self.open(landscape())
        field = self.bench.settings.editors["", "sigma"].field
        field.setText("wide")
        field.editingFinished.emit()
        self.assertRegex(self.bench.failure, '^detector "edges" .*sigma = "wide" is not allowed')


class Keys(BenchCase):
    def test_tab_goes_through_the_window_in_reading_order(self) -> None:
        self.bench.resize(1280, 800)
        self.open(landscape())
        start = self.bench.recipe_cards.cards[self.bench.study.chosen]
        start.setFocus()
        passed: list[QWidget] = []
        while len(passed) < 120:
            focus = self.application.focusWidget()
            assert focus is not None
            if passed and focus is start:
                break
            passed.append(focus)
            QTest.keyClick(focus, Qt.Key.Key_Tab)
        self.assertIs(focus, start, "Tab comes round, and nothing holds it")
        self.assertEqual(len(set(passed)), len(passed))
        self.assertEqual([w for w in passed if not (w.accessibleName() or isinstance(w, QAbstractButton))], [])
        parts = (self.bench.settings, self.bench.panes, self.bench.strip, self.bench.drawer, self.bench.bar)
        order = [i for w in passed for i, part in enumerate(parts) if part.isAncestorOf(w)]
        self.assertEqual([key for key, _ in itertools.groupby(order)], [0, 1, 2, 3, 4])
        fields = [w for w in passed if self.bench.settings.isAncestorOf(w) and isinstance(w, QLineEdit)]
        heights = [w.mapTo(self.bench, w.rect().topLeft()).y() for w in fields[:-1]]
        self.assertGreater(len(heights), 3)
        self.assertEqual(heights, sorted(heights))

    def test_enter_presses_buttons_and_opens_menus(self) -> None:
        self.open(landscape())
        button = next(b for b in self.bench.findChildren(QAbstractButton) if b.text() == "Ask why")
        button.setFocus()
        QTest.keyClick(button, Qt.Key.Key_Return)
        self.assertTrue(self.bench.actions_by_name["ask"].isChecked())
        QTest.keyClick(button, Qt.Key.Key_Escape)
        self.assertFalse(self.bench.actions_by_name["ask"].isChecked())

    def test_the_keyboard_goes_from_part_to_part(self) -> None:
        self.open(landscape())
        self.bench.recipe_cards.cards[self.bench.study.chosen].setFocus()
        reached = []
        for _ in range(6):
            self.bench.actions_by_name["next_part"].trigger()
            reached.append(self.application.focusWidget())
        strip, cards = list(self.bench.strip.stages.values()), self.bench.recipe_cards.cards
        expected = [self.bench.active_frame.pane, strip[0], self.bench.findings]
        self.assertEqual([*reached[1:4], reached[5]], [*expected, cards[self.bench.study.chosen]])
        self.bench.actions_by_name["part_before"].trigger()
        self.assertIs(self.application.focusWidget(), reached[4])
        self.bench.actions_by_name["show_strip"].trigger()
        self.bench.active_frame.pane.setFocus()
        self.bench.actions_by_name["next_part"].trigger()
        self.assertIs(self.application.focusWidget(), self.bench.findings)

    def test_a_place_is_chosen_with_keys(self) -> None:
        self.open(landscape())
        pane = self.bench.active_frame.pane
        pane.setFocus()
        pane.view.set(400, 400, 1.0)
        QTest.keyClick(pane, Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier)
        both = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
        QTest.keyClick(pane, Qt.Key.Key_Up, both)
        self.assertEqual(pane.view.cursor, (399.0, 390.0))
        # The left side of the square: Enter chooses its outline, with Shift it is asked about.
        QTest.keyClick(pane, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
        pane.view.set_cursor((400.0, 330.0))
        QTest.keyClick(pane, Qt.Key.Key_Return)
        self.assertEqual(self.bench.selection.found, (0,))
        QTest.keyClick(pane, Qt.Key.Key_Return, Qt.KeyboardModifier.ShiftModifier)
        self.wait(self.bench.explanation.isVisible, 5, "the explanation")

    def test_search_finds_by_title_first_and_gives_the_keyboard_back(self) -> None:
        self.open(landscape())
        field = self.bench.settings.editors["", "sigma"].field
        field.setFocus()
        self.bench.actions_by_name["find"].trigger()
        self.bench.finder.field.setText("circ")
        self.assertIn("circles", self.bench.finder.list.item(0).text().partition(":")[0])
        QTest.keyClick(self.bench.finder.field, Qt.Key.Key_Escape)
        self.assertIs(self.application.focusWidget(), field)

    def test_renaming_takes_the_row_and_keeps_its_height(self) -> None:
        self.open(landscape())
        self.settle()
        card = self.bench.recipe_cards.cards[self.bench.study.chosen]
        height = card.height()
        self.bench.actions_by_name["rename"].trigger()
        self.turns()
        self.assertEqual(card.height(), height)
        self.assertGreater(card.field.width(), 150)
        self.assertEqual(card.field.selectedText(), card.field.text())
        QTest.keyClicks(card.field, "outline")
        QTest.keyClick(card.field, Qt.Key.Key_Return)
        self.settle()
        self.assertIn("outline", self.bench.recipe_cards.cards)

    def test_arrows_in_the_recipe_and_the_strip(self) -> None:
        self.open(landscape())
        self.bench.study.add_detector("lines")
        self.settle()
        cards = self.bench.recipe_cards.cards
        self.bench.study.choose(SOURCE)
        cards[SOURCE].setFocus()
        for name, after in itertools.pairwise(cards):
            QTest.keyClick(cards[name], Qt.Key.Key_Down)
            self.assertEqual(self.bench.study.chosen, after)
        QTest.keyClick(cards["lines"], Qt.Key.Key_Up)
        self.assertEqual(self.bench.study.chosen, "edges")
        self.settle()
        stages = list(self.bench.strip.stages.values())
        stages[0].setFocus()
        QTest.keyClick(stages[0], Qt.Key.Key_Right)
        self.assertIs(self.bench.focusWidget(), stages[1])

    def test_redo_has_both_keys(self) -> None:
        self.open(landscape())
        for keys in ((Qt.Key.Key_Y, Qt.KeyboardModifier.ControlModifier),
                     (Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)):  # fmt: skip
            self.bench.study.edit_detector("edges", {"sigma": 2.5}, "sigma")
            self.bench.study.undo.undo()
            QTest.keyClick(self.bench, *keys)
            self.assertEqual(self.bench.study.recipe.detectors[0].parameters["sigma"], 2.5)
            self.bench.study.undo.undo()

    def test_new_and_close(self) -> None:
        self.open(landscape())
        self.bench.study.add_detector("lines")
        self.bench.documents.ask_unsaved = lambda: QMessageBox.StandardButton.Discard
        self.bench.actions_by_name["new"].trigger()
        self.settle()
        self.assertEqual([entry.kind for entry in self.bench.study.recipe.detectors], ["edges"])
        self.assertIsNotNone(self.bench.study.image)
        self.bench.actions_by_name["close_image"].trigger()
        self.settle()
        self.assertIsNone(self.bench.study.image)
        self.assertTrue(self.bench.empty.isVisible())
        self.assertEqual(self.bench.findings.rows.rowCount(), 0)

    def test_the_search_says_when_nothing_matches(self) -> None:
        finder = self.bench.finder
        finder.open()
        finder.field.setText("zzzz")
        self.assertEqual(finder.list.count(), 1)
        self.assertIn("No action matches", finder.list.item(0).text())
        QTest.keyClick(finder.field, Qt.Key.Key_Return)
        self.assertTrue(finder.isVisible())


if __name__ == "__main__":
    unittest.main()
