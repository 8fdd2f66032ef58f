"""What Python users hold in their hands: tables, texts, notebook views, progress, cancelling, files, types."""

from __future__ import annotations

import json
import pickle
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np

import lucid_finch as lf
from lucid_finch.command_line.stub import public_stub
from tests.files.test_images import InFolder
from tests.support import disc

PICTURE = np.concatenate([disc(24.0, 50.0, noise=1.5).pixels, disc(30.0, -45.0, noise=1.5).pixels], axis=1)
RECIPE = """{"lucid_finch_recipe": 2, "name": "holes", "prepare": [{"step": "smooth", "sigma": 1}], "detectors": [
    {"name": "circles", "kind": "circles"}, {"name": "contours", "kind": "contours"}
]}"""


class Tables(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.result = lf.detect("circles", PICTURE)
        cls.outlines = lf.detect("contours", PICTURE)

    def test_rows_by_mask_slice_and_numbers(self) -> None:
        table = self.result.findings
        self.assertEqual(len(table), 2)
        larger = table[table["radius"] > 27]
        self.assertEqual((type(larger), len(larger)), (lf.Findings, 1))
        self.assertAlmostEqual(float(larger["radius"][0]), 30, delta=0.2)
        self.assertEqual(table[::-1]["id"].tolist(), [2, 1])
        self.assertEqual(table[[1]]["id"].tolist(), [2])
        self.assertEqual(len(table[[]]), 0)
        for wrong, error in ((np.array([True]), IndexError), ([5], IndexError), ([1.5], TypeError), (0, TypeError)):
            with self.subTest(wrong), self.assertRaises(error):
                table[wrong]
        with self.assertRaisesRegex(KeyError, 'no column "radus".*"radius"'):
            table["radus"]

    def test_rows_of_near_misses(self) -> None:
        near = self.outlines.near_misses
        if not near:
            near = lf.detect("contours", PICTURE, area=(10_000, None)).near_misses
        self.assertGreater(len(near), 0)
        some = near[near["failed"] == near["failed"][0]]
        self.assertEqual(type(some), lf.NearMisses)
        self.assertEqual(set(some["failed"].tolist()), {str(near["failed"][0])})
        self.assertEqual(some.text("measured", 0), near.text("measured", 0))

    def test_texts_and_rows(self) -> None:
        table = self.result.findings
        self.assertEqual(sorted(table["polarity"].tolist()), ["bright", "dark"])
        self.assertEqual([row["id"] for row in table], [1, 2])
        self.assertEqual(list(dict(table)), list(table.columns))
        self.assertIn("radius", table)
        self.assertNotIn("radus", table)

    def test_other_packages(self) -> None:
        table = self.result.findings
        frame, arrow = table.to_pandas(), table.to_arrow()
        self.assertEqual(frame["polarity"].tolist(), table["polarity"].tolist())
        self.assertEqual(arrow.column("radius").to_pylist(), table["radius"].tolist())
        import pyarrow

        self.assertEqual(pyarrow.table(table).num_rows, 2)

    def test_texts_fit_on_a_line(self) -> None:
        run = lf.run(lf.Recipe.parse(RECIPE), PICTURE)
        for thing in (lf.Image.from_array(PICTURE), self.result, self.result.findings, run, run.detections["circles"].near_misses,
                      *self.result.evidence.values(), lf.Recipe.parse(RECIPE), lf.explain(self.result, (80, 80))):  # fmt: skip
            with self.subTest(type(thing).__name__):
                self.assertNotIn("\n", repr(thing))
                self.assertLess(len(repr(thing)), 130)
        self.assertIn("2 findings", repr(self.result))


class Notebooks(unittest.TestCase):
    def test_pictures_and_tables(self) -> None:
        image = lf.Image.from_array(PICTURE)
        result = lf.detect("circles", image)
        run = lf.run(lf.Recipe.parse(RECIPE), image)
        for picture in (image, *result.evidence.values()):
            self.assertTrue(picture._repr_png_().startswith(b"\x89PNG"))
        for thing in (result, run):
            text = thing._repr_html_()
            self.assertIn("<svg", text)
            self.assertIn("<td>dark</td>", text)
        shrunk = lf.detect("circles", lf.prepare("resize", image, factor=0.5))
        self.assertIn("<svg", shrunk._repr_html_())
        again = pickle.loads(pickle.dumps(result))
        self.assertIn("<td>dark</td>", again._repr_html_())


class Work(InFolder):
    def test_progress_and_cancelling(self) -> None:
        said: list[tuple[int, int, str]] = []
        lf.run(lf.Recipe.parse(RECIPE), PICTURE, progress=lambda *now: said.append(now))
        self.assertEqual(said[-1][:2], (3, 3))
        self.assertEqual([one[0] for one in said], sorted(one[0] for one in said))
        self.assertEqual(next(name for _, _, name in said if name != "smooth"), "circles")
        said.clear()
        lf.detect("circles", PICTURE, progress=lambda *now: said.append(now))
        self.assertEqual(said, [(0, 1, "circles"), (1, 1, "circles")])
        for work in (
            lambda: lf.detect("circles", PICTURE, cancelled=lambda: True),
            lambda: lf.prepare("smooth", PICTURE, sigma=2, cancelled=lambda: True),
            lambda: lf.run(lf.Recipe.parse(RECIPE), PICTURE, cancelled=lambda: True),
        ):
            with self.assertRaises(lf.Cancelled):
                work()

    def test_kinds_and_steps(self) -> None:
        self.assertIn("circles", lf.kinds())
        self.assertIn("radius", [column["name"] for column in lf.kinds()["circles"]["columns"]])
        self.assertEqual(next(p["name"] for p in lf.steps()["rotate"]["parameters"]), "angle")

    def test_saving(self) -> None:
        run = lf.run(lf.Recipe.parse(RECIPE), PICTURE)
        files = run.save(self.path("out"), outputs=["findings", "csv", "parquet", "svg", "annotated", "maps"], name="part")
        self.assertTrue(all(file.is_file() and file.name.startswith("part.") for file in files))
        self.assertEqual({file.suffix for file in files}, {".json", ".csv", ".parquet", ".svg", ".png"})
        document = json.loads((self.path("out") / "part.findings.json").read_text())
        self.assertEqual(len(document["detections"]), 2)
        (file,) = lf.detect("circles", PICTURE).save(self.path("one"), ["csv"])
        self.assertEqual(file.read_text().count("\n"), 3)
        with self.assertRaisesRegex(lf.ParameterError, 'outputs: "cvs".*"csv"'):
            run.save(self.path("out"), ["cvs"])
        again = pickle.loads(pickle.dumps(run))
        again.save(self.path("again"), ["csv"], name="part")
        one, other = (self.path(place) / "part.circles.csv" for place in ("out", "again"))
        self.assertEqual(one.read_bytes(), other.read_bytes())

    def test_results_of_another_recipe_are_not_written_over(self) -> None:
        run = lf.run(lf.Recipe.parse(RECIPE), PICTURE)
        other = lf.run(lf.Recipe.parse(RECIPE.replace("holes", "bosses")), PICTURE)
        run.save(self.folder, name="part")
        run.save(self.folder, name="part")
        with self.assertRaisesRegex(lf.FileError, 'results of the recipe "holes"'):
            other.save(self.folder, name="part")


GOOD = """
import numpy as np
import lucid_finch as lf

image = lf.read_image("panel.png")
other = lf.Image.from_array(np.zeros((4, 4), np.uint8))
gray = lf.prepare("channel", image, take="green")
result = lf.detect("circles", gray, radius=(31, 47))
print(len(result.findings), result.findings["x"].max(), result.findings[result.findings["score"] > 0.8]["radius"])
for row in result.findings:
    print(row["x"])
result.findings.to_pandas()
print(result.near_misses["failed"], result.evidence["accumulator"].values, result.outlines[0])
result.evidence["accumulator"].save("votes.tif")
print(lf.explain(result, at=(412.0, 96.5)).summary)
recipe = lf.Recipe.load("screens.finch.json")
run = lf.run(recipe, image, progress=lambda done, total, text: print(done, total, text))
run.save("out", outputs=["findings"])
lf.detect("lines", np.zeros((9, 9)), region={"shape": "rectangle", "x": 1, "y": 1, "width": 2, "height": 2}, length_min="3%")
for kind in lf.kinds():
    lf.detect(kind, "panel.png", keep=3, cancelled=lambda: False)
"""
WRONG = """
import lucid_finch as lf

lf.detect("circles", "a.png", radius="wide")
lf.detect("circles", "a.png", radus=(1, 2))
lf.detect("circels", "a.png")
lf.prepare("smooth", "a.png", method="gauss")
lf.detect("edges", "a.png", false_alarms=None)
"""


class Types(InFolder):
    def test_the_stub_is_what_the_declarations_say(self) -> None:
        stub = Path(lf.__file__).with_suffix(".pyi").read_text("utf-8")
        self.assertEqual(stub, public_stub(), "renew it with: lucid-finch kinds --stub")

    def test_a_type_checker_accepts_what_is_documented_and_refuses_the_rest(self) -> None:
        for name, text in (("good", GOOD), ("wrong", WRONG)):
            self.path(f"{name}.py").write_text(text)
        found = {}
        for name in ("good", "wrong"):
            command = [sys.executable, "-m", "mypy", "--follow-imports=silent", "--cache-dir", str(self.path("cache"))]
            done = subprocess.run([*command, str(self.path(f"{name}.py"))], cwd=self.folder, capture_output=True, text=True)
            found[name] = [line for line in done.stdout.splitlines() if ": error:" in line]
        self.assertEqual(found["good"], [])
        lines = {int(line.split(":")[1]) for line in found["wrong"]}
        self.assertEqual(lines, {4, 5, 6, 7, 8})


class WithoutTheWindow(InFolder):
    def test_nothing_but_the_window_needs_qt(self) -> None:
        """As where only the package without its extras is installed."""
        np.save(self.path("disc.npy"), PICTURE)
        program = f"""
import sys
class Refuse:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] in ("PySide6", "shiboken6", "pandas", "pyarrow"):
            raise ModuleNotFoundError("No module named " + repr(name), name=name.split(".")[0])
sys.meta_path.insert(0, Refuse())
import lucid_finch as lf
result = lf.detect("circles", {str(self.path("disc.npy"))!r})
assert len(result.findings) == 2
try:
    result.findings.to_pandas()
except ImportError as error:
    assert "lucid-finch[tables]" in str(error)
else:
    raise AssertionError
from lucid_finch.command_line.main import main
detect = ["detect", "circles", {str(self.path("disc.npy"))!r}]
for arguments, status in ((detect, 0), (["kinds"], 0), (["open", "x"], 2), ([], 2)):
    try:
        main(arguments)
    except SystemExit as left:
        assert (left.code or 0) == status, (arguments, left.code)
"""
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("pip install 'lucid-finch[window]'", done.stderr)


if __name__ == "__main__":
    unittest.main()
