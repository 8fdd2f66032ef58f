"""Asking why: a quick answer first; what takes longer is tried in the background and shown when it helps."""

from __future__ import annotations

from unittest.mock import patch

import numpy as np
from PySide6.QtWidgets import QLabel, QPushButton

from benchmarks.hard_scenes import circles, photographed
from lucid_finch.desktop.pages import asking
from tests.desktop.support import BenchCase


class Asking(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.scene = circles(8)
        self.open(photographed(self.scene, "photons 8", 8))
        self.bench.study.add_detector("circles")
        self.settle()
        self.bench.study.edit_detector(self.bench.study.chosen, {"sigma": 1.2}, "sigma")
        self.settle()

    def _missed(self) -> tuple[float, float]:
        f = self.bench.study.detection.findings
        for oval in self.scene.ovals:
            if not len(f) or np.hypot(f["x"] - oval.x, f["y"] - oval.y).min() > 12:
                return oval.x, oval.y
        raise AssertionError("nothing is missed")

    def test_what_takes_longer_is_added_to_the_answer(self) -> None:
        at = self._missed()
        with patch.object(asking, "QUICK", 0.0):
            self.bench.asking.ask(*at)
        card = self.bench.explanation
        self.assertTrue(card.explanation.is_open)
        self.assertIn("Looking for a change that helps …", [label.text() for label in card.findChildren(QLabel)])
        self.assertTrue(self.bench.busy)
        self.wait(lambda: not self.bench.asking.worker.busy, what="the search for a change")
        self.turns()
        self.assertIsNotNone(card.explanation.change)
        self.assertNotIn("Looking for a change that helps …", [label.text() for label in card.findChildren(QLabel)])
        offered = [b for b in card.findChildren(QPushButton) if b.accessibleName().startswith("Smoothing ")]
        offered[-1].click()
        self.settle()
        found = self.bench.study.detection.findings
        self.assertLess(float(np.hypot(found["x"] - at[0], found["y"] - at[1]).min()), 4.0)

    def test_a_card_that_was_closed_stays_closed(self) -> None:
        with patch.object(asking, "QUICK", 0.0):
            self.bench.asking.ask(*self._missed())
            self.bench.explanation.put_away()
            self.wait(lambda: not self.bench.asking.worker.busy, what="the search for a change")
        self.turns()
        self.assertFalse(self.bench.explanation.isVisible())

    def test_an_answer_about_older_findings_is_dropped(self) -> None:
        with patch.object(asking, "QUICK", 0.0):
            self.bench.asking.ask(*self._missed())
        before = self.bench.explanation.explanation
        self.bench.study.edit_detector(self.bench.study.chosen, {"sigma": 2.0}, "sigma")
        self.settle()
        self.wait(lambda: not self.bench.asking.worker.busy, what="the search for a change")
        self.turns()
        self.assertIs(self.bench.explanation.explanation, before)
