"""A small linear problem settled in exact arithmetic, where floating point leaves its answer in doubt.

The primal simplex method in fractions, from the basis that floating point ended with. Variables are taken by their
numbers (Bland 1977), so it ends; what it says needs no tolerance.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np

from ruddock.engine.exact import ZERO, ExactBasis, OutOfTimeError, rounded
from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FREE, Basis, Codes, Limits, Outcome
from ruddock.problem import Floats, Problem

MOST_STEPS = 1000
Step = tuple[Fraction, int, int, int]  # how far, the variable that stops it, its position, and the code that it takes


def settle(problem: Problem, basis: Basis | None, limits: Limits) -> Outcome | None:
    """Return the proven outcome of a linear problem; None where that takes too long.

    Values, dual values, proofs and rays are the exact ones, rounded once.
    """
    codes = _logical(problem) if basis is None else np.concatenate((basis.columns, basis.rows)).astype(np.int8)
    try:
        exact = ExactBasis(problem, codes, limits)
        for _ in range(MOST_STEPS):
            try:
                exact.compute()
            except ZeroDivisionError:  # singular: from the logicals, then
                exact.codes = codes = _logical(problem)
                exact.compute()
            found = _step(problem, exact)
            if found is not None:
                return found
    except (OutOfTimeError, MemoryError):
        pass
    return None


def _logical(problem: Problem) -> Codes:
    """Return the codes of the basis of all logicals."""
    low, high = np.isfinite(problem.lower), np.isfinite(problem.upper)
    columns = np.where(low, AT_LOWER, np.where(high, AT_UPPER, FREE))
    return np.concatenate((columns, np.full(problem.m, BASIC))).astype(np.int8)


def _step(problem: Problem, exact: ExactBasis) -> Outcome | None:
    """Make one exchange; return the outcome if there is none to make."""
    sides = [exact.side(j) for j in exact.basic]
    first = any(sides)
    if first:
        y = exact.factor.backward([Fraction(side) for side in sides])
        products = exact.products(y)
        reduced = [-value if code != BASIC else ZERO for value, code in zip(products, exact.codes, strict=True)]
    else:
        y, reduced = exact.y, exact.d
    entering = exact.entering(reduced)
    if entering is None:
        if first:
            return _infeasible(problem, y)
        objective = problem.objective(np.array([float(x) for x in exact.x[: problem.n]]))
        plan = Outcome("optimal", objective=objective, bound=objective)
        return rounded(problem, plan, exact)
    up = reduced[entering] < 0
    column = exact.factor.forward(exact.dense(entering))
    step = _ratio(exact, entering, column, up, sides)
    if step is None:
        return _unbounded(problem, exact, entering, column, up)
    _, leaving, position, code = step
    if position < 0:
        exact.codes[entering] = AT_UPPER if up else AT_LOWER
    else:
        exact.codes[leaving], exact.codes[entering] = code, BASIC
    return None


def _ratio(exact: ExactBasis, entering: int, column: list[Fraction], up: bool, sides: list[int]) -> Step | None:
    """Return what stops the entering variable first; of several the one with the least number."""
    best: Step | None = None
    room = exact.upper[entering] - exact.lower[entering]
    if np.isfinite(room):
        best = (Fraction(float(exact.upper[entering])) - Fraction(float(exact.lower[entering])), entering, -1, 0)
    for position, j in exact.clock.through(enumerate(exact.basic)):
        fall = column[position] if up else -column[position]
        if not fall:
            continue
        # one that misses a bound stops where it meets it; the others at the bound ahead
        down = fall > 0
        at_lower = (sides[position] == 0 and down) or (sides[position] < 0 and not down)
        at_upper = (sides[position] == 0 and not down) or (sides[position] > 0 and down)
        bound = exact.lower[j] if at_lower else exact.upper[j]
        if not (at_lower or at_upper) or not np.isfinite(bound):
            continue
        found = (exact.x[j] - Fraction(float(bound))) / fall, j, position, AT_LOWER if at_lower else AT_UPPER
        if best is None or found[:2] < best[:2]:
            best = found
    return best


def _infeasible(problem: Problem, y: list[Fraction]) -> Outcome:
    """Return the outcome of a sum of infeasibilities that is at its least."""
    size = max(abs(value) for value in y)
    return Outcome("infeasible", proof=np.array([float(value / size) for value in y]))


def _unbounded(problem: Problem, exact: ExactBasis, entering: int, column: list[Fraction], up: bool) -> Outcome:
    """Return the outcome of a direction that nothing stops."""
    sign = 1 if up else -1
    ray = [ZERO] * len(exact.x)
    ray[entering] = Fraction(sign)
    for position, j in enumerate(exact.basic):
        ray[j] = -sign * column[position]
    size = max(abs(value) for value in ray[: problem.n])
    x: Floats = np.array([float(value) for value in exact.x[: problem.n]])
    n = problem.n
    basis = Basis(exact.codes[:n].copy(), exact.codes[n:].copy())
    direction = np.array([float(value / size) for value in ray[:n]])
    outcome = Outcome("unbounded", x=x, activity=problem.activity(x), ray=direction, basis=basis)
    return replace(outcome, objective=problem.objective(x))
