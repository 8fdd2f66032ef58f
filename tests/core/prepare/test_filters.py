"""The filters behind the steps against SciPy, closed forms and themselves: every type, border, size and thread count."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from scipy import ndimage

from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.filtering import filters, median_filters
from lucid_finch.core.numerics.runtime import threads
from lucid_finch.core.prepare.lighting import light_of
from tests.core.prepare.test_steps import COLOUR, GREY, prepared

RANDOM = np.random.default_rng(3)
PLANES = {
    "8 bit": RANDOM.integers(0, 256, (150, 41)).astype(np.uint8),
    "16 bit": RANDOM.integers(0, 65536, (150, 41)).astype(np.uint16),
    "float": RANDOM.normal(0, 50, (150, 41)).astype(np.float32),
}


class Neighbourhoods(unittest.TestCase):
    def test_medians_are_exact(self) -> None:
        for name, plane in PLANES.items():
            for size in (1, 3, 5, 7, 13):
                with self.subTest(name, size=size):
                    np.testing.assert_array_equal(
                        median_filters.median(plane, size), ndimage.median_filter(plane, size, mode="mirror")
                    )

    def test_box_means(self) -> None:
        for name, plane in PLANES.items():
            for size in (1, 3, 9, 51, 201):
                with self.subTest(name, size=size):
                    expected = ndimage.uniform_filter(plane.astype(float), size, mode="mirror")
                    np.testing.assert_allclose(filters.box_mean(plane, size), expected, rtol=3e-7, atol=2e-4)

    def test_sums_of_the_whitest_picture_do_not_overflow(self) -> None:
        white = np.full((60, 70), 65535, np.uint16)
        np.testing.assert_allclose(filters.box_mean(white, 201), 65535, rtol=1e-6)

    def test_any_kernel(self) -> None:
        for shape in ((3, 3), (5, 1), (1, 7), (9, 5), (31, 25)):
            free = RANDOM.normal(size=shape)
            product = np.outer(RANDOM.normal(size=shape[0]), RANDOM.normal(size=shape[1]))
            for table in (free, product):
                for plane in PLANES.values():
                    expected = ndimage.correlate(plane.astype(float), table, mode="mirror")
                    np.testing.assert_allclose(
                        filters.correlated(plane, table), expected, rtol=1e-4, atol=1e-6 * np.ptp(plane) * 20
                    )

    def test_bilateral(self) -> None:
        for plane, spread in zip(PLANES.values(), (20.0, 9000.0, 12.0), strict=True):
            offsets, weights = filters.bilateral_offsets(1.3)
            radius = int(offsets.max())
            value = plane.astype(float)
            padded = np.pad(value, radius, "reflect")
            total, norm = value.copy(), np.ones_like(value)
            for (dy, dx), weight in zip([*offsets, *-offsets], [*weights, *weights], strict=True):
                other = padded[radius + dy : radius + dy + len(value), radius + dx : radius + dx + value.shape[1]]
                share = weight * np.exp(-0.5 * ((other - value) / spread) ** 2)
                total, norm = total + share * other, norm + share
            np.testing.assert_allclose(filters.bilateral(plane, 1.3, spread), total / norm, rtol=1e-4, atol=1e-3)

    def test_a_long_step_can_be_cancelled(self) -> None:
        asked = 0

        def cancelled() -> bool:
            nonlocal asked
            asked += 1
            return asked > 2

        image = Image.from_array(np.zeros((900, 20), np.uint8))
        with self.assertRaises(Cancelled):
            Engine().prepared(image, [{"step": "smooth", "method": "bilateral", "sigma": 2.0}], cancelled)

    def test_threads_change_no_byte(self) -> None:
        runs: dict[str, Any] = {
            "box": lambda p: filters.box_mean(p, 31),
            "median": lambda p: median_filters.median(p, 7),
            "bilateral": lambda p: filters.bilateral(p, 2.0, 30.0),
        }
        before = threads.thread_count()
        self.addCleanup(threads.set_thread_count, before)
        plane = RANDOM.normal(0, 50, (700, 33)).astype(np.float32)
        for name, run in runs.items():
            found = []
            for count in (1, 2, 3):
                threads.set_thread_count(count)
                found.append(run(plane).tobytes())
            self.assertEqual(len(set(found)), 1, name)


class Derivatives(unittest.TestCase):
    def test_polynomials_have_their_derivatives_at_every_size(self) -> None:
        y, x = np.mgrid[0:121, 0:141].astype(np.float32) - 60
        picture = Image.from_array(2 * x - 3 * y + 0.5 * x * x - 0.25 * y * y, value_range=(-5000, 5000))
        expected = {"x": 2 + x, "y": -3 - 0.5 * y, "xx": 1 + 0 * x, "yy": -0.5 + 0 * x, "laplacian": 0.5 + 0 * x}
        expected["magnitude"] = np.hypot(expected["x"], expected["y"])
        inner = (slice(50, 70), slice(50, 70))
        for given in ({"size": 3}, {"size": 5}, {"size": 31}, {"size": 101}, {"sigma": 0.3}, {"sigma": 1.0}, {"sigma": 12.0}):
            for of, wanted in expected.items():
                with self.subTest(given, of=of):
                    out = prepared("derivative", picture, of=of, **given)
                    np.testing.assert_allclose(out.pixels[inner], wanted[inner], atol=0.02)

    def test_sign_kernels_and_margin(self) -> None:
        step = Image.from_array(np.repeat([[10, 10, 10, 90, 90, 90]], 7, axis=0).astype(np.uint8))
        out = prepared("derivative", step, of="x", size=3)
        np.testing.assert_allclose(out.pixels[3], [0, 0, 40, 40, 0, 0], atol=1e-4)
        self.assertLess(out.black, 0)
        from lucid_finch.core.prepare import step_of

        derivative = step_of("derivative")
        tables = derivative.kernels(derivative.Parameters.make({"of": "magnitude", "size": 3}, "derivative"))
        np.testing.assert_allclose(tables["x"], np.outer([1, 2, 1], [-1, 0, 1]) / 8)
        np.testing.assert_allclose(tables["y"], tables["x"].T)

    def test_cost_is_linear_in_the_size(self) -> None:
        """One pass down and one across: as many products as the two lines are long, not their square."""
        from lucid_finch.core.prepare import step_of

        derivative = step_of("derivative")
        table = derivative.kernels(derivative.Parameters.make({"of": "x", "size": 401}, "derivative"))["x"]
        self.assertEqual(table.shape, (401, 401))
        self.assertEqual(np.linalg.matrix_rank(table), 1)
        big = Image.from_array(RANDOM.integers(0, 255, (600, 500)).astype(np.uint8))
        self.assertTrue(np.isfinite(prepared("derivative", big, of="x", size=401).pixels).all())

    def test_refused(self) -> None:
        for words, given in {"must be odd": {"size": 4}, "from 3 to": {"size": 1}, "sigma = 0": {"sigma": 0.0}}.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                prepared("derivative", GREY, **given)


class Kernels(unittest.TestCase):
    def test_as_written_divided_and_as_text(self) -> None:
        table = ((0, 0, 0), (0, 0, 2), (0, 0, 0))
        out = prepared("kernel", GREY, coefficients=table)
        np.testing.assert_allclose(out.pixels[:, :-1], GREY.pixels[:, 1:], atol=1e-4)
        same = prepared("kernel", GREY, coefficients="0 0 0; 0, 0, 2; 0\t0 0", divide_by=4)
        np.testing.assert_allclose(same.pixels, out.pixels / 2, atol=1e-4)
        edges = prepared("kernel", GREY, coefficients="-1 0 1")
        self.assertAlmostEqual(float(edges.pixels[5, 5]), float(GREY.pixels[5, 6]) - float(GREY.pixels[5, 4]), places=3)

    def test_borders(self) -> None:
        one = "1 1 1"
        first = GREY.pixels[:, :2].astype(float)
        for border, before in {"mirror": first[:, 1], "replicate": first[:, 0], "constant": 0.0}.items():
            out = prepared("kernel", GREY, coefficients=one, border=border)
            np.testing.assert_allclose(out.pixels[:, 0], (before + first.sum(axis=1)) / 3, atol=1e-3)
        self.assertEqual(prepared("kernel", GREY, coefficients=one, border="trim").width, 28)

    def test_refused(self) -> None:
        for words, given in {
            "both counts must be odd": [[1.0, 2.0]],
            "all be equally|equally long": [[1.0], [1.0, 2.0, 3.0]],
            "are all 0": [[0.0, 0.0, 0.0]],
            "at most 101": np.ones((1, 103)).tolist(),
            "rows of numbers": "1 two 3",
            "of no numbers": [],
        }.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                prepared("kernel", GREY, coefficients=given)
        with self.assertRaisesRegex(ParameterError, "divide_by = 0"):
            prepared("kernel", GREY, divide_by=0.0)


class Morphologies(unittest.TestCase):
    def test_against_scipy(self) -> None:
        plane = GREY.pixels
        for shape, angle, footprint in (
            ("square", 0, np.ones((5, 5))),
            ("disc", 0, np.add.outer(np.arange(-2, 3) ** 2, np.arange(-2, 3) ** 2) <= 5.29),
            ("line", 0, np.ones((1, 5))),
            ("line", 90, np.ones((5, 1))),
            ("line", 45, np.eye(5)),
        ):
            for operation, expected in {
                "erode": ndimage.grey_erosion, "dilate": ndimage.grey_dilation, "open": ndimage.grey_opening,
                "close": ndimage.grey_closing,
            }.items():  # fmt: skip
                with self.subTest(shape, angle=angle, operation=operation):
                    out = prepared("morphology", GREY, operation=operation, shape=shape, angle=angle, size=5)
                    wanted = expected(plane, footprint=footprint, mode="mirror")
                    self.assertEqual(out.pixels.dtype, np.uint8)
                    # Opening and closing near the border see the inner result mirrored.
                    np.testing.assert_array_equal(out.pixels[4:-4, 4:-4], wanted[4:-4, 4:-4])

    def test_hats_and_gradient(self) -> None:
        flat = np.full((30, 40), 100, np.uint8)
        flat[10:13, 10:13] = 180
        flat[20:22, 25:27] = 30
        image = Image.from_array(flat)
        top, bottom = (prepared("morphology", image, operation=o, size=7) for o in ("top_hat", "bottom_hat"))
        self.assertEqual((int(top.pixels.max()), int(top.pixels[20, 25])), (80, 0))
        self.assertEqual((int(bottom.pixels.max()), int(bottom.pixels[11, 11])), (70, 0))
        self.assertEqual(int(prepared("morphology", image, operation="gradient", size=3).pixels[9, 11]), 80)
        self.assertEqual(prepared("morphology", image, size=301, operation="erode").pixels.max(), 30)

    def test_refused(self) -> None:
        for size in (0, 4):
            with self.assertRaisesRegex(ParameterError, f"size = {size}"):
                prepared("morphology", GREY, size=size)


class Light(unittest.TestCase):
    def setUp(self) -> None:
        y, x = np.mgrid[0:300, 0:400] / 400.0
        self.light = (0.45 + 0.5 * x + 0.3 * y - 0.25 * x * y).astype(np.float32)
        scene = np.full((300, 400), 160.0)
        scene[60:100, 60:110] = 60
        scene[180:230, 250:310] = 80
        self.scene = scene
        noise = np.random.default_rng(0).normal(0, 2, scene.shape)
        self.image = Image.from_array(np.clip(scene * self.light + noise, 0, 255).astype(np.uint8))

    def test_uneven_light_goes_and_objects_stay(self) -> None:
        ground = self.scene == 160
        before = self.image.pixels[ground].std() / self.image.pixels[ground].mean()
        for method in ("median", "polynomial"):
            with self.subTest(method):
                out = prepared("flatten", self.image, method=method, size=150).pixels
                self.assertLess(out[ground].std() / out[ground].mean(), 0.25 * before)
                self.assertAlmostEqual(float(out[65:95, 65:105].mean() / out[ground].mean()), 60 / 160, delta=0.04)
                self.assertAlmostEqual(float(out[185:225, 255:305].mean() / out[ground].mean()), 80 / 160, delta=0.04)

    def test_added_light_is_taken_off(self) -> None:
        added = Image.from_array((100 + 80 * self.light).astype(np.float32), value_range=(0, 255))
        out = prepared("flatten", added, method="polynomial", by="difference")
        self.assertLess(float(np.ptp(out.pixels)), 1.0)

    def test_dark_and_invalid_parts_stay_finite(self) -> None:
        black = np.zeros((60, 80), np.uint8)
        black[:, 40:] = 200
        mask = np.ones((60, 80), bool)
        mask[:20] = False
        out = prepared("flatten", Image.from_array(black, mask=mask), method="gaussian", size="20%w")
        self.assertTrue(np.isfinite(out.pixels).all())
        self.assertTrue(np.isfinite(light_of(np.zeros((1, 1), np.uint8), "median", 3)).all())

    def test_sharpen(self) -> None:
        out = prepared("sharpen", self.image, sigma=2.0, amount=1.5).pixels
        smooth = prepared("smooth", self.image, sigma=2.0).pixels
        np.testing.assert_allclose(out, self.image.pixels + 1.5 * (self.image.pixels - smooth), atol=1e-2)
        np.testing.assert_array_equal(prepared("sharpen", COLOUR, amount=0.0).pixels, COLOUR.pixels)


class EveryKindOfImage(unittest.TestCase):
    """No step fails, or leaves a value that is no number, on what images can be."""

    STEPS: tuple[tuple[str, dict[str, Any]], ...] = (
        ("channel", {"take": "a"}), ("tone", {"gamma": 0.5}), ("flatten", {}), ("flatten", {"method": "polynomial"}),
        ("smooth", {"sigma": 3.0}), ("smooth", {"method": "box", "size": 7}), ("smooth", {"method": "median", "size": 5}),
        ("smooth", {"method": "median", "size": 7}), ("smooth", {"method": "bilateral"}), ("sharpen", {}),
        ("derivative", {"of": "laplacian"}), ("kernel", {}), ("resize", {"factor": 0.4}), ("resize", {"factor": 3.0}),
        ("rotate", {"angle": 33.0}), ("rotate", {"angle": 90.0}), ("morphology", {"operation": "top_hat"}),
    )  # fmt: skip

    def test_small_deep_float_colour_masked_and_constant(self) -> None:
        colour = RANDOM.integers(0, 256, (9, 7, 3)).astype(np.uint8)
        holes = RANDOM.random((9, 7)) > 0.2
        images = {
            "one pixel": Image.from_array(np.full((1, 1), 7, np.uint8)),
            "one row": Image.from_array(np.arange(9, dtype=np.uint8)[None]),
            "constant": Image.from_array(np.full((12, 5), 200, np.uint8)),
            "16 bit": Image.from_array((colour[..., 0].astype(np.uint16) + 1) * 200),
            "float with NaN": Image.from_array(np.where(holes, colour[..., 1] / 255.0, np.nan)),
            "colour, masked": Image.from_array(colour, mask=holes),
        }
        for name, image in images.items():
            for step, given in self.STEPS:
                with self.subTest(name, step=step, **given):
                    out = prepared(step, image, **given)
                    self.assertTrue(np.isfinite(out.pixels).all())
                    self.assertGreater(min(out.width, out.height), 0)
                    self.assertEqual(out.source_size, image.source_size)
                    if out.mask is not None:
                        self.assertEqual(out.mask.shape, (out.height, out.width))
