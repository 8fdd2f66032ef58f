"""Nothing is lost: kept work after a crash, preferences, several windows, lists of images, pages of a file."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import tifffile
from PIL import Image as Pillow
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QMessageBox

from lucid_finch.core.errors import FileError
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import starter
from lucid_finch.demo import scene
from lucid_finch.desktop.pages import image_list
from lucid_finch.desktop.shell.application import close_on_interrupt
from lucid_finch.desktop.shell.window import Bench
from lucid_finch.desktop.study.autosave import Autosave
from lucid_finch.desktop.study.preferences import Preferences, PreferencesFile
from lucid_finch.desktop.study.study import SOURCE
from lucid_finch.files.recipes import Recipe
from lucid_finch.pipeline.sources import Place, images_in
from tests.desktop.support import BenchCase, WindowCase, close_for_good, two_squares
from tests.support import disc

_EDITING = """
import sys, time
from pathlib import Path
from PySide6.QtTest import QTest
from lucid_finch.desktop.shell.application import make_application
from lucid_finch.desktop.shell.window import Bench
make_application()
bench = Bench(kept=Path(sys.argv[1]))
bench.show()
number = 0
while True:
    number += 1
    bench.study.edit({"notes": f"{number} {time.time()}"}, "notes")
    print("edited", number, time.time(), flush=True)
    QTest.qWait(50)
"""


class Kept(WindowCase):
    def bench(self) -> Bench:
        made = Bench(kept=self.folder / "unsaved")
        made.documents.ask_unsaved = lambda: QMessageBox.StandardButton.Discard
        made.show()
        self.addCleanup(close_for_good, made)
        return made

    def test_a_killed_window_loses_at_most_the_last_second(self) -> None:
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
        process = subprocess.Popen(
            [sys.executable, "-c", _EDITING, str(self.folder / "unsaved")], stdout=subprocess.PIPE, text=True, env=environment
        )
        assert process.stdout is not None
        last = ""
        end = time.monotonic() + 60
        while time.monotonic() < end:
            last = process.stdout.readline()
            if last.startswith("edited") and int(last.split()[1]) >= 40:
                break
        process.send_signal(signal.SIGKILL)
        rest = process.stdout.read().splitlines()
        process.wait()
        process.stdout.close()
        killed = int((rest[-1] if rest and len(rest[-1].split()) == 3 else last).split()[1])
        left = Autosave(self.folder / "unsaved").leftovers()
        self.assertEqual(len(left), 1)
        # A second is 20 edits of 50 ms, however busy the machine is.
        self.assertGreater(int(left[0].recipe.notes.split()[0]), killed - 20)
        bench = self.bench()
        self.assertEqual(len(bench.documents.offer_recovery()), 1)
        self.assertTrue(bench.documents.recovery.isVisible())
        bench.documents.recover(left[0])
        self.assertFalse(bench.documents.recovery.isVisible())
        self.assertEqual(bench.study.recipe.notes, left[0].recipe.notes)
        self.assertTrue(bench.study.unsaved)
        self.assertEqual(bench.documents.autosave.leftovers(), [])

    def test_two_windows_keep_their_own(self) -> None:
        first, second = self.bench(), self.bench()
        for number, bench in enumerate((first, second)):
            bench.study.edit({"notes": f"window {number}"}, "notes")
        self.wait(lambda: len(list((self.folder / "unsaved").glob("*.json"))) == 2, 10, "two files")
        self.assertEqual(first.documents.autosave.leftovers(), [])
        self.assertEqual(self.bench().documents.offer_recovery(), [])
        first.study.undo.undo()
        self.wait(lambda: len(list((self.folder / "unsaved").glob("*.json"))) == 1, 10, "nothing unsaved in the first")

    def test_saving_and_closing_leave_nothing(self) -> None:
        bench = self.bench()
        bench.study.edit({"notes": "x"}, "notes")
        self.wait(lambda: list((self.folder / "unsaved").glob("*.json")), 10, "the kept file")
        bench.documents.save_to(self.folder / "r.finch.json")
        self.wait(lambda: not list((self.folder / "unsaved").glob("*.json")), 10, "no kept file")
        bench.study.edit({"notes": "y"}, "notes")
        bench.close()
        self.assertEqual(list((self.folder / "unsaved").glob("*")), [])

    def test_what_cannot_be_read_is_passed_over(self) -> None:
        folder = self.folder / "unsaved"
        folder.mkdir()
        (folder / "1-0.json").write_text("{not json")
        (folder / "2-0.json").write_text('{"version": 1, "saved": 1, "recipe": {"lucid_finch_recipe": 99}}')
        with self.assertLogs("lucid_finch.desktop.study.autosave", "WARNING"):
            self.assertEqual(Autosave(folder).leftovers(), [])

    def test_recovering_goes_back_to_the_image_and_file(self) -> None:
        Pillow.fromarray(disc(30.0, noise=2.0).pixels).save(self.folder / "disc.png")
        Recipe.make(starter()).save(self.folder / "r.finch.json")
        crashed = Autosave(self.folder / "unsaved")
        changed = Recipe.make({**Recipe.make(starter()).plain(), "notes": "changed"})
        crashed.write(changed, self.folder / "r.finch.json", self.folder / "disc.png")
        crashed._lock.close()
        bench = self.bench()
        bench.documents.recover(bench.documents.offer_recovery()[0])
        self.wait(lambda: bench.study.image is not None and not bench.busy, 60)
        self.assertEqual((bench.study.recipe.notes, bench.study.recipe_path), ("changed", self.folder / "r.finch.json"))
        self.assertTrue(bench.study.unsaved)

    def test_recovering_draws_a_scene_of_the_demo_again(self) -> None:
        crashed = Autosave(self.folder / "unsaved")
        crashed.write(Recipe.make(starter()), None, None, replace(disc(30.0), name="glaze_swatches.png"))
        crashed._lock.close()
        bench = self.bench()
        bench.documents.recover(bench.documents.offer_recovery()[0])
        self.wait(lambda: bench.study.image is not None and not bench.busy, 60)
        self.assertEqual(bench.study.image.width, 1200)

    def test_several_crashed_windows_are_listed_until_answered(self) -> None:
        image = disc(30.0, noise=2.0)
        for number in range(3):
            crashed = Autosave(self.folder / "unsaved")
            recipe = Recipe.make({**Recipe.make(starter()).plain(), "name": f"work {number}"})
            crashed.write(recipe, None, self.folder / "disc.png", image)
            crashed._lock.close()
        bench = self.bench()
        left = bench.documents.offer_recovery()
        self.assertEqual({one.recipe.name for one in left}, {"work 0", "work 1", "work 2"})
        self.assertTrue(all(one.thumbnail.startswith(b"\x89PNG") for one in left))
        dialog = bench.documents.recovery
        self.assertEqual(len(dialog.rows), 3)
        dialog.ask_discard = lambda leftover: False
        dialog.discard(left[0])
        self.assertEqual((len(dialog.rows), len(bench.documents.autosave.leftovers())), (3, 3))
        bench.study.open_image(image, None)
        self.assertTrue(dialog.isVisible(), "opening an image hides the offer")
        dialog.ask_discard = lambda leftover: True
        dialog.discard(left[0])
        self.assertEqual((len(dialog.rows), len(bench.documents.autosave.leftovers())), (2, 2))
        dialog.close()
        self.assertEqual(len(self.bench().documents.offer_recovery()), 2)

    def test_dropping_a_file_copies(self) -> None:
        Pillow.fromarray(disc(30.0, noise=2.0).pixels).save(self.folder / "disc.png")
        bench = self.bench()
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(self.folder / "disc.png"))])
        actions = Qt.DropAction.MoveAction | Qt.DropAction.CopyAction
        event = QDropEvent(QPointF(9, 9), actions, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        event.setDropAction(Qt.DropAction.MoveAction)
        bench.dropEvent(event)
        self.assertEqual(event.dropAction(), Qt.DropAction.CopyAction)
        self.wait(lambda: bench.study.image is not None and not bench.busy, 60)


class Remembered(WindowCase):
    def test_preferences_come_back(self) -> None:
        file = PreferencesFile(self.folder / "p.json")
        bench = Bench(file)
        bench.show()
        bench.stages.set_panes(4)
        bench.preferences.remember(self.folder / "a.png")
        bench.resize(850, 700)
        close_for_good(bench)
        again = Bench(PreferencesFile(self.folder / "p.json"))
        again.show()
        self.assertEqual(again.panes.count, 4)
        self.assertAlmostEqual(again.width(), 850, delta=20)
        self.assertAlmostEqual(again.height(), 700, delta=20)
        again.recent_menu.aboutToShow.emit()
        self.assertTrue(again.recent_menu.actions()[0].text().endswith("a.png"))
        close_for_good(again)

    def test_a_file_of_a_newer_version_is_left_alone(self) -> None:
        path = self.folder / "p.json"
        path.write_text('{"version": 99, "theme": "sepia"}')
        file = PreferencesFile(path)
        self.assertEqual(file.load(), Preferences())
        file.save(Preferences(theme="dark"))
        self.assertIn("sepia", path.read_text())

    def test_a_damaged_file_costs_only_the_defaults(self) -> None:
        path = self.folder / "p.json"
        path.write_text('{"version": 1, "text_scale": "huge"}')
        with self.assertLogs("lucid_finch.desktop.study.preferences", "WARNING"):
            self.assertEqual(PreferencesFile(path).load(), Preferences())

    def test_larger_text(self) -> None:
        bench = Bench()
        bench.show()
        before = self.application.font().pointSizeF()
        bench.appearance.scale_text(1.2)
        self.assertAlmostEqual(self.application.font().pointSizeF(), 1.2 * before, delta=0.1)
        bench.grab()
        bench.appearance.scale_text(1 / 1.2)
        self.assertAlmostEqual(self.application.font().pointSizeF(), before, delta=0.1)
        close_for_good(bench)


class Started(WindowCase):
    def test_an_interrupt_closes_the_window_after_what_is_being_done(self) -> None:
        bench = Bench()
        bench.show()
        before = signal.getsignal(signal.SIGINT)
        self.addCleanup(signal.signal, signal.SIGINT, before)
        close_on_interrupt(bench)
        os.kill(os.getpid(), signal.SIGINT)
        time.sleep(0.05)
        # Python has run the handler by now, as it may while something is drawn.
        self.assertTrue(bench.isVisible())
        self.wait(lambda: not bench.isVisible(), 10, "the window closes")
        close_for_good(bench)

    def test_the_application_starts_opens_and_ends_as_it_should(self) -> None:
        Pillow.fromarray(disc(30.0, noise=2.0).pixels).save(self.folder / "disc.png")
        environment = {
            **os.environ, "QT_QPA_PLATFORM": "offscreen",
            **{f"XDG_{what}_HOME": str(self.folder / what.lower()) for what in ("STATE", "CONFIG")},
        }  # fmt: skip
        process = subprocess.Popen(
            [sys.executable, "-m", "lucid_finch", "open", str(self.folder / "disc.png")], env=environment, stderr=subprocess.PIPE
        )
        preferences = self.folder / "config" / "lucid-finch" / "preferences.json"
        self.wait(lambda: preferences.exists() or process.poll() is not None, 60, "the image among the recent ones")
        time.sleep(1.0)
        process.send_signal(signal.SIGINT)
        _, said = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 0, said)
        self.assertNotIn(b"Traceback", said)
        kept = Preferences.model_validate_json(preferences.read_text())
        self.assertTrue(kept.recent[0].endswith("disc.png"))
        self.assertTrue(kept.geometry)
        self.assertEqual((self.folder / "state" / "lucid-finch" / "crash.log").read_text(), "")


class Lists(BenchCase):
    def images(self, count: int = 4) -> Path:
        folder = self.folder / "images"
        folder.mkdir()
        for number in range(1, count + 1):
            picture = disc(20.0 + number, noise=2.0).pixels if number != 3 else np.full((100, 120), 90, np.uint8)
            Pillow.fromarray(picture).save(folder / f"img{number * 5}.png")
        (folder / "notes.md").write_text("no image")
        return folder

    def wait_for_list(self) -> None:
        self.wait(lambda: not self.bench.busy and not self.bench.images.busy, 60, "all images")

    def test_a_folder_runs_the_same_recipe_on_each(self) -> None:
        self.bench.study.expect_count("edges", 1)
        self.bench.documents.open_path(self.images())
        self.wait_for_list()
        entries = self.bench.images.entries
        self.assertEqual([e.label for e in entries], ["img5.png", "img10.png", "img15.png", "img20.png"])
        self.assertEqual([e.result.counts for e in entries], [(1,), (1,), (0,), (1,)])
        self.assertTrue(all(e.thumbnail is not None for e in entries))
        self.assertEqual([e.is_wrong for e in entries], [False, False, True, False])
        self.assertIn("1 not as expected", self.bench.images.said.text())
        self.assertEqual(self.bench.bar.place.text(), "1 / 4")
        self.bench.actions_by_name["next_image"].trigger()
        self.settle()
        self.assertEqual(self.bench.study.image.name, "img10.png")
        self.bench.images.next_wrong.click()
        self.settle()
        self.assertEqual(self.bench.study.image.name, "img15.png")
        self.assertEqual(self.bench.bar.place.text(), "3 / 4")
        self.bench.drawer.setCurrentWidget(self.bench.images)
        self.bench.grab()

    def test_a_changed_recipe_is_run_on_all_again(self) -> None:
        self.bench.documents.open_path(self.images(2))
        self.wait_for_list()
        self.bench.settings.editors["", "false_alarms"].edited.emit("false_alarms", 1e-300, False)
        self.wait_for_list()
        self.assertEqual([e.result.counts for e in self.bench.images.entries], [(0,), (0,)])

    def test_a_recipe_that_comes_back_is_not_run_again(self) -> None:
        self.bench.documents.open_path(self.images(2))
        self.wait_for_list()
        before = [e.result for e in self.bench.images.entries]
        self.bench.settings.editors["", "false_alarms"].edited.emit("false_alarms", 1e-300, False)
        self.wait_for_list()
        self.assertEqual([e.result.counts for e in self.bench.images.entries], [(0,), (0,)])
        with mock.patch.object(image_list, "run_images", side_effect=AssertionError("run again")):
            self.bench.study.undo.undo()
            self.wait_for_list()
        self.assertEqual([e.result for e in self.bench.images.entries], before)

    def test_an_image_that_cannot_be_read_leaves_nothing_of_the_one_before(self) -> None:
        folder = self.images(2)
        (folder / "img7.png").write_bytes(b"\x89PNG\r\n\x1a\nno")
        self.bench.documents.open_path(folder)
        self.wait_for_list()
        self.assertEqual(self.bench.study.image.name, "img5.png")
        self.bench.actions_by_name["next_image"].trigger()
        self.settle()
        self.assertIsNone(self.bench.study.image)
        self.assertEqual(self.bench.study.detections, {})
        self.assertTrue(self.bench.empty.isVisible())
        self.assertEqual(self.bench.empty.labels[0].text(), "img7.png cannot be read")
        self.assertNotIn("img5", self.bench.bar.image_name.text())
        self.assertEqual(self.bench.settings.editors["", "low"].field.placeholderText(), "auto")
        self.assertEqual(self.bench.bar.place.text(), "2 / 3")
        self.bench.grab()
        self.bench.actions_by_name["next_image"].trigger()
        self.settle()
        self.assertEqual(self.bench.study.image.name, "img10.png")
        self.assertFalse(self.bench.empty.isVisible())
        self.assertEqual(len(self.bench.study.detections["edges"].findings), 1)

    def test_a_damaged_image_is_marked_and_the_others_go_on(self) -> None:
        folder = self.images(2)
        (folder / "img7.png").write_bytes(b"\x89PNG\r\n\x1a\nno")
        self.bench.documents.open_path(folder)
        self.wait_for_list()
        self.assertEqual([bool(e.result.failure) for e in self.bench.images.entries], [False, True, False])
        (self.folder / "empty").mkdir()
        self.bench.documents.open_path(self.folder / "empty")
        self.assertIn("holds no image", self.bench.failure)
        self.assertEqual(len(self.bench.images.entries), 3)

    def test_pages_of_a_file(self) -> None:
        path = self.folder / "stack.tif"
        tifffile.imwrite(path, np.stack([disc(20.0 + 5 * n, noise=2.0).pixels for n in range(3)]), photometric="minisblack")
        self.assertEqual(images_in([path]), [Place(path, name="stack.tif")])
        self.bench.documents.open_path(path)
        self.wait(lambda: self.bench.images.entries, 60, "the pictures of the file")
        self.wait_for_list()
        self.assertEqual([e.place for e in self.bench.images.entries], [Place(path, 0), Place(path, 1), Place(path, 2)])
        self.assertEqual(self.bench.bar.place.text(), "1 / 3")
        self.assertEqual(self.bench.study.image.pages, 3)
        self.bench.study.choose(SOURCE)
        self.bench.settings.page_wanted.emit(2)
        self.wait_for_list()
        self.assertEqual(self.bench.study.image.page, 2)
        self.assertIn("picture 3 of 3", self.bench.bar.image_name.text())
        self.settle()
        self.assertAlmostEqual(float(self.bench.study.detection.findings["length"][0]), 2 * np.pi * 30, delta=6)
        self.bench.exporter.export_to(self.folder / "out")
        self.wait(lambda: self.bench.notice.isVisible())
        document = json.loads(next((self.folder / "out").glob("*.findings.json")).read_text())
        self.assertEqual(document["image"]["page"], 2)

    def test_another_window_has_its_own_bench(self) -> None:
        self.open(two_squares())
        other = self.bench.open_another()
        self.assertIsNone(other.study.image)
        self.assertEqual(other.study.recipe, Recipe.make(starter()))
        close_for_good(other)
        self.assertIsNotNone(self.bench.study.image)


class WhileReading(BenchCase):
    """An image takes its time to come; what is done meanwhile does not lose it."""

    def setUp(self) -> None:
        super().setUp()
        self.open(disc(30.0, noise=2.0))
        self.study = self.bench.study
        self.study.add_detector("edges")
        self.settle()
        self.let_go = threading.Event()
        self.addCleanup(self.let_go.set)

    def _slow(self, radius: float) -> Any:
        def make() -> Image:
            self.let_go.wait(30)
            return disc(radius, noise=2.0)

        return make

    def test_limits_and_smoothing_are_changed_and_it_still_comes(self) -> None:
        self.bench.documents.submit_image(self._slow(45.0), "reading")
        name = self.study.recipe.detectors[0].name
        before = self.study.image
        for values in ({"sigma": 2.0}, {"length_min": 20.0}, {"sigma": 1.7}):
            self.study.edit_detector(name, values, next(iter(values)))
            self.turns()
        self.assertIs(self.study.image, before)
        self.let_go.set()
        self.settle()
        self.assertIsNot(self.study.image, before)
        self.assertIs(self.study.detections[name].task.image.pixels.base, self.study.image.pixels.base)
        self.assertEqual(self.study.detections[name].task.parameters.sigma, 1.7)

    def test_the_last_of_several_comes(self) -> None:
        self.bench.documents.submit_image(self._slow(45.0), "one")
        self.bench.documents.submit_image(lambda: disc(20.0, noise=0.0), "other")
        self.let_go.set()
        self.settle()
        self.assertEqual(self.study.image.pixels.tobytes(), disc(20.0, noise=0.0).pixels.tobytes())

    def test_where_none_comes_the_changes_concern_the_one_that_is_there(self) -> None:
        name = self.study.recipe.detectors[0].name

        def broken() -> Image:
            self.let_go.wait(30)
            raise FileError("nowhere.png", "is not there")

        for cancelled in (False, True):
            self.let_go.clear()
            sigma = 2.5 if cancelled else 1.9
            self.bench.documents.submit_image(self._slow(45.0) if cancelled else broken, "reading")
            before = self.study.image
            self.study.edit_detector(name, {"sigma": sigma}, "sigma")
            self.turns()
            if cancelled:
                self.bench.worker.cancel_all()
            self.let_go.set()
            self.settle()
            self.wait(lambda s=sigma: self.study.detections[name].task.parameters.sigma == s, what="an answer")
            self.assertIs(self.study.image, before)

    def test_a_demo_takes_the_place_of_another(self) -> None:
        for name, kind in (("cutouts", "contours"), ("pierced_screen", "circles"), ("tile_panel", "edges")):
            self.bench.documents.open_demo(name)
            self.settle()
            np.testing.assert_array_equal(self.study.image.pixels, scene(name).image.pixels)
            self.assertEqual(self.study.recipe.detectors[0].kind, kind)
            self.assertEqual(self.study.detections[self.study.recipe.detectors[0].name].kind, kind)


if __name__ == "__main__":
    unittest.main()
