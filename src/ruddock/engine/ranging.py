"""Sensitivity of an optimal plan: true prices and ranges, whatever the basis.

All answers come from small changes of two linear problems and so belong to the optimal value and the plan,
not to one basis among many (Koltai and Terlaky 2000):

- the *tangent problem*: directions ``h`` in which the plan can move, at least cost. With one limit moved by
  one unit its least cost is the price of that unit; with one component of ``h`` held at 1 it is how far that
  coefficient can fall before the plan gives way;
- the *optimal face*, on which a limit is moved as far as its price stays true.
"""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.outcome import AT_UPPER, BASIC, FEASIBILITY, Basis, Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.problem import Floats, Problem

FURTHER = 1e-3  # of a reach, where it is seen whether there are plans beyond
SAME_PRICE = 1e-9  # relative: prices nearer to zero, or to one another, are the same


class Side(NamedTuple):
    """What moving a limit one way does.

    Attributes
    ----------
    price : change of the minimised objective per unit more of the limit; infinite if there is no plan at all
    reach : how far, as a distance, the limit can move at that price; infinite if nothing ends it
    ends : ``price`` (another price follows), ``no plan`` (nothing is feasible beyond), or ``never``
    """

    price: float
    reach: float
    ends: str


class Ranging:
    """Prices and ranges of a linear problem around an optimal plan.

    Parameters
    ----------
    problem : Problem
        Kinds are ignored.
    outcome : Outcome
        Optimal, with a basis.
    """

    def __init__(self, problem: Problem, outcome: Outcome) -> None:
        assert outcome.x is not None
        assert outcome.activity is not None
        assert outcome.basis is not None
        self.problem, self.outcome = problem, outcome
        self.x, self.activity = outcome.x, outcome.activity
        p = replace(problem, kinds=np.zeros_like(problem.kinds), offset=0.0)
        at_lower, at_upper = _at(self.x, p.lower), _at(self.x, p.upper)
        self._rows = csr_matrix(p.matrix())
        self._sizes = abs(self._rows).T
        self.at_lower, self._at_upper = at_lower, at_upper
        self.row_low, self.row_high = _at(self.activity, p.row_lower), _at(self.activity, p.row_upper)
        self._tangent = LinearSolver(
            replace(
                p,
                lower=np.where(at_lower, 0.0, -np.inf),
                upper=np.where(at_upper, 0.0, np.inf),
                row_lower=np.where(self.row_low, 0.0, -np.inf),
                row_upper=np.where(self.row_high, 0.0, np.inf),
            )
        )
        self._plans = LinearSolver(replace(p, costs=np.zeros(p.n)))
        self._tangent.basis = outcome.basis

    def _direction(self) -> Outcome:
        """Solve the tangent problem as it stands, from the basis of the last time."""
        return self._tangent.solve()

    # ------------------------------------------------------------------ limits

    def price(self, row: int, side: str, step: float) -> float:
        """Return the price of a limit for a small move.

        Parameters
        ----------
        row : int
        side : ``lower``, ``upper`` or ``both`` (an equation)
        step : 1.0 for more of the limit, -1.0 for less
        """
        return self._moved(row, side, step)[0]

    def _moved(self, row: int, side: str, step: float) -> tuple[float, Outcome]:
        """Return the price of a limit for a small move, and the outcome whose dual values prove it."""
        binding = {"lower": self.row_low, "upper": self.row_high, "both": self.row_low}[side][row]
        if not binding:
            return 0.0, self.outcome
        before = (self._tangent.problem.row_lower[row], self._tangent.problem.row_upper[row])
        low = step if side in ("lower", "both") else before[0]
        high = step if side in ("upper", "both") else before[1]
        if low > high:
            return step * np.inf, self.outcome  # the other limit of the same row is in the way
        self._tangent.change_limits(row, low, high)
        outcome = self._direction()
        self._tangent.change_limits(row, *before)
        if outcome.status != "optimal":
            return step * np.inf, outcome
        return (step * outcome.objective + 0.0 if abs(outcome.objective) > SAME_PRICE else 0.0), outcome

    def side(self, row: int, side: str, step: float) -> Side:
        """Return price and reach of a limit for moves one way."""
        price, priced = self._moved(row, side, step)
        if np.isinf(price):
            return Side(price, 0.0, "no plan")
        relaxing = (step > 0) if side == "upper" else (step < 0)
        if price == 0.0 and relaxing and side != "both":
            return Side(0.0, np.inf, "never")
        return self._reach(row, side, step, price, priced)

    def _reach(self, row: int, side: str, step: float, price: float, priced: Outcome) -> Side:
        """Move a limit as far as its price holds: along the plans that are optimal at that price."""
        p, plans = self.problem, self._plans
        limit = float(p.row_lower[row] if side == "lower" else p.row_upper[row])
        low, high = p.row_lower.copy(), p.row_upper.copy()
        # the other limit of the same row stays
        if step > 0:
            low[row], high[row] = limit, high[row] if side == "lower" else np.inf
        else:
            low[row], high[row] = low[row] if side == "upper" else -np.inf, limit
        own = slice(*self._rows.indptr[row : row + 2])
        plans.change_costs(slice(None), 0.0)
        plans.change_costs(self._rows.indices[own], -step * self._rows.data[own])
        at_upper = self._keep_optimal(priced, low, high, row)
        outcome = plans.solve()
        if outcome.status == "unbounded":
            return Side(price, np.inf, "never")
        if outcome.status != "optimal" or outcome.activity is None:
            return Side(price, 0.0, "price")
        reach = max(0.0, step * (float(outcome.activity[row]) - limit))
        if side != "both" and (step > 0) == (side == "upper"):
            return Side(price, reach, "price")  # more room never leaves without a plan
        # tightened a little further: does anything feasible remain, whatever it costs?
        further = reach + FURTHER * max(1.0, reach)
        if step > 0:
            high[row] = min(high[row], limit + further)
        else:
            low[row] = max(low[row], limit - further)
        plans.change_bounds(slice(None), p.lower, p.upper)
        plans.change_limits(slice(None), low, high)
        plans.basis = _released(outcome.basis, *at_upper)
        farthest = plans.solve()
        if farthest.status == "optimal" and farthest.activity is not None:
            room = step * (float(farthest.activity[row]) - limit)
            if room <= reach + FEASIBILITY * max(1.0, reach):
                return Side(price, reach, "no plan")
        return Side(price, reach, "price")

    def _keep_optimal(self, priced: Outcome, low: Floats, high: Floats, row: int) -> tuple[np.ndarray, np.ndarray]:
        """Leave the plans that dual values prove optimal: what has a price stays at its bound (complementarity).

        Parameters
        ----------
        priced : Outcome
            Its dual values and reduced costs belong to the plan.
        low, high : arrays (m,)
            Limits of rows.
        row : int
            The one that moves.

        Returns
        -------
        bool arrays (n,) and (m,)
            Columns and rows that stay at their upper bound or limit.
        """
        assert priced.y is not None
        assert priced.reduced is not None
        assert priced.basis is not None
        p, plans, y, reduced = self.problem, self._plans, priced.y, priced.reduced
        # what is left by rounding of dual values would end a move that has no end
        rounding = SAME_PRICE * (np.abs(p.costs) + self._sizes @ np.abs(y))
        down, up = self.at_lower & (reduced > rounding), self._at_upper & (reduced < -rounding)
        plans.change_bounds(slice(None), np.where(up, p.upper, p.lower), np.where(down, p.lower, p.upper))
        row_down, row_up = self.row_low & (y > SAME_PRICE), self.row_high & (y < -SAME_PRICE)
        row_down[row] = row_up[row] = False
        plans.change_limits(slice(None), np.where(row_up, high, low), np.where(row_down, low, high))
        plans.basis = priced.basis
        return up, row_up

    # ------------------------------------------------------------------ coefficients

    def room(self, column: int, step: float) -> tuple[float, Floats | None]:
        """Return how far a cost can move one way with the plan still optimal, and what then moves.

        Parameters
        ----------
        column : int
        step : 1.0 for a higher cost, -1.0 for a lower one

        Returns
        -------
        room : float
            As a distance; infinite if the plan stays optimal whatever the cost.
        direction : array (n,) or None
            The change of all columns, per unit of this one, that pays beyond.
        """
        lower, upper = self._tangent.lower[column], self._tangent.upper[column]
        if (step > 0 and lower == 0.0) or (step < 0 and upper == 0.0):
            return np.inf, None  # a higher cost does not drive a column below its lower bound
        self._tangent.change_bounds(column, -step, -step)
        outcome = self._direction()
        self._tangent.change_bounds(column, lower, upper)
        if outcome.status != "optimal" or outcome.x is None:
            return np.inf, None
        room = outcome.objective if outcome.objective > SAME_PRICE * (1.0 + abs(self.problem.costs[column])) else 0.0
        return room, outcome.x


def _released(basis: Basis | None, columns: np.ndarray, rows: np.ndarray) -> Basis:
    """Return a basis in which what was fixed at an upper bound or limit stays there when it is no longer fixed."""
    assert basis is not None
    parts = ((basis.columns, columns), (basis.rows, rows))
    return Basis(*(np.where(at_upper & (codes != BASIC), AT_UPPER, codes).astype(np.int8) for codes, at_upper in parts))


def _at(values: Floats, limits: Floats) -> np.ndarray:
    """Say which values are at their limit, within the tolerance."""
    with np.errstate(invalid="ignore"):
        distance = np.abs(values - limits)
    return np.isfinite(limits) & (distance <= FEASIBILITY * np.maximum(1.0, np.abs(limits)))
