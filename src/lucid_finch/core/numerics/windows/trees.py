"""Boosted trees of depth 3 over the cells of a window: the score is the sum of one leaf of each tree.

Viola and Jones, "Robust real-time face detection", International Journal of Computer Vision 57(2), 2004, with the constant early
rejection of Dollar and others (IEEE PAMI 36(8), 2014): a window whose sum falls below a constant is given up.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands
from lucid_finch.core.numerics.windows.channels import COUNT, Cells

NODES, LEAVES = 7, 8


@dataclass(frozen=True)
class Trees:
    """Trees over windows of `side` by `side` cells."""

    side: int
    feature: NDArray[np.uint16]
    """(trees, 7): which value of the window, row by row, then channel; nodes from the root, by levels."""
    threshold: NDArray[np.uint8]
    """(trees, 7): values up to it go left."""
    leaf: NDArray[np.float32]
    """(trees, 8)."""
    reject: float
    """Sums below it are given up."""

    def __len__(self) -> int:
        return len(self.leaf)

    def first(self, count: int) -> Trees:
        return Trees(self.side, self.feature[:count], self.threshold[:count], self.leaf[:count], self.reject)


@kernel
def _scores(cells, top, bottom, columns, offset, threshold, leaf, reject, out):  # type: ignore[no-untyped-def]
    """Sums of the windows whose upper left cell lies in rows top..bottom; -1e9 of those that are given up."""
    flat = cells.reshape(-1)
    wide, count = cells.shape[1], cells.shape[2]
    for r in range(top, bottom):
        for c in range(columns):
            base = (r * wide + c) * count
            total = np.float32(0)
            for t in range(leaf.shape[0]):
                node = 0
                for _ in range(3):
                    node = 2 * node + (2 if flat[base + offset[t, node]] > threshold[t, node] else 1)
                total += leaf[t, node - 7]
                if total < reject:
                    total = np.float32(-1e9)
                    break
            out[r, c] = total


def scores(cells: Cells, trees: Trees) -> NDArray[np.float32]:
    """The score of every window, by its upper left cell; -1e9 where it was given up early."""
    rows, columns = cells.shape[0] - trees.side + 1, cells.shape[1] - trees.side + 1
    if rows < 1 or columns < 1:
        return np.empty((max(rows, 0), max(columns, 0)), np.float32)
    feature = trees.feature.astype(np.int64)
    row, rest = np.divmod(feature, trees.side * COUNT)
    offset = row * cells.shape[1] * COUNT + rest
    out = np.empty((rows, columns), np.float32)
    reject = np.float32(trees.reject)
    over_bands(
        lambda top, bottom: _scores(cells, top, bottom, columns, offset, trees.threshold, trees.leaf, reject, out), rows,
        band_height=16,
    )  # fmt: skip
    return out


def score_windows(windows: NDArray[np.uint8], trees: Trees) -> NDArray[np.float32]:
    """Scores of windows (n, features) without early rejection."""
    total = np.zeros(len(windows), np.float32)
    rows = np.arange(len(windows))
    for t in range(len(trees)):
        node = np.zeros(len(windows), np.int64)
        for _ in range(3):
            above = windows[rows, trees.feature[t, node]] > trees.threshold[t, node]
            node = 2 * node + 1 + above
        total += trees.leaf[t, node - NODES]
    return total
