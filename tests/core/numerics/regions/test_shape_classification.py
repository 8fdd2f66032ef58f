"""Partition of outlines into straight pieces: the pruned search finds what a search over all partitions finds."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from lucid_finch.core.numerics.regions import shape_classification


def residual(places: Any) -> float:
    """Squared distances from the best line."""
    off = places - places.mean(axis=0)
    return float(np.linalg.svd(off, compute_uv=False)[-1] ** 2) if len(places) > 2 else 0.0


class Partition(unittest.TestCase):
    def test_it_is_the_best_of_all(self) -> None:
        random = np.random.default_rng(2)
        for noise in (0.0, 0.3, 3.0):
            places = np.concatenate(
                [np.linspace((0, 0), (9, 1), 7), np.linspace((9, 2), (8, 9), 6), np.linspace((7, 9), (1, 6), 6)]
            )
            places = places + random.normal(0, noise, places.shape)
            n, most = len(places), 5
            best, back = np.empty((most + 1, n + 1)), np.zeros((most + 1, n + 1), np.int64)
            shape_classification._parted(places, most, best, back)
            least = np.full((most + 1, n + 1), np.inf)
            for j in range(2, n + 1):
                least[1, j] = residual(places[:j])
                for k in range(2, most + 1):
                    least[k, j] = min(
                        (least[k - 1, i] + residual(places[i:j]) for i in range(2 * (k - 1), j - 1)), default=np.inf
                    )
            for k in range(1, most + 1):
                self.assertAlmostEqual(best[k, n], least[k, n], delta=1e-6 + 1e-6 * least[k, n])
                # The places where it parts give that residual.
                cuts, j = [n], n
                for m in range(k, 0, -1):
                    j = int(back[m, j])
                    cuts.append(j)
                pieces = zip(cuts[1:], cuts[:-1], strict=True)
                self.assertAlmostEqual(
                    sum(residual(places[a:b]) for a, b in pieces), least[k, n], delta=1e-6 + 1e-6 * least[k, n]
                )


if __name__ == "__main__":
    unittest.main()
