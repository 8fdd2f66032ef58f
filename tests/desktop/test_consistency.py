"""Whatever was edited on the way, the window shows what a fresh run of its recipe finds; kinds and steps need no word from it."""

from __future__ import annotations

import random
import unittest
from collections.abc import Mapping
from typing import Any, ClassVar
from unittest import mock

import numpy as np

from lucid_finch.core import detectors, prepare
from lucid_finch.core.detection import EvidenceMap, Overlay
from lucid_finch.core.detector import Task
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.image import Image
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.prepare.step import PreparationStep
from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.study.study import step_card
from tests.desktop.support import BenchCase, two_squares
from tests.support import Dots, noise_pictures

# Values on both sides of every floor, and automatic ones.
EDITS: dict[str, dict[str, list[Any]]] = {
    "edges": {
        "low": [None, 0.4, 3.0, 9.0], "high": [None, 9.0, 20.0], "false_alarms": [1e-9, 0.01, 100.0], "keep": [None, 2],
        "length_min": [0.0, "8%"], "sigma": [1.2, 2.0],
    },
    "lines": {
        "false_alarms": [0.01, 10.0, 1e5], "coverage_min": [0.0, 0.6], "angles": [None, (80.0, 100.0)], "pair": [None, True],
    },
    "circles": {
        "coverage_min": [None, 0.08, 0.2, 0.6], "radius": [None, (6.0, 40.0), (20.0, None)], "polarity": ["either", "dark"],
        "false_alarms": [0.01, 1e4], "spacing": [0.0, 30.0],
    },
    "ellipses": {"ratio_min": [0.25, 0.08, 0.7], "coverage_min": [None, 0.1], "axis": [None, (5.0, 50.0)]},
    "contours": {
        "area": [None, (50.0, None)], "nesting": ["all", "outermost"], "drop_frame": [False, True], "support_min": [None, 0.9],
    },
    "edge_scan": {
        "strength_min": [None, 0.6, 4.0, 30.0], "pick": ["strongest", "all"], "polarity": ["either", "rising"],
    },
}  # fmt: skip
COUNT = 60


def texts(detections: Mapping[str, Any]) -> dict[str, Any]:
    """Findings and near misses as plain rows."""
    return {name: ([*d.findings.rows()], [*d.near_misses.rows()]) for name, d in detections.items()}


def crowded() -> Image:
    """Squares, a disc and a bar in correlated noise: every kind finds something, and misses something."""
    picture = noise_pictures(3, 200, 300)["correlated"].astype(float)
    picture += two_squares().pixels * 0.5 - 40
    y, x = np.mgrid[:200, :300]
    picture[np.hypot(x - 140, y - 60) < 22] += 35
    picture[(np.abs(y - 180) < 3) & (x > 30) & (x < 240)] -= 30
    return Image.from_array(np.clip(np.round(picture), 0, 255).astype(np.uint8))


class AsAFreshRun(BenchCase):
    def test_random_edits_across_floors(self) -> None:
        chooser = random.Random(20261129)
        self.bench.study.edit({"detectors": [{"name": kind, "kind": kind} for kind in EDITS]}, "all kinds")
        image = crowded()
        self.open(image)
        for number in range(COUNT):
            kind = chooser.choice(list(EDITS))
            name = chooser.choice(list(EDITS[kind]))
            try:
                self.bench.study.edit_detector(kind, {name: chooser.choice(EDITS[kind][name])}, "edit")
            except ParameterError:
                continue
            # Edits that come one after the other, before anything has answered, count as well.
            if chooser.random() < 0.3:
                continue
            self.settle()
            if number % 3 == 0:
                recipe = Recipe.parse(self.bench.study.recipe.text())
                expected = texts(Engine().run(recipe, image).detections)
                shown = texts(self.bench.study.detections)
                for detector in expected:
                    np.testing.assert_equal(shown[detector], expected[detector], f"{number}: {kind}.{name}, {detector}")


class HalvesParameters(Parameters):
    """Parameters of the test-only step."""

    keep: int = gathers(2, label="Keep", help="Every so many rows.", least=1, odd=True)


class Halves(PreparationStep):
    """A step that the window has never heard of."""

    name = "halves"
    purpose = "Invert the grey levels."
    Parameters = HalvesParameters

    def apply(self, image: Image, parameters: Any) -> Image:
        return image.with_pixels(255 - image.pixels)

    def summary(self, given: Mapping[str, Any]) -> str:
        return f"inverted {given['keep']}"


class SeenDots(Dots):
    """A kind that the window has never heard of, with everything that one may have."""

    main_maps = ("bright",)
    named_by = "size_class"
    sized_by: ClassVar[str] = ""
    columns = (*Dots.columns, Dots.columns[0].__class__("size_class", "class", names=("small", "large")))

    def finish(self, task: Task, chosen: Any) -> Any:
        found = super().finish(task, chosen)
        found.columns["size_class"] = (found.columns["level"] > 240).astype(np.int8)
        return found

    def evidence(self, task: Task) -> list[EvidenceMap]:
        def part(left: int, top: int, right: int, bottom: int) -> Any:
            return np.ascontiguousarray((task.image.pixels > 100)[top:bottom, left:right].astype(np.uint8))

        return [EvidenceMap("bright", "bright", "", "mask", task.image.width, task.image.height, part, task.image.frame)]

    def overlays(self, task: Task, fit: Any) -> list[Overlay]:
        return [Overlay("scan", [np.array([[1.0, 1.0], [20.0, 1.0], [1.0, 1.0]])])]


class Unheard(BenchCase):
    """A detector and a step that are in no list of the window work there: card, settings, maps, near misses, why."""

    def setUp(self) -> None:
        for table, entry in ((detectors.KINDS, {"dots": SeenDots}), (prepare.STEPS, {"halves": Halves})):
            patch = mock.patch.dict(table, entry)
            patch.start()
            self.addCleanup(patch.stop)
        super().setUp()
        pixels = np.full((60, 80), 250, np.uint8)
        for x, y, level in ((20, 20, 250), (22, 21, 220), (60, 21, 230), (30, 50, 150)):
            pixels[y, x] = 255 - level
        self.open(Image.from_array(pixels))

    def test_a_detector_and_a_step(self) -> None:
        study = self.bench.study
        study.add_step("halves")
        study.add_detector("dots")
        study.remove("edges")
        self.settle()
        found = study.detections["dots"]
        self.assertEqual(found.findings["x"].tolist(), [20, 60])
        self.assertEqual(len(found.near_misses), 2)
        self.assertEqual(self.bench.recipe_cards.cards["dots"].count.text(), "2")
        self.assertIn("2 near misses", self.bench.recipe_cards.cards["dots"].toolTip())
        self.assertEqual(self.bench.recipe_cards.cards[step_card(1)].brief.text(), "inverted 2")
        # Settings, with a histogram under the limit; the map beside the source; overlays and names on it.
        limit = self.bench.settings.editors["", "level_min"]
        assert limit.histogram is not None
        self.assertEqual(limit.histogram.limit.value, 200.0)
        self.assertEqual(self.bench.frames[1].map_name, "bright")
        self.assertEqual(self.bench.panes.pictures["bright"].value_at(20, 20), 1)
        marks = self.bench.frames[0].pane.marks
        self.assertTrue(any(m.names == ("large", "small") for m in marks))
        self.assertTrue(any(m.nameless and len(m.points) == 3 for m in marks))
        # A limit moves live; why; and what the answer offers.
        limit.histogram.limit_moved.emit(240.0, -1)
        self.answered()
        self.assertEqual(len(study.detections["dots"].findings), 1)
        self.bench.asking.ask(30.0, 50.0)
        self.assertIn("brightness 150 grey, at least 240 grey", self.bench.explanation.explanation.summary)
        self.bench.applier.admit(self.bench.explanation.explanation.candidates[0].change.values)
        self.settle()
        self.assertEqual(len(study.detections["dots"].findings), 3)
        # The sweep takes whole numbers as they are, odd only where the declaration says so.
        self.bench.settings.sweep_wanted.emit("step")
        self.wait(lambda: not self.bench.sweep.busy, what="the sweep")
        self.assertTrue(any(view.sample.value % 2 == 0 for view in self.bench.sweep.card.views))
        study.choose(step_card(1))
        self.bench.settings.sweep_wanted.emit("keep")
        self.wait(lambda: not self.bench.sweep.busy, what="the sweep")
        odd = [view.sample.value for view in self.bench.sweep.card.views if view.sample.value != 2]
        self.assertTrue(odd and all(value % 2 for value in odd))
        self.bench.grab()


if __name__ == "__main__":
    unittest.main()
