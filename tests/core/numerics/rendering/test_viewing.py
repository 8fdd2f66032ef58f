"""The loops behind the panes, display ranges and colours, and where compiled kernels are kept."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.image import Frame, Image
from lucid_finch.core.numerics.rendering import viewing
from lucid_finch.core.numerics.rendering.viewing import halved, strokes, tint
from lucid_finch.core.viewing.display import colour_table, display_range, shown
from lucid_finch.desktop.study.picture import Picture
from tests.support import disc


class Levels(unittest.TestCase):
    def test_halving_takes_means_and_keeps_the_type(self) -> None:
        level = np.arange(24, dtype=np.uint8).reshape(4, 6, 1)
        out = halved(level)
        self.assertEqual((out.shape, out.dtype), ((2, 3, 1), np.uint8))
        np.testing.assert_array_equal(out[..., 0], level[..., 0].reshape(2, 2, 3, 2).mean(axis=(1, 3)).astype(np.uint8))
        odd = halved(np.full((5, 7, 3), 9.0, np.float32))
        self.assertEqual(odd.shape, (3, 4, 3))
        np.testing.assert_array_equal(odd, 9.0)

    def test_a_picture_is_drawn_where_it_lies_in_the_source(self) -> None:
        image = disc(20.0)
        cut = image.with_pixels(image.pixels[40:120, 50:110], frame=Frame.shifted(50, 40))
        picture = Picture.of_image(cut, "cut", "cut")
        self.assertEqual(picture.box, (49.5, 39.5, 109.5, 119.5))
        out = np.empty((80, 60), np.uint32)
        picture.draw(49.5, 39.5, 1.0, out)
        np.testing.assert_array_equal(out & 255, cut.pixels)
        self.assertEqual(picture.value_at(50.0, 40.0), image.pixels[40, 50])
        self.assertIsNone(picture.value_at(49.0, 40.0))

    def test_small_views_show_means_and_not_single_pixels(self) -> None:
        checks = Image.from_array((np.indices((256, 256)).sum(axis=0) % 2 * 255).astype(np.uint8))
        out = Picture.of_image(checks, "a", "a").thumbnail(64, 64) & 255
        self.assertLess(np.ptp(out.astype(int)), 3)
        self.assertAlmostEqual(float(out.mean()), 127, delta=2)


class Plain(unittest.TestCase):
    def test_until_the_loops_are_loaded_the_same_is_drawn_without_them(self) -> None:
        viewing.load()
        random = np.random.default_rng(0)
        table = random.integers(0, 2**32, 256).astype(np.uint32)
        for dtype in (np.uint8, np.uint16, np.float32):
            for channels in (1, 3):
                level = (random.random((37, 54, channels)) * 250).astype(dtype)
                np.testing.assert_array_equal(viewing.plainly_halved(level), halved(level))
                for left, top, step in ((0.0, 0.0, 1.0), (-7.3, -3.2, 0.37), (20.0, 30.0, 2.9)):
                    drawn, plain = np.zeros((2, 30, 41), np.uint32)
                    given = (level, left, top, step, np.float32(20), np.float32(1.7), table, np.uint32(5))
                    viewing.sample(*given, drawn)
                    viewing.plainly_sampled(*given, plain)
                    np.testing.assert_array_equal(plain, drawn)


class Strokes(unittest.TestCase):
    def draw(self, dash: float = 0.0, closed: bool = False) -> np.ndarray:  # type: ignore[type-arg]
        line, halo = np.zeros((40, 60), np.uint8), np.zeros((40, 60), np.uint8)
        points = np.array([(10.5, 10.5), (50.5, 10.5), (50.5, 30.5)], np.float32)
        strokes(points, 0.0, 0.0, 1.0, np.array([0, 3]), np.array([0]), np.array([closed]), dash, 1.0, 2.0, line, halo)
        self.assertTrue((halo >= line).all())
        return line

    def test_lines_go_through_their_points(self) -> None:
        line = self.draw()
        self.assertTrue((line[10, 12:49] == 255).all() and (line[12:29, 50] == 255).all())
        self.assertEqual(line[20, 30], 0)
        self.assertGreater(self.draw(closed=True)[20, 30], 0)

    def test_dashes_have_gaps(self) -> None:
        share = (self.draw(dash=5.0)[10, 10:50] > 0).mean()
        self.assertTrue(0.3 < share < 0.9)

    def test_tint_lays_colour_and_clears_the_cover(self) -> None:
        line = self.draw()
        out = np.zeros(line.shape, np.uint32)
        tint(line, 200, 100, 50, 1.0, out)
        self.assertEqual(hex(out[10, 30]), "0xffc86432")
        self.assertEqual(line.max(), 0)


class Display(unittest.TestCase):
    def test_ranges_show_something_at_once(self) -> None:
        random = np.random.default_rng(0)
        signed = random.normal(0, 2, (200, 200)).astype(np.float32)
        low, high = display_range(signed, "signed")
        self.assertEqual(low, -high)
        grey = np.where(random.random((200, 200)) < 0.0005, 1e6, signed).astype(np.float32)
        self.assertLess(display_range(grey, "grey")[1], 50)
        self.assertEqual(display_range(signed, "cyclic"), (0.0, 360.0))
        self.assertEqual(display_range(np.full((3, 3), 7.0), "grey"), (6.5, 7.5))
        self.assertEqual(display_range(np.full((3, 3), np.nan), "grey"), (0.0, 1.0))

    def test_colours(self) -> None:
        cyclic = colour_table("cyclic")
        self.assertEqual(cyclic[0].tolist(), cyclic[255].tolist())
        zero = shown(np.zeros((2, 2), np.float32), "signed", -5.0, 5.0)[0, 0]
        self.assertLess(zero.max(), 40)
        grey = shown(np.array([[0.0, 5.0, 10.0, np.nan]], np.float32), "grey", 0.0, 10.0)
        self.assertEqual(grey.tolist(), [[0, 127, 255, 0]])


if __name__ == "__main__":
    unittest.main()
