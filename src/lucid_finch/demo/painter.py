"""Paints scenes at photographic quality: shapes with exact coverage, lens blur, uneven light, texture and noise."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.image import Image
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed

Plane = NDArray[np.float32]
Distance = Callable[[Plane, Plane], Plane]
"""Signed distance in px, negative inside, at x (1, W) and y (H, 1), ascending, of the picture."""

FINE = 2
"""The canvas has so many cells a pixel in x and y."""


class Canvas:
    """An RGB canvas in grey levels 0 to 255, painted in coordinates of the final picture's pixels."""

    def __init__(self, width: int, height: int, colour: tuple[float, float, float], seed: int) -> None:
        self.width, self.height = width, height
        self.random = np.random.default_rng(seed)
        self.cells = np.empty((height * FINE, width * FINE, 3), np.float32)
        self.cells[:] = colour

    def _window(self, box: tuple[float, float, float, float]) -> tuple[slice, slice, Plane, Plane]:
        left, top, right, bottom = box
        x0, x1 = (int(np.clip((v + 0.5) * FINE, 0, self.width * FINE)) for v in (left - 2, right + 3))
        y0, y1 = (int(np.clip((v + 0.5) * FINE, 0, self.height * FINE)) for v in (top - 2, bottom + 3))
        x = ((np.arange(x0, x1) + 0.5) / FINE - 0.5)[None, :].astype(np.float32)
        y = ((np.arange(y0, y1) + 0.5) / FINE - 0.5)[:, None].astype(np.float32)
        return slice(y0, y1), slice(x0, x1), x, y

    def fill(
        self,
        distance: Distance,
        colour: tuple[float, float, float] | Plane,
        box: tuple[float, float, float, float] | None = None,
        opacity: float = 1.0,
    ) -> None:
        """Paint the inside of a shape; `box` (left, top, right, bottom) limits where it can be."""
        rows, columns, x, y = self._window(box or (0, 0, self.width, self.height))
        cover = np.clip(0.5 - distance(x, y) * FINE, 0, 1)[..., None] * np.float32(opacity)
        part = self.cells[rows, columns]
        part += cover * (np.asarray(colour, np.float32) - part)

    def mottle(self, sigma: float, amount: float, where: Plane | None = None) -> None:
        """Texture: a random field of correlation `sigma` px and standard deviation `amount` grey levels."""
        field = self.random.normal(size=self.cells.shape[:2]).astype(np.float32)
        field = smoothed(field, gaussian_kernel(sigma * FINE))
        field *= np.float32(amount / field.std())
        self.cells += (field if where is None else field * where)[..., None]

    def photograph(self, blur: float, light: Plane | float, read_noise: float, shot_noise: float) -> NDArray[np.uint8]:
        """The picture: lens blur (px), light (a factor a pixel), noise of `read_noise` and of `shot_noise` * sqrt(level)."""
        weights = gaussian_kernel(blur * FINE)
        planes = []
        for c in range(3):
            plane = smoothed(np.ascontiguousarray(self.cells[..., c]), weights)
            plane = plane.reshape(self.height, FINE, self.width, FINE).mean(axis=(1, 3)) * light
            noise = self.random.normal(size=plane.shape) * np.sqrt(read_noise**2 + shot_noise**2 * np.maximum(plane, 0))
            planes.append(np.clip(np.round(plane + noise), 0, 255).astype(np.uint8))
        return np.stack(planes, axis=2)


def rounded_rectangle(cx: float, cy: float, width: float, height: float, radius: float, angle: float) -> Distance:
    """Signed distance of a rectangle turned by `angle` degrees about its centre, with rounded corners."""
    c, s = np.float32(np.cos(np.radians(angle))), np.float32(np.sin(np.radians(angle)))

    def distance(x: Plane, y: Plane) -> Plane:
        u, v = (x - cx) * c + (y - cy) * s, (y - cy) * c - (x - cx) * s
        a, b = np.abs(u) - (width / 2 - radius), np.abs(v) - (height / 2 - radius)
        return np.asarray(np.hypot(np.maximum(a, 0), np.maximum(b, 0)) + np.minimum(np.maximum(a, b), 0) - radius, np.float32)

    return distance


def rounded_rectangle_outline(
    cx: float, cy: float, width: float, height: float, radius: float, angle: float, spacing: float = 1.0
) -> NDArray[np.float64]:
    """Points (n, 2) of the outline of `rounded_rectangle`, about `spacing` px apart, clockwise on screen."""
    w, h = width / 2 - radius, height / 2 - radius
    corners = [(w, -h, -90.0), (w, h, 0.0), (-w, h, 90.0), (-w, -h, 180.0)]
    points: list[tuple[float, float]] = []
    for number, (x, y, start) in enumerate(corners):
        turns = np.radians(start + np.linspace(0, 90, max(2, int(radius * np.pi / 2 / spacing))))
        points += list(zip(x + radius * np.cos(turns), y + radius * np.sin(turns), strict=True))
        nx, ny, after = corners[(number + 1) % 4]
        first, last = points[-1], (nx + radius * np.cos(np.radians(after)), ny + radius * np.sin(np.radians(after)))
        count = int(np.hypot(last[0] - first[0], last[1] - first[1]) / spacing)
        for share in np.arange(1, count) / max(count, 1):
            points.append((first[0] + share * (last[0] - first[0]), first[1] + share * (last[1] - first[1])))
    c, s = np.cos(np.radians(angle)), np.sin(np.radians(angle))
    u, v = np.array(points).T
    return np.stack([cx + u * c - v * s, cy + u * s + v * c], axis=1)


def ellipse(cx: float, cy: float, a: float, b: float, turn: float) -> Distance:
    """Signed distance, to first order near the rim, of an ellipse of semi-axes a and b turned by `turn` radians."""
    c, s = np.float32(np.cos(turn)), np.float32(np.sin(turn))

    def distance(x: Plane, y: Plane) -> Plane:
        u, v = ((x - cx) * c + (y - cy) * s) / a, ((y - cy) * c - (x - cx) * s) / b
        level = np.hypot(u, v)
        return np.asarray((level - 1) * level / np.maximum(np.hypot(u / a, v / b), 1e-6), np.float32)

    return distance


def polygon(points: NDArray[np.float64], beyond: float = 2.0) -> Distance:
    """Signed distance, to `beyond` px from it, of a closed outline of straight pieces; even-odd."""
    closed = np.concatenate([points, points[:1]])

    def distance(x: Plane, y: Plane) -> Plane:
        inside = np.zeros(np.broadcast(x, y).shape, bool)
        for (x1, y1), (x2, y2) in pairwise(closed):
            if y1 != y2:
                inside ^= ((y1 <= y) != (y2 <= y)) & (x < x1 + (y - y1) * (x2 - x1) / (y2 - y1))
        return np.where(inside, -1, 1).astype(np.float32) * polyline(closed, 0.0, beyond)(x, y)

    return distance


def polyline(points: NDArray[np.float64], width: float, beyond: float = 2.0) -> Distance:
    """Signed distance of a stroke of `width` px along straight pieces; infinite where more than `beyond` px beside it."""

    def distance(x: Plane, y: Plane) -> Plane:
        nearest = np.full(np.broadcast(x, y).shape, np.inf, np.float32)
        columns, rows = x.ravel(), y.ravel()
        for (x1, y1), (x2, y2) in pairwise(points):
            # Only what the piece can cover: pictures have many pieces.
            reach = width / 2 + beyond
            left, right = np.searchsorted(columns, (min(x1, x2) - reach, max(x1, x2) + reach))
            top, bottom = np.searchsorted(rows, (min(y1, y2) - reach, max(y1, y2) + reach))
            u, v, part = x[:, left:right], y[top:bottom], nearest[top:bottom, left:right]
            dx, dy = x2 - x1, y2 - y1
            along = np.clip(((u - x1) * dx + (v - y1) * dy) / (dx * dx + dy * dy), 0, 1)
            np.minimum(part, np.hypot(u - x1 - along * dx, v - y1 - along * dy).astype(np.float32), out=part)
        return nearest - np.float32(width / 2)

    return distance


def uneven_light(width: int, height: int, towards: float, fall: float, corners: float) -> Plane:
    """A factor a pixel: falling by `fall` across the picture along `towards` (degrees), and by `corners` at the corners."""
    x = (np.arange(width, dtype=np.float32)[None, :] - (width - 1) / 2) / (width / 2)
    y = (np.arange(height, dtype=np.float32)[:, None] - (height - 1) / 2) / (height / 2)
    slope = x * np.cos(np.radians(towards)) + y * np.sin(np.radians(towards))
    return np.asarray(1 - fall * (slope + 1) / 2 - corners * (x * x + y * y) / 2, np.float32)


def colour_image(pixels: NDArray[np.uint8], name: str) -> Image:
    """An image as if read from a file of that name."""
    return Image.from_array(pixels, name=f"{name}.png")


def edge_mark(outline: NDArray[np.float64], closed: bool) -> dict[str, Any]:
    """Truth of an outline (n, 2), as the columns of a chain of edges."""
    steps = np.diff(np.concatenate([outline, outline[:1]]) if closed else outline, axis=0)
    return {
        "kind": "edges",
        "x": round(float(outline[:, 0].mean()), 3),
        "y": round(float(outline[:, 1].mean()), 3),
        "length": round(float(np.hypot(*steps.T).sum()), 2),
        "closed": int(closed),
        "points": np.round(outline, 3).tolist(),
    }
