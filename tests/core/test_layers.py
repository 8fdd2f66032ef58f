"""The structure: imports point one way and in no circle, names stay private, functions stay short; importing is cheap."""

from __future__ import annotations

import ast
import subprocess
import sys
import unittest
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[2] / "src" / "lucid_finch"
# What each part may import of the package besides itself; the first part that fits is the one that counts.
ALLOWED = {
    "core/numerics/runtime": {"core.errors"},
    "core/numerics": {"core.errors"},
    "core/parameter_types": {"core.errors"},
    "core/prepare": {"core.errors", "core.image", "core.numerics", "core.parameters", "core.parameter_types", "core.regions",
                     "core.valid_region"},
    "core/detectors": {"core.detection", "core.detector", "core.errors", "core.image", "core.judging", "core.luma",
                       "core.numerics",
                       "core.parameters", "core.parameter_types", "core.regions", "core.table", "core.valid_region",
                       "core.viewing.profiles"},
    "core/viewing": {"core"},
    "core/execution": {"core"},
    "core/inspection": {"core"},
    "core": {"core.comparing", "core.detectors",
             "core.detection", "core.detector", "core.errors", "core.image", "core.inspection", "core.judging",
             "core.numerics", "core.outer", "core.parameters", "core.parameter_types", "core.prepare", "core.quantities",
             "core.recipe", "core.regions", "core.table", "core.valid_region", "core.viewing"},
    "files": {"core"},
    "demo": {"core", "files"},
    "pipeline": {"core", "files", "demo"},
    "api.py": {"core", "files", "pipeline"},
    "command_line": {"api", "core", "files", "demo", "pipeline", "desktop"},
    "desktop/toolkit": {"core.viewing"},
    "desktop/study": {"core", "files", "desktop.study.picture"},
    "desktop/canvas": {"core", "files", "desktop.toolkit", "desktop.study"},
    "desktop/recipe_panel": {"core", "desktop.toolkit", "desktop.study", "desktop.canvas"},
    "desktop/pages": {"core", "pipeline", "desktop.toolkit", "desktop.study", "desktop.canvas", "desktop.recipe_panel"},
    "desktop": {"core", "files", "demo", "pipeline", "desktop"},
}  # fmt: skip
FORBIDDEN_IN_CORE = {"PySide6", "PIL", "tifffile", "socket", "urllib", "http", "click", "rich", "pathlib"}
KNOW_PATHS = ("kernel_cache.py", "detection.py", "engine.py")
"""The folder of the kernels; the type of a path."""
LONGEST = 80
"""Lines of a function; a test keeps the number of longer ones from growing."""
LONGER = 0


def trees() -> dict[str, tuple[Path, ast.Module]]:
    """Every module by its dotted name."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        parts = path.relative_to(SOURCE.parent).with_suffix("").parts
        name = ".".join(parts[:-1] if parts[-1] == "__init__" else parts)
        found[name] = path, ast.parse(path.read_text("utf-8"))
    return found


TREES = trees()


def imported(tree: ast.Module, everywhere: bool = True) -> set[str]:
    """Names that a module imports; without `everywhere`, those inside functions are left out."""
    names: set[str] = set()
    nodes = list(ast.walk(tree))
    if not everywhere:
        inner = {id(n) for f in nodes if isinstance(f, (ast.FunctionDef, ast.AsyncFunctionDef)) for n in ast.walk(f)}
        nodes = [node for node in nodes if id(node) not in inner]
    for node in nodes:
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names |= {f"{node.module}.{alias.name}" for alias in node.names}
    return names


class Layers(unittest.TestCase):
    def test_imports_point_one_way(self) -> None:
        for path, tree in TREES.values():
            place = path.relative_to(SOURCE).as_posix()
            part = next((p for p in ALLOWED if place.startswith(p)), None)
            if part is None:
                continue
            own = part.replace("/", ".").removesuffix(".py")
            for name in imported(tree):
                inner = name.removeprefix("lucid_finch.")
                if not name.startswith("lucid_finch.") or inner.startswith(f"{own}."):
                    continue
                allowed = any(inner == a or inner.startswith(f"{a}.") for a in ALLOWED[part])
                self.assertTrue(allowed, f"{place} imports {name}")

    def test_there_is_no_circle(self) -> None:
        """Type checkers follow imports that Python skips, and so do readers: these count too."""
        known = set(TREES)
        graph = {}
        for name, (_, tree) in TREES.items():
            targets = imported(tree, everywhere=False)
            graph[name] = {t if t in known else t.rpartition(".")[0] for t in targets} & known - {name}
        done: set[str] = set()

        def visit(name: str, path: tuple[str, ...]) -> None:
            self.assertNotIn(name, path, f"a circle: {' -> '.join((*path, name))}")
            if name not in done:
                for other in sorted(graph[name]):
                    visit(other, (*path, name))
                done.add(name)

        for name in graph:
            visit(name, ())

    def test_private_names_stay_in_their_module(self) -> None:
        for name, (_, tree) in TREES.items():
            for target in imported(tree):
                last = target.rpartition(".")[2]
                if target.startswith("lucid_finch") and last.startswith("_") and not last.startswith("__"):
                    self.fail(f"{name} imports {target}")

    def test_functions_are_short(self) -> None:
        long = []
        for name, (_, tree) in TREES.items():
            for node in ast.walk(tree):
                if isinstance(node, ast.FunctionDef) and (node.end_lineno or 0) - node.lineno + 1 > LONGEST:
                    long.append(f"{name}.{node.name}")
        self.assertLessEqual(len(long), LONGER, sorted(long))

    def test_the_window_names_no_kind_and_no_step(self) -> None:
        from lucid_finch.core.detectors import KINDS
        from lucid_finch.core.prepare import STEPS

        # Words that mean something else as well are told apart by how they are used: as what `step` or `kind` is compared with.
        for name, (_, tree) in TREES.items():
            if not name.startswith("lucid_finch.desktop") or name.endswith(".screenshots"):
                continue
            for node in ast.walk(tree):
                if isinstance(node, ast.Constant) and node.value in KINDS:
                    self.fail(f"{name}:{node.lineno} names the kind {node.value}")
                if isinstance(node, ast.Compare):
                    words = {n.value for n in ast.walk(node) if isinstance(n, ast.Constant) and isinstance(n.value, str)}
                    self.assertFalse(words & (set(STEPS) - {"kernel", "tone", "smooth"}), f"{name}:{node.lineno}")

    def test_core_knows_no_qt_files_or_network(self) -> None:
        for path in (SOURCE / "core").rglob("*.py"):
            wrong = {n.split(".")[0] for n in imported(ast.parse(path.read_text("utf-8")))} & FORBIDDEN_IN_CORE
            if path.name in KNOW_PATHS:
                wrong.discard("pathlib")
            self.assertFalse(wrong, f"{path.name} imports {wrong}")

    def test_detectors_do_not_import_each_other(self) -> None:
        for path in (SOURCE / "core" / "detectors").glob("[a-z]*.py"):
            for name in imported(ast.parse(path.read_text("utf-8"))):
                apart = not name.startswith("lucid_finch.core.detectors.") or ".shared." in name
                self.assertTrue(apart, f"{path.name} imports {name}")

    def test_every_module_says_what_it_is_for(self) -> None:
        for name, (_, tree) in TREES.items():
            self.assertTrue(ast.get_docstring(tree), f"{name} does not say what it is for")

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


if __name__ == "__main__":
    unittest.main()
