"""The whole linear solve: methods and presolve agree, the exact check, events, limits, determinism."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Literal

import numpy as np
import pytest
from scipy import sparse

from ruddock.engine import linear, prediction
from ruddock.engine.certificates import feasible
from ruddock.engine.exact import ExactBasis, certify
from ruddock.engine.first_order import plan
from ruddock.engine.interior.mehrotra import interior_point
from ruddock.engine.lifting import ExactFactor
from ruddock.engine.outcome import AT_LOWER, BASIC, Basis, Limits, Options
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.problem import Problem
from tests.engine.test_sifting import covering
from tests.exact import judge
from tests.generators import STRUCTURES, inf, planted, random_lp, two_product_staircase

WAYS = (
    Options(),
    Options(method="dual"),
    Options(method="primal"),
    Options(method="primal", presolve=False),
    Options(method="interior"),
    Options(method="interior", presolve=False),
    Options(method="first-order", presolve=False),
)


@pytest.fixture(autouse=True)
def presolve_even_small(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(linear, "WORTHWHILE", 0)


@pytest.mark.parametrize("structure", STRUCTURES)
def test_all_methods_give_the_same_answer_with_and_without_presolve(structure: str) -> None:
    for seed in range(1, 4):
        for wish in ("optimal", "infeasible", "unbounded"):
            problem = random_lp(structure, 900 + seed, *((8, 12), (30, 45))[seed % 2], wish)
            problem = planted(problem, seed) if seed > 1 else problem
            plain = solve(problem, options=Options(presolve=False))
            judge(problem, plain)
            for way in WAYS:
                outcome = solve(problem, Limits(seconds=60), way)
                assert outcome.status == plain.status, (seed, wish, way)
                judge(problem, outcome)
                if plain.status == "optimal":
                    assert outcome.objective == pytest.approx(plain.objective, rel=1e-9, abs=1e-9), (seed, wish, way)


@pytest.mark.parametrize("way", WAYS)
def test_nothing_to_decide_or_nothing_to_keep(way: Options) -> None:
    def settled(rows: list[float], columns: list[float]) -> str:
        """Solve empty rows with these lower limits, and columns from 1 on with these costs."""
        m, n = len(rows), len(columns)
        empty = sparse.csc_matrix((m, n))
        problem = Problem.build(empty, np.array(rows), np.full(m, inf), np.ones(n), np.full(n, inf), np.array(columns))
        outcome = solve(problem, options=way)
        judge(problem, outcome)
        return outcome.status

    assert [settled([], []), settled([-1.0, 0.0], []), settled([], [2.0, 0.0])] == ["optimal"] * 3
    assert [settled([1.0, 0.0], []), settled([1.0], [1.0])] == ["infeasible"] * 2
    assert settled([], [1.0, -1.0]) == settled([-1.0], [-1.0]) == "unbounded"


def test_the_basis_told_is_the_one_at_the_end() -> None:
    # an optimum within the tolerance is found first, and a finer one after more steps
    problem = random_lp("free", 5_000_028, 64, 79, "optimal")
    judge(problem, solve(problem, options=Options(method="primal", presolve=False)))


@pytest.mark.parametrize("method", ["interior", "first-order"])
def test_another_method_takes_over_from_a_simplex_method_that_takes_long(
    method: Literal["interior", "first-order"], monkeypatch: pytest.MonkeyPatch
) -> None:
    from ruddock.engine.simplex import solver

    monkeypatch.setattr(prediction, "RIVALLED", 0)
    monkeypatch.setattr(prediction, "HEAD_START", 20_000)
    monkeypatch.setattr(prediction, "BET", 0.0)
    monkeypatch.setattr(prediction, "rival", lambda *_: prediction.Rival(method, 1.0))
    monkeypatch.setattr(solver, "BUDGET", 10_000)
    made: list[LinearSolver] = []
    began = LinearSolver.__init__
    monkeypatch.setattr(LinearSolver, "__init__", lambda self, *a, **k: (made.append(self), began(self, *a, **k))[1])
    taken = 0
    for seed, structure in enumerate(STRUCTURES):
        problem = planted(random_lp(structure, seed, 60, 90, "optimal"), seed)
        made.clear()
        outcome = solve(problem)
        counters = outcome.counters
        assert counters.iterations == sum(solver.counters.iterations for solver in made)
        judge(problem, outcome)
        taken += (counters.interior_steps if method == "interior" else counters.gradient_steps) > 0
        again = solve(problem)
        assert again.counters.iterations == outcome.counters.iterations
    assert taken


def test_the_interior_point_lands_near_a_basis() -> None:
    problem = two_product_staircase(400)
    direct = solve(problem, options=Options(method="dual", presolve=False))
    outcome = solve(problem, options=Options(method="interior", presolve=False))
    assert outcome.objective == pytest.approx(direct.objective, rel=1e-9)
    assert 0 < outcome.counters.interior_steps < 40
    assert outcome.counters.iterations < 0.2 * direct.counters.iterations
    judge(problem, outcome)


def test_after_a_crossover_the_primal_method_goes_on() -> None:
    # the dual one would send all reduced costs of the wrong sign to the other bound, and the point with them
    problem, rng = covering(300, 200, 5), np.random.default_rng(5)
    for _ in range(4):
        other = solve(replace(problem, costs=problem.costs * (1 + 0.6 * rng.uniform(-1, 1, 500))))
        low = problem.row_lower.copy()
        low[rng.choice(np.flatnonzero(other.activity <= 1 + 1e-9), 2, replace=False)] += 0.01
        solver = LinearSolver(replace(problem, row_lower=low))
        solver.cross_over(np.append(other.x, other.activity), np.append(other.reduced, other.y), Limits())
        outcome = solver.solve()
        assert outcome.status == "optimal"
        assert outcome.counters.dual_iterations == 0 < outcome.counters.primal_iterations


@pytest.mark.parametrize("structure", STRUCTURES)
def test_the_first_order_method_alone_has_a_plan_and_a_bound_that_hold(
    structure: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(linear, "MOST_CROSSED", 0)
    monkeypatch.setattr(linear, "MANY_STEPS", 30_000)
    found = 0
    for seed in range(6):
        problem = random_lp(structure, seed, 40, 60, "optimal")
        best = LinearSolver(problem).solve().objective
        outcome = solve(problem, options=Options(method="first-order", presolve=seed % 2 > 0))
        assert outcome.status in ("stopped", "optimal")  # presolve may settle it
        assert outcome.bound <= best + 1e-9 * max(1.0, abs(best))
        if outcome.x is not None:
            activity = problem.activity(outcome.x)
            assert feasible(problem, outcome.x, activity, problem.lower, problem.upper)
            assert outcome.objective == pytest.approx(problem.objective(outcome.x))
            assert outcome.objective == pytest.approx(best, rel=1e-2, abs=1e-2)
            found += 1
        # nothing is left of it where a limit passes at once
        halted = solve(problem, Limits(seconds=0.0), Options(method="first-order"))
        assert (halted.status, halted.reason) == ("stopped", "time")
    assert found


def test_the_first_order_method_keeps_time_to_make_its_point_a_plan(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(linear, "MOST_CROSSED", 0)
    monkeypatch.setattr(plan, "SHARE", 0.0)  # it is to stop at once, and the rest of the time is for the plan
    problem = random_lp("mixed", 3, 40, 60, "optimal")
    outcome = solve(problem, Limits(seconds=600), Options(method="first-order", presolve=False))
    assert outcome.status == "stopped"
    assert outcome.x is not None
    assert feasible(problem, outcome.x, problem.activity(outcome.x), problem.lower, problem.upper)


def test_dense_columns_are_kept_out_of_the_normal_equations() -> None:
    rng = np.random.default_rng(5)
    m, n = 400, 700
    a = sparse.lil_matrix(sparse.random(m, n, 0.005, random_state=5))
    a[:, 0] = rng.integers(1, 4, (m, 1))
    a[:, 1] = rng.integers(1, 4, (m, 1))
    a[np.arange(m), 2 + np.arange(m)] = 1.0
    point = rng.integers(0, 5, n).astype(float)
    need = a.tocsr() @ point
    problem = Problem.build(a.tocsc(), need, np.full(m, inf), np.zeros(n), np.full(n, inf), rng.integers(1, 9, n))
    interior = interior_point(problem)
    assert interior.converged
    assert problem.objective(interior.values[:n]) == pytest.approx(LinearSolver(problem).solve().objective, rel=1e-6)


def test_the_engine_takes_the_interior_method_where_it_is_likely_to_pay(monkeypatch: pytest.MonkeyPatch) -> None:
    problem = two_product_staircase(60)
    assert solve(problem).counters.interior_steps == 0
    monkeypatch.setattr(prediction, "MANY_ROWS", 10)
    monkeypatch.setattr(prediction, "THIN", 100.0)
    assert solve(problem).counters.interior_steps > 0


@pytest.mark.parametrize("seed", range(6))
def test_the_exact_check_certifies_and_repairs(seed: int) -> None:
    problem = random_lp(("mixed", "boxed", "staircase")[seed % 3], 40 + seed, 12, 18, "optimal")
    outcome = solve(problem, options=Options(exact=True))
    assert outcome.counters.certified
    judge(problem, outcome)
    # from the basis of all logicals, every step to the optimum is an exact one
    far = replace(outcome, basis=Basis(np.full(problem.n, AT_LOWER, np.int8), np.full(problem.m, BASIC, np.int8)))
    if np.isfinite(problem.lower).all():
        repaired, certified = certify(problem, far, Limits())
        assert certified
        assert repaired.objective == pytest.approx(outcome.objective, rel=1e-12)
        judge(problem, repaired)


def test_the_exact_check_tells_what_the_tolerance_hides() -> None:
    # x may not exceed 1, but must be 1e-11 more: within the tolerance of the simplex method, yet impossible
    problem = Problem.build([[1.0, 0.0], [1.0, 1.0]], [1 + 1e-11, 0], [inf, 4], [0, 0], [1, inf], [1, -1])
    outcome = solve(problem, options=Options(exact=True, presolve=False))
    assert outcome.status == "optimal"
    assert not outcome.counters.certified
    thirds = Problem.build([[3.0, 0.0], [0.0, 7.0]], [1, 1], [inf, inf], [0, 0], [inf, inf], [1, 1])
    assert solve(thirds, options=Options(exact=True)).x.tolist() == [1 / 3, 1 / 7]


@pytest.mark.parametrize("kind", ["whole", "wide", "alike", "singular"])
@pytest.mark.parametrize("size", [1, 7, 40])
def test_equations_are_solved_exactly(kind: str, size: int) -> None:
    rng = np.random.default_rng(size)
    filled = sparse.random_array((size, size), density=0.3, rng=rng).toarray() + np.eye(size)
    if kind == "whole":
        filled = np.ceil(9 * filled)
    elif kind == "wide":
        filled *= 10.0 ** rng.integers(-150, 150, (size, 1)) * 10.0 ** rng.integers(-8, 8, size)
    elif kind == "alike":  # rows in twos, 1e-9 apart
        filled = np.repeat(rng.uniform(-1, 1, (size, size)), 2, axis=0)[:size] * (1 + 1e-9 * rng.random((size, size)))
    else:
        filled = np.round(9 * filled)
        filled[-1] = 0.0 if size == 1 else filled[:-1].sum(axis=0)
    columns = [{i: Fraction(filled[i, j]) for i in np.flatnonzero(filled[:, j]).tolist()} for j in range(size)]
    clock = ExactBasis(Problem.build([[1.0]], [0], [1], [0], [1], [1]), np.zeros(2, np.int8), Limits()).clock
    if kind == "singular":
        with pytest.raises(ZeroDivisionError):
            ExactFactor(columns, clock)
        return
    factor = ExactFactor(columns, clock)
    right = [Fraction(value) / 3 for value in rng.normal(size=size)]
    x, y = factor.forward(right), factor.backward(right)
    rows = [
        sum((column[i] * x[j] for j, column in enumerate(columns) if i in column), Fraction(0)) for i in range(size)
    ]
    assert rows == right
    assert [sum(value * y[i] for i, value in column.items()) for column in columns] == right
    assert factor.forward([Fraction(0)] * size) == [0] * size


@pytest.mark.parametrize("way", WAYS)
def test_the_same_problem_takes_the_same_path(way: Options) -> None:
    problem = planted(random_lp("degenerate", 3, 60, 90, "optimal"), 3)
    one, two = solve(problem, options=way), solve(problem, options=way)
    assert one.counters.iterations == two.counters.iterations
    assert np.array_equal(one.x, two.x) and np.array_equal(one.y, two.y)


@pytest.mark.parametrize("method", ["auto", "primal", "interior"])
def test_time_limits_and_interruption_stop_every_method(method: str) -> None:
    problem = two_product_staircase(20_000)
    outcome = solve(problem, Limits(seconds=0.15), Options(method=method))
    assert (outcome.status, outcome.reason) == ("stopped", "time")
    asked = iter(range(1000))
    outcome = solve(problem, Limits(interrupted=lambda: next(asked) >= 3), Options(method=method))
    assert (outcome.status, outcome.reason) == ("stopped", "user")


def test_events_tell_the_parts_of_a_solve() -> None:
    events: list[dict] = []
    problem = planted(random_lp("mixed", 2, 40, 60, "optimal"), 2)
    outcome = solve(problem, Limits(on_event=events.append), Options(method="interior"))
    names = [event["event"] for event in events]
    assert names[0] == "start" and names[-1] == "end" and "presolve" in names and "interior step" in names
    assert [event["seconds"] for event in events] == sorted(event["seconds"] for event in events)
    assert events[-1]["objective"] == outcome.objective
    assert {"presolve", "interior", "simplex"} <= set(events[-1]["parts"])
    rows = sum(r for r, _ in outcome.counters.reductions.values())
    assert next(e["rows"] for e in events if e["event"] == "presolve") == problem.m - rows
