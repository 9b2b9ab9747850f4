"""A brief search before all else: right where it ends, without a trace where it does not."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from benchmarks.integer_families import bins, knapsacks
from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.solve import solve
from ruddock.engine.tree import brief
from ruddock.problem import INTEGER, Problem
from tests.engine.test_tree import assert_whole
from tests.exact import judge
from tests.generators import inf
from tests.integer_problems import STRUCTURES, enumerated, integer_problem


@pytest.fixture
def briefly(monkeypatch: pytest.MonkeyPatch) -> list[Outcome | None]:
    """Collect what brief searches return."""
    search, returned = brief.brief_search, list[Outcome | None]()

    def watched(*given: Any) -> Outcome | None:
        returned.append(search(*given))
        return returned[-1]

    monkeypatch.setattr(brief, "brief_search", watched)
    return returned


@pytest.mark.parametrize("structure", STRUCTURES)
def test_small_problems_end_there_with_the_answer_of_enumeration(structure: str, briefly: list[Outcome | None]) -> None:
    for seed in range(100, 112):
        problem = integer_problem(structure, seed)
        best, rng = enumerated(problem), np.random.default_rng(seed)
        kinds: list[tuple[Limits, Options]] = [
            (Limits(), Options(blocks=False)),  # where they are identical, they come first
            (Limits(gap=0.1), Options(priorities=rng.integers(0, 3, problem.n), presolve=bool(seed % 2), blocks=False)),
        ]
        for limits, options in kinds:
            outcome = solve(problem, limits, options)
            assert outcome.status == ("infeasible" if best == inf else "optimal"), seed
            if outcome.x is None:
                if outcome.proof is not None:
                    judge(problem, outcome)
                continue
            assert_whole(problem, outcome.x)
            assert outcome.bound <= best + 1e-6 and outcome.gap <= limits.gap + 1e-8, seed
            assert outcome.objective == pytest.approx(best, abs=1e-6) or limits.gap, seed
            assert not problem.discrete or outcome.history[-1].best == outcome.objective
            start = solve(problem, options=Options(start=outcome.x, branching="plain", blocks=False))
            assert start.objective == pytest.approx(best, abs=1e-6), seed
    assert sum(outcome is not None for outcome in briefly) > 0.9 * len(briefly)


def test_what_does_not_end_soon_is_searched_as_if_it_had_not_been_tried(
    monkeypatch: pytest.MonkeyPatch, briefly: list[Outcome | None]
) -> None:
    problem, events = knapsacks(5, 40)(1), list[dict[str, Any]]()
    plans: list[float] = []
    limits = Limits(on_event=events.append, on_plan=lambda x: plans.append(float(problem.costs @ x)))
    tried = solve(problem, limits, Options(cores=1))
    assert briefly == [None]
    assert plans == sorted(plans, reverse=True) and plans[-1] == pytest.approx(tried.objective)
    assert len([event for event in events if event["event"] == "start"]) == 1
    monkeypatch.setattr(brief, "MOST_ENTRIES", -1)
    other = solve(problem, options=Options(cores=1))
    assert (other.objective, other.counters.nodes) == (tried.objective, tried.counters.nodes)
    assert (other.x == tried.x).all()


def test_identical_blocks_are_left_to_prices(briefly: list[Outcome | None]) -> None:
    problem = bins(6, 4)(1)
    first, second = solve(problem), solve(problem, options=Options(blocks=False))
    assert briefly == [None, second] and first.objective == second.objective


def test_limits_and_listeners_are_heeded(briefly: list[Outcome | None]) -> None:
    problem = knapsacks(2, 12)(1)
    events, plans = list[dict[str, Any]](), list[np.ndarray]()
    outcome = solve(problem, Limits(on_event=events.append, on_plan=plans.append))
    assert briefly == [outcome] and outcome.status == "optimal"
    assert len(plans) == 1 and (plans[0] == outcome.x).all()
    assert [event["event"] for event in events] == ["start", "plan", "end"]
    assert events[1]["objective"] == outcome.objective
    for limits, reason in ((Limits(seconds=0.0), "time"), (Limits(interrupted=lambda: True), "user")):
        stopped = solve(problem, limits)
        assert (stopped.status, stopped.reason) == ("stopped", reason)
    before = len(briefly)
    for limits in (Limits(nodes=1), Limits(iterations=3)):
        assert solve(problem, limits).counters.nodes <= 1
    assert briefly[before:] == [None, None], "limits of nodes and iterations are those of the search itself"
    asked: list[int] = []

    def soon() -> bool:
        asked.append(1)
        return len(asked) > 40

    stopped = solve(problem, Limits(interrupted=soon))
    assert stopped.reason == "user" and stopped.bound <= outcome.objective <= stopped.objective


def test_an_objective_without_end_is_told_as_ever(briefly: list[Outcome | None]) -> None:
    whole = np.full(2, INTEGER)
    problem = Problem.build([[1.0, -1.0]], [-inf], [0.5], np.zeros(2), np.full(2, inf), [-1.0, 0.0], whole)
    outcome = solve(problem)
    assert outcome.status == "unbounded" and briefly == [None]
    assert problem.costs @ outcome.ray < 0
