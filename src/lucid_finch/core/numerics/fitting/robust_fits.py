"""Lines, circles and polynomials through points of which some are wrong: a stated rule drops them, least squares does the rest.

Rules: `ransac` takes the model of few points that the most others agree with (Fischler and Bolles, CACM 24(6), 1981, scored by
a truncated square as in Torr and Zisserman, CVIU 78(1), 2000; the tolerance comes from the median residual of the best model,
Rousseeuw, JASA 79, 1984); `median` the median of the models through many pairs or triples (Theil 1950, Sen 1968); `huber` weighs
large residuals down (Huber 1964). Then every point within three standard deviations counts, and no other.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Points = NDArray[np.float64]
Model = NDArray[np.float64]

OUTLIERS = ("none", "ransac", "median", "huber")

_TRIES = 300
_TRIES_OF_MANY = 600
"""For models of more than three points: all of them right happens seldom."""

_JUDGED = 250
_LEAST_SPREAD = 0.02
"""px: no points lie closer to their model than rounding and interpolation let them."""


@dataclass(frozen=True)
class Shape:
    """What is fitted: how many points make a model, the model through them, residuals, and least squares."""

    least: int
    through: Callable[[Points], Model]
    """(tries, least, 2) points to (tries, parameters); NaN where they make none."""
    residuals: Callable[[Model, Points], NDArray[np.float64]]
    """(tries, parameters) and (n, 2) to signed distances (tries, n)."""
    refine: Callable[[Points, NDArray[np.float64], Model], Model]
    """Weighted least squares from a model."""


@dataclass(frozen=True)
class Fit:
    """A model and what it rests on."""

    model: Model
    residuals: NDArray[np.float64]
    used: NDArray[np.bool_]
    rms: float
    """Of the points used, with the degrees of freedom taken off."""


def robust_fit(points: Points, shape: Shape, outliers: str, limit: float | None = None) -> Fit | None:
    """A fit through (n, 2) points; None where there are too few of them or they make no model.

    `limit` (px) is what a point may lie off; None: three standard deviations of those that agree. The same points give the
    same fit: tries are drawn from a fixed seed.
    """
    n = len(points)
    if n < shape.least:
        return None
    tries = _tries(n, shape.least)
    models = shape.through(points[tries])
    models = models[np.isfinite(models).all(axis=1)]
    if not len(models):
        return None
    spread_of = _median_spread(n, shape.least)
    # Some hundred points, evenly chosen, are enough to tell a good model from a bad one.
    judged = points if n <= _JUDGED else points[np.linspace(0, n - 1, _JUDGED).astype(np.int64)]
    if outliers in ("none", "huber"):
        off = np.abs(shape.residuals(models, judged))
        start = models[int(np.argmin(off.sum(axis=1)))]
        start = shape.refine(points, np.ones(n), start)
        if outliers == "none":
            return _concluded(points, shape, start, np.ones(n, bool))
        for _ in range(30):
            r = shape.residuals(start[None], points)[0]
            tolerance = 1.345 * max(1.4826 * float(np.median(np.abs(r))), _LEAST_SPREAD)
            start = shape.refine(points, np.minimum(1.0, tolerance / np.maximum(np.abs(r), 1e-12)), start)
    elif outliers == "median":
        start = np.median(_comparable(models), axis=0)
    else:
        off = np.abs(shape.residuals(models, judged))
        half = len(judged) // 2
        best = int(np.argmin(np.partition(off, half, axis=1)[:, half]))
        tolerance = 3 * max(spread_of * float(np.median(off[best])), _LEAST_SPREAD) if limit is None else limit
        score = np.minimum(off, tolerance) ** 2
        start = models[int(np.argmin(score.sum(axis=1)))]
    used = np.zeros(n, bool)
    model = start
    for _ in range(20):
        r = np.abs(shape.residuals(model[None], points)[0])
        if limit is None:
            near = r[used] if used.sum() > shape.least else np.sort(r)[: max(shape.least + 1, (n + 1) // 2)]
            scale = math.sqrt(float((near**2).mean())) if used.sum() > shape.least else spread_of * float(np.median(r))
            tolerance = 3 * max(scale, _LEAST_SPREAD)
        else:
            tolerance = limit
        now = r <= tolerance
        if now.sum() < shape.least:
            now = r <= np.sort(r)[shape.least - 1]
        if (now == used).all():
            break
        used = now
        model = shape.refine(points, used.astype(float), model)
    return _concluded(points, shape, model, used)


def _concluded(points: Points, shape: Shape, model: Model, used: NDArray[np.bool_]) -> Fit:
    r = shape.residuals(model[None], points)[0]
    free = max(int(used.sum()) - len(model), 1)
    return Fit(model, r, used, math.sqrt(float((r[used] ** 2).sum()) / free))


def _tries(n: int, least: int) -> NDArray[np.int64]:
    """Choices of `least` different points: all of them if that is few, else some hundred at random."""
    most = _TRIES if least <= 3 else _TRIES_OF_MANY
    if math.comb(n, least) <= most:
        from itertools import combinations

        return np.array(list(combinations(range(n), least)), np.int64)
    drawn = np.sort(np.random.default_rng(12345).integers(0, n, (most * 2, least)), axis=1)
    return drawn[(np.diff(drawn, axis=1) > 0).all(axis=1)][:most]


def _median_spread(n: int, least: int) -> float:
    """From a median residual to a standard deviation, a little more for few points (Rousseeuw and Leroy 1987)."""
    return 1.4826 * (1 + 5 / max(n - least, 1))


def _comparable(models: Model) -> Model:
    """Lines in normal form all on one side, so that a median makes sense: the direction most models have."""
    if models.shape[1] != 3 or not np.allclose(np.hypot(models[:, 0], models[:, 1]), 1.0):
        return models
    c, s = models[:, 0], models[:, 1]
    doubled = np.median(c * c - s * s) + 1j * np.median(2 * c * s)
    turn = np.angle(doubled) / 2
    flip = np.where(c * math.cos(turn) + s * math.sin(turn) < 0, -1.0, 1.0)
    return models * flip[:, None]


# Lines in normal form: (a, b, c) with a x + b y = c and a, b of length 1.


def _lines_through(p: Points) -> Model:
    d = p[:, 1] - p[:, 0]
    length = np.hypot(d[:, 0], d[:, 1])
    with np.errstate(invalid="ignore", divide="ignore"):
        a, b = -d[:, 1] / length, d[:, 0] / length
    return np.stack([a, b, a * p[:, 0, 0] + b * p[:, 0, 1]], axis=1)


def _line_residuals(models: Model, points: Points) -> NDArray[np.float64]:
    scale = np.maximum(np.hypot(models[:, 0], models[:, 1]), 1e-12)[:, None]
    return np.asarray((models[:, :2] @ points.T - models[:, 2:]) / scale)


def _refined_line(points: Points, weights: NDArray[np.float64], model: Model) -> Model:
    """Orthogonal least squares: the direction of least scatter."""
    total = max(float(weights.sum()), 1e-12)
    middle = (weights[:, None] * points).sum(axis=0) / total
    off = points - middle
    _, vectors = np.linalg.eigh((weights[:, None] * off).T @ off)
    a, b = vectors[:, 0]
    return np.array([a, b, a * middle[0] + b * middle[1]])


LINE = Shape(2, _lines_through, _line_residuals, _refined_line)

# Circles: (x, y, radius).


def _circles_through(p: Points) -> Model:
    (x1, y1), (x2, y2), (x3, y3) = (p[:, i].T for i in range(3))
    d = 2 * (x1 * (y2 - y3) + x2 * (y3 - y1) + x3 * (y1 - y2))
    s1, s2, s3 = (x * x + y * y for x, y in ((x1, y1), (x2, y2), (x3, y3)))
    with np.errstate(invalid="ignore", divide="ignore"):
        x = (s1 * (y2 - y3) + s2 * (y3 - y1) + s3 * (y1 - y2)) / d
        y = (s1 * (x3 - x2) + s2 * (x1 - x3) + s3 * (x2 - x1)) / d
    return np.stack([x, y, np.hypot(x1 - x, y1 - y)], axis=1)


def _circle_residuals(models: Model, points: Points) -> NDArray[np.float64]:
    far = np.hypot(points[None, :, 0] - models[:, :1], points[None, :, 1] - models[:, 1:2])
    return np.asarray(far - models[:, 2:])


def _refined_circle(points: Points, weights: NDArray[np.float64], model: Model) -> Model:
    """Gauss-Newton on the distances themselves."""
    now = model.copy()
    for _ in range(30):
        off = points - now[:2]
        far = np.maximum(np.hypot(off[:, 0], off[:, 1]), 1e-9)
        jacobian = np.stack([-off[:, 0] / far, -off[:, 1] / far, -np.ones(len(points))], axis=1)
        system = (weights[:, None] * jacobian).T @ jacobian
        step = np.linalg.lstsq(system, (weights[:, None] * jacobian).T @ (far - now[2]), rcond=None)[0]
        now = now - step
        if np.abs(step).max() < 1e-9:
            break
    return np.asarray(now) if np.isfinite(now).all() else model


CIRCLE = Shape(3, _circles_through, _circle_residuals, _refined_circle)


def polynomial(degree: int, scale: float) -> Shape:
    """y as a polynomial of x / `scale` (which keeps the powers comparable), residuals along y."""

    def powers(x: Any) -> Any:
        return np.stack([(x / scale) ** k for k in range(degree + 1)], axis=-1)

    def through(p: Points) -> Model:
        found = np.full((len(p), degree + 1), np.nan)
        terms = powers(p[..., 0])
        sound = np.abs(np.linalg.det(terms)) > 1e-9
        if sound.any():
            found[sound] = np.linalg.solve(terms[sound], p[sound][..., 1:])[..., 0]
        return found

    def residuals(models: Model, points: Points) -> NDArray[np.float64]:
        return np.asarray(points[None, :, 1] - models @ powers(points[:, 0]).T)

    def refine(points: Points, weights: NDArray[np.float64], model: Model) -> Model:
        root = np.sqrt(weights)
        return np.linalg.lstsq(powers(points[:, 0]) * root[:, None], points[:, 1] * root, rcond=None)[0]

    return Shape(degree + 1, through, residuals, refine)
