"""The objective as a function of one limit: exact pieces for linear models, points for whole-number ones."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.outcome import Outcome
from ruddock.engine.ranging import Ranging
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.errors import ModelError
from ruddock.insight.limits import Limit, pick_limit
from ruddock.insight.reach import extreme_limit
from ruddock.modelling.printed import Printed
from ruddock.problem import Problem
from ruddock.tables import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.model import Model

MOST_PIECES = 10_000
POINTS = 25
TINY = 1e-9  # relative: pieces shorter than this are rounding


@dataclass(frozen=True, eq=False)
class Sweep(Printed):
    """The objective along a limit.

    Attributes
    ----------
    limit : which limit was moved
    exact : whether the points are the ends of all linear pieces, between which straight lines are exact
    points : DataFrame by value of the limit: objective as written and price, the change of the objective per
        unit more from there on (NaN at the last point, and for whole-number models)
    decisions : DataFrame, one row per point, one column per decision
    first, last : between these values there are plans; outside there is none within the range asked for
    """

    limit: Limit
    exact: bool
    objective_name: str | None
    unit: str | None
    sense: str
    points: pd.DataFrame
    decisions: pd.DataFrame
    first: float
    last: float

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.sweep import sweep_parts

        return sweep_parts(self)

    def objective(self, value: float) -> float:
        """Return the objective at a value of the limit; NaN where there is no plan.

        Raises
        ------
        ModelError
            Between the points of a whole-number model.
        """
        at = self.points.index.to_numpy(float)
        if not len(at) or value < self.first or value > self.last:
            return float("nan")
        if not self.exact and value not in at:
            raise ModelError("between its points, the sweep of a whole-number model is not known")
        return float(np.interp(value, at, self.points["objective"].to_numpy(float)))

    def draw(self, ax: Axes | None = None) -> Axes:
        """Draw the objective along the limit, with Matplotlib.

        Parameters
        ----------
        ax : matplotlib Axes, optional
            New ones by default.
        """
        from ruddock.reporting.figures import sweep_figure

        return sweep_figure(self, ax)

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON."""
        plain = self.points.astype(object).where(self.points.notna(), None)
        return {
            "format": "ruddock-sweep/1",
            "limit": self.limit.name,
            "exact": self.exact,
            "points": [
                {"limit": float(at), **row} for at, row in zip(plain.index, plain.to_dict("records"), strict=True)
            ],
            "decisions": self.decisions.to_dict("records"),
        }


def sweep(model: Model, name: str, start: float, stop: float, points: int = POINTS) -> Sweep:
    """Follow the objective along a limit; see `Model.sweep`."""
    if not start < stop or not np.isfinite([start, stop]).all():
        raise ModelError(f"a sweep goes from a smaller to a larger limit, not from {start} to {stop}")
    formulation = model.formulation()
    limit = pick_limit(formulation, name)
    goal = formulation.first_objective
    problem = formulation.problem(goal)
    found = (
        _at_points(problem, limit, start, stop, points) if problem.discrete else _exactly(problem, limit, start, stop)
    )
    sign = -1.0 if goal is not None and goal.maximize else 1.0
    index = pd.Index([at for at, _, _ in found], name=limit.name, dtype=float)
    frame = pd.DataFrame(
        {
            "objective": [sign * outcome.objective + 0.0 for _, outcome, _ in found],
            "price": [sign * price + 0.0 for _, _, price in found],
        },
        index=index,
        dtype=float,
    )
    values = [outcome.x for _, outcome, _ in found]
    decisions = pd.DataFrame(
        np.array(values).reshape(len(values), problem.n), index=index, columns=formulation.decision_names, dtype=float
    )
    return Sweep(
        limit,
        not problem.discrete,
        goal.name if goal else None,
        goal.unit if goal else None,
        "maximize" if sign < 0 else "minimize",
        frame,
        decisions.loc[:, formulation.written_columns],
        float(index[0]) if len(index) else float("nan"),
        float(index[-1]) if len(index) else float("nan"),
    )


def _exactly(problem: Problem, limit: Limit, start: float, stop: float) -> list[tuple[float, Outcome, float]]:
    """Return the ends of the linear pieces, each with the price beyond."""
    first = extreme_limit(problem, limit, start, stop, lowest=True)
    last = extreme_limit(problem, limit, start, stop, lowest=False)
    found: list[tuple[float, Outcome, float]] = []
    if first is None or last is None:
        return found
    at, solver = first, LinearSolver(problem)
    while len(found) < MOST_PIECES:
        moved = limit.moved(problem, at)
        solver.change_limits(limit.row, moved.row_lower[limit.row], moved.row_upper[limit.row])
        outcome = solver.solve()
        if outcome.status != "optimal":
            break
        if at >= last:
            found.append((at, outcome, np.nan))
            break
        side = Ranging(moved, outcome).side(limit.row, limit.side, 1.0)
        found.append((at, outcome, side.price))
        step = max(side.reach, TINY * max(1.0, abs(at)))
        at = min(at + step, last)
    return _joined(found)


def _joined(found: list[tuple[float, Outcome, float]]) -> list[tuple[float, Outcome, float]]:
    """Leave out points between two pieces of the same price."""
    kept: list[tuple[float, Outcome, float]] = []
    for k, point in enumerate(found):
        if 0 < k < len(found) - 1 and abs(point[2] - kept[-1][2]) <= 1e-9 * max(1.0, abs(point[2])):
            continue
        kept.append(point)
    return kept


def _at_points(
    problem: Problem, limit: Limit, start: float, stop: float, points: int
) -> list[tuple[float, Outcome, float]]:
    """Return the answers at evenly spread values of the limit."""
    found = []
    for at in np.linspace(start, stop, max(2, points)).tolist():
        outcome = solve(limit.moved(problem, at))
        if outcome.status == "optimal":
            found.append((at, outcome, np.nan))
    return found
