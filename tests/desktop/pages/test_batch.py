"""A batch in the window: run, pause, stop and go on, what failed and what is weak first, histograms, a click opens the image."""

from __future__ import annotations

import csv
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from PIL import Image as Pillow

from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.inspection.margins import weakest_margin
from lucid_finch.core.recipe import Recipe
from tests.desktop.support import BenchCase
from tests.support import disc

RECIPE = {
    "lucid_finch_recipe": 2, "name": "discs", "detectors": [
        {"name": "discs", "kind": "circles", "parameters": {"radius": [9, 22]}, "expect": {"count": 1}},
    ],
}  # fmt: skip


class BatchCase(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        (self.root / "in").mkdir()
        # The last but one is close to the upper end of the radius; the last is no picture.
        for n, radius in enumerate((12.0, 13.0, 14.0, 15.0, 21.9)):
            Pillow.fromarray(disc(radius, noise=2.0, size=90).pixels).save(self.root / f"in/{n}.png")
        (self.root / "in/5.png").write_bytes(b"\x89PNG\r\n\x1a\nno")
        self.bench.study.open_recipe(Recipe.make(RECIPE), None)
        self.bench.documents.open_path(self.root / "in")
        self.wait(lambda: not self.bench.images.busy and not self.bench.busy)
        self.page = self.bench.drawer.batch
        self.page.folder.setText(str(self.root / "out"))
        self.bench.actions_by_name["batch"].trigger()

    def run_through(self) -> None:
        self.assertTrue(self.page.begin.isEnabled())
        self.page.begin.click()
        self.wait(lambda: not self.page.busy and not self.page._due.isActive())


class Running(BatchCase):
    def test_runs_lists_and_opens(self) -> None:
        self.run_through()
        self.assertEqual(self.page.report.done, 6)
        lines = self.page.model.lines
        self.assertEqual([line.name for line in lines[:2]], ["5.png", "4.png"])
        self.assertIn("damaged", lines[0].said)
        self.assertLess(lines[1].margin, 0.03)
        self.assertGreater(lines[-1].margin, lines[1].margin)
        self.assertRegex(self.page.said.text(), "6 of 6, 1 failed, done")
        with (self.root / "out/summary.csv").open() as stream:
            rows = list(csv.DictReader(stream))
        self.assertAlmostEqual(float(rows[4]["margin"]), lines[1].margin)
        self.page.column.setCurrentIndex(self.page.column.findData("discs.radius"))
        counts, ends = self.page.histogram()
        self.assertEqual(int(counts.sum()), 5)
        self.assertTrue(11 < ends[0] < 13 and 21 < ends[-1] < 23)
        self.assertIsNotNone(self.page.plot)
        self.page.table.clicked.emit(self.page.model.index(1, 0))
        self.settle()
        assert self.bench.study.image is not None
        self.assertEqual(self.bench.study.image.name, "4.png")

    def test_goes_on_with_what_is_missing(self) -> None:
        self.run_through()
        self.assertEqual(self.page.report.kept, 0)
        Pillow.fromarray(disc(16.0, noise=2.0, size=90).pixels).save(self.root / "in/5.png")
        self.run_through()
        self.assertEqual((self.page.report.kept, self.page.report.failed), (5, 0))
        self.assertIn("5 kept from before", self.page.said.text())

    def test_pause_and_stop(self) -> None:
        for n in range(6, 60):
            Pillow.fromarray(disc(12.0, noise=2.0, size=90).pixels).save(self.root / f"in/{n}.png")
        self.bench.documents.open_path(self.root / "in")
        self.wait(lambda: not self.bench.busy)
        self.page.begin.click()
        self.page.pause.click()
        self.assertTrue(self.page.paused)
        self.wait(lambda: self.page.report.done > 0)
        self.turns(40)
        done = self.page.report.done
        self.assertLess(done, 12)
        self.turns(40)
        self.assertEqual(self.page.report.done, done)
        self.assertIn("paused", self.page.said.text())
        self.page.cancel.click()
        self.wait(lambda: not self.page.busy)
        self.assertTrue((self.root / "out/summary.csv").exists())
        self.run_through()
        self.assertEqual(self.page.report.done, 60)
        self.assertGreater(self.page.report.kept, 0)

    def test_needs_a_folder(self) -> None:
        self.page.folder.setText(" ")
        self.page.start()
        self.assertIn("needs images in the list and a folder", self.bench.failure)


class Margins(BatchCase):
    def test_the_share_of_a_limit(self) -> None:
        recipe = Recipe.make(RECIPE)
        found = Engine().run(recipe, disc(21.9, noise=2.0, size=90)).detections["discs"]
        self.assertAlmostEqual(weakest_margin(found), (22.15 - float(found.findings["radius"][0])) / 22, delta=0.002)
        nothing = Engine().run(recipe, disc(30.0, contrast=0.0, size=90)).detections["discs"]
        self.assertTrue(np.isnan(weakest_margin(nothing)))
