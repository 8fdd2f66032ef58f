"""Grey levels between pixel centres, linear along rows and columns: of many places at once, or of one that may lie outside."""

from __future__ import annotations

import numpy as np

from lucid_finch.core.numerics.runtime.compiling import helper


@helper
def sample_inside(flat, width, height, u, v, count, places, shares, corners, values):  # type: ignore[no-untyped-def]
    """Levels at the first `count` places (u, v) into `values`, all float32 but the places; each must lie between the centres of
    the outermost pixels of an image of at least 2 x 2.

    `flat` are its pixels in one row; `places` (n,) int32, `shares` (2, n) and `corners` (4, n) are scratch. In three loops,
    since the compiler vectorises all but the one that fetches pixels, where it would have to look for negative indices.
    """
    one, below = np.uint64(1), np.uint64(width)
    for k in range(count):
        column, line = min(np.int32(u[k]), np.int32(width - 2)), min(np.int32(v[k]), np.int32(height - 2))
        shares[0, k], shares[1, k] = np.float32(u[k] - column), np.float32(v[k] - line)
        places[k] = np.int32(line * np.int32(width) + column)
    for k in range(count):
        p = np.uint64(places[k])
        corners[0, k], corners[1, k] = flat[p], flat[p + one]
        corners[2, k], corners[3, k] = flat[p + below], flat[p + below + one]
    for k in range(count):
        upper = corners[0, k] + shares[0, k] * (corners[1, k] - corners[0, k])
        lower = corners[2, k] + shares[0, k] * (corners[3, k] - corners[2, k])
        values[k] = upper + shares[1, k] * (lower - upper)


@helper
def sample_one(pixels, mask, masked, u, v):  # type: ignore[no-untyped-def]
    """The level at a place, that of the nearest pixel up to half a pixel beyond the outermost centres; NaN further out, or
    beside a pixel that is not valid."""
    height, width = pixels.shape
    result = np.float32(np.nan)
    if -0.5 <= u <= width - 0.5 and -0.5 <= v <= height - 0.5:
        x, y = min(max(u, 0.0), width - 1.0), min(max(v, 0.0), height - 1.0)
        i, l = int(x), int(y)
        right, below = min(i + 1, width - 1), min(l + 1, height - 1)
        if not masked or (mask[l, i] and mask[l, right] and mask[below, i] and mask[below, right]):
            a, b = np.float32(x - i), np.float32(y - l)
            upper = (np.float32(1) - a) * np.float32(pixels[l, i]) + a * np.float32(pixels[l, right])
            lower = (np.float32(1) - a) * np.float32(pixels[below, i]) + a * np.float32(pixels[below, right])
            result = (np.float32(1) - b) * upper + b * lower
    return result
