"""The face model is taught from nothing, little of it, and finds faces; what was taught is told on its card."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import numpy as np

from lucid_finch.core.numerics.windows.model import Model
from training.faces import empty, heads, painting, samples
from training.faces.__main__ import teach
from training.faces.amount import TOY
from training.faces.crowds import matched
from training.faces.finish import measured, near_faces


class Toy(unittest.TestCase):
    model: Model
    said: list[str]

    @classmethod
    def setUpClass(cls) -> None:
        with tempfile.TemporaryDirectory() as folder:
            cls.said = []
            cls.model = Model.read(teach(Path(folder), 5, TOY, say=cls.said.append).read_bytes(), "the toy")

    def test_its_card(self) -> None:
        self.assertEqual((len(self.model.trees), self.model.scanned), (TOY.plan.rounds[-1], TOY.scanned))
        card = self.model.card
        self.assertEqual((card["seed"], card["windows_with_faces"]), (5, 4 * TOY.heads))
        self.assertEqual(card["figures"]["pictures"], TOY.measured)
        self.assertGreater(card["figures"]["recall"][0], 0.5)
        self.assertTrue(any("False alarms" in text for text in self.said))

    def test_finds_faces_it_has_not_seen(self) -> None:
        random = np.random.default_rng(99)
        hits = false = 0
        for _ in range(12):
            pose = painting.Pose(float(random.uniform(-15, 15)), 2.0, float(random.uniform(-10, 10)), 8.0)
            picture, face = samples.portrait(painting.lit(heads.head(random)), random, 60.0, pose=pose)
            groups, looked = measured(picture, self.model)
            sure = self.model.probability(groups.score, groups.count, looked) > 0.3
            of_face, _ = matched([face], groups.x[sure], groups.y[sure], groups.side[sure])
            hits += int(of_face[0] >= 0)
            false += int((sure & ~near_faces(groups, [face])).sum())
        self.assertGreaterEqual(hits, 8)
        self.assertLessEqual(false, 6)


class Empty(unittest.TestCase):
    def test_every_kind(self) -> None:
        found = [empty.empty_picture(np.random.default_rng(seed)) for seed in range(14)]
        for picture in found:
            self.assertEqual((picture.shape, picture.dtype), ((empty.HEIGHT, empty.WIDTH, 3), np.uint8))
            self.assertGreater(picture.std(), 2)
        self.assertFalse(np.array_equal(found[0], found[1]))


if __name__ == "__main__":
    unittest.main()
