"""Smooth convex arcs of edge chains, and the ellipses that one arc or two of them point to.

A chain is cut where its sense of turning changes and where no ellipse fits both sides; what is left and turns is an arc. Two arcs
of one ellipse have the same polarity, turn through different parts of a full turn, and each lies on the inner side of the
other's tangents. Ellipses are fitted to the places and gradient directions of the arcs by the direct fit of Fitzgibbon,
Pilu and Fisher (IEEE TPAMI 21(5), 1999), with directions as further equations.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.fitting.angles import fast_atan2
from lucid_finch.core.numerics.fitting.curve_refinement import from_rim, pack_ellipse
from lucid_finch.core.numerics.fitting.small_systems import jacobi_3x3
from lucid_finch.core.numerics.runtime.compiling import inner, kernel, reduction

Floats = NDArray[np.float32]

SAMPLES = 16
_FITTED = 32
_WAVERS = 0.35
"""Radians by which a direction may turn back before the sense of turning counts as changed."""
_STRAIGHT = 0.25
"""Radians: what turns less in all says nothing of an ellipse."""
_LEAST = 7
_LEVER = 2.5
"""px: a direction errs by so much less, in radians, than a place does."""


@reduction
def _scatter(x, y, nx, ny, n, mx, my, finer, lever, s):  # type: ignore[no-untyped-def]
    """Sums of products of u^2, uv, v^2, u, v, 1 over the places, scaled about (mx, my), and of their derivatives along the rim,
    those weighted by `lever`, into s (6, 6)."""
    u4, u3v, u2v2, uv3, v4, u3, u2v, uv2, v3, u2, uv, v2, u1, v1 = (0.0,) * 14
    a00, a01, a02, a03, a04, a11, a12, a13, a14, a22, a23, a24, a33, a34, a44 = (0.0,) * 15
    for i in range(n):
        u, v = (x[i] - mx) * finer, (y[i] - my) * finer
        uu, uv_, vv = u * u, u * v, v * v
        u4 += uu * uu
        u3v += uu * uv_
        u2v2 += uu * vv
        uv3 += uv_ * vv
        v4 += vv * vv
        u3 += uu * u
        u2v += uu * v
        uv2 += u * vv
        v3 += vv * v
        u2 += uu
        uv += uv_
        v2 += vv
        u1 += u
        v1 += v
        p, q = -ny[i], nx[i]
        d0, d1, d2 = 2 * u * p, u * q + v * p, 2 * v * q
        a00 += d0 * d0
        a01 += d0 * d1
        a02 += d0 * d2
        a03 += d0 * p
        a04 += d0 * q
        a11 += d1 * d1
        a12 += d1 * d2
        a13 += d1 * p
        a14 += d1 * q
        a22 += d2 * d2
        a23 += d2 * p
        a24 += d2 * q
        a33 += p * p
        a34 += p * q
        a44 += q * q
    s[0, 0], s[0, 1], s[0, 2] = u4 + lever * a00, u3v + lever * a01, u2v2 + lever * a02
    s[0, 3], s[0, 4], s[0, 5] = u3 + lever * a03, u2v + lever * a04, u2
    s[1, 1], s[1, 2], s[1, 3] = u2v2 + lever * a11, uv3 + lever * a12, u2v + lever * a13
    s[1, 4], s[1, 5] = uv2 + lever * a14, uv
    s[2, 2], s[2, 3], s[2, 4], s[2, 5] = v4 + lever * a22, uv2 + lever * a23, v3 + lever * a24, v2
    s[3, 3], s[3, 4], s[3, 5] = u2 + lever * a33, uv + lever * a34, u1
    s[4, 4], s[4, 5], s[5, 5] = v2 + lever * a44, v1, float(n)
    for j in range(6):
        for k in range(j):
            s[j, k] = s[k, j]


@inner
def _without_linear_terms(s, t, m):  # type: ignore[no-untyped-def]
    """Eliminate the linear terms of the scatter s: m = S1 + S2 t with t = -S3^-1 S2'. False where S3 is singular."""
    a, b, c = s[3, 3], s[3, 4], s[3, 5]
    d, e, f = s[4, 4], s[4, 5], s[5, 5]
    det = a * (d * f - e * e) - b * (b * f - e * c) + c * (b * e - d * c)
    if abs(det) < 1e-30:
        return False
    inv = np.empty((3, 3))
    inv[0, 0], inv[0, 1], inv[0, 2] = (d * f - e * e) / det, (c * e - b * f) / det, (b * e - c * d) / det
    inv[1, 1], inv[1, 2], inv[2, 2] = (a * f - c * c) / det, (b * c - a * e) / det, (a * d - b * b) / det
    inv[1, 0], inv[2, 0], inv[2, 1] = inv[0, 1], inv[0, 2], inv[1, 2]
    for j in range(3):
        for k in range(3):
            t[j, k] = 0.0
            for l in range(3):
                t[j, k] -= inv[j, l] * s[k, 3 + l]
    for j in range(3):
        for k in range(3):
            m[j, k] = s[j, k]
            for l in range(3):
                m[j, k] += s[j, 3 + l] * t[l, k]
    return True


@inner
def _ellipse_eigenvector(m, conic):  # type: ignore[no-untyped-def]
    """The quadratic part of the ellipse of least algebraic error, into `conic`; False where there is none.

    With Cholesky m = L L', just one eigenvalue of L^-1 C L^-1' is positive, and its vector is the ellipse.
    """
    ridge = 1e-12 * (m[0, 0] + m[1, 1] + m[2, 2])
    l00 = math.sqrt(max(m[0, 0] + ridge, 1e-30))
    l10, l20 = m[1, 0] / l00, m[2, 0] / l00
    l11 = math.sqrt(max(m[1, 1] + ridge - l10 * l10, 1e-30))
    l21 = (m[2, 1] - l20 * l10) / l11
    l22 = math.sqrt(max(m[2, 2] + ridge - l20 * l20 - l21 * l21, 1e-30))
    i00, i11, i22 = 1 / l00, 1 / l11, 1 / l22
    i10 = -l10 * i00 * i11
    i21 = -l21 * i11 * i22
    i20 = -(l20 * i00 + l21 * i10) * i22
    # C has 2 at (0, 2) and (2, 0), -1 at (1, 1).
    w = np.empty((3, 3))
    w[0, 0] = 0.0
    w[0, 1] = 0.0
    w[0, 2] = 2 * i00 * i22
    w[1, 1] = -i11 * i11
    w[1, 2] = 2 * i10 * i22 - i11 * i21
    w[2, 2] = 4 * i20 * i22 - i21 * i21
    w[1, 0], w[2, 0], w[2, 1] = w[0, 1], w[0, 2], w[1, 2]
    vec = np.eye(3)
    jacobi_3x3(w, vec)
    best = 0
    for k in range(1, 3):
        if w[k, k] > w[best, best]:
            best = k
    if not w[best, best] > 0:
        return False
    z0, z1, z2 = vec[0, best], vec[1, best], vec[2, best]
    conic[0] = i00 * z0 + i10 * z1 + i20 * z2
    conic[1] = i11 * z1 + i21 * z2
    conic[2] = i22 * z2
    return True


@inner
def _shape_of_conic(conic, mx, my, size, out):  # type: ignore[no-untyped-def]
    """The shape of a conic that was scaled by 1 / size about (mx, my); False where it is no ellipse."""
    ca, cb, cc, cd, ce, cf = conic[0], conic[1], conic[2], conic[3], conic[4], conic[5]
    det = 4 * ca * cc - cb * cb
    if not det > 1e-14 * (ca * ca + cb * cb + cc * cc):
        return False
    u, v = (cb * ce - 2 * cc * cd) / det, (cb * cd - 2 * ca * ce) / det
    rest = -(cf + 0.5 * (cd * u + ce * v))
    if ca + cc < 0:
        ca, cb, cc, rest = -ca, -cb, -cc, -rest
    mean, half = 0.5 * (ca + cc), 0.5 * math.sqrt((ca - cc) ** 2 + cb * cb)
    if not (rest > 0 and mean - half > 0):
        return False
    out[0], out[1] = mx + size * u, my + size * v
    out[2], out[3] = size * math.sqrt(rest / (mean - half)), size * math.sqrt(rest / (mean + half))
    # The major axis lies where the form is least.
    out[4] = 0.5 * math.atan2(cb, ca - cc) + 0.5 * math.pi
    pack_ellipse(out[:5], out)
    return True


@kernel
def direct_ellipse(x, y, nx, ny, n, conic, out):  # type: ignore[no-untyped-def]
    """Ellipse through n places with gradient directions: shape as `from_rim` wants it into `out`; False where there is none."""
    mx, my = 0.0, 0.0
    for i in range(n):
        mx += x[i]
        my += y[i]
    mx /= n
    my /= n
    size = 0.0
    for i in range(n):
        size += (x[i] - mx) ** 2 + (y[i] - my) ** 2
    size = math.sqrt(size / n)
    if not size > 1e-6:
        return False
    s, t, m = np.empty((6, 6)), np.empty((3, 3)), np.empty((3, 3))
    _scatter(x, y, nx, ny, n, mx, my, 1.0 / size, (_LEVER / size) ** 2, s)
    if not _without_linear_terms(s, t, m) or not _ellipse_eigenvector(m, conic):
        return False
    for k in range(3):
        conic[3 + k] = t[k, 0] * conic[0] + t[k, 1] * conic[1] + t[k, 2] * conic[2]
    return _shape_of_conic(conic, mx, my, size, out)


class Chain(NamedTuple):
    """Points in the order of their chains: place, unit gradient, strength over the noise."""

    order: Any
    x: Any
    y: Any
    nx: Any
    ny: Any
    clear: Any


class ArcSample(NamedTuple):
    """Places of an arc that an ellipse is fitted to, with gradient directions, and the fit."""

    x: Any
    y: Any
    nx: Any
    ny: Any
    shape: Any
    conic: Any


class ArcOutput(NamedTuple):
    """Arcs as they are found."""

    arcs: Any
    samples: Any
    first: Any
    last: Any


@inner
def _cut_at_inflections(chain, begin, n, turned, cuts):  # type: ignore[no-untyped-def]
    """Sum up the turning along a chain into `turned`, and cut it where the sense of turning changes; returns how many cuts."""
    turned[0] = 0.0
    nx, ny = chain.nx, chain.ny
    for k in range(1, n):
        i, j = chain.order[begin + k - 1], chain.order[begin + k]
        turned[k] = turned[k - 1] + fast_atan2(nx[i] * ny[j] - ny[i] * nx[j], nx[i] * nx[j] + ny[i] * ny[j])
    # Where the turning comes back from its extremes by more than directions waver.
    count = 0
    low, high, low_at, high_at, sense = 0.0, 0.0, 0, 0, 0
    for k in range(1, n):
        t = turned[k]
        if t > high:
            high, high_at = t, k
        if t < low:
            low, low_at = t, k
        if sense >= 0 and high - t > _WAVERS:
            cuts[count] = high_at
            count += high_at > 0
            sense, low, low_at = -1, t, k
        elif sense <= 0 and t - low > _WAVERS:
            cuts[count] = low_at
            count += low_at > 0
            sense, high, high_at = 1, t, k
    cuts[count] = n - 1
    return count + 1


@inner
def _fit_arc(chain, begin, count, sample):  # type: ignore[no-untyped-def]
    """Fit an ellipse to a part of a chain. Returns whether it fits, whether that is in doubt, and which point is worst."""
    m = min(count, _FITTED)
    strong = 0.0
    for k in range(m):
        i = chain.order[begin + k * (count - 1) // (m - 1)]
        sample.x[k], sample.y[k], sample.nx[k], sample.ny[k] = chain.x[i], chain.y[i], chain.nx[i], chain.ny[i]
        strong += chain.clear[i]
    strong /= m
    if not direct_ellipse(sample.x, sample.y, sample.nx, sample.ny, m, sample.conic, sample.shape):
        return False, True, count // 2
    worst, at, ss = 0.0, count // 2, 0.0
    for k in range(m):
        e, _, _ = from_rim(sample.x[k], sample.y[k], sample.shape)
        ss += e * e
        if abs(e) > worst:
            worst, at = abs(e), k * (count - 1) // (m - 1)
    limit = 0.4 + 1.0 / max(strong, 1.0) + 0.003 * min(sample.shape[3], 200.0)
    rms = math.sqrt(ss / m)
    # A half ellipse and its chord nearly make a whole one: both ways are followed.
    return rms <= limit and worst <= 3.0 * limit, rms > 0.1 + 2.2 / max(strong, 1.0), at


@inner
def _split(turned, a, b, at):  # type: ignore[no-untyped-def]
    """Where to split the places a .. b - 1 of a chain: at a corner if there is one, else near `at`. Returns where the left part
    ends, where the right one begins, and whether it is a corner."""
    sharp, where = 0.0, -1
    for k in range(a + 3, b - 3):
        bent = abs(turned[k + 3] - turned[k - 3])
        if bent > sharp:
            sharp, where = bent, k
    if sharp > 0.5 and sharp > 2.5 * abs(turned[b - 1] - turned[a]) * 7 / (b - a):
        return where - 1, where + 2, True
    at = min(max(a + at, a + _LEAST), b - _LEAST)
    return at, at, False


@inner
def _add_arc(chain, begin, count, turn, shape, made, output):  # type: ignore[no-untyped-def]
    """Add an arc as number `made`."""
    sign = 1.0 if turn > 0 else -1.0
    arcs, samples = output.arcs, output.samples
    arcs[0, made], arcs[1, made], arcs[2, made] = sign, count, abs(turn)
    # The chain runs with the brighter side on its left: round a dark shape the outward normal turns up, round a bright one down.
    i = chain.order[begin] if sign > 0 else chain.order[begin + count - 1]
    arcs[3, made] = math.atan2(sign * chain.ny[i], sign * chain.nx[i])
    for k in range(5):
        arcs[4 + k, made] = shape[k]
    for k in range(SAMPLES):
        i = chain.order[begin + k * (count - 1) // (SAMPLES - 1)]
        samples[made, 0, k], samples[made, 1, k] = chain.x[i], chain.y[i]
        samples[made, 2, k], samples[made, 3, k] = chain.nx[i], chain.ny[i]
    output.first[made], output.last[made] = begin, begin + count


@kernel
def _cut(chain, start, output):  # type: ignore[no-untyped-def]
    """Cut all chains into arcs; returns how many."""
    longest = 1
    for i in range(start.size - 1):
        longest = max(longest, start[i + 1] - start[i])
    turned, cuts = np.empty(longest), np.empty(longest + 1, np.int64)
    stack = np.empty((longest + 4, 2), np.int64)
    sample = ArcSample(
        np.empty(_FITTED), np.empty(_FITTED), np.empty(_FITTED), np.empty(_FITTED), np.empty(7), np.empty(6)
    )  # fmt: skip
    made = 0
    for number in range(start.size - 1):
        begin, n = start[number], start[number + 1] - start[number]
        if n < _LEAST:
            continue
        from_place, top = 0, 0
        for k in range(_cut_at_inflections(chain, begin, n, turned, cuts)):
            if cuts[k] > from_place:
                stack[top, 0], stack[top, 1] = from_place, cuts[k] + 1
                top += 1
                from_place = cuts[k]
        for _ in range(2 * n):
            if top == 0:
                break
            top -= 1
            a, b = stack[top, 0], stack[top, 1]
            count = b - a
            turn = turned[b - 1] - turned[a]
            if count < _LEAST or abs(turn) < _STRAIGHT:
                continue
            good, doubtful, at = _fit_arc(chain, begin + a, count, sample)
            if count >= 2 * _LEAST and (doubtful or not good):
                left, right, corner = _split(turned, a, b, at)
                if top + 2 < stack.shape[0] and (corner or not good):
                    stack[top, 0], stack[top, 1] = a, left
                    stack[top + 1, 0], stack[top + 1, 1] = right, b
                    top += 2
            if not good:
                continue
            if made >= output.first.size:
                return made
            _add_arc(chain, begin + a, count, turn, sample.shape, made, output)
            made += 1
    return made


@dataclass(frozen=True)
class Arcs:
    """Arcs, the longest first."""

    sign: NDArray[np.float64]
    """1 where it is brighter outside."""
    count: NDArray[np.float64]
    turn: NDArray[np.float64]
    """Radians through which the normal turns, counted up."""
    begins: NDArray[np.float64]
    """Direction of the outward normal at the first place; from there on it turns by `turn`."""
    shape: NDArray[np.float64]
    """(n, 5) the ellipse of each: centre, semi-axes, angle."""
    samples: NDArray[np.float64]
    """(n, 4, 16) places and gradient directions along each."""
    first: NDArray[np.int64]
    last: NDArray[np.int64]
    """Part of the chains' order that each takes."""
    dropped: int = 0
    """Shorter ones that were left out, since there were more than asked for."""

    def __len__(self) -> int:
        return len(self.sign)


def cut_arcs(order: Any, start: Any, x: Any, y: Any, nx: Any, ny: Any, clear: Any, most: int) -> Arcs:
    """Arcs of chains (as `chains.Chains` has them) of points with unit gradient directions; at most `most`, the longest."""
    room = max(2 * len(order) // _LEAST + 1, 1)
    arcs, samples = np.empty((9, room)), np.empty((room, 4, SAMPLES))
    first, last = np.empty(room, np.int64), np.empty(room, np.int64)
    made = _cut(Chain(order, x, y, nx, ny, clear), start, ArcOutput(arcs, samples, first, last))
    best = np.argsort(-arcs[1, :made], kind="stable")[:most]
    sign, count, turn, begins = (arcs[k, best] for k in range(4))
    return Arcs(sign, count, turn, begins, arcs[4:9, best].T.copy(), samples[best], first[best], last[best], made - len(best))


_OVERLAP = 0.35
"""Radians by which the turns of two arcs of one ellipse may seem to overlap."""
_TRIED = 60_000
"""Ellipses through two arcs that are tried at most, the longest arcs first."""


@kernel
def _inner(samples, i, j, sign):  # type: ignore[no-untyped-def]
    """Whether arc j lies on the inner side of the tangents of arc i, but for a little."""
    for k in range(0, SAMPLES, 5):
        px, py = samples[i, 0, k], samples[i, 1, k]
        u, v = sign * samples[i, 2, k], sign * samples[i, 3, k]
        for l in range(0, SAMPLES, 5):
            dx, dy = samples[j, 0, l] - px, samples[j, 1, l] - py
            out = dx * u + dy * v
            if out > 1.5 and out * out > 0.01 * (dx * dx + dy * dy):
                return False
    return True


@kernel
def _may_pair(x, y, count, sign, x2, y2, count2, sign2, widest2, longest2, out):  # type: ignore[no-untyped-def]
    """Which arcs may be of one ellipse with their partners, by polarity, distance and length. A rim is longer than twice the way
    from one arc to the other; some points are missing."""
    for k in range(x.size):
        dx, dy = x[k] - x2[k], y[k] - y2[k]
        far2 = dx * dx + dy * dy
        both = count[k] + count2[k]
        out[k] = (sign[k] == sign2[k]) & (far2 <= widest2) & (both * both >= longest2 * far2)


@kernel
def _pair(sign, count, turn, begins, shape, samples, least, most, flattest, seen, tried, out, of):  # type: ignore[no-untyped-def]
    n = sign.size
    x, y, nx, ny = np.empty(2 * SAMPLES), np.empty(2 * SAMPLES), np.empty(2 * SAMPLES), np.empty(2 * SAMPLES)
    found, conic = np.empty(7), np.empty(6)
    made = 0
    full = 2 * math.pi
    # The same in reverse: partners of arcs one after the other then follow each other as well.
    across, down = samples[:, 0, SAMPLES // 2].copy(), samples[:, 1, SAMPLES // 2].copy()
    across_back, down_back, count_back, sign_back = across[::-1].copy(), down[::-1].copy(), count[::-1].copy(), sign[::-1].copy()
    near = np.empty(n, np.uint8)
    for reach in range(2 * n - 1):
        # All pairs, those of long arcs first: by the sum of their places.
        low, high = max(0, reach - n + 1), reach // 2 + 1
        # Partner j = reach - i is entry n - 1 - j of what runs back.
        shift = n - 1 - reach + low
        _may_pair(
            across[low:high], down[low:high], count[low:high], sign[low:high], across_back[shift:], down_back[shift:],
            count_back[shift:], sign_back[shift:], 4.4 * most * most, 2.5 * seen * seen, near,
        )  # fmt: skip
        for i in range(low, high):
            if not near[i - low]:
                continue
            j = reach - i
            if made >= out.shape[1] or tried <= 0:
                return made
            alone = i == j
            if not alone:
                # Their parts of a full turn may hardly overlap.
                ahead = begins[j] - begins[i]
                ahead += full if ahead < 0 else 0.0
                back = full - ahead if ahead > 0 else 0.0
                shared = max(turn[i] - ahead, turn[j] - back, 0.0)
                if shared > _OVERLAP + 0.1 * min(turn[i], turn[j]):
                    continue
                if not (_inner(samples, i, j, sign[i]) and _inner(samples, j, i, sign[i])):
                    continue
                tried -= 1
                for k in range(SAMPLES):
                    x[k], y[k], nx[k], ny[k] = samples[i, 0, k], samples[i, 1, k], samples[i, 2, k], samples[i, 3, k]
                    l = SAMPLES + k
                    x[l], y[l], nx[l], ny[l] = samples[j, 0, k], samples[j, 1, k], samples[j, 2, k], samples[j, 3, k]
                if not direct_ellipse(x, y, nx, ny, 2 * SAMPLES, conic, found):
                    continue
            else:
                pack_ellipse(shape[i], found)
            a, b = found[2], found[3]
            if not (b >= least and a <= most and b >= flattest * a):
                continue
            rms = 0.0
            if not alone:
                good = True
                for half in range(2):
                    ss, aligned = 0.0, 0.0
                    for k in range(half * SAMPLES, (half + 1) * SAMPLES):
                        e, u, v = from_rim(x[k], y[k], found)
                        ss += e * e
                        aligned += sign[i] * (u * nx[k] + v * ny[k])
                    rms = max(rms, math.sqrt(ss / SAMPLES))
                    if aligned < 0.9 * SAMPLES:
                        good = False
                if not good or rms > 1.0 + 0.02 * b:
                    continue
            around = math.pi * (3 * (a + b) - math.sqrt((3 * a + b) * (a + 3 * b)))
            share = (count[i] if alone else count[i] + count[j]) / around
            if share < seen:
                continue
            for k in range(5):
                out[k, made] = found[k]
            out[5, made] = sign[i]
            out[6, made] = min(share, 1.1) / (1 + (rms / 0.6) ** 2)
            of[0, made], of[1, made] = i, j
            made += 1
    return made


@dataclass(frozen=True)
class Seeds:
    """Ellipses through one arc or two, the most promising first."""

    shape: NDArray[np.float64]
    """(n, 5) centre, semi-axes, angle."""
    sign: NDArray[np.float64]
    merit: NDArray[np.float64]
    arcs: NDArray[np.int64]
    """(n, 2) the arcs, twice the same for one."""
    dropped: int = 0
    """Less promising ones that were left out, since there were more than asked for."""

    def around(self, x: float, y: float, most: int) -> Seeds:
        """The most promising ones that a place lies in, or just outside of."""
        cx, cy, a, b, turn = self.shape.T
        u, v, cos, sin = x - cx, y - cy, np.cos(turn), np.sin(turn)
        rows = np.flatnonzero(np.hypot((u * cos + v * sin) / a, (v * cos - u * sin) / b) <= 1.3)[:most]
        return Seeds(self.shape[rows], self.sign[rows], self.merit[rows], self.arcs[rows])


def pair_arcs(arcs: Arcs, axis: tuple[float, float], flattest: float, seen: float, most: int) -> Seeds:
    """Ellipses whose semi-axes lie in `axis` (px) with a ratio of at least `flattest`, of whose rim the arcs are `seen`."""
    room = max(40_000, 10 * most)
    out, of = np.empty((7, room)), np.empty((2, room), np.int64)
    made = _pair(
        arcs.sign, arcs.count, arcs.turn, arcs.begins, arcs.shape, arcs.samples, float(axis[0]), float(axis[1]), flattest, seen,
        max(_TRIED, 20 * most), out, of,
    )  # fmt: skip
    best = np.argsort(-out[6, :made], kind="stable")[:most]
    return Seeds(out[:5, best].T.copy(), out[5, best], out[6, best], of[:, best].T.copy(), made - len(best))
