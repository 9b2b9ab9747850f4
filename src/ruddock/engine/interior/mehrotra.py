"""The primal-dual interior-point method with predictor and corrector (Mehrotra 1992).

The problem is ``min c'w`` with ``A w = b`` and bounds on ``w``; rows that are no equations get a
logical column. Iterates stay strictly between their bounds; the equations hold in the limit.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csc_matrix, hstack, identity

from ruddock.engine.interior.normal import NormalEquations, StoppedError, TooDenseError
from ruddock.problem import Floats, Problem

MOST_STEPS = 150
GAP = 1e-8  # relative, at the end
RESIDUAL = 1e-6  # relative; the crossover makes the equations hold again
FAR = 1e8
BACK = 0.9995  # part of the way to the nearest bound that a step goes
FREE_WEIGHT = 1e-8  # stands in for the barrier of a variable without bounds, relative to its size


@dataclass
class Interior:
    """Where the method ended.

    Attributes
    ----------
    converged : bool
    values, reduced : arrays, shape (n + m,)
        Of columns, then of row activities.
    steps : int
    """

    converged: bool
    values: Floats
    reduced: Floats
    steps: int


class _Barrier:
    """Variables with their bounds and the duals of those."""

    def __init__(self, lower: Floats, upper: Floats) -> None:
        # bounds that are very far would only spoil the numbers of the others
        self.lower = lower = np.where(lower <= -FAR, -np.inf, lower)
        self.upper = upper = np.where(upper >= FAR, np.inf, upper)
        self.low, self.high = np.isfinite(lower), np.isfinite(upper)
        self.count = int(self.low.sum() + self.high.sum())

    def start(self, w: Floats) -> Floats:
        """Return ``w`` moved well inside its bounds."""
        room = np.where(self.low & self.high, self.upper - self.lower, np.inf)
        distance = np.minimum(max(1.0, _mean(w)), 0.25 * room)
        w = np.where(self.low, np.maximum(w, self.lower + distance), w)
        return np.where(self.high, np.minimum(w, self.upper - distance), w)

    def slacks(self, w: Floats) -> tuple[Floats, Floats]:
        """Return the distances to the bounds, kept above rounding; 1 where there is none."""
        least = 1e-15 * (1.0 + np.abs(w))
        low = np.where(self.low, np.maximum(w - self.lower, least), 1.0)
        return low, np.where(self.high, np.maximum(self.upper - w, least), 1.0)


def interior_point(
    problem: Problem,
    stopped: Callable[[int, float, float], bool] | None = None,
    halted: Callable[[], bool] = lambda: False,
    most: float = float("inf"),
    memory: float = float("inf"),
) -> Interior:
    """Solve a linear problem to moderate accuracy.

    Parameters
    ----------
    stopped : callable, optional
        Told the steps made, the objective and its bound; True ends the method.
    halted : callable, optional
        Asked between portions of one step; True ends the method.
    most : float
        Multiplications of one factorisation, beyond which nothing is begun.
    memory : float
        Bytes of one, beyond which nothing is begun.
    """
    try:
        with np.errstate(over="ignore", invalid="ignore"):  # what runs away is seen by its errors
            return _interior_point(problem, stopped, halted, most, memory)
    except (StoppedError, TooDenseError, MemoryError):
        return Interior(False, np.zeros(problem.n + problem.m), np.zeros(problem.n + problem.m), 0)


def _interior_point(
    problem: Problem,
    stopped: Callable[[int, float, float], bool] | None,
    halted: Callable[[], bool],
    most: float,
    memory: float,
) -> Interior:
    m = problem.m
    equation = problem.row_lower == problem.row_upper
    rows = np.flatnonzero(~equation)
    open_ = np.flatnonzero(problem.lower < problem.upper)
    k = len(open_)
    columns = problem.matrix()[:, open_]
    fixed = np.where(problem.lower == problem.upper, problem.lower, 0.0)
    matrix = csc_matrix(hstack([columns, -identity(m, format="csc")[:, rows]], format="csc"))
    transposed = csc_matrix(matrix.T)
    b = np.where(equation, problem.row_lower, 0.0) - problem.activity(fixed)
    offset = problem.objective(fixed)
    c = np.concatenate((problem.costs[open_], np.zeros(len(rows))))
    barrier = _Barrier(
        np.concatenate((problem.lower[open_], problem.row_lower[rows])),
        np.concatenate((problem.upper[open_], problem.row_upper[rows])),
    )
    low, high = barrier.low, barrier.high
    normal = NormalEquations(columns, halted, most, memory)

    def factorise(weights: Floats) -> None:
        e = np.zeros(m)
        e[rows] = weights[k:]
        normal.factorise(weights[:k], e)

    factorise(np.ones(len(c)))
    w = barrier.start(transposed @ normal.solve(b))
    y = normal.solve(matrix @ c)
    reduced = c - transposed @ y
    size = max(1.0, _mean(reduced))
    zl = np.where(low, np.maximum(reduced, 0.0) + size, 0.0)
    zu = np.where(high, np.maximum(-reduced, 0.0) + size, 0.0)
    b_size, c_size = 1.0 + np.abs(b).max(initial=0.0), 1.0 + np.abs(c).max(initial=0.0)
    best, converged, steps = np.inf, False, 0
    for steps in range(MOST_STEPS):
        tl, tu = barrier.slacks(w)
        missing = b - matrix @ w
        dual_missing = c - transposed @ y - zl + zu
        gap = float(tl @ zl + tu @ zu)
        mu = gap / max(1, barrier.count)
        objective = float(c @ w)
        errors = (
            np.abs(missing).max(initial=0.0) / b_size,
            np.abs(dual_missing).max(initial=0.0) / c_size,
            gap / (1.0 + abs(objective)),
        )
        worst = float(np.max(errors))  # one that is unknown counts
        best = min(best, worst)
        if errors[2] < GAP and worst < RESIDUAL:
            converged = True
            break
        # what runs away has no optimum, or is too hard for this method
        if not np.isfinite(worst) or worst > 1e8 * max(best, 1e-8):
            break
        if stopped is not None and stopped(steps, objective + offset, objective - gap + offset):
            break
        curvature = np.where(low, zl / tl, 0.0) + np.where(high, zu / tu, 0.0)
        free = ~(low | high)
        curvature[free] = FREE_WEIGHT * max(1.0, mu) / (1.0 + np.abs(w[free]))
        weights = 1.0 / np.maximum(curvature, 1e-18)
        try:
            factorise(weights)
        except ArithmeticError:
            break

        def direction(
            rl: Floats, ru: Floats, missing: Floats = missing, dual_missing: Floats = dual_missing,
            weights: Floats = weights, tl: Floats = tl, tu: Floats = tu, zl: Floats = zl, zu: Floats = zu,
        ) -> tuple[Floats, Floats, Floats, Floats]:  # fmt: skip
            """Solve the Newton system for given complementarity targets."""
            h = dual_missing - np.where(low, rl / tl, 0.0) + np.where(high, ru / tu, 0.0)
            dy = normal.solve(missing + matrix @ (weights * h))
            dw = weights * (transposed @ dy - h)
            dzl = np.where(low, (rl - zl * dw) / tl, 0.0)
            dzu = np.where(high, (ru + zu * dw) / tu, 0.0)
            return dw, dy, dzl, dzu

        dw, dy, dzl, dzu = direction(-tl * zl, -tu * zu)
        primal, dual = _step((tl, dw, low), (tu, -dw, high)), _step((zl, dzl, low), (zu, dzu, high))
        after = float(
            (tl + primal * np.where(low, dw, 0.0)) @ (zl + dual * dzl)
            + (tu - primal * np.where(high, dw, 0.0)) @ (zu + dual * dzu)
        )
        sigma = min(1.0, max(0.0, after / gap)) ** 3 if gap > 0 else 0.0
        target = sigma * mu
        dw, dy, dzl, dzu = direction(target - tl * zl - dw * dzl, target - tu * zu + dw * dzu)
        primal, dual = _step((tl, dw, low), (tu, -dw, high)), _step((zl, dzl, low), (zu, dzu, high))
        primal, dual = BACK * primal, BACK * dual
        w = w + primal * dw
        y, zl, zu = y + dual * dy, zl + dual * dzl, zu + dual * dzu
    x = fixed
    x[open_] = w[:k]
    d = problem.costs - problem.matrix().T @ y
    return Interior(converged, np.concatenate((x, problem.activity(x))), np.concatenate((d, y)), steps)


def _step(*moves: tuple[Floats, Floats, np.ndarray]) -> float:
    """Return how far along their changes the quantities marked stay positive, at most a full step."""
    most = 1.0 / BACK
    for quantity, change, held in moves:
        falls = held & (change < 0)
        if falls.any():
            most = min(most, float((quantity[falls] / -change[falls]).min()))
    return most


def _mean(values: Floats) -> float:
    """Return the mean size of values; 0 of none."""
    return float(np.abs(values).mean()) if len(values) else 0.0
