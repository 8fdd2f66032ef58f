"""A camera in the window: newest frames with findings, hold, capture, settings, a limit that moves, loss, giving back."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import numpy as np
from PySide6.QtWidgets import QSlider, QWidgetAction

from lucid_finch.core.errors import FileError
from lucid_finch.core.recipe import Recipe
from lucid_finch.pipeline.cameras import Camera, Shot
from lucid_finch.pipeline.live import Live
from lucid_finch.pipeline.sources import Place
from tests.desktop.support import BenchCase

SOURCE = "camera:simulated?rate=30&size=320x240"


class Broken(Camera):
    """Gives two frames and is gone; the next one that is opened goes on."""

    opened = closed = 0

    def __init__(self) -> None:
        super().__init__("broken")
        Broken.opened += 1
        self.left = 2

    def shot(self) -> Shot:
        time.sleep(0.02)
        if not self.left:
            raise FileError("broken", "the camera is gone")
        self.left -= 1
        now = time.monotonic()
        return Shot(np.full((40, 50), 90, np.uint8), 8, 2 - self.left, now, now)

    def close(self) -> None:
        Broken.closed += 1


class LiveCase(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        recipe = {
            "lucid_finch_recipe": 2,
            "detectors": [{"name": "tiles", "kind": "circles", "parameters": {"radius": [40, 60]}}],
        }
        self.bench.study.open_recipe(Recipe.make(recipe), None)
        self.camera = self.bench.camera
        self.addCleanup(self.camera.close_worker)

    def number(self) -> int:
        return self.camera.shot.number if self.camera.shot is not None else -1


class Seeing(LiveCase):
    def test_frames_come_with_their_findings(self) -> None:
        self.camera.open_camera(SOURCE)
        self.assertTrue(self.camera.isVisible())
        self.wait(lambda: len(self.camera.ages) > 4)
        self.wait(lambda: self.bench.study.detection is not None)
        image = self.bench.study.image
        assert image is not None
        self.assertEqual((image.width, image.height), (320, 240))
        self.wait(lambda: "ms old" in self.camera.said.text())

    def test_hold_capture_and_go_on(self) -> None:
        files = [Place(Path("a.png")), Place(Path("b.png"))]
        self.bench.images.show_places(files)
        self.settle()
        self.camera.open_camera(SOURCE)
        self.wait(lambda: self.number() >= 1)
        self.bench.actions_by_name["play"].trigger()
        self.settle()
        held, image = self.number(), self.bench.study.image
        self.turns(30)
        self.assertEqual((self.number(), self.bench.study.image), (held, image))
        for _ in range(2):
            self.bench.actions_by_name["capture"].trigger()
        self.assertEqual([entry.place for entry in self.bench.images.entries[:2]], files)
        self.assertEqual(self.bench.drawer.tabText(2), "Images 4")
        entries = self.bench.images.entries[2:]
        self.assertEqual([entry.place.page for entry in entries], [held, held])
        self.wait(lambda: all(entry.result is not None for entry in entries))
        self.bench.actions_by_name["play"].trigger()
        self.wait(lambda: self.number() > held)
        # The list shows what was captured, and the camera gives way.
        self.bench.images.select(2)
        self.wait(lambda: not self.camera.is_open)
        assert image is not None
        study = self.bench.study
        self.wait(lambda: study.image is not None and np.array_equal(study.image.pixels, image.pixels))

    def test_a_limit_moves_while_it_runs(self) -> None:
        self.camera.open_camera(SOURCE)
        self.wait(lambda: len(self.camera.ages) > 2)
        self.bench.study.edit_detector("tiles", {"radius": [5, 8]}, "Radius")
        self.wait(lambda: self.bench.study.detection is not None and len(self.bench.study.detection.findings) == 0)
        before = self.number()
        self.wait(lambda: self.number() > before)

    def test_settings_of_the_camera(self) -> None:
        self.camera.open_camera(SOURCE)
        self.wait(lambda: self.number() >= 0)
        self.camera._fill_settings()
        boxes = [action.defaultWidget() for action in self.camera.menu.actions() if isinstance(action, QWidgetAction)]
        sliders = {slider.accessibleName(): slider for box in boxes for slider in box.findChildren(QSlider)}
        bright = float(self.camera.shot.pixels.mean()) if self.camera.shot is not None else 0.0
        sliders["Exposure"].setValue(0)
        self.wait(lambda: self.camera.shot is not None and float(self.camera.shot.pixels.mean()) < 0.3 * bright)


class Losing(LiveCase):
    def test_a_lost_camera_is_told_and_tried_again(self) -> None:
        Broken.opened = Broken.closed = 0
        self.camera.open_camera("broken", Live("broken", lambda source: Broken()))
        self.wait(lambda: "the camera is gone; trying again" in self.camera.said.text())
        self.wait(lambda: Broken.opened > 1)

    def test_everything_is_given_back(self) -> None:
        Broken.opened = Broken.closed = 0
        self.camera.open_camera("broken", Live("broken", lambda source: Broken()))
        self.wait(lambda: Broken.opened > 0)
        self.camera.close_worker()
        self.assertEqual(Broken.opened, Broken.closed)
        self.assertFalse(any(thread.name == "finch-camera" for thread in threading.enumerate()))

    def test_another_image_ends_it(self) -> None:
        self.camera.open_camera(SOURCE)
        self.wait(lambda: self.number() >= 0)
        self.bench.documents.open_path(self.picture_file())
        self.settle()
        self.assertFalse(self.camera.is_open)
        assert self.bench.study.image is not None
        self.assertEqual(self.bench.study.image.name, "disc.png")
