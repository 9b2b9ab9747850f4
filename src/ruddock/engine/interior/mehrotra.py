"""The primal-dual interior-point method with predictor and correctors (Mehrotra 1992; Gondzio 1996).

The problem is ``min c'w`` with ``A w = b`` and bounds on ``w``; rows that are no equations get a
logical column. Iterates stay strictly between their bounds; the equations hold in the limit.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from scipy.sparse import csc_matrix, hstack, identity

from ruddock.engine.interior.normal import NormalEquations, StoppedError, TooDenseError
from ruddock.engine.simplex.scaling import geometric_scale
from ruddock.problem import Floats, Problem

MOST_STEPS = 150
PATIENCE, PROGRESS = 15, 0.9  # steps in which the largest error has to fall to this part of it
GAP = 1e-8  # relative, at the end
RESIDUAL = 1e-6  # relative; the crossover makes the equations hold again
LOOSE = 1e-3  # of an iterate whose residual falls no further
FAR = 1e8
BACK = 0.9995  # part of the way to the nearest bound that a step goes
CORRECTORS = (4.0, 20.0, 40.0)  # one more from each of these on: factorisation against one more direction
VECTOR_WORK = 30.0  # of a direction, for a column or logical
NARROW = 0.1  # products of slacks and duals within this part of their target, and its inverse, are well centred
FURTHER, MORE = 1.5, 0.3  # of the way that a step could go, that correctors aim at
LEAST_GAIN = 0.02  # in the lengths of both steps: with less, no more corrector is tried
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


class Direction(NamedTuple):
    """Changes of columns and logicals, of prices, and of the duals of lower and upper bounds."""

    w: Floats
    y: Floats
    low: Floats
    high: Floats

    def plus(self, other: Direction) -> Direction:
        """Return the sum with another one."""
        return Direction(*(mine + more for mine, more in zip(self, other, strict=True)))


class _Iterate:
    """Where the method stands.

    Parameters
    ----------
    problem : Problem
    halted, most, memory
        As of `interior_point`.
    """

    def __init__(self, problem: Problem, halted: Callable[[], bool], most: float, memory: float) -> None:
        equation = problem.row_lower == problem.row_upper
        self.rows = np.flatnonzero(~equation)
        self.open = np.flatnonzero(problem.lower < problem.upper)
        self.fixed = fixed = np.where(problem.lower == problem.upper, problem.lower, 0.0)
        columns = problem.matrix()[:, self.open]
        logicals = -identity(problem.m, format="csc")[:, self.rows]
        self.matrix = csc_matrix(hstack([columns, logicals], format="csc"))
        self.transposed = self.matrix.T  # of the same arrays
        self.b = np.where(equation, problem.row_lower, 0.0) - problem.activity(fixed)
        self.c = np.concatenate((problem.costs[self.open], np.zeros(len(self.rows))))
        self.offset = problem.objective(fixed)
        self.barrier = barrier = _Barrier(
            np.concatenate((problem.lower[self.open], problem.row_lower[self.rows])),
            np.concatenate((problem.upper[self.open], problem.row_upper[self.rows])),
        )
        self.normal = NormalEquations(columns, halted, most, memory)
        self.factorise(np.ones(len(self.c)))
        self.w = barrier.start(self.transposed @ self.normal.solve(self.b))
        self.y = self.normal.solve(self.matrix @ self.c)
        reduced = self.c - self.transposed @ self.y
        # between their mean, which is nearer to an optimum, and their largest, which is better centred
        size = max(1.0, np.sqrt(_mean(reduced) * float(np.abs(reduced).max(initial=0.0))))
        self.zl = np.where(barrier.low, np.maximum(reduced, 0.0) + size, 0.0)
        self.zu = np.where(barrier.high, np.maximum(-reduced, 0.0) + size, 0.0)
        self.measure()

    def measure(self) -> None:
        """Work out how far the iterate is from an optimum."""
        self.tl, self.tu = self.barrier.slacks(self.w)
        self.missing = self.b - self.matrix @ self.w
        self.dual_missing = self.c - self.transposed @ self.y - self.zl + self.zu
        self.gap = float(self.tl @ self.zl + self.tu @ self.zu)
        self.mu = self.gap / max(1, self.barrier.count)
        self.objective = float(self.c @ self.w)
        self.errors = (
            np.abs(self.missing).max(initial=0.0) / (1.0 + np.abs(self.b).max(initial=0.0)),
            np.abs(self.dual_missing).max(initial=0.0) / (1.0 + np.abs(self.c).max(initial=0.0)),
            self.gap / (1.0 + abs(self.objective)),
        )

    def factorise(self, weights: Floats) -> None:
        """Factorise the normal equations with weights of all columns."""
        e, k = np.zeros(self.matrix.shape[0]), len(self.open)
        e[self.rows] = weights[k:]
        self.normal.factorise(weights[:k], e)

    def curve(self) -> None:
        """Factorise the equations of the next step.

        Raises
        ------
        ArithmeticError
        """
        barrier = self.barrier
        curvature = np.where(barrier.low, self.zl / self.tl, 0.0) + np.where(barrier.high, self.zu / self.tu, 0.0)
        free = ~(barrier.low | barrier.high)
        curvature[free] = FREE_WEIGHT * max(1.0, self.mu) / (1.0 + np.abs(self.w[free]))
        self.weights = 1.0 / np.maximum(curvature, 1e-18)
        self.factorise(self.weights)

    def direction(self, rl: Floats, ru: Floats, *, missing: bool = True) -> Direction:
        """Solve the Newton system for changes of complementarity, and for what is missing where that is wanted."""
        low, high = self.barrier.low, self.barrier.high
        h = np.where(high, ru / self.tu, 0.0) - np.where(low, rl / self.tl, 0.0)
        right = self.missing if missing else np.zeros(len(self.b))
        if missing:
            h += self.dual_missing
        dy = self.normal.solve(right + self.matrix @ (self.weights * h))
        dw = self.weights * (self.transposed @ dy - h)
        dzl = np.where(low, (rl - self.zl * dw) / self.tl, 0.0)
        dzu = np.where(high, (ru + self.zu * dw) / self.tu, 0.0)
        return Direction(dw, dy, dzl, dzu)

    def lengths(self, d: Direction) -> tuple[float, float]:
        """Return how far values and duals can go along a direction."""
        low, high = self.barrier.low, self.barrier.high
        primal = _step((self.tl, d.w, low), (self.tu, -d.w, high))
        return primal, _step((self.zl, d.low, low), (self.zu, d.high, high))

    def products(self, d: Direction, primal: float, dual: float) -> tuple[Floats, Floats]:
        """Return slacks times duals after a step, for lower and for upper bounds."""
        low, high = self.barrier.low, self.barrier.high
        return (
            (self.tl + primal * np.where(low, d.w, 0.0)) * (self.zl + dual * d.low),
            (self.tu - primal * np.where(high, d.w, 0.0)) * (self.zu + dual * d.high),
        )

    def predicted(self) -> tuple[Direction, float]:
        """Return predictor and corrector together (Mehrotra 1992), and the complementarity they aim at."""
        affine = self.direction(-self.tl * self.zl, -self.tu * self.zu)
        after = sum(float(part.sum()) for part in self.products(affine, *self.lengths(affine)))
        target = self.mu * min(1.0, max(0.0, after / self.gap)) ** 3 if self.gap > 0 else 0.0
        both = self.direction(
            target - self.tl * self.zl - affine.w * affine.low, target - self.tu * self.zu + affine.w * affine.high
        )
        return both, target

    def centred(self, d: Direction, target: float, most: int) -> Direction:
        """Return a direction that can be followed further, by correctors that bring outlying products back.

        Each takes one more solve with the same factors (Gondzio 1996; Colombo and Gondzio 2008).
        """
        for _ in range(most):
            primal, dual = self.lengths(d)
            low, high = (
                np.maximum(np.clip(v, NARROW * target, target / NARROW) - v, -target / NARROW)
                for v in self.products(d, *(min(1.0, FURTHER * length + MORE) for length in (primal, dual)))
            )
            low, high = np.where(self.barrier.low, low, 0.0), np.where(self.barrier.high, high, 0.0)
            better = d.plus(self.direction(low, high, missing=False))
            gained = self.lengths(better)
            if gained[0] + gained[1] < primal + dual + LEAST_GAIN:
                break
            d = better
        return d

    def move(self, d: Direction) -> None:
        """Follow a direction nearly as far as it goes."""
        primal, dual = (BACK * length for length in self.lengths(d))
        self.w = self.w + primal * d.w
        self.y, self.zl, self.zu = self.y + dual * d.y, self.zl + dual * d.low, self.zu + dual * d.high
        self.measure()


def _interior_point(
    problem: Problem,
    stopped: Callable[[int, float, float], bool] | None,
    halted: Callable[[], bool],
    most: float,
    memory: float,
) -> Interior:
    rows, columns = geometric_scale(problem)
    at = _Iterate(_scaled(problem, rows, columns), halted, most, memory)
    direction_work = at.normal.solve_work + VECTOR_WORK * len(at.c)
    correctors = sum(at.normal.work >= ratio * direction_work for ratio in CORRECTORS)
    best, converged, steps, since = np.inf, False, 0, 0
    for steps in range(MOST_STEPS):
        worst = float(np.max(at.errors))  # one that is unknown counts
        if worst < PROGRESS * best:
            best, since = worst, steps
        if at.errors[2] < GAP and (worst < RESIDUAL or (worst < LOOSE and steps - since > 1)):
            converged = True
            break
        # what runs away, or stays where it is, has no optimum, or is too hard for this method
        if not np.isfinite(worst) or worst > 1e8 * max(best, 1e-8) or steps - since > PATIENCE:
            break
        objective = at.objective + at.offset
        if stopped is not None and stopped(steps, objective, objective - at.gap):
            break
        try:
            at.curve()
        except ArithmeticError:
            break
        at.move(at.centred(*at.predicted(), correctors))
    x = at.fixed.copy()
    x[at.open] = at.w[: len(at.open)]
    x, y = x * columns, at.y * rows
    d = problem.costs - problem.priced(y)
    return Interior(converged, np.concatenate((x, problem.activity(x))), np.concatenate((d, y)), steps)


def _scaled(problem: Problem, rows: Floats, columns: Floats) -> Problem:
    """Return a problem with rows and columns multiplied by factors."""
    owner = np.repeat(np.arange(problem.n), np.diff(problem.starts))
    return replace(
        problem,
        values=problem.values * rows[problem.indices] * columns[owner],
        row_lower=problem.row_lower * rows,
        row_upper=problem.row_upper * rows,
        lower=problem.lower / columns,
        upper=problem.upper / columns,
        costs=problem.costs * columns,
    )


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
