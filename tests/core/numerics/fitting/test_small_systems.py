"""Small systems of equations: against NumPy, and where there is no solution."""

from __future__ import annotations

import unittest

import numpy as np

from lucid_finch.core.numerics.fitting.small_systems import cholesky, cholesky_solve, eliminate, jacobi_3x3


class Solved(unittest.TestCase):
    def setUp(self) -> None:
        self.random = np.random.default_rng(11)

    def test_positive_definite_ones_of_every_size(self) -> None:
        for n in (1, 2, 3, 5):
            for _ in range(20):
                root = self.random.normal(size=(n, n))
                matrix, right = root @ root.T + 0.1 * np.eye(n), self.random.normal(size=n)
                m, r = np.full((5, 5), np.nan), right.copy()
                m[:n, :n] = matrix
                self.assertTrue(cholesky(m, n))
                np.testing.assert_allclose(np.tril(m[:n, :n]), np.linalg.cholesky(matrix), rtol=1e-9, atol=1e-12)
                cholesky_solve(m, r, n)
                np.testing.assert_allclose(r, np.linalg.solve(matrix, right), rtol=1e-7)

    def test_what_is_not_positive_definite_is_refused_and_stays_finite(self) -> None:
        for matrix in (np.diag([1.0, -1.0, 1.0]), np.zeros((3, 3)), np.array([[1.0, 2, 0], [2, 1, 0], [0, 0, 1]])):
            m = matrix.copy()
            self.assertFalse(cholesky(m, 3))
            self.assertTrue(np.isfinite(np.tril(m)).all())
        self.assertFalse(cholesky(np.full((3, 3), np.nan), 3))

    def test_elimination_needs_pivots(self) -> None:
        for n in (2, 5):
            for _ in range(20):
                a, x = self.random.normal(size=(n, n)), self.random.normal(size=n)
                a[0, 0] = 0.0
                right = a @ x
                self.assertTrue(eliminate(a.copy(), right, n))
                np.testing.assert_allclose(right, x, rtol=1e-6, atol=1e-9)
        self.assertFalse(eliminate(np.ones((3, 3)), np.ones(3), 3))
        self.assertFalse(eliminate(np.full((2, 2), np.nan), np.ones(2), 2))

    def test_eigenvectors(self) -> None:
        for _ in range(30):
            root = self.random.normal(size=(3, 3))
            matrix = root + root.T
            w, vectors = matrix.copy(), np.eye(3)
            jacobi_3x3(w, vectors)
            np.testing.assert_allclose(np.sort(np.diag(w)), np.linalg.eigvalsh(matrix), rtol=1e-9, atol=1e-9)
            np.testing.assert_allclose(matrix @ vectors, vectors * np.diag(w), atol=1e-8)


if __name__ == "__main__":
    unittest.main()
