"""Links edge points into chains, each with its significance: the expected number of false alarms."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges import chain_significance
from lucid_finch.core.numerics.edges.background import Background
from lucid_finch.core.numerics.edges.chains import Chains, link_chains
from lucid_finch.core.numerics.edges.edge_points import EdgePoints
from lucid_finch.core.numerics.ragged import owners


@dataclass(frozen=True)
class SignificantChains:
    """Chains, and -log10 of the expected number of each in such a background."""

    chains: Chains
    log_nfa: NDArray[np.float64]

    @property
    def nbytes(self) -> int:
        return self.log_nfa.nbytes + sum(a.nbytes for a in vars(self.chains).values())

    def points_above(self, log_nfa: float) -> NDArray[np.int32]:
        """Indices of the points of all chains with at least that `log_nfa`."""
        enough = (self.log_nfa >= log_nfa)[owners(self.chains.start)]
        return self.chains.order[enough]


def significant_chains(
    points: EdgePoints, background: Background, size: tuple[int, int], low: float | None = None
) -> SignificantChains:
    """Chains of the points of an image of that width and height; `low` is the low threshold of their gradient, grey levels
    per pixel, or None if it follows from the background."""
    scale: Any = np.maximum(points.scale, np.float32(1e-12))
    z_low: Any = chain_significance.Z_LOW if low is None else np.float32(low) / scale
    chains = link_chains(points, size[0], chain_significance.weights(points.strength / scale, z_low))
    count = np.diff(chains.start)
    mean_low: Any = z_low
    if low is not None and len(chains):
        mean_low = np.add.reduceat(np.minimum(z_low, 1e6)[chains.order].astype(float), chains.start[:-1]) / count
    first, last = chains.order[chains.start[:-1]], chains.order[chains.start[1:] - 1]
    log_nfa = chain_significance.log_nfa(
        chains.length,
        np.hypot(points.x[last] - points.x[first], points.y[last] - points.y[first]),
        chains.energy / np.maximum(count, 1),
        mean_low,
        background.correlation,
        size[0] * size[1],
    )
    return SignificantChains(chains, log_nfa)
