"""Where straight edges and strokes end: at half of the contrast that they have before it.

Edge points end where suppression has no neighbour left to follow, one to four px inside or outside, depending on width and
smoothing. The contrast along the line (of the middle of a stroke against its flanks, of one side of an edge against the other)
falls off symmetrically around the end itself, whatever the smoothing, so its half level is unbiased.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.profiles.sampling import sample_one
from lucid_finch.core.numerics.runtime.compiling import inner, kernel

_REACH = 10
"""px to either side of an end where the half level is looked for, besides twice the blur."""
_WITHIN = 10
"""px of the line, before that, whose median contrast counts as its own."""
_CLEAR = 3.0
"""Times its own scatter that the contrast must be."""
_MOST = 128


@inner
def _contrast(pixels, mask, masked, x, y, nx, ny, breadth, blur):  # type: ignore[no-untyped-def]
    """Of a place on a line: its middle against its flanks, or one side against the other where `breadth` is 0."""
    away = 0.5 * breadth + 1.5 + blur
    if breadth > 0.0:
        middle, flanks = 0.0, 0.0
        for k in range(-1, 2):
            d = 0.3 * breadth * k
            middle += sample_one(pixels, mask, masked, x + d * nx, y + d * ny) / 3.0
        for k in range(2):
            d = away + 1.5 * k
            flanks += 0.25 * (
                sample_one(pixels, mask, masked, x + d * nx, y + d * ny)
                + sample_one(pixels, mask, masked, x - d * nx, y - d * ny)
            )
        return middle - flanks
    total = 0.0
    for k in range(3):
        d = 1.0 + blur + k
        total += (
            sample_one(pixels, mask, masked, x + d * nx, y + d * ny) - sample_one(pixels, mask, masked, x - d * nx, y - d * ny)
        ) / 3.0
    return total


@inner
def _median(values, count):  # type: ignore[no-untyped-def]
    ordered = np.sort(values[:count])
    return ordered[count // 2]


@inner
def _end(pixels, mask, masked, x, y, along_x, along_y, breadth, blur, length, seen, scratch):  # type: ignore[no-untyped-def]
    """px by which a line goes on (positive) or ends before (x, y), where (along_x, along_y) is its way outwards; NaN if the
    contrast does not say."""
    nx, ny = -along_y, along_x
    reach = min(int(_REACH + 2 * blur), (_MOST - _WITHIN) // 2 - 1)
    inside = min(_WITHIN, int(0.5 * length) - 2)
    if inside < 3:
        return np.nan
    first = -min(reach, int(0.5 * length)) - inside
    count = reach - first + 1
    for k in range(count):
        t = float(first + k)
        seen[k] = _contrast(pixels, mask, masked, x + t * along_x, y + t * along_y, nx, ny, breadth, blur)
    own = _median(seen, inside)
    for k in range(inside):
        scratch[k] = abs(seen[k] - own)
    if abs(own) < _CLEAR * 1.4826 * _median(scratch, inside) or own == 0.0:
        return np.nan
    # A mean of three takes the worst of the noise.
    for k in range(count):
        a, b = max(k - 1, 0), min(k + 1, count - 1)
        scratch[k] = (seen[a] + seen[k] + seen[b]) / (3.0 * own)
    best = np.nan
    for k in range(inside, count - 1):
        if scratch[k] >= 0.5 > scratch[k + 1]:
            t = first + k + (scratch[k] - 0.5) / max(scratch[k] - scratch[k + 1], 1e-6)
            if not abs(t) >= abs(best):
                best = t
    return best


@kernel
def _ends(pixels, mask, masked, theta, rho, t1, t2, breadth, blur, rows, left, top):  # type: ignore[no-untyped-def]
    seen, scratch = np.empty(_MOST), np.empty(_MOST)
    for row in rows:
        c, s = np.cos(theta[row]), np.sin(theta[row])
        length = t2[row] - t1[row]
        for end in range(2):
            t = t1[row] if end == 0 else t2[row]
            way = -1.0 if end == 0 else 1.0
            x, y = rho[row] * c - t * s + left, rho[row] * s + t * c + top
            moved = _end(pixels, mask, masked, x, y, -s * way, c * way, breadth[row], blur, length, seen, scratch)
            if np.isfinite(moved):
                if end == 0:
                    t1[row] -= moved
                else:
                    t2[row] += moved


def settle_ends(
    pixels: NDArray[Any],
    mask: NDArray[np.bool_] | None,
    lines: dict[str, NDArray[np.float64]],
    breadth: NDArray[np.float64],
    blur: float,
    rows: NDArray[np.int64],
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Ends t1 and t2 of lines in normal form from the centre of an (H, W) image, those of `rows` moved to where the contrast has
    fallen to half. `breadth` (px): of strokes, NaN for edges; `blur` (px): of the image."""
    height, width = pixels.shape
    t1, t2 = lines["t1"].copy(), lines["t2"].copy()
    valid = np.ones((1, 1), np.bool_) if mask is None else mask
    _ends(
        pixels, valid, mask is not None, lines["theta"], lines["rho"], t1, t2, np.nan_to_num(breadth), float(blur), rows,
        0.5 * (width - 1), 0.5 * (height - 1),
    )  # fmt: skip
    return t1, t2
