"""The scene `glaze_edge`: a dipped tile lying flat, with one slanted boundary of glaze over the bare body, drips and specks."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import Canvas, Distance, Plane, colour_image, rounded_rectangle, uneven_light

WIDTH, HEIGHT = 1100, 760
_CLOTH = (74.0, 70.0, 68.0)
_BODY = (190.0, 168.0, 146.0)
_GLAZE = (112.0, 140.0, 146.0)
_TILE = (WIDTH / 2, HEIGHT / 2, 760.0, 560.0, 1.4)
"""Centre, sides and angle of the tile."""
_ANGLE = 173.2
"""Of the boundary, degrees in [0, 180)."""
_MIDDLE = (548.0, 402.0)


def _half_plane(x0: float, y0: float, angle: float) -> Distance:
    """Signed distance from a line; negative above it."""
    c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
    # The normal that points down the picture.
    nx, ny = (-s, c) if c > 0 else (s, -c)

    def distance(x: Plane, y: Plane) -> Plane:
        return np.asarray((x - x0) * nx + (y - y0) * ny, np.float32)

    return distance


def glaze_edge() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1100 x 760, RGB) and its truth: the line of the boundary, where no drip hides it."""
    canvas = Canvas(WIDTH, HEIGHT, _CLOTH, seed=20261130)
    random = canvas.random
    canvas.mottle(1.3, 3.0)
    tile = rounded_rectangle(*_TILE[:4], 14.0, _TILE[4])
    canvas.fill(tile, _BODY)
    inside = rounded_rectangle(_TILE[0], _TILE[1], _TILE[2] - 2, _TILE[3] - 2, 13.0, _TILE[4])
    edge = _half_plane(*_MIDDLE, _ANGLE)

    def glazed(x: Plane, y: Plane) -> Plane:
        return np.maximum(inside(x, y), edge(x, y))

    canvas.fill(glazed, _GLAZE)
    c, s = math.cos(math.radians(_ANGLE)), math.sin(math.radians(_ANGLE))
    drips = []
    for _ in range(9):
        along, wide, long = random.uniform(-330, 330), random.uniform(9, 24), random.uniform(14, 70)
        x, y = _MIDDLE[0] + along * c, _MIDDLE[1] + along * s
        # Drips run down from the boundary and end round.
        shape = rounded_rectangle(x, y + long / 2 - 6, wide, long + 12, wide / 2 - 0.01, 0.0)
        canvas.fill(shape, _GLAZE, (x - 40, y - 40, x + 40, y + 110))
        drips.append({"x": round(x, 2), "width": round(wide, 2), "length": round(long, 2)})
    for _ in range(60):
        x, y = random.uniform(190, 910), random.uniform(130, 640)
        size = random.uniform(1.6, 4.5)
        dark = random.random() < 0.6
        colour = (96.0, 84.0, 74.0) if dark else (214.0, 206.0, 196.0)
        canvas.fill(rounded_rectangle(x, y, size, size, size / 2 - 0.01, 0.0), colour, (x - 8, y - 8, x + 8, y + 8), opacity=0.8)
    canvas.mottle(6.0, 2.2)
    canvas.mottle(1.4, 1.4)
    light = uneven_light(WIDTH, HEIGHT, towards=70.0, fall=0.22, corners=0.12)
    pixels = canvas.photograph(blur=1.1, light=light, read_noise=1.7, shot_noise=0.15)
    theta = (_ANGLE + 90.0) % 180.0
    rho = _MIDDLE[0] * math.cos(math.radians(theta)) + _MIDDLE[1] * math.sin(math.radians(theta))
    mark = {
        "kind": "edge_scan", "fit": "line", "angle": _ANGLE, "theta": theta, "rho": round(rho, 4),
        "x": _MIDDLE[0], "y": _MIDDLE[1],
        "drips": drips,
    }  # fmt: skip
    return colour_image(pixels, "glaze_edge"), [mark]
