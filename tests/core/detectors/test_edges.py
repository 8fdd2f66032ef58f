"""The edge detector: accuracy against the physical limit, hysteresis, false alarms, chains, evidence, bad input."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from lucid_finch.core.detection import Detection
from lucid_finch.core.detector import Task
from lucid_finch.core.detectors.edges import Edges
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.engine import conclude, detect
from lucid_finch.core.explanation.explaining import explain
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gradient_planes, operator_kernels
from tests.support import disc, noise_pictures, step


def found(picture: NDArray[Any], **parameters: Any) -> Detection:
    return detect("edges", Image.from_array(picture, value_range=(0, 255)), parameters)


def offsets_from_step(result: Detection, angle: float, offset: float, size: int) -> NDArray[Any]:
    """Signed distance along the normal of every point from the true step."""
    x, y = (result.points[c] - (size - 1) / 2 for c in "xy")
    return np.asarray(x * np.cos(np.radians(angle)) + y * np.sin(np.radians(angle)) - offset)


def row_bound(contrast: float, noise: float, blur: float) -> float:
    """Cramer-Rao bound of a blurred step's position in one row of pixels: noise / contrast * sqrt(2 sqrt(pi) blur)."""
    return float(noise / contrast * np.sqrt(2 * np.sqrt(np.pi) * blur))


class Accuracy(unittest.TestCase):
    def test_position_at_every_angle(self) -> None:
        """Blur 0.9, contrast 60, noise 4: within the bound of one row of pixels, unbiased, nearly all of the edge covered."""
        bound = row_bound(60, 4, 0.9)
        errors, biases = [], []
        for number, angle in enumerate(np.arange(0, 360, 24.3)):
            offset = 0.37 * number % 1 - 0.5
            result = found(step(angle, offset, 60, 0.9, 4, seed=number))
            error = offsets_from_step(result, angle, offset, 121)
            near = np.abs(error) < 1.5
            errors.append(error[near])
            biases.append(abs(error[near].mean()))
            along = result.points["y"] * np.cos(np.radians(angle)) - result.points["x"] * np.sin(np.radians(angle))
            self.assertGreater(covered(along[near]), 0.99)
        self.assertLess(np.concatenate(errors).std() / bound, 1.0)
        self.assertLess(abs(np.concatenate(errors).mean()), 0.005)
        # One angle has some 130 points: its mean has a standard error of about 0.01.
        self.assertLess(max(biases), 0.03)

    def test_no_bias_without_noise(self) -> None:
        for angle in (0.0, 7.0, 22.5, 45.0, 71.0, 90.0, 133.0, 180.0, 261.0):
            result = found(step(angle, 0.31, 60, 0.9, 0.0))
            inner = [(result.points[c] > 5) & (result.points[c] < 115) for c in "xy"]
            error = offsets_from_step(result, angle, 0.31, 121)[inner[0] & inner[1]]
            self.assertLess(abs(error.mean()), 0.005, angle)
            self.assertLess(error.std(), 0.02, angle)

    def test_faint_edges_are_covered(self) -> None:
        """Contrast 12 at noise 4."""
        shares = []
        for number, angle in enumerate((3.0, 40.0, 77.0, 110.0, 150.0)):
            result = found(step(angle, 0.2, 12, 0.9, 4, seed=10 + number))
            error = offsets_from_step(result, angle, 0.2, 121)
            near = np.abs(error) < 2
            along = result.points["y"] * np.cos(np.radians(angle)) - result.points["x"] * np.sin(np.radians(angle))
            shares.append(covered(along[near]))
        self.assertGreater(np.mean(shares), 0.9)

    def test_direction_is_from_dark_to_bright(self) -> None:
        for angle in (0.0, 90.0, 200.0, 359.0):
            direction = found(step(angle, 0, 60, 0.9, 0.5)).points["direction"]
            turned = (direction - angle + 180) % 360 - 180
            self.assertLess(np.abs(turned[10:-10]).max(), 6.0)
            self.assertTrue((direction >= 0).all() and (direction < 360).all())

    def test_strength_is_that_of_the_blurred_step(self) -> None:
        expected = 60 / np.sqrt(2 * np.pi * (0.9**2 + 1.2**2))
        self.assertAlmostEqual(float(found(step(30, 0, 60, 0.9, 1)).findings["strength"][0]), expected, delta=0.03 * expected)


def covered(along: NDArray[Any]) -> float:
    """Share of the pixels along an edge (40 px to either side of the middle of 121) with a point within 1 px."""
    places = np.arange(-40, 41) + np.median(along)
    return float(np.mean([np.abs(along - p).min(initial=9) <= 1.0 for p in places]))


class FalseAlarms(unittest.TestCase):
    def test_noise_alone_has_no_chain(self) -> None:
        seen: dict[str, int] = {}
        for seed in range(12):
            for name, picture in noise_pictures(seed).items():
                seen[name] = seen.get(name, 0) + bool(len(found(picture).findings))
        # One in a hundred images is allowed: among 96, more than three would be a chance below 2 %.
        self.assertLessEqual(sum(seen.values()), 3, seen)
        self.assertLessEqual(max(seen.values()), 2, seen)

    def test_blank_and_smoothly_shaded_images_have_none(self) -> None:
        y, x = np.mgrid[0:200, 0:300].astype(float)
        for picture in (np.full((200, 300), 80.0), 60 + x / 8, 60 + x / 40 + y / 90, 128 + 60 * np.sin(x / 60) * np.cos(y / 50)):
            self.assertEqual(len(found(np.round(picture).astype(np.uint8)).findings), 0)

    def test_specks_are_no_edges(self) -> None:
        picture = 100 + np.random.default_rng(3).normal(0, 2, (300, 300))
        picture[10:290:31, 7:290:29] += 120
        self.assertEqual(len(found(picture.astype(np.float32)).findings), 0)
        self.assertEqual(len(found(picture[:100, :100].astype(np.float32)).findings), 0)

    def test_texture_is_its_own_background(self) -> None:
        """Ten times the noise on one side: the calm side's limit does not apply there."""
        picture = 120 + np.random.default_rng(5).normal(0, 1, (256, 384))
        picture[:, 192:] += np.random.default_rng(6).normal(0, 9, (256, 192))
        result = found(picture.astype(np.float32))
        inside = [(o[:, 0] > 230).all() for o in result.outlines]
        self.assertEqual(sum(inside), 0)

    def test_a_step_in_pictures_of_every_depth(self) -> None:
        base = step(20, 0, 60, 0.9, 2)
        cases = {
            "8 bit": Image.from_array(np.round(base).astype(np.uint8)),
            "12 of 16 bit": Image.from_array(np.round(base * 16).astype(np.uint16)),
            "float": Image.from_array(base / 255),
            "without noise": Image.from_array(np.round(step(20, 0, 60, 0.9, 0)).astype(np.uint8)),
            "float without noise": Image.from_array(step(20, 0, 60, 0.9, 0) / 255),
            "clipped": Image.from_array(np.clip(np.round(base * 3 - 300), 0, 255).astype(np.uint8)),
        }
        for name, image in cases.items():
            with self.subTest(name):
                self.assertEqual(len(detect("edges", image, {}).findings), 1)

    def test_long_and_faint_beats_short_and_faint(self) -> None:
        picture = 100 + np.random.default_rng(7).normal(0, 4, (200, 300))
        picture[100:, :] += 9
        result = found(picture.astype(np.float32))
        self.assertGreater(result.findings["length"].sum(), 200)
        self.assertTrue((np.abs(result.points["y"] - 99.5) < 4).mean() > 0.95)


class DensePatterns(unittest.TestCase):
    def test_a_chessboard_is_found_at_its_default_limits(self) -> None:
        y, x = np.mgrid[0:240, 0:240]
        for side in (20, 40):
            for noise in (0.0, 3.0):
                squares = 60.0 + 120 * ((x // side + y // side) % 2)
                picture = ndimage.gaussian_filter(squares, 0.9) + np.random.default_rng(2).normal(0, noise or 1e-9, x.shape)
                points = found(np.round(picture).astype(np.uint8)).points
                hit = np.zeros(x.shape, bool)
                hit[np.round(points["y"]).astype(int), np.round(points["x"]).astype(int)] = True
                near = ndimage.binary_dilation(hit, iterations=2)
                edge = (np.diff(squares, axis=0, prepend=squares[:1]) != 0) | (
                    np.diff(squares, axis=1, prepend=squares[:, :1]) != 0
                )
                self.assertGreater(near[edge].mean(), 0.9, (side, noise))

    def test_many_short_chains_make_no_nonsense(self) -> None:
        y, x = np.mgrid[0:400, 0:400]
        picture = ndimage.gaussian_filter(60.0 + 120 * ((x // 16 + y // 16) % 2), 0.9)
        task = found(np.round(picture).astype(np.uint8), sigma=0.5).task
        self.assertTrue(np.isfinite(task.candidates.columns["log_nfa"]).all())


class Hysteresis(unittest.TestCase):
    def test_exact_against_plain_labelling(self) -> None:
        picture = noise_pictures(8, 120, 150)["correlated"]
        image = Image.from_array(picture)
        low, high = 2.5, 6.0
        thin = found_thinned(image, low)
        labels, count = ndimage.label(thin >= low, np.ones((3, 3)))
        strongest = ndimage.maximum(thin, labels, np.arange(1, count + 1))
        expected = np.isin(labels, 1 + np.flatnonzero(strongest >= high))
        result = detect("edges", image, {"low": low, "high": high})
        edges = result.evidence["edges"].values.astype(bool)
        np.testing.assert_array_equal(edges, expected)
        self.assertEqual(len(result.points["x"]), expected.sum())

    def test_findings_do_not_depend_on_the_floor(self) -> None:
        """Gathered low and cut by forming, or gathered right there: the same."""
        image = Image.from_array(noise_pictures(9, 120, 150)["white"])
        detector = Edges()
        given, lower = (Edges.Parameters.make({"low": low, "high": 2.0}, "edges") for low in (1.1, 0.3))

        def found_from(floor: Any) -> Any:
            task = Task(detector, image, floor, parameters=floor)
            task = replace(task, gathered=detector.gather(task)).settled(given)
            candidates = detector.form(task).converted(detector.all_columns(), image)
            return conclude(replace(task, candidates=candidates), "e", 0.0)

        expected, again = found_from(given), found_from(lower)
        np.testing.assert_array_equal(expected.points["x"], again.points["x"])
        np.testing.assert_array_equal(expected.findings["length"], again.findings["length"])

    def test_only_low_given_keeps_the_acceptance_by_false_alarms(self) -> None:
        result = found(noise_pictures(2)["white"], low=0.8)
        self.assertEqual(len(result.findings), 0)
        self.assertEqual(result.resolved["low"], 0.8)
        self.assertIn("false_alarms", {limit.parameter for limit in result.task.judgement.limits})
        given = found(noise_pictures(2)["white"], low=0.8, high=2.5)
        self.assertNotIn("false_alarms", {limit.parameter for limit in given.task.judgement.limits})


def found_thinned(image: Image, low: float) -> NDArray[Any]:
    """Magnitude at every maximum, from a run with a lower limit."""
    return detect("edges", image, {"low": low / 2, "high": low / 2}).evidence["thinned"].values


class Chains(unittest.TestCase):
    def test_a_disc_is_one_closed_chain(self) -> None:
        for radius in (8.0, 20.0, 55.5):
            for noise in (0.0, 4.0):
                result = detect("edges", disc(radius, noise=noise), {})
                best = result.findings.row(int(np.argmin(result.findings["rank"])))
                self.assertEqual(best["closed"], 1)
                self.assertAlmostEqual(best["length"], 2 * np.pi * radius, delta=1.5 + 0.02 * radius)
                outline = result.outlines[int(np.argmin(result.findings["rank"]))]
                self.assertLess(np.abs(np.hypot(*(outline - 79.5).T) - radius).mean(), 0.15)

    def test_points_are_ordered_along_the_chain(self) -> None:
        result = detect("edges", disc(40.0, noise=3.0), {})
        outline = result.outlines[0]
        steps = np.hypot(*np.diff(outline, axis=0).T)
        self.assertLess(steps.max(), 2.3)
        turns = np.unwrap(np.arctan2(outline[:, 1] - 79.5, outline[:, 0] - 79.5))
        # The brighter side is on the left: around a bright disc, counter-clockwise on screen.
        self.assertAlmostEqual(float(turns[-1] - turns[0]), -2 * np.pi, delta=0.15)
        np.testing.assert_array_equal(result.points["place"], np.arange(len(outline)))
        self.assertEqual(set(result.points["chain"].tolist()), {1})

    def test_every_point_is_in_one_chain(self) -> None:
        task = found(noise_pictures(4)["correlated"], low=0.5, high=1.0).task
        order = task.candidates.detail.chains.order
        np.testing.assert_array_equal(np.sort(order), np.arange(len(task.candidates.detail.points)))

    def test_length_min_and_units(self) -> None:
        picture = np.full((200, 300), 80, np.uint8)
        picture[50:80, 40:70] = 160
        picture[120:180, 150:280] = 160
        self.assertEqual(len(found(picture).findings), 2)
        self.assertEqual(len(found(picture, length_min=200).findings), 1)
        self.assertEqual(len(found(picture, length_min="30%").findings), 2)
        self.assertEqual(len(found(picture, length_min="50%").findings), 1)
        near = next(iter(found(picture, length_min=200).near_misses.rows()))
        self.assertEqual((near["failed"], near["limit"]), ("length_min", 200.0))

    def test_without_subpixel_points_lie_on_pixel_centres(self) -> None:
        result = detect("edges", disc(20.0), {"subpixel": False})
        np.testing.assert_array_equal(result.points["x"], np.round(result.points["x"]))
        self.assertEqual(len(result.findings), 1)

    def test_an_edge_reaches_the_border(self) -> None:
        picture = np.full((60, 90), 60, np.uint8)
        picture[:, 44:] = 140
        y = found(picture).points["y"]
        self.assertEqual((y.min(), y.max()), (0.0, 59.0))

    def test_region(self) -> None:
        region = {"shape": "rectangle", "x": 79.5, "y": 40.0, "width": 200.0, "height": 79.0}
        result = detect("edges", disc(40.0), {"region": region})
        self.assertLess(result.points["y"].max(), 80.5)
        self.assertEqual(result.findings["closed"].tolist(), [0])

    def test_invalid_pixels_make_no_edge(self) -> None:
        picture = np.full((100, 100), 90, np.float32)
        picture[40:60, 40:60] = np.nan
        self.assertEqual(len(found(picture).findings), 0)
        alpha = np.full((100, 100, 4), 90, np.uint8)
        alpha[20:50, 20:50] = (250, 250, 250, 0)
        self.assertEqual(len(detect("edges", Image.from_array(alpha), {}).findings), 0)


class Evidence(unittest.TestCase):
    def test_on_demand_equals_the_fused_pass(self) -> None:
        image = disc(40.0, noise=3.0)
        result = detect("edges", image, {"operator": "scharr", "sigma": 1.0})
        magnitude, thinned = result.evidence["magnitude"].values, result.evidence["thinned"].values
        np.testing.assert_allclose(thinned[thinned > 0], magnitude[thinned > 0], atol=1e-4)
        gx, gy = gradient_planes(image.pixels, operator_kernels("scharr", 1.0))
        np.testing.assert_allclose(result.evidence["gradient_x"].values, gx, atol=1e-4)
        np.testing.assert_allclose(result.evidence["gradient_y"].values, gy, atol=1e-4)

    def test_a_part_equals_the_part_of_the_whole(self) -> None:
        result = detect("edges", disc(40.0, noise=3.0), {})
        for name, evidence in result.evidence.items():
            for box in ((0, 0, 20, 30), (37, 41, 90, 77), (150, 100, 160, 160)):
                with self.subTest(name, box=box):
                    left, top, right, bottom = box
                    part = evidence.part(*box)
                    np.testing.assert_allclose(part, evidence.values[top:bottom, left:right], atol=1e-4)
        self.assertEqual(result.evidence["magnitude"].part(500, 500, 600, 600).size, 0)
        self.assertEqual(result.evidence["magnitude"].reduced(4).shape, (40, 40))
        with self.assertRaisesRegex(ParameterError, 'no map "magnitud" .did you mean "magnitude"'):
            result.evidence["magnitud"]

    def test_above_is_the_unthinned_magnitude(self) -> None:
        result = detect("edges", disc(40.0), {"low": 5.0, "high": 8.0})
        above, magnitude = result.evidence["above"].values, result.evidence["magnitude"].values
        np.testing.assert_array_equal(above > 0, magnitude >= 5.0)
        self.assertGreater((above > 0).sum(), 2 * (result.evidence["thinned"].values > 0).sum())


class BadInput(unittest.TestCase):
    def test_tiny_and_odd_images(self) -> None:
        for shape in ((1, 1), (1, 50), (50, 1), (2, 2), (3, 1000)):
            for sigma in (0.0, 1.2, 20.0):
                with self.subTest(shape=shape, sigma=sigma):
                    picture = np.random.default_rng(0).integers(0, 255, shape).astype(np.uint8)
                    found(picture, sigma=sigma, low=0.1, high=0.2)

    def test_what_is_blocked_does_not_calm_the_background_beside_it(self) -> None:
        noise = np.random.default_rng(0).normal(120, 6, (400, 600)).astype(np.float32)
        image = Image.from_array(noise, value_range=(0, 255))
        whole = detect("edges", image, {}).resolved["background"]
        region = {"shape": "rectangle", "x": 480.0, "y": 200.0, "width": 200.0, "height": 380.0}
        part = detect("edges", image, {"region": region})
        self.assertAlmostEqual(part.resolved["background"] / whole, 1.0, delta=0.1)
        self.assertEqual(len(part.findings), 0)
        mask = np.ones((400, 600), bool)
        mask[:, :380] = False
        masked = detect("edges", Image.from_array(noise, value_range=(0, 255), mask=mask), {})
        self.assertAlmostEqual(masked.resolved["background"] / whole, 1.0, delta=0.1)

    def test_a_region_outside_is_an_empty_result(self) -> None:
        region = {"shape": "ellipse", "x": 900.0, "y": 900.0, "width": 10.0, "height": 10.0}
        self.assertEqual(len(detect("edges", disc(20.0), {"region": region}).findings), 0)


class Why(unittest.TestCase):
    def test_the_change_admits_what_it_promises(self) -> None:
        picture = 100 + np.random.default_rng(11).normal(0, 4, (200, 300))
        picture[80:100, 60:90] += 14
        image = Image.from_array(picture.astype(np.float32), value_range=(0, 255))
        result = detect("edges", image, {"false_alarms": 1e-60})
        answer = explain(result, (60.0, 90.0))
        near = answer.candidates[0]
        self.assertEqual(near.outcome, "failed")
        assert near.change is not None
        after = detect("edges", image, {"false_alarms": near.change.values["false_alarms"]})
        self.assertEqual(len(after.findings), len(result.findings) + near.change.gains - near.change.loses)
        self.assertIn("finding", explain(after, (near.x, near.y)).summary)

    def test_the_probe_says_why_nothing_was_gathered(self) -> None:
        result = detect("edges", disc(40.0, noise=3.0), {"low": 9.0, "high": 12.0})
        answer = explain(result, (20.0, 20.0))
        self.assertEqual(answer.candidates, ())
        self.assertRegex(answer.summary, r"strongest gradient within 3 px is [\d.]+ grey/px.*low threshold is 9.00")
        self.assertRegex(answer.summary, "^nothing is here")
        self.assertIsNone(answer.change)
        # On the rim something is.
        for _ in range(2):  # once more: a run is tried only where the first one was quick
            rim = explain(detect("edges", disc(40.0, 20.0, noise=1.0), {"low": 9.0, "high": 12.0}), (119.5, 79.5))
        assert rim.change is not None
        self.assertEqual(rim.change.values, {"low": None, "high": None})
        self.assertEqual((rim.change.gains, rim.change.loses), (1, 0))
        region = {"shape": "rectangle", "x": 100.0, "y": 80.0, "width": 60.0, "height": 60.0}
        outside = explain(detect("edges", disc(40.0), {"region": region}), (39.5, 79.5))
        self.assertIn("outside the region", outside.summary)
        with self.assertRaisesRegex(ParameterError, "outside the image"):
            explain(result, (500.0, 3.0))
