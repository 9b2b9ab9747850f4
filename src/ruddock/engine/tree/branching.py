"""Which column to branch on: pseudo-costs, learnt from the branches made so far."""

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
        self._count = np.zeros((2, n), dtype=np.int64)

    def learn(self, column: int, up: bool, change: float, gain: float) -> None:
        """Record that moving a column by ``change`` raised the bound by ``gain``."""
        if change > 1e-9 and np.isfinite(gain):
            self._sum[int(up), column] += max(gain, 0.0) / change
            self._count[int(up), column] += 1

    def choose(self, columns: np.ndarray, fractions: Floats) -> int:
        """Return the place in ``columns`` of the best one; ``fractions`` tell how far up each stands."""
        rates = []
        for side in (0, 1):
            total, count = self._sum[side], self._count[side]
            seen = count > 0
            mean = float((total[seen] / count[seen]).mean()) if seen.any() else 1.0
            rates.append(np.where(count[columns] > 0, total[columns] / np.maximum(count[columns], 1), mean))
        down, up = rates[0] * fractions, rates[1] * (1.0 - fractions)
        return int(np.argmax(np.maximum(down, FLOOR) * np.maximum(up, FLOOR)))

    def prefers_up(self, column: int, fraction: float) -> bool:
        """Say which child to dive into: the one that is expected to cost less."""
        down, up = (
            self._sum[side, column] / self._count[side, column] if self._count[side, column] else 1.0 for side in (0, 1)
        )
        return bool(up * (1.0 - fraction) < down * fraction)
