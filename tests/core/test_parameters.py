"""Declarations, lengths, and errors in our own words."""

from __future__ import annotations

import unittest

import numpy as np

import lucid_finch as lf
from lucid_finch.core.detectors import KINDS
from lucid_finch.core.detectors.edges import EdgesParameters
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.parameters import Length, Stage
from lucid_finch.core.prepare import STEPS


class Declared(unittest.TestCase):
    def test_every_parameter_is_fit_to_be_shown(self) -> None:
        models = [k.Parameters for k in KINDS.values()] + [s.Parameters for s in STEPS.values()]
        for model in models:
            for name, declared in model.declarations().items():
                with self.subTest(model=model.__name__, parameter=name):
                    self.assertTrue(declared.label[0].isupper())
                    self.assertTrue(declared.help.endswith("."))
                    self.assertNotIn("None", declared.allowed)
                    # A range or a choice may also be used before judging; a limit alone is not.
                    if declared.criterion and not (declared.is_range or declared.choices):
                        self.assertIs(declared.stage, Stage.JUDGE)

    def test_lengths_are_finite(self) -> None:
        for given in ("1e400", float("inf"), "9" * 400, -1, "-3", "3 furlongs", True):
            with self.subTest(given), self.assertRaises(ValueError):
                Length.parse(given)
        self.assertEqual(Length.parse("3%").pixels(300, 400), 15.0)

    def test_stages_split_the_values(self) -> None:
        parameters = EdgesParameters.make({"sigma": 2}, "edges")
        self.assertEqual(parameters.plain(Stage.GATHER)["sigma"], 2.0)
        self.assertNotIn("high", parameters.plain(Stage.GATHER))
        self.assertIn("high", parameters.plain(Stage.JUDGE))

    def test_numpy_values_are_taken(self) -> None:
        made = EdgesParameters.make({"sigma": np.float32(1.5), "keep": np.int64(3)}, "edges")
        self.assertEqual((made.sigma, made.keep), (1.5, 3))


class Errors(unittest.TestCase):
    def refused(self, words: str, **given: object) -> None:
        with self.subTest(given), self.assertRaisesRegex(ParameterError, words) as caught:
            EdgesParameters.make(given, "edges")
        self.assertEqual(caught.exception.parameter, next(iter(given)))
        self.assertNotIn("pydantic", str(caught.exception))

    def test_names_value_and_what_is_allowed(self) -> None:
        self.refused('no parameter "sigm" .did you mean "sigma"', sigm=2)
        self.refused("sigma = -1 is not allowed; it must be a number from 0 to 50 px", sigma=-1)
        self.refused("sigma = True is not allowed", sigma=True)
        self.refused('sigma = "2" is not allowed', sigma="2")
        self.refused("sigma = nan", sigma=float("nan"))
        self.refused("operator = .*one of gaussian, sobel", operator="sobl")
        self.refused("keep = 0", keep=0)
        self.refused("keep = 1.5", keep=1.5)
        self.refused("high = 0 .*above 0 grey/px", high=0)
        self.refused("length_min = .*a length such as", length_min="3 parsecs")
        self.refused("region", region={"shape": "rectangle", "x": 1})
        self.refused("region", region={"shape": "star"})

    def test_limits_that_contradict_each_other(self) -> None:
        with self.assertRaisesRegex(ParameterError, "edges: high = 3 is not allowed; it must be at least low, which is 5"):
            EdgesParameters.make({"low": 5.0, "high": 3.0}, "edges")

    def test_a_refused_value_changes_nothing(self) -> None:
        good = EdgesParameters.make({"sigma": 2.0}, "edges")
        with self.assertRaises(ParameterError):
            good.changed("edges", sigma=-2)
        self.assertEqual(good.sigma, 2.0)


class Lengths(unittest.TestCase):
    def test_units(self) -> None:
        cases = {25: 25.0, "25": 25.0, "25px": 25.0, "10%": 50.0, "20%w": 60.0, "20%h": 80.0, " 5 % ": 25.0, ".5%w": 1.5}
        for given, expected in cases.items():
            with self.subTest(given):
                self.assertAlmostEqual(Length.parse(given).pixels(300, 400), expected)

    def test_written_as_given(self) -> None:
        self.assertEqual(Length.parse("3%").plain(), "3%")
        self.assertEqual(Length.parse("12px").plain(), 12.0)

    def test_ends_of_a_range_in_percent_of_the_image(self) -> None:
        image = lf.Image.from_array(np.zeros((400, 300), np.uint8))
        for given, expected in (((30, "20%h"), (30.0, 80.0)), (("10%", 120), (50.0, 120.0)), (("10%w", "50%w"), (30.0, 150.0))):
            found = lf.detect("circles", image, radius=given)
            self.assertEqual(found.task.parameters.radius, expected)
        with self.assertRaisesRegex(ParameterError, r"radius = 90, 20%h: on this image 90 to 80 px; the minimum comes first"):
            lf.detect("circles", image, radius=(90, "20%h"))
        with self.assertRaisesRegex(ParameterError, r"or such as 1.2mm2; auto"):
            lf.detect("contours", image, area=("3%", None))
        recipe = {
            "lucid_finch_recipe": 2,
            "detectors": [{"name": "c", "kind": "circles", "parameters": {"radius": ["10%h", "20%h"]}}],
        }
        self.assertIn('"10%h"', lf.Recipe.parse(lf.Recipe.make(recipe).text()).text())

    def test_refused(self) -> None:
        for wrong in ("", "px", "-3", "3 miles", True, float("inf"), None, [3]):
            with self.subTest(wrong), self.assertRaises(ValueError):
                Length.parse(wrong)
        with self.assertRaisesRegex(ParameterError, "needs a calibration"):
            Length.parse("1.2mm").pixels(10, 10)
