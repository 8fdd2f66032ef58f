"""The scene `maker_marks`: a heron's foot stamped into clay, turned, of several sizes, partly covered, and marks that only
look like it."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import Canvas, Distance, colour_image, ellipse, polygon, uneven_light

WIDTH, HEIGHT = 1180, 780
_CLAY = (172.0, 138.0, 112.0)
_PRESSED = (112.0, 82.0, 64.0)
_RIDGE = (196.0, 164.0, 138.0)
_GLAZE = (92.0, 128.0, 124.0)

SIDE = 112
"""px of the square that the template takes."""
_TOES = ((-38.0, 44.0), (4.0, 50.0), (40.0, 40.0), (176.0, 26.0))
"""Degrees from upwards, clockwise, and length of each toe of the mark (px at scale 1)."""
_LIKE = (
    ((-60.0, 40.0), (-20.0, 46.0), (20.0, 46.0), (60.0, 40.0), (176.0, 26.0)),
    ((-90.0, 38.0), (4.0, 50.0), (90.0, 38.0), (176.0, 38.0)),
    ((-40.0, 26.0), (4.0, 30.0), (40.0, 50.0), (140.0, 44.0)),
)
"""Toes of marks of other workshops."""


def _toe(angle: float, length: float, scale: float, x: float, y: float, turn: float) -> NDArray[np.float64]:
    """Outline (n, 2) of a toe: slim at the joint and at the tip, widest at two thirds."""
    along = np.linspace(0.0, 1.0, 24)
    breadth = 6.2 * (0.35 + 1.1 * along * (1 - along) ** 0.7 + 0.25 * (1 - along))
    breadth[-1] = 0.6
    up = np.stack([np.concatenate([breadth, -breadth[::-1]]), -length * np.concatenate([along, along[::-1]])], axis=1)
    a = math.radians(angle) + turn
    c, s = math.cos(a), math.sin(a)
    return np.asarray(scale * up @ np.array([[c, s], [-s, c]]) + np.array([x, y]))


def _grown(distance: Distance, by: float) -> Distance:
    """The shape with `by` px more around it."""
    return lambda x, y: np.asarray(distance(x, y) - np.float32(by), np.float32)


def stamp(
    canvas: Canvas, toes: tuple[tuple[float, float], ...], x: float, y: float, angle: float, scale: float, ring: bool
) -> None:
    """Press a mark: the joint at (x, y), turned by `angle` degrees, clockwise; with a small ring at the left of the joint."""
    turn = math.radians(angle)
    reach = 62 * scale
    box = (x - reach, y - reach, x + reach, y + reach)
    for grow, colour, opacity in ((1.9, _RIDGE, 0.55), (0.0, _PRESSED, 0.85)):
        for direction, length in toes:
            toe = polygon(_toe(direction, length, scale, x, y, turn), 2.0 + grow * scale)
            canvas.fill(_grown(toe, grow * scale), colour, box, opacity=opacity)
        canvas.fill(ellipse(x, y, (7.5 + grow) * scale, (7.5 + grow) * scale, 0.0), colour, box, opacity=opacity)
        if ring:
            left = x - 26 * scale * math.cos(turn) - 14 * scale * math.sin(turn)
            top = y - 26 * scale * math.sin(turn) + 14 * scale * math.cos(turn)
            canvas.fill(ellipse(left, top, (6.0 + grow) * scale, (6.0 + grow) * scale, 0.0), colour, box, opacity=opacity)


def _clay(width: int, height: int, seed: int) -> Canvas:
    canvas = Canvas(width, height, _CLAY, seed)
    canvas.mottle(9.0, 5.0)
    canvas.mottle(1.3, 3.0)
    return canvas


def taught_mark() -> Image:
    """The template: the mark upright, in the middle of a square of `SIDE` px with a margin of 12 px, photographed on its own."""
    side = SIDE + 24
    canvas = _clay(side, side, 20261130)
    stamp(canvas, _TOES, (side - 1) / 2, (side - 1) / 2 + 8, 0.0, 1.0, ring=True)
    pixels = canvas.photograph(blur=0.9, light=1.0, read_noise=1.6, shot_noise=0.14)
    return colour_image(pixels, "taught_mark")


def maker_marks() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1180 x 780, RGB) and its truth: place of the middle of the template's square, angle, scale, visible share."""
    canvas = _clay(WIDTH, HEIGHT, 20261129)
    random = canvas.random
    marks: list[dict[str, Any]] = []
    cells = random.permutation(20)
    for number, cell in enumerate(cells.tolist()):
        x = (cell % 5 + 0.5) * WIDTH / 5 + random.uniform(-26, 26)
        y = (cell // 5 + 0.5) * HEIGHT / 4 + random.uniform(-14, 14)
        angle, scale = float(random.uniform(-180, 180)), float(random.uniform(0.75, 1.3))
        if number >= 13:
            stamp(canvas, _LIKE[number % len(_LIKE)], x, y, angle, scale, ring=number % len(_LIKE) < 2)
            continue
        if number == 0:
            angle, scale = 0.0, 1.0
        stamp(canvas, _TOES, x, y, angle, scale, ring=True)
        covered = 0.0
        if number in (3, 7):
            # A run of glaze over one side.
            side = math.radians(angle + 180 * (number == 7))
            away = 34 * scale
            cx, cy = x + away * 1.5 * math.cos(side), y + away * 1.5 * math.sin(side)
            reach = 100.0 * scale
            canvas.fill(ellipse(cx, cy, 27 * scale, 64 * scale, side), _GLAZE, (cx - reach, cy - reach, cx + reach, cy + reach))
            covered = 0.3
        turn = math.radians(angle)
        # The joint lies 8 px below the middle of the template.
        u, v = x + 8 * scale * math.sin(turn), y - 8 * scale * math.cos(turn)
        marks.append(
            {
                "kind": "templates",
                "x": round(u, 3),
                "y": round(v, 3),
                "angle": round(angle, 3),
                "scale": round(scale, 4),
                "hidden": covered,
            }
        )
    for _ in range(120):
        # Grit in the clay.
        x, y, reach = random.uniform(0, WIDTH), random.uniform(0, HEIGHT), random.uniform(0.6, 2.2)
        canvas.fill(ellipse(x, y, reach, reach, 0.0), (90.0, 74.0, 62.0), (x - 5, y - 5, x + 5, y + 5), opacity=0.6)
    light = uneven_light(WIDTH, HEIGHT, towards=205.0, fall=0.35, corners=0.12)
    pixels = canvas.photograph(blur=1.0, light=light, read_noise=1.8, shot_noise=0.15)
    return colour_image(pixels, "maker_marks"), marks
