"""Runs everything that must hold: lint, types, the test suite offscreen and, where there is Xvfb, the window under X11.

Usage: tests/run.py [NAME ...]   (with names, only those test modules, e.g. tests.core.test_image)
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
_UNDER_X11 = ("test_bench", "test_cards", "test_panes", "test_random")
"""Modules of the window's tests that also run in a real X11 window."""
_UNDER_WAYLAND = ("test_bench",)
"""Those that also run under a Wayland compositor; without a seat it gives a window no keyboard."""
_CLOSING = re.compile(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?$", re.MULTILINE)


def run_tests(names: list[str]) -> tuple[int, int, int]:
    """Passed, failed and skipped of the named modules."""
    suite = unittest.TestLoader().loadTestsFromNames(names)
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    return max(result.testsRun - failed - skipped, 0), failed, skipped


def run_checks() -> tuple[int, int]:
    """Lint, format and types: passed and failed."""
    commands = [["ruff", "check", "."], ["ruff", "format", "--check", "."], ["mypy"]]
    failed = 0
    for command in commands:
        print(f"== {' '.join(command)}", flush=True)
        failed += subprocess.run([sys.executable, "-m", *command], cwd=ROOT, check=False).returncode != 0
    return len(commands) - failed, failed


@dataclass(frozen=True)
class Part:
    """A part of the tests that runs in a process of its own."""

    title: str
    names: list[str]
    environment: dict[str, str] = field(default_factory=dict)
    before: tuple[str, ...] = ()
    """A command that the process is started by."""
    compositor: bool = False
    """Whether it needs a Wayland compositor, which has no screen."""


def parts() -> list[Part]:
    """The window offscreen, the rest in two halves, and the window once more under X11 and on screens with other pixel ratios;
    the longest first."""
    modules = sorted(
        ".".join(path.relative_to(ROOT).with_suffix("").parts) for path in (ROOT / "tests").rglob("test_*.py")
    )  # fmt: skip
    desktop = [name for name in modules if name.startswith("tests.desktop.")]
    others = [name for name in modules if name not in desktop]
    detectors = [name for name in others if name.startswith(("tests.core.detectors.", "tests.core.numerics.", "tests.demo."))]
    found = [
        Part("all else", [name for name in others if name not in detectors]),
        Part("the window", desktop),
        Part("detectors and numerics", detectors),
    ]
    if shutil.which("Xvfb") is None or shutil.which("xvfb-run") is None:
        print("== no Xvfb: the window is tested offscreen only")
    else:
        again = [name for name in desktop if name.rpartition(".")[2] in _UNDER_X11]
        server = ("xvfb-run", "-a", "-s", "-screen 0 1400x900x24")
        found.append(Part("the window under Xvfb", again, {"QT_QPA_PLATFORM": "xcb", "FINCH_X11": "1"}, server))
    if shutil.which("weston") is None:
        print("== no weston: the window is not tested under Wayland")
    else:
        again = [name for name in desktop if name.rpartition(".")[2] in _UNDER_WAYLAND]
        found.append(Part("the window under Wayland", again, {"QT_QPA_PLATFORM": "wayland"}, compositor=True))
    scaled = [name for name in desktop if name.endswith((".test_panes", ".test_layout"))]
    return found + [
        Part(f"the window at a pixel ratio of {factor}", scaled, {"QT_SCALE_FACTOR": factor}) for factor in ("1.25", "2")
    ]


@contextlib.contextmanager
def compositor(environment: dict[str, str]) -> Iterator[None]:
    """A Wayland compositor without a screen, which the environment then names."""
    with tempfile.TemporaryDirectory() as folder:
        os.chmod(folder, 0o700)
        environment |= {"XDG_RUNTIME_DIR": folder, "WAYLAND_DISPLAY": "finch-test"}
        command = [
            "weston",
            "--backend=headless-backend.so",
            "--socket=finch-test",
            "--idle-time=0",
            "--width=1400",
            "--height=900",
        ]
        with subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as weston:
            end = time.monotonic() + 20
            while not Path(folder, "finch-test").exists() and time.monotonic() < end:
                time.sleep(0.1)
            try:
                yield
            finally:
                weston.terminate()


def run_part(part: Part) -> tuple[int, int, int]:
    """Passed, failed and skipped; prints what the process said once it has ended."""
    command = [*part.before, sys.executable, str(Path(__file__)), *part.names]
    environment = {**os.environ, **part.environment}
    begun = time.monotonic()
    with compositor(environment) if part.compositor else contextlib.nullcontext():
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, check=False)
    said = f"{done.stdout[-4000:]} {done.stderr[-30000:]}"
    print(f"== {part.title}, {time.monotonic() - begun:.0f} s\n{said}", flush=True)
    found = _CLOSING.search(done.stdout)
    if found is None or done.returncode not in (0, 1):
        return 0, 1, 0
    passed, failed, skipped = (int(group or 0) for group in found.groups())
    return passed, max(failed, int(done.returncode != 0)), skipped


def main() -> int:
    names = sys.argv[1:]
    started = time.monotonic()
    sys.path.insert(0, str(ROOT))
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    if names:
        passed, failed, skipped = run_tests(names)
    else:
        passed, failed = run_checks()
        skipped = 0
        with ThreadPoolExecutor(min(os.cpu_count() or 1, 4)) as pool:
            for one in pool.map(run_part, parts()):
                passed, failed, skipped = passed + one[0], failed + one[1], skipped + one[2]
        print(f"== {time.monotonic() - started:.0f} s")
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""), flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    # Not sys.exit: a thread that a failed test left behind must not keep the run from ending.
    status = main()
    sys.stdout.flush()
    os._exit(status)
