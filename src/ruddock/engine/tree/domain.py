"""What values the discrete columns may take: fractions, snapping and branches."""

from __future__ import annotations

from math import ceil, floor, isfinite
from typing import NamedTuple

import numpy as np

from ruddock.engine.measure import NEAR, measure, near
from ruddock.engine.outcome import INTEGRALITY
from ruddock.engine.tree import vectors
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem

ULPS = 4 * 2.0**-52  # relative: what a bound that was computed may be off by


class Branch(NamedTuple):
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
        self.integers = np.flatnonzero(problem.kinds & INTEGER).astype(np.int32)
        self.semis = np.flatnonzero(problem.kinds & SEMICONTINUOUS).astype(np.int32)
        low, high = problem.lower.copy(), problem.upper.copy()
        low[self.integers] = np.ceil(low[self.integers] - near(low[self.integers], ULPS))
        high[self.integers] = np.floor(high[self.integers] + near(high[self.integers], ULPS))
        # while a semicontinuous column is not zero; a whole one may have no such value
        self.on_lower, self.on_upper = low.copy(), high.copy()
        never = self.semis[low[self.semis] > high[self.semis]]
        low[never] = high[never] = 0.0
        low[self.semis] = np.minimum(low[self.semis], 0.0)
        high[self.semis] = np.maximum(high[self.semis], 0.0)
        self.lower, self.upper = low, high

    def distance(self, x: Floats) -> Floats:
        """Return for each column how far its value is from an allowed one (0 for continuous columns)."""
        far = np.zeros(len(x))
        vectors.distances(x, self.integers, self.semis, self.on_lower, self.on_upper, far)
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
        below = float(floor(value))
        if abs(value - round(value)) <= NEAR:
            # a whole value whose snapped plan fails: take it apart from its neighbours
            below = float(round(value)) if high > round(value) else float(round(value)) - 1.0
        if below < low or below + 1.0 > high:
            return None
        return Branch(column, (low, below), (below + 1.0, high), value - below)

    def fixing(self, x: Floats) -> tuple[Floats, Floats]:
        """Return bounds that fix integers at their rounded values and semicontinuous ones on or off."""
        lower, upper = self.lower.copy(), self.upper.copy()
        off = self.semis[np.abs(x[self.semis]) <= INTEGRALITY]
        on = np.setdiff1d(self.semis, off)
        lower[on], upper[on] = self.on_lower[on], self.on_upper[on]
        whole = np.clip(np.round(x[self.integers]), lower[self.integers], upper[self.integers]) + 0.0  # no -0
        lower[self.integers] = upper[self.integers] = whole
        lower[off] = upper[off] = 0.0
        return lower, upper


class Step(NamedTuple):
    """The least difference between two objective values of whole plans; size 0 if there is none."""

    size: float = 0.0

    @classmethod
    def of(cls, problem: Problem, unit: float = 1.0) -> Step:
        """Return the step of a problem: known where only integer columns have costs, and these have a common measure.

        Parameters
        ----------
        unit : what 1 of the objective as written is here, a power of two
        """
        used = problem.costs != 0
        if not used.any() or not problem.integers[used].all():
            return cls()
        return cls(measure(problem.costs[used] / unit) * unit)

    def surely(self, value: float) -> float:
        """Return by how much the next better value differs at least; 0 where rounding of ``value`` hides it."""
        return self.size * (1 - 1e-6) if abs(value) * ULPS < 1e-7 * self.size else 0.0

    def up(self, bound: float) -> float:
        """Return a bound rounded up to the next value that a plan can have, careful by what ``bound`` may be off."""
        if not self.size or not isfinite(bound):
            return bound
        steps = bound / self.size
        room = 1e-6 + ULPS * abs(steps)
        return bound if room > 0.1 else max(bound, ceil(steps - room) * self.size)
