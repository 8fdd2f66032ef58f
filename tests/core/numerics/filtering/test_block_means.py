"""Images shrunk by blocks: means, masks, and places that stay where they are."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.detector import Context
from lucid_finch.core.detectors.shared.image_variants import calmed, shrunk_by
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.filtering.halving import any_in_block, block_means, halved
from lucid_finch.core.recipe import Recipe
from lucid_finch.demo import scene


class BlockMeans(unittest.TestCase):
    def test_means_of_blocks_and_what_is_left_at_the_border(self) -> None:
        pixels = np.arange(7 * 8, dtype=np.float32).reshape(7, 8)
        found = block_means(pixels, 3)
        self.assertEqual(found.shape, (3, 3))
        self.assertAlmostEqual(float(found[0, 0]), float(pixels[:3, :3].mean()))
        # The last row and column are repeated.
        filled = np.pad(pixels, ((0, 2), (0, 1)), mode="edge")
        self.assertAlmostEqual(float(found[2, 2]), float(filled[6:, 6:].mean()), places=4)
        np.testing.assert_array_equal(block_means(pixels, 2), halved(pixels))

    def test_masks(self) -> None:
        self.assertIsNone(any_in_block(None))
        marked = np.zeros((5, 6), bool)
        marked[4, 5] = True
        np.testing.assert_array_equal(any_in_block(marked, 2), [[0, 0, 0], [0, 0, 0], [0, 0, 1]])
        np.testing.assert_array_equal(any_in_block(marked, 3), [[0, 0], [0, 1]])

    def test_a_shrunk_image_keeps_the_places_of_the_source(self) -> None:
        x = np.mgrid[:90, :120][1].astype(np.float32)
        mask = np.ones(x.shape, bool)
        mask[40, 50] = False
        image = Image.from_array(x, value_range=(0.0, 120.0), mask=mask)
        for side in (2, 3):
            small = shrunk_by(image, side, Context()).image
            u = small.frame.to_source(np.arange(small.width), 5.0)[0]
            np.testing.assert_allclose(small.pixels[5], u, atol=1e-4)
            assert small.mask is not None
            self.assertEqual(int((~small.mask).sum()), 1)
            row, column = np.argwhere(~small.mask)[0]
            at = small.frame.to_source(float(column), float(row))
            self.assertLessEqual(max(abs(at[0] - 50), abs(at[1] - 40)), side / 2)
        self.assertIs(shrunk_by(image, 1, Context()).image, image)


class Calmed(unittest.TestCase):
    def test_impulses_of_one_colour_go(self) -> None:
        random = np.random.default_rng(2)
        pixels = np.clip(np.round(random.normal(100, 3, (120, 160, 3))), 0, 255).astype(np.uint8)
        clean = Image.from_array(pixels)
        self.assertIs(calmed(clean, Context()).image, clean)
        salted = pixels.copy()
        salted[..., 1][random.random((120, 160)) < 0.02] = 255
        seen = calmed(Image.from_array(salted), Context())
        self.assertTrue(seen.is_calmed)
        self.assertLess(int(seen.image.pixels[..., 1].max()), 140)
        np.testing.assert_array_equal(seen.image.pixels[..., 0], pixels[..., 0])

    def test_detectors_of_colour_and_of_luma_beside_one_another_change_nothing(self) -> None:
        random = np.random.default_rng(4)
        pixels = np.asarray(scene("plaques").image.pixels)[:400, :560].copy()
        where = random.random(pixels.shape) < 0.03
        pixels[where] = random.choice([0, 255], int(where.sum()))
        image = Image.from_array(pixels)
        kinds = ("circles", "faces", "blobs")
        recipe = Recipe.make({"lucid_finch_recipe": 2, "name": "all", "detectors": [{"name": k, "kind": k} for k in kinds]})
        together = Engine().run(recipe, image).detections
        for kind in kinds:
            alone = Engine().run(
                Recipe.make({"lucid_finch_recipe": 2, "name": kind, "detectors": [{"name": kind, "kind": kind}]}), image
            )
            for column in ("x", "y", "score"):
                np.testing.assert_array_equal(together[kind].findings[column], alone.detections[kind].findings[column])
        self.assertGreater(len(together["faces"].findings), 1)


if __name__ == "__main__":
    unittest.main()
