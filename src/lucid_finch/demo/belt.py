"""The clip `belt`: round tiles on a conveyor belt, some broken, one place empty; also what the simulated camera sees."""

from __future__ import annotations

import os
import tempfile
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import platformdirs
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.files.clips import ClipWriter

WIDTH, HEIGHT = 1280, 720
RATE = 30.0
SPEED = 240.0
"""px a second, to the right."""
FRAMES = 90
_LENGTH = 2560
"""px after which the belt begins anew."""
_LANES = (150.0, 360.0, 570.0)
_STEP = 160.0
_EDGE = 80.0
"""px by which tiles pass the left border before the belt begins anew."""
_BODY, _GLAZE, _BELT = 188.0, 132.0, 54.0
_NOISE_ROWS = 1024


@cache
def tiles() -> list[dict[str, float]]:
    """Place on the belt, radius and lane of each tile; `broken`: the part of the rim that is missing, degrees."""
    random = np.random.default_rng(20261215)
    found: list[dict[str, float]] = []
    for lane, y in enumerate(_LANES):
        for number in range(int(_LENGTH / _STEP)):
            if (lane, number) in ((1, 5), (2, 11)):
                continue
            broken = 100.0 if (lane * 7 + number) % 13 == 6 else 0.0
            found.append({
                "number": len(found) + 1, "x": _STEP * (number + 0.5) + float(random.uniform(-14, 14)),
                "y": y + float(random.uniform(-10, 10)), "radius": float(random.uniform(44, 56)), "broken": broken,
                "turn": float(random.uniform(0, 360)),
            })  # fmt: skip
    return found


@cache
def _belt() -> NDArray[np.float32]:
    """The belt with its tiles, grey levels without light and noise, (HEIGHT, _LENGTH + WIDTH): its begin follows its end."""
    random = np.random.default_rng(7)
    y, x = np.mgrid[:HEIGHT, :_LENGTH].astype(np.float32)
    weave = 3.0 * np.sin(x * (2 * np.pi / 8)) * np.sin(y * 0.7)
    rough = _around(random.normal(0, 1, (HEIGHT, _LENGTH)).astype(np.float32), 1.6)
    grey = np.asarray(_BELT + weave + 5.0 * rough / rough.std(), np.float32)
    for tile in tiles():
        reach = tile["radius"] + 4
        y0, y1 = int(tile["y"] - reach), int(tile["y"] + reach) + 1
        columns = np.arange(int(tile["x"] - reach), int(tile["x"] + reach) + 1)
        dx, dy = np.meshgrid(columns - tile["x"], np.arange(y0, y1) - tile["y"])
        far = np.hypot(dx, dy)
        cover = np.clip(0.5 + tile["radius"] - far, 0, 1)
        if tile["broken"]:
            off = (np.degrees(np.arctan2(dy, dx)) - tile["turn"] + 180) % 360 - 180
            cover *= ~((np.abs(off) < tile["broken"] / 2) & (far > 0.45 * tile["radius"]))
        inner = np.clip(0.5 + 0.62 * tile["radius"] - far, 0, 1)
        shade = _BODY + (_GLAZE - _BODY) * inner + 3.0 * dy / tile["radius"]
        part = grey[y0:y1, columns % _LENGTH]
        grey[y0:y1, columns % _LENGTH] = part + cover * (shade - part)
    grey = _around(grey, 0.9)
    return np.concatenate([grey, grey[:, :WIDTH]], axis=1)


def _around(plane: NDArray[np.float32], sigma: float) -> NDArray[np.float32]:
    """Smoothed as if its right end met its left one."""
    reach = 16
    wide = np.concatenate([plane[:, -reach:], plane, plane[:, :reach]], axis=1)
    return np.asarray(smoothed(np.ascontiguousarray(wide), gaussian_kernel(sigma))[:, reach:-reach])


@cache
def _noise() -> NDArray[np.float32]:
    return np.random.default_rng(11).normal(0, 1, (_NOISE_ROWS, 2 * WIDTH)).astype(np.float32)


@cache
def _light(width: int, height: int) -> NDArray[np.float32]:
    y, x = np.mgrid[:height, :width].astype(np.float32)
    return np.asarray(1.06 - 0.26 * np.hypot(x / width - 0.45, y / height - 0.4), np.float32)


def shift(seconds: float) -> int:
    """px by which the belt has moved; it moves by whole ones, so that truth is exact."""
    return round(SPEED * seconds)


def seen(seconds: float, noise: float = 2.0, exposure: float = 1.0, size: tuple[int, int] = (WIDTH, HEIGHT)) -> NDArray[np.uint8]:
    """What a camera sees at a time: (height, width), grey. `noise`: standard deviation; `exposure`: factor of the light; `size`
    (width, height): a part from the upper left, at most 1280 x 720."""
    width, height = min(size[0], WIDTH), min(size[1], HEIGHT)
    begin = -shift(seconds) % _LENGTH
    picture = _belt()[:height, begin : begin + width] * (_light(width, height) * np.float32(exposure))
    if noise > 0:
        random = np.random.default_rng(round(1000 * seconds))
        row, column = int(random.integers(_NOISE_ROWS - height + 1)), int(random.integers(2 * WIDTH - width + 1))
        picture += np.float32(noise) * _noise()[row : row + height, column : column + width]
    return np.clip(picture + np.float32(0.5), 0, 255).astype(np.uint8)


def marks(seconds: float, size: tuple[int, int] = (WIDTH, HEIGHT)) -> list[dict[str, Any]]:
    """Truth at a time: the whole tiles that are wholly in the picture, in reading order."""
    found = []
    for tile in tiles():
        x, y, radius = (tile["x"] + shift(seconds) + _EDGE) % _LENGTH - _EDGE, tile["y"], tile["radius"]
        if not tile["broken"] and radius <= x <= size[0] - 1 - radius and radius <= y <= size[1] - 1 - radius:
            found.append({"kind": "circles", "x": round(x, 3), "y": round(y, 3), "radius": round(radius, 3),
                          "tile": int(tile["number"])})  # fmt: skip
    return sorted(found, key=lambda mark: (mark["y"], mark["x"]))


def truth() -> dict[str, Any]:
    """The contents of the clip's truth file: marks frame by frame."""
    return {
        "lucid_finch_truth": 1, "image": "belt.mkv",
        "frames": [{"page": n, "time": round(n / RATE, 4), "marks": marks(n / RATE)} for n in range(FRAMES)],
    }  # fmt: skip


def clip() -> Path:
    """The clip's file, which is made on first use, among this user's cached files. Raises `FileError`."""
    folder = Path(os.environ.get("LUCID_FINCH_CACHE", platformdirs.user_cache_dir("lucid-finch")))
    path = folder / f"belt-{WIDTH}x{HEIGHT}-{FRAMES}-1.mkv"
    if not path.is_file():
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=folder) as place:
            made = Path(place) / path.name
            write(made)
            made.replace(path)
    return path


def write(path: Path) -> None:
    """Make the clip. Raises `FileError`."""
    with ClipWriter(path, RATE) as writer:
        for n in range(FRAMES):
            writer.write(seen(n / RATE), n / RATE)
