"""Templates: found and false matches on photographs and on painted scenes, errors against the bound, times as ratios."""

from __future__ import annotations

import argparse
import io
import math
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image as Pillow
from scipy import ndimage

import lucid_finch as lf
from benchmarks.photographs import FOLDER


@dataclass(frozen=True)
class Placed:
    """Where a template was put into a scene."""

    x: float
    y: float
    angle: float
    scale: float


def place(
    scene: np.ndarray, source: np.ndarray, box: tuple[int, int, int], at: Placed, hidden: float, gain: float, offset: float
) -> np.ndarray:
    """The scene with the square `box` (left, top, side) of a source laid into it, `hidden` of it at one side left out."""
    left, top, side = box
    turn = math.radians(at.angle)
    rows, columns = np.mgrid[: scene.shape[0], : scene.shape[1]]
    u = (math.cos(turn) * (columns - at.x) + math.sin(turn) * (rows - at.y)) / at.scale
    v = (-math.sin(turn) * (columns - at.x) + math.cos(turn) * (rows - at.y)) / at.scale
    inside = (np.abs(u) < side / 2) & (np.abs(v) < side / 2) & (u < side * (0.5 - hidden))
    smooth = ndimage.gaussian_filter(source, 0.5 * math.sqrt(max(1 / at.scale**2 - 1, 0))) if at.scale < 1 else source
    middle = (side - 1) / 2
    values = ndimage.map_coordinates(smooth, [v + middle + top, u + middle + left], order=3, mode="mirror")
    return np.where(inside, gain * values + offset, scene)


def spoiled(scene: np.ndarray, random: np.random.Generator, noise: float, blur: float, quality: int) -> np.ndarray:
    """Blur, noise and compression."""
    blurred = ndimage.gaussian_filter(scene, blur) if blur > 0 else scene
    noisy = np.clip(np.round(blurred + random.normal(0, noise, scene.shape)), 0, 255).astype(np.uint8)
    if not quality:
        return noisy
    stream = io.BytesIO()
    Pillow.fromarray(noisy).save(stream, "JPEG", quality=quality)
    return np.asarray(Pillow.open(stream))


def _grey(path: Path) -> np.ndarray:
    picture = Pillow.open(path).convert("L")
    picture.thumbnail((1920, 1080))
    return np.asarray(picture).astype(np.float64)


def photographs(count: int, seed: int, contrast: float) -> None:
    """Patches of one photograph in another one."""
    random = np.random.default_rng(seed)
    files = sorted(path for path in FOLDER.iterdir() if path.suffix.lower() in (".jpg", ".jpeg", ".png", ".webp"))
    found = false = done = 0
    seconds, errors = [], []
    while done < count:
        first, second = random.choice(len(files), 2, replace=False)
        source, scene = _grey(files[first]), _grey(files[second])
        side = int(random.integers(48, 201))
        if min(source.shape) < 2 * side or min(scene.shape) < 500:
            continue
        left, top = (int(random.integers(8, n - side - 8)) for n in (source.shape[1], source.shape[0]))
        patch = source[top : top + side, left : left + side]
        if patch.std() < contrast or np.hypot(*np.gradient(ndimage.gaussian_filter(patch, 1))).mean() < 1.5:
            continue
        at = Placed(
            float(random.uniform(0.25, 0.75) * scene.shape[1]), float(random.uniform(0.3, 0.7) * scene.shape[0]),
            float(random.uniform(-180, 180)), float(random.uniform(0.7, 1.4)),
        )  # fmt: skip
        laid = place(scene, source, (left, top, side), at, 0.25, random.uniform(0.6, 1.3), random.uniform(-10, 10))
        seen = spoiled(laid, random, 5.0, float(random.uniform(0, 1.5)), 40)
        started = time.perf_counter()
        result = lf.detect("templates", seen, template=patch.astype(np.uint8), rotation=(-180, 180), scale=(0.7, 1.4))
        seconds.append(time.perf_counter() - started)
        f = result.findings
        off = np.hypot(f["x"] - at.x, f["y"] - at.y)
        good = (off < 0.1 * side) & (np.abs(np.log(f["scale"] / at.scale)) < 0.1)
        found += bool(good.any())
        false += int((~good).sum())
        done += 1
        if good.any():
            k = int(np.argmax(good))
            errors.append((off[k], abs(math.remainder(f["angle"][k] - at.angle, 360)), abs(f["scale"][k] / at.scale - 1)))
        if not good.any():
            n = result.near_misses
            close = np.hypot(n["x"] - at.x, n["y"] - at.y) < 0.1 * side
            why = [
                (str(w), round(float(a), 2), round(float(b), 1))
                for w, a, b in zip(*(n[c][close] for c in ("failed", "score", "log_nfa")), strict=True)
            ]
            print("   lost as", why[:2] or "no candidate")
        print(
            f"{done} side {side} std {patch.std():.0f} scale {at.scale:.2f}: {'found' if good.any() else 'LOST '} {len(f)} "
            f"{np.round(f['score'], 2)} {np.round(f['log_nfa'], 1)} {seconds[-1]:.2f} s",
            flush=True,
        )
    precision, recall = found / max(found + false, 1), found / count
    typical = np.median(np.array(errors), axis=0)
    f1 = 2 * precision * recall / max(precision + recall, 1e-9)
    print(
        f"F1 {f1:.3f} (precision {precision:.3f}, recall {recall:.3f}); median "
        f"errors {typical[0]:.3f} px, {typical[1]:.3f} deg, {100 * typical[2]:.3f} %; {np.median(seconds):.2f} s"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--contrast", type=float, default=15.0, help="standard deviation of a patch, at least")
    given = parser.parse_args()
    photographs(given.count, given.seed, given.contrast)


if __name__ == "__main__":
    main()
