"""Hostile input: tiny and huge values, tiny images, degenerate parameters. Nothing crashes, warns or runs for ever."""

from __future__ import annotations

import io
import os
import pickle
import unittest
import warnings
from collections.abc import Iterator
from typing import Any
from unittest import mock
from xml.dom import minidom

import numpy as np
from PIL import Image as Pillow

import lucid_finch as lf
from benchmarks.examples import needed, recipe_of_all
from lucid_finch.core.detectors import KINDS, circles
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.image import LARGEST
from lucid_finch.core.recipe import Recipe
from lucid_finch.files.findings import svg_overlay
from tests.support import disc, noise_pictures


def tiny_images() -> Iterator[Any]:
    """Of every pixel type, with NaN and infinite values, down to one pixel."""
    for height, width in ((1, 1), (1, 2), (2, 1), (2, 2), (3, 3), (4, 3), (3, 4), (1, 60), (60, 1), (6, 31), (7, 90), (16, 16)):
        random = np.random.default_rng(16)
        plane = random.random((height, width))
        yield plane
        yield (255 * plane).astype(np.uint8)
        yield (65535 * plane).astype(np.uint16)
        yield np.zeros((height, width), np.uint8)
        yield np.where(random.random((height, width)) < 0.3, np.nan, plane)
        yield 1e14 * plane


class Tiny(unittest.TestCase):
    def test_every_kind_on_every_tiny_image(self) -> None:
        runs = 0
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            for pixels in tiny_images():
                try:
                    image = lf.Image.from_array(pixels)
                except lf.ParameterError:
                    # All of it is NaN.
                    continue
                for kind in KINDS:
                    try:
                        found = lf.detect(kind, image, **needed(kind))
                    except lf.ParameterError as error:
                        self.assertRegex(str(error), "at least 2 px|larger than the image")
                        continue
                    _ = found.near_misses["failed"], [evidence.values for evidence in found.evidence.values()]
                    lf.explain(found, at=(image.width // 2, image.height // 2))
                    runs += 1
        self.assertGreater(runs, 400)


class Values(unittest.TestCase):
    def test_values_that_cannot_be_squared_are_refused(self) -> None:
        with self.assertRaisesRegex(lf.ParameterError, "scale them"):
            lf.Image.from_array(np.full((4, 4), 10 * LARGEST, np.float32))

    def test_floats_of_bytes_have_the_range_of_their_data(self) -> None:
        pixels = disc(30.0, noise=2.0).pixels
        image = lf.Image.from_array(pixels.astype(float))
        self.assertEqual((image.black, image.white, image.quantum), (float(pixels.min()), float(pixels.max()), 1.0))
        self.assertIn("taken with this value range", image.notes[0])
        found = lf.detect("circles", image).findings
        self.assertEqual(len(found), 1)
        self.assertLess(found["contrast_pct"][0], 101)
        self.assertEqual(lf.Image.from_array(pixels / 255.0).notes, ())
        given = lf.Image.from_array(pixels.astype(float), value_range=(0, 255))
        self.assertEqual((given.white, given.notes), (255.0, ()))

    def test_masked_arrays_keep_their_mask(self) -> None:
        pixels = disc(30.0).pixels
        hidden = np.zeros(pixels.shape, bool)
        hidden[:, :70] = True
        image = lf.Image.from_array(np.ma.array(pixels, mask=hidden))
        assert image.mask is not None
        np.testing.assert_array_equal(image.mask, ~hidden)
        colour = lf.Image.from_array(
            np.ma.array(np.stack([pixels] * 3, axis=2), mask=np.stack([hidden, hidden, ~hidden], axis=2))
        )
        assert colour.mask is not None
        self.assertFalse(colour.mask.any())


class Steps(unittest.TestCase):
    def test_coefficients_that_overflow_are_refused(self) -> None:
        image = disc(30.0)
        for divide_by in (1e-300, 1e-320, 5e-324, -1e-200):
            with self.subTest(divide_by), self.assertRaisesRegex(lf.ParameterError, "divide_by"):
                lf.prepare("kernel", image, coefficients=((1, 2, 1), (2, 5, 2), (1, 2, 1)), divide_by=divide_by)
        lf.prepare("kernel", image, coefficients=((1, 2, 1), (2, 5, 2), (1, 2, 1)), divide_by=1e12)

    def test_a_pixel_larger_than_the_image_is_refused(self) -> None:
        for given in ({"factor": 1e-9}, {"factor": 1e-300}):
            with self.subTest(given), self.assertRaisesRegex(lf.ParameterError, "more than the image has"):
                lf.prepare("resize", disc(30.0), **given)
        self.assertEqual(lf.prepare("resize", disc(30.0), factor=0.001).pixels.shape, (1, 1))
        self.assertEqual(lf.prepare("resize", disc(30.0), width=1, height=1).pixels.shape, (1, 1))


class Rounded(unittest.TestCase):
    def test_the_noise_keeps_the_floor_of_what_was_read(self) -> None:
        y, x = np.mgrid[:300, :400]
        plane = np.where(np.hypot(x - 200, y - 150) < 60, 180, 120).astype(np.uint8)
        buffer = io.BytesIO()
        Pillow.fromarray(plane).save(buffer, "JPEG", quality=40)
        image = lf.Image.from_array(np.asarray(Pillow.open(buffer)))
        for step, given in (
            ("smooth", {"sigma": 1.5}), ("smooth", {"method": "box"}), ("resize", {"factor": 0.7}), ("rotate", {"angle": 10.0}),
            ("flatten", {}), ("sharpen", {}),
        ):  # fmt: skip
            with self.subTest(step, **given):
                prepared = lf.prepare(step, image, **given)
                found = lf.detect("circles", prepared)
                # Sharpening makes rings of the compression's own, and flattening one.
                self.assertEqual(len(found.findings), {"sharpen": 3, "flatten": 2}.get(step, 1))
                self.assertGreater(lf.detect("edges", prepared).resolved["background"], 0.05)


class Recipes(unittest.TestCase):
    def test_what_is_nested_too_deep_is_refused(self) -> None:
        region = '{"shape":"rectangle","exclude":[' * 400 + "]}" * 400
        for text in (
            "[" * 600 + "]" * 600,
            '{"lucid_finch_recipe":2,"notes":' + "[" * 100_000 + "]" * 100_000 + "}",
            '{"lucid_finch_recipe":2,"detectors":[{"name":"a","kind":"edges","parameters":{"region":' + region + "}}]}",
            '{"lucid_finch_recipe":2,"measures":[{"a":' + "[" * 600 + "]" * 600 + "}]}",
            '{"lucid_finch_recipe":2,"name":"\\ud800"}',
        ):
            with self.assertRaises(lf.ParameterError):
                Recipe.parse(text)

    def test_control_characters_leave_the_svg_well_formed(self) -> None:
        recipe = Recipe.make({"lucid_finch_recipe": 2, "detectors": [{"name": "x\0\b<\uffff", "kind": "edges"}]})
        document = minidom.parseString(svg_overlay(Engine().run(recipe, disc(20.0))))
        self.assertEqual(document.getElementsByTagName("g")[0].getAttribute("id"), "x\ufffd\ufffd<\ufffd")


class Proposals(unittest.TestCase):
    def test_each_is_allowed_and_does_what_it_says(self) -> None:
        random = np.random.default_rng(8)
        picture = noise_pictures(4, 160, 220)["correlated"].astype(float)
        y, x = np.mgrid[:160, :220]
        for cx, cy, radius, contrast in ((50, 50, 18, 40), (120, 60, 25, 12), (180, 110, 14, 25), (80, 120, 22, 9)):
            picture[np.hypot(x - cx, (y - cy) * 1.3) < radius] += contrast
        image = lf.Image.from_array(np.clip(picture, 0, 255).astype(np.uint8))
        tried = 0
        for kind in KINDS:
            for given in ({}, {"false_alarms": 1e-9} if "false_alarms" in KINDS[kind].Parameters.declarations() else {"keep": 3}):
                given = {**needed(kind), **given}
                found = lf.detect(kind, image, **given)
                for _ in range(15):
                    at = random.uniform(0, 219), random.uniform(0, 159)
                    for near in lf.explain(found, at=at).candidates:
                        if near.change is None:
                            continue
                        tried += 1
                        changed = lf.detect(kind, image, **{**given, **near.change.values})
                        self.assertGreaterEqual(len(changed.findings), 1)
                        expected = len(found.findings) + near.change.gains - near.change.loses
                        self.assertEqual(len(changed.findings), expected, (kind, given, at, near.change))
        self.assertGreater(tried, 20)

    def test_nothing_is_proposed_where_nothing_is(self) -> None:
        random = np.random.default_rng(9)
        y, x = np.mgrid[:400, :500]
        plane = 120 + 40.0 * (np.hypot(x - 90, y - 90) < 30) + random.normal(0, 3, x.shape)
        image = lf.Image.from_array(plane.clip(0, 255).astype(np.uint8))
        for kind in KINDS:
            found = lf.detect(kind, image, **needed(kind))
            silent = 0
            for _ in range(12):
                answer = lf.explain(found, at=(random.uniform(200, 480), random.uniform(160, 380)))
                self.assertIsNone(answer.change, (kind, answer))
                silent += all(near.change is None for near in answer.candidates)
            self.assertGreaterEqual(silent, 11, kind)

    def test_another_rim_is_not_blamed(self) -> None:
        y, x = np.mgrid[:600, :600]
        plane = 120 + 60.0 * (np.hypot(x % 100 - 50, y % 100 - 50) < 30) + np.random.default_rng(2).normal(0, 2, x.shape)
        image = lf.Image.from_array(plane.clip(0, 255).astype(np.uint8))
        for kind in ("circles", "ellipses"):
            found = lf.detect(kind, image)
            self.assertEqual(len(found.findings), 36)
            for at in ((200.0, 200.0), (300.0, 200.0), (400.0, 300.0)):
                self.assertRegex(lf.explain(found, at=at).summary, "^nothing is here|outline of finding", (kind, at))

    def test_a_change_at_a_place_does_what_it_says(self) -> None:
        y, x = np.mgrid[:300, :400]
        plane = 120 + 50.0 * (np.hypot(x - 90, y - 90) < 45) + 50.0 * (np.hypot(x - 280, y - 150) < 20)
        image = lf.Image.from_array((plane + np.random.default_rng(3).normal(0, 2, x.shape)).clip(0, 255).astype(np.uint8))
        for kind, given in (
            ("circles", {"radius": (10, 30)}),
            ("ellipses", {"axis": (10, 30)}),
            ("circles", {"polarity": "dark"}),
        ):
            for _ in range(2):  # once more: a run is tried only where the first one was quick
                found = lf.detect(kind, image, **given)
            answer = lf.explain(found, at=(90, 90))
            changes = [*(near.change for near in answer.candidates), answer.change]
            (change, *_) = [change for change in changes if change is not None]
            after = lf.detect(kind, image, **{**given, **change.values})
            self.assertEqual(len(after.findings), len(found.findings) + change.gains - change.loses)
            self.assertLess(np.hypot(after.findings["x"] - 90, after.findings["y"] - 90).min(), 2)


class Memory(unittest.TestCase):
    def test_a_lack_of_memory_is_said_in_words(self) -> None:
        image = disc(20.0)
        recipe = lf.Recipe.parse('{"lucid_finch_recipe": 2, "prepare": [{"step": "flatten"}], "detectors": []}')
        missing = MemoryError("Unable to allocate 9.3 GiB")
        for what, work in (
            (("lucid_finch.core.detectors.lines.Lines.gather"), lambda: lf.detect("lines", image)),
            (("lucid_finch.core.prepare.lighting.Flatten.run"), lambda: lf.prepare("flatten", image)),
            (("lucid_finch.core.prepare.lighting.Flatten.run"), lambda: lf.run(recipe, image)),
            (("lucid_finch.core.image._normalised"), lambda: lf.Image.from_array(image.pixels)),
            (("lucid_finch.core.recipe.json.loads"), lambda: lf.Recipe.parse("{}")),
        ):
            with mock.patch(what, side_effect=missing), self.assertRaisesRegex(lf.ParameterError, "9.3 GiB"):
                work()


class Many(unittest.TestCase):
    def test_thousands_are_all_found(self) -> None:
        step, count = 26, 62
        y, x = np.mgrid[: step * count, : step * count].astype(np.float32)
        far = np.hypot((x + 0.5) % step - step / 2, (y + 0.5) % step - step / 2)
        plane = 120 + 80 * np.clip(8.5 - far, 0, 1) + np.random.default_rng(0).normal(0, 2, far.shape)
        image = lf.Image.from_array(plane.clip(0, 255).astype(np.uint8))
        for kind in ("circles", "ellipses"):
            self.assertEqual(len(lf.detect(kind, image).findings), count**2)

    def test_what_is_left_out_is_said(self) -> None:
        with mock.patch.object(circles, "most_shapes", lambda image: 3):
            found = lf.detect("circles", disc(30.0, noise=6.0))
        self.assertRegex(found.notes[0], r"of the weakest candidate centres were not looked at: the limit is 3")
        self.assertEqual(len(found.findings), 1)


@unittest.skipUnless(hasattr(os, "fork"), "no fork")
class Forks(unittest.TestCase):
    def test_a_child_that_was_forked_after_use_works(self) -> None:
        image = lf.Image.from_array(np.tile(disc(30.0, noise=2.0).pixels, (4, 3)))
        before = len(lf.detect("edges", image).findings)
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            os.write(writing, str(len(lf.detect("edges", image).findings)).encode())
            os._exit(0)
        os.close(writing)
        with os.fdopen(reading) as stream:
            self.assertEqual(int(stream.read()), before)
        self.assertEqual(os.waitpid(child, 0)[1], 0)

    def test_results_can_be_pickled_without_their_evidence(self) -> None:
        image = disc(30.0, noise=4.0)
        recipe = Recipe.make(recipe_of_all())
        run = Engine().run(recipe, image)
        data = pickle.dumps(run)
        again = pickle.loads(data)
        for kind, before in run.detections.items():
            after = again.detections[kind]
            self.assertEqual(repr([*after.findings.rows()]), repr([*before.findings.rows()]))
            self.assertEqual(repr([*after.near_misses.rows()]), repr([*before.near_misses.rows()]))
            self.assertEqual({n: v.tolist() for n, v in after.points.items()}, {n: v.tolist() for n, v in before.points.items()})
            self.assertEqual([o.tolist() for o in after.near_outlines], [o.tolist() for o in before.near_outlines])
            self.assertEqual((after.labels, after.fit, after.resolved), (before.labels, before.fit, before.resolved))
            self.assertEqual(len(after.evidence), 0)
            with self.assertRaisesRegex(lf.ParameterError, "run the detector again"):
                _ = after.evidence["magnitude"]
            with self.assertRaisesRegex(lf.ParameterError, "run the detector again"):
                lf.explain(after, at=(10, 10))

    def test_images_can_be_pickled(self) -> None:
        image = disc(30.0)
        again = pickle.loads(pickle.dumps(image))
        np.testing.assert_array_equal(again.pixels, image.pixels)
        self.assertNotEqual(again.identity, image.identity)


if __name__ == "__main__":
    unittest.main()
