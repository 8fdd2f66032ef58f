"""Memory of a window that steps through a folder of images for as long as an hour's work: it has to stay flat."""

from __future__ import annotations

import argparse
import gc
import tempfile
from pathlib import Path

import numpy as np
from PIL import Image as Pillow
from PySide6.QtWidgets import QMessageBox

from benchmarks.large_image import resident
from benchmarks.scenes import photograph
from lucid_finch.desktop.shell.application import make_application
from lucid_finch.desktop.shell.screenshots import settle
from lucid_finch.desktop.shell.window import Bench
from lucid_finch.desktop.study.runner import give_back_memory


def memory(bench: Bench) -> float:
    """Megabytes that nobody can give back: the store of finished work is bounded and is emptied first."""
    bench.runner.engine.cache.clear()
    gc.collect()
    give_back_memory()
    return resident()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--steps", type=int, default=1800, help="one each two seconds is an hour")
    steps = parser.parse_args().steps
    make_application()
    with tempfile.TemporaryDirectory() as folder:
        for number in range(40):
            pixels = np.roll(photograph(), 53 * number, number % 2)[: 1080 - 8 * (number % 9)]
            Pillow.fromarray(pixels).save(Path(folder) / f"{number:02d}.png", compress_level=1)
        bench = Bench()
        bench.documents.ask_unsaved = lambda: QMessageBox.StandardButton.Discard
        bench.show()
        bench.documents.open_path(Path(folder))
        settle(bench, 600)
        bench.study.add_detector("circles")
        settle(bench, 600)
        measured = []
        direction = 1
        for step in range(steps + 1):
            if step % (steps // 6) == 0:
                measured.append(memory(bench))
                print(f"step {step}: {measured[-1]:.0f} MB", flush=True)
            if not 0 <= bench.images.current + direction < len(bench.images.entries):
                direction = -direction
            bench.images.step(direction)
            settle(bench, 60)
        print(f"grown from the first sixth on: {max(measured[1:]) - measured[1]:.1f} MB at most")
        bench.close()


if __name__ == "__main__":
    main()
