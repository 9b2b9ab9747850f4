"""Columns with the same entries and different costs: the dearer one is used only when the cheaper one is full."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem

MOST_ROWS = 20_000


def dominated(problem: Problem, lower: Floats, upper: Floats) -> tuple[np.ndarray, csr_matrix]:
    """Return columns that may stay at their lower bounds, and rows ``matrix x >= 0`` that order binary columns.

    Some best plan keeps both: one that does not gets no worse when two such columns exchange what they do.

    Returns
    -------
    columns : int array
    matrix : csr_matrix, shape (pairs, n)
    """
    fixed: list[int] = []
    pairs: list[tuple[int, int]] = []
    whole = (problem.kinds & INTEGER) != 0
    binary = whole & (lower == 0) & (upper == 1)
    for group in _alike(problem):
        order = group[np.argsort(problem.costs[group], kind="stable")]
        switches = order[binary[order]]
        pairs += list(pairwise(switches.tolist()))
        # the first one without a limit takes over from all that cost as much or more, whole for whole
        at = np.flatnonzero(np.isinf(upper[order]))[:1]
        if len(at):
            dearer = order[at[0] + 1 :]
            dearer = dearer[whole[dearer] | ~whole[order[at[0]]]]
            fixed += dearer[np.isfinite(lower[dearer]) & (lower[dearer] < upper[dearer])].tolist()
    pairs = pairs[:MOST_ROWS]
    columns = np.array(pairs, np.intp).reshape(-1)
    values = np.tile([1.0, -1.0], len(pairs))
    rows = csr_matrix((values, columns, 2 * np.arange(len(pairs) + 1)), shape=(len(pairs), problem.n))
    return np.array(fixed, np.intp), rows


def _alike(problem: Problem) -> list[np.ndarray]:
    """Return groups of columns with the same entries, semicontinuous ones left out."""
    rng = np.random.default_rng(1)
    owner = np.repeat(np.arange(problem.n), np.diff(problem.starts))
    key = np.bincount(owner, rng.random(problem.m)[problem.indices] * problem.values, problem.n)
    count = np.diff(problem.starts)
    plain = np.flatnonzero((count > 0) & ((problem.kinds & SEMICONTINUOUS) == 0))
    order = plain[np.lexsort((key[plain], count[plain]))]
    near = (count[order][1:] == count[order][:-1]) & (
        np.abs(np.diff(key[order])) <= 1e-12 * np.maximum(1.0, np.abs(key[order][1:]))
    )
    groups = []
    for group in np.split(order, np.flatnonzero(~near) + 1):
        if len(group) > 1:
            exact: dict[tuple[bytes, bytes], list[int]] = {}
            for j in sorted(group.tolist()):
                part = slice(problem.starts[j], problem.starts[j + 1])
                exact.setdefault((problem.indices[part].tobytes(), problem.values[part].tobytes()), []).append(j)
            groups += [np.array(same) for same in exact.values() if len(same) > 1]
    return groups
