"""A clip in the window: timeline, stepping, playing, looping, what is not as expected, trends of counts and of each object."""

from __future__ import annotations

import time
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.frames.reading import AheadReader
from lucid_finch.desktop.frames.timeline import clock
from lucid_finch.desktop.pages.trend import COUNT, object_series, series
from lucid_finch.pipeline.sources import images_in
from tests.desktop.support import BenchCase
from tests.pipeline.test_whole_run import RECIPE, belt


class ClipCase(BenchCase):
    def setUp(self) -> None:
        super().setUp()
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.clip = Path(folder.name) / "belt.mkv"
        self.times = belt(self.clip)
        text = RECIPE % ', "expect": {"count": 3}'
        self.bench.study.open_recipe(Recipe.parse(text), None)
        self.bench.documents.open_path(self.clip)
        self.settle()
        self.timeline = self.bench.timeline

    def all_done(self) -> None:
        self.wait(lambda: not self.bench.images.busy and all(e.result is not None for e in self.bench.images.entries))


class Frames(ClipCase):
    def test_opened_stepped_and_jumped(self) -> None:
        self.assertTrue(self.timeline.isVisible())
        self.assertEqual(len(self.bench.images.entries), 12)
        self.assertIn("frame 1 of 12", self.timeline.said.text())
        self.timeline.step(1)
        self.settle()
        image = self.bench.study.image
        assert image is not None
        self.assertEqual((image.page, image.pages), (1, 12))
        self.assertIn("frame 2 of 12", self.bench.bar.image_name.text())
        track = self.timeline.track
        QTest.mouseClick(track, Qt.MouseButton.LeftButton, pos=QPoint(round(track.place_of(7)), track.height() // 2))
        self.settle()
        assert self.bench.study.image is not None
        self.assertEqual(self.bench.study.image.page, 7)
        self.assertIn(clock(self.times[7]), self.timeline.said.text())
        QTest.keyClick(track, Qt.Key.Key_End)
        self.settle()
        self.assertEqual(self.bench.study.image.page, 11)

    def test_plays_every_frame_of_the_part_that_is_looped(self) -> None:
        self.all_done()
        self.timeline.set_loop(first=3, last=6)
        seen: list[int] = []
        self.bench.study.image_changed.connect(lambda: seen.append(self.bench.study.image.page))
        self.timeline.speed.setCurrentIndex(self.timeline.speed.count() - 1)
        self.bench.actions_by_name["play"].trigger()
        self.assertTrue(self.timeline.playing)
        self.wait(lambda: len(seen) > 9)
        self.bench.actions_by_name["play"].trigger()
        self.assertFalse(self.timeline.playing)
        self.assertEqual(seen[:9], [3, 4, 5, 6, 3, 4, 5, 6, 3])

    def test_another_file_ends_it(self) -> None:
        self.timeline.toggle()
        self.bench.documents.close_image()
        self.settle()
        self.assertFalse(self.timeline.playing)
        self.assertFalse(self.timeline.isVisible())

    def test_a_file_that_is_no_clip(self) -> None:
        bad = self.clip.with_name("bad.mkv")
        bad.write_text("nothing")
        self.bench.documents.open_path(bad)
        self.wait(lambda: "bad.mkv: cannot be read as a clip" in self.bench.failure)
        self.assertFalse(self.timeline.isVisible())

    def test_frames_that_are_not_as_expected(self) -> None:
        self.all_done()
        wrong = [row for row, entry in enumerate(self.bench.images.entries) if entry.is_wrong]
        self.assertTrue(0 < len(wrong) < 12)
        self.bench.actions_by_name["next_wrong"].trigger()
        self.settle()
        self.assertEqual(self.bench.images.current, wrong[0])
        self.assertFalse(self.timeline.track.grab().toImage().isNull())


class Trends(ClipCase):
    def test_counts_and_columns(self) -> None:
        self.all_done()
        entries = self.bench.images.entries
        times, counts = series(entries, "discs", COUNT)
        np.testing.assert_allclose(times, self.times, atol=0.0011)
        self.assertEqual(counts.tolist(), [sum(e.result.counts) for e in entries if e.result is not None])
        _, radii = series(entries, "discs", "radius")
        np.testing.assert_allclose(radii, 12, atol=0.6)
        lines = object_series(entries, "discs", "x")
        self.assertEqual([number for number, _, _ in lines], [1, 2, 3])
        for _, at, x in lines:
            self.assertEqual(len(at), len(x))
            np.testing.assert_allclose(np.diff(x)[:6], 7, atol=0.6)

    def test_the_page_follows_and_a_click_goes_there(self) -> None:
        self.all_done()
        page = self.bench.drawer.trend
        self.bench.actions_by_name["trend"].trigger()
        self.settle()
        items: Any = page.plot.getPlotItem()
        self.assertEqual(len(items.listDataItems()[0].getData()[0]), 12)
        page.column.setCurrentIndex(page.column.findData("x"))
        page.each.setChecked(True)
        self.assertEqual(page.said.text(), "3 objects")
        self.assertEqual(len(items.listDataItems()), 3)
        page.wanted.emit(5)
        self.settle()
        assert self.bench.study.image is not None
        self.assertEqual(self.bench.study.image.page, 5)
        self.assertAlmostEqual(page._cursor.value(), self.times[5], delta=0.002)


class Reading(ClipCase):
    def test_frames_are_read_ahead(self) -> None:
        reader, places = AheadReader(), images_in([self.clip])
        reader.go_ahead(1)
        first = reader.read(places[0])
        end = time.monotonic() + 5
        while len(reader._ready) < 3 and time.monotonic() < end:
            time.sleep(0.01)
        self.assertEqual(sorted(place.page for place in reader._ready), [1, 2, 3])
        np.testing.assert_array_equal(reader.read(places[2]).pixels, images_in([self.clip])[2].read().pixels)
        self.assertEqual(first.pages, 12)
        reader.close()
