"""Chooses the smoothing before the gradient from the image: a wide one only where blur or noise leaves no use for a narrow one.

Two things are measured at the narrow smoothing. How much a wider one weakens the surest edges tells their blur b: a blurred step
has a gradient of A / (sqrt(2 pi) sqrt(b^2 + sigma^2)), so two smoothings give b (as Elder and Zucker, "Local scale control for
edge detection and blur estimation", PAMI 20(7), 1998, do with derivatives of two orders). And the total length of significant
chains, with the narrow smoothing and, on the image shrunk by two, with the wider ones: where noise, a screen or a grating hides
edges from the narrow smoothing, much more is found by the wider. Edges that are sharp and clear need no second look, so an
ordinary image costs hardly more.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges import chain_significance
from lucid_finch.core.numerics.edges.background import Background, measure_background
from lucid_finch.core.numerics.edges.edge_points import EdgePoints, find_edge_points
from lucid_finch.core.numerics.edges.gradients import mirror_indices, operator_kernels
from lucid_finch.core.numerics.edges.significant_chains import SignificantChains, significant_chains
from lucid_finch.core.numerics.filtering.halving import any_in_block, halved

SMOOTHINGS = (1.2, 2.4, 4.0)
"""px: what is chosen from."""
_SURE = 2.0
_SHORTEST = 9
"""Points of a chain that counts."""
_CLEAR = 10.0
"""Times the background, from which on the median of the surest edges has no need of more smoothing."""
_STRONG, _PLAIN, _ENOUGH = 4.0, 10.0, 300
"""Points of so many times the background, if there are enough of them and their median is so clear, need no chains to tell."""
_MORE = 1.25
"""Times as much length must be found with a wider smoothing for it to pay,"""
_FAINT = 4.5
"""or as much where the median of the surest edges is below so many times the background,"""
_CLEARER = 2.4
"""or stands out so many times as much with the wider one: a pattern is gone. Noise alone makes them 1.2 to 1.7 times as clear."""
_AS_MUCH = 0.9
_LITTLE = 100.0
"""px of edges that a wider smoothing must show."""
_SOFT = (2.2, 2.7)
"""px of blur from which on the second and the third smoothing are taken."""
_BLURRED = 1.4
"""px of blur from which on edges are soft for filters of a px or two."""
_HALF = 0.3
"""Share of the edges of the widest smoothing that the one before must show, for long shapes to be content with it, unless a
pattern hides the others."""
_LOST = 0.6
"""Share of the length that a wider smoothing must keep."""
_SAMPLE = 600
"""Points whose blur is measured."""
_OVER_STEP = 1.2
"""Times the slope of a step between blocks that an edge with a wider smoothing must have."""
_LEAST = 48
"""px of the shorter side of what is still shrunk."""


@dataclass(frozen=True)
class SmoothingChoice:
    """What was chosen, and from what."""

    sigma: float
    blur: float
    """px, the median of the surest edges; NaN where there are none."""
    softest: float
    """px, nine of ten of them have less."""
    reason: str = ""
    """In words, where it is not the narrow one."""
    along: float = 0.0
    """px that suffice for what is seen all along a line, since its points need to stand out together only; 0 if no less do."""
    reason_along: str = ""
    hides_edges: bool = False
    """Whether noise or a pattern hides edges from the narrow smoothing."""
    is_pattern: bool = False
    """Whether what hides edges is a pattern, such as the screen of a print."""

    @property
    def is_blurred(self) -> bool:
        """Whether the surest edges are soft, rather than hidden by noise or a pattern."""
        return self.blur >= _BLURRED

    @property
    def is_noisy(self) -> bool:
        """Whether noise hides edges, and not a pattern."""
        return self.hides_edges and not self.is_pattern

    def for_lines(self, given: float | None) -> SmoothingChoice:
        """The choice for lines, or what was given, with the blur that was measured."""
        if given is not None:
            return replace(self, sigma=given, reason="")
        return replace(self, sigma=self.along, reason=self.reason_along) if self.along else self

    def notes(self) -> tuple[str, ...]:
        """What to tell of it."""
        return (f"smoothed by {self.sigma:g} px, since {self.reason}",) if self.reason else ()


@dataclass(frozen=True)
class _Surest:
    """The clear edges of an image with one smoothing."""

    length: float
    """px of the image as it was given."""
    clear: float
    """Median strength over the background."""
    index: NDArray[np.int32]

    def pays(self, wider: _Surest) -> bool:
        """Whether a wider smoothing shows more."""
        if wider.length < max(_AS_MUCH * self.length, _LITTLE):
            return False
        return wider.length >= _MORE * self.length or self.clear < _FAINT or wider.clear >= _CLEARER * self.clear


def _surest(chains: SignificantChains, points: EdgePoints, shrunk: int = 1) -> _Surest:
    count = np.diff(chains.chains.start)
    index = chains.chains.order[np.repeat((chains.log_nfa >= _SURE) & (count >= _SHORTEST), count)]
    clear = float(np.median(points.strength[index] / np.maximum(points.scale[index], 1e-12))) if len(index) else 0.0
    return _Surest(float(shrunk * len(index)), clear, index)


def _blur(pixels: NDArray[Any], points: EdgePoints, chosen: NDArray[np.int32]) -> tuple[float, float]:
    """Blur (px) of some edge points, median and 90 %, from how much twice the smoothing weakens them; of a sample of them."""
    narrow, wide = SMOOTHINGS[:2]
    smooth, derive = operator_kernels("gaussian", wide)
    here = chosen[:: max(1, len(chosen) // _SAMPLE)]
    margin, (height, width) = len(smooth) // 2, pixels.shape
    around = np.arange(2 * margin + 1)
    rows = mirror_indices(height, margin)[points.row[here, None] + around]
    columns = mirror_indices(width, margin)[points.column[here, None] + around]
    patches = pixels[rows[:, :, None], columns[:, None, :]].astype(np.float32)
    gx, gy = (patches @ derive) @ smooth, (patches @ smooth) @ derive
    share = np.clip((gx**2 + gy**2).astype(float) / points.strength[here] ** 2, 0.0, 0.999)
    median, most = np.quantile((share * wide**2 - narrow**2) / (1 - share), (0.5, 0.9))
    return math.sqrt(max(median, 0.0)), math.sqrt(max(most, 0.0))


def choose_smoothing(
    pixels: NDArray[Any],
    masked: NDArray[np.uint8] | None,
    quantum: float,
    points: EdgePoints,
    background: Background,
    chains: Callable[[], SignificantChains],
    cancelled: Callable[[], bool] | None = None,
    step: float = 0.0,
) -> SmoothingChoice:
    """The smoothing (px) for an (H, W) image; `points`, `background` and `chains` are those of the narrow one. `step`: grey
    levels between blocks of compression, which a wider smoothing turns into slopes of any direction. Raises `Cancelled`."""
    strong = np.flatnonzero(points.strength >= _STRONG * points.scale).astype(np.int32)
    if len(strong) >= _ENOUGH and float(np.median(points.strength[strong] / np.maximum(points.scale[strong], 1e-12))) >= _PLAIN:
        # Nobody needs chains to see that these are clear; only whether they are sharp.
        blur, softest = _blur(pixels, points, strong)
        if blur < _SOFT[0]:
            return SmoothingChoice(SMOOTHINGS[0], blur, softest)
    seen = [_surest(chains(), points)]
    blur, softest = _blur(pixels, points, seen[0].index) if seen[0].length else (math.nan, math.nan)
    soft = 2 if blur >= _SOFT[1] else 1 if blur >= _SOFT[0] else 0
    if (seen[0].clear >= _CLEAR and not soft) or min(pixels.shape) < _LEAST:
        return SmoothingChoice(SMOOTHINGS[0], blur, softest)
    less, masked = halved(pixels), any_in_block(masked)
    chosen = 0
    for level in (1, 2):
        # Where the wider finds nothing either, the widest may.
        if level == 1 or chosen or soft == 2 or not (seen[0].length or seen[1].length):
            kernels = operator_kernels("gaussian", SMOOTHINGS[level] / 2)
            around = measure_background(less, kernels, quantum / 4, masked, cancelled)
            least = max(1e-6, _OVER_STEP * step / (math.sqrt(2 * math.pi) * SMOOTHINGS[level] / 2))
            found = find_edge_points(less, kernels, around, chain_significance.Z_LOW, least, masked, cancelled)
            seen.append(_surest(significant_chains(found, around, (less.shape[1], less.shape[0])), found, 2))
            if (chosen or seen[0].clear < _CLEAR) and seen[chosen].pays(seen[level]):
                chosen = level

    for level in range(soft, chosen, -1):
        if seen[level].length >= _LOST * seen[chosen].length:
            return SmoothingChoice(SMOOTHINGS[level], blur, softest, f"edges are blurred by {blur:.1f} px")

    def reason(level: int) -> str:
        return f"{seen[level].length:.0f} px of edges stand out, with {SMOOTHINGS[0]:g} px {seen[0].length:.0f}" if level else ""

    hides = chosen > 0 and not blur >= _BLURRED
    choice = SmoothingChoice(SMOOTHINGS[chosen], blur, softest, reason(chosen), hides_edges=hides)
    if chosen < 2:
        return choice
    if seen[1].length > 0 and seen[2].clear >= _CLEARER * seen[1].clear:
        return replace(choice, is_pattern=True)
    enough = seen[1].length >= _HALF * seen[2].length
    return replace(choice, along=SMOOTHINGS[1], reason_along=reason(1)) if enough else choice
