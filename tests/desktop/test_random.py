"""Random actions on the real window, 500 unless more are asked for, leave no exception, warning, thread or memory behind."""

from __future__ import annotations

import gc
import os
import random
import resource
import threading
import unittest
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image as Pillow
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu, QMessageBox

from lucid_finch.core.prepare import STEPS
from lucid_finch.desktop.recipe_panel.editors import ParameterEditor
from lucid_finch.desktop.recipe_panel.structured_editors import RegionEditor
from lucid_finch.desktop.shell.window import Bench
from lucid_finch.desktop.study.runner import give_back_memory
from lucid_finch.desktop.study.study import SOURCE
from lucid_finch.desktop.toolkit.theme import LIGHT, apply_theme
from tests.desktop.support import WindowCase, close_for_good
from tests.support import noise_pictures

ACTIONS = int(os.environ.get("FINCH_ACTIONS", "500"))
SEED = int(os.environ.get("FINCH_SEED", "20261123"))
"""More of both are tried now and then."""


def resident() -> float:
    """Megabytes in use now."""
    with open("/proc/self/statm", encoding="ascii") as file:
        return int(file.read().split()[1]) * resource.getpagesize() / 1e6


class Monkey:
    """Does what a restless user might; every choice comes from one seed."""

    def __init__(self, seed: int, folder: Path, bench: Callable[[], Bench]) -> None:
        self.random = random.Random(seed)
        self.folder = folder
        self.make = bench
        self.bench = bench()
        self.done: dict[str, int] = {}
        self.actions = [
            self.open_file, self.open_folder, self.broken_file, self.drag_slider, self.drag_limit, self.undo, self.redo,
            self.card, self.add, self.panes, self.show_map, self.compare, self.wheel, self.keys, self.ask, self.choose_row,
            self.click_mark, self.filter, self.sort, self.colour, self.find, self.cancel, self.resize, self.theme, self.step,
            self.range, self.type_value, self.link, self.columns, self.expect, self.reopen,
            self.draw, self.drag_shape, self.spread, self.tab, self.own_step, self.save_map, self.sample, self.own_numbers,
        ]  # fmt: skip

    def plain_editors(self) -> list[ParameterEditor]:
        return [e for e in self.bench.settings.editors.values() if isinstance(e, ParameterEditor)]

    def act(self) -> None:
        action = self.random.choice(self.actions)
        self.done[action.__name__] = self.done.get(action.__name__, 0) + 1
        action()
        for menu in self.bench.findChildren(QMenu):
            menu.close()
        for _ in range(self.random.randint(0, 4)):
            QApplication.processEvents()

    def somewhere(self) -> QPoint:
        pane = self.bench.active_frame.pane
        return QPoint(self.random.randint(0, pane.width()), self.random.randint(0, pane.height()))

    def draw(self) -> None:
        editors = [e for e in self.bench.settings.editors.values() if isinstance(e, RegionEditor)]
        kind = self.random.choice(["rectangle", "ellipse", "polygon", "annulus"])
        if editors and self.random.random() < 0.6:
            editor = self.random.choice(editors)
            editor.draw_wanted.emit(editor.declared.name, kind, self.random.random() < 0.3)
        else:
            self.bench.actions_by_name["measure_" + self.random.choice(["line", "box", "circle", "angle"])].trigger()
        self.drag_shape()
        if self.random.random() < 0.5:
            QTest.keyClick(
                self.bench.active_frame.pane, self.random.choice([Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Delete])
            )

    def drag_shape(self) -> None:
        pane = self.bench.active_frame.pane
        for _ in range(self.random.randint(1, 4)):
            QTest.mousePress(pane, Qt.MouseButton.LeftButton, pos=self.somewhere())
            QTest.mouseMove(pane, self.somewhere())
            QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=self.somewhere())

    def spread(self) -> None:
        names = [e.declared.name for e in self.plain_editors() if e.sweep is not None]
        if names:
            self.bench.settings.sweep_wanted.emit(self.random.choice(names))
            for _ in range(self.random.randint(0, 6)):
                QApplication.processEvents()
            if self.bench.sweep.card.views and self.random.random() < 0.5:
                view = self.random.choice(self.bench.sweep.card.views)
                QTest.mouseClick(view, Qt.MouseButton.LeftButton)

    def tab(self) -> None:
        self.bench.drawer.setCurrentIndex(self.random.randrange(self.bench.drawer.count()))
        self.bench.drawer.values.go(self.random.randint(-1, 1), self.random.randint(-1, 1))
        self.bench.actions_by_name["shade"].trigger()

    def own_step(self) -> None:
        if len(self.bench.study.cards) < 10 and self.bench.study.detector:
            self.bench.study.add_step(self.random.choice(list(STEPS)), self.bench.study.detector)

    def save_map(self) -> None:
        self.bench.exporter.save_map(self.folder / f"map.{self.random.choice(['png', 'tif', 'npy', 'jpg'])}")

    def sample(self) -> None:
        self.bench.settings.samples_wanted.emit()

    def own_numbers(self) -> None:
        self.bench.drawer.values.own.setChecked(self.random.random() < 0.5)
        self.bench.drawer.values.operator.setCurrentIndex(self.random.randrange(4))
        self.bench.drawer.values.copy()

    def open_file(self) -> None:
        self.bench.documents.open_path(self.random.choice(sorted(self.folder.glob("good/*.png"))))

    def open_folder(self) -> None:
        self.bench.documents.open_path(self.folder / "good")

    def broken_file(self) -> None:
        self.bench.documents.open_path(self.folder / "broken.png")

    def drag_slider(self) -> None:
        sliders = [e.slider for e in self.plain_editors() if e.slider is not None]
        if sliders:
            slider = self.random.choice(sliders)
            for _ in range(self.random.randint(1, 8)):
                slider.setValue(self.random.randint(0, 1000))
                QApplication.processEvents()

    def drag_limit(self) -> None:
        histograms = [e.histogram for e in self.plain_editors() if e.histogram is not None]
        if histograms:
            histogram = self.random.choice(histograms)
            for _ in range(self.random.randint(1, 6)):
                QTest.mouseClick(histogram, Qt.MouseButton.LeftButton, pos=QPoint(self.random.randint(0, histogram.width()), 20))

    def undo(self) -> None:
        for _ in range(self.random.randint(1, 3)):
            self.bench.actions_by_name["undo"].trigger()

    def redo(self) -> None:
        self.bench.actions_by_name["redo"].trigger()

    def card(self) -> None:
        self.bench.study.choose(self.random.choice(self.bench.study.cards))
        name = self.random.choice(["duplicate", "move_up", "move_down", "switch", "rename", "remove"])
        if len(self.bench.study.cards) < 12 or name != "duplicate":
            self.bench.actions_by_name[name].trigger()
        if name == "rename" and self.bench.study.chosen != SOURCE:
            field = self.bench.recipe_cards.cards[self.bench.study.chosen].field
            field.setText(self.random.choice(["", "edges", "rim", "a very long name of a detector that does not fit"]))
            QTest.keyClick(field, Qt.Key.Key_Return)

    def add(self) -> None:
        if len(self.bench.study.cards) < 9:
            names = [n for n in self.bench.actions_by_name if n.startswith("add ")]
            self.bench.actions_by_name[self.random.choice(names)].trigger()

    def panes(self) -> None:
        self.bench.stages.set_panes(self.random.choice([1, 2, 4]))
        self.bench.panes.activate(self.random.randrange(self.bench.panes.count))

    def show_map(self) -> None:
        self.bench.stages.show_map(self.random.choice(self.bench.stages.listed())[0])

    def compare(self) -> None:
        how = self.random.choice(["divide", "difference", ""])
        frame = self.bench.active_frame
        self.bench.panes.compare(self.bench.panes.active, how, self.random.choice(self.bench.stages.listed())[0])
        frame.pane.set_divider(self.random.random())

    def wheel(self) -> None:
        pane = self.bench.active_frame.pane
        point = QPointF(self.random.random() * pane.width(), self.random.random() * pane.height())
        turn = QPoint(0, self.random.choice([-360, -120, 120, 480]))
        event = QWheelEvent(
            point, pane.mapToGlobal(point), QPoint(), turn, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(pane, event)

    def keys(self) -> None:
        pane = self.bench.active_frame.pane
        keys = [Qt.Key.Key_Left, Qt.Key.Key_Up, Qt.Key.Key_Plus, Qt.Key.Key_Minus, Qt.Key.Key_H, Qt.Key.Key_Escape, Qt.Key.Key_F]
        QTest.keyClick(pane, self.random.choice(keys))

    def ask(self) -> None:
        self.bench.asking.ask(self.random.uniform(-5, 330), self.random.uniform(-5, 250))
        self.bench.explanation.previewed.emit(None)

    def choose_row(self) -> None:
        table = self.random.choice([self.bench.findings, self.bench.near_misses])
        if table.rows.rowCount():
            table.selectRow(self.random.randrange(table.rows.rowCount()))

    def click_mark(self) -> None:
        pane = self.bench.active_frame.pane
        place = QPoint(self.random.randrange(max(pane.width(), 1)), self.random.randrange(max(pane.height(), 1)))
        shift = self.random.random() < 0.3
        modifier = Qt.KeyboardModifier.ShiftModifier if shift else Qt.KeyboardModifier.NoModifier
        QTest.mouseClick(pane, Qt.MouseButton.LeftButton, modifier, place)

    def filter(self) -> None:
        page = self.random.choice([self.bench.drawer.findings_page, self.bench.drawer.near_page])
        page.field.setText(self.random.choice(["length > 20", "closed = yes and x < 100", "nonsense", "what > 3", ""]))
        page.apply()

    def sort(self) -> None:
        table = self.random.choice([self.bench.findings, self.bench.near_misses])
        table.sortByColumn(self.random.randrange(-1, 9), self.random.choice(list(Qt.SortOrder)))

    def colour(self) -> None:
        self.bench.overlays.set_colour_by(self.random.choice(["length", "strength", "", "log_nfa"]))

    def find(self) -> None:
        self.bench.actions_by_name["find"].trigger()
        self.bench.finder.field.setText(self.random.choice(["pane", "zoom", "qqq"]))
        QTest.keyClick(self.bench.finder.field, self.random.choice([Qt.Key.Key_Escape, Qt.Key.Key_Down]))
        self.bench.finder.put_away()

    def cancel(self) -> None:
        self.bench.status.cancel()

    def resize(self) -> None:
        self.bench.resize(self.random.randint(700, 1500), self.random.randint(500, 900))

    def theme(self) -> None:
        self.bench.appearance.toggle_theme()

    def step(self) -> None:
        self.bench.images.step(self.random.choice([-1, 1]))

    def range(self) -> None:
        frame = self.bench.active_frame
        frame.open_range()
        frame.card.take_percentiles(*self.random.choice([(0.0, 100.0), (10.0, 90.0)]))
        frame.card.hide()

    def type_value(self) -> None:
        fields = [e.field for e in self.plain_editors() if e.field is not None]
        if fields:
            field = self.random.choice(fields)
            field.setText(self.random.choice(["3", "-4", "abc", "", "12%", "1e400"]))
            field.editingFinished.emit()

    def link(self) -> None:
        self.bench.actions_by_name[self.random.choice(["link_zoom", "link_place", "link_cursor"])].trigger()

    def columns(self) -> None:
        self.bench.findings.show_column(self.random.choice(["length", "x", "peak"]), self.random.random() < 0.5)

    def expect(self) -> None:
        if self.bench.study.detector:
            self.bench.study.expect_count(self.bench.study.detector, self.random.choice([3, [1, 9], None]))

    def reopen(self) -> None:
        if self.random.random() < 0.2:
            self.close()
            self.bench = self.make()

    def close(self) -> None:
        close_for_good(self.bench)


class RandomActions(WindowCase):
    def test_five_hundred(self) -> None:
        (self.folder / "good").mkdir()
        for number, pixels in enumerate(noise_pictures(1, 200, 300).values()):
            marked = np.asarray(pixels, float)
            marked[40:120, 50:160] += 50
            Pillow.fromarray(np.clip(marked, 0, 255).astype(np.uint8)).save(self.folder / "good" / f"{number}.png")
        (self.folder / "broken.png").write_bytes(b"\x89PNG\r\n\x1a\nno")
        self.addCleanup(apply_theme, self.application, LIGHT)

        def bench() -> Bench:
            made = Bench(kept=self.folder / "unsaved")
            made.documents.ask_unsaved = lambda: QMessageBox.StandardButton.Discard
            made.show()
            return made

        before = {t.name for t in threading.enumerate()}
        monkey = Monkey(SEED, self.folder, bench)
        middle = 0.0
        for number in range(ACTIONS):
            monkey.act()
            self.assertEqual(self.errors, [], f"action {number}")
            # By then the kernels are loaded that the actions use: code stays.
            if number == (ACTIONS // 3 if ACTIONS <= 500 else 3 * ACTIONS // 4):
                middle = self._settled_memory(monkey.bench)
        after = self._settled_memory(monkey.bench)
        monkey.close()
        self.assertLess(after - middle, 50, "megabytes grown")
        self.assertGreater(len(monkey.done), 25)
        self.assertEqual(list((self.folder / "unsaved").glob("*")), [], "a window that closes leaves nothing unsaved")
        self.wait(lambda: not self._further(before), 10, f"the end of threads {self._further(before)}")

    @staticmethod
    def _further(before: set[str]) -> set[str]:
        return {t.name for t in threading.enumerate()} - before - {t.name for t in threading.enumerate() if "band" in t.name}

    def _settled_memory(self, bench: Bench) -> float:
        self.wait(lambda: not bench.busy and not bench.images.busy, 60, "a quiet bench")
        # The store of finished work is bounded and may fill: what is asked for here is what nobody can give back.
        bench.runner.engine.cache.clear()
        gc.collect()
        give_back_memory()
        return resident()


if __name__ == "__main__":
    unittest.main()
