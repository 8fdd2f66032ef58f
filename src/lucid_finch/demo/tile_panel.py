"""The scene `tile_panel`: glazed tiles on a wall, slightly turned, with light grout, worn in places, and a hairline crack."""

from __future__ import annotations

from typing import Any

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import (
    Canvas,
    colour_image,
    edge_mark,
    polyline,
    rounded_rectangle,
    rounded_rectangle_outline,
    uneven_light,
)  # fmt: skip

WIDTH, HEIGHT = 1200, 800
_PITCH, _GROUT, _CORNER, _ANGLE = 186.0, 10.0, 9.0, 2.3
_GROUT_COLOUR = (196.0, 190.0, 178.0)
# Glazes of the workshop: sea green, pond, bottle, oat.
_GLAZES = ((92.0, 142.0, 132.0), (74.0, 112.0, 126.0), (70.0, 104.0, 84.0), (166.0, 158.0, 132.0))
# Joints whose grout has been worn down to nearly the colour of the tiles beside it: (row, column) of the tile to its left.
_WORN = ((1, 2), (2, 4))


def tile_panel() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1200 x 800, RGB) and its truth: outline and corners of every tile that is wholly in sight, the joints
    between them as strokes across the picture, and the crack."""
    canvas = Canvas(WIDTH, HEIGHT, _GROUT_COLOUR, seed=20261123)
    random = canvas.random
    canvas.mottle(1.2, 3.0)
    c, s = np.cos(np.radians(_ANGLE)), np.sin(np.radians(_ANGLE))
    marks: list[dict[str, Any]] = []
    tiles: dict[tuple[int, int], tuple[float, float]] = {}
    glaze_of: dict[tuple[int, int], tuple[float, float, float]] = {}
    for row in range(-1, 6):
        for column in range(-1, 8):
            u, v = (column - 2.7) * _PITCH, (row - 1.9) * _PITCH
            tiles[row, column] = (WIDTH / 2 + u * c - v * s, HEIGHT / 2 + u * s + v * c)
            glaze = np.array(_GLAZES[(row * 5 + column * 3 + row * column) % 4]) + random.normal(0, 4)
            glaze_of[row, column] = tuple(float(g) for g in glaze)  # type: ignore[assignment]
    for row, column in _WORN:
        beside = (np.array(glaze_of[row, column]) + np.array(glaze_of[row, column + 1])) / 2
        x1, y1 = tiles[row, column]
        x2, y2 = tiles[row, column + 1]
        joint = rounded_rectangle((x1 + x2) / 2, (y1 + y2) / 2, _GROUT + 4, _PITCH - 40, 5.0, _ANGLE)
        box = (x1 - _PITCH, y1 - _PITCH, x2 + _PITCH, y2 + _PITCH)
        canvas.fill(joint, tuple(beside), box, opacity=0.8)
    side = _PITCH - _GROUT
    corners: list[dict[str, Any]] = []
    for place, (x, y) in tiles.items():
        box = (x - _PITCH, y - _PITCH, x + _PITCH, y + _PITCH)
        canvas.fill(rounded_rectangle(x, y, side, side, _CORNER, _ANGLE), glaze_of[place], box)
        outline = rounded_rectangle_outline(x, y, side, side, _CORNER, _ANGLE)
        inside = (outline > 3).all() and (outline[:, 0] < WIDTH - 4).all() and (outline[:, 1] < HEIGHT - 4).all()
        if inside:
            marks.append(edge_mark(outline, closed=True))
            corners += _corners(x, y, side, c, s)
    marks += corners
    marks += _joints(c, s)
    canvas.mottle(9.0, 2.4)
    canvas.mottle(1.5, 1.0)
    x, y = tiles[1, 3]
    turns = np.linspace(0, 1, 25)
    wander = np.cumsum(random.normal(0, 1.3, len(turns)))
    crack = np.stack([x - 66 + 130 * turns, y + 58 - 95 * turns + wander], axis=1)
    around = (
        float(crack[:, 0].min()) - 4,
        float(crack[:, 1].min()) - 4,
        float(crack[:, 0].max()) + 4,
        float(crack[:, 1].max()) + 4,
    )
    canvas.fill(polyline(crack, 1.6), (52.0, 60.0, 60.0), around, opacity=0.22)
    marks.append({**edge_mark(crack, closed=False), "name": "hairline crack"})
    light = uneven_light(WIDTH, HEIGHT, towards=25.0, fall=0.24, corners=0.10)
    pixels = canvas.photograph(blur=0.9, light=light, read_noise=1.6, shot_noise=0.14)
    return colour_image(pixels, "tile_panel"), marks


def _corners(x: float, y: float, side: float, c: float, s: float) -> list[dict[str, Any]]:
    """The middle of the arc at each corner of a tile around (x, y)."""
    reach = side / 2 - _CORNER * (1 - np.sqrt(0.5))
    found = []
    for u, v in ((-reach, -reach), (reach, -reach), (reach, reach), (-reach, reach)):
        found.append({"kind": "corners", "x": round(x + u * c - v * s, 2), "y": round(y + u * s + v * c, 2)})
    return found


def _joints(c: float, s: float) -> list[dict[str, Any]]:
    """The centre lines of the grout, cut at the border of the picture; only those that run through most of it."""
    found = []
    for way, count in (((c, s), range(-1, 6)), ((-s, c), range(-1, 8))):
        normal = (-way[1], way[0])
        for number in count:
            along = (number + 0.5 - (1.9 if way[0] > 0.5 else 2.7)) * _PITCH
            if way[0] < 0.5:
                along = -along
            x, y = WIDTH / 2 + along * normal[0], HEIGHT / 2 + along * normal[1]
            ends = []
            for t in np.arange(-1500.0, 1500.0, 0.25).tolist():
                u, v = float(x + t * way[0]), float(y + t * way[1])
                if 0 <= u <= WIDTH - 1 and 0 <= v <= HEIGHT - 1:
                    ends.append((u, v))
            if len(ends) < 4 * 400:
                continue
            (x1, y1), (x2, y2) = ends[0], ends[-1]
            mark = {"kind": "lines", "x1": round(x1, 2), "y1": round(y1, 2), "x2": round(x2, 2), "y2": round(y2, 2)}
            angle = float(np.degrees(np.arctan2(y2 - y1, x2 - x1)) % 180)
            found.append({**mark, "angle": round(angle, 3), "breadth": _GROUT, "name": "joint"})
    return found
