"""The restarted primal-dual hybrid gradient method for linear problems (Applegate and others 2021; Lu and Yang 2024).

A step costs two products with the matrix, and needs no memory beyond it. Rows and columns are scaled so that none
dominates; steps are anchored at a point that moves on when enough is gained; the weight between the primal and the dual
side follows what the last stretch has moved. Rounding and slow ends remain: what comes out holds within a tolerance.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix

from ruddock.engine.first_order.gradient import HybridGradient
from ruddock.problem import Floats, Problem

ACCURACY = 1e-6  # relative, of rows, reduced costs and the objective, at the end
ROUGH = 1e-5  # the same, where a crossover and the simplex method end what is solved once more soon
SCALINGS = 10  # rounds of making the largest entries of rows and columns alike
NORM_STEPS, ROUNDED_UP = 30, 1.1  # of the power method, and how far it may be below
SAFE = 0.99  # of the largest step size that converges
BETWEEN = 32  # steps between two looks
PORTION = 5_000_000  # entries, rows and columns that steps may go through without a look at the limits
ENOUGH, SOME, LATE = 0.2, 0.8, 0.36  # residual left, and share of all steps, at which to restart


@dataclass
class Approximate:
    """Where the method ended.

    Attributes
    ----------
    converged : bool
    x, y : float arrays, shapes (n,) and (m,)
    """

    converged: bool
    x: Floats
    y: Floats


class _Scaled:
    """A problem with evened rows and columns."""

    def __init__(self, problem: Problem, stopped: Callable[[], bool]) -> None:
        self.problem = problem
        matrix = csr_matrix(problem.matrix(), dtype=float)
        rows, columns = np.ones(problem.m), np.ones(problem.n)
        size = abs(matrix)
        owner = np.repeat(np.arange(problem.m), np.diff(matrix.indptr))
        for turn in range(SCALINGS + 1):
            _halt(stopped)
            left = size.data * rows[owner] * columns[matrix.indices]
            by_columns = csr_matrix((left, matrix.indices, matrix.indptr), shape=matrix.shape).tocsc()
            measure = np.maximum if turn < SCALINGS else np.add  # the largest entry, at the end the sum
            row_size = _reduced(measure, left, matrix.indptr)
            column_size = _reduced(measure, by_columns.data, by_columns.indptr)
            rows /= np.sqrt(np.where(row_size > 0, row_size, 1.0))
            columns /= np.sqrt(np.where(column_size > 0, column_size, 1.0))
        self.rows, self.columns = rows, columns
        values = matrix.data * rows[owner] * columns[matrix.indices]
        scaled = csr_matrix((values, matrix.indices, matrix.indptr), shape=matrix.shape)
        self._by_rows, self._by_columns = _parts(scaled), _parts(scaled.tocsc())
        # the last round alone makes it at most 1 (Pock and Chambolle 2011)
        self.norm = min(1.0, ROUNDED_UP * _norm(scaled, stopped))

    def gradient(self, problem: Problem) -> HybridGradient:
        """Return the steps of a problem with the same matrix."""
        p = problem
        return HybridGradient(
            self._by_columns,
            self._by_rows,
            p.lower / self.columns,
            p.upper / self.columns,
            p.costs * self.columns,
            p.row_lower * self.rows,
            p.row_upper * self.rows,
        )


def _parts(matrix: csr_matrix | csc_matrix) -> tuple[np.ndarray, np.ndarray, Floats]:
    return matrix.indptr.astype(np.int64), matrix.indices.astype(np.int32), matrix.data


def _reduced(measure: np.ufunc, values: Floats, starts: np.ndarray) -> Floats:
    """Return the largest, or the sum, of the values that belong to each row or column; 0 where there is none."""
    held = np.flatnonzero(np.diff(starts))
    result = np.zeros(len(starts) - 1)
    if len(held):
        result[held] = measure.reduceat(values, starts[held])
    return result


def _norm(matrix: csr_matrix, stopped: Callable[[], bool]) -> float:
    """Return the largest singular value of a matrix, about, from below."""
    v = np.random.default_rng(7).uniform(0.5, 1.0, matrix.shape[1])
    size = 0.0
    for _ in range(NORM_STEPS):
        _halt(stopped)
        length = float(np.linalg.norm(v))
        if not length:
            return 1.0
        u = matrix @ (v / length)
        size = max(size, float(np.linalg.norm(u)))
        v = matrix.T @ u
    return size if size else 1.0


class Restarted:
    """The method on one problem.

    Parameters
    ----------
    problem : Problem
    halted : callable
        Told the steps made, the objective, its bound, and how far rows are missed; True ends the way to the optimum.
    most : int
        Steps that one call may take.
    accuracy : float
    stopped : callable
        True ends whatever is under way, between two portions of steps or while rows and columns are scaled.
    """

    def __init__(
        self,
        problem: Problem,
        halted: Callable[[int, float, float, float], bool],
        most: int,
        accuracy: float = ACCURACY,
        *,
        stopped: Callable[[], bool],
    ) -> None:
        self._problem, self._halted, self._most, self._accuracy = problem, halted, most, accuracy
        self._stopped, self._portion = stopped, max(1, PORTION // (problem.nonzeros + problem.m + problem.n))
        p = problem
        self._low, self._high = np.isfinite(p.lower), np.isfinite(p.upper)
        low, high = np.isfinite(p.row_lower), np.isfinite(p.row_upper)
        self._ends = np.maximum(np.where(low, np.abs(p.row_lower), 0.0), np.where(high, np.abs(p.row_upper), 0.0))
        self._size = 1.0 + float(np.linalg.norm(self._ends))
        self.steps = 0

    @cached_property
    def _scaled(self) -> _Scaled:
        return _Scaled(self._problem, self._stopped)

    def solve(self) -> Approximate:
        """Solve within the accuracy."""
        p, costs = self._problem, self._problem.costs
        try:
            gradient = self._scaled.gradient(p)
        except HaltedError:
            return Approximate(False, np.clip(np.zeros(p.n), p.lower, p.upper), np.zeros(p.m))
        # both sides move alike where costs and limits are of one size
        size = float(np.linalg.norm(self._ends * self._scaled.rows))
        weight = float(np.linalg.norm(costs * self._scaled.columns)) / size if size else 1.0
        try:
            converged = self._run(gradient, weight if 1e-8 < weight < 1e8 else 1.0, lambda: self._accurate(gradient))
        except HaltedError:
            converged = False
        return Approximate(converged, self._x(gradient), self._y(gradient))

    def polish(self, x: Floats, feasible: Callable[[Floats], bool]) -> Floats | None:
        """Return a point near another that keeps rows and bounds to the last digit asked for; None if there is none.

        The same method without costs, which then converges fast (Applegate and others 2023).

        Raises
        ------
        HaltedError
            If it was stopped on the way; so does `polish_prices`.
        """
        gradient = self._scaled.gradient(replace(self._problem, costs=np.zeros(self._problem.n)))
        start = np.clip(x, self._problem.lower, self._problem.upper) / self._scaled.columns
        np.asarray(gradient.x)[:] = start
        np.asarray(gradient.anchor_x)[:] = start
        found = self._run(gradient, 1.0, lambda: feasible(self._x(gradient)))
        return self._x(gradient) if found else None

    def polish_prices(self, y: Floats, proves: Callable[[Floats], bool]) -> Floats | None:
        """Return dual values near others that prove a bound; None if there are none.

        The same method with all limits at zero, whose dual asks for nothing but the signs of reduced costs.
        """
        p = self._problem
        none = [np.where(np.isfinite(v), 0.0, v) for v in (p.lower, p.upper, p.row_lower, p.row_upper)]
        zero = replace(p, lower=none[0], upper=none[1], row_lower=none[2], row_upper=none[3])
        gradient = self._scaled.gradient(zero)
        start = y / self._scaled.rows
        np.asarray(gradient.y)[:] = start
        np.asarray(gradient.anchor_y)[:] = start
        found = self._run(gradient, 1.0, lambda: proves(self._y(gradient)))
        return self._y(gradient) if found else None

    # ------------------------------------------------------------------ steps

    def _run(self, gradient: HybridGradient, weight: float, done: Callable[[], bool]) -> bool:
        """Make steps until done; say whether that was reached."""
        step = SAFE / self._scaled.norm
        since = total = 0
        first = last = np.inf
        while total < self._most:
            primal, dual = step / weight, step * weight
            gradient.step(primal, dual)
            left = self._left(gradient, primal, dual)
            if not np.isfinite(left):
                return False
            if done():
                return True
            if since == 0:
                first = left
            due = (
                left <= ENOUGH * first or (left <= SOME * first and left > last) or since >= max(BETWEEN, LATE * total)
            )
            last = left
            if since and due:
                weight = self._weighed(gradient, weight)
                gradient.restart()
                since, last = 0, np.inf
                continue
            gradient.move(since)
            since += 1
            count = BETWEEN - since % BETWEEN
            end = since + count
            while since < end:
                _halt(self._stopped)
                part = min(self._portion, end - since)
                gradient.run(since, part, step / weight, step * weight)
                since += part
            total += count + 1
            self.steps += count + 1
        return False

    @staticmethod
    def _left(gradient: HybridGradient, primal: float, dual: float) -> float:
        """Return how far the plain step goes, in the norm in which it never grows."""
        dx = np.asarray(gradient.next_x) - np.asarray(gradient.x)
        dy = np.asarray(gradient.next_y) - np.asarray(gradient.y)
        return float(np.sqrt(dx @ dx / primal + dy @ dy / dual))

    @staticmethod
    def _weighed(gradient: HybridGradient, weight: float) -> float:
        """Return the weight by which both sides would have moved alike since the last restart, half way there."""
        dx = float(np.linalg.norm(np.asarray(gradient.next_x) - np.asarray(gradient.anchor_x)))
        dy = float(np.linalg.norm(np.asarray(gradient.next_y) - np.asarray(gradient.anchor_y)))
        if min(dx, dy) < 1e-12 or not np.isfinite(dx + dy):
            return weight
        return float(np.exp(0.5 * np.log(dy / dx) + 0.5 * np.log(weight)))

    # ------------------------------------------------------------------ in true units

    def _x(self, gradient: HybridGradient) -> Floats:
        x = np.asarray(gradient.next_x) * self._scaled.columns
        return np.clip(x, self._problem.lower, self._problem.upper)  # scaling back may have left them

    def _y(self, gradient: HybridGradient) -> Floats:
        return np.asarray(gradient.next_y) * self._scaled.rows

    def _accurate(self, gradient: HybridGradient) -> bool:
        """Say whether rows, reduced costs and both objectives agree within the accuracy, or the method is halted."""
        p, x, y = self._problem, self._x(gradient), self._y(gradient)
        activity, reduced = p.activity(x), p.costs - p.priced(y)
        missed = np.maximum(np.maximum(p.row_lower - activity, activity - p.row_upper), 0.0)
        wrong = np.where(self._low, np.minimum(reduced, 0.0), reduced)
        wrong = np.where(self._high, np.maximum(wrong, 0.0), wrong)
        objective = float(p.costs @ x)
        right = reduced - wrong
        bound = _sum(right, p.lower, p.upper) + _sum(y, p.row_lower, p.row_upper)
        if self._halted(self.steps, objective + p.offset, bound + p.offset, float(missed.max(initial=0.0))):
            raise HaltedError
        return (
            float(np.linalg.norm(missed)) <= self._accuracy * self._size
            and float(np.linalg.norm(wrong)) <= self._accuracy * (1.0 + float(np.linalg.norm(p.costs)))
            and abs(objective - bound) <= self._accuracy * (1.0 + abs(objective) + abs(bound))
        )


class HaltedError(Exception):
    """The method was halted."""


def _halt(stopped: Callable[[], bool]) -> None:
    if stopped():
        raise HaltedError


def _sum(prices: Floats, lower: Floats, upper: Floats) -> float:
    """Return what prices are worth at the limits that they stand for; those without limit count nothing."""
    side = np.where(prices > 0, lower, upper)
    held = (prices != 0) & np.isfinite(side)
    return float(prices[held] @ side[held])
