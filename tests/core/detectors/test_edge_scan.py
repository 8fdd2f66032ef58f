"""Edge scans against rendered boundaries, spoiled and clean, and what is refused."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
from scipy import ndimage, special

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.explanation.explaining import explain
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.fitting import robust_fits


def boundary(
    seed: int, angle: float, noise: float = 3.0, contrast: float = 40.0, spoiled: float = 0.0, blur: float = 1.0
) -> tuple[Image, float, float]:
    """A straight step through the middle of 280 x 280, its normal at `angle`, partly spoiled by drips; its offset, and the
    Cramer-Rao bound of its angle (degrees) from the clean part of 200 px along it."""
    random = np.random.default_rng(seed)
    y, x = np.mgrid[0:280, 0:280].astype(float) - 139.5
    c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
    offset = random.uniform(-0.5, 0.5)
    across, along = x * c + y * s - offset, y * c - x * s
    picture = 100 + contrast * 0.5 * (1 + special.erf(across / blur / 2**0.5))
    covered = 0.0
    places = np.arange(-99.5, 100)
    clean = np.ones(200, bool)
    while covered < spoiled * 200:
        place, wide, far = random.uniform(-100, 100), random.uniform(4, 12), random.choice([-1, 1]) * random.uniform(6, 25)
        drip = (np.abs(along - place) < wide / 2) & (across * np.sign(far) > 0) & (np.abs(across) < abs(far))
        picture[drip] = 100 if far > 0 else 100 + contrast
        covered += wide
        clean &= np.abs(places - place) >= wide / 2
    picture += random.normal(0, noise, picture.shape)
    one_row = noise * math.sqrt(2 * blur * math.sqrt(math.pi)) / contrast
    bound = math.degrees(one_row / math.sqrt(float(((places[clean] - places[clean].mean()) ** 2).sum())))
    return Image.from_array(picture.astype(np.float32), value_range=(0, 255)), offset, bound


REGION = {"shape": "rectangle", "x": 139.5, "y": 139.5, "width": 80.0, "height": 200.0}


def scan(image: Image, **given: Any) -> Any:
    return engine.detect("edge_scan", image, {"region": REGION, **given})


class Lines(unittest.TestCase):
    def test_spoiled_boundaries_are_measured_near_the_bound(self) -> None:
        """Asked are 1.4 times the bound of the clean part, and an offset without bias; of few pictures, the mean errs itself."""
        for outliers, count, asked in (("ransac", 120, 1.4), ("median", 30, 1.7), ("huber", 30, 1.7)):
            off, told, offsets = [], [], []
            for seed in range(count):
                angle = float(np.random.default_rng(seed + 500).uniform(-20, 20))
                image, offset, bound = boundary(seed, angle, spoiled=0.15)
                fit = scan(image, outliers=outliers).fit
                off.append(((fit["angle"] - angle) % 180 - 90) / bound)
                told.append(fit["angle_std"] / bound)
                c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
                offsets.append((fit["x"] - 139.5) * c + (fit["y"] - 139.5) * s - offset)
            self.assertLess(float(np.sqrt(np.mean(np.square(off)))), asked, outliers)
            self.assertLess(abs(float(np.mean(offsets))), 0.02, outliers)
            self.assertAlmostEqual(float(np.mean(told) / np.std(off)), 1.0, delta=0.5, msg=outliers)

    def test_least_squares_alone_is_led_astray_and_says_so(self) -> None:
        image, _, _ = boundary(3, 5.0, spoiled=0.3)
        plain, robust = scan(image, outliers="none").fit, scan(image).fit
        self.assertLess(abs(robust["angle"] - 95), abs(plain["angle"] - 95))
        self.assertGreater(plain["rms"], 3 * robust["rms"])
        self.assertEqual(plain["used"], plain["of"])
        self.assertLess(robust["used"], robust["of"])

    def test_turned_regions_and_prepared_images(self) -> None:
        from lucid_finch.core.execution.engine import Engine

        image, _, _ = boundary(1, 60.0)
        region = {**REGION, "angle": 60.0}
        for steps in ([], [{"step": "resize", "factor": 0.6}], [{"step": "rotate", "angle": 35.0}]):
            prepared = Engine().prepared(image, steps)
            fit = engine.detect("edge_scan", prepared, {"region": region}).fit
            self.assertAlmostEqual(fit["angle"], 150.0, delta=0.25, msg=str(steps))
            self.assertAlmostEqual(fit["angle_to_reference"], -30.0, delta=0.25)
        fit = engine.detect("edge_scan", image, {"region": region, "reference": 140.0}).fit
        self.assertAlmostEqual(fit["angle_to_reference"], 10.0, delta=0.25)

    def test_picks_and_polarity(self) -> None:
        picture = np.full((100, 200), 60.0)
        picture[:, 60:90] = 100
        picture[:, 140:] = 160
        image = Image.from_array(
            (picture + np.random.default_rng(0).normal(0, 1, picture.shape)).astype(np.float32), value_range=(0, 255)
        )
        for given, at in (
            ({"pick": "first"}, 59.5), ({"pick": "last"}, 139.5), ({"pick": "strongest"}, 139.5),
            ({"polarity": "falling"}, 89.5), ({"pick": "last", "polarity": "rising"}, 139.5),
        ):  # fmt: skip
            found = engine.detect("edge_scan", image, given)
            self.assertAlmostEqual(found.fit["x"], at, delta=0.05, msg=str(given))
            self.assertEqual(len(found.findings), 50)
        every = engine.detect("edge_scan", image, {"pick": "all", "fit": "none"})
        self.assertEqual(len(every.findings), 150)
        self.assertIsNone(every.fit)
        first = engine.detect("edge_scan", image, {"pick": "first"})
        lost = first.near_misses
        beaten = lost["lost_to"] > 0
        # The rest are weak extrema, and those of noise are not listed.
        self.assertLess(len(lost), 130)
        self.assertEqual(int(beaten.sum()), 100)
        self.assertEqual(np.round(np.abs(lost["residual"][beaten])).tolist().count(30), 50)
        self.assertTrue((np.diff(np.sort(first.findings["scan"])) == 1).all())


class Curves(unittest.TestCase):
    def ring(self, noise: float) -> Image:
        y, x = np.mgrid[0:200, 0:220].astype(float)
        value = 80 + 60 * 0.5 * (1 + special.erf((50.3 - np.hypot(x - 104.4, y - 97.7)) / 2**0.5))
        value[:60, 100:112] = 80
        return Image.from_array(
            (value + np.random.default_rng(0).normal(0, noise, x.shape)).astype(np.float32), value_range=(0, 255)
        )

    def test_circles(self) -> None:
        region = {"shape": "annulus", "x": 106.0, "y": 96.0, "inner": 30.0, "outer": 70.0}
        found = engine.detect("edge_scan", self.ring(3.0), {"region": region})
        self.assertEqual(found.fit["kind"], "circle")
        for name, true in (("x", 104.4), ("y", 97.7), ("radius", 50.3)):
            self.assertLess(abs(found.fit[name] - true), max(4 * found.fit[f"{name}_std"], 0.05), name)
            self.assertLess(found.fit[f"{name}_std"], 0.1)
        self.assertLess(found.fit["used"], found.fit["of"])
        part = engine.detect("edge_scan", self.ring(3.0), {"region": {**region, "start": 0.0, "sweep": 120.0}})
        self.assertLess(abs(part.fit["radius"] - 50.3), max(4 * part.fit["radius_std"], 0.3))

    def test_polynomials(self) -> None:
        y, x = np.mgrid[0:200, 0:160].astype(float)
        value = 80 + 60 * 0.5 * (1 + special.erf((x - 70 - 0.002 * (y - 100) ** 2) / 2**0.5))
        image = Image.from_array(
            (value + np.random.default_rng(0).normal(0, 2, x.shape)).astype(np.float32), value_range=(0, 255)
        )
        region = {"shape": "rectangle", "x": 80.0, "y": 100.0, "width": 120.0, "height": 180.0}
        fit = engine.detect("edge_scan", image, {"region": region, "fit": "polynomial"}).fit
        self.assertAlmostEqual(fit["coefficients"][2], 0.002, delta=2e-5)
        self.assertLess(fit["rms"], 0.2)
        line = engine.detect("edge_scan", image, {"region": region, "fit": "line", "outliers": "none"}).fit
        self.assertGreater(line["rms"], 5 * fit["rms"])


class Blurred(unittest.TestCase):
    def test_the_radius_is_not_smaller_for_blur(self) -> None:
        for radius, blur in ((12.0, 0.9), (27.32, 1.5), (27.32, 2.5)):
            errors, shares = [], []
            for seed in range(8):
                random = np.random.default_rng(seed)
                y, x = np.mgrid[:480, :480].astype(float) / 4 - 59.875
                cx, cy = random.uniform(-1, 1, 2)
                fine = 100 + 60.0 * (np.hypot(x - cx, y - cy) < radius)
                plane = ndimage.gaussian_filter(fine, 4 * blur).reshape(120, 4, 120, 4).mean(axis=(1, 3))
                picture = Image.from_array((plane + random.normal(0, 2, plane.shape)).astype(np.float32), value_range=(0, 255))
                ring = {"shape": "annulus", "x": 59.5 + cx, "y": 59.5 + cy, "inner": radius - 9, "outer": radius + 9}
                fit = engine.detect("edge_scan", picture, {"region": ring}).fit
                assert fit is not None
                errors.append(fit["radius"] - radius)
                shares.append(errors[-1] / fit["radius_std"])
            self.assertLess(abs(float(np.mean(errors))), 0.012, (radius, blur))
            self.assertLess(float(np.sqrt(np.mean(np.square(shares)))), 1.8, (radius, blur))

    def test_a_wide_edge_is_found(self) -> None:
        image, _, _ = boundary(3, 20.0, noise=2.0, blur=8.0)
        found = scan(image, region={**REGION, "angle": 20.0})
        self.assertIsNotNone(found.fit)
        self.assertGreater(found.fit["used"], 0.8 * found.fit["of"])

    def test_two_equal_sides_are_said(self) -> None:
        random = np.random.default_rng(1)
        x = np.mgrid[0:280, 0:280][1].astype(float) - 139.5
        stripe = 100 + 40 * (np.abs(x) < 6) + random.normal(0, 2, x.shape)
        found = scan(Image.from_array(stripe.astype(np.float32), value_range=(0, 255)))
        self.assertTrue(any("like strength" in note for note in found.notes))
        self.assertEqual(scan(found.task.image, polarity="rising").notes, ())


class Defaults(unittest.TestCase):
    def test_noise_and_flat_images_have_no_boundary(self) -> None:
        for noise in (0.0, 4.0, 20.0):
            picks = 0
            for seed in range(10):
                flat = np.random.default_rng(seed).normal(120, noise, (120, 160)) if noise else np.full((120, 160), 120.0)
                found = engine.detect("edge_scan", Image.from_array(np.clip(flat, 0, 255).astype(np.uint8)), {})
                picks += len(found.findings)
            self.assertLess(picks / (10 * 60), 0.02, noise)

    def test_noise_free_steps(self) -> None:
        step = np.full((60, 80), 50, np.uint8)
        step[:, 40:] = 53
        found = engine.detect("edge_scan", Image.from_array(step), {})
        self.assertAlmostEqual(found.fit["x"], 39.5, delta=0.01)
        ramp = np.repeat((np.arange(300) // 6).astype(np.uint8)[None], 60, axis=0)
        self.assertEqual(len(engine.detect("edge_scan", Image.from_array(ramp), {}).findings), 0)

    def test_why_not(self) -> None:
        image, _, _ = boundary(0, 0.0, contrast=6.0)
        found = scan(image, strength_min=20.0)
        self.assertEqual(len(found.findings), 0)
        self.assertEqual(len(found.near_misses), len(set(found.near_misses["scan"].tolist())))
        self.assertTrue((found.near_misses["measured"] < found.near_misses["limit"]).all())
        answer = explain(found, (139.5, 100.0))
        self.assertRegex(answer.summary, "fails|minimum|stands out")
        self.assertIn("no scan line", explain(found, (20.0, 20.0)).summary)

    def test_refused(self) -> None:
        image, _, _ = boundary(0, 0.0)
        for words, given in {
            "must be a rectangle": {"region": {"shape": "ellipse", "x": 9.0, "y": 9.0, "width": 9.0, "height": 9.0}},
            "px along the scans": {"region": {**REGION, "width": 1.0}},
            "scan lines; at most": {"spacing": 0.001},
            "spacing = 0": {"spacing": 0.0},
            "region": {"region": {**REGION, "width": 0.0}},
        }.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, words):
                scan(image, **given)
        beside = scan(image, region={**REGION, "x": 2000.0})
        self.assertEqual((len(beside.findings), beside.fit), (0, None))
        mask = np.ones((280, 280), bool)
        mask[:, 120:160] = False
        self.assertEqual(len(scan(Image.from_array(image.pixels, value_range=(0, 255), mask=mask)).findings), 0)


class Fits(unittest.TestCase):
    def test_half_of_the_points_may_be_wrong(self) -> None:
        random = np.random.default_rng(1)
        x = random.uniform(0, 100, 80)
        points = np.stack([x, 3 + 0.5 * x + random.normal(0, 0.1, 80)], axis=1)
        points[:36, 1] = random.uniform(0, 60, 36)
        found = robust_fits.robust_fit(points, robust_fits.LINE, "ransac")
        assert found is not None
        a, b, _ = found.model
        self.assertAlmostEqual(-a / b, 0.5, delta=0.01)
        self.assertLess(found.rms, 0.15)

    def test_too_few_or_alike(self) -> None:
        self.assertIsNone(robust_fits.robust_fit(np.zeros((1, 2)), robust_fits.LINE, "ransac"))
        self.assertIsNone(robust_fits.robust_fit(np.zeros((5, 2)), robust_fits.LINE, "ransac"))
        self.assertIsNone(robust_fits.robust_fit(np.array([[0.0, 0], [1, 1], [2, 2]]), robust_fits.CIRCLE, "ransac"))
        two = robust_fits.robust_fit(np.array([[0.0, 0], [2, 2]]), robust_fits.LINE, "huber")
        assert two is not None
        self.assertAlmostEqual(two.rms, 0.0)
