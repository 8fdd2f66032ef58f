"""Convex outlines: the pixels of an image whose filter support lies inside it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import pairwise

Point = tuple[float, float]
Outline = tuple[Point, ...]


def _cut(outline: Sequence[Point], x: float, y: float, nx: float, ny: float) -> list[Point]:
    """What lies on the side of the line through (x, y) that (nx, ny) points to (Sutherland and Hodgman, CACM 17(1), 1974)."""
    kept: list[Point] = []
    for (x1, y1), (x2, y2) in pairwise([*outline, *outline[:1]]):
        a, b = (x1 - x) * nx + (y1 - y) * ny, (x2 - x) * nx + (y2 - y) * ny
        if a >= 0:
            kept.append((x1, y1))
        if a * b < 0:
            share = a / (a - b)
            kept.append((x1 + share * (x2 - x1), y1 + share * (y2 - y1)))
    return kept


def _edges(outline: Sequence[Point]) -> list[tuple[float, float, float, float]]:
    """A point and the inward unit normal of each edge."""
    area = sum(x1 * y2 - x2 * y1 for (x1, y1), (x2, y2) in pairwise([*outline, *outline[:1]]))
    sign = 1.0 if area > 0 else -1.0
    edges = []
    for (x1, y1), (x2, y2) in pairwise([*outline, *outline[:1]]):
        length = math.hypot(x2 - x1, y2 - y1)
        if length > 0:
            edges.append((x1, y1, -sign * (y2 - y1) / length, sign * (x2 - x1) / length))
    return edges


def clipped(outline: Outline, other: Outline | None) -> Outline:
    """What two convex outlines share; `other` None stands for the whole plane, an empty result for nothing."""
    if other is None:
        return outline
    kept: list[Point] = list(outline)
    for x, y, nx, ny in _edges(other) if len(other) > 2 else []:
        kept = _cut(kept, x, y, nx, ny)
    return tuple(kept) if len(other) > 2 else ()


def shrunk(outline: Outline, by: float) -> Outline:
    """A convex outline with every edge moved inwards."""
    kept: list[Point] = list(outline)
    for x, y, nx, ny in _edges(outline):
        kept = _cut(kept, x + by * nx, y + by * ny, nx, ny)
    return tuple(kept)
