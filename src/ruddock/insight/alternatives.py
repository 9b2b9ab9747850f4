"""Other plans: as good as the best one, or for whole-number models the next best."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.sparse import csr_matrix, hstack, vstack

from ruddock.engine.outcome import Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.errors import ModelError, NoPlanError
from ruddock.modelling.plan import Plan
from ruddock.modelling.printed import Printed
from ruddock.problem import INTEGER, Floats, Problem
from ruddock.tables import Table

if TYPE_CHECKING:
    from collections.abc import Iterator

DIFFERENT = 1e-6  # relative: plans nearer to one another in every decision are the same
FACE = 1e-9  # relative room that the optimal value leaves
MOST_TRIES = 400  # decisions of a linear model whose range on the optimal face is looked at


@dataclass(frozen=True, eq=False)
class Alternatives(Printed):
    """A best plan and others beside it.

    Attributes
    ----------
    plan : the plan asked about
    others : further plans, the best first; each readable like a plan
    complete : whether there are no more than these (of a linear model: whether the plan is the only best one)
    """

    plan: Plan
    others: tuple[Plan, ...]
    complete: bool

    def __len__(self) -> int:
        return len(self.others)

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.alternatives import alternatives_parts

        return alternatives_parts(self)

    def table(self) -> pd.DataFrame:
        """Return the decisions that differ between the plans, a column per plan."""
        formulation = self.plan.formulation
        names = formulation.decision_names
        plans = {"best": self.plan, **{f"other {k}": other for k, other in enumerate(self.others, 1)}}
        frame = pd.DataFrame({name: plan.values for name, plan in plans.items()}, pd.Index(names, name="decision"))
        frame = frame[formulation.written_columns]
        spread = frame.max(axis=1) - frame.min(axis=1)
        return frame[spread > DIFFERENT * frame.abs().max(axis=1).clip(lower=1.0)]


def alternatives(plan: Plan, most: int, problem: Problem) -> Alternatives:
    """Find other plans; see `Plan.alternatives`."""
    if plan.status != "optimal":
        raise NoPlanError(
            f"{plan.model_name}: alternatives are those of a best plan, and this solve ended {plan.status}"
        )
    if most < 1:
        raise ModelError(f"at least one alternative must be asked for, not {most}")
    found: list[Outcome] = []
    complete = True
    for outcome in _next_best(problem, plan.values) if problem.discrete else _on_the_face(problem, plan):
        if len(found) == most:
            complete = False
            break
        found.append(outcome)
    others = tuple(
        Plan(plan.formulation, replace(o, status="stopped", reason=None, y=None, reduced=None), _objective(plan))
        for o in found
    )
    return Alternatives(plan, others, complete)


def _objective(plan: Plan) -> Any:
    return next((o for o in plan.formulation.objectives if o.name == plan.objective_name), None)


def _on_the_face(problem: Problem, plan: Plan) -> Iterator[Outcome]:
    """Yield further corners of the optimal face, by moving one decision after another as far as it goes."""
    value = float(problem.costs @ plan.values)
    room = FACE * max(1.0, abs(value))
    face = replace(problem.with_rows(problem.costs, -np.inf, value + room), costs=np.zeros(problem.n), offset=0.0)
    solver = LinearSolver(face)
    known = [plan.values]
    reduced = np.zeros(problem.n) if plan.outcome.reduced is None else plan.outcome.reduced
    # a decision with a reduced cost cannot move on the face, unless the plan's prices are not the only ones
    order = np.argsort(np.abs(reduced) > FACE, kind="stable")[:MOST_TRIES]
    for j in order.tolist():
        for direction in (-1.0, 1.0):
            solver.change_costs(slice(None), 0.0)
            solver.change_costs(j, direction)
            outcome = solver.solve()
            if outcome.status != "optimal" or outcome.x is None or outcome.activity is None:
                continue
            if all(_differ(outcome.x, x) for x in known):
                known.append(outcome.x)
                yield replace(
                    outcome, activity=outcome.activity[: problem.m], objective=problem.objective(outcome.x), basis=None
                )


def _differ(one: Floats, two: Floats) -> bool:
    return bool((np.abs(one - two) > DIFFERENT * np.maximum(1.0, np.maximum(np.abs(one), np.abs(two)))).any())


def _next_best(problem: Problem, x: Floats) -> Iterator[Outcome]:
    """Yield the best plans whose whole-number decisions are none of those seen before."""
    integer = np.flatnonzero((problem.kinds & INTEGER) != 0)
    if not len(integer):
        return
    if not (np.isfinite(problem.lower[integer]).all() and np.isfinite(problem.upper[integer]).all()):
        raise ModelError(
            "the next best plans need bounds on all whole-number decisions; "
            "give them an upper bound that no plan reaches"
        )
    original = problem
    while True:
        problem = _without(problem, integer, np.round(x[integer]))
        outcome = solve(problem)
        if outcome.status != "optimal" or outcome.x is None:
            return
        x = outcome.x
        own = x[: original.n]
        yield replace(outcome, x=own, activity=original.activity(own), objective=original.objective(own))


def _without(problem: Problem, integer: np.ndarray, values: Floats) -> Problem:
    """Return the problem with one combination of whole numbers excluded: some decision is larger or smaller.

    Each decision gets two yes/no columns, for larger and for smaller; where the value stands on a bound, one
    of them is fixed at no.
    """
    k = len(integer)
    lower, upper = problem.lower[integer], problem.upper[integer]
    rows = np.arange(k)
    larger, smaller = problem.n + rows, problem.n + k + rows
    above, below = values + 1.0 - lower, upper - values + 1.0
    # x >= lower + above * larger and x <= upper - below * smaller
    entries = np.concatenate((np.ones(k), -above, np.ones(k), below, np.ones(2 * k)))
    at_rows = np.concatenate((rows, rows, k + rows, k + rows, np.full(2 * k, 2 * k)))
    at_columns = np.concatenate((integer, larger, integer, smaller, larger, smaller))
    extra = csr_matrix((entries, (at_rows, at_columns)), shape=(2 * k + 1, problem.n + 2 * k))
    wide = hstack([problem.matrix(), csr_matrix((problem.m, 2 * k))], format="csr")
    return Problem.build(
        vstack([wide, extra], format="csc"),
        np.concatenate((problem.row_lower, lower, np.full(k, -np.inf), [1.0])),
        np.concatenate((problem.row_upper, np.full(k, np.inf), upper, [np.inf])),
        np.concatenate((problem.lower, np.zeros(2 * k))),
        np.concatenate((problem.upper, (values < upper).astype(float), (values > lower).astype(float))),
        np.concatenate((problem.costs, np.zeros(2 * k))),
        np.concatenate((problem.kinds, np.full(2 * k, INTEGER, np.uint8))),
        problem.offset,
    )
