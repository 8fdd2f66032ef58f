"""Maps of votes on the bench: shown whole beside the image and tied to it both ways; sizes by ruler and like a finding's."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QLabel, QPushButton

from lucid_finch.demo import scene
from tests.desktop.support import BenchCase


class OfLines(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.bench.documents.open_demo("tile_panel")
        self.settle()
        self.bench.study.choose("grout lines")
        self.settle()
        self.bench.panes.activate(1)
        self.bench.stages.show_map("accumulator")
        self.settle()

    def test_a_map_that_is_no_image_keeps_its_own_view(self) -> None:
        first, second = self.bench.frames[:2]
        self.assertTrue(second.pane.apart)
        box = second.pane.picture.box
        corner = second.pane.from_source(box[0], box[1])
        self.assertTrue(second.pane.rect().contains(corner.toPoint()))
        before = (second.view.x, second.view.y, second.view.scale)
        first.view.set(300.0, 200.0, 2.0)
        self.assertEqual((second.view.x, second.view.y, second.view.scale), before)
        second.view.set(100.0, 100.0, 3.0)
        self.assertEqual((first.view.x, first.view.scale), (300.0, 2.0))
        # An image again, it follows the other pane.
        self.bench.stages.show_map("magnitude")
        self.settle()
        self.assertEqual((second.view.x, second.view.y, second.view.scale), (300.0, 200.0, 2.0))

    def test_peaks_are_marked_and_a_cell_chooses_its_line(self) -> None:
        detection = self.bench.study.detection
        links = detection.evidence["accumulator"].links
        self.assertEqual([m.name for m in detection.evidence.values() if m.links is not None], ["accumulator"])
        pane = self.bench.frames[1].pane
        peaks = [m for m in pane.marks if m.only_on == "accumulator"]
        self.assertEqual(len(peaks[0].numbers), len(detection.findings))
        row = int(np.argmax(detection.findings["votes"]))
        column, line = links.peaks()[row]
        self.bench.pick(self.bench.frames[1], float(column), float(line))
        self.assertEqual(self.bench.findings.chosen_rows().tolist(), [row])
        lit = [m for m in pane.marks if m.passing]
        self.assertGreater(len(lit[0].at), 200)
        # The points lie on the line, in the image.
        theta = np.radians(detection.findings["theta"][row])
        off = lit[0].at @ (np.cos(theta), np.sin(theta)) - detection.findings["rho"][row]
        self.assertLess(np.abs(off).max(), 12.0)
        pane.grab()
        # The next choice takes them away.
        self.bench.choose([0], [])
        self.bench.pick(self.bench.frames[0], -50.0, -50.0)
        self.assertEqual([m for m in pane.marks if m.passing], [])

    def test_a_place_of_the_image_draws_its_curve(self) -> None:
        pane = self.bench.frames[1].pane
        points = self.bench.study.detection.points
        self.bench.pick(self.bench.frames[0], float(points["x"][40]), float(points["y"][40]))
        curves = [m for m in pane.marks if m.passing]
        self.assertEqual((len(curves), curves[0].only_on), (1, "accumulator"))
        before = pane.grab().toImage()
        self.bench.pick(self.bench.frames[0], -50.0, -50.0)
        self.assertNotEqual(pane.grab().toImage(), before)

    def test_axes_are_written_and_read(self) -> None:
        frame = self.bench.frames[1]
        frame.view.set_cursor(frame.pane.to_source(QPointF(frame.pane.width() / 2, frame.pane.height() / 2)))
        self.assertRegex(frame.info.text(), r"^\(-?[\d.]+, -?[\d.]+\) ")


class OfCircles(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        self.bench.documents.open_demo("pierced_screen")
        self.settle()

    def _radius(self) -> tuple[float, float]:
        return self.bench.study.recipe.detectors[0].made_parameters().radius

    def test_a_centre_chooses_its_circle(self) -> None:
        self.bench.panes.activate(1)
        self.bench.stages.show_map("accumulator")
        self.settle()
        findings = self.bench.study.detection.findings
        self.assertGreater(len(findings), 125)
        self.assertFalse(self.bench.frames[1].pane.apart)
        self.bench.pick(self.bench.frames[1], float(findings["x"][30]) + 1, float(findings["y"][30]))
        chosen = self.bench.findings.chosen_rows().tolist()
        self.assertLess(np.hypot(findings["x"][chosen[0]] - findings["x"][30], findings["y"][chosen[0]] - findings["y"][30]), 2)

    def test_the_ruler_sets_the_range_around_half_of_it(self) -> None:
        self.bench.applier.start_ruler()
        self.assertEqual(self.bench.drawing.kind, "line")
        shape = {"shape": "line", "points": [[100.0, 100.0], [170.0, 140.0]]}
        self.bench.drawing.changed.emit("ruler", shape, True)
        self.assertEqual(self._radius(), (8.0, 34.0))
        # By hand: down at one end, up at the other.
        pane = self.bench.frames[0].pane
        self.bench.drawing.press(pane, (100.0, 100.0))
        self.bench.drawing.move((120.0, 125.0))
        self.bench.drawing.release(pane, (130.0, 140.0))
        self.settle()
        self.assertEqual(self.bench.drawing.kind, "")
        self.assertEqual(self._radius(), (18.8, 32.5))
        self.assertIn("32.5", self.bench.notice.text.text())
        self.assertEqual(self.bench.drawing.items.get("ruler"), None)
        self.bench.study.undo.undo()
        self.settle()
        self.assertEqual(self._radius(), (8.0, 34.0))

    def test_like_a_finding(self) -> None:
        self.bench.findings.choose([])
        self.bench.applier.like_chosen()
        self.assertEqual(self._radius(), (8.0, 34.0))
        findings = self.bench.study.detection.findings
        row = int(np.argmin(findings["radius"]))
        self.bench.findings.choose([row])
        self.bench.applier.like_chosen()
        self.settle()
        low, high = self._radius()
        self.assertTrue(low < findings["radius"][row] < high)
        self.assertLess(self.bench.study.detection.findings["radius"].max(), high + 0.16)

    def test_a_measured_length_becomes_a_range(self) -> None:
        self.assertIn("radius", [name for name, _ in self.bench.settings.lengths()])
        self.bench.applier.take_value("radius", 20.0)
        self.assertEqual(self._radius(), (15.0, 26.0))

    def test_why_nothing_is_found_is_readable_and_what_it_offers_is_taken(self) -> None:
        self.bench.study.edit_detector("openings", {"radius": (24.0, 34.0)}, "radius")
        self.settle()

        small = next(
            m for m in scene("pierced_screen").marks if m["name"] == "small hole" and 100 < m["x"] < 600 and m["y"] > 150
        )
        self.bench.asking.ask(small["x"], small["y"])
        answer = self.bench.explanation
        told = max(answer.findChildren(QLabel), key=lambda label: len(label.text()))
        self.assertRegex(told.text(), "radius")
        # All lines of the text have room.
        self.assertGreaterEqual(told.height(), told.heightForWidth(told.width()))
        offered = {b.accessibleName(): b for b in answer.findChildren(QPushButton)}
        name = next(n for n in offered if n.startswith("Radius "))
        self.assertRegex(name, r"^Radius [\d.]+, 34 px: accepts this and \d+ more, loses none$")
        offered[name].click()
        self.settle()
        self.assertLess(self._radius()[0], small["radius"])
        findings = self.bench.study.detection.findings
        self.assertLess(float(np.hypot(findings["x"] - small["x"], findings["y"] - small["y"]).min()), 1.0)


class OfEllipses(BenchCase):
    def test_a_histogram_has_the_limits_of_its_own_column_alone(self) -> None:
        self.bench.documents.open_demo("leaning_screen")
        self.settle()
        limits = self.bench.study.detection.task.judgement.limits
        self.assertEqual({"coverage", "enough"}, {limit.criterion for limit in limits if limit.parameter == "coverage_min"})
        histogram = self.bench.settings.editors["", "coverage_min"].histogram
        self.assertEqual([limit.criterion for limit in histogram.limits], ["coverage"])

    def test_the_ruler_lies_along_the_longer_axis_and_like_a_finding_keeps_its_kind(self) -> None:
        self.bench.documents.open_demo("leaning_screen")
        self.settle()
        study, adopter = self.bench.study, self.bench.applier

        def axis() -> tuple[float, float]:
            return study.recipe.detectors[0].made_parameters().axis

        before = study.detection.findings
        row = int(np.argmax(before["semi_major"]))
        x, y, reach = (float(before[n][row]) for n in ("x", "y", "semi_major"))
        turn = np.radians(float(before["angle"][row]))
        ends = [[x + s * reach * np.cos(turn), y + s * reach * np.sin(turn)] for s in (-1, 1)]
        adopter.start_ruler()
        self.assertEqual(self.bench.drawing.kind, "line")
        adopter.ruled("ruler", {"shape": "line", "points": ends}, False)
        self.settle()
        low, high = axis()
        self.assertAlmostEqual(high, 1.3 * reach, delta=0.01 * reach)
        # Ovals as flat as the limit are among those looked for.
        self.assertAlmostEqual(low, 0.75 * 0.25 * reach, delta=0.01 * reach)
        found = study.detection.findings
        self.assertLess(float(np.hypot(found["x"] - x, found["y"] - y).min()), 0.5)
        self.bench.findings.choose([int(np.argmin(np.hypot(found["x"] - x, found["y"] - y)))])
        adopter.like_chosen()
        self.settle()
        found = study.detection.findings
        self.assertLess(float(np.hypot(found["x"] - x, found["y"] - y).min()), 0.5)
        self.assertGreater(axis()[0], low)
        self.assertGreaterEqual(float(found["semi_minor"].min()), axis()[0] - 0.01)
        study.undo.undo()
        study.undo.undo()
        self.settle()
        self.assertIsNone(axis())
