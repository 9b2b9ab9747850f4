"""Reductions that take rows out: redundant ones, single entries, and rows that force their columns."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC
from ruddock.engine.presolve.stage import Mask, Places, Point, Reduction, Stage, first_of, left, limit_size
from ruddock.problem import Floats, Ints, Problem

NEAR = 1e-9  # relative: activities this near to a limit count as being there


@dataclass(eq=False, repr=False)
class RedundantRows(Reduction):
    """Rows that the bounds of their columns keep anyway, empty ones among them.

    The dual value of such a row is zero and its logical basic.
    """

    title = "redundant rows"
    kept_rows: Ints
    m: int

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        least, most = stage.range
        tolerance = NEAR * 1e-3
        gone = (least >= p.row_lower - tolerance * limit_size(p.row_lower)) & (
            most <= p.row_upper + tolerance * limit_size(p.row_upper)
        )
        # an empty row may miss its limits by what counts as feasible
        empty = stage.row_counts == 0
        gone |= empty & (p.row_lower <= NEAR) & (p.row_upper >= -NEAR)
        if not gone.any():
            return None
        step = cls(left(gone), p.m)
        step.rows_gone = int(gone.sum())
        return step, stage.without(rows=gone)

    def restore(self, point: Point) -> Point:
        return point.spread(None, 0, self.kept_rows, self.m)


@dataclass(eq=False, repr=False)
class SingletonRows(Reduction):
    """Rows with one entry, which become bounds of its column.

    Where the column stands on a bound that came from the row, the row's dual value takes over the
    reduced cost, and row and column change places in the basis.
    """

    title = "single-entry rows"
    kept_rows: Ints
    m: int
    rows: Places
    columns: Places
    entries: Floats
    gives_lower: Mask
    gives_upper: Mask
    equal: Mask  # whether the two bounds became one

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        at = np.flatnonzero(stage.row_counts[p.indices] == 1)
        at = at[first_of(stage.owner[at])]
        rows, columns, a = p.indices[at].astype(np.intp), stage.owner[at], p.values[at]
        low, high = p.row_lower[rows] / a, p.row_upper[rows] / a
        low, high = stage.within(columns, np.where(a > 0, low, high), np.where(a > 0, high, low))
        lower, upper = p.lower[columns], p.upper[columns]
        # what contradicts the bounds stays, as the row that shows it
        fits = (low <= upper) & (high >= lower) & (low <= high)
        rows, columns, a = rows[fits], columns[fits], a[fits]
        if not len(rows):
            return None
        low, high, lower, upper = low[fits], high[fits], lower[fits], upper[fits]
        gone = np.zeros(p.m, bool)
        gone[rows] = True
        new_lower, new_upper = p.lower.copy(), p.upper.copy()
        new_lower[columns], new_upper[columns] = np.maximum(low, lower), np.minimum(high, upper)
        equal = new_lower[columns] == new_upper[columns]
        step = cls(left(gone), p.m, rows, columns, a, low > lower, high < upper, equal)
        step.rows_gone = len(rows)
        return step, stage.without(rows=gone, lower=new_lower, upper=new_upper)

    def restore(self, point: Point) -> Point:
        result = point.spread(None, 0, self.kept_rows, self.m)
        if result.y is None or result.d is None:
            return result
        d = result.d[self.columns]
        low, high = d > 0, d < 0
        if result.columns is not None:
            # a code tells the bound, unless the two are one: then the reduced cost does
            code = result.columns[self.columns]
            low = np.where(self.equal, d >= 0, code == AT_LOWER) & (code != BASIC)
            high = np.where(self.equal, d < 0, code == AT_UPPER) & (code != BASIC)
            result.columns[self.columns[self.equal & high]] = AT_UPPER
        moved = (low & self.gives_lower) | (high & self.gives_upper)
        rows, columns = self.rows[moved], self.columns[moved]
        result.y[rows] = d[moved] / self.entries[moved]
        result.d[columns] = 0.0
        if result.columns is not None and result.rows is not None:
            result.rows[rows] = np.where(low[moved] == (self.entries[moved] > 0), AT_LOWER, AT_UPPER)
            result.columns[columns] = BASIC
        return result


@dataclass(eq=False, repr=False)
class ForcingRows(Reduction):
    """Rows that only one point of their columns' bounds satisfies: the columns are fixed there.

    The row's dual value is the least that gives every one of these columns a reduced cost of the right
    sign; the column that decides it becomes basic.
    """

    title = "forcing rows"
    fixes_columns = True
    kept_rows: Ints
    m: int
    rows: Places
    up: Floats  # 1 where the greatest activity only just reaches the lower limit, -1 the other way round
    entries: csr_matrix
    movable: Mask  # of the columns: those that were not fixed before
    high: Mask  # of the entries: fixed at the upper bound

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        least, most = stage.range
        up = most <= p.row_lower + NEAR * limit_size(p.row_lower)
        down = least >= p.row_upper - NEAR * limit_size(p.row_upper)
        rows = np.flatnonzero((up | down) & (stage.row_counts > 0))
        # those that are plainly out of reach stay, as the rows that show it
        rows = rows[np.where(up, most >= p.row_lower - NEAR * limit_size(p.row_lower), True)[rows]]
        rows = rows[np.where(down, least <= p.row_upper + NEAR * limit_size(p.row_upper), True)[rows]]
        rows = _disjoint(stage, rows)
        if not len(rows):
            return None
        entries = stage.by_rows[rows]
        side = np.where(up[rows], 1.0, -1.0)
        high = (entries.data > 0) == (np.repeat(side, np.diff(entries.indptr)) > 0)
        movable = p.lower < p.upper
        columns = entries.indices
        lower, upper = p.lower.copy(), p.upper.copy()
        value = np.where(high, upper[columns], lower[columns])
        lower[columns] = upper[columns] = value
        gone = np.zeros(p.m, bool)
        gone[rows] = True
        step = cls(left(gone), p.m, rows, side, entries, movable, high)
        step.rows_gone = len(rows)
        return step, stage.without(rows=gone, lower=lower, upper=upper)

    def restore(self, point: Point) -> Point:
        result = point.spread(None, 0, self.kept_rows, self.m)
        if result.y is None or result.d is None:
            return result
        columns, values = self.entries.indices, self.entries.data
        row = np.repeat(np.arange(len(self.rows)), np.diff(self.entries.indptr))
        need = np.where(self.movable[columns], self.up[row] * result.d[columns] / values, 0.0)
        most = np.zeros(len(self.rows))
        np.maximum.at(most, row, need)
        y = self.up * most
        result.y[self.rows] = y
        result.d[columns] -= values * y[row]
        if result.columns is not None and result.rows is not None:
            movable = self.movable[columns]
            result.columns[columns[movable]] = np.where(self.high[movable], AT_UPPER, AT_LOWER)
            deciding = np.flatnonzero((need == most[row]) & (need > 0))
            deciding = deciding[first_of(row[deciding])]
            result.columns[columns[deciding]] = BASIC
            result.d[columns[deciding]] = 0.0
            result.rows[self.rows[row[deciding]]] = np.where(self.up[row[deciding]] > 0, AT_LOWER, AT_UPPER)
        return result


def _disjoint(stage: Stage, rows: Places) -> Places:
    """Return rows of which no two share a column: those that come first in all of their columns."""
    entries = stage.by_rows[rows]
    row = np.repeat(np.arange(len(rows)), np.diff(entries.indptr))
    first = np.full(stage.problem.n, len(rows))
    np.minimum.at(first, entries.indices, row)
    return rows[np.bincount(row, first[entries.indices] < row, len(rows)) == 0]
