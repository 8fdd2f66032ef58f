"""Windows with made-up faces, and pictures without: what the face model learns from."""

from __future__ import annotations

from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy import ndimage

from lucid_finch.core.numerics.windows.channels import CELL, COUNT, cells_of_views, planes
from lucid_finch.core.numerics.windows.pyramid import Octaves
from training.faces import heads, painting

Random = np.random.Generator
Bytes = NDArray[np.uint8]

SIDE, INSIDE = 20, 32.0
"""Cells along each side of a window, and px of a face in it."""
_BESIDE = 6
"""Cells around a window that local means see."""
PHOTOGRAPHS = Path.home() / ".cache" / "lucid-finch" / "photographs"


@cache
def photographs(held_out: bool) -> list[Path]:
    """Photographs without people (`python -m benchmarks.photographs` fetches them); every third is kept aside."""
    if not PHOTOGRAPHS.is_dir():
        return []
    files = sorted(path for path in PHOTOGRAPHS.iterdir() if path.suffix.lower() in (".jpg", ".jpeg", ".png", ".webp"))
    return [path for number, path in enumerate(files) if (number % 3 == 0) == held_out]


def read(path: Path, most: int = 1400) -> Bytes:
    """A photograph, shrunk where it is large."""
    picture = Image.open(path).convert("RGB")
    picture.thumbnail((most, most))
    return np.asarray(picture)


def window(picture: Bytes, face: painting.Face, random: Random | None) -> Bytes:
    """The values of the window around a face; with `random`, a little off, as the detector's steps are."""
    grow = float(np.exp(random.uniform(-0.09, 0.09))) if random is not None else 1.0
    scale = INSIDE / (face.side * grow)
    shift = random.uniform(-1.0, 1.0, 2) if random is not None else np.zeros(2)
    half = SIDE * CELL / 2 + _BESIDE * CELL
    # Places at the window's size: pixel centres.
    left, top = ((w + 0.5) * scale - 0.5 - half + 0.5 + s for w, s in zip((face.x, face.y), shift, strict=True))
    size = int(2 * half)
    cells = cells_of_views([Octaves(planes(picture)).view(min(scale, 2.0), left, top, size, size)])[0]
    inner = slice(_BESIDE, _BESIDE + SIDE)
    return np.ascontiguousarray(cells[inner, inner]).ravel()


def ground(random: Random, height: int, width: int, held_out: bool = False) -> NDArray[np.float64]:
    """What is behind the heads, in linear light: part of a photograph, or smooth shades."""
    files = photographs(held_out)
    if files and random.random() < 0.8:
        picture = read(files[int(random.integers(len(files)))], int(random.integers(300, 1400)))
        rows, columns = picture.shape[:2]
        if rows > height and columns > width:
            top, left = int(random.integers(rows - height)), int(random.integers(columns - width))
            part = picture[top : top + height, left : left + width]
        else:
            part = np.asarray(Image.fromarray(picture).resize((width, height)))
        found = (part / 255.0) ** 2.2
        return ndimage.gaussian_filter(found, (*[random.uniform(0, 3)] * 2, 0)) if random.random() < 0.5 else found
    y, x = np.mgrid[:height, :width] / max(height, width)
    shade = random.uniform(0.02, 0.7, 3) * (
        1 + random.uniform(-0.8, 0.8) * x[..., None] + random.uniform(-0.8, 0.8) * y[..., None]
    )
    return np.clip(shade, 0.005, 1)


def portrait(
    lit: painting.Lit, random: Random, side: float, held_out: bool = False, pose: painting.Pose | None = None
) -> tuple[Bytes, painting.Face]:
    """One head before a ground, as a camera sees it."""
    pose = pose or painting.random_pose(random)
    colour, cover, face = painting.paint(lit, pose, painting.light(random), side, random)
    size = int(2.6 * side)
    behind = ground(random, size, size, held_out) * np.exp(random.normal(0, 0.4))
    face = painting.placed(behind, colour, cover, face, size / 2 - 0.5, size / 2 - 0.5)
    if random.random() < 0.06:
        _hide(behind, face, random)
    return painting.camera(behind, random, side / 48), face


def _hide(picture: NDArray[np.float64], face: painting.Face, random: Random) -> None:
    """Something before a part of the face."""
    angle = random.uniform(0, 2 * np.pi)
    y, x = np.mgrid[: picture.shape[0], : picture.shape[1]]
    far = (x - face.x) * np.cos(angle) + (y - face.y) * np.sin(angle)
    picture[far > face.side * random.uniform(0.22, 0.45)] = random.uniform(0.02, 0.7, 3)


def _cropped(picture: Bytes, face: painting.Face, random: Random) -> tuple[Bytes, painting.Face]:
    """The face fills the picture, or is cut by its edges."""
    left, right, top, bottom = random.uniform(0.42, 0.8, 4) * face.side
    x0, y0 = max(0, int(face.x - left)), max(0, int(face.y - top))
    part = picture[y0 : int(face.y + bottom) + 1, x0 : int(face.x + right) + 1]
    return np.ascontiguousarray(part), replace(face, x=face.x - x0, y=face.y - y0)


def face_windows(first: int, count: int, seed: int, paints: int = 2) -> tuple[Bytes, NDArray[np.float32]]:
    """Windows of `count` heads, each painted `paints` times and mirrored; yaw, pitch, roll, tone of each."""
    windows, about = [], []
    for number in range(first, first + count):
        random = np.random.default_rng((seed, number))
        lit = painting.lit(heads.head(random))
        for _ in range(paints):
            side = float(random.choice([26.0, 30.0, 34.0, 40.0, 52.0, 68.0, 110.0], p=[*[0.16] * 6, 0.04]))
            picture, face = portrait(lit, random, side)
            if random.random() < 0.12:
                picture, face = _cropped(picture, face, random)
            for mirrored in (False, True):
                seen = np.ascontiguousarray(picture[:, ::-1]) if mirrored else picture
                here = replace(face, x=picture.shape[1] - 1 - face.x) if mirrored else face
                windows.append(window(seen, here, random))
                side_sign = -1.0 if mirrored else 1.0
                about.append((side_sign * face.yaw, face.pitch, side_sign * face.angle, face.tone))
    return np.array(windows, np.uint8).reshape(-1, SIDE * SIDE * COUNT), np.array(about, np.float32)


def photograph_again(path: Path, random: Random) -> Bytes:
    """A photograph at another size, through another camera: what a camera does must not tell a face."""
    picture = read(path, int(random.integers(350, 1100)))
    linear = (picture / 255.0) ** 2.2
    return painting.camera(linear * np.exp(random.normal(0, 0.5)), random)
