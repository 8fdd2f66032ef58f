"""Starts the desktop application: platform, locale, theme, log, window."""

from __future__ import annotations

import faulthandler
import gc
import logging
import logging.handlers
import os
import signal
import sys
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from typing import IO, TYPE_CHECKING

import platformdirs
from PySide6.QtCore import QLocale, QRect, QSize, Qt, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication, QWidget

from lucid_finch.core.numerics.runtime import threads

if TYPE_CHECKING:
    from lucid_finch.desktop.shell.window import Bench

_TITLE_BAR = 44
"""px that a title bar takes, at most."""

_kept: list[IO[str]] = []


def has_display() -> bool:
    """Whether a window could be seen."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def make_application() -> QApplication:
    """The one QApplication, with our locale (points in numbers) and theme; offscreen where there is no display."""
    existing = QApplication.instance()
    if isinstance(existing, QApplication):
        return existing
    if not has_display():
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    QLocale.setDefault(QLocale.c())
    # The worker's Python must not keep the window waiting.
    sys.setswitchinterval(0.001)
    # One processor is left to the window, however hard the worker works.
    threads.set_thread_count(threads.thread_count() - 1)
    # Dialogs of files in our colours, whatever the desktop's are.
    QApplication.setAttribute(Qt.ApplicationAttribute.AA_DontUseNativeDialogs)
    application = QApplication([sys.argv[0]])
    application.setApplicationName("Lucid Finch")
    application.setDesktopFileName("lucid-finch")
    application.setWindowIcon(QIcon(str(files("lucid_finch.desktop") / "icons" / "lucid-finch.svg")))
    from lucid_finch.desktop.toolkit.theme import LIGHT, apply_theme

    apply_theme(application, LIGHT)
    return application


def keep_log() -> Path:
    """Log to a rotating file in the user's state folder, and have crashes leave their stack there."""
    folder = Path(platformdirs.user_state_dir("lucid-finch"))
    folder.mkdir(parents=True, exist_ok=True)
    handler = logging.handlers.RotatingFileHandler(folder / "finch.log", maxBytes=1_000_000, backupCount=3, delay=True)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger("lucid_finch").addHandler(handler)
    logging.getLogger("lucid_finch").setLevel(logging.INFO)
    _kept.append((folder / "crash.log").open("w", encoding="utf-8"))
    faulthandler.enable(_kept[-1])
    return folder / "finch.log"


def first_size(screen: QRect) -> QSize:
    """Size of the window at the first start: with its title bar it fits the screen."""
    return QSize(min(1280, screen.width() - 8), min(800, screen.height() - _TITLE_BAR))


def first_bench() -> Bench:
    """The application's window as the user left it, shown; nothing is opened in it."""
    # Imports make hundreds of thousands of objects that stay: to look at them again and again took a tenth of the start.
    gc.disable()
    application = make_application()
    from lucid_finch.desktop.shell.window import Bench
    from lucid_finch.desktop.study.preferences import PreferencesFile

    preferences = PreferencesFile.of_user()
    scale = preferences.load().text_scale
    if scale != 1.0:
        font = application.font()
        font.setPointSizeF(font.pointSizeF() * scale)
        application.setFont(font)
    bench = Bench(preferences, Path(platformdirs.user_state_dir("lucid-finch")) / "unsaved")
    if not bench.preferences.geometry:
        bench.resize(first_size(application.primaryScreen().availableGeometry()))
    bench.show()
    bench.empty.buttons[0].setFocus()
    # What is here now stays: the collector need not look at it again in the middle of a drag.
    gc.freeze()
    gc.enable()
    return bench


def close_on_interrupt(window: QWidget) -> None:
    """Let an interrupt (SIGINT) close a window, after what is being done: Python may see a signal in the middle of painting."""
    signal.signal(signal.SIGINT, lambda *_: QTimer.singleShot(0, window.close))


def run_application(paths: Sequence[str], demo: str = "") -> int:
    """Open the window, on `paths` or on a demo scene; returns the exit status."""
    try:
        keep_log()
    except OSError as error:
        print(f"lucid-finch: no log is kept: {error}", file=sys.stderr)
    bench = first_bench()
    from lucid_finch.core.execution.warming import is_warm
    from lucid_finch.pipeline.cameras import is_camera

    close_on_interrupt(bench)
    # Python sees signals only between its own instructions: give it some.
    pulse = QTimer()
    pulse.timeout.connect(lambda: None)
    pulse.start(300)
    if not is_warm():
        bench.status.compile_kernels()
    if demo:
        bench.documents.open_demo(demo)
    cameras = [path for path in paths if is_camera(path)]
    if len(cameras) < len(paths):
        bench.documents.open_paths([Path(path) for path in paths if path not in cameras])
    if cameras:
        bench.camera.open_camera(cameras[-1])
    bench.documents.offer_recovery()
    return int(QApplication.exec())
