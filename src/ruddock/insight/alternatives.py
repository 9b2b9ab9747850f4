"""Other plans: as good as the best one, or for integer models the next best."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from scipy.sparse import csr_matrix, hstack, vstack

from ruddock.document.content import Block
from ruddock.document.result import Result
from ruddock.engine.in_order import Give, Stage, face_of_all, solve_in_order, with_integers_fixed
from ruddock.engine.outcome import Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.tighten import implied_bounds
from ruddock.errors import ModelError, NoPlanError
from ruddock.modelling.lowering import lowered
from ruddock.modelling.options import QUESTION_SECONDS, Clock, SolveOptions, running
from ruddock.modelling.plan import Plan
from ruddock.modelling.solve import engine_options
from ruddock.problem import INTEGER, Floats, Problem

DIFFERENT = 1e-6  # relative: plans nearer to one another in every decision are the same
MOST_TRIES = 400  # decisions of a linear model whose range on the optimal face is looked at


@dataclass(frozen=True, eq=False, repr=False)
class Alternatives(Result):
    """A best plan and others.

    Attributes
    ----------
    plan : the plan asked about
    others : further plans, the best first; each readable like a plan
    complete : whether it is proven that there are no more: of a linear model, that the plan is the only best one
    stopped : why the search ended early, or None
    """

    plan: Plan
    others: tuple[Plan, ...]
    complete: bool
    stopped: str | None = None

    def __len__(self) -> int:
        return len(self.others)

    def _title(self) -> str:
        return self.plan.model_name

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.alternatives_words import alternatives_blocks

        return alternatives_blocks(self)

    def table(self) -> pd.DataFrame:
        """Return the objectives, a row a plan."""
        return pd.DataFrame({name: plan.objectives()["value"] for name, plan in self._plans().items()}).T

    def _plans(self) -> dict[str, Plan]:
        return {"best": self.plan, **{f"other {k}": other for k, other in enumerate(self.others, 1)}}

    def _facts(self) -> dict[str, Any]:
        return {
            "format": "ruddock-alternatives/1",
            "model": self.plan.model_name,
            "complete": self.complete,
            "stopped": self.stopped,
            "plans": {
                name: {
                    "objectives": {str(k): float(v) for k, v in plan.objectives()["value"].items()},
                    "decisions": dict(zip(plan.formulation.decision_names, plan.values.tolist(), strict=True)),
                }
                for name, plan in self._plans().items()
            },
        }

    def decisions(self, *, moved: bool = False) -> pd.DataFrame:
        """Return the decisions, a row each, a column a plan.

        Parameters
        ----------
        moved : bool
            Only those that differ between the plans.
        """
        formulation = self.plan.formulation
        names = formulation.decision_names
        index = pd.Index(names, name="decision")
        frame = pd.DataFrame({name: plan.values for name, plan in self._plans().items()}, index)
        if not moved:
            return frame
        spread = frame.max(axis=1) - frame.min(axis=1)
        return frame[spread > DIFFERENT * frame.abs().max(axis=1).clip(lower=1.0)]


def alternatives(plan: Plan, most: int, time_limit: float | None) -> Alternatives:
    """Find other plans; see `Plan.alternatives`."""
    if plan.status != "optimal":
        raise NoPlanError(
            f"{plan.model_name}: alternatives are those of a best plan, and this solve ended {plan.status}"
        )
    if isinstance(most, bool) or not isinstance(most, (int, np.integer)) or most < 1:
        raise ModelError(f"at least one alternative must be asked for, not {most!r}")
    options = SolveOptions(time_limit=QUESTION_SECONDS if time_limit is None else time_limit)
    formulation = plan.formulation
    whole = lowered(formulation)
    problems = whole.problems
    integers = np.flatnonzero((problems[0].kinds[: formulation.size] & INTEGER) != 0)
    found: list[Outcome] = []
    with running(options, formulation) as clock:
        if len(integers):
            search: Any = _NextBest(plan, problems, integers, clock)
        else:
            search = _OnTheFace(plan, problems, clock)
        complete = False
        for outcome in search.plans():
            found.append(outcome)
            if len(found) == most:
                break
        else:
            complete = search.complete
        stopped = clock.stopped
    others = tuple(_plan(plan, problems, outcome) for outcome in found)
    return Alternatives(plan, others, complete, stopped)


def _plan(plan: Plan, problems: list[Problem], outcome: Outcome) -> Plan:
    """Return values as a plan that claims nothing."""
    x = outcome.x
    assert x is not None
    plain = Outcome("stopped", x=x, activity=problems[0].activity(x), objective=problems[0].objective(x))
    return Plan(plan.formulation, plain, tuple(Stage(p.objective(x), -np.inf, False) for p in problems))


class _OnTheFace:
    """Corners of the face of equally good plans, found by moving one decision after another as far as it goes."""

    def __init__(self, plan: Plan, problems: list[Problem], clock: Clock) -> None:
        assert plan.outcome.x is not None
        self.x, self.clock = plan.outcome.x, clock
        self.held = problems[0].discrete  # semicontinuous decisions, or what rules need: held at their values
        linear = [with_integers_fixed(p, self.x) for p in problems] if self.held else problems
        self.face = face_of_all(
            linear, plan.gives or (Give(),) * len(problems), clock.for_part("looking for other plans")
        )
        self.written = plan.formulation.size
        self.complete = False

    def plans(self) -> Iterator[Outcome]:
        """Yield corners other than the plan."""
        if self.face is None:
            return
        face = replace(self.face, costs=np.zeros(self.face.n), offset=0.0)
        solver = LinearSolver(face)
        known = [self.x]
        movable = np.flatnonzero(face.lower[: self.written] < face.upper[: self.written])
        sure = len(movable) <= MOST_TRIES
        for j in movable[:MOST_TRIES].tolist():
            for direction in (-1.0, 1.0):
                if self.clock.out() is not None:
                    return
                solver.change_costs(slice(None), 0.0)
                solver.change_costs(j, direction)
                outcome = solver.solve(self.clock.for_part("looking for other plans"))
                point = outcome.x
                if outcome.status == "unbounded" and outcome.ray is not None:
                    point = self.x + outcome.ray / np.abs(outcome.ray).max()  # as good however far it goes
                elif outcome.status != "optimal" or point is None:
                    sure = False
                    continue
                assert point is not None
                if all(_differ(point[: self.written], x[: self.written]) for x in known):
                    known.append(point)
                    yield replace(outcome, x=point)
        # only where no decision can move at all is it proven that there is no other plan
        self.complete = sure and len(known) == 1 and not self.held


def _differ(one: Floats, two: Floats) -> bool:
    return bool((np.abs(one - two) > DIFFERENT * np.maximum(1.0, np.maximum(np.abs(one), np.abs(two)))).any())


class _NextBest:
    """The best plans whose integer decisions are none of those seen before."""

    def __init__(self, plan: Plan, problems: list[Problem], integers: np.ndarray[Any, Any], clock: Clock) -> None:
        assert plan.outcome.x is not None
        self.plan, self.problems, self.integers, self.clock = plan, problems, integers, clock
        self.gives = plan.gives or (Give(),) * len(problems)
        self.complete = False
        lower, upper = problems[0].lower.copy(), problems[0].upper.copy()
        if not (np.isfinite(lower[integers]).all() and np.isfinite(upper[integers]).all()):
            tight_lower, tight_upper = implied_bounds(problems[0]) or (lower, upper)
            lower[integers] = np.maximum(lower[integers], np.ceil(tight_lower[integers] - 1e-6))
            upper[integers] = np.minimum(upper[integers], np.floor(tight_upper[integers] + 1e-6))
        if not (np.isfinite(lower[integers]).all() and np.isfinite(upper[integers]).all()):
            names = plan.formulation.decision_names
            free = [names[j] for j in integers.tolist() if not np.isfinite([lower[j], upper[j]]).all()]
            raise ModelError(
                f"the next best plans need bounds on all integer decisions, and nothing bounds {free[0]}; give it an "
                "upper bound that no plan reaches"
            )
        self.bounded = [replace(p, lower=lower, upper=upper) for p in problems]

    def plans(self) -> Iterator[Outcome]:
        """Yield plans, the best first."""
        x = self.plan.outcome.x
        assert x is not None
        asked = self.bounded
        while self.clock.out() is None:
            asked = [_without(p, self.integers, np.round(x[self.integers])) for p in asked]
            outcome, _ = solve_in_order(
                asked, self.gives, self.clock.for_part("looking for other plans"), engine_options(self.clock.options)
            )
            if outcome.status != "optimal" or outcome.x is None:
                self.complete = outcome.status == "infeasible"
                if outcome.status == "stopped":
                    self.clock.stopped = self.clock.stopped or outcome.reason
                return
            x = outcome.x
            yield replace(outcome, x=x[: self.problems[0].n])


def _without(problem: Problem, integer: np.ndarray, values: Floats) -> Problem:
    """Return the problem with one combination of integers excluded: some decision is larger or smaller.

    Each decision gets two binary columns, for larger and for smaller; where the value stands on a bound, one
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
