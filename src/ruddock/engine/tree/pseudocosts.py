"""What branching on each column has been worth so far."""

from __future__ import annotations

from math import isfinite
from typing import Any

import numpy as np

from ruddock.engine.tree import vectors
from ruddock.problem import Floats

FLOOR = 1e-6  # so that a product of gains never hides one of them


class PseudoCosts:
    """Objective gain per unit of change, down and up, for every column.

    A column without history takes the mean of the others; the score of a branch is the product of
    both expected gains (Achterberg, Koch and Martin 2005).

    Attributes
    ----------
    gains, count : arrays, shape (2, n)
        Added up for each unit of change, and how many; down and up. They stay the same objects.
    """

    def __init__(self, n: int) -> None:
        self.gains = np.zeros((2, n))
        self.count = np.zeros((2, n), dtype=np.int64)
        self._total, self._known = [0.0, 0.0], [0, 0]

    def __getstate__(self) -> dict[str, Any]:
        """Return the columns with history alone: few of many, where it is told what came since the last time."""
        known = np.flatnonzero(self.count.any(axis=0))
        kept = {"columns": known, "gains": self.gains[:, known], "count": self.count[:, known]}
        return {**kept, "n": len(self.count[0]), "sums": (self._total, self._known)}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__init__(state["n"])  # type: ignore[misc]
        self.gains[:, state["columns"]], self.count[:, state["columns"]] = state["gains"], state["count"]
        self._total, self._known = state["sums"]

    def learn(self, column: int, up: bool, change: float, gain: float) -> None:
        """Record that moving a column by ``change`` raised the bound by ``gain``."""
        if change > 1e-9 and isfinite(gain):
            rate = max(gain, 0.0) / change
            self.gains[int(up), column] += rate
            self.count[int(up), column] += 1
            self._total[up] += rate
            self._known[up] += 1

    @property
    def means(self) -> tuple[float, float]:
        """What a column without history is expected to gain for each unit, down and up."""
        known, total = self._known, self._total
        return total[0] / known[0] if known[0] else 1.0, total[1] / known[1] if known[1] else 1.0

    def copy(self) -> PseudoCosts:
        """Return another with the same history."""
        other = PseudoCosts(len(self.count[0]))
        other.become(self)
        return other

    def become(self, other: PseudoCosts) -> None:
        """Take the history of another in place of one's own."""
        self.gains[:], self.count[:] = other.gains, other.count
        self._total, self._known = list(other._total), list(other._known)

    def add(self, other: PseudoCosts) -> None:
        """Take over the history of another."""
        self._join(other, 1)

    def since(self, other: PseudoCosts) -> PseudoCosts:
        """Return what has come since another history, from which this one has gone on."""
        new = self.copy()
        new._join(other, -1)
        return new

    def _join(self, other: PseudoCosts, sign: int) -> None:
        self.gains += sign * other.gains
        self.count += sign * other.count
        for side in (0, 1):
            self._total[side] += sign * other._total[side]
            self._known[side] += sign * other._known[side]

    def scores(self, columns: np.ndarray, x: Floats) -> tuple[Floats, int]:
        """Return how much branching on each column promises at a point, and the shortest history among them."""
        result = np.empty(len(columns))
        return result, vectors.scores(self.gains, self.count, *self.means, columns, x, FLOOR, result)

    def reliable(self, columns: np.ndarray, least: int) -> list[bool]:
        """Say of each column whether it has been branched on so often either way."""
        return (self.count[:, columns].min(axis=0) >= least).tolist()

    def prefers_up(self, column: int, fraction: float) -> bool:
        """Say which child to dive into: the one that is expected to cost less."""
        down, up = (
            self.gains[side, column] / self.count[side, column] if self.count[side, column] else 1.0 for side in (0, 1)
        )
        return bool(up * (1.0 - fraction) < down * fraction)


def score(down: float, up: float) -> float:
    """Return the product of gains either way."""
    return max(down, FLOOR) * max(up, FLOOR)
