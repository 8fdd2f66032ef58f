"""Whole runs: clips in and out, tracks, what is done again after a break, images that arrive, a cluster, stages that overlap."""

from __future__ import annotations

import csv
import json
import os
import signal
import subprocess
import sys
import threading
import time
import unittest
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas
from PIL import Image as Pillow

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.recipe import Recipe
from lucid_finch.files.clips import Clip, ClipWriter
from lucid_finch.pipeline.batch import Batch
from lucid_finch.pipeline.sinks import Outputs
from lucid_finch.pipeline.sources import Place, images_in
from lucid_finch.pipeline.stages import ahead
from lucid_finch.pipeline.watching import arriving
from lucid_finch.pipeline.whole_run import Report, Wish, run_all
from tests.files.test_images import InFolder
from tests.support import disc

RECIPE = """{"lucid_finch_recipe": 2, "name": "r",
"detectors": [{"name": "discs", "kind": "circles", "parameters": {"radius": [9, 16]}%s}]}"""


def belt(path: Path, count: int = 12) -> list[float]:
    """Three discs that move; the times of the frames."""
    times = np.cumsum(np.random.default_rng(2).uniform(0.02, 0.06, count))
    y, x = np.mgrid[:120, :200]
    with ClipWriter(path) as writer:
        for k, seconds in enumerate(times):
            far = np.min([np.hypot(x - cx - 7 * k, y - cy) for cx, cy in ((20, 25), (60, 60), (140, 95))], axis=0)
            picture = 90 + 100 / (1 + np.exp(2 * (far - 12))) + np.random.default_rng(k).normal(0, 2, far.shape)
            writer.write(np.clip(np.round(picture), 0, 255).astype(np.uint8), float(seconds))
    return (times - times[0]).tolist()


class RunCase(InFolder):
    def batch(self, out: str, *kinds: str, track: bool = False, **others: object) -> Batch:
        recipe = Recipe.parse(RECIPE % (', "track": true' if track else ""))
        return Batch(recipe, self.path(out), Outputs.named(kinds or ("findings", "csv"), **others))

    def pictures(self, count: int) -> list[Place]:
        self.path("in").mkdir(exist_ok=True)
        for number in range(count):
            Pillow.fromarray(disc(10.0 + number % 5, noise=2.0, size=64).pixels).save(self.path(f"in/{number}.png"))
        return images_in([self.path("in")])

    def summary(self, out: str) -> list[dict[str, str]]:
        with self.path(out, "summary.csv").open() as stream:
            return [{**row, "seconds": ""} for row in csv.DictReader(stream)]

    def path(self, *parts: str) -> Path:
        return Path(self.folder, *parts)


class Clips(RunCase):
    def test_a_clip_gives_clips_tables_and_lines(self) -> None:
        times = belt(self.path("belt.mkv"))
        places = images_in([self.path("belt.mkv")])
        self.assertEqual([place.page for place in places], list(range(12)))
        np.testing.assert_allclose([place.time for place in places], times, atol=0.0011)
        batch = self.batch("out", "clip", "map-clip", "table", "table-parquet", "lines", track=True)
        report = Report()
        self.assertEqual(len(list(run_all(batch, [places], report=report))), 12)
        with Clip(self.path("out/belt.mkv.annotated.mkv")) as clip:
            self.assertEqual((len(clip), clip.size), (12, (200, 120)))
            np.testing.assert_allclose([clip.time_of(n) for n in range(12)], times, atol=0.0021)
        with Clip(self.path("out/belt.mkv.discs_magnitude.mkv")) as clip:
            self.assertEqual(len(clip), 12)
            self.assertGreater(clip.frame(5).pixels.std(), 10)
        table = pandas.read_csv(self.path("out/all.discs.csv"))
        self.assertEqual(set(table["track"]), {1, 2, 3})
        first = table[table["track"] == 1]
        np.testing.assert_allclose(np.diff(first["x"]), 7, atol=0.5)
        np.testing.assert_allclose(first["time"], times[: len(first)], atol=0.0011)
        parquet = pandas.read_parquet(self.path("out/all.discs.parquet"))
        np.testing.assert_allclose(parquet["x"], table["x"])
        self.assertEqual(parquet["polarity"].tolist(), table["polarity"].tolist())
        lines = [json.loads(line) for line in self.path("out/all.findings.jsonl").read_text().splitlines()]
        self.assertEqual([line["image"]["page"] for line in lines], list(range(12)))
        self.assertAlmostEqual(lines[3]["image"]["time"], times[3], delta=0.0011)
        # What was written is no input.
        for recursive in (False, True):
            self.assertEqual({place.path.name for place in images_in([self.folder], recursive)}, {"belt.mkv"})

    def test_only_some_frames(self) -> None:
        belt(self.path("belt.mkv"))
        self.assertEqual([place.page for place in images_in([self.path("belt.mkv")], every=5)], [0, 5, 10])
        (one,) = images_in([self.path("belt.mkv")], frames=4)
        self.assertEqual((one.page, one.result_name), (4, "belt.mkv.frame-000004"))

    def test_pictures_of_several_sizes_give_what_fits(self) -> None:
        places = self.pictures(3)
        Pillow.fromarray(disc(12.0, size=80).pixels).save(self.path("in/9.png"))
        report = Report()
        done = list(run_all(self.batch("out", "clip"), [images_in([self.path("in")])], report=report))
        self.assertEqual((len(done), report.failed), (4, 0))
        self.assertRegex(report.failures[0], "frame 3 is 80 x 80 px, those before 64 x 64")
        with Clip(self.path("out/images.annotated.mkv")) as clip:
            self.assertEqual(len(clip), len(places))

    def test_pictures_of_several_folders_make_one_clip(self) -> None:
        self.pictures(2)
        self.path("in/more").mkdir()
        Pillow.fromarray(disc(12.0, size=64).pixels).save(self.path("in/more/a.png"))
        for _ in run_all(self.batch("out", "clip"), [images_in([self.path("in")], recursive=True)]):
            pass
        with Clip(self.path("out/images.annotated.mkv")) as clip:
            self.assertEqual(len(clip), 3)

    def test_a_clip_is_not_written_over_an_input(self) -> None:
        belt(self.path("images.annotated.mkv"), 2)
        before = self.path("images.annotated.mkv").read_bytes()
        batch = replace(self.batch(".", "clip"), kept=[self.path("images.annotated.mkv")])
        report = Report()
        for _ in run_all(batch, [self.pictures(1)], report=report):
            pass
        self.assertRegex(report.failures[0], "is an input and is not written over")
        self.assertEqual(self.path("images.annotated.mkv").read_bytes(), before)


class GoingOn(RunCase):
    def run_through(self, batch: Batch, places: list[Place], **wish: object) -> Report:
        report = Report()
        for _ in run_all(batch, [places], Wish(**wish), report):  # type: ignore[arg-type]
            pass
        return report

    def test_only_what_is_missing_or_has_changed(self) -> None:
        places = self.pictures(6)
        batch = self.batch("out", "findings", "table")
        records = run_all(batch, [places])
        for _ in range(2):
            next(records)
        records.close()
        self.assertTrue(2 <= len(self.summary("out")) <= 5)
        report = self.run_through(batch, places, resume=True)
        self.assertEqual(report.done, 6)
        self.assertTrue(2 <= report.kept <= 5)
        whole = self.batch("whole", "findings", "table")
        self.run_through(whole, places)
        self.assertEqual(self.summary("out"), self.summary("whole"))
        self.assertEqual(self.path("out/all.discs.csv").read_bytes(), self.path("whole/all.discs.csv").read_bytes())
        # Touched but the same; changed; its result gone.
        os.utime(places[0].path)
        Pillow.fromarray(disc(15.0, size=64).pixels).save(places[1].path)
        self.path("out/2.png.findings.json").unlink()
        self.assertEqual(self.run_through(batch, places, resume=True).kept, 4)
        self.assertEqual(self.run_through(batch, places, resume=True).kept, 6)
        self.assertEqual(self.run_through(batch, places).kept, 0)
        other = Batch(Recipe.parse(RECIPE.replace("9, 16", "9, 17") % ""), batch.out, batch.outputs)
        report = self.run_through(other, places, resume=True)
        self.assertEqual((report.kept, report.begun_anew), (0, True))

    def test_stopped_while_going_through_what_was_kept(self) -> None:
        places, batch = self.pictures(5), self.batch("out", "table")
        self.run_through(batch, places)
        whole = self.summary("out")
        records = run_all(batch, [places], Wish(resume=True))
        next(records)
        records.close()
        self.assertEqual(self.summary("out"), whole)
        # What a whole run has not come by is not of it.
        self.run_through(batch, places[:3], resume=True)
        self.assertEqual(self.summary("out"), whole[:3])
        self.assertEqual(self.run_through(batch, places, resume=True).kept, 5)

    def test_what_failed_is_done_again_on_request(self) -> None:
        places = self.pictures(3)
        good = places[1].path.read_bytes()
        places[1].path.write_bytes(good[:60])
        batch = self.batch("out")
        self.assertEqual(self.run_through(batch, places).failed, 1)
        report = self.run_through(batch, places, resume=True)
        self.assertEqual((report.kept, report.failed), (3, 1))
        report = self.run_through(batch, places, resume=True, retry=True)
        self.assertEqual((report.kept, report.failed), (2, 1))
        places[1].path.write_bytes(good)
        report = self.run_through(batch, places, resume=True)
        self.assertEqual((report.kept, report.failed), (2, 0))

    def test_killed_runs_lose_at_most_what_was_in_work(self) -> None:
        places = self.pictures(30)
        self.path("r.finch.json").write_text(RECIPE % "")
        command = [
            sys.executable, "-m", "lucid_finch", "run", str(self.path("r.finch.json")), str(self.path("in")), "--out",
            str(self.path("out")), "--resume", "--outputs", "csv,table",
        ]  # fmt: skip
        for part in (8, 18):
            process = subprocess.Popen(command, stderr=subprocess.DEVNULL)
            self.addCleanup(process.kill)
            end = time.monotonic() + 60
            while len(list(self.path("out").glob("*.csv"))) < part and time.monotonic() < end and process.poll() is None:
                time.sleep(0.02)
            process.send_signal(signal.SIGKILL)
            process.wait()
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        self.assertRegex(done.stderr, r"30 of 30 images done \((1[0-9]|2[0-9]|30) of them before\)")
        self.run_through(self.batch("whole", "csv", "table"), places)
        self.assertEqual(self.summary("out"), self.summary("whole"))
        self.assertEqual(self.path("out/all.discs.csv").read_bytes(), self.path("whole/all.discs.csv").read_bytes())

    def test_processes_give_the_same(self) -> None:
        places = self.pictures(5)
        self.run_through(self.batch("one", "csv", "table", "clip"), places)
        self.run_through(self.batch("two", "csv", "table", "clip"), places, jobs=2)
        for file in self.path("one").iterdir():
            if file.suffix in (".csv", ".mkv") and file.name != "summary.csv":
                self.assertEqual(file.read_bytes(), self.path("two", file.name).read_bytes(), file.name)
        self.assertEqual(self.summary("one"), self.summary("two"))


class Arriving(RunCase):
    def test_whole_files_only(self) -> None:
        self.pictures(2)
        rounds = arriving([self.path("in")])
        seen: list[str] = []
        end = time.monotonic() + 20

        def until(count: int) -> None:
            while len(seen) < count and time.monotonic() < end:
                seen.extend(place.path.name for place in next(rounds))

        until(2)
        data = self.path("in/0.png").read_bytes()
        growing = self.path("in/new.png").open("wb")

        def grow() -> None:
            for part in np.array_split(np.frombuffer(data, np.uint8), 8):
                growing.write(part.tobytes())
                growing.flush()
                time.sleep(0.2)
            growing.close()

        thread = threading.Thread(target=grow)
        thread.start()
        until(3)
        self.assertTrue(growing.closed)
        thread.join()
        self.assertEqual(seen, ["0.png", "1.png", "new.png"])


class Interrupted(RunCase):
    def test_ctrl_c_twice_leaves_summary_and_table(self) -> None:
        self.pictures(3)
        self.path("r.finch.json").write_text(RECIPE % "")
        command = [
            sys.executable, "-m", "lucid_finch", "run", str(self.path("r.finch.json")), str(self.path("in")), "--out",
            str(self.path("out")), "--outputs", "csv,table", "--watch",
        ]  # fmt: skip
        # What starts the tests in the background may have it ignore Ctrl-C.
        process = subprocess.Popen(
            command, stderr=subprocess.DEVNULL, preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL)
        )  # fmt: skip
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        end = time.monotonic() + 60
        while len(list(self.path("out").glob("*.csv"))) < 3 and time.monotonic() < end:
            time.sleep(0.05)
        time.sleep(0.5)
        for _ in range(2):
            process.send_signal(signal.SIGINT)
        self.assertNotEqual(process.wait(30), 0)
        self.assertEqual(len(self.summary("out")), 3)
        self.assertEqual(len(pandas.read_csv(self.path("out/all.discs.csv"))), 3)


class Stages(unittest.TestCase):
    def test_they_overlap_and_keep_their_order(self) -> None:
        made: list[int] = []

        def source() -> Iterator[int]:
            for n in range(6):
                made.append(n)
                yield n

        items = ahead(source(), 2)
        self.assertEqual(next(items), 0)
        time.sleep(0.3)
        self.assertTrue(2 <= len(made) <= 4)
        self.assertEqual(list(items), [1, 2, 3, 4, 5])

    def test_errors_and_closing(self) -> None:
        closed = threading.Event()

        def source() -> Iterator[int]:
            try:
                yield 1
                raise ParameterError("wrong")
            finally:
                closed.set()

        items = ahead(source())
        self.assertEqual(next(items), 1)
        with self.assertRaises(ParameterError):
            next(items)
        self.assertTrue(closed.wait(5))

        def endless() -> Iterator[int]:
            try:
                while True:
                    yield 1
            finally:
                ended.set()

        ended = threading.Event()
        items = ahead(endless())
        next(items)
        items.close()  # type: ignore[attr-defined]
        self.assertTrue(ended.wait(5))


class Cluster(RunCase):
    def start(self, *arguments: str) -> subprocess.Popen[str]:
        process = subprocess.Popen(
            [sys.executable, "-m", "distributed.cli.dask_" + arguments[0], *arguments[1:]], stderr=subprocess.PIPE, text=True,
            env={**os.environ, "PYTHONWARNINGS": "ignore"},
        )  # fmt: skip
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        return process

    def test_two_workers_one_of_which_is_killed(self) -> None:
        places = self.pictures(40)
        scheduler = self.start("scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard")
        assert scheduler.stderr is not None
        address = next(line.split()[-1] for line in scheduler.stderr if "Scheduler at:" in line)
        threading.Thread(target=scheduler.stderr.read, daemon=True).start()
        workers = []
        for _ in range(2):
            worker = self.start("worker", address, "--nthreads", "1", "--no-dashboard", "--no-nanny")
            assert worker.stderr is not None
            next(line for line in worker.stderr if "Registered to" in line or "Starting established connection" in line)
            threading.Thread(target=worker.stderr.read, daemon=True).start()
            workers.append(worker)
        report = Report()
        for number, _ in enumerate(run_all(self.batch("out", "csv", "table"), [places], Wish(scheduler=address), report)):
            if number == 6:
                workers[0].send_signal(signal.SIGKILL)
        self.assertEqual((report.done, report.failed), (40, 0))
        for _ in run_all(self.batch("here", "csv", "table"), [places]):
            pass
        for file in self.path("here").glob("*.discs.csv"):
            self.assertEqual(file.read_bytes(), self.path("out", file.name).read_bytes())
        self.assertEqual(self.summary("here"), self.summary("out"))

    def test_no_scheduler(self) -> None:
        from unittest import mock

        places = self.pictures(1)
        list(run_all(self.batch("out"), [places]))
        before = self.summary("out")
        self.assertEqual(len(before), 1)
        with mock.patch("lucid_finch.pipeline.cluster._PATIENCE", 0.5), \
                self.assertRaisesRegex(ParameterError, "no Dask scheduler answers at tcp://127.0.0.1:9"):  # fmt: skip
            list(run_all(self.batch("out"), [places], Wish(scheduler="tcp://127.0.0.1:9")))
        # What an earlier run wrote is as it was.
        self.assertEqual(self.summary("out"), before)


if __name__ == "__main__":
    unittest.main()
