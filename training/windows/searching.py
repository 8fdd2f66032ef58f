"""Searches pictures for windows that a detector in the making takes for its object: the hard negatives."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.windows.channels import CELL, COUNT, Cells, cells_of_views, planes
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import Trees, scores

PER_OCTAVE = 4


def levels(picture: NDArray[np.uint8], side: int, inside: float, smallest: float, pad: int = 0) -> Iterator[tuple[float, Cells]]:
    """Scale and cells of each level of a picture: windows of `side` cells hold an object of `inside` px; the smallest in the
    picture is `smallest` px. `pad`: cells around the picture."""
    octaves = Octaves(planes(picture))
    height, width = picture.shape[:2]
    scale = inside / smallest
    while min(height, width) * scale + 2 * pad * CELL >= side * CELL:
        if scale <= 2.0:
            rows, columns = int(height * scale) + 2 * pad * CELL, int(width * scale) + 2 * pad * CELL
            yield scale, cells_of_views([octaves.view(scale, -pad * CELL, -pad * CELL, columns, rows)])[0]
        scale *= 2 ** (-1 / PER_OCTAVE)


def windows_at(cells: Cells, places: NDArray[np.int64], side: int) -> NDArray[np.uint8]:
    """The values (n, features) of windows by their upper left cells (n, 2: row, column)."""
    found = np.empty((len(places), side * side * COUNT), np.uint8)
    for n, (row, column) in enumerate(places):
        found[n] = cells[row : row + side, column : column + side].ravel()
    return found


@dataclass(frozen=True)
class Picture:
    """A picture to learn from."""

    pixels: NDArray[np.uint8]
    objects: NDArray[np.float64] = field(default_factory=lambda: np.empty((0, 3)))
    """(n, 3): x, y and side of the objects in it: windows on them are no negatives."""


_APART = 0.3
"""A window that shares less than this part with an object is none of it."""


def clear_of(objects: NDArray[np.float64], x: NDArray[np.float64], y: NDArray[np.float64], side: float) -> NDArray[np.bool_]:
    """Which windows around objects of that side at x, y are on none of the objects."""
    clear = np.ones(len(x), bool)
    for ox, oy, other in objects:
        least = min(side, other)
        across = np.clip(0.5 * (side + other) - np.abs(x - ox), 0, least)
        down = np.clip(0.5 * (side + other) - np.abs(y - oy), 0, least)
        shared = across * down
        clear &= shared / (side**2 + other**2 - shared) < _APART
    return clear


def hardest(
    picture: Picture, trees: Trees, inside: float, smallest: float, most: int, least: float, random: np.random.Generator
) -> tuple[NDArray[np.uint8], int, int]:
    """Windows on no object whose score is above `least`, at most so many, mostly the highest; how many there were and how many
    windows were looked at."""
    found, total, looked = [], 0, 0
    for scale, cells in levels(picture.pixels, trees.side, inside, smallest):
        score = scores([cells], trees)[0]
        looked += score.size
        if not score.size:
            continue
        over = np.argwhere(score > least)
        middle = ((over + trees.side / 2) * CELL - 0.5 + 0.5) / scale - 0.5
        over = over[clear_of(picture.objects, middle[:, 1], middle[:, 0], inside / scale)]
        total += len(over)
        if len(over) > 4 * most:
            over = over[random.choice(len(over), 4 * most, replace=False)]
        found.append((windows_at(cells, over, trees.side), score[over[:, 0], over[:, 1]]))
    if not found:
        return np.empty((0, trees.side**2 * COUNT), np.uint8), 0, looked
    windows, score = np.concatenate([w for w, _ in found]), np.concatenate([s for _, s in found])
    chosen = np.argsort(-score, kind="stable")[: 2 * most]
    chosen = random.permutation(chosen)[:most]
    return windows[chosen], total, looked


def random_windows(
    picture: Picture, side: int, inside: float, smallest: float, count: int, random: np.random.Generator
) -> NDArray[np.uint8]:
    """Windows from anywhere but the objects, of any size."""
    all_levels = list(levels(picture.pixels, side, inside, smallest))
    found = []
    for _ in range(count if all_levels else 0):
        scale, cells = all_levels[int(random.integers(len(all_levels)))]
        place = [int(random.integers(cells.shape[k] - side + 1)) for k in range(2)]
        row, column = (np.array([((n + side / 2) * CELL) / scale - 0.5]) for n in place)
        if not clear_of(picture.objects, column, row, inside / scale)[0]:
            continue
        found.append(windows_at(cells, np.array([place]), side)[0])
    return np.array(found, np.uint8).reshape(-1, side * side * COUNT)
