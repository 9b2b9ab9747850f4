"""Sifting: wide problems solved on few of their columns at a time, against the whole at once."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import sparse

from ruddock.engine import linear, sifting
from ruddock.engine.outcome import Basis, Limits, Options, Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.problem import Problem
from tests.exact import judge
from tests.generators import STRUCTURES, random_lp

inf = np.inf


def covering(m: int, n: int, seed: int) -> Problem:
    rng = np.random.default_rng(seed)
    a = sparse.random(m, n, 4 / m, format="csc", random_state=rng, data_rvs=np.ones)
    a = sparse.hstack([a, sparse.eye(m)], format="csc")
    costs = np.append(rng.integers(1, 100, n), np.full(m, 150.0))
    return Problem.build(a, np.ones(m), np.full(m, inf), np.zeros(n + m), np.ones(n + m), costs)


def duties(m: int, n: int, seed: int) -> Problem:
    """Hauls in order of time, each covered by duties of two to eight that follow one another closely."""
    rng = np.random.default_rng(seed)
    steps = rng.integers(1, 5, (n, 8))
    steps[:, 0] = rng.integers(0, m, n)
    hauls, kept = steps.cumsum(axis=1), np.arange(8) < rng.integers(2, 9, n)[:, None]
    kept &= hauls < m
    counts = kept.sum(axis=1)
    last = hauls[np.arange(n), counts - 1]
    a = sparse.csc_matrix((np.ones(counts.sum()), hauls[kept], np.append(0, counts.cumsum())), shape=(m, n))
    costs = 60.0 + 9.0 * (last - hauls[:, 0]) + rng.integers(0, 20, n)
    return Problem.build(a, np.ones(m), np.full(m, inf), np.zeros(n), np.ones(n), costs)


@pytest.mark.parametrize("structure", STRUCTURES)
def test_sifting_comes_to_the_same(structure: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(linear, "WORTHWHILE", 0)
    plain = Options(method="dual", presolve=False)
    for seed in range(4):
        for wish in ("optimal", "infeasible", "unbounded"):
            problem = random_lp(structure, 300 + seed, 12, 60, wish)
            expected = solve(problem, options=plain)
            with monkeypatch.context() as patch:
                patch.setattr(sifting, "FEWEST", 0)
                patch.setattr(sifting, "WIDE", 0)
                patch.setattr(sifting, "EACH", 1)
                patch.setattr(sifting, "ASTRAY", 0 if seed < 2 else 2)  # rough prices choose the columns
                outcome = solve(problem, options=Options(presolve=bool(seed % 2)))
            assert outcome.status == expected.status, (seed, wish)
            judge(problem, outcome)


def test_a_wide_problem_touches_few_of_its_columns() -> None:
    problem = covering(60, 8000, 1)
    assert sifting.pays(problem)
    whole = solve(problem, options=Options(method="dual", presolve=False))
    widest = 0

    def small(problem: Problem, basis: Basis | None) -> Outcome:
        nonlocal widest
        widest = max(widest, problem.n)
        return solve(problem, options=Options(basis=basis, presolve=False))

    found = sifting.sift(problem, small, lambda: np.zeros(problem.m))
    assert widest < problem.n / 10
    assert found.basis is not None
    outcome = solve(problem, options=Options(basis=found.basis))
    assert outcome.objective == pytest.approx(whole.objective, rel=1e-9)
    assert outcome.counters.iterations == 0


def test_rough_prices_save_rounds_and_any_prices_lead_to_the_optimum() -> None:
    problem = duties(120, 9000, 4)
    best = solve(problem, options=Options(method="dual", presolve=False)).objective
    rounds = []
    for prices in (None, np.zeros(problem.m), np.full(problem.m, 30.0), -np.ones(problem.m)):
        solved: list[Outcome] = []

        def small(problem: Problem, basis: Basis | None, solved: list[Outcome] = solved) -> Outcome:
            solved.append(solve(problem, options=Options(basis=basis, presolve=False)))
            return solved[-1]

        given = (lambda: LinearSolver(problem).solve().y) if prices is None else (lambda prices=prices: prices)
        found = sifting.sift(problem, small, given)  # type: ignore[arg-type]
        assert found.basis is not None
        assert solve(problem, options=Options(basis=found.basis)).objective == pytest.approx(best, rel=1e-9)
        rounds.append(len(solved))
    assert rounds[0] < min(rounds[1:])


def test_stopped_sifting_keeps_its_plan_and_bound() -> None:
    problem = covering(150, 12_000, 2)
    best = solve(problem)
    total, seen = best.counters.iterations, 0
    for share in (0.3, 0.6, 0.9):
        stopped = solve(problem, Limits(iterations=int(share * total)))
        assert stopped.status == "stopped"
        assert stopped.bound <= best.objective + 1e-9
        if stopped.x is not None:
            seen += 1
            assert stopped.objective >= best.objective - 1e-9
            assert (problem.activity(stopped.x) >= 1 - 1e-9).all()
    assert seen
