"""Preparation steps against closed forms, their borders, masks and refusals."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from scipy import ndimage

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.prepare import step_of


def prepared(name: str, image: Image, **parameters: Any) -> Image:
    step = step_of(name)
    return step.apply(image, step.Parameters.make(parameters, name))


RANDOM = np.random.default_rng(0)
COLOUR = Image.from_array(RANDOM.integers(0, 256, (20, 30, 3)).astype(np.uint8))
GREY = Image.from_array(RANDOM.integers(0, 256, (20, 30)).astype(np.uint8))


class Channels(unittest.TestCase):
    def test_weighted_sums(self) -> None:
        red, green, blue = (COLOUR.pixels[..., i].astype(float) for i in range(3))
        for take, expected in {
            "luma": 0.299 * red + 0.587 * green + 0.114 * blue,
            "luma709": 0.2126 * red + 0.7152 * green + 0.0722 * blue,
            "mean": (red + green + blue) / 3,
        }.items():
            np.testing.assert_allclose(prepared("channel", COLOUR, take=take).pixels, expected, atol=1e-3)
        mixed = prepared("channel", COLOUR, take="weights", weights=(1, -1, 0.5))
        np.testing.assert_allclose(mixed.pixels, red - green + 0.5 * blue, atol=1e-3)

    def test_plain_channels_keep_their_type(self) -> None:
        for number, take in enumerate(("red", "green", "blue")):
            taken = prepared("channel", COLOUR, take=take).pixels
            self.assertEqual(taken.dtype, np.uint8)
            np.testing.assert_array_equal(taken, COLOUR.pixels[..., number])

    def test_known_colours(self) -> None:
        colours = {
            (255, 0, 0): (0, 1),
            (0, 255, 0): (120, 1),
            (0, 0, 255): (240, 1),
            (128, 128, 128): (0, 0),
            (255, 255, 0): (60, 1),
        }
        for rgb, (hue, saturation) in colours.items():
            image = Image.from_array(np.full((2, 2, 3), rgb, np.uint8))
            self.assertAlmostEqual(float(prepared("channel", image, take="hue").pixels[0, 0]), hue, places=3)
            self.assertAlmostEqual(float(prepared("channel", image, take="saturation").pixels[0, 0]), saturation, places=3)
        white = Image.from_array(np.full((2, 2, 3), 255, np.uint8))
        self.assertAlmostEqual(float(prepared("channel", white, take="lightness").pixels[0, 0]), 100, places=2)
        self.assertAlmostEqual(float(prepared("channel", white, take="a").pixels[0, 0]), 0, places=2)
        red = Image.from_array(np.full((2, 2, 3), (255, 0, 0), np.uint8))
        np.testing.assert_allclose(
            [float(prepared("channel", red, take=t).pixels[0, 0]) for t in ("lightness", "a", "b")],
            [53.24, 80.09, 67.20],
            atol=0.05,
        )

    def test_grey_stays_as_it_is(self) -> None:
        self.assertIs(prepared("channel", GREY, take="red"), GREY)

    def test_refused(self) -> None:
        with self.assertRaisesRegex(ParameterError, "weights is needed"):
            prepared("channel", COLOUR, take="weights")
        with self.assertRaisesRegex(ParameterError, "weights.*3 numbers"):
            prepared("channel", COLOUR, take="weights", weights=(1, 2))


class Tones(unittest.TestCase):
    def test_gamma_above_one_darkens(self) -> None:
        out = prepared("tone", GREY, gamma=2.0)
        np.testing.assert_allclose(out.pixels, (GREY.pixels / 255.0) ** 2 * 255, atol=1e-3)

    def test_black_white_and_invert(self) -> None:
        out = prepared("tone", GREY, black_pct=20, white_pct=60, invert=True)
        expected = 255 * (1 - np.clip((GREY.pixels / 255 - 0.2) / 0.4, 0, 1))
        np.testing.assert_allclose(out.pixels, expected, atol=1e-3)

    def test_float_images(self) -> None:
        image = Image.from_array(np.linspace(0, 1, 12).reshape(3, 4))
        np.testing.assert_allclose(prepared("tone", image, gamma=0.5).pixels, np.sqrt(image.pixels), atol=1e-6)

    def test_refused(self) -> None:
        for given in ({"gamma": 0.0}, {"gamma": -1.0}, {"black_pct": 60.0, "white_pct": 60.0}, {"white_pct": 101.0}):
            with self.subTest(given), self.assertRaisesRegex(ParameterError, f"tone.*{next(iter(given))}"):
                prepared("tone", GREY, **given)


class Smoothing(unittest.TestCase):
    def test_methods_and_borders_against_scipy(self) -> None:
        image = GREY.pixels.astype(float)
        modes = {"mirror": "mirror", "replicate": "nearest", "constant": "constant"}
        for border, mode in modes.items():
            box = prepared("smooth", GREY, method="box", size=5, border=border)
            np.testing.assert_allclose(box.pixels, ndimage.uniform_filter(image, 5, mode=mode), atol=1e-3)
            median = prepared("smooth", GREY, method="median", size=3, border=border)
            np.testing.assert_array_equal(median.pixels, ndimage.median_filter(GREY.pixels, 3, mode=mode))
            gaussian = prepared("smooth", GREY, sigma=1.5, border=border)
            np.testing.assert_allclose(gaussian.pixels, ndimage.gaussian_filter(image, 1.5, mode=mode, truncate=3.5), atol=0.05)

    def test_trim_keeps_source_coordinates(self) -> None:
        out = prepared("smooth", GREY, method="box", size=5, border="trim")
        self.assertEqual((out.width, out.height), (26, 16))
        self.assertEqual(out.frame.to_source(0.0, 0.0), (2.0, 2.0))
        whole = prepared("smooth", GREY, method="box", size=5)
        np.testing.assert_allclose(out.pixels, whole.pixels[2:-2, 2:-2])

    def test_colour(self) -> None:
        out = prepared("smooth", COLOUR, sigma=1.0)
        red = prepared("smooth", prepared("channel", COLOUR, take="red"), sigma=1.0)
        np.testing.assert_allclose(out.pixels[..., 0], red.pixels, atol=1e-4)

    def test_what_is_averaged_over_invalid_pixels_is_invalid(self) -> None:
        image = Image.from_array(GREY.pixels, mask=np.pad(np.zeros((2, 2), bool), ((9, 9), (14, 14)), constant_values=True))
        out = prepared("smooth", image, method="box", size=3)
        assert out.mask is not None
        self.assertEqual(int((~out.mask).sum()), 16)

    def test_refused(self) -> None:
        for words, given in {
            "odd": {"method": "box", "size": 4},
            "size = 0": {"method": "box", "size": 0},
            "sigma = -1": {"sigma": -1.0},
            "leaves nothing": {"method": "box", "size": 21, "border": "trim"},
            'border = "wrap"': {"border": "wrap"},
        }.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                prepared("smooth", GREY, **given)


class Crops(unittest.TestCase):
    def test_every_shape(self) -> None:
        shapes = {
            "rectangle": ({"x": 10.0, "y": 8.0, "width": 6.0, "height": 4.0}, (7, 5)),
            "ellipse": ({"x": 10.0, "y": 8.0, "width": 8.0, "height": 8.0}, (9, 9)),
            "polygon": ({"points": [[2.0, 2.0], [12.0, 2.0], [2.0, 12.0]]}, (10, 10)),
            "annulus": ({"x": 12.0, "y": 10.0, "inner": 2.0, "outer": 5.0}, (11, 11)),
        }
        for shape, (numbers, size) in shapes.items():
            with self.subTest(shape):
                out = prepared("crop", GREY, region={"shape": shape, **numbers})
                self.assertEqual((out.width, out.height), size)
                x, y = out.frame.to_source(0, 0)
                np.testing.assert_array_equal(out.pixels, GREY.pixels[int(y) : int(y) + size[1], int(x) : int(x) + size[0]])
                self.assertEqual(out.mask is None, shape == "rectangle")

    def test_exclusions_and_turns(self) -> None:
        hole = {"shape": "rectangle", "x": 10.0, "y": 8.0, "width": 2.0, "height": 2.0}
        out = prepared(
            "crop", GREY, region={"shape": "rectangle", "x": 10.0, "y": 8.0, "width": 6.0, "height": 6.0, "exclude": [hole]}
        )
        assert out.mask is not None
        self.assertEqual(int((~out.mask).sum()), 9)
        turned = prepared(
            "crop", GREY, region={"shape": "rectangle", "x": 10.0, "y": 8.0, "width": 8.0, "height": 2.0, "angle": 90.0}
        )
        self.assertEqual((turned.width, turned.height), (3, 9))

    def test_one_after_the_other(self) -> None:
        region = {"shape": "rectangle", "x": 12.0, "y": 9.0, "width": 10.0, "height": 8.0}
        smaller = {"shape": "rectangle", "x": 13.0, "y": 10.0, "width": 4.0, "height": 4.0}
        out = prepared("crop", prepared("crop", GREY, region=region), region=smaller)
        self.assertEqual(out.frame.to_source(0, 0), (11.0, 8.0))
        np.testing.assert_array_equal(out.pixels, GREY.pixels[8:13, 11:16])

    def test_refused(self) -> None:
        with self.assertRaisesRegex(ParameterError, "holds no pixel.*-0.5 to 29.5"):
            prepared("crop", GREY, region={"shape": "rectangle", "x": 500.0, "y": 8.0, "width": 6.0, "height": 4.0})
        with self.assertRaisesRegex(ParameterError, "region is needed"):
            prepared("crop", GREY)
        wrong = [
            {"shape": "rectangle", "x": 1.0, "y": 1.0, "width": 0.0, "height": 2.0},
            {"shape": "annulus", "x": 1.0, "y": 1.0, "inner": 5.0, "outer": 2.0},
            {"shape": "polygon", "points": [[0, 0], [1, 1]]},
            {"shape": "rectangle", "x": 1.0, "y": 1.0, "width": 1.0, "height": 2.0, "colour": 3},
        ]
        for region in wrong:
            with self.subTest(region), self.assertRaisesRegex(ParameterError, "crop: region"):
                prepared("crop", GREY, region=region)
