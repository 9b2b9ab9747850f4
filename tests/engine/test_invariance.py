"""The same problem written otherwise has the same answer; extreme numbers change none."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.solve import solve
from ruddock.engine.tree.watch import LeftOutError
from ruddock.problem import INTEGER, SEMICONTINUOUS, Problem
from tests.engine.faults import search
from tests.exact import judge
from tests.generators import inf
from tests.integer_problems import STRUCTURES, integer_problem
from tests.transforms import integer_invariance, linear_invariance


@pytest.mark.parametrize("block", range(4))
def test_a_linear_problem_written_otherwise_has_the_same_answer(block: int) -> None:
    assert [wrong for seed in range(100 * block, 100 * block + 60) if (wrong := linear_invariance(seed))] == []


@pytest.mark.parametrize("seed", [10644, 11489])
def test_numbers_that_contradict_each_other_by_their_last_digit_are_not_certified(seed: int) -> None:
    # scaled by tenths, parallel rows exclude by 1e-16 what they allow as they are meant: exact duals are beyond 1e20
    assert linear_invariance(seed) == ""


@pytest.mark.parametrize("block", range(4))
def test_an_integer_problem_written_otherwise_has_the_same_answer(block: int) -> None:
    assert [wrong for seed in range(100 * block, 100 * block + 40) if (wrong := integer_invariance(seed))] == []


@pytest.mark.parametrize("bound", [1e10, 4e10, 1e12, 1e15, 1e16, 1e19, 1e20, 1e30])
def test_far_bounds_of_integers_cut_nothing_off(bound: float) -> None:
    # x + a y >= a is met by y alone
    for a in (0.7, 1.0, 3.0):
        problem = Problem.build([[1.0, a]], [a], [inf], [0, 0], [bound, 1], [1, 0], [INTEGER] * 2)
        outcome = solve(problem)
        assert (outcome.status, outcome.objective, outcome.bound) == ("optimal", 0, 0)


@cache
def plain_plan() -> tuple[Problem, Outcome]:
    """Return a problem and the plan of it as it is."""
    return search(4), solve(search(4), Limits(), Options(cores=1))


@pytest.mark.parametrize("size", [1e-12, 1e-10, 1e-3, 1e6, 1e12])
@pytest.mark.parametrize("offset", [0.0, 1e11, -1e15])
def test_costs_and_offsets_of_any_size_leave_the_same_plan(size: float, offset: float) -> None:
    problem, plan = plain_plan()
    other = solve(replace(problem, costs=problem.costs * size, offset=offset), Limits(), Options(cores=1))
    assert other.status == plan.status == "optimal"
    assert other.x is not None
    assert problem.objective(other.x) == plan.objective
    assert other.bound == other.objective


def test_rows_of_whole_numbers_are_judged_without_tolerance() -> None:
    coefficients = [12223.0, 12224, 36674, 61119, 85569]
    close = Problem.build([coefficients], [89643481], [89643481], [0] * 5, [1e5] * 5, [1] * 5, [INTEGER] * 5)
    outcome = solve(close, Limits(nodes=300), Options(cores=1))
    assert outcome.x is None or close.activity(outcome.x)[0] == 89643481
    for row, limit, upper in (
        ([2e7, 4e7, 6e7], 1e9 + 3, 100.0),  # twenty millions make no three
        ([2.0, -2.0, 0], 1, inf),
        ([0.2, 0.4, 0.6], 0.5, inf),
        ([6e-9, 15e-9, 9e-9], 1e-9, inf),
    ):
        free = Problem.build([row], [limit], [limit], [-upper] * 3, [upper] * 3, [1, 1, 1], [INTEGER] * 3)
        assert solve(free, Limits(nodes=50)).status == "infeasible"


def test_limits_that_were_rounded_for_whole_numbers_prove_nothing_as_written() -> None:
    # 2x + 4y is even, so it is at most 2 and at least 4; as written, both limits are 3
    problem = Problem.build([[2.0, 4], [2, 4]], [3, -inf], [inf, 3], [0, 0], [5, 5], [1, 1], [INTEGER] * 2)
    outcome = solve(problem)
    assert outcome.status == "infeasible"
    assert outcome.proof is None
    apart = replace(problem, row_lower=np.array([5.0, -inf]))  # at least 6, but 5 and 3 contradict each other too
    judge(apart, solve(apart))


def test_equations_together_have_no_whole_solution_or_one_is_found() -> None:
    # x + y = 1 and x - y = 0 each have whole solutions, together they have none
    pair = Problem.build([[1, 1], [1, -1.0]], [1, 0], [1, 0], [-inf] * 2, [inf] * 2, [0, 0], [INTEGER] * 2)
    assert solve(pair, Limits(nodes=50)).status == "infeasible"
    three = Problem.build([[6.0, 10, 15]], [1], [1], [-inf] * 3, [inf] * 3, [0, 0, 0], [INTEGER] * 3)
    outcome = solve(three, Limits(nodes=50))
    assert outcome.status == "optimal"
    assert outcome.x is not None
    assert three.activity(outcome.x)[0] == 1


def test_a_semicontinuous_whole_column_without_a_whole_value_is_zero() -> None:
    kinds = [INTEGER + SEMICONTINUOUS, INTEGER]
    problem = Problem.build([[1.0, 1]], [1], [inf], [1.1, 0], [1.8, 5], [1, 10], kinds)
    outcome = solve(problem)
    assert outcome.x is not None
    assert outcome.x.tolist() == [0, 1]


def test_an_unbounded_whole_problem_claims_no_bound() -> None:
    endless = Problem.build([[1.0, -1]], [0], [inf], [0, 0], [inf, inf], [-1, 0], [INTEGER] * 2)
    assert (solve(endless).status, solve(endless).bound) == ("unbounded", -inf)
    # whether there is a plan at all takes longer than this: nothing is known then
    hard = [12223.0, 12224, 36674, 61119, 85569, 0]
    puzzle = Problem.build([hard], [89643481], [89643481], [0] * 6, [inf] * 6, [0] * 5 + [-1], [INTEGER] * 6)
    stopped = solve(puzzle, Limits(nodes=20), Options(cores=1))
    assert (stopped.status, stopped.bound) == ("stopped", -inf)


def test_a_known_plan_is_left_out_by_nothing() -> None:
    watched = 0
    for structure in STRUCTURES:
        for seed in range(300, 306):
            problem = integer_problem(structure, seed)
            best = solve(problem)
            if best.x is None or (problem.kinds & SEMICONTINUOUS).any():
                continue
            watched += 1
            again = solve(problem, Limits(), Options(symmetry=False, heuristics=False, known=best.x, cores=1))
            assert again.objective == pytest.approx(best.objective)
    assert watched > 40


def test_a_plan_that_is_none_is_missed_by_the_watch() -> None:
    problem = search(4)
    better = np.ones(problem.n)  # takes everything, which the limits forbid
    with pytest.raises(LeftOutError):
        solve(problem, Limits(), Options(symmetry=False, heuristics=False, known=better, cores=1))
