"""A 100-megapixel image on the bench: time of each frame while panning and zooming, memory against the pixels of the file."""

from __future__ import annotations

import resource
import time

import numpy as np
from PySide6.QtWidgets import QMessageBox

from benchmarks.scenes import photograph
from lucid_finch.core.image import Image
from lucid_finch.desktop.shell.application import make_application
from lucid_finch.desktop.shell.screenshots import settle
from lucid_finch.desktop.shell.window import Bench

SIDE = 10_000


def resident() -> float:
    """Megabytes of memory in use now."""
    with open("/proc/self/statm", encoding="ascii") as file:
        return int(file.read().split()[1]) * resource.getpagesize() / 1e6


def main() -> None:
    application = make_application()
    tile = photograph()
    pixels = np.tile(tile, (SIDE // tile.shape[0] + 1, SIDE // tile.shape[1] + 1))[:SIDE, :SIDE].copy()
    bench = Bench()
    bench.documents.ask_unsaved = lambda: QMessageBox.StandardButton.Discard
    bench.show()
    # Compiled kernels and libraries are there whatever is opened.
    bench.open_image(Image.from_array(tile[:400, :600].copy()))
    settle(bench)
    before = resident() - pixels.nbytes / 1e6
    started = time.perf_counter()
    bench.open_image(Image.from_array(pixels))
    settle(bench, 600)
    print(f"opened, {len(bench.study.detections['edges'].findings)} findings, all maps: {time.perf_counter() - started:.1f} s")
    print(f"memory above a small image's: {(resident() - before) / (pixels.nbytes / 1e6):.2f} times the pixels")
    frames: list[float] = []
    view = bench.frames[0].view
    most = resident()
    for step in range(400):
        turn = step / 400 * 2 * np.pi
        scale = 0.06 * (12 / 0.06) ** (0.5 - 0.5 * np.cos(3 * turn))
        started = time.perf_counter()
        view.set(SIDE / 2 + 0.3 * SIDE * np.cos(turn), SIDE / 2 + 0.3 * SIDE * np.sin(turn), scale)
        for frame in bench.panes.shown:
            frame.pane.repaint()
        application.processEvents()
        frames.append(time.perf_counter() - started)
        most = max(most, resident())
    values = 1000 * np.array(frames)
    print(
        f"frame of both panes: median {np.median(values):.1f} ms, 99 % {np.quantile(values, 0.99):.1f}, most {values.max():.1f}"
    )
    print(f"memory while looking: at most {(most - before) / (pixels.nbytes / 1e6):.2f} times the pixels")
    settle(bench)
    bench.close()


if __name__ == "__main__":
    main()
