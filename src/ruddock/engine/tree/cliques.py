"""Cliques: values of binary columns of which at most one can hold, found in rows and by probing."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.problem import INTEGER, Floats, Problem

MOST_EDGES = 500_000
SAME = 1e-9


class Cliques:
    """A graph of literals that exclude each other; literal ``2j`` is column j at one, ``2j + 1`` column j at zero."""

    def __init__(self, n: int) -> None:
        self.n = n
        self._known: set[tuple[int, ...]] = set()
        self._neighbours: dict[int, set[int]] = {}
        self._edges = 0

    def add_edge(self, first: int, first_one: bool, second: int, second_one: bool) -> None:
        """Record that two values exclude each other."""
        self._join(2 * first + (not first_one), 2 * second + (not second_one))

    def add(self, literals: tuple[int, ...]) -> None:
        """Record that at most one of the literals can hold."""
        literals = tuple(sorted(literals))
        if literals in self._known or self._edges > MOST_EDGES:
            return
        self._known.add(literals)
        if len(literals) <= 400:
            for k, a in enumerate(literals):
                for b in literals[k + 1 :]:
                    self._join(a, b)

    def _join(self, a: int, b: int) -> None:
        if self._edges <= MOST_EDGES and b not in self._neighbours.setdefault(a, set()):
            self._neighbours[a].add(b)
            self._neighbours.setdefault(b, set()).add(a)
            self._edges += 1

    def neighbours(self, literal: int) -> set[int]:
        """Return the literals that exclude one."""
        return self._neighbours.get(literal, set())

    def exclude(self, literal: int, members: Iterable[int]) -> bool:
        """Say whether a literal excludes all the members."""
        neighbours = self.neighbours(literal)
        return all(member in neighbours for member in members)

    def add_rows(
        self, problem: Problem, lower: Floats, upper: Floats, stopped: Callable[[], bool] = lambda: False
    ) -> None:
        """Find cliques in rows: the values of binary columns any two of which are too much for the row."""
        rows = csr_matrix(problem.matrix())
        binary = ((problem.kinds & INTEGER) != 0) & (lower == 0) & (upper == 1)
        for i in np.flatnonzero(np.diff(rows.indptr) >= 2).tolist():
            if stopped():
                return
            part = slice(rows.indptr[i], rows.indptr[i + 1])
            columns, values = rows.indices[part], rows.data[part]
            if binary[columns].sum() < 2:
                continue
            for sign, limit in ((1.0, problem.row_upper[i]), (-1.0, -problem.row_lower[i])):
                if not np.isfinite(limit):
                    continue
                a = sign * values
                least = float(np.where(a > 0, a * lower[columns], a * upper[columns]).sum())
                if np.isfinite(least):
                    self._from_knapsack(columns, np.abs(a), a > 0, binary[columns], limit - least)

    def _from_knapsack(
        self, columns: np.ndarray, size: Floats, positive: np.ndarray, binary: np.ndarray, room: float
    ) -> None:
        """Take the largest literals of a knapsack any two of which do not fit together."""
        order = np.flatnonzero(binary)
        order = order[np.argsort(-size[order], kind="stable")]
        pair = size[order][:-1] + size[order][1:]
        count = int(np.argmin(np.append(pair > room + SAME * max(1.0, abs(room)), False)))
        if count == 0:
            return
        chosen = order[: count + 1]
        self.add(tuple(int(2 * columns[k] + (not positive[k])) for k in chosen))

    def values(self, x: Floats) -> Floats:
        """Return the value of every literal at a point."""
        literal = np.empty(2 * self.n)
        literal[0::2], literal[1::2] = x, 1.0 - x
        return literal
