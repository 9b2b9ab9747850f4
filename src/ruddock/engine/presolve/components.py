"""Splitting a problem into parts that share no row and no column."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ruddock.engine.presolve.stage import Places, Stage
from ruddock.problem import Problem

SMALLEST = 1000  # rows and columns of a part; smaller ones go together


class Components:
    """The parts of a problem, each of a size worth a solve of its own.

    Attributes
    ----------
    parts : list of (rows, columns)
        Numbers in the whole problem, ascending; one part only where nothing separates.
    """

    def __init__(self, problem: Problem) -> None:
        self.stage = Stage(problem)
        m, n = problem.m, problem.n
        links = coo_matrix(
            (np.ones(problem.nonzeros, np.int8), (problem.indices, m + self.stage.owner)), (m + n, m + n)
        )
        count, label = connected_components(links, directed=False)
        size = np.bincount(label, minlength=count)
        # neighbours go together until they are large enough
        group = np.cumsum(size) // SMALLEST
        group = np.where(size >= SMALLEST, count + np.arange(count), group)
        part = np.unique(group[label], return_inverse=True)[1]
        order = np.argsort(part, kind="stable")
        pieces = np.split(order, np.cumsum(np.bincount(part))[:-1]) if m + n else []
        self.parts: list[tuple[Places, Places]] = [(piece[piece < m], piece[piece >= m] - m) for piece in pieces]

    def problem(self, rows: Places, columns: Places) -> Problem:
        """Return a part as a problem of its own, without the constant of the objective."""
        p = self.stage.problem
        no_rows, no_columns = np.ones(p.m, bool), np.ones(p.n, bool)
        no_rows[rows], no_columns[columns] = False, False
        return self.stage.without(rows=no_rows, columns=no_columns, offset=0.0)
