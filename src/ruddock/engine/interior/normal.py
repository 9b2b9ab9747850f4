"""Normal equations ``(A D A' + E) y = r`` of an interior-point step, factorised afresh for every step.

The factorisation is SciPy's sparse one, in symmetric mode; the fill-reducing order of the first step
serves all later ones. Dense columns of ``A``, which would fill the matrix, are kept out of it and put
back by the Sherman-Morrison-Woodbury identity.
"""

from __future__ import annotations

import numpy as np
from scipy.linalg import lu_factor, lu_solve
from scipy.sparse import csc_matrix, diags_array
from scipy.sparse.linalg import splu

from ruddock.problem import Floats

DENSE = 40  # a column with this many times the mean entries, and more than a tenth of the rows, counts as dense
REFINEMENTS = 2
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

    def factorise(self, d: Floats, e: Floats) -> None:
        """Take new weights and factorise; raise RuntimeError if the matrix is singular."""
        self._scale = d
        product = self.sparse @ (diags_array(d[self.sparse_columns]) @ self.sparse_transposed)
        diagonal = product.diagonal() + e
        shift = REGULAR * diagonal + 1e-300
        self._matrix = csc_matrix(product + diags_array(e + shift))
        symmetric = {"SymmetricMode": True}
        if self._order is None:
            self._factor = splu(self._matrix, "MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options=symmetric)
            self._order = np.argsort(self._factor.perm_c)
        else:
            permuted = self._matrix[self._order][:, self._order]
            self._factor = splu(csc_matrix(permuted), "NATURAL", diag_pivot_thresh=0.0, options=symmetric)
            self._permuted = True
        if len(self.dense_columns):
            weighted = self.dense * np.sqrt(d[self.dense_columns])
            self._weighted, self._solved = weighted, self._solve_sparse(weighted)
            self._small = lu_factor(np.eye(len(self.dense_columns)) + weighted.T @ self._solved)

    _permuted = False

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

    def solve(self, right: Floats) -> Floats:
        """Solve with iterative refinement."""
        result = self._solve_once(right)
        for _ in range(REFINEMENTS):
            product = self._matrix @ result
            if len(self.dense_columns):
                product += self._weighted @ (self._weighted.T @ result)
            result += self._solve_once(right - product)
        return result
