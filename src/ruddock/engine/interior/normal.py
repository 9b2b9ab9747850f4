"""Normal equations ``(A D A' + E) y = r`` of an interior-point step, factorised afresh for every step.

The factorisation is SciPy's sparse one, in symmetric mode; the fill-reducing order of the first step
serves all later ones. Dense columns of ``A``, which would fill the matrix, are kept out of it and put
back by the Sherman-Morrison-Woodbury identity, as the guide of conjugate gradients: without them
the rest may be singular.
"""

from __future__ import annotations

import numpy as np
from scipy.linalg import lu_factor, lu_solve
from scipy.sparse import csc_matrix, diags_array
from scipy.sparse.linalg import splu

from ruddock.problem import Floats

DENSE = 40  # a column with this many times the mean entries, and more than a tenth of the rows, counts as dense
REFINEMENTS = 2
GUIDE = 1e-8  # added to the guiding matrix, relative to the full diagonal
MOST_GRADIENTS = 60
GRADIENT_ACCURACY = 1e-12
REGULAR = 1e-12  # added to the diagonal, relative to it: keeps dependent rows from breaking the factors


class NormalEquations:
    """Solves with ``A diag(d) A' + diag(e)`` for changing ``d`` and ``e``.

    Parameters
    ----------
    matrix : csc_matrix, shape (m, n)
    """

    def __init__(self, matrix: csc_matrix) -> None:
        counts = np.diff(matrix.indptr)
        m = matrix.shape[0]
        dense = (counts > DENSE * max(1.0, counts.mean() if len(counts) else 1.0)) & (counts > 0.1 * m) & (m > 200)
        self.dense_columns = np.flatnonzero(dense)
        self.sparse_columns = np.flatnonzero(~dense)
        self.sparse = csc_matrix(matrix[:, self.sparse_columns])
        self.sparse_transposed = csc_matrix(self.sparse.T)
        self.dense = matrix[:, self.dense_columns].toarray()
        self._order: np.ndarray | None = None
        self._permuted = False

    def factorise(self, d: Floats, e: Floats) -> None:
        """Take new weights and factorise; raise RuntimeError if the matrix is singular."""
        product = self.sparse @ (diags_array(d[self.sparse_columns]) @ self.sparse_transposed)
        diagonal = product.diagonal() + e
        shift = REGULAR * diagonal + 1e-300
        self._true = csc_matrix(product + diags_array(e + shift))
        self._matrix = self._true
        if len(self.dense_columns):
            # what is left without the dense columns may be singular; the factors then only guide the solution
            self._weighted = self.dense * np.sqrt(d[self.dense_columns])
            full = diagonal + (self._weighted**2).sum(axis=1)
            self._matrix = csc_matrix(self._true + diags_array(GUIDE * full))
        symmetric = {"SymmetricMode": True}
        if self._order is None:
            self._factor = splu(self._matrix, "MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options=symmetric)
            self._order = np.argsort(self._factor.perm_c)
        else:
            permuted = self._matrix[self._order][:, self._order]
            self._factor = splu(csc_matrix(permuted), "NATURAL", diag_pivot_thresh=0.0, options=symmetric)
            self._permuted = True
        if len(self.dense_columns):
            self._solved = self._solve_sparse(self._weighted)
            self._small = lu_factor(np.eye(len(self.dense_columns)) + self._weighted.T @ self._solved)

    def _solve_sparse(self, right: Floats) -> Floats:
        if not self._permuted:
            return np.asarray(self._factor.solve(right))
        assert self._order is not None
        result = np.empty_like(right)
        result[self._order] = self._factor.solve(right[self._order])
        return result

    def _solve_once(self, right: Floats) -> Floats:
        result = self._solve_sparse(right)
        if len(self.dense_columns):
            result -= self._solved @ lu_solve(self._small, self._weighted.T @ result)
        return result

    def _product(self, y: Floats) -> Floats:
        result = np.asarray(self._true @ y)
        if len(self.dense_columns):
            result += self._weighted @ (self._weighted.T @ y)
        return result

    def solve(self, right: Floats) -> Floats:
        """Solve, with refinement; with dense columns by conjugate gradients that the factors guide."""
        result = self._solve_once(right)
        if len(self.dense_columns):
            return self._conjugate_gradients(right, result)
        for _ in range(REFINEMENTS):
            result += self._solve_once(right - self._product(result))
        return result

    def _conjugate_gradients(self, right: Floats, start: Floats) -> Floats:
        """Improve a first solution (Hestenes and Stiefel 1952, preconditioned)."""
        result = start
        residual = right - self._product(result)
        enough = GRADIENT_ACCURACY * float(np.linalg.norm(right))
        guided = self._solve_once(residual)
        direction, energy = guided, float(residual @ guided)
        for _ in range(MOST_GRADIENTS):
            if float(np.linalg.norm(residual)) <= enough or energy <= 0.0:
                break
            product = self._product(direction)
            step = energy / float(direction @ product)
            result = result + step * direction
            residual = residual - step * product
            guided = self._solve_once(residual)
            before, energy = energy, float(residual @ guided)
            direction = guided + energy / before * direction
        return result
