"""A helper that dies or hangs, memory that ends, limits at any moment: the answer is the same, or says less."""

from __future__ import annotations

import signal

import numpy as np
import pytest

from ruddock.engine import memory
from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from ruddock.engine.tree import hands, search, workers
from ruddock.engine.tree.frontier import Away, Frontier, Node
from ruddock.engine.tree.state import SearchState
from tests.engine import faults
from tests.exact import judge
from tests.generators import random_lp


@pytest.mark.parametrize("what", faults.SIGNALS)
def test_a_helper_that_dies_or_hangs_takes_nothing_with_it(what: signal.Signals) -> None:
    problem = faults.search(3)
    best = faults.alone(problem)
    assert best.status == "optimal"
    handed = 0
    for at in (1, 3):
        outcome, given = faults.with_fault(problem, at, what)
        handed += given >= at
        assert (outcome.status, outcome.objective) == ("optimal", best.objective)
        assert outcome.bound == pytest.approx(best.bound)
    assert handed == 2


def test_a_bound_that_was_proven_elsewhere_stays_when_the_helper_is_gone(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(hands, "may_start", lambda: False)
    problem = faults.search(3)
    state = SearchState(problem, Limits(), Options())
    team = workers.Team(state, search.work_on)
    state.frontier.push([Node(-300.0), Node(-250.0)])
    state.frontier.lease(1, 60.0, 100)
    state.frontier.answered([], Away(count=3, bound=-280.0))
    state.frontier.lease(1, 60.0, 100)
    assert (state.bound(), state.frontier.lent) == (-280.0, 4)
    team.dismiss(state)
    # lent nodes come back with the bounds that they had when they were lent
    assert (state.frontier.bound, len(state.frontier), state.frontier.lent) == (-300.0, 2, 0)
    assert state.bound() == -280.0


def test_a_limit_that_falls_due_while_the_helper_hangs_keeps_its_nodes_in_the_bound() -> None:
    problem = faults.search(3)
    best = faults.alone(problem)
    for at in (1, 2):
        with faults.early_helper(at, signal.SIGSTOP, patience=60.0) as given:
            asked = iter(range(30))
            limits = Limits(interrupted=lambda at=at, asked=asked: given[0] >= at and next(asked, None) is None)
            outcome = solve(problem, limits, Options(cores=2, cuts=False))
        assert (outcome.status, outcome.reason) == ("stopped", "user")
        faults.sound(problem, outcome, best.objective)


def test_limits_at_any_moment_leave_a_true_bound() -> None:
    problem = faults.search(5)
    best = faults.alone(problem).objective
    rng = np.random.default_rng(0)
    for _ in range(4):
        limit = int(rng.integers(1, 1000))
        stopped = solve(problem, Limits(iterations=limit), Options(cores=1))
        if stopped.status == "stopped":
            assert stopped.reason == "iterations"
            assert stopped.counters.iterations <= limit + 1
        faults.sound(problem, stopped, best)
        asked = iter(range(int(rng.integers(1, 3_000))))
        interrupted = Limits(interrupted=lambda asked=asked: next(asked, None) is None)
        faults.sound(problem, solve(problem, interrupted, Options(cores=1)), best)


@pytest.mark.parametrize("kind", ["search", "linear", "factors"])
def test_memory_that_ends_is_told(kind: str) -> None:
    status, _, objective, _ = faults.with_little_memory(kind, 4000)
    assert status == "optimal"
    spare = memory.SPARE / 1e6  # below it a solve does not begin, just above it ends on its way
    for megabytes in (0.2, spare + 1.5):
        found = faults.with_little_memory(kind, megabytes)
        assert found[:2] == ["stopped", "memory"] or found[0] == status
        assert found[0] == "stopped" or found[2] == objective


def test_a_memory_limit_holds_for_linear_models_too() -> None:
    problem = random_lp("staircase", 3, 800, 1, "optimal")
    assert solve(problem, Limits(memory=50_000)).reason == "memory"
    assert solve(problem, Limits(memory=1e9)).status == "optimal"


def test_the_primal_method_ends_where_every_move_is_a_flip() -> None:
    # x >= 1 and x <= 0 for a column from 0 to 1: moving it over gains nothing
    from ruddock.problem import Problem

    inf = np.inf
    problem = Problem.build([[1.0], [1.0]], [1, -inf], [inf, 0], [0.0], [1.0], [0.0])
    outcome = solve(problem, Limits(iterations=1000), Options(method="primal", presolve=False))
    assert outcome.status == "infeasible"
    judge(problem, outcome)
    assert outcome.counters.bound_flips < 100


def test_a_node_at_which_a_share_ended_comes_first_in_the_next_and_is_counted_meanwhile() -> None:
    frontier = Frontier()
    frontier.push([Node(1.0), Node(2.0)])
    child = Node(5.0)
    frontier.begin(child)
    frontier.rest()
    assert (len(frontier), frontier.waiting_bound, frontier.bound) == (3, 1.0, 1.0)
    assert [node.bound for node in frontier.every_other(1)] == [1.0]  # lent: the one that rests is not
    assert frontier.take() is child
    frontier.rest()
    assert [node.bound for node in frontier.empty()] == [2.0, 5.0]
    assert (len(frontier), frontier.bound) == (0, np.inf)
