"""Linear problems, judged in rational arithmetic or against graph algorithms."""

from __future__ import annotations

from collections import Counter

import networkx as nx
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import sparse
from scipy.optimize import linear_sum_assignment

from ruddock.engine import certificates
from ruddock.engine.outcome import BASIC, Basis, Limits, Method
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.errors import DataError
from ruddock.problem import Problem
from tests.exact import judge
from tests.generators import STRUCTURES, cycling, inf, klee_minty, random_lp, two_product_staircase

SIZES = ((4, 6), (10, 16), (25, 40), (60, 90), (100, 150))
WISHES = ("optimal", "infeasible", "unbounded")


def problems(structure: str, seeds: range = range(14)) -> list[Problem]:
    """Return 42 problems of a structure, the largest of 100 x 150."""
    return [random_lp(structure, seed, *SIZES[seed % 5], wish) for seed in seeds for wish in WISHES]


@pytest.mark.parametrize("structure", STRUCTURES)
def test_random_problems_hold_in_exact_arithmetic(structure: str) -> None:
    for number, problem in enumerate(problems(structure)):
        outcome = LinearSolver(problem).solve(method="primal" if number % 3 == 2 else "auto")
        try:
            judge(problem, outcome)
        except AssertionError as error:
            raise AssertionError(f"{structure} number {number}: {error}") from error


def test_every_status_is_well_represented() -> None:
    statuses = Counter(LinearSolver(p).solve().status for structure in STRUCTURES for p in problems(structure))
    assert sum(statuses.values()) >= 300
    assert set(statuses) == {"optimal", "infeasible", "unbounded"}
    assert min(statuses.values()) >= 60


@settings(max_examples=150, deadline=None, derandomize=True)
@given(st.data())
def test_any_small_problem_is_settled_with_proof(data: st.DataObject) -> None:
    m, n = data.draw(st.integers(0, 4)), data.draw(st.integers(1, 4))
    small = st.integers(-3, 3).map(float)
    bound = st.sampled_from([-inf, -2.0, 0.0, 0.0, 1.0, 5.0, inf])
    a = np.array(data.draw(st.lists(st.lists(small, min_size=n, max_size=n), min_size=m, max_size=m))).reshape(m, n)

    def span() -> tuple[float, float]:
        low, high = sorted((data.draw(bound), data.draw(bound)))
        return (-inf if low == inf else low), (inf if high == -inf else high)

    rows, columns = [span() for _ in range(m)], [span() for _ in range(n)]
    costs = [data.draw(small) for _ in range(n)]
    problem = Problem.build(
        a, [r[0] for r in rows], [r[1] for r in rows], [c[0] for c in columns], [c[1] for c in columns], costs
    )
    judge(problem, LinearSolver(problem).solve())


@pytest.mark.parametrize("name", ["beale", "kuhn", "marshall"])
def test_cycling_examples_end(name: str) -> None:
    problem = cycling()[name]
    outcome = LinearSolver(problem).solve(Limits(iterations=1000))
    judge(problem, outcome)
    assert {"beale": -0.05, "kuhn": -2.0}.get(name, outcome.objective) == pytest.approx(outcome.objective)


def test_a_degenerate_vertex_is_left_in_few_steps() -> None:
    problem = random_lp("degenerate", 1008, 600, 900, "optimal")
    outcome = LinearSolver(problem).solve(Limits(iterations=10_000))
    assert outcome.status == "optimal"
    assert outcome.objective == pytest.approx(problem.offset)


@pytest.mark.parametrize("n", [3, 8, 16])
def test_klee_minty_cubes(n: int) -> None:
    problem = klee_minty(n)
    outcome = LinearSolver(problem).solve(Limits(iterations=2000))
    judge(problem, outcome)
    assert outcome.objective == pytest.approx(-(5.0**n))


# ---------------------------------------------------------------------- against graph algorithms


def flow_problem(graph: nx.DiGraph) -> Problem:
    """Return minimum-cost flow as a linear problem; demands are flow in minus flow out."""
    place = {node: i for i, node in enumerate(graph)}
    tails = [place[u] for u, _ in graph.edges]
    heads = [place[v] for _, v in graph.edges]
    arcs = np.arange(len(tails))
    a = sparse.coo_matrix(
        (np.repeat([1.0, -1.0], len(arcs)), (np.array(heads + tails), np.tile(arcs, 2))),
        shape=(len(place), len(arcs)),
    )
    demand = [graph.nodes[node].get("demand", 0) for node in graph]
    upper = [graph.edges[e].get("capacity", inf) for e in graph.edges]
    costs = [graph.edges[e]["weight"] for e in graph.edges]
    return Problem.build(a, demand, demand, np.zeros(len(arcs)), upper, costs)


@pytest.mark.parametrize("size", [10, 40, 150])
def test_assignment(size: int) -> None:
    costs = np.random.default_rng(size).integers(1, 1000, (size, size))
    cells = np.arange(size * size)
    a = sparse.coo_matrix(
        (np.ones(2 * size * size), (np.concatenate((cells // size, size + cells % size)), np.tile(cells, 2)))
    )
    problem = Problem.build(
        a, np.ones(2 * size), np.ones(2 * size), 0.0 * cells, np.full(size * size, inf), costs.ravel()
    )
    outcome = LinearSolver(problem).solve()
    assert outcome.status == "optimal"
    assert outcome.objective == pytest.approx(costs[linear_sum_assignment(costs)].sum())
    assert set(np.unique(np.round(outcome.x, 9))) <= {0.0, 1.0}


@pytest.mark.parametrize("seed", range(6))
def test_minimum_cost_flow(seed: int) -> None:
    rng = np.random.default_rng(seed)
    graph = nx.gnm_random_graph(30, 140, seed=seed, directed=True)
    for edge in graph.edges:
        graph.edges[edge].update(weight=int(rng.integers(1, 50)), capacity=int(rng.integers(2, 20)))
    demand = rng.integers(-6, 7, 30)
    demand[0] -= demand.sum()
    for node in graph:
        graph.nodes[node]["demand"] = int(demand[node])
    problem = flow_problem(graph)
    outcome = LinearSolver(problem).solve()
    judge(problem, outcome)
    try:
        cost = nx.network_simplex(graph)[0]
    except nx.NetworkXUnfeasible:
        assert outcome.status == "infeasible"
    else:
        assert outcome.objective == pytest.approx(cost)


@pytest.mark.parametrize("seed", range(4))
def test_shortest_paths_and_their_prices(seed: int) -> None:
    graph = nx.gnm_random_graph(40, 200, seed=seed, directed=True)
    rng = np.random.default_rng(seed)
    for edge in graph.edges:
        graph.edges[edge]["weight"] = int(rng.integers(1, 30))
    reached = nx.single_source_dijkstra_path_length(graph, 0)
    graph = graph.subgraph(reached).copy()
    for node in graph:
        graph.nodes[node]["demand"] = 1 if node else 1 - len(reached)
    outcome = LinearSolver(flow_problem(graph)).solve()
    assert outcome.objective == pytest.approx(sum(reached.values()))
    prices = dict(zip(graph, outcome.y, strict=True))
    for node, distance in reached.items():
        assert prices[node] - prices[0] == pytest.approx(distance)


# ---------------------------------------------------------------------- size


def test_long_staircase_is_solved_in_its_own_size() -> None:
    problem = two_product_staircase(751)
    assert problem.m >= 3000
    assert problem.nonzeros >= 12_000
    outcome = LinearSolver(problem).solve()
    assert outcome.status == "optimal"
    assert outcome.counters.iterations >= 1500
    # weak duality closes: a dual feasible y whose bound equals the objective
    y, d = outcome.y, outcome.reduced
    value = np.where(y > 0, problem.row_lower, problem.row_upper)[y != 0] @ y[y != 0]
    value += np.where(d > 0, problem.lower, problem.upper)[np.abs(d) > 1e-9] @ d[np.abs(d) > 1e-9]
    assert np.allclose(problem.costs - problem.matrix().T @ y, d, atol=1e-9)
    assert value == pytest.approx(outcome.objective, rel=1e-9)


# ---------------------------------------------------------------------- the stateful solver


def changing_problem() -> Problem:
    return random_lp("mixed", 3, 30, 50, "optimal")


def test_changes_from_a_warm_basis_equal_a_cold_start() -> None:
    problem = changing_problem()
    warm = LinearSolver(problem)
    assert warm.solve().status == "optimal"
    rng = np.random.default_rng(1)
    for _ in range(25):
        column = int(rng.integers(problem.n))
        lower, upper, costs = warm.lower.copy(), warm.upper.copy(), warm.costs.copy()
        if rng.random() < 0.5:
            lower[column] = upper[column] = float(rng.integers(0, 3))
        else:
            costs[column] = float(rng.integers(-5, 6))
        warm.change_bounds(column, lower[column], upper[column])
        warm.change_costs(column, costs[column])
        again = Problem.build(
            problem.matrix(), problem.row_lower, problem.row_upper, lower, upper, costs, offset=problem.offset
        )
        outcome = warm.solve()
        judge(again, outcome)
        cold = LinearSolver(again).solve()
        assert outcome.status == cold.status
        if cold.status == "optimal":
            assert outcome.objective == pytest.approx(cold.objective)


def test_a_saved_basis_needs_no_iteration() -> None:
    solver = LinearSolver(changing_problem())
    first = solver.solve()
    fresh = LinearSolver(changing_problem())
    fresh.basis = first.basis
    again = fresh.solve()
    assert again.counters.iterations == 0
    assert again.objective == pytest.approx(first.objective, rel=1e-12)


def test_rows_come_and_go() -> None:
    problem = changing_problem()
    solver = LinearSolver(problem)
    before = solver.solve()
    cut = sparse.csr_matrix(np.ones((1, problem.n)))
    solver.append_rows(cut, np.array([-inf]), np.array([before.x.sum() - 1.0]))
    after = solver.solve()
    judge(solver.problem, after)
    assert after.x.sum() <= before.x.sum() - 1.0 + 1e-7
    assert after.objective >= before.objective
    solver.delete_rows(np.array([problem.m]))
    assert solver.solve().objective == pytest.approx(before.objective)


def test_solves_with_the_basis_after_many_pivots() -> None:
    problem = random_lp("ill-scaled", 5, 60, 90, "optimal")
    solver = LinearSolver(problem)
    solver.solve()
    columns = sparse.hstack([problem.matrix(), -sparse.eye(problem.m)], format="csc")
    b = columns[:, solver.head]
    v = np.random.default_rng(0).normal(size=problem.m)
    assert np.allclose(b @ solver.forward(v), v)
    assert np.allclose(b.T @ solver.backward(v), v)


def test_a_singular_start_is_repaired() -> None:
    problem = Problem.build([[1.0, 2.0, 1.0], [2.0, 4.0, 1.0]], [1, 1], [8, 9], [0, 0, 0], [9, 9, 9], [1, 1, 2])
    solver = LinearSolver(problem)
    solver.basis = Basis(np.array([BASIC, BASIC, 1], np.int8), np.array([1, 1], np.int8))
    judge(problem, solver.solve())


@pytest.mark.parametrize("limit", ["iterations", "user", "time"])
def test_limits_stop_a_solve(limit: str) -> None:
    limits = {
        "iterations": Limits(iterations=5),
        "user": Limits(interrupted=lambda: True),
        "time": Limits(seconds=0.0),
    }[limit]
    outcome = LinearSolver(two_product_staircase(750)).solve(limits)
    assert (outcome.status, outcome.reason) == ("stopped", limit)


def test_crossed_bounds_are_named() -> None:
    outcome = LinearSolver(Problem.build([[1.0, 1.0]], [0], [4], [0, 3], [1, 2], [1, 1])).solve()
    assert outcome.status == "infeasible"
    assert outcome.crossed_columns == (1,)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"costs": [np.nan, 1.0]}, "NaN"),
        ({"costs": [inf, 1.0]}, "a cost must be finite"),
        ({"lower": [inf, 0.0]}, "cannot be a lower limit"),
        ({"matrix": [[inf, 1.0]]}, "a coefficient must be finite"),
        ({"upper": [1.0]}, "shape"),
    ],
)
def test_a_problem_checks_its_parts(change: dict[str, object], message: str) -> None:
    parts = {
        "matrix": [[1.0, 1.0]],
        "row_lower": [0],
        "row_upper": [4],
        "lower": [0, 0],
        "upper": [1, 1],
        "costs": [1, 1],
    }
    with pytest.raises(DataError, match=message):
        Problem.build(**(parts | change))


@pytest.mark.parametrize("factor", [1e3, 2e3, 1e4])
def test_a_value_that_looks_like_rounding_counts_where_a_row_needs_it(factor: float) -> None:
    others = 250  # too many rows for exact arithmetic as a way out
    matrix = sparse.block_diag([sparse.csr_matrix([[1.0, -factor], [1.0, 1.0 / factor]]), sparse.eye(others)])
    low = np.concatenate(([-inf, -inf], np.full(others, 9000.0)))  # large values beside it
    high = np.concatenate(([0.0, 5.0], np.full(others, inf)))
    lower, upper = np.zeros(others + 2), np.append([5.0, 1.0], np.full(others, inf))
    lower[0] = 1.4e-7
    problem = Problem.build(matrix, low, high, lower, upper, np.append([0.0, 1.0], np.ones(others)))
    for method in ("dual", "primal"):
        outcome = LinearSolver(problem).solve(method=method)
        assert outcome.status == "optimal"
        assert outcome.x[0] - factor * outcome.x[1] <= 1e-7


def test_a_breakpoint_very_far_away_is_met() -> None:
    # near parallel rows: steps of 1e9 and more, whose ratio times the pivot rounds below the distance
    outcome = LinearSolver(random_lp("near-parallel", 5010, 60, 90, "unbounded")).solve(method="primal")
    assert outcome.status == "unbounded"


def test_changed_costs_can_leave_no_best_plan() -> None:
    solver = LinearSolver(Problem.build([[1.0, -1.0]], [0], [0], [0, 0], [inf, inf], [1, 1]))
    assert solver.solve().status == "optimal"
    solver.change_costs(0, -2.0)
    outcome = solver.solve()
    assert outcome.status == "unbounded"
    assert outcome.ray is not None
    assert (outcome.ray > 0).all()


@pytest.mark.parametrize(("seed", "m", "n"), [(6, 400, 520), (12, 800, 800), (32, 800, 640)])
def test_a_contradiction_of_many_equations_is_proven(seed: int, m: int, n: int) -> None:
    # no column has an upper bound, so what rounding leaves of a weighted sum would do away with the proof
    rng = np.random.default_rng(seed)
    entries, rows, columns = rng.uniform(1, 9, 5 * n), rng.integers(0, m, 5 * n), np.repeat(np.arange(n), 5)
    matrix = sparse.csc_matrix((entries, (rows, columns)), shape=(m, n))
    right = matrix @ rng.uniform(0, 2, n) * rng.uniform(0.5, 1.5, m)
    problem = Problem.build(matrix, right, right, np.zeros(n), np.full(n, inf), rng.uniform(1, 20, n))
    for method in ("auto", "primal"):
        outcome = LinearSolver(problem).solve(method=method)
        assert outcome.status == "infeasible"
        judge(problem, outcome)


def bundles(seed: int) -> Problem:
    """Return a problem whose rows and columns are bundles that rounding hardly tells apart, with costs of any size."""
    rng = np.random.default_rng(seed)
    n, m, rows, columns = (int(rng.integers(*span)) for span in ((4, 30), (3, 20), (0, 5), (0, 5)))
    a = (rng.random((m, n)) < rng.choice([0.15, 0.5])) * rng.integers(1, 9, (m, n)).astype(float)
    spread = rng.choice([0, 1e-11, 1e-10, 5e-10, 1e-9, 1e-8, 1e-7])
    for count, axis in ((rows, 0), (columns, 1)):
        a = np.repeat(a, count + 1, axis)
        a *= 1 + spread * rng.standard_normal(a.shape)
    width = n * (columns + 1)
    reached = a @ rng.integers(0, 4, width)
    costs = np.repeat(rng.uniform(-0.3, 2, n) * 10.0 ** rng.integers(0, 8), columns + 1)
    costs *= 1 + spread * rng.standard_normal(width)
    kind = rng.integers(0, 3, len(a))
    low = np.where(kind == 0, -inf, reached)
    high = np.where(kind == 1, inf, reached * (1 + spread) if rng.random() < 0.5 else reached + 1)
    upper = np.full(width, rng.choice([5.0, 50.0]))
    return Problem.build(a, low, high, np.zeros(width), upper, costs, np.zeros(width, np.uint8))


@pytest.mark.parametrize(
    ("seed", "method"), [(1, "dual"), (6, "dual"), (141, "dual"), (210, "dual"), (1, "primal"), (271, "primal")]
)
def test_steps_that_only_rounding_makes_come_to_an_end(seed: int, method: Method) -> None:
    problem = bundles(seed)
    solver = LinearSolver(problem)
    outcome = solver.solve(Limits(), method=method)
    assert outcome.status == "optimal"
    assert outcome.bound == pytest.approx(outcome.objective, rel=1e-9)
    assert outcome.x is not None
    assert certificates.plan_holds(problem, outcome.x, problem.activity(outcome.x), problem.lower, problem.upper)
    assert solver.counters.iterations < 2000
