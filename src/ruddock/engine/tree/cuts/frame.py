"""Where the relaxation stands, as the separation of cuts sees it; and what makes a row of numbers a cut."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.tree.cuts.rounder import Rounder
from ruddock.engine.tree.cuts.sums import Sums
from ruddock.engine.tree.tighten import VariableBound
from ruddock.problem import Floats, Problem

DENSEST, SHARE = 40, 0.04  # entries of a cut at most, beside a share of the columns
TOGETHER = 256  # cuts that are compared with all others at once
LOSS = 64 * 2.0**-52  # of all terms of a limit: what adding them up may lose


@dataclass(frozen=True, eq=False, repr=False)
class Cut:
    """A row ``values'x[columns] <= limit`` that every whole plan keeps.

    Attributes
    ----------
    efficacy : distance of the present point from it
    kind : how it was found
    """

    columns: np.ndarray
    values: Floats
    limit: float
    efficacy: float
    kind: str


class Frame:
    """A point of the relaxation, with every column written from its nearer bound.

    ``x[j] = base[j] + slope[j] * x[by[j]] + sign[j] * z[j]`` with ``z >= 0``, but for whole columns that are
    ``endless``; only continuous columns have a binary column ``by`` that their bound depends on (-1: none).
    """

    def __init__(
        self,
        problem: Problem,
        x: Floats,
        lower: Floats,
        upper: Floats,
        whole: np.ndarray,
        bounds: list[VariableBound],
        stopped: Callable[[], bool] = lambda: False,
    ) -> None:
        self.stopped = stopped  # asked before every row
        self.problem, self.x, self.lower, self.upper, self.whole = problem, x, lower, upper, whole
        self.rows = csr_matrix(problem.matrix())
        self.activity = problem.activity(x)
        below, above = x - lower, upper - x
        self.sign = np.where(above < below, -1.0, 1.0)
        self.base = np.where(above < below, upper, lower)
        self.z = np.maximum(np.minimum(below, above), 0.0)
        self.by = np.full(problem.n, -1, np.int32)
        self.slope = np.zeros(problem.n)
        # whole columns without bounds stand as they are: rounding keeps them where their coefficient becomes whole
        self.endless = whole & ~np.isfinite(self.base)
        self.base, self.sign = np.where(self.endless, 0.0, self.base), np.where(self.endless, 1.0, self.sign)
        self.z = np.where(self.endless, x, self.z)
        self.usable = np.isfinite(self.base)
        self._take_variable_bounds(bounds)
        upper_room, lower_room = problem.row_upper - self.activity, self.activity - problem.row_lower
        nearer = upper_room <= lower_room
        self.equation = problem.row_lower == problem.row_upper
        # a row is taken at the limit that it is nearer to: activity + row_sign * slack = row_limit
        self.row_sign = np.where(nearer, 1.0, -1.0)
        self.row_limit = np.where(nearer, problem.row_upper, problem.row_lower)
        self.room = np.maximum(np.minimum(upper_room, lower_room), 0.0)
        self.densest = DENSEST + SHARE * problem.n
        self.found, self.coefficients = np.zeros(problem.n, np.int32), np.zeros(problem.n)  # of the last rounding
        self.fraction = np.where(whole, np.abs(x - np.round(x)), 0.0)

    def _take_variable_bounds(self, bounds: list[VariableBound]) -> None:
        """Write continuous columns from a variable bound where that is nearer than a plain one."""
        for bound in bounds:
            j, y = bound.column, bound.binary
            if self.whole[j] or self.lower[y] == self.upper[y]:
                continue
            value = bound.at_zero + (bound.at_one - bound.at_zero) * self.x[y]
            room = value - self.x[j] if bound.upper else self.x[j] - value
            nearer = room < self.z[j] - 1e-9 or (self.by[j] < 0 and room <= self.z[j] + 1e-9)
            if nearer or not self.usable[j]:
                self.z[j] = max(room, 0.0)
                self.sign[j] = -1.0 if bound.upper else 1.0
                self.base[j], self.by[j], self.slope[j] = bound.at_zero, y, bound.at_one - bound.at_zero
                self.usable[j] = True

    @cached_property
    def owner(self) -> np.ndarray:
        """The row of each entry, in their order by rows."""
        return np.repeat(np.arange(self.problem.m), np.diff(self.rows.indptr))

    @cached_property
    def row_size(self) -> Floats:
        """The length of each row, a hair above zero."""
        return np.sqrt(np.bincount(self.owner, self.rows.data**2, self.problem.m)) + 1e-9

    @cached_property
    def whole_rows(self) -> np.ndarray:
        """Whether a row has whole coefficients and limits and integer columns alone, so that its slack is whole."""
        return self.problem.rows_of_whole(self.whole)

    @cached_property
    def rounder(self) -> Rounder:
        """Rounds sums of rows."""
        marks = (held.astype(np.uint8) for held in (self.whole, self.usable, self.endless))
        columns = (*marks, self.by, self.slope, self.base, self.sign, self.z, self.upper - self.lower)
        rows = (self.whole_rows.astype(np.uint8), self.room)
        return Rounder(self.sums, columns, rows, LOSS, self.found, self.coefficients)

    @cached_property
    def sums(self) -> Sums:
        """Adds up rows, and makes cuts clean."""
        starts, indices = (held.astype(np.int32, copy=False) for held in (self.rows.indptr, self.rows.indices))
        equations = self.equation.astype(np.uint8)
        limits, signs = self.row_limit, self.row_sign
        return Sums(starts, indices, self.rows.data, limits, signs, equations, self.lower, self.upper, self.x)

    def cut(self, columns: np.ndarray, values: Floats, limit: float, kind: str, size: float = 0.0) -> Cut | None:
        """Return ``values'x[columns] <= limit`` as a cut, clean and only if the point breaks it; no column twice.

        ``size`` is that of the terms that the limit was added up from.
        """
        sums = self.sums
        if not sums.clean(columns.astype(np.int32, copy=False), values, limit, size, LOSS, self.densest):
            return None
        items, weights = np.array(sums.items[: sums.kept]), np.array(sums.weights[: sums.kept], float)
        return Cut(items, weights, sums.right, sums.efficacy, kind)


def chosen(cuts: list[Cut], n: int, most: int, entries: int, parallel: float = 0.9) -> list[Cut]:
    """Return the best cuts of which no two are nearly parallel: up to so many, of so many entries."""
    cuts = sorted(cuts, key=lambda cut: -cut.efficacy)[: 3 * most]
    if not cuts:
        return []
    starts = np.cumsum([0] + [len(cut.columns) for cut in cuts])
    unit = csr_matrix(
        (
            np.concatenate([cut.values / np.linalg.norm(cut.values) for cut in cuts]),
            np.concatenate([cut.columns for cut in cuts]),
            starts,
        ),
        shape=(len(cuts), n),
    )
    across = unit.T.tocsr()
    taken: list[int] = []
    free = np.ones(len(cuts), bool)
    for begin in range(0, len(cuts), TOGETHER):
        rows = begin + np.flatnonzero(free[begin : begin + TOGETHER])
        near = (unit[rows] @ across).toarray() > parallel if len(rows) else []
        for k, along in zip(rows.tolist(), near, strict=True):
            if not free[k]:
                continue
            entries -= len(cuts[k].columns)
            if len(taken) == most or (entries < 0 and taken):
                return [cuts[k] for k in taken]
            taken.append(k)
            free &= ~along
    return [cuts[k] for k in taken]
