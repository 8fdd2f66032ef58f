"""What circles, ellipses and lines find by default in crowded pictures, and how well they place isolated discs."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from benchmarks.shape_scenes import ovals, score_ovals, score_strokes, strokes
from lucid_finch.core.execution.engine import detect
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed

PICTURES = 40
FINE = 4


def f1(kind: str, make: Any, score: Any, given: dict[str, Any]) -> str:
    """F1 over so many pictures, in words."""
    right = missed = wrong = 0
    for seed in range(PICTURES):
        image, marks = make(seed)
        counts = score(detect(kind, image, given), marks)
        right, missed, wrong = right + counts[0], missed + counts[1], wrong + counts[2]
    return f"F1 {2 * right / (2 * right + missed + wrong):.3f} ({right} found, {missed} missed, {wrong} wrong)"


def placed_discs(radius: float, contrast: float, noise: float, blur: float, count: int = 200) -> tuple[float, float, float]:
    """Error of the centre and of the radius over the Cramer-Rao bound, bias of the radius in px."""
    size = int(2 * radius + 50)
    y, x = (np.mgrid[: size * FINE, : size * FINE].astype(np.float32) + 0.5) / FINE - 0.5
    off, radii = [], []
    for seed in range(count):
        random = np.random.default_rng(seed)
        cx, cy = size / 2 + random.uniform(-1, 1, 2)
        plane = smoothed((110 + contrast * (np.hypot(x - cx, y - cy) < radius)).astype(np.float32), gaussian_kernel(blur * FINE))
        plane = plane.reshape(size, FINE, size, FINE).mean(axis=(1, 3)) + random.normal(0, noise, (size, size))
        f = detect("circles", Image.from_array(np.clip(np.round(plane), 0, 255).astype(np.uint8)), {}).findings
        if len(f) == 1:
            off += [f["x"][0] - cx, f["y"][0] - cy]
            radii.append(f["radius"][0] - radius)
    variance = (noise**2 + 1 / 12) * 2 * math.sqrt(math.pi) * math.hypot(blur, 0.29) / contrast**2
    centre, whole = math.sqrt(variance / (math.pi * radius)), math.sqrt(variance / (2 * math.pi * radius))
    return float(np.std(off) / centre), float(np.std(radii) / whole), float(np.mean(radii))


def main() -> None:
    for others in (False, True):
        among = ", six look-alikes among them" if others else ""
        print(f"circles{among}: {f1('circles', lambda seed, o=others: ovals(seed, (1.0, 1.0), o), score_ovals, {})}")
        for ratios in ((0.4, 1.0), (0.3, 0.4)):
            told = f1("ellipses", lambda seed, r=ratios, o=others: ovals(seed, r, o), score_ovals, {})
            print(f"ellipses, ratio {ratios[0]:g} to {ratios[1]:g}{among}: {told}")
    print(f"lines, solid, dashed and broken: {f1('lines', strokes, score_strokes, {})}")
    for radius, contrast, noise, blur in ((25.0, 40.0, 3.0, 0.9), (15.0, 60.0, 3.0, 0.7), (40.0, 20.0, 3.0, 1.2)):
        centre, spread, bias = placed_discs(radius, contrast, noise, blur)
        print(
            f"disc of {radius:g} px, contrast {contrast:g}, noise {noise:g}, blur {blur:g}: centre {centre:.2f}, "
            f"radius {spread:.2f} times the bound, bias {bias:+.4f} px"
        )


if __name__ == "__main__":
    main()
