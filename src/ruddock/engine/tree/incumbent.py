"""The best plan of a search, and what a better one must be worth."""

from __future__ import annotations

import numpy as np

from ruddock.engine import certificates
from ruddock.engine.outcome import Options
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.domain import Domain, Step
from ruddock.engine.tree.effort import Effort
from ruddock.problem import Floats, Problem

Rows = tuple[np.ndarray, Floats, Floats]
EARLIER = 5  # of the best plans that are kept


class Incumbent:
    """Plans, judged on the problem as it is.

    Attributes
    ----------
    problem : Problem
        With the rows that the caller's check has added so far.
    best : float array, shape (n,), or None
    value : float
        Its objective; infinite without one.
    earlier : list of arrays
        The best plans so far, the best one last.
    """

    def __init__(self, problem: Problem, domain: Domain, options: Options, effort: Effort) -> None:
        self.problem, self._domain, self._options, self._effort = problem, domain, options, effort
        self.step = Step.of(problem, options.goal.unit)
        self.best: Floats | None = None
        self.value = float("inf")
        self.earlier: list[Floats] = []
        self._new_rows: list[Rows] = []
        self._rest: LinearSolver | None = None
        # what was asked for last, and the answer
        self._threshold: tuple[tuple[float, float, float] | None, float] = None, 0.0
        self._polished = float("inf")

    def __getstate__(self) -> dict[str, object]:
        return {**self.__dict__, "_rest": None}

    def know_step(self, step: Step) -> None:
        """Take the step of an objective that has come to be known better."""
        self.step = step

    def threshold(self, gap: float = 0.0) -> float:
        """Return the objective value from which on a plan is no better than the best, by a gap."""
        if self.best is None:
            return float("inf")
        asked = (self.value, gap, self.step.size)
        if self._threshold[0] != asked:
            better = max(self._options.goal.slack(self.value, gap), self.step.surely(self.value))
            self._threshold = asked, self.value - better
        return self._threshold[1]

    def settled(self, bound: float) -> bool:
        """Say whether the best plan is as good as a node with this bound can hold."""
        return self.best is not None and bound >= self.threshold(self._effort.limits.gap)

    def try_plan(self, x: Floats) -> bool:
        """Snap ``x`` to allowed values, solve the continuous rest, and keep it if it is the best so far.

        Returns whether the snapped plan is feasible on the original data.
        """
        lower, upper = self._domain.fixing(x)
        if (lower > upper).any():
            return False
        if (lower == upper).all():
            return self._keep(lower, lower, upper)
        if not self._options.lazy and not certificates.possible(self.problem, lower, upper):
            return False
        if self._rest is None or self._rest.problem.m != self.problem.m:
            # on the problem as it is, so that a plan never breaks it by a hair
            self._rest = LinearSolver(self.problem, counters=self._effort.counters)
        self._rest.change_bounds(slice(None), lower, upper)
        outcome = self._rest.solve(self._effort.quiet(), cutoff=self.value)
        if outcome.status != "optimal" or outcome.x is None:
            return False
        return self._keep(outcome.x, lower, upper)

    def _keep(self, plan: Floats, lower: Floats, upper: Floats) -> bool:
        """Keep a plan if it is feasible on the original data and the best so far; say whether it is feasible."""
        activity = self.problem.activity(plan)
        if not certificates.plan_holds(self.problem, plan, activity, lower, upper):
            return False
        value = self.problem.objective(plan)
        if value < self.value and not self.breaks(plan):
            self.best, self.value = plan.copy(), value
            self.earlier = [*self.earlier[1 - EARLIER :], self.best]
        return True

    def begin_polish(self) -> bool:
        """Say whether the best plan has not been polished yet; from now on it counts as such."""
        known, self._polished = self._polished, self.value
        return known != self.value

    def hand_over_rows(self) -> list[Rows]:
        """Return the rows of the caller's check that nobody has asked for yet."""
        rows, self._new_rows = self._new_rows, []
        return rows

    def breaks(self, x: Floats) -> bool:
        """Ask the caller's check about a whole plan; rows that it breaks join the problem."""
        rows = self._options.lazy(x) if self._options.lazy is not None else None
        if not rows:
            return False
        matrix = np.zeros((len(rows), self.problem.n))
        for k, (columns, values, _, _) in enumerate(rows):
            np.add.at(matrix[k], columns, values)
        low, high = np.array([row[2] for row in rows]), np.array([row[3] for row in rows])
        self.problem = self.problem.with_rows(matrix, low, high)
        self._new_rows.append((matrix, low, high))
        return True
