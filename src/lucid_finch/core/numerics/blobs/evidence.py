"""How much speaks for a spot rather than for a piece of texture: ten measures of a fitted blob, in one number.

Weights of the measures and of their squares by logistic regression (D. R. Cox, J. R. Statist. Soc. B 20, 1958) on spots painted
on made and on photographed texture (`python -m benchmarks.blobs learn`). All measures are relative to the texture around.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.blobs.rims import Rims

Floats = NDArray[np.float64]

_WEIGHTS = np.array(
    [  # Middle and spread of each measure, its weight, and that of its square.
        [1.731, 0.750, 1.332, -0.170],
        [1.204, 0.691, -0.268, 0.415],
        [0.580, 0.472, 3.266, -0.433],
        [1.555, 1.067, 0.463, -0.721],
        [0.286, 0.321, 0.796, -0.384],
        [0.144, 0.367, 1.296, -0.143],
        [-1.564, 1.081, -0.667, 0.011],
        [0.604, 0.477, -0.971, 0.213],
        [0.269, 0.168, -0.212, -0.394],
        [0.569, 0.149, -0.412, 0.179],
    ]
)
_REACH = 3.0
"""Spreads from the middle beyond which a measure counts as if it were there."""
TYPICAL = 5.0
"""Evidence that one in twenty pieces of a texture exceeds (2 to 7 on all kinds that were tried)."""
DECAY = 0.45
"""log10 of the factor by which there are fewer pieces of texture for one more unit of evidence (on all kinds that were tried)."""


@dataclass(frozen=True)
class Measures:
    """One entry a blob."""

    response: Floats
    """-log10 of the share of the texture's extrema whose response is as clear."""
    rim: Floats
    """-log10 of the share of the texture's extrema whose rim is as sharp."""
    radius: Floats
    """px of the image."""
    contrast: Floats
    """Of the fit, grey levels."""
    rims: Rims
    ratio: Floats
    """Of the curvatures."""
    raw_response: Floats
    """Grey levels."""

    def table(self) -> Floats:
        """(n, 10): the measures, without units."""
        contrast, radius, around = self.contrast, self.radius, self.rims
        level = np.maximum(contrast, 1e-6)
        outside, quarter, tenth = around.outside, around.lower_quarter, around.lower_tenth
        against = contrast / np.maximum(self.raw_response, 1e-9)
        return np.column_stack(
            [
                np.minimum(self.response, 6.0), np.minimum(self.rim, 6.0), np.log(np.maximum(radius, 0.3)),
                _log(contrast / np.maximum(outside, 1e-3 * level)),
                np.clip(quarter / level, -1.0, 1.2), np.clip(tenth / level, -1.5, 1.2), _log(outside / level),
                np.log(np.clip(self.ratio, 1.0, 8.0)), np.abs(np.log(np.clip(against, 0.3, 5.0)) - 0.34),
                np.clip(around.change / level, -0.5, 1.5),
            ]
        )  # fmt: skip


def _log(values: Floats) -> Floats:
    return np.log(np.clip(values, 0.03, 30.0))


def normalised(table: Floats, middle: Floats, spread: Floats) -> Floats:
    """(n, 20): the measures in spreads from their middle, and the squares of that."""
    z = np.clip((table - middle) / spread, -_REACH, _REACH)
    return np.concatenate([z, z**2], axis=1)


def evidence(measures: Measures) -> Floats:
    """One number a blob; more speaks for a spot."""
    middle, spread, weight, square = _WEIGHTS.T
    return np.asarray(normalised(measures.table(), middle, spread) @ np.concatenate([weight, square]))
