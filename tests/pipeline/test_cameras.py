"""Cameras: the simulated one, a fake that breaks in every way, a real stream over a loopback address."""

from __future__ import annotations

import itertools
import socket
import subprocess
import sys
import time
import unittest

import numpy as np

import lucid_finch as lf
from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.demo import belt, recipe_text
from lucid_finch.pipeline.cameras import Camera, Shot, cameras, is_camera, open_camera
from lucid_finch.pipeline.live import Live, camera_rounds

SERVER = """
import sys, av, numpy as np
with av.open(sys.argv[1] + "?listen=1", "w", format="mpegts") as out:
    stream = out.add_stream("mpeg2video", rate=25)
    stream.width, stream.height, stream.pix_fmt, stream.bit_rate = 160, 96, "yuv420p", 2_000_000
    for k in range(60):
        picture = np.full((96, 160, 3), 40, np.uint8)
        picture[:, : 2 * k + 2] = 210
        for packet in stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")):
            out.mux(packet)
    for packet in stream.encode(None):
        out.mux(packet)
"""


class Fake(Camera):
    """Gives some frames, then breaks."""

    opened = closed = 0

    def __init__(self, frames: int, wait: float = 0.0) -> None:
        super().__init__("fake")
        Fake.opened += 1
        self.left, self.wait, self.given = frames, wait, 0

    def shot(self) -> Shot:
        time.sleep(self.wait)
        if self.left == 0:
            raise FileError("fake", "the camera is gone")
        self.left -= 1
        self.given += 1
        now = time.monotonic()
        return Shot(np.full((8, 8), self.given, np.uint8), 8, self.given - 1, now, now)

    def close(self) -> None:
        Fake.closed += 1


class Simulated(unittest.TestCase):
    def test_sees_the_belt(self) -> None:
        with open_camera("camera:simulated?rate=60&size=640x300&noise=0") as camera:
            shots = [camera.shot() for _ in range(4)]
        self.assertEqual([shot.number for shot in shots], [0, 1, 2, 3])
        self.assertEqual(shots[0].pixels.shape, (300, 640))
        np.testing.assert_array_equal(shots[2].pixels, belt.seen(2 / 60, 0.0, 1.0, (640, 300)))

    def test_loses_frames_and_itself(self) -> None:
        with open_camera("camera:simulated?rate=200&size=64x64&drop=0.5&lose=20") as camera:
            numbers = [camera.shot().number for _ in range(20)]
            self.assertTrue(25 < numbers[-1] < 70)
            with self.assertRaisesRegex(FileError, "camera:simulated: the camera is gone"):
                camera.shot()

    def test_controls(self) -> None:
        with open_camera("camera:simulated?rate=200&size=64x64&settle=4") as camera:
            levels = [float(camera.shot().pixels.mean()) for _ in range(5)]
            self.assertGreater(levels[4], 3 * levels[0])
            names = [control.name for control in camera.controls()]
            self.assertIn("exposure", names)
            camera.set_control("exposure", 0.25)
            self.assertLess(float(camera.shot().pixels.mean()), 0.4 * levels[4])
            with self.assertRaises(ParameterError):
                camera.set_control("focus", 1)

    def test_wrong_addresses(self) -> None:
        with self.assertRaisesRegex(
            ParameterError, 'camera:simulated: "foo=1" is not allowed; there are: size=WIDTHxHEIGHT, rate'
        ):
            open_camera("camera:simulated?foo=1")
        with self.assertRaisesRegex(FileError, "camera:/dev/none: there is no such camera; there are: .*camera:simulated"):
            open_camera("camera:/dev/none")
        with self.assertRaisesRegex(FileError, "tcp://127.0.0.1:9: nobody answers there"):
            open_camera("tcp://127.0.0.1:9")
        self.assertEqual([is_camera(s) for s in ("camera:x", "RTSP://a", "a.mkv", "folder/")], [True, True, False, False])
        self.assertIn("camera:simulated", [entry.source for entry in cameras()])

    def test_truth_is_what_is_found(self) -> None:
        recipe = lf.Recipe.parse(recipe_text("belt"))
        for seconds in (0.0, 1.7):
            found = lf.run(recipe, lf.Image.from_array(belt.seen(seconds))).detections["tiles"].findings
            wanted = belt.marks(seconds)
            far = [np.hypot(found["x"] - mark["x"], found["y"] - mark["y"]).min() for mark in wanted]
            self.assertLess(max(far), 0.1)
            self.assertLessEqual(len(wanted), len(found))


class Running(unittest.TestCase):
    def test_the_newest_frame_always(self) -> None:
        camera = Fake(100_000, 0.005)
        with Live("fake", lambda source: camera) as live:
            end = time.monotonic() + 30
            while live.watched.passed <= 20 and time.monotonic() < end:
                time.sleep(0.02)
            before = camera.given
            shot = live.newest()
            assert shot is not None
            # However busy the machine is: at most the one that is just handed over is newer.
            self.assertGreaterEqual(shot.number, before - 2)
            self.assertGreater(live.watched.passed, 20)
            self.assertTrue(0 < live.watched.rate < 250)

    def test_is_opened_again_when_it_is_lost(self) -> None:
        Fake.opened = Fake.closed = 0
        live = Live("fake", lambda source: Fake(3))
        live._frames.pauses = (0.05,)
        seen = 0
        end = time.monotonic() + 10
        while seen < 7 and time.monotonic() < end:
            seen += live.newest() is not None
        live.close()
        self.assertGreater(Fake.opened, 2)
        self.assertEqual(Fake.opened, Fake.closed)
        self.assertFalse(live.running)

    def test_what_it_waits_for_is_told(self) -> None:
        def busy(source: str) -> Camera:
            raise FileError(source, "is in use by another program")

        with Live("fake", busy) as live:
            time.sleep(0.2)
            self.assertEqual(live.watched.said, "is in use by another program; trying again in 0.5 s")
        with self.assertRaisesRegex(FileError, "in use by another program"):
            _first(busy)

    def test_frames_as_images(self) -> None:
        rounds = list(itertools.islice(camera_rounds("camera:simulated?rate=50&size=80x60", frames=3), 5))
        self.assertEqual([len(places) for places in rounds], [1, 1, 1])
        self.assertEqual(rounds[0][0].result_name, "camera-simulated.frame-000000")
        frame = next(lf.open_source("camera:simulated?size=80x60"))
        self.assertEqual((frame.image.width, frame.image.height), (80, 60))


def _first(opened: object) -> None:
    with Live("fake", opened, tries=1) as live:  # type: ignore[arg-type]
        while live.running:
            live.newest()
        raise FileError("fake", live.failure)


class Network(unittest.TestCase):
    def test_a_stream_over_a_loopback_address(self) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        address = f"tcp://127.0.0.1:{port}"
        server = subprocess.Popen([sys.executable, "-c", SERVER, address], stderr=subprocess.DEVNULL)
        self.addCleanup(server.wait)
        self.addCleanup(server.kill)
        columns: list[int] = []
        with Live(address) as live:
            end = time.monotonic() + 40
            while len(columns) < 5 and time.monotonic() < end:
                shot = live.newest()
                if shot is not None:
                    self.assertEqual(shot.pixels.shape, (96, 160, 3))
                    columns.append(int((shot.pixels[..., 1].mean(axis=0) > 125).sum()))
        self.assertGreaterEqual(len(columns), 2)
        self.assertEqual(columns, sorted(columns))
        self.assertTrue(all(count % 2 == 0 for count in columns))


if __name__ == "__main__":
    unittest.main()
