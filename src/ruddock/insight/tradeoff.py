"""Objectives against each other: plans in which none can get better unless another gets worse."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from itertools import product
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Figure
from ruddock.document.result import Result
from ruddock.engine.in_order import Give, Stage, cleaned, optimal_face, solve_in_order, with_held
from ruddock.engine.outcome import Outcome
from ruddock.engine.ranging import Ranging
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.engine.tree.domain import Step
from ruddock.errors import ModelError
from ruddock.modelling.frames import distinct
from ruddock.modelling.lowering import lowered
from ruddock.modelling.names import names_of
from ruddock.modelling.options import Clock, SolveOptions, running
from ruddock.modelling.plan import Plan
from ruddock.modelling.solve import engine_options

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation, Objective
    from ruddock.modelling.model import Model
    from ruddock.problem import Problem

POINTS = 21
MOST = 100_000
SAME = 1e-7  # relative: values of objectives that differ by less are the same point
TIE = 1e-9  # relative room that one objective leaves while the other is made best


@dataclass(frozen=True, eq=False, repr=False)
class Tradeoff(Result):
    """The frontier between objectives of a model.

    Attributes
    ----------
    model : the model's title
    goals : the objectives, the one that is relaxed first
    points : DataFrame, one row a point
        ``share``: how much of the way from its optimum to its value at the other end the first objective is
        relaxed, 0 to 1, NaN where that end is not known; ``corner``: whether the point is an exact corner of a linear
        model's frontier; ``price``: what one unit of the first changes the second by, from here to the
        next point (NaN at the last, for models with integers, and with three objectives or more).
    by_objective : DataFrame, one row a point, one column an objective, as written
    plans : list of Plan, one for each point
    exact : whether straight lines between the points are the frontier: linear models of two objectives
    complete : whether these are all plans that no other is better than: linear models, and others with ``all``
    stopped : why the run ended early, or None
    """

    model: str
    goals: tuple[Objective, ...]
    points: pd.DataFrame
    by_objective: pd.DataFrame
    plans: list[Plan]
    exact: bool
    complete: bool
    stopped: str | None = None

    @property
    def first(self) -> Objective:
        """The objective that is relaxed."""
        return self.goals[0]

    @property
    def second(self) -> Objective:
        """The objective that gains by it; of more than two, the second one."""
        return self.goals[1]

    undrawn = "the frontier has no point; model.diagnose() says why"

    def _title(self) -> str:
        return self.model

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.tradeoff_words import tradeoff_blocks

        return tradeoff_blocks(self)

    def figure(self) -> Figure | None:
        """Return a figure of the frontier."""
        from ruddock.insight.tradeoff_words import tradeoff_figure

        return Figure(partial(tradeoff_figure, self), "The frontier", 5.0) if len(self.points) else None

    def decisions(self) -> pd.DataFrame:
        """Return the decisions, a row each, a column a point."""
        names = self.plans[0].formulation.decision_names if self.plans else []
        frame = pd.DataFrame([plan.values for plan in self.plans], columns=names, index=self.points.index)
        return frame.T.rename_axis("decision")

    def objectives(self) -> pd.DataFrame:
        """Return the objectives, a row each, a column a point."""
        return self.by_objective.T.rename_axis("objective")

    def table(self) -> pd.DataFrame:
        """Return the points: the objectives at each, and how far the first one is relaxed there."""
        frame = self.by_objective.copy()
        frame.columns = pd.Index(distinct(map(str, frame.columns), self.points.columns, "objective"))
        return frame.join(self.points)

    def _facts(self) -> dict[str, Any]:
        plain = self.points.astype(object).where(self.points.notna(), None)
        return {
            "format": "ruddock-tradeoff/1",
            "model": self.model,
            "objectives": [goal.name for goal in self.goals],
            "exact": self.exact,
            "complete": self.complete,
            "stopped": self.stopped,
            "points": [
                {**row, "objectives": values}
                for row, values in zip(plain.to_dict("records"), self.by_objective.to_dict("records"), strict=True)
            ],
            "decisions": self.decisions().T.to_dict("records"),
        }


@dataclass(frozen=True)
class _Point:
    """A point of the frontier in the engine's terms: all values are to be small."""

    first: float
    second: float
    outcome: Outcome
    corner: bool = False
    price: float = float("nan")


def tradeoff(
    model: Model,
    names: Sequence[str],
    points: int | str,
    on_point: Callable[[int], None] | None,
    given: Mapping[str, Any],
) -> Tradeoff:
    """Work out the frontier between objectives; see `Model.tradeoff`."""
    options = SolveOptions.of_question(given)
    formulation = model.formulation()
    goals = _goals(formulation, names)
    whole = isinstance(points, (int, np.integer)) and not isinstance(points, bool)
    if points != "all" and not (whole and int(points) >= 2):
        raise ModelError(f"points is a number from 2 on, or 'all', not {points!r}")
    if points == "all" and len(goals) > 2:
        raise ModelError("points='all' is for two objectives; name a number of points")
    with running(options, formulation) as clock:
        problems = [lowered(formulation).problem(goal) for goal in goals]
        linear = not problems[0].discrete
        if len(goals) > 2:
            found, ends = _Grid(problems, clock, on_point).points(int(points)), None
        else:
            frontier = _Frontier(problems[0], problems[1], clock, on_point)
            found = frontier.all() if points == "all" else frontier.shares(int(points))
            ends = frontier.ends
        exact = linear and len(goals) == 2
        complete = (exact or points == "all") and clock.stopped is None
        return _result(formulation, goals, found, ends, exact, complete, clock.stopped)


def _goals(formulation: Formulation, given: Sequence[str]) -> list[Objective]:
    """Return the objectives asked for; the first two without names."""
    if len(formulation.objectives) < 2:
        raise ModelError(
            f"a trade-off needs a model with two objectives; this one has {len(formulation.objectives)}: give it "
            "another minimize or maximize"
        )
    if not given:
        return list(formulation.objectives[:2])
    if len(given) < 2:
        raise ModelError(f"a trade-off is between two objectives or more; only {given[0]!r} is named")
    names = names_of(formulation)
    goals = [names.need(name, ("objectives",)).part for name in given]
    for k, goal in enumerate(goals):
        if goal in goals[:k]:
            raise ModelError(f"a trade-off is between different objectives; {goal.name!r} is named twice")
    return goals


def _result(
    formulation: Formulation,
    goals: list[Objective],
    found: list[_Point],
    ends: tuple[float, float] | None,
    exact: bool,
    complete: bool,
    stopped: str | None,
) -> Tradeoff:
    """Put the points into the model's words."""
    problems = [lowered(formulation).problem(goal) for goal in goals]
    if ends is None and found and stopped is None:
        ends = min(p.first for p in found), max(p.first for p in found)
    width = ends[1] - ends[0] if ends is not None else float("nan")

    def share(point: _Point) -> float:
        if ends is None:
            return float("nan")
        return min(1.0, max(0.0, (point.first - ends[0]) / width)) if width > 0 else 0.0

    frame = pd.DataFrame(
        {
            "share": [share(p) for p in found],
            "corner": [p.corner for p in found],
            "price": [goals[1].sign * p.price + 0.0 for p in found],
        }
    )
    frame = frame.astype({"share": float, "corner": bool, "price": float})
    values: dict[str, list[float]] = {}
    plans = []
    for goal, problem in zip(goals, problems, strict=True):
        values[goal.name] = [goal.sign * problem.objective(_x(p)) + 0.0 for p in found]
    for p in found:
        x = _x(p)
        outcome = Outcome("stopped", x=x, activity=problems[0].activity(x))
        own = lowered(formulation).problems
        outcome = replace(outcome, objective=own[0].objective(x))
        plans.append(Plan(formulation, outcome, tuple(Stage(q.objective(x), -np.inf, False) for q in own)))
    own_values = pd.DataFrame(values, dtype=float)
    return Tradeoff(formulation.name, tuple(goals), frame, own_values, plans, exact, complete, stopped)


def _x(point: _Point) -> np.ndarray[Any, Any]:
    assert point.outcome.x is not None
    return point.outcome.x


class _Grid:
    """Points of three and more objectives: the first at its best with limits on the others, best to worst."""

    def __init__(self, problems: list[Problem], clock: Clock, on_point: Callable[[int], None] | None) -> None:
        self.problems, self.clock, self.on_point = problems, clock, on_point
        self.found: list[tuple[np.ndarray[Any, Any], _Point]] = []

    def points(self, count: int) -> list[_Point]:
        """Return the plans found that no other one found is better than; ``count`` is about how many are solved for."""
        ends = []
        for k in range(len(self.problems)):
            order = [self.problems[k], *self.problems[:k], *self.problems[k + 1 :]]
            outcome = self._solved(order)
            if outcome is None:
                return self._left()
            ends.append(self._values(outcome))
        best, worst = np.min(ends, axis=0), np.max(ends, axis=0)
        others = len(self.problems) - 1
        steps = max(2, round(count ** (1.0 / others)))
        levels = [np.linspace(worst[k], best[k], steps) for k in range(1, others + 1)]
        for limits in product(*levels):
            tops = [limit - p.offset + _room(limit) for p, limit in zip(self.problems[1:], limits, strict=True)]
            order = [with_held(p, self.problems[1:], tops) for p in self.problems]
            if self._solved(order) is None and self.clock.out() is not None:
                break
        return self._left()

    def _solved(self, order: list[Problem]) -> Outcome | None:
        """Solve for objectives in an order; every plan so found is kept, since no other is better than it."""
        if self.clock.out() is not None:
            return None
        gives = [Give()] * len(order)
        outcome, _ = solve_in_order(
            order, gives, self.clock.for_part("looking for points"), engine_options(self.clock.options)
        )
        if outcome.status != "optimal" or outcome.x is None:
            if outcome.status != "infeasible":
                self.clock.stopped = self.clock.stopped or outcome.reason or outcome.status
            return None
        values = self._values(outcome)
        self.found.append((values, _Point(values[0], values[1], outcome)))
        if self.on_point is not None:
            self.on_point(len(self.found))
        return outcome

    def _values(self, outcome: Outcome) -> np.ndarray[Any, Any]:
        assert outcome.x is not None
        return np.array([problem.objective(outcome.x) for problem in self.problems])

    def _left(self) -> list[_Point]:
        """Leave out points that another one is better than, and the same ones."""
        kept: list[tuple[np.ndarray[Any, Any], _Point]] = []
        for values, point in self.found:
            size = SAME * np.maximum(1.0, np.abs(values))
            if any((other <= values + size).all() for other, _ in kept):
                continue
            kept = [(o, p) for o, p in kept if not (values <= o + size).all()]
            kept.append((values, point))
        return [point for _, point in sorted(kept, key=lambda pair: tuple(pair[0]))]


class _Frontier:
    """Points that nothing betters in both, from the best value of the first objective to that of the second."""

    def __init__(self, first: Problem, second: Problem, clock: Clock, on_point: Callable[[int], None] | None) -> None:
        self.problems, self.clock, self.on_point = (first, second), clock, on_point
        self.ends: tuple[float, float] | None = None  # best and worst value of the first objective, once both are known
        self._start: np.ndarray | None = None
        self._reported = 0

    def shares(self, count: int) -> list[_Point]:
        """Return points at even shares given up of the first objective, and all corners of a linear frontier."""
        ends = self._ends()
        if len(ends) < 2:
            return ends
        best, last = ends
        tops = np.linspace(best.first, last.first, count)[1:-1].tolist()
        if not self.problems[0].discrete:
            corners = self._corners(best, last)
            tops = [top for top in tops if all(abs(top - c.first) > SAME * max(1.0, abs(top)) for c in corners)]
            inner = [point for top in tops if (point := self._on_line(corners, top)) is not None]
            return sorted([*corners, *inner], key=lambda p: p.first)
        found = [best]
        for top in tops:
            # where the last point goes beyond this share already, it is the answer again
            point = self._at(top)
            if point is None:
                return found
            if not self._same(point, found[-1]):
                found.append(point)
        if not self._same(last, found[-1]):
            found.append(last)
        return found

    def all(self) -> list[_Point]:
        """Return every point of a integer model with whole objectives, one after another."""
        problem = self.problems[0]
        if not problem.discrete:
            return self.shares(2)
        step = Step.of(self.problems[1]).size
        if not step:
            raise ModelError(
                "points='all' is for second objectives that move in steps: all of its decisions integer, with "
                "coefficients that are multiples of a thousandth; name a number of points instead"
            )
        ends = self._ends()
        found = ends[:1]
        while len(ends) == 2 and len(found) < MOST and not self._same(found[-1], ends[1]):
            point = self._beyond(found[-1].second - 0.5 * step)
            if point is None:
                break
            found.append(point)
        return found

    def _ends(self) -> list[_Point]:
        """Return both ends: each objective at its best, the other the best beside it."""
        one = self._in_order(0)
        if one is None:
            return []
        other = self._in_order(1)
        if other is None:
            return [one]
        self.ends = one.first, other.first
        return [one] if self._same(one, other) else [one, other]

    def _in_order(self, which: int) -> _Point | None:
        """Return the best plan for one objective and, beside it, for the other."""
        a, b = self.problems[which], self.problems[1 - which]
        outcome = self._solved(a)
        return None if outcome is None else self._settled(b, a, outcome)

    def _at(self, top: float) -> _Point | None:
        """Return the point with the first objective at most so large and the second as good as that allows."""
        first, second = self.problems
        outcome = self._solved(with_held(second, [first], [top - first.offset + _room(top)]))
        return None if outcome is None else self._settled(first, second, outcome)

    def _beyond(self, top: float) -> _Point | None:
        """Return the point with the second objective at most so large and the first as good as that allows."""
        first, second = self.problems
        outcome = self._solved(with_held(first, [second], [top - second.offset]))
        return None if outcome is None else self._settled(second, first, outcome)

    def _settled(self, other: Problem, own: Problem, outcome: Outcome) -> _Point | None:
        """Make the other objective as good as can be beside what one has reached, so that nothing betters both."""
        value = outcome.objective
        held = with_held(other, [own], [value - own.offset + _room(value)])
        face = None if own.discrete else optimal_face(own, outcome)
        # linear models need no room beside the value: every best plan stands where the prices say
        final = self._solved(held if face is None else replace(face, costs=other.costs, offset=other.offset))
        if final is None or final.x is None:
            return None
        if own.discrete:
            final = cleaned([own, other], final)
        assert final.x is not None
        first, second = (problem.objective(final.x) for problem in self.problems)
        self._reported += 1
        if self.on_point is not None:
            self.on_point(self._reported)
        return _Point(first, second, self._plain(final))

    def _solved(self, problem: Problem) -> Outcome | None:
        """Solve to the end, from the last plan; None where there is no best plan, or a limit stops it."""
        if self.clock.out() is not None:
            return None
        options = engine_options(self.clock.options)
        start = self._start if problem.discrete else None
        outcome = solve(problem, self.clock.for_part("looking for points"), replace(options, start=start))
        if outcome.status != "optimal":
            self.clock.stopped = self.clock.stopped or outcome.reason or outcome.status
            return None
        self._start = outcome.x
        return outcome

    def _plain(self, outcome: Outcome) -> Outcome:
        m = self.problems[0].m
        return replace(outcome, activity=None if outcome.activity is None else outcome.activity[:m])

    def _same(self, a: _Point, b: _Point) -> bool:
        return abs(a.first - b.first) <= SAME * max(1.0, abs(a.first)) and abs(a.second - b.second) <= SAME * max(
            1.0, abs(a.second)
        )

    # ------------------------------------------------------------------ linear models

    def _corners(self, best: _Point, last: _Point) -> list[_Point]:
        """Return the corners of a linear frontier: the first objective's limit is moved from price to price."""
        first, second = self.problems
        held = with_held(second, [first], [best.first - first.offset])
        row, solver = held.m - 1, LinearSolver(held)
        found: list[_Point] = []
        top = best.first
        while len(found) < MOST:
            high = held.row_upper.copy()
            high[row] = top - first.offset
            solver.change_limits(row, -np.inf, high[row])
            outcome = solver.solve(self.clock.for_part("looking for points"))
            if outcome.status != "optimal" or outcome.x is None:
                break
            side = Ranging(replace(held, row_upper=high), outcome).side(row, "upper", 1.0)
            straight = found and abs(side.price - found[-1].price) <= SAME * max(1.0, abs(side.price))
            if not straight:
                values = first.objective(outcome.x), second.objective(outcome.x)
                found.append(_Point(*values, self._plain(outcome), corner=True, price=side.price))
            step = max(side.reach, TIE * max(1.0, abs(top)))
            if top + step >= last.first - SAME * max(1.0, abs(last.first)):
                break
            top += step
        found[:1] = [replace(best, corner=True, price=found[0].price if found else float("nan"))]
        return [*found, replace(last, corner=True)]

    def _on_line(self, corners: list[_Point], top: float) -> _Point | None:
        """Return the point of a straight piece between two corners: a mixture of their plans."""
        k = max(i for i, corner in enumerate(corners) if corner.first <= top)
        a, b = corners[k], corners[k + 1]
        assert a.outcome.x is not None
        assert b.outcome.x is not None
        weight = (top - a.first) / (b.first - a.first)
        x = (1.0 - weight) * a.outcome.x + weight * b.outcome.x
        outcome = replace(b.outcome, x=x, activity=self.problems[0].activity(x))
        first, second = self.problems
        return _Point(first.objective(x), second.objective(x), outcome, price=a.price)


def _room(value: float) -> float:
    return TIE * max(1.0, abs(value))
