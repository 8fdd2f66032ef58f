"""What a window needs of the pixel loops: half-size levels, the visible slice through a look-up table, strokes of marks."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.runtime.compiling import helper, kernel
from lucid_finch.core.numerics.runtime.threads import over_bands


@kernel
def _halve_band(level, top, bottom, out):  # type: ignore[no-untyped-def]
    height, width, channels = level.shape
    pairs = width // 2
    quarter = np.float32(0.25)
    for y in range(top, bottom):
        below = min(2 * y + 1, height - 1)
        first = 0
        if channels == 1:
            # Contiguous rows without a test for the last column: twice as fast.
            upper, lower, halves = level[2 * y, :, 0], level[below, :, 0], out[y, :, 0]
            for x in range(pairs):
                total = np.float32(upper[2 * x]) + np.float32(upper[2 * x + 1])
                total = total + np.float32(lower[2 * x]) + np.float32(lower[2 * x + 1])
                halves[x] = total * quarter
            first = pairs
        for x in range(first, out.shape[1]):
            right = min(2 * x + 1, width - 1)
            for c in range(channels):
                total = np.float32(level[2 * y, 2 * x, c]) + np.float32(level[2 * y, right, c])
                total = total + np.float32(level[below, 2 * x, c]) + np.float32(level[below, right, c])
                out[y, x, c] = total * quarter


_loaded = False


def load() -> None:
    """Load the loops of this module. The first compiled loop of a process takes some 400 ms to load, whichever it is; until
    then `halved` and `view` do without, so that the first picture is seen at once."""
    global _loaded
    if not _loaded:
        level = np.zeros((4, 4, 1), np.uint8)
        _halve_band(level, 0, 2, np.zeros((2, 2, 1), np.uint8))
        sample(
            level,
            0.0,
            0.0,
            1.0,
            np.float32(0),
            np.float32(1),
            np.zeros(256, np.uint32),
            np.uint32(0),
            np.zeros((2, 2), np.uint32),
        )
        _loaded = True


def halved(level: NDArray[Any]) -> NDArray[Any]:
    """(H, W, C) at half the size, means of four pixels, in the same type; an odd last row or column stands for itself."""
    if not _loaded:
        return plainly_halved(level)
    height, width, channels = level.shape
    out = np.empty(((height + 1) // 2, (width + 1) // 2, channels), level.dtype)
    over_bands(lambda top, bottom: _halve_band(level, top, bottom, out), out.shape[0])
    return out


def plainly_halved(level: NDArray[Any]) -> NDArray[Any]:
    """`halved` in plain NumPy."""
    height, width = level.shape[:2]
    even = np.pad(level, ((0, height % 2), (0, width % 2), (0, 0)), mode="edge").astype(np.float32)
    total = even[::2, ::2] + even[::2, 1::2] + even[1::2, ::2] + even[1::2, 1::2]
    return np.ascontiguousarray((total * np.float32(0.25)).astype(level.dtype))


def view(
    level: NDArray[Any], places: NDArray[np.float64], low: float, factor: float,
    table: NDArray[np.uint32], outside: int, out: NDArray[np.uint32],
) -> None:  # fmt: skip
    """The view of `level` into `out`: view pixel (i, j) shows the level at `places` (2, 3) @ (i + 0.5, j + 0.5, 1)."""
    colours = np.float32(low), np.float32(factor), table, np.uint32(outside), out
    step = float(places[0, 0])
    if places[0, 1] or places[1, 0] or step != places[1, 1]:
        load()
        sample_turned(level, places, *colours)
        return
    draw = sample if _loaded else plainly_sampled
    draw(level, float(places[0, 2]), float(places[1, 2]), step, *colours)


def plainly_sampled(level, left, top, step, low, factor, table, outside, out) -> None:  # type: ignore[no-untyped-def]
    """`sample` in plain NumPy."""
    height, width, channels = level.shape
    rows = np.floor(top + (np.arange(out.shape[0]) + 0.5) * step).astype(np.int64)
    columns = np.floor(left + (np.arange(out.shape[1]) + 0.5) * step).astype(np.int64)
    seen = level[np.clip(rows, 0, height - 1)][:, np.clip(columns, 0, width - 1)].astype(np.float32)
    index = np.clip((seen - low) * factor, 0, 255).astype(np.uint32)
    if channels == 1:
        out[:] = table[index[..., 0]]
    else:
        out[:] = np.uint32(0xFF000000) | index[..., 0] << np.uint32(16) | index[..., 1] << np.uint32(8) | index[..., 2]
    out[(rows < 0) | (rows >= height)] = outside
    out[:, (columns < 0) | (columns >= width)] = outside


@helper
def _shade(level, y, x, channels, low, factor, table):  # type: ignore[no-untyped-def]
    """The colour of one pixel: by the table, or as it is where there are three channels."""
    value = (np.float32(level[y, x, 0]) - low) * factor
    index = np.uint32(min(max(value, np.float32(0)), np.float32(255)))
    if channels == 1:
        return table[index]
    colour = np.uint32(255)
    for c in range(3):
        value = (np.float32(level[y, x, c]) - low) * factor
        colour = (colour << np.uint32(8)) | np.uint32(min(max(value, np.float32(0)), np.float32(255)))
    return colour


@kernel
def sample(level, left, top, step, low, factor, table, outside, out):  # type: ignore[no-untyped-def]
    """The view of `level` (H, W, 1 or 3) whose top left corner is at (left, top), `step` level pixels a view pixel.

    Values become an index 0..255 by (value - low) * factor and a colour 0xAARRGGBB by `table` (one channel) or as they are
    (three); beyond the level the view shows `outside`.
    """
    height, width, channels = level.shape
    columns = np.empty(out.shape[1], np.int64)
    for i in range(out.shape[1]):
        columns[i] = int(np.floor(left + (i + 0.5) * step))
    for j in range(out.shape[0]):
        y = int(np.floor(top + (j + 0.5) * step))
        row = out[j]
        if y < 0 or y >= height:
            row[:] = outside
            continue
        for i in range(row.size):
            x = columns[i]
            if x < 0 or x >= width:
                row[i] = outside
            else:
                row[i] = _shade(level, y, x, channels, low, factor, table)


@kernel
def sample_turned(level, places, low, factor, table, outside, out):  # type: ignore[no-untyped-def]
    """As `sample`, for any affine view: view pixel (i, j) shows the level at places @ (i + 0.5, j + 0.5, 1)."""
    height, width, channels = level.shape
    for j in range(out.shape[0]):
        row = out[j]
        x0 = places[0, 1] * (j + 0.5) + places[0, 2]
        y0 = places[1, 1] * (j + 0.5) + places[1, 2]
        for i in range(row.size):
            x = int(np.floor(places[0, 0] * (i + 0.5) + x0))
            y = int(np.floor(places[1, 0] * (i + 0.5) + y0))
            if x < 0 or x >= width or y < 0 or y >= height:
                row[i] = outside
            else:
                row[i] = _shade(level, y, x, channels, low, factor, table)


@kernel
def sample_values(level, places, out):  # type: ignore[no-untyped-def]
    """As `sample_turned`, but the values themselves (the mean of the channels) as float32, NaN beyond the level."""
    height, width, channels = level.shape
    for j in range(out.shape[0]):
        x0 = places[0, 1] * (j + 0.5) + places[0, 2]
        y0 = places[1, 1] * (j + 0.5) + places[1, 2]
        for i in range(out.shape[1]):
            x = int(np.floor(places[0, 0] * (i + 0.5) + x0))
            y = int(np.floor(places[1, 0] * (i + 0.5) + y0))
            if x < 0 or x >= width or y < 0 or y >= height:
                out[j, i] = np.nan
                continue
            total = np.float32(0.0)
            for c in range(channels):
                total += np.float32(level[y, x, c])
            out[j, i] = total / np.float32(channels)


@kernel
def sample_linear(level, u, v, out):  # type: ignore[no-untyped-def]
    """Values of `level` (H, W, C) at its pixel places (u, v), linear between pixels, into `out` (n, C); NaN outside."""
    height, width, channels = level.shape
    for n in range(u.size):
        x, y = u[n], v[n]
        if not (-0.5 <= x <= width - 0.5 and -0.5 <= y <= height - 0.5):
            out[n, :] = np.nan
            continue
        x, y = min(max(x, 0.0), width - 1.0), min(max(y, 0.0), height - 1.0)
        i, j = int(x), int(y)
        a, b = x - i, y - j
        right, below = min(i + 1, width - 1), min(j + 1, height - 1)
        for c in range(channels):
            upper = (1 - a) * level[j, i, c] + a * level[j, right, c]
            lower = (1 - a) * level[below, i, c] + a * level[below, right, c]
            out[n, c] = (1 - b) * upper + b * lower


@kernel
def strokes(points, left, top, scale, start, chosen, closed, dash, thin, bold, line, halo):  # type: ignore[no-untyped-def]
    """Raise two covers (0..255) along the chosen chains of points (n, 2), seen from (left, top) at `scale` view pixels a unit:
    `line` by a round brush of radius `thin`, `halo` by one of radius `bold`; `dash` view pixels on and off, or 0."""
    height, width = halo.shape
    reach = int(np.ceil(bold + 0.5))
    side = 2 * reach + 1
    # The brushes for every eighth of a pixel, so that no root is taken a pixel.
    brushes = np.empty((8, 8, side, side, 2), np.uint8)
    for a in range(8):
        for b in range(8):
            for v in range(side):
                for u in range(side):
                    dx, dy = u - reach - (b - 3.5) / 8, v - reach - (a - 3.5) / 8
                    away = np.sqrt(dx * dx + dy * dy)
                    brushes[a, b, v, u, 0] = np.uint8(255 * min(max(thin + 0.5 - away, 0.0), 1.0))
                    brushes[a, b, v, u, 1] = np.uint8(255 * min(max(bold + 0.5 - away, 0.0), 1.0))
    # Points are some pixel apart: of those that fall on one place of the view, one is enough.
    stride = max(1, int(0.6 / scale))
    for which in range(chosen.size):
        chain = chosen[which]
        begin, end = start[chain], start[chain + 1]
        run = 0.0
        drawn_x, drawn_y = -1e9, -1e9
        for k in range(begin, end, stride):
            x1, y1 = (points[k, 0] - left) * scale - 0.5, (points[k, 1] - top) * scale - 0.5
            after = k + stride
            if after >= end:
                after = begin if closed[chain] else end - 1
            x2, y2 = (points[after, 0] - left) * scale - 0.5, (points[after, 1] - top) * scale - 0.5
            beyond = max(x1, x2) < -reach or max(y1, y2) < -reach or min(x1, x2) > width + reach or min(y1, y2) > height + reach
            length = np.sqrt((x2 - x1) * (x2 - x1) + (y2 - y1) * (y2 - y1))
            if beyond:
                run += length
                continue
            steps = max(1, int(np.ceil(length / 0.7)))
            for s in range(steps):
                share = s / steps
                if dash > 0 and (run + share * length) % (2 * dash) >= dash:
                    continue
                px = x1 + share * (x2 - x1)
                py = y1 + share * (y2 - y1)
                if abs(px - drawn_x) + abs(py - drawn_y) < 0.6:
                    continue
                drawn_x, drawn_y = px, py
                cx = int(np.floor(px + 0.5))
                cy = int(np.floor(py + 0.5))
                brush = brushes[int((py - cy + 0.5) * 8) & 7, int((px - cx + 0.5) * 8) & 7]
                for v in range(max(cy - reach, 0), min(cy + reach + 1, height)):
                    for u in range(max(cx - reach, 0), min(cx + reach + 1, width)):
                        line[v, u] = max(line[v, u], brush[v - cy + reach, u - cx + reach, 0])
                        halo[v, u] = max(halo[v, u], brush[v - cy + reach, u - cx + reach, 1])
            run += length


@kernel
def tint(cover, red, green, blue, opacity, out):  # type: ignore[no-untyped-def]
    """Lay a colour over `out` (premultiplied 0xAARRGGBB) where `cover` says, and clear the cover."""
    for j in range(cover.shape[0]):
        for i in range(cover.shape[1]):
            if cover[j, i] == 0:
                continue
            share = opacity * cover[j, i] / 255.0
            cover[j, i] = 0
            old = out[j, i]
            a = 255.0 * share + (old >> np.uint32(24)) * (1 - share)
            r = red * share + ((old >> np.uint32(16)) & np.uint32(255)) * (1 - share)
            g = green * share + ((old >> np.uint32(8)) & np.uint32(255)) * (1 - share)
            b = blue * share + (old & np.uint32(255)) * (1 - share)
            out[j, i] = (
                (np.uint32(a) << np.uint32(24)) | (np.uint32(r) << np.uint32(16)) | (np.uint32(g) << np.uint32(8)) | np.uint32(b)
            )


def warm_up() -> None:
    """Compile the kernels of the window: levels, views and strokes."""
    load()
    out = np.zeros((4, 4), np.uint32)
    table = np.zeros(256, np.uint32)
    places = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
    for dtype in (np.uint8, np.uint16, np.float32):
        for channels in (1, 3):
            level = halved(np.zeros((4, 4, channels), dtype))
            sample(level, 0.0, 0.0, 1.0, np.float32(0), np.float32(1), table, np.uint32(0), out)
            sample_turned(level, places, np.float32(0), np.float32(1), table, np.uint32(0), out)
            sample_linear(level, np.zeros(2), np.zeros(2), np.zeros((2, channels)))
            sample_values(level, places, np.zeros((4, 4), np.float32))
    cover = np.zeros((4, 4), np.uint8)
    points, start, chosen, closed = np.zeros((2, 2), np.float32), np.array([0, 2]), np.array([0]), np.zeros(1, bool)
    strokes(points, 0.0, 0.0, 1.0, start, chosen, closed, 0.0, 1.0, 2.0, cover, cover.copy())
    tint(cover, 1, 1, 1, 1.0, out)
