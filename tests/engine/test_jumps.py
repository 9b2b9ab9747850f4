"""Plans found by jumps of single columns, and the ways on from them."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from scipy import sparse

from benchmarks.integer_families import vans
from ruddock.engine import certificates
from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from ruddock.engine.tree import root
from ruddock.engine.tree.exchange import Exchange
from ruddock.engine.tree.frontier import Node
from ruddock.engine.tree.heuristics import jump
from ruddock.engine.tree.heuristics.jumping import finite, kernel_of
from ruddock.engine.tree.heuristics.polish import polish
from ruddock.engine.tree.state import SearchState
from ruddock.problem import INTEGER, SEMICONTINUOUS, Problem
from tests.engine.test_tree import assert_whole
from tests.generators import inf
from tests.integer_problems import random_milp

WAYS = ("exchange", "improve", "run")


def test_jumps_find_plans_before_any_relaxation() -> None:
    found = better = 0
    for seed in range(60):
        problem = random_milp(seed)
        state = SearchState(problem, Limits(), Options())
        if (state.domain.lower > state.domain.upper).any():
            continue
        root.prepare(state)
        if state.tightening is not None and state.tightening.infeasible:
            continue
        jump(state)
        assert state.effort.iterations == 0 or not problem.integers.all()
        if state.incumbent.best is None:
            continue
        found += 1
        x = state.incumbent.best
        certified = certificates.plan_holds(problem, x, problem.activity(x), problem.lower, problem.upper)
        assert certified, seed
        best = solve(problem)
        assert state.incumbent.value >= best.objective - 1e-6 * max(1.0, abs(best.objective)), seed
        better += state.incumbent.value <= best.objective + 0.2 * abs(best.objective)
    assert found > 20
    assert better > 10


def covering(m: int, n: int, share: float, seed: int) -> Problem:
    rng = np.random.default_rng(seed)
    covers = sparse.random(m, n, share, rng=rng).toarray() > 0
    covers[np.arange(m), rng.integers(0, n, m)] = True
    costs = rng.integers(1, 100, n).astype(float)
    return Problem.build(
        covers.astype(float), np.ones(m), np.full(m, inf), np.zeros(n), np.ones(n), costs, np.full(n, INTEGER)
    )


@pytest.mark.parametrize("seed", range(4))
def test_jumps_cover_at_least_as_cheaply_as_the_greedy_way(seed: int) -> None:
    problem = covering(60, 400, 0.06, seed)
    covers, costs = problem.matrix().toarray() > 0, problem.costs
    state = SearchState(problem, Limits(), Options())
    state.frontier.begin(Node(-np.inf))
    jump(state)
    assert state.incumbent.best is not None
    assert_whole(problem, state.incumbent.best)
    left, spent = np.ones(problem.m, bool), 0.0
    while left.any():  # what covers most of the rest for its cost
        k = int(np.argmax(covers[left].sum(axis=0) / costs))
        left &= ~covers[:, k]
        spent += costs[k]
    best = solve(problem).objective
    assert best <= state.incumbent.value <= min(spent, 1.05 * best)


def test_each_way_on_from_a_plan_leads_to_better_plans_only() -> None:
    better = dict.fromkeys(WAYS, 0)
    for seed in range(60):
        problem = random_milp(seed)
        other = solve(replace(problem, costs=np.random.default_rng(seed).normal(size=problem.n)), Limits(seconds=1))
        if other.x is None or (problem.kinds & SEMICONTINUOUS).any() or not np.isfinite(other.x).all():
            continue
        low, high = finite(problem.lower, problem.upper)
        x = np.clip(other.x, low, high)
        x[problem.integers] = np.round(x[problem.integers])
        kernel = kernel_of(replace(problem, lower=low, upper=high), x, seed)
        if not kernel.hold():
            continue
        value = float(problem.costs @ x)
        for way in 3 * (*WAYS[seed % 3 :], *WAYS[: seed % 3]):
            kernel.better_than(value - 1e-6 * max(1.0, abs(value)))
            found = getattr(kernel, way)(20_000)
            plan = np.array(kernel.kept)
            rest = np.abs(plan[problem.integers] - np.round(plan[problem.integers])).max(initial=0.0)
            assert certificates.plan_holds(problem, plan, problem.activity(plan), problem.lower, problem.upper), seed
            assert rest == 0.0
            assert found == (float(problem.costs @ plan) < value), (seed, way)
            value = float(problem.costs @ plan)
            better[way] += found
            kernel.back()
    assert min(better.values()) > 3, better


def test_exchanges_end_nearer_to_the_optimum_of_a_covering_than_mending() -> None:
    ends = {}
    problem = covering(150, 1500, 0.03, 3)
    for way in ("exchange", "improve"):
        kernel = kernel_of(problem, np.ones(problem.n), 1)
        assert kernel.hold()
        kernel.improve(200_000)
        while kernel.touched < 20_000_000:
            getattr(kernel, way)(100_000)
        ends[way] = float(problem.costs @ np.asarray(kernel.kept))
    best = solve(problem).objective
    assert best <= ends["exchange"] <= min(ends["improve"], 1.01 * best)


def assert_in_line(problem: Problem, kernel: Exchange) -> None:
    """Compare scores, and on which side of its rows a column stands, with what they are if worked out anew."""
    x, score, weight, far = (np.asarray(a) for a in (kernel.x, kernel.score, kernel.weight, kernel.far))
    matrix = problem.matrix().toarray()
    size = np.where(matrix.any(axis=1), np.abs(matrix).max(axis=1, initial=0.0), 1.0)
    matrix, low, high = matrix / size[:, None], problem.row_lower / size, problem.row_upper / size
    activity = matrix @ x

    def missed(values: np.ndarray) -> np.ndarray:
        return np.maximum(0.0, np.maximum(low[:, None] - values, values - high[:, None]))

    after = missed(activity[:, None] + matrix * far)
    gains = weight @ (missed(activity[:, None]) - after)
    binary = (problem.kinds == INTEGER) & (problem.upper - problem.lower == 1)
    np.testing.assert_allclose(score[binary], gains[binary], atol=1e-6)
    sides, takes = kernel.sides, matrix * far < 0
    for i in np.flatnonzero(np.asarray(sides.alike)):
        start, middle, end = sides.starts[i], sides.middle[i], sides.starts[i + 1]
        assert set(sides.indices[start:middle]) == set(np.flatnonzero(takes[i]))
        assert set(sides.indices[start:end]) == set(np.flatnonzero(matrix[i]))


def test_scores_stay_in_line_while_columns_jump() -> None:
    alike = 0
    for seed in range(40):
        problem = covering(12, 40, 0.15, seed) if seed % 4 == 0 else random_milp(seed)
        if (problem.kinds & SEMICONTINUOUS).any():
            continue
        low, high = finite(problem.lower, problem.upper)
        problem = replace(problem, lower=low, upper=high)
        kernel = kernel_of(problem, np.clip(np.zeros(problem.n), low, high), seed)
        alike += np.count_nonzero(kernel.sides.alike)
        assert_in_line(problem, kernel)
        kernel.run(20_000)
        for way in 2 * WAYS if kernel.holds else ():
            getattr(kernel, way)(2_000)
            assert_in_line(problem, kernel)
            kernel.back()
            assert_in_line(problem, kernel)
    assert alike > 50


@pytest.mark.parametrize("seed", range(6))
def test_no_single_column_or_pair_is_left_to_move_in_a_polished_plan(seed: int) -> None:
    problem = covering(14, 30, 0.2, seed) if seed % 2 else vans(12, 3)(seed)
    state = SearchState(problem, Limits(), Options())
    assert state.incumbent.try_plan(np.ones(problem.n) if seed % 2 else np.zeros(problem.n))
    start = state.incumbent.value
    polish(state)
    x, value = state.incumbent.best, state.incumbent.value
    assert x is not None
    assert value < start
    for k in itertools.chain(itertools.combinations(range(problem.n), 1), itertools.combinations(range(problem.n), 2)):
        other = x.copy()
        other[list(k)] = 1.0 - other[list(k)]
        holds = certificates.plan_holds(problem, other, problem.activity(other), problem.lower, problem.upper)
        assert not holds or problem.objective(other) >= value - 1e-6, k
