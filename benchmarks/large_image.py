"""Large images on the bench: open to findings at 24 megapixels against `detect`, frames and memory at 100 megapixels."""

from __future__ import annotations

import resource
import time

import numpy as np
from PySide6.QtCore import QEventLoop
from PySide6.QtWidgets import QMessageBox

import lucid_finch as lf
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


def until_findings(bench: Bench, image: Image) -> float:
    """Seconds from opening to the first findings; the event loop waits as in use, a loop of `processEvents` would take turns."""
    loop = QEventLoop()
    wired = bench.study.detection_changed.connect(lambda _: loop.quit())
    started = time.perf_counter()
    bench.open_image(image)
    loop.exec()
    seconds = time.perf_counter() - started
    bench.study.detection_changed.disconnect(wired)
    settle(bench, 600)
    return seconds


def compare_with_detect(bench: Bench, tile: np.ndarray) -> None:
    """Ratios at 24 megapixels; every image is another one, so that nothing is remembered."""
    ratios = []
    for number in range(9):
        pixels = np.roll(np.tile(tile, (4, 4))[:4000, :6000], 37 * number, 1).copy()
        started = time.perf_counter()
        lf.detect("edges", Image.from_array(pixels))
        plain = time.perf_counter() - started
        ratios.append(until_findings(bench, Image.from_array(pixels)) / plain)
    low, middle, high = np.quantile(ratios[1:], [0.25, 0.5, 0.75])
    print(f"24 MP, open to findings over `detect`: median {middle:.2f}, quartiles {low:.2f} and {high:.2f}")


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
    compare_with_detect(bench, tile)
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
