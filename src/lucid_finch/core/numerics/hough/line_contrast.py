"""Lines in noise: significance and ends from the grey levels on both sides of a line, rather than from edge points.

Where noise or a pattern hides edges, chance leaves out edge points, and a line of them is short, turned, or not significant. All
grey levels beside it together say more: the mean contrast along a line of n px is measured sqrt(n) times as well as that of one
px. How much the contrast of lines varies is measured on parallel lines beside it, in blocks, so that texture counts as noise.
The line is turned and moved to the largest contrast; it ends where the sum of the log-likelihood ratios of "its contrast"
against "none" is largest (Page, "Continuous inspection schemes", Biometrika 41, 1954).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.profiles.sampling import sample_one
from lucid_finch.core.numerics.runtime.compiling import inner, kernel

_ACROSS = 4
"""px on each side that are looked at."""
_TURN, _STEPS = math.radians(4.0), 6
"""By how much a line is turned at most, and in how many steps to either side."""
_ROUNDS = 3
"""Times that a line is turned and lengthened at most."""
_MOVE = 3
"""px by which it is moved at most."""
_BLOCK, _FIRST, _APART, _PARALLELS = 24, 12.0, 4.0, 8
"""px along the parallels that are averaged; px to the first; px between them; parallels on each side."""
_LEAST_BLOCKS = 8
_ROUNDED = 0.25
"""Grey levels by which the contrast varies at least, since grey levels are rounded."""
_SIDED = 0.25
"""Share of gradients of one side over those of the other that an edge has at least."""
_WINDOW = 8
"""px to either side of a place on a line over which its contrast is averaged, to say whether the line is seen there."""
_PIECE = 12
"""px of a line whose contrast must not differ much from that of the others."""


@dataclass(frozen=True)
class LineContrast:
    """One entry a line, in normal form from the centre; what could not be measured keeps its place and has no significance."""

    theta: NDArray[np.float64]
    rho: NDArray[np.float64]
    t1: NDArray[np.float64]
    t2: NDArray[np.float64]
    clear: NDArray[np.float64]
    """Standard deviations by which the contrast differs from none."""
    held: NDArray[np.float64]
    """px along which it is seen."""


@inner
def _contrast(pixels, mask, masked, x, y, c, s):  # type: ignore[no-untyped-def]
    total = 0.0
    for d in range(1, _ACROSS + 1):
        total += sample_one(pixels, mask, masked, x + d * c, y + d * s) - sample_one(pixels, mask, masked, x - d * c, y - d * s)
    return total / _ACROSS


@inner
def _levels(pixels, mask, masked, x, y, c, s, half, fine, out):  # type: ignore[no-untyped-def]
    """Mean levels of parallels, `fine` of them a px and up to `half` px to either side of (x, y), into `out`; NaN where most
    of one lies outside the image."""
    for j in range(out.size):
        off = (j - out.size // 2) / fine
        total, seen = 0.0, 0
        for k in range(-half, half + 1):
            value = sample_one(pixels, mask, masked, x + off * c - k * s, y + off * s + k * c)
            if np.isfinite(value):
                total += value
                seen += 1
        out[j] = total / seen if 2 * seen > half else np.nan


@inner
def _aligned(pixels, mask, masked, x, y, theta, half, sign, turn, steps, fine, moves):  # type: ignore[no-untyped-def]
    """The direction and the distance from (x, y) at which a line has most contrast, and that contrast: in steps of `turn`, and of
    1 / `fine` px."""
    best, best_theta, best_off = -np.inf, theta, 0.0
    levels = np.empty(2 * (moves + _ACROSS * fine) + 1)
    for i in range(-steps, steps + 1):
        turned = theta + i * turn
        _levels(pixels, mask, masked, x, y, np.cos(turned), np.sin(turned), half, fine, levels)
        for j in range(-moves, moves + 1):
            at, value = levels.size // 2 + j, 0.0
            for d in range(fine, _ACROSS * fine + 1, fine):
                value += sign * (levels[at + d] - levels[at - d]) / _ACROSS
            if value > best:
                best, best_theta, best_off = value, turned, j / fine
    return best, best_theta, best_off


@inner
def _scatter(pixels, mask, masked, x, y, c, s, half, scratch):  # type: ignore[no-untyped-def]
    """Standard deviation of the contrast of parallel lines, of one px, as blocks of them have it; NaN if too few are seen."""
    count, blocks = 0, max(2 * half // _BLOCK, 1)
    for j in range(-_PARALLELS, _PARALLELS):
        off = _FIRST + _APART * j if j >= 0 else -_FIRST + _APART * (j + 1)
        for b in range(blocks):
            total, seen = 0.0, 0
            for k in range(_BLOCK):
                t = (b - 0.5 * blocks) * _BLOCK + k
                value = _contrast(pixels, mask, masked, x + off * c - t * s, y + off * s + t * c, c, s)
                if np.isfinite(value):
                    total += value
                    seen += 1
            if seen == _BLOCK:
                scratch[count] = abs(total) / np.sqrt(_BLOCK)
                count += 1
    if count < _LEAST_BLOCKS:
        return np.nan
    middle = np.sort(scratch[:count])[count // 2]
    return 1.4826 * middle * (1 + 1 / np.sqrt(2.0 * count))


@inner
def _averaged(seen, out):  # type: ignore[no-untyped-def]
    """The mean of each value and its neighbours that are known; NaN where the value itself is not."""
    for k in range(seen.size):
        total, count = 0.0, 0
        for j in range(max(k - _WINDOW, 0), min(k + _WINDOW + 1, seen.size)):
            if np.isfinite(seen[j]):
                total += seen[j]
                count += 1
        out[k] = total / count if np.isfinite(seen[k]) else np.nan


@inner
def _likeliest_part(seen, own):  # type: ignore[no-untyped-def]
    """First and last place of the part of a line over which the contrast is `own` rather than none, and at how many places of it
    that is so."""
    best, total, start, first, last = 0.0, 0.0, 0, 0, -1
    for k in range(seen.size):
        if total <= 0.0:
            total, start = 0.0, k
        if np.isfinite(seen[k]):
            # What is much clearer is something else, and does not make up for a gap.
            total += min(max(seen[k] / own, -1.0), 1.0) - 0.5
        if total > best:
            best, first, last = total, start, k
    held = 0
    for k in range(first, last + 1):
        held += seen[k] > 0.5 * own
    return first, last, held


@inner
def _unevenness(seen, first, last, own):  # type: ignore[no-untyped-def]
    """Standard deviation of the contrast along a line, of one px, as pieces of it have it."""
    total, pieces = 0.0, 0
    for begin in range(first, last + 1 - _PIECE, _PIECE):
        mean = 0.0
        for k in range(begin, begin + _PIECE):
            mean += seen[k] if np.isfinite(seen[k]) else own
        total += _PIECE * (mean / _PIECE - own) ** 2
        pieces += 1
    return np.sqrt(total / max(pieces, 1))


@inner
def _grown(pixels, mask, masked, line, sign, left, top, turn, along, mean):  # type: ignore[no-untyped-def]
    """A line (theta, rho, t1, t2), turned, moved and with the ends of its likeliest part; its contrast, the places of `along` at
    its ends and how many between them hold; no contrast if it is not there."""
    theta, rho, t1, t2 = line
    half, middle, reach = max(int(0.5 * (t2 - t1)), _ACROSS), 0.5 * (t1 + t2), along.size // 2
    c, s = np.cos(theta), np.sin(theta)
    x, y = rho * c - middle * s + left, rho * s + middle * c + top
    steps = min(int(turn * half + 0.5), _STEPS)
    own, theta, off = _aligned(pixels, mask, masked, x, y, theta, half, sign, turn / max(steps, 1), steps, 1, _MOVE)
    c, s = np.cos(theta), np.sin(theta)
    rho, middle = (x - left) * c + (y - top) * s + off, (y - top) * c - (x - left) * s
    for k in range(along.size):
        t = float(k - reach)
        along[k] = sign * _contrast(pixels, mask, masked, rho * c - t * s + left, rho * s + t * c + top, c, s)
    _averaged(along, mean)
    first, last, held = _likeliest_part(mean, own) if own > 0.0 else (0, -1, 0)
    if last - first < 2 * _ACROSS or last - reach < middle - half or first - reach > middle + half:
        return (theta, rho, t1, t2), 0.0, first, last, held
    return (theta, rho, float(first - reach), float(last - reach)), own, first, last, held


@kernel
def _measure(pixels, mask, masked, theta, rho, t1, t2, side, rows, left, top, least, clear, held):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    reach = int(np.hypot(height, width) / 2) + 1
    along, mean, scratch = np.empty(2 * reach + 1), np.empty(2 * reach + 1), np.empty(2 * _PARALLELS * (2 * reach // _BLOCK + 1))
    for row in rows:
        if abs(side[row]) < _SIDED or t2[row] - t1[row] < 2 * _ACROSS:
            continue
        sign, turn = np.sign(side[row]), _TURN
        line = (theta[row], rho[row], t1[row], t2[row])
        # The longer it has become, the better its direction is known, which may make it longer still.
        for _ in range(_ROUNDS):
            length = line[3] - line[2]
            line, own, first, last, seen = _grown(pixels, mask, masked, line, sign, left, top, turn, along, mean)
            turn = 3.0 / max(line[3] - line[2], 1.0)
            if own == 0.0 or line[3] - line[2] < 1.1 * length:
                break
        if own == 0.0:
            continue
        half, middle = (last - first) // 2, 0.5 * (line[2] + line[3])
        c, s = np.cos(line[0]), np.sin(line[0])
        x, y = line[1] * c - middle * s + left, line[1] * s + middle * c + top
        own, turned, off = _aligned(pixels, mask, masked, x, y, line[0], half, sign, 0.5 / half, 3, 2, 2)
        c, s = np.cos(turned), np.sin(turned)
        scatter = _scatter(pixels, mask, masked, x + off * c, y + off * s, c, s, half, scratch)
        if not (own > 0.0 and scatter > 0.0):
            continue
        theta[row], rho[row] = turned, (x - left) * c + (y - top) * s + off
        middle = (y - top) * c - (x - left) * s
        t1[row], t2[row] = middle - 0.5 * (last - first), middle + 0.5 * (last - first)
        held[row] = seen
        clear[row] = own * np.sqrt(last - first + 1.0) / max(scatter, _unevenness(along, first, last, own), least)


def line_contrast(
    pixels: NDArray[Any],
    mask: NDArray[np.bool_] | None,
    quantum: float,
    lines: dict[str, NDArray[np.float64]],
    rows: NDArray[np.int64],
) -> LineContrast:
    """Contrast of the lines `rows` of an (H, W) image whose grey levels are `quantum` apart; each is turned, moved and lengthened
    to where it is clearest. `lines`: "theta", "rho", "t1", "t2" and "side", as `segments.COLUMNS` has them."""
    height, width = pixels.shape
    valid = np.ones((1, 1), np.bool_) if mask is None else mask
    theta, rho, t1, t2 = (lines[name].copy() for name in ("theta", "rho", "t1", "t2"))
    clear, held = np.zeros(len(theta)), np.zeros(len(theta))
    _measure(
        pixels, valid, mask is not None, theta, rho, t1, t2, lines["side"], rows, 0.5 * (width - 1), 0.5 * (height - 1),
        _ROUNDED * quantum, clear, held,
    )  # fmt: skip
    return LineContrast(theta, rho, t1, t2, clear, held)
