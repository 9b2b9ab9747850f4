"""What one unit more of a limit is truly worth, for the few limits that a plan shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from ruddock.engine.in_order import with_integers_fixed
from ruddock.engine.outcome import BASIC, FEASIBILITY, Outcome
from ruddock.engine.ranging import Ranging
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.modelling.lowering import lowered
from ruddock.modelling.relation import TURNED
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.plan import Plan
    from ruddock.problem import Problem

MOST_SIZE = 50_000  # rows and columns up to which prices of a degenerate plan are worked out one by one


class Worth(NamedTuple):
    """What a limit is worth for a small move, as written; NaN where there is then no plan.

    Attributes
    ----------
    more, less : change of the first objective per unit that the limit rises, and falls
    """

    more: float
    less: float

    @property
    def one(self) -> bool:
        """Whether it is the same upwards and downwards, so that one price says all."""
        if np.isnan(self.more) and np.isnan(self.less):
            return True
        return bool(abs(self.more + self.less) <= 1e-7 * max(1.0, abs(self.more)))


def worth_of(plan: Plan, rows: Sequence[int]) -> list[Worth] | None:
    """Return what the limits of some rows are worth; None where a plan is degenerate and too large to work it out."""
    y = plan.outcome.y
    assert y is not None
    if nondegenerate(plan):
        return [Worth(plan.sign * float(y[i]) + 0.0, -plan.sign * float(y[i]) + 0.0) for i in rows]
    problem = lowered(plan.formulation).base
    if problem.m + problem.n > MOST_SIZE:
        return None
    ranging = ranging_of(plan)
    relations = plan.constraints()["relation"].tolist()
    found = []
    for i in rows:
        side = row_side(plan.formulation, i, str(relations[i]))
        more, less = (ranging.price(i, side, step) for step in (1.0, -1.0))
        found.append(
            Worth(
                np.nan if np.isinf(more) else plan.sign * more + 0.0,
                np.nan if np.isinf(less) else -plan.sign * less + 0.0,
            )
        )
    return found


def nondegenerate(plan: Plan) -> bool:
    """Say whether no basic value is at a limit: then prices are the only ones, and hold both ways."""
    outcome, problem = plan.outcome, lowered(plan.formulation).base
    if outcome.basis is None or outcome.x is None or outcome.activity is None or len(plan.stages) > 1:
        return False
    basic, rows = outcome.basis.columns == BASIC, outcome.basis.rows == BASIC
    return not (
        _at_limit(outcome.x[basic], problem.lower[basic], problem.upper[basic])
        or _at_limit(outcome.activity[rows], problem.row_lower[rows], problem.row_upper[rows])
    )


def _at_limit(values: Floats, lower: Floats, upper: Floats) -> bool:
    for limit in (lower, upper):
        known = np.isfinite(limit)
        distance = np.abs(values[known] - limit[known])
        if (distance <= FEASIBILITY * np.maximum(1.0, np.abs(limit[known]))).any():
            return True
    return False


def ranging_of(plan: Plan) -> Ranging:
    """Return the prices and ranges of a plan for its first objective, integer decisions held."""
    problem = lowered(plan.formulation).problems[0]
    outcome = plan.outcome
    assert outcome.x is not None
    if problem.discrete:
        problem = with_integers_fixed(problem, outcome.x)
    if problem is not lowered(plan.formulation).problems[0] or outcome.basis is None or outcome.y is None:
        outcome = _solved_here(problem, outcome)
    return Ranging(problem, outcome)


def _solved_here(problem: Problem, outcome: Outcome) -> Outcome:
    """Solve a linear problem for its prices; the plan stays the one at hand where it is as good."""
    linear = LinearSolver(problem).solve()
    if linear.x is None or outcome.x is None or linear.status != "optimal":
        return linear
    if problem.objective(outcome.x) <= linear.objective + 1e-9 * max(1.0, abs(linear.objective)):
        return replace(linear, x=outcome.x, activity=problem.activity(outcome.x))
    return linear


def side_of(relation: str) -> str:
    """Return which limit of a row a relation as written is: the row is turned so that its limit moves alike."""
    return {"==": "both", ">=": "lower", "<=": "upper"}[relation]


def row_side(formulation: Formulation, row: int, relation: str) -> str:
    """Return which limit of a row the relation of a constraint stands for, given which side of it is the limit."""
    family, _ = formulation.constraint_at(row)
    if family.sides.limit_side == "left":
        relation = TURNED[relation]
    return side_of(relation)
