"""Other plans: as good and different, or the next best by enumeration; integrality by structure."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from scipy import sparse

import ruddock as rk
from ruddock.engine import certificates
from ruddock.engine.solve import solve
from ruddock.insight.structure import integral_by_structure
from ruddock.problem import Problem
from tests.generators import inf, random_lp


def model_of(problem: Problem) -> rk.Model:
    columns, rows = rk.Axis("c", [f"c{j}" for j in range(problem.n)]), rk.Axis("r", [f"r{i}" for i in range(problem.m)])
    return rk.Model._from_problem("random", problem, columns, rows, "cost", maximize=False)


def test_alternatives_of_linear_models_are_optimal_and_different() -> None:
    several = alone = 0
    for seed in range(60):
        problem = random_lp(("free", "transport", "boxed", "staircase")[seed % 4], seed, 6, 9, "optimal")
        plan = model_of(problem).solve()
        if plan.status != "optimal":
            continue
        found = plan.alternatives(5)
        points = [plan.values, *(other.values for other in found.others)]
        for one, two in itertools.combinations(points, 2):
            assert np.abs(one - two).max() > 1e-7
        for other in found.others:
            assert other.objective == pytest.approx(plan.objective, rel=1e-7, abs=1e-7)
            x = other.values
            assert certificates.feasible(problem, x, problem.activity(x), problem.lower, problem.upper)
        assert found.complete == (not found.others)
        if not found.others:
            # pushed off the plan in any direction, the objective gets worse
            rng = np.random.default_rng(seed)
            for _ in range(5):
                tilted = Problem.build(
                    problem.matrix(), problem.row_lower, problem.row_upper, problem.lower, problem.upper,
                    problem.costs + 1e-6 * rng.uniform(-1, 1, problem.n), offset=problem.offset,
                )  # fmt: skip
                outcome = solve(tilted)
                assert outcome.x is not None
                assert outcome.x == pytest.approx(plan.values, abs=1e-6)
            alone += 1
        several += len(found) > 0
    assert several >= 8
    assert alone >= 20


@pytest.mark.parametrize("seed", range(6))
def test_next_best_plans_are_those_of_enumeration(seed: int) -> None:
    rng = np.random.default_rng(seed)
    weight, worth = rng.integers(1, 9, 4), rng.integers(1, 20, 4)
    problem = Problem.build([weight], [-inf], [14], np.zeros(4), [2, 1, 3, 2], -worth, np.ones(4))
    plan = model_of(problem).solve()
    found = plan.alternatives(6)
    all_plans = itertools.product(range(3), range(2), range(4), range(3))
    values = sorted(-int(worth @ x) for x in all_plans if weight @ x <= 14)
    assert [round(p.objective) for p in (plan, *found.others)] == values[:7]
    assert len({tuple(np.round(p.values)) for p in (plan, *found.others)}) == 7
    assert not found.complete
    assert "6 next best plans; there may be more" in str(found)


def test_every_end_of_an_edge_is_found_and_no_more_is_claimed() -> None:
    model = rk.Model("edge")
    a, b = model.decide("a", upper=8), model.decide("b", upper=8)
    model.maximize("gain", 2 * a + 2 * b)
    model.require("room", a + b <= 10)
    found = model.solve().alternatives()
    ends = {tuple(plan.values) for plan in (found.plan, *found.others)}
    assert ends == {(8, 2), (2, 8)}
    assert not found.complete
    assert "mixtures of these are optimal too, and there may be" in str(found)


def test_rules_and_bounds_by_constraints_leave_the_next_best() -> None:
    model = rk.Model("implied")
    x, u = model.decide("x", kind="integer"), model.decide("u", kind="binary")
    model.require("room", x <= 4)  # nothing else bounds it
    model.require("only", rk.when(1 - u, x <= 2))
    model.maximize("gain", 3 * x - 2 * u)
    found = model.solve().alternatives(20)
    worth = sorted((3 * i - 2 * j for i in range(5) for j in (0, 1) if j or i <= 2), reverse=True)
    assert [plan.objective for plan in (found.plan, *found.others)] == pytest.approx(worth)
    assert found.complete
    assert "no others exist (proven)" in str(found)


def test_unbounded_whole_numbers_ask_for_a_bound() -> None:
    problem = Problem.build([[1.0]], [2.5], [inf], [0], [inf], [1], [1])
    with pytest.raises(rk.ModelError, match="upper bound"):
        model_of(problem).solve().alternatives()


def matrix_problem(a: object, kinds: int = 1, limit: float = 3.0) -> Problem:
    matrix = sparse.csc_matrix(np.array(a, float))
    m, n = matrix.shape
    return Problem.build(
        matrix, np.full(m, -inf), np.full(m, limit), np.zeros(n), np.full(n, 9), -np.ones(n), np.full(n, kinds)
    )


@pytest.mark.parametrize(
    ("a", "why"),
    [
        ([[1, 1, 0, 0], [0, 0, 1, 1], [1, 0, 1, 0], [0, 1, 0, 1]], "network"),  # assignment
        ([[-1, 0, 1], [1, -1, 0], [0, 1, -1]], "network"),  # a circle of arcs
        ([[1, 0, 1], [1, 1, 0], [1, 1, 1], [0, 1, 1]], None),  # three entries, with gaps
        ([[1, 1, 0], [1, 1, 1], [1, 0, 1]], "intervals"),  # in its columns
        ([[1, 1, 0], [1, 1, 1], [0, 1, 1]], "intervals"),
        ([[1, 0, 1], [1, 1, 0], [0, 1, 1]], None),  # an odd circle: halves are corners
        ([[2, 0], [0, 1]], None),
    ],
)
def test_whole_corners_by_structure(a: list[list[int]], why: str | None) -> None:
    problem = matrix_problem(a)
    found = integral_by_structure(problem)
    assert (found is None) == (why is None)
    if why:
        assert why in str(found)
        for k in range(10):
            costs = np.random.default_rng(k).integers(-9, 9, problem.n)
            relaxed = Problem.build(
                problem.matrix(), problem.row_lower, problem.row_upper, problem.lower, problem.upper, costs
            )
            x = solve(relaxed).x
            assert x is not None
            assert x == pytest.approx(np.round(x), abs=1e-9)
    assert integral_by_structure(matrix_problem(a, limit=2.5)) is None


def test_the_ranges_say_that_whole_numbers_come_by_themselves() -> None:
    plan = model_of(matrix_problem([[1, 1, 0, 0], [0, 0, 1, 1], [1, 0, 1, 0], [0, 1, 0, 1]])).solve()
    found = plan.sensitivity()
    assert found.by_structure == "the constraints are those of a network"
    assert "The integer marks change nothing" in " ".join(str(found).split())
