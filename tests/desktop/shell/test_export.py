"""The export dialog: what, of which images, where; what is written over is shown first, and the choice is remembered."""

from __future__ import annotations

import csv
import unittest
from pathlib import Path

from PIL import Image as Pillow

from lucid_finch.desktop.shell.export_dialog import ExportDialog
from lucid_finch.pipeline.sinks import Outputs, planned_files, write_results
from tests.desktop.support import BenchCase
from tests.support import disc


class Export(BenchCase):
    def dialog(self) -> ExportDialog:
        bench = self.bench
        return ExportDialog(bench, bench.study.recipe, bench.exporter._places(), bench.preferences)

    def test_it_shows_what_would_be_written_over_and_remembers(self) -> None:
        Pillow.fromarray(disc(30.0, noise=2.0).pixels).save(self.folder / "a.png")
        self.bench.documents.open_path(self.folder / "a.png")
        self.settle()
        out = self.folder / "out"
        dialog = self.dialog()
        dialog.folder.setText(str(out))
        self.assertEqual((dialog.written_over(), dialog.write.text()), ([], "Export"))
        dialog.kinds["annotated"].setChecked(True)
        dialog.accept()
        self.bench.exporter.export_to(dialog.wish().folder, dialog.wish().outputs)
        self.settle()
        names = {p.name for p in out.iterdir()}
        self.assertEqual(names, {"a.png.findings.json", "a.png.edges.csv", "a.png.annotated.png"})
        again = self.dialog()
        self.assertEqual(Path(again.folder.text()), out)
        self.assertTrue(again.kinds["annotated"].isChecked())
        self.assertEqual(set(again.written_over()), names)
        self.assertIn("Replaces 3 files", again.about.text())
        for box in again.kinds.values():
            box.setChecked(False)
        self.assertFalse(again.write.isEnabled())

    def test_all_images_of_the_list(self) -> None:
        many = self.folder / "many"
        many.mkdir()
        for number in range(3):
            Pillow.fromarray(disc(20.0 + 4 * number, noise=2.0).pixels).save(many / f"{number}.png")
        self.bench.documents.open_path(many)
        self.settle()
        dialog = self.dialog()
        dialog.folder.setText(str(self.folder / "out"))
        dialog.all.setChecked(True)
        self.bench.exporter._export_all(dialog.wish())
        self.settle()
        self.assertEqual(len(list((self.folder / "out").glob("*.findings.json"))), 3)
        self.assertIn("summary.csv", dialog.written_over())
        with (self.folder / "out" / "summary.csv").open(newline="") as stream:
            self.assertEqual(len(list(csv.DictReader(stream))), 3)

    def test_planned_names_are_those_that_are_written(self) -> None:
        self.bench.study.add_detector("circles")
        self.bench.study.merge("edges", "circles", True)
        self.open(disc(30.0, noise=2.0))
        recipe = self.bench.study.recipe
        outputs = Outputs(("findings", "csv", "parquet", "svg", "annotated", "maps"))
        run = self.bench.runner.engine.run(recipe, self.bench.study.image)
        written = write_results(run, self.folder / "out", "x", None, outputs)
        self.assertEqual({path.name for path in written}, set(planned_files(recipe, "x", outputs)))


if __name__ == "__main__":
    unittest.main()
