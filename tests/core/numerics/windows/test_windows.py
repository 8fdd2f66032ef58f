"""Channels, trees, the pyramid of sizes, joined hits, and the file of a model."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.numerics.windows import detecting
from lucid_finch.core.numerics.windows.channels import CELL, COUNT, cells_of, cells_of_views, planes
from lucid_finch.core.numerics.windows.model import Looked, Model
from lucid_finch.core.numerics.windows.network import outputs
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import Trees, score_windows, scores


def some_trees(count: int = 90, side: int = 8, seed: int = 0, reject: float = -1e8) -> Trees:
    random = np.random.default_rng(seed)
    return Trees(
        side, random.integers(0, side * side * COUNT, (count, 7)).astype(np.uint16),
        random.integers(0, 255, (count, 7)).astype(np.uint8), random.normal(0, 0.3, (count, 8)).astype(np.float32),
        np.full(count, reject, np.float32),
    )  # fmt: skip


def some_network(side: int = 8) -> dict[str, np.ndarray]:
    random = np.random.default_rng(1)
    shapes = ((24, COUNT, 3, 3), (32, 24, 3, 3), (48, 32, 3, 3), (24, 48 * (side // 4) ** 2), (1, 24))
    made = {}
    for layer, shape in zip(("one", "two", "three", "four", "five"), shapes, strict=True):
        made[f"{layer}_weight"] = random.normal(0, 0.1, shape).astype(np.float32)
        made[f"{layer}_bias"] = random.normal(0, 0.1, shape[0]).astype(np.float32)
    return made


def picture(height: int = 90, width: int = 120, seed: int = 0) -> np.ndarray:
    return np.random.default_rng(seed).integers(0, 255, (height, width, 3)).astype(np.uint8)


class Channels(unittest.TestCase):
    def test_of_colour_grey_and_deep_pictures(self) -> None:
        cells = cells_of(planes(picture()))
        self.assertEqual((cells.shape, cells.dtype), ((45, 60, COUNT), np.uint8))
        grey = cells_of(planes(picture()[..., 0]))
        self.assertEqual((int(grey[..., 8].min()), int(grey[..., 9].max())), (128, 128))
        deep = cells_of(planes(picture()[..., 0].astype(np.uint16) * 16, 0.0, 4080.0))
        self.assertLessEqual(int(np.abs(deep.astype(int) - grey).max()), 1)

    def test_an_edge_falls_into_its_orientation(self) -> None:
        y, x = np.mgrid[:80, :80] - 39.5
        for sixth in range(6):
            turn = np.radians(30 * sixth)
            step = 100 + 40 * np.tanh((x * np.cos(turn) + y * np.sin(turn)) / 1.5)
            cells = cells_of(planes(step.astype(np.float32)))
            self.assertEqual(int(np.argmax(cells[18:22, 18:22, 1:7].sum(axis=(0, 1), dtype=int))), sixth)

    def test_light_and_contrast_matter_little(self) -> None:
        scene = 40 + 0.6 * picture().astype(np.float32)
        one, other = (cells_of(planes(v)).astype(int)[..., :8] for v in (scene, 0.5 * scene + 20))
        self.assertLess(np.abs(one - other).mean(), 4.0)

    def test_as_written_out(self) -> None:
        # Taller than a band, and of odd sizes.
        scene = picture(301, 75)
        luma, red, blue = (plane[:300, :74].astype(float) for plane in planes(scene))

        def sums(values: np.ndarray) -> np.ndarray:
            return np.asarray(values.reshape(150, 2, 37, 2).sum(axis=(1, 3)))

        def around(values: np.ndarray) -> np.ndarray:
            rows = [values[max(r - 5, 0) : r + 6] for r in range(150)]
            return np.array([[part[:, max(c - 5, 0) : c + 6].sum() / (4 * part[:, max(c - 5, 0) : c + 6].size)
                              for c in range(37)] for part in rows])  # fmt: skip

        wide = np.pad(planes(scene)[0].astype(float)[:301, :74], 1, mode="edge")
        gx, gy = 0.5 * (wide[1:-1, 2:] - wide[1:-1, :-2])[:300], 0.5 * (wide[2:] - wide[:-2])[:300, 1:-1]
        size = np.hypot(gx, gy)
        slope = around(sums(size)) + 1.5
        mean, square = around(sums(luma)), around(sums(luma**2))
        wanted = [16 * sums(size) / slope]
        narrow = np.cos(np.pi / 6)
        for k in range(6):
            along = np.abs(gx * np.cos(k * np.pi / 6) + gy * np.sin(k * np.pi / 6))
            wanted.append(24 * sums(np.maximum(along - narrow * size, 0)) / (1 - narrow) / slope)
        wanted.append(128 + 42 * (sums(luma) / 4 - mean) / (np.sqrt(square - mean**2) + 3))
        wanted += [128 + 80 * sums(plane) for plane in (red, blue)]
        # The last column of an odd width is left out, but a gradient may see it.
        inner = np.stack(wanted, axis=-1)[:, :36].clip(0, 255)
        self.assertLess(np.abs(cells_of(planes(scene))[:, :36].astype(int) - inner).max(), 1.1)


class Scores(unittest.TestCase):
    def test_of_every_window_as_of_each_by_itself(self) -> None:
        cells, trees = cells_of(planes(picture())), some_trees()
        found = scores([cells], trees)[0]
        self.assertEqual(found.shape, (38, 53))
        for row, column in ((0, 0), (37, 52), (11, 29)):
            window = cells[row : row + 8, column : column + 8].reshape(1, -1)
            self.assertAlmostEqual(float(found[row, column]), float(score_windows(window, trees)[0]), places=4)

    def test_given_up_where_the_sum_falls_too_low(self) -> None:
        cells = cells_of(planes(picture()))
        whole, early = (scores([cells], trees)[0] for trees in (some_trees(), some_trees(reject=-1.5)))
        kept = early > -1e8
        self.assertTrue(0.02 < kept.mean() < 0.98)
        np.testing.assert_allclose(early[kept], whole[kept], rtol=1e-5)

    def test_smaller_than_a_window(self) -> None:
        self.assertEqual(scores([cells_of(planes(picture(10, 12)))], some_trees())[0].size, 0)


class Sizes(unittest.TestCase):
    def test_a_place_of_a_level_is_that_of_the_picture(self) -> None:
        scene = np.full((200, 260, 3), 20, np.uint8)
        scene[118:126, 150:158, 0] = 45
        octaves = Octaves(planes(scene))
        for scale in (1.0, 0.7, 0.5, 0.31, 0.2):
            view = octaves.view(scale, -12, -12, int(260 * scale) + 24, int(200 * scale) + 24)
            red = cells_of_views([view])[0][..., 8].astype(float) - 128
            y, x = 2 * np.mgrid[: red.shape[0], : red.shape[1]] + 0.5
            column, row = (float((w * red).sum() / red.sum()) - 12 for w in (x, y))
            self.assertAlmostEqual((column + 0.5) / scale - 0.5, 153.5, delta=0.25 / scale)
            self.assertAlmostEqual((row + 0.5) / scale - 0.5, 121.5, delta=0.25 / scale)

    def test_the_middle_of_a_window(self) -> None:
        x, y = detecting.place(6, 6, 4, 1.0)
        # Two cells to each side of the corner of the picture's third and fourth pixels.
        self.assertEqual((float(x), float(y)), (3.5, 3.5))

    def test_which_sizes_are_searched(self) -> None:
        found = detecting.scales((640, 480), 40.0, 32.0, (40.0, 160.0))
        sides = 32.0 / np.array(found)
        self.assertAlmostEqual(sides[0], 40.0)
        self.assertLess(abs(sides[-1] / 160 - 1), 0.1)
        np.testing.assert_allclose(sides[1:] / sides[:-1], 2**0.25)
        self.assertEqual(detecting.scales((640, 480), 40.0, 32.0, (5000.0, 9000.0)), [])
        self.assertGreater(len(detecting.scales((30, 30), 40.0, 32.0, (24.0, float("inf")))), 0)


class Networks(unittest.TestCase):
    def test_sums_written_out(self) -> None:
        arrays = some_network()
        windows = np.random.default_rng(3).integers(0, 255, (3, 8 * 8 * COUNT)).astype(np.uint8)
        x = windows[1].reshape(8, 8, COUNT).astype(float) / 128 - 1
        for name in ("one", "two", "three"):
            weight, bias = arrays[f"{name}_weight"].astype(float), arrays[f"{name}_bias"].astype(float)
            wide = np.pad(x, ((1, 1), (1, 1), (0, 0)))
            rows, columns = x.shape[:2]
            made = np.zeros((rows, columns, len(bias)))
            for r in range(rows):
                for c in range(columns):
                    patch = wide[r : r + 3, c : c + 3].transpose(2, 0, 1)
                    made[r, c] = np.maximum((weight * patch).sum(axis=(1, 2, 3)) + bias, 0)
            x = made
            if name != "three":
                x = np.maximum(np.maximum(x[::2, ::2], x[1::2, ::2]), np.maximum(x[::2, 1::2], x[1::2, 1::2]))
        hidden = np.maximum(arrays["four_weight"] @ x.transpose(2, 0, 1).ravel() + arrays["four_bias"], 0)
        wanted = float((arrays["five_weight"] @ hidden + arrays["five_bias"])[0])
        self.assertAlmostEqual(float(outputs(windows, 8, arrays)[1]), wanted, places=4)
        self.assertEqual(outputs(windows[:0], 8, arrays).shape, (0,))


class Joining(unittest.TestCase):
    def test_hits_of_one_object_are_one(self) -> None:
        random = np.random.default_rng(0)
        x = np.concatenate([random.normal(100, 2, 20), random.normal(160, 2, 9), [400.0]])
        y = np.concatenate([random.normal(80, 2, 20), random.normal(80, 2, 9), [300.0]])
        side = np.concatenate([random.normal(40, 2, 29), [200.0]])
        groups = detecting.joined(detecting.Hits(x, y, side, random.uniform(1, 5, 30)))
        self.assertEqual(sorted(groups.count.tolist()), [1, 9, 20])
        largest = int(np.argmax(groups.count))
        self.assertAlmostEqual(float(groups.x[largest]), 100.0, delta=1.5)
        self.assertAlmostEqual(float(groups.side[largest]), 40.0, delta=1.5)

    def test_none(self) -> None:
        nothing = np.empty(0)
        self.assertEqual(len(detecting.joined(detecting.Hits(nothing, nothing, nothing, nothing)).x), 0)


class Files(unittest.TestCase):
    def setUp(self) -> None:
        lean = np.zeros(8 * 8 * COUNT + 1, np.float32)
        self.model = Model(some_trees(), 12.0, some_network(), np.array([-1.0, 0.5, 0.25, 0.1, 0.1]), lean, {"seed": 1}, 20)

    def test_written_and_read(self) -> None:
        again = Model.read(self.model.written(), "model")
        np.testing.assert_array_equal(again.trees.feature, self.model.trees.feature)
        np.testing.assert_allclose(again.trees.leaf, self.model.trees.leaf, atol=1e-3)
        self.assertEqual((again.card["seed"], again.inside, CELL), (1, 12.0, 2))
        chance = again.probability(np.array([-9.0, 2.0, 40.0]), np.array([1, 1, 5]), Looked(*np.zeros((3, 3))))
        self.assertTrue(0 < chance[0] < chance[1] < chance[2] <= 1)

    def test_damaged(self) -> None:
        data = self.model.written()
        for broken in (b"", b"nothing", data[: len(data) // 2]):
            with self.assertRaisesRegex(ParameterError, "model: is damaged.*install"):
                Model.read(broken, "model")
        wild = some_trees()
        wild.feature[0, 0] = 60_000
        with self.assertRaisesRegex(ParameterError, "do not fit together"):
            Model.read(Model(wild, 12.0, self.model.network, self.model.law, self.model.lean, {}, 20).written(), "model")


if __name__ == "__main__":
    unittest.main()
