"""Median filters: sorting networks across the row for windows of 3 and 5, a moving histogram for larger ones."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.gradients import mirror_indices
from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands

_LEVELS = 65536


@helper
def _sort3(a, b, c):  # type: ignore[no-untyped-def]
    a, b = min(a, b), max(a, b)
    b, c = min(b, c), max(b, c)
    a, b = min(a, b), max(a, b)
    return a, b, c


@helper
def _sort5(a, b, c, d, e):  # type: ignore[no-untyped-def]
    """Nine exchanges; those whose outcome is not used are dropped by the compiler."""
    a, d = min(a, d), max(a, d)
    b, e = min(b, e), max(b, e)
    a, c = min(a, c), max(a, c)
    b, d = min(b, d), max(b, d)
    a, b = min(a, b), max(a, b)
    c, e = min(c, e), max(c, e)
    b, c = min(b, c), max(b, c)
    d, e = min(d, e), max(d, e)
    c, d = min(c, d), max(c, d)
    return a, b, c, d, e


@helper
def _drop4(a, b, c, d):  # type: ignore[no-untyped-def]
    """Without the least and the greatest."""
    a, b = min(a, b), max(a, b)
    c, d = min(c, d), max(c, d)
    return max(a, c), min(b, d)


@helper
def _drop5(a, b, c, d, e):  # type: ignore[no-untyped-def]
    a, b = min(a, b), max(a, b)
    c, d = min(c, d), max(c, d)
    a, c = min(a, c), max(a, c)
    b, d = min(b, d), max(b, d)
    a, e = min(a, e), max(a, e)
    return b, c, min(d, e)


@helper
def _drop6(a, b, c, d, e, f):  # type: ignore[no-untyped-def]
    a, b = min(a, b), max(a, b)
    c, d = min(c, d), max(c, d)
    e, f = min(e, f), max(e, f)
    a, c = min(a, c), max(a, c)
    b, d = min(b, d), max(b, d)
    return b, c, max(a, e), min(d, f)


@helper
def _drop7(a, b, c, d, e, f, g):  # type: ignore[no-untyped-def]
    a, b = min(a, b), max(a, b)
    c, d = min(c, d), max(c, d)
    e, f = min(e, f), max(e, f)
    a, c = min(a, c), max(a, c)
    b, d = min(b, d), max(b, d)
    a, e = min(a, e), max(a, e)
    d, f = min(d, f), max(d, f)
    a, g = min(a, g), max(a, g)
    return b, c, e, d, min(f, g)


@helper
def _drop8(a, b, c, d, e, f, g, h):  # type: ignore[no-untyped-def]
    a, b = min(a, b), max(a, b)
    c, d = min(c, d), max(c, d)
    e, f = min(e, f), max(e, f)
    g, h = min(g, h), max(g, h)
    a, c = min(a, c), max(a, c)
    e, g = min(e, g), max(e, g)
    b, d = min(b, d), max(b, d)
    f, h = min(f, h), max(f, h)
    return b, c, f, g, max(a, e), min(d, h)


@kernel
def _median3_band(pixels, rows, columns, top, bottom, out):  # type: ignore[no-untyped-def]
    width = pixels.shape[1]
    low, mid, high = (np.empty(width + 2, pixels.dtype), np.empty(width + 2, pixels.dtype), np.empty(width + 2, pixels.dtype))
    for y in range(top, bottom):
        r0, r1, r2 = pixels[rows[y]], pixels[rows[y + 1]], pixels[rows[y + 2]]
        i0, i1, i2 = low[1 : width + 1], mid[1 : width + 1], high[1 : width + 1]
        for x in range(width):
            i0[x], i1[x], i2[x] = _sort3(r0[x], r1[x], r2[x])
        for x in (0, width + 1):
            low[x], mid[x], high[x] = i0[columns[x]], i1[columns[x]], i2[columns[x]]
        result = out[y - top]
        l1, m1, h1, l2, m2, h2 = low[1:], mid[1:], high[1:], low[2:], mid[2:], high[2:]
        for x in range(width):
            a = max(max(low[x], l1[x]), l2[x])
            _, b, _ = _sort3(mid[x], m1[x], m2[x])
            c = min(min(high[x], h1[x]), h2[x])
            _, b, _ = _sort3(a, b, c)
            result[x] = b


@kernel
def _median5_band(pixels, rows, columns, top, bottom, out):  # type: ignore[no-untyped-def]
    """Columns are sorted, then rows across five columns; 13 of the 25 can still be the median, and of these the least and
    the greatest are dropped in turn while the rest come in."""
    width = pixels.shape[1]
    c0, c1, c2 = (np.empty(width + 4, pixels.dtype), np.empty(width + 4, pixels.dtype), np.empty(width + 4, pixels.dtype))
    c3, c4 = np.empty(width + 4, pixels.dtype), np.empty(width + 4, pixels.dtype)
    for y in range(top, bottom):
        r0, r1, r2 = pixels[rows[y]], pixels[rows[y + 1]], pixels[rows[y + 2]]
        r3, r4 = pixels[rows[y + 3]], pixels[rows[y + 4]]
        i0, i1, i2 = c0[2 : width + 2], c1[2 : width + 2], c2[2 : width + 2]
        i3, i4 = c3[2 : width + 2], c4[2 : width + 2]
        for x in range(width):
            a, b, c, d, e = _sort5(r0[x], r1[x], r2[x], r3[x], r4[x])
            i0[x] = a
            i1[x] = b
            i2[x] = c
            i3[x] = d
            i4[x] = e
        for k in range(4):
            x = k if k < 2 else width + k
            other = columns[x]
            c0[x], c1[x], c2[x], c3[x], c4[x] = i0[other], i1[other], i2[other], i3[other], i4[other]
        result = out[y - top]
        a1, a2, a3, a4 = c0[1:], c0[2:], c0[3:], c0[4:]
        b1, b2, b3, b4 = c1[1:], c1[2:], c1[3:], c1[4:]
        d1, d2, d3, d4 = c2[1:], c2[2:], c2[3:], c2[4:]
        e1, e2, e3, e4 = c3[1:], c3[2:], c3[3:], c3[4:]
        f1, f2, f3, f4 = c4[1:], c4[2:], c4[3:], c4[4:]
        for x in range(width):
            _, _, _, p03, p04 = _sort5(c0[x], a1[x], a2[x], a3[x], a4[x])
            _, _, p12, p13, p14 = _sort5(c1[x], b1[x], b2[x], b3[x], b4[x])
            _, p21, p22, p23, _ = _sort5(c2[x], d1[x], d2[x], d3[x], d4[x])
            p30, p31, p32, _, _ = _sort5(c3[x], e1[x], e2[x], e3[x], e4[x])
            p40, p41, _, _, _ = _sort5(c4[x], f1[x], f2[x], f3[x], f4[x])
            q0, q1, q2, q3, q4, q5 = _drop8(p03, p04, p12, p13, p14, p21, p22, p23)
            q0, q1, q2, q3, q4 = _drop7(q0, q1, q2, q3, q4, q5, p30)
            q0, q1, q2, q3 = _drop6(q0, q1, q2, q3, q4, p31)
            q0, q1, q2 = _drop5(q0, q1, q2, q3, p32)
            q0, q1 = _drop4(q0, q1, q2, p40)
            _, q0, _ = _sort3(q0, q1, p41)
            result[x] = q0


@kernel
def _median_band(codes, rows, columns, size, top, bottom, out):  # type: ignore[no-untyped-def]
    """The histogram of the window moves along the row (Huang, Yang and Tang, "A fast two-dimensional median filtering
    algorithm", IEEE ASSP 27(1), 1979), in two levels so that its place is found in few steps."""
    width = codes.shape[1]
    half = size * size // 2
    fine = np.zeros(65536, np.int32)
    coarse = np.zeros(256, np.int32)
    for y in range(top, bottom):
        fine[:] = 0
        coarse[:] = 0
        for i in range(size):
            row = codes[rows[y + i]]
            for j in range(size):
                code = row[columns[j]]
                fine[code] += 1
                coarse[code >> 8] += 1
        # `below` counts what is less than `block` * 256.
        block, below = 0, 0
        for x in range(width):
            if x > 0:
                for i in range(size):
                    row = codes[rows[y + i]]
                    gone, come = row[columns[x - 1]], row[columns[x + size - 1]]
                    fine[gone] -= 1
                    coarse[gone >> 8] -= 1
                    fine[come] += 1
                    coarse[come >> 8] += 1
                    below += int((come >> 8) < block) - int((gone >> 8) < block)
            while below > half and block > 0:
                block -= 1
                below -= coarse[block]
            while below + coarse[block] <= half and block + 1 < coarse.size:
                below += coarse[block]
                block += 1
            code, count = block * 256, below
            while count + fine[code] <= half and code + 1 < fine.size:
                count += fine[code]
                code += 1
            out[y - top, x] = code


def median(pixels: NDArray[Any], size: int) -> NDArray[Any]:
    """(H, W) of the same type: the median of the square of `size` (odd) px about each pixel.

    Above 5 px, float images of more than 65,536 different values are sorted into that many steps of equal count.
    """
    height, width = pixels.shape
    rows, columns = mirror_indices(height, size // 2), mirror_indices(width, size // 2)
    if size == 1:
        return pixels
    if size in (3, 5):
        out = np.empty_like(pixels)
        band = _median3_band if size == 3 else _median5_band
        over_bands(lambda top, bottom: band(pixels, rows, columns, top, bottom, out[top:bottom]), height)
        return out
    codes, values = _codes(pixels)
    found = np.empty((height, width), np.uint16)
    over_bands(
        lambda top, bottom: _median_band(codes, rows, columns, size, top, bottom, found[top:bottom]), height, band_height=32
    )
    return np.asarray(values[found])


def _codes(pixels: NDArray[Any]) -> tuple[NDArray[np.uint16], NDArray[Any]]:
    """Codes in the order of the values, spread over 65,536, and the value of each code."""
    if pixels.dtype == np.uint16:
        return pixels, np.arange(_LEVELS, dtype=np.uint16)
    if pixels.dtype == np.uint8:
        return pixels.astype(np.uint16) << np.uint16(8), np.repeat(np.arange(256, dtype=np.uint8), 256)
    values, inverse = np.unique(pixels, return_inverse=True)
    if len(values) > _LEVELS:
        order = np.sort(pixels, axis=None)
        values = np.unique(order[np.linspace(0, order.size - 1, _LEVELS).astype(np.int64)])
        inverse = np.searchsorted(values, pixels)
    table = np.full(_LEVELS, values[-1], pixels.dtype)
    table[: len(values)] = values
    return inverse.reshape(pixels.shape).astype(np.uint16), table
