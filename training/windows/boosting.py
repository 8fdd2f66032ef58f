"""Boosts trees of depth 3 over bytes: gentle boosting on weighted histograms.

Friedman, Hastie and Tibshirani, "Additive logistic regression: a statistical view of boosting", Annals of Statistics 28(2), 2000.
Each split is the best over a random part of all values and all 256 thresholds; leaves are clipped.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.threads import over_bands
from lucid_finch.core.numerics.windows.trees import LEAVES, NODES, Trees

_CLIP = 0.6
"""A leaf says at most so much."""
_PART = 0.12
"""Share of the values that each tree may choose from."""
_LIGHT = 0.005
"""Of all weight, in the lightest samples, which no tree looks at."""
_SMOOTH = 1e-3
"""Of all weight, added to each leaf: small leaves say little."""


@numba.njit(nogil=True, cache=True)
def _taken(values, chosen, heavy, first, last, out):  # type: ignore[no-untyped-def]
    """Rows `chosen` of values (values, samples), columns `heavy`."""
    for f in range(first, last):
        row, to = values[chosen[f]], out[f]
        for n in range(heavy.size):
            to[n] = row[heavy[n]]


@numba.njit(nogil=True, cache=True)
def _splits(own, node, weights, nodes, first, last, gains, at):  # type: ignore[no-untyped-def]
    """For rows first..last-1 of `own` and each of `nodes` nodes the threshold of the largest gain, and the gain (-1: none).

    weights: (samples, 2), that of each sample and the same with its sign. After Friedman and others, weights by value.
    """
    sums = np.empty((nodes, 256, 2))
    for f in range(first, last):
        sums[:] = 0.0
        row = own[f]
        for n in range(node.size):
            cell = sums[node[n], row[n]]
            cell[0] += weights[n, 0]
            cell[1] += weights[n, 1]
        for k in range(nodes):
            total = balance = left = signed = 0.0
            for b in range(256):
                total += sums[k, b, 0]
                balance += sums[k, b, 1]
            gains[f, k] = -1.0
            for b in range(255):
                left += sums[k, b, 0]
                signed += sums[k, b, 1]
                right = total - left
                if left < 1e-6 or right < 1e-6:
                    continue
                gain = signed * signed / left + (balance - signed) ** 2 / right
                if gain > gains[f, k]:
                    gains[f, k], at[f, k] = gain, b


class Booster:
    """Trees that grow; samples may be replaced between rounds."""

    def __init__(self, side: int, seed: int) -> None:
        self.side = side
        self.random = np.random.default_rng(seed)
        self.feature: list[NDArray[np.uint16]] = []
        self.threshold: list[NDArray[np.uint8]] = []
        self.leaf: list[NDArray[np.float32]] = []

    def trees(self, reject: float) -> Trees:
        limits = np.full(len(self.leaf), reject, np.float32)
        return Trees(self.side, np.array(self.feature), np.array(self.threshold), np.array(self.leaf, np.float32), limits)

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
            # What weighs next to nothing in all is passed over.
            order = np.argsort(weight, kind="stable")
            heavy = np.sort(order[np.searchsorted(np.cumsum(weight[order]), _LIGHT) :])
            chosen = self.random.choice(values.shape[0], max(8, int(_PART * values.shape[0])), replace=False)
            own = np.empty((len(chosen), len(heavy)), np.uint8)
            over_bands(lambda a, b: _taken(values, chosen, heavy, a, b, own), len(chosen), band_height=32)  # noqa: B023
            node = np.zeros(len(heavy), np.int64)
            feature, threshold = np.zeros(NODES, np.uint16), np.full(NODES, 255, np.uint8)
            weights = np.stack([weight, weight * sign], axis=1)[heavy]
            for level in range(3):
                nodes = 2**level
                gains, at = np.empty((len(chosen), nodes)), np.zeros((len(chosen), nodes), np.int64)
                over_bands(lambda a, b: _splits(own, node, weights, nodes, a, b, gains, at), len(chosen), band_height=32)  # noqa: B023
                best = np.argmax(gains, axis=0)
                for k in range(nodes):
                    if gains[best[k], k] >= 0:
                        feature[nodes - 1 + k], threshold[nodes - 1 + k] = chosen[best[k]], at[best[k], k]
                limit = threshold[nodes - 1 : 2 * nodes - 1]
                none = gains[best, np.arange(nodes)] < 0
                node = 2 * node + (own[best[node], np.arange(len(heavy))] > np.where(none, 255, limit)[node])
            w, s = weights.T
            leaf = np.zeros(LEAVES, np.float32)
            for k in range(LEAVES):
                here = node == k
                leaf[k] = np.clip(s[here].sum() / (w[here].sum() + _SMOOTH), -_CLIP, _CLIP)
            self.feature.append(feature)
            self.threshold.append(threshold)
            self.leaf.append(leaf)
            node = np.zeros(samples, np.int64)
            for _ in range(3):
                node = 2 * node + 1 + (values[feature[node], rows] > threshold[node])
            scores += leaf[node - NODES]
