"""The trainer of windows and the painter of heads: a small model learns, and what is painted lies where it is said to."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.numerics.windows import detecting
from lucid_finch.core.numerics.windows.channels import CELL, COUNT, cells_of_views, planes
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import score_windows
from training.faces import heads, painting
from training.faces.crowds import crowd, matched
from training.faces.extract import read_mesh
from training.windows.searching import Picture, clear_of, random_windows
from training.windows.training import Plan, train

SIDE, INSIDE = 10, 14.0


def scene(random: np.random.Generator, rings: int) -> tuple[np.ndarray, np.ndarray]:
    """Noise with discs and squares, and rings of some sizes, which are the objects: x, y, diameter."""
    y, x = np.mgrid[:140, :180]
    picture = 110 + random.normal(0, 6, (140, 180))
    for _ in range(6):
        cx, cy, r = random.uniform(10, 170), random.uniform(10, 130), random.uniform(5, 11)
        shape = np.hypot(x - cx, y - cy) < r if random.random() < 0.5 else np.maximum(abs(x - cx), abs(y - cy)) < r
        picture[shape] += random.choice([-60, 60])
    objects = []
    for _ in range(rings):
        cx, cy, r = random.uniform(20, 160), random.uniform(20, 120), random.uniform(7, 12)
        picture[abs(np.hypot(x - cx, y - cy) - r) < 2.2] = 30 + random.normal(0, 6)
        objects.append((cx, cy, 2 * r))
    return np.clip(np.round(picture), 0, 255).astype(np.uint8), np.array(objects).reshape(-1, 3)


def ring_windows(random: np.random.Generator, count: int) -> np.ndarray:
    found = []
    while len(found) < count:
        picture, objects = scene(random, 1)
        cx, cy, side = objects[0]
        scale = min(INSIDE / side, 1.0)
        half = SIDE * CELL // 2 + 12
        left, top = ((w + 0.5) * scale - half + random.uniform(-0.7, 0.7) for w in (cx, cy))
        cells = cells_of_views([Octaves(planes(picture)).view(scale, left, top, 2 * half, 2 * half)])[0]
        found.append(cells[6 : 6 + SIDE, 6 : 6 + SIDE].ravel())
    return np.array(found)


class AnyObject(unittest.TestCase):
    def test_rings_are_learnt_and_found(self) -> None:
        random = np.random.default_rng(0)
        pictures = [Picture(scene(random, 0)[0]) for _ in range(16)]
        plan = Plan(rounds=(16, 48), begin_with=30, per_picture=40, smallest=14.0)
        said: list[str] = []
        trees = train(ring_windows(random, 160), pictures, SIDE, INSIDE, plan, 1, said.append)
        self.assertEqual((len(trees), len(said)), (48, 3))
        found = false = total = 0
        for seed in range(12):
            picture, objects = scene(np.random.default_rng((7, seed)), 2)
            at = detecting.scales((180, 140), SIDE * CELL, INSIDE, (14.0, 40.0))
            groups = detecting.joined(detecting.find(Octaves(planes(picture)), trees, INSIDE, at, 3.0))
            near = np.hypot(groups.x[:, None] - objects[:, 0], groups.y[:, None] - objects[:, 1]) < 5
            found, false, total = found + int(near.any(axis=0).sum()), false + int((~near.any(axis=1)).sum()), total + 2
        self.assertGreaterEqual(found / total, 0.8)
        self.assertLessEqual(false, 8)

    def test_the_same_seed_gives_the_same_trees(self) -> None:
        def once() -> np.ndarray:
            random = np.random.default_rng(3)
            pictures = [Picture(scene(random, 0)[0]) for _ in range(3)]
            return train(ring_windows(random, 20), pictures, SIDE, INSIDE, Plan(rounds=(6,), begin_with=10), 2, str).leaf

        np.testing.assert_array_equal(once(), once())

    def test_trees_tell_apart_what_they_learnt(self) -> None:
        random = np.random.default_rng(1)
        rings, others = ring_windows(random, 60), random_windows(Picture(scene(random, 0)[0]), SIDE, INSIDE, 14.0, 60, random)
        trees = train(rings, [Picture(scene(random, 0)[0])], SIDE, INSIDE, Plan(rounds=(24,), begin_with=60), 1, str)
        self.assertGreater(np.median(score_windows(rings, trees)), np.quantile(score_windows(others, trees), 0.95))

    def test_windows_on_objects_are_no_others(self) -> None:
        clear = clear_of(np.array([[50.0, 50.0, 20.0]]), np.array([50.0, 58.0, 90.0]), np.array([50.0, 50.0, 50.0]), 20.0)
        self.assertEqual(clear.tolist(), [False, False, True])


class Painter(unittest.TestCase):
    def test_the_box_is_from_hairline_to_chin(self) -> None:
        random = np.random.default_rng(2)
        head = heads.head(random)
        lit = painting.lit(head)
        for roll in (-25.0, 0.0, 25.0):
            _, cover, face = painting.paint(lit, painting.Pose(roll=roll, far=40.0), painting.light(random), 60.0, random)
            self.assertEqual(face.side, 60.0)
            self.assertAlmostEqual(face.angle, roll, delta=3.0)
            row, column = round(face.y), round(face.x)
            self.assertGreater(cover[row - 10 : row + 10, column - 10 : column + 10].min(), 0.99)
            self.assertGreater(cover.shape[0], 60)

    def test_light_from_the_left_leaves_the_right_darker(self) -> None:
        head = heads.head(np.random.default_rng(4))
        lit = painting.lit(head)
        sky = np.clip(-painting.WAYS[:, :1], 0, None) ** 4 * np.ones(3) * 8 + 0.05
        picture, _cover, face = painting.paint(lit, painting.Pose(), sky, 60.0, np.random.default_rng(0))
        row, column = round(face.y), round(face.x)
        left, right = (picture[row - 5 : row + 15, column + a : column + b].mean() for a, b in ((-18, -8), (8, 18)))
        self.assertGreater(left, 1.5 * right)

    def test_a_crowd_and_its_faces(self) -> None:
        picture, faces = crowd(np.random.default_rng(5), 4, (320, 240), (30.0, 50.0))
        self.assertEqual((picture.shape, picture.dtype), ((240, 320, 3), np.uint8))
        self.assertGreater(len(faces), 1)
        x, y, side = (np.array([getattr(f, n) for f in faces]) for n in ("x", "y", "side"))
        of_face, used = matched(faces, x, y, side)
        self.assertTrue(used.all())
        self.assertEqual(sorted(of_face.tolist()), list(range(len(faces))))
        self.assertEqual(matched(faces, x + 200, y, side)[1].sum(), 0)

    def test_the_material_is_whole(self) -> None:
        m = heads.material()
        self.assertGreater(len(m.targets), 200)
        self.assertTrue((m.triangles < len(m.places)).all())
        self.assertEqual(len(m.made_of), len(m.triangles))

    def test_a_mesh_is_read(self) -> None:
        places, texture, groups = read_mesh("v 1 2 3\nv 4 5 6\nv 7 8 9\nvt 0.5 0.25\ng skin\nf 1/1 2/1 3/1\n")
        self.assertEqual((places.shape, texture.tolist(), groups), ((3, 3), [[0.5, 0.25]], {"skin": [[(0, 0), (1, 0), (2, 0)]]}))
        self.assertEqual(COUNT, 10)


if __name__ == "__main__":
    unittest.main()
