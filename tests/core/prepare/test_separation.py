"""The contrast axis on colours of equal lightness, under uneven light, and what is refused."""

from __future__ import annotations

import colorsys
import unittest
from typing import Any

import numpy as np

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.image import LUMA, Image
from lucid_finch.core.prepare.separation import channel_separations
from lucid_finch.core.regions import Rectangle
from tests.core.prepare.test_steps import GREY, prepared


def of_luma(hue: float, saturation: float, luma: float) -> Any:
    """A colour of that hue whose luma is `luma`."""
    colour = np.array(colorsys.hsv_to_rgb(hue, saturation, 1.0)) * 255
    # Towards white or black until the luma fits.
    have = float(colour @ LUMA)
    return colour * luma / have if have > luma else colour + (255 - colour) * (luma - have) / (255 - have)


def scene(seed: int) -> tuple[Image, list[tuple[float, float, float]], np.ndarray]:
    """Round parts of one hue on a ground of another and the same luma, under uneven light, with noise."""
    random = np.random.default_rng(seed)
    hue, luma = random.uniform(0, 1), random.uniform(90, 170)
    ground, part = (
        of_luma(hue, random.uniform(0.25, 0.5), luma),
        of_luma((hue + random.uniform(0.15, 0.85)) % 1, random.uniform(0.3, 0.6), luma),
    )
    y, x = np.mgrid[0:240, 0:320].astype(float)
    picture = np.broadcast_to(ground, (240, 320, 3)).copy()
    truth = np.zeros((240, 320), bool)
    parts = []
    for row in range(3):
        for column in range(4):
            cx, cy, r = 42 + 78 * column + random.uniform(-8, 8), 42 + 78 * row + random.uniform(-8, 8), random.uniform(14, 26)
            parts.append((cx, cy, r))
            inside = np.hypot(x - cx, y - cy) < r
            truth |= inside
            picture[inside] = part + random.normal(0, 2, 3)
    light = 1 - 0.25 * (x * np.cos(seed) + y * np.sin(seed)) / 400
    picture = picture * light[..., None] + random.normal(0, 3, picture.shape)
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8)), parts, truth


def square(x: float, y: float, side: float) -> dict[str, Any]:
    return {"shape": "rectangle", "x": x, "y": y, "width": side, "height": side}


class Axes(unittest.TestCase):
    def test_all_parts_of_equal_lightness_are_told_apart(self) -> None:
        for seed in range(24):
            image, parts, truth = scene(seed)
            cx, cy, r = parts[5]
            out = prepared("contrast_axis", image, inside=square(cx, cy, r), outside=square(cx + 39, cy, 12))
            smooth = prepared("smooth", out, sigma=1.5).pixels
            ground = smooth[~truth]
            for number, (x, y, _) in enumerate(parts):
                inside = smooth[int(y) - 4 : int(y) + 5, int(x) - 4 : int(x) + 5].mean()
                self.assertGreater(inside, np.quantile(ground, 0.99), (seed, number))

    def test_edges_of_every_part_are_found(self) -> None:
        """Where luma shows next to nothing."""
        for seed in (1, 7, 12):
            image, parts, _ = scene(seed)
            cx, cy, r = parts[0]
            axis = prepared("contrast_axis", image, inside=square(cx, cy, r), outside=square(cx + 39, cy, 12))
            points = engine.detect("edges", axis, {}).points
            for x, y, radius in parts:
                turns = np.degrees(np.arctan2(points["y"] - y, points["x"] - x)) % 360
                on = np.abs(np.hypot(points["x"] - x, points["y"] - y) - radius) < 1.5
                self.assertGreater(len(np.unique(turns[on] // 10)), 30, seed)

    def test_inside_becomes_bright_and_noise_keeps_its_size(self) -> None:
        image, parts, _ = scene(3)
        (x1, y1, r), ground = parts[0], square(parts[0][0] + 39, parts[0][1], 12)
        one = prepared("contrast_axis", image, inside=square(x1, y1, r), outside=ground)
        other = prepared("contrast_axis", image, inside=ground, outside=square(x1, y1, r))
        part, around = (slice(int(y1) - 5, int(y1) + 6), slice(int(x1) - 5, int(x1) + 6)), (slice(100, 110), slice(75, 85))
        self.assertGreater(one.pixels[part].mean(), one.pixels[around].mean() + 10)
        self.assertLess(other.pixels[part].mean(), other.pixels[around].mean() - 10)
        noise = one.pixels[100:110, 75:85].std()
        self.assertLess(noise, 5)

    def test_the_ranking_knows_light_and_loose_samples(self) -> None:
        """Areas that lie in other light, one of them reaching over the rim: still no grey mixture comes first."""
        for seed in range(12):
            image, parts, _ = scene(seed)
            (cx, cy, r), (fx, fy, _) = parts[0], parts[11]
            loose = Rectangle.model_validate(square(cx + 0.45 * r, cy, 1.7 * r))
            far = Rectangle.model_validate(square(fx - 39, fy, 14))
            found = channel_separations(image, loose, far)
            ranks = {name: n for n, (name, _) in enumerate(found)}
            best = dict(found)["contrast axis"]
            self.assertGreater(best, 3.0, seed)
            self.assertLessEqual(ranks["contrast axis"], 2, (seed, found[:4]))
            for grey in ("luma", "luma709", "lightness", "mean"):
                self.assertLess(dict(found)[grey], 0.5 * best, (seed, grey))
        grey = channel_separations(GREY, Rectangle.model_validate(square(5, 5, 5)), Rectangle.model_validate(square(15, 5, 5)))
        self.assertEqual([name for name, _ in grey], ["grey"])

    def test_noise_free_colours_and_other_depths(self) -> None:
        flat = np.zeros((40, 60, 3))
        flat[:, :30], flat[:, 30:] = (120, 100, 90), (100, 110, 95)
        for pixels in (flat.astype(np.uint8), (flat * 200).astype(np.uint16), (flat / 255).astype(np.float32)):
            image = Image.from_array(pixels)
            out = prepared("contrast_axis", image, inside=square(10, 20, 9), outside=square(50, 20, 9))
            self.assertGreater(out.pixels[0, 0], out.pixels[0, 59])
            self.assertTrue(out.black <= out.pixels.min() <= out.pixels.max() <= out.white)

    def test_refused(self) -> None:
        image, _, _ = scene(0)
        here, there = square(50, 50, 10), square(500, 50, 10)
        for words, given in {
            "outside holds no pixel": {"inside": here, "outside": there},
            "inside holds no pixel": {"inside": there, "outside": here},
            "lies within inside": {"inside": square(50, 50, 20), "outside": here},
            "outside is needed": {"inside": here},
        }.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                prepared("contrast_axis", image, **given)
        same = Image.from_array(np.full((30, 30, 3), 90, np.uint8))
        with self.assertRaisesRegex(ParameterError, "same mean colour"):
            prepared("contrast_axis", same, inside=square(5, 5, 5), outside=square(20, 20, 5))
        self.assertIs(prepared("contrast_axis", GREY, inside=square(5, 5, 5), outside=square(15, 5, 5)), GREY)
