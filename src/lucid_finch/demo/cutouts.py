"""The scene `cutouts`: glazed mosaic pieces on a cloth in uneven light, some with holes, and pieces in some of the holes."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import Canvas, colour_image, ellipse, polygon, uneven_light

WIDTH, HEIGHT = 1100, 760
_CLOTH = (58.0, 62.0, 66.0)
_GLAZES = (
    (206.0, 198.0, 176.0), (176.0, 120.0, 84.0), (120.0, 150.0, 152.0), (150.0, 164.0, 108.0), (196.0, 160.0, 72.0),
    (128.0, 116.0, 150.0),
)  # fmt: skip

_PIECES: tuple[tuple[str, float, bool, bool], ...] = (
    ("circle", 52.0, True, True), ("square", 44.0, False, False), ("triangle", 56.0, False, False),
    ("hexagon", 50.0, True, False),
    ("ellipse", 54.0, False, False), ("rectangle", 50.0, True, False), ("circle", 30.0, False, False),
    ("pentagon", 46.0, False, False), ("quadrilateral", 52.0, False, False), ("square", 58.0, True, True),
    ("polygon", 54.0, False, False), ("triangle", 44.0, False, False), ("circle", 44.0, True, False),
    ("ellipse", 44.0, False, False), ("rectangle", 42.0, False, False), ("hexagon", 40.0, False, False),
    ("square", 30.0, False, False), ("pentagon", 54.0, True, False), ("other", 52.0, False, False),
    ("circle", 38.0, False, False),
)  # fmt: skip
"""Shape, half its size in px, whether it has a hole, and whether a piece lies in that."""


def corners_of(shape: str, size: float) -> NDArray[np.float64]:
    """Corners (n, 2) of a straight-sided shape about its middle."""
    regular = {"triangle": 3, "pentagon": 5, "hexagon": 6}
    if shape in regular:
        turns = np.arange(regular[shape]) * 2 * np.pi / regular[shape]
        return np.asarray(size * np.stack([np.cos(turns), np.sin(turns)], axis=1))
    if shape == "polygon":
        turns = np.arange(10) * np.pi / 5
        reach = np.where(np.arange(10) % 2, 0.5, 1.0)[:, None] * size
        return np.asarray(reach * np.stack([np.cos(turns), np.sin(turns)], axis=1))
    plain = {
        "square": [(-0.8, -0.8), (0.8, -0.8), (0.8, 0.8), (-0.8, 0.8)],
        "rectangle": [(-1.0, -0.55), (1.0, -0.55), (1.0, 0.55), (-1.0, 0.55)],
        "quadrilateral": [(-1.0, -0.6), (0.7, -0.6), (1.0, 0.6), (-0.5, 0.6)],
    }
    return size * np.array(plain[shape])


def outline_of(shape: str, size: float, turn: float) -> NDArray[np.float64]:
    """Points (n, 2) of the outline about its middle, turned by `turn` radians."""
    c, s = math.cos(turn), math.sin(turn)
    if shape in ("circle", "ellipse", "other"):
        t = np.linspace(0, 2 * np.pi, 720, endpoint=False)
        flat = 0.62 if shape == "ellipse" else 1.0
        reach = size * (1 + 0.16 * np.cos(2 * t) + 0.14 * np.cos(3 * t + 1) + 0.1 * np.cos(5 * t)) if shape == "other" else size
        points = np.stack([reach * np.cos(t), flat * reach * np.sin(t)], axis=1)
    else:
        points = corners_of(shape, size)
    return np.asarray(points @ np.array([[c, s], [-s, c]]))


def _moments(points: NDArray[np.float64]) -> tuple[float, float, float]:
    """Area and area times centroid of a closed outline."""
    x, y = points.T
    u, v = np.roll(x, -1), np.roll(y, -1)
    w = x * v - u * y
    sign = math.copysign(1.0, float(w.sum()))
    return sign * float(w.sum()) / 2, sign * float(((x + u) * w).sum()) / 6, sign * float(((y + v) * w).sum()) / 6


def _mark(shape: str, outline: NDArray[np.float64], cut: list[NDArray[np.float64]], depth: int) -> dict[str, Any]:
    parts = np.array([_moments(outline)] + [[-v for v in _moments(hole)] for hole in cut]).sum(axis=0)
    around = np.roll(outline, -1, axis=0) - outline
    return {
        "kind": "contours", "shape": shape, "area": round(float(parts[0]), 2), "x": round(float(parts[1] / parts[0]), 3),
        "y": round(float(parts[2] / parts[0]), 3), "perimeter": round(float(np.hypot(*around.T).sum()), 2),
        "depth": depth, "holes": len(cut), "border": "hole" if depth % 2 else "outer",
    }  # fmt: skip


def cutouts() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1100 x 760, RGB) and its truth: every outline, hole and piece in a hole."""
    canvas = Canvas(WIDTH, HEIGHT, _CLOTH, seed=20261207)
    random = canvas.random
    canvas.mottle(1.0, 4.0)
    marks: list[dict[str, Any]] = []
    order = random.permutation(len(_PIECES))
    for place, number in enumerate(order.tolist()):
        shape, size, hollow, filled = _PIECES[number]
        x = (place % 5 + 0.5) * WIDTH / 5 + random.uniform(-22, 22)
        y = (place // 5 + 0.5) * HEIGHT / 4 + random.uniform(-14, 14)
        turn = random.uniform(0, 2 * np.pi)
        layers = [(shape, size)]
        if hollow:
            layers.append(("circle" if shape != "circle" else "square", 0.52 * size))
        if filled:
            layers.append(("circle" if shape != "circle" else "triangle", 0.24 * size if shape == "circle" else 0.26 * size))
        outlines = [outline_of(name, reach, turn + 0.7 * depth) + np.array([x, y]) for depth, (name, reach) in enumerate(layers)]
        glazes = random.permutation(len(_GLAZES))
        for depth, ((name, reach), outline) in enumerate(zip(layers, outlines, strict=True)):
            colour = _CLOTH if depth == 1 else _GLAZES[int(glazes[depth])]
            box = (x - size - 4, y - size - 4, x + size + 4, y + size + 4)
            round_one = name in ("circle", "ellipse")
            flat = 0.62 if name == "ellipse" else 1.0
            distance = ellipse(x, y, reach, flat * reach, turn + 0.7 * depth) if round_one else polygon(outline)
            canvas.fill(distance, colour, box)
            inner = outlines[depth + 1 : depth + 2]
            marks.append(_mark(name, outline, inner, depth))
    for _ in range(70):
        # Crumbs of glaze and lint.
        x, y, reach = random.uniform(0, WIDTH), random.uniform(0, HEIGHT), random.uniform(0.5, 1.3)
        box = (x - 4, y - 4, x + 4, y + 4)
        canvas.fill(ellipse(x, y, reach, reach, 0.0), (170.0, 162.0, 150.0), box, opacity=0.7)
    canvas.mottle(7.0, 2.4)
    canvas.mottle(1.2, 1.5)
    light = uneven_light(WIDTH, HEIGHT, towards=35.0, fall=0.5, corners=0.16)
    pixels = canvas.photograph(blur=1.0, light=light, read_noise=1.8, shot_noise=0.16)
    return colour_image(pixels, "cutouts"), marks
