"""Ellipses on rendered ovals, whole, cut, hidden, touching, and look-alikes: what is found, how well, and what is refused."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.explanation.explaining import explain
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.fitting.arcs import direct_ellipse
from lucid_finch.core.numerics.fitting.curve_refinement import from_rim, pack_ellipse
from lucid_finch.core.prepare import step_of
from lucid_finch.core.recipe import Recipe
from lucid_finch.demo import recipe_text, scene
from lucid_finch.demo.leaning_screen import seen_circle
from tests.support import noise_pictures

_FINE = 3

Oval = tuple[float, float, float, float, float, float]
"""x, y, semi-axes, angle in degrees, contrast."""


def _slanted_polygon(corners: int, cx: float, cy: float, reach: float, ratio: float, angle: float) -> tuple[Any, float]:
    """A regular polygon seen at a slant, brighter than the ground."""

    def inside(x: Any, y: Any) -> Any:
        c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
        u, v = (x - cx) * c + (y - cy) * s, ((y - cy) * c - (x - cx) * s) / ratio
        sides = np.arange(corners) * 2 * math.pi / corners
        return np.max([u * math.cos(side) + v * math.sin(side) for side in sides], axis=0) < reach * math.cos(math.pi / corners)

    return inside, 50.0


def drawn(
    ovals: list[Oval], size: tuple[int, int] = (320, 240), noise: float = 2.0, blur: float = 0.9, seed: int = 0, others: Any = ()
) -> Image:
    """Ovals on a plain ground, later ones over earlier ones, then `others`: what lies inside, and its contrast."""
    width, height = size
    y, x = (np.mgrid[: height * _FINE, : width * _FINE].astype(np.float32) + 0.5) / _FINE - 0.5
    picture = np.full(x.shape, 110.0, np.float32)
    for cx, cy, a, b, angle, contrast in ovals:
        c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
        u, v = ((x - cx) * c + (y - cy) * s) / a, ((y - cy) * c - (x - cx) * s) / b
        picture[u * u + v * v < 1] = 110 + contrast
    for inside, contrast in others:
        picture[inside(x, y)] = 110 + contrast
    picture = smoothed(picture, gaussian_kernel(blur * _FINE)).reshape(height, _FINE, width, _FINE).mean(axis=(1, 3))
    picture = picture + np.random.default_rng(seed).normal(0, noise, picture.shape)
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8))


def score(found: Any, ovals: list[Oval]) -> tuple[int, int]:
    """How many of the ovals are found, and how many findings are none."""
    f, left, wrong = found.findings, set(range(len(ovals))), 0
    for row in f.rows():
        here = []
        for n in left:
            x, y, a, b, angle, _ = ovals[n]
            turned = abs((row["angle"] - angle + 90) % 180 - 90)
            off = math.hypot(row["x"] - x, row["y"] - y) + abs(row["semi_major"] - a) + abs(row["semi_minor"] - b)
            if off < 4.0 + 0.05 * a and math.radians(turned) * (a - b) < 3.0:
                here.append(n)
        left -= set(here[:1])
        wrong += not here
    return len(ovals) - len(left), wrong


HARD: list[Oval] = [
    (50, 45, 36, 18, 30, -50), (50, 45, 18, 9, 30, 30), (120, 40, 26, 20, 100, 7), (185, 45, 30, 12, 60, 40),
    (270, 50, 34, 26, 0, -12),
    (-4, 130, 28, 20, 45, 35), (80, 130, 40, 24, 150, 25), (150, 120, 24, 14, 20, -20), (220, 130, 38, 30, 80, 60),
    (235, 150, 20, 12, 170, -40), (60, 205, 32, 13, 10, -9), (150, 200, 30, 28, 0, 50), (280, 200, 32, 16, 120, 18),
]  # fmt: skip


class Finding(unittest.TestCase):
    def test_hard_ones_with_defaults(self) -> None:
        right = wrong = total = 0
        for seed in range(6):
            hits, others = score(engine.detect("ellipses", drawn(HARD, seed=seed), {}), HARD)
            right, wrong, total = right + hits, wrong + others, total + len(HARD)
        self.assertGreaterEqual(2 * right / (right + wrong + total), 0.95)

    def test_flat_ones_of_every_direction(self) -> None:
        right = wrong = total = 0
        for seed in range(6):
            random = np.random.default_rng(seed)
            ovals = [
                (60.0 + 100 * (k % 3), 60.0 + 120 * (k // 3), float(a), float(a * random.uniform(0.3, 0.4)),
                 float(random.uniform(0, 180)), float(random.choice([-1, 1]) * random.uniform(8, 60)))
                for k, a in enumerate(random.uniform(25, 44, 6))
            ]  # fmt: skip
            hits, others = score(engine.detect("ellipses", drawn(ovals, seed=seed), {}), ovals)
            right, wrong, total = right + hits, wrong + others, total + len(ovals)
        self.assertGreaterEqual(2 * right / (right + wrong + total), 0.9)

    def test_none_in_noise(self) -> None:
        for seed in range(2):
            for name, pixels in noise_pictures(seed).items():
                self.assertEqual(len(engine.detect("ellipses", Image.from_array(pixels), {}).findings), 0, (seed, name))

    def test_rectangles_capsules_and_polygons_are_none(self) -> None:
        def capsule(x: Any, y: Any) -> Any:
            return np.hypot(np.maximum(np.abs(x - 80) - 34, 0), y - 60) < 17

        def rectangle(x: Any, y: Any) -> Any:
            u, v = 0.8 * (x - 230) + 0.6 * (y - 70), 0.8 * (y - 70) - 0.6 * (x - 230)
            return (np.abs(u) < 42) & (np.abs(v) < 24)

        def triangle(x: Any, y: Any) -> Any:
            return (y > 150) & (np.abs(x - 100) < 0.6 * (230 - y))

        others = [(capsule, 45), (rectangle, -40), (triangle, 40)]
        count = 0
        for seed in range(4):
            found = engine.detect("ellipses", drawn([], others=others, seed=seed), {})
            count += len(found.findings)
        self.assertLessEqual(count, 1)
        self.assertTrue(
            set(found.near_misses.counts("failed")) & {"roundness_min", "turning_min", "deviation_max", "coverage_min"}
        )

    def test_polygons_at_a_slant_are_none(self) -> None:
        for corners in (5, 6, 8):
            shapes = [_slanted_polygon(corners, 70.0 + 90 * k, 70.0, 26.0, 0.6 + 0.1 * k, 20.0 + 40 * k) for k in range(3)]
            image = drawn([(160, 170, 26, 17, 30, 50)], others=shapes, blur=1.5)
            f = engine.detect("ellipses", image, {}).findings
            with self.subTest(corners=corners):
                self.assertEqual(len(f), 1)
                self.assertLess(math.hypot(f["x"][0] - 160, f["y"][0] - 170), 0.2)

    def test_short_pieces_of_a_faint_rim_need_more_of_it(self) -> None:
        """Half of a rim is enough in one stretch, but not in six pieces."""
        needed = []
        for pieces in (1, 6):
            cover = [(lambda x, y, n=pieces: np.sin(n * np.arctan2(y - 120, x - 160)) > 0, 0.0)]
            found = engine.detect("ellipses", drawn([(160.0, 120.0, 40.0, 28.0, 20.0, 12.0)], others=cover), {})
            self.assertEqual(len(found.findings), pieces == 1)
            columns = found.task.candidates.columns
            best = int(np.argmax(columns["log_nfa"]))
            self.assertLess(abs(columns["coverage"][best] - 0.5), 0.06)
            needed.append(float(columns["coverage"][best] / columns["enough"][best]))
        np.testing.assert_allclose(needed, [0.4, 0.6], atol=0.01)

    def test_places_and_axes_against_the_bound(self) -> None:
        a, b, contrast, noise, blur = 36.0, 21.0, 40.0, 3.0, 0.9
        random = np.random.default_rng(4)
        off, told = [], []
        for seed in range(24):
            x, y, angle = random.uniform(68, 72), random.uniform(68, 72), random.uniform(0, 180)
            image = drawn([(x, y, a, b, angle, contrast)], (140, 140), noise, blur, seed)
            f = engine.detect("ellipses", image, {}).findings
            self.assertEqual(len(f), 1)
            row = f.row(0)
            turned = math.radians((row["angle"] - angle + 90) % 180 - 90)
            error = np.array([row["x"] - x, row["y"] - y, row["semi_major"] - a, row["semi_minor"] - b, turned])
            spread = [row[n] for n in ("x_std", "y_std", "semi_major_std", "semi_minor_std")] + [math.radians(row["angle_std"])]
            off.append(error)
            told.append(error / np.array(spread))
        t = np.linspace(0, 2 * np.pi, 721)[:-1]
        speed = np.hypot(a * np.sin(t), b * np.cos(t))
        nu, nv = b * np.cos(t) / speed, a * np.sin(t) / speed
        basis = np.stack([nu, nv, nu * np.cos(t), nv * np.sin(t), nv * a * np.cos(t) - nu * b * np.sin(t)])
        variance = (noise**2 + 1 / 12) * 2 * math.sqrt(math.pi) * math.hypot(blur, 0.29) / contrast**2
        bound = np.linalg.inv(basis * speed * (2 * np.pi / 720) @ basis.T / variance).diagonal()
        squares = np.mean(np.square(off), axis=0)
        # A direction of the picture mixes both axes of the ellipse.
        self.assertLess(math.sqrt(squares[:2].sum() / bound[:2].sum()), 1.5)
        for k in (2, 3, 4):
            self.assertLess(math.sqrt(squares[k] / bound[k]), 1.8, k)
        self.assertLess(np.abs(np.mean(off, axis=0))[2:4].max(), 0.04)
        self.assertTrue(0.7 < math.sqrt(float(np.mean(np.square(told)))) < 1.4)

    def test_places_are_those_of_the_source(self) -> None:
        image = drawn([(170.4, 120.7, 38.0, 20.0, 25.0, 50.0)])
        for name, given in (("crop", {"region": {"shape": "rectangle", "x": 165.0, "y": 118.0, "width": 140.0, "height": 120.0}}),
                            ("rotate", {"angle": 33.0}), ("resize", {"factor": 2.0})):  # fmt: skip
            step = step_of(name)
            moved = step.run(image, step.Parameters.make(given, name))
            f = engine.detect("ellipses", moved, {}).findings
            self.assertEqual(len(f), 1, name)
            for column, true in (("x", 170.4), ("y", 120.7), ("semi_major", 38.0), ("semi_minor", 20.0), ("angle", 25.0)):
                self.assertAlmostEqual(
                    float(f[column][0]), true, delta=0.5 if column == "angle" else 0.15, msg=f"{name} {column}"
                )

    def test_the_leaning_screen(self) -> None:
        leaning = scene("leaning_screen")
        found = engine.Engine().run(Recipe.parse(recipe_text("leaning_screen")), leaning.image).detections["openings"]
        ovals = [(m["x"], m["y"], m["semi_major"], m["semi_minor"], m["angle"], 0.0) for m in leaning.marks]
        hits, wrong = score(found, ovals)
        self.assertGreaterEqual(2 * hits / (len(ovals) + hits + wrong), 0.97)
        self.assertGreater(found.findings.counts("polarity")["bright"], 4)


class Limits(unittest.TestCase):
    def test_polarity_ratio_and_size(self) -> None:
        ovals: list[Oval] = [(80, 70, 40, 16, 20, 40), (220, 70, 30, 27, 70, -30), (150, 170, 18, 10, 0, 40)]
        image = drawn(ovals)
        every = engine.detect("ellipses", image, {})
        self.assertEqual(score(every, ovals), (3, 0))
        for given, left in (
            ({"polarity": "dark"}, [1]), ({"ratio_min": 0.7}, [1]), ({"axis": (20.0, 45.0)}, [1]),
            ({"axis": (14.0, 45.0)}, [0, 1]),
        ):  # fmt: skip
            f = engine.detect("ellipses", image, given).findings
            self.assertEqual(sorted(np.round(f["x"], -1).astype(int).tolist()), [round(ovals[k][0], -1) for k in left], given)
        missed = engine.detect("ellipses", image, {"ratio_min": 0.7}).near_misses
        row = next(r for r in missed.rows() if abs(r["x"] - 80) < 2)
        self.assertEqual(row["failed"], "ratio_min")
        self.assertAlmostEqual(row["measured"], 0.4, delta=0.02)

    def test_asking_for_less_of_the_rim_finds_the_same_and_more(self) -> None:
        image = drawn(HARD)
        plain = engine.detect("ellipses", image, {}).findings
        lower = engine.detect("ellipses", image, {"coverage_min": 0.25}).findings
        for row in plain.rows():
            off = np.hypot(lower["x"] - row["x"], lower["y"] - row["y"]) + np.abs(lower["semi_major"] - row["semi_major"])
            self.assertLess(off.min(), 0.5)


class Parts(unittest.TestCase):
    def test_the_direct_fit_is_exact_on_exact_places(self) -> None:
        t = np.linspace(0.2, 2.4, 20)
        c, s = math.cos(0.5), math.sin(0.5)
        u, v, nu, nv = 30 * np.cos(t), 17 * np.sin(t), np.cos(t) / 30, np.sin(t) / 17
        size = np.hypot(nu, nv)
        x, y, nx, ny = 12 + u * c - v * s, -5 + u * s + v * c, (nu * c - nv * s) / size, (nu * s + nv * c) / size
        found = np.empty(7)
        self.assertTrue(direct_ellipse(x, y, nx, ny, len(t), np.empty(6), found))
        np.testing.assert_allclose(found[:4], (12, -5, 30, 17), atol=1e-3)
        self.assertAlmostEqual(math.sin(found[4] - 0.5), 0.0, places=4)
        np.testing.assert_allclose(found[5:], (math.cos(found[4]), math.sin(found[4])), atol=1e-12)

    def test_the_distance_of_a_circle_is_exact(self) -> None:
        shape = np.empty(7)
        pack_ellipse(np.array([3.0, 4.0, 10.0, 10.0, 0.7]), shape)
        off, u, v = from_rim(3.0 + 13 * math.cos(1.0), 4.0 + 13 * math.sin(1.0), shape)
        self.assertAlmostEqual(off, 3.0, places=9)
        self.assertAlmostEqual(u, math.cos(1.0), places=9)
        self.assertAlmostEqual(v, math.sin(1.0), places=9)

    def test_a_circle_seen_straight_on_stays_one(self) -> None:
        straight = np.array([[2.0, 0.0, 10.0], [0.0, 2.0, 20.0], [0.0, 0.0, 1.0]])
        np.testing.assert_allclose(seen_circle(straight, 3.0, 4.0, 5.0)[:4], (16.0, 28.0, 10.0, 10.0))

    def test_votes_are_tied_to_the_image(self) -> None:
        found = engine.detect("ellipses", drawn([(150.0, 110.0, 40.0, 24.0, 30.0, 50.0)]), {})
        links, task = found.evidence["accumulator"].links, found.task
        assert links is not None
        votes = links.votes_at(150.3, 109.8)
        self.assertEqual(votes.candidate, int(task.rows[0]))
        self.assertGreater(len(votes.points), 10)
        place = (150 + 40 * math.cos(math.radians(30)), 110 + 40 * math.sin(math.radians(30)))
        lines = links.votes_of(*place)
        self.assertTrue(any(np.hypot(*(line[1] - (150, 110))) < 3 for line in lines))
        values = found.evidence["accumulator"].values
        self.assertLess(np.hypot(*(np.array(np.unravel_index(int(np.argmax(values)), values.shape))[::-1] - (150, 110))), 3)
        self.assertGreater(int(found.evidence["arcs"].values.sum()), 100)


class BadInput(unittest.TestCase):
    def test_refused(self) -> None:
        image = drawn([])
        for given in (
            {"axis": (40.0, 20.0)},
            {"axis": (-3.0, 20.0)},
            {"ratio_min": 0.0},
            {"deviation_max": -1.0},
            {"polarity": "blue"},
        ):
            with self.subTest(given), self.assertRaisesRegex(ParameterError, next(iter(given))):
                engine.detect("ellipses", image, given)

    def test_nothing_to_see(self) -> None:
        for pixels in (np.zeros((40, 50), np.uint8), np.full((1, 1), 9, np.uint8), np.zeros((2, 300), np.float32)):
            self.assertEqual(len(engine.detect("ellipses", Image.from_array(pixels), {}).findings), 0)
        answer = explain(engine.detect("ellipses", Image.from_array(np.zeros((80, 90), np.uint8)), {}), (40.0, 40.0))
        self.assertIn("nothing is here", answer.summary)
        self.assertEqual(len(engine.detect("ellipses", drawn(HARD), {"axis": (700.0, 9000.0)}).findings), 0)

    def test_noise_of_full_range_is_bounded_and_can_be_cancelled(self) -> None:
        image = Image.from_array(np.random.default_rng(1).integers(0, 256, (700, 900)).astype(np.uint8))
        self.assertEqual(len(engine.detect("ellipses", image, {}).findings), 0)
        parameters = engine.detector_of("ellipses").Parameters.make({}, "ellipses")
        asked = iter([False] * 12 + [True] * 100000)
        with self.assertRaises(Cancelled):
            engine.Engine().detect("ellipses", image, parameters, cancelled=lambda: next(asked))


if __name__ == "__main__":
    unittest.main()
