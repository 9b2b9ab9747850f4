"""Groups of binary columns of which exactly one is 1, and the rows that have all columns of a group."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.problem import INTEGER, Problem

WORK = 20_000_000  # pairs of entries of a column that are looked at, at most
FEWEST = 3  # columns of a group
LACKING = 0.1  # of a group, that a row may lack


class Groups(NamedTuple):
    """Groups, no column in two, and where they count.

    Attributes
    ----------
    rows : csr_matrix, shape (m, n)
        The rows of the problem, with entries of zero for columns of their groups that they lack.
    of : int32 array, shape (n,)
        The group of each column; -1 for none.
    starts : int32 array, shape (m + 1,)
    numbers : int32 array
        For each row the groups that it has all columns of, or all but few, beside others or with other coefficients.
    """

    rows: csr_matrix
    of: np.ndarray
    starts: np.ndarray
    numbers: np.ndarray

    @classmethod
    def of_problem(cls, problem: Problem) -> Groups:
        """Return the groups of a problem."""
        m = problem.m
        rows = problem.by_rows()
        found = _groups(problem, rows)
        of = np.full(problem.n, -1, np.int32)
        size = np.array([len(columns) for columns in found])
        for number, columns in enumerate(found):
            of[columns] = number
        owner = np.repeat(np.arange(m), np.diff(rows.indptr))
        held = np.flatnonzero(of[rows.indices] >= 0)
        if not len(held):
            return cls(rows, of, np.zeros(m + 1, np.int32), np.zeros(0, np.int32))
        key = owner[held].astype(np.int64) * len(found) + of[rows.indices[held]]
        order = np.argsort(key, kind="stable")
        key, value = key[order], rows.data[held[order]]
        first = np.flatnonzero(np.append(True, key[1:] != key[:-1]))
        members = np.diff(np.append(first, len(key)))
        row, number = np.divmod(key[first], len(found))
        uneven = np.minimum.reduceat(value, first) < np.maximum.reduceat(value, first)
        missing = size[number] - members
        # the row of the group itself, or a multiple of it, tells nothing new
        alone = ~uneven & (members == np.diff(rows.indptr)[row]) & (missing == 0)
        listed = np.flatnonzero((missing <= np.maximum(1, LACKING * size[number])) & ~alone)
        starts = np.searchsorted(row[listed], np.arange(m + 1)).astype(np.int32)
        lacking = [
            (int(row[k]), np.setdiff1d(found[number[k]], rows.indices[held[order[first[k] : first[k] + members[k]]]]))
            for k in listed[missing[listed] > 0].tolist()
        ]
        return cls(_with_zeros(rows, lacking), of, starts, number[listed].astype(np.int32))


def _groups(problem: Problem, rows: csr_matrix) -> list[np.ndarray]:
    """Return the columns of groups, no column twice."""
    sizes = np.diff(rows.indptr)
    owner = np.repeat(np.arange(problem.m), sizes)
    binary = ((problem.kinds & INTEGER) != 0) & (problem.lower >= 0) & (problem.upper <= 1)
    odd = np.bincount(owner, (rows.data != 1.0) | ~binary[rows.indices], problem.m)
    chosen = np.flatnonzero((problem.row_lower == 1.0) & (problem.row_upper == 1.0) & (odd == 0) & (sizes >= FEWEST))
    if not len(chosen) or float((np.diff(problem.starts).astype(float) ** 2).sum()) > WORK:
        return []
    free = np.ones(problem.n, bool)
    found = []
    for i in _most_used(rows, chosen).tolist():
        columns = rows.indices[rows.indptr[i] : rows.indptr[i + 1]]
        if free[columns].all():
            free[columns] = False
            found.append(columns)
    return found


def _with_zeros(rows: csr_matrix, lacking: list[tuple[int, np.ndarray]]) -> csr_matrix:
    """Return rows with more entries, all of them zero."""
    if not lacking:
        return rows
    owner = np.repeat(np.arange(rows.shape[0]), np.diff(rows.indptr))
    added = np.concatenate([np.full(len(columns), i) for i, columns in lacking])
    columns = np.concatenate([rows.indices, *(columns for _, columns in lacking)])
    at = np.append(owner, added)
    order = np.argsort(at, kind="stable")
    starts = np.searchsorted(at[order], np.arange(rows.shape[0] + 1))
    values = np.append(rows.data, np.zeros(len(added)))
    return csr_matrix((values[order], columns[order], starts), shape=rows.shape)


def _most_used(rows: csr_matrix, chosen: np.ndarray) -> np.ndarray:
    """Return rows that say "one of these", those first all of whose columns most other rows have."""
    pattern = csr_matrix((np.ones(rows.nnz, np.int32), rows.indices, rows.indptr), shape=rows.shape)
    shared = csr_matrix(pattern[chosen] @ pattern.T)
    owner = np.repeat(np.arange(len(chosen)), np.diff(shared.indptr))
    whole = shared.data == np.diff(rows.indptr)[chosen][owner]
    return chosen[np.argsort(-np.bincount(owner, whole, len(chosen)), kind="stable")]
