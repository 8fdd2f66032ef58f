"""Finds windows of every size in an image, and joins those that are of one object."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.windows.channels import CELL, COUNT, View, cells_of_views
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import Trees, scores

PER_OCTAVE = 4
"""Sizes that are searched between one and its double."""
PAD = 6
"""Cells beyond the border, so that objects that are cut count."""
_FINEST = 2.0
"""Images are enlarged at most so many times."""
_FILLING = 1.2
"""Objects are at most so many times as large as the shorter side of the image."""
_TOGETHER = 16_000_000
"""px of levels that are searched together."""
_ONE = 0.35
"""Hits that share more than this part of both are of one object."""

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Hits:
    """Windows whose score reached the floor, in px of the image."""

    x: Floats
    y: Floats
    """Middle."""
    side: Floats
    """Of the object in the window."""
    score: Floats

    def __len__(self) -> int:
        return len(self.x)

    def taken(self, rows: NDArray[Any]) -> Hits:
        return Hits(self.x[rows], self.y[rows], self.side[rows], self.score[rows])


def scales(size: tuple[int, int], window: float, inside: float, sizes: tuple[float, float]) -> list[float]:
    """The scales at which an image of `size` (width, height) is searched for objects of sides sizes[0] .. sizes[1], px."""
    found = []
    scale = min(inside / max(sizes[0], 1e-9), _FINEST)
    # Windows may reach beyond the border by their padding.
    least = max(window - 2 * PAD * CELL, inside / _FILLING) / max(min(size), 1)
    while scale >= least and inside / scale <= sizes[1] * 2 ** (0.5 / PER_OCTAVE):
        found.append(scale)
        scale *= 2 ** (-1 / PER_OCTAVE)
    return found


def level(octaves: Octaves, scale: float) -> View:
    """The image at one scale, with the padding around."""
    height, width = octaves.levels[0][0].shape
    rows, columns = (int(n * scale) + 2 * PAD * CELL for n in (height, width))
    return octaves.view(scale, -PAD * CELL, -PAD * CELL, columns, rows)


def place(row: Any, column: Any, side: int, scale: float) -> tuple[Any, Any]:
    """Middle (px of the image) of the window of `side` cells whose upper left cell of a level is given."""
    x, y = ((n - PAD + side / 2) * CELL - 0.5 for n in (np.asarray(column, float), np.asarray(row, float)))
    return (x + 0.5) / scale - 0.5, (y + 0.5) / scale - 0.5


def windows_of(octaves: Octaves, x: Floats, y: Floats, sides: Floats, side: int, inside: float) -> NDArray[np.uint8]:
    """The values (n, features) of windows of `side` cells around objects of any place and size, px of the image."""
    half = side * CELL // 2 + PAD * CELL
    views = []
    for u, v, own in zip(x.tolist(), y.tolist(), sides.tolist(), strict=True):
        scale = min(inside / own, _FINEST)
        views.append(octaves.view(scale, (u + 0.5) * scale - half, (v + 0.5) * scale - half, 2 * half, 2 * half))
    inner = slice(PAD, PAD + side)
    cells = [made[inner, inner].ravel() for made in cells_of_views(views)]
    return np.array(cells, np.uint8).reshape(-1, side * side * COUNT)


def score_maps(octaves: Octaves, trees: Trees, at: list[float]) -> Iterator[tuple[float, NDArray[np.float32]]]:
    """Scale and scores of each level; small ones together, so that threads have enough to do."""
    waiting: list[float] = []
    area = 0
    for scale in at:
        view = level(octaves, scale)
        if waiting and area + view.width * view.height > _TOGETHER:
            yield from _scored(octaves, trees, waiting)
            waiting, area = [], 0
        waiting.append(scale)
        area += view.width * view.height
    yield from _scored(octaves, trees, waiting)


def _scored(octaves: Octaves, trees: Trees, at: list[float]) -> Iterator[tuple[float, NDArray[np.float32]]]:
    cells = cells_of_views([level(octaves, scale) for scale in at])
    return zip(at, scores(cells, trees), strict=True)


def find(octaves: Octaves, trees: Trees, inside: float, at: list[float], floor: float) -> Hits:
    """All windows whose score is at least `floor`; the size of what is looked for is `inside` px in a window."""
    parts = []
    for scale, score in score_maps(octaves, trees, at):
        row, column = np.nonzero(score >= np.float32(floor))
        x, y = place(row, column, trees.side, scale)
        parts.append((x, y, np.full(len(row), inside / scale), score[row, column].astype(float)))
    if not parts:
        return Hits(*(np.empty(0) for _ in range(4)))
    return Hits(*(np.concatenate([part[k] for part in parts]) for k in range(4)))


@kernel
def _grouped(x, y, side, order, share, group):  # type: ignore[no-untyped-def]
    """The group of each hit: that of the best earlier head that it overlaps, else its own."""
    heads = np.empty(order.size, np.int64)
    count = 0
    for n in range(order.size):
        i = order[n]
        best, most = -1, share
        for k in range(count):
            h = heads[k]
            half = 0.5 * (side[i] + side[h])
            dx, dy = half - abs(x[i] - x[h]), half - abs(y[i] - y[h])
            if dx <= 0 or dy <= 0:
                continue
            small = min(side[i], side[h])
            over = min(dx, small) * min(dy, small)
            ratio = over / (side[i] * side[i] + side[h] * side[h] - over)
            if ratio > most:
                best, most = k, ratio
        if best < 0:
            heads[count] = i
            best = count
            count += 1
        group[i] = best
    return count


@dataclass(frozen=True)
class Groups:
    """Objects: hits that overlap, joined."""

    x: Floats
    y: Floats
    side: Floats
    score: Floats
    """Of the best hit."""
    count: NDArray[np.int64]
    """How many hits."""


def joined(hits: Hits) -> Groups:
    """The hits of each object as one, at their mean, weighted by how far they are above the lowest."""
    group = np.zeros(len(hits), np.int64)
    order = np.argsort(-hits.score, kind="stable")
    many = int(_grouped(hits.x, hits.y, hits.side, order, _ONE, group)) if len(hits) else 0
    weight = hits.score - hits.score.min(initial=0.0) + 0.1
    total = np.bincount(group, weight, minlength=many)

    def mean(values: Floats) -> Floats:
        return np.asarray(np.bincount(group, weight * values, minlength=many) / np.maximum(total, 1e-300))

    best = np.full(many, -np.inf)
    np.maximum.at(best, group, hits.score)
    # Of hits of one size exactly that size.
    side = np.asarray(np.round(np.exp(mean(np.log(np.maximum(hits.side, 1e-9)))), 6), np.float64)
    return Groups(mean(hits.x), mean(hits.y), side, best, np.bincount(group, minlength=many))
