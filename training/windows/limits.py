"""Sets the limits below which a window is given up, tree by tree.

Bourdev and Brandt, "Robust object detection via soft cascade", IEEE CVPR 2005.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.windows.trees import Trees, score_windows

_HOPELESS = 0.05
"""Part of the windows with the object that all trees like least: limits of the search need not keep them."""
_LOST = 0.01
"""Part of the others whose sum may be below a limit."""
_EVERY = 10
"""Trees between limits that are worked out; between them they rise evenly."""


def limited(trees: Trees, objects: NDArray[np.uint8], scanned: int) -> Trees:
    """Trees with limits that few of the windows of objects (n, values) fall below, which training has not seen. The last limit is
    that of the sum of all trees, the others are of the search with the first `scanned`."""
    at = np.unique(np.append(np.arange(_EVERY, scanned, _EVERY), scanned))
    final = score_windows(objects, trees)
    objects = objects[final >= np.quantile(final, _HOPELESS)]
    sums = np.array([score_windows(objects, trees.first(int(count))) for count in at])
    found = np.quantile(sums, _LOST, axis=1)
    limits = np.full(len(trees), float(trees.reject[0]))
    limits[:scanned] = np.interp(np.arange(1, scanned + 1), at, found)
    limits[scanned:] = -np.inf
    # Never lower than training allowed, which has learnt from nothing below.
    limits[:scanned] = np.maximum(limits[:scanned], trees.reject[:scanned])
    if scanned < len(trees):
        # Of what was found, what has a chance when all trees have looked.
        limits[-1] = np.quantile(final, _LOST)
    return replace(trees, reject=limits.astype(np.float32))
