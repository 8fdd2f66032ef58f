"""The scene `pierced_screen`: a glazed lattice with holes of two sizes, bosses, holes plugged with slip, a crack and a wire."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import Canvas, colour_image, ellipse, polyline, uneven_light

WIDTH, HEIGHT = 1200, 800
_BODY = (158.0, 152.0, 140.0)
_DARK = (52.0, 54.0, 58.0)
_PITCH, _ANGLE = 96.0, 4.0
_IN_SIGHT = 0.42
"""Share of a rim that must be in the picture for it to be a mark."""
_LARGE, _SMALL, _BOSS = 27.0, 15.0, 19.0


def pierced_screen() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1200 x 800, RGB) and its truth: every hole, boss and plugged hole of which nearly half is in sight."""
    canvas = Canvas(WIDTH, HEIGHT, _BODY, seed=20261211)
    random = canvas.random
    marks: list[dict[str, Any]] = []
    c, s = math.cos(math.radians(_ANGLE)), math.sin(math.radians(_ANGLE))

    def disc(x: float, y: float, radius: float, colour: Any, name: str) -> None:
        box = (x - radius - 2, y - radius - 2, x + radius + 2, y + radius + 2)
        canvas.fill(ellipse(x, y, radius, radius, 0.0), colour, box)
        turns = np.linspace(0, 2 * np.pi, 181)[:-1]
        u, v = x + radius * np.cos(turns), y + radius * np.sin(turns)
        if float(np.mean((u > 0) & (v > 0) & (u < WIDTH - 1) & (v < HEIGHT - 1))) >= _IN_SIGHT:
            dark = float(np.mean(colour)) < float(np.mean(_BODY))
            mark = {"kind": "circles", "x": round(x, 3), "y": round(y, 3), "radius": radius}
            marks.append({**mark, "polarity": "dark" if dark else "bright", "name": name})

    for row in range(-1, 10):
        for column in range(-1, 14):
            u = (column - 6.2 + 0.5 * (row % 2)) * _PITCH
            v = (row - 4.1) * _PITCH * math.sqrt(0.75)
            x, y = WIDTH / 2 + u * c - v * s, HEIGHT / 2 + u * s + v * c
            if not (-40 < x < WIDTH + 40 and -40 < y < HEIGHT + 40):
                continue
            what = (row * 7 + column * 3) % 11
            jitter = random.normal(0, 0.4, 3)
            x, y = x + float(jitter[0]), y + float(jitter[1])
            if what in (2, 9):
                radius = round(_BOSS + 0.5 * float(jitter[2]), 2)
                disc(x, y, radius, tuple(v + 26.0 for v in _BODY), "boss")
            elif what in (4, 7):
                radius = round(_SMALL + 0.5 * float(jitter[2]), 2)
                disc(x, y, radius, _DARK, "small hole")
            elif what == 5:
                # Slip that dried a little darker, or a little lighter, than the body.
                shade = (6.0 if (row + column) % 2 else -6.0) * (1 + 0.3 * float(random.random()))
                disc(x, y, _LARGE, tuple(v + shade for v in _BODY), "plugged hole")
            else:
                radius = round(_LARGE + 0.5 * float(jitter[2]), 2)
                disc(x, y, radius, _DARK, "hole")
                if what == 0:
                    # A ring of bare clay around the hole.
                    inner = round(radius * 0.62, 2)
                    canvas.fill(ellipse(x, y, radius, radius, 0.0), (118.0, 104.0, 88.0), (x - 32, y - 32, x + 32, y + 32))
                    disc(x, y, inner, _DARK, "stepped hole")
    canvas.mottle(7.0, 1.6)
    canvas.mottle(1.4, 0.9)
    turns = np.linspace(0, 1, 30)
    crack = np.stack([250 + 330 * turns, 610 - 210 * turns + np.cumsum(random.normal(0, 1.6, 30))], axis=1)
    canvas.fill(polyline(crack, 1.4), (70.0, 66.0, 62.0), (220, 340, 610, 660), opacity=0.5)
    wire = np.array([[640.0, -10.0], [700.0, 240.0], [842.0, 480.0], [900.0, 820.0]])
    canvas.fill(polyline(wire, 5.0), (92.0, 90.0, 92.0), (620, -20, 920, 830))
    light = uneven_light(WIDTH, HEIGHT, towards=-30.0, fall=0.28, corners=0.10)
    pixels = canvas.photograph(blur=0.9, light=light, read_noise=1.4, shot_noise=0.10)
    return colour_image(pixels, "pierced_screen"), marks
