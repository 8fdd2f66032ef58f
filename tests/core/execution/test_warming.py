"""What is compiled is known by content: a copy elsewhere, or files with another date, compile nothing."""

from __future__ import annotations

import ast
import multiprocessing
import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from lucid_finch import core
from lucid_finch.core.execution import warming
from lucid_finch.core.numerics.runtime import kernel_cache


class Warm(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.sources = Path(folder.name) / "core"
        shutil.copytree(core.__path__[0], self.sources, ignore=shutil.ignore_patterns("__pycache__"))

    def test_the_marker_follows_the_content(self) -> None:
        marker = kernel_cache.complete_marker()
        self.assertEqual(kernel_cache.complete_marker(self.sources), marker)
        os.utime(self.sources / "image.py", (1, 1))
        self.assertEqual(kernel_cache.complete_marker(self.sources), marker)
        with (self.sources / "image.py").open("a") as stream:
            stream.write("# changed")
        self.assertNotEqual(kernel_cache.complete_marker(self.sources), marker)

    def test_a_kernel_is_keyed_by_what_it_imports(self) -> None:
        numerics = self.sources / "numerics"
        with mock.patch.object(kernel_cache, "_ROOT", numerics):
            names = ("hough.line_votes", "edges.chains", "filtering.filters")
            before = [self.digest(name) for name in names]
            self.assertEqual(len(set(before)), 3)
            with (numerics / "hough" / "line_votes.py").open("a") as stream:
                stream.write("# changed")
            after = [self.digest(name) for name in names]
            self.assertEqual([a == b for a, b in zip(before, after, strict=True)], [False, True, True])
            with (numerics / "runtime" / "compiling.py").open("a") as stream:
                stream.write("# changed")
            self.assertFalse(set(after) & {self.digest(name) for name in names})

    def test_imports_are_seen_as_the_parser_sees_them(self) -> None:
        prefix, several = "lucid_finch.core.numerics", 0
        for path in self.sources.rglob("*.py"):
            source = path.read_bytes()
            parsed = set()
            for node in ast.walk(ast.parse(source)):
                if isinstance(node, ast.ImportFrom) and f"{node.module}.".startswith(f"{prefix}."):
                    module = str(node.module).removeprefix(prefix).removeprefix(".")
                    parsed |= {module, *(f"{module}.{alias.name}".removeprefix(".") for alias in node.names)}
            several += len(parsed) > 2
            self.assertEqual(kernel_cache.imported_modules(source), parsed, path)
        self.assertGreater(several, 20)

    def digest(self, name: str) -> str:
        kernel_cache.closure_digest.cache_clear()
        kernel_cache._source_and_imports.cache_clear()
        self.addCleanup(kernel_cache.closure_digest.cache_clear)
        self.addCleanup(kernel_cache._source_and_imports.cache_clear)
        return kernel_cache.closure_digest(name)

    def test_a_place_that_cannot_be_written_is_no_obstacle(self) -> None:
        with tempfile.NamedTemporaryFile() as file, mock.patch.dict(os.environ, {"LUCID_FINCH_KERNELS": file.name}):
            folder = kernel_cache.cache_folder.__wrapped__()
        self.assertTrue(folder.is_relative_to(Path(tempfile.gettempdir())))

    def test_a_folder_that_others_may_write_to_is_not_trusted(self) -> None:
        with tempfile.TemporaryDirectory() as place, tempfile.NamedTemporaryFile() as file:
            planted = Path(place) / f"lucid-finch-{os.getuid()}"
            with mock.patch.dict(os.environ, {"LUCID_FINCH_KERNELS": file.name}), mock.patch.object(tempfile, "tempdir", place):
                planted.mkdir()
                planted.chmod(0o777)
                folder = kernel_cache.cache_folder.__wrapped__()
                self.assertNotEqual(folder, planted)
                self.assertEqual(folder.stat().st_mode & 0o077, 0)
                planted.chmod(0o700)
                self.assertEqual(kernel_cache.cache_folder.__wrapped__(), planted)
                planted.rename(Path(place) / "elsewhere")
                planted.symlink_to(Path(place) / "elsewhere")
                self.assertNotEqual(kernel_cache.cache_folder.__wrapped__(), planted)

    def test_it_is_warm_where_the_mark_is(self) -> None:
        mark = self.sources / "mark"
        with mock.patch.object(warming, "complete_marker", lambda: mark):
            self.assertFalse(warming.is_warm())
            mark.touch()
            self.assertTrue(warming.is_warm())


_SWEEP = """
import sys
from numba.core import event
compiled = event.RecordingListener()
event.register("numba:compile", compiled)
from lucid_finch.core.detectors import KINDS
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.execution.warming import example_images, noisy_images
from lucid_finch.core.prepare import STEPS
from benchmarks.hard import SCENES
from benchmarks.hard_scenes import photographed
runs = 0
for name, image in example_images().items():
    for kind, detector in KINDS.items():
        for declared in detector.Parameters.declarations().values():
            for value in declared.type.sweep(declared, declared.plain_default(), (1.0, 20.0))[:5]:
                try:
                    example = detector.examples[0]
                    needed = {name: v for name, v in example.parameters.items() if v in example.assets}
                    found = engine.detect(kind, image, {**needed, declared.name: value}, example.assets)
                except ParameterError:
                    continue
                runs += 1
                _ = [evidence.values for evidence in found.evidence.values()], found.near_misses["failed"]
    for name, step in STEPS.items():
        for example in step.examples:
            for declared in step.Parameters.declarations().values():
                for value in declared.type.sweep(declared, declared.plain_default(), (1.0, 20.0))[:5]:
                    try:
                        engine.Engine().prepared(image, [{"step": name, **example, declared.name: value}])
                    except ParameterError:
                        continue
                    runs += 1
for image in noisy_images().values():
    for kind, detector in KINDS.items():
        example = detector.examples[0]
        found = engine.detect(kind, image, example.parameters, example.assets)
        assert kind != "lines" or found.task.gathered.oriented.smoothing.hides_edges
for kind in ("circles", "ellipses", "lines", "contours", "corners", "blobs"):
    for condition in ("photons 8", "halftone 7", "JPEG 30", "salt 5"):
        engine.detect(kind, photographed(SCENES[kind](500, "plain"), condition, 500), {})
names = sorted({e.data["dispatcher"].py_func.__qualname__ for _, e in compiled.buffer})
print(runs, *names)
"""


_LASTING = """
import multiprocessing, time
from concurrent.futures import ProcessPoolExecutor
from lucid_finch.core.execution.warming import _end_with_parent
pool = ProcessPoolExecutor(1, multiprocessing.get_context("spawn"), _end_with_parent)
pool.submit(time.sleep, 60)
while not multiprocessing.active_children():
    time.sleep(0.01)
time.sleep(3)
print(multiprocessing.active_children()[0].pid, flush=True)
time.sleep(60)
"""


class Complete(unittest.TestCase):
    def test_nothing_is_compiled_after_set_up(self) -> None:
        list(warming.warm_up_steps() if not warming.is_warm() else ())
        done = subprocess.run([sys.executable, "-c", _SWEEP], capture_output=True, text=True, check=True)
        runs, *names = done.stdout.split()
        self.assertGreater(int(runs), 800)
        self.assertEqual(names, [])

    def test_a_killed_parent_leaves_no_process_behind(self) -> None:
        parent = subprocess.Popen([sys.executable, "-c", _LASTING], stdout=subprocess.PIPE, text=True)
        assert parent.stdout is not None
        child = int(parent.stdout.readline())
        parent.kill()
        parent.wait()
        parent.stdout.close()
        deadline = time.monotonic() + 20
        while Path(f"/proc/{child}").exists() and "Z" not in Path(f"/proc/{child}/stat").read_text().split()[2]:
            self.assertLess(time.monotonic(), deadline, "the child goes on")
            time.sleep(0.05)

    def test_whoever_stops_leaves_no_process_behind(self) -> None:
        steps = warming.warm_up_steps(1, behind_a_window=True)
        with mock.patch.object(warming, "_tasks", lambda: {"one": print, "two": print}):
            self.assertEqual(next(steps), (0.0, "two"))
            next(steps)
            steps.close()
        # The pool's own thread waits for its process too, and whoever comes second is told nothing at first.
        deadline = time.monotonic() + 20
        while left := multiprocessing.active_children():
            self.assertLess(time.monotonic(), deadline, left)
            time.sleep(0.05)


if __name__ == "__main__":
    unittest.main()
