"""Boosted trees of depth 3 over the cells of a window: the score is the sum of one leaf of each tree.

Viola and Jones, "Robust real-time face detection", International Journal of Computer Vision 57(2), 2004, with the constant early
rejection of Dollar and others (IEEE PAMI 36(8), 2014), as a limit of its own after each tree: Bourdev and Brandt, "Robust object
detection via soft cascade", IEEE CVPR 2005.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands
from lucid_finch.core.numerics.windows.channels import COUNT, Cells

NODES, LEAVES = 7, 8
_BAND = 16
"""Rows of windows at once."""
_FIRST = 64
"""Trees that all windows see."""


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
    reject: NDArray[np.float32]
    """(trees,): windows whose sum is below it after a tree are given up."""

    def __len__(self) -> int:
        return len(self.leaf)

    def first(self, count: int) -> Trees:
        return Trees(self.side, self.feature[:count], self.threshold[:count], self.leaf[:count], self.reject[:count])


@helper
def _all_grown(flat, begin, offset, threshold, leaf, reject, last, sums):  # type: ignore[no-untyped-def]
    """Sums of the first `last` trees for windows that follow one another; all nodes of a tree, so that many go at once."""
    count = sums.size
    for n in range(count):
        sums[n] = np.float32(0)
    for t in range(last):
        limit = reject[t]
        at = offset[t]
        a, b, c, d = flat[begin + at[0] :], flat[begin + at[1] :], flat[begin + at[2] :], flat[begin + at[3] :]
        e, f, g = flat[begin + at[4] :], flat[begin + at[5] :], flat[begin + at[6] :]
        ta, tb, tc, td, te, tf, tg = threshold[t]
        l0, l1, l2, l3, l4, l5, l6, l7 = leaf[t]
        for n in range(count):
            low = (l3 if e[n] > te else l2) if b[n] > tb else (l1 if d[n] > td else l0)
            high = (l7 if g[n] > tg else l6) if c[n] > tc else (l5 if f[n] > tf else l4)
            total = sums[n] + (high if a[n] > ta else low)
            sums[n] = total if total >= limit else np.float32(-1e9)


@helper
def _grown(flat, offset, threshold, leaf, reject, first, place, sums, left):  # type: ignore[no-untyped-def]
    """Adds the trees from `first` on to the sums of `left` windows; how many are not given up: they come first, in order.

    Tree by tree over all windows: so they do not wait for one another.
    """
    for t in range(first, leaf.shape[0]):
        root, limit = offset[t, 0], reject[t]
        kept = 0
        for n in range(left):
            start = place[n]
            node = 1 + int(flat[start + root] > threshold[t, 0])
            node = 2 * node + 1 + int(flat[start + offset[t, node]] > threshold[t, node])
            node = 2 * node + 1 + int(flat[start + offset[t, node]] > threshold[t, node])
            total = sums[n] + leaf[t, node - 7]
            place[kept], sums[kept] = start, total
            kept += int(total >= limit)
        left = kept
    return left


@kernel
def _scores(planar, top, bottom, offset, threshold, leaf, reject, out):  # type: ignore[no-untyped-def]
    """Sums of the windows whose upper left cell lies in rows top..bottom-1; -1e9 of those that are given up."""
    flat = planar.reshape(-1)
    wide, columns = planar.shape[2], out.shape[1]
    first = min(_FIRST, leaf.shape[0])
    # In a row of cells the last begin no window; they are passed over afterwards.
    sums = np.empty((bottom - top - 1) * wide + columns, np.float32)
    _all_grown(flat, top * wide, offset, threshold, leaf, reject, first, sums)
    place = np.empty(sums.size, np.int32)
    left = 0
    for r in range(top, bottom):
        for c in range(columns):
            out[r, c] = np.float32(-1e9)
            n = (r - top) * wide + c
            place[left], sums[left] = r * wide + c, sums[n]
            left += int(sums[left] > np.float32(-1e8))
    left = _grown(flat, offset, threshold, leaf, reject, first, place, sums, left)
    for n in range(left):
        r, c = divmod(place[n], wide)
        out[r, c] = sums[n]


def scores(all_cells: Sequence[Cells], trees: Trees) -> list[NDArray[np.float32]]:
    """The score of every window of some levels, by its upper left cell; -1e9 where it was given up early."""
    found, jobs = [], []
    feature = trees.feature.astype(np.int32)
    row, rest = np.divmod(feature, trees.side * COUNT)
    column, channel = np.divmod(rest, COUNT)
    for cells in all_cells:
        rows, columns = (max(n - trees.side + 1, 0) for n in cells.shape[:2])
        out = np.empty((rows, columns), np.float32)
        found.append(out)
        if out.size:
            planar = cells.transpose(2, 0, 1)
            offset = (channel * cells.shape[0] + row) * np.int32(cells.shape[1]) + column
            jobs += [(planar, offset, out, first) for first in range(0, rows, _BAND)]

    def work(n: int, _: int) -> None:
        planar, offset, out, first = jobs[n]
        last = min(first + _BAND, len(out))
        _scores(planar, first, last, offset, trees.threshold, trees.leaf, trees.reject, out)

    over_bands(work, len(jobs), band_height=1)
    return found


@kernel
def _sums(windows, first, last, feature, threshold, leaf, out):  # type: ignore[no-untyped-def]
    for n in range(first, last):
        values = windows[n]
        total = np.float32(0)
        for t in range(leaf.shape[0]):
            node = 0
            for _ in range(3):
                node = 2 * node + 1 + int(values[feature[t, node]] > threshold[t, node])
            total += leaf[t, node - 7]
        out[n] = total


def score_windows(windows: NDArray[np.uint8], trees: Trees) -> NDArray[np.float32]:
    """Scores of windows (n, features), none given up."""
    out = np.empty(len(windows), np.float32)
    feature = trees.feature.astype(np.int32)
    over_bands(lambda a, b: _sums(windows, a, b, feature, trees.threshold, trees.leaf, out), len(windows))
    return out
