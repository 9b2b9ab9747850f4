"""How far a limit must move for a target: solved at once, with the limit as a decision of its own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, hstack, vstack

from ruddock.engine.solve import solve
from ruddock.errors import ModelError, known
from ruddock.insight.limits import Limit, pick_limit
from ruddock.modelling.plan import Plan
from ruddock.modelling.printed import Printed
from ruddock.problem import Floats, Problem
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model


@dataclass(frozen=True, eq=False)
class Reach(Printed):
    """The limit at which a target is reached.

    Attributes
    ----------
    limit : which limit was moved
    target : what was asked for, in words
    value : the tightest value of the limit that allows it; None if no value does
    change : from the value in the model; None likewise
    plan : a plan that reaches the target there, or None
    status : ``optimal``, ``infeasible`` (proven: no value allows the target) or ``stopped``
    """

    limit: Limit
    target: str
    value: float | None
    plan: Plan | None
    status: str

    @property
    def change(self) -> float | None:
        """How far the limit moves from its value in the model."""
        return None if self.value is None else self.value - self.limit.now

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.sweep import reach_parts

        return reach_parts(self)

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON."""
        return {
            "format": "ruddock-reach/1",
            "limit": self.limit.name,
            "now": self.limit.now,
            "target": self.target,
            "status": self.status,
            "value": self.value,
        }


def reach(model: Model, name: str, targets: Mapping[str, float], objective: float | None, **given: Any) -> Reach:
    """Find the tightest limit at which targets are reached; see `Model.reach`."""
    if not targets and objective is None:
        raise ModelError("reach needs a target: objective=1200, or a quantity or decision with its value")
    formulation = model.formulation()
    limit = pick_limit(formulation, name)
    goal = formulation.first_objective
    problem = formulation.problem(goal)
    lines: list[Floats] = []
    lows: list[float] = []
    highs: list[float] = []
    told: list[str] = []
    if objective is not None:
        if goal is None:
            raise ModelError("the model has no objective to reach a value of")
        sign = -1.0 if goal.maximize else 1.0
        lines.append(problem.costs)
        lows.append(-np.inf)
        highs.append(sign * objective - problem.offset)
        told.append(f"{goal.name} {'>=' if goal.maximize else '<='} {objective:.12g}")
    base = model.solve(**given) if targets else None
    for key, value in targets.items():
        line, constant = _expression(formulation, key)
        present = float(line @ base.values) + constant if base is not None and base.found else 0.0
        upwards = value >= present
        lines.append(line)
        lows.append(value - constant if upwards else -np.inf)
        highs.append(np.inf if upwards else value - constant)
        told.append(f"{key} {'>=' if upwards else '<='} {value:.12g}")
    extended = _with_limit_as_column(problem, limit, np.array(lines), np.array(lows), np.array(highs))
    outcome = solve(extended)
    target = " and ".join(told)
    if outcome.status != "optimal" or outcome.x is None or outcome.activity is None:
        if outcome.status == "unbounded" and outcome.x is not None:
            return Reach(limit, target, -np.inf if limit.side == "upper" else np.inf, None, "optimal")
        return Reach(limit, target, None, None, outcome.status)
    # the change of an equation's limit stands in two columns; the others have one
    value = float(outcome.x[problem.n]) + 0.0
    found = solve(limit.moved(problem, value).with_rows(np.array(lines), lows, highs))
    plan = None
    if found.status == "optimal" and found.activity is not None:
        outcome = replace(found, activity=found.activity[: problem.m], y=None, reduced=None)
        plan = Plan(limit.moved_in(formulation, value), outcome, goal)
    return Reach(limit, target, value, plan, "optimal")


def extreme_limit(problem: Problem, limit: Limit, start: float, stop: float, *, lowest: bool) -> float | None:
    """Return the least or the greatest value of a limit within a range for which there is a plan; None if none."""
    none = np.zeros((0, problem.n))
    extended = _with_limit_as_column(problem, limit, none, np.zeros(0), np.zeros(0), (start, stop))
    costs = np.zeros(extended.n)
    costs[problem.n] = 1.0 if lowest else -1.0
    outcome = solve(replace(extended, costs=costs, kinds=np.zeros(extended.n, np.uint8)))
    return float(outcome.x[problem.n]) if outcome.status == "optimal" and outcome.x is not None else None


def _expression(formulation: Formulation, name: str) -> tuple[Floats, float]:
    """Return the coefficients and constant of a quantity or decision by name."""
    size = sum(len(family) for family in formulation.decisions)
    names = formulation.decision_names
    line = np.zeros(size)
    if name in names:
        line[names.index(name)] = 1.0
        return line, 0.0
    for quantity in formulation.quantities:
        members = quantity.members()
        if name in members:
            row, expr = members.index(name), quantity.expression
            own = expr.rows == row
            np.add.at(line, formulation.columns_for(expr.columns[own], name), expr.values[own])
            return line, float(expr.constants[row])
    all_names = [*names, *(member for quantity in formulation.quantities for member in quantity.members())]
    raise ModelError(f"there is no decision or quantity called {name!r}; {known(name, all_names)}")


def _with_limit_as_column(
    problem: Problem,
    limit: Limit,
    lines: Floats,
    lows: Floats,
    highs: Floats,
    within: tuple[float, float] = (-np.inf, np.inf),
) -> Problem:
    """Return the problem with the limit as a decision ``t``, made as tight as it goes.

    Tight is low for an upper limit and high for a lower one; an equation's stays as near as it can to its value.
    """
    m, n = problem.m, problem.n
    row = csr_matrix(problem.matrix())[limit.row]
    low, high = problem.row_lower.copy(), problem.row_upper.copy()
    if limit.side != "upper":
        low[limit.row] = -np.inf
    if limit.side != "lower":
        high[limit.row] = np.inf
    # a further row holds the old one against t; for an equation t = now + more - less
    blocks = [problem.matrix(), row, csr_matrix(lines.reshape(-1, n))]
    extra = 3
    columns = np.zeros((m + 1 + len(lows) + 1, extra))
    columns[m, 0] = -1.0
    columns[-1] = (1.0, -1.0, 1.0)
    blocks.append(csr_matrix((1, n)))
    matrix = hstack([vstack(blocks), csr_matrix(columns)], format="csc")
    both = limit.side == "both"
    costs = {"upper": (1.0, 0.0, 0.0), "lower": (-1.0, 0.0, 0.0), "both": (0.0, 1.0, 1.0)}[limit.side]
    return Problem.build(
        csc_matrix(matrix),
        np.concatenate((low, [0.0 if limit.side != "upper" else -np.inf], lows, [limit.now if both else -np.inf])),
        np.concatenate((high, [0.0 if limit.side != "lower" else np.inf], highs, [limit.now if both else np.inf])),
        np.concatenate((problem.lower, [within[0], 0.0, 0.0])),
        np.concatenate((problem.upper, [within[1], np.inf, np.inf])),
        np.concatenate((np.zeros(n), costs)),
        np.concatenate((problem.kinds, np.zeros(extra, np.uint8))),
    )
