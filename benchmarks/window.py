"""How quickly the window answers on two megapixels: a judged limit, a gathered parameter, the event loop while dragging."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QMessageBox

from benchmarks.scenes import photograph
from lucid_finch.core.image import Image
from lucid_finch.desktop.shell.application import make_application
from lucid_finch.desktop.shell.screenshots import settle
from lucid_finch.desktop.shell.window import Bench

DRAGGING = 60.0
"""Seconds."""


def main() -> None:
    application = make_application()
    bench = Bench()
    bench.documents.ask_unsaved = lambda: QMessageBox.StandardButton.Discard
    bench.show()
    bench.open_image(Image.from_array(photograph()))
    settle(bench)
    assert bench.study.detection is not None
    print(f"{len(bench.study.detection.task.candidates)} candidates, {len(bench.study.detection.findings)} findings")

    histogram = bench.settings.editors["", "false_alarms"].histogram
    assert histogram is not None
    judged = []
    for step in range(60):
        started = time.perf_counter()
        before, shown = bench.study.detection, bench.findings.rows.table
        histogram.limit_moved.emit(2.6 + step, -1)
        while bench.study.detection is before or bench.findings.rows.table is shown:
            application.processEvents()
        application.processEvents()
        judged.append(time.perf_counter() - started)
        settle(bench)
    report("limit moved: overlay and tables drawn", judged)

    slider = bench.settings.editors["", "sigma"].slider
    assert slider is not None
    gathered = []
    for step in range(20):
        shown = bench.findings.rows.table
        started = time.perf_counter()
        slider.setValue(150 + 10 * step)
        while bench.findings.rows.table is shown:
            application.processEvents()
        application.processEvents()
        gathered.append(time.perf_counter() - started)
        settle(bench)
    report("smoothing moved: overlay and tables drawn", gathered)

    gaps: list[float] = []
    last = time.perf_counter()

    def beat() -> None:
        nonlocal last
        now = time.perf_counter()
        gaps.append(now - last)
        last = now

    timer = QTimer()
    timer.timeout.connect(beat)
    timer.start(5)
    end = time.monotonic() + DRAGGING
    number = 0
    moved = time.perf_counter()
    while time.monotonic() < end:
        application.processEvents()
        if time.perf_counter() - moved > 0.03:
            moved = time.perf_counter()
            number += 1
            if number % 40 < 20:
                slider.setValue(150 + 5 * (number % 20))
            else:
                histogram.limit_moved.emit(2.0 + number % 20, -1)
        time.sleep(0.0005)
    timer.stop()
    report("gap of the event loop while dragging", gaps)
    late = np.array(gaps)
    print(f"under 30 ms: {100 * np.mean(late < 0.03):.2f} %, over 100 ms: {int((late > 0.1).sum())} of {len(gaps)}")
    settle(bench)
    bench.close()


def report(what: str, seconds: list[float]) -> None:
    values = 1000 * np.array(seconds)
    print(f"{what}: median {np.median(values):.1f} ms, 99 % {np.quantile(values, 0.99):.1f} ms, most {values.max():.1f} ms")


if __name__ == "__main__":
    main()
