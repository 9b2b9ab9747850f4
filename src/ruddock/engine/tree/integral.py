"""Continuous columns that may be taken for whole numbers, because the rows make them so.

Known as such they can be rounded in propagation and in cuts, and a search need not branch on them.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem

SAME = 1e-12  # relative: how near to a whole number counts as one
LARGEST = 2.0**40
ROUNDS = 10

Mask = np.ndarray


def implied_integers(problem: Problem, *, complete: bool = True) -> Mask:
    """Return which continuous columns are whole in every plan, or in one of the best.

    A column that an equation ties to whole columns by whole numbers is whole in every plan. Columns that meet
    only in differences, as stocks and starting times do, form a network, whose matrix is totally unimodular: with
    whole limits some best plan has whole values for them (Hoffman and Kruskal 1956).

    Parameters
    ----------
    complete : bool
        Whether these are all rows; if others may follow, only equations count.

    Returns
    -------
    bool array, shape (n,)
    """
    whole = (problem.kinds & INTEGER) != 0
    if whole.all() or not whole.any():
        return np.zeros(problem.n, bool)
    found = _by_equations(problem, whole)
    return found | _by_networks(problem, whole | found) if complete else found


class _Rows:
    """Rows, and what their continuous columns are multiplied by."""

    def __init__(self, problem: Problem, whole: Mask) -> None:
        matrix = csr_matrix(problem.matrix())
        self.row = np.repeat(np.arange(problem.m), np.diff(matrix.indptr))
        self.column, self.value = matrix.indices, matrix.data
        self.loose = ~whole[self.column]
        self.count = np.bincount(self.row, self.loose, problem.m).astype(int)
        self.scale = np.ones(problem.m)
        self.scale[self.row[self.loose]] = np.abs(self.value[self.loose])
        # whole in units of the continuous columns' coefficient: entries of whole columns, and the limits
        bad = np.bincount(self.row, ~self.loose & ~_whole(self.value / self.scale[self.row]), problem.m) > 0
        limits = [problem.row_lower / self.scale, problem.row_upper / self.scale]
        self.integral = ~bad & _whole(limits[0]) & _whole(limits[1])
        self.equal = problem.row_lower == problem.row_upper


def _by_equations(problem: Problem, whole: Mask) -> Mask:
    """Return the columns that equations make whole, one after another."""
    found = np.zeros(problem.n, bool)
    semi = (problem.kinds & SEMICONTINUOUS) != 0
    for _ in range(ROUNDS):
        rows = _Rows(problem, whole | found)
        fits = rows.loose & ((rows.count == 1) & rows.equal & rows.integral)[rows.row] & ~semi[rows.column]
        if not fits.any():
            break
        found[rows.column[fits]] = True
    return found


def _by_networks(problem: Problem, whole: Mask) -> Mask:
    """Return the columns of networks: each row, or each column, has at most two entries, equal and opposite."""
    rows = _Rows(problem, whole)
    entry = np.flatnonzero(rows.loose)
    if not len(entry):
        return np.zeros(problem.n, bool)
    row, column, value = rows.row[entry], rows.column[entry], rows.value[entry]
    sign = np.sign(value)
    sound_row, sound_column = _at_most_a_pair(row, sign, problem.m), _at_most_a_pair(column, sign, problem.n)
    bad_row = np.bincount(row, np.abs(np.abs(value) - rows.scale[row]) > SAME * rows.scale[row], problem.m) > 0
    bad_row |= ~rows.integral & (rows.count > 0)
    semi = (problem.kinds & SEMICONTINUOUS) != 0
    bad_column = ~whole & ~(_whole(problem.lower) & _whole(problem.upper) & ~semi)
    # a column that its own entries rule out needs no look at the rest of its part
    ruled_out = np.bincount(column, bad_row[row] | (~sound_row[row] & ~sound_column[column]), problem.n) > 0
    if (whole | bad_column | ruled_out).all():
        return np.zeros(problem.n, bool)
    # here, since its import takes longer than many a solve
    from scipy.sparse.csgraph import connected_components

    size = problem.m + problem.n
    links = csr_matrix((np.ones(len(entry)), (row, problem.m + column)), shape=(size, size))
    _, part = connected_components(links, directed=False)
    groups = int(part.max()) + 1
    of_row, of_column = part[: problem.m], part[problem.m :]
    network = np.bincount(of_row, ~sound_row, groups) == 0
    network |= np.bincount(of_column, ~sound_column, groups) == 0
    bad = np.bincount(of_row, bad_row, groups) + np.bincount(of_column, bad_column, groups) > 0
    return np.asarray(~whole & (network & ~bad)[of_column])


def _at_most_a_pair(by: np.ndarray, sign: Floats, length: int) -> Mask:
    """Say which rows, or columns, have at most two entries, and two of them of opposite signs."""
    return np.asarray((np.bincount(by, sign > 0, length) <= 1) & (np.bincount(by, sign < 0, length) <= 1))


def _whole(values: Floats) -> Mask:
    """Say which values are whole numbers, or infinite."""
    with np.errstate(invalid="ignore"):  # infinity less infinity
        near = np.abs(values - np.round(values)) <= SAME * np.maximum(1.0, np.abs(values))
    return np.asarray(np.isinf(values) | (near & (np.abs(values) < LARGEST)))
