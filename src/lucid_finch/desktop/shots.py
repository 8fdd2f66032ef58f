"""Makes the pictures of the documentation from the demo, the same on every machine."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import click
from PySide6.QtWidgets import QApplication

from lucid_finch.desktop.application import make_application, open_demo
from lucid_finch.desktop.document import step_card
from lucid_finch.desktop.theme import DARK, LIGHT, apply_theme
from lucid_finch.desktop.window import Bench


def settle(bench: Bench, seconds: float = 120.0) -> None:
    """Let the window work until nothing is left to do."""
    application = QApplication.instance()
    assert application is not None
    end = time.monotonic() + seconds
    quiet = 0
    while quiet < 5:
        application.processEvents()
        quiet = 0 if bench.busy else quiet + 1
        time.sleep(0.01)
        if time.monotonic() > end:
            raise TimeoutError("the window is still busy")


def _bench(bench: Bench) -> None:
    bench.findings.choose([16])
    bench.choose([16], [])


def _dark(bench: Bench) -> None:
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    apply_theme(application, DARK)
    bench.tabs.setCurrentIndex(1)
    bench.activate_pane(0)
    bench.show_map("gradient_x")
    bench.activate_pane(1)
    bench.show_map("direction")


def _why(bench: Bench) -> None:
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    apply_theme(application, LIGHT)
    bench.activate_pane(0)
    bench.show_map("source")
    bench.activate_pane(1)
    bench.show_map("magnitude")
    bench.frames[0].view.set(700.0, 250.0, 4.0)
    bench.activate_pane(0)
    bench.ask_why(689.0, 233.0)


def _pixels(bench: Bench) -> None:
    bench.answer.put_away()
    bench.activate_pane(0)
    bench.show_map("smoothed")
    bench.activate_pane(1)
    bench.show_map("thinned")
    bench.frames[0].view.set(563.0, 233.0, 44.0)


def _preparation(bench: Bench) -> None:
    bench.activate_pane(0)
    bench.show_map("prepared")
    bench.activate_pane(1)
    bench.show_map("edges")
    bench.frames[0].pane.fit()
    bench.study.choose(step_card(0))


SHOTS: dict[str, Callable[[Bench], None]] = {
    "bench": _bench, "dark": _dark, "why": _why, "pixels": _pixels, "preparation": _preparation,
}  # fmt: skip


def opened(name: str) -> Bench:
    """A window on a demo scene, all work done."""
    make_application()
    bench = Bench()
    bench.show()
    open_demo(bench, name)
    settle(bench)
    return bench


def take_demo(name: str, path: Path) -> None:
    """One picture of the window on a demo scene."""
    bench = opened(name)
    save_picture(bench, path)
    bench.close()


def take_all(folder: Path) -> None:
    """One PNG of each view, 1280 x 800."""
    bench = opened("tile_panel")
    for name, arrange in SHOTS.items():
        arrange(bench)
        settle(bench)
        save_picture(bench, folder / f"{name}.png")
        click.echo(str(folder / f"{name}.png"))
    bench.close()


def save_picture(bench: Bench, path: Path) -> None:
    """The window as it is now."""
    path.parent.mkdir(parents=True, exist_ok=True)
    bench.grab().save(str(path), "PNG")
