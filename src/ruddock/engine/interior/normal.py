"""Normal equations ``(A D A' + E) y = r`` of an interior-point step, factorised afresh for every step.

Order and pattern are found once, and the entries of the factor are counted before there are any. Dense columns of
``A``, which would fill the matrix, are kept out of it and put back by the Sherman-Morrison-Woodbury identity, as the
guide of conjugate gradients: without them the rest may be singular.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.linalg import lu_factor, lu_solve
from scipy.sparse import csc_matrix, csr_matrix

from ruddock.engine.interior.cholesky import SPEED, Cholesky
from ruddock.engine.interior.elimination import EliminationTree, postorder, supernodes
from ruddock.engine.interior.linking import linking_rows
from ruddock.engine.interior.ordering import MinimumDegree
from ruddock.engine.interior.product import SymmetricProduct
from ruddock.problem import Floats

DENSE = 40  # a column with this many times the mean entries, and more than a tenth of the rows, counts as dense
MOST_PAIRS = 40_000_000.0  # of entries in one column: beyond, the equations count as dense
ENTRY_BYTES = 24  # of factors and equations
REFINEMENTS = 2  # at most
ACCURATE = 1e-12  # of the largest right side: more is not asked for
SOLVE_WORK = 2.5  # of one solve, for an entry of the factors
GUIDE = 1e-8  # added to the guiding matrix, relative to the full diagonal
MOST_GRADIENTS = 60
GRADIENT_ACCURACY = 1e-12
REGULAR = 1e-12  # added to the diagonal, relative to it: keeps dependent rows from breaking the factors
GRAPH_BUDGET, BUDGET = 4_000_000, 2e7  # work between two looks at the limits, of order and pattern, and of factors


class StoppedError(Exception):
    """The caller wants no more of it."""


class TooDenseError(Exception):
    """The equations have too many entries."""


class NormalEquations:
    """Solves with ``A diag(d) A' + diag(e)`` for changing ``d`` and ``e``.

    Parameters
    ----------
    matrix : csc_matrix, shape (m, n)
    halted : callable
        Asked between portions of work; True raises `StoppedError`.
    most : float
        Multiplications that one factorisation may take.
    memory : float
        Bytes that its factors may take.

    Attributes
    ----------
    entries : int
        Of a factor.
    work, solve_work : float
        Of one factorisation and of one solve, in multiplications one by one.

    Raises
    ------
    TooDenseError
        If the product has too many entries to be looked at, or a factorisation takes more than is allowed.
    StoppedError
    """

    def __init__(
        self,
        matrix: csc_matrix,
        halted: Callable[[], bool] = lambda: False,
        most: float = float("inf"),
        memory: float = float("inf"),
    ) -> None:
        self._halted, self._most = halted, most
        counts = np.diff(matrix.indptr).astype(float)
        m = matrix.shape[0]
        dense = (counts > DENSE * max(1.0, counts.mean() if len(counts) else 1.0)) & (counts > 0.1 * m) & (m > 200)
        self.dense_columns, self.sparse_columns = np.flatnonzero(dense), np.flatnonzero(~dense)
        if float(counts[~dense] @ counts[~dense]) > MOST_PAIRS:
            raise TooDenseError
        sparse = csc_matrix(matrix[:, self.sparse_columns])
        self.dense = matrix[:, self.dense_columns].toarray()
        ones = csc_matrix((np.ones(sparse.nnz), sparse.indices, sparse.indptr), shape=sparse.shape)
        pattern = csr_matrix(ones @ ones.T)  # nothing cancels among ones
        pattern.setdiag(0)
        pattern.eliminate_zeros()
        self._order = self._ordered(pattern)
        tree = EliminationTree(*_parts(self._upper(pattern))[:2])
        while not tree.run(GRAPH_BUDGET):
            self._look()
        order = postorder(np.asarray(tree.parent))
        self._order = self._order[order]
        parent, below = np.asarray(tree.parent)[order], np.asarray(tree.below)[order]
        place = np.argsort(order).astype(np.int32)
        begins, heights = supernodes(np.where(parent >= 0, place[parent], -1), below)
        upper = self._upper(pattern)
        self._starts, self._indices = _parts(csr_matrix(upper))[:2]  # its rows are the columns of the lower half
        self._factor = Cholesky(_parts(upper)[:2], (self._starts, self._indices), begins, heights)
        if self._factor.work > most or ENTRY_BYTES * (self._factor.entries + len(self._indices)) > memory:
            raise TooDenseError
        while not self._factor.analyse(GRAPH_BUDGET):
            self._look()
        self.entries, self.work = int(self._factor.entries), float(self._factor.work)
        self.solve_work = SOLVE_WORK * self.entries
        permuted = csr_matrix(sparse)[self._order]
        by_columns = csc_matrix(permuted)
        by_columns.sort_indices()
        self._product = SymmetricProduct(_parts(permuted), _parts(by_columns), self._starts, self._indices)
        self._values = np.zeros(len(self._indices))

    def _look(self) -> None:
        if self._halted():
            raise StoppedError

    def _ordered(self, pattern: csr_matrix) -> np.ndarray:
        """Return the order of less work: by least degree alone, or with rows that link the others put last."""
        found = self._least_degree(pattern, None, self._most)
        late = linking_rows(pattern)
        if late is not None:
            work = float("inf") if found is None else found.work
            found = self._least_degree(pattern, late, min(work, self._most)) or found
        if found is None:
            raise TooDenseError
        return np.asarray(found.order)[: pattern.shape[0]].copy()

    def _least_degree(self, pattern: csr_matrix, late: np.ndarray | None, most: float) -> MinimumDegree | None:
        """Return an order; None where it takes more than it may."""
        ordering = MinimumDegree(pattern.indptr.astype(np.int32), pattern.indices.astype(np.int32), late)
        while not ordering.run(GRAPH_BUDGET):
            self._look()
            if ordering.work > SPEED * most:
                return None
        return ordering if ordering.work <= SPEED * most else None

    def _upper(self, pattern: csr_matrix) -> csc_matrix:
        """Return the upper half of the pattern in the new order, with its diagonal."""
        m = pattern.shape[0]
        place = np.empty(m, np.int32)
        place[self._order] = np.arange(m, dtype=np.int32)
        row, column = np.repeat(place, np.diff(pattern.indptr)), place[pattern.indices]
        above = row < column
        row, column = np.concatenate((row[above], place)), np.concatenate((column[above], place))
        upper = csc_matrix((np.ones(len(row), np.int8), (row, column)), shape=(m, m))
        upper.sort_indices()
        return upper

    def factorise(self, d: Floats, e: Floats) -> None:
        """Take new weights and factorise.

        Raises
        ------
        ArithmeticError
            If the matrix is not positive definite in floating point.
        StoppedError
        """
        order = self._order
        extra = e[order]
        self._product.compute(d[self.sparse_columns], extra, self._values)
        diagonal = self._values[self._starts[:-1]]
        shift = REGULAR * diagonal + 1e-300
        self._true = self._values.copy()
        self._true[self._starts[:-1]] += shift
        guide = self._true
        if len(self.dense_columns):
            # what is left without the dense columns may be singular; the factors then only guide the solution
            self._weighted = (self.dense * np.sqrt(d[self.dense_columns]))[order]
            guide = self._true.copy()
            guide[self._starts[:-1]] += GUIDE * (diagonal + (self._weighted**2).sum(axis=1))
        self._factor.begin(guide)
        while not (state := self._factor.run(BUDGET)):
            self._look()
        if state < 0:
            raise ArithmeticError("the normal equations are not positive definite")
        half = csc_matrix((self._true, self._indices, self._starts), shape=(len(order), len(order)))
        self._half, self._half_transposed, self._diagonal = half, half.T, half.diagonal()
        if len(self.dense_columns):
            self._solved = np.column_stack([self._solve_sparse(column) for column in self._weighted.T])
            self._small = lu_factor(np.eye(len(self.dense_columns)) + self._weighted.T @ self._solved)

    def _solve_sparse(self, right: Floats) -> Floats:
        result = np.array(right, float)
        self._factor.solve(result)
        return result

    def _solve_once(self, right: Floats) -> Floats:
        result = self._solve_sparse(right)
        if len(self.dense_columns):
            result -= self._solved @ lu_solve(self._small, self._weighted.T @ result)
        return result

    def _times(self, y: Floats) -> Floats:
        result = np.asarray(self._half @ y + self._half_transposed @ y - self._diagonal * y)
        if len(self.dense_columns):
            result += self._weighted @ (self._weighted.T @ y)
        return result

    def solve(self, right: Floats) -> Floats:
        """Solve, with refinement; with dense columns by conjugate gradients that the factors guide."""
        right = right[self._order]
        found = self._solve_once(right)
        if len(self.dense_columns):
            found = self._conjugate_gradients(right, found)
        else:
            enough = ACCURATE * float(np.abs(right).max(initial=0.0))
            for _ in range(REFINEMENTS):
                residual = right - self._times(found)
                if float(np.abs(residual).max(initial=0.0)) <= enough:
                    break
                found += self._solve_once(residual)
        result = np.empty_like(found)
        result[self._order] = found
        return result

    def _conjugate_gradients(self, right: Floats, start: Floats) -> Floats:
        """Improve a first solution (Hestenes and Stiefel 1952, preconditioned)."""
        result = start
        residual = right - self._times(result)
        enough = GRADIENT_ACCURACY * float(np.linalg.norm(right))
        guided = self._solve_once(residual)
        direction, energy = guided, float(residual @ guided)
        for _ in range(MOST_GRADIENTS):
            if float(np.linalg.norm(residual)) <= enough or energy <= 0.0:
                break
            product = self._times(direction)
            step = energy / float(direction @ product)
            result = result + step * direction
            residual = residual - step * product
            guided = self._solve_once(residual)
            before, energy = energy, float(residual @ guided)
            direction = guided + energy / before * direction
        return result


def _parts(matrix: csc_matrix | csr_matrix) -> tuple[np.ndarray, np.ndarray, Floats]:
    return matrix.indptr.astype(np.int32), matrix.indices.astype(np.int32), np.asarray(matrix.data, float)
