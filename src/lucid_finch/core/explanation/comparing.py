"""Compares the findings of two runs on one image: which ones came, which went."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Rows = NDArray[np.int64]


def positions(columns: Any) -> NDArray[np.float64]:
    """(n, 2) places of findings or candidates, from columns x and y."""
    return np.stack([np.asarray(columns["x"], float), np.asarray(columns["y"], float)], axis=1)


def nearest(among: NDArray[Any], places: NDArray[Any], within: float) -> Rows:
    """For each place the number of the nearest of `among` at most `within` px away, or -1."""
    from scipy.spatial import cKDTree  # here, since loading it takes time

    if not len(among) or not len(places):
        return np.full(len(places), -1)
    far, which = cKDTree(among).query(places, distance_upper_bound=within)
    return np.where(np.isfinite(far), which, -1)


def gained_and_lost(before: NDArray[Any], after: NDArray[Any], within: float) -> tuple[Rows, Rows]:
    """Rows of `after` without a counterpart in `before`, and of `before` without one in `after`; two places belong together
    where each is the nearest of the other and they are at most `within` px apart."""
    to_after, to_before = nearest(after, before, within), nearest(before, after, within)
    mutual = np.zeros(len(after), bool)
    here = np.flatnonzero(to_before >= 0)
    mutual[here] = to_after[to_before[here]] == here
    lost = np.ones(len(before), bool)
    lost[to_before[mutual]] = False
    return np.flatnonzero(~mutual), np.flatnonzero(lost)
