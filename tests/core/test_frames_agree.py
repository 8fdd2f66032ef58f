"""Limits, near misses, histograms and explanations speak of source pixels, whatever the image was resized, cropped or turned."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from lucid_finch.core.execution import engine
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.explanation.explaining import explain
from lucid_finch.core.image import Frame, Image
from lucid_finch.core.quantities import to_source
from lucid_finch.core.table import Column

STEPS: dict[str, list[dict[str, Any]]] = {
    "resized": [{"step": "resize", "factor": 0.5}],
    "cropped": [{"step": "crop", "region": {"shape": "rectangle", "x": 200.0, "y": 150.0, "width": 380.0, "height": 280.0}}],
    "turned": [{"step": "rotate", "angle": 90.0}],
    "larger": [{"step": "resize", "factor": 1.5}],
}


def scene() -> Image:
    """A wide bar, a disc and an oval, blurred: all of them are seen at half the size as well."""
    y, x = np.mgrid[:300, :400].astype(float)
    picture = 100 + 60 / (1 + np.exp((np.abs(y - 220) - 20) / 0.8)) / (1 + np.exp((np.abs(x - 150) - 90) / 0.8))
    picture += 60 / (1 + np.exp((np.hypot(x - 120, y - 90) - 36) / 0.8))
    picture += 50 / (1 + np.exp((np.hypot((x - 300) / 60, (y - 100) / 36) - 1) * 36 / 0.8))
    picture += np.random.default_rng(4).normal(0, 1.5, picture.shape)
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8))


class FramesAgree(unittest.TestCase):
    def setUp(self) -> None:
        self.image = scene()
        self.changed = {name: Engine().prepared(self.image, steps) for name, steps in STEPS.items()}

    def both(self, kind: str, given: dict[str, Any]) -> Any:
        whole = engine.detect(kind, self.image, given)
        for image in self.changed.values():
            yield whole, engine.detect(kind, image, given)

    def test_a_length_is_judged_in_source_pixels(self) -> None:
        for whole, other in self.both("lines", {"length_min": 200, "pair": False}):
            for found in (whole, other):
                self.assertEqual(len(found.findings), 0)
                short = [row for row in found.near_misses.rows() if row["failed"] == "length_min" and row["measured"] > 150]
                self.assertEqual(len(short), 2)
                for row in short:
                    self.assertAlmostEqual(row["measured"], 180, delta=8)
                    self.assertEqual(row["limit"], 200.0)
                    self.assertAlmostEqual(row["length"], row["measured"])
                self.assertLess(abs(found.measured("length").max() - whole.measured("length").max()), 8)
                answer = explain(found, (150.0, 199.5))
                self.assertRegex(answer.summary, r"length 1[78]\d(\.\d)? px, at least 200 px")
                change = answer.candidates[0].change
                assert change is not None
                self.assertAlmostEqual(change.values["length_min"], 178, delta=10)
                again = engine.detect("lines", found.task.image, {"length_min": change.values["length_min"], "pair": False})
                self.assertGreaterEqual(len(again.findings), 1)

    def test_radii_areas_and_slopes(self) -> None:
        for whole, other in self.both("circles", {"radius": (10, 30)}):
            for found in (whole, other):
                self.assertEqual(found.resolved["radius"], [10.0, 30.0])
                row = next(row for row in found.near_misses.rows() if row["failed"] == "radius")
                self.assertAlmostEqual(row["measured"], 36, delta=0.4)
                change = explain(found, (120.0, 90.0)).candidates[0].change
                assert change is not None
                # Rounded up to two digits.
                self.assertAlmostEqual(change.values["radius"][1], 36.5, delta=0.6)
        for whole, other in self.both("contours", {"area": (5000.0, None)}):
            for found in (whole, other):
                small = [row for row in found.near_misses.rows() if row["failed"] == "area" and row["area"] > 3000]
                self.assertEqual(len(small), 1)
                self.assertAlmostEqual(small[0]["measured"], np.pi * 36**2, delta=60)
                self.assertEqual(small[0]["limit"], 5000.0)
        for whole, other in self.both("edge_scan", {"strength_min": 1000.0}):
            strongest = [max(row["strength"] for row in found.near_misses.rows()) for found in (whole, other)]
            # A resized edge is a little softer or sharper, but of the same step.
            self.assertAlmostEqual(strongest[1] / strongest[0], 1.0, delta=0.35)

    def test_edges_and_ellipses(self) -> None:
        for whole, other in self.both("edges", {"length_min": 240, "false_alarms": 1e-9}):
            closed = [[row["length"] for row in found.near_misses.rows() if row["closed"]] for found in (whole, other)]
            for lengths in closed:
                self.assertTrue(any(abs(length - 2 * np.pi * 36) < 6 for length in lengths), lengths)
        for whole, other in self.both("ellipses", {}):
            oval = [int(np.argmin(np.hypot(f.findings["x"] - 300, f.findings["y"] - 100))) for f in (whole, other)]
            for column, allowed in (("semi_major", 0.5), ("semi_minor", 0.5), ("x", 0.3), ("y", 0.3)):
                a, b = (float(found.findings[column][row]) for found, row in zip((whole, other), oval, strict=True))
                self.assertAlmostEqual(a, b, delta=allowed, msg=column)
            a, b = (float(found.findings["angle"][row]) for found, row in zip((whole, other), oval, strict=True))
            self.assertLess(abs((a - b + 90) % 180 - 90), 1.0)


class Quantities(unittest.TestCase):
    def test_every_quantity(self) -> None:
        quarter = Frame(((0.0, -2.0), (2.0, 0.0)), (10.0, 20.0))
        declared = [
            Column("x1", "", quantity="x", pair="y1"), Column("sx", "", quantity="x error", pair="sy"),
            Column("r", "", quantity="length"), Column("a", "", quantity="area"), Column("s", "", quantity="slope"),
            Column("d", "", quantity="direction"), Column("l", "", quantity="line angle"), Column("p", "", quantity="pose angle"),
            Column("n", ""),
        ]  # fmt: skip
        one = {"x1": 3.0, "y1": 4.0, "sx": 0.1, "sy": 0.2, "r": 5.0, "a": 6.0, "s": 8.0}
        one |= {"d": 300.0, "l": 170.0, "p": 100.0, "n": 7.0}
        moved = to_source({name: np.array([value]) for name, value in one.items()}, declared, quarter)
        expected = {"x1": 2.0, "y1": 26.0, "sx": 0.4, "sy": 0.2, "r": 10.0, "a": 24.0, "s": 4.0}
        expected |= {"d": 30.0, "l": 80.0, "p": -170.0, "n": 7.0}
        for name, value in expected.items():
            self.assertAlmostEqual(float(moved[name][0]), value, places=9, msg=name)


if __name__ == "__main__":
    unittest.main()
