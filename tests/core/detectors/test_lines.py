"""Lines on rendered strokes and edges: what is found, how well, gaps, strokes, ranges, votes, and what is refused."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.special import erf

from lucid_finch.core.detectors.lines import stroke_breadth
from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.explanation.explaining import explain
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.hough.line_votes import LineSpace, VotingPoints, line_votes, relative_entropy
from lucid_finch.core.prepare import step_of
from tests.support import disc, noise_pictures

Stroke = tuple[float, float, float, float, float, tuple[float, float]]
"""Ends, breadth, and lengths of dashes and of gaps (0, 0 for a solid one)."""


def strokes(
    marks: list[Stroke], size: tuple[int, int] = (320, 240), contrast: float = 40.0, noise: float = 3.0, seed: int = 0
) -> Image:
    """Blurred strokes on a ground of 100, rendered in closed form across themselves."""
    width, height = size
    y, x = np.mgrid[:height, :width].astype(float)
    picture = np.full((height, width), 100.0)
    for x1, y1, x2, y2, breadth, (dash, gap) in marks:
        length = math.hypot(x2 - x1, y2 - y1)
        c, s = (x2 - x1) / length, (y2 - y1) / length
        t, d = (x - x1) * c + (y - y1) * s, -(x - x1) * s + (y - y1) * c
        across = 0.5 * (erf((d + breadth / 2) / 1.4) - erf((d - breadth / 2) / 1.4))
        begins = np.arange(0.0, length, dash + gap) if dash else np.zeros(1)
        along = sum(0.5 * (erf((t - b) / 1.4) - erf((t - min(b + (dash or length), length)) / 1.4)) for b in begins.tolist())
        picture += contrast * across * along
    picture += np.random.default_rng(seed).normal(0, noise, picture.shape)
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8))


def matched(found: Any, marks: list[Stroke]) -> int:
    """How many strokes are found, each by one row whose line and ends are right."""
    rows, used = list(found.findings.rows()), set()
    for x1, y1, x2, y2, *_ in marks:
        for n, row in enumerate(rows):
            here, there = math.hypot(row["x1"] - x1, row["y1"] - y1), math.hypot(row["x2"] - x2, row["y2"] - y2)
            turned = math.hypot(row["x1"] - x2, row["y1"] - y2), math.hypot(row["x2"] - x1, row["y2"] - y1)
            off = abs((row["x"] - x1) * (y2 - y1) - (row["y"] - y1) * (x2 - x1)) / math.hypot(x2 - x1, y2 - y1)
            # A dashed stroke may end with a gap.
            if n not in used and off < 1.0 and min(max(here, there), max(turned)) < 26:
                used.add(n)
                break
    return len(used)


SOLID, DASHED = (0.0, 0.0), (14.0, 9.0)


class Finding(unittest.TestCase):
    def test_solid_broken_and_dashed_strokes_with_defaults(self) -> None:
        marks: list[Stroke] = [
            (20, 30, 290, 50, 3.0, SOLID), (30, 220, 300, 150, 4.0, DASHED), (60, 80, 90, 200, 3.5, (40.0, 14.0)),
            (160, 70, 290, 130, 2.5, SOLID),
        ]  # fmt: skip
        for seed in range(6):
            found = engine.detect("lines", strokes(marks, seed=seed), {})
            self.assertEqual((matched(found, marks), len(found.findings)), (4, 4), seed)
            self.assertTrue(np.isfinite(found.findings["breadth"]).all())

    def test_no_line_in_noise(self) -> None:
        for seed in range(5):
            for name, pixels in noise_pictures(seed).items():
                found = engine.detect("lines", Image.from_array(pixels), {})
                self.assertEqual(len(found.findings), 0, (seed, name))

    def test_the_rim_of_a_disc_is_no_line(self) -> None:
        for radius in (18, 40, 70):
            self.assertEqual(len(engine.detect("lines", disc(radius, noise=2.0, size=200), {}).findings), 0, radius)
        y, x = np.mgrid[:220, :240]
        far = np.hypot(x + 60, y + 70) - 230
        noise = np.random.default_rng(1).normal(0, 2, far.shape)
        arc = Image.from_array(np.round(120 + 30 * erf(far / 1.4) + noise).astype(np.uint8))
        self.assertEqual(len(engine.detect("lines", arc, {}).findings), 0)
        self.assertGreater(len(engine.detect("lines", arc, {"bow_max": 20.0}).findings), 0)

    def test_angle_offset_and_error_bars(self) -> None:
        errors, told = [], []
        bound = math.degrees(math.sqrt(12 / 200**3 * 9 * 2 * math.sqrt(math.pi) * 0.99 / 40**2))
        for seed in range(24):
            turn = math.radians(float(np.random.default_rng(seed).uniform(0, 180)))
            c, s = math.cos(turn), math.sin(turn)
            mark = (150 - 100 * c, 150 - 100 * s, 150 + 100 * c, 150 + 100 * s, 30.0, SOLID)
            found = engine.detect("lines", strokes([mark], (300, 300), seed=seed), {"length_min": 100})
            self.assertEqual(len(found.findings), 2)
            off = (found.findings["angle"] - math.degrees(turn) + 90) % 180 - 90
            errors += off.tolist()
            told += (off / found.findings["angle_std"]).tolist()
            # Both sides are half the breadth off the middle.
            away = found.findings["rho"] - 150 * np.cos(np.radians(found.findings["theta"]))
            away -= 150 * np.sin(np.radians(found.findings["theta"]))
            np.testing.assert_allclose(np.sort(away), [-15, 15], atol=0.2)
        self.assertLess(math.sqrt(float(np.mean(np.square(errors)))), 1.5 * bound)
        self.assertTrue(0.7 < math.sqrt(float(np.mean(np.square(told)))) < 1.4)

    def test_places_are_those_of_the_source(self) -> None:
        mark = (80.0, 60.0, 260.0, 170.0, 3.0, SOLID)
        image = strokes([mark])
        plain = engine.detect("lines", image, {}).findings
        crop = {"shape": "rectangle", "x": 170.0, "y": 120.0, "width": 240.0, "height": 180.0}
        for name, given in (("crop", {"region": crop}), ("rotate", {"angle": 25.0}), ("resize", {"factor": 2.0})):
            step = step_of(name)
            moved = step.run(image, step.Parameters.make(given, name))
            found = engine.detect("lines", moved, {"region": crop, "length_min": 120})
            self.assertEqual(len(found.findings), 1, name)
            for column, most in (("x1", 3), ("y2", 3), ("length", 5), ("angle", 0.2), ("rho", 0.6), ("theta", 0.2)):
                self.assertAlmostEqual(found.findings[column][0], plain[column][0], delta=most, msg=f"{name} {column}")


class Choosing(unittest.TestCase):
    def test_bridge_joins_or_parts(self) -> None:
        mark = (20.0, 120.0, 300.0, 130.0, 4.0, (50.0, 20.0))
        image = strokes([mark])
        self.assertEqual(len(engine.detect("lines", image, {}).findings), 1)
        self.assertEqual(len(engine.detect("lines", image, {"bridge": 10}).findings), 4)
        self.assertEqual(len(engine.detect("lines", image, {"bridge": "10%"}).findings), 1)
        whole = engine.detect("lines", image, {"bridge": 10, "extent": "full"}).findings
        self.assertEqual(len(whole), 1)
        self.assertAlmostEqual(whole["x1"][0], -0.5, delta=0.01)
        self.assertAlmostEqual(whole["x2"][0], 319.5, delta=0.01)

    def test_two_long_edges_far_apart_stay_two(self) -> None:
        image = strokes([(10, 100, 110, 100, 12.0, SOLID), (220, 100, 310, 100, 12.0, SOLID)])
        found = engine.detect("lines", image, {"length_min": 40}).findings
        self.assertEqual(len(found), 4)

    def test_pairs(self) -> None:
        image = strokes([(20, 60, 300, 80, 14.0, SOLID)])
        self.assertEqual(len(engine.detect("lines", image, {"length_min": 50}).findings), 2)
        found = engine.detect("lines", image, {"pair": True, "length_min": 50}).findings
        self.assertEqual(len(found), 1)
        self.assertAlmostEqual(found["breadth"][0], 14.0, delta=0.1)
        thin = engine.detect("lines", strokes([(20, 60, 300, 80, 3.0, SOLID)]), {}).findings
        self.assertEqual(len(thin), 1)
        self.assertAlmostEqual(thin["breadth"][0], 3.0, delta=0.7)
        self.assertEqual(len(engine.detect("lines", strokes([(20, 60, 300, 80, 3.0, SOLID)]), {"pair": False}).findings), 2)
        # Far apart, nothing is corrected; close together, a stroke without breadth would be seen 2 sigma wide.
        self.assertEqual(stroke_breadth(20.0, 1.5), 20.0)
        self.assertLess(stroke_breadth(3.05, 1.5), 1.0)

    def test_angles_may_run_past_half_a_turn(self) -> None:
        marks: list[Stroke] = [(20, 30, 300, 20, 4.0, SOLID), (20, 200, 300, 215, 4.0, SOLID), (100, 60, 110, 180, 4.0, SOLID)]
        image = strokes(marks)
        self.assertEqual(len(engine.detect("lines", image, {}).findings), 3)
        flat = engine.detect("lines", image, {"angles": (170.0, 190.0)})
        self.assertEqual(len(flat.findings), 2)
        self.assertEqual(flat.near_misses.counts("failed"), {"angles": 1})
        steep = engine.detect("lines", image, {"angles": (60.0, None)})
        self.assertGreaterEqual(len(steep.findings), 1)
        with self.assertRaisesRegex(ParameterError, "angles"):
            engine.detect("lines", image, {"angles": (90.0, 20.0)})

    def test_longest_first_and_keep(self) -> None:
        image = strokes([(20, 30, 120, 40, 3.0, SOLID), (20, 150, 300, 200, 3.0, SOLID)])
        found = engine.detect("lines", image, {"sort": "-length"}).findings
        self.assertGreater(found["length"][0], found["length"][1])
        self.assertEqual(len(engine.detect("lines", image, {"keep": 1}).findings), 1)

    def test_what_is_remembered_does_not_answer_another_question(self) -> None:
        image = strokes([(20, 60, 300, 80, 14.0, SOLID), (20, 180, 300, 170, 3.0, DASHED)])
        kept, detector = engine.Engine(), engine.detector_of("lines")
        for given in (
            {},
            {"pair": True},
            {"extent": "full"},
            {"bridge": 2},
            {"angles": (0.0, 10.0)},
            {"length_min": 100},
            {"bow_max": 0.0},
        ):
            with self.subTest(given):
                found = kept.detect("lines", image, detector.Parameters.make(given, "lines")).findings
                np.testing.assert_array_equal(found["x"], engine.detect("lines", image, given).findings["x"])

    def test_asking_why(self) -> None:
        image = strokes([(20, 30, 300, 60, 3.0, SOLID)])
        short = engine.detect("lines", image, {"length_min": 290})
        self.assertIn("length", explain(short, (160.0, 45.0)).summary)
        nothing = explain(engine.detect("lines", image, {}), (160.0, 180.0)).summary
        self.assertIn("nothing is here", nothing)
        away = {"shape": "rectangle", "x": 160.0, "y": 200.0, "width": 200.0, "height": 40.0}
        self.assertIn("outside the region", explain(engine.detect("lines", image, {"region": away}), (160.0, 45.0)).summary)


class Votes(unittest.TestCase):
    def test_votes_are_those_of_the_definition(self) -> None:
        random = np.random.default_rng(3)
        n = 40
        x, y = (random.uniform(-50, 50, n).astype(np.float32) for _ in range(2))
        turn = random.uniform(0, 2 * np.pi, n)
        angle_error, weight = np.full(n, 0.2, np.float32), random.integers(1, 5, n).astype(np.int32)
        voting = VotingPoints(x, y, np.cos(turn).astype(np.float32), np.sin(turn).astype(np.float32), angle_error, weight)
        space = LineSpace(90, 2.0, 80.0)
        votes = line_votes(voting, space)
        expected: NDArray[np.int64] = np.zeros_like(votes, np.int64)
        for k in range(n):
            for a, theta in enumerate(space.turns):
                apart = (theta - turn[k] + math.pi / 2) % math.pi - math.pi / 2
                if abs(apart) <= 0.2:
                    rho = float(x[k]) * math.cos(theta) + float(y[k]) * math.sin(theta)
                    expected[a, int(rho / 2.0 + space.middle + 0.5)] += weight[k]
        self.assertEqual(int(votes.sum()), int(expected.sum()))
        # A place on the border of two cells may fall to either.
        self.assertLess(int(np.abs(votes - expected).sum()), 0.01 * expected.sum() + 4)

    def test_a_cell_and_a_place_are_tied(self) -> None:
        image = strokes([(40, 60, 280, 170, 8.0 + 4, SOLID)])
        found = engine.detect("lines", image, {"length_min": 60})
        task = found.task
        accumulator = found.evidence["accumulator"]
        self.assertEqual((len(accumulator.x), len(accumulator.y)), accumulator.values.shape[::-1])
        links = accumulator.links
        assert links is not None
        peaks = links.peaks()
        for row, (column, line) in enumerate(peaks.tolist()):
            self.assertAlmostEqual(
                np.interp(column, np.arange(len(accumulator.x)), accumulator.x), found.findings["theta"][row], delta=0.01
            )
            self.assertAlmostEqual(
                np.interp(line, np.arange(len(accumulator.y)), accumulator.y), found.findings["rho"][row], delta=0.01
            )
            around = accumulator.values[round(line) - 2 : round(line) + 3, max(round(column) - 2, 0) : round(column) + 3]
            self.assertGreater(around.max(), 0.5 * accumulator.values.max())
            votes = links.votes_at(column, line)
            self.assertEqual(votes.candidate, int(task.rows[row]))
            self.assertGreater(len(votes.points), 100)
            # The curve of any of these points passes through the cell.
            curve = links.votes_of(*votes.points[10])[0]
            self.assertAlmostEqual(float(np.interp(column, curve[:, 0], curve[:, 1])), line, delta=1.5)
        self.assertIsNone(found.evidence["magnitude"].links)
        self.assertEqual(links.votes_of(-100.0, -100.0), [])

    def test_entropy(self) -> None:
        self.assertEqual(float(relative_entropy(0.1, 0.2)), 0.0)
        self.assertAlmostEqual(float(relative_entropy(1.0, 0.2)), math.log(5))


class BadInput(unittest.TestCase):
    def test_nothing_to_see(self) -> None:
        for image in (np.zeros((40, 50), np.uint8), np.full((1, 1), 7, np.uint8), np.zeros((3, 200), np.float32)):
            self.assertEqual(len(engine.detect("lines", Image.from_array(image), {}).findings), 0)

    def test_noise_of_full_range_is_bounded_and_can_be_cancelled(self) -> None:
        image = Image.from_array(np.random.default_rng(1).integers(0, 256, (700, 900)).astype(np.uint8))
        self.assertEqual(len(engine.detect("lines", image, {}).findings), 0)
        parameters = engine.detector_of("lines").Parameters.make({}, "lines")
        with self.assertRaises(Cancelled):
            engine.Engine().detect("lines", image, parameters, cancelled=lambda: True)

    def test_refused(self) -> None:
        image = disc(20)
        for given in ({"angle_step": 0}, {"bridge": -3}, {"length_min": "3 furlongs"}, {"coverage_min": 2}, {"extent": "rays"}):
            with self.subTest(given), self.assertRaisesRegex(ParameterError, next(iter(given))):
                engine.detect("lines", image, given)


def one_stroke(turn: float, wide: float, length: float, noise: float, seed: int, blur: float = 0.8) -> tuple[Image, np.ndarray]:
    """A stroke in the middle of 400 x 400, and its ends (2, 2)."""
    random = np.random.default_rng(seed)
    y, x = (np.mgrid[:1600, :1600] + 0.5) / 4 - 0.5
    cx, cy = 200 + random.uniform(-3, 3, 2)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    along, across = (x - cx) * c + (y - cy) * s, (y - cy) * c - (x - cx) * s
    fine = (110 + 55 * ((np.abs(along) < length / 2) & (np.abs(across) < wide / 2))).astype(np.float32)
    plane = ndimage.gaussian_filter(fine, 4 * blur).reshape(400, 4, 400, 4).mean(axis=(1, 3))
    pixels = np.clip(np.round(plane + random.normal(0, noise, plane.shape)), 0, 255).astype(np.uint8)
    half = 0.5 * length * np.array([c, s])
    return Image.from_array(pixels), np.array([[cx - half[0], cy - half[1]], [cx + half[0], cy + half[1]]])


class Strokes(unittest.TestCase):
    def test_one_stroke_is_one_line_that_ends_where_it_does(self) -> None:
        for wide, turn, noise in ((1.5, 0.5, 3.0), (2.0, 90.5, 1.0), (4.0, 1.5, 6.0), (4.0, 37.0, 3.0), (8.0, 63.0, 3.0)):
            with self.subTest(wide=wide, turn=turn):
                image, ends = one_stroke(turn, wide, 231.7, noise, 4)
                found = engine.detect("lines", image, {}).findings
                self.assertEqual(len(found), 1)
                seen = np.array([[found["x1"][0], found["y1"][0]], [found["x2"][0], found["y2"][0]]])
                off = min(np.hypot(*(seen - ends).T).max(), np.hypot(*(seen[::-1] - ends).T).max())
                self.assertLess(off, 0.6)
                self.assertAlmostEqual(float(found["breadth"][0]), wide, delta=1.2)
                self.assertEqual(len(engine.detect("lines", image, {"length_min": 231.7}).findings), 1)
                self.assertEqual(len(engine.detect("lines", image, {"length_min": 233.7}).findings), 0)

    def test_a_blurred_stroke_is_one_line_too(self) -> None:
        image, _ = one_stroke(25.0, 3.0, 210.0, 2.0, 1, blur=4.5)
        self.assertEqual(len(engine.detect("lines", image, {}).findings), 1)

    def test_sides_of_a_sharp_bar_stay_two(self) -> None:
        image, _ = one_stroke(25.0, 14.0, 210.0, 2.0, 1)
        long = engine.detect("lines", image, {"length_min": 100}).findings
        self.assertEqual(len(long), 2)


if __name__ == "__main__":
    unittest.main()
