"""Radial distortion: where a lens puts what a pinhole would see elsewhere.

Model of Brown, "Close-range camera calibration", Photogrammetric Engineering 37(8), 1971, its radial part: a point at u from the
centre of distortion, in units of a reference length, is seen at u (1 + k1 r^2 + k2 r^4), r = |u|.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

_ROUNDS = 30
_EXACT = 1e-12


def distorted(u: Floats, k1: float, k2: float) -> Floats:
    """Where points (..., 2) are seen; all in units of the reference length, from the centre."""
    r2 = (u**2).sum(axis=-1, keepdims=True)
    return np.asarray(u * (1.0 + r2 * (k1 + r2 * k2)))


def undistorted(u: Floats, k1: float, k2: float) -> Floats:
    """Points (..., 2) that are seen at `u`, by Newton's method; NaN where the model has none: beyond where it turns back."""
    if k1 == 0.0 and k2 == 0.0:
        return np.asarray(u, float)
    seen = np.hypot(u[..., 0], u[..., 1])
    r = np.minimum(seen, turning_radius(k1, k2) * 0.999)
    for _ in range(_ROUNDS):
        r2 = r * r
        slope = 1.0 + r2 * (3.0 * k1 + 5.0 * k2 * r2)
        step = (r * (1.0 + r2 * (k1 + r2 * k2)) - seen) / np.where(slope > 1e-6, slope, 1e-6)
        r = r - np.clip(step, -0.5 * r - 1e-3, 0.5 * r + 1e-3)
        if np.nanmax(np.abs(step), initial=0.0) < _EXACT:
            break
    r2 = r * r
    factor = 1.0 + r2 * (k1 + r2 * k2)
    good = (np.abs(r * factor - seen) < 1e-7 * (1.0 + seen)) & (1.0 + r2 * (3.0 * k1 + 5.0 * k2 * r2) > 0)
    return np.asarray(np.where(good, 1.0 / np.where(good, factor, 1.0), np.nan)[..., None] * u)


def turning_radius(k1: float, k2: float) -> float:
    """The radius from which on points farther out are seen nearer; infinite if there is none."""
    # Roots in r^2 of the slope 1 + 3 k1 r^2 + 5 k2 r^4.
    roots = np.roots([5.0 * k2, 3.0 * k1, 1.0])
    real = roots.real[(np.abs(roots.imag) < 1e-12) & (roots.real > 0)]
    return float(np.sqrt(real.min())) if len(real) else np.inf
