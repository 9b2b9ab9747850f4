"""Integer and semicontinuous problems, against enumeration, dynamic programs and known constants."""

from __future__ import annotations

from itertools import combinations, product

import numpy as np
import pytest
from scipy import sparse

from ruddock.engine.outcome import Limits
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.problem import INTEGER, SEMICONTINUOUS, Problem
from tests.generators import inf


def random_milp(seed: int) -> Problem:
    """Return a small problem with continuous, integer, semicontinuous and semi-integer columns."""
    rng = np.random.default_rng(seed)
    m, n = rng.integers(2, 6), rng.integers(3, 7)
    a = rng.integers(-5, 10, (m, n)) * (rng.random((m, n)) < 0.7)
    kinds = np.ones(n, int) if seed % 3 == 0 else rng.choice([0, 1, 1, 2], n)
    lower = rng.integers(-2, 2, n).astype(float)
    upper = lower + rng.integers(1, 4, n)
    semi = kinds == SEMICONTINUOUS
    lower[semi] = rng.integers(1, 3, semi.sum())
    upper[semi] = lower[semi] + rng.integers(1, 5, semi.sum())
    if seed % 5 == 0:
        kinds[semi] |= INTEGER
    row_lower = np.where(rng.random(m) < 0.4, rng.integers(-3, 10, m), -inf)
    row_upper = np.maximum(np.where(rng.random(m) < 0.7, rng.integers(4, 20, m), inf), row_lower)
    costs = rng.integers(-9, 10, n) / (1 if seed % 2 else 7)
    return Problem.build(a, row_lower, row_upper, lower, upper, costs, kinds)


def enumerated(problem: Problem) -> float:
    """Return the least objective over all values of discrete columns; the rest is linear."""
    best = inf
    choices = []
    for j in range(problem.n):
        whole = range(int(np.ceil(problem.lower[j])), int(np.floor(problem.upper[j])) + 1)
        spans = (
            [(float(v), float(v)) for v in whole]
            if problem.kinds[j] & INTEGER
            else [(problem.lower[j], problem.upper[j])]
        )
        choices.append(spans + ([(0.0, 0.0)] if problem.kinds[j] & SEMICONTINUOUS else []))
    for bounds in product(*choices):
        lower, upper = np.array(bounds).T
        part = Problem.build(problem.matrix(), problem.row_lower, problem.row_upper, lower, upper, problem.costs)
        outcome = LinearSolver(part).solve()
        if outcome.status == "optimal":
            best = min(best, outcome.objective)
    return best


@pytest.mark.parametrize("block", range(6))
def test_random_problems_against_enumeration(block: int) -> None:
    for seed in range(20 * block, 20 * block + 20):
        problem = random_milp(seed)
        best = enumerated(problem)
        outcome = solve(problem)
        if best == inf:
            assert outcome.status == "infeasible", seed
            continue
        assert outcome.status == "optimal", seed
        assert outcome.objective == pytest.approx(best, abs=1e-7), seed
        assert outcome.gap <= 1e-8
        x = outcome.x
        whole = (problem.kinds & INTEGER) != 0
        assert (x[whole] == np.round(x[whole])).all()
        semi = (problem.kinds & SEMICONTINUOUS) != 0
        assert ((x[semi] == 0) | ((x[semi] >= problem.lower[semi]) & (x[semi] <= problem.upper[semi]))).all()


def knapsack(correlated: bool) -> tuple[Problem, float]:
    """Return a 30-item knapsack and its best value by dynamic programming."""
    rng = np.random.default_rng(30)
    weight = rng.integers(10, 100, 30)
    value = weight + rng.integers(5, 16, 30) if correlated else rng.integers(10, 100, 30)
    room = int(weight.sum() // 2)
    best = np.zeros(room + 1)
    for w, v in zip(weight, value, strict=True):
        best[w:] = np.maximum(best[w:], best[:-w] + v)
    problem = Problem.build([weight], [-inf], [room], np.zeros(30), np.ones(30), -value, np.full(30, INTEGER))
    return problem, float(best[-1])


@pytest.mark.parametrize("correlated", [False, True])
def test_knapsack_against_a_dynamic_program(correlated: bool) -> None:
    problem, best = knapsack(correlated)
    outcome = solve(problem, Limits(seconds=60))
    assert outcome.status == "optimal"
    assert -outcome.objective == best


def location(sites: int, customers: int) -> tuple[Problem, float]:
    """Return a location problem and its best cost by enumeration of the sites to open."""
    rng = np.random.default_rng(10)
    fixed, serve = rng.integers(100, 300, sites), rng.integers(5, 100, (sites, customers))
    best = min(
        fixed[list(chosen)].sum() + serve[list(chosen)].min(axis=0).sum()
        for size in range(1, sites + 1)
        for chosen in combinations(range(sites), size)
    )
    cells = np.arange(sites * customers)
    site, customer = np.divmod(cells, customers)
    served = sparse.coo_matrix((np.ones(len(cells)), (customer, sites + cells)), shape=(customers, sites + len(cells)))
    only_open = sparse.coo_matrix(
        (np.repeat([1.0, -1.0], len(cells)), (np.tile(cells, 2), np.concatenate((sites + cells, site)))),
        shape=(len(cells), sites + len(cells)),
    )
    n = sites + len(cells)
    problem = Problem.build(
        sparse.vstack([served, only_open]),
        np.concatenate((np.ones(customers), np.full(len(cells), -inf))),
        np.concatenate((np.ones(customers), np.zeros(len(cells)))),
        np.zeros(n),
        np.ones(n),
        np.concatenate((fixed, serve.ravel())),
        np.concatenate((np.full(sites, INTEGER), np.zeros(len(cells), int))),
    )
    return problem, float(best)


def test_location_against_enumeration() -> None:
    problem, best = location(10, 30)
    outcome = solve(problem)
    assert outcome.status == "optimal"
    assert outcome.objective == pytest.approx(best)


def steiner_triples() -> Problem:
    """Return the cover of all triples of points of GF(3)^3 that add up to zero."""
    points = list(product(range(3), repeat=3))
    triples = {
        frozenset((p, q, tuple((-a - b) % 3 for a, b in zip(p, q, strict=True)))) for p, q in combinations(points, 2)
    }
    a = np.array([[float(point in triple) for point in points] for triple in sorted(triples, key=sorted)])
    return Problem.build(
        a, np.ones(len(a)), np.full(len(a), inf), np.zeros(27), np.ones(27), np.ones(27), np.full(27, INTEGER)
    )


def test_steiner_triple_cover_of_27() -> None:
    problem = steiner_triples()
    assert problem.m == 117
    outcome = solve(problem, Limits(seconds=120))
    assert outcome.status == "optimal"
    assert outcome.objective == outcome.bound == 18


@pytest.mark.parametrize("limit", [{"nodes": 20}, {"iterations": 400}, {"seconds": 0.2}])
def test_a_limit_keeps_the_best_plan_with_its_bound(limit: dict[str, float]) -> None:
    outcome = solve(steiner_triples(), Limits(**limit))
    assert outcome.status == "stopped"
    assert outcome.reason in ("nodes", "iterations", "time")
    assert outcome.x is not None
    assert 9 <= outcome.bound < 18 <= outcome.objective
    assert outcome.gap == pytest.approx((outcome.objective - outcome.bound) / outcome.objective)


def test_an_interruption_keeps_the_best_plan() -> None:
    asked = iter(range(10_000))
    outcome = solve(steiner_triples(), Limits(interrupted=lambda: next(asked) > 120))
    assert (outcome.status, outcome.reason) == ("stopped", "user")
    assert outcome.x is not None


def test_a_gap_ends_the_search_early_and_holds() -> None:
    problem, best = knapsack(correlated=True)
    exact, loose = solve(problem), solve(problem, Limits(gap=0.02))
    assert loose.status == "optimal"
    assert loose.gap <= 0.02
    assert loose.bound <= -best + 1e-6
    assert -loose.objective >= best * 0.98
    assert loose.counters.nodes <= exact.counters.nodes


def test_unbounded_with_integers_has_a_point_and_a_ray() -> None:
    problem = Problem.build([[1.0, -1.0]], [-inf], [2.5], [0, 0], [inf, inf], [-1, -1], [INTEGER, 0])
    outcome = solve(problem)
    assert outcome.status == "unbounded"
    assert outcome.x[0] == round(outcome.x[0])
    assert problem.costs @ outcome.ray < 0


def test_unbounded_relaxation_without_a_whole_plan_is_infeasible() -> None:
    a = [[2.0, 0.0], [0.0, 1.0]]
    problem = Problem.build(a, [1, 0], [1, inf], [0, 0], [5, inf], [0, -1], [INTEGER, 0])
    assert solve(problem).status == "infeasible"


def test_progress_is_told_with_bounds_that_hold() -> None:
    heard = []
    solve(steiner_triples(), Limits(on_progress=heard.append))
    assert heard
    assert all(progress.bound <= 18 + 1e-6 for progress in heard)
    assert all(progress.best >= 18 for progress in heard)
    assert [p.nodes for p in heard] == sorted(p.nodes for p in heard)
