"""Corners: where they are, what is none, what is kept of many, and why one is missing."""

from __future__ import annotations

import math
import unittest

import numpy as np
from scipy import ndimage

import lucid_finch as lf
from lucid_finch.core.numerics.corners.structure_tensor import RESPONSES, maxima, operator, response_plane, tensors_at
from lucid_finch.core.numerics.suppression import distances_to_earlier

_FINE = 6


def drawn(shape: tuple[int, int], inside: object, blur: float = 0.8, levels: tuple[float, float] = (70.0, 150.0)) -> np.ndarray:
    """A picture of what is inside (x, y -> bool), averaged over each pixel."""
    y, x = (np.mgrid[: shape[0] * _FINE, : shape[1] * _FINE] + 0.5) / _FINE - 0.5
    fine = np.where(inside(x, y), levels[1], levels[0]).astype(np.float32)  # type: ignore[operator]
    return np.asarray(ndimage.gaussian_filter(fine, blur * _FINE).reshape(shape[0], _FINE, shape[1], _FINE).mean(axis=(1, 3)))


def noisy(picture: np.ndarray, noise: float, seed: int = 0) -> np.ndarray:
    return np.clip(np.round(picture + np.random.default_rng(seed).normal(0, noise, picture.shape)), 0, 255).astype(np.uint8)


class Responses(unittest.TestCase):
    def test_they_are_those_of_the_formulas(self) -> None:
        picture = np.random.default_rng(1).integers(0, 255, (60, 70)).astype(np.uint8)
        values = picture.astype(float)
        gx, gy = (ndimage.gaussian_filter(values, 1.0, order=o, mode="mirror", radius=4) for o in ((0, 1), (1, 0)))
        a, b, c = (ndimage.gaussian_filter(p, 2.0, mode="mirror") for p in (gx * gx, gx * gy, gy * gy))
        det, trace = a * c - b * b, a + c
        expected = det - 0.06 * trace**2, 0.5 * (trace - np.sqrt((a - c) ** 2 + 4 * b * b)), det / trace
        inner = slice(14, -14), slice(14, -14)
        for name, plane in zip(RESPONSES, expected, strict=True):
            found = response_plane(picture, operator(name, 1.0, 2.0, 0.06))
            np.testing.assert_allclose(found[inner], plane[inner], rtol=0.05, atol=0.03 * float(np.abs(plane).max()))

    def test_maxima_are_found_once_and_away_from_border_and_mask(self) -> None:
        plane = np.zeros((20, 30), np.float32)
        plane[5, 7] = plane[5, 8] = 3.0
        plane[12, 20], plane[0, 4], plane[15, 3] = 2.0, 9.0, 1.0
        masked = np.zeros((20, 30), np.uint8)
        masked[15, 3] = 1
        rows, columns = maxima(plane, 0.5, 2, masked)
        self.assertEqual(list(zip(rows.tolist(), columns.tolist(), strict=True)), [(5, 7), (12, 20)])

    def test_tensors_of_an_edge_and_of_a_ramp_both_ways(self) -> None:
        y, x = np.mgrid[:40, :40].astype(float)
        edge = tensors_at((x > 20) * 100.0, np.array([20], np.int32), np.array([20], np.int32), 1.0, 2.0)
        self.assertLess(edge.isotropy[0], 1e-3)
        bowl = tensors_at((x - 20) ** 2 + (y - 20) ** 2, np.array([20], np.int32), np.array([20], np.int32), 1.0, 2.0)
        self.assertAlmostEqual(bowl.isotropy[0], 1.0, places=3)


class Places(unittest.TestCase):
    def test_saddles_of_a_chessboard(self) -> None:
        pitch, turn = 21.3, math.radians(17)
        c, s = math.cos(turn), math.sin(turn)

        def inside(x: np.ndarray, y: np.ndarray) -> np.ndarray:
            u, v = (c * x + s * y) / pitch, (-s * x + c * y) / pitch
            return np.asarray((np.floor(u) + np.floor(v)) % 2 == 0)

        found = lf.detect("corners", noisy(drawn((150, 180), inside), 3.0)).findings
        u, v = (c * found["x"] + s * found["y"]) / pitch, (-s * found["x"] + c * found["y"]) / pitch
        off = pitch * np.hypot(u - np.round(u), v - np.round(v))
        self.assertGreater(len(found), 35)
        self.assertTrue((found["form"] == "saddle").all())
        self.assertLess(float(np.median(off)), 0.05)
        self.assertLess(float(off.max()), 0.25)
        self.assertLess(float(np.median(found["x_std"])), 0.05)

    def test_wedges_where_their_edges_meet_and_with_their_opening(self) -> None:
        for opening in (60.0, 90.0, 125.0):
            turn, half = math.radians(40.0), math.radians(opening / 2)

            def inside(x: np.ndarray, y: np.ndarray, turn: float = turn, half: float = half) -> np.ndarray:
                angle = np.arctan2(y - 30.3, x - 29.6)
                return np.asarray(np.abs((angle - turn + np.pi) % (2 * np.pi) - np.pi) < half)

            for levels, sign in (((70.0, 150.0), 1), ((150.0, 70.0), -1)):
                with self.subTest(opening=opening, sign=sign):
                    found = lf.detect("corners", noisy(drawn((60, 60), inside, levels=levels), 2.0)).findings
                    self.assertEqual(len(found), 1)
                    corner = found.row(0)
                    self.assertLess(math.hypot(corner["x"] - 29.6, corner["y"] - 30.3), 0.25)
                    self.assertEqual(corner["form"], "wedge")
                    self.assertAlmostEqual(corner["opening"], opening, delta=4)
                    self.assertAlmostEqual(corner["direction"], 40.0, delta=4)
                    self.assertAlmostEqual(corner["contrast"], 80.0 * sign, delta=10)

    def test_the_marks_run_along_the_edges(self) -> None:
        picture = drawn((60, 60), lambda x, y: (x > 30) & (y > 25))
        result = lf.detect("corners", noisy(picture, 1.0))
        mark = result.outlines[0]
        self.assertEqual(len(mark), 3)
        arms = {tuple(np.round((mark[k] - mark[1]) / np.hypot(*(mark[k] - mark[1]))).astype(int).tolist()) for k in (0, 2)}
        self.assertEqual(arms, {(1, 0), (0, 1)})

    def test_whole_pixels_on_request_and_after_a_resize_in_the_source(self) -> None:
        picture = noisy(drawn((80, 80), lambda x, y: (x > 40.2) & (y > 35.4)), 1.0)
        plain = lf.detect("corners", picture, subpixel=False).findings
        self.assertEqual(plain["x"][0] % 1.0, 0.0)
        larger = lf.prepare("resize", lf.Image.from_array(picture), factor=2.0)
        found = lf.detect("corners", larger).findings
        best = int(np.argmin(found["rank"]))
        self.assertLess(math.hypot(found["x"][best] - 40.2, found["y"][best] - 35.4), 0.3)


class Acceptance(unittest.TestCase):
    def test_nothing_in_noise_on_edges_and_in_flat_images(self) -> None:
        random = np.random.default_rng(5)
        for blur in (0.0, 1.5):
            values = random.normal(size=(300, 400))
            values = ndimage.gaussian_filter(values, blur) if blur else values
            seen = np.clip(np.round(120 + 12 * values / values.std()), 0, 255).astype(np.uint8)
            self.assertEqual(len(lf.detect("corners", seen).findings), 0)
        edge = noisy(drawn((120, 160), lambda x, y: y > 60 + 0.31 * (x - 80)), 4.0)
        self.assertEqual(len(lf.detect("corners", edge).findings), 0)
        self.assertEqual(len(lf.detect("corners", np.full((30, 30), 9, np.uint8)).findings), 0)
        self.assertEqual(len(lf.detect("corners", np.zeros((1, 1), np.uint8)).findings), 0)

    def test_in_a_grain_that_runs_one_way(self) -> None:
        random = np.random.default_rng(3)
        x, y = np.meshgrid(np.arange(400.0), np.arange(300.0))
        edge = np.clip(150.5 - x, 0, 1)
        squares = np.zeros((300, 400))
        for left, top in ((60, 60), (160, 100), (260, 160), (310, 50), (90, 190)):
            squares += np.clip(20.5 - np.abs(x - left - 20), 0, 1) * np.clip(20.5 - np.abs(y - top - 20), 0, 1)
        found = 0
        for reach, turn in ((12.0, False), (12.0, True)):
            grain = ndimage.gaussian_filter(random.normal(size=(300, 400)), (0.6, reach) if turn else (reach, 0.6))
            grain *= 8 / grain.std()
            with self.subTest(turn=turn):
                for drawn_on in (0 * squares, 50 * edge, 50 * np.clip(120.5 - y, 0, 1)):
                    picture = np.clip(np.round(110 + drawn_on + grain), 0, 255).astype(np.uint8)
                    self.assertEqual(len(lf.detect("corners", picture).findings), 0)
            picture = np.clip(np.round(110 + 50 * squares + grain), 0, 255).astype(np.uint8)
            found += len(lf.detect("corners", picture).findings)
        self.assertGreaterEqual(found, 18)
        self.assertLessEqual(found, 40)

    def test_of_close_ones_the_stronger_stays_and_the_other_is_a_near_miss(self) -> None:
        picture = drawn((90, 120), lambda x, y: (np.floor(x / 12) + np.floor(y / 12)) % 2 == 0)
        every = lf.detect("corners", noisy(picture, 1.0))
        apart = lf.detect("corners", noisy(picture, 1.0), spacing=20.0)
        self.assertGreater(len(every.findings), 2 * len(apart.findings))
        places = np.stack([apart.findings["x"], apart.findings["y"]], axis=1)
        far = np.hypot(*(places[:, None] - places[None]).T) + 1e3 * np.eye(len(places))
        self.assertGreaterEqual(float(far.min()), 20.0)
        lost = apart.near_misses
        self.assertTrue(((lost["failed"] == "spacing") & (lost["lost_to"] > 0)).any())

    def test_only_within_a_region_and_where_pixels_are_valid(self) -> None:
        picture = noisy(drawn((90, 140), lambda x, y: (np.floor(x / 30) + np.floor(y / 30)) % 2 == 0), 1.0)
        region = {"shape": "rectangle", "x": 30.0, "y": 45.0, "width": 40.0, "height": 80.0, "angle": 0.0}
        found = lf.detect("corners", picture, region=region).findings
        self.assertEqual(np.round(found["x"]).astype(int).tolist(), [30, 30])
        masked = np.ma.masked_array(picture, np.arange(140)[None, :].repeat(90, axis=0) > 75)
        found = lf.detect("corners", lf.Image.from_array(masked)).findings
        self.assertLess(float(found["x"].max()), 70)

    def test_an_even_spread(self) -> None:
        strong = drawn((260, 120), lambda x, y: (np.floor(x / 30) + np.floor(y / 30)) % 2 == 0, levels=(20.0, 230.0))
        weak = drawn((260, 300), lambda x, y: (np.floor(x / 40) + np.floor(y / 40)) % 2 == 0, levels=(90.0, 160.0))
        picture = noisy(np.concatenate([strong, weak], axis=1), 1.0)
        best, even = (lf.detect("corners", picture, keep=12, spread=s).findings for s in (False, True))
        self.assertEqual((len(best), len(even)), (12, 12))
        self.assertGreater((best["x"] < 122).mean(), 0.9)
        self.assertLess((even["x"] < 122).mean(), 0.6)

    def test_distances_from_what_comes_before(self) -> None:
        found = distances_to_earlier(np.array([[0.0, 0.0], [3.0, 4.0], [3.0, 3.0]]))
        self.assertEqual(found.tolist(), [math.inf, 5.0, 1.0])

    def test_asking_why(self) -> None:
        picture = noisy(drawn((100, 140), lambda x, y: (x > 60) & (y > 50)), 2.0)
        result = lf.detect("corners", picture)
        self.assertIn("eigenvalue is largest at", str(lf.explain(result, at=(60.0, 80.0))))
        self.assertIn("border", str(lf.explain(result, at=(60.0, 1.0))))
        strict = lf.detect("corners", picture, isotropy_min=1.0)
        self.assertIn("isotropy", str(lf.explain(strict, at=(60.0, 50.0))).lower())
        self.assertEqual(result.evidence["response"].values.shape, (100, 140))


if __name__ == "__main__":
    unittest.main()
