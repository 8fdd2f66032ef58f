"""Straight lines from edge points: votes over angle and offset, and the points that support each line.

Each point votes for the normals within the angular uncertainty of its gradient (Duda and Hart, CACM 15(1), 1972; the limits after
O'Gorman and Clowes, IEEE Trans. Comput. 25(4), 1976). The strongest cells are visited first; a line is refined on the points near
it, and those that it explains withdraw their votes (as in Matas, Galambos and Kittler, CVIU 78(1), 2000). The significance of a
stretch of a line follows Desolneux, Moisan and Morel (IJCV 40(1), 2000): how unlikely it is that so many of its independent steps
hold a background point of that direction.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, fields
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import Cancelled
from lucid_finch.core.numerics.hough.accumulators import CELLS_AT_ONCE, most_votes
from lucid_finch.core.numerics.hough.tiles import TILE, tiled
from lucid_finch.core.numerics.runtime.compiling import helper, inner, kernel
from lucid_finch.core.numerics.runtime.threads import cancelled_here

Floats = NDArray[np.float32]

_RUN = 3
"""Points of a chain that vote together."""
JOINED = 3
"""Bins of 1 px without a point that do not part a line."""
_BESIDE = 3.0
"""Lengths of a gap to either side of it within which pieces count as beside it."""
_NEAR = 1.25
"""px: points so near to a line support it."""
_AGREES = math.sin(0.36)
"""Points whose normal lies within 20 degrees of a line's support it; they vote for fewer, where they are more certain."""
DENSITY_BLOCK = 64
MOST_PIECES = 256
_AROUND = 8.0
"""px around a line within which points are looked up for it while it moves."""
_FALL = 0.72
_MOST_ROUNDS = 200
"""Thresholds that the votes are looked through with: more than bring any number of votes below one."""
_STANDING_OUT = 5.0
"""Standard deviations by which a cell must have more votes than most."""


@dataclass(frozen=True)
class VotingPoints:
    """Edge points as they vote: places from the centre of the image, unit normals, half the angular uncertainty, weight."""

    x: Floats
    y: Floats
    nx: Floats
    ny: Floats
    angle_error: Floats
    """Radians."""
    weight: NDArray[np.int32]

    def __len__(self) -> int:
        return len(self.x)

    def take(self, rows: NDArray[Any]) -> VotingPoints:
        """Some of them, or in another order."""
        return VotingPoints(*(getattr(self, field.name)[rows] for field in fields(self)))


@helper
def _add_votes(x, y, low, high, weight, cosines, sines, rows, middle, finer, cells, votes):  # type: ignore[no-untyped-def]
    """Adds the votes of one voter to an accumulator in one row. The tables begin half a turn early and end half a turn late;
    `cells` is scratch as long as they are. In two loops, since the compiler vectorises the first alone."""
    first = np.uint64(low + cosines.size // 3)
    count = np.uint64(high - low + 1)
    c, s, row = cosines[first : first + count], sines[first : first + count], rows[first : first + count]
    for k in range(c.size):
        cells[k] = row[k] + np.int32((x * c[k] + y * s[k]) * finer + middle)
    for k in range(c.size):
        votes[np.uint64(cells[k])] += weight


@kernel
def _vote(x, y, low, high, weight, cosines, sines, rows, middle, finer, votes):  # type: ignore[no-untyped-def]
    cells = np.empty(cosines.size, np.int32)
    for i in range(x.size):
        _add_votes(x[i], y[i], low[i], high[i], weight[i], cosines, sines, rows, middle, finer, cells, votes)


@dataclass(frozen=True)
class LineSpace:
    """The cells of an accumulator: normals over half a turn, offsets from the centre of the image."""

    angles: int
    step: float
    """px of offset."""
    reach: float
    """px: no point lies further from the centre."""

    @property
    def offsets(self) -> int:
        return 2 * math.ceil(self.reach / self.step) + 3

    @property
    def middle(self) -> int:
        """Cell of offset 0."""
        return self.offsets // 2

    @property
    def turns(self) -> NDArray[np.float64]:
        return np.arange(self.angles, dtype=float) * (np.pi / self.angles)

    def tables(self) -> tuple[Floats, Floats, NDArray[np.int32]]:
        """Cosine, sine and first cell of every normal, and of those half a turn before and after."""
        turns = np.tile(self.turns, 3)
        rows = np.tile(np.arange(self.angles) * self.offsets, 3)
        return np.cos(turns).astype(np.float32), np.sin(turns).astype(np.float32), rows.astype(np.int32)

    def angle_error(self, voting: VotingPoints) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
        """First and last angle that each point votes for; may lie up to half a turn beyond the ends."""
        finer = np.float32(self.angles / np.pi)
        centre = np.arctan2(voting.ny, voting.nx) % np.float32(np.pi) * finer
        half = np.minimum(voting.angle_error * finer, np.float32(self.angles // 2 - 1))
        # At least the nearest angle, however narrow the uncertainty.
        near = np.floor(centre + np.float32(0.5))
        low = np.minimum(np.ceil(centre - half), near).astype(np.int32)
        return low, np.maximum(np.floor(centre + half), near).astype(np.int32)


@kernel
def _join(at, x, y, nx, ny, angle_error, weight, run, out, heavy):  # type: ignore[no-untyped-def]
    """Runs of neighbours along chains: mean position, direction and uncertainty; `at`: the point at each place of the chains."""
    made, count = 0, 0
    sums = np.zeros(5)
    for place in range(at.size):
        i = at[place]
        if count > 0 and (i < 0 or count == _RUN or sums[2] * nx[i] + sums[3] * ny[i] < 0.95 * count):
            out[0, made], out[1, made], out[4, made] = sums[0] / count, sums[1] / count, sums[4] / count
            size = max(math.sqrt(sums[2] ** 2 + sums[3] ** 2), 1e-20)
            out[2, made], out[3, made] = sums[2] / size, sums[3] / size
            made += 1
            count = 0
        if i < 0:
            continue
        if count == 0:
            for k in range(5):
                sums[k] = 0.0
            heavy[made] = 0
        sums[0] += x[i]
        sums[1] += y[i]
        sums[2] += nx[i]
        sums[3] += ny[i]
        sums[4] += angle_error[i]
        heavy[made] += weight[i]
        run[i] = made
        count += 1
    return made


def _runs(voting: VotingPoints, along: NDArray[np.int32]) -> tuple[VotingPoints, NDArray[np.int32]]:
    """Neighbours along chains as one voter each, and which of these each voter has become part of."""
    n = len(voting)
    # A place more than there are points ends the last run.
    at = np.full(int(along.max(initial=0)) + 2, -1, np.int32)
    at[along] = np.arange(n, dtype=np.int32)
    run, out, heavy = np.empty(n, np.int32), np.empty((5, n), np.float32), np.empty(n + 1, np.int32)
    made = _join(at, voting.x, voting.y, voting.nx, voting.ny, voting.angle_error, voting.weight, run, out, heavy)
    x, y, nx, ny, angle_error = (row[:made].copy() for row in out)
    return VotingPoints(x, y, nx, ny, angle_error, heavy[:made].copy()), run


def line_votes(voting: VotingPoints, space: LineSpace) -> NDArray[np.int32]:
    """(angles, offsets) votes of all points, each for the normals within its angular uncertainty, weighted."""
    votes = np.zeros((space.angles, space.offsets), np.int32)
    low, high = space.angle_error(voting)
    middle, finer = np.float32(space.middle + 0.5), np.float32(1 / space.step)
    _vote(voting.x, voting.y, low, high, voting.weight, *space.tables(), middle, finer, votes.ravel())
    return votes


@helper
def _collect(x, y, nx, ny, used, first, across, down, left, top, theta, rho, near, agrees, out):  # type: ignore[no-untyped-def]
    """Free points within `near` px of a line whose normals lie within the sine `agrees` of its own; returns how many. The
    points are in the order of their tiles."""
    c, s = np.float32(math.cos(theta)), np.float32(math.sin(theta))
    offset = np.float32(rho)
    tolerance = np.float32(near)
    found = 0
    for row in range(down):
        # Where the line and its neighbourhood cross this row of tiles; points beyond the border count to the outermost.
        upper, lower = row * TILE - top - 1.0, (row + 1) * TILE - top + 1.0
        one, two = rho - upper * s, rho - lower * s
        begin, end = 0, across - 1
        if abs(c) > 1e-3:
            one, two = one / c, two / c
            wide = near / abs(c) + 1.0
            begin = max(int((min(one, two) - wide + left) / TILE), 0)
            end = int((max(one, two) + wide + left) / TILE)
            if max(one, two) + wide + left < -1.0 or begin >= across:
                continue
            end = min(max(end, 0), across - 1)
        elif min(one, two) > near + abs(c) * left + 1.0 or max(one, two) < -near - abs(c) * left - 1.0:
            continue
        for i in range(first[row * across + begin], first[row * across + end + 1]):
            d = x[i] * c + y[i] * s - offset
            aside = abs(nx[i] * s - ny[i] * c)
            if (abs(d) <= tolerance) & (aside <= agrees) & (used[i] == 0):
                out[found] = i
                found += 1
    return found


@helper
def _those_near(x, y, nx, ny, pool, count, theta, rho, near, out):  # type: ignore[no-untyped-def]
    """Which of some points lie within `near` px of a line with normals that agree with it; returns how many."""
    c, s = np.float32(math.cos(theta)), np.float32(math.sin(theta))
    offset = np.float32(rho)
    tolerance = np.float32(near)
    found = 0
    for k in range(count):
        i = pool[k]
        d = x[i] * c + y[i] * s - offset
        aside = abs(nx[i] * s - ny[i] * c)
        out[found] = i
        found += (abs(d) <= tolerance) & (aside <= _AGREES)
    return found


@helper
def _fit(x, y, weight, chosen, count, theta, rho):  # type: ignore[no-untyped-def]
    """Weighted orthogonal least squares through points near a line; the normal stays on the side it was."""
    total, mx, my = 0.0, 0.0, 0.0
    for k in range(count):
        i = chosen[k]
        w = weight[i]
        total += w
        mx += w * x[i]
        my += w * y[i]
    mx /= total
    my /= total
    sxx, sxy, syy = 0.0, 0.0, 0.0
    for k in range(count):
        i = chosen[k]
        w, dx, dy = weight[i], x[i] - mx, y[i] - my
        sxx += w * dx * dx
        sxy += w * dx * dy
        syy += w * dy * dy
    # The normal is the direction of least scatter.
    turn = 0.5 * math.atan2(2 * sxy, sxx - syy) + 0.5 * math.pi
    if math.cos(turn - theta) < 0:
        turn += math.pi
    return turn, mx * math.cos(turn) + my * math.sin(turn)


@helper
def entropy_gain(share, chance):  # type: ignore[no-untyped-def]
    """Relative entropy of two chances, in nats; 0 where the first is no larger."""
    if share <= chance:
        return 0.0
    if share >= 1.0:
        return -math.log(chance)
    return share * math.log(share / chance) + (1 - share) * math.log((1 - share) / (1 - chance))


def relative_entropy(share: Any, chance: Any) -> NDArray[np.float64]:
    """The same for arrays of chances within (0, 1)."""
    share, chance = np.broadcast_arrays(np.clip(share, 0.0, 1.0), chance)
    rest = np.maximum(1 - share, 1e-300)
    entropy = share * np.log(np.maximum(share, 1e-300) / chance) + (1 - share) * np.log(rest / (1 - chance))
    return np.where(share > chance, entropy, 0.0)


@kernel
def best_parts(begin, end, held, chance, step, cost, score, back):  # type: ignore[no-untyped-def]
    """Which pieces along a line belong together: the partition into stretches, some pieces left out, with the largest gain.

    The gain of a stretch is its steps times the relative entropy of its share of held ones, minus the cost of one more line.
    `begin`, `end`, `held` (px) of each piece; `score` and `back` (size + 1) are filled: back[j] < j is where the stretch that
    ends before piece j begins, or j where piece j - 1 is left out. Returns the gain of all.
    """
    m = begin.size
    counted = np.zeros(m)
    for i in range(m - 1):
        # A gap that is short beside what lies near it on its two sides is hardly one.
        gap = begin[i + 1] - end[i]
        beside = 0.0
        for k in range(i, -1, -1):
            if end[k] <= end[i] - _BESIDE * gap:
                break
            beside += end[k] - max(begin[k], end[i] - _BESIDE * gap)
        for k in range(i + 1, m):
            if begin[k] >= begin[i + 1] + _BESIDE * gap:
                break
            beside += min(end[k], begin[i + 1] + _BESIDE * gap) - begin[k]
        counted[i] = gap * min(2 * gap / beside, 1.0)
    dearest, spread = -math.log(chance), 1.0 / (chance * (1.0 - chance))
    score[0] = 0.0
    for j in range(1, m + 1):
        score[j] = score[j - 1]
        back[j] = j
        total = 0.0
        length = 0.0
        for i in range(j - 1, -1, -1):
            total += held[i]
            length += end[i] - begin[i]
            if i < j - 1:
                length += counted[i]
            share = min(total / max(length, 1.0), 1.0)
            # No entropy is larger than either of these, which need no logarithm.
            most = min(share * dearest, (share - chance) ** 2 * spread)
            if share <= chance or length / step * most - cost + score[i] <= score[j]:
                continue
            gain = length / step * entropy_gain(share, chance) - cost + score[i]
            if gain > score[j]:
                score[j] = gain
                back[j] = i
    return score[m]


@helper
def covered_pieces(cover, size, joined, begin, end, held, most):  # type: ignore[no-untyped-def]
    """Runs of bins that hold points, over gaps of up to `joined` bins; returns how many. Begin and end are edges of bins."""
    count = 0
    k = 0
    while k < size and count < most:
        if cover[k] == 0:
            k += 1
            continue
        last, inside, j = k, 0, k
        while j < size and j - last <= joined:
            if cover[j] != 0:
                inside += j - last if j > k else 1
                last = j
            j += 1
        begin[count] = k
        end[count] = last + 1
        held[count] = inside
        count += 1
        k = last + 1
    return count


class Voters(NamedTuple):
    """Points in the order of their tiles: place from the centre, unit normal, weight, and the run that each votes with."""

    x: Any
    y: Any
    nx: Any
    ny: Any
    weight: Any
    run: Any


class Runs(NamedTuple):
    """Places of the runs, and first and last angle that each votes for."""

    x: Any
    y: Any
    low: Any
    high: Any


class Accumulator(NamedTuple):
    """Votes (angles, offsets), the tables of `LineSpace.tables`, px of offset a cell, and the cell of offset 0."""

    votes: Any
    cosines: Any
    sines: Any
    rows: Any
    step: float
    middle: int


class Area(NamedTuple):
    """The image: tiles, the farthest place from its centre and the centre itself (px), and edge points a pixel in blocks."""

    first: Any
    across: int
    down: int
    reach: float
    left: float
    top: float
    density: Any


class LineSearch(NamedTuple):
    """Fewest points, px of an independent step, nats that a line must gain."""

    fewest: float
    step: float
    cost: float


class Pieces(NamedTuple):
    """Pieces along a line: begin, end and px held of each, and work arrays of `best_parts`."""

    begin: Any
    end: Any
    held: Any
    score: Any
    back: Any


class LineOutput(NamedTuple):
    """Lines as they are found, their points, which points are used, and how much of `support` and how many lines are filled."""

    theta: Any
    rho: Any
    chance: Any
    start: Any
    support: Any
    used: Any
    made: Any


@inner
def new_pieces():  # type: ignore[no-untyped-def]
    """Room for the pieces along a line."""
    return Pieces(
        np.empty(MOST_PIECES), np.empty(MOST_PIECES), np.empty(MOST_PIECES), np.empty(MOST_PIECES + 1),
        np.empty(MOST_PIECES + 1, np.int64),
    )  # fmt: skip


@helper
def _is_peak(votes, a, r, middle):  # type: ignore[no-untyped-def]
    """Whether a cell has more votes than its neighbours; past the last angle the offsets change sign."""
    angles, row = votes.shape[0], votes[a]
    here = row[r]
    ahead, behind = (a + 1) % angles, (a - 1) % angles
    peak = here >= row[r - 1] and here > row[r + 1]
    for d in range(-1, 2):
        q = 2 * middle - (r + d) if a + 1 == angles else r + d
        peak &= here > votes[ahead, q]
        q = 2 * middle - (r + d) if a == 0 else r + d
        peak &= here >= votes[behind, q]
    return peak


@inner
def _keep_stretches(voters, chosen, count, theta, area, search, cover, pieces):  # type: ignore[no-untyped-def]
    """Keep those of the chosen points that lie on stretches that hold together. Returns how many, 0 where there are none, and
    the chance that a step along the line holds a background point."""
    c, s = math.cos(theta), math.sin(theta)
    lowest, highest = cover.size, -1
    dense = 0.0
    for k in range(count):
        i = chosen[k]
        at = int(voters.y[i] * c - voters.x[i] * s + area.reach) + 1
        cover[at] += 1
        lowest, highest = min(lowest, at), max(highest, at)
        row, column = int((voters.y[i] + area.top) / DENSITY_BLOCK), int((voters.x[i] + area.left) / DENSITY_BLOCK)
        dense += area.density[row, column]
    chance = min(max(1.0 - math.exp(-2 * _NEAR * dense / count * 0.25), 0.01), 0.5)
    parts = covered_pieces(
        cover[lowest : highest + 1], highest + 1 - lowest, JOINED, pieces.begin, pieces.end, pieces.held, MOST_PIECES
    )
    gain = best_parts(
        pieces.begin[:parts], pieces.end[:parts], pieces.held[:parts], chance, search.step, search.cost, pieces.score, pieces.back
    )  # fmt: skip
    for k in range(lowest, highest + 1):
        cover[k] = 0
    if gain <= 0.0:
        return 0, chance
    j = parts
    for _ in range(parts):
        if j <= 0:
            break
        if pieces.back[j] == j:
            j -= 1
            continue
        for k in range(int(pieces.begin[pieces.back[j]]), int(pieces.end[j - 1])):
            cover[lowest + k] = 1
        j = pieces.back[j]
    kept = 0
    for k in range(count):
        i = chosen[k]
        if cover[int(voters.y[i] * c - voters.x[i] * s + area.reach) + 1] != 0:
            chosen[kept] = i
            kept += 1
    for k in range(lowest, highest + 1):
        cover[k] = 0
    return kept, chance


@inner
def _grow_line(voters, theta, rho, offset_step, area, search, used, pool, chosen, cover, pieces):  # type: ignore[no-untyped-def]
    """Fit a line to the points near it until it grows no more. Returns how many support it, 0 where none does, its normal form
    and the chance of a background point."""
    count, before, pooled, chance = 0, 0, 0, 0.5
    theta_then, rho_then = theta, rho
    for turn in range(10):
        within = 2.0 * max(offset_step, 1.0) if turn == 0 else 1.6 if turn == 1 else _NEAR
        # Points around are looked up again only where the line has turned away from those it has.
        if turn == 0 or abs(rho - rho_then) + area.reach * abs(theta - theta_then) > _AROUND:
            theta_then, rho_then = theta, rho
            pooled = _collect(
                voters.x, voters.y, voters.nx, voters.ny, used, area.first, area.across, area.down, area.left, area.top, theta,
                rho, within + _AROUND, _AGREES + _AROUND / area.reach, pool,
            )  # fmt: skip
        count = _those_near(voters.x, voters.y, voters.nx, voters.ny, pool, pooled, theta, rho, within, chosen)
        if count < (0.5 if turn == 0 else 0.8) * search.fewest:
            return 0, theta, rho, chance
        if turn >= 2:
            # Only the stretches that hold together tell where the line is.
            count, chance = _keep_stretches(voters, chosen, count, theta, area, search, cover, pieces)
            if count == 0 or (turn >= 3 and count <= 1.02 * before):
                break
            before = count
        theta, rho = _fit(voters.x, voters.y, voters.weight, chosen, count, theta, rho)
        if theta < 0:
            theta, rho = theta + math.pi, -rho
        elif theta >= math.pi:
            theta, rho = theta - math.pi, -rho
    return count, theta, rho, chance


@inner
def _add_line(voters, runs, space, theta, rho, chance, chosen, count, cells, output):  # type: ignore[no-untyped-def]
    """Add a line; its points are used and withdraw their votes."""
    found, filled = output.made[0], output.start[output.made[0]]
    output.theta[found], output.rho[found], output.chance[found] = theta, rho, chance
    flat = space.votes.reshape(-1)
    centre, finer = np.float32(space.middle + 0.5), np.float32(1.0 / space.step)
    for k in range(count):
        i = chosen[k]
        output.used[i] = 1
        output.support[filled + k] = i
        j = voters.run[i]
        _add_votes(
            runs.x[j], runs.y[j], runs.low[j], runs.high[j], -voters.weight[i], space.cosines, space.sines, space.rows, centre,
            finer, cells, flat,
        )  # fmt: skip
    output.made[0] = found + 1
    output.start[found + 1] = filled + count


@kernel
def _trace(voters, runs, space, area, search, threshold, output):  # type: ignore[no-untyped-def]
    """Visit the cells of at least `threshold` votes and add the lines that are there."""
    votes = space.votes
    angles, offsets = votes.shape
    cover = np.zeros(int(2 * area.reach) + 4, np.int32)
    pool, chosen = np.empty(voters.x.size, np.int32), np.empty(voters.x.size + 1, np.int32)
    cells = np.empty(space.cosines.size, np.int32)
    pieces = new_pieces()
    for a in range(angles):
        row = votes[a]
        for left_cell in range(1, offsets - 1, CELLS_AT_ONCE):
            right_cell = min(left_cell + CELLS_AT_ONCE, offsets - 1)
            if most_votes(row, left_cell, right_cell) < threshold:
                continue
            for r in range(left_cell, right_cell):
                if row[r] < threshold or not _is_peak(votes, a, r, space.middle):
                    continue
                if output.made[0] >= output.theta.size:
                    return
                count, theta, rho, chance = _grow_line(
                    voters, a * math.pi / angles, (r - space.middle) * space.step, space.step, area, search, output.used, pool,
                    chosen, cover, pieces,
                )  # fmt: skip
                if count > 0:
                    _add_line(voters, runs, space, theta, rho, chance, chosen, count, cells, output)


@dataclass(frozen=True)
class Traced:
    """Lines in normal form from the centre of the image, and the points that support each."""

    theta: NDArray[np.float64]
    rho: NDArray[np.float64]
    start: NDArray[np.int64]
    support: NDArray[np.int32]
    chance: NDArray[np.float64]
    """That a step along the line holds a background point of its direction."""
    cost: float
    """Nats that one more line must gain."""
    slack: float
    """Nats by which near misses may fall short of it."""
    step: float
    """px that count as one independent place."""


def block_density(x: Any, y: Any, width: int, height: int) -> Floats:
    """Edge points a pixel in blocks of 64 px; at least what ten points a block would be."""
    across, down = -(-width // DENSITY_BLOCK), -(-height // DENSITY_BLOCK)
    row, column = (np.clip(v, 0, size - 1).astype(np.int64) // DENSITY_BLOCK for v, size in ((y, height), (x, width)))
    where = row * across + column
    counts = np.bincount(where, minlength=across * down).reshape(down, across)
    high = np.minimum(DENSITY_BLOCK, height - np.arange(down) * DENSITY_BLOCK)
    wide = np.minimum(DENSITY_BLOCK, width - np.arange(across) * DENSITY_BLOCK)
    return (counts / np.maximum(np.outer(high, wide), 256)).astype(np.float32)


def trace_lines(
    voting: VotingPoints, along: NDArray[np.int32], space: LineSpace, width: int, height: int, step: float, cost: float,
    slack: float = 0.0, most: int = 20_000,
) -> Traced:  # fmt: skip
    """Lines that the votes point to, each with the points within 1.25 px of it on stretches that hold together.

    `along` is the place of each voter along all chains, no two of which are neighbours: a few that follow each other vote
    together. `step` (px) is what counts as one independent place along a line, `cost` (nats) what one more line must gain,
    less the `slack` where near misses are wanted. Raises `Cancelled`.
    """
    n = len(voting)
    left, top = 0.5 * (width - 1), 0.5 * (height - 1)
    runs, run = _runs(voting, along)
    votes = line_votes(runs, space)
    low, high = space.angle_error(runs)
    tiles = tiled(voting.x, voting.y, (width, height), left + 0.5, top + 0.5)
    by = tiles.order
    voting, run = voting.take(by), run[by]
    density = block_density(voting.x + np.float32(left), voting.y + np.float32(top), width, height)
    voters = Voters(voting.x, voting.y, voting.nx, voting.ny, voting.weight, run)
    accumulator = Accumulator(votes, *space.tables(), float(space.step), space.middle)
    area = Area(tiles.first, int(tiles.across), int(tiles.down), float(space.reach), left, top, density)
    output = LineOutput(
        np.empty(most), np.empty(most), np.empty(most), np.zeros(most + 1, np.int64), np.empty(n, np.int32),
        np.zeros(n, np.uint8), np.zeros(1, np.int64),
    )  # fmt: skip
    # What a short line brings that is just long enough to count, on top of what lies in most cells anyway.
    fewest = cost / 5.0 * step
    search = LineSearch(float(fewest), float(step), float(max(cost - slack, 1.0)))
    some = votes[:: max(1, len(votes) // 45), ::2]
    some = some[some > 0]
    usual, often = (float(q) for q in np.quantile(some, (0.5, 0.9))) if len(some) else (0.0, 0.0)
    lowest = usual + max(_STANDING_OUT * (often - usual) / 1.28, 2.0 * fewest)
    threshold = float(votes.max(initial=0))
    cancelled = cancelled_here()
    for _ in range(_MOST_ROUNDS if n else 0):
        if output.made[0] >= most:
            break
        if cancelled is not None and cancelled():
            raise Cancelled()
        threshold = max(threshold * _FALL, lowest)
        _trace(voters, Runs(runs.x, runs.y, low, high), accumulator, area, search, int(threshold), output)
        if threshold <= lowest:
            break
    found = int(output.made[0])
    start = output.start[: found + 1]
    support = by[output.support[: int(start[-1])]]
    return Traced(output.theta[:found], output.rho[:found], start, support, output.chance[:found], cost, slack, step)
