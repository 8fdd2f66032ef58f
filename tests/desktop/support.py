"""The base of the window's tests: errors in slots and in painting fail them, and so do Qt's warnings."""

from __future__ import annotations

import sys
import tempfile
import time
import traceback
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image as Pillow
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QtMsgType, qInstallMessageHandler
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox, QWidget

from lucid_finch.core.image import Image
from lucid_finch.desktop.shell.application import make_application
from lucid_finch.desktop.shell.window import Bench
from tests.support import disc

_HARMLESS = ("XDG_RUNTIME_DIR", "This plugin does not support", "Could not connect", "dbus")


def close_for_good(window: QWidget) -> None:
    """Close and delete now: outside an event loop nobody else does what `deleteLater` asks for."""
    window.close()
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    QApplication.processEvents()


class WindowCase(unittest.TestCase):
    """A test with a QApplication and a folder of its own."""

    application: QApplication

    @classmethod
    def setUpClass(cls) -> None:
        cls.application = make_application()

    def setUp(self) -> None:
        self.errors: list[str] = []
        previous = sys.excepthook
        sys.excepthook = lambda kind, error, trace: self.errors.append("".join(traceback.format_exception(kind, error, trace)))
        self.addCleanup(setattr, sys, "excepthook", previous)
        qInstallMessageHandler(self._message)
        self.addCleanup(qInstallMessageHandler, None)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.addCleanup(lambda: self.assertEqual(self.errors, []))

    def _message(self, kind: QtMsgType, context: Any, text: str) -> None:
        if kind != QtMsgType.QtDebugMsg and not any(h in text for h in _HARMLESS):
            self.errors.append(f"Qt: {text}")

    def wait(self, condition: Callable[[], object], seconds: float = 60.0, what: str = "the condition") -> None:
        """Let events be handled until the condition holds."""
        end = time.monotonic() + seconds
        while not condition():
            self.application.processEvents()
            time.sleep(0.002)
            if time.monotonic() > end:
                self.fail(f"{what} did not come about in {seconds:g} s; {self.errors}")
        self.application.processEvents()

    def turns(self, count: int = 4) -> None:
        """So many turns of the event loop."""
        for _ in range(count):
            self.application.processEvents()

    def click(self, widget: QWidget, place: QPointF, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, modifier, QPoint(round(place.x()), round(place.y())))


class BenchCase(WindowCase):
    """A test with the real main window."""

    def setUp(self) -> None:
        super().setUp()
        self.bench = self.make_bench()

    def make_bench(self) -> Bench:
        """A window that is closed at the end."""
        bench = Bench()
        bench.documents.ask_unsaved = lambda: QMessageBox.StandardButton.Discard
        self.addCleanup(close_for_good, bench)
        bench.show()
        self.application.processEvents()
        return bench

    def answered(self) -> None:
        """Wait until what is judged in the window's own thread is shown, the worker or not."""
        self.wait(lambda: not self.bench.answering, what="an answer without the worker")

    def settle(self) -> None:
        """Wait until the worker is idle and its results are shown."""
        for _ in range(3):
            self.wait(lambda: not self.bench.busy, what="a quiet bench")

    def open(self, image: Image) -> None:
        self.bench.open_image(image)
        self.settle()

    def picture_file(self, name: str = "disc.png", image: Image | None = None) -> Path:
        path = self.folder / name
        Pillow.fromarray((image or disc(40.0, noise=3.0)).pixels).save(path)
        return path


def two_squares() -> Image:
    """A strong and a weak square, with noise: two findings, and some near misses."""
    picture = 90 + np.random.default_rng(0).normal(0, 3, (200, 300))
    picture[40:110, 30:110] += 70
    picture[60:150, 170:260] += 22
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8), name="squares.png")
