"""Reductions that take columns out: fixed ones, and those whose reduced cost can only have one sign."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

import numpy as np
from scipy.sparse import csc_matrix

from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FREE, Codes
from ruddock.engine.presolve.stage import Places, Point, Reduction, Stage, left
from ruddock.problem import Floats, Ints, Problem

CLEAR = 1e-9  # a reduced cost must be this far from zero, relative to what it is made of, to count as signed


@dataclass(eq=False, repr=False)
class FixedColumns(Reduction):
    """Columns whose bounds leave one value, which goes into the limits of their rows."""

    title = "fixed columns"
    kept_columns: Ints
    n: int
    columns: Places
    values: Floats
    costs: Floats
    matrix: csc_matrix

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        gone = p.lower == p.upper
        columns = np.flatnonzero(gone)
        if not len(columns):
            return None
        matrix, values = stage.columns(columns), p.lower[columns]
        step = cls(left(gone), p.n, columns, values, p.costs[columns], matrix)
        step.columns_gone = len(columns)
        shift = matrix @ values
        offset = p.offset + float(p.costs[columns] @ values)
        return step, stage.without(
            columns=gone, row_lower=p.row_lower - shift, row_upper=p.row_upper - shift, offset=offset
        )

    def restore(self, point: Point) -> Point:
        result = point.spread(self.kept_columns, self.n, None, 0)
        if result.x is not None:
            result.x[self.columns] = point.constant(self.values)
        if result.d is not None and result.y is not None:
            result.d[self.columns] = point.cost(self.costs) - self.matrix.T @ result.y
        return result


@dataclass(eq=False, repr=False)
class DominatedColumns(Reduction):
    """Columns that no dual values make worth moving from a bound: fixed there (Andersen and Andersen 1995).

    The signs of dual values follow from the rows' limits; columns with a single entry and no opposite
    bound narrow them further.
    """

    title = "dominated columns"
    fixes_columns = True
    columns: Places
    codes: Codes

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        sign_low = np.where(np.isposinf(p.row_upper), 0.0, -np.inf)
        sign_high = np.where(np.isneginf(p.row_lower), 0.0, np.inf)
        low, high = _dual_bounds(stage, sign_low, sign_high)
        open_ = p.lower < p.upper
        scale = CLEAR * (1.0 + np.abs(p.costs))
        least, most = _reduced_costs(stage, low, high)
        plain_least, plain_most = _reduced_costs(stage, sign_low, sign_high)
        down = open_ & np.isfinite(p.lower) & ((least > scale) | (plain_least >= 0))
        up = open_ & np.isfinite(p.upper) & ~down & ((most < -scale) | (plain_most <= 0))
        none = open_ & ~down & ~up & (stage.column_counts == 0) & (p.costs == 0.0)  # free: stays at zero
        fixed = down | up | none
        if not fixed.any():
            return None
        codes = np.where(down, AT_LOWER, np.where(up, AT_UPPER, FREE)).astype(np.int8)
        value = np.where(down, p.lower, np.where(up, p.upper, 0.0))
        step = cls(np.flatnonzero(fixed), codes[fixed])
        return step, stage.without(lower=np.where(fixed, value, p.lower), upper=np.where(fixed, value, p.upper))

    def restore(self, point: Point) -> Point:
        result = point.spread(None, 0, None, 0)
        if result.columns is not None:
            outside = result.columns[self.columns] != BASIC
            result.columns[self.columns[outside]] = self.codes[outside]
        return result


def _dual_bounds(stage: Stage, low: Floats, high: Floats) -> tuple[Floats, Floats]:
    """Return bounds of the dual values, narrowed by columns of one entry that are unbounded on a side."""
    p = stage.problem
    low, high = low.copy(), high.copy()
    # whole ones do not make up for a part of another column, and tell nothing
    at = np.flatnonzero((stage.column_counts == 1)[stage.owner] & ~stage.whole[stage.owner])
    columns, rows, a = stage.owner[at], p.indices[at], p.values[at]
    ratio = p.costs[columns] / a
    for unbounded, below in ((np.isposinf(p.upper), a > 0), (np.isneginf(p.lower), a < 0)):
        which = unbounded[columns]
        np.minimum.at(high, rows[which & below], ratio[which & below])
        np.maximum.at(low, rows[which & ~below], ratio[which & ~below])
    return low, high


def _reduced_costs(stage: Stage, low: Floats, high: Floats) -> tuple[Floats, Floats]:
    """Return the least and the greatest reduced cost of each column for dual values within bounds."""
    p = stage.problem
    one, two = p.values * low[p.indices], p.values * high[p.indices]
    most = np.bincount(stage.owner, np.maximum(one, two), p.n)
    least = np.bincount(stage.owner, np.minimum(one, two), p.n)
    return p.costs - most, p.costs - least
