"""Draws triangles into a depth buffer: which one is seen at each pixel, and what it carries there."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]


@numba.njit(nogil=True, cache=True)
def draw(places, triangles, depth, seen, weights):  # type: ignore[no-untyped-def]
    """Draw triangles (m, 3) of places (n, 3: column, row, depth; smaller is nearer) into depth, seen (which triangle, -1 for
    none) and weights (h, w, 2: of its first two corners)."""
    high, wide = depth.shape
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        x0, y0, z0 = places[a, 0], places[a, 1], places[a, 2]
        x1, y1, z1 = places[b, 0], places[b, 1], places[b, 2]
        x2, y2, z2 = places[c, 0], places[c, 1], places[c, 2]
        area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
        if abs(area) < 1e-9:
            continue
        left, right = max(0, int(np.ceil(min(x0, x1, x2)))), min(wide - 1, int(np.floor(max(x0, x1, x2))))
        top, bottom = max(0, int(np.ceil(min(y0, y1, y2)))), min(high - 1, int(np.floor(max(y0, y1, y2))))
        for y in range(top, bottom + 1):
            for x in range(left, right + 1):
                w0 = ((x1 - x) * (y2 - y) - (x2 - x) * (y1 - y)) / area
                w1 = ((x2 - x) * (y0 - y) - (x0 - x) * (y2 - y)) / area
                w2 = 1.0 - w0 - w1
                if w0 < 0 or w1 < 0 or w2 < 0:
                    continue
                z = w0 * z0 + w1 * z1 + w2 * z2
                if z < depth[y, x]:
                    depth[y, x] = z
                    seen[y, x] = t
                    weights[y, x, 0] = w0
                    weights[y, x, 1] = w1


@numba.njit(nogil=True, cache=True)
def _open(places, depth, slack, out):  # type: ignore[no-untyped-def]
    """Which places are not behind what the depth buffer holds."""
    high, wide = depth.shape
    for n in range(places.shape[0]):
        x, y = int(np.floor(places[n, 0] + 0.5)), int(np.floor(places[n, 1] + 0.5))
        nearest = np.inf
        for dy in range(-1, 2):
            for dx in range(-1, 2):
                # The farthest of the neighbours: a slope must not shade itself.
                if 0 <= y + dy < high and 0 <= x + dx < wide:
                    z = depth[y + dy, x + dx]
                    nearest = z if nearest == np.inf else max(nearest, z)
        out[n] = places[n, 2] <= nearest + slack


def rendered(places: Floats, triangles: NDArray[np.int32], size: tuple[int, int]) -> tuple[NDArray[np.int32], Floats, Floats]:
    """Of a picture of `size` (rows, columns): the triangle seen at each pixel, the weights of its corners (h, w, 3), depth."""
    depth = np.full(size, np.inf, np.float32)
    seen = np.full(size, -1, np.int32)
    weights = np.zeros((*size, 2), np.float32)
    draw(np.asarray(places, np.float32), triangles, depth, seen, weights)
    return seen, np.concatenate([weights, 1 - weights.sum(axis=2, keepdims=True)], axis=2), depth


def carried(values: Floats, triangles: NDArray[np.int32], seen: NDArray[np.int32], weights: Floats) -> Floats:
    """Values of vertices (n, k) at the pixels where something is seen, (pixels, k)."""
    hit = seen >= 0
    corners = triangles[seen[hit]]
    return np.asarray((values[corners] * weights[hit][..., None]).sum(axis=1), np.float32)


def openness(places: Floats, triangles: NDArray[np.int32], ways: Floats, size: int = 128) -> NDArray[np.bool_]:
    """(ways, n): from which directions (k, 3) each place is not shaded by the triangles."""
    out = np.zeros((len(ways), len(places)), np.bool_)
    middle = places.mean(axis=0)
    reach = float(np.sqrt(((places - middle) ** 2).sum(axis=1)).max())
    for number, way in enumerate(ways):
        up = np.array([0.0, 1.0, 0.0]) if abs(way[1]) < 0.9 else np.array([1.0, 0.0, 0.0])
        right = np.cross(up, way)
        right /= np.linalg.norm(right)
        frame = np.stack([right, np.cross(way, right), -way])
        turned = (places - middle) @ frame.T
        turned[:, :2] = (turned[:, :2] / reach + 1) * (size - 1) / 2
        flat = np.ascontiguousarray(turned, np.float32)
        depth = np.full((size, size), np.inf, np.float32)
        seen = np.full((size, size), -1, np.int32)
        draw(flat, triangles, depth, seen, np.zeros((size, size, 2), np.float32))
        _open(flat, depth, np.float32(0.04 * reach / 2), out[number])
    return out
