"""`Presolve`: reductions one after the other until they find no more, and the way back."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ruddock.engine.outcome import FEASIBILITY
from ruddock.engine.presolve.columns import DominatedColumns, FixedColumns
from ruddock.engine.presolve.parallel import ParallelColumns, ParallelRows
from ruddock.engine.presolve.rows import ForcingRows, RedundantRows, SingletonRows
from ruddock.engine.presolve.stage import Point, Reduction, Stage, limit_size
from ruddock.engine.presolve.substitution import DoubletonEquations, FreeSingletons, SlackColumns
from ruddock.problem import Problem

REDUCTIONS: tuple[type[Reduction], ...] = (
    RedundantRows,
    SingletonRows,
    ForcingRows,
    DominatedColumns,
    FixedColumns,
    FreeSingletons,
    SlackColumns,
    DoubletonEquations,
    ParallelRows,
    ParallelColumns,
)
# a row of whole numbers is kept exactly, and so is not called forcing for a hair
OF_WHOLE_NUMBERS = tuple(kind for kind in REDUCTIONS if kind is not ForcingRows)
ROUNDS = 30
ROUNDING = 1e-11  # parts of a ray this small, beside its largest, are rounding
WORTHWHILE = 0.01  # part of rows and columns that a round must take out for another one


class Presolve:
    """A chain of reductions (Andersen and Andersen 1995).

    Parameters
    ----------
    problem : Problem
        Without semicontinuous columns. Integer columns, whose bounds are whole, stay so: an optimal whole plan of what
        is left is one of the problem, though dual values and a basis are not.
    reductions : the kinds to use, in their order
    stopped : asked before every step; True leaves it at the steps taken so far

    Attributes
    ----------
    problem : Problem
        What is left.
    columns : int array
        Its columns, as numbers of the problem's.
    contradiction : Point or None
        A proof on what is left, where a row is out of reach of its columns' bounds.
    counts : dict of str to (int, int)
        Rows and columns that each kind took out.
    """

    def __init__(
        self,
        problem: Problem,
        reductions: tuple[type[Reduction], ...] = REDUCTIONS,
        stopped: Callable[[], bool] = lambda: False,
    ) -> None:
        self.steps: list[Reduction] = []
        self.contradiction: Point | None = None
        self.counts: dict[str, tuple[int, int]] = {}
        self.columns = np.arange(problem.n)
        stage = Stage(problem)
        for _ in range(ROUNDS):
            before = stage.problem.m + stage.problem.n
            found = False
            for kind in reductions:
                self.contradiction = _contradiction(stage)
                if self.contradiction is not None or stopped():
                    found = False
                    break
                left = self._apply(kind, stage)
                if left is not None:
                    stage, found = left, True
                    if kind.fixes_columns:  # they go at once, so that no later step can make them basic
                        stage = self._apply(FixedColumns, stage, kind.title) or stage
            after = stage.problem.m + stage.problem.n
            if not found or before - after <= WORTHWHILE * before:
                break
        self.problem = stage.problem

    def _apply(self, kind: type[Reduction], stage: Stage, title: str = "") -> Stage | None:
        """Take one step if there is one; return what it leaves.

        Parameters
        ----------
        title : under which it counts, where that is not its own
        """
        result = kind.find(stage)
        if result is None:
            return None
        step, left = result
        self.steps.append(step)
        if step.columns_left is not None:
            self.columns = self.columns[step.columns_left]
        title = title or kind.title
        rows, columns = self.counts.get(title, (0, 0))
        self.counts[title] = (rows + step.rows_gone, columns + step.columns_gone)
        return Stage(left)

    def restore(self, point: Point) -> Point:
        """Return the point of the original problem that belongs to one of what is left."""
        for step in reversed(self.steps):
            point = step.restore(point)
        if point.direction and point.x is not None:
            point.x[np.abs(point.x) < ROUNDING * np.abs(point.x).max(initial=0.0)] = 0.0
        return point


def _contradiction(stage: Stage) -> Point | None:
    """Return the proof by a row that is plainly out of reach, or None."""
    p = stage.problem
    least, most = stage.range
    short = most < p.row_lower - FEASIBILITY * limit_size(p.row_lower)
    over = least > p.row_upper + FEASIBILITY * limit_size(p.row_upper)
    bad = np.flatnonzero(short | over)
    if not len(bad):
        return None
    y = np.zeros(p.m)
    y[bad[0]] = 1.0 if short[bad[0]] else -1.0
    return Point(y=y, d=-p.priced(y), proof=True)
