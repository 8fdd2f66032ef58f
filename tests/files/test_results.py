"""Writing findings, overlays, annotated pictures and maps; nothing half-written is left."""

from __future__ import annotations

import csv
import json
import os
import pickle
import re
import unittest
import xml.etree.ElementTree as ElementTree
from typing import Any
from unittest import mock

import numpy as np
import tifffile
from PIL import Image as Pillow

import lucid_finch as lf
from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.files.annotated import MarkStyle, annotated_picture
from lucid_finch.files.writing import Inputs, inputs_kept, whole_file, write_text
from tests.files.test_images import InFolder
from tests.support import disc


def run_on(image: Image, **parameters: Any) -> lf.Run:
    entry = {"name": "rim", "kind": "edges", "parameters": parameters, "expect": {"count": 1}}
    recipe = lf.Recipe.make({"lucid_finch_recipe": 1, "name": "disc", "detectors": [entry]})
    return lf.run(recipe, image)


class Whole(InFolder):
    def test_a_failure_leaves_the_old_file_and_nothing_else(self) -> None:
        path = self.path("a.txt", b"old")
        with self.assertRaises(ZeroDivisionError), whole_file(path, text=True) as stream:
            stream.write("half")
            _ = 1 // 0
        self.assertEqual(path.read_text(), "old")
        self.assertEqual([p.name for p in self.folder.iterdir()], ["a.txt"])

    def test_a_full_disk_is_a_clear_error(self) -> None:
        path = self.path("a.txt", b"old")
        full = mock.patch("os.fsync", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaisesRegex(FileError, "a.txt: cannot be written: No space left"):
            write_text(path, "new")
        self.assertEqual(path.read_text(), "old")
        self.assertEqual(len(list(self.folder.iterdir())), 1)

    def test_folders_are_made(self) -> None:
        write_text(self.path("new/deep/a.txt"), "x")
        self.assertEqual(self.path("new/deep/a.txt").read_text(), "x")
        with self.assertRaisesRegex(FileError, "cannot be written"):
            write_text(self.path("new/deep/a.txt/b.txt"), "x")


class Findings(InFolder):
    def test_json_says_everything(self) -> None:
        run = run_on(disc(40.0, noise=2.0))
        path = self.path("d.findings.json")
        lf.write_findings(path, run)
        document = json.loads(path.read_text("utf-8"))
        self.assertEqual(document["lucid_finch_findings"], 1)
        self.assertEqual((document["image"]["width"], document["image"]["height"]), (160, 160))
        self.assertEqual(document["recipe"]["sha256"], run.recipe.sha256)
        self.assertGreater(document["recipe"]["resolved"]["rim"]["low"], 0.5)
        detection = document["detections"][0]
        self.assertEqual((detection["detector"], detection["kind"], detection["units"]["x"]), ("rim", "edges", "px"))
        found = run.detections["rim"]
        self.assertEqual(len(detection["findings"]), len(found.findings))
        self.assertEqual(list(detection["findings"][0])[:3], ["id", "rank", "x"])
        np.testing.assert_allclose(detection["points"]["x"], found.points["x"], atol=1e-4)
        self.assertEqual(detection["expected"], {"count": 1})
        self.assertIn("numba", document["versions"])

    def test_same_bytes_but_for_the_seconds(self) -> None:
        texts = []
        for number in range(2):
            path = self.path(f"{number}.json")
            lf.write_findings(path, run_on(disc(40.0, noise=2.0)))
            texts.append(re.sub(r'"seconds": [\d.]+', "", path.read_text("utf-8")))
        self.assertEqual(texts[0], texts[1])

    def test_csv(self) -> None:
        run = run_on(disc(40.0, noise=2.0))
        path = self.path("d.csv")
        lf.write_csv(path, run.detections["rim"].findings)
        with path.open(newline="") as stream:
            rows = list(csv.DictReader(stream))
        self.assertAlmostEqual(float(rows[0]["length"]), float(run.detections["rim"].findings["length"][0]), places=3)

    def test_svg_lies_on_the_image(self) -> None:
        run = run_on(disc(40.0))
        path = self.path("d.svg")
        lf.write_svg(path, run)
        root = ElementTree.fromstring(path.read_text("utf-8"))
        self.assertEqual(root.attrib["viewBox"], "-0.5 -0.5 160 160")
        name = "{http://www.w3.org/2000/svg}"
        image = root.find(f"{name}image")
        assert image is not None
        self.assertEqual([image.attrib[k] for k in ("x", "y", "width", "height")], ["-0.5", "-0.5", "160", "160"])
        paths = root.findall(f".//{name}path")
        numbers = np.array(re.findall(r"-?\d+\.\d+", paths[0].attrib["d"]), float).reshape(-1, 2)
        np.testing.assert_allclose(np.hypot(*(numbers - 79.5).T), 40, atol=0.3)
        self.assertTrue(paths[0].attrib["d"].endswith("Z"))

    def test_annotated_pictures_have_marks_where_they_belong(self) -> None:
        run = run_on(disc(40.0))
        picture = np.asarray(annotated_picture(run, MarkStyle(colour="#ff0000", numbers=False))).astype(int)
        factor = picture.shape[0] // 160
        self.assertGreaterEqual(picture.shape[0], 640)
        red = (picture[..., 0] - picture[..., 1]) > 90
        y, x = np.nonzero(red)
        radius = np.hypot((x + 0.5) / factor - 0.5 - 79.5, (y + 0.5) / factor - 0.5 - 79.5)
        self.assertAlmostEqual(radius.mean(), 40, delta=0.15)
        self.assertLess(np.abs(radius - 40).max(), 2)
        numbered = np.asarray(annotated_picture(run, MarkStyle(colour="#ff0000"))).astype(int)
        self.assertGreater(np.abs(numbered - picture).sum(), 0)
        lf.write_annotated(self.path("a.png"), run, MarkStyle(colour_by="length"))
        with Pillow.open(self.path("a.png")) as written:
            self.assertEqual(written.size, (640, 640))
        with self.assertRaisesRegex(ParameterError, "colour_by.*did you mean"):
            lf.write_annotated(self.path("b.png"), run, MarkStyle(colour_by="lenght"))


class Maps(InFolder):
    def test_png_tiff_and_npy(self) -> None:
        found = lf.detect("edges", disc(40.0))
        signed = found.evidence["gradient_x"]
        signed.save(self.path("g.npy"))
        np.testing.assert_array_equal(np.load(self.path("g.npy")), signed.values)
        signed.save(self.path("g.tif"))
        np.testing.assert_array_equal(tifffile.imread(self.path("g.tif")), signed.values)
        signed.save(self.path("g.png"))
        about = json.loads(self.path("g.png.json").read_text())
        self.assertEqual(about["black"], -about["white"])
        self.assertEqual(about["unit"], "grey/px")
        with Pillow.open(self.path("g.png")) as picture:
            self.assertEqual((picture.size, picture.mode), ((160, 160), "RGB"))
        found.evidence["edges"].save(self.path("e.png"))
        with Pillow.open(self.path("e.png")) as picture:
            self.assertEqual(set(np.unique(np.asarray(picture))), {0, 255})
        with self.assertRaisesRegex(FileError, "maps are written as"):
            signed.save(self.path("g.bmp"))

    def test_images(self) -> None:
        image = disc(20.0)
        lf.write_image(self.path("a.png"), image)
        np.testing.assert_array_equal(lf.read_image(self.path("a.png")).pixels, image.pixels)
        smooth = lf.prepare("smooth", image, sigma=2.0)
        lf.write_image(self.path("s.png"), smooth)
        written = np.asarray(Pillow.open(self.path("s.png"))) / 65535 * 255
        np.testing.assert_allclose(written, smooth.pixels, atol=0.01)
        deep = Image.from_array(np.zeros((4, 4, 3), np.uint16))
        with self.assertRaisesRegex(FileError, "16 bit cannot be written as PNG"):
            lf.write_image(self.path("d.png"), deep)
        lf.write_image(self.path("d.tif"), deep)
        self.assertEqual(lf.read_image(self.path("d.tif")).pixels.shape, (4, 4, 3))


class Recipes(InFolder):
    def test_load_and_save(self) -> None:
        recipe = run_on(disc(20.0)).recipe
        assert isinstance(recipe, lf.Recipe)
        recipe.save(self.path("r.finch.json"))
        self.assertEqual(lf.Recipe.load(self.path("r.finch.json")).text(), recipe.text())
        self.path("bad.finch.json", b'{"lucid_finch_recipe": 1, "nmae": 3}')
        with self.assertRaisesRegex(ParameterError, 'bad.finch.json: unknown field "nmae".*did you mean "name"'):
            lf.Recipe.load(self.path("bad.finch.json"))
        for name, data, words in (("none", None, "does not exist"), ("empty", b" ", "is empty")):
            with self.assertRaisesRegex(FileError, words):
                lf.Recipe.load(self.path(name, data))


class InputsKept(InFolder):
    def test_a_file_is_known_under_any_name_and_looked_up_at_once(self) -> None:
        for n in range(40):
            self.path(f"{n}.png").write_bytes(b"x")
        self.path("link.png").symlink_to(self.path("7.png"))
        inputs = Inputs(self.path(f"{n}.png") for n in range(40))
        self.assertTrue(inputs.hold(self.path("link.png")))
        self.assertFalse(inputs.hold(self.path("other.png")))
        with mock.patch("os.stat", wraps=os.stat) as stat:
            self.assertFalse(inputs.hold(self.path("other.png")))
        self.assertLessEqual(stat.call_count, 1)
        # Replaced meanwhile: it is another file under the name of an input.
        self.path("new").write_bytes(b"y")
        self.path("new").rename(self.path("3.png"))
        self.assertTrue(inputs.hold(self.path("3.png")))
        again = pickle.loads(pickle.dumps(inputs))
        self.assertTrue(again.hold(self.path("7.png")))
        with inputs_kept(inputs), self.assertRaisesRegex(FileError, "is an input"):
            write_text(self.path("5.png"), "no")


if __name__ == "__main__":
    unittest.main()
