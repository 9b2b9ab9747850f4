"""Cliques: values of binary columns of which at most one can hold, found in rows and by probing.

Two values that exclude each other are an implication: where one holds, the other does not. So this is the implication
graph of the binary columns, kept as cliques.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ruddock.engine.tree.conflicts import Conflicts
from ruddock.problem import INTEGER, Floats, Ints, Problem

MOST = 10_000_000  # members of all cliques
SAME = 1e-9


class Cliques:
    """Literals that exclude each other; literal ``2j`` is column j at one, ``2j + 1`` column j at zero."""

    def __init__(self, n: int) -> None:
        self.n = n
        self._known: dict[bytes, np.ndarray] = {}
        self._pairs: list[np.ndarray] = []
        self._members = 0
        self._conflicts: Conflicts | None = None
        self._worthless = np.zeros(2 * n)

    def add(self, literals: np.ndarray) -> None:
        """Record that at most one of the literals can hold."""
        literals = np.sort(literals).astype(np.int32)
        key = literals.tobytes()
        if key not in self._known and self._may(len(literals)):
            self._known[key] = literals

    def add_pairs(self, literal: int, others: np.ndarray) -> None:
        """Record that a literal excludes each of some others."""
        if len(others) and self._may(2 * len(others)):
            self._pairs.append(np.stack((np.full(len(others), literal), others), axis=1).astype(np.int32))

    def _may(self, members: int) -> bool:
        """Count members if there is room for them; say whether there is."""
        if self._members + members > MOST:
            return False
        self._members += members
        self._conflicts = None
        return True

    @property
    def conflicts(self) -> Conflicts:
        """What excludes what."""
        if self._conflicts is None:
            self._build()
        assert self._conflicts is not None
        return self._conflicts

    @property
    def degrees(self) -> np.ndarray:
        """By literal, how many others it excludes; those that it does twice count twice."""
        if self._conflicts is None:
            self._build()
        return self._degrees

    def _build(self) -> None:
        pairs = np.concatenate(self._pairs) if self._pairs else np.zeros((0, 2), np.int32)
        sizes = np.array([len(literals) for literals in self._known.values()] + [2] * len(pairs), np.int64)
        members = np.concatenate((*self._known.values(), pairs.ravel()))
        starts = np.concatenate(([0], np.cumsum(sizes))).astype(np.int32)
        owner = np.repeat(np.arange(len(sizes)), sizes)
        order = np.argsort(members, kind="stable")
        owner_starts = np.searchsorted(members[order], np.arange(2 * self.n + 1)).astype(np.int32)
        self._degrees = np.bincount(members, sizes[owner] - 1, 2 * self.n).astype(np.int64)
        self._conflicts = Conflicts(2 * self.n, starts, members, owner_starts, owner[order].astype(np.int32))

    def excluded(self, literal: int) -> np.ndarray:
        """Return the literals that one excludes."""
        count = self.conflicts.excluded(literal)
        return np.array(self.conflicts.touched[:count])

    def grown(
        self, literals: Ints, worths: Floats | None = None, least: float = 0.0, total: float = -1.0
    ) -> np.ndarray:
        """Return a clique with some literals, which exclude each other, and as many others as can be.

        Parameters
        ----------
        worths : float array, shape (2 n,)
            Literals worth more than ``least`` come first, the others after them, those that exclude most first.
        total : what the clique must be worth more than; otherwise it is empty
        """
        worths = self._worthless if worths is None else worths
        size = self.conflicts.grow(literals.astype(np.int32), worths, self.degrees, least, total)
        return np.array(self.conflicts.clique[:size])

    def add_rows(
        self, problem: Problem, lower: Floats, upper: Floats, stopped: Callable[[], bool] = lambda: False
    ) -> None:
        """Find cliques in rows: the values of binary columns any two of which are too much for the row."""
        rows = problem.by_rows()
        owner, columns = np.repeat(np.arange(problem.m), np.diff(rows.indptr)), rows.indices
        binary = ((problem.kinds & INTEGER) != 0) & (lower == 0) & (upper == 1)
        largest = np.zeros(problem.m)
        np.maximum.at(largest, owner, np.where(binary[columns], np.abs(rows.data), 0.0))
        several = np.bincount(owner, binary[columns], problem.m) >= 2
        for sign, limit in ((1.0, problem.row_upper), (-1.0, -problem.row_lower)):
            a = sign * rows.data
            least = np.bincount(owner, np.where(a > 0, a * lower[columns], a * upper[columns]), problem.m)
            room = np.where(np.isfinite(limit) & np.isfinite(least), limit - least, np.inf)
            for i in np.flatnonzero(several & (2.0 * largest > room)).tolist():
                if stopped():
                    return
                part = slice(rows.indptr[i], rows.indptr[i + 1])
                size, positive = np.abs(a[part]), a[part] > 0
                self._from_knapsack(columns[part], size, positive, binary[columns[part]], float(room[i]))

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
        self.add(2 * columns[chosen] + ~positive[chosen])

    def values(self, x: Floats) -> Floats:
        """Return the value of every literal at a point."""
        literal = np.empty(2 * self.n)
        literal[0::2], literal[1::2] = x, 1.0 - x
        return literal
