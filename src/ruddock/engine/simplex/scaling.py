"""Geometric scaling of a matrix by powers of two, so that scaling itself rounds nothing."""

from __future__ import annotations

import numpy as np

from ruddock.problem import Floats, Problem

PASSES = 4
WELL_SCALED = 4.0  # a matrix whose magnitudes all lie within this factor of 1 is left alone


def geometric_scale(problem: Problem) -> tuple[Floats, Floats]:
    """Return row and column factors that bring the entries' magnitudes towards 1.

    Each pass divides rows, then columns, by the geometric mean of their smallest and largest entry
    (Maros 2003, section 4.3).
    """
    m, n = problem.m, problem.n
    rows, columns = np.ones(m), np.ones(n)
    size = np.abs(problem.values)
    if not len(size) or (size.max() <= WELL_SCALED and size.min() >= 1 / WELL_SCALED):
        return rows, columns
    index = problem.indices
    owner = np.repeat(np.arange(n), np.diff(problem.starts))
    logs = np.log2(size)
    row_log, column_log = np.zeros(m), np.zeros(n)
    for _ in range(PASSES):
        row_log = -_middle(logs + column_log[owner], index, m)
        column_log = -_middle(logs + row_log[index], owner, n)
    return np.exp2(np.round(row_log)), np.exp2(np.round(column_log))


def _middle(logs: Floats, group: np.ndarray, size: int) -> Floats:
    """Return the mean of the least and the greatest of ``logs`` in each group, 0 for empty ones."""
    low, high = np.full(size, np.inf), np.full(size, -np.inf)
    np.minimum.at(low, group, logs)
    np.maximum.at(high, group, logs)
    empty = np.isinf(low)
    low[empty] = high[empty] = 0.0
    return (low + high) / 2
