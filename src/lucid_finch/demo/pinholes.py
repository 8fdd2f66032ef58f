"""The scene `pinholes`: a glazed plate with pinholes and bright specks on mottled, brushed glaze."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import Canvas, colour_image, ellipse, polyline, uneven_light

WIDTH, HEIGHT = 1100, 760
_GLAZE = (104.0, 138.0, 142.0)
_HOLE = (46.0, 50.0, 48.0)
_SPECK = (206.0, 208.0, 196.0)
_RUN = (92.0, 122.0, 130.0)
_APART = 46.0


def _places(canvas: Canvas, count: int) -> list[tuple[float, float]]:
    """Places at random, some way apart from each other and from the border."""
    found: list[tuple[float, float]] = []
    for _ in range(200 * count):
        x, y = (float(canvas.random.uniform(34, n - 34)) for n in (WIDTH, HEIGHT))
        if all(math.hypot(x - a, y - b) > _APART for a, b in found):
            found.append((x, y))
        if len(found) == count:
            break
    return found


def pinholes() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1100 x 760, RGB) and its truth: place, radius and polarity of every pinhole and speck."""
    canvas = Canvas(WIDTH, HEIGHT, _GLAZE, seed=20261203)
    random = canvas.random
    canvas.mottle(14.0, 5.0)
    # Strokes of the brush, long and faint: no defects.
    for _ in range(26):
        x, y = random.uniform(0, WIDTH), random.uniform(0, HEIGHT)
        turn, length = math.radians(random.normal(12, 5)), random.uniform(120, 420)
        along = np.linspace(-0.5, 0.5, 30)
        bend = 10 * np.sin(3 * along + random.uniform(0, 6))
        points = np.stack(
            [
                x + length * along * math.cos(turn) - bend * math.sin(turn),
                y + length * along * math.sin(turn) + bend * math.cos(turn),
            ],
            axis=1,
        )
        canvas.fill(polyline(points, float(random.uniform(3, 9))), _RUN, opacity=0.4)
    canvas.mottle(2.2, 4.0)
    canvas.mottle(1.0, 2.0)
    marks: list[dict[str, Any]] = []
    for number, (x, y) in enumerate(_places(canvas, 44)):
        bright = number % 5 == 4
        radius = float(random.uniform(2.4, 4.5) if number % 3 else random.uniform(4.5, 9.5))
        colour, opacity = (_SPECK, 0.75) if bright else (_HOLE, float(random.uniform(0.6, 0.95)))
        box = (x - radius - 3, y - radius - 3, x + radius + 3, y + radius + 3)
        canvas.fill(ellipse(x, y, radius, radius, 0.0), colour, box, opacity=opacity)
        marks.append(
            {
                "kind": "blobs",
                "x": round(x, 3),
                "y": round(y, 3),
                "radius": round(radius, 3),
                "polarity": "bright" if bright else "dark",
            }
        )
    light = uneven_light(WIDTH, HEIGHT, towards=200.0, fall=0.2, corners=0.08)
    pixels = canvas.photograph(blur=0.9, light=light, read_noise=1.8, shot_noise=0.15)
    return colour_image(pixels, "pinholes"), marks
