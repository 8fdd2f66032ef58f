"""Asks why at thousands of places: no error, a quick answer, and every proposed change does what it says.

Usage: python -m benchmarks.explanations [--places N] [--seed S]   (on generated images, and photographs that were fetched)
"""

from __future__ import annotations

import argparse
import time
from collections import Counter
from typing import Any

import numpy as np

import lucid_finch as lf
from benchmarks.hostile import picture
from benchmarks.photographs import photographs
from lucid_finch.core.detectors import KINDS

_GIVEN: dict[str, list[dict[str, Any]]] = {
    "edges": [{}, {"false_alarms": 1e-9}, {"low": 12.0, "high": 30.0}, {"length_min": 60}],
    "edge_scan": [{}, {"strength_min": 20.0}],
    "contours": [{}, {"area": (400, 5000)}, {"circularity_min": 0.8}],
    "lines": [{}, {"length_min": 120}, {"angles": (80.0, 100.0)}],
    "circles": [{}, {"radius": (10, 20)}, {"polarity": "dark"}, {"coverage_min": 0.9}],
    "ellipses": [{}, {"axis": (10, 20)}, {"polarity": "bright"}, {"coverage_min": 0.9}],
}
_LONGEST = 0.5
"""Seconds of an answer."""


def check(kind: str, image: lf.Image, given: dict[str, Any], places: int, random: np.random.Generator) -> Counter[str]:
    """Counts of answers, of proposals and of what went wrong."""
    counts: Counter[str] = Counter()
    found = lf.detect(kind, image, **given)
    # Once more: a first call of a kernel is not what an answer costs.
    lf.explain(found, (0.0, 0.0))
    for _ in range(places):
        at = float(random.uniform(0, image.width - 1)), float(random.uniform(0, image.height - 1))
        begun = time.perf_counter()
        try:
            answer = lf.explain(found, at)
        except Exception as error:
            counts[f"WRONG {type(error).__name__}"] += 1
            print("failed", kind, given, at, repr(error))
            continue
        seconds = time.perf_counter() - begun
        counts["answers"] += 1
        if seconds > _LONGEST:
            counts["slower than 0.5 s"] += 1
            print(f"slow: {seconds:.2f} s", kind, given, at, image, answer.summary)
        counts["nothing is here"] += answer.summary.startswith("nothing is here")
        changes = [near.change for near in answer.candidates if near.change is not None]
        for change in [*changes, *([answer.change] if answer.change is not None else [])]:
            counts["proposals"] += 1
            after = lf.detect(kind, image, **{**given, **change.values})
            if len(after.findings) != len(found.findings) + change.gains - change.loses:
                counts["WRONG count"] += 1
                print("count", kind, given, at, image, change, len(found.findings), len(after.findings))
    return counts


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--places", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    random = np.random.default_rng(given.seed)
    fetched = photographs()
    jobs = [(kind, values) for kind in KINDS for values in _GIVEN.get(kind, [{}])]
    counts: Counter[str] = Counter()
    each = 5
    while counts["answers"] < given.places:
        number = int(random.integers(1_000_000))
        kind, values = jobs[int(random.integers(len(jobs)))]
        counts += check(kind, lf.Image.from_array(picture(number, fetched), name=str(number)), values, each, random)
    for name, count in sorted(counts.items()):
        print(f"{name}: {count}")


if __name__ == "__main__":
    main()
