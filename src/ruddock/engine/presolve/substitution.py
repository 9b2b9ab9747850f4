"""Reductions by substitution: free columns of one row, slack-like columns, equations of two columns."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

import numpy as np
from scipy.sparse import coo_matrix, csc_matrix, csr_matrix, diags_array

from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FREE
from ruddock.engine.presolve.stage import SAFE_PIVOT, Mask, Places, Point, Reduction, Stage, first_of, left
from ruddock.problem import Floats, Ints, Problem

NEAR = 1e-9
FEW = 4  # entries of a column that an equation of two columns may take out


def _singletons(stage: Stage) -> Places:
    """Return the entries that are alone in their column, a continuous one, and not small in their row."""
    p = stage.problem
    largest = np.zeros(p.m)
    np.maximum.at(largest, p.indices, np.abs(p.values))
    alone = ((stage.column_counts == 1) & ~stage.whole)[stage.owner]
    return np.flatnonzero(alone & (np.abs(p.values) >= SAFE_PIVOT * largest[p.indices]))


def _may_go(stage: Stage, one: Places, two: Places, a: Floats, b: Floats, sides: Floats) -> Mask:
    """Say of equations ``a one + b two = side`` whether the first column may be expressed by the second.

    A whole one may by another whole one whose multiples it then is; a continuous one by a whole one, or if no whole one
    switches it or bounds it: what such rows say is lost on cuts once it has another column's name.
    """
    whole = stage.whole
    if not whole.any():
        return np.ones(len(one), bool)
    with np.errstate(over="ignore"):
        multiples = (np.round(b / a) == b / a) & (np.round(sides / a) == sides / a)
    return np.where(whole[one], whole[two] & multiples, whole[two] | ~stage.tied[one])


@dataclass(eq=False, repr=False)
class FreeSingletons(Reduction):
    """Columns of one row that their bounds never stop: row and column go together.

    The column's cost fixes the row's dual value, and with it which limit of the row binds; the
    cost moves to the other columns of the row.
    """

    title = "free columns of one row"
    kept_rows: Ints
    m: int
    kept_columns: Ints
    n: int
    rows: Places
    columns: Places
    entries: Floats
    costs: Floats
    others: csr_matrix  # the rows without these columns, over the columns kept
    row_lower: Floats
    row_upper: Floats
    lower: Floats
    upper: Floats

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        at = _singletons(stage)
        rows, columns, a = p.indices[at].astype(np.intp), stage.owner[at], p.values[at]
        rest_low, rest_high = stage.range_without(at)
        one, two = (p.row_lower[rows] - rest_high) / a, (p.row_upper[rows] - rest_low) / a
        low, high = np.where(a > 0, one, two), np.where(a > 0, two, one)
        free = (low >= p.lower[columns]) & (high <= p.upper[columns]) & (p.lower[columns] < p.upper[columns])
        y = p.costs[columns] / a
        limited = np.where(y > 0, np.isfinite(p.row_lower[rows]), (y == 0) | np.isfinite(p.row_upper[rows]))
        at = at[free & limited]
        at = at[first_of(p.indices[at])]
        if not len(at):
            return None
        rows, columns, a = p.indices[at].astype(np.intp), stage.owner[at], p.values[at]
        y = p.costs[columns] / a
        gone_rows, gone = np.zeros(p.m, bool), np.zeros(p.n, bool)
        gone_rows[rows], gone[columns] = True, True
        kept_columns = left(gone)
        dual = np.zeros(p.m)
        dual[rows] = y
        costs = p.costs - np.bincount(stage.owner, p.values * dual[p.indices], p.n)
        limit = np.where(y > 0, p.row_lower[rows], np.where(y < 0, p.row_upper[rows], 0.0))
        step = cls(
            left(gone_rows), p.m, kept_columns, p.n, rows, columns, a, p.costs[columns],
            stage.by_rows[rows][:, kept_columns], p.row_lower[rows], p.row_upper[rows],
            p.lower[columns], p.upper[columns],
        )  # fmt: skip
        step.rows_gone = step.columns_gone = len(rows)
        return step, stage.without(rows=gone_rows, columns=gone, costs=costs, offset=p.offset + float(y @ limit))

    def restore(self, point: Point) -> Point:
        result = point.spread(self.kept_columns, self.n, self.kept_rows, self.m)
        y = point.cost(self.costs) / self.entries
        if result.y is not None and result.d is not None:
            result.y[self.rows] = y
        if result.x is None or point.x is None:
            return result
        rest = self.others @ point.x
        y = self.costs / self.entries
        if result.direction:
            stopped = np.where(rest < 0, np.isfinite(self.row_lower), np.isfinite(self.row_upper))
            result.x[self.columns] = np.where((y != 0) | stopped, -rest / self.entries, 0.0)
            return result
        base = np.where(np.isfinite(self.lower), self.lower, np.where(np.isfinite(self.upper), self.upper, 0.0))
        base_code = np.where(np.isfinite(self.lower), AT_LOWER, np.where(np.isfinite(self.upper), AT_UPPER, FREE))
        there = rest + self.entries * base
        target = np.clip(there, self.row_lower, self.row_upper)
        target = np.where(y > 0, self.row_lower, np.where(y < 0, self.row_upper, target))
        binds = (y != 0) | (target != there)
        result.x[self.columns] = np.where(binds, (target - rest) / self.entries, base)
        if result.columns is not None and result.rows is not None:
            result.columns[self.columns] = np.where(binds, BASIC, base_code)
            result.rows[self.rows] = np.where(binds, np.where(target == self.row_lower, AT_LOWER, AT_UPPER), BASIC)
        return result


@dataclass(eq=False, repr=False)
class SlackColumns(Reduction):
    """Bounded columns of one equation: the equation becomes a row with limits, the column its slack."""

    title = "slack-like columns"
    kept_columns: Ints
    n: int
    rows: Places
    columns: Places
    entries: Floats
    costs: Floats
    sides: Floats
    others: csr_matrix

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        at = _singletons(stage)
        at = at[(p.row_lower == p.row_upper)[p.indices[at]] & (stage.row_counts[p.indices[at]] > 1)]
        at = at[first_of(p.indices[at])]
        if not len(at):
            return None
        rows, columns, a = p.indices[at].astype(np.intp), stage.owner[at], p.values[at]
        y, sides = p.costs[columns] / a, p.row_lower[rows]
        low, high = stage.ends[0][at], stage.ends[1][at]
        row_lower, row_upper = p.row_lower.copy(), p.row_upper.copy()
        row_lower[rows], row_upper[rows] = sides - high, sides - low
        gone = np.zeros(p.n, bool)
        gone[columns] = True
        kept = left(gone)
        dual = np.zeros(p.m)
        dual[rows] = y
        costs = p.costs - np.bincount(stage.owner, p.values * dual[p.indices], p.n)
        step = cls(kept, p.n, rows, columns, a, p.costs[columns], sides, stage.by_rows[rows][:, kept])
        step.columns_gone = len(columns)
        offset = p.offset + float(y @ sides)
        return step, stage.without(columns=gone, costs=costs, row_lower=row_lower, row_upper=row_upper, offset=offset)

    def restore(self, point: Point) -> Point:
        result = point.spread(self.kept_columns, self.n, None, 0)
        if result.x is not None and point.x is not None:
            result.x[self.columns] = (point.constant(self.sides) - self.others @ point.x) / self.entries
        if result.y is not None and result.d is not None:
            result.d[self.columns] = -self.entries * result.y[self.rows]
            result.y[self.rows] += point.cost(self.costs) / self.entries
        if result.columns is not None and result.rows is not None:
            code = result.rows[self.rows]
            # the row is at its lower limit where the column contributes most
            high = (code == AT_LOWER) == (self.entries > 0)
            taken = np.where(code == BASIC, BASIC, np.where(code == FREE, FREE, np.where(high, AT_UPPER, AT_LOWER)))
            result.columns[self.columns] = taken
            result.rows[self.rows] = AT_LOWER
        return result


@dataclass(eq=False, repr=False)
class DoubletonEquations(Reduction):
    """Equations of two columns: one is expressed by the other, and its bounds become bounds of that one."""

    title = "equations of two columns"
    kept_rows: Ints
    m: int
    kept_columns: Ints
    n: int
    rows: Places
    gone: Places  # the columns expressed
    stay: Places  # by these
    own: Floats  # entry of the one that goes
    partner: Floats
    sides: Floats
    costs: Floats  # of those that go
    matrix: csc_matrix  # their columns, without these rows
    gives_lower: Mask  # whether the lower bound of the one that stays came from the other
    gives_upper: Mask

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        rows = np.flatnonzero((p.row_lower == p.row_upper) & (stage.row_counts == 2))
        if not len(rows):
            return None
        by_rows = stage.by_rows
        at = by_rows.indptr[rows]
        one, two = by_rows.indices[at].astype(np.intp), by_rows.indices[at + 1].astype(np.intp)
        a, b = by_rows.data[at], by_rows.data[at + 1]
        counts, sides = stage.column_counts, p.row_lower[rows]
        may_one, may_two = _may_go(stage, one, two, a, b, sides), _may_go(stage, two, one, b, a, sides)
        # the shorter column goes, if its entry is not the much smaller one
        swap = (counts[one] > counts[two]) | (np.abs(a) < SAFE_PIVOT * np.abs(b))
        swap = (swap & may_two) | ~may_one
        gone, stay = np.where(swap, two, one), np.where(swap, one, two)
        own, partner = np.where(swap, b, a), np.where(swap, a, b)
        fits = (may_one | may_two) & (counts[gone] <= FEW) & (np.abs(own) >= SAFE_PIVOT * np.abs(partner))
        low, high = (sides - own * p.lower[gone]) / partner, (sides - own * p.upper[gone]) / partner
        low, high = stage.within(stay, np.minimum(low, high), np.maximum(low, high))
        fits &= (low <= p.upper[stay]) & (high >= p.lower[stay]) & (low <= high)
        # one equation at a time for every column
        first = np.full(p.n, len(rows))
        numbers = np.arange(len(rows))
        for columns in (gone[fits], stay[fits]):
            np.minimum.at(first, columns, numbers[fits])
        fits &= (first[gone] == numbers) & (first[stay] == numbers)
        if not fits.any():
            return None
        rows, gone, stay = rows[fits], gone[fits], stay[fits]
        own, partner, sides, low, high = own[fits], partner[fits], sides[fits], low[fits], high[fits]
        gone_rows, gone_columns = np.zeros(p.m, bool), np.zeros(p.n, bool)
        gone_rows[rows], gone_columns[gone] = True, True
        lower, upper = p.lower.copy(), p.upper.copy()
        gives_lower, gives_upper = low > lower[stay], high < upper[stay]
        lower[stay], upper[stay] = np.maximum(lower[stay], low), np.minimum(upper[stay], high)
        matrix = stage.columns(gone)
        others = csc_matrix(diags_array((~gone_rows).astype(float)) @ matrix)
        step = cls(
            left(gone_rows), p.m, left(gone_columns), p.n, rows, gone, stay, own, partner,
            sides, p.costs[gone], others, gives_lower, gives_upper,
        )  # fmt: skip
        step.rows_gone = step.columns_gone = len(rows)
        factor, constant = -partner / own, sides / own
        to = coo_matrix((factor, (np.arange(len(gone)), stay)), shape=(len(gone), p.n)).tocsc()
        changed = (p.matrix() + others @ to).tocsc()
        changed.sort_indices()
        changed.data[np.abs(changed.data) < 1e-14] = 0.0
        changed.eliminate_zeros()
        costs = p.costs.copy()
        costs[stay] += factor * p.costs[gone]
        shift = others @ constant
        return step, stage.without(
            rows=gone_rows,
            columns=gone_columns,
            starts=changed.indptr.astype(np.int32),
            indices=changed.indices.astype(np.int32),
            values=changed.data,
            lower=lower,
            upper=upper,
            costs=costs,
            row_lower=p.row_lower - shift,
            row_upper=p.row_upper - shift,
            offset=p.offset + float(p.costs[gone] @ constant),
        )

    def restore(self, point: Point) -> Point:
        result = point.spread(self.kept_columns, self.n, self.kept_rows, self.m)
        if result.x is not None:
            result.x[self.gone] = (point.constant(self.sides) - self.partner * result.x[self.stay]) / self.own
        if result.y is None or result.d is None:
            return result
        d = result.d[self.stay]
        low, high = d > 0, d < 0
        if result.columns is not None:
            code = result.columns[self.stay]
            low = (low | ((d == 0) & (code == AT_LOWER))) & (code != BASIC)
            high = (high | ((d == 0) & (code == AT_UPPER))) & (code != BASIC)
        moved = (low & self.gives_lower) | (high & self.gives_upper)
        result.d[self.stay] = np.where(moved, 0.0, d)
        result.d[self.gone] = np.where(moved, -self.own / self.partner * d, 0.0)
        rest = point.cost(self.costs) - self.matrix.T @ result.y
        result.y[self.rows] = (rest - result.d[self.gone]) / self.own
        if result.columns is not None and result.rows is not None:
            # the bound of the one that stays is the same or the opposite bound of the one that goes
            at_lower = low == (self.own * self.partner < 0)
            result.columns[self.gone] = np.where(moved, np.where(at_lower, AT_LOWER, AT_UPPER), BASIC)
            result.columns[self.stay[high & ~moved]] = AT_UPPER
            result.columns[self.stay[moved]] = BASIC
            result.rows[self.rows] = AT_LOWER
        return result
