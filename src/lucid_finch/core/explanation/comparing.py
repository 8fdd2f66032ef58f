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


_STEP = 2.0
"""px between the places along a line at which another may be it."""
_MOST_STEPS = 4096


def _places(columns: Any) -> tuple[NDArray[np.float64], Rows]:
    """Places at which each finding is, and whose they are: its position, of lines all along them, since their ends vary."""
    middle = positions(columns)
    if "x1" not in columns or not len(middle):
        return middle, np.arange(len(middle))
    one, other = (np.stack([np.asarray(columns[f"{n}{k}"], float) for n in "xy"], axis=1) for k in (1, 2))
    length = np.nan_to_num(np.hypot(*(other - one).T))
    count = np.clip(np.ceil(length / _STEP), 1, _MOST_STEPS).astype(np.int64)
    owner = np.repeat(np.arange(len(middle)), count)
    first = np.cumsum(count) - count
    share = ((np.arange(len(owner)) - first[owner] + 0.5) / count[owner])[:, None]
    return one[owner] + share * (other - one)[owner], owner


def _counterparts(among: Any, of: Any, within: float) -> Rows:
    """For each finding the one of `among` whose place is nearest, or -1 if none is within so many px."""
    places, owner = _places(among)
    near = nearest(places, positions(of), within)
    return np.where(near >= 0, owner[near] if len(owner) else -1, -1)


def gained_and_lost(before: Any, after: Any, within: float) -> tuple[Rows, Rows]:
    """Rows of the findings `after` without a counterpart in those `before`, and of `before` without one in `after`; two belong
    together where each is the nearest of the other and they are at most `within` px apart."""
    to_after, to_before = _counterparts(after, before, within), _counterparts(before, after, within)
    mutual = np.zeros(len(to_before), bool)
    here = np.flatnonzero(to_before >= 0)
    mutual[here] = to_after[to_before[here]] == here
    lost = np.ones(len(to_after), bool)
    lost[to_before[mutual]] = False
    return np.flatnonzero(~mutual), np.flatnonzero(lost)
