"""Images from arrays, frames and masks."""

from __future__ import annotations

import pickle
import unittest
from dataclasses import replace

import numpy as np

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Frame, Image


class FromArray(unittest.TestCase):
    def test_what_is_given_is_copied_unless_handed_over(self) -> None:
        for array in (np.zeros((4, 5), np.uint8), np.zeros((4, 5, 4), np.uint8), np.zeros((4, 5), np.float32)):
            image = Image.from_array(array)
            array += 7
            self.assertEqual(image.pixels.max(), 0)
        mask = np.eye(4, dtype=bool)
        image = Image.from_array(np.zeros((4, 4), np.uint8), mask=mask)
        mask[:] = True
        self.assertEqual(int(image.mask.sum()), 4)  # type: ignore[union-attr]
        self.assertIs(Image.from_array(array, copy=False).pixels, array)

    def test_value_ranges(self) -> None:
        self.assertEqual((Image.from_array(np.zeros((2, 2), np.uint8)).white, 255.0), (255.0, 255.0))
        deep = Image.from_array(np.full((2, 2), 4000, np.uint16))
        self.assertEqual(deep.white, 4095.0)
        self.assertIn("12 significant bits", deep.notes[0])
        self.assertEqual(Image.from_array(np.full((2, 2), 4000, np.uint16), significant_bits=16).white, 65535.0)
        self.assertEqual(Image.from_array(np.zeros((2, 2))).white, 1.0)
        self.assertEqual(Image.from_array(np.zeros((2, 2)), value_range=(-1, 3)).span, 4.0)

    def test_layouts_are_normalised_once(self) -> None:
        base = np.arange(24, dtype=np.uint8).reshape(4, 6)
        frozen = base.copy()
        frozen.flags.writeable = False
        for array in (base[:, ::2], base.T, np.asfortranarray(base), frozen, base.astype(">u2"), base.astype(np.int64)):
            pixels = Image.from_array(array).pixels
            self.assertTrue(pixels.flags.c_contiguous and pixels.flags.writeable and pixels.dtype.isnative)
            np.testing.assert_array_equal(pixels, array)

    def test_alpha_becomes_the_mask(self) -> None:
        array = np.full((3, 3, 4), 200, np.uint8)
        array[0, 0, 3] = 0
        image = Image.from_array(array)
        self.assertEqual(image.pixels.shape, (3, 3, 3))
        assert image.mask is not None
        self.assertEqual(int((~image.mask).sum()), 1)
        self.assertIsNone(Image.from_array(np.full((3, 3, 2), 255, np.uint8)).mask)

    def test_what_is_not_finite_is_masked(self) -> None:
        array = np.full((3, 4), 0.25, np.float32)
        array[1, 1], array[2, 2] = np.nan, np.inf
        image = Image.from_array(array)
        assert image.mask is not None
        self.assertEqual(int((~image.mask).sum()), 2)
        self.assertTrue(np.isfinite(image.pixels).all())

    def test_refusals_name_the_parameter(self) -> None:
        wrong = {
            "no pixels": np.zeros((0, 5)),
            "not an image": np.zeros((2, 2, 5)),
            "no finite pixel": np.full((2, 2), np.nan),
            "do not fit 16 bits": np.array([[-1, 5]]),
            "not numbers": np.array([["a", "b"]]),
        }
        for words, array in wrong.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                Image.from_array(array)
        with self.assertRaisesRegex(ParameterError, "value_range"):
            Image.from_array(np.zeros((2, 2)), value_range=(3, 3))
        with self.assertRaisesRegex(ParameterError, "mask"):
            Image.from_array(np.zeros((2, 2)), mask=np.ones((3, 3)))
        with self.assertRaisesRegex(ParameterError, "significant_bits"):
            Image.from_array(np.zeros((2, 2), np.uint8), significant_bits=9)

    def test_every_image_has_an_identity(self) -> None:
        one = Image.from_array(np.zeros((3, 3), np.uint8))
        images = [one, Image.from_array(one.pixels), one.with_pixels(one.pixels), replace(one, name="other")]
        images.append(pickle.loads(pickle.dumps(one)))
        self.assertEqual(len({image.identity for image in images}), len(images))


class Frames(unittest.TestCase):
    def test_there_and_back(self) -> None:
        turned = Frame(((0.0, -2.0), (2.0, 0.0)), (5.0, -3.0))
        x, y = turned.to_source(1.5, 4.0)
        self.assertEqual((x, y), (-3.0, 0.0))
        np.testing.assert_allclose(turned.from_source(x, y), (1.5, 4.0))
        self.assertAlmostEqual(turned.scale, 2.0)
        self.assertAlmostEqual(turned.turn, 90.0)

    def test_one_after_the_other(self) -> None:
        outer, inner = Frame(((0.0, -1.0), (1.0, 0.0)), (10.0, 0.0)), Frame.shifted(3, 4)
        expected = outer.to_source(*inner.to_source(1.0, 2.0))
        np.testing.assert_allclose(outer.after(inner).to_source(1.0, 2.0), expected)


if __name__ == "__main__":
    unittest.main()
