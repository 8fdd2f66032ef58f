"""The engine: cache, cancelling, order of rows, frames; and a detector of forty lines that needs nothing else."""

from __future__ import annotations

import threading
import unittest
from unittest import mock

import numpy as np

from lucid_finch.core import detectors
from lucid_finch.core.documentation import reference_page
from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.execution import engine
from lucid_finch.core.execution.cache import Cache
from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.explanation.explaining import explain
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.runtime import threads
from lucid_finch.core.prepare import step_of
from lucid_finch.core.recipe import Recipe, json_schema
from tests.support import Dots, disc, noise_pictures


def dots_picture() -> Image:
    pixels = np.zeros((40, 60), np.uint8)
    for x, y, level in ((10, 10, 250), (12, 11, 220), (40, 11, 230), (20, 30, 150), (45, 31, 255)):
        pixels[y, x] = level
    return Image.from_array(pixels)


class OneModuleIsEnough(unittest.TestCase):
    """A new kind needs one class in the table: the rest follows from its declarations."""

    def setUp(self) -> None:
        patch = mock.patch.dict(detectors.KINDS, {"dots": Dots})
        patch.start()
        self.addCleanup(patch.stop)

    def test_judging_rivals_and_near_misses(self) -> None:
        result = engine.detect("dots", dots_picture(), {})
        self.assertEqual(result.findings["x"].tolist(), [10, 40, 45])
        self.assertEqual(result.findings["rank"].tolist(), [2, 3, 1])
        near = list(result.near_misses.rows())
        self.assertEqual([(n["failed"], n["lost_to"]) for n in near], [("spacing", 1), ("level_min", 0)])
        self.assertEqual((near[1]["measured"], near[1]["limit"]), (150.0, 200.0))

    def test_explanation_and_the_change_that_admits(self) -> None:
        result = engine.detect("dots", dots_picture(), {})
        self.assertIn("finding 1", explain(result, (10, 10)).summary)
        answer = explain(result, (20, 30))
        self.assertIn("fails: brightness 150 grey, at least 200 grey", answer.summary)
        change = answer.candidates[0].change
        assert change is not None
        self.assertEqual((change.values, change.gains, change.loses), ({"level_min": 150.0}, 1, 0))
        adopted = engine.detect("dots", dots_picture(), change.values)
        self.assertEqual(len(adopted.findings), 4)
        self.assertIn("finding 1 suppresses it", explain(result, (12, 11)).summary)

    def test_options_schema_documentation_and_recipe(self) -> None:
        page = reference_page()
        self.assertIn("### `dots`", page)
        self.assertIn("Brightness, min", page)
        self.assertIn("detector dots", str(json_schema()))
        entry = {"name": "d", "kind": "dots", "parameters": {"level_min": 240}}
        run = Engine().run(Recipe.make({"lucid_finch_recipe": 2, "detectors": [entry]}), dots_picture())
        self.assertEqual(len(run.detections["d"].findings), 2)
        with self.assertRaisesRegex(ParameterError, 'dots has no parameter "level_mni" .did you mean "level_min"'):
            engine.detect("dots", dots_picture(), {"level_mni": 3})

    def test_the_command_line_has_it(self) -> None:
        from click.testing import CliRunner

        from lucid_finch.command_line.main import cli

        shown = CliRunner().invoke(cli, ["detect", "dots", "--help"])
        self.assertIn("--level-min", shown.output)


class Rows(unittest.TestCase):
    def test_sort_keep_and_numbers(self) -> None:
        with mock.patch.dict(detectors.KINDS, {"dots": Dots}):
            picture = dots_picture()
            by_level = engine.detect("dots", picture, {"sort": "-level"})
            self.assertEqual(by_level.findings["level"].tolist(), [255, 250, 230])
            self.assertEqual(by_level.findings["id"].tolist(), [3, 1, 2])
            kept = engine.detect("dots", picture, {"keep": 1})
            self.assertEqual(kept.findings["x"].tolist(), [45])
            self.assertEqual({n["failed"] for n in kept.near_misses.rows()}, {"keep", "spacing", "level_min"})
            with self.assertRaisesRegex(ParameterError, 'sort: "levle".*did you mean "level"'):
                engine.detect("dots", picture, {"sort": "levle"})

    def test_nothing_found_is_an_empty_result(self) -> None:
        result = engine.detect("edges", Image.from_array(np.full((30, 30), 7, np.uint8)), {})
        self.assertEqual((len(result.findings), len(result.near_misses), len(result.outlines)), (0, 0, 0))
        self.assertEqual(list(result.findings.rows()), [])
        self.assertEqual(result.evidence["thinned"].values.max(), 0)

    def test_colour_is_taken_as_luma(self) -> None:
        grey = disc(30.0)
        colour = Image.from_array(np.repeat(grey.pixels[..., None], 3, axis=2))
        a, b = (engine.detect("edges", image, {}).findings["x"] for image in (grey, colour))
        np.testing.assert_allclose(a, b, atol=1e-3)

    def test_cropped_results_are_in_the_source_frame(self) -> None:
        whole = disc(30.0, noise=2.0)
        crop = step_of("crop")
        region = {"shape": "rectangle", "x": 79.5, "y": 80.5, "width": 90.0, "height": 84.0}
        cut = crop.apply(whole, crop.Parameters.make({"region": region}, "crop"))
        self.assertEqual((cut.width, cut.height, cut.frame.offset), (90, 84, (35.0, 39.0)))
        a, b = engine.detect("edges", whole, {}), engine.detect("edges", cut, {})
        np.testing.assert_allclose(a.points["x"].mean(), b.points["x"].mean(), atol=0.02)
        middle = (b.outlines[0].min(axis=0) + b.outlines[0].max(axis=0)) / 2
        np.testing.assert_allclose(middle, (79.5, 79.5), atol=0.2)
        self.assertIn("finding 1", explain(b, b.outlines[0][5]).summary)


class Shared(unittest.TestCase):
    def test_a_moved_limit_gathers_nothing_again(self) -> None:
        bench = Engine()
        picture = disc(30.0, noise=3.0)
        edges = detectors.KINDS["edges"]
        with mock.patch.object(edges, "gather", autospec=True, side_effect=edges.gather) as gather:
            for limit in (0.01, 1.0, 100.0):
                bench.detect("edges", picture, edges.Parameters.make({"false_alarms": limit}, "edges"))
            self.assertEqual(gather.call_count, 1)
            bench.detect("edges", picture, edges.Parameters.make({"sigma": 2.0}, "edges"))
            self.assertEqual(gather.call_count, 2)
            other = Image.from_array(picture.pixels)
            bench.detect("edges", other, edges.Parameters.make({"sigma": 2.0}, "edges"))
            self.assertEqual(gather.call_count, 3)

    def test_the_cache_is_bounded_in_bytes(self) -> None:
        cache = Cache(most_bytes=1000)
        for key in range(20):
            cache.get(key, lambda: np.zeros(100, np.uint8))
        self.assertLessEqual(cache.nbytes, 1000)
        self.assertEqual(len(cache), 10)
        made = []
        cache.get(19, lambda: made.append(1))
        cache.get(0, lambda: made.append(2))
        self.assertEqual(made, [2])

    def test_a_failure_is_not_kept(self) -> None:
        cache = Cache()
        with self.assertRaises(ZeroDivisionError):
            cache.get("a", lambda: 1 // 0)
        self.assertEqual(cache.get("a", lambda: 5), 5)

    def test_cancelling_is_prompt_and_leaves_nothing(self) -> None:
        bench = Engine()
        picture = Image.from_array(np.random.default_rng(0).integers(0, 255, (1200, 300)).astype(np.uint8))
        asked = []

        def cancelled() -> bool:
            asked.append(1)
            return len(asked) > 3

        parameters = detectors.KINDS["edges"].Parameters.make({}, "edges")
        with self.assertRaises(Cancelled):
            bench.detect("edges", picture, parameters, cancelled=cancelled)
        # Asked before each of the 19 bands; none of those after the third did any work.
        self.assertLess(len(asked), 25)
        self.assertGreater(len(bench.detect("edges", picture, parameters).task.candidates), 0)

    def test_same_bytes_for_any_number_of_threads(self) -> None:
        picture = Image.from_array(noise_pictures(3, 500, 300)["white"])
        results = []
        try:
            for count in (1, 2, 3):
                threads.set_thread_count(count)
                task = engine.detect("edges", picture, {}).task
                results.append(b"".join(np.ascontiguousarray(c).tobytes() for c in task.candidates.columns.values()))
        finally:
            threads.set_thread_count(2)
        self.assertEqual(len(set(results)), 1)

    def test_a_band_that_waits_for_bands_does_not_deadlock(self) -> None:
        done: list[int] = []

        def outer(top: int, bottom: int) -> None:
            done.append(sum(threads.over_bands(lambda a, b: b - a, 300)))

        worker = threading.Thread(target=lambda: threads.over_bands(outer, 600), daemon=True)
        worker.start()
        worker.join(20)
        self.assertFalse(worker.is_alive())
        self.assertEqual(done, [300] * len(threads.bands(600)))
