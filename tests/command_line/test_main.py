"""The command line as a user runs it: results, exit statuses, helpful errors."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import threading
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from PIL import Image as Pillow

from lucid_finch.command_line.main import main
from lucid_finch.core.execution.engine import Engine
from lucid_finch.demo import recipe_text
from tests.files.test_images import InFolder
from tests.support import disc


class CommandCase(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.picture = self.path("disc.png")
        Pillow.fromarray(disc(40.0, noise=2.0).pixels).save(self.picture)

    def call(self, *arguments: object) -> tuple[int, str, str]:
        """Exit status, stdout and stderr."""
        out, err = io.StringIO(), io.StringIO()
        status = 0
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                main([str(a) for a in arguments])
            except SystemExit as stopped:
                status = int(stopped.code or 0)
        return status, out.getvalue(), err.getvalue()

    def summary(self, folder: Path) -> list[dict[str, str]]:
        with (folder / "summary.csv").open(newline="") as stream:
            return list(csv.DictReader(stream))

    def recipe(self, **expect: object) -> object:
        entry = {"name": "rim", "kind": "edges", "parameters": {"length_min": "20%"}, "expect": expect}
        path = self.path("r.finch.json")
        path.write_text(json.dumps({"lucid_finch_recipe": 1, "name": "rims", "detectors": [entry]}))
        return path


class APathInPlaceOfACommand(CommandCase):
    def test_it_is_opened_and_a_slip_is_named(self) -> None:
        with mock.patch("lucid_finch.command_line.main._open_window") as opened:
            self.assertEqual(self.call(self.picture)[0], 0)
        opened.assert_called_once_with([str(self.picture)])
        status, _, said = self.call("detct", self.picture)
        self.assertEqual(status, 2)
        self.assertIn('did you mean "detect"', said)


class NothingIsOverwritten(CommandCase):
    def test_an_input_stays_what_it_is(self) -> None:
        before = self.picture.read_bytes()
        link = self.path("link.png")
        link.symlink_to(self.picture)
        for arguments in (
            ("prepare", "smooth", self.picture, "--out", self.picture),
            ("prepare", "smooth", self.picture, "--out", link),
            ("prepare", "smooth", link, "--out", self.picture),
            ("detect", "edges", self.picture, "--json", self.picture),
            ("freeze", self.recipe(), self.picture, "--out", self.picture),
        ):
            status, _, said = self.call(*arguments)
            self.assertNotEqual(status, 0, arguments)
            self.assertIn("is an input and is not written over", said)
            self.assertEqual(self.picture.read_bytes(), before)
        self.assertEqual(self.call("prepare", "smooth", self.picture, "--out", self.picture, "--overwrite")[0], 0)
        self.assertNotEqual(self.picture.read_bytes(), before)

    def test_a_run_over_its_own_pictures_folder(self) -> None:
        part = self.path("part.png.annotated.png")
        part.write_bytes(self.picture.read_bytes())
        self.path("part.png").write_bytes(self.picture.read_bytes())
        recipe = self.recipe()
        status, _, said = self.call("run", recipe, self.path("part.png"), part, "--out", self.folder, "--outputs", "annotated")
        self.assertEqual(status, 1)
        self.assertIn("is an input and is not written over", said)
        self.assertEqual(part.read_bytes(), self.picture.read_bytes())

    def test_what_a_run_wrote_is_no_input_of_the_next(self) -> None:
        recipe = self.recipe()
        for _ in range(2):
            for outputs in ("findings,svg,annotated,maps", "annotated,maps"):
                status, _, said = self.call("run", recipe, self.folder, "--out", self.folder, "--outputs", outputs)
                self.assertEqual(status, 0, said)
            for file in self.folder.glob("*.findings.json"):
                file.unlink()
        rows = self.summary(self.folder)
        self.assertEqual([row["image"] for row in rows], [str(self.picture)])

    def test_devices_and_pipes_are_written_to_as_they_are(self) -> None:
        self.assertEqual(self.call("detect", "edges", self.picture, "--json", "/dev/null")[0], 0)
        self.assertTrue(Path("/dev/null").is_char_device())
        pipe = self.path("pipe")
        os.mkfifo(pipe)
        read: list[str] = []
        reader = threading.Thread(target=lambda: read.append(pipe.read_text()))
        reader.start()
        self.assertEqual(self.call("detect", "edges", self.picture, "--json", pipe)[0], 0)
        reader.join(20)
        self.assertEqual(len(json.loads(read[0])["detections"]), 1)
        self.assertTrue(pipe.is_fifo())


class Values(CommandCase):
    def test_black_and_white_are_given(self) -> None:
        deep = self.path("deep.npy")
        np.save(deep, np.asarray(disc(30.0, noise=2.0).pixels, np.float32) * 3)
        seen = []
        for extra in ((), ("--value-range", 0, 765)):
            self.assertEqual(self.call("detect", "circles", deep, "--out", self.path("out"), *extra)[0], 0)
            (row,) = json.loads((self.path("out") / "deep.npy.findings.json").read_text())["detections"][0]["findings"]
            seen.append(row["contrast_pct"])
        self.assertAlmostEqual(seen[1], 100 * row["contrast"] / 765, delta=0.1)
        self.assertGreater(seen[0], seen[1])

    def test_bits_concern_the_files_that_have_so_many(self) -> None:
        status, _, said = self.call("run", self.recipe(), self.picture, "--out", self.path("out"), "--significant-bits", 12)
        self.assertEqual(status, 0, said)


class Failing(CommandCase):
    def test_an_unexpected_error_is_of_one_image_alone(self) -> None:
        other = self.path("other.png")
        other.write_bytes(self.picture.read_bytes())
        real = Engine.run

        def run(engine: Engine, recipe: Any, image: Any, **given: Any) -> Any:
            if image.name == "disc.png":
                raise IndexError("out of bounds")
            return real(engine, recipe, image, **given)

        with mock.patch.object(Engine, "run", run), self.assertLogs("lucid_finch", "ERROR"):
            status, _, said = self.call("run", self.recipe(), self.folder, "--out", self.path("out"))
        self.assertEqual(status, 1)
        self.assertIn("unexpected IndexError: out of bounds", said)
        rows = self.summary(self.path("out"))
        self.assertEqual(["IndexError" in row["error"] for row in rows], [True, False])

    def test_an_interrupted_run_has_a_summary(self) -> None:
        self.path("other.png").write_bytes(self.picture.read_bytes())
        real, calls = Engine.run, []

        def run(engine: Engine, recipe: Any, image: Any, **given: Any) -> Any:
            calls.append(image.name)
            if len(calls) == 2:
                raise KeyboardInterrupt
            return real(engine, recipe, image, **given)

        with mock.patch.object(Engine, "run", run):
            status, _, _ = self.call("run", self.recipe(), self.folder, "--out", self.path("out"))
        self.assertEqual(status, 130)
        rows = self.summary(self.path("out"))
        self.assertEqual(len(rows), 1)


class Freeze(CommandCase):
    def test_automatic_values_become_numbers_that_give_the_same_findings(self) -> None:
        recipe, out = self.path("r.finch.json"), self.path("frozen.finch.json")
        detectors = [{"name": kind, "kind": kind} for kind in ("circles", "contours", "edge_scan")]
        recipe.write_text(json.dumps({"lucid_finch_recipe": 2, "detectors": detectors}))
        self.assertEqual(self.call("freeze", recipe, self.picture, "--out", out)[0], 0)
        frozen = json.loads(out.read_text())
        circles, contours, scan = (entry["parameters"] for entry in frozen["detectors"])
        # The lower end is a rule: without it, small circles have to be seen more completely.
        self.assertEqual(circles["radius"], [None, 80.0])
        self.assertEqual((contours["binarize"], contours["foreground"]), ("edges", "bright"))
        self.assertGreater(scan["strength_min"], 0)
        rows = []
        for path in (recipe, out):
            folder = self.path(path.stem)
            self.assertEqual(self.call("run", path, self.picture, "--out", folder)[0], 0)
            rows.append(
                [detection["findings"] for detection in json.loads((folder / "disc.png.findings.json").read_text())["detections"]]
            )
        self.assertEqual(rows[0], rows[1])

    def test_what_cannot_be_read_is_named(self) -> None:
        status, _, said = self.call("freeze", self.recipe(), self.path("none.png"), "--out", self.path("o.json"))
        self.assertEqual(status, 1)
        self.assertIn("none.png", said)
        self.assertFalse(self.path("o.json").exists())


class CommandLine(CommandCase):
    def test_detect_prints_a_table(self) -> None:
        status, out, err = self.call("detect", "edges", self.picture)
        self.assertEqual(status, 0)
        header, first = out.splitlines()[:2]
        row = dict(zip(header.split("\t"), first.split("\t"), strict=True))
        self.assertAlmostEqual(float(row["length"]), 2 * np.pi * 40, delta=6)
        self.assertIn("1 findings", err)

    def test_detect_json_and_options(self) -> None:
        status, out, _ = self.call(
            "detect", "edges", self.picture, "--sigma", 2, "--length-min", "300px", "--no-subpixel", "--json", "-"
        )
        self.assertEqual(status, 0)
        document = json.loads(out)
        self.assertEqual(document["detections"][0]["findings"], [])
        self.assertEqual(document["recipe"]["resolved"]["edges"]["sigma"], 2.0)
        self.assertEqual(document["recipe"]["resolved"]["edges"]["subpixel"], False)
        region = '{"shape": "rectangle", "x": 80, "y": 30, "width": 100, "height": 50}'
        status, out, err = self.call("detect", "edges", self.picture, "--region", region, "--low", "auto", "--keep", 1)
        self.assertEqual(status, 0, err)

    def test_detect_to_a_folder_with_maps(self) -> None:
        out = self.folder / "out"
        status, _, err = self.call(
            "detect", "edges", self.picture, "--out", out, "--save-map", "magnitude", "--map-format", "npy"
        )
        self.assertEqual(status, 0, err)
        names = sorted(p.name for p in out.iterdir())
        expected = ["disc.png.edges.csv", "disc.png.edges.magnitude.npy", "disc.png.findings.json"]
        self.assertEqual(names, expected)
        self.assertEqual(np.load(out / "disc.png.edges.magnitude.npy").shape, (160, 160))

    def test_wrong_use_has_status_2_and_says_what_is_right(self) -> None:
        cases = {
            'no kind of detector "edgs" .did you mean "edges"': ("detect", "edgs", self.picture),
            "No such option '--sigm'.*--sigma": ("detect", "edges", self.picture, "--sigm", 2),
            "sigma = -1.0 is not allowed.*from 0 to 50 px": ("detect", "edges", self.picture, "--sigma", -1),
            'sigma = "wide" is not allowed': ("detect", "edges", self.picture, "--sigma", "wide"),
            'operator = "sobl".*one of gaussian, sobel': ("detect", "edges", self.picture, "--operator", "sobl"),
            "region: is not valid JSON": ("detect", "edges", self.picture, "--region", "{x"),
            "--save-map needs --out": ("detect", "edges", self.picture, "--save-map", "thinned"),
            'no map "magnitud".*magnitude': (
                "detect",
                "edges",
                self.picture,
                "--save-map",
                "magnitud",
                "--out",
                self.folder / "o",
            ),
            'names no detector of the recipe.*"rim"': (
                "run",
                self.recipe(),
                self.picture,
                "--out",
                self.folder,
                "--save-map",
                "rm.thinned",
            ),
            "recipe.json: does not exist": ("run", self.folder / "recipe.json", self.picture, "--out", self.folder),
            'no preparation step "smoth"': ("prepare", "smoth", self.picture, "--out", self.folder / "a.png"),
            'there is no "edgse"': ("kinds", "edgse"),
            'detector rim has no map "magnitud".*"magnitude"': (
                "run",
                self.recipe(),
                self.picture,
                "--out",
                self.folder,
                "--save-map",
                "rim.magnitud",
            ),
            'outputs: "anotated".*"annotated"': ("run", self.recipe(), self.picture, "--out", "o", "--outputs", "anotated"),
            "say where the results go": ("run", self.recipe(), self.picture),
            'scene: "tile_pannel" is not known': ("demo", "tile_pannel", "--out", self.folder),
        }
        for words, arguments in cases.items():
            with self.subTest(words):
                status, out, err = self.call(*arguments)
                self.assertEqual((status, out), (2, ""))
                self.assertRegex(err.replace("\n", " "), words)

    def test_an_unreadable_image_has_status_1(self) -> None:
        status, _, err = self.call("detect", "edges", self.path("broken.png", b"\x89PNG\r\n\x1a\nno"))
        self.assertEqual(status, 1)
        self.assertRegex(err, "broken.png: is damaged or cut short")

    def test_run_does_the_others_and_names_the_failed(self) -> None:
        broken, out = self.path("broken.png", b"nothing"), self.folder / "out"
        status, _, err = self.call("run", self.recipe(), broken, self.picture, self.folder / "none.png", "--out", out)
        self.assertEqual(status, 1)
        self.assertIn("broken.png: is no picture", err)
        self.assertIn("none.png: does not exist", err)
        self.assertTrue((out / "disc.png.findings.json").exists())
        with (out / "summary.csv").open(newline="") as stream:
            rows = list(csv.DictReader(stream))
        self.assertEqual([bool(r["error"]) for r in rows], [True, False, True])
        self.assertEqual((rows[1]["findings"], rows[1]["met"]), ("1", "yes"))

    def test_run_tells_an_unmet_expectation(self) -> None:
        status, _, err = self.call("run", self.recipe(count=5), self.picture, "--out", self.folder / "out")
        self.assertEqual(status, 3)
        self.assertIn("rim: count is 1, expected 5", err)
        self.assertEqual(self.call("run", self.recipe(count=1), self.picture, "--out", self.folder / "out")[0], 0)

    def test_run_over_a_folder_keeps_names_apart(self) -> None:
        many = self.folder / "many"
        many.mkdir()
        for name in ("a.png", "a.bmp", "b.png"):
            Pillow.fromarray(disc(20.0).pixels).save(many / name)
        (many / "notes.txt").write_text("no picture")
        out = self.folder / "out"
        self.assertEqual(self.call("run", self.recipe(), many, "--out", out, "--save-map", "rim.edges")[0], 0)
        self.assertEqual(len(list(out.glob("*.findings.json"))), 3)
        self.assertEqual(len(list(out.glob("*.rim.edges.png"))), 3)
        empty = self.folder / "empty"
        empty.mkdir()
        status, _, err = self.call("run", self.recipe(), empty, "--out", out)
        self.assertEqual(status, 2)
        self.assertIn("holds no image", err)

    def test_prepare(self) -> None:
        out = self.path("smooth.npy")
        self.assertEqual(self.call("prepare", "smooth", self.picture, "--method", "box", "--size", 5, "--out", out)[0], 0)
        self.assertEqual(np.load(out).shape, (160, 160))
        region = '{"shape": "rectangle", "x": 80, "y": 80, "width": 20, "height": 10}'
        self.assertEqual(self.call("prepare", "crop", self.picture, "--region", region, "--out", out)[0], 0)
        self.assertEqual(np.load(out).shape, (11, 21))

    def test_significant_bits(self) -> None:
        Pillow.fromarray(disc(40.0).pixels.astype(np.uint16) * 16).save(self.path("deep.png"))
        status, out, _ = self.call("detect", "edges", self.path("deep.png"), "--significant-bits", 14, "--json", "-")
        self.assertEqual(status, 0)
        self.assertEqual(json.loads(out)["detections"][0]["notes"], [])
        status, out, _ = self.call("detect", "edges", self.path("deep.png"), "--json", "-")
        self.assertIn("12 significant bits", json.loads(out)["detections"][0]["notes"][0])
        self.assertEqual(self.call("detect", "edges", self.path("deep.png"), "--significant-bits", 40)[0], 2)

    def test_kinds(self) -> None:
        status, out, _ = self.call("kinds", "--json")
        self.assertEqual(status, 0)
        names = [p["name"] for p in json.loads(out)["detectors"]["edges"]["parameters"]]
        self.assertEqual(names[:4], ["region", "keep", "sort", "operator"])
        self.assertIn("--sigma", self.call("kinds", "edges")[1])
        self.assertIn("lucid_finch_recipe", self.call("kinds", "--schema")[1])

    def test_demo_writes_scene_truth_recipe_and_results(self) -> None:
        status, out, err = self.call("demo", "tile_panel", "--out", self.folder)
        self.assertEqual(status, 0, err)
        self.assertIn(str(self.folder), out)
        folder = self.folder / "tile_panel"
        self.assertEqual((folder / "tile_panel.finch.json").read_text("utf-8"), recipe_text("tile_panel"))
        truth = json.loads((folder / "tile_panel.truth.json").read_text())
        self.assertEqual(truth["lucid_finch_truth"], 1)
        findings = json.loads((folder / "results" / "tile_panel.png.findings.json").read_text())
        self.assertGreater(len(findings["detections"][0]["findings"]), 20)

    def test_python_dash_m_and_version(self) -> None:
        status, out, _ = self.call("--version")
        self.assertEqual(status, 0)
        self.assertRegex(out, r"Lucid Finch \d+\.\d+")


class Preparing(CommandCase):
    def test_every_step_from_the_command_line(self) -> None:
        colour = self.path("colour.png")
        pixels = np.zeros((40, 50, 3), np.uint8)
        pixels[:, :25], pixels[:, 25:] = (120, 100, 90), (100, 110, 95)
        Pillow.fromarray(pixels).save(colour)
        area = '{"shape": "rectangle", "x": %d, "y": 20, "width": 9, "height": 9}'
        steps = {
            "channel": ["--take", "a"], "contrast_axis": ["--inside", area % 10, "--outside", area % 40], "tone": ["--gamma", 2],
            "flatten": ["--method", "polynomial"],
            "smooth": ["--method", "bilateral", "--sigma", 1], "sharpen": ["--amount", 0.5],
            "derivative": ["--of", "xx", "--size", 5], "kernel": ["--coefficients", "-1 0 1; -2 0 2; -1 0 1"],
            "crop": ["--region", area % 20], "resize": ["--width", 20], "rotate": ["--angle", 30],
            "morphology": ["--operation", "top_hat", "--size", 5],
        }  # fmt: skip
        from lucid_finch.core.prepare import STEPS

        self.assertEqual(set(steps), set(STEPS))
        for step, options in steps.items():
            out = self.path(f"{step}.npy")
            status, _, err = self.call("prepare", step, colour, "--out", out, *options)
            self.assertEqual((status, err), (0, ""), step)
            self.assertGreater(np.load(out).size, 0)
        sobel = np.load(self.path("kernel.npy"))
        self.assertEqual(float(sobel[20, 24, 0]), -80.0)
        self.assertEqual(np.load(self.path("resize.npy")).shape, (16, 20, 3))

    def test_wrong_numbers_are_named(self) -> None:
        for words, options in {
            "odd": ["kernel", "--coefficients", "1 2; 3 4"],
            "all 0": ["kernel", "--coefficients", "0 0 0"],
            "gamma = 0": ["tone", "--gamma", 0],
            "width = 0": ["resize", "--width", 0],
            "nothing is given": ["resize"],
            "size = 4": ["morphology", "--size", 4],
            "take": ["channel", "--take", "violet"],
        }.items():
            status, _, err = self.call("prepare", options[0], self.picture, "--out", self.path("x.png"), *options[1:])
            self.assertEqual(status, 2, words)
            self.assertIn(words, err)
            self.assertFalse(self.path("x.png").exists())

    def test_what_a_detector_sees_is_a_map_too(self) -> None:
        recipe = self.path("r.finch.json")
        own = [{"step": "tone", "invert": True}]
        entry = {"name": "rim", "kind": "edges", "prepare": own}
        recipe.write_text(json.dumps({"lucid_finch_recipe": 1, "name": "r", "detectors": [entry]}))
        maps = ["--save-map", "rim.prepared", "--save-map", "rim.gradient_x", "--map-format", "npy"]
        status, _, _ = self.call("run", recipe, self.picture, "--out", self.path("out"), *maps)
        self.assertEqual(status, 0)
        seen = np.load(self.path("out") / "disc.png.rim.prepared.npy")
        np.testing.assert_allclose(seen, 255.0 - np.asarray(Pillow.open(self.picture)), atol=1e-3)
        self.assertTrue((self.path("out") / "disc.png.rim.gradient_x.npy").exists())

    def test_the_common_region_and_the_style_of_a_recipe(self) -> None:
        recipe = self.path("r.finch.json")
        region = {"shape": "rectangle", "x": 40, "y": 79.5, "width": 79, "height": 159}
        data = {"lucid_finch_recipe": 1, "name": "r", "region": region, "detectors": [{"name": "rim", "kind": "edges"}]}
        data["marks"] = {"colour": "#ff0000", "numbers": False}
        recipe.write_text(json.dumps(data))
        arguments = ("--out", self.path("out"), "--outputs", "csv,annotated")
        self.assertEqual(self.call("run", recipe, self.picture, *arguments)[0], 0)
        with open(self.path("out") / "disc.png.rim.csv", encoding="utf-8") as file:
            rows = list(csv.DictReader(file))
        self.assertTrue(rows and all(float(row["x"]) < 80 for row in rows))
        picture = np.asarray(Pillow.open(self.path("out") / "disc.png.annotated.png")).astype(int)
        self.assertGreater(int(((picture[..., 0] > 200) & (picture[..., 1] < 60)).sum()), 50)
        for words, wrong in {
            "colour": {"colour": "red"}, "thickness": {"thickness": -1}, "colours": {"colours": "#ff0000"}
        }.items():  # fmt: skip
            recipe.write_text(json.dumps({**data, "marks": wrong}))
            status, _, err = self.call("run", recipe, self.picture, "--out", self.path("out"))
            self.assertEqual(status, 2)
            self.assertIn(words, err)
