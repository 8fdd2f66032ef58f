"""Makes the pictures of the documentation from the demo, the same on every machine."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

import click
import numpy as np
from PIL import Image as Pillow
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QApplication, QWidget

from lucid_finch.demo import SCENES, scene
from lucid_finch.desktop.canvas.display_range import RangeCard
from lucid_finch.desktop.shell.application import make_application
from lucid_finch.desktop.shell.window import Bench
from lucid_finch.desktop.study.study import step_card
from lucid_finch.desktop.toolkit.theme import DARK, LIGHT, apply_theme


def wait_for(condition: Callable[[], bool], seconds: float = 120.0) -> None:
    """Let events be handled until the condition holds."""
    end = time.monotonic() + seconds
    while not condition():
        QApplication.processEvents()
        time.sleep(0.01)
        if time.monotonic() > end:
            raise TimeoutError("it did not come about")


def settle(bench: Bench, seconds: float = 120.0) -> None:
    """Let the window work until nothing is left to do."""
    quiet = 0

    def still() -> bool:
        nonlocal quiet
        quiet = 0 if bench.busy else quiet + 1
        return quiet >= 5

    wait_for(still, seconds)


def _bench(bench: Bench) -> None:
    bench.findings.choose([16])
    bench.choose([16], [])


def _why(bench: Bench) -> None:
    bench.panes.activate(0)
    bench.stages.show_map("source")
    bench.panes.activate(1)
    bench.stages.show_map("magnitude")
    bench.frames[0].view.set(240.0, 720.0, 2.6)
    bench.panes.activate(0)
    bench.asking.ask(235.0, 788.6)


def _compare(bench: Bench) -> None:
    bench.explanation.put_away()
    bench.study.choose("tile edges")
    settle(bench)
    bench.stages.set_panes(4)
    for number, name in enumerate(("source", "smoothed", "magnitude", "direction")):
        bench.panes.show_map(number, name)
    bench.panes.compare(1, "divide", "gradient_x")
    bench.panes.compare(3, "difference", "smoothed")
    bench.panes.show_map(3, "prepared")
    bench.overlays.set_colour_by("length")
    bench.frames[0].view.set(420.0, 300.0, 1.1)


def _images(bench: Bench) -> None:
    bench.study.choose("tile edges")
    folder = Path(tempfile.mkdtemp())
    whole = bench.study.image
    assert whole is not None
    for number in range(8):
        left, top = 130 * (number % 4) + 20 * number, 150 * (number // 4)
        Pillow.fromarray(whole.pixels[top : top + 420, left : left + 560]).save(folder / f"panel_{number + 1:02}.png")
    bench.study.expect_count("tile edges", [15, 24])
    bench.drawer.setCurrentWidget(bench.images)
    bench.documents.open_path(folder)
    wait_for(lambda: not bench.images.busy)


def _lines(bench: Bench) -> None:
    bench.finder.close()
    bench.study.choose("grout lines")
    settle(bench)
    bench.stages.set_panes(2)
    bench.panes.activate(0)
    bench.stages.show_map("source")
    bench.frames[0].pane.fit()
    bench.panes.activate(1)
    bench.stages.show_map("accumulator")
    settle(bench)
    bench.drawer.setCurrentIndex(0)
    points = bench.study.detections["grout lines"].points
    middle = int(np.argmin(np.hypot(points["x"] - 200, points["y"] - 200)))
    bench.pick(bench.frames[0], float(points["x"][middle]), float(points["y"][middle]))


def _corners(bench: Bench) -> None:
    bench.stages.set_panes(2)
    bench.overlays.set_colour_by("")
    bench.panes.compare(1, "", "")
    bench.study.choose("tile corners")
    settle(bench)
    bench.drawer.setCurrentIndex(0)
    bench.panes.activate(1)
    bench.stages.show_map("response")
    bench.frames[0].view.set(420.0, 330.0, 1.1)
    corners = bench.study.detections["tile corners"].findings
    row = int(np.argmin(np.hypot(corners["x"] - 400, corners["y"] - 330)))
    bench.findings.choose([row])
    bench.choose([row], [])


def _clip(bench: Bench) -> None:
    wait_for(lambda: not bench.images.busy, 300.0)
    bench.drawer.show_trend()
    bench.drawer.trend.column.setCurrentIndex(bench.drawer.trend.column.findData("x"))
    bench.drawer.trend.each.setChecked(True)
    bench.stages.set_panes(1)
    bench.timeline.go_to(36)


def _camera(bench: Bench) -> None:
    """In the dark theme: the held frame of a camera, captured, beside the votes for centres."""
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    apply_theme(application, DARK)
    bench.camera.open_camera("camera:simulated?size=1280x720")
    wait_for(lambda: bench.camera.shot is not None and bench.camera.shot.number > 30)
    bench.camera.go.toggle()
    settle(bench)
    bench.camera.capture_now()
    bench.drawer.setCurrentIndex(0)
    bench.stages.set_panes(2)
    bench.panes.activate(1)
    bench.stages.show_map("accumulator")
    settle(bench)


SHOTS: dict[str, Callable[[Bench], None]] = {
    "bench": _bench, "why": _why, "compare": _compare,
    "corners": _corners, "images": _images, "lines": _lines,
}  # fmt: skip


def _channels(bench: Bench) -> None:
    axis = bench.study.steps_of("")[0]
    bench.study.edit({"prepare": [{"step": "channel", "take": "luma"}]}, "luma")
    bench.study.choose(step_card(0))
    bench.study.sample(axis["inside"], axis["outside"])
    bench.frames[0].pane.fit()
    settle(bench)
    bench.sweep.open("take")


def _numbers(bench: Bench) -> None:
    bench.sweep.card.put_away()
    bench.study.undo.undo()
    bench.study.choose("swatch outlines")
    bench.study.edit_detector("swatch outlines", {"operator": "sobel", "sigma": 0.0}, "plain")
    settle(bench)
    bench.panes.show_map(1, "magnitude")
    bench.drawer.show_values()
    bench.frames[1].view.set(542.0, 311.0, 38.0)
    bench.frames[1].view.set_cursor((541.0, 311.0))


def _measure(bench: Bench) -> None:
    bench.study.undo.undo()
    bench.panes.show_map(1, "prepared")
    bench.drawer.start_measuring("line")
    bench.drawing.stop()
    bench.drawing.changed.emit("measure", {"shape": "line", "points": [[440.0, 296.0], [566.0, 326.0]]}, False)
    bench.drawing.put("measure", bench.drawer.measure.shape)
    bench.drawer.measure.width_box.setValue(5)
    bench.frames[1].view.set(502.0, 311.0, 2.7)


def _scan(bench: Bench) -> None:
    bench.panes.activate(1)
    bench.stages.show_map("profiles")
    bench.drawing.active = "region"
    bench.panes.set_linked("place", False)
    bench.panes.set_linked("zoom", False)
    bench.panes.set_linked("cursor", False)
    bench.frames[0].pane.fit()
    bench.frames[1].pane.fit()
    worst = int(np.nanargmax(np.abs(bench.study.detections["glaze boundary"].findings["residual"])))
    bench.findings.choose([worst])
    bench.choose([worst], [])
    bench.drawer.setCurrentWidget(bench.drawer.measure)


def _contours(bench: Bench) -> None:
    bench.panes.activate(1)
    bench.stages.show_map("binary")
    ring = int(np.argmax(bench.study.detections["pieces"].findings["depth"]))
    bench.findings.choose([ring])
    bench.choose([ring], [])
    bench.frames[0].view.set(435.0, 420.0, 0.9)


def _circles(bench: Bench) -> None:
    bench.panes.activate(1)
    bench.stages.show_map("accumulator")
    settle(bench)
    bench.frames[0].view.set(420.0, 300.0, 0.62)
    plugged = bench.study.detections["openings"].findings
    row = int(np.argmin(np.hypot(plugged["x"] - 331, plugged["y"] - 287)))
    bench.pick(bench.frames[1], float(plugged["x"][row]), float(plugged["y"][row]))


def _ellipses(bench: Bench) -> None:
    bench.panes.activate(1)
    bench.stages.show_map("arcs")
    bench.frames[0].view.set(650.0, 420.0, 0.6)
    plugged = bench.study.detections["openings"].findings
    row = int(np.argmin(np.hypot(plugged["x"] - 621, plugged["y"] - 590)))
    bench.findings.choose([row])
    bench.choose([row], [])


def _templates(bench: Bench) -> None:
    bench.panes.activate(1)
    bench.stages.show_map("matches")
    marks = bench.study.detections["marks"].findings
    row = int(np.argmin(np.hypot(marks["x"] - 101, marks["y"] - 476)))
    bench.findings.choose([row])
    bench.choose([row], [])
    bench.panes.set_linked("place", False)
    bench.panes.set_linked("zoom", False)
    bench.frames[0].view.set(330.0, 400.0, 0.62)
    bench.frames[1].view.set(168.0, 730.0, 1.3)


def _blobs(bench: Bench) -> None:
    bench.panes.activate(1)
    bench.stages.show_map("response")
    bench.frames[0].view.set(470.0, 440.0, 1.5)
    defects = bench.study.detections["defects"].findings
    row = int(np.argmax(defects["radius"]))
    bench.findings.choose([row])
    bench.choose([row], [])


def _calibration(bench: Bench) -> None:
    bench.drawer.show_calibration()
    bench.panes.activate(1)
    bench.stages.show_map("from_above")


def _faces(bench: Bench) -> None:
    bench.panes.activate(1)
    bench.stages.show_map("score")


OF_PEOPLE: dict[str, Callable[[Bench], None]] = {"faces": _faces}
"""The same of the made-up visitors."""

ON_A_TARGET: dict[str, Callable[[Bench], None]] = {"calibration": _calibration}
"""The same of the plate of dots."""

OF_DEFECTS: dict[str, Callable[[Bench], None]] = {"blobs": _blobs}
"""The same of the plate with pinholes."""

OF_MARKS: dict[str, Callable[[Bench], None]] = {"templates": _templates}
"""The same of the stamped marks."""

OF_A_LEANING_SCREEN: dict[str, Callable[[Bench], None]] = {"ellipses": _ellipses}
"""The same of the screen seen at a slant."""

OF_A_SCREEN: dict[str, Callable[[Bench], None]] = {"circles": _circles}
"""The same of the pierced screen."""

OF_PIECES: dict[str, Callable[[Bench], None]] = {"contours": _contours}
"""The same of the scene with cut-out pieces."""

ON_A_BOUNDARY: dict[str, Callable[[Bench], None]] = {"scan": _scan}
"""The same of the scene with one boundary."""

IN_COLOUR: dict[str, Callable[[Bench], None]] = {
    "channels": _channels, "numbers": _numbers, "measure": _measure,
}  # fmt: skip
"""The same of the scene in colour."""


OF_A_CLIP: dict[str, Callable[[Bench], None]] = {"clip": _clip, "camera": _camera}
"""The same of the clip."""


BY_SCENE = {
    "belt": OF_A_CLIP,
    "pierced_screen": OF_A_SCREEN,
    "leaning_screen": OF_A_LEANING_SCREEN,
    "cutouts": OF_PIECES,
    "maker_marks": OF_MARKS,
    "pinholes": OF_DEFECTS,
    "dot_target": ON_A_TARGET,
    "open_day": OF_PEOPLE,
    "glaze_edge": ON_A_BOUNDARY,
    "glaze_swatches": IN_COLOUR,
    "tile_panel": SHOTS,
}


def opened(name: str) -> Bench:
    """A window on a demo scene, light, all work done."""
    apply_theme(make_application(), LIGHT)
    bench = Bench()
    bench.show()
    bench.documents.open_demo(name)
    settle(bench)
    return bench


def take_demo(name: str, path: Path) -> None:
    """One picture of the window on a demo scene."""
    bench = opened(name)
    save_picture(bench, path)
    bench.close()


def draw_thumbnails() -> None:
    """Small pictures of the demo scenes, which the empty bench offers; kept in the package."""
    folder = Path(str(files("lucid_finch.demo"))) / "thumbnails"
    folder.mkdir(exist_ok=True)
    for name in SCENES:
        picture = Pillow.fromarray(scene(name).image.pixels)
        picture.thumbnail((300, 200))
        picture.convert("RGB").quantize(128).save(folder / f"{name}.png", optimize=True)


def take_all(folder: Path) -> None:
    """One PNG of each view, 1280 x 800."""
    draw_thumbnails()
    for name_of_scene, shots in BY_SCENE.items():
        bench = opened(name_of_scene)
        for name, arrange in shots.items():
            arrange(bench)
            settle(bench)
            save_picture(bench, folder / f"{name}.png")
            click.echo(str(folder / f"{name}.png"))
        bench.study.undo.setClean()
        bench.close()


def save_picture(window: QWidget, path: Path) -> None:
    """The window as it is now, with the card that has popped up over it."""
    path.parent.mkdir(parents=True, exist_ok=True)
    picture = window.grab()
    for card in window.findChildren(RangeCard):
        if card.isVisible():
            painter = QPainter(picture)
            painter.drawPixmap(window.mapFromGlobal(card.pos()), card.grab())
            painter.end()
    picture.save(str(path), "PNG")
