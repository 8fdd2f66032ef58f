"""The scene `leaning_screen`: a pierced screen that leans away from the camera, so that its round holes are seen as ellipses."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import Canvas, colour_image, ellipse, polygon, polyline, uneven_light

WIDTH, HEIGHT = 1200, 800
_CLOTH, _BODY, _DARK = (96.0, 98.0, 104.0), (164.0, 158.0, 146.0), (50.0, 52.0, 57.0)
_IN_SIGHT = 0.42
"""Share of a rim that must be in the picture for it to be a mark."""
_LEAN, _SPUN, _AWAY, _LENS = 52.0, 14.0, 1500.0, 1450.0
"""Degrees by which the screen leans back, by which it is turned in its plane; px of its own from the camera, and of the lens."""


def _homography() -> NDArray[np.float64]:
    """From px on the screen, its middle at (0, 0), to px of the picture."""
    lean, spun = math.radians(_LEAN), math.radians(_SPUN)
    right = np.array([math.cos(spun), math.sin(spun) * math.cos(lean), -math.sin(spun) * math.sin(lean)])
    down = np.array([-math.sin(spun), math.cos(spun) * math.cos(lean), -math.cos(spun) * math.sin(lean)])
    camera = np.array([[_LENS, 0.0, WIDTH / 2], [0.0, _LENS, HEIGHT / 2 + 20], [0.0, 0.0, 1.0]])
    return np.asarray(camera @ np.stack([right, down, [0.0, 0.0, _AWAY]], axis=1))


def seen_circle(homography: NDArray[np.float64], x: float, y: float, radius: float) -> tuple[float, float, float, float, float]:
    """Centre, semi-axes and angle (degrees, of the longer one) of the ellipse as which a circle is seen.

    Its conic C becomes H^-T C H^-1 (Hartley and Zisserman, Multiple View Geometry, 2004, section 2.2).
    """
    conic = np.array([[1.0, 0.0, -x], [0.0, 1.0, -y], [-x, -y, x * x + y * y - radius**2]])
    back = np.linalg.inv(homography)
    seen = back.T @ conic @ back
    centre = np.linalg.solve(seen[:2, :2], -seen[:2, 2])
    rest = seen[2, 2] + seen[2, :2] @ centre
    values, vectors = np.linalg.eigh(-seen[:2, :2] / rest)
    angle = math.degrees(math.atan2(vectors[1, 0], vectors[0, 0])) % 180.0
    return float(centre[0]), float(centre[1]), float(values[0] ** -0.5), float(values[1] ** -0.5), angle


def leaning_screen() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1200 x 800, RGB) and its truth: every hole, boss and plugged hole as the ellipse as which it is seen."""
    canvas = Canvas(WIDTH, HEIGHT, _CLOTH, seed=20261129)
    random = canvas.random
    homography = _homography()
    marks: list[dict[str, Any]] = []
    kinds: dict[int, tuple[float, float, str]] = {1: (24.0, 30.0, "boss"), 4: (36.0, -11.0, "plugged hole")}

    def placed(points: list[tuple[float, float]]) -> NDArray[np.float64]:
        seen = homography @ np.array([[x, y, 1.0] for x, y in points]).T
        return np.asarray((seen[:2] / seen[2]).T)

    canvas.fill(polygon(placed([(-560.0, -430.0), (560.0, -430.0), (560.0, 430.0), (-560.0, 430.0)])), _BODY)
    for row in range(-3, 4):
        for column in range(-5, 6):
            u, v = 104.0 * (column + 0.5 * (row % 2)) - 26.0, 118.0 * row
            if abs(u) > 510:
                continue
            what = (row * 5 + column * 3) % 9
            colour = _DARK
            if what in kinds:
                radius, shade, name = kinds[what]
                colour = (_BODY[0] + shade, _BODY[1] + shade, _BODY[2] + shade)
            else:
                radius, name = (24.0, "small hole") if what == 7 else (38.0, "hole")
            radius += float(random.normal(0, 0.4))
            x, y, a, b, angle = seen_circle(homography, u, v, radius)
            box = (x - a - 2, y - a - 2, x + a + 2, y + a + 2)
            canvas.fill(ellipse(x, y, a, b, math.radians(angle)), colour, box)
            turns = np.linspace(0, 2 * np.pi, 181)[:-1]
            cos, sin = math.cos(math.radians(angle)), math.sin(math.radians(angle))
            p, q = a * np.cos(turns), b * np.sin(turns)
            rim_x, rim_y = x + p * cos - q * sin, y + p * sin + q * cos
            if np.mean((rim_x > 0) & (rim_y > 0) & (rim_x < WIDTH - 1) & (rim_y < HEIGHT - 1)) < _IN_SIGHT:
                continue
            polarity = "bright" if name == "boss" else "dark"
            numbers = {"x": x, "y": y, "semi_major": a, "semi_minor": b, "angle": angle}
            rounded = {k: round(value, 3) for k, value in numbers.items()}
            marks.append({"kind": "ellipses", **rounded, "polarity": polarity, "name": name})
    canvas.fill(polyline(placed([(-300.0, -500.0), (-180.0, 0.0), (-240.0, 520.0)]), 5.0), (92.0, 90.0, 92.0), opacity=0.9)
    canvas.mottle(7.0, 1.6)
    canvas.mottle(1.4, 0.9)
    light = uneven_light(WIDTH, HEIGHT, towards=-60.0, fall=0.3, corners=0.12)
    pixels = canvas.photograph(blur=0.95, light=light, read_noise=1.4, shot_noise=0.10)
    return colour_image(pixels, "leaning_screen"), marks
