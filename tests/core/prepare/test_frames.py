"""Whatever is done to an image, places in it are those of the source: sizes, angles, chains at random, sure margins."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as some

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.image import Image
from lucid_finch.core.valid_region import clipped, shrunk
from tests.core.prepare.test_steps import COLOUR, GREY, prepared

SPOT = (83.3, 61.7)


def spot(colour: bool = False) -> Image:
    """A smooth bright spot at `SPOT` on a ramp."""
    y, x = np.mgrid[0:130, 0:160]
    values = 60 + 120 * np.exp(-0.5 * ((x - SPOT[0]) ** 2 + (y - SPOT[1]) ** 2) / 6.0**2)
    return Image.from_array(
        (np.repeat(values[..., None], 3, axis=2) if colour else values).astype(np.float32), value_range=(0, 255)
    )


def found_spot(image: Image) -> tuple[float, float, float]:
    """Source place of the spot in a prepared image, by its centroid, and how many source pixels one pixel is."""
    assert not image.is_colour
    values = image.pixels.astype(float)
    u, v = image.frame.from_source(*SPOT)
    y, x = np.mgrid[0 : image.height, 0 : image.width]
    near = np.hypot(x - u, y - v) < 16 / image.frame.scale
    level = np.median(values[near])
    weight = np.where(near, np.clip(np.abs(values - level), 0, None), 0)
    weight = np.where(weight > 0.5 * weight.max(), weight, 0)
    # About the place of the brightest first: the ring that a derivative leaves is round about it too.
    sx, sy = image.frame.to_source((weight * x).sum() / weight.sum(), (weight * y).sum() / weight.sum())
    return float(sx), float(sy), image.frame.scale


def _step(name: str, **parameters: Any) -> Any:
    return some.fixed_dictionaries({"step": some.just(name), **parameters})


_BORDER = some.sampled_from(["mirror", "replicate", "constant", "trim"])
STEP = some.one_of(
    _step("resize", factor=some.floats(0.55, 1.8)),
    _step("resize", width_max=some.integers(90, 200)),
    _step("rotate", angle=some.floats(-180, 180), expand=some.just(True)),
    _step("rotate", angle=some.sampled_from([90.0, 180.0, -90.0]), expand=some.just(True)),
    _step("rotate", angle=some.floats(-25, 25), expand=some.just(False)),
    _step("smooth", sigma=some.floats(0, 1.5), border=_BORDER),
    _step("smooth", method=some.just("median"), size=some.just(3), border=_BORDER),
    _step("smooth", method=some.just("box"), size=some.sampled_from([3, 5]), border=_BORDER),
    _step("smooth", method=some.just("bilateral"), sigma=some.just(1.0), border=_BORDER),
    _step("sharpen", sigma=some.just(1.0), amount=some.floats(0, 1), border=_BORDER),
    _step("kernel", coefficients=some.just(((0.0, 1.0, 0.0), (1.0, 2.0, 1.0), (0.0, 1.0, 0.0))), border=_BORDER),
    _step("tone", gamma=some.floats(0.7, 1.4)),
    _step("morphology", operation=some.sampled_from(["open", "close", "erode", "dilate"]), size=some.just(3), border=_BORDER),
    _step("flatten", size=some.just(90)),
    _step(
        "crop",
        region=some.builds(
            lambda dx, dy, w, h, turn: {
                "shape": "rectangle", "x": SPOT[0] + dx, "y": SPOT[1] + dy, "width": w, "height": h, "angle": turn
            },
            some.floats(-6, 6), some.floats(-6, 6), some.floats(70, 120), some.floats(70, 120), some.floats(0, 180),
        ),
    ),
)  # fmt: skip


class Chains(unittest.TestCase):
    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
    @given(some.lists(STEP, min_size=1, max_size=5))
    def test_places_survive_every_chain(self, steps: list[dict[str, Any]]) -> None:
        image = engine.Engine().prepared(spot(), steps)
        x, y, scale = found_spot(image)
        # A centroid over whole pixels is good to a tenth of one; chains that enlarge and shrink add their own.
        self.assertLess(float(np.hypot(x - SPOT[0], y - SPOT[1])), 0.12 * max(scale, 1.0) + 0.1, (steps, x, y, scale))

    @settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
    @given(some.lists(STEP, min_size=1, max_size=4))
    def test_edges_lie_on_the_circle(self, steps: list[dict[str, Any]]) -> None:
        y, x = np.mgrid[0:130, 0:160]
        distance = np.hypot(x - SPOT[0], y - SPOT[1])
        values = 60 + 100 / (1 + np.exp((distance - 25) / 0.7))
        noisy = values + np.random.default_rng(0).normal(0, 1.0, values.shape)
        image = Image.from_array(noisy.astype(np.float32), value_range=(0, 255))
        # What lies about the circle: a step may leave other edges at the borders of what was cut or turned.
        prepared_image = engine.Engine().prepared(image, steps)
        found = engine.detect("edges", prepared_image, {})
        px, py, scale = found.points["x"], found.points["y"], prepared_image.frame.scale
        off = np.hypot(px - SPOT[0], py - SPOT[1]) - 25
        near = np.abs(off) < 4
        self.assertGreater(int(near.sum()), 30, steps)
        self.assertLess(
            abs(float(np.median(off[near]))), 1.1 if "morphology" in str(steps) else 0.1 + 0.15 * max(scale, 1.0), steps
        )
        # Directions point from dark to light: towards the middle.
        turn = np.degrees(np.arctan2(SPOT[1] - py[near], SPOT[0] - px[near])) - found.points["direction"][near]
        self.assertLess(float(np.median(np.abs((turn + 180) % 360 - 180))), 6.0, steps)


class Sizes(unittest.TestCase):
    def test_halving_averages_and_keeps_places(self) -> None:
        out = prepared("resize", GREY, factor=0.5)
        expected = GREY.pixels.astype(float).reshape(10, 2, 15, 2).mean(axis=(1, 3))
        np.testing.assert_allclose(out.pixels, expected, atol=1e-3)
        self.assertEqual(out.frame.to_source(0, 0), (0.5, 0.5))
        third = prepared("resize", GREY, factor=1 / 2.5)
        self.assertAlmostEqual(float(third.pixels.mean()), float(GREY.pixels.mean()), delta=1e-3)

    def test_what_may_be_given(self) -> None:
        for asked, size in (
            ({"width": 15}, (15, 10)), ({"height": 40}, (60, 40)), ({"width_max": 20}, (20, 13)), ({"height_max": 50}, (30, 20)),
            ({"width": 15, "height": 20}, (15, 20)), ({"width_max": 20, "height_max": 5}, (8, 5)), ({"factor": 0.01}, (1, 1)),
        ):  # fmt: skip
            with self.subTest(asked):
                out = prepared("resize", COLOUR, **asked)
                self.assertEqual((out.width, out.height), size)
        for words, asked in {
            "nothing is given": {}, "factor, width is given": {"factor": 0.5, "width": 3}, "factor = 0": {"factor": 0.0},
            "width = 0": {"width": 0},
        }.items():  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                prepared("resize", GREY, **asked)

    def test_unequal_sides(self) -> None:
        image = spot()
        out = prepared("resize", image, width=80, height=260)
        x, y, _ = found_spot(out)
        self.assertLess(np.hypot(x - SPOT[0], y - SPOT[1]), 0.3)
        slope = prepared("resize", Image.from_array(np.add.outer(np.arange(60.0), 2 * np.arange(80.0))), width=40, height=120)
        direction = np.degrees(np.arctan2(*np.gradient(slope.pixels.astype(float))))[30, 20]
        self.assertAlmostEqual(float(slope.frame.gradient_direction(direction)), float(np.degrees(np.arctan2(1, 2))), places=2)

    def test_quarter_turns_are_exact(self) -> None:
        for angle, times in ((90.0, -1), (180.0, 2), (-90.0, 1)):
            out = prepared("rotate", GREY, angle=angle)
            np.testing.assert_array_equal(out.pixels, np.rot90(GREY.pixels, times))
            self.assertIsNone(out.mask)
            x, y = out.frame.to_source(0, 0)
            self.assertEqual(out.pixels[0, 0], GREY.pixels[round(y), round(x)])
        self.assertIs(prepared("rotate", GREY, angle=360.0), GREY)

    def test_what_comes_in_is_invalid(self) -> None:
        out = prepared("rotate", GREY, angle=30.0)
        assert out.mask is not None
        self.assertFalse(out.mask[0, 0])
        self.assertTrue(out.mask[out.height // 2, out.width // 2])
        self.assertAlmostEqual(int(out.mask.sum()) / GREY.pixels.size, 1.0, delta=0.1)
        kept = prepared("rotate", COLOUR, angle=30.0, expand=False)
        self.assertEqual((kept.width, kept.height), (30, 20))
        self.assertFalse(prepared("resize", out, factor=0.5).mask[0, 0])


class Margins(unittest.TestCase):
    def test_the_valid_region_shrinks_with_every_neighbourhood(self) -> None:
        self.assertIsNone(prepared("tone", GREY).valid_region)
        chain = engine.Engine().prepared(
            GREY, [{"step": "smooth", "method": "box", "size": 5}, {"step": "resize", "factor": 0.5}]
        )
        self.assertEqual(chain.valid_region, ((1.5, 1.5), (27.5, 1.5), (27.5, 17.5), (1.5, 17.5)))
        twice = engine.Engine().prepared(chain, [{"step": "smooth", "method": "median", "size": 3}])
        self.assertEqual(twice.valid_region, ((3.5, 3.5), (25.5, 3.5), (25.5, 15.5), (3.5, 15.5)))
        trimmed = engine.Engine().prepared(GREY, [{"step": "smooth", "method": "box", "size": 5, "border": "trim"}])
        self.assertEqual(clipped(trimmed.corners, trimmed.valid_region), trimmed.corners)

    def test_outlines(self) -> None:
        square = ((0.0, 0.0), (10.0, 0.0), (10.0, 10.0), (0.0, 10.0))
        self.assertEqual(shrunk(square, 2.0), ((2.0, 2.0), (8.0, 2.0), (8.0, 8.0), (2.0, 8.0)))
        self.assertEqual(shrunk(square, 6.0), ())
        half = clipped(square, ((5.0, -1.0), (20.0, -1.0), (20.0, 20.0), (5.0, 20.0)))
        self.assertEqual({x for x, _ in half}, {5.0, 10.0})
