"""The problem of phase one: how little the limits of rows can be broken in all.

It has a plan, and its optimum is bounded, whatever the problem is; so the interior-point method can settle it. Where
the total is not zero, its dual values prove that the problem has no plan; where it is, its basis belongs to one.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import hstack, identity

from ruddock.problem import Problem


def least_violation(problem: Problem) -> Problem:
    """Return the problem with a column more for each limit of a row, by which it may be broken at a price of 1."""
    low, high = np.flatnonzero(np.isfinite(problem.row_lower)), np.flatnonzero(np.isfinite(problem.row_upper))
    unit, more = identity(problem.m, format="csc"), len(low) + len(high)
    return Problem.build(
        hstack([problem.matrix(), unit[:, low], -unit[:, high]], format="csc"),
        problem.row_lower,
        problem.row_upper,
        np.append(problem.lower, np.zeros(more)),
        np.append(problem.upper, np.full(more, np.inf)),
        np.append(np.zeros(problem.n), np.ones(more)),
    )
