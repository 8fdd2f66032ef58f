"""The arithmetic that is spelled out is the arithmetic that is done; profiles against closed forms."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage, special

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.image import Image
from lucid_finch.core.prepare import step_of
from lucid_finch.core.viewing.arithmetic import neighbourhood, work_out
from lucid_finch.core.viewing.profiles import profile_along

RANDOM = np.random.default_rng(5)
IMAGE = Image.from_array(RANDOM.integers(0, 256, (23, 31)).astype(np.uint8))


class Arithmetic(unittest.TestCase):
    def test_by_hand(self) -> None:
        """A patch, its products and their sums as one does them on paper."""
        patch = np.array([[10.0, 10, 90], [10, 10, 90], [10, 50, 90]])
        x = np.array([[-1.0, 0, 1], [-2, 0, 2], [-1, 0, 1]]) / 8
        worked = work_out(patch, {"x": x, "y": x.T}, True)
        self.assertEqual([one.total for one in worked.sums], [40.0, 10.0])
        self.assertAlmostEqual(worked.value, 1700**0.5)
        self.assertEqual(worked.text, "√(40² + 10²) = 41.231")
        np.testing.assert_array_equal(worked.sums[0].products, patch * x)

    def test_every_map_of_edges_is_what_is_spelled_out(self) -> None:
        for given in ({}, {"operator": "sobel", "sigma": 0.0}, {"operator": "scharr", "sigma": 0.8}):
            detection = engine.detect("edges", IMAGE, given)
            for name in ("smoothed", "gradient_x", "gradient_y", "magnitude"):
                evidence = detection.evidence[name]
                how, values = evidence.arithmetic, evidence.values
                assert how is not None and how.of == "prepared"
                for column, row in ((0, 0), (30, 22), (15, 11), (1, 20)):
                    reach = tuple(max(k.shape[i] for k in how.kernels.values()) // 2 for i in (0, 1))
                    patch = neighbourhood(
                        lambda *box: IMAGE.pixels[box[1] : box[3], box[0] : box[2]], (31, 23), column, row, (reach[0], reach[1])
                    )
                    found = work_out(patch, how.kernels, how.root)
                    self.assertAlmostEqual(found.value, float(values[row, column]), delta=2e-3, msg=(name, column, row))

    def test_every_step_that_is_a_sum_is_what_is_spelled_out(self) -> None:
        steps = [
            ("smooth", {"sigma": 1.3}), ("smooth", {"method": "box", "size": 5}), ("sharpen", {"sigma": 0.8, "amount": 2.0}),
            ("derivative", {"of": "magnitude", "size": 5}), ("derivative", {"of": "xx", "sigma": 0.9}),
            ("derivative", {"of": "laplacian", "sigma": 1.1}), ("kernel", {"coefficients": "1 2 0 -2 -1"}),
        ]  # fmt: skip
        for name, given in steps:
            for border in ("mirror", "replicate", "constant"):
                step = step_of(name)
                parameters = step.Parameters.make({**given, "border": border}, name)
                tables = step.kernels(parameters)
                out = step.run(IMAGE, parameters).pixels
                reach = tuple(max(t.shape[i] for t in tables.values()) // 2 for i in (0, 1))
                for column, row in ((0, 0), (30, 21), (12, 9)):
                    patch = neighbourhood(
                        lambda *box: IMAGE.pixels[box[1] : box[3], box[0] : box[2]], (31, 23), column, row, (reach[0], reach[1]),
                        border,
                    )  # fmt: skip
                    value = work_out(patch, tables, len(tables) > 1).value
                    self.assertAlmostEqual(value, float(out[row, column]), delta=5e-3, msg=(name, given, border, column, row))

    def test_neighbourhoods_of_small_pictures(self) -> None:
        small = np.arange(6.0).reshape(2, 3)
        found = neighbourhood(lambda x0, y0, x1, y1: small[y0:y1, x0:x1], (3, 2), 0, 0, (4, 5))
        np.testing.assert_array_equal(found, np.pad(small, ((4, 3), (5, 3)), "reflect")[:9, :11])

    def test_too_small_a_patch_is_said(self) -> None:
        for patch in (np.zeros((3, 3)), np.zeros((4, 5))):
            with self.assertRaisesRegex(ParameterError, "5 by 5"):
                work_out(patch, {"": np.ones((5, 5))}, False)


class Grey:
    """A picture that can be sampled, linear between pixels, NaN outside."""

    def __init__(self, values: NDArray[Any]) -> None:
        self.values = values

    def sampled(self, x: Any, y: Any) -> NDArray[np.float64]:
        read = ndimage.map_coordinates(self.values, [np.asarray(y, float), np.asarray(x, float)], order=1, cval=np.nan)
        return np.asarray(read)[:, None]


class Profiles(unittest.TestCase):
    def step(self, offset: float, noise: float, seed: int = 0) -> Grey:
        x = np.mgrid[0:60, 0:90].astype(float)[1]
        values = 80 + 30 * (1 + special.erf((x - 40 - offset) / 1.2 / 2**0.5))
        values += np.random.default_rng(seed).normal(0, noise, x.shape)
        return Grey(values)

    def test_an_edge_under_a_line_is_found_to_a_fraction(self) -> None:
        for offset in (0.0, 0.3, 0.77):
            for angle in (0.0, 20.0, -35.0, 180.0):
                c, s = np.cos(np.radians(angle)), np.sin(np.radians(angle))
                start, end = (40 - 20 * c, 30 - 20 * s), (40 + 20 * c, 30 + 20 * s)
                found = profile_along(self.step(offset, 0.0).sampled, start, end)
                self.assertEqual(len(found.crossings), 1, (offset, angle))
                self.assertAlmostEqual(found.crossings[0].x, 40 + offset, delta=0.06)
                self.assertEqual(found.crossings[0].slope > 0, abs(angle) < 90)

    def test_error_bars_hold_and_shrink_with_the_width(self) -> None:
        for width in (1, 9):
            off, told = [], []
            for seed in range(150):
                picture = self.step(0.4, 4.0, seed)
                crossings = profile_along(picture.sampled, (20, 30), (60, 30), width).crossings
                best = max(crossings, key=lambda c: abs(c.slope))
                off.append(best.x - 40.4)
                told.append(best.std)
            self.assertAlmostEqual(float(np.std(off)) / float(np.median(told)), 1.0, delta=0.35, msg=width)
        self.assertLess(float(np.std(off)), 0.13)

    def test_noise_alone_has_hardly_an_edge(self) -> None:
        flat = [Grey(np.random.default_rng(n).normal(100, 5, (40, 200))) for n in range(40)]
        self.assertLessEqual(sum(len(profile_along(p.sampled, (5, 20), (195, 20)).crossings) for p in flat), 1)

    def test_outside_and_no_length(self) -> None:
        picture = self.step(0.0, 0.0)
        found = profile_along(picture.sampled, (-20, 30), (20, 30))
        self.assertTrue(np.isnan(found.values[:15]).all())
        self.assertTrue(np.isfinite(found.values[25:]).all())
        self.assertEqual(profile_along(picture.sampled, (10, 10), (10, 10)).crossings, ())
        self.assertEqual(profile_along(picture.sampled, (-50, -10), (-40, -10)).crossings, ())
