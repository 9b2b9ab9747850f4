"""The final check in rational arithmetic: a basis is proven optimal, or repaired by exact pivots.

Every floating-point number is a fraction, so the basic solution, the dual values and the reduced costs
of a basis can be computed without any error. What the tolerances of the simplex method let pass shows
here, and is mended by simplex steps that are exact themselves.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from fractions import Fraction
from typing import TypeVar

import numpy as np

from ruddock.engine.lifting import ExactFactor, whole
from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FREE, Basis, Codes, Limits, Outcome
from ruddock.problem import Floats, Problem

WORSE = 1e-5  # relative: an exact optimum that is worse than the one within the tolerance by more is none to tell
MOST_REPAIRS = 200  # exact pivots before the basis is left as it is
GLANCE = 512  # steps between two looks at the limits
ZERO = Fraction(0)
Item = TypeVar("Item")


class OutOfTimeError(Exception):
    """A limit passed during the check."""


class _Clock:
    """Looks at the limits now and then, on the way through long lists."""

    def __init__(self, limits: Limits) -> None:
        self._limits, self._ticks = limits, 0

    def tick(self) -> None:
        """Count a step; raise if a limit has passed."""
        self._ticks += 1
        if self._ticks % GLANCE == 0 and self._limits.exceeded(0) is not None:
            raise OutOfTimeError

    def through(self, items: Iterable[Item]) -> Iterator[Item]:
        """Go through items, one step each."""
        for item in items:
            self.tick()
            yield item


class ExactBasis:
    """A basis of ``[A, -I]`` with its solution in fractions.

    Attributes
    ----------
    codes : basis codes, shape (n + m,)
    basic : list of the basic variables
    x, y, d : values of variables, dual values of rows, reduced costs of variables
    factor : ExactFactor
    """

    def __init__(self, problem: Problem, codes: Codes, limits: Limits) -> None:
        self.problem, self.codes, self.clock = problem, codes, _Clock(limits)
        m, n = problem.m, problem.n
        self.lower = np.concatenate((problem.lower, problem.row_lower))
        self.upper = np.concatenate((problem.upper, problem.row_upper))
        starts, indices, values = problem.starts, problem.indices.tolist(), problem.values.tolist()
        self.columns: list[dict[int, Fraction]] = [
            {i: Fraction(v) for i, v in zip(indices[a:b], values[a:b], strict=True)}
            for a, b in self.clock.through(zip(starts[:-1].tolist(), starts[1:].tolist(), strict=True))
        ]
        self.columns += [{i: Fraction(-1)} for i in self.clock.through(range(m))]
        # of each column rows and whole numbers, and what these are to be divided by
        self._whole: list[tuple[list[tuple[int, int]], int]] = []
        for column in self.clock.through(self.columns):
            tops, divisor = whole(column.values())
            self._whole.append((list(zip(column, tops, strict=True)), divisor))
        self.costs = [Fraction(c) for c in self.clock.through(problem.costs.tolist())] + [ZERO] * m
        self.n, self.m = n, m

    def compute(self) -> None:
        """Compute values, dual values and reduced costs."""
        self.basic = [int(j) for j in np.flatnonzero(self.codes == BASIC)]
        self.factor = ExactFactor([self.columns[j] for j in self.basic], self.clock)
        self.x = [ZERO] * (self.n + self.m)
        right = [ZERO] * self.m
        for j in self.clock.through(np.flatnonzero((self.codes == AT_LOWER) | (self.codes == AT_UPPER)).tolist()):
            bound = self.lower[j] if self.codes[j] == AT_LOWER else self.upper[j]
            self.x[j] = Fraction(float(bound))
            if self.x[j]:
                for i, value in self.columns[j].items():
                    right[i] -= value * self.x[j]
        for j, amount in self.clock.through(zip(self.basic, self.factor.forward(right), strict=True)):
            self.x[j] = amount
        self.y = self.factor.backward([self.costs[j] for j in self.basic])
        self.d = [cost - value for cost, value in zip(self.costs, self.products(self.y), strict=True)]

    def products(self, y: list[Fraction]) -> list[Fraction]:
        """Return the products of ``y`` with the columns of all variables."""
        tops, bottom = whole(y)
        return [
            Fraction(sum(tops[i] * value for i, value in column), bottom * divisor)
            for column, divisor in self.clock.through(self._whole)
        ]

    def leaving(self) -> tuple[int, int] | None:
        """Return the position of the basic variable farthest out of its bounds, and 1 (above) or -1."""
        worst, found = ZERO, None
        for p, j in self.clock.through(enumerate(self.basic)):
            if np.isfinite(self.upper[j]) and self.x[j] - Fraction(float(self.upper[j])) > worst:
                worst, found = self.x[j] - Fraction(float(self.upper[j])), (p, 1)
            if np.isfinite(self.lower[j]) and Fraction(float(self.lower[j])) - self.x[j] > worst:
                worst, found = Fraction(float(self.lower[j])) - self.x[j], (p, -1)
        return found

    def side(self, j: int) -> int:
        """Return -1 if a variable is below its bounds, 1 if it is above, else 0."""
        if np.isfinite(self.lower[j]) and self.x[j] < Fraction(float(self.lower[j])):
            return -1
        return int(np.isfinite(self.upper[j]) and self.x[j] > Fraction(float(self.upper[j])))

    def dense(self, j: int) -> list[Fraction]:
        """Return the column of a variable with its zeros."""
        column = [ZERO] * self.m
        for i, value in self.columns[j].items():
            column[i] = value
        return column

    def entering(self, reduced: list[Fraction]) -> int | None:
        """Return the first variable whose reduced cost has the wrong sign."""
        for j, d in self.clock.through(enumerate(reduced)):
            code = self.codes[j]
            if d == 0 or code == BASIC or self.lower[j] == self.upper[j]:
                continue
            if (code == AT_LOWER and d < 0) or (code == AT_UPPER and d > 0) or code == FREE:
                return j
        return None

    def dual_step(self, p: int, side: int) -> bool:
        """Exchange the basic variable at ``p`` by the dual ratio test; False if nothing can enter."""
        unit = [ZERO] * self.m
        unit[p] = Fraction(1)
        row = self.products(self.factor.backward(unit))
        best: tuple[Fraction, int] | None = None
        for j in self.clock.through(range(self.n + self.m)):
            code = self.codes[j]
            if code == BASIC or self.lower[j] == self.upper[j]:
                continue
            a = row[j] * side
            if (code == AT_LOWER and a > 0) or (code == AT_UPPER and a < 0) or (code == FREE and a != 0):
                ratio = abs(self.d[j] / a)
                if best is None or ratio < best[0]:
                    best = (ratio, j)
        if best is None:
            return False
        self.codes[self.basic[p]] = AT_UPPER if side > 0 else AT_LOWER
        self.codes[best[1]] = BASIC
        return True

    def primal_step(self, q: int) -> bool:
        """Let ``q`` enter by the primal ratio test; False if nothing stops it."""
        column = self.factor.forward(self.dense(q))
        up = self.d[q] < 0
        own = self.upper[q] - self.lower[q]
        best: tuple[Fraction, int, int] | None = (Fraction(float(own)), -1, 0) if np.isfinite(own) else None
        for p, j in self.clock.through(enumerate(self.basic)):
            a = column[p] if up else -column[p]
            if a > 0 and np.isfinite(self.lower[j]):
                found = ((self.x[j] - Fraction(float(self.lower[j]))) / a, p, AT_LOWER)
            elif a < 0 and np.isfinite(self.upper[j]):
                found = ((self.x[j] - Fraction(float(self.upper[j]))) / a, p, AT_UPPER)
            else:
                continue
            if best is None or found[0] < best[0]:
                best = found
        if best is None:
            return False
        if best[1] < 0:
            self.codes[q] = AT_UPPER if up else AT_LOWER
        else:
            self.codes[self.basic[best[1]]] = best[2]
            self.codes[q] = BASIC
        return True


def certify(problem: Problem, outcome: Outcome, limits: Limits) -> tuple[Outcome, bool]:
    """Check an optimal outcome's basis in exact arithmetic.

    Returns
    -------
    outcome : Outcome
        With values, dual values and reduced costs correctly rounded from the exact ones; unchanged
        where the basis could not be certified within the limits, or where numbers contradict each other by less than
        the tolerance, so that the exact optimum is far from the one that they stand for.
    certified : bool
    """
    assert outcome.basis is not None
    codes = np.concatenate((outcome.basis.columns, outcome.basis.rows)).astype(np.int8)
    try:
        exact = ExactBasis(problem, codes, limits)
        for _ in range(MOST_REPAIRS):
            exact.compute()
            out = exact.leaving()
            if out is not None:
                if not exact.dual_step(*out):
                    return outcome, False
                continue
            q = exact.entering(exact.d)
            if q is None:
                found = rounded(problem, outcome, exact)
                # much worse than within the tolerance: what was rounded when numbers were written contradicts itself
                worse = found.objective - outcome.objective > WORSE * max(1.0, abs(outcome.objective))
                return (outcome, False) if worse else (found, True)
            if not exact.primal_step(q):
                return outcome, False
    except (ZeroDivisionError, OutOfTimeError, MemoryError):
        pass
    return outcome, False


def rounded(problem: Problem, outcome: Outcome, exact: ExactBasis) -> Outcome:
    """Return the outcome with all numbers rounded once, from the exact ones."""
    n = problem.n

    def floats(values: list[Fraction]) -> Floats:
        return np.array([float(value) for value in exact.clock.through(values)])

    terms = exact.clock.through(zip(exact.costs, exact.x, strict=True))
    value = sum((c * x for c, x in terms if c and x), Fraction(problem.offset))
    return replace(
        outcome,
        x=floats(exact.x[:n]),
        activity=floats(exact.x[n:]),
        y=floats(exact.y),
        reduced=floats(exact.d[:n]),
        basis=Basis(exact.codes[:n].copy(), exact.codes[n:].copy()),
        objective=float(value),
        bound=float(value),
    )
