"""Teaches the face model from nothing: python -m training.faces --out DIR [--seed S] [--ship] [--toy]."""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from pathlib import Path

from training.faces import samples
from training.faces.amount import FULL, TOY, Amount
from training.faces.finish import finished
from training.faces.second import teach_network
from training.faces.trees import teach_trees

SHIPPED = Path("src/lucid_finch/core/detectors/shared/models/faces.npz")
STEPS = ("trees", "network", "finish")


def _say(text: str) -> None:
    print(text, flush=True)


def teach(
    out: Path, seed: int, amount: Amount, first: str = STEPS[0], torch_python: str = "/usr/bin/python3",
    say: Callable[[str], None] = _say,
) -> Path:  # fmt: skip
    """Run the steps from `first` on; returns the model's file."""
    out.mkdir(parents=True, exist_ok=True)
    begun = time.perf_counter()
    if first == "trees":
        teach_trees(out, seed, amount, say)
        say(f"trees: {time.perf_counter() - begun:.0f} s so far")
    if first in ("trees", "network"):
        teach_network(out, seed, amount, torch_python, say)
        say(f"network: {time.perf_counter() - begun:.0f} s so far")
    data = finished(out, seed, amount, say).written()
    (out / "faces.npz").write_bytes(data)
    say(f"{out / 'faces.npz'}: {len(data)} bytes; {time.perf_counter() - begun:.0f} s in all")
    return out / "faces.npz"


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m training.faces", description=__doc__)
    parser.add_argument("--out", required=True, help="folder for what is made on the way, and for the model")
    parser.add_argument("--seed", type=int, default=2)
    parser.add_argument("--from", dest="first", choices=STEPS, default=STEPS[0], help="go on from this step")
    parser.add_argument("--toy", action="store_true", help="learn little, in a minute: no photographs, no PyTorch")
    parser.add_argument("--ship", action="store_true", help="put the model into the package")
    parser.add_argument("--torch-python", default="/usr/bin/python3", help="a Python that has PyTorch")
    given = parser.parse_args()
    if not given.toy and not samples.photographs(False):
        parser.error("there are no photographs to learn from: run python -m benchmarks.photographs first, or give --toy")
    made = teach(Path(given.out), given.seed, TOY if given.toy else FULL, given.first, given.torch_python)
    if given.ship:
        SHIPPED.write_bytes(made.read_bytes())


if __name__ == "__main__":
    main()
