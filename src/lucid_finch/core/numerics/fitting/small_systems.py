"""Small systems of equations inside kernels: Cholesky factor, elimination and eigenvectors, all in place."""

from __future__ import annotations

import math

from lucid_finch.core.numerics.runtime.compiling import kernel


@kernel
def cholesky(m, n):  # type: ignore[no-untyped-def]
    """Factor of the leading n by n part of m (at least (n, n), float64), in its lower half; False where it is not positive
    definite: then the factor is of a matrix whose offending pivots are 1."""
    good = True
    for i in range(n):
        for j in range(i + 1):
            total = m[i, j]
            for k in range(j):
                total -= m[i, k] * m[j, k]
            if i == j:
                if not total > 1e-12:
                    good = False
                    total = 1.0
                m[i, i] = math.sqrt(total)
            else:
                m[i, j] = total / m[j, j]
    return good


@kernel
def cholesky_solve(m, r, n):  # type: ignore[no-untyped-def]
    """Solve L L' z = r in place; `m`: the factor L as `cholesky` leaves it."""
    for i in range(n):
        for k in range(i):
            r[i] -= m[i, k] * r[k]
        r[i] /= m[i, i]
    for i in range(n - 1, -1, -1):
        for k in range(i + 1, n):
            r[i] -= m[k, i] * r[k]
        r[i] /= m[i, i]


@kernel
def eliminate(a, b, n):  # type: ignore[no-untyped-def]
    """Gaussian elimination with pivots, in place; the solution is left in b. False where the system is singular."""
    for i in range(n):
        best = i
        for r in range(i + 1, n):
            if abs(a[r, i]) > abs(a[best, i]):
                best = r
        if not abs(a[best, i]) >= 1e-14:
            return False
        if best != i:
            for c in range(n):
                a[i, c], a[best, c] = a[best, c], a[i, c]
            b[i], b[best] = b[best], b[i]
        for r in range(i + 1, n):
            f = a[r, i] / a[i, i]
            for c in range(i, n):
                a[r, c] -= f * a[i, c]
            b[r] -= f * b[i]
    for i in range(n - 1, -1, -1):
        for c in range(i + 1, n):
            b[i] -= a[i, c] * b[c]
        b[i] /= a[i, i]
    return True


@kernel
def jacobi_3x3(w, vec):  # type: ignore[no-untyped-def]
    """Diagonalise the symmetric w (3, 3) by Jacobi rotations, in place; `vec` (3, 3), the identity at first, gets the
    eigenvectors as columns."""
    for _ in range(12):
        off = w[0, 1] ** 2 + w[0, 2] ** 2 + w[1, 2] ** 2
        if off < 1e-26 * (w[0, 0] ** 2 + w[1, 1] ** 2 + w[2, 2] ** 2 + off):
            break
        for p in range(2):
            for q in range(p + 1, 3):
                if w[p, q] == 0.0:
                    continue
                h = (w[q, q] - w[p, p]) / (2 * w[p, q])
                tan = (1.0 if h >= 0 else -1.0) / (abs(h) + math.sqrt(h * h + 1))
                cos = 1 / math.sqrt(tan * tan + 1)
                sin = tan * cos
                for k in range(3):
                    one, two = w[k, p], w[k, q]
                    w[k, p], w[k, q] = cos * one - sin * two, sin * one + cos * two
                for k in range(3):
                    one, two = w[p, k], w[q, k]
                    w[p, k], w[q, k] = cos * one - sin * two, sin * one + cos * two
                for k in range(3):
                    one, two = vec[k, p], vec[k, q]
                    vec[k, p], vec[k, q] = cos * one - sin * two, sin * one + cos * two
