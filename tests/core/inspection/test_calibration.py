"""Calibrations: from targets and lines, their accuracy and error bars, their documents, and clear words."""

from __future__ import annotations

import json
import unittest

import numpy as np

from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.calibrating import calibrate, calibrated, remarks
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.inspection.targets import Target, find_target
from lucid_finch.demo import scene
from tests.support import chessboard, dot_grid, leaning_camera, line_calibration, seen_by


class Targets(unittest.TestCase):
    def check(self, target: Target, camera: Calibration, columns: int, rows: int, count: int) -> float:
        """Whether the points of a target of pitch 5 are those of the plane; largest distance, px."""
        self.assertEqual((target.size, len(target)), ((columns, rows), count))
        x = 5.0 * (target.columns - (columns - 1) / 2)
        y = 5.0 * (target.rows - (rows - 1) / 2)
        u, v = camera.to_image(x, y)
        return float(np.hypot(target.x - u, target.y - v).max())

    def test_a_leaning_chessboard(self) -> None:
        camera = leaning_camera(40.0)
        target = find_target(seen_by(camera, chessboard), "chessboard")
        self.assertLess(self.check(target, camera, 7, 5, 35), 0.2)

    def test_a_leaning_grid_of_dots(self) -> None:
        camera = leaning_camera(40.0)
        target = find_target(seen_by(camera, dot_grid), "dots")
        self.assertLess(self.check(target, camera, 8, 6, 48), 0.25)

    def test_bright_dots_on_dark(self) -> None:
        camera = leaning_camera(10.0)
        target = find_target(seen_by(camera, lambda x, y: 230.0 - dot_grid(x, y)), "dots")
        self.assertLess(self.check(target, camera, 8, 6, 48), 0.2)

    def test_partly_hidden(self) -> None:
        camera = leaning_camera(20.0)
        image = seen_by(camera, chessboard)
        pixels = image.pixels.copy()
        pixels[180:300, 250:390] = 120
        target = find_target(Image.from_array(pixels), "chessboard", 7, 5)
        self.assertGreaterEqual(len(target), 20)
        self.assertEqual(target.size, (7, 5))
        x, y = 5.0 * (target.columns - 3), 5.0 * (target.rows - 2)
        u, v = camera.to_image(x, y)
        self.assertLess(np.hypot(target.x - u, target.y - v).max(), 0.5)


class Made(unittest.TestCase):
    def test_of_the_demo(self) -> None:
        drawn = scene("dot_target")
        made = calibrate([drawn.image], "dots", pitch=7.5)
        assert made.focal_length is not None and made.tilt is not None
        self.assertLess(abs(made.focal_length - 1500), 15)
        self.assertLess(abs(made.tilt - 24), 0.2)
        self.assertLess(made.rms, 0.1)
        self.assertEqual((made.columns, made.rows, len(made.views[0].x)), (11, 8, 88))
        marks = [m for m in drawn.truth()["marks"] if m["kind"] == "target"]
        x, y = made.to_plane([m["x"] for m in marks], [m["y"] for m in marks])
        self.assertLess(np.abs(x - 7.5 * np.array([m["column"] for m in marks])).max(), 0.006)
        self.assertLess(np.abs(y - 7.5 * np.array([m["row"] for m in marks])).max(), 0.006)
        back = made.to_image(x, y)
        self.assertLess(np.abs(np.array(back) - [[m["x"] for m in marks], [m["y"] for m in marks]]).max(), 1e-6)
        self.assertIn("covers", " ".join(remarks(made)))

    def test_from_several_pictures(self) -> None:
        cameras = [leaning_camera(tilt, -0.1) for tilt in (5.0, 30.0)]
        made = calibrate([seen_by(c, chessboard, seed=k) for k, c in enumerate(cameras)], "chessboard", pitch=5.0)
        self.assertEqual(len(made.views), 2)
        self.assertLess(made.rms, 0.1)
        # Millimetres are of the plane in the first picture.
        x, y = made.to_plane(*cameras[0].to_image(np.array([-10.0, 12.0]), np.array([5.0, -7.0])))
        np.testing.assert_allclose((x[1] - x[0], y[1] - y[0]), (22.0, -12.0), atol=0.03)

    def test_error_bars_are_honest(self) -> None:
        camera = leaning_camera(30.0, 0.0)
        places = np.stack(np.meshgrid(np.arange(8.0), np.arange(6.0)), axis=-1).reshape(-1, 2)
        mm = 5.0 * (places - [3.5, 2.5])
        u, v = camera.to_image(mm[:, 0], mm[:, 1])
        off, stated = [], []
        for seed in range(60):
            random = np.random.default_rng(seed)
            target = Target(
                "chessboard", u + random.normal(0, 0.1, len(u)), v + random.normal(0, 0.1, len(v)),
                places[:, 0].astype(np.int64), places[:, 1].astype(np.int64), np.zeros(len(u)),
            )  # fmt: skip
            made = calibrated([target], ["made"], (camera.width, camera.height), None, None, 5.0)
            at = np.array([200.0, 400.0, 330.0]), np.array([150.0, 300.0, 240.0])
            x, y = made.to_plane(*at)
            true_x, true_y = camera.to_plane(*at)
            own = made.place_covariance(*at)
            off += [*(x - true_x - 17.5), *(y - true_y - 12.5)]
            stated += [*np.sqrt(own[:, 0, 0]), *np.sqrt(own[:, 1, 1])]
            self.assertLess(abs(made.mm_per_px / camera.mm_per_px - 1), 6 * made.mm_per_px_std / made.mm_per_px)
        z = np.array(off) / np.array(stated)
        self.assertGreater(np.sqrt(np.mean(z**2)), 0.75)
        self.assertLess(np.sqrt(np.mean(z**2)), 1.3)

    def test_from_a_line(self) -> None:
        made = line_calibration(0.05)
        self.assertAlmostEqual(made.mm_per_px, 0.05)
        self.assertAlmostEqual(made.mm_per_px_std / made.mm_per_px, np.sqrt(2) * 0.5 / 100, places=4)
        self.assertEqual(tuple(map(float, made.to_plane(10.0, 20.0))), (0.5, 1.0))
        np.testing.assert_allclose(made.scale_range, (20.0, 20.0))

    def test_cancelled(self) -> None:
        with self.assertRaises(Cancelled):
            calibrate([scene("dot_target").image], "dots", pitch=7.5, cancelled=lambda: True)


class Refused(unittest.TestCase):
    def test_clear_words(self) -> None:
        y, x = np.mgrid[:200, :400]
        row = np.full((200, 400), 200, np.uint8)
        for n in range(12):
            row[np.hypot(x - 30 - 30 * n, y - 100) < 6] = 20
        corner = np.full((200, 300), 50, np.uint8)
        corner[:100, :150] = corner[100:, 150:] = 200
        few = np.full((200, 200), 200, np.uint8)
        for n in range(4):
            few[np.hypot(x[:, :200] - 60 - 70 * (n % 2), y[:, :200] - 60 - 70 * (n // 2)) < 9] = 20
        flat = Image.from_array(np.full((200, 300), 90, np.uint8))
        line = {"target": "line", "pitch": 10.0}
        cases = {
            "no chessboard is found: no inner corners were seen": ([flat], {"target": "chessboard", "pitch": 1.0}),
            "only one inner corner was seen": ([Image.from_array(corner)], {"target": "chessboard", "pitch": 1.0}),
            "no dots were seen": ([flat], {"target": "dots", "pitch": 1.0}),
            "12 dots that were seen lie on no grid": ([Image.from_array(row)], {"target": "dots", "pitch": 1.0}),
            "no grid of dots is found": ([Image.from_array(few)], {"target": "dots", "pitch": 1.0}),
            "pitch = 0 is not allowed": ([flat], {"target": "dots", "pitch": 0}),
            "pitch = nan": ([flat], {"target": "dots", "pitch": float("nan")}),
            "pitch = True": ([flat], {"target": "dots", "pitch": True}),
            "columns = 2 is not allowed": ([flat], {"target": "dots", "pitch": 1.0, "columns": 2}),
            'did you mean "chessboard"': ([flat], {"target": "chesboard", "pitch": 1.0}),
            "no picture is given": ([], {"target": "dots", "pitch": 1.0}),
            "the line is 0 px long": ([flat], {**line, "line": ((5, 5), (5, 5))}),
            "line must be two places": ([flat], line),
            "two places": ([flat], {**line, "line": ((5, 5), (5, float("inf")))}),
            "a line is drawn in one picture": ([flat, flat], {**line, "line": ((5, 5), (50, 5))}),
            "line belongs to": ([flat], {"target": "dots", "pitch": 1.0, "line": ((5, 5), (50, 5))}),
            "all must be of one camera": ([flat, Image.from_array(few)], {"target": "dots", "pitch": 1.0}),
        }
        for words, (images, given) in cases.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                calibrate(images, **given)


class Documents(unittest.TestCase):
    def test_written_and_read(self) -> None:
        made = leaning_camera()
        again = Calibration.parse(made.text())
        self.assertEqual(again, made)
        self.assertEqual(again.sha256, made.sha256)
        self.assertNotEqual(leaning_camera(31.0).sha256, made.sha256)
        self.assertEqual(made.model_copy(update={"name": "other"}).sha256, made.sha256)

    def test_clear_words(self) -> None:
        plain = line_calibration().plain()
        cases = {
            "not valid JSON": "{",
            "outermost part": "[]",
            "no calibration of Lucid Finch": json.dumps({"scale": 3}),
            "made by a newer": json.dumps({**plain, "lucid_finch_calibration": 2}),
            'unknown field "pich"': json.dumps({**plain, "pich": 3}),
            "pitch": json.dumps({**plain, "pitch": 0}),
            "last number must be 1": json.dumps({**plain, "plane": [[1, 0, 0], [0, 1, 0], [0, 0, 2]]}),
            "maps the picture to a line": json.dumps({**plain, "plane": [[1, 0, 0], [1, 0, 0], [0, 0, 1]]}),
            "12 rows of 12": json.dumps({**plain, "covariance": [[0.0]]}),
            "differ in length": json.dumps({**plain, "views": [{**plain["views"][0], "x": [1.0]}]}),
        }
        for words, text in cases.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, f"bench.*{words}"):
                Calibration.parse(text, "bench")

    def test_only_for_pictures_of_its_size(self) -> None:
        with self.assertRaisesRegex(ParameterError, "160 x 160 px; this one has 80 x 60"):
            line_calibration().check_size((80, 60))


if __name__ == "__main__":
    unittest.main()
