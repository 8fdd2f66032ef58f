"""Whether numbers and profile follow the pointer: time from a move to the painted window, on two megapixels."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMessageBox

from benchmarks.scenes import photograph
from lucid_finch.core.image import Image
from lucid_finch.desktop.shell.application import make_application
from lucid_finch.desktop.shell.screenshots import settle
from lucid_finch.desktop.shell.window import Bench

FRAME = 1000 / 30
"""ms; a screen's frame is half of it."""


def main() -> None:
    application = make_application()
    bench = Bench()
    bench.documents.ask_unsaved = lambda: QMessageBox.StandardButton.Discard
    bench.show()
    bench.open_image(Image.from_array(photograph()))
    settle(bench)
    pane = bench.frames[0].pane

    def times(move: Callable[[int], None], count: int = 200) -> list[float]:
        found = []
        for step in range(count):
            started = time.perf_counter()
            move(step)
            application.processEvents()
            application.processEvents()
            found.append(1000 * (time.perf_counter() - started))
        return found

    def hover(step: int) -> None:
        QTest.mouseMove(pane, QPoint(20 + step % (pane.width() - 40), 40 + (7 * step) % (pane.height() - 80)))

    bench.drawer.show_values()
    for name in ("source", "smoothed", "magnitude"):
        bench.panes.show_map(0, name)
        settle(bench)
        report(f"numbers of {name}", times(hover))
    for sigma in (3.0,):
        bench.study.edit_detector("edges", {"sigma": sigma}, "wide")
        settle(bench)
        report(f"numbers of magnitude, sigma {sigma:g}", times(hover))

    for width in (1, 21):
        bench.drawer.measure.width_box.setValue(width)
        bench.panes.show_map(0, "source")
        bench.drawer.start_measuring("line")
        QTest.mousePress(pane, Qt.MouseButton.LeftButton, pos=QPoint(10, 10))
        report(f"profile over {width} px", times(hover))
        length = bench.drawer.measure.plot.profile.at[-1] if bench.drawer.measure.plot.profile is not None else 0
        print(f"    the last line was {length:.0f} px long")
        QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=QPoint(200, 200))
    bench.close()


def report(what: str, milliseconds: list[float]) -> None:
    """Median, 99 % and the share of moves that took longer than a frame."""
    values = np.array(milliseconds)
    late = int((values > FRAME).sum())
    print(f"{what:34} median {np.median(values):5.1f} ms, 99 % {np.quantile(values, 0.99):5.1f}, over {FRAME:.0f} ms: {late}")


if __name__ == "__main__":
    main()
