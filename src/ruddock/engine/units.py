"""The problem in units of its own, so that a tolerance means the same for every row, column and objective.

A model may be written in grams or in kilotons. Costs, rows and continuous columns whose numbers all lie far from 1 are
multiplied by powers of two, which rounds nothing; the outcome is in the units of the problem as written. Where the
search is for whole numbers, rows of integer columns alone whose coefficients have a common measure become rows of whole
numbers, with limits rounded to what whole numbers can reach, so that they can be judged without any tolerance.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ruddock.engine import certificates
from ruddock.engine.measure import measures, near
from ruddock.engine.outcome import Goal, LazyRow, Limits, Moment, Options, Outcome, Progress
from ruddock.problem import Floats, Problem

SMALL, LARGE = 2.0**-10, 2.0**20  # a row or column whose entries are all below the one or above the other is scaled
CHEAP, DEAR = 2.0**-4, 2.0**24  # costs whose median lies outside are scaled
PASSES = 2


@dataclass(frozen=True, eq=False, repr=False)
class Units:
    """A problem in its own units.

    Attributes
    ----------
    problem : Problem
        What is solved: ``rows[i] a[i, j] columns[j]``, costs times ``goal.unit``.
    original : Problem
    rows, columns : float arrays, shapes (m,) and (n,)
    goal : Goal
        How the objective relates to the one as written.
    impossible : bool
        Whether a row has no whole solution, by the common measure of its coefficients alone.
    rounded : bool array, shape (m,), or None
        Rows whose limits were moved to what whole numbers can reach: what they prove need not follow from the limits
        as written.
    """

    problem: Problem
    original: Problem
    rows: Floats
    columns: Floats
    goal: Goal
    impossible: bool = False
    rounded: np.ndarray | None = None

    @property
    def plain(self) -> bool:
        """Whether the problem is as it was."""
        return self.problem is self.original

    # ------------------------------------------------------------------ the way in

    def options(self, options: Options) -> Options:
        """Return options that say the same of this problem."""
        lazy = options.lazy
        return replace(
            options,
            goal=self.goal.within(options.goal),
            start=None if options.start is None else options.start / self.columns,
            known=None if options.known is None else options.known / self.columns,
            lazy=None if lazy is None else lambda x: [self._row(row) for row in lazy(x * self.columns)],
        )

    def _row(self, row: LazyRow) -> LazyRow:
        columns, values, lower, upper = row
        return columns, values * self.columns[columns], lower, upper

    def limits(self, limits: Limits) -> Limits:
        """Return limits whose listeners hear of the objective as written."""
        tell = limits.on_plan
        return replace(
            limits,
            on_progress=self._progress(limits.on_progress),
            on_event=self._event(limits.on_event),
            on_plan=None if tell is None else lambda x: tell(x * self.columns),
        )

    def _progress(self, listener: Callable[[Progress], None] | None) -> Callable[[Progress], None] | None:
        if listener is None:
            return None
        written = self.goal.written
        return lambda now: listener(now._replace(best=written(now.best), bound=written(now.bound)))

    def _event(self, listener: Callable[[dict[str, Any]], None] | None) -> Callable[[dict[str, Any]], None] | None:
        if listener is None:
            return None
        values = ("objective", "best", "bound")
        return lambda event: listener(
            {k: self.goal.written(v) if k in values and isinstance(v, float) else v for k, v in event.items()}
        )

    # ------------------------------------------------------------------ the way back

    def outcome(self, outcome: Outcome) -> Outcome:
        """Return an outcome in the units of the problem as written."""
        p, unit = self.original, self.goal.unit
        x = None if outcome.x is None else outcome.x * self.columns
        objective = self.goal.written(outcome.objective)
        if x is not None and self.goal.offset:
            objective = p.objective(x)
        bound = self.goal.written(outcome.bound)
        proof = None if outcome.proof is None else outcome.proof * self.rows
        if proof is not None and self.rounded is not None and proof[self.rounded].any():
            proof = proof if certificates.proof_holds(p, proof, p.lower, p.upper) else None
        return replace(
            outcome,
            x=x,
            activity=None if x is None else p.activity(x),
            y=None if outcome.y is None else outcome.y * self.rows / unit,
            reduced=None if outcome.reduced is None else outcome.reduced / (self.columns * unit),
            objective=objective,
            bound=bound if x is None else min(bound, objective),
            proof=proof,
            ray=None if outcome.ray is None else outcome.ray * self.columns,
            history=tuple(
                Moment(m.seconds, m.nodes, self.goal.written(m.best), self.goal.written(m.bound))
                for m in outcome.history
            ),
        )


def in_units(problem: Problem) -> Units:
    """Return a problem in units of its own."""
    rows, columns, measured = _factors(problem)
    unit = _objective_unit(problem, columns)
    goal = Goal(problem.offset if problem.discrete else 0.0, unit)
    if not measured.any() and unit == 1.0 and (rows == 1.0).all() and (columns == 1.0).all():
        plain = problem if not goal.offset else replace(problem, offset=0.0)
        return Units(plain, problem, rows, columns, goal)
    owner = np.repeat(np.arange(problem.n), np.diff(problem.starts))
    values = problem.values * rows[problem.indices] * columns[owner]
    whole = measured[problem.indices]
    values[whole] = np.round(values[whole])
    low, high = problem.row_lower * rows, problem.row_upper * rows
    limits = low.copy(), high.copy()
    low[measured] = np.ceil(low[measured] - near(low[measured]))
    high[measured] = np.floor(high[measured] + near(high[measured]))
    rounded = (low > limits[0] + near(limits[0])) | (high < limits[1] - near(limits[1]))
    impossible = bool((low > high)[measured & (problem.row_lower <= problem.row_upper)].any())
    scaled = replace(
        problem,
        values=values,
        row_lower=low,
        row_upper=high,
        lower=problem.lower / columns,
        upper=problem.upper / columns,
        costs=problem.costs * columns * unit,
        offset=problem.offset * unit - goal.offset * unit,
    )
    return Units(scaled, problem, rows, columns, goal, impossible, rounded)


def _factors(problem: Problem) -> tuple[Floats, Floats, np.ndarray]:
    """Return the factors of rows and columns, and which rows become rows of whole numbers."""
    m, n = problem.m, problem.n
    rows, columns, measured = np.ones(m), np.ones(n), np.zeros(m, bool)
    if not problem.nonzeros:
        return rows, columns, measured
    size = np.abs(problem.values)
    even = size.min() >= SMALL and size.max() <= LARGE
    if even and not problem.discrete:
        return rows, columns, measured
    owner = np.repeat(np.arange(n), np.diff(problem.starts))
    if problem.discrete:
        measured = _measured(problem, owner, rows)
    if even:
        return rows, columns, measured
    # rows of mixed size are left alone; so are those that belong to whole numbers, and whole columns
    bound = (problem.kinds != 0) if problem.discrete else np.zeros(n, bool)
    for _ in range(PASSES):
        _scale(columns, size * rows[problem.indices] * columns[owner], owner, bound)
        _scale(rows, size * rows[problem.indices] * columns[owner], problem.indices, measured)
    return rows, columns, measured


def _scale(factors: Floats, size: Floats, group: np.ndarray, fixed: np.ndarray) -> None:
    """Bring each group whose sizes all lie far from 1 near to 1, in place, by powers of two."""
    low, high = np.full(len(factors), np.inf), np.zeros(len(factors))
    np.minimum.at(low, group, size)
    np.maximum.at(high, group, size)
    far = ~fixed & (high > 0) & ((high < SMALL) | (low > LARGE))
    factors[far] *= np.exp2(-np.round(np.log2(low[far]) / 2 + np.log2(high[far]) / 2))


def _measured(problem: Problem, owner: np.ndarray, rows: Floats) -> np.ndarray:
    """Find the rows of integer columns alone whose coefficients have a common measure; set their factors."""
    count = np.bincount(problem.indices, minlength=problem.m)
    mixed = np.bincount(problem.indices, ~problem.integers[owner], problem.m) > 0
    candidates = (count > 0) & ~mixed
    entries = np.flatnonzero(candidates[problem.indices])
    found = measures(problem.values[entries], problem.indices[entries], problem.m)
    measured = candidates & (found > 0)
    with np.errstate(invalid="ignore", divide="ignore"):
        limits = [np.where(measured, limit / found, 0.0) for limit in (problem.row_lower, problem.row_upper)]
    for limit in limits:
        measured &= ~(np.isfinite(limit) & (np.abs(limit) > 2.0**50))
    rows[measured] = 1.0 / found[measured]
    same = found == 1.0
    for limit in limits:
        same &= ~np.isfinite(limit) | (limit == np.round(limit))
    return np.asarray(measured & ~same)


def _objective_unit(problem: Problem, columns: Floats) -> float:
    """Return the power of two that brings the median cost near to 1, where it lies far from that."""
    costs = np.abs(problem.costs * columns)
    costs = costs[costs > 0]
    if not len(costs) or (costs.min() >= CHEAP and costs.max() <= DEAR):
        return 1.0
    middle = float(np.median(costs))
    return 1.0 if CHEAP <= middle <= DEAR else float(np.exp2(-np.round(np.log2(middle))))
