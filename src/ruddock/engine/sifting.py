"""Sifting: a problem of many more columns than rows is solved on few of its columns at a time (Bixby et al. 1992).

The others wait at a bound. Prices of the small problem say which of them would improve it; the most promising join.
When none would, the small basis is the optimal one of the whole problem.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from scipy.sparse import csc_matrix

from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, Basis, Outcome
from ruddock.problem import Floats, Problem

WIDE = 6  # columns for each row from which on it pays
FEWEST = 4000  # columns
EACH = 4  # columns that are taken for each row to begin with
JOIN = 0.5  # of as many columns as there are rows join in a round, at most
FULL = 6  # columns for each row, beyond which those that promise least leave
ASTRAY = 2  # columns for each row that would improve a small problem, beyond which it has the wrong ones
WRONG = 1e-9  # reduced costs up to this, relative to the largest cost, are none
MOST_ROUNDS = 400
ROUNDING = 1e-12  # of the terms of a bound


class Sifted(NamedTuple):
    """What came of it: a basis of the whole problem, or how it ended early."""

    basis: Basis | None
    stopped: Outcome | None = None


def pays(problem: Problem) -> bool:
    """Say whether a problem has so many more columns than rows that sifting pays."""
    waiting = np.isfinite(problem.lower) | np.isfinite(problem.upper)
    return problem.m > 0 and problem.n >= max(FEWEST, WIDE * problem.m) and bool(waiting.all())


def sift(
    problem: Problem, work: Callable[[Problem, Basis | None], Outcome], rough_prices: Callable[[], Floats]
) -> Sifted:
    """Return an optimal basis of a wide problem; none where it has none, which is for others to prove.

    Parameters
    ----------
    work : solves a problem of some columns, from a basis where there is one
    rough_prices : of all rows; asked for at most once, where the first columns turn out to be far from the best ones
    """
    p, m = problem, problem.m
    matrix = p.matrix()
    low = np.isfinite(p.lower) & (~np.isfinite(p.upper) | (np.abs(p.lower) <= np.abs(p.upper)))
    codes = np.where(low, AT_LOWER, AT_UPPER).astype(np.int8)
    chosen = _first(p)
    rows = np.zeros(m, np.int8)
    scale = WRONG * max(1.0, float(np.abs(p.costs).max(initial=0.0)))
    feasible = astray = False
    reached = Outcome("stopped", bound=p.least(p.lower, p.upper))  # the best plan so far, and what prices prove
    for _ in range(MOST_ROUNDS):
        small = _restricted(p, matrix, chosen, codes)
        # a basis without a plan is no start for columns of other costs
        outcome = work(small, Basis(codes[chosen], rows) if feasible else None)
        if outcome.status == "stopped" and outcome.reason != "numerics":
            return Sifted(None, replace(reached, reason=outcome.reason))
        if outcome.status in ("stopped", "unbounded") or (outcome.y is None and outcome.proof is None):
            return Sifted(None)
        feasible = outcome.status == "optimal"
        if feasible:
            assert outcome.y is not None
            assert outcome.basis is not None
            codes[chosen], rows = outcome.basis.columns, outcome.basis.rows
            d = p.costs - p.priced(outcome.y)
            reached = _reached(p, chosen, codes, outcome, d, reached)
        else:
            assert outcome.proof is not None
            d = -p.priced(outcome.proof)
        gain = np.where(codes == AT_LOWER, -d, np.where(codes == AT_UPPER, d, 0.0))
        gain[p.lower == p.upper] = 0.0
        inside = np.zeros(p.n, bool)
        inside[chosen] = True
        gain[inside] = 0.0
        better = np.flatnonzero(gain > (scale if feasible else 0.0))
        if not len(better):
            return Sifted(Basis(codes, rows) if feasible else None)
        if not astray and (not feasible or len(better) > ASTRAY * m):
            astray, feasible = True, False
            chosen = _promising(p, codes, p.costs - p.priced(rough_prices()))
        else:
            chosen = _exchanged(p, chosen, codes, d, better, gain)
    return Sifted(None)


def _first(p: Problem) -> np.ndarray:
    """Return for each row the columns that have entries in it at the least cost for each entry."""
    counts = np.maximum(np.diff(p.starts), 1)
    merit = p.costs / counts
    owner = np.repeat(np.arange(p.n), np.diff(p.starts))
    order = np.lexsort((merit[owner], p.indices))
    begin = np.searchsorted(p.indices[order], np.arange(p.m))
    end = np.append(begin[1:], len(order))
    taken = [order[(begin + k)[begin + k < end]] for k in range(EACH)]
    return np.unique(owner[np.concatenate(taken)])


def _promising(p: Problem, codes: np.ndarray, d: Floats) -> np.ndarray:
    """Return the basic columns and those that reduced costs leave in doubt; let the others wait at the better bound."""
    low, high = np.isfinite(p.lower), np.isfinite(p.upper)
    doubt = np.where(low & high, -np.abs(d), np.where(low, -d, d))
    doubt[codes == BASIC] = np.inf
    most = EACH * p.m
    order = np.argpartition(-doubt, most)
    chosen, rest = order[:most], order[most:]
    codes[rest] = np.where(low[rest] & ~(high[rest] & (d[rest] < 0)), AT_LOWER, AT_UPPER)
    return np.sort(chosen)


def _restricted(p: Problem, matrix: csc_matrix, chosen: np.ndarray, codes: np.ndarray) -> Problem:
    """Return the problem of some columns, the others at the bounds that they wait at."""
    rest = np.where(codes == AT_UPPER, p.upper, p.lower)
    rest[chosen] = 0.0
    base = matrix @ rest
    own = matrix[:, chosen]
    return Problem.build(
        own, p.row_lower - base, p.row_upper - base, p.lower[chosen], p.upper[chosen], p.costs[chosen],
        offset=p.offset + float(p.costs @ rest),
    )  # fmt: skip


def _exchanged(
    p: Problem, chosen: np.ndarray, codes: np.ndarray, d: Floats, better: np.ndarray, gain: Floats
) -> np.ndarray:
    """Return the columns of the next round: the most promising join, and of too many the least promising leave."""
    most = max(200, int(JOIN * p.m))
    if len(better) > most:
        better = better[np.argpartition(-gain[better], most)[:most]]
    if len(chosen) + len(better) > FULL * p.m:
        idle = chosen[(codes[chosen] != 0) & (np.abs(d[chosen]) > 0)]
        surplus = min(len(idle), len(chosen) + len(better) - EACH * p.m)
        if surplus > 0:
            worst = idle[np.argpartition(-np.abs(d[idle]), surplus - 1)[:surplus]]
            chosen = np.setdiff1d(chosen, worst)
    return np.union1d(chosen, better)


def _reached(p: Problem, chosen: np.ndarray, codes: np.ndarray, small: Outcome, d: Floats, before: Outcome) -> Outcome:
    """Return the plan of the small problem as one of the whole, and the bound that its prices prove."""
    assert small.x is not None
    assert small.y is not None
    x = np.where(codes == AT_UPPER, p.upper, p.lower)
    x[chosen] = small.x
    with np.errstate(invalid="ignore"):
        ends = np.where(d > 0, d * p.lower, np.where(d < 0, d * p.upper, 0.0))
        limits = np.where(small.y > 0, small.y * p.row_lower, np.where(small.y < 0, small.y * p.row_upper, 0.0))
    parts = np.concatenate((ends, limits))
    bound = float(parts.sum() - ROUNDING * np.abs(parts).sum()) + p.offset
    proven = max(before.bound, bound) if np.isfinite(bound) else before.bound
    return Outcome("stopped", x=x, activity=p.activity(x), objective=p.objective(x), bound=proven)
