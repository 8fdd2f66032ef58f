"""Circles on rendered discs, rings, caps and look-alikes: what is found, how well, limits, votes, and what is refused."""

from __future__ import annotations

import math
import unittest
from itertools import pairwise
from typing import Any

import numpy as np

from lucid_finch.core.detectors.circles import allowed_in_texture
from lucid_finch.core.detectors.shared.round_shapes import size_range
from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.explanation.explaining import explain
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.fitting.rim_support import Rims, shared_points
from lucid_finch.core.numerics.hough.circle_votes import bands, centre_votes
from lucid_finch.core.numerics.profiles.normal_profiles import normal_profiles, own_blur
from lucid_finch.core.prepare import step_of
from lucid_finch.core.recipe import Recipe
from lucid_finch.demo import recipe_text, scene
from tests.support import noise_pictures

_FINE = 4

Mark = tuple[str, float, float, float, float]
"""What (disc, half, square, bar), x, y, size, contrast."""


def drawn(marks: list[Mark], size: tuple[int, int] = (320, 240), noise: float = 2.0, blur: float = 0.9, seed: int = 0) -> Image:
    width, height = size
    y, x = (np.mgrid[: height * _FINE, : width * _FINE].astype(np.float32) + 0.5) / _FINE - 0.5
    picture = np.full(x.shape, 110.0, np.float32)
    for what, cx, cy, reach, contrast in marks:
        u, v = x - cx, y - cy
        far = np.hypot(u, v)
        inside = {
            "disc": far < reach,
            "half": (far < reach) & (u + 0.3 * v < 0.1 * reach),
            "square": (np.abs(0.8 * u + 0.6 * v) < reach) & (np.abs(0.8 * v - 0.6 * u) < reach),
            "bar": (np.abs(0.8 * u + 0.6 * v) < 4 * reach) & (np.abs(0.8 * v - 0.6 * u) < 0.4 * reach),
        }[what]
        picture[inside] += contrast
    weights = gaussian_kernel(blur * _FINE)
    picture = smoothed(picture, weights).reshape(height, _FINE, width, _FINE).mean(axis=(1, 3))
    picture = picture + np.random.default_rng(seed).normal(0, noise, picture.shape)
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8))


def score(found: Any, marks: list[Mark]) -> tuple[int, int]:
    """How many discs (whole or half) are found, and how many findings are none."""
    f, left = found.findings, {n for n, m in enumerate(marks) if m[0] in ("disc", "half")}
    wrong = 0
    for x, y, radius in zip(f["x"], f["y"], f["radius"], strict=True):
        here = [n for n in left if math.hypot(x - marks[n][1], y - marks[n][2]) < 2.5 and abs(radius - marks[n][3]) < 2.0]
        left -= set(here[:1])
        wrong += not here
    return sum(m[0] in ("disc", "half") for m in marks) - len(left), wrong


HARD: list[Mark] = [
    ("disc", 40, 45, 24, -50), ("disc", 40, 45, 12, 30), ("disc", 100, 40, 20, 5), ("disc", 141, 40, 20, 5),
    ("half", 205, 50, 26, 40), ("disc", 280, 40, 16, -6), ("disc", -3, 120, 22, 35), ("disc", 70, 130, 30, 25),
    ("disc", 112, 130, 22, 25), ("square", 180, 130, 20, 40), ("bar", 250, 190, 16, 40), ("disc", 60, 205, 13, -8),
    ("disc", 150, 200, 28, 60), ("half", 290, 115, 18, -12),
]  # fmt: skip


class Finding(unittest.TestCase):
    def test_hard_ones_with_only_the_range_given(self) -> None:
        right = wrong = total = 0
        for seed in range(8):
            found = engine.detect("circles", drawn(HARD, seed=seed), {"radius": (10.0, 34.0)})
            hits, others = score(found, HARD)
            right, wrong, total = right + hits, wrong + others, total + 12
        self.assertGreaterEqual(2 * right / (right + wrong + total), 0.97)

    def test_hard_ones_without_any_range(self) -> None:
        right = wrong = total = 0
        for seed in range(4):
            hits, others = score(engine.detect("circles", drawn(HARD, seed=seed), {}), HARD)
            right, wrong, total = right + hits, wrong + others, total + 12
        self.assertGreaterEqual(2 * right / (right + wrong + total), 0.95)

    def test_no_circle_in_noise(self) -> None:
        for seed in range(4):
            for name, pixels in noise_pictures(seed).items():
                self.assertEqual(len(engine.detect("circles", Image.from_array(pixels), {}).findings), 0, (seed, name))

    def test_squares_and_bars_are_none_and_said_why(self) -> None:
        marks: list[Mark] = [("square", 80, 110, 26, 50), ("square", 250, 60, 15, -40), ("bar", 200, 170, 14, 50)]
        found = engine.detect("circles", drawn(marks), {"radius": (8.0, 40.0)})
        self.assertEqual(len(found.findings), 0)
        self.assertTrue(set(found.near_misses.counts("failed")) & {"roundness_min", "turning_min", "deviation_max"})
        self.assertIn("roundness", explain(found, (80.0, 110.0)).summary)

    def test_the_round_end_of_a_bar_and_a_hexagon_are_none(self) -> None:
        y, x = np.mgrid[:200, :280].astype(np.float32)
        bar = np.hypot(np.maximum(np.abs(x - 90) - 40, 0), y - 60) < 20
        turned = [np.abs((x - 200) * math.cos(k * math.pi / 3) + (y - 130) * math.sin(k * math.pi / 3)) < 30 for k in range(3)]
        plane = smoothed((110 + 45 * bar - 40 * (turned[0] & turned[1] & turned[2])).astype(np.float32), gaussian_kernel(0.9))
        none = whole = 0
        for seed in range(4):
            noisy = plane + np.random.default_rng(seed).normal(0, 2, plane.shape)
            image = Image.from_array(np.clip(np.round(noisy), 0, 255).astype(np.uint8))
            found = engine.detect("circles", image, {"radius": (10.0, 40.0)})
            none += len(found.findings) == 0
            # What tells them apart can be switched off.
            loose = engine.detect("circles", image, {"radius": (10.0, 40.0), "roundness_min": 0.3, "deviation_max": 20.0})
            whole += len(loose.findings) > 0
        self.assertGreaterEqual(none, 3)
        self.assertEqual(whole, 4)

    def test_a_wire_that_touches_a_disc_does_not_hide_it(self) -> None:
        y, x = np.mgrid[:140, :160].astype(np.float32)
        plane = 110.0 + 50 * (np.hypot(x - 80, y - 70) < 28) + 50 * (np.abs(y - 43) < 2.5)
        noisy = smoothed(plane.astype(np.float32), gaussian_kernel(0.9)) + np.random.default_rng(0).normal(0, 2, plane.shape)
        f = engine.detect("circles", Image.from_array(np.clip(np.round(noisy), 0, 255).astype(np.uint8)), {}).findings
        self.assertEqual(len(f), 1)
        self.assertAlmostEqual(float(f["radius"][0]), 28.0, delta=0.3)

    def test_centre_and_radius_against_the_bound(self) -> None:
        off, radii, told = [], [], []
        random = np.random.default_rng(5)
        for seed in range(24):
            x, y = random.uniform(58, 62, 2)
            image = drawn([("disc", float(x), float(y), 25.0, 40.0)], (120, 120), 3.0, 0.9, seed)
            f = engine.detect("circles", image, {"radius": (15.0, 40.0)}).findings
            self.assertEqual(len(f), 1)
            off += [f["x"][0] - x, f["y"][0] - y]
            told += [(f["x"][0] - x) / f["x_std"][0], (f["y"][0] - y) / f["y_std"][0]]
            radii.append(f["radius"][0] - 25.0)
            self.assertAlmostEqual(f["contrast"][0], 40.0, delta=3.0)
        bound = math.sqrt((9 + 1 / 12) * 2 * math.sqrt(math.pi) * math.hypot(0.9, 0.29) / 40**2 / (math.pi * 25))
        self.assertLess(math.sqrt(float(np.mean(np.square(off)))), 1.5 * bound)
        self.assertLess(abs(float(np.mean(radii))), 0.01)
        self.assertLess(float(np.median(np.abs(radii))), 0.03)
        self.assertTrue(0.7 < math.sqrt(float(np.mean(np.square(told)))) < 1.4)

    def test_the_blur_of_the_image_shrinks_no_radius(self) -> None:
        for blur in (0.6, 1.2, 2.0):
            for radius in (8.0, 20.0):
                image = drawn([("disc", 60.3, 59.8, radius, 60.0)], (120, 120), 0.5, blur)
                f = engine.detect("circles", image, {"radius": (5.0, 30.0)}).findings
                self.assertAlmostEqual(float(f["radius"][0]), radius, delta=0.04, msg=f"{blur} {radius}")

    def test_places_are_those_of_the_source(self) -> None:
        image = drawn([("disc", 170.4, 120.7, 24.0, 50.0)])
        for name, given in (("crop", {"region": {"shape": "rectangle", "x": 165.0, "y": 118.0, "width": 140.0, "height": 120.0}}),
                            ("rotate", {"angle": 33.0}), ("resize", {"factor": 2.0}), ("resize", {"factor": 0.5})):  # fmt: skip
            step = step_of(name)
            moved = step.run(image, step.Parameters.make(given, name))
            f = engine.detect("circles", moved, {"radius": (18.0, 30.0)}).findings
            self.assertEqual(len(f), 1, name)
            for column, true in (("x", 170.4), ("y", 120.7), ("radius", 24.0)):
                self.assertAlmostEqual(float(f[column][0]), true, delta=0.1, msg=f"{name} {column}")

    def test_the_pierced_screen(self) -> None:
        drawn_scene = scene("pierced_screen")
        found = engine.Engine().run(Recipe.parse(recipe_text("pierced_screen")), drawn_scene.image).detections["openings"]
        marks = [("disc", m["x"], m["y"], m["radius"], 0.0) for m in drawn_scene.marks if m["kind"] == "circles"]
        hits, wrong = score(found, marks)
        self.assertGreaterEqual(2 * hits / (len(marks) + hits + wrong), 0.98)
        plugged = [m for m in drawn_scene.marks if m.get("name") == "plugged hole"]
        self.assertGreater(len(plugged), 6)
        names = found.findings.counts("polarity")
        self.assertGreater(names["bright"], 10)
        self.assertGreater(names["dark"], 60)


class Limits(unittest.TestCase):
    def test_polarity_and_contrast(self) -> None:
        marks: list[Mark] = [("disc", 80, 120, 25, 40), ("disc", 220, 120, 25, -12)]
        image = drawn(marks)
        self.assertEqual(len(engine.detect("circles", image, {}).findings), 2)
        dark = engine.detect("circles", image, {"polarity": "dark"})
        self.assertEqual((len(dark.findings), round(float(dark.findings["x"][0]))), (1, 220))
        self.assertIn("polarity", {c.parameter for c in explain(dark, (80.0, 120.0)).candidates[0].criteria if not c.passed})
        change = explain(dark, (80.0, 120.0)).candidates[0].change
        self.assertEqual(change.values, {"polarity": "either"})
        strong = engine.detect("circles", image, {"contrast_min_pct": 8.0})
        self.assertEqual(len(strong.findings), 1)

    def test_what_is_remembered_does_not_answer_another_question(self) -> None:
        image = drawn([("disc", 80, 120, 25, 40), ("disc", 220, 120, 25, -30), ("disc", 220, 120, 14, 30)])
        kept = engine.Engine()
        detector = engine.detector_of("circles")
        for given in (
            {},
            {"polarity": "dark"},
            {"polarity": "bright"},
            {"spacing": 5.0},
            {"coverage_min": 0.99},
            {"radius": (20.0, 30.0)},
        ):
            with self.subTest(given):
                found = kept.detect("circles", image, detector.Parameters.make(given, "circles")).findings
                np.testing.assert_array_equal(found["x"], engine.detect("circles", image, given).findings["x"])

    def test_the_range_is_also_a_limit(self) -> None:
        image = drawn([("disc", 100, 120, 26.0, 40), ("disc", 220, 120, 40.0, 40)])
        found = engine.detect("circles", image, {"radius": (10.0, 24.0)})
        self.assertEqual(len(found.findings), 0)
        answer = explain(found, (100.0, 120.0))
        self.assertEqual(answer.candidates[0].change.values, {"radius": (10.0, 26.0)})
        self.assertIn("radius outside the range", explain(found, (220.0, 120.0)).summary)
        self.assertEqual(found.resolved["radius"], [10.0, 24.0])

    def test_spacing_leaves_one_rim_of_a_ring(self) -> None:
        image = drawn([("disc", 150, 120, 40, 50), ("disc", 150, 120, 25, -50)])
        self.assertEqual(len(engine.detect("circles", image, {}).findings), 2)
        self.assertEqual(len(engine.detect("circles", image, {"spacing": 5.0}).findings), 1)

    def test_ranges_follow_from_the_image(self) -> None:
        image = Image.from_array(np.zeros((200, 300), np.uint8))
        self.assertEqual(size_range(None, image, 1.2), (5.0, 100.0))
        self.assertEqual(size_range(None, image, 4.0), (8.8, 100.0))
        self.assertEqual(size_range((20.0, None), image, 4.0), (20.0, 100.0))
        # Larger than the image is no error: nothing of such a rim could be told from a line.
        self.assertLessEqual(size_range((20.0, 9000.0), image, 1.2)[1], 361)
        self.assertEqual(len(engine.detect("circles", image, {"radius": (500.0, 9000.0)}).findings), 0)

    def test_a_lower_limit_finds_the_same_and_more(self) -> None:
        image = drawn(HARD)
        usual, loose = (engine.detect("circles", image, {"radius": (10.0, 34.0), "coverage_min": c}) for c in (0.4, 0.1))
        strict = engine.detect("circles", image, {"radius": (10.0, 34.0), "coverage_min": 0.4})
        np.testing.assert_array_equal(usual.findings["radius"], strict.findings["radius"])
        here = {round(float(r), 2) for r in loose.findings["radius"]}
        self.assertTrue({round(float(r), 2) for r in usual.findings["radius"]} <= here)


class Parts(unittest.TestCase):
    def test_votes_are_those_of_the_definition(self) -> None:
        turns = np.linspace(0, 2 * np.pi, 60, endpoint=False)
        x, y = (80 + 20 * np.cos(turns)).astype(np.float32), (60 + 20 * np.sin(turns)).astype(np.float32)
        nx, ny = np.cos(turns).astype(np.float32), np.sin(turns).astype(np.float32)
        votes = centre_votes(x, y, nx, ny, (160, 120), (15.0, 25.0), 1)
        self.assertEqual(np.unravel_index(int(np.argmax(votes)), votes.shape), (60, 80))
        self.assertGreater(votes[60, 80], 50)
        self.assertLess(centre_votes(x, y, nx, ny, (160, 120), (15.0, 25.0), -1)[60, 80], 5)

    def test_bands_cover_the_range(self) -> None:
        found = bands(5.0, 100.0)
        self.assertEqual((found[0][0], round(found[-1][1], 6)), (5.0, 100.0))
        self.assertTrue(all(a[1] == b[0] for a, b in pairwise(found)))
        self.assertEqual(len(bands(7.0, 7.0)), 1)

    def test_shared_points(self) -> None:
        pairs, share = shared_points(np.array([0, 4, 7, 9]), np.array([1, 2, 3, 4, 3, 4, 9, 20, 21], np.int32))
        self.assertEqual(pairs.tolist(), [[0, 1]])
        self.assertAlmostEqual(float(share[0]), 2 / 3)

    def test_in_texture_a_rim_about_the_same_centre_tells(self) -> None:
        def allowed(second: tuple[float, float], stands_out: float, deviation: float = 1.3, covered: float = 0.6) -> float:
            x, radius = second
            columns = {
                "x": np.array([50.0, x]), "y": np.array([50.0, 50.0]), "radius": np.array([40.0, radius]),
                "coverage": np.array([0.7, covered]), "fidelity": np.ones(2),
            }  # fmt: skip
            rims = Rims(columns, np.array([0, 5, 9]), np.arange(9, dtype=np.int32), np.zeros(9))
            clear = np.r_[np.full(5, stands_out), np.full(4, 50.0)]
            return float(allowed_in_texture(rims, clear, np.array([deviation, 0.5]))[0])

        self.assertEqual(allowed((51.0, 34.0), 5.0), 1.5)
        self.assertEqual(allowed((51.0, 34.0), 8.0), 1.25)
        refused = {
            "clear": allowed((51.0, 34.0), 12.0), "elsewhere": allowed((60.0, 34.0), 5.0), "the same": allowed((50.0, 39.0), 5.0),
            "far larger": allowed((50.0, 80.0), 5.0), "hardly seen": allowed((51.0, 34.0), 5.0, 1.3, 0.2),
            "far off": allowed((51.0, 34.0), 5.0, 1.6), "near enough": allowed((51.0, 34.0), 5.0, 0.9),
        }  # fmt: skip
        self.assertEqual(set(refused.values()), {1.0}, refused)

    def test_cross_sections_of_a_blurred_step(self) -> None:
        from scipy.special import erf

        offset, blur, height = 0.2, 1.1, 40.0
        row = 100 + height / 2 * (1 + erf((np.arange(60) - 30 - offset) / blur / math.sqrt(2)))
        pixels = np.tile(row.astype(np.float32), (20, 1))
        one = np.ones(5)
        section = normal_profiles(pixels, None, 30 * one, np.arange(5) + 7.0, one, 0 * one, (2.0,))
        self.assertAlmostEqual(float(-section.bend[0] / section.third[0]), offset, delta=0.03)
        own, gain = own_blur(2.0)
        seen = float(-section.slope[0] / section.third[0])
        self.assertAlmostEqual(seen - own, blur**2, delta=0.15)
        self.assertAlmostEqual(float(section.slope[0]) * math.sqrt(2 * math.pi * seen) * gain, height, delta=0.8)
        self.assertTrue(np.isnan(normal_profiles(pixels, None, one, one, one, 0 * one, (2.0,)).slope).all())

    def test_a_cell_and_a_place_are_tied(self) -> None:
        found = engine.detect("circles", drawn([("disc", 150.0, 110.0, 30.0, 50.0)]), {"radius": (20.0, 40.0)})
        links, task = found.evidence["accumulator"].links, found.task
        assert links is not None
        values = found.evidence["accumulator"].values
        self.assertLess(np.hypot(*(np.array(np.unravel_index(int(np.argmax(values)), values.shape))[::-1] - (150, 110))), 2)
        votes = links.votes_at(150.3, 109.8)
        self.assertEqual(votes.candidate, int(task.rows[0]))
        self.assertAlmostEqual(float(np.median(np.hypot(*(votes.points - (150, 110)).T))), 30, delta=0.6)
        inward = [line for line in links.votes_of(180.0, 110.0) if line[0, 0] < 175]
        self.assertEqual(len(inward), 1)
        self.assertLess(abs(float(np.interp(150, inward[0][::-1, 0], inward[0][::-1, 1])) - 110), 5)


class BadInput(unittest.TestCase):
    def test_refused(self) -> None:
        image = drawn([("disc", 150, 120, 30, 50)])
        for given in (
            {"radius": (40.0, 20.0)},
            {"radius": (-3.0, 20.0)},
            {"radius": 25.0},
            {"coverage_min": 1.5},
            {"polarity": "blue"},
        ):
            with self.subTest(given), self.assertRaisesRegex(ParameterError, next(iter(given))):
                engine.detect("circles", image, given)

    def test_nothing_to_see(self) -> None:
        for pixels in (np.zeros((40, 50), np.uint8), np.full((1, 1), 9, np.uint8), np.zeros((2, 300), np.float32)):
            found = engine.detect("circles", Image.from_array(pixels), {})
            self.assertEqual(len(found.findings), 0)
        self.assertIn(
            "nothing is here",
            explain(engine.detect("circles", Image.from_array(np.zeros((80, 90), np.uint8)), {}), (40.0, 40.0)).summary,
        )

    def test_noise_of_full_range_is_bounded_and_can_be_cancelled(self) -> None:
        image = Image.from_array(np.random.default_rng(1).integers(0, 256, (700, 900)).astype(np.uint8))
        self.assertEqual(len(engine.detect("circles", image, {}).findings), 0)
        parameters = engine.detector_of("circles").Parameters.make({}, "circles")
        asked = iter([False] * 12 + [True] * 100000)
        with self.assertRaises(Cancelled):
            engine.Engine().detect("circles", image, parameters, cancelled=lambda: next(asked))


if __name__ == "__main__":
    unittest.main()
