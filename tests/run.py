"""Runs everything that must hold: lint, types, the test suite offscreen and, where there is Xvfb, the window under X11.

Usage: tests/run.py [NAME ...]   (with names, only those test modules, e.g. tests.core.test_image)
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
_CLOSING = re.compile(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?$", re.MULTILINE)


def run_tests(names: list[str]) -> tuple[int, int, int]:
    """Passed, failed and skipped of the named modules, or of all."""
    loader = unittest.TestLoader()
    suite = loader.loadTestsFromNames(names) if names else loader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
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


def run_under_x11() -> tuple[int, int, int]:
    """The window's tests once more in a real X11 window, in a process of their own."""
    if shutil.which("Xvfb") is None or shutil.which("xvfb-run") is None:
        print("== no Xvfb: the window was tested offscreen only")
        return 0, 0, 0
    print("== the window under Xvfb", flush=True)
    modules = [f"tests.desktop.{name}" for name in ("test_bench", "test_cards", "test_panes", "test_random")]
    command = ["xvfb-run", "-a", "-s", "-screen 0 1400x900x24", sys.executable, str(Path(__file__)), *modules]
    return _run_apart(command, {"QT_QPA_PLATFORM": "xcb", "FINCH_X11": "1"})


def run_scaled() -> tuple[int, int, int]:
    """The panes on screens with other pixel ratios."""
    counts = (0, 0, 0)
    for factor in ("1.25", "2"):
        print(f"== the panes at a pixel ratio of {factor}", flush=True)
        found = _run_apart([sys.executable, str(Path(__file__)), "tests.desktop.test_panes"], {"QT_SCALE_FACTOR": factor})
        counts = (counts[0] + found[0], counts[1] + found[1], counts[2] + found[2])
    return counts


def _run_apart(command: list[str], changes: dict[str, str]) -> tuple[int, int, int]:
    """Tests in a process of their own: passed, failed, skipped."""
    environment = {**os.environ, **changes}
    done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, check=False)
    print(done.stdout[-4000:], done.stderr[-8000:])
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
    passed, failed, skipped = run_tests(names)
    if not names:
        checks = run_checks()
        passed, failed = passed + checks[0], failed + checks[1]
        for apart in (run_under_x11(), run_scaled()):
            passed, failed, skipped = passed + apart[0], failed + apart[1], skipped + apart[2]
        print(f"== {time.monotonic() - started:.0f} s")
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""), flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    # Not sys.exit: a thread that a failed test left behind must not keep the run from ending.
    status = main()
    sys.stdout.flush()
    os._exit(status)
