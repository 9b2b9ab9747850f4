"""Networks: recognised however they are written, solved on trees, judged by exact arithmetic and graph algorithms."""

from __future__ import annotations

import networkx as nx
import numpy as np
import pytest
from scipy import sparse
from scipy.optimize import linear_sum_assignment

from ruddock.engine import linear
from ruddock.engine.network.flow import network_of
from ruddock.engine.outcome import Limits, Options
from ruddock.engine.simplex import first_basis
from ruddock.engine.solve import solve
from ruddock.problem import Problem
from tests.exact import judge

inf = np.inf


@pytest.fixture(autouse=True)
def even_small(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(linear, "WORTHWHILE", 0)
    monkeypatch.setattr(first_basis, "WORTH_A_LOOK", 0)
    monkeypatch.setattr(first_basis, "WORTH_A_START", 0)


def random_network(seed: int, m: int, n: int, *, scaled: bool, wish: str) -> Problem:
    """Rows in any units and signs; arcs with and without bounds, fixed and free ones, some with one end only."""
    rng = np.random.default_rng(seed)
    tail, head = rng.integers(0, m, n), rng.integers(0, m, n)
    one_ended = tail == head
    size, rows = (2.0 ** rng.integers(-3, 4, k) if scaled else np.ones(k) for k in (n, m))
    rows = rows * rng.choice([-1, 1], m)
    out, into = size * rows[tail], -size * rows[head]
    keep = ~one_ended
    places = np.concatenate((np.arange(n), np.arange(n)[keep]))
    a = sparse.coo_matrix(
        (np.concatenate((out, into[keep])), (np.concatenate((tail, head[keep])), places)), shape=(m, n)
    ).tocsc()
    point = rng.integers(-3, 9, n).astype(float)
    sort = rng.integers(0, 6, n)
    lower = np.select(
        [sort == 0, sort == 1, sort == 2, sort == 5], [-inf, -inf, point, point - 2], np.minimum(0, point)
    )
    upper = np.select(
        [sort == 0, sort == 1, sort == 2, sort == 3], [inf, point + 1, point, inf], point + rng.integers(0, 4, n)
    )
    activity = a @ point
    row_sort = rng.integers(0, 6, m)
    low = np.where(row_sort == 0, -inf, np.where(row_sort == 1, activity - 2, activity))
    high = np.where(row_sort == 2, inf, np.where(row_sort == 3, activity + 3, activity))
    if wish == "infeasible":
        low, high = low + (row_sort > 3) * rng.integers(0, 40, m), high + (row_sort > 3) * rng.integers(0, 40, m)
        low, high = np.minimum(low, high), np.maximum(low, high)
    prices = rng.integers(-5, 6, m) * (row_sort > 3)
    costs = a.T @ prices + (rng.integers(0, 6, n) if wish != "unbounded" else rng.integers(-6, 6, n)) * (sort > 2)
    return Problem.build(a, low, high, lower, upper, np.asarray(costs, float))


@pytest.mark.parametrize("wish", ["optimal", "infeasible", "unbounded"])
@pytest.mark.parametrize("scaled", [False, True])
def test_a_network_has_the_answer_of_the_dual_method(wish: str, scaled: bool) -> None:
    seen = set()
    for seed in range(40):
        m, n = ((3, 6), (8, 20), (25, 60), (60, 200))[seed % 4]
        problem = random_network(seed, m, n, scaled=scaled, wish=wish)
        assert network_of(problem) is not None
        outcome = solve(problem, Limits(seconds=60))
        plain = solve(problem, Limits(seconds=60), Options(method="dual", presolve=False))
        judge(problem, outcome)
        assert outcome.status == plain.status, seed
        seen.add(outcome.status)
        if outcome.status == "optimal":
            assert outcome.objective == pytest.approx(plain.objective, rel=1e-9, abs=1e-9), seed
            # the tree is the optimal basis: what is left to the other methods are its ties
            assert outcome.counters.iterations - outcome.counters.network_pivots <= 2 + m // 5, seed
    assert wish in seen


@pytest.mark.parametrize("wish", ["optimal", "infeasible", "unbounded"])
def test_most_rows_of_a_network_are_a_start_for_all(wish: str) -> None:
    started = 0
    for seed in range(40):
        m, n = ((6, 12), (25, 60), (60, 200))[seed % 3]
        inner = random_network(500 + seed, m, n, scaled=seed % 2 == 0, wish=wish)
        rng = np.random.default_rng(seed)
        sides = max(2, m // 6)
        point = np.clip(np.zeros(n), inner.lower, inner.upper)
        matrix = sparse.random(sides, n, 0.4, random_state=rng, data_rvs=lambda k, rng=rng: rng.integers(1, 9, k))
        high = matrix @ point + rng.integers(0, 30, sides)
        order = rng.permutation(m + sides)
        a = sparse.vstack([inner.matrix(), matrix]).tocsr()[order].tocsc()
        low, high = np.append(inner.row_lower, np.full(sides, -inf))[order], np.append(inner.row_upper, high)[order]
        problem = Problem.build(a, low, high, inner.lower, inner.upper, inner.costs)
        for presolve in (False, True):
            outcome = solve(problem, Limits(seconds=60), Options(presolve=presolve))
            judge(problem, outcome)
            plain = solve(problem, Limits(seconds=60), Options(method="dual", presolve=False))
            assert outcome.status == plain.status, seed
            if outcome.status == "optimal":
                assert outcome.objective == pytest.approx(plain.objective, rel=1e-9, abs=1e-9), seed
            started += outcome.counters.network_pivots > 0
    assert started > 20 or wish == "infeasible"


def test_what_is_no_network_is_seen_at_once() -> None:
    problem = random_network(1, 8, 20, scaled=False, wish="optimal")
    a = problem.matrix().tolil()
    cycle = Problem.build(
        sparse.csc_matrix([[1.0, 0, 1], [1, 1, 0], [0, 1, 1]]),
        np.ones(3),
        np.ones(3),
        np.zeros(3),
        np.ones(3),
        np.ones(3),
    )
    assert network_of(cycle) is None  # an odd cycle of equal signs
    two = np.flatnonzero(np.diff(problem.starts) == 2)[0]
    a[problem.indices[problem.starts[two]], two] *= 3.0  # a gain on one arc of a cycle
    rows = problem.row_lower, problem.row_upper
    assert network_of(Problem.build(a.tocsc(), *rows, problem.lower, problem.upper, problem.costs)) is None


def test_assignments_and_flows_are_those_of_graph_algorithms() -> None:
    for seed, size in enumerate((1, 2, 7, 40)):
        costs = np.random.default_rng(seed).integers(-50, 100, (size, size))
        cells = np.arange(size * size)
        rows = np.concatenate((cells // size, size + cells % size))
        a = sparse.coo_matrix((np.ones(2 * size * size), (rows, np.tile(cells, 2)))).tocsc()
        ones, none = np.ones(2 * size), np.zeros(size * size)
        outcome = solve(Problem.build(a, ones, ones, none, none + inf, costs.ravel().astype(float)))
        assert outcome.objective == costs[linear_sum_assignment(costs)].sum()
    for seed in range(12):
        rng = np.random.default_rng(seed)
        graph = nx.gnm_random_graph(20, 90, seed=seed, directed=True)
        for edge in graph.edges:
            graph.edges[edge].update(weight=int(rng.integers(0, 30)), capacity=int(rng.integers(1, 12)))
        demand = rng.integers(-4, 5, 20)
        demand[0] -= demand.sum()
        nx.set_node_attributes(graph, dict(zip(graph, map(int, demand), strict=True)), "demand")
        a = nx.incidence_matrix(graph, oriented=True).tocsc()  # what enters less what leaves
        upper, costs = np.array([(d["capacity"], d["weight"]) for *_, d in graph.edges(data=True)], float).T
        outcome = solve(Problem.build(a, demand, demand, np.zeros(len(costs)), upper, costs))
        try:
            assert outcome.objective == nx.min_cost_flow_cost(graph)
        except nx.NetworkXUnfeasible:
            assert outcome.status == "infeasible"


def test_a_limit_stops_a_network_with_a_bound() -> None:
    problem = random_network(3, 60, 400, scaled=False, wish="optimal")
    best = solve(problem)
    assert best.counters.network_pivots > 50
    stopped = solve(problem, Limits(iterations=3))
    assert stopped.status == "stopped"
    assert stopped.reason == "iterations"
    assert stopped.bound <= best.objective + 1e-9
