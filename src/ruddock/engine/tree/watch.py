"""A search that is watched: with a plan that is known, no cut and no bound may leave it out while it is better.

For finding errors. Reductions that keep one of several plans of the same value are to be switched off: symmetry, and
fixing by costs (`Options.known` does the latter).
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.tree.frontier import Node
from ruddock.problem import Floats, Problem

ROOM = 1e-6


class LeftOutError(AssertionError):
    """A known plan was left out."""


class Watch:
    """Checks that a known plan is left out by nothing.

    Parameters
    ----------
    problem : Problem
    known : float array, shape (n,)
    """

    def __init__(self, problem: Problem, known: Floats) -> None:
        self.known, self.value = known, problem.objective(known)
        self._whole = problem.kinds != 0

    def rows(self, matrix: object, low: Floats, high: Floats, why: str) -> None:
        """Raise `LeftOutError` if a row leaves the plan out."""
        activity = csr_matrix(matrix) @ self.known
        room = ROOM * np.maximum(1.0, np.where(np.isfinite(low), np.abs(low), np.abs(high)))
        if ((activity < low - room) | (activity > high + room)).any():
            raise LeftOutError(f"a known plan of {self.value} is left out by a row: {why}")

    def holds(self, node: Node) -> bool:
        """Say whether the plan lies in a node, by its branches."""
        j, parent = node.column, node.parent
        if j >= 0 and not node.lower - ROOM <= self.known[j] <= node.upper + ROOM:
            return False
        if parent is None:
            return True
        x, whole = self.known[parent.columns], self._whole[parent.columns]
        return bool(((x >= parent.lower - ROOM) & (x <= parent.upper + ROOM))[whole].all())

    def left(self, threshold: float, box: tuple[Floats, Floats] | None) -> None:
        """Raise `LeftOutError` if a node that held the plan has gone, or been narrowed, without it."""
        if self.value >= threshold:
            return
        if box is None:
            raise LeftOutError(f"a known plan of {self.value} is lost: its node was closed below {threshold}")
        inside = (self.known >= box[0] - ROOM) & (self.known <= box[1] + ROOM)
        if not inside[self._whole].all():
            j = int(np.flatnonzero(self._whole & ~inside)[0])
            raise LeftOutError(f"a known plan of {self.value} is lost: column {j} was narrowed")
