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
        [0.917, 0.672, 2.038, -0.249],
        [0.672, 0.518, -0.485, 0.323],
        [0.782, 0.497, 3.002, -0.495],
        [1.336, 0.977, 0.467, -0.199],
        [0.331, 0.262, 0.675, -0.125],
        [0.185, 0.296, 0.853, -0.048],
        [-1.340, 0.985, -0.469, -0.178],
        [0.681, 0.497, -0.975, 0.115],
        [0.227, 0.161, 0.009, -0.472],
        [0.604, 0.156, -0.425, 0.279],
    ]
)
_ALONE = np.array(
    [  # The same without the first two.
        [0.782, 0.497, 2.940, -0.277],
        [1.336, 0.977, 0.961, -0.029],
        [0.331, 0.262, 0.649, -0.112],
        [0.185, 0.296, 0.922, 0.076],
        [-1.340, 0.985, -0.859, -0.450],
        [0.681, 0.497, -0.877, 0.016],
        [0.227, 0.161, 0.427, -0.179],
        [0.604, 0.156, -0.366, 0.115],
    ]
)
_REACH = 3.0
"""Spreads from the middle beyond which a measure counts as if it were there."""
TYPICAL = 5.0
"""Evidence that one in twenty pieces of a texture exceeds (3 to 5 on all kinds that were tried), where there are few."""
DECAY = 0.42
"""log10 of the factor by which there are fewer pieces of texture for one more unit of evidence (on all kinds that were tried)."""
TYPICAL_ALONE, DECAY_ALONE = 4.0, 0.5
"""The same of the evidence of the fit alone, on all kinds but heaps of small parts with sharp edges, which are like spots."""


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
    return _weighted(measures.table(), _WEIGHTS)


def evidence_alone(measures: Measures) -> Floats:
    """The same without what is rare in the image: an image may be full of spots."""
    return _weighted(measures.table()[:, 2:], _ALONE)


def _weighted(table: Floats, weights: Floats) -> Floats:
    middle, spread, weight, square = weights.T
    return np.asarray(normalised(table, middle, spread) @ np.concatenate([weight, square]))
