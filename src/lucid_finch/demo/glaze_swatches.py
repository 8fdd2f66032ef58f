"""The scene `glaze_swatches`: sample swatches of a rose glaze on a celadon cloth of the same lightness, in uneven light."""

from __future__ import annotations

from typing import Any

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import (
    Canvas,
    colour_image,
    edge_mark,
    rounded_rectangle,
    rounded_rectangle_outline,
    uneven_light,
)  # fmt: skip

WIDTH, HEIGHT = 1200, 800
# Of the same luma: they differ in hue alone.
_CLOTH = (118.0, 146.0, 128.0)
_ROSE = (166.0, 123.0, 123.0)
_COLUMNS, _ROWS = 6, 4


def glaze_swatches() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1200 x 800, RGB) and its truth: the outline of every swatch."""
    canvas = Canvas(WIDTH, HEIGHT, _CLOTH, seed=20261201)
    random = canvas.random
    canvas.mottle(1.1, 2.2)
    canvas.mottle(14.0, 1.6)
    marks: list[dict[str, Any]] = []
    for row in range(_ROWS):
        for column in range(_COLUMNS):
            x = 130 + 188 * column + random.uniform(-22, 22)
            y = 120 + 186 * row + random.uniform(-22, 22)
            width, angle = random.uniform(62, 108), random.uniform(0, 180)
            kind = (row * 2 + column * 3 + row * column) % 3
            height = width if kind else width * random.uniform(0.5, 0.75)
            corner = width / 2 - 0.01 if kind == 1 else random.uniform(7, 12)
            colour = np.array(_ROSE) + random.normal(0, 2.0, 3)
            box = (x - width, y - width, x + width, y + width)
            tone = float(colour[0]), float(colour[1]), float(colour[2])
            canvas.fill(rounded_rectangle(x, y, width, height, min(corner, height / 2 - 0.01), angle), tone, box)
            outline = rounded_rectangle_outline(x, y, width, height, min(corner, height / 2 - 0.01), angle)
            marks.append(edge_mark(outline, closed=True))
    canvas.mottle(2.5, 1.2)
    light = uneven_light(WIDTH, HEIGHT, towards=-35.0, fall=0.30, corners=0.12)
    pixels = canvas.photograph(blur=0.9, light=light, read_noise=1.5, shot_noise=0.14)
    return colour_image(pixels, "glaze_swatches"), marks
