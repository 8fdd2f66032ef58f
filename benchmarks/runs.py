"""Measures runs: overlap of the stages of a clip, the cost of an image in a batch, kills, jobs, a cluster, a live camera.

Usage: python -m benchmarks.runs clip|batch|kills|cluster|live [--count N] [--seconds S]
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import numpy as np
from PIL import Image as Pillow

from lucid_finch.core.execution.engine import Engine
from lucid_finch.core.numerics.runtime.threads import set_thread_count
from lucid_finch.core.recipe import Recipe
from lucid_finch.files.annotated import annotated_picture
from lucid_finch.files.clips import Clip, ClipWriter
from lucid_finch.files.images import read_image
from lucid_finch.pipeline.batch import Batch
from lucid_finch.pipeline.sinks import Outputs
from lucid_finch.pipeline.sources import Place, images_in
from lucid_finch.pipeline.whole_run import Wish, run_all

EDGES = '{"lucid_finch_recipe": 2, "name": "r", "detectors": [{"name": "edges", "kind": "edges"}]}'


def moving(path: Path, count: int, size: tuple[int, int] = (1920, 1080)) -> None:
    """A clip of a textured scene that moves, in colour, packed as cameras do."""
    import av

    width, height = size
    rough = np.random.default_rng(0).normal(0, 1, (height // 4, (width + 8 * count) // 4 + 1, 3))
    scene = np.asarray(Pillow.fromarray(np.clip(128 + 40 * rough, 0, 255).astype(np.uint8)).resize((width + 8 * count, height)))
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=30)
        stream.width, stream.height, stream.pix_fmt, stream.options = width, height, "yuv420p", {"crf": "20", "preset": "fast"}
        for k in range(count):
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(scene[:, 8 * k : 8 * k + width]), format="rgb24")
            for packet in stream.encode(frame):
                out.mux(packet)
        for packet in stream.encode(None):
            out.mux(packet)


def clip(count: int) -> None:
    """Total time of edges over a clip with an annotated clip out, against the slowest stage and half of the CPU time."""
    with tempfile.TemporaryDirectory() as folder:
        source = Path(folder) / "in.mp4"
        moving(source, count)
        recipe = Recipe.parse(EDGES)
        batch = Batch(recipe, Path(folder) / "out", Outputs.named(("clip", "table")))
        for _ in run_all(Batch(recipe, None), [images_in([source])[:2]]):
            pass
        begun, cpu = time.perf_counter(), time.process_time()
        for _ in run_all(batch, [images_in([source])]):
            pass
        total, used = time.perf_counter() - begun, time.process_time() - cpu
        stages = {}
        begun = time.perf_counter()
        with Clip(source) as opened:
            images = [frame.image("in", count) for frame in opened.frames()]
        stages["decode"] = time.perf_counter() - begun
        begun, engine = time.perf_counter(), Engine()
        runs = [engine.run(recipe, image) for image in images]
        stages["detect"] = time.perf_counter() - begun
        begun = time.perf_counter()
        drawn = [np.asarray(annotated_picture(run, factor=1)) for run in runs]
        stages["draw"] = time.perf_counter() - begun
        begun = time.perf_counter()
        with ClipWriter(Path(folder) / "again.mkv") as writer:
            for k, picture in enumerate(drawn):
                writer.write(picture, k / 30)
        stages["encode"] = time.perf_counter() - begun
        bound = max(*stages.values(), used / 2)
        print({name: f"{1000 * s / count:.0f} ms" for name, s in stages.items()}, f"cpu {1000 * used / count:.0f} ms a frame")
        share = total / bound
        print(f"total {1000 * total / count:.0f} ms a frame: {share:.2f} of the larger of slowest stage and half the CPU time")


def small_images(folder: Path, count: int) -> list[Place]:
    """PNG files of 64 x 64."""
    random_ = np.random.default_rng(0)
    y, x = np.mgrid[:64, :64]
    for n in range(count):
        path = folder / f"{n // 1000:03d}" / f"{n}.png"
        path.parent.mkdir(parents=True, exist_ok=True)
        picture = 100 + 80 * (np.hypot(x - 32, y - 32) < 12 + n % 7) + random_.normal(0, 2, (64, 64))
        Pillow.fromarray(np.clip(picture, 0, 255).astype(np.uint8)).save(path)
    return images_in([folder], recursive=True)


def batch(count: int) -> None:
    """Milliseconds an image beyond reading and detecting; two jobs against one; memory of this process."""
    set_thread_count(1)
    with tempfile.TemporaryDirectory() as folder:
        places, recipe = small_images(Path(folder) / "in", count), Recipe.parse(EDGES)
        engine = Engine()
        for place in places[:200]:
            engine.run(recipe, place.read())
        begun = time.perf_counter()
        for place in places:
            engine.run(recipe, read_image(place.path))
        bare = time.perf_counter() - begun
        spent = {}
        for kinds in (("table",), ("csv", "findings")):
            begun = time.perf_counter()
            for _ in run_all(Batch(recipe, Path(folder) / "-".join(kinds), Outputs.named(kinds)), [places]):
                pass
            spent["+".join(kinds)] = time.perf_counter() - begun
        print(f"reading and detecting {1000 * bare / count:.2f} ms an image; beyond it",
              {name: f"{1000 * (s - bare) / count:.2f} ms" for name, s in spent.items()})  # fmt: skip
        large_images(Path(folder) / "big")
        times = {}
        for jobs in (1, 2):
            command = [
                sys.executable,
                "-m",
                "benchmarks.runs",
                "timed",
                "--count",
                str(jobs),
                "--folder",
                str(Path(folder) / "big"),
            ]
            made = subprocess.run(command, capture_output=True, text=True, env={**os.environ, "OMP_NUM_THREADS": "1"}, check=True)
            times[jobs] = float(made.stdout.split()[-1])
        print(f"two jobs {times[1] / times[2]:.2f} times one, each with one thread")
        print(f"memory of this process at most {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


def large_images(folder: Path) -> None:
    """Forty PNG files of 1200 x 900."""
    folder.mkdir()
    stripes = 60 * ((np.mgrid[:900, :1200][1] // 80) % 2)
    for n in range(40):
        picture = 128 + np.random.default_rng(n).normal(0, 20, (900, 1200)) + stripes
        Pillow.fromarray(np.clip(picture, 0, 255).astype(np.uint8)).save(folder / f"{n}.png")


def timed(jobs: int, folder: Path) -> None:
    """Seconds an image with so many jobs, each of one thread, once they run."""
    set_thread_count(jobs)
    batch_ = Batch(Recipe.parse(EDGES), folder.parent / f"jobs{jobs}", Outputs.named(("table",)))
    records = run_all(batch_, [images_in([folder])], Wish(jobs=jobs))
    for _ in range(4):
        next(records)
    begun = time.perf_counter()
    count = sum(1 for _ in records)
    print((time.perf_counter() - begun) / count)


def kills(count: int, times: int = 50) -> None:
    """A run that is killed at random and resumed, against one that is not."""
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        small_images(root / "in", count)
        (root / "r.finch.json").write_text(EDGES)

        def command(out: str) -> list[str]:
            given = [str(root / "r.finch.json"), str(root / "in"), "--recursive", "--out", str(root / out)]
            return [sys.executable, "-m", "lucid_finch", "run", *given, "--outputs", "table", "--resume"]

        begun = time.perf_counter()
        subprocess.run(command("whole"), check=True, capture_output=True)
        alone = time.perf_counter() - begun
        random.seed(1)
        killed = 0
        begun = time.perf_counter()
        while killed < times:
            process = subprocess.Popen(command("killed"), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            try:
                process.wait(2.0 + random.uniform(0, 2 * alone / times))
                break
            except subprocess.TimeoutExpired:
                process.send_signal(signal.SIGKILL)
                process.wait()
                killed += 1
        subprocess.run(command("killed"), check=True, capture_output=True)
        same = (root / "whole/all.edges.csv").read_bytes() == (root / "killed/all.edges.csv").read_bytes()
        print(f"{count} images, killed {killed} times: the table is {'the same' if same else 'ANOTHER'}")
        print(f"{alone:.0f} s undisturbed, {time.perf_counter() - begun:.0f} s with kills")


def cluster() -> None:
    """Two workers of one thread against one."""
    with tempfile.TemporaryDirectory() as folder:
        big = Path(folder) / "in"
        large_images(big)
        start = [sys.executable, "-m"]
        scheduler = subprocess.Popen(
            [*start, "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard"],
            stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert scheduler.stderr is not None
        address = next(line.split()[-1] for line in scheduler.stderr if "Scheduler at:" in line)
        threading.Thread(target=scheduler.stderr.read, daemon=True).start()
        workers, times, made = [], {}, {}
        try:
            for count in (1, 2):
                workers.append(subprocess.Popen(
                    [*start, "distributed.cli.dask_worker", address, "--nthreads", "1", "--no-dashboard", "--no-nanny"],
                    stderr=subprocess.DEVNULL, env={**os.environ, "OMP_NUM_THREADS": "1"},
                ))  # fmt: skip
                time.sleep(6)
                places = images_in([big])
                for part in ("warm", "timed"):
                    out = Path(folder) / f"{part}{count}"
                    begun = time.perf_counter()
                    for _ in run_all(Batch(Recipe.parse(EDGES), out, Outputs.named(("csv",))), [places], Wish(scheduler=address)):
                        pass
                    times[count] = time.perf_counter() - begun
                made[count] = {p.name: p.read_bytes() for p in sorted(out.glob("*.edges.csv"))}
        finally:
            for process in (*workers, scheduler):
                process.kill()
        print({n: f"{t:.2f} s" for n, t in times.items()}, "for 40 images")
        print(f"two workers {times[1] / times[2]:.2f} times one; the same bytes: {made[1] == made[2]}")


def live(seconds: float) -> None:
    """The simulated camera with edges in the window: age of frames, gaps of the event loop, memory."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QTimer

    from lucid_finch.desktop.shell.application import make_application
    from lucid_finch.desktop.shell.window import Bench

    application, bench = make_application(), Bench()
    bench.show()
    bench.study.open_recipe(Recipe.parse(EDGES), None)
    bench.camera.open_camera("camera:simulated")
    gaps: list[float] = []
    ages: list[float] = []
    memory: list[float] = []
    last = time.perf_counter()
    begun = time.perf_counter()

    def tick() -> None:
        nonlocal last
        now = time.perf_counter()
        if now - begun > 8:
            gaps.append(now - last)
        last = now

    def sample() -> None:
        if time.perf_counter() - begun > 8:
            ages.extend(bench.camera.ages)
            memory.append(int(Path("/proc/self/statm").read_text().split()[1]) * 4096 / 1e6)
        bench.camera.ages = []
        if time.perf_counter() - begun > seconds + 8:
            application.quit()

    timers = []
    for interval, call in ((1, tick), (200, sample)):
        timer = QTimer()
        timer.setInterval(interval)
        timer.timeout.connect(call)
        timer.start()
        timers.append(timer)
    application.exec()
    bench.close()
    tenth = max(len(memory) // 10, 1)
    median, most, top = (1e3 * float(np.quantile(ages, q)) for q in (0.5, 0.95, 1))
    print(f"shown {len(ages) / seconds:.1f}/s, age median {median:.0f} ms, 95 % {most:.0f}, most {top:.0f} (two frame times: 67)")
    print(f"gaps of the event loop: 99 % below {1e3 * np.quantile(gaps, 0.99):.0f} ms")
    print(f"memory {np.mean(memory[tenth : 2 * tenth]):.0f} to {np.mean(memory[-tenth:]):.0f} MB")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=("clip", "batch", "kills", "cluster", "live", "timed"))
    parser.add_argument("--count", type=int, default=0)
    parser.add_argument("--seconds", type=float, default=30)
    parser.add_argument("--folder", default="")
    given = parser.parse_args()
    {
        "clip": lambda: clip(given.count or 60), "batch": lambda: batch(given.count or 2000),
        "kills": lambda: kills(given.count or 100_000), "cluster": cluster, "live": lambda: live(given.seconds),
        "timed": lambda: timed(given.count, Path(given.folder)),
    }[given.what]()  # fmt: skip


if __name__ == "__main__":
    main()
