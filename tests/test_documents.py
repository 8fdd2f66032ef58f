"""Documents and code say the same: reference, links, examples, commands, pictures."""

from __future__ import annotations

import contextlib
import doctest
import io
import os
import re
import struct
import subprocess
import tempfile
import tomllib
import unittest
from pathlib import Path

import lucid_finch
from lucid_finch import api
from lucid_finch.command_line.main import cli
from lucid_finch.core.detectors import KINDS
from lucid_finch.core.documentation import reference_page
from lucid_finch.demo import SCENES, scene
from lucid_finch.desktop.shell.screenshots import BY_SCENE
from lucid_finch.files.maps import write_image
from tests.files.test_images import InFolder
from tests.support import disc

ROOT = Path(__file__).resolve().parent.parent
PAGES = sorted([*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md")])


class Documents(InFolder):
    def test_the_reference_is_that_of_the_declarations(self) -> None:
        """If the change is meant: `lucid-finch kinds --markdown > docs/reference.md`."""
        self.assertEqual((ROOT / "docs" / "reference.md").read_text("utf-8"), reference_page())

    def test_every_link_leads_somewhere(self) -> None:
        for page in PAGES:
            for target in re.findall(r"\]\(([^)#]+)", page.read_text("utf-8")):
                self.assertTrue((page.parent / target).exists(), f"{page.name}: {target}")

    def test_every_kind_has_its_page_and_every_column_its_meaning(self) -> None:
        for kind, detector in KINDS.items():
            self.assertTrue((ROOT / "src" / "lucid_finch" / "guide" / f"{kind}.md").exists(), kind)
            for column in detector.all_columns():
                self.assertTrue(column.help or column.name in ("rank", "id"), column.name)

    def test_the_python_example_runs(self) -> None:
        code = re.findall(r"```python\n(.*?)```", (ROOT / "README.md").read_text("utf-8"), re.DOTALL)[0]
        path = self.folder / "panel.png"
        write_image(path, scene("tile_panel").image)
        code = code.replace("finch-demo/tile_panel/tile_panel.png", str(path))
        shown = io.StringIO()
        with contextlib.redirect_stdout(shown):
            exec(compile(code, "README.md", "exec"), {})
        self.assertRegex(shown.getvalue(), r"^\d+ \d+\.\d+\n.* is here")

    def test_the_examples_in_docstrings_run(self) -> None:
        failed, tried = doctest.testmod(api)
        self.assertEqual(failed, 0)
        self.assertGreaterEqual(tried, 4)

    def test_every_command_in_the_readme_exists(self) -> None:
        text = (ROOT / "README.md").read_text("utf-8")
        launcher = (ROOT / "finch").read_text("utf-8")
        for word in set(re.findall(r"^\./finch (\w+)", text, re.MULTILINE)):
            self.assertTrue(word in cli.commands or f"{word})" in launcher or f" {word}" in launcher, word)
        self.assertIn("\n./finch test\n", text)

    def test_pictures_are_current_in_size_and_number(self) -> None:
        folder = ROOT / "docs" / "screenshots"
        self.assertEqual({p.stem for p in folder.glob("*.png")}, {name for shots in BY_SCENE.values() for name in shots})
        for picture in folder.glob("*.png"):
            width, height = struct.unpack(">II", picture.read_bytes()[16:24])
            self.assertEqual((width, height), (1280, 800), picture.name)

    def test_version_and_scenes(self) -> None:
        project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
        self.assertEqual(project["version"], lucid_finch.__version__)
        self.assertIn(project["version"], (ROOT / "CHANGELOG.md").read_text("utf-8"))
        self.assertIn("tile_panel", SCENES)
        self.assertTrue(any("PySide6" in d and "<6.12" in d for d in project["optional-dependencies"]["window"]))

    def test_the_lock_file_covers_what_the_project_asks_for(self) -> None:
        lock = (ROOT / "requirements.lock").read_text("utf-8").lower()
        project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
        for wanted in [*project["dependencies"], *project["optional-dependencies"]["dev"]]:
            name = re.split(r"[<>=\[]", wanted)[0].lower()
            self.assertRegex(lock, rf"(?m)^{re.escape(name)}==")
        self.assertNotIn("://", lock)

    def test_the_launcher_is_sound_shell(self) -> None:
        self.assertEqual(subprocess.run(["bash", "-n", str(ROOT / "finch")], check=False).returncode, 0)
        self.assertEqual(subprocess.run(["bash", "-n", str(ROOT / ".ci" / "run")], check=False).returncode, 0)
        helped = subprocess.run([str(ROOT / "finch")], capture_output=True, text=True, check=False)
        self.assertIn("demo [DIR]", helped.stdout)

    @unittest.skipUnless((ROOT / ".venv" / "bin" / "lucid-finch").exists(), "set up by the launcher only")
    def test_the_launcher_works_in_the_folder_of_the_user_and_takes_options_for_what_they_are(self) -> None:
        with tempfile.TemporaryDirectory() as folder:

            def finch(*given: str) -> str:
                done = subprocess.run([str(ROOT / "finch"), *given], cwd=folder, capture_output=True, text=True, check=True)
                return done.stdout

            self.assertIn("--screenshot", finch("demo", "--help"))
            self.assertEqual(os.listdir(folder), [])
            write_image(Path(folder) / "step.png", disc(12.0))
            finch("detect", "edges", "step.png", "--out", "found")
            self.assertIn("step.png.findings.json", os.listdir(Path(folder) / "found"))


if __name__ == "__main__":
    unittest.main()
