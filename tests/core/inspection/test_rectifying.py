"""Rectified pictures: the plane from above, and straight lines where the lens bends them."""

from __future__ import annotations

import unittest

import numpy as np

import lucid_finch as lf
from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.inspection.rectifying import rectification
from lucid_finch.core.viewing.arrows import magnification, residual_arrows
from tests.support import dot_grid, leaning_camera, line_calibration, seen_by


class Rectified(unittest.TestCase):
    def test_there_and_back(self) -> None:
        camera = leaning_camera(35.0)
        x, y = np.random.default_rng(0).uniform(20, 440, (2, 50))
        for above in (True, False):
            how = rectification(camera, above)
            np.testing.assert_allclose(how.to_source(*how.from_source(x, y)), (x, y), atol=1e-6)

    def test_the_plane_from_above(self) -> None:
        camera = leaning_camera(35.0)
        image = seen_by(camera, dot_grid)
        how = rectification(camera)
        flat = how.picture(image)
        self.assertAlmostEqual(how.step, camera.mm_per_px)
        found = lf.detect("blobs", flat, polarity="dark", radius=(6, 20)).findings
        self.assertEqual(len(found), 48)
        x, y = how.left + how.step * found["x"], how.top + how.step * found["y"]
        off = np.hypot(x / 5 - np.round(x / 5 - 0.5) - 0.5, y / 5 - np.round(y / 5 - 0.5) - 0.5)
        self.assertLess(5 * off.max() / how.step, 0.25)
        self.assertLess(np.ptp(found["radius"]) / np.median(found["radius"]), 0.05)
        # What the picture does not show is masked, and makes no finding.
        assert flat.mask is not None
        self.assertGreater((~flat.mask).mean(), 0.02)

    def test_only_the_lens(self) -> None:
        camera = leaning_camera(0.0, -0.2)
        image = seen_by(camera, lambda x, y: np.where(np.abs(y + 17) < 0.8, 190.0, 60.0))
        bent = lf.detect("lines", image, pair=True, bow_max=20.0).findings
        straight = lf.detect("lines", lf.rectify(image, camera, keep_perspective=True), pair=True, bow_max=20.0).findings
        longest = straight.row(int(np.argmax(straight["length"])))
        self.assertGreater(longest["length"], 600)
        self.assertLess(longest["rms"], 0.2)
        self.assertGreater(max(bent["rms"]), 3 * longest["rms"])

    def test_colour_and_sixteen_bits_stay(self) -> None:
        made = line_calibration(0.1)
        colour = Image.from_array(np.random.default_rng(0).integers(0, 255, (160, 160, 3)).astype(np.uint8))
        np.testing.assert_array_equal(lf.rectify(colour, made).pixels, colour.pixels)
        deep = Image.from_array(np.random.default_rng(0).integers(0, 4000, (160, 160)).astype(np.uint16), significant_bits=12)
        again = lf.rectify(deep, made)
        self.assertEqual((again.pixels.dtype, again.white), (np.uint16, deep.white))

    def test_refused(self) -> None:
        made = line_calibration(0.1)
        blank = Image.from_array(np.zeros((160, 160), np.uint8))
        with self.assertRaisesRegex(ParameterError, "is for pictures of 160 x 160"):
            lf.rectify(np.zeros((10, 10), np.uint8), made)
        with self.assertRaisesRegex(ParameterError, "as loaded"):
            lf.rectify(lf.prepare("rotate", blank, angle=10.0), made)
        with self.assertRaises(Cancelled):
            rectification(made).picture(blank, lambda: True)


class Arrows(unittest.TestCase):
    def test_as_long_as_their_residuals(self) -> None:
        image = seen_by(leaning_camera(20.0), dot_grid)
        view = lf.calibrate(image, "dots", pitch=5.0).views[0]
        times = magnification((view,))
        self.assertGreater(times, 10)
        arrows = residual_arrows(view, times)
        for n, line in enumerate(arrows):
            tail, head = line[0], line[1]
            np.testing.assert_allclose(head - tail, times * np.array([view.dx[n], view.dy[n]]))
            np.testing.assert_allclose(tail, (view.x[n] - view.dx[n], view.y[n] - view.dy[n]))

    def test_nothing_to_draw(self) -> None:
        self.assertEqual(magnification(()), 1.0)
        self.assertEqual(magnification(line_calibration().views), 1.0)


if __name__ == "__main__":
    unittest.main()
