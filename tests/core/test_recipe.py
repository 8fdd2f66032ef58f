"""Recipes: reading, refusing, upgrading, the schema, expectations."""

from __future__ import annotations

import json
import unittest
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np

from lucid_finch.core import recipe as module
from lucid_finch.core.engine import Engine
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.recipe import Recipe, json_schema
from lucid_finch.demo import SCENES, recipe_text
from tests.support import disc

GOLDEN = Path(__file__).parent / "recipe.schema.json"


def document(**changes: Any) -> dict[str, Any]:
    """A small recipe with some fields replaced."""
    detector = {"name": "rim", "kind": "edges", "parameters": {"sigma": 2}, "expect": {"count": 1}}
    return {"lucid_finch_recipe": 1, "name": "r", "prepare": [{"step": "channel"}], "detectors": [detector], **changes}


class Reading(unittest.TestCase):
    def test_text_there_and_back_loses_nothing(self) -> None:
        recipe = Recipe.make(document(notes="Übung ✓"))
        again = Recipe.parse(recipe.text())
        self.assertEqual(again.text(), recipe.text())
        self.assertEqual(again.detectors[0].made_parameters(), recipe.detectors[0].made_parameters())
        self.assertEqual(again.notes, "Übung ✓")

    def test_the_hash_is_of_what_it_does(self) -> None:
        recipe = Recipe.make(document())
        self.assertEqual(recipe.sha256, Recipe.make(document(name="other")).sha256)
        self.assertNotEqual(recipe.sha256, Recipe.make(document(prepare=[])).sha256)

    def test_refusals_name_the_field(self) -> None:
        detector = document()["detectors"][0]
        wrong: dict[str, Any] = {
            'unknown field "detecters".*did you mean "detectors"': document(detecters=[]),
            'unknown field "detectors.0.paramters"': document(detectors=[{**detector, "paramters": {}}]),
            'no parameter "sigm"': document(detectors=[{**detector, "parameters": {"sigm": 2}}]),
            'kind: "edgs" is not known .did you mean "edges"': document(detectors=[{**detector, "kind": "edgs"}]),
            'step: "smoth" is not known': document(prepare=[{"step": "smoth"}]),
            "prepare.0.step": document(prepare=[{}]),
            "newer Lucid Finch": document(lucid_finch_recipe=99),
            "no recipe of Lucid Finch": {"name": "x"},
            'two detectors are called "rim"': document(detectors=[detector, detector]),
            "combine: no detector is called": document(combine=[["a", "b"]]),
            '"checks" is not supported': document(checks=[{"name": "c"}]),
            "name = 3": document(name=3),
            'expect: "cuont" is no column': document(detectors=[{**detector, "expect": {"cuont": 3}}]),
            "is reversed": document(detectors=[{**detector, "expect": {"count": [5, 3]}}]),
            "two numbers are needed": document(detectors=[{**detector, "expect": {"length": 5}}]),
        }
        for words, given in wrong.items():
            with self.subTest(words), self.assertRaisesRegex(ParameterError, f"panel.*{words}"):
                Recipe.parse(json.dumps(given), "panel.finch.json")
        for text in ("", "[]", "{", "[" * 100_000):
            with self.subTest(text[:5]), self.assertRaisesRegex(ParameterError, "panel"):
                Recipe.parse(text, "panel")

    def test_empty_fields_of_later_versions_are_taken(self) -> None:
        self.assertEqual(Recipe.make(document(combine=[], calibration=None)).name, "r")

    def test_older_versions_are_upgraded(self) -> None:
        def upgrade(data: dict[str, Any]) -> dict[str, Any]:
            data = dict(data)
            data["name"] = data.pop("title")
            return data

        module.UPGRADES[0] = upgrade
        try:
            old = document(lucid_finch_recipe=0, title="old name")
            del old["name"]
            with self.assertRaises(ParameterError):
                Recipe.make({**old, "lucid_finch_recipe": -1})
            old_version = dict(old)
            recipe = Recipe.make({**old_version, "lucid_finch_recipe": 0})
            self.assertEqual(recipe.name, "old name")
        finally:
            del module.UPGRADES[0]


class Schema(unittest.TestCase):
    def test_golden_file(self) -> None:
        """If the change is meant: `lucid-finch kinds --schema > tests/core/recipe.schema.json`."""
        self.assertEqual(json_schema(), json.loads(GOLDEN.read_text("utf-8")))

    def test_demo_recipes_follow_it(self) -> None:
        jsonschema.Draft202012Validator.check_schema(json_schema())
        for name in SCENES:
            jsonschema.validate(json.loads(recipe_text(name)), json_schema())
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate(document(detecters=[]), json_schema())
        wrong = document(detectors=[{"name": "a", "kind": "edges", "parameters": {"sigm": 1}}])
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate(wrong, json_schema())


class Expectations(unittest.TestCase):
    def unmet(self, expect: dict[str, Any]) -> list[str]:
        recipe = Recipe.make(document(detectors=[{"name": "rim", "kind": "edges", "expect": expect}]))
        return [str(u) for u in Engine().run(recipe, disc(40.0)).unmet]

    def test_counts_and_ranges(self) -> None:
        circumference = 2 * np.pi * 40
        self.assertEqual(self.unmet({"count": 1, "length": [circumference - 3, circumference + 3], "closed": [1, 1]}), [])
        self.assertEqual(self.unmet({"count": [2, 3]}), ["rim: count is 1, expected 2 to 3"])
        self.assertRegex(self.unmet({"length": [1, 2]})[0], "rim: length is 25.* in 1 of 1 findings, expected 1 to 2")
