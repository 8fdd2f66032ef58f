"""The coordinator: the latest job wins, kept jobs are done, failures are told; and the parts that editors are made of."""

from __future__ import annotations

import threading
import unittest
from typing import Any

import numpy as np

from lucid_finch.core.errors import Cancelled, ParameterError
from lucid_finch.core.judging import Limit
from lucid_finch.desktop.pages.tables import significance_grade
from lucid_finch.desktop.recipe_panel.editors import Histogram
from lucid_finch.desktop.study.worker import Coordinator, Job
from tests.desktop.support import WindowCase


class Jobs(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.worker = Coordinator()
        self.addCleanup(self.worker.close)
        self.parts: list[Any] = []
        self.failures: list[Any] = []
        self.worker.part_done.connect(lambda generation, part: self.parts.append(part))
        self.worker.failed.connect(lambda generation, error: self.failures.append(error))

    def test_the_latest_wins_and_kept_jobs_are_done(self) -> None:
        started, release = threading.Event(), threading.Event()

        def first(job: Job) -> None:
            started.set()
            release.wait(20)
            job.emit_part("first")
            if job.cancelled():
                raise Cancelled()

        self.worker.submit("first", first)
        self.assertTrue(started.wait(20))
        self.worker.submit("second", lambda job: job.emit_part("second"))
        self.worker.submit("kept", lambda job: job.emit_part("kept"), keep=True)
        self.worker.submit("third", lambda job: job.emit_part("third"))
        release.set()
        # At rest means that all was delivered.
        self.wait(lambda: not self.worker.busy)
        self.assertEqual(self.parts, ["kept", "third"])
        self.assertEqual(self.failures, [])

    def test_a_failure_is_told_and_the_next_job_runs(self) -> None:
        def wrong(job: Job) -> None:
            raise ParameterError("no good")

        self.worker.submit("wrong", wrong, keep=True)
        self.worker.submit("right", lambda job: job.emit_part("right"))
        self.wait(lambda: not self.worker.busy)
        self.assertEqual((str(self.failures[0]), self.parts), ("no good", ["right"]))


class Parts(WindowCase):
    def test_a_place_on_the_histogram_is_a_value_and_back(self) -> None:
        histogram = Histogram("test")
        histogram.resize(220, 54)
        histogram.show_values(np.array([-3.0, 0.5, 2.0, 40.0, 900.0, np.nan]), (Limit("p", "c", "at least", 2.0),))
        for value in (-2.0, 0.0, 2.0, 35.0, 800.0):
            self.assertAlmostEqual(histogram.value_at(histogram.place_of(value)), value, delta=1e-6 * abs(value) + 1e-9)
        self.assertEqual(int(histogram._bins.sum()), 5)

    def test_significance_has_four_grades(self) -> None:
        self.assertEqual([significance_grade(v).count("●") for v in (-5.0, 0.5, 4.0, 10.0, 300.0, np.nan)], [0, 1, 2, 3, 4, 0])


if __name__ == "__main__":
    unittest.main()
