"""Matrices whose corners are integers by structure: networks and intervals."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.problem import Problem


def integral_by_structure(problem: Problem) -> str | None:
    """Say why integers come by themselves, or return None if no structure known here shows it.

    A matrix of entries 0, 1, -1 is totally unimodular if it is that of a network (at most two entries in a
    column, and rows can be told apart in two groups so that equal signs stand in different groups and
    opposite ones in the same), or if the ones of every column, or of every row, stand next to one another.
    With whole limits and bounds, every corner then is whole (Hoffman and Kruskal 1956).
    """
    if not np.isin(np.abs(problem.values), (1.0,)).all():
        return None
    ends = np.concatenate((problem.row_lower, problem.row_upper, problem.lower, problem.upper))
    ends = ends[np.isfinite(ends)]
    if not np.array_equal(ends, np.round(ends)):
        return None
    if _network(problem):
        return "the constraints are those of a network"
    if _intervals(problem.starts, problem.indices, problem.values):
        return "the constraints are intervals"
    rows = csr_matrix(problem.matrix())
    if _intervals(rows.indptr, rows.indices, rows.data):
        return "the constraints are intervals"
    return None


def _network(problem: Problem) -> bool:
    counts = np.diff(problem.starts)
    if (counts > 2).any():
        return False
    pairs = problem.starts[:-1][counts == 2]
    one, two = problem.indices[pairs].tolist(), problem.indices[pairs + 1].tolist()
    same = (problem.values[pairs] * problem.values[pairs + 1] > 0).tolist()
    # groups by union and find, each row with its side within the group
    parent, side = list(range(problem.m)), [0] * problem.m

    def find(i: int) -> tuple[int, int]:
        path, parity = [], 0
        while parent[i] != i:
            path.append(i)
            parity ^= side[i]
            i = parent[i]
        total = parity
        for step in path:
            own = side[step]
            parent[step], side[step] = i, total
            total ^= own
        return i, parity

    for a, b, differ in zip(one, two, same, strict=True):
        (root_a, side_a), (root_b, side_b) = find(a), find(b)
        if root_a == root_b:
            if (side_a ^ side_b) != differ:
                return False
        else:
            parent[root_a], side[root_a] = root_b, side_a ^ side_b ^ differ
    return True


def _intervals(starts: np.ndarray, indices: np.ndarray, values: np.ndarray) -> bool:
    """Say whether in each vector all entries are 1 and stand next to one another."""
    if not (values == 1.0).all():
        return False
    counts = np.diff(starts)
    held = counts > 0
    first, last = indices[starts[:-1][held]], indices[starts[1:][held] - 1]
    return bool((last - first + 1 == counts[held]).all())
