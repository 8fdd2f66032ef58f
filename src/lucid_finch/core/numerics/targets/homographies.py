"""Homographies: maps between two planes in perspective."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def _normalised(points: Floats) -> tuple[Floats, Floats]:
    """Points with mean 0 and distance sqrt(2) from it in the mean, and the matrix that makes them so."""
    middle = points.mean(axis=0)
    far = float(np.hypot(*(points - middle).T).mean())
    scale = np.sqrt(2.0) / max(far, 1e-300)
    matrix = np.array([[scale, 0.0, -scale * middle[0]], [0.0, scale, -scale * middle[1]], [0.0, 0.0, 1.0]])
    return (points - middle) * scale, matrix


def fit_homography(from_points: Floats, to_points: Floats) -> Floats | None:
    """The homography (3, 3) that takes n >= 4 points (n, 2) to others, by the normalised direct linear transform.

    None where the points do not fix it: fewer than four, or all but one on a line. Source: Hartley, "In defense of the
    eight-point algorithm", IEEE PAMI 19(6), 1997.
    """
    if len(from_points) < 4 or not (np.isfinite(from_points).all() and np.isfinite(to_points).all()):
        return None
    (a, before), (b, after) = _normalised(from_points), _normalised(to_points)
    one, zero = np.ones(len(a)), np.zeros((len(a), 3))
    p = np.column_stack([a, one])
    rows = np.concatenate([np.hstack([p, zero, -b[:, :1] * p]), np.hstack([zero, p, -b[:, 1:] * p])])
    _, strength, directions = np.linalg.svd(rows.T @ rows)
    # Two directions without an equation: the points do not fix the map.
    if not np.isfinite(strength).all() or strength[-2] < 1e-10 * strength[0]:
        return None
    found = np.linalg.inv(after) @ directions[-1].reshape(3, 3) @ before
    return found / found[2, 2] if abs(found[2, 2]) > 1e-12 * np.abs(found).max() else found


def mapped(homography: Floats, points: Any) -> Floats:
    """Points (n, 2) through a homography; NaN where they lie on the other side of the horizon."""
    p = np.asarray(points, float)
    x, y = p[..., 0], p[..., 1]
    h = homography
    w = h[2, 0] * x + h[2, 1] * y + h[2, 2]
    w = np.where(w * np.sign(h[2, 2] or 1.0) > 1e-9, w, np.nan)
    return np.stack([(h[0, 0] * x + h[0, 1] * y + h[0, 2]) / w, (h[1, 0] * x + h[1, 1] * y + h[1, 2]) / w], axis=-1)


def mapped_discs(homography: Floats, points: Any, radius: float) -> Floats:
    """Centres (n, 2) of the ellipses that discs around points (n, 2) become: they are not where the discs' centres go.

    By the dual conic of each disc, H (p p' - r^2 diag(1, 1, 0)) H'.
    """
    p = np.asarray(points, float)
    h = homography
    u, v, w = (h[k, 0] * p[..., 0] + h[k, 1] * p[..., 1] + h[k, 2] for k in range(3))
    r = radius**2
    below = w * w - r * (h[2, 0] ** 2 + h[2, 1] ** 2)
    below = np.where(below > 1e-18, below, np.nan)
    x = (u * w - r * (h[0, 0] * h[2, 0] + h[0, 1] * h[2, 1])) / below
    y = (v * w - r * (h[1, 0] * h[2, 0] + h[1, 1] * h[2, 1])) / below
    return np.stack([x, y], axis=-1)
