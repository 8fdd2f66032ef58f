"""Fits planes behind one lens: a homography for each view of a target and the radial distortion that all views share.

Least squares on the distances in the image, as Zhang, "A flexible new technique for camera calibration", IEEE PAMI 22(11), 2000,
but with free homographies: what is measured lies in one plane, and needs no focal length. Terms of the distortion are kept where
they pay by the criterion of Schwarz, "Estimating the dimension of a model", Annals of Statistics 6(2), 1978.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.targets.homographies import fit_homography, mapped, mapped_discs
from lucid_finch.core.numerics.targets.lens import distorted

Floats = NDArray[np.float64]

_TERMS = (0, 1, 2, 4)
"""How many numbers of the lens are tried: none, k1, k1 and k2, these and the centre."""
_OUTLIER = 4.5
"""Points are left out beyond so many robust standard deviations."""
_ROUNDS = 4
_CENTRAL = 0.25
"""The centre of distortion lies within this part of the reference length from the middle."""


@dataclass(frozen=True)
class Seen:
    """Points of a target in one view."""

    places: Floats
    """(n, 2): on the target, in steps of its grid."""
    at: Floats
    """(n, 2): px."""
    radius: float = 0.0
    """Of its dots, in steps."""


@dataclass(frozen=True)
class PlaneFit:
    """What was fitted to all views."""

    homographies: tuple[Floats, ...]
    """(3, 3), a view: from the target, in steps, to undistorted places over the reference length."""
    k1: float
    k2: float
    centre: tuple[float, float]
    """px."""
    used: tuple[NDArray[np.bool_], ...]
    """Which points of each view are no outliers."""
    residuals: tuple[Floats, ...]
    """(n, 2), a view: px from where the fit puts each point to where it was seen."""
    terms: int
    """How many numbers of the lens were fitted."""
    covariance: Floats
    """Of the first view's homography (8 numbers, the last being 1) and k1, k2, x, y of the lens; zero where not fitted."""

    @property
    def rms(self) -> float:
        """Root of the mean squared distance of the used points, px."""
        distances = np.concatenate([(r[u] ** 2).sum(axis=1) for r, u in zip(self.residuals, self.used, strict=True)])
        return float(np.sqrt(distances.mean())) if len(distances) else np.nan


def fit_planes(
    views: Sequence[Seen], middle: tuple[float, float], reference: float, terms: int | None = None, slack: float = 0.15
) -> PlaneFit | None:
    """The fit; None where the points of a view do not fix a plane.

    `middle`: px, centre of distortion unless it is fitted; `reference`: px. `terms`: how many numbers of the lens are fitted;
    None: as many as pay. `slack`: px that any point may be off.
    """
    starts = [fit_homography(view.places, (view.at - middle) / reference) for view in views]
    if not views or any(start is None for start in starts):
        return None
    best: PlaneFit | None = None
    worth = np.inf
    used = tuple(np.ones(len(view.places), bool) for view in views)
    lens = np.array([0.0, 0.0, *middle])
    homographies = [s / s[2, 2] for s in starts if s is not None]
    for count in _TERMS if terms is None else (terms,):
        if sum(u.sum() for u in used) * 2 - 8 * len(views) - count < 2:
            break
        fit = _fit(views, homographies, lens, count, reference, used, slack)
        if fit is None:
            continue
        cost = _cost(fit)
        if best is None or cost < worth - 6.0:
            best, worth = fit, cost
        # The next has more terms and begins here.
        homographies, lens = list(fit.homographies), np.array([fit.k1, fit.k2, *fit.centre])
    return best


def _cost(fit: PlaneFit) -> float:
    """Schwarz's criterion, over all points: outliers count by a robust measure, so that fits with different ones compare."""
    off = np.concatenate([np.abs(r).ravel() for r in fit.residuals])
    scale = max(1.4826 * float(np.median(off)), 1e-9)
    count = len(off)
    clipped = np.minimum(off / scale, _OUTLIER)
    return count * np.log(scale**2 * max(float((clipped**2).mean()), 1e-12)) + fit.terms * np.log(count)


def _fit(
    views: Sequence[Seen], homographies: Sequence[Floats], lens: Floats, terms: int, reference: float,
    used: tuple[NDArray[np.bool_], ...], slack: float,
) -> PlaneFit | None:  # fmt: skip
    """One fit with outliers left out, from a start."""
    from scipy.optimize import least_squares  # here, since loading it takes time

    start = np.concatenate([*(h.ravel()[:8] for h in homographies), lens[:terms]])
    lens = lens.copy()
    model = _Model(views, lens, terms, reference)
    for round_ in range(_ROUNDS):
        rows = np.concatenate([np.repeat(u, 2) for u in used])
        # The first round has outliers yet.
        loss = {"loss": "soft_l1", "f_scale": 0.2} if round_ == 0 else {}
        solved = least_squares(
            lambda p, rows=rows: model.residuals(p)[rows], start, lambda p, rows=rows: model.slopes(p)[rows], x_scale="jac",
            max_nfev=60, **loss,
        )  # fmt: skip
        if not np.isfinite(solved.x).all():
            return None
        start = solved.x
        off = model.residuals(start)
        far = np.split(np.hypot(off[::2], off[1::2]), np.cumsum([len(v.places) for v in views])[:-1])
        everywhere = np.concatenate(far)
        limit = max(_OUTLIER * 1.4826 * float(np.median(everywhere)) / 1.25, slack)
        after = tuple(f <= limit for f in far)
        if any(a.sum() < 4 for a in after):
            return None
        same = all(bool((a == u).all()) for a, u in zip(after, used, strict=True))
        used = after
        if same and round_ > 0:
            break
    return model.result(start, used)


class _Model:
    """Residuals of all views and their slopes; parameters: eight of each homography, then those of the lens."""

    def __init__(self, views: Sequence[Seen], lens: Floats, terms: int, reference: float) -> None:
        self.views, self.lens, self.terms, self.reference = views, lens, terms, reference

    def _parts(self, p: Floats) -> tuple[list[Floats], Floats]:
        count = len(self.views)
        homographies = [np.append(p[8 * k : 8 * k + 8], 1.0).reshape(3, 3) for k in range(count)]
        lens = self.lens.copy()
        lens[: self.terms] = p[8 * count :]
        return homographies, lens

    def residuals(self, p: Floats) -> Floats:
        """Seen less fitted, px, (2 n,): x and y of each point in turn."""
        homographies, lens = self._parts(p)
        found = []
        for view, h in zip(self.views, homographies, strict=True):
            u = mapped_discs(h, view.places, view.radius) if view.radius > 0 else mapped(h, view.places)
            at = self.reference * distorted(u, lens[0], lens[1]) + lens[2:]
            found.append(np.nan_to_num(view.at - at, nan=1e6).ravel())
        return np.concatenate(found)

    def slopes(self, p: Floats) -> Floats:
        """Derivatives of the residuals; those of a disc's centre are taken for its ellipse's."""
        homographies, lens = self._parts(p)
        k1, k2 = lens[0], lens[1]
        total = sum(len(v.places) for v in self.views)
        out = np.zeros((2 * total, len(p)))
        first = 0
        for number, (view, h) in enumerate(zip(self.views, homographies, strict=True)):
            n = len(view.places)
            x, y = view.places.T
            w = h[2, 0] * x + h[2, 1] * y + 1.0
            w = np.where(np.abs(w) > 1e-9, w, 1e-9)
            u = np.nan_to_num(np.stack([h[0, 0] * x + h[0, 1] * y + h[0, 2], h[1, 0] * x + h[1, 1] * y + h[1, 2]]) / w)
            zero, one = np.zeros(n), np.ones(n)
            du = np.stack([x, y, one, zero, zero, zero, -u[0] * x, -u[0] * y]) / w
            dv = np.stack([zero, zero, zero, x, y, one, -u[1] * x, -u[1] * y]) / w
            r2 = u[0] ** 2 + u[1] ** 2
            factor, growth = 1 + r2 * (k1 + r2 * k2), 2 * (k1 + 2 * k2 * r2)
            rows = 2 * (first + np.arange(n))
            own = slice(8 * number, 8 * number + 8)
            scale = -self.reference
            out[rows, own] = scale * ((factor + growth * u[0] ** 2) * du + growth * u[0] * u[1] * dv).T
            out[rows + 1, own] = scale * (growth * u[0] * u[1] * du + (factor + growth * u[1] ** 2) * dv).T
            shared: tuple[tuple[Any, Any], ...] = (
                (scale * u[0] * r2, scale * u[1] * r2), (scale * u[0] * r2**2, scale * u[1] * r2**2), (-1.0, 0.0), (0.0, -1.0),
            )  # fmt: skip
            for term in range(self.terms):
                column = 8 * len(self.views) + term
                out[rows, column], out[rows + 1, column] = shared[term]
            first += n
        return out

    def result(self, p: Floats, used: tuple[NDArray[np.bool_], ...]) -> PlaneFit | None:
        homographies, lens = self._parts(p)
        if np.hypot(*(lens[2:] - self.lens[2:])) > _CENTRAL * self.reference:
            return None
        off = self.residuals(p)
        rows = np.concatenate([np.repeat(u, 2) for u in used])
        slopes, counted = self.slopes(p)[rows], off[rows]
        freedom = max(len(counted) - len(p), 1)
        scale = np.sqrt(np.maximum((slopes**2).sum(axis=0), 1e-300))
        inverse = np.linalg.pinv((slopes / scale).T @ (slopes / scale), rcond=1e-14, hermitian=True) / np.outer(scale, scale)
        inverse *= float(counted @ counted) / freedom
        kept = np.concatenate([np.arange(8), 8 * len(self.views) + np.arange(self.terms)])
        covariance = np.zeros((12, 12))
        covariance[np.ix_(np.arange(8 + self.terms), np.arange(8 + self.terms))] = inverse[np.ix_(kept, kept)]
        ends = np.cumsum([len(v.places) for v in self.views])[:-1]
        residuals = tuple(np.split(off.reshape(-1, 2), ends))
        return PlaneFit(
            tuple(homographies), float(lens[0]), float(lens[1]), (float(lens[2]), float(lens[3])), used, residuals, self.terms,
            covariance,
        )  # fmt: skip
