"""What branching on each column has been worth so far."""

from __future__ import annotations

import numpy as np

from ruddock.problem import Floats

FLOOR = 1e-6  # so that a product of gains never hides one of them


class PseudoCosts:
    """Objective gain per unit of change, down and up, for every column.

    A column without history takes the mean of the others; the score of a branch is the product of
    both expected gains (Achterberg, Koch and Martin 2005).
    """

    def __init__(self, n: int) -> None:
        self._sum = np.zeros((2, n))
        self.count = np.zeros((2, n), dtype=np.int64)
        self._total, self._known = [0.0, 0.0], [0, 0]

    def learn(self, column: int, up: bool, change: float, gain: float) -> None:
        """Record that moving a column by ``change`` raised the bound by ``gain``."""
        if change > 1e-9 and np.isfinite(gain):
            rate = max(gain, 0.0) / change
            self._sum[int(up), column] += rate
            self.count[int(up), column] += 1
            self._total[int(up)] += rate
            self._known[int(up)] += 1

    def copy(self) -> PseudoCosts:
        """Return another with the same history."""
        other = PseudoCosts(len(self.count[0]))
        other.become(self)
        return other

    def become(self, other: PseudoCosts) -> None:
        """Take the history of another in place of one's own."""
        self._sum, self.count = other._sum.copy(), other.count.copy()
        self._total, self._known = list(other._total), list(other._known)

    def add(self, other: PseudoCosts, sign: int = 1) -> PseudoCosts:
        """Take over the history of another; or, with a sign of -1, leave it out."""
        self._sum += sign * other._sum
        self.count += sign * other.count
        for side in (0, 1):
            self._total[side] += sign * other._total[side]
            self._known[side] += sign * other._known[side]
        return self

    def scores(self, columns: np.ndarray, fractions: Floats) -> Floats:
        """Return how much branching on each column promises; ``fractions`` tell how far up each stands."""
        rates = []
        for side in (0, 1):
            total, count = self._sum[side, columns], self.count[side, columns]
            mean = self._total[side] / self._known[side] if self._known[side] else 1.0
            rates.append(np.where(count > 0, total / np.maximum(count, 1), mean))
        return score(rates[0] * fractions, rates[1] * (1.0 - fractions))

    def prefers_up(self, column: int, fraction: float) -> bool:
        """Say which child to dive into: the one that is expected to cost less."""
        down, up = (
            self._sum[side, column] / self.count[side, column] if self.count[side, column] else 1.0 for side in (0, 1)
        )
        return bool(up * (1.0 - fraction) < down * fraction)


def score(down: Floats, up: Floats) -> Floats:
    """Return the product of gains either way."""
    return np.asarray(np.maximum(down, FLOOR) * np.maximum(up, FLOOR))
