"""The objective as a function of one number of the model: exact pieces where the model is linear, points elsewhere."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import partial
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Figure
from ruddock.document.result import Result
from ruddock.engine.in_order import solve_in_order
from ruddock.engine.outcome import Outcome
from ruddock.engine.ranging import Ranging
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.errors import ModelError, RuddockError
from ruddock.insight.lever import Lever, pick_lever
from ruddock.modelling.formulation import units_of
from ruddock.modelling.frames import distinct
from ruddock.modelling.lowering import lowered
from ruddock.modelling.options import Clock, SolveOptions, running
from ruddock.modelling.solve import engine_options, parse_give, solve_formulation
from ruddock.problem import Floats, Problem

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from ruddock.engine.in_order import Give
    from ruddock.modelling.formulation import Formulation, Objective
    from ruddock.modelling.model import Model

MOST_PIECES = 10_000
POINTS = 25
TINY = 1e-9  # relative: pieces shorter than this are rounding
SAME_PRICE = 1e-9


@dataclass(frozen=True, eq=False, repr=False)
class Sweep(Result):
    """The objective along a lever.

    Attributes
    ----------
    model : the model's title
    lever : what was moved
    goals : the objectives in their order
    exact : whether the points are the ends of all linear pieces, between which straight lines are exact
    points : DataFrame by value of the lever
        ``objective``, the first one as written, and ``price``, its change per unit more from there on (NaN at the last
        point, and where it is not known).
    by_objective, by_decision : DataFrame by value of the lever, a column for each objective, or decision
    asked : the range asked for
    feasible : the least and the greatest value within it for which there is a plan, where that was worked out; None
        where only the points solved are known, NaN twice where there is no plan at all
    notes : by value of the lever, why a point is missing
    stopped : why the run ended early, or None
    units : of each decision, by name
    """

    model: str
    lever: Lever
    goals: tuple[Objective, ...]
    exact: bool
    points: pd.DataFrame
    by_objective: pd.DataFrame
    by_decision: pd.DataFrame
    asked: tuple[float, float]
    feasible: tuple[float, float] | None
    notes: dict[float, str]
    stopped: str | None = None
    units: dict[str, str | None] = field(default_factory=dict)

    undrawn = "there is no plan in the range of this sweep"

    def _title(self) -> str:
        return self.model

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.sweep_words import sweep_blocks

        return sweep_blocks(self)

    def figure(self) -> Figure | None:
        """Return a figure of the objective along the lever."""
        from ruddock.insight.sweep_words import sweep_figure

        return (
            Figure(partial(sweep_figure, self), f"The objective along {self.lever.name}", 5.0)
            if len(self.points)
            else None
        )

    def table(self) -> pd.DataFrame:
        """Return the points: the objectives at each value of the lever, and the price from there on."""
        taken = ["price"]
        frame = self.by_objective.copy()
        frame.columns = pd.Index(distinct(map(str, frame.columns), taken, "objective"))
        return frame.assign(price=self.points["price"])

    def objectives(self) -> pd.DataFrame:
        """Return the objectives, a row each, a column a point."""
        return self.by_objective.T.rename_axis("objective")

    def decisions(self) -> pd.DataFrame:
        """Return the decisions, a row each, a column a point."""
        return self.by_decision.T.rename_axis("decision")

    def objective(self, value: float) -> float:
        """Return the first objective at a value of the lever; NaN where there is no plan.

        Raises
        ------
        ModelError
            Between points where the objective is not known there, or where the run was stopped before.
        """
        at = self.points.index.to_numpy(float)
        if len(at) and value in at:
            return float(self.points["objective"].to_numpy(float)[int(np.flatnonzero(at == value)[0])])
        if not self.exact:
            if value in self.notes:
                return float("nan")
            raise ModelError("only at its points is the objective of this sweep known")
        if not len(at) or value < at[0] or (value > at[-1] and self.stopped is None):
            return float("nan")
        if value > at[-1]:
            raise ModelError("the sweep was stopped before it came to this value")
        return float(np.interp(value, at, self.points["objective"].to_numpy(float)))

    def _facts(self) -> dict[str, Any]:
        plain = self.points.astype(object).where(self.points.notna(), None)
        known = self.feasible is not None and not np.isnan(self.feasible[0])
        return {
            "format": "ruddock-sweep/1",
            "model": self.model,
            "moved": self.lever.name,
            "exact": self.exact,
            "asked": list(self.asked),
            "feasible": list(self.feasible) if known and self.feasible is not None else None,
            "stopped": self.stopped,
            "points": [
                {"value": float(at), **row, "objectives": own}
                for at, row, own in zip(
                    plain.index, plain.to_dict("records"), self.by_objective.to_dict("records"), strict=True
                )
            ],
            "decisions": self.by_decision.to_dict("records"),
        }


@dataclass(frozen=True)
class _Found:
    """A point: value, the plan's columns, prices of the first objective onwards."""

    at: float
    x: Floats
    price: float = float("nan")


def sweep(model: Model, what: str, start: float, stop: float, points: int, given: Mapping[str, Any]) -> Sweep:
    """Follow the objectives along a lever; see `Model.sweep`."""
    if not all(isinstance(end, (int, float, np.number)) for end in (start, stop)):
        raise ModelError(f"a sweep goes from one number to another, not from {start!r} to {stop!r}")
    if not start < stop or not np.isfinite([start, stop]).all():
        raise ModelError(f"a sweep goes from a smaller to a larger value, not from {start} to {stop}")
    if isinstance(points, bool) or not isinstance(points, (int, np.integer)) or points < 2:
        raise ModelError(f"points is a integer from 2 on, not {points!r}")
    options = SolveOptions.of_question(given)
    formulation = model.formulation()
    lever = pick_lever(model, formulation, what)
    with running(options, formulation) as clock:
        return _Sweeping(model, formulation, lever, (float(start), float(stop)), int(points), options, clock).run()


class _Sweeping:
    """One sweep."""

    def __init__(
        self,
        model: Model,
        formulation: Formulation,
        lever: Lever,
        asked: tuple[float, float],
        points: int,
        options: SolveOptions,
        clock: Clock,
    ) -> None:
        self.model, self.formulation, self.lever, self.asked = model, formulation, lever, asked
        self.count, self.options, self.clock = points, options, clock
        self.notes: dict[float, str] = {}
        self.feasible: tuple[float, float] | None = None
        self.gives: list[Give] = parse_give(formulation, options.give)

    def run(self) -> Sweep:
        """Return the sweep."""
        fixed = self.lever.sort in ("limit", "bound") and not self.formulation.rules
        linear = not self.formulation.discrete
        exact = linear and (fixed or self.lever.sort == "price")
        if fixed:
            self.feasible = self._range()
        if self.feasible is not None and np.isnan(self.feasible[0]):
            found: list[_Found] = []
        elif exact and fixed:
            found = self._pieces()
        elif exact:
            found = self._price_pieces()
        else:
            found = self._at_points()
        return self._result(found, exact)

    def _result(self, found: list[_Found], exact: bool) -> Sweep:
        f = self.formulation
        index = pd.Index([point.at for point in found], name=self.lever.name, dtype=float)
        values = {goal.name: [self._value(goal, point) for point in found] for goal in f.objectives}
        objectives = pd.DataFrame(values, index=index, dtype=float)
        goal = f.first_objective
        sign = goal.sign if goal is not None else 1.0
        frame = pd.DataFrame(
            {
                "objective": objectives[goal.name] if goal is not None else 0.0,
                "price": [sign * point.price + 0.0 for point in found],
            },
            index=index,
            dtype=float,
        )
        rows = np.array([point.x[: f.size] for point in found]).reshape(len(found), f.size)
        decisions = pd.DataFrame(rows, index=index, columns=f.decision_names, dtype=float)
        return Sweep(
            f.name, self.lever, f.objectives, exact, frame, objectives, decisions, self.asked, self.feasible,
            self.notes, self.clock.stopped, units_of(f),
        )  # fmt: skip

    def _value(self, goal: Objective, point: _Found) -> float:
        """Return an objective at a point, with the lever's value in it where it is a price."""
        own = self.formulation
        if self.lever.sort in ("price", "other"):
            own = self.model.changed(self.lever.at(point.at))
            goal = next(g for g in own.objectives if g.name == goal.name)
        return own.objective_value(goal, point.x)

    # ------------------------------------------------------------------ limits and bounds

    def _range(self) -> tuple[float, float] | None:
        """Return between which values within those asked for there is a plan; NaN where nowhere, None if not known."""
        problem = self.lever.with_parameter(lowered(self.formulation).problems[0])
        ends = []
        for sign in (1.0, -1.0):
            end = extreme(problem, sign, self.asked, self.clock)
            if isinstance(end, str):
                return (float("nan"), float("nan")) if end == "infeasible" else None
            ends.append(end)
        return ends[0], ends[1]

    def _pieces(self) -> list[_Found]:
        """Return the ends of the linear pieces, each with the price beyond."""
        if self.feasible is None:
            return []
        base = lowered(self.formulation)
        held = held_at(self.lever.with_parameter(base.problems[0]))
        row, (first, last) = held.m - 1, self.feasible
        found: list[_Found] = []
        at, solver = first, LinearSolver(held)
        while len(found) < MOST_PIECES and self.clock.out() is None:
            solver.change_limits(row, at, at)
            outcome = solver.solve(self.clock.for_part("following the line"))
            if outcome.status != "optimal" or outcome.x is None:
                self.clock.stopped = self.clock.stopped or outcome.reason
                break
            x = self._in_order(at, outcome)
            if at >= last:
                found.append(_Found(at, x))
                break
            moved = replace(held, row_lower=_put(held.row_lower, row, at), row_upper=_put(held.row_upper, row, at))
            side = Ranging(moved, outcome).side(row, "both", 1.0)
            found.append(_Found(at, x, side.price))
            at = min(at + max(side.reach, TINY * max(1.0, abs(at))), last)
        return _joined(found)

    def _in_order(self, at: float, outcome: Outcome) -> Floats:
        """Return the plan at a value, with the later objectives as good as they can be."""
        n = lowered(self.formulation).base.n
        if len(self.formulation.objectives) < 2 or outcome.x is None:
            assert outcome.x is not None
            return outcome.x[:n]
        problems = [held_at(self.lever.with_parameter(p), at) for p in lowered(self.formulation).problems]
        final, _ = solve_in_order(problems, self.gives, self.clock.for_solve(), engine_options(self.options))
        return (outcome.x if final.x is None else final.x)[:n]

    # ------------------------------------------------------------------ prices

    def _price_pieces(self) -> list[_Found]:
        """Return the ends of the linear pieces of the best value as a price moves.

        A plan's value is a straight line in the price. Where the lines of two plans meet, either another plan is
        better, and divides the piece, or there is none and the piece ends there (Eisner and Severance 1976).
        """
        solved: dict[float, Floats] = {}

        def at(value: float) -> Floats | None:
            if value not in solved and self.clock.out() is None:
                plan = solve_formulation(self.model.changed(self.lever.at(value)), self.options, self.clock)
                if plan.status == "optimal" and plan.outcome.x is not None:
                    solved[value] = plan.outcome.x
                else:
                    self.notes[value] = plan.status
            return solved.get(value)

        low, high = self.asked
        corners = {low, high}
        spans = [(low, high)]
        while spans and len(corners) < MOST_PIECES:
            a, b = spans.pop()
            x, y = at(a), at(b)
            if x is None or y is None:
                continue
            # the lines of both plans: value and slope
            (xa, xb), (ya, yb) = (self._line(plan, a, b) for plan in (x, y))
            gap_a, gap_b = ya - xa, xb - yb  # how much worse each is at the other's end
            size = TINY * max(1.0, abs(xa), abs(yb))
            if gap_a <= size or gap_b <= size:
                continue
            middle = a + (b - a) * gap_a / (gap_a + gap_b)
            if not a < middle < b:
                continue
            z = at(middle)
            if z is None:
                continue
            corners.add(middle)
            za, zb = self._line(z, a, b)
            value, crossing = za + (zb - za) * (middle - a) / (b - a), xa + (xb - xa) * (middle - a) / (b - a)
            if value < crossing - size:
                spans += [(a, middle), (middle, b)]
        found = [_Found(value, solved[value]) for value in sorted(corners) if value in solved]
        priced = [
            replace(one, price=(self._cost(two.x, two.at) - self._cost(one.x, one.at)) / (two.at - one.at))
            for one, two in pairwise(found)
        ]
        return _joined([*priced, *found[-1:]])

    def _line(self, x: Floats, a: float, b: float) -> tuple[float, float]:
        return self._cost(x, a), self._cost(x, b)

    def _cost(self, x: Floats, value: float) -> float:
        """Return the first objective of a plan in the engine's sense, with the price at a value."""
        changed = self.model.changed(self.lever.at(value))
        goal = changed.first_objective
        assert goal is not None
        return goal.sign * changed.objective_value(goal, x)

    # ------------------------------------------------------------------ points

    def _at_points(self) -> list[_Found]:
        """Return the plans at evenly spaced values, those between which there is a plan where that is known."""
        found: list[_Found] = []
        values = np.linspace(*self.asked, self.count).tolist()
        if self.feasible is not None and self.formulation.discrete:
            inside = [value for value in values if self.feasible[0] <= value <= self.feasible[1]]
            values = sorted({*inside, *self.feasible})
        for value in values:
            if self.clock.out() is not None:
                break
            try:
                formulation = self.model.changed(self.lever.at(value))
                plan = solve_formulation(formulation, self.options, self.clock)
            except RuddockError as error:
                self.notes[value] = str(error)
                continue
            if plan.status == "optimal" and plan.outcome.x is not None:
                found.append(_Found(value, plan.outcome.x))
            elif plan.status != "stopped":
                self.notes[value] = plan.status
        return found


def extreme(problem: Problem, sign: float, within: tuple[float, float], clock: Clock) -> float | str:
    """Return the least (``sign`` 1) or greatest (-1) value of a parameter, the last column, or why there is none."""
    n = problem.n - 1
    costs = np.zeros(problem.n)
    costs[n] = sign
    lower, upper = _put(problem.lower, n, within[0]), _put(problem.upper, n, within[1])
    outcome = solve(
        replace(problem, costs=costs, offset=0.0, lower=lower, upper=upper), clock.for_part("following the line")
    )
    if outcome.status == "optimal" and outcome.x is not None:
        return float(min(max(outcome.x[n], within[0]), within[1])) + 0.0
    if outcome.status == "stopped":
        clock.stopped = clock.stopped or outcome.reason
    return outcome.status


def held_at(problem: Problem, value: float = 0.0) -> Problem:
    """Return a problem with a last row that holds its last column, the parameter, at a value."""
    unit = np.zeros((1, problem.n))
    unit[0, -1] = 1.0
    return problem.with_rows(unit, value, value)


def _put(values: Floats, at: int, value: float) -> Floats:
    result = values.copy()
    result[at] = value
    return result


def _joined(found: list[_Found]) -> list[_Found]:
    """Leave out points between two pieces of the same price."""
    kept: list[_Found] = []
    for k, point in enumerate(found):
        if 0 < k < len(found) - 1 and abs(point.price - kept[-1].price) <= SAME_PRICE * max(1.0, abs(point.price)):
            continue
        kept.append(point)
    return kept
