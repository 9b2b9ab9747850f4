"""Clique rows grown by what else excludes all of their columns, and those that others then cover dropped."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, vstack

from ruddock.engine.tree.cliques import Cliques
from ruddock.problem import INTEGER, Floats, Problem

WORK = 50_000_000  # entries looked at
GLANCE = 64  # rows between two looks at the limits
MOST_GROWN = 20_000  # rows that are grown

Row = tuple[int, tuple[int, ...]]


def merge_cliques(
    problem: Problem, cliques: Cliques, lower: Floats, upper: Floats, stopped: Callable[[], bool] = lambda: False
) -> Problem | None:
    """Return the problem with larger cliques for its rows of the kind "at most one of", or None if no row goes.

    A row is grown literal by literal; then rows inside another are left out (Achterberg et al. 2020).
    """
    rows = csr_matrix(problem.matrix())
    own = _clique_rows(problem, rows, lower, upper, stopped)
    if not own:
        return None
    grown = _grown([members for _, members in own], cliques, stopped)
    if stopped():
        return None
    kept = _largest(grown)
    if len(kept) == len(own):
        return None
    others = np.setdiff1d(np.arange(problem.m), [i for i, _ in own])
    chosen = [grown[k] for k in kept]
    literals = np.array([k for members in chosen for k in members], np.intp)
    starts = np.cumsum([0] + [len(members) for members in chosen])
    new = csr_matrix((np.where(literals % 2, -1.0, 1.0), literals // 2, starts), shape=(len(chosen), problem.n))
    limits = np.array([1.0 - sum(k % 2 for k in members) for members in chosen])
    return Problem.build(
        csc_matrix(vstack([rows[others], new])),
        np.concatenate((problem.row_lower[others], np.full(len(chosen), -np.inf))),
        np.concatenate((problem.row_upper[others], limits)),
        problem.lower,
        problem.upper,
        problem.costs,
        problem.kinds,
        problem.offset,
    )


def _clique_rows(
    problem: Problem, rows: csr_matrix, lower: Floats, upper: Floats, stopped: Callable[[], bool]
) -> list[Row]:
    """Return the rows that say just "at most one of these", with their literals."""
    row = np.repeat(np.arange(problem.m), np.diff(rows.indptr))
    binary = ((problem.kinds & INTEGER) != 0) & (lower == 0) & (upper == 1)
    size = np.zeros(problem.m)
    np.maximum.at(size, row, np.abs(rows.data))
    sound = np.bincount(row, ~binary[rows.indices] | (np.abs(rows.data) != size[row]), problem.m) == 0
    sound &= (np.diff(rows.indptr) >= 2) & (np.isinf(problem.row_lower) != np.isinf(problem.row_upper))
    found: list[Row] = []
    for k, i in enumerate(np.flatnonzero(sound).tolist()):
        if k % GLANCE == 0 and stopped():
            return []
        part = slice(rows.indptr[i], rows.indptr[i + 1])
        sign = 1.0 if np.isfinite(problem.row_upper[i]) else -1.0
        limit = problem.row_upper[i] if sign > 0 else -problem.row_lower[i]
        negative = sign * rows.data[part] < 0
        if limit == size[i] * (1.0 - negative.sum()):
            found.append((i, tuple(sorted((2 * rows.indices[part] + negative).tolist()))))
    return found[:MOST_GROWN]


def _grown(rows: list[tuple[int, ...]], cliques: Cliques, stopped: Callable[[], bool]) -> list[tuple[int, ...]]:
    """Grow each row by literals that exclude all of its own, those with most neighbours first."""
    result = []
    before = cliques.conflicts.work
    for number, members in enumerate(rows):
        if number % GLANCE == 0 and stopped():
            return rows
        if cliques.conflicts.work - before > WORK:
            result.append(members)
        else:
            result.append(tuple(sorted(cliques.grown(np.array(members)).tolist())))
    return result


def _largest(rows: list[tuple[int, ...]]) -> list[int]:
    """Return the numbers of the rows that lie in no other; of equal ones, the first."""
    of: dict[int, set[int]] = {}
    kept = []
    for k in sorted(range(len(rows)), key=lambda k: (-len(rows[k]), k)):
        around = set.intersection(*(of.get(literal, set()) for literal in rows[k]))
        if not around:
            kept.append(k)
            for literal in rows[k]:
                of.setdefault(literal, set()).add(k)
    return sorted(kept)
