"""Shapes drawn by hand: their handles, outlines and measures, and how pointer and keys draw them."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as some
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from lucid_finch.core.regions import region_of
from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.canvas.pane import Pane, View
from lucid_finch.desktop.canvas.shapes import dragged, handles, measured, moved, nearness, outlines, rounded, with_handle
from lucid_finch.desktop.study.picture import Picture
from tests.desktop.support import WindowCase, two_squares

NUMBER = some.floats(-200, 200)
SIDE = some.floats(2, 150)
TURNED = some.builds(
    lambda kind, x, y, w, h, turn: {"shape": kind, "x": x, "y": y, "width": w, "height": h, "angle": turn},
    some.sampled_from(["rectangle", "ellipse"]), NUMBER, NUMBER, SIDE, SIDE, some.floats(0, 180),
)  # fmt: skip
RING = some.builds(
    lambda x, y, inner, more, start, sweep: {
        "shape": "annulus", "x": x, "y": y, "inner": inner, "outer": inner + more, "start": start, "sweep": sweep
    },
    NUMBER, NUMBER, some.floats(0, 50), some.floats(2, 80), some.floats(0, 359), some.floats(5, 360),
)  # fmt: skip
POLYGON = some.builds(
    lambda points: {"shape": "polygon", "points": [list(p) for p in points]},
    some.lists(some.tuples(NUMBER, NUMBER), min_size=3, max_size=8),
)
SHAPES = some.one_of(TURNED, RING, POLYGON)


class Geometry(unittest.TestCase):
    @settings(deadline=None, derandomize=True, max_examples=80)
    @given(SHAPES, NUMBER, NUMBER)
    def test_moving_moves_everything_alike(self, shape: dict[str, Any], dx: float, dy: float) -> None:
        shape = {**shape, "exclude": [{"shape": "ellipse", "x": 1.0, "y": 2.0, "width": 3.0, "height": 4.0}]}
        after = moved(shape, dx, dy)
        for (x, y), (u, v) in zip(handles(shape), handles(after), strict=True):
            self.assertAlmostEqual(x + dx, u, places=6)
            self.assertAlmostEqual(y + dy, v, places=6)
        for before, now in zip(outlines(shape), outlines(after), strict=True):
            np.testing.assert_allclose(np.add(before, [dx, dy]), now, atol=1e-6)
        self.assertAlmostEqual(after["exclude"][0]["x"], 1 + dx)
        region_of(rounded(after))

    @settings(deadline=None, derandomize=True, max_examples=120)
    @given(some.one_of(TURNED, RING), some.integers(0, 9), NUMBER, NUMBER)
    def test_every_handle_leaves_a_region_that_is_allowed(self, shape: dict[str, Any], number: int, x: float, y: float) -> None:
        number %= len(handles(shape))
        after = with_handle(shape, number, x, y)
        region_of(rounded(after, 3))
        if shape["shape"] != "annulus" and number < 4:
            far = handles(after)[number]
            # Where the shape could be made so small, the corner is where the pointer took it.
            if after["width"] > 1 and after["height"] > 1:
                corners = handles(after)[:4]
                self.assertLess(min(math.hypot(cx - x, cy - y) for cx, cy in corners), 1e-6 * (1 + abs(x) + abs(y)) + 1e-6, far)

    @settings(deadline=None, derandomize=True, max_examples=60)
    @given(TURNED)
    def test_outlines_bound_what_the_region_contains(self, shape: dict[str, Any]) -> None:
        region, centre = region_of(shape), np.array([shape["x"], shape["y"]])
        line = outlines(shape)[0]
        inside, outside = centre + 0.99 * (line - centre), centre + 1.01 * (line - centre)
        self.assertTrue(region.contains(*inside.T).all())
        self.assertFalse(region.contains(*outside.T).any())
        self.assertEqual(nearness(shape, *centre), 0.0)

    def test_parts_of_rings_are_closed(self) -> None:
        part = {"shape": "annulus", "x": 0.0, "y": 0.0, "inner": 5.0, "outer": 9.0, "start": 0.0, "sweep": 90.0}
        lines = outlines(part)
        self.assertEqual(len(lines), 4)
        np.testing.assert_allclose(sorted(lines[2][:, 0]), [5, 9], atol=1e-9)
        self.assertEqual(len(outlines({**part, "inner": 0.0})), 3)
        self.assertEqual(with_handle(part, 0, 100.0, 0.0)["inner"], 8.0)
        self.assertEqual(with_handle(part, 1, 0.0, 0.0)["outer"], 6.0)
        self.assertAlmostEqual(with_handle(part, 2, -7.0, 0.0)["sweep"], 180.0)

    def test_drags(self) -> None:
        self.assertEqual(dragged("line", (1, 2), (4, 6))["points"], [[1, 2], [4, 6]])
        self.assertEqual(measured(dragged("line", (1, 2), (4, 6)))[0], ("length", 5.0, "px"))
        box = dragged("rectangle", (10, 20), (4, 50))
        self.assertEqual((box["x"], box["y"], box["width"], box["height"]), (7, 35, 6, 30))
        self.assertEqual(dragged("ellipse", (3, 3), (3, 3))["width"], 1.0)
        self.assertEqual(dragged("annulus", (0, 0), (0, 8)), {"shape": "annulus", "x": 0, "y": 0, "inner": 4, "outer": 8})
        self.assertEqual(measured({"shape": "circle", "points": [[0, 0], [1, 1], [2, 2]]}), [])

    def test_angles_between_lines_have_no_direction(self) -> None:
        for end in ([0, 10], [0, -10]):
            found = measured({"shape": "angle", "points": [[0, 0], [10, 0], [0, 0], end]})
            self.assertAlmostEqual(found[0][1], 90)
        found = measured({"shape": "angle", "points": [[0, 0], [10, 0], [0, 0], [-10, 1]]})
        self.assertAlmostEqual(found[0][1], math.degrees(math.atan(0.1)))
        self.assertAlmostEqual(found[1][1], 180 - math.degrees(math.atan(0.1)))


class Hands(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.drawing = Drawing()
        self.told: list[tuple[str, Any, bool]] = []
        self.drawing.changed.connect(lambda key, shape, moving: self.told.append((key, shape, moving)))
        self.pane = Pane(View())
        self.pane.drawing = self.drawing
        self.pane.resize(400, 300)
        self.pane.show_picture(Picture.of_image(two_squares(), "source", "source"))
        self.pane.view.set(150, 100, 1.0)
        self.pane.show()
        self.addCleanup(self.pane.close)
        self.addCleanup(self.pane.deleteLater)

    def press(self, x: int, y: int) -> None:
        QTest.mouseClick(self.pane, Qt.MouseButton.LeftButton, pos=QPoint(x, y))

    def test_two_clicks_are_a_drag(self) -> None:
        self.drawing.start("line", "measure")
        self.press(100, 100)
        self.assertEqual(self.drawing.kind, "line")
        QTest.mouseMove(self.pane, QPoint(150, 130))
        self.press(160, 140)
        self.assertEqual(self.drawing.kind, "")
        key, shape, moving = self.told[-1]
        self.assertEqual((key, moving), ("measure", False))
        self.assertEqual(shape["points"], [[50.0, 50.0], [110.0, 90.0]])

    def test_a_polygon_ends_in_three_ways(self) -> None:
        for way in ("double", "first", "return"):
            self.drawing.start("polygon", "region")
            for place in ((50, 50), (200, 60), (210, 200)):
                self.press(*place)
            if way == "double":
                QTest.mouseDClick(self.pane, Qt.MouseButton.LeftButton, pos=QPoint(60, 190))
            elif way == "first":
                self.press(51, 49)
            else:
                QTest.keyClick(self.pane, Qt.Key.Key_Return)
            self.assertEqual(self.drawing.kind, "", way)
            self.assertGreaterEqual(len(self.told[-1][1]["points"]), 3)
            self.drawing.put("region", None)

    def test_what_is_not_held_is_panned(self) -> None:
        shape = {"shape": "rectangle", "x": 150.0, "y": 100.0, "width": 60.0, "height": 40.0}
        self.drawing.put("region", shape, "region")
        self.assertEqual(self.drawing.active, "")
        # Its inside, while it is not active, belongs to the picture below.
        QTest.mousePress(self.pane, Qt.MouseButton.LeftButton, pos=QPoint(200, 150))
        QTest.mouseMove(self.pane, QPoint(240, 150))
        QTest.mouseRelease(self.pane, Qt.MouseButton.LeftButton, pos=QPoint(240, 150))
        self.assertEqual(self.told, [])
        self.assertAlmostEqual(self.pane.view.x, 110, delta=1)
        self.pane.view.set(150, 100, 1.0)
        # Its line is taken hold of, and makes it active.
        QTest.mousePress(self.pane, Qt.MouseButton.LeftButton, pos=QPoint(170, 150))
        QTest.mouseMove(self.pane, QPoint(180, 155))
        QTest.mouseRelease(self.pane, Qt.MouseButton.LeftButton, pos=QPoint(180, 155))
        self.assertEqual(self.drawing.active, "region")
        self.assertEqual((self.told[-1][1]["x"], self.told[-1][1]["y"]), (160.0, 105.0))
        QTest.keyClick(self.pane, Qt.Key.Key_Escape)
        self.assertEqual(self.drawing.active, "")

    def test_everything_is_painted(self) -> None:
        shapes: dict[str, dict[str, Any]] = {
            "a": {"shape": "annulus", "x": 90.0, "y": 90.0, "inner": 10.0, "outer": 40.0, "start": 20.0, "sweep": 200.0},
            "b": {"shape": "polygon", "points": [[150.0, 20.0], [260.0, 30.0], [200.0, 120.0]]},
            "c": {"shape": "circle", "points": [[200.0, 150.0], [240.0, 150.0], [220.0, 170.0]]},
            "d": {"shape": "angle", "points": [[20.0, 150.0], [60.0, 150.0], [20.0, 160.0], [60.0, 180.0]]},
        }
        before = self.pane.grab().toImage()
        for key, shape in shapes.items():
            self.drawing.put(key, shape, key, dashed=key == "b")
        after = self.pane.grab().toImage()
        for shape in shapes.values():
            x, y = handles(shape)[0]
            place = self.pane.from_source(x, y).toPoint()
            near = [QPoint(place.x() + dx, place.y() + dy) for dx in (-1, 0, 1) for dy in (-1, 0, 1)]
            self.assertTrue(any(before.pixelColor(p) != after.pixelColor(p) for p in near), shape["shape"])
