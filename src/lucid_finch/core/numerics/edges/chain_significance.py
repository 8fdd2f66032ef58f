"""How surely a chain of edge points is more than the background's doing: its expected number of false alarms.

After Desolneux, Moisan and Morel ("Edge detection by Helmholtz principle", JMIV 14, 2001), with a background that is
measured and not assumed to be white. In a Gaussian random field whose gradient has scale 1 and correlation s, thinned and
cut at z, the number of chains is s^-2 exp(-z^2/2) (0.375 z - 0.4) a pixel; a chain of length L has l = (L + 1) / s
independent steps, its length falls off as exp(-0.115 z^2 l), and the mean excess e of half the squared strength over
z^2/2 behaves as a gamma variable of mean 1.7 with 0.65 l degrees. So with the Chernoff bound

    S = 0.115 z^2 l + 0.65 l (r - 1 - ln r),  r = max(1, e / 1.7)

exceeds t with a chance of about exp(-t). The four numbers were measured on simulated fields for s from 0.8 to 4 and z from
2 to 3.2 (`benchmarks/false_alarms.py` measures what they lead to). Backgrounds with heavier tails (strong compression,
sparse grain) show it in their many short chains: the ratio of the numbers with 1 < S <= 2.5 and 2.5 < S <= 4 gives by how much S
has to be lowered.

Strength counts only up to 4.5 times the background, and a short chain that comes back to where it began counts for nothing:
it is what a point makes of itself when smoothed, a ring of radius up to 1.9 s. So a speck, however bright, is no edge.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Z_LOW = 2.4
"""Default lower limit, in units of the background's gradient scale."""

_Z_MOST = 4.5
_SPECK = 1.9
_RATE = 0.115
_MEAN_EXCESS = 1.7
_DEGREES = 0.65
# What an ideal background would have in the two classes: added to the counts, so that few chains change nothing.
_PRIOR = (58.0, 10.0)

Floats = NDArray[np.float64]


def weights(z: NDArray[np.float32], z_low: NDArray[np.float32] | float) -> NDArray[np.float32]:
    """Excess a point, to be summed along each chain: strengths `z` over the lower limits, both in units of the scale."""
    low = np.clip(z_low, 1.2, None)
    top = np.maximum(_Z_MOST, low + 1)
    return np.asarray(0.5 * (np.minimum(z, top) ** 2 - low * low), np.float32)


def log_nfa(
    length: NDArray[np.float32],
    reach: NDArray[np.float32],
    mean_excess: NDArray[np.float64],
    z_low: NDArray[np.float64] | float,
    correlation: float,
    pixels: int,
) -> Floats:
    """-log10 of the expected number of such chains in `pixels` pixels of background, one a chain.

    `reach` is the distance from a chain's first point to its last, px.
    """
    if not len(length):
        return np.empty(0)
    low = np.clip(z_low, 1.2, _Z_MOST)
    steps = (length.astype(float) + 1) / correlation
    steps[(reach < 0.5 * length) & (steps < 2 * np.pi * _SPECK)] = 0.0
    r = np.maximum(mean_excess / _MEAN_EXCESS, 1.0)
    s = _RATE * low * low * steps + _DEGREES * steps * (r - 1 - np.log(r))
    first = np.count_nonzero((s > 1) & (s <= 2.5)) + _PRIOR[0]
    second = np.count_nonzero((s > 2.5) & (s <= 4)) + _PRIOR[1]
    seen = max(np.log(first / second) / 1.5, 0.0)
    # An ideal background has 1.17 here and falls off with 0.9; the heavier the tail, the more so far out.
    fall = np.clip(0.9 * (seen / 1.17) ** 1.4, 0.24, 0.92)
    lowest = float(np.mean(low))
    expected = pixels / correlation**2 * np.exp(-0.5 * lowest * lowest) * (0.375 * lowest - 0.4)
    return np.asarray(fall * s / np.log(10) - np.log10(1.3 * max(expected, len(length))))
