"""Dives that take out what is decided, judged on problems small enough to be solved."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from ruddock.engine.tree import heuristics, root
from ruddock.engine.tree.heuristics.shrinking import dive_by_shrinking
from ruddock.engine.tree.state import SearchState
from ruddock.problem import INTEGER, Problem
from tests.engine.test_sifting import duties
from tests.engine.test_tree import assert_whole
from tests.integer_problems import STRUCTURES, enumerated, integer_problem


def dived(problem: Problem) -> SearchState | None:
    """Return the search after a dive from its first relaxation; None where there is none."""
    state = SearchState(problem, Limits(), Options())
    root.prepare(state)
    if state.tightening is not None and state.tightening.infeasible:
        return None
    outcome = state.relax(state.bounds.lower, state.bounds.upper, quick=False)
    if outcome.x is None or outcome.status != "optimal":
        return None
    state.know_bound(outcome.bound)
    dive_by_shrinking(state, outcome.x)
    return state


@pytest.mark.parametrize("structure", STRUCTURES)
def test_a_dive_by_shrinking_ends_in_a_plan_or_in_none(structure: str) -> None:
    found = 0
    for seed in range(12):
        problem = integer_problem(structure, seed)
        best, state = enumerated(problem), dived(problem)
        if state is None or state.incumbent.best is None:
            continue
        assert_whole(problem, state.incumbent.best)
        assert state.incumbent.value >= best - 1e-6 * max(1.0, abs(best))
        found += 1
    assert found


def whole_duties(seed: int) -> Problem:
    return replace(duties(30, 250, seed), kinds=np.full(250, INTEGER, np.uint8))


def test_a_dive_by_shrinking_comes_near_to_the_best_duties() -> None:
    apart = []
    for seed in range(8):
        problem = whole_duties(seed)
        best, state = solve(problem).objective, dived(problem)
        assert state is not None and state.incumbent.best is not None
        assert_whole(problem, state.incumbent.best)
        apart.append(state.incumbent.value / best - 1.0)
    assert min(apart) >= -1e-9
    assert np.median(apart) < 0.08 and max(apart) < 0.25


def test_large_relaxations_are_dived_from_so(monkeypatch: pytest.MonkeyPatch) -> None:
    problem = whole_duties(1)
    best, dives = solve(problem).objective, []
    monkeypatch.setattr(heuristics, "MANY", 0)
    monkeypatch.setattr(heuristics, "LONG", -1)
    monkeypatch.setattr(heuristics, "dive_by_shrinking", lambda *a: dives.append(a) or dive_by_shrinking(*a))
    outcome = solve(problem)
    assert (outcome.status, len(dives)) == ("optimal", 1)
    assert outcome.objective == pytest.approx(best)
