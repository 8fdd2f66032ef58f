"""Recipes: reading, refusing, upgrading, the schema, expectations."""

from __future__ import annotations

import base64
import hashlib
import json
import unittest
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np

from lucid_finch.core import recipe as module
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.recipe import Recipe, frozen, json_schema, redirected
from lucid_finch.demo import SCENES, recipe_text
from tests.support import disc, line_calibration

GOLDEN = Path(__file__).parent / "recipe.schema.json"


def document(**changes: Any) -> dict[str, Any]:
    """A small recipe with some fields replaced."""
    detector = {"name": "rim", "kind": "edges", "parameters": {"sigma": 2}, "expect": {"count": 1}}
    return {"lucid_finch_recipe": 2, "name": "r", "prepare": [{"step": "channel"}], "detectors": [detector], **changes}


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
            "checks.0 = 3 is not allowed": document(checks=[3]),
            "defaults = 9 is not allowed": document(defaults=9),
            'no detector is called "b"': document(detectors=[{**detector, "anchor": "b"}]),
            "directly or through others, to itself": document(detectors=[{**detector, "anchor": "rim"}]),
            "have the sha256": document(assets={"0" * 64: {"media_type": "image/png", "data": "AAAA"}}),
            "not valid base64": document(assets={"0" * 64: {"media_type": "image/png", "data": "?"}}),
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

    def test_fields_of_later_versions_are_kept(self) -> None:
        data = base64.b64encode(b"pixels").decode()
        sha = hashlib.sha256(b"pixels").hexdigest()
        scan = {"name": "scan", "kind": "edge_scan", "parameters": {"reference_line": "other"}, "track": True}
        given = document(
            checks=[{"name": "c"}], measures=[{"of": "rim"}], calibration=line_calibration().plain(),
            assets={sha: {"media_type": "image/png", "data": data}},
            detectors=[*document()["detectors"], {**scan, "anchor": "rim"}, {"name": "other", "kind": "edge_scan"}],
        )  # fmt: skip
        recipe = Recipe.make(given)
        again = Recipe.parse(recipe.text())
        self.assertEqual(again.plain(), recipe.plain())
        self.assertEqual(again.assets[sha].decoded(), b"pixels")
        self.assertEqual(again.unused, ["measures", "checks", "scan: anchor"])
        self.assertEqual(again.detectors[1].references, {"reference_line": "other", "anchor": "rim"})
        self.assertNotIn(data, json.dumps(recipe.sha256))

    def test_references_follow_a_new_name(self) -> None:
        scans = [{"name": n, "kind": "edge_scan", "parameters": {"reference_line": r}} for n, r in (("a", "b"), ("b", None))]
        plain = Recipe.make(document(detectors=scans, combine=[["a", "b"]])).plain()
        plain["detectors"][1]["name"] = "c"
        renamed = Recipe.make(redirected(plain, {"b": "c"}))
        self.assertEqual(renamed.detectors[0].references, {"reference_line": "c"})
        self.assertEqual(renamed.combine, (("a", "c"),))
        del plain["detectors"][1]
        alone = Recipe.make(redirected(plain, {"b": None}))
        self.assertEqual((alone.detectors[0].references, alone.combine), ({}, ()))

    def test_version_1_is_upgraded(self) -> None:
        old = document(lucid_finch_recipe=1, measures=None, calibration=None)
        old["detectors"] = [{"name": "s", "kind": "edge_scan", "anchor": None, "parameters": {"reference_line": ""}}]
        recipe = Recipe.make(old)
        self.assertEqual(recipe.plain()["lucid_finch_recipe"], 2)
        self.assertEqual((recipe.detectors[0].references, recipe.defaults), ({}, 1))

    def test_a_frozen_recipe_gives_the_same_findings(self) -> None:
        image = disc(40.0, noise=3.0)
        kinds = ("edges", "contours", "lines", "circles", "ellipses", "edge_scan")
        recipe = Recipe.make(document(detectors=[{"name": kind, "kind": kind} for kind in kinds]))
        before = Engine().run(recipe, image)
        fixed = frozen(recipe, before.detections)
        after = Engine().run(fixed, image)
        self.assertGreater(fixed.plain()["detectors"][1]["parameters"]["area"][0], 0)
        for kind in kinds:
            for column in before.detections[kind].findings.columns:
                one, other = (run.detections[kind].findings.stored(column) for run in (before, after))
                np.testing.assert_allclose(one, other, err_msg=f"{kind} {column}")

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
