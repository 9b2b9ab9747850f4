"""Two objectives against each other: plans in which neither can get better unless the other gives way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.in_order import with_held
from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.ranging import Ranging
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.engine.tree.domain import objective_step
from ruddock.errors import ModelError, known
from ruddock.modelling.plan import Plan
from ruddock.modelling.printed import Printed
from ruddock.modelling.solve import interruptible
from ruddock.tables import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.formulation import Formulation, Objective
    from ruddock.modelling.model import Model
    from ruddock.problem import Problem

POINTS = 21
MOST = 100_000
SAME = 1e-7  # relative: values of objectives that differ by less are the same point
PRICED = 1e-9  # prices nearer to 0, beside the largest, are rounding
TIE = 1e-9  # relative room that one objective leaves while the other is made best


@dataclass(frozen=True, eq=False)
class Tradeoff(Printed):
    """The frontier between two objectives of a model.

    Attributes
    ----------
    points : DataFrame, one row a point
        ``share``: how much of the way from its best value to its value at the other end the first objective has given
        up, 0 to 1; both objectives, as written; ``corner``: whether the point is an exact corner of a linear
        model's frontier; ``price``: what one unit given up of the first changes the second by, from here to the
        next point (NaN at the last, and for whole-number models).
    plans : list of Plan, one for each point
    exact : whether straight lines between the points are the frontier: linear models
    complete : whether these are all plans that nothing betters: linear models, and whole-number ones with ``all``
    stopped : why the run ended early, or None
    """

    first: Objective
    second: Objective
    points: pd.DataFrame
    plans: list[Plan]
    exact: bool
    complete: bool
    stopped: str | None = None

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.tradeoff import tradeoff_parts

        return tradeoff_parts(self)

    def decisions(self) -> pd.DataFrame:
        """Return the decisions of every point: a row a point, a column a decision."""
        if not self.plans:
            return pd.DataFrame(index=self.points.index)
        formulation = self.plans[0].formulation
        values = [plan.values[formulation.written_columns] for plan in self.plans]
        names = np.array(formulation.decision_names)[formulation.written_columns]
        return pd.DataFrame(values, columns=names, index=self.points.index)

    def draw(self, ax: Axes | None = None) -> Axes:
        """Draw the frontier, with Matplotlib.

        Parameters
        ----------
        ax : matplotlib Axes, optional
            New ones by default.
        """
        from ruddock.reporting.figures import tradeoff_figure

        return tradeoff_figure(self, ax)

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON."""
        plain = self.points.astype(object).where(self.points.notna(), None)
        return {
            "format": "ruddock-tradeoff/1",
            "first": self.first.name,
            "second": self.second.name,
            "exact": self.exact,
            "complete": self.complete,
            "stopped": self.stopped,
            "points": plain.to_dict("records"),
            "decisions": self.decisions().to_dict("records"),
        }


@dataclass(frozen=True)
class _Point:
    """A point of the frontier in the engine's terms: both values are to be small."""

    first: float
    second: float
    outcome: Outcome
    corner: bool = False
    price: float = float("nan")


def tradeoff(
    model: Model,
    first: str,
    second: str,
    points: int | str = POINTS,
    time_limit: float | None = None,
    on_point: Callable[[int], None] | None = None,
) -> Tradeoff:
    """Work out the frontier between two objectives; see `Model.tradeoff`."""
    formulation = model.formulation()
    goals = [_objective(formulation, name) for name in (first, second)]
    if goals[0] is goals[1]:
        raise ModelError(f"a trade-off is between two objectives; {first!r} was named twice")
    if points != "all" and not (isinstance(points, int) and points >= 2):
        raise ModelError(f"points is a number from 2 on, or 'all', not {points!r}")
    with interruptible() as interrupted:
        limits = Limits(seconds=float("inf") if time_limit is None else time_limit, interrupted=interrupted)
        frontier = _Frontier(formulation.problem(goals[0]), formulation.problem(goals[1]), limits, on_point)
        if points == "all":
            found = frontier.all()
        else:
            assert isinstance(points, int)
            found = frontier.shares(points)
    linear = not frontier.problems[0].discrete
    return _told(formulation, goals, found, linear, linear or points == "all", frontier.stopped)


def _objective(formulation: Formulation, name: str) -> Objective:
    names = [objective.name for objective in formulation.objectives]
    if name not in names:
        hint = known(name, names) if names else "the model has none"
        more = "" if len(names) > 1 else "; a trade-off needs a model with two: give it another minimize or maximize"
        raise ModelError(f"there is no objective called {name!r}; {hint}{more}")
    return formulation.objectives[names.index(name)]


def _told(
    formulation: Formulation,
    goals: list[Objective],
    found: list[_Point],
    exact: bool,
    complete: bool,
    stopped: str | None,
) -> Tradeoff:
    """Put the points into the model's words."""
    signs = [-1.0 if goal.maximize else 1.0 for goal in goals]
    width = found[-1].first - found[0].first if found else 0.0
    frame = pd.DataFrame(
        {
            "share": [(p.first - found[0].first) / width if width > 0 else 0.0 for p in found],
            goals[0].name: [signs[0] * p.first + 0.0 for p in found],
            goals[1].name: [signs[1] * p.second + 0.0 for p in found],
            "corner": [p.corner for p in found],
            "price": [signs[1] * p.price + 0.0 for p in found],
        }
    )
    plans = []
    for p in found:
        outcome = replace(p.outcome, objective=p.second, bound=p.second, y=None, reduced=None, basis=None)
        plans.append(Plan(formulation, outcome, goals[1]))
    return Tradeoff(goals[0], goals[1], frame, plans, exact, complete and stopped is None, stopped)


class _Frontier:
    """Points that nothing betters in both, from the best value of the first objective to that of the second."""

    def __init__(self, first: Problem, second: Problem, limits: Limits, on_point: Callable[[int], None] | None) -> None:
        self.problems, self.limits, self.on_point = (first, second), limits, on_point
        self.stopped: str | None = None
        self._start: np.ndarray | None = None
        self._told = 0

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
        """Return every point of a whole-number model with whole objectives, one after another."""
        problem = self.problems[0]
        if not problem.discrete:
            return self.shares(2)
        step = objective_step(self.problems[1])
        if not step:
            raise ModelError(
                "points='all' is for second objectives that move in steps: all of its decisions whole numbers, with "
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
        face = None if own.discrete else _best_face(own, outcome)
        # linear models need no room beside the value: every best plan stands where the prices say
        final = self._solved(held if face is None else replace(face, costs=other.costs, offset=other.offset))
        if final is None or final.x is None:
            return None
        first, second = (problem.objective(final.x) for problem in self.problems)
        self._told += 1
        if self.on_point is not None:
            self.on_point(self._told)
        return _Point(first, second, self._plain(final))

    def _solved(self, problem: Problem) -> Outcome | None:
        """Solve to the end, from the last plan; None where there is no best plan, or a limit stops it."""
        reason = self.limits.exceeded(0)
        if reason is not None:
            self.stopped = self.stopped or reason
            return None
        start = self._start if problem.discrete else None
        outcome = solve(problem, self.limits, Options(start=start))
        if outcome.status != "optimal":
            self.stopped = self.stopped or outcome.reason or outcome.status
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
            outcome = solver.solve(self.limits)
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


def _best_face(problem: Problem, outcome: Outcome) -> Problem | None:
    """Return the problem with everything that has a price held where it is: exactly the best plans are left."""
    if outcome.y is None or outcome.reduced is None:
        return None
    y, d = outcome.y, outcome.reduced
    low = d > PRICED * max(1.0, np.abs(problem.costs).max(initial=0.0))
    high = d < -PRICED * max(1.0, np.abs(problem.costs).max(initial=0.0))
    size = PRICED * max(1.0, np.abs(y).max(initial=0.0))
    return replace(
        problem,
        lower=np.where(high, problem.upper, problem.lower),
        upper=np.where(low, problem.lower, problem.upper),
        row_lower=np.where(y < -size, problem.row_upper, problem.row_lower),
        row_upper=np.where(y > size, problem.row_lower, problem.row_upper),
    )


def _room(value: float) -> float:
    return TIE * max(1.0, abs(value))
