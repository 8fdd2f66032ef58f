"""Crowds of made-up heads with the place of every face."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from training.faces import heads, painting
from training.faces.samples import ground

Random = np.random.Generator


def crowd(
    random: Random, count: int, size: tuple[int, int] = (960, 640), sides: tuple[float, float] = (30.0, 90.0),
    held_out: bool = True, wide: float = 1.0,
) -> tuple[NDArray[np.uint8], list[painting.Face]]:  # fmt: skip
    """A picture (height, width, 3) of about `count` heads, the nearer ones before the others. `wide`: how far heads turn away."""
    width, height = size
    picture = ground(random, height, width, held_out) * np.exp(random.normal(0, 0.3))
    owner = np.full((height, width), -1)
    sky = painting.light(random)
    wanted = np.sort(np.exp(random.uniform(np.log(sides[0]), np.log(sides[1]), count)))
    faces: list[painting.Face] = []
    for side in wanted:
        lit = painting.lit(heads.head(random))
        colour, cover, face = painting.paint(lit, painting.random_pose(random, wide), sky, float(side), random)
        place = _free(faces, float(side), size, random)
        if place is None:
            continue
        left, top = round(place[0] - face.x), round(place[1] - face.y)
        faces.append(painting.placed(picture, colour, cover, face, *place))
        y0, y1, x0, x1 = max(0, top), min(height, top + len(cover)), max(0, left), min(width, left + cover.shape[1])
        if y0 < y1 and x0 < x1:
            owner[y0:y1, x0:x1][cover[y0 - top : y1 - top, x0 - left : x1 - left] > 0.5] = len(faces) - 1
    listed = []
    for number, face in enumerate(faces):
        half = face.side / 2
        box = owner[_span(face.y, half, height), _span(face.x, half, width)]
        visible = float((box == number).sum()) / (0.72 * face.side**2)
        listed.append(replace(face, visible=min(visible, 1.0)))
    return painting.camera(picture, random), listed


def _span(middle: float, half: float, most: int) -> slice:
    return slice(max(0, round(middle - half)), min(most, round(middle + half)))


def _free(faces: list[painting.Face], side: float, size: tuple[int, int], random: Random) -> tuple[float, float] | None:
    """A place that hides little of the faces before."""
    for _ in range(30):
        x, y = random.uniform(0.4 * side, size[0] - 0.4 * side), random.uniform(0.5 * side, size[1] - 0.5 * side)
        if all(np.hypot(x - f.x, y - f.y) > 0.75 * (side + f.side) for f in faces):
            return float(x), float(y)
    return None


def matched(
    faces: list[painting.Face], x: NDArray[np.float64], y: NDArray[np.float64], side: NDArray[np.float64]
) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """For each face the found box that overlaps it best by at least 0.4 (or -1), each box once; which boxes are of a face."""
    of_face, used = np.full(len(faces), -1), np.zeros(len(x), bool)
    for n, face in enumerate(faces):
        over = np.clip(0.5 * (side + face.side) - np.abs(x - face.x), 0, np.minimum(side, face.side))
        down = np.clip(0.5 * (side + face.side) - np.abs(y - face.y), 0, np.minimum(side, face.side))
        shared = over * down
        ratio = np.where(used, 0.0, shared / (side**2 + face.side**2 - shared))
        if len(ratio) and ratio.max() > 0.4:
            of_face[n] = int(np.argmax(ratio))
            used[of_face[n]] = True
    return of_face, used
