"""Reductions of rows and columns that are multiples of one another."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Self

import numpy as np

from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FREE
from ruddock.engine.presolve.stage import Places, Point, Reduction, Stage, left
from ruddock.problem import Floats, Ints, Problem

SAME = 1e-13  # relative difference of entries that count as the same multiple


def parallel_pairs(starts: Any, indices: Any, values: Floats, extra: Floats | None) -> tuple[Places, Places, Floats]:
    """Return pairs of parallel vectors: the first of each group, another, and the other over the first.

    Vectors are the rows or columns of a compressed matrix with sorted indices, with ``extra`` as one more
    entry. Candidates are found by sorting sums of their scaled entries with random weights, and then
    compared entry by entry.
    """
    counts = np.diff(starts)
    held = np.flatnonzero(counts)
    none = (np.zeros(0, np.intp), np.zeros(0, np.intp), np.zeros(0))
    if len(held) < 2:
        return none
    lead = np.zeros(len(counts))
    lead[held] = values[starts[held]]
    owner = np.repeat(np.arange(len(counts)), counts)
    scaled = values / lead[owner]
    weight = np.random.default_rng(7).uniform(1.0, 2.0, int(indices.max()) + 2)
    key = np.bincount(owner, scaled * weight[indices], len(counts))
    if extra is not None:
        key[held] += weight[-1] * extra[held] / lead[held]
    order = held[np.lexsort((key[held], counts[held]))]
    near = np.abs(np.diff(key[order])) <= 1e-11 * (1.0 + np.abs(key[order[1:]]))
    near &= counts[order[1:]] == counts[order[:-1]]
    if not near.any():
        return none
    # runs of near keys; each member is compared with the one of its run that stands first in the matrix
    run = np.concatenate(([0], np.cumsum(~near)))
    first = np.full(run[-1] + 1, len(counts))
    np.minimum.at(first, run, order)
    leader = first[run]
    pairs = np.flatnonzero(leader != order)
    a, b = leader[pairs], order[pairs]
    size = counts[a]
    pair = np.repeat(np.arange(len(a)), size)
    along = np.arange(len(pair)) - np.repeat(np.cumsum(size) - size, size)
    at_a, at_b = starts[a][pair] + along, starts[b][pair] + along
    differs = (indices[at_a] != indices[at_b]) | (np.abs(scaled[at_a] - scaled[at_b]) > SAME * np.abs(scaled[at_a]))
    same = np.bincount(pair, differs, len(a)) == 0
    ratio = lead[b] / lead[a]
    if extra is not None:
        same &= np.abs(extra[b] - ratio * extra[a]) <= SAME * np.maximum(np.abs(extra[b]), np.abs(ratio * extra[a]))
    return a[same], b[same], ratio[same]


@dataclass(eq=False, repr=False)
class ParallelRows(Reduction):
    """Rows that are multiples of another one: their limits become limits of that one.

    The dual value belongs to the row whose limit it was.
    """

    title = "parallel rows"
    kept_rows: Ints
    m: int
    leaders: Places
    lower_from: Places
    upper_from: Places
    lower_ratio: Floats
    upper_ratio: Floats

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        by_rows = stage.by_rows
        leader, other, ratio = parallel_pairs(by_rows.indptr, by_rows.indices, by_rows.data, None)
        if not len(leader):
            return None
        low, high = p.row_lower[other] / ratio, p.row_upper[other] / ratio
        low, high = np.where(ratio > 0, low, high), np.where(ratio > 0, high, low)
        lower, upper = p.row_lower.copy(), p.row_upper.copy()
        lower_from, upper_from = np.arange(p.m), np.arange(p.m)
        lower_ratio, upper_ratio = np.ones(p.m), np.ones(p.m)
        gone = np.zeros(p.m, bool)
        for k in range(len(leader)):  # in turn, since one leader may have many followers
            i, r = leader[k], other[k]
            if max(low[k], lower[i]) > min(high[k], upper[i]):
                continue  # a contradiction stays, as the rows that show it
            gone[r] = True
            if low[k] > lower[i]:
                lower[i], lower_from[i], lower_ratio[i] = low[k], r, ratio[k]
            if high[k] < upper[i]:
                upper[i], upper_from[i], upper_ratio[i] = high[k], r, ratio[k]
        if not gone.any():
            return None
        leaders = np.flatnonzero((lower_from != np.arange(p.m)) | (upper_from != np.arange(p.m)))
        step = cls(
            left(gone), p.m, leaders,
            lower_from[leaders], upper_from[leaders], lower_ratio[leaders], upper_ratio[leaders],
        )  # fmt: skip
        step.rows_gone = int(gone.sum())
        return step, stage.without(rows=gone, row_lower=lower, row_upper=upper)

    def restore(self, point: Point) -> Point:
        result = point.spread(None, 0, self.kept_rows, self.m)
        if result.y is None:
            return result
        y = result.y[self.leaders]
        low, high = y > 0, y < 0
        if result.rows is not None:
            code = result.rows[self.leaders]
            low |= (y == 0) & (code == AT_LOWER)
            high |= (y == 0) & (code == AT_UPPER)
            low, high = low & (code != BASIC), high & (code != BASIC)
            # where the limits have become one, the dual value tells which it was
            result.rows[self.leaders[high]] = AT_UPPER
        for side, source, ratio in (
            (low, self.lower_from, self.lower_ratio),
            (high, self.upper_from, self.upper_ratio),
        ):
            moved = side & (source != self.leaders)
            result.y[self.leaders[moved]] = 0.0
            result.y[source[moved]] = y[moved] / ratio[moved]
            if result.rows is not None:
                result.rows[self.leaders[moved]] = BASIC
                at_lower = (ratio[moved] > 0) == (side is low)
                result.rows[source[moved]] = np.where(at_lower, AT_LOWER, AT_UPPER)
        return result


@dataclass(eq=False, repr=False)
class ParallelColumns(Reduction):
    """Continuous columns that are multiples of another one, costs included: their sum takes their place.

    Of the two that share a value, one stands on a bound and the other takes the rest.
    """

    title = "parallel columns"
    kept_columns: Ints
    n: int
    leaders: Places
    others: Places
    ratio: Floats
    lower: Floats  # bounds of leaders and others before
    upper: Floats
    other_lower: Floats
    other_upper: Floats

    @classmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        p = stage.problem
        leader, other, ratio = parallel_pairs(p.starts, p.indices, p.values, p.costs)
        chosen = np.unique(leader, return_index=True)[1]
        chosen = chosen[~(stage.whole[leader[chosen]] | stage.whole[other[chosen]])]
        leader, other, ratio = leader[chosen], other[chosen], ratio[chosen]
        if not len(leader):
            return None
        low, high = ratio * p.lower[other], ratio * p.upper[other]
        low, high = np.minimum(low, high), np.maximum(low, high)
        lower, upper = p.lower.copy(), p.upper.copy()
        lower[leader] += low
        upper[leader] += high
        gone = np.zeros(p.n, bool)
        gone[other] = True
        step = cls(
            left(gone), p.n, leader, other, ratio,
            p.lower[leader], p.upper[leader], p.lower[other], p.upper[other],
        )  # fmt: skip
        step.columns_gone = len(other)
        return step, stage.without(columns=gone, lower=lower, upper=upper)

    def restore(self, point: Point) -> Point:
        result = point.spread(self.kept_columns, self.n, None, 0)
        if result.d is not None:
            result.d[self.others] = self.ratio * result.d[self.leaders]
        if result.x is None:
            return result
        total = result.x[self.leaders]
        if result.direction:
            self._split_direction(result, total)
            return result
        code = result.columns[self.leaders] if result.columns is not None else np.full(len(total), BASIC)
        base, base_code = _rest_at(self.other_lower, self.other_upper)
        one = np.clip(total - self.ratio * base, self.lower, self.upper)
        two = (total - one) / self.ratio
        inside = (one > self.lower) & (one < self.upper)
        one_code = np.where(one <= self.lower, AT_LOWER, np.where(one >= self.upper, AT_UPPER, BASIC))
        two_code = np.where(inside, base_code, BASIC)
        # out of the basis, both stand on the bound that the sum stands on
        for at, lower_side in ((code == AT_LOWER, True), (code == AT_UPPER, False)):
            own = self.lower if lower_side else self.upper
            other_low = (self.ratio > 0) == lower_side
            one = np.where(at, own, one)
            two = np.where(at, np.where(other_low, self.other_lower, self.other_upper), two)
            one_code = np.where(at, AT_LOWER if lower_side else AT_UPPER, one_code)
            two_code = np.where(at, np.where(other_low, AT_LOWER, AT_UPPER), two_code)
        free = code == FREE
        one_code, two_code = np.where(free & inside, FREE, one_code), np.where(free & ~inside, FREE, two_code)
        result.x[self.leaders], result.x[self.others] = one, two
        if result.columns is not None:
            result.columns[self.leaders], result.columns[self.others] = one_code, two_code
        return result

    def _split_direction(self, result: Point, total: Floats) -> None:
        """Give a ray's component to the one that has no bound that way."""
        assert result.x is not None
        mine = np.where(total > 0, np.isposinf(self.upper), np.isneginf(self.lower))
        result.x[self.leaders] = np.where(mine, total, 0.0)
        result.x[self.others] = np.where(mine, 0.0, total / self.ratio)


def _rest_at(lower: Floats, upper: Floats) -> tuple[Floats, Any]:
    """Return the bound at which a column waits out of the basis, and its code."""
    value = np.where(np.isfinite(lower), lower, np.where(np.isfinite(upper), upper, 0.0))
    return value, np.where(np.isfinite(lower), AT_LOWER, np.where(np.isfinite(upper), AT_UPPER, FREE))
