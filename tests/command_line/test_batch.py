"""Batches on the command line: outputs, several processes, pages, folders in folders, lines of JSON, pipes, other recipes."""

from __future__ import annotations

import csv
import io
import json
import os
import subprocess
import sys
import threading
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import tifffile
from PIL import Image as Pillow

from lucid_finch.command_line import batch
from tests.command_line.test_main import CommandCase
from tests.support import disc


class BatchCase(CommandCase):
    def pictures(self, *names: str) -> None:
        for number, name in enumerate(names):
            self.path(name).parent.mkdir(parents=True, exist_ok=True)
            Pillow.fromarray(disc(20.0 + 2 * number, noise=2.0).pixels).save(self.path(name))

    def written(self, folder: str) -> dict[str, bytes]:
        root = self.path(folder)
        return {str(p.relative_to(root)): p.read_bytes() for p in sorted(root.rglob("*")) if p.is_file()}


class Outputs(BatchCase):
    def test_only_what_is_asked_for(self) -> None:
        for outputs, expected in (
            (None, {"disc.png.findings.json", "disc.png.rim.csv"}),
            ("svg, annotated", {"disc.png.svg", "disc.png.annotated.png"}),
            ("parquet", {"disc.png.rim.parquet"}),
        ):
            out = self.path(f"out-{outputs}")
            extra = [] if outputs is None else ["--outputs", outputs]
            status, _, said = self.call("run", self.recipe(), self.picture, "--out", out, *extra)
            self.assertEqual(status, 0, said)
            self.assertEqual({p.name for p in out.iterdir()}, expected | {"summary.csv", "run.journal"})
            (row,) = self.summary(out)
            self.assertEqual(set(row["results"].split(" | ")), expected)

    def test_names_do_not_depend_on_what_lies_beside(self) -> None:
        self.pictures("many/a.png", "many/a.bmp", "many/in/a.png", "other/a.png")
        alone, together = self.path("alone"), self.path("together")
        self.assertEqual(self.call("run", self.recipe(), self.path("many/a.png"), "--out", alone)[0], 0)
        self.assertEqual(self.call("run", self.recipe(), self.path("many"), "--recursive", "--out", together)[0], 0)
        found = {str(p.relative_to(together)) for p in together.rglob("*.findings.json")}
        self.assertEqual(found, {"a.png.findings.json", "a.bmp.findings.json", "in/a.png.findings.json"})
        self.assertEqual([p.name for p in alone.glob("*.findings.json")], ["a.png.findings.json"])
        both = self.path("both")
        arguments = [self.path("many/a.png"), self.path("other/a.png"), self.path("other/a.png")]
        self.assertEqual(self.call("run", self.recipe(), *arguments, "--out", both)[0], 0)
        found = {str(p.relative_to(both)) for p in both.rglob("*.findings.json")}
        self.assertEqual(found, {"many/a.png.findings.json", "other/a.png.findings.json"})

    def test_results_in_the_folder_of_the_images_are_no_inputs(self) -> None:
        self.pictures("many/a.png", "many/in/b.png")
        for outputs in ("annotated", "maps", "svg", "annotated,maps"):
            out = self.path("many")
            arguments = ("--recursive", "--out", out, "--outputs", outputs)
            status, _, said = self.call("run", self.recipe(), out, *arguments)
            self.assertEqual((status, len(self.summary(out))), (0, 2), said)

    def test_results_of_another_recipe_stay(self) -> None:
        out, other = self.path("out"), self.path("other.finch.json")
        self.assertEqual(self.call("run", self.recipe(), self.picture, "--out", out)[0], 0)
        before = self.written("out")
        other.write_text('{"lucid_finch_recipe": 2, "name": "other", "detectors": [{"name": "lines", "kind": "lines"}]}')
        status, _, said = self.call("run", other, self.picture, "--out", out)
        self.assertEqual(status, 2, said)
        self.assertIn("holds results of the recipe", said)
        self.assertEqual(self.written("out"), before)
        status, _, said = self.call("detect", "edges", self.picture, "--out", out)
        self.assertEqual(status, 2, said)
        self.assertEqual(self.written("out"), before)
        self.assertEqual(self.call("run", other, self.picture, "--out", out, "--overwrite")[0], 0)


class Jobs(BatchCase):
    def test_the_same_bytes_for_any_number_of_processes(self) -> None:
        self.pictures(*(f"many/img{number}.png" for number in range(5)))
        self.path("many/img2.png").write_bytes(b"\x89PNG\r\n\x1a\nno")
        found = []
        for jobs in (1, 2):
            out = self.path(f"out{jobs}")
            status, _, said = self.call("run", self.recipe(), self.path("many"), "--out", out, "--jobs", jobs)
            self.assertEqual(status, 1, said)
            files = self.written(f"out{jobs}")
            rows = list(csv.DictReader(io.StringIO(files.pop("summary.csv").decode())))
            for row in rows:
                row.pop("seconds")
            documents = {name: json.loads(data) for name, data in files.items() if name.endswith(".json")}
            for document in documents.values():
                for detection in document["detections"]:
                    detection.pop("seconds")
            tables = {name: data for name, data in files.items() if name.endswith(".csv")}
            found.append((rows, documents, tables))
        self.assertEqual(found[0], found[1])
        self.assertEqual([bool(row["error"]) for row in found[0][0]], [False, False, True, False, False])

    def test_a_process_that_dies_takes_only_its_image_with_it(self) -> None:
        self.pictures(*(f"many/img{number}.png" for number in range(4)))
        # A module that is imported in the worker processes only, where it ends the one that reads img1.
        self.path("sitecustomize.py").write_text(
            "import os, multiprocessing\n"
            "import lucid_finch.pipeline.sources as sources\n"
            "read = sources.Place.read\n"
            "def die(self, *given):\n"
            "    if self.path.name == 'img1.png': os._exit(9)\n"
            "    return read(self, *given)\n"
            "sources.Place.read = die\n"
        )
        environment = {**os.environ, "PYTHONPATH": str(self.folder)}
        command = [sys.executable, "-m", "lucid_finch", "run", str(self.recipe()), str(self.path("many"))]
        command += ["--out", str(self.path("out")), "--jobs", "2"]
        done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=120)
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("img1.png: the process that worked on it died", done.stderr)
        rows = self.summary(self.path("out"))
        self.assertEqual([bool(row["error"]) for row in rows], [False, True, False, False])


class Sources(BatchCase):
    def test_pages(self) -> None:
        stack = np.stack([disc(20.0 + 4 * k, noise=2.0).pixels for k in range(3)])
        tifffile.imwrite(self.path("stack.tif"), stack, photometric="minisblack")
        out = self.path("out")
        self.assertEqual(self.call("run", self.recipe(), self.path("stack.tif"), "--out", out, "--page", "all")[0], 0)
        names = sorted(p.name for p in out.glob("*.findings.json"))
        expected = ["stack.tif.findings.json", "stack.tif.page-1.findings.json", "stack.tif.page-2.findings.json"]
        self.assertEqual(names, expected)
        self.assertEqual([row["page"] for row in self.summary(out)], ["0", "1", "2"])
        status, shown, _ = self.call("detect", "circles", self.path("stack.tif"), "--page", 2, "--json", "-")
        self.assertEqual(status, 0)
        self.assertAlmostEqual(json.loads(shown)["detections"][0]["findings"][0]["radius"], 28.0, delta=0.1)
        status, _, _ = self.call("run", self.recipe(), self.path("stack.tif"), "--out", out, "--page", "first")
        self.assertEqual(status, 2)

    def test_lines_of_json(self) -> None:
        self.pictures("many/a.png", "many/b.png")
        status, shown, _ = self.call("run", self.recipe(), self.path("many"), "--json-lines", "-")
        self.assertEqual(status, 0)
        documents = [json.loads(line) for line in shown.splitlines()]
        self.assertEqual([Path(d["image"]["path"]).name for d in documents], ["a.png", "b.png"])
        self.assertEqual(self.call("run", self.recipe(), self.path("many"), "--json-lines", self.path("all.jsonl"))[0], 0)
        self.assertEqual(len(self.path("all.jsonl").read_text().splitlines()), 2)

    def test_lines_and_summary_write_over_no_input(self) -> None:
        self.path("summary.csv").write_text("1,2\n3,4\n")
        for name, arguments in (
            ("disc.png", (self.picture, "--json-lines", self.picture)),
            ("summary.csv", (self.path("summary.csv"), "--out", self.folder)),
        ):
            before = self.path(name).read_bytes()
            status, _, said = self.call("run", self.recipe(), *arguments)
            self.assertNotEqual(status, 0)
            self.assertIn("is an input and is not written over", said)
            self.assertEqual(self.path(name).read_bytes(), before)

    def test_standard_input_and_pipes(self) -> None:
        command = [sys.executable, "-m", "lucid_finch", "detect", "circles", "-", "--json", "-"]
        data = self.picture.read_bytes()
        piped = subprocess.run(command, input=data, capture_output=True, timeout=120)
        self.assertEqual(piped.returncode, 0, piped.stderr)
        (found,) = json.loads(piped.stdout)["detections"]
        self.assertEqual(len(found["findings"]), 1)
        pipe = self.path("pipe")
        os.mkfifo(pipe)
        writer = threading.Thread(target=lambda: pipe.write_bytes(data))
        writer.start()
        status, _, said = self.call("detect", "circles", pipe, "--out", self.path("out"))
        writer.join(20)
        self.assertEqual(status, 0, said)
        written = json.loads((self.path("out") / "pipe.findings.json").read_text())
        self.assertEqual(written["detections"][0]["findings"], found["findings"])
        crop = ["prepare", "crop", "-", "--region", "1,1,2,2", "--out", str(self.path("c.npy"))]
        rows = subprocess.run(
            [sys.executable, "-m", "lucid_finch", *crop],
            input=b"1,2,3\n4,5,6\n7,8,9\n", capture_output=True, timeout=120,
        )  # fmt: skip
        self.assertEqual(rows.returncode, 0, rows.stderr)

    def test_short_regions(self) -> None:
        found = []
        for region in ("80,80,100,60,15", '{"shape": "rectangle", "x": 80, "y": 80, "width": 100, "height": 60, "angle": 15}'):
            status, shown, said = self.call("detect", "edges", self.picture, "--region", region, "--json", "-")
            self.assertEqual(status, 0, said)
            found.append(json.loads(shown)["detections"][0]["findings"])
        self.assertEqual(found[0], found[1])
        self.assertTrue(found[0])
        status, _, said = self.call("detect", "edges", self.picture, "--region", "1,2,3")
        self.assertEqual(status, 2)
        self.assertIn("region", said)


class Progress(BatchCase):
    def test_lines_now_and_then_without_a_terminal(self) -> None:
        self.pictures(*(f"many/img{number}.png" for number in range(3)))
        with mock.patch.object(batch, "_EVERY", 0.0):
            status, _, said = self.call("run", self.recipe(), self.path("many"), "--out", self.path("out"))
        self.assertEqual(status, 0)
        self.assertRegex(said, r"1 of 3 images, about \d+ s left")
        self.assertIn("3 of 3 images done", said)


if __name__ == "__main__":
    unittest.main()
