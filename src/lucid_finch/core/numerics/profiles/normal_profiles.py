"""Grey levels across a curve that an edge follows: how steep it is there, and how far beside the curve it lies.

A point of an edge as `edge_points` has it errs half again as much as the noise would allow, since little smoothing keeps
edges apart. Where a curve is known, its neighbourhood can be smoothed across it by twice the blur of the edge, where the
maximum of the slope errs least; and the third derivative that its place is divided by can be pooled along the whole curve,
so that each place is linear in the noise and none runs away.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.masks import kernel_mask
from lucid_finch.core.numerics.profiles.sampling import sample_inside, sample_one
from lucid_finch.core.numerics.runtime.compiling import kernel

Floats = NDArray[np.float64]

_AT_ONCE = 64
"""Places that are looked at together."""


@cache
def _derivatives(sigma: float) -> NDArray[np.float64]:
    """(3, 2 n + 1): first to third derivative of a Gaussian of that sigma, sampled each px, to be correlated with."""
    reach = max(2, int(np.ceil(3 * sigma)))
    d = np.arange(-reach, reach + 1, dtype=float)
    g = np.exp(-0.5 * (d / sigma) ** 2)
    first = d * g
    first /= (first * d).sum()
    second = (d * d / sigma**2 - 1) * g
    second -= g * second.sum() / g.sum()
    second /= (second * d * d).sum() / 2
    third = (d**3 / sigma**2 - 3 * d) * g
    third -= first * (third * d).sum()
    third /= (third * d**3).sum() / 6
    return np.stack([first, second, third])


@cache
def own_blur(sigma: float) -> tuple[float, float]:
    """What the derivatives at `sigma` make of a step that is blurred by a Gaussian: how much larger its squared blur seems,
    and by what the height of the step is to be multiplied when it is taken from the slope and that blur."""
    weights = _derivatives(sigma)
    reach = weights.shape[1] // 2
    step = np.array([0.5 * (1 + math.erf(d / math.sqrt(2))) for d in range(-reach, reach + 1)])
    slope, _, third = weights @ step
    seen = -slope / third
    return float(seen - 1.0), float(1.0 / (slope * math.sqrt(2 * math.pi * seen)))


@cache
def matched(blur: float, reach: int) -> tuple[NDArray[np.float64], float]:
    """Minus the derivative of a step of that blur, its mean over `reach` px to either side added, so that a level under it
    counts for nothing; and what it makes of a step of height one a px beside.

    The least-squares estimate of where a known step lies, with an unknown level a place: of the zero-sum weights of that reach
    those that err least.
    """
    d = np.arange(-reach, reach + 1, dtype=float)
    g = np.exp(-0.5 * (d / blur) ** 2) / (blur * math.sqrt(2 * math.pi))
    weights = g.mean() - g
    return weights, float(-(weights @ g))


@kernel
def _across(pixels, mask, x, y, nx, ny, every, reaches, which, out):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    masked = mask.shape[0] == height
    flat = pixels.reshape(-1)
    us, vs, values = np.empty(_AT_ONCE), np.empty(_AT_ONCE), np.empty(_AT_ONCE, np.float32)
    places, shares, corners = (
        np.empty(_AT_ONCE, np.int32),
        np.empty((2, _AT_ONCE), np.float32),
        np.empty((4, _AT_ONCE), np.float32),
    )
    begin = 0
    while begin < x.size:
        # Places that are looked at alike.
        wide = which[begin] if which.size > 1 else which[0]
        end = begin + 1
        while end < x.size and end - begin < _AT_ONCE and (which.size == 1 or which[end] == wide):
            end += 1
        count = end - begin
        weights, reach = every[wide], reaches[wide]
        inside = not masked and width > 1 and height > 1
        for k in range(begin, end):
            out[0, k], out[1, k], out[2, k] = 0.0, 0.0, 0.0
            far_x, far_y = reach * abs(nx[k]), reach * abs(ny[k])
            inside &= x[k] >= far_x and y[k] >= far_y and x[k] + far_x <= width - 1.0 and y[k] + far_y <= height - 1.0
        one, two, three = out[0, begin:end], out[1, begin:end], out[2, begin:end]
        px, py, dx, dy = x[begin:end], y[begin:end], nx[begin:end], ny[begin:end]
        for j in range(2 * reach + 1):
            d = float(j - reach)
            for k in range(count):
                us[k], vs[k] = px[k] + d * dx[k], py[k] + d * dy[k]
            if inside:
                sample_inside(flat, width, height, us, vs, count, places, shares, corners, values)
            else:
                for k in range(count):
                    values[k] = sample_one(pixels, mask, masked, us[k], vs[k])
            first, second, third = weights[0, j], weights[1, j], weights[2, j]
            for k in range(count):
                value = np.float64(values[k])
                one[k] += first * value
                two[k] += second * value
                three[k] += third * value
        begin = end


@dataclass(frozen=True)
class CrossSections:
    """Derivatives of the smoothed grey levels across a curve, one entry a place, NaN beyond the image."""

    slope: Floats
    bend: Floats
    third: Floats


def normal_profiles(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: Floats, y: Floats, nx: Floats, ny: Floats,
    sigmas: tuple[float, ...], which: NDArray[np.int64] | None = None,
) -> CrossSections:  # fmt: skip
    """Derivatives along unit normals (nx, ny) at places of the image's own frame, smoothed across by one of `sigmas` (px):
    by the first, or by the one that `which` names for each place."""
    parts = [_derivatives(float(sigma)) for sigma in sigmas]
    return matched_profiles(pixels, mask, x, y, nx, ny, parts, np.zeros(1, np.int64) if which is None else which)


def matched_profiles(
    pixels: NDArray[Any], mask: NDArray[np.bool_] | None, x: Floats, y: Floats, nx: Floats, ny: Floats,
    parts: list[NDArray[np.float64]], which: NDArray[np.int64],
) -> CrossSections:  # fmt: skip
    """The same with weights of one's own: three rows, sampled each px around the middle, of which `which` names those for each
    place, or for all."""
    valid = kernel_mask(mask, pixels.shape[0])
    out = np.empty((3, len(x)))
    flat = [np.ascontiguousarray(a, float) for a in (x, y, nx, ny)]
    every = np.zeros((len(parts), 3, max(part.shape[1] for part in parts)))
    for row, part in zip(every, parts, strict=True):
        row[:, : part.shape[1]] = part
    reaches = np.array([part.shape[1] // 2 for part in parts])
    _across(pixels, valid, *flat, every, reaches, which, out)
    return CrossSections(*out)


def matched_filter(sigma: float, blur: float, reach: int) -> tuple[NDArray[np.float64], float]:
    """Weights for the slope and the third derivative at `sigma` with those of `matched` between them, and what the latter make
    of a px."""
    derivatives = _derivatives(sigma)
    weights, gain = matched(blur, reach)
    wide = max(derivatives.shape[1] // 2, reach)
    out = np.zeros((3, 2 * wide + 1))
    for row, values in zip(out, (derivatives[0], weights, derivatives[2]), strict=True):
        row[wide - len(values) // 2 : wide + len(values) // 2 + 1] = values
    return out, gain
