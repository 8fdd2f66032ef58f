"""Values along a line: averaged across it, their derivative, and where edges cross it, with standard deviations."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.profiles.scan_lines import slope_kernel

Values = NDArray[np.float64]

_CLEAR = 6.0
"""A crossing is an edge from so many standard deviations of the derivative's noise on."""

_LEAST_SHARE = 0.08
"""And from this share of the strongest one."""


@dataclass(frozen=True)
class Crossing:
    """An edge on the line."""

    at: float
    """px from the line's start."""
    std: float
    slope: float
    """Grey levels per px, positive where it brightens along the line."""
    x: float
    y: float
    picked: bool = True
    """Whether it counts, where only some do."""


@dataclass(frozen=True)
class Profile:
    """`at` (n,) px from the start; `values` (n, channels); `slope` (n,) grey levels per px of their mean."""

    at: Values
    values: Values
    slope: Values
    crossings: tuple[Crossing, ...]


def profile_along(
    sample: Callable[[Values, Values], Values],
    start: tuple[float, float],
    end: tuple[float, float],
    width: float = 1.0,
    sigma: float = 1.0,
) -> Profile:
    """The profile from `start` to `end` (x, y, px), one value a px or denser, averaged over `width` px across.

    `sample(x, y)` gives (n, channels) values, NaN where there are none. The derivative is that of a Gaussian of `sigma` px
    along the line; crossings are its extrema, refined by a parabola. Their standard deviation follows from the noise of the
    derivative and the curvature at the extremum: an extremum is where the second derivative is zero, so its error is the
    noise of that divided by the third.
    """
    dx, dy = end[0] - start[0], end[1] - start[1]
    length = math.hypot(dx, dy)
    count = max(2, math.ceil(length) + 1)
    at = np.linspace(0, length, count)
    ux, uy = (dx / length, dy / length) if length > 0 else (1.0, 0.0)
    lines = max(1, round(width))
    offsets = (np.arange(lines) - (lines - 1) / 2) * (width / lines)
    x = start[0] + at[None] * ux - offsets[:, None] * uy
    y = start[1] + at[None] * uy + offsets[:, None] * ux
    read = sample(x.ravel(), y.ravel()).reshape(lines, count, -1)
    seen: Any = np.isfinite(read).all(axis=2)
    total = np.where(seen[..., None], read, 0.0).sum(axis=0)
    many = seen.sum(axis=0)[:, None]
    values = np.divide(total, many, out=np.full_like(total, np.nan), where=many > 0)
    step = length / (count - 1) if length > 0 else 1.0
    grey = values.mean(axis=1)
    slope = _slope(grey, sigma / step) / step
    return Profile(at, values, slope, _crossings(at, slope, grey, sigma, step, start, (ux, uy)))


def _slope(grey: Values, sigma: float) -> Values:
    """Derivative of Gaussian along the line; NaN where a value is missing. The ends go on straight."""
    line = slope_kernel(max(sigma, 0.3))
    radius = len(line) // 2
    padded = np.pad(grey, radius, "reflect", reflect_type="odd") if len(grey) > 1 else np.full(len(grey) + 2 * radius, grey[0])
    return np.correlate(padded, line, "valid")


def _crossings(
    at: Values, slope: Values, grey: Values, sigma: float, step: float, start: tuple[float, float], way: tuple[float, float]
) -> tuple[Crossing, ...]:
    size = np.abs(slope)
    good = np.isfinite(size)
    if good.sum() < 3 or not size[good].any():
        return ()
    # White noise shows in second differences, where a smooth profile does not; half of them hold no edge.
    second = np.diff(grey[np.isfinite(grey)], 2)
    noise = float(np.median(np.abs(second))) / 0.6745 / math.sqrt(6) if len(second) else 0.0
    gain = math.sqrt(step / (4 * math.sqrt(math.pi) * max(sigma, 0.3 * step) ** 3))
    limit = max(_CLEAR * noise * gain, _LEAST_SHARE * float(size[good].max()), 1e-9)
    found = []
    for n in np.flatnonzero((size[1:-1] >= limit) & (size[1:-1] > size[:-2]) & (size[1:-1] >= size[2:])) + 1:
        before, here, after = size[n - 1 : n + 2]
        bend = before - 2 * here + after
        offset = 0.5 * (before - after) / bend if bend < 0 else 0.0
        place = float(at[n] + offset * step)
        # Noise of the slope of the slope: the derivative of Gaussian's own derivative, sqrt(3/2) / sigma larger.
        error = noise * gain * math.sqrt(1.5) / max(sigma, 0.3 * step)
        std = error / (abs(bend) / step**2) if bend < 0 else math.inf
        found.append(Crossing(place, std, float(slope[n]), start[0] + place * way[0], start[1] + place * way[1]))
    return tuple(found)
