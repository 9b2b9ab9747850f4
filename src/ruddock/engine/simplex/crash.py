# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""A triangular crash basis: columns instead of logicals in the equations (Maros 2003, section 9.8).

The logical of an equation is fixed and must leave the basis sooner or later. Columns with much room
between their bounds, few entries and low costs take such places at once, as long as the basis stays
triangular, so that it is neither singular nor costly to factorise.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

SAFE = cython.declare(cython.double, 0.01)  # of the column's largest entry: what may become a pivot


def crash_basis(problem):
    """Return for every row the column that takes its place in the basis, or -1.

    Parameters
    ----------
    problem : Problem
    """
    m = problem.m
    row_of = np.full(m, -1, np.int32)
    equation = problem.row_lower == problem.row_upper
    if not equation.any():
        return row_of
    counts = np.diff(problem.starts)
    bounded = np.isfinite(problem.lower).astype(np.int8) + np.isfinite(problem.upper)
    order = np.lexsort((problem.costs, counts, bounded)).astype(np.int32)
    order = order[(problem.lower < problem.upper)[order] & (counts[order] > 0)]
    _fill(order, problem.starts, problem.indices, np.abs(problem.values), equation.astype(np.int8), row_of)
    return row_of


def _fill(order, starts, indices, sizes, equation, result):
    """Go through the columns in order; ``result`` takes the column of each row."""
    t: cython.int
    j: cython.int
    k: cython.int
    i: cython.int
    chosen: cython.int
    largest: cython.double
    columns: cython.int[::1] = order
    begin: cython.const[cython.int][::1] = starts
    index: cython.const[cython.int][::1] = indices
    size: cython.double[::1] = sizes
    open_: cython.schar[::1] = equation  # 1: an equation that no chosen column has an entry in
    row_of: cython.int[::1] = result
    for t in range(columns.shape[0]):
        j = columns[t]
        chosen = -1
        largest = 0.0
        for k in range(begin[j], begin[j + 1]):
            if row_of[index[k]] >= 0:
                largest = -1.0  # an entry in a row already taken would break the triangle
                break
            largest = max(largest, size[k])
        if largest <= 0.0:
            continue
        for k in range(begin[j], begin[j + 1]):
            i = index[k]
            if open_[i] and size[k] >= SAFE * largest:
                chosen = i
                break
        if chosen < 0:
            continue
        row_of[chosen] = j
        for k in range(begin[j], begin[j + 1]):
            open_[index[k]] = 0
