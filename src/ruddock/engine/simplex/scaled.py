"""A linear program in true and in scaled numbers, whose bounds, costs and rows change in place."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix

from ruddock.engine.outcome import Outcome
from ruddock.engine.simplex.scaling import geometric_scale
from ruddock.problem import Floats, Ints, Problem, reaching_zero

FAR = 1e8  # a column at a bound of this size would drown all others in rounding

Matrix = tuple[Ints, Ints, Floats]


class ScaledProblem:
    """The problem that a solver works on.

    Parameters
    ----------
    problem : Problem
        Kinds are ignored, except that a semicontinuous column may reach zero.
    scale : bool
        Whether to scale rows and columns by powers of two.

    Attributes
    ----------
    problem : Problem
        With the limits of rows as they are now.
    lower, upper, costs : float arrays, shape (n,)
        As they are now; changed in place.
    rows, columns : float arrays
        Factors of rows and columns.
    unit : float array, shape (n + m,)
        What 1 of a scaled variable is: true value = unit x scaled value.
    """

    def __init__(self, problem: Problem, *, scale: bool) -> None:
        self.scales = scale
        self.lower, self.upper = reaching_zero(problem.lower, problem.upper, problem.kinds)
        self.costs = problem.costs.copy()
        self._load(problem.with_own_limits())

    def _load(self, problem: Problem) -> None:
        self.problem = problem
        m, n = problem.m, problem.n
        self.rows, self.columns = geometric_scale(problem) if self.scales else (np.ones(m), np.ones(n))
        self.unit = np.concatenate((self.columns, 1.0 / self.rows))

    def matrices(self) -> tuple[Matrix, Matrix]:
        """Return the scaled matrix by columns and by rows."""
        p = self.problem
        if (self.rows == 1.0).all() and (self.columns == 1.0).all():
            values, by_rows = p.values, p.by_rows()
        else:
            owner = np.repeat(np.arange(p.n), np.diff(p.starts))
            values = p.values * self.rows[p.indices] * self.columns[owner]
            by_rows = csc_matrix((values, p.indices, p.starts), shape=(p.m, p.n)).tocsr()
        rows = (by_rows.indptr.astype(np.int32, copy=False), by_rows.indices.astype(np.int32, copy=False), by_rows.data)
        return (p.starts, p.indices, values), rows

    def vectors(self, *, without_far: bool) -> tuple[Floats, Floats, Floats]:
        """Return scaled bounds and costs of columns and logicals, where asked with no bound in place of a far one."""
        p = self.problem
        lower, upper = self.lower, self.upper
        if without_far:
            lower, upper = np.where(lower <= -FAR, -np.inf, lower), np.where(upper >= FAR, np.inf, upper)
        return (
            np.concatenate((lower, p.row_lower)) / self.unit,
            np.concatenate((upper, p.row_upper)) / self.unit,
            np.concatenate((self.costs * self.columns, np.zeros(p.m))),
        )

    @property
    def has_far_bounds(self) -> bool:
        """Whether a column has a bound that is very far, but no infinity."""
        far = (np.isfinite(self.lower) & (self.lower <= -FAR)) | (np.isfinite(self.upper) & (self.upper >= FAR))
        return bool(far.any())

    @property
    def now(self) -> Problem:
        """The problem with its present bounds and costs."""
        return replace(self.problem, lower=self.lower, upper=self.upper, costs=self.costs, kinds=self.problem.kinds * 0)

    def crossed(self) -> Outcome | None:
        """Return the infeasible outcome of limits that cross, or None."""
        return crossing(self.problem, self.lower, self.upper)

    # ------------------------------------------------------------------ changes

    def change_bounds(self, columns: Any, lower: Any, upper: Any) -> None:
        """Give columns new bounds."""
        self.lower[columns] = lower
        self.upper[columns] = upper

    def change_limits(self, rows: Any, lower: Any, upper: Any) -> None:
        """Give rows new limits."""
        self.problem.row_lower[rows] = lower
        self.problem.row_upper[rows] = upper

    def append(self, matrix: Any, lower: Floats, upper: Floats) -> None:
        """Append rows below the others."""
        self._load(self.problem.with_rows(matrix, lower, upper))

    def keep(self, rows: Ints) -> None:
        """Keep some rows alone."""
        p = self.problem
        matrix = csr_matrix(p.matrix())[rows]
        limits = p.row_lower[rows], p.row_upper[rows]
        self._load(Problem.build(matrix, *limits, p.lower, p.upper, p.costs, p.kinds, p.offset))


def crossing(problem: Problem, lower: Floats, upper: Floats) -> Outcome | None:
    """Return the infeasible outcome of limits of rows, or bounds of columns, that cross; or None."""
    columns = np.flatnonzero(lower > upper)
    rows = np.flatnonzero(problem.row_lower > problem.row_upper)
    if not len(columns) and not len(rows):
        return None
    return Outcome("infeasible", crossed_columns=tuple(map(int, columns)), crossed_rows=tuple(map(int, rows)))
