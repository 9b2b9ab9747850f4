"""Path cuts, against dynamic programs and all whole plans; and what is left of problems where columns are fixed."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from math import inf

import numpy as np
import pytest

from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from ruddock.engine.tree.part import Part
from ruddock.engine.tree.search import TreeSearch
from ruddock.engine.tree.state import SearchState
from ruddock.problem import INTEGER, Problem
from tests.engine.test_tree import after_root, left_by_root, whole_plans
from tests.integer_problems import STRUCTURES, integer_problem


def lots(need: np.ndarray, set_up: np.ndarray, keep: np.ndarray) -> Problem:
    """Return one good without limits of capacity: set up, make and keep by period."""
    count = len(need)
    total = need[::-1].cumsum()[::-1]
    rows = []
    for t in range(count):
        balance, tied = np.zeros(3 * count), np.zeros(3 * count)
        balance[[count + t, 2 * count + t]] = 1.0, -1.0
        if t:
            balance[2 * count + t - 1] = 1.0
        tied[[count + t, t]] = 1.0, -total[t]
        rows += [balance, tied]
    limits = np.stack((need, np.zeros(count)), axis=1).ravel()
    lows = np.stack((need, np.full(count, -inf)), axis=1).ravel()
    kinds = np.concatenate((np.full(count, INTEGER), np.zeros(2 * count)))
    upper = np.concatenate((np.ones(count), np.full(2 * count, inf)))
    costs = np.concatenate((set_up, np.zeros(count), keep))
    return Problem.build(np.array(rows), lows, limits, np.zeros(3 * count), upper, costs, kinds)


def cheapest(need: np.ndarray, set_up: np.ndarray, keep: np.ndarray) -> float:
    """Return what that costs at least, by a dynamic program over the period of the last set-up."""
    count = len(need)
    best = [0.0] + [inf] * count
    for end in range(1, count + 1):
        if need[end - 1] == 0:
            best[end] = best[end - 1]
        for begin in range(end):
            held = sum(need[t] * keep[begin:t].sum() for t in range(begin, end))
            best[end] = min(best[end], best[begin] + set_up[begin] + held)
    return best[count]


@pytest.mark.parametrize("seed", range(8))
def test_one_good_without_capacity_needs_hardly_a_branch(seed: int) -> None:
    rng = np.random.default_rng(seed)
    count = 30
    need = rng.integers(0, 20, count).astype(float)
    set_up, keep = rng.integers(20, 80, count).astype(float), rng.integers(1, 4, count).astype(float)
    outcome = solve(lots(need, set_up, keep), options=Options(cores=1, heuristics=False))
    assert outcome.status == "optimal"
    assert outcome.objective == pytest.approx(cheapest(need, set_up, keep))
    assert outcome.counters.nodes <= 12
    assert outcome.counters.cuts["path"] > 0


def odd_lots(seed: int) -> Problem:
    """Return periods with all that chains may have: losses, returns, safety stock, lost sales, turned rows, circles."""
    rng = np.random.default_rng(seed)
    count = 5
    close, make, keep, miss = (np.arange(count) + k * count for k in range(4))
    by_closing = seed % 3 == 0
    rows, low, high = [], [], []
    for t in range(count):
        row = np.zeros(4 * count)
        row[[make[t], miss[t], keep[t]]] = rng.integers(1, 3), 1.0, -1.0
        if t or seed % 2:
            row[keep[t - 1]] = rng.choice([0.5, 1.0, 1.0])
        sign = rng.choice([-1.0, 1.0])
        need = float(rng.integers(-2, 9))
        rows.append(sign * row)
        ends = (need, need if rng.random() < 0.7 else need + 4.0)
        low.append(min(sign * ends[0], sign * ends[1]))
        high.append(max(sign * ends[0], sign * ends[1]))
        row = np.zeros(4 * count)
        room = float(rng.integers(6, 20))
        row[[make[t], close[t]]] = 1.0, room if by_closing else -room
        rows.append(row)
        low.append(-inf)
        high.append(room if by_closing else 0.0)
    lower = np.zeros(4 * count)
    lower[keep] = rng.integers(0, 2, count)
    upper = np.concatenate((np.ones(count), np.full(count, inf), np.full(count, 30.0), np.full(count, 3.0)))
    set_up = rng.integers(4, 15, count) * (-1.0 if by_closing else 1.0)
    costs = np.concatenate((set_up, rng.uniform(0, 1, count), rng.uniform(0.2, 1, count), np.full(count, 6.0)))
    kinds = np.concatenate((np.full(count, INTEGER), np.zeros(3 * count)))
    return Problem.build(np.array(rows), low, high, lower, upper, costs, kinds)


def test_paths_leave_no_whole_plan_out() -> None:
    cut: Counter[str] = Counter()
    plans = 0
    for seed in range(20):
        problem = odd_lots(seed)
        state = after_root(problem)
        cut.update(state.cut_counts)
        whole, kinds = problem.kinds == INTEGER, np.zeros_like(problem.kinds)
        for point, fixed in left_by_root(state, whole_plans(problem)):
            plans += 1
            low, high = np.where(whole, point, problem.lower), np.where(whole, point, problem.upper)
            there = replace(problem, lower=low, upper=high, kinds=kinds)
            assert solve(fixed).objective == pytest.approx(solve(there).objective, abs=1e-6), (seed, point)
    assert cut["path"] >= 20
    assert plans >= 130


@pytest.mark.parametrize("structure", STRUCTURES)
def test_what_is_left_has_the_plans_of_the_problem(structure: str) -> None:
    left_out = 0
    for seed in range(700, 712):
        problem = integer_problem(structure, seed)
        rng = np.random.default_rng(seed)
        finite = np.isfinite(problem.lower) & np.isfinite(problem.upper)
        chosen = np.flatnonzero(finite & (rng.random(problem.n) < (0.2 if structure == "defined" else 0.6)))
        values = np.round(rng.uniform(problem.lower[chosen], problem.upper[chosen]))
        lower, upper = problem.lower.copy(), problem.upper.copy()
        lower[chosen] = upper[chosen] = np.clip(values, lower[chosen], upper[chosen])
        fixed = replace(problem, lower=lower, upper=upper)
        part, whole = Part.of(fixed), solve(fixed)
        if part is None:
            assert whole.status == "infeasible"
            continue
        left_out += problem.n - part.problem.n
        left = solve(part.problem)
        assert left.status == whole.status
        if whole.status == "optimal":
            assert left.objective + part.offset == pytest.approx(whole.objective, rel=1e-7, abs=1e-7)
            plan = part.plan(left.x)
            assert problem.objective(plan) == pytest.approx(whole.objective, rel=1e-7, abs=1e-7)
            assert (problem.activity(plan) <= problem.row_upper + 1e-6).all()
            assert (problem.activity(plan) >= problem.row_lower - 1e-6).all()
        # a search of its own goes through what is left, whatever the rest costs
        found = TreeSearch(SearchState(problem, Limits(), Options(cores=1))).near(fixed, 5000)
        assert found.through
        best = None if found.plan is None else pytest.approx(problem.objective(found.plan), rel=1e-7, abs=1e-7)
        assert best == (None if whole.x is None else whole.objective), seed
    assert left_out > 0
