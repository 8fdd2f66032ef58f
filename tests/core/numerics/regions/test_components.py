"""Parts, nesting and borders of binary images against plain definitions, on many small random ones."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.regions.borders import rings_of
from lucid_finch.core.numerics.regions.components import label_parts, parts_of, reconstructed
from lucid_finch.core.numerics.regions.iso_contours import MASKED, cross_level
from lucid_finch.core.numerics.regions.outlines import label_places, measure_outlines, simplified
from lucid_finch.core.numerics.regions.thresholding import Surface, histogram, otsu, pixel_noise, surface_through
from lucid_finch.core.numerics.runtime import threads

EIGHT = np.ones((3, 3), int)


def random_binaries(count: int) -> list[NDArray[np.uint8]]:
    random = np.random.default_rng(11)
    made = []
    for _ in range(count):
        height, width = random.integers(1, 26, 2)
        made.append((random.random((height, width)) < random.uniform(0.1, 0.9)).astype(np.uint8))
    return made


class Labelling(unittest.TestCase):
    def test_parts_are_those_of_a_flood_fill_with_moments_of_their_pixels(self) -> None:
        for binary in random_binaries(120):
            parts = label_parts(binary)
            front, fronts = ndimage.label(binary, EIGHT)
            back, backs = ndimage.label(np.pad(binary, 1) == 0)
            self.assertEqual(int(parts.foreground.sum()), fronts)
            self.assertEqual(len(parts) - int(parts.foreground.sum()), backs)
            for n in range(1, len(parts)):
                x, y = int(parts.x[n]), int(parts.y[n])
                mask = front == front[y, x] if parts.foreground[n] else (back == back[y + 1, x + 1])[1:-1, 1:-1]
                rows, columns = np.nonzero(mask)
                self.assertEqual(int(parts.area[n]), len(rows))
                self.assertEqual(
                    (parts.left[n], parts.top[n], parts.right[n], parts.bottom[n]),
                    (columns.min(), rows.min(), columns.max() + 1, rows.max() + 1),
                )
                told = (parts.cx[n], parts.cy[n], parts.xx[n], parts.yy[n], parts.xy[n])
                plain = (columns.mean(), rows.mean(), columns.var(), rows.var(), np.cov(columns, rows, bias=True)[0, 1])
                np.testing.assert_allclose(told, plain, atol=1e-9)

    def test_what_surrounds_a_part_is_met_on_every_way_out(self) -> None:
        for binary in random_binaries(60):
            parts = label_parts(binary)
            padded = np.pad(binary, 1)
            front, back = ndimage.label(padded, EIGHT)[0], ndimage.label(padded == 0)[0]
            for n in range(1, len(parts)):
                x, y = int(parts.x[n]) + 1, int(parts.y[n]) + 1
                own = front == front[y, x] if parts.foreground[n] else back == back[y, x]
                # Fill the part and all in it: what touches the filled part from outside is what surrounds it.
                filled = ndimage.binary_fill_holes(own, EIGHT if not parts.foreground[n] else None)
                ring = ndimage.binary_dilation(filled) & ~filled
                a, b = int(parts.around[n]), parts
                around = (
                    back == back[0, 0] if a == 0
                    else front == front[b.y[a] + 1, b.x[a] + 1] if b.foreground[a]
                    else back == back[b.y[a] + 1, b.x[a] + 1]
                )  # fmt: skip
                self.assertTrue(around[ring].all())

    def test_only_parts_with_a_seed_are_kept(self) -> None:
        random = np.random.default_rng(3)
        for binary in random_binaries(40):
            seeds = (binary & (random.random(binary.shape) < 0.05)).astype(np.uint8)
            label = ndimage.label(binary, EIGHT)[0]
            kept = np.isin(label, np.unique(label[seeds > 0])) & (binary > 0)
            np.testing.assert_array_equal(reconstructed(binary, seeds), kept)


class Following(unittest.TestCase):
    def test_borders_enclose_exactly_their_pixels(self) -> None:
        """Every crack is walked once, outlines clockwise, holes the other way; areas add up to the foreground."""
        for binary in random_binaries(80):
            rings = rings_of(binary)
            borders, parts = rings.borders, parts_of(rings)
            padded = np.pad(binary.astype(int), 1)
            cracks = np.abs(np.diff(padded, axis=0)).sum() + np.abs(np.diff(padded, axis=1)).sum()
            self.assertEqual(len(borders.codes), cracks)
            self.assertEqual(len(np.unique(borders.codes)), cracks)
            total = 0.0
            for n in range(len(borders)):
                codes = borders.codes[borders.start[n] : borders.start[n + 1]]
                step = np.array([[1, 0], [0, 1], [-1, 0], [0, -1]])[codes & 3]
                self.assertEqual(step.sum(axis=0).tolist(), [0, 0])
                x, y = np.cumsum(step, axis=0).T
                area = float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()) / 2
                self.assertEqual(area > 0, bool(parts.foreground[n + 1]))
                self.assertEqual(area > 0, not borders.hole[n])
                total += area
            self.assertEqual(total, binary.sum())

    def test_a_walk_keeps_to_the_cracks_with_foreground_on_its_right(self) -> None:
        """Each crack begins where the last one ended, with foreground on one side only."""
        for binary in random_binaries(60):
            padded = np.pad(binary, 1)
            borders = rings_of(binary).borders
            for n in range(len(borders)):
                codes = borders.codes[borders.start[n] : borders.start[n + 1]].astype(int)
                heading, x, y = codes & 3, (codes >> 2) % binary.shape[1], (codes >> 2) // binary.shape[1]
                self.assertTrue((padded[y + 1, x + 1] == 1).all())
                out_x, out_y = np.array([[0, -1], [1, 0], [0, 1], [-1, 0]])[heading].T
                self.assertTrue((padded[y + 1 + out_y, x + 1 + out_x] == 0).all())
                corner = np.stack([x, y], axis=1) + np.array([[0, 0], [1, 0], [1, 1], [0, 1]])[heading]
                ends = corner + np.array([[1, 0], [0, 1], [-1, 0], [0, -1]])[heading]
                np.testing.assert_array_equal(ends, np.roll(corner, -1, axis=0))

    def test_some_of_the_borders_lie_in_the_nearest_that_was_kept(self) -> None:
        nested = np.zeros((40, 40), np.uint8)
        for k in range(8):
            nested[2 * k + 1 : 39 - 2 * k, 2 * k + 1 : 39 - 2 * k] = 1 - k % 2
        borders = rings_of(nested).borders
        self.assertEqual(borders.around.tolist(), [-1, 0, 1, 2, 3, 4, 5, 6])
        kept = borders.only(np.array([0, 3, 4, 7]))
        self.assertEqual(kept.around.tolist(), [-1, 0, 1, 2])
        self.assertEqual(kept.hole.tolist(), [False, True, False, True])
        for n, of in enumerate((0, 3, 4, 7)):
            np.testing.assert_array_equal(kept.pixels(n), borders.pixels(of))

    def test_an_image_without_foreground_has_no_borders_and_one_full_of_it_has_one(self) -> None:
        self.assertEqual(len(rings_of(np.zeros((3, 9), np.uint8)).borders), 0)
        self.assertEqual(len(label_parts(np.zeros((3, 9), np.uint8))), 1)
        full = rings_of(np.ones((3, 9), np.uint8)).borders
        self.assertEqual((len(full), len(full.codes)), (1, 24))

    def test_pixels_of_a_square_and_its_corners(self) -> None:
        binary = np.zeros((14, 15), np.uint8)
        binary[2:12, 3:13] = 1
        borders = rings_of(binary).borders
        self.assertEqual(len(borders.pixels(0)), 36)
        self.assertEqual(sorted(map(tuple, borders.pixels(0, ends=True).tolist())), [(3, 2), (3, 11), (12, 2), (12, 11)])
        single = np.ones((1, 1), np.uint8)
        self.assertEqual(rings_of(single).borders.pixels(0).tolist(), [[0.0, 0.0]])

    def test_levels_are_crossed_between_pixels_and_half_a_pixel_from_what_is_not_looked_at(self) -> None:
        level = np.full((5, 7), -3.0, np.float32)
        level[1:4, 1:4] = 1.0
        level[:, 4] = MASKED
        binary = (level > 0).astype(np.uint8)
        borders = rings_of(binary).borders
        crossed = cross_level(level, None, borders)
        self.assertEqual((crossed.x.min(), crossed.x.max(), crossed.y.min(), crossed.y.max()), (0.75, 3.5, 0.75, 3.25))
        self.assertEqual(float(crossed.framed[0]), 0.25)

    def test_work_can_be_stopped(self) -> None:
        binary = random_binaries(1)[0]
        with self.assertRaises(Cancelled):
            rings_of(binary, cancelled=lambda: True)

    def test_the_same_for_any_number_of_threads(self) -> None:
        binary = (np.random.default_rng(2).random((400, 300)) < 0.6).astype(np.uint8)
        before = threads.thread_count()
        try:
            threads.set_thread_count(1)
            one = rings_of(binary).borders.codes
            threads.set_thread_count(3)
            np.testing.assert_array_equal(one, rings_of(binary).borders.codes)
        finally:
            threads.set_thread_count(before)


def measured(points: Any) -> dict[str, float]:
    x, y = (np.ascontiguousarray(c) for c in np.asarray(points, float).T)
    found = measure_outlines(x, y, np.array([0, len(x)]))
    return {name: float(values[0]) for name, values in found.items()}


class Measures(unittest.TestCase):
    def test_a_turned_rectangle_far_from_the_origin(self) -> None:
        turn, wide, high = np.radians(28.0), 60.0, 24.0
        corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * [wide / 2, high / 2]
        dense = np.concatenate([np.linspace(corners[i - 1], corners[i], 40, endpoint=False) for i in range(4)])
        m = measured(dense @ np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]]) + [5000.25, 3000.5])
        self.assertAlmostEqual(m["area"], wide * high, places=4)
        np.testing.assert_allclose([m["x"], m["y"]], [5000.25, 3000.5], atol=1e-6)
        np.testing.assert_allclose([m["box_width"], m["box_height"], m["angle"]], [wide, high, 28.0], atol=1e-6)
        self.assertAlmostEqual(m["hull_area"], wide * high, places=4)
        major = (m["xx"] + m["yy"]) / 2 + np.hypot((m["xx"] - m["yy"]) / 2, m["xy"])
        self.assertAlmostEqual(major, wide**2 / 12, places=4)
        self.assertAlmostEqual(m["perimeter"], 2 * (wide + high), delta=0.02 * 2 * (wide + high))

    def test_noise_along_a_circle_makes_it_hardly_longer(self) -> None:
        random = np.random.default_rng(4)
        turns = np.linspace(0, 2 * np.pi, 320, endpoint=False)
        for noise, most in ((0.0, 0.001), (0.15, 0.01)):
            reach = 40 + random.normal(0, noise, 320)
            m = measured(np.stack([reach * np.cos(turns), reach * np.sin(turns)], axis=1))
            self.assertAlmostEqual(m["perimeter"] / (80 * np.pi), 1.0, delta=most)
            self.assertAlmostEqual(m["jitter"], noise / np.sqrt(2), delta=0.03)

    def test_simplified_outlines_leave_no_place_further_off(self) -> None:
        random = np.random.default_rng(9)
        turns = np.linspace(0, 2 * np.pi, 400, endpoint=False)
        reach = 50 + 8 * np.cos(5 * turns) + random.normal(0, 0.2, 400)
        points = np.stack([reach * np.cos(turns), reach * np.sin(turns)], axis=1)
        corners = simplified(points, 1.5)
        self.assertLess(len(corners), 40)
        after = np.roll(corners, -1, axis=0)
        along = after - corners
        t = np.clip(((points[:, None] - corners) * along).sum(-1) / (along**2).sum(-1), 0, 1)
        off = np.hypot(*np.moveaxis(points[:, None] - corners - t[..., None] * along, -1, 0)).min(axis=1)
        self.assertLessEqual(off.max(), 1.5 + 1e-9)

    def test_labels_lie_in_the_ring_and_not_in_its_hole(self) -> None:
        turns = np.linspace(0, 2 * np.pi, 100, endpoint=False)
        ring = [np.stack([r * np.cos(turns), r * np.sin(turns)], axis=1) for r in (30.0, 18.0)]
        x, y = (np.ascontiguousarray(c) for c in np.concatenate(ring).T)
        places = label_places(x, y, np.array([0, 100, 200]), np.array([-1, 0]), np.zeros(2), np.zeros(2))
        self.assertGreater(float(np.hypot(*places[0])), 18)
        self.assertLess(float(np.hypot(*places[0])), 30)
        np.testing.assert_allclose(places[1], [0, 0])


class Levels(unittest.TestCase):
    def test_otsu_is_the_best_of_all_levels(self) -> None:
        random = np.random.default_rng(5)
        values = np.concatenate([random.normal(60, 12, 3000), random.normal(170, 20, 1500)]).clip(0, 255).round()
        for pixels in (values.astype(np.uint8).reshape(50, 90), values.astype(np.uint16).reshape(50, 90)):
            found = otsu(*histogram(pixels))
            flat = pixels.ravel().astype(float)
            parted = [(flat[flat <= t], flat[flat > t]) for t in (found.level, *(t + 0.5 for t in range(255)))]
            between = [len(a) * len(b) * (a.mean() - b.mean()) ** 2 if len(a) and len(b) else 0.0 for a, b in parted]
            self.assertGreaterEqual(between[0] * (1 + 1e-12), max(between[1:]))
        two = otsu(*histogram(np.array([[0, 255], [255, 0]], np.uint8)))
        self.assertEqual((two.level, two.share), (127.5, 1.0))
        flat = otsu(*histogram(np.full((4, 4), 7, np.uint8)))
        self.assertEqual(flat.share, 0.0)
        real = otsu(*histogram((values / 255).astype(np.float32).reshape(50, 90)))
        self.assertAlmostEqual(real.level, found.level / 255, delta=0.02)

    def test_blocked_pixels_do_not_count(self) -> None:
        pixels = np.arange(64, dtype=np.uint8).reshape(8, 8)
        blocked = np.zeros((8, 8), np.uint8)
        blocked[4:] = 1
        for dtype in (np.uint8, np.uint16, np.float32):
            self.assertEqual(int(histogram(pixels.astype(dtype), blocked)[0].sum()), 32)

    def test_a_level_through_places_is_theirs_nearby_and_bends_between(self) -> None:
        y, x = np.mgrid[0:160, 0:240].astype(np.float32)
        plane = 0.5 * x + 20
        random = np.random.default_rng(1)
        places = random.uniform(0, 1, (400, 2)) * [239, 159]
        surface = surface_through(plane, places[:, 0].astype(np.float32), places[:, 1].astype(np.float32), 0.0)
        off = surface.rows(0, 160, 240)[16:-16, 16:-16] - plane[16:-16, 16:-16]
        self.assertLess(float(np.abs(off).max()), 5.0)
        np.testing.assert_array_equal(surface.rows(40, 60, 240), surface.rows(0, 160, 240)[40:60])
        nowhere = surface_through(plane, np.empty(0, np.float32), np.empty(0, np.float32), 77.0)
        self.assertTrue((nowhere.rows(0, 160, 240) == 77).all())
        self.assertIsInstance(nowhere, Surface)
        self.assertEqual(y.shape, plane.shape)

    def test_noise_of_pixels(self) -> None:
        random = np.random.default_rng(8)
        self.assertAlmostEqual(pixel_noise((100 + random.normal(0, 5, (200, 300))).astype(np.float32)), 5.0, delta=0.2)
        self.assertEqual(pixel_noise(np.full((50, 50), 9, np.uint8)), 0.0)
        self.assertEqual(pixel_noise(np.zeros((5, 2), np.uint8)), 0.0)


if __name__ == "__main__":
    unittest.main()
