"""Borders of a binary image between its pixels: every outline and hole once, in a fixed direction, and which lies in which.

A border is a closed walk along the cracks between foreground and background pixels with the foreground on the right, so that
outlines run clockwise on screen and holes the other way round. At a corner where two foreground pixels meet only diagonally
the walk keeps them together: foreground is connected over eight neighbours, background over four (Rosenfeld, JACM 17(1), 1970).

What surrounds a border follows from the border met before it on the row on which it begins, as in Suzuki and Abe, CVGIP 30(1),
1985. Here no pixel is walked: a border is a ring of upright cracks, at which rows change colour, and the next one along it is
found for all of them in one pass over pairs of rows; what lies level between two of them is known by its length.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.ragged import take_rows
from lucid_finch.core.numerics.runtime.compiling import kernel
from lucid_finch.core.numerics.runtime.threads import over_bands, scratch

Binary = NDArray[np.uint8]

_ROWS = 256
"""Rows on which borders are begun between two looks at whether to stop."""

_FAR = np.int64(1) << 40


@kernel
def _count_changes(binary, top, bottom, count):  # type: ignore[no-untyped-def]
    """How often each row changes colour; it begins and ends with background."""
    last = binary.shape[1] - 1
    for y in range(top, bottom):
        row = binary[y]
        changes = np.uint32(row[0]) + np.uint32(row[last])
        for x in range(last):
            changes += np.uint32(row[x] ^ row[x + 1])
        count[y] = changes


@kernel
def _find_changes(binary, top, bottom, first, place):  # type: ignore[no-untyped-def]
    """The pixels, counted from the first of the image, before which rows change colour."""
    width = binary.shape[1]
    words = width // 8
    ones = np.uint64(0x0101010101010101)
    for y in range(top, bottom):
        k, end = first[y], first[y + 1]
        if k == end:
            continue
        row = binary[y]
        wide = row[: words * 8].view(np.uint64)
        begin = y * width
        before = np.uint64(0)
        for w in range(words):
            value = wide[w]
            if value == ones * before:
                continue
            # The lowest byte is the leftmost pixel: each against the one before it.
            changed = value ^ ((value << np.uint64(8)) | before)
            before = value >> np.uint64(56)
            while changed != 0:
                # Bytes below the lowest one that is set, added up.
                below = (((changed - np.uint64(1)) & ~changed & ones) * ones) >> np.uint64(56)
                place[k] = begin + 8 * w + np.int64(below)
                k += 1
                changed &= changed - np.uint64(1)
        for x in range(8 * words, width):
            if row[x] != before:
                place[k] = begin + x
                k += 1
                before = np.uint64(row[x])
        if before:
            place[k] = begin + width


@kernel
def _link(place, first, width, top, bottom, following, shift):  # type: ignore[no-untyped-def]
    """The crack after each upright one, and how far right of it (or left: negative) it lies.

    Even ones have foreground on their right and lead up, odd ones lead down. What leads up from row y depends on the row above,
    what leads down from the row above on row y; rows from `top` to `bottom`, which may be one beyond the last. Returns the
    number of level cracks.
    """
    height = first.size - 1
    level = 0
    for y in range(top, bottom):
        above, here = first[max(y - 1, 0)], first[y]
        end = first[min(y + 1, height)]
        # Places of the row above count in this row.
        k = above
        for i in range(here, end, 2):
            x = place[i]
            while k < here and place[k] + width < x:
                k += 1
            if (k - above) & 1:
                # Foreground above on the left: along its underside, to where it begins or to the piece before this one.
                begin = np.int64(place[k - 1]) + width
                side = np.int64(place[i - 1]) if i > here else -_FAR
                to = side >= begin
                following[i] = i - 1 if to else k - 1
                move = (side if to else begin) - x
            else:
                up = np.int64(place[k]) + width if k < here else _FAR
                side = np.int64(place[i + 1])
                to = up <= side
                following[i] = k if to else i + 1
                move = (up if to else side) - x
            shift[i] = move
            level += abs(move)
        k = here
        for i in range(above + 1, here, 2):
            x = np.int64(place[i]) + width
            while k < end and place[k] <= x:
                k += 1
            if (k - here) & 1:
                down = np.int64(place[k])
                side = np.int64(place[i + 1]) + width if i + 1 < here else _FAR
                to = side <= down
                following[i] = i + 1 if to else k
                move = (side if to else down) - x
            else:
                down = np.int64(place[k - 1]) if k > here else -_FAR
                side = np.int64(place[i - 1]) + width
                to = down >= side
                following[i] = k - 1 if to else i - 1
                move = (down if to else side) - x
            shift[i] = move
            level += abs(move)
    return level


@kernel
def _walk(place, first, following, shift, width, top, bottom, border, begin, around, codes, start, found):  # type: ignore[no-untyped-def]
    """Walks the borders that begin on these rows. `border` of each upright crack must be -1 at first. `codes` gets one code a
    crack unless it is empty: the foreground pixel times 4 plus the heading (0 right, 1 down, 2 left, 3 up). Returns the number
    of borders."""
    codes_out = codes.size > 0
    total = np.int64(start[found])
    # In 32 bits all through: half again as fast.
    wide, one, three, four, eight = np.int32(width), np.int32(1), np.int32(3), np.int32(4), np.int32(8)
    for y in range(top, bottom):
        for origin in range(first[y], first[y + 1]):
            if border[origin] >= 0:
                continue
            begin[found] = origin
            around[found] = -1
            if origin > first[y]:
                other = border[origin - 1]
                # Of two borders side by side one lies in the other if they are of different kinds, else both in a third one.
                around[found] = around[other] if (begin[other] ^ origin) & 1 == 0 else other
            f = np.int32(origin)
            for _ in range(following.size):
                border[f] = found
                g = following[np.uint64(f)]
                if codes_out:
                    move, down = shift[np.uint64(f)], f & one
                    # Rightwards with the foreground below, or leftwards with it above: of this row, or the next or the last.
                    left = np.int32(move < 0)
                    code = np.int32((place[np.uint64(f)] - left + (down - left) * wide) * four + left + left)
                    step = np.int32(four - left * eight)
                    move = abs(move)
                    # Most stretches are no longer than two; what is written too far is written over.
                    codes[np.uint64(total)], codes[np.uint64(total + 1)] = code, np.int32(code + step)
                    if move > 2:
                        for n in range(2, move):
                            codes[np.uint64(total + n)] = np.int32(code + np.int32(n) * step)
                    total += np.int64(move)
                    down = g & one
                    codes[np.uint64(total)] = np.int32((place[np.uint64(g)] - down) * four + three - down - down)
                    total += 1
                f = g
                if f == origin:
                    break
            found += 1
            start[found] = total
    return found


@dataclass(frozen=True)
class Changes:
    """Where rows change colour: upright cracks in reading order, those of row y from `first[y]` on.

    A row has an even number of them; even ones begin foreground and odd ones end it."""

    place: NDArray[np.int32]
    """Pixel to the right of each, counted from the first of the image; one beyond the row where foreground ends at the frame."""
    first: NDArray[np.int64]
    width: int

    @property
    def height(self) -> int:
        return len(self.first) - 1


@dataclass(frozen=True)
class Borders:
    """Closed walks along cracks, in reading order of where they begin: codes of border n are `codes[start[n] : start[n + 1]]`."""

    codes: NDArray[np.int32]
    start: NDArray[np.int64]
    hole: NDArray[np.bool_]
    """Whether each is that of a hole in the foreground, not an outline of it."""
    around: NDArray[np.int32]
    """The border right around each, or -1."""
    width: int
    """Of the image, in which codes count."""

    def __len__(self) -> int:
        return len(self.hole)

    @property
    def nbytes(self) -> int:
        return self.codes.nbytes + self.start.nbytes

    def pixels(self, n: int, ends: bool = False) -> NDArray[np.float64]:
        """The foreground pixels (n, 2) along one border; with `ends` only those where its direction changes."""
        place = self.codes[self.start[n] : self.start[n + 1]] >> 2
        place = place[np.flatnonzero(np.diff(place, prepend=place[-1]))] if np.ptp(place) else place[:1]
        points = np.stack([place % self.width, place // self.width], axis=1)
        if ends and len(points) > 2:
            before, after = points - np.roll(points, 1, axis=0), np.roll(points, -1, axis=0) - points
            points = points[(before != after).any(axis=1)]
        return points.astype(float)

    def only(self, chosen: NDArray[np.int64]) -> Borders:
        """Some of them, in the given order; what is around one then is the nearest that was chosen."""
        if len(chosen) == len(self):
            return self
        index, start = take_rows(self.start, chosen)
        codes = self.codes[index]
        row_of = np.full(len(self) + 1, -1, np.int32)
        row_of[chosen] = np.arange(len(chosen))
        around = self.around.copy()
        for _ in range(len(self)):
            climbs = (around >= 0) & (row_of[around] < 0)
            if not climbs.any():
                break
            around = np.where(climbs, self.around[around], around)
        return Borders(codes, start, self.hole[chosen], row_of[around[chosen]], self.width)


@dataclass(frozen=True)
class Rings:
    """Borders as rings of upright cracks."""

    changes: Changes
    border: NDArray[np.int32]
    """The border through each upright crack."""
    begin: NDArray[np.int64]
    """The upright crack at which each border begins, the first of it in reading order."""
    borders: Borders


def changes_of(binary: Binary, cancelled: Callable[[], bool] | None = None) -> Changes:
    """Where the rows of a binary image, (H, W) of 0 and 1, change colour. Raises `Cancelled`."""
    height, width = binary.shape
    count = np.empty(height, np.int64)
    over_bands(lambda top, bottom: _count_changes(binary, top, bottom, count), height, cancelled)
    first = np.zeros(height + 1, np.int64)
    np.cumsum(count, out=first[1:])
    place = np.empty(first[-1], np.int32)
    over_bands(lambda top, bottom: _find_changes(binary, top, bottom, first, place), height, cancelled)
    return Changes(place, first, width)


def rings_of(binary: Binary, cancelled: Callable[[], bool] | None = None, codes: bool = True) -> Rings:
    """All borders of a binary image, (H, W) of 0 and 1; without `codes` only which there are. Raises `Cancelled`."""
    changes = changes_of(binary, cancelled)
    place, first, width, height = changes.place, changes.first, changes.width, changes.height
    following, shift = scratch("links", lambda n: np.empty((2, n), np.int32), len(place))

    def linked(top: int, bottom: int) -> int:
        return int(_link(place, first, width, top, bottom, following, shift))

    level = sum(over_bands(linked, height + 1, cancelled))
    codes_out = np.empty(len(place) + level + 4 if codes else 0, np.int32)
    border = np.full(len(place), -1, np.int32)
    # Each border has an upright crack on either side.
    most = len(place) // 2
    begin, around, start = np.empty(most, np.int64), np.empty(most, np.int32), np.zeros(most + 1, np.int64)
    found = 0
    for top in range(0, height, _ROWS):
        if cancelled is not None and cancelled():
            raise Cancelled()
        bottom = min(top + _ROWS, height)
        found = _walk(place, first, following, shift, width, top, bottom, border, begin, around, codes_out, start, found)
    begin, around, start = begin[:found].copy(), around[:found].copy(), start[: found + 1].copy()
    return Rings(changes, border, begin, Borders(codes_out[: start[-1]], start, begin & 1 == 1, around, width))
