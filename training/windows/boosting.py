"""Boosts trees of depth 3 over bytes: gentle boosting on weighted histograms.

Friedman, Hastie and Tibshirani, "Additive logistic regression: a statistical view of boosting", Annals of Statistics 28(2), 2000.
Each split is the best over a random part of all values and all 256 thresholds; leaves are clipped.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.windows.trees import LEAVES, NODES, Trees

_CLIP = 0.6
"""A leaf says at most so much."""
_PART = 0.12
"""Share of the values that each tree may choose from."""
_SMOOTH = 1e-3
"""Of all weight, added to each leaf: small leaves say little."""


@numba.njit(nogil=True, cache=True)
def _histograms(values, chosen, node, weight, signed, first, last, out):  # type: ignore[no-untyped-def]
    """Weight and signed weight by value, for the chosen rows of values (values, samples) and the nodes first..last-1."""
    out[:] = 0.0
    for f in range(chosen.size):
        row = values[chosen[f]]
        for n in range(row.size):
            k = node[n] - first
            if 0 <= k < last - first:
                out[f, k, row[n], 0] += weight[n]
                out[f, k, row[n], 1] += signed[n]


@numba.njit(nogil=True, cache=True)
def _best(histograms, gains, at):  # type: ignore[no-untyped-def]
    """For each node the split of the largest gain: the value, and its threshold."""
    count, nodes = histograms.shape[0], histograms.shape[1]
    for k in range(nodes):
        gains[k] = -1.0
    for f in range(count):
        for k in range(nodes):
            total, balance = 0.0, 0.0
            for b in range(256):
                total += histograms[f, k, b, 0]
                balance += histograms[f, k, b, 1]
            left, signed = 0.0, 0.0
            for b in range(255):
                left += histograms[f, k, b, 0]
                signed += histograms[f, k, b, 1]
                right = total - left
                if left < 1e-6 or right < 1e-6:
                    continue
                gain = signed * signed / left + (balance - signed) ** 2 / right
                if gain > gains[k]:
                    gains[k], at[k, 0], at[k, 1] = gain, f, b


class Booster:
    """Trees that grow; samples may be replaced between rounds."""

    def __init__(self, side: int, seed: int) -> None:
        self.side = side
        self.random = np.random.default_rng(seed)
        self.feature: list[NDArray[np.uint16]] = []
        self.threshold: list[NDArray[np.uint8]] = []
        self.leaf: list[NDArray[np.float32]] = []

    def trees(self, reject: float) -> Trees:
        return Trees(self.side, np.array(self.feature), np.array(self.threshold), np.array(self.leaf, np.float32), reject)

    def grow(self, values: NDArray[np.uint8], truth: NDArray[np.bool_], scores: NDArray[np.float64], until: int) -> None:
        """Add trees until there are so many; values (values, samples); `scores` so far are brought up to date in place."""
        sign = np.where(truth, 1.0, -1.0)
        samples = values.shape[1]
        rows = np.arange(samples)
        while len(self.leaf) < until:
            # Both sides count alike, whatever their numbers.
            weight = np.exp(-np.clip(sign * scores, -12, 12))
            for side in (truth, ~truth):
                weight[side] /= max(weight[side].sum(), 1e-300)
            weight *= 0.5
            # What weighs nothing is passed over.
            heavy = np.flatnonzero(weight > np.quantile(weight, 0.05) * 0.0 + 1e-3 / samples)
            chosen = self.random.choice(values.shape[0], max(8, int(_PART * values.shape[0])), replace=False)
            own = np.ascontiguousarray(values[np.ix_(chosen, heavy)])
            node = np.zeros(len(heavy), np.int64)
            feature, threshold = np.zeros(NODES, np.uint16), np.full(NODES, 255, np.uint8)
            all_rows = np.arange(len(chosen))
            w, s = weight[heavy], (weight * sign)[heavy]
            for level in range(3):
                first, last = 2**level - 1, 2 ** (level + 1) - 1
                histograms = np.zeros((len(chosen), last - first, 256, 2))
                _histograms(own, all_rows, node, w, s, first, last, histograms)
                gains, at = np.zeros(last - first), np.zeros((last - first, 2), np.int64)
                _best(histograms, gains, at)
                for k in range(last - first):
                    if gains[k] >= 0:
                        feature[first + k], threshold[first + k] = chosen[at[k, 0]], at[k, 1]
                position = {int(c): n for n, c in enumerate(chosen)}
                for k in range(last - first):
                    here = node == first + k
                    column = position.get(int(feature[first + k]), 0)
                    node[here] = 2 * node[here] + 1 + (own[column, here] > threshold[first + k])
            leaf = np.zeros(LEAVES, np.float32)
            for k in range(LEAVES):
                here = node == NODES + k
                leaf[k] = np.clip(s[here].sum() / (w[here].sum() + _SMOOTH), -_CLIP, _CLIP)
            self.feature.append(feature)
            self.threshold.append(threshold)
            self.leaf.append(leaf)
            node = np.zeros(samples, np.int64)
            for _ in range(3):
                node = 2 * node + 1 + (values[feature[node], rows] > threshold[node])
            scores += leaf[node - NODES]
