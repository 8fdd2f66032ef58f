"""Start-up times as ratios: importing against importing NumPy, --help, the window against a bare one."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from PIL import Image as Pillow

from benchmarks.scenes import photograph

BARE = """
import numpy, numba
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([]); window = QMainWindow(); window.resize(1280, 800); window.show(); app.processEvents()
"""

OURS = """
import sys
from lucid_finch.desktop.shell.application import first_bench, make_application
bench = first_bench(); app = make_application(); bench.documents.open_path(sys.argv[1])
from PySide6.QtCore import QEventLoop
while "source" not in bench.panes.pictures: app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
app.processEvents()
import os; os._exit(0)
"""


def seconds(*command: str, turns: int = 7) -> float:
    """The fastest of several runs of a whole process, with nothing kept of earlier ones but compiled kernels."""
    best = float("inf")
    for _ in range(turns):
        with tempfile.TemporaryDirectory() as home:
            own = {"QT_QPA_PLATFORM": "offscreen", "XDG_CONFIG_HOME": home, "XDG_STATE_HOME": home}
            started = time.perf_counter()
            subprocess.run(command, check=True, capture_output=True, env={**os.environ, **own})
            best = min(best, time.perf_counter() - started)
    return best


def main() -> None:
    python = sys.executable
    nothing = seconds(python, "-c", "pass")
    numpy = seconds(python, "-c", "import numpy")
    package = seconds(python, "-c", "import lucid_finch")
    helped = seconds(str(Path(python).parent / "lucid-finch"), "--help")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "picture.png"
        Pillow.fromarray(photograph()).save(path)
        # In turns: the machine's state changes from one second to the next.
        pairs = [(seconds(python, "-c", BARE, turns=1), seconds(python, "-c", OURS, str(path), turns=1)) for _ in range(9)]
    bare, ours = (float(np.median(column)) for column in zip(*pairs, strict=True))
    ratio = float(np.median([b / a for a, b in pairs]))
    print(f"python {nothing:.3f} s, import numpy {numpy:.3f} s, import lucid_finch {package:.3f} s")
    print(f"--help {helped:.3f} s, {helped / numpy:.1f} times import numpy")
    print(f"bare window {bare:.2f} s, ours to its first picture {ours:.2f} s, median ratio {ratio:.2f}")


if __name__ == "__main__":
    main()
