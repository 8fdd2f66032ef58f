"""Speed of detectors against those of another checkout: runs of both in turn, so that load on the machine meets both alike.

Usage: python -m benchmarks.against FOLDER [--kinds circles,lines] [--runs 30]   (1920 x 1080, one thread)
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from benchmarks.scenes import photograph

_WORKER = """
import sys, time
import numpy as np
import lucid_finch as lf
from lucid_finch.core.numerics.runtime.threads import set_thread_count
set_thread_count(1)
image = lf.Image.from_array(np.load(sys.argv[1]))
for line in sys.stdin:
    begun = time.perf_counter()
    lf.detect(line.strip(), image)
    print(time.perf_counter() - begun, flush=True)
"""


class Timed:
    """A process that runs the detectors of one checkout when asked."""

    def __init__(self, checkout: Path, picture: Path) -> None:
        environment = {**os.environ, "PYTHONPATH": str(checkout / "src")}
        self.process = subprocess.Popen(
            [sys.executable, "-c", _WORKER, str(picture)], env=environment, cwd=picture.parent, text=True,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        )  # fmt: skip

    def seconds(self, kind: str) -> float:
        """Of one run. Raises `RuntimeError` where it fails."""
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(f"{kind}\n")
        self.process.stdin.flush()
        said = self.process.stdout.readline()
        if not said:
            raise RuntimeError(f"{kind} failed")
        return float(said)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("checkout", type=Path)
    parser.add_argument("--kinds", default="edges,lines,circles,ellipses,corners,contours")
    parser.add_argument("--runs", type=int, default=30)
    args = parser.parse_args()
    if not (args.checkout / "src" / "lucid_finch").is_dir():
        # Python would take the installed package, and this checkout would be compared with itself.
        parser.error(f"{args.checkout} is no checkout: there is no src/lucid_finch in it")
    with tempfile.TemporaryDirectory() as folder:
        picture = Path(folder) / "picture.npy"
        np.save(picture, photograph())
        here, there = (Timed(path.resolve(), picture) for path in (Path(__file__).parents[1], args.checkout))
        for kind in args.kinds.split(","):
            for each in (here, there, here, there):
                each.seconds(kind)
            taken = []
            for run in range(args.runs):
                turn = (here, there) if run % 2 else (there, here)
                both = {each: each.seconds(kind) for each in turn}
                taken.append((both[here], both[there]))
            ours, theirs = np.array(taken).T
            best = f"{1e3 * ours.min():.0f} against {1e3 * theirs.min():.0f} ms at best"
            print(
                f"{kind:9} {np.median(ours / theirs):.2f} times as long ({best}, ratio {ours.min() / theirs.min():.2f})",
                flush=True,
            )
        here.process.terminate()
        there.process.terminate()


if __name__ == "__main__":
    main()
