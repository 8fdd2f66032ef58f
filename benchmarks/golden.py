"""Records the findings and near misses of every kind on demo scenes and generated images, and compares with a record.

Usage: python -m benchmarks.golden record FILE | compare FILE. A refactoring must change no result: record before, compare after.
"""

from __future__ import annotations

import math
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from scipy import ndimage

import lucid_finch as lf
from lucid_finch.demo import SCENES, scene

CASES: tuple[tuple[str, dict[str, Any]], ...] = (
    ("edges", {}),
    ("edges", {"low": 3.0, "high": 8.0, "subpixel": False}),
    ("edges", {"operator": "sobel", "sigma": 2.0, "length_min": "2%"}),
    ("edge_scan", {}),
    ("edge_scan", {"pick": "all", "fit": "polynomial", "outliers": "huber"}),
    ("contours", {}),
    ("contours", {"binarize": "otsu", "nesting": "outermost", "points": "ends"}),
    ("contours", {"binarize": "local", "area": (20.0, None)}),
    ("lines", {}),
    ("lines", {"pair": False, "length_min": 30, "angles": (80, 100), "extent": "full"}),
    ("circles", {}),
    ("circles", {"radius": (8, 60), "coverage_min": 0.2, "polarity": "dark", "keep": 5}),
    ("ellipses", {}),
    ("ellipses", {"axis": (6, 80), "ratio_min": 0.5, "false_alarms": 1.0}),
)
ABSOLUTE, RELATIVE = 2e-3, 2e-4
"""Positions (px) and other numbers may differ by so much: the order of sums may change."""
_HEIGHT, _WIDTH = 360, 480


def generated(seed: int) -> lf.Image:
    """Discs, ovals, bars and polygons on an uneven ground, blurred, with noise; 8 bit, 16 bit or float by turns."""
    random = np.random.default_rng(1000 + seed)
    y, x = np.mgrid[:_HEIGHT, :_WIDTH].astype(float)
    picture = 100 + 20 * np.sin(x / 170 + seed) + 12 * np.cos(y / 140)
    for _ in range(16):
        cx, cy, turn = random.uniform(0, _WIDTH), random.uniform(0, _HEIGHT), random.uniform(0, math.pi)
        u, v = (x - cx) * math.cos(turn) + (y - cy) * math.sin(turn), (y - cy) * math.cos(turn) - (x - cx) * math.sin(turn)
        a, b = random.uniform(10, 50), random.uniform(8, 40)
        inside = (np.hypot(u, v) < a, np.hypot(u / a, v / b) < 1, (np.abs(u) < 3 * a) & (np.abs(v) < b / 8),
                  (np.abs(u) < a) & (np.abs(v) < b))[random.integers(4)]  # fmt: skip
        picture[inside] += random.choice([-1, 1]) * random.uniform(15, 80)
    picture = ndimage.gaussian_filter(picture, random.uniform(0.6, 1.5)) + random.normal(0, random.uniform(0.5, 5), x.shape)
    picture = np.clip(picture, 0, 255)
    if seed % 5 == 3:
        return lf.Image.from_array(np.round(picture * 16).astype(np.uint16))
    if seed % 5 == 4:
        return lf.Image.from_array((picture / 255).astype(np.float32))
    return lf.Image.from_array(np.round(picture).astype(np.uint8))


def pictures() -> Iterator[tuple[str, lf.Image]]:
    for name in SCENES:
        yield name.replace("chips", "swatches"), scene(name).image
    for seed in range(20):
        yield f"generated {seed}", generated(seed)


def flat(prefix: str, table: Any) -> Iterator[tuple[str, Any]]:
    """Columns of a table; texts spelled out."""
    for column in table.columns:
        yield f"{prefix}/{column}", table[column]


def results() -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, image in pictures():
        print(name, flush=True)
        for number, (kind, given) in enumerate(CASES):
            d = lf.detect(kind, image, **given)
            prefix = f"{name}/{number} {kind}"
            found.update(flat(f"{prefix}/findings", d.findings))
            found.update(flat(f"{prefix}/near", d.near_misses))
            found.update((f"{prefix}/points/{n}", np.asarray(d.points[n])) for n in d.points)
            found[f"{prefix}/outlines"] = np.concatenate([np.empty((0, 2)), *d.outlines])
            for key, value in (d.fit or {}).items():
                if isinstance(value, (int, float)):
                    found[f"{prefix}/fit/{key}"] = np.array([float(value)])
    return found


def different(before: Any, after: Any) -> str:
    """What differs between two columns, or nothing."""
    if before.shape != after.shape:
        return f"{before.shape} -> {after.shape}"
    if before.dtype.kind not in "fiub":
        return "" if (before == after).all() else f"{int((before != after).sum())} texts differ"
    a, b = before.astype(float), after.astype(float)
    same = np.isclose(a, b, rtol=RELATIVE, atol=ABSOLUTE, equal_nan=True)
    return "" if same.all() else f"{int((~same).sum())} of {same.size} differ, by up to {np.nanmax(np.abs(a - b)[~same]):.3g}"


def main() -> int:
    what, path = sys.argv[1], Path(sys.argv[2])
    now = results()
    if what == "record":
        np.savez_compressed(path, **now)  # type: ignore[arg-type]
        print(f"{len(now)} columns recorded")
        return 0
    before = dict(np.load(path))
    keys = sorted(before.keys() | now.keys())
    faults = [(k, different(before[k], now[k]) if k in before and k in now else "only one side has it") for k in keys]
    faults = [(k, text) for k, text in faults if text]
    for key, text in faults[:60]:
        print(f"{key}: {text}")
    print(f"{len(faults)} of {len(keys)} columns differ")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
