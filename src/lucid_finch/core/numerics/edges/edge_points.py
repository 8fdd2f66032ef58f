"""Thinned, sub-pixel edge points of an image in one fused pass: gradient, suppression along its direction, localisation.

Suppression keeps a pixel whose gradient magnitude is a maximum between the two points one pixel step away along the true
gradient direction (linear interpolation between the two neighbours that enclose each; Canny 1986). The position is then
taken along the axis nearest to the gradient, where the three magnitudes are samples and not interpolations: across a
blurred straight step they lie on a Gaussian, so a parabola through their logarithms has its vertex exactly on the edge,
at any angle. The point is the foot of the pixel's centre on the edge (Devernay, INRIA RR-2724, 1995, uses the parabola of
the interpolated magnitudes, which is biased by the interpolation).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.edges.background import BLOCK, Background
from lucid_finch.core.numerics.edges.gradients import Kernel1D, gradient_row, mirror_indices
from lucid_finch.core.numerics.masks import kernel_mask
from lucid_finch.core.numerics.runtime import threads
from lucid_finch.core.numerics.runtime.compiling import helper, inner, kernel

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class EdgePoints:
    """Edge points in row-major order of their pixels, one array each."""

    column: NDArray[np.int32]
    x: Floats
    y: Floats
    gx: Floats
    gy: Floats
    strength: Floats
    scale: Floats
    """Scale of the background's gradient at the point, grey levels per pixel."""
    row_start: NDArray[np.int64]
    """First point of each image row; one more entry than rows."""

    def __len__(self) -> int:
        return len(self.x)

    @property
    def row(self) -> NDArray[np.int32]:
        """Row of each point's pixel."""
        return np.repeat(np.arange(len(self.row_start) - 1, dtype=np.int32), np.diff(self.row_start))

    @property
    def nbytes(self) -> int:
        return sum(a.nbytes for a in vars(self).values())

    def within(self, left: int, top: int, right: int, bottom: int) -> tuple[NDArray[Any], NDArray[Any], NDArray[np.int64]]:
        """Row and column, from the corner of a rectangle of pixels, of the points in it, and which points they are."""
        first, last = int(self.row_start[top]), int(self.row_start[bottom])
        column = self.column[first:last] - left
        row = np.repeat(np.arange(bottom - top), np.diff(self.row_start[top : bottom + 1]))
        inside = np.flatnonzero((column >= 0) & (column < right - left))
        return row[inside], column[inside], inside + first

    def at_centres(self) -> EdgePoints:
        """The same points at the centres of their pixels."""
        return replace(self, x=self.column.astype(np.float32), y=self.row.astype(np.float32))

    def take(self, keep: NDArray[np.bool_]) -> EdgePoints:
        """Only the points where `keep` is true."""
        before = np.concatenate([[0], np.cumsum(keep)])
        values = {name: a[keep] for name, a in vars(self).items() if name != "row_start"}
        return EdgePoints(**values, row_start=before[self.row_start])


@helper
def magnitude_row(gx, gy, out):  # type: ignore[no-untyped-def]
    """Magnitudes into out[1 : W + 1], mirrored by one pixel at either end."""
    width = gx.size
    inner = out[1 : width + 1]
    for x in range(width):
        inner[x] = np.sqrt(gx[x] * gx[x] + gy[x] * gy[x])
    out[0] = out[2] if width > 1 else out[1]
    out[width + 1] = out[width - 1] if width > 1 else out[1]


@helper
def suppress_row(up, here, down, gx, gy, floor, code):  # type: ignore[no-untyped-def]
    """code[x] = 1 where the magnitude is at least the floor and a maximum along the gradient.

    On a tie the pixel to the right or below gives way, so of two equal neighbours exactly one stays.
    """
    width = gx.size
    nws, norths, nes = up[:width], up[1 : width + 1], up[2 : width + 2]
    wests, middles, easts = here[:width], here[1 : width + 1], here[2 : width + 2]
    sws, souths, ses = down[:width], down[1 : width + 1], down[2 : width + 2]
    for x in range(width):
        # All operands are loaded before any choice: a load inside a condition stops vectorisation.
        m, gxx, gyy, low = middles[x], gx[x], gy[x], floor[x]
        west, east, north, south = wests[x], easts[x], norths[x], souths[x]
        nw, ne, sw, se = nws[x], nes[x], sws[x], ses[x]
        ax = abs(gxx)
        ay = abs(gyy)
        flat = ax >= ay
        same = gxx * gyy > np.float32(0.0)
        big = ax if flat else ay
        small = ay if flat else ax
        rest = big - small
        # Weights in place of a choice between neighbours: the compiler turns such a choice into slow gathers.
        rest_x = rest if flat else np.float32(0.0)
        rest_y = rest - rest_x
        # The diagonal neighbours ahead and behind.
        beyond_other = ne if flat else sw
        back_other = sw if flat else ne
        beyond = se if same else beyond_other
        back = nw if same else back_other
        # big * m against big * interpolated neighbour: no division.
        centre = big * m
        ahead = rest_x * east + rest_y * south + small * beyond
        behind = rest_x * west + rest_y * north + small * back
        code[x] = np.uint8((m >= low) & (m > np.float32(0.0)) & (centre >= ahead) & (centre > behind))


@helper
def logs(values, bits):  # type: ignore[no-untyped-def]
    """Natural logarithms of positive float32 `values` in place; `bits` is the same memory seen as int32.

    The polynomial of Cephes' logf on [sqrt(1/2), sqrt(2)], in a form that the compiler vectorises; error below 2e-7.
    """
    n = values.size
    exponents = np.empty(n, np.float32)
    for i in range(n):
        exponent = (bits[i] - np.int32(0x3F3504F3)) >> np.int32(23)
        bits[i] = bits[i] - (exponent << np.int32(23))
        exponents[i] = np.float32(exponent)
    for i in range(n):
        f = values[i] - np.float32(1.0)
        z = f * f
        p = np.float32(7.0376836292e-2)
        p = p * f - np.float32(1.1514610310e-1)
        p = p * f + np.float32(1.1676998740e-1)
        p = p * f - np.float32(1.2420140846e-1)
        p = p * f + np.float32(1.4249322787e-1)
        p = p * f - np.float32(1.6668057665e-1)
        p = p * f + np.float32(2.0000714765e-1)
        p = p * f - np.float32(2.4999993993e-1)
        p = p * f + np.float32(3.3333331174e-1)
        values[i] = f + (p * f * z - np.float32(0.5) * z) + exponents[i] * np.float32(0.6931471806)


@helper
def scale_row(scale, y, out):  # type: ignore[no-untyped-def]
    """Bilinear interpolation of a grid of blocks (values at their centres) along row y of the image."""
    blocks_down, blocks_across = scale.shape
    place = (np.float32(y) + np.float32(0.5)) / np.float32(BLOCK) - np.float32(0.5)
    above = min(max(int(np.floor(place)), 0), blocks_down - 1)
    under = min(above + 1, blocks_down - 1)
    share = min(max(place - np.float32(above), np.float32(0.0)), np.float32(1.0))
    upper = scale[above]
    lower = scale[under]
    half = BLOCK // 2
    for j in range(-1, blocks_across):
        a = max(j, 0)
        b = min(j + 1, blocks_across - 1)
        left = upper[a] + share * (lower[a] - upper[a])
        right = upper[b] + share * (lower[b] - upper[b])
        first = max(j * BLOCK + half, 0)
        piece = out[first : max(min(j * BLOCK + half + BLOCK, out.size), first)]
        slope = (right - left) / np.float32(BLOCK)
        start = left + slope * (np.float32(first - j * BLOCK - half) + np.float32(0.5))
        for i in range(piece.size):
            piece[i] = start + slope * np.float32(i)


class Filter(NamedTuple):
    """Mirrored row and column indices, and the smoothing and the deriving kernel."""

    rows: Any
    columns: Any
    smooth: Any
    derive: Any


class Floor(NamedTuple):
    """The least gradient of a point: the background's scale in blocks, its factor, and what holds everywhere."""

    scale: Any
    factor: Any
    least: Any


class PointOutput(NamedTuple):
    """Points as they are found; while a band is searched, x and y hold the magnitudes on both sides of a point."""

    column: Any
    row: Any
    x: Any
    y: Any
    gx: Any
    gy: Any
    strength: Any
    scale: Any


@helper
def _marked(code, eights, found):  # type: ignore[no-untyped-def]
    """Columns where `code` is 1; without a branch that the processor would guess wrong at every other pixel. How many."""
    hits = 0
    for group in range(eights.size):
        if eights[group] != 0:
            for x in range(8 * group, 8 * group + 8):
                found[hits] = x
                hits += code[x]
    return hits


@helper
def _add_row(y, found, hits, gx, gy, up, here, down, local_scale, n, out):  # type: ignore[no-untyped-def]
    """Add the points of row y from number n on."""
    for i in range(hits):
        x = found[i]
        dx, dy = gx[x], gy[x]
        west, east, north, south = here[x], here[x + 2], up[x + 1], down[x + 1]
        flat = abs(dx) >= abs(dy)
        out.column[n + i] = x
        out.row[n + i] = y
        out.gx[n + i] = dx
        out.gy[n + i] = dy
        out.strength[n + i] = here[x + 1]
        out.scale[n + i] = local_scale[x]
        # The neighbours along the axis nearest to the gradient; logarithms are taken of all at once afterwards.
        out.x[n + i] = west if flat else north
        out.y[n + i] = east if flat else south


@inner
def _localise(n, out):  # type: ignore[no-untyped-def]
    """From the magnitudes on both sides of each of n points to its sub-pixel position."""
    before = out.x[:n]
    after = out.y[:n]
    pgx, pgy, strength, column, row = out.gx, out.gy, out.strength, out.column, out.row
    for i in range(n):
        m = strength[i]
        before[i] = max(before[i] / m, np.float32(1e-3))
        after[i] = max(after[i] / m, np.float32(1e-3))
    logs(before, before.view(np.int32))
    logs(after, after.view(np.int32))
    for i in range(n):
        la, lb = before[i], after[i]
        ax, ay, m = abs(pgx[i]), abs(pgy[i]), strength[i]
        flat = ax >= ay
        big = ax if flat else ay
        lead = pgx[i] if flat else pgy[i]
        bend = min(la + lb, np.float32(-1e-6))
        offset = np.float32(0.5) * (la - lb) / bend
        offset = min(max(offset, np.float32(-1.0)), np.float32(1.0))
        offset = offset if lead > np.float32(0.0) else -offset
        # From an offset along the axis to the foot on the edge, along the unit gradient.
        foot = offset * big / (m * m)
        before[i] = np.float32(column[i]) + foot * pgx[i]
        after[i] = np.float32(row[i]) + foot * pgy[i]


@kernel
def _points_band(pixels, blocked, filters, floor, top, bottom, out, counts):  # type: ignore[no-untyped-def]
    """Edge points of rows top .. bottom-1 into the given arrays; counts[y - top]: how many each row has."""
    radius = filters.smooth.size // 2
    height, width = pixels.shape
    use_blocked = blocked.shape[0] == height
    across = np.empty(width + 2 * radius, np.float32)
    along = np.empty(width + 2 * radius, np.float32)
    gx = np.empty((3, width), np.float32)
    gy = np.empty((3, width), np.float32)
    magnitude = np.empty((3, width + 2), np.float32)
    code = np.zeros((width + 7) // 8 * 8, np.uint8)
    eights = code.view(np.uint64)
    found = np.empty(code.size + 1, np.int32)
    local_scale = np.empty(width, np.float32)
    least = np.empty(width, np.float32)
    n = 0
    for step in range(top - 1, bottom + 1):
        inside = step
        if step < 0:
            inside = min(1, height - 1)
        elif step >= height:
            inside = max(height - 2, 0)
        slot = step % 3
        gradient_row(
            pixels, filters.rows, filters.columns, inside, filters.smooth, filters.derive, across, along, gx[slot], gy[slot]
        )
        magnitude_row(gx[slot], gy[slot], magnitude[slot])
        if step < top + 1:
            continue
        y = step - 1
        centre = y % 3
        up, here, down = magnitude[(y - 1) % 3], magnitude[centre], magnitude[slot]
        scale_row(floor.scale, y, local_scale)
        for x in range(width):
            least[x] = max(floor.factor * local_scale[x], floor.least)
        suppress_row(up, here, down, gx[centre], gy[centre], least, code)
        hits = _marked(code, eights, found)
        if use_blocked:
            free = 0
            for i in range(hits):
                found[free] = found[i]
                free += blocked[y, found[i]] == 0
            hits = free
        _add_row(y, found, hits, gx[centre], gy[centre], up, here, down, local_scale, n, out)
        n += hits
        counts[y - top] = hits
    _localise(n, out)
    return n


def _room(size: int) -> list[NDArray[Any]]:
    return [np.empty(size, np.int32) for _ in range(2)] + [np.empty(size, np.float32) for _ in range(6)]


def find_edge_points(
    pixels: NDArray[np.generic],
    kernels: tuple[Kernel1D, Kernel1D],
    background: Background,
    factor: float,
    least: float = 0.0,
    blocked: NDArray[np.uint8] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> EdgePoints:
    """All thinned edge points whose gradient is at least `factor` times the background's scale and at least `least`.

    `pixels` is (H, W) uint8, uint16 or float32, C-contiguous; `blocked` (H, W) is non-zero where no point may lie. Raises
    `Cancelled`.
    """
    smooth, derive = kernels
    height, width = pixels.shape
    radius = len(smooth) // 2
    rows = mirror_indices(height, radius)
    columns = mirror_indices(width, radius)
    filters = Filter(rows, columns, smooth, derive)
    floor = Floor(background.scale, np.float32(factor), np.float32(min(least, 1e30)))
    mask = kernel_mask(blocked, height)

    def band(top: int, bottom: int) -> tuple[list[NDArray[Any]], NDArray[np.int64]]:
        arrays = threads.scratch("edge points", _room, (bottom - top) * width)
        counts = np.zeros(bottom - top, np.int64)
        n = _points_band(pixels, mask, filters, floor, top, bottom, PointOutput(*arrays), counts)
        # The rows need not be kept: their starts say the same.
        return [a[:n].copy() if i != 1 else a[:0] for i, a in enumerate(arrays)], counts

    parts = threads.over_bands(band, height, cancelled)
    joined: Any = [np.concatenate([part[0][i] for part in parts]) for i in range(8) if i != 1]
    row_start = np.concatenate([[0], np.cumsum(np.concatenate([part[1] for part in parts]))]).astype(np.int64)
    column, x, y, gx, gy, strength, local = joined
    return EdgePoints(column, x, y, gx, gy, strength, local, row_start)


@kernel
def _scale_rows(scale, top, out):  # type: ignore[no-untyped-def]
    for i in range(out.shape[0]):
        scale_row(scale, top + i, out[i])


def scale_plane(scale: Floats, width: int, top: int, bottom: int) -> Floats:
    """The background's scale at every pixel of rows top .. bottom-1, as the fused pass has it."""
    out = np.empty((bottom - top, width), np.float32)
    _scale_rows(scale, top, out)
    return out
