"""How often the texture of an image makes a blob that stands out as much, measured on the blobs of the image itself."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.normal_tail import log_tail

Floats = NDArray[np.float64]

_SHARES = (0.5, 0.8)
"""Quantiles of the extrema from which their law is taken: what stands out is above both."""
_UPPER = 0.05
"""Share of all evidence above the quantile that stands for the texture."""
_FEWEST = 200
"""Extrema from which on a scale has a law of its own; else it shares that of the scales beside it."""
_FAINTER = 2.0
"""Halvings of the contrast down to which texture may be taken for a spot."""
_LINEAR = 0.77
"""Of the law of noise."""
_Z80, _Z95 = 0.8416, 1.6449
"""Quantiles of the normal law."""
_WIDER = 1.15
"""Factor on the ratio of quantiles of noise up to which extrema are like those of noise."""
_HEAVIEST = 0.35
"""Least exponent by which the law of a texture differs from that of noise."""


def _of_noise(share: float) -> float:
    """Response, in standard deviations, that such a share of the extrema of a Gaussian field stays below."""
    return _LINEAR + math.sqrt(_LINEAR**2 - 2.0 * math.log(1.0 - share))


def _groups(scale: NDArray[np.int64]) -> Iterator[tuple[NDArray[np.bool_], NDArray[np.bool_]]]:
    """For each scale its extrema, and those whose law it has: its own if they are enough, else those of the scales beside it."""
    count = np.bincount(scale)
    for number in np.flatnonzero(count):
        reach = 0
        while reach < len(count) and count[max(number - reach, 0) : number + reach + 1].sum() < _FEWEST:
            reach += 1
        yield scale == number, np.abs(scale - number) <= reach


def response_rarity(clearness: Floats, scale: NDArray[np.int64]) -> tuple[Floats, NDArray[np.bool_]]:
    """-log10 of the share of the extrema of the image's texture that are as clear.

    `clearness`: response over the typical response around; `scale`: number of the scale of each extremum. Of the extrema of a
    Gaussian field over place and scale, white or not, a share of exp(0.77 z - z^2 / 2) is above z (measured, 1 to 5 standard
    deviations). Of a texture, z is replaced by a power of the clearness, by two quantiles of its extrema. Also given is where the
    extrema follow the law of noise up to their last twentieth, so that it may be carried on beyond.
    """
    found, like_noise = np.zeros(len(clearness)), np.zeros(len(clearness), bool)
    if not len(clearness):
        return found, like_noise
    for here, around in _groups(scale):
        near = clearness[around]
        middle, power = _law(near)
        like_noise[here] = _like_noise(near)
        z = _of_noise(_SHARES[0]) * (clearness[here] / middle) ** power
        rarity = np.where(z > _LINEAR, 0.5 * z**2 - _LINEAR * z, 0.0)
        found[here] = np.maximum(rarity, 0.0) / math.log(10)
    return found, like_noise


def rim_rarity(change: Floats, scale: NDArray[np.int64]) -> Floats:
    """-log10 of the share of the extrema of the texture that have as sharp a rim.

    `change`: mean change along rays over the gradient of the background; `scale`: number of the scale. The extrema of a scale
    follow a normal law, by their median and upper quantiles; where these lie further apart than those of such a law, a power of
    the distance from the median does.
    """
    found = np.zeros(len(change))
    if len(change) < 0.2 * _FEWEST:
        return found
    for here, around in _groups(scale):
        middle, high, highest = np.quantile(change[around], (0.5, 0.8, 0.95))
        wide, wider = max(float(high - middle), 1e-9), max(float(highest - middle), 1e-9)
        power = min(max(math.log(_Z95 / _Z80) / max(math.log(wider / wide), 1e-6), _HEAVIEST), 1.0)
        z = _Z80 * (np.maximum(change[here] - middle, 0.0) / wide) ** power
        found[here] = -log_tail(z)
    return found


def usual_evidence(evidence: Floats, typical: float) -> float:
    """The evidence that one in twenty pieces of the texture exceeds; outstanding ones hardly change it. Of few pieces, it is
    mostly what is `typical` of textures."""
    if not len(evidence):
        return typical
    share = min(len(evidence) / _FEWEST, 1.0)
    return share * float(np.quantile(evidence, 1.0 - _UPPER)) + (1.0 - share) * typical


def usual_beside(evidence: Floats, contrast: Floats, typical: float) -> Floats:
    """The usual evidence for each piece; for those of far more contrast than most, that of pieces of no much lower contrast, if
    it is less: what compression leaves in flat parts of an image looks like spots, but of hardly any contrast."""
    every = usual_evidence(evidence, typical)
    usual = np.full(len(evidence), every)
    size = np.log2(np.maximum(contrast, 1e-6))
    if not len(size):
        return usual
    for step in np.unique(np.floor(size[size >= float(np.median(size)) + _FAINTER])).tolist():
        here = np.floor(size) == step
        beside = evidence[size >= step - _FAINTER]
        # Many of them may be spots: the upper end of texture is as far from its middle as the lower one.
        lower, middle = np.quantile(beside, (_UPPER, 0.5))
        share = min(len(beside) / _FEWEST, 1.0)
        usual[here] = min(every, share * float(2 * middle - lower) + (1.0 - share) * typical)
    return usual


def joint_log_nfa(evidence: Floats, usual: Floats | float, decay: float) -> Floats:
    """-log10 of how many pieces of the image's texture have as much evidence of a spot: one in twenty has the `usual` evidence
    or more; there are fewer by a factor of 10^`decay` for each unit beyond."""
    return np.asarray(-math.log10(_UPPER) + decay * (evidence - usual) - math.log10(max(len(evidence), 10)))


def _law(values: Floats) -> tuple[float, float]:
    """Median of some extrema and the power that brings them to those of noise: 1, or less where outstanding ones are commoner."""
    noise = [_of_noise(share) for share in _SHARES]
    if len(values) < 0.2 * _FEWEST:
        return noise[0], 1.0
    middle, high = (max(float(q), 1e-6) for q in np.quantile(values, _SHARES))
    power = math.log(noise[1] / noise[0]) / max(math.log(high / middle), 1e-6)
    return middle, min(max(power, _HEAVIEST), 1.0)


def _like_noise(values: Floats) -> bool:
    """Whether the quantiles of extrema up to the last twentieth lie no further apart than those of noise."""
    if len(values) < _FEWEST:
        return False
    middle, highest = (max(float(q), 1e-6) for q in np.quantile(values, (0.5, 0.95)))
    return highest / middle <= _WIDER * _of_noise(0.95) / _of_noise(0.5)
