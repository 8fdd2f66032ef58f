"""The correlation map against sums written out, and what alignment reports of itself."""

from __future__ import annotations

import math
import unittest

import numpy as np

from lucid_finch.core.numerics.matching.alignment import Window, align, sampled
from lucid_finch.core.numerics.matching.approaching import Frame, approach
from lucid_finch.core.numerics.matching.chance import look_alikes
from lucid_finch.core.numerics.matching.correlation import Pattern, correlation_map
from lucid_finch.core.numerics.matching.search import best_responses, local_maxima
from lucid_finch.core.numerics.matching.views import locally_normalised, noise_of, template_view
from lucid_finch.core.numerics.matching.visibility import Measured, Part, measured
from tests.support import noise_pictures


def written_out(picture: np.ndarray, pattern: Pattern, y: int, x: int) -> float:
    """The correlation of one window."""
    height, width = pattern.values.shape
    part = picture[y : y + height, x : x + width].astype(float)[pattern.mask]
    part = part - part.mean()
    return float(part @ pattern.values[pattern.mask]) / max(float(np.sqrt(part @ part)) * pattern.norm, 1e-300)


class Map(unittest.TestCase):
    def setUp(self) -> None:
        self.random = np.random.default_rng(3)
        self.picture = next(iter(noise_pictures(1, 300, 420).values())).astype(np.float32)
        self.picture[100:200, 150:300] += 60

    def test_every_size_with_and_without_mask(self) -> None:
        for height, width in ((3, 4), (16, 16), (40, 64), (150, 90)):
            part = self.picture[60 : 60 + height, 120 : 120 + width]
            y, x = np.mgrid[-1 : 1 : height * 1j, -1 : 1 : width * 1j]
            for mask in (None, np.hypot(x, y) < 1.05):
                pattern = Pattern.of(part, mask)
                found = correlation_map(self.picture, pattern, 1.0, 255.0)
                self.assertEqual(found.shape, (300 - height + 1, 420 - width + 1))
                self.assertAlmostEqual(float(found[60, 120]), 1.0, places=5)
                for row, column in self.random.integers(0, found.shape, (40, 2)):
                    expected = written_out(self.picture, pattern, row, column)
                    self.assertAlmostEqual(float(found[row, column]), expected, delta=1e-5)

    def test_flat_windows_give_zero_and_reversed_ones_minus_one(self) -> None:
        picture = np.full((80, 90), 100, np.float32)
        part = self.random.integers(0, 200, (12, 12)).astype(np.float32)
        picture[20:32, 30:42], picture[50:62, 60:72] = part, 255 - part
        found = correlation_map(picture, Pattern.of(part), 1.0, 255.0)
        self.assertEqual(float(found[0, 0]), 0.0)
        self.assertAlmostEqual(float(found[20, 30]), 1.0, places=6)
        self.assertAlmostEqual(float(found[50, 60]), -1.0, places=6)
        self.assertTrue(np.isfinite(found).all())

    def test_a_window_of_one_grey_level_beside_strong_contrast(self) -> None:
        picture = np.full((300, 300), 50, np.float32)
        picture[:, 150:] = self.random.integers(0, 255, (300, 150))
        picture[100, 60] = 51
        part = self.picture[10:42, 10:42]
        pattern = Pattern.of(part)
        found = correlation_map(picture, pattern, 1.0, 255.0)
        for row, column in ((80, 40), (90, 50), (99, 59)):
            self.assertAlmostEqual(float(found[row, column]), written_out(picture, pattern, row, column), delta=1e-5)


class Search(unittest.TestCase):
    def test_the_best_of_several_kernels_at_its_place(self) -> None:
        plane = np.zeros((150, 200), np.float32)
        kernels = [np.random.default_rng(k).normal(size=(9, 9)).astype(np.float32) for k in range(3)]
        plane[40:49, 60:69], plane[100:109, 150:159] = kernels[1], -kernels[2]
        found = best_responses(plane, [kernels], False, None)[0]
        self.assertEqual((found.which[44, 64], np.argmax(found.best)), (1, 44 * 200 + 64))
        either = best_responses(plane, [kernels], True, None)[0]
        self.assertEqual(either.which[104, 154], 2)
        rows, _, more = local_maxima(either.best, 30.0, 1)
        self.assertEqual((len(rows), more), (1, 1))

    def test_a_basis_of_few_patterns_stands_for_many_poses(self) -> None:
        random = np.random.default_rng(3)
        bumps = [np.exp(-0.5 * ((np.arange(15) - 7 - shift) / 1.5) ** 2) for shift in np.linspace(-2, 2, 20)]
        kernels = [np.outer(bump, bump).astype(np.float32) for bump in bumps]
        kernels = [kernel / np.linalg.norm(kernel) for kernel in kernels]
        plane = random.normal(0, 0.01, (160, 190)).astype(np.float32)
        plane[30:45, 50:65], plane[90:105, 120:135] = kernels[2], kernels[18]
        groups = best_responses(plane, [kernels[:10], kernels[10:]], False, None)
        self.assertLess(abs(int(groups[0].which[37, 57]) - 2), 3)
        self.assertLess(abs(int(groups[1].which[97, 127]) - 8), 3)
        for group, place in ((0, (37, 57)), (1, (97, 127))):
            self.assertAlmostEqual(float(groups[group].best[place]), 1.0, delta=0.15)

    def test_equal_neighbours_are_one_peak(self) -> None:
        plane = np.zeros((9, 9), np.float32)
        plane[3:5, 3:6] = 1
        rows, columns, _ = local_maxima(plane, 0.5, 10)
        self.assertEqual((rows.tolist(), columns.tolist()), ([3], [3]))


class Alignment(unittest.TestCase):
    def test_a_known_pose_is_reached(self) -> None:
        y, x = np.mgrid[:200, :240].astype(float)
        texture = sum(30 * np.sin(x / (3 + k) + k) * np.cos(y / (4 + k) - k) for k in range(4))
        level = (texture + np.random.default_rng(2).normal(0, 1, texture.shape) + 120).astype(np.float32)
        py, px = (a.ravel().astype(float) - 15 for a in np.mgrid[:31, :31])
        truth = np.array([[120.3, 90.7, math.radians(12.0), 1.1]])
        template = sampled(level, (1.0, 1.0), (px, py), truth)[0]
        grid = template.reshape(31, 31).astype(float)
        slopes = np.stack([np.gradient(grid, axis=1).ravel(), np.gradient(grid, axis=0).ravel()])
        start = truth + np.array([0.8, -0.7, math.radians(1.5), 0.02])
        window = Window.around(level, 120.0, 90.0, 60.0)
        found = align(window, (px, py), 2.0 * template + 7, 2.0 * slopes, start, (True, True), 15, 9.0)
        self.assertLess(np.hypot(*(found.poses[0, :2] - truth[0, :2])), 0.02)
        self.assertAlmostEqual(math.degrees(found.poses[0, 2]), 12.0, delta=0.05)
        self.assertAlmostEqual(found.poses[0, 3], 1.1, delta=0.001)
        self.assertAlmostEqual(found.gain[0], 0.5, delta=0.01)
        self.assertGreater(found.plain[0], 0.999)

    def test_a_pose_that_leads_nowhere_stays_the_best_it_was(self) -> None:
        level = np.random.default_rng(5).normal(size=(60, 60)).astype(np.float32)
        level[:30] = np.nan
        py, px = (a.ravel().astype(float) - 5 for a in np.mgrid[:11, :11])
        template = np.random.default_rng(6).normal(size=121)
        poses = np.array([[30.0, 45.0, 0.0, 1.0], [30.0, 10.0, 0.0, 1.0], [-500.0, 9.0, 0.0, 1.0]])
        window = Window.around(level, 30.0, 30.0, 100.0)
        found = align(window, (px, py), template, np.ones((2, 121)), poses, (True, True), 8, 3.0)
        self.assertTrue(np.isfinite(found.poses).all())
        self.assertEqual(found.inside.tolist()[1:], [0.0, 0.0])


class Approach(unittest.TestCase):
    def setUp(self) -> None:
        y, x = np.mgrid[:200, :240].astype(float)
        texture = sum(30 * np.sin(x / (3 + k) + k) * np.cos(y / (4 + k) - k) for k in range(4))
        self.level = (texture + np.random.default_rng(2).normal(0, 1, texture.shape)).astype(np.float32)
        self.places = tuple(a.ravel().astype(float) - 15 for a in np.mgrid[:31, :31])[::-1]
        self.truth = np.array([[120.3, 90.7, math.radians(12.0), 1.1]])
        self.template = sampled(self.level, (1.0, 1.0), self.places, self.truth)[0].astype(float)
        grid = self.template.reshape(31, 31)
        self.slopes = np.stack([np.gradient(grid, axis=1).ravel(), np.gradient(grid, axis=0).ravel()])

    def moved(self, start: np.ndarray, free: tuple[bool, bool] = (True, True), sign: float = 1.0) -> tuple[np.ndarray, float]:
        given = Frame((1.0, 1.0), 0.0, 0.0), self.places, 2.0 * sign * self.template + 7, 2.0 * sign * self.slopes
        poses, correlation = approach(self.level, *given, start, free, 12, 9.0)
        return poses[0], float(correlation[0])

    def test_a_known_pose_is_reached(self) -> None:
        start = self.truth + np.array([0.8, -0.7, math.radians(1.5), 0.02])
        for sign in (1.0, -1.0):
            pose, correlation = self.moved(start, sign=sign)
            self.assertLess(np.hypot(*(pose[:2] - self.truth[0, :2])), 0.06)
            self.assertAlmostEqual(math.degrees(pose[2]), 12.0, delta=0.15)
            self.assertAlmostEqual(pose[3], 1.1, delta=0.004)
            self.assertGreater(sign * correlation, 0.99)

    def test_what_is_not_free_stays(self) -> None:
        start = self.truth + np.array([0.8, -0.7, 0.0, 0.0])
        pose, _ = self.moved(start, (False, False))
        self.assertEqual(pose[2:].tolist(), start[0, 2:].tolist())
        self.assertLess(np.hypot(*(pose[:2] - self.truth[0, :2])), 0.06)

    def test_a_pose_beyond_the_level_or_on_a_hole_is_left_alone(self) -> None:
        start = np.array([[5.0, 90.0, 0.0, 1.0]])
        pose, correlation = self.moved(start)
        self.assertEqual(pose.tolist(), start[0].tolist())
        self.assertTrue(math.isnan(correlation))
        self.level[95, 118] = np.nan
        self.assertTrue(math.isnan(self.moved(self.truth)[1]))


class Visibility(unittest.TestCase):
    def setUp(self) -> None:
        self.random = np.random.default_rng(8)
        y, x = np.mgrid[:64, :64].astype(float)
        self.pixels = (120 + 40 * np.sin(x / 3) * np.cos(y / 4) + 20 * np.sin(x * y / 150)).astype(np.float32)
        view = template_view(self.pixels, np.ones((64, 64), bool), 1.0, 1.0)
        self.part = Part(view, 1.0)

    def seen(self, values: np.ndarray, noise: float) -> Measured:
        seen = (values + self.random.normal(0, noise, values.shape)).astype(np.float32)
        local = locally_normalised(seen, 1.0)
        return measured(self.part, seen.ravel(), local.ravel(), max(noise, 0.3), False)

    def test_all_of_it(self) -> None:
        found = self.seen(0.7 * self.pixels + 20, 2.0)
        self.assertEqual(float(found.shown.mean()), 1.0)
        self.assertGreater(found.score, 0.97)

    def test_a_hidden_part_is_told_apart_whatever_its_brightness(self) -> None:
        for level in (20.0, 120.0, 250.0):
            values = self.pixels.copy()
            values[:, 48:] = level
            found = self.seen(values, 4.0)
            self.assertAlmostEqual(float(found.shown.mean()), 0.75, delta=0.07)
            self.assertGreater(found.score, 0.66)
            self.assertLess(float(found.shown.reshape(64, 64)[:, 52:].mean()), 0.1)

    def test_flat_parts_count_by_their_grey_levels(self) -> None:
        self.pixels[:, :40] = 120
        self.part = Part(template_view(self.pixels, np.ones((64, 64), bool), 1.0, 1.0), 1.0)
        self.assertEqual(float(self.seen(self.pixels, 2.0).shown.mean()), 1.0)
        values = self.pixels.copy()
        values[:24, :24] = 200
        self.assertAlmostEqual(float(self.seen(values, 2.0).shown.mean()), 1 - 24 * 24 / 64**2, delta=0.06)


class LookAlikes(unittest.TestCase):
    def test_what_stands_out_does_not_widen_chance(self) -> None:
        chance = np.sort(np.abs(np.random.default_rng(1).normal(0, 0.05, 20_000)))[::-1][:200]
        alone = look_alikes(chance, 4.3)
        self.assertAlmostEqual(alone, 1.2 * 0.05, delta=0.01)
        with_matches = np.concatenate([np.full(30, 0.8), chance])
        self.assertAlmostEqual(look_alikes(with_matches, 4.3), alone, delta=0.006)

    def test_edges_that_agree_with_edges(self) -> None:
        """Agreements that fall off slowly are no gap."""
        spread = look_alikes(np.linspace(0.95, 0.3, 200), 7.0)
        self.assertGreater(spread * 6.0, 0.95)


class Views(unittest.TestCase):
    def test_noise_and_light(self) -> None:
        random = np.random.default_rng(1)
        y, x = np.mgrid[:200, :300].astype(np.float32)
        plane = (0.3 * x + random.normal(0, 4, x.shape)).astype(np.float32)
        self.assertAlmostEqual(noise_of(plane), 4.0, delta=0.3)
        pattern = 20 * np.sin(x / 2) * np.sin(y / 2)
        first, second = (
            locally_normalised((a + b * pattern).astype(np.float32), 0.1) for a, b in ((0.2 * x, 1.0), (90 - 0.1 * y, 2.5))
        )
        self.assertLess(float(np.abs(first - second)[10:-10, 10:-10].max()), 0.1)

    def test_a_view_keeps_its_places(self) -> None:
        pixels = np.zeros((40, 60), np.float32)
        view = template_view(pixels, np.ones((40, 60), bool), 2.5, 1.0)
        px, py = view.places((29.5, 19.5))
        self.assertAlmostEqual(float(px.mean()), 0.0, places=9)
        self.assertAlmostEqual(float(py.mean()), 0.0, places=9)
        self.assertAlmostEqual(float(px.max() - px.min()), 60 - view.pitch[0], places=6)


if __name__ == "__main__":
    unittest.main()
