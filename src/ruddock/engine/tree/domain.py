"""What values the discrete columns may take: fractions, snapping and branches."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ruddock.engine.outcome import INTEGRALITY
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem

NEAR = 1e-9  # how near to a whole number a bound counts as whole


@dataclass(frozen=True)
class Branch:
    """Two halves of a column's domain that leave out its present value."""

    column: int
    down: tuple[float, float]
    up: tuple[float, float]
    fraction: float  # how far up the present value lies, from 0 to 1


class Domain:
    """The discrete columns of a problem.

    Attributes
    ----------
    integers, semis : int arrays
        Numbers of the integer and of the semicontinuous columns; one may be both.
    lower, upper : float arrays, shape (n,)
        Bounds of the relaxation: whole for integers, reaching zero for semicontinuous columns.
    """

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self.integers = np.flatnonzero(problem.kinds & INTEGER)
        self.semis = np.flatnonzero(problem.kinds & SEMICONTINUOUS)
        low, high = problem.lower.copy(), problem.upper.copy()
        low[self.integers] = np.ceil(low[self.integers] - NEAR)
        high[self.integers] = np.floor(high[self.integers] + NEAR)
        self.on_lower, self.on_upper = low.copy(), high.copy()  # while a semicontinuous column is not zero
        low[self.semis] = np.minimum(low[self.semis], 0.0)
        high[self.semis] = np.maximum(high[self.semis], 0.0)
        self.lower, self.upper = low, high

    def distance(self, x: Floats) -> Floats:
        """Return for each column how far its value is from an allowed one (0 for continuous columns)."""
        far = np.zeros(len(x))
        far[self.integers] = np.abs(x[self.integers] - np.round(x[self.integers]))
        value = x[self.semis]
        outside = np.maximum(self.on_lower[self.semis] - value, value - self.on_upper[self.semis])
        stray = np.minimum(np.abs(value), np.maximum(outside, 0.0))
        far[self.semis] = np.maximum(far[self.semis], stray)
        return far

    def violated(self, x: Floats) -> np.ndarray:
        """Return the numbers of columns whose values are not allowed, within the tolerance."""
        return np.flatnonzero(self.distance(x) > INTEGRALITY)

    def branch(self, column: int, value: float, lower: Floats, upper: Floats) -> Branch | None:
        """Split a column's bounds so that ``value`` falls in neither half; None if it cannot be."""
        low, high = float(lower[column]), float(upper[column])
        least, most = float(self.on_lower[column]), float(self.on_upper[column])
        semi = bool(self.problem.kinds[column] & SEMICONTINUOUS)
        if semi and 0.0 < value < least and low <= 0.0 <= high:
            return Branch(column, (low, 0.0), (max(low, least), high), value / least)
        if semi and most < value < 0.0 and low <= 0.0 <= high:
            return Branch(column, (low, min(high, most)), (0.0, high), 1.0 - value / most)
        if not self.problem.kinds[column] & INTEGER:
            return None
        floor = float(np.floor(value))
        if abs(value - round(value)) <= NEAR:
            # a whole value whose snapped plan fails: take it apart from its neighbours
            floor = float(round(value)) if high > round(value) else float(round(value)) - 1.0
        if floor < low or floor + 1.0 > high:
            return None
        return Branch(column, (low, floor), (floor + 1.0, high), value - floor)

    def fixing(self, x: Floats) -> tuple[Floats, Floats]:
        """Return bounds that fix integers at their rounded values and semicontinuous ones on or off."""
        lower, upper = self.lower.copy(), self.upper.copy()
        off = self.semis[np.abs(x[self.semis]) <= INTEGRALITY]
        on = np.setdiff1d(self.semis, off)
        lower[on], upper[on] = self.on_lower[on], self.on_upper[on]
        whole = np.clip(np.round(x[self.integers]), lower[self.integers], upper[self.integers])
        lower[self.integers] = upper[self.integers] = whole
        lower[off] = upper[off] = 0.0
        return lower, upper


def objective_step(problem: Problem) -> float:
    """Return the least difference between two objective values of whole plans, or 0 if there is none.

    Known where only integer columns have costs and these are whole multiples of a thousandth.
    """
    used = problem.costs != 0
    if not used.any() or (problem.kinds[used] & (INTEGER | SEMICONTINUOUS) != INTEGER).any():
        return 0.0
    for scale in (1.0, 10.0, 100.0, 1000.0):
        scaled = problem.costs[used] * scale
        if np.abs(scaled).max() < 2**50 and (np.abs(scaled - np.round(scaled)) <= 1e-9 * np.abs(scaled)).all():
            return float(np.gcd.reduce(np.round(np.abs(scaled)).astype(np.int64))) / scale
    return 0.0
