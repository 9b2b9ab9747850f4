"""How far a limit or bound must move for a target: solved at once, with its value as a decision of its own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.sparse import csr_matrix, hstack

from ruddock.document.content import Block, Document, Figure
from ruddock.document.numbers import amount
from ruddock.document.result import Result
from ruddock.engine.in_order import Stage
from ruddock.engine.outcome import Outcome
from ruddock.engine.solve import solve
from ruddock.errors import ModelError
from ruddock.insight.lever import Lever, pick_lever
from ruddock.modelling.changes import Change
from ruddock.modelling.lowering import lowered
from ruddock.modelling.names import names_of
from ruddock.modelling.options import Clock, SolveOptions, running
from ruddock.modelling.plan import Plan
from ruddock.modelling.solve import solve_formulation
from ruddock.problem import Problem

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model

ROUNDING = 1e-9  # relative: by how much rounding may miss a target
SHORT = 1e-7  # relative: by how much a value may be loosened to a short number
WIDER = 1e3  # times the present value: how far a limit may move where a rule needs it to end somewhere


@dataclass(frozen=True, eq=False, repr=False)
class Reach(Result):
    """The value of a lever at which a target is reached.

    Attributes
    ----------
    model : the model's title
    lever : what was moved
    target : what was asked for, in words
    value : the tightest value that allows it; None if none is known
    plan : a plan that reaches the target there, or None
    status : ``optimal``, ``infeasible`` (proven: no value allows the target, within ``within`` where that ends) or
        ``stopped``
    within : the values that were looked at
    nearest : where no value allows the target, how far one gets: sentences
    reason : why a stopped search ended
    """

    model: str
    lever: Lever
    target: str
    value: float | None
    plan: Plan | None
    status: str
    within: tuple[float, float] = (-np.inf, np.inf)
    nearest: tuple[str, ...] = ()
    reason: str | None = None

    @property
    def change(self) -> float | None:
        """How far the value moves from the one in the model; NaN where several differ there."""
        return None if self.value is None else self.value - self.lever.now

    def _title(self) -> str:
        return self.model

    def _blocks(self) -> Sequence[Block]:
        return [block for section in self.document().sections for block in section.blocks]

    def document(self, *, all: bool = False) -> Document:
        """Return the value that reaches the target, and the plan there; see `Result.document`."""
        from ruddock.insight.reach_words import reach_sections

        return Document(self.model, tuple(reach_sections(self)), whole=all)

    def figure(self) -> Figure | None:
        """Return the figure of the plan that reaches the target."""
        return None if self.plan is None else self.plan.figure()

    def table(self) -> pd.DataFrame:
        """Return the answer in one row: what was moved, its value now, the value that reaches the target."""
        row = {"target": self.target, "now": self.lever.now, "value": self.value, "status": self.status}
        return pd.DataFrame([row], index=pd.Index([self.lever.name], name="moved"))

    def _facts(self) -> dict[str, Any]:
        return {
            "format": "ruddock-reach/1",
            "model": self.model,
            "moved": self.lever.name,
            "now": self.lever.now,
            "target": self.target,
            "status": self.status,
            "value": self.value,
            "unlimited": self.value is not None and not np.isfinite(self.value),
            "reason": self.reason,
            "nearest": list(self.nearest),
        }


@dataclass(frozen=True, eq=False)
class _Target:
    """A row that a plan must keep: coefficients of all columns, and its limits."""

    name: str
    columns: np.ndarray[Any, Any]
    values: np.ndarray[Any, Any]
    low: float
    high: float
    text: str
    unit: str | None


def reach(
    model: Model,
    what: str,
    targets: Mapping[str, float],
    objective: float | Mapping[str, float] | None,
    given: Mapping[str, Any],
) -> Reach:
    """Find the tightest value of a lever at which targets are reached; see `Model.reach`."""
    options = SolveOptions.of_question(given)
    if not isinstance(targets, Mapping):
        raise ModelError(f"targets are a dict of quantity or decision to value, not {targets!r}")
    if not targets and objective is None:
        raise ModelError("a target is needed: a value of the objective, or a quantity or decision with its value")
    formulation = model.formulation()
    lever = pick_lever(model, formulation, what)
    if lever.sort not in ("limit", "bound"):
        raise ModelError(f"{lever.name} is a coefficient or data; reach moves limits and bounds: try sweep for it")
    with running(options, formulation) as clock:
        return _Reaching(model, formulation, lever, options, clock).run(targets, objective)


class _Reaching:
    """One search for a value."""

    def __init__(
        self, model: Model, formulation: Formulation, lever: Lever, options: SolveOptions, clock: Clock
    ) -> None:
        self.model, self.formulation, self.lever, self.options, self.clock = model, formulation, lever, options, clock
        self.within = (-np.inf, np.inf)

    def run(self, targets: Mapping[str, float], objective: float | Mapping[str, float] | None) -> Reach:
        """Return the answer."""
        wanted = [*self._objectives(objective), *self._quantities(targets)]
        text = " and ".join(target.text for target in wanted)
        problem = self._loosest()
        self.column = problem.n - 1
        asked = self._with_targets(problem, wanted)
        outcome = solve(self._tightest(asked), self.clock.for_part("looking for the tightest value"))
        if outcome.status == "unbounded":
            value = -np.inf if self.lever.side == "upper" else np.inf
            return Reach(self.formulation.name, self.lever, text, value, None, "optimal", self.within)
        if outcome.status != "optimal" or outcome.x is None:
            nearest = self._nearest(problem, wanted) if outcome.status == "infeasible" else ()
            return Reach(
                self.formulation.name,
                self.lever,
                text,
                None,
                None,
                outcome.status,
                self.within,
                nearest,
                outcome.reason,
            )
        value = self._settled(float(outcome.x[self.column]))
        plan = self._plan_at(value, wanted, outcome)
        return Reach(self.formulation.name, self.lever, text, value, plan, "optimal", self.within)

    # ------------------------------------------------------------------ targets

    def _objectives(self, objective: float | Mapping[str, float] | None) -> list[_Target]:
        """Return the rows that keep objectives at least as good as asked for."""
        if objective is None:
            return []
        goals = self.formulation.objectives
        if not goals:
            raise ModelError("the model has no objective to reach a value of")
        wanted = objective if isinstance(objective, Mapping) else {goals[0].name: objective}
        rows = []
        for name, value in wanted.items():
            goal = names_of(self.formulation).need(name, ("objectives",)).part
            problem = lowered(self.formulation).problem(goal)
            columns = np.flatnonzero(problem.costs)
            high = goal.sign * _number(name, value) - problem.offset
            high += ROUNDING * max(1.0, abs(float(value)), abs(problem.offset))
            text = f"{name} {'>=' if goal.maximize else '<='} {amount(float(value), goal.unit)}"
            rows.append(_Target(name, columns, problem.costs[columns], -np.inf, high, text, goal.unit))
        return rows

    def _quantities(self, targets: Mapping[str, float]) -> list[_Target]:
        """Return the rows that keep decisions and quantities at targets, from where they are in the best plan."""
        if not targets:
            return []
        base = solve_formulation(self.formulation, self.options, self.clock)
        rows = []
        for name, wanted in targets.items():
            value = _number(name, wanted)
            found = names_of(self.formulation).need(name, ("decisions", "quantities"))
            at = found.single
            if found.what == "decisions":
                columns = np.array([self.formulation.starts[found.part.name] + at])
                values, constant = np.ones(1), 0.0
            else:
                terms = found.part.terms
                own = terms.rows == at
                columns = self.formulation.columns_for(terms.columns[own], name)
                values, constant = terms.values[own], float(terms.constants[at])
            present = constant
            if base.found and base.outcome.x is not None:
                present += float(values @ base.outcome.x[columns])
            upwards = value >= present
            room = ROUNDING * max(1.0, abs(value), abs(constant))
            low, high = (value - constant - room, np.inf) if upwards else (-np.inf, value - constant + room)
            text = f"{name} {'>=' if upwards else '<='} {amount(value, found.part.unit)}"
            rows.append(_Target(name, columns, values, low, high, text, found.part.unit))
        return rows

    # ------------------------------------------------------------------ problems

    def _loosest(self) -> Problem:
        """Return the problem with the lever's value as a column.

        How much room rules need depends on the limits, so that these are as loose as they may become: switched off
        where that leaves the rules finite room, else far from where they are.
        """
        formulation = self.formulation
        if formulation.rules:
            try:
                loose = self.model.changed([Change(self.lever.target, "=", "off")])
                lowered(loose)
            except ModelError:
                loose = self._far()
            return self._as_parameter(lowered(loose).problems[0])
        return self.lever.with_parameter(lowered(formulation).problems[0])

    def _far(self) -> Formulation:
        size = WIDER * max(1.0, float(np.abs(self.lever.limits).max(initial=1.0)))
        if self.lever.factor:
            size = WIDER
        up = self.lever.side != "lower"
        value = size if up else -size
        self.within = (-np.inf, value) if up else (value, np.inf)
        if self.lever.side == "both":
            raise ModelError(
                f"{self.lever.name}: a rule needs this equation to bound its decisions; give them bounds of their own"
            )
        return self.model.changed(self.lever.at(value))

    def _as_parameter(self, loose: Problem) -> Problem:
        """Return the lever's problem with rule rows as they are where its limits are loosest."""
        own = lowered(self.formulation).problems[0]
        rows = self.formulation.rows
        # written rows and bounds as in the model, everything that rules made as in the loose one
        low, high = loose.row_lower.copy(), loose.row_upper.copy()
        low[:rows], high[:rows] = own.row_lower[:rows], own.row_upper[:rows]
        lower, upper = loose.lower.copy(), loose.upper.copy()
        lower[: self.formulation.size] = own.lower[: self.formulation.size]
        upper[: self.formulation.size] = own.upper[: self.formulation.size]
        return self.lever.with_parameter(replace(loose, row_lower=low, row_upper=high, lower=lower, upper=upper))

    def _with_targets(self, problem: Problem, wanted: list[_Target]) -> Problem:
        """Return the problem with a row for each target."""
        for target in wanted:
            row = csr_matrix(
                (target.values, (np.zeros(len(target.columns), np.intp), target.columns)), shape=(1, problem.n)
            )
            problem = problem.with_rows(row, target.low, target.high)
        return problem

    def _tightest(self, problem: Problem) -> Problem:
        """Return the problem that makes the value as tight as it goes, for an equation as near as can be.

        Tight is low for an upper limit and high for a lower one; an equation's stays as near as it can to its value.
        """
        at = self.column
        costs = np.zeros(problem.n)
        lower, upper = problem.lower.copy(), problem.upper.copy()
        lower[at], upper[at] = self.within
        if self.lever.side != "both":
            costs[at] = 1.0 if self.lever.side == "upper" else -1.0
            return replace(problem, costs=costs, offset=0.0, lower=lower, upper=upper)
        now = self.lever.now if np.isfinite(self.lever.now) else float(np.mean(self.lever.limits))
        wide = hstack([problem.matrix(), csr_matrix((problem.m, 2))], format="csc")
        widened = np.append(lower, np.zeros(2)), np.append(upper, np.full(2, np.inf))
        two = Problem.build(
            wide,
            problem.row_lower,
            problem.row_upper,
            *widened,
            np.append(np.zeros(problem.n), [1.0, 1.0]),
            np.append(problem.kinds, np.zeros(2, np.uint8)),
        )
        row = np.zeros((1, two.n))
        row[0, [at, problem.n, problem.n + 1]] = (1.0, -1.0, 1.0)
        return two.with_rows(row, now, now)

    def _settled(self, value: float) -> float:
        """Return a value without what rounding left of a number that is meant to be short.

        The room that the target leaves for rounding lets the value stop a little short of such a number; a short one
        within that room, on the side where everything still holds, is the one that was meant.
        """
        looser = {"upper": 1.0, "lower": -1.0}.get(self.lever.side, 0.0)
        short = float(f"{value:.6g}")
        if looser and 0.0 <= looser * (short - value) <= SHORT * max(1.0, abs(value)):
            return short + 0.0
        near = float(f"{value:.9g}")
        return (near if abs(near - value) <= 1e-9 * max(1.0, abs(value)) else value) + 0.0

    def _plan_at(self, value: float, wanted: list[_Target], outcome: Outcome) -> Plan | None:
        """Return the best plan at a value that keeps the targets; the one found where rounding leaves none.

        None if time is up before there is one: the one found may use all the room that targets leave for rounding.
        """
        formulation = self.model.changed(self.lever.at(value))
        whole = lowered(formulation)
        problem = self._with_targets(whole.problems[0], wanted)
        found = solve(problem, self.clock.for_part("looking for the tightest value"))
        if found.x is None and found.reason not in (None, "numerics"):
            return None
        if found.x is None or found.activity is None:
            x = outcome.x
            assert x is not None
            x = x[: whole.base.n]
            found = Outcome("stopped", "numerics", x=x, activity=whole.base.activity(x))
        base = whole.problems[0]
        assert found.x is not None
        plain = replace(
            found, status="stopped", reason=None, activity=base.activity(found.x), y=None, reduced=None, basis=None,
            objective=base.objective(found.x),
        )  # fmt: skip
        stages = tuple(Stage(p.objective(found.x), -np.inf, False) for p in whole.problems)
        return Plan(formulation, plain, stages)

    def _nearest(self, problem: Problem, wanted: list[_Target]) -> tuple[str, ...]:
        """Return how far each target can be reached, whatever the value, in sentences."""
        sentences = []
        at = self.column
        lower, upper = problem.lower.copy(), problem.upper.copy()
        lower[at], upper[at] = self.within
        for target in wanted:
            costs = np.zeros(problem.n)
            sign = 1.0 if np.isfinite(target.high) else -1.0
            np.add.at(costs, target.columns, sign * target.values)
            outcome = solve(
                replace(problem, costs=costs, offset=0.0, lower=lower, upper=upper),
                self.clock.for_part("looking for the tightest value"),
            )
            if outcome.status == "optimal" and outcome.x is not None:
                full = outcome.x[: lowered(self.formulation).base.n]
                sentences.append(f"{target.name} gets to {amount(self._value(target.name, full), target.unit)} at best")
            elif outcome.status == "infeasible":
                return ("no value leaves any plan, with or without the target",)
        return tuple(sentences)

    def _value(self, name: str, x: np.ndarray[Any, Any]) -> float:
        found = names_of(self.formulation).need(name, ("objectives", "decisions", "quantities"))
        if found.what == "objectives":
            return self.formulation.objective_value(found.part, x)
        if found.what == "decisions":
            return float(x[self.formulation.starts[found.part.name] + found.single])
        return float(self.formulation.evaluate(found.part.terms, x)[found.single])


def _number(name: str, value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float, np.number)) or not np.isfinite(float(value)):
        raise ModelError(f"{name}: a target is a finite number, not {value!r}")
    return float(value)
