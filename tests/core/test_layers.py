"""Imports point one way; importing the package is cheap and compiles nothing."""

from __future__ import annotations

import ast
import subprocess
import sys
import unittest
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[2] / "src" / "lucid_finch"
# What each part may import of the package, besides itself.
ALLOWED = {
    "core/numerics": {"core.errors"},
    "core/prepare": {"core"},
    "core/detectors": {"core"},
    "core": {"core"},
    "files": {"core"},
    "demo": {"core"},
    "api.py": {"core", "files"},
    "command_line": {"core", "files", "demo", "desktop"},
    "desktop": {"core", "files", "demo", "command_line.batch"},
}
FORBIDDEN_IN_CORE = {"PySide6", "PIL", "tifffile", "socket", "urllib", "http", "click", "rich", "pathlib"}


def imported(file: Path) -> set[str]:
    names: set[str] = set()
    for node in ast.walk(ast.parse(file.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names |= {f"{node.module}.{alias.name}" for alias in node.names}
    return names


class Layers(unittest.TestCase):
    def test_imports_point_one_way(self) -> None:
        for file in SOURCE.rglob("*.py"):
            place = file.relative_to(SOURCE).as_posix()
            part = next((p for p in ALLOWED if place.startswith(p)), None)
            if part is None:
                continue
            own = part.replace("/", ".").removesuffix(".py")
            for name in imported(file):
                if not name.startswith("lucid_finch.") or name.startswith(f"lucid_finch.{own}."):
                    continue
                inner = name.removeprefix("lucid_finch.")
                allowed = any(inner == a or inner.startswith(f"{a}.") for a in ALLOWED[part])
                self.assertTrue(allowed, f"{place} imports {name}")

    def test_core_knows_no_qt_files_or_network(self) -> None:
        for file in (SOURCE / "core").rglob("*.py"):
            wrong = {n.split(".")[0] for n in imported(file)} & FORBIDDEN_IN_CORE
            if file.name in ("compiling.py", "detection.py"):
                wrong.discard("pathlib")  # the kernels' own cache folder; the type of a path
            self.assertFalse(wrong, f"{file.name} imports {wrong}")

    def test_detectors_do_not_import_each_other(self) -> None:
        for file in (SOURCE / "core" / "detectors").glob("[a-z]*.py"):
            for name in imported(file):
                self.assertFalse(name.startswith("lucid_finch.core.detectors."), f"{file.name} imports {name}")

    def test_every_module_says_what_it_is_for(self) -> None:
        for file in SOURCE.rglob("*.py"):
            first = ast.get_docstring(ast.parse(file.read_text("utf-8")))
            self.assertTrue(first, f"{file} does not say what it is for")

    def loaded(self, statement: str) -> set[str]:
        code = f"import sys; {statement}; print(' '.join(m.split('.')[0] for m in sys.modules))"
        return set(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split())

    def test_importing_is_cheap(self) -> None:
        self.assertFalse(self.loaded("import lucid_finch") & {"numpy", "numba", "PySide6", "pydantic", "scipy"})

    def test_reading_an_image_needs_no_qt(self) -> None:
        self.assertNotIn("PySide6", self.loaded("import lucid_finch; lucid_finch.read_image"))

    def test_help_loads_little(self) -> None:
        statement = "from lucid_finch.command_line.main import cli; cli.main(['--help'], standalone_mode=False)"
        self.assertFalse(self.loaded(statement) & {"numpy", "numba", "PySide6", "pydantic"})
