"""Merging the findings of several detectors: duplicates, who wins, what is told, recipes and files."""

from __future__ import annotations

import json
import unittest
from typing import Any

import numpy as np

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.combining import combine
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import Recipe
from lucid_finch.pipeline.sinks import write_results
from tests.files.test_images import InFolder
from tests.support import disc


def document(**changes: Any) -> dict[str, Any]:
    def circles(name: str, **given: Any) -> dict[str, Any]:
        return {"name": name, "kind": "circles", "parameters": given}

    detectors = [circles("dark", polarity="dark"), circles("all", radius=[10.0, 45.0]), {"name": "outlines", "kind": "contours"}]
    return {"lucid_finch_recipe": 1, "name": "r", "detectors": detectors, **changes}


def two_discs() -> Image:
    """A dark disc and a bright one."""
    bright, dark = disc(24, 50.0, noise=1.5).pixels, disc(30, -45.0, noise=1.5).pixels
    return Image.from_array(np.concatenate([bright, dark], axis=1))


class Merging(InFolder):
    def test_what_two_found_is_listed_once(self) -> None:
        run = Engine().run(Recipe.make(document(combine=[["dark", "all"]])), two_discs())
        self.assertEqual([len(d.findings) for d in run.detections.values()][:2], [1, 2])
        (merged,) = run.combined
        self.assertEqual((len(merged.findings), merged.duplicates, merged.name), (2, 1, "dark + all"))
        rows = list(merged.findings.rows())
        self.assertEqual([row["id"] for row in rows], [1, 2])
        notes = [(row["detector"], row["also"]) for row in rows]
        self.assertEqual(sum(bool(also) for _, also in notes), 1)
        by, also = next(note for note in notes if note[1])
        self.assertEqual({by, also.rsplit(" ", 1)[0]}, {"dark", "all"})
        # The finding is the one of its detector.
        one = rows[0]
        findings = run.detections[one["detector"]].findings
        self.assertEqual(findings["x"][np.flatnonzero(findings["id"] == one["number"])[0]], one["x"])

    def test_outlines_of_other_kinds_are_recognised(self) -> None:
        run = Engine().run(Recipe.make(document(combine=[["all", "outlines"]])), two_discs())
        (merged,) = run.combined
        self.assertEqual(len(merged.findings), 2)
        # Who tells how sure it is comes before who does not.
        self.assertEqual(set(merged.findings["detector"].tolist()), {"all"})

    def test_both_rims_of_a_ring_stay(self) -> None:
        ring = disc(40, 60.0, noise=1.0).pixels.astype(int) - disc(30, 60.0).pixels + 100
        image = Image.from_array(np.clip(ring, 0, 255).astype(np.uint8))
        run = Engine().run(Recipe.make(document(combine=[["dark", "all"]])), image)
        self.assertEqual(len(run.combined[0].findings), len(run.detections["all"].findings))

    def test_nothing_to_merge(self) -> None:
        flat = Image.from_array(np.full((40, 60), 90, np.uint8))
        run = Engine().run(Recipe.make(document(combine=[["dark", "all"]])), flat)
        self.assertEqual((len(run.combined[0].findings), run.combined[0].duplicates), (0, 0))
        self.assertEqual(len(combine({}, ["a", "b"]).findings), 0)

    def test_files(self) -> None:
        run = Engine().run(Recipe.make(document(combine=[["dark", "all"]])), two_discs())
        write_results(run, self.folder, "two")
        written = json.loads((self.folder / "two.findings.json").read_text("utf-8"))
        self.assertEqual(written["combined"][0]["of"], ["dark", "all"])
        self.assertEqual(len(written["combined"][0]["findings"]), 2)
        table = next(self.folder.glob("two.*dark*all*.csv")).read_text("utf-8").splitlines()
        self.assertEqual((table[0].split(",")[0], len(table)), ("id", 3))


class InRecipes(unittest.TestCase):
    def test_refused(self) -> None:
        for group, text in ((["dark", "al"], 'called "al".*all'), (["dark"], "two different"), (["all", "all"], "two different")):
            with self.subTest(group), self.assertRaisesRegex(ParameterError, text):
                Recipe.make(document(combine=[group]))

    def test_kept_in_the_text_and_counted_in_the_hash(self) -> None:
        plain, merged = Recipe.make(document()), Recipe.make(document(combine=[["dark", "all"]]))
        self.assertEqual(Recipe.parse(merged.text()).text(), merged.text())
        self.assertNotEqual(plain.sha256, merged.sha256)


if __name__ == "__main__":
    unittest.main()
