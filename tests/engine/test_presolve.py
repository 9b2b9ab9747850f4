"""Reductions of presolve, alone and in chains: what comes back is judged in rational arithmetic."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from ruddock.engine.certificates import plan_holds
from ruddock.engine.outcome import Basis, Limits, Options, Outcome
from ruddock.engine.presolve.chain import OF_WHOLE_NUMBERS, REDUCTIONS, Presolve
from ruddock.engine.presolve.stage import Point, Reduction
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.engine.tree import reduced
from ruddock.engine.tree.domain import Domain
from ruddock.problem import Problem
from tests import integer_problems
from tests.exact import judge
from tests.generators import STRUCTURES, inf, planted, random_lp

SIZES = ((3, 4), (6, 8), (10, 14), (20, 30))


def brought_back(problem: Problem, presolve: Presolve) -> Outcome:
    """Solve what is left and bring the answer back, without any help from a solver of the whole problem."""
    left = presolve.problem
    if presolve.contradiction is not None:
        return Outcome("infeasible", proof=presolve.restore(presolve.contradiction).y)
    found = LinearSolver(left).solve()
    if found.status == "optimal":
        assert found.basis is not None
        point = presolve.restore(Point(found.x, found.y, found.reduced, found.basis.columns, found.basis.rows))
        assert point.x is not None and point.columns is not None and point.rows is not None
        value = problem.objective(point.x)
        return Outcome(
            "optimal",
            x=point.x,
            activity=problem.activity(point.x),
            y=point.y,
            reduced=point.d,
            basis=Basis(point.columns, point.rows),
            objective=value,
            bound=value,
        )
    if found.status == "infeasible":
        if found.proof is None:
            return found
        reduced = -(left.matrix().T @ found.proof)
        return Outcome("infeasible", proof=presolve.restore(Point(y=found.proof, d=reduced, proof=True)).y)
    x = presolve.restore(Point(x=found.x)).x
    assert x is not None
    ray = presolve.restore(Point(x=found.ray, direction=True)).x
    return Outcome("unbounded", x=x, activity=problem.activity(x), ray=ray, objective=problem.objective(x))


@cache
def problems() -> list[Problem]:
    return [
        planted(random_lp(structure, seed, *SIZES[seed % 4], wish), seed)
        for seed in range(8)
        for structure in STRUCTURES
        for wish in ("optimal", "infeasible", "unbounded")
    ]


@pytest.mark.parametrize("kind", REDUCTIONS, ids=[kind.title for kind in REDUCTIONS])
def test_a_reduction_alone_brings_back_answers_proofs_and_rays(kind: type[Reduction]) -> None:
    seen: Counter[str] = Counter()
    for number, problem in enumerate(problems()):
        presolve = Presolve(problem, (kind,))
        if not presolve.steps:
            continue
        outcome = brought_back(problem, presolve)
        seen[outcome.status] += 1
        try:
            judge(problem, outcome)
        except AssertionError as error:
            raise AssertionError(f"number {number}: {error}") from error
    assert min(seen[status] for status in ("optimal", "infeasible", "unbounded")) >= 5, seen


@pytest.mark.parametrize("seed", range(2))
def test_random_chains_of_reductions(seed: int) -> None:
    rng = np.random.default_rng(seed)
    taken = 0
    for number, problem in enumerate(problems()):
        chain = tuple(REDUCTIONS[k] for k in rng.permutation(len(REDUCTIONS)))
        presolve = Presolve(problem, chain)
        outcome = brought_back(problem, presolve)
        taken += len(presolve.steps)
        try:
            judge(problem, outcome)
        except AssertionError as error:
            raise AssertionError(f"number {number}, {[kind.__name__ for kind in chain]}: {error}") from error
    assert taken > 1000


def test_a_problem_that_unravels_is_solved_by_presolve_alone() -> None:
    # 2 x = 6 fixes x, which makes x + y = 5 fix y, and so on down the chain
    a = np.diag([2.0, 1.0, 1.0, 1.0]) + np.diag([1.0, 1.0, 1.0], -1)
    problem = Problem.build(a, [6, 5, 7, 9], [6, 5, 7, 9], np.zeros(4), np.full(4, inf), [1.0, 2.0, 3.0, 4.0])
    presolve = Presolve(problem)
    assert (presolve.problem.m, presolve.problem.n) == (0, 0)
    outcome = brought_back(problem, presolve)
    judge(problem, outcome)
    assert outcome.x is not None
    assert outcome.x.tolist() == [3.0, 2.0, 5.0, 4.0]
    assert sum(rows for rows, _ in presolve.counts.values()) == 4


@pytest.mark.parametrize("structure", integer_problems.STRUCTURES)
def test_fewer_rows_and_columns_keep_an_optimal_whole_plan(structure: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reduced, "LEAST", 1)
    taken: set[str] = set()
    for seed in range(2000, 2030):
        problem = integer_problems.integer_problem(structure, seed)
        given = replace(problem, offset=-7.0)
        less = reduced.Reduced.of(given, Limits(), Options())
        if less is None:
            continue
        taken.update(less.presolve.counts)
        told: list[np.ndarray] = []
        start = np.where(seed % 2, np.nan, given.lower) + np.zeros(given.n)
        outcome = solve(
            given, Limits(on_plan=told.append), Options(start=start, priorities=np.arange(given.n), cores=1)
        )
        best = integer_problems.enumerated(problem)
        assert outcome.status == ("infeasible" if best == inf else "optimal"), seed
        if outcome.x is None:
            continue
        assert outcome.objective == pytest.approx(best - 7.0, abs=1e-6), seed
        assert outcome.history[-1].best == pytest.approx(outcome.objective, abs=1e-6)
        domain = Domain(given)
        for plan in (outcome.x, *told):
            assert plan_holds(given, plan, given.activity(plan), *domain.fixing(plan)), seed
    if structure == "defined":
        assert set(taken) >= {kind.title for kind in OF_WHOLE_NUMBERS} - {"parallel columns"}, taken


def test_presolve_ends_when_told_to() -> None:
    problem = planted(random_lp("mixed", 3, 20, 30, "optimal"), 3)
    presolve = Presolve(problem, stopped=lambda: True)
    assert presolve.problem is problem
