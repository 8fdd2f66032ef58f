"""The scene `dot_target`: a calibration plate of dots, leaning away from a camera whose lens bends straight lines."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.demo.painter import Canvas, Distance, colour_image, uneven_light

WIDTH, HEIGHT = 1100, 800
COLUMNS, ROWS, PITCH = 11, 8, 7.5
"""Dots along the plate, and their distance in mm."""
_DIAMETER = 3.4
_PLATE = (212.0, 208.0, 200.0)
_CLOTH = (86.0, 92.0, 96.0)
_DOT = (38.0, 40.0, 42.0)
FOCAL, BEND = 1500.0, -0.09
"""Focal length in px and radial distortion of the camera (of the squared radius over the focal length)."""
_TILT, _TURN, _FAR = math.radians(24.0), math.radians(6.0), 168.0


def camera() -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Rotation (3, 3) and place (3,) of the plate before the camera, mm."""
    c, s = math.cos(_TURN), math.sin(_TURN)
    turn = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
    c, s = math.cos(_TILT), math.sin(_TILT)
    lean = np.array([[1, 0, 0], [0, c, -s], [0, s, c]])
    return lean @ turn, np.array([2.0, -1.0, _FAR])


def seen(x: Any, y: Any) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Where points of the plate (mm, from its middle) appear, px."""
    rotation, place = camera()
    points = np.stack([x, y, np.zeros_like(np.asarray(x, float))], axis=-1) @ rotation.T + place
    u, v = points[..., 0] / points[..., 2], points[..., 1] / points[..., 2]
    factor = 1.0 + BEND * (u**2 + v**2)
    return FOCAL * factor * u + (WIDTH - 1) / 2, FOCAL * factor * v + (HEIGHT - 1) / 2


def _plate_at(x: NDArray[Any], y: NDArray[Any]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Which points of the plate (mm) appear at places of the picture."""
    p, q = (np.asarray(x, float) - (WIDTH - 1) / 2) / FOCAL, (np.asarray(y, float) - (HEIGHT - 1) / 2) / FOCAL
    u, v = p, q
    for _ in range(8):
        factor = 1.0 + BEND * (u**2 + v**2)
        u, v = p / factor, q / factor
    rotation, place = camera()
    inverse = np.linalg.inv(np.column_stack([rotation[:, 0], rotation[:, 1], place]))
    w = inverse[2, 0] * u + inverse[2, 1] * v + inverse[2, 2]
    return (
        (inverse[0, 0] * u + inverse[0, 1] * v + inverse[0, 2]) / w,
        (inverse[1, 0] * u + inverse[1, 1] * v + inverse[1, 2]) / w,
    )


def dot_target() -> tuple[Image, list[dict[str, Any]]]:
    """The picture (1100 x 800, RGB) and its truth: where the middle of every dot appears, with its row and column."""
    canvas = Canvas(WIDTH, HEIGHT, _CLOTH, seed=20261204)
    canvas.mottle(1.6, 5.0)
    half = (COLUMNS + 1) * PITCH / 2, (ROWS + 1) * PITCH / 2
    scale = FOCAL / _FAR

    def plate(x: NDArray[np.float32], y: NDArray[np.float32]) -> NDArray[np.float32]:
        a, b = _plate_at(x, y)
        return np.asarray(scale * np.maximum(np.abs(a) - half[0], np.abs(b) - half[1]), np.float32)

    canvas.fill(plate, _PLATE)
    marks: list[dict[str, Any]] = []
    for row in range(ROWS):
        for column in range(COLUMNS):
            a, b = (column - (COLUMNS - 1) / 2) * PITCH, (row - (ROWS - 1) / 2) * PITCH

            def dot(x: NDArray[np.float32], y: NDArray[np.float32], a: float = a, b: float = b) -> NDArray[np.float32]:
                u, v = _plate_at(x, y)
                return np.asarray(scale * (np.hypot(u - a, v - b) - _DIAMETER / 2), np.float32)

            shape: Distance = dot
            x, y = (float(w) for w in seen(np.float64(a), np.float64(b)))
            reach = 0.8 * _DIAMETER * scale
            canvas.fill(shape, _DOT, (x - reach, y - reach, x + reach, y + reach))
            marks.append({"kind": "target", "x": round(x, 4), "y": round(y, 4), "row": row, "column": column})
    light = uneven_light(WIDTH, HEIGHT, towards=320.0, fall=0.22, corners=0.1)
    pixels = canvas.photograph(blur=0.8, light=light, read_noise=1.6, shot_noise=0.14)
    return colour_image(pixels, "dot_target"), marks
