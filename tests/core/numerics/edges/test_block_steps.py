"""Steps between the blocks of a compressed picture: found by their spacing, at any phase and in floats; others are none."""

from __future__ import annotations

import io
import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image as Pillow

from lucid_finch.core.execution.engine import detect
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.block_steps import block_steps


def compressed(quality: int, seed: int = 1) -> NDArray[np.uint8]:
    """A shading with two bars and noise, as JPEG leaves it."""
    random = np.random.default_rng(seed)
    y, x = np.mgrid[:400, :600].astype(float)
    plane = 90 + 0.1 * x + 50 * ((np.abs(x - 203) < 20) | (np.abs(y - 150 - 0.3 * x) < 15)) + random.normal(0, 3, x.shape)
    stream = io.BytesIO()
    Pillow.fromarray(np.clip(plane, 0, 255).astype(np.uint8)).save(stream, "JPEG", quality=quality)
    return np.asarray(Pillow.open(stream))


def shaded(quality: int, seed: int, contrast: float = 0.0) -> NDArray[np.uint8]:
    """An even shading with little noise, and a rectangle whose corners are where blocks meet, as JPEG leaves it."""
    random = np.random.default_rng(seed)
    y, x = np.mgrid[:480, :640].astype(float)
    plane = 105 + 0.03 * x + 0.02 * y + random.normal(0, 2, x.shape)
    plane[160:224, 160:240] += contrast
    stream = io.BytesIO()
    Pillow.fromarray(np.clip(plane, 0, 255).astype(np.uint8)).save(stream, "JPEG", quality=quality)
    return np.asarray(Pillow.open(stream))


class BlockSteps(unittest.TestCase):
    def test_found_at_any_phase_and_scale(self) -> None:
        pixels = compressed(30)
        for left, top in ((0, 0), (3, 0), (5, 6)):
            part: Any = np.ascontiguousarray(pixels[top:, left:])
            found = block_steps(part, 255.0)
            assert found is not None
            self.assertEqual((found.column % 8, found.row % 8), (-left % 8, -top % 8))
            self.assertTrue(1.0 <= found.across <= 20.0)
        scaled = block_steps((pixels / 255).astype(np.float32), 1.0)
        whole = block_steps(pixels, 255.0)
        assert scaled is not None and whole is not None
        self.assertAlmostEqual(255 * scaled.across, whole.across, places=3)

    def test_other_pictures_have_none(self) -> None:
        random = np.random.default_rng(2)
        grating = (128 + 60 * np.sin(np.mgrid[:300, :300][1] * 2 * np.pi / 8)).astype(np.uint8)
        step = np.where(np.mgrid[:60, :90][1] < 44, 60, 140).astype(np.uint8)
        for name, pixels in (
            ("hardly compressed", compressed(97)), ("noise", random.integers(0, 256, (300, 300)).astype(np.uint8)),
            ("flat", np.full((300, 300), 90, np.uint8)),
            ("one step", step), ("a grating of 8 px", grating), ("small", np.zeros((20, 20), np.uint8)),
        ):  # fmt: skip
            self.assertIsNone(block_steps(pixels, 255.0), name)

    def test_nothing_is_found_on_an_empty_ground_of_even_blocks(self) -> None:
        """So few blocks differ that their steps are low on average, and single ones look like objects."""
        for seed, quality in ((1, 30), (2, 20), (3, 40)):
            pixels = shaded(quality, seed)
            found = block_steps(pixels, 255.0)
            assert found is not None
            self.assertEqual((found.column % 8, found.row % 8), (0, 0))
            for kind in ("lines", "contours", "corners", "circles", "ellipses"):
                with self.subTest(kind, quality=quality):
                    self.assertLessEqual(len(detect(kind, Image.from_array(pixels), {}).findings), 2)

    def test_corners_of_the_scene_stay_where_blocks_meet(self) -> None:
        pixels = shaded(30, 1, contrast=30.0)
        found = detect("corners", Image.from_array(pixels), {}).findings
        for x, y in ((159.5, 159.5), (239.5, 159.5), (159.5, 223.5), (239.5, 223.5)):
            self.assertLess(np.hypot(found["x"] - x, found["y"] - y).min(), 1.0)
        self.assertLessEqual(len(found), 8)

    def test_lines_of_the_scene_stay_and_those_of_blocks_go(self) -> None:
        found = detect("lines", Image.from_array(compressed(30)), {}).findings
        long = found["x"][(np.abs((found["angle"] + 45) % 90 - 45) < 0.6) & (found["length"] > 60)]
        for side in (182.5, 223.0):
            self.assertLess(np.abs(long - side).min(), 2.0)
        self.assertLessEqual(len(found), 8)


if __name__ == "__main__":
    unittest.main()
