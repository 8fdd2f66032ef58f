"""Arrows for residuals: each from where a point was computed towards where it was seen, made longer to be seen."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.inspection.calibration import View

_SHARE = 0.45
"""Of the distance of neighbouring points: how long the arrows become."""
_BARB = 0.28
"""Length of the barbs over that of the arrow."""


def magnification(views: tuple[View, ...]) -> float:
    """How many times longer arrows are drawn than they are: a power of ten, twice or five times one."""
    lengths = np.concatenate([np.hypot(v.dx, v.dy)[np.asarray(v.used, bool)] for v in views] or [np.empty(0)])
    steps = [_step(view) for view in views if len(view.x) > 1]
    if not len(lengths) or not steps or lengths.max() <= 0:
        return 1.0
    wanted = _SHARE * float(np.median(steps)) / float(np.quantile(lengths, 0.95))
    decade = 10.0 ** np.floor(np.log10(wanted))
    return float(max(1.0, decade * max(f for f in (1, 2, 5) if f * decade <= wanted)))


def _step(view: View) -> float:
    """px between neighbouring points, in the median."""
    from scipy.spatial import cKDTree  # here, since loading it takes time

    points = np.stack([view.x, view.y], axis=1)
    return float(np.median(cKDTree(points).query(points, 2)[0][:, 1]))


def residual_arrows(view: View, times: float) -> list[NDArray[np.float64]]:
    """Lines (n, 2), px of the source, an arrow a point: tail where it was computed, head `times` its residual away."""
    found = []
    for x, y, dx, dy in zip(view.x, view.y, view.dx, view.dy, strict=True):
        tail = np.array([x - dx, y - dy])
        along = times * np.array([dx, dy])
        across = np.array([-along[1], along[0]])
        head = tail + along
        found.append(
            np.stack([tail, head, head - _BARB * along + 0.6 * _BARB * across, head, head - _BARB * along - 0.6 * _BARB * across])
        )
    return found
