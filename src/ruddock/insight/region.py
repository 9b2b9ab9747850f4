"""The feasible region of a model of two decisions: its corners, what meets there, and what each is worth."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Figure
from ruddock.document.result import Result, records
from ruddock.engine.outcome import FEASIBILITY
from ruddock.engine.solve import solve
from ruddock.errors import ModelError, listed
from ruddock.modelling.formulation import Formulation, Objective
from ruddock.modelling.frames import distinct
from ruddock.modelling.lowering import lowered
from ruddock.modelling.options import SolveOptions, running
from ruddock.modelling.plan import Plan
from ruddock.modelling.solve import solve_formulation
from ruddock.problem import INTEGER, Floats, Problem

if TYPE_CHECKING:
    from ruddock.modelling.model import Model

MOST_LINES = 1_000
MOST_POINTS = 40_000  # integer points that are kept
SAME = 1e-9  # relative: corners nearer to each other are one
BEYOND = 1.25  # of the way to the last corner: how far an unlimited region is shown


@dataclass(frozen=True)
class Line:
    """A limit as a line: ``a x + b y`` with its relation and limit."""

    name: str
    a: float
    b: float
    relation: str
    limit: float


@dataclass(frozen=True, eq=False, repr=False)
class Region(Result):
    """All plans of a model of two decisions.

    Attributes
    ----------
    names : of the two decisions
    corners : DataFrame, anticlockwise
        Both decisions, ``objective``, the first one as written, and ``where``: the limits that meet there.
    points : float array, shape (k, 2)
        The plans in integers, where both decisions are whole; else empty.
    lines : list of Line
        Limits and bounds.
    unlimited : whether the region has no end somewhere; a figure then shows it open at its frame
    outline : float array, shape (k, 2): the region as far as the frame shows it, anticlockwise
    plan : the best plan
    """

    names: tuple[str, str]
    units: tuple[str | None, str | None]
    corners: pd.DataFrame
    points: Floats
    lines: list[Line]
    unlimited: bool
    outline: Floats
    frame: tuple[float, float, float, float]
    plan: Plan
    goal: Objective | None
    gradient: Floats

    undrawn = "the region is empty; model.diagnose() says why"

    def _title(self) -> str:
        return self.plan.model_name

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.region_words import region_blocks

        return region_blocks(self)

    def figure(self) -> Figure | None:
        """Return a figure of the region."""
        from ruddock.insight.region_words import region_figure

        return Figure(partial(region_figure, self), "The feasible region", 5.0) if len(self.outline) else None

    def table(self) -> pd.DataFrame:
        """Return the corners; see the attribute of that name."""
        return self.corners.copy()

    def _facts(self) -> dict[str, Any]:
        return {
            "format": "ruddock-region/1",
            "model": self.plan.model_name,
            "decisions": list(self.names),
            "unlimited": self.unlimited,
            "corners": [
                {"decisions": dict(zip(self.names, at, strict=True)), **said}
                for at, said in zip(
                    self.corners.iloc[:, :2].to_numpy(float).tolist(),
                    records(self.corners.iloc[:, 2:].reset_index(drop=True)).values(),
                    strict=True,
                )
            ],
            "points": self.points.tolist(),
        }


def region(model: Model, given: Mapping[str, Any]) -> Region:
    """Work out the region of a model of two decisions; see `Model.region`."""
    options = SolveOptions.of(given)
    formulation = model.formulation()
    with running(options, formulation) as clock:
        if formulation.size == 2 and not formulation.rules and not formulation.curves:
            plan = solve_formulation(formulation, options, clock)
            return region_of(plan)
    return region_of_formulation(formulation, None)


def region_of(plan: Plan) -> Region:
    """Return the region that a plan is in."""
    return region_of_formulation(plan.formulation, plan)


def region_of_formulation(formulation: Formulation, plan: Plan | None) -> Region:
    """Return the region of a formulation with the plan at hand."""
    names = formulation.decision_names
    if len(names) != 2:
        raise ModelError(f"a region is drawn for two decisions; this model has {len(names):,}")
    if formulation.rules or formulation.curves:
        raise ModelError("a region is drawn for constraints and bounds, not for models with rules or curves")
    goal = formulation.first_objective
    problem = lowered(formulation).problems[0]
    if (problem.kinds & ~np.uint8(INTEGER)).any():
        raise ModelError("a region is drawn for continuous and integer decisions, not for semicontinuous ones")
    assert plan is not None
    lines = _lines(problem, names, formulation.constraint_names)
    if len(lines) > MOST_LINES:
        raise ModelError(f"{len(lines):,} limits are too many to draw; up to {MOST_LINES:,} are")
    relaxed = replace(problem, kinds=np.zeros(2, np.uint8))
    sides = [_end(relaxed, at, sign) for at in (0, 1) for sign in (1.0, -1.0)]
    unlimited = any(side is not None and np.isinf(side) for side in sides)
    found = _corners(problem, lines)
    frame = _frame(sides, found)
    outline = found
    if unlimited:
        low_x, high_x, low_y, high_y = frame
        edges = [
            Line("", 1.0, 0.0, ">=", low_x),
            Line("", 1.0, 0.0, "<=", high_x),
            Line("", 0.0, 1.0, ">=", low_y),
            Line("", 0.0, 1.0, "<=", high_y),
        ]
        framed = replace(
            problem,
            lower=np.maximum(problem.lower, [low_x, low_y]),
            upper=np.minimum(problem.upper, [high_x, high_y]),
        )
        outline = _corners(framed, [*lines, *edges])
    sign = goal.sign if goal is not None else 1.0
    rows = []
    for x, y in found.tolist():
        meeting = [line.name for line in lines if abs(line.a * x + line.b * y - line.limit) <= 1e-7 * _size(line, x, y)]
        rows.append((x, y, sign * problem.objective(np.array([x, y])) + 0.0, listed(list(dict.fromkeys(meeting)), 6)))
    columns = [*distinct(names, ("objective", "where"), "decision"), "objective", "where"]
    units = (formulation.member_at(0)[0].unit, formulation.member_at(1)[0].unit)
    return Region(
        (names[0], names[1]),
        units,
        pd.DataFrame(rows, columns=columns),
        _whole_points(problem, frame),
        lines,
        unlimited,
        outline,
        frame,
        plan,
        goal,
        sign * problem.costs,
    )


def _lines(problem: Problem, names: list[str], rows: list[str]) -> list[Line]:
    """Return the limits and bounds, each finite side a line."""
    matrix = problem.matrix().toarray()
    lines = []
    for i, (a, b) in enumerate(matrix.tolist()):
        for relation, limit in ((">=", problem.row_lower[i]), ("<=", problem.row_upper[i])):
            if np.isfinite(limit) and (a or b):
                lines.append(Line(rows[i], a, b, relation, float(limit)))
    for j, (a, b) in enumerate(((1.0, 0.0), (0.0, 1.0))):
        for relation, limit in ((">=", problem.lower[j]), ("<=", problem.upper[j])):
            if np.isfinite(limit):
                lines.append(Line(f"{names[j]} {relation} {limit:.6g}", a, b, relation, float(limit)))
    return lines


def _end(problem: Problem, at: int, sign: float) -> float | None:
    """Return how far a decision can go one way; None where there is no plan."""
    costs = np.zeros(2)
    costs[at] = -sign
    outcome = solve(replace(problem, costs=costs, offset=0.0))
    if outcome.status == "unbounded":
        return sign * np.inf
    return float(outcome.x[at]) if outcome.x is not None else None


def _size(line: Line, x: float, y: float) -> float:
    return max(1.0, abs(line.a * x) + abs(line.b * y), abs(line.limit))


def _corners(problem: Problem, lines: list[Line]) -> Floats:
    """Return the points where two lines meet within all limits, anticlockwise."""
    if len(lines) < 2:
        return np.zeros((0, 2))
    a, b, c = (np.array([getattr(line, name) for line in lines]) for name in ("a", "b", "limit"))
    one, two = np.triu_indices(len(lines), 1)
    cross = a[one] * b[two] - a[two] * b[one]
    apart = np.abs(cross) > SAME * np.maximum(1e-300, np.hypot(a[one], b[one]) * np.hypot(a[two], b[two]))
    one, two, cross = one[apart], two[apart], cross[apart]
    x = (c[one] * b[two] - c[two] * b[one]) / cross
    y = (a[one] * c[two] - a[two] * c[one]) / cross
    points = np.stack((x, y), axis=1)
    points = points[_kept(problem, points)] + 0.0
    if not len(points):
        return points
    size = np.maximum(1.0, np.abs(points).max())
    _, first = np.unique(np.round(points / (SAME * 100 * size)), axis=0, return_index=True)
    points = points[first]
    middle = points.mean(axis=0)
    order = np.argsort(np.arctan2(points[:, 1] - middle[1], points[:, 0] - middle[0]), kind="stable")
    return np.asarray(points[order])


def _kept(problem: Problem, points: Floats) -> np.ndarray:
    """Say which points keep all limits and bounds."""
    activity = points @ problem.matrix().toarray().T
    size = np.maximum(1.0, np.abs(activity))
    rows = (activity >= problem.row_lower - FEASIBILITY * size) & (activity <= problem.row_upper + FEASIBILITY * size)
    span = np.maximum(1.0, np.abs(points))
    bounds = (points >= problem.lower - FEASIBILITY * span) & (points <= problem.upper + FEASIBILITY * span)
    return np.asarray(rows.all(axis=1) & bounds.all(axis=1))


def _frame(sides: list[float | None], corners: Floats) -> tuple[float, float, float, float]:
    """Return what of the plane is shown: least and greatest of both decisions."""
    result = []
    for at in (0, 1):
        high, low = sides[2 * at], sides[2 * at + 1]
        known = corners[:, at].tolist() + [v for v in (high, low) if v is not None and np.isfinite(v)]
        least, most = (min(known), max(known)) if known else (0.0, 1.0)
        room = max(most - least, 0.25 * max(abs(least), abs(most)), 1e-6)
        least = least - BEYOND * room if low is not None and np.isinf(low) else least
        most = most + BEYOND * room if high is not None and np.isinf(high) else most
        result += [least, most]
    return result[0], result[1], result[2], result[3]


def _whole_points(problem: Problem, frame: tuple[float, float, float, float]) -> Floats:
    """Return the plans in integers within the frame, where both decisions are whole and they are not too many."""
    if not (problem.kinds & INTEGER).all():
        return np.zeros((0, 2))
    low_x, high_x, low_y, high_y = frame
    across, up = (
        np.arange(np.ceil(low - 1e-9), np.floor(high + 1e-9) + 1.0) for low, high in ((low_x, high_x), (low_y, high_y))
    )
    if len(across) * len(up) > MOST_POINTS:
        return np.zeros((0, 2))
    grid = np.stack(np.meshgrid(across, up, indexing="ij"), axis=-1).reshape(-1, 2)
    return np.asarray(grid[_kept(problem, grid)])
