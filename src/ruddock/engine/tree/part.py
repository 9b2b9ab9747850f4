"""What is left of a problem where many of its columns are fixed: fewer columns, and rows that may still be broken."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.measure import NEAR
from ruddock.engine.outcome import INTEGRALITY
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem, reaching_zero

ROUNDS = 20  # of taking out columns and rows, at most
LOSS = 1e-9  # of all terms of a row, by which its activity may be off


@dataclass(frozen=True, eq=False, repr=False)
class Part:
    """A problem in some columns of another, whose plans are those of the other one with the rest as it is fixed.

    Attributes
    ----------
    problem : Problem
        Without an offset, as searches need it.
    columns : int array
        Of the other problem, in the order of this one.
    offset : float
        What the objective of the other one is beside that of this one.
    """

    problem: Problem
    columns: np.ndarray
    offset: float
    _fixed: Floats

    @classmethod
    def whole(cls, problem: Problem) -> Part:
        """Return all of it."""
        return cls(replace(problem, offset=0.0), np.arange(problem.n), problem.offset, np.zeros(problem.n))

    @classmethod
    def of(cls, problem: Problem) -> Part | None:
        """Return the part that is left; None where a row cannot be kept."""
        lower, upper = problem.lower.copy(), problem.upper.copy()
        plain = (problem.kinds & SEMICONTINUOUS) == 0
        # what is fixed from the start counts once, and is looked at no more
        open_ = (lower < upper) | ~plain
        values, matrix = np.where(open_, 0.0, lower), problem.matrix()
        base, terms = matrix @ values, abs(matrix) @ np.abs(values)
        kept = np.flatnonzero(open_)
        left = csr_matrix(matrix[:, kept])
        owner, items, a = np.repeat(np.arange(problem.m), np.diff(left.indptr)), kept[left.indices], left.data
        rows = np.ones(problem.m, bool)
        for _ in range(ROUNDS):
            ends = np.stack(reaching_zero(lower, upper, problem.kinds))[:, items] * a
            least, most = (base + np.bincount(owner, end, problem.m) for end in (ends.min(axis=0), ends.max(axis=0)))
            near = NEAR + LOSS * (terms + np.bincount(owner, np.abs(ends).min(axis=0), problem.m))
            if (rows & ((least > problem.row_upper + near) | (most < problem.row_lower - near))).any():
                return None
            rows &= (most > problem.row_upper) | (least < problem.row_lower)
            free = (lower < upper)[items] | ~plain[items]
            single = rows & (np.bincount(owner, free, problem.m) == 1)
            entry = np.flatnonzero(free & single[owner] & plain[items])
            if not len(entry):
                break
            row, column = owner[entry], items[entry]
            rest = (base + np.bincount(owner, np.where(free, 0.0, a * lower[items]), problem.m))[row]
            limits = np.stack((problem.row_lower[row] - rest, problem.row_upper[row] - rest)) / a[entry]
            low, high = limits.min(axis=0), limits.max(axis=0)
            whole = (problem.kinds[column] & INTEGER) != 0
            np.maximum.at(lower, column, np.where(whole, np.ceil(low - INTEGRALITY), low))
            np.minimum.at(upper, column, np.where(whole, np.floor(high + INTEGRALITY), high))
            crossed = lower > upper
            if (lower[crossed] > upper[crossed] + NEAR * np.maximum(1.0, np.abs(upper[crossed]))).any():
                return None
            lower[crossed] = upper[crossed]
            rows[row] = False
        return cls._left(problem, rows, lower, upper, plain)

    @classmethod
    def _left(cls, problem: Problem, rows: np.ndarray, lower: Floats, upper: Floats, plain: np.ndarray) -> Part:
        fixed = plain & (lower == upper)
        columns, kept = np.flatnonzero(~fixed), np.flatnonzero(rows)
        values = np.where(fixed, lower, 0.0)
        matrix = problem.matrix()
        base = (matrix @ values)[kept]
        left = Problem.build(
            matrix[:, columns][kept], problem.row_lower[kept] - base, problem.row_upper[kept] - base,
            lower[columns], upper[columns], problem.costs[columns], problem.kinds[columns],
        )  # fmt: skip
        return cls(left, columns, problem.offset + float(problem.costs @ values), values)

    def plan(self, x: Floats) -> Floats:
        """Return a plan of the other problem from one of this."""
        result = self._fixed.copy()
        result[self.columns] = x
        return result
