"""Plans near others: near the caller's start, and near the best plan so far, by searches of their own."""

from __future__ import annotations

from dataclasses import replace
from typing import Protocol

import numpy as np

from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats, Problem

NODES = 200  # of one such search
SHARE, START = 0.3, 5000  # of all iterations that they may take, beside a start
PATIENCE = 4  # such searches in vain after which their share is halved
FIXED_LEAST = 0.3  # of the integer columns that such a search must have fixed
FEW_CHANGES = 12  # of binary columns, within which another such search looks


class Near(Protocol):
    """Returns the best plan of a problem near the one that is searched."""

    def __call__(self, problem: Problem, nodes: int, *, cutoff: bool = False) -> Floats | None:
        """Search within some nodes; ``cutoff``: only for plans that are better than the best one."""


def try_start(state: SearchState, near: Near) -> None:
    """Take the caller's start plan; where it is not complete, or no plan, search for one near it."""
    start, domain = state.options.start, state.domain
    if start is None:
        return
    given = np.isfinite(start)
    if _complete(state) and state.try_plan(np.where(given, start, 0.0)):
        return
    if not state.options.repair:
        return
    whole = domain.integers[given[domain.integers]]
    fixed = np.clip(np.round(start[whole]), domain.lower[whole], domain.upper[whole])
    if not _search_within(state, near, domain.lower, domain.upper, whole, fixed):
        _repair(state, near, whole, fixed)


def keep_start(state: SearchState) -> None:
    """Take the caller's start plan as it is, where the search stops before it has begun."""
    start = state.options.start
    if start is not None and _complete(state):
        state.incumbent.try_plan(np.where(np.isfinite(start), start, 0.0))


def _complete(state: SearchState) -> bool:
    """Say whether the caller's start gives all discrete columns values."""
    start, domain = state.options.start, state.domain
    return start is not None and bool(
        np.isfinite(start[domain.integers]).all() and np.isfinite(start[domain.semis]).all()
    )


def near_plan(state: SearchState, x: Floats, near: Near) -> None:
    """Search near the best plan: where it agrees with the relaxation, or with another plan, or within few changes.

    The three in turn (Danna, Rothberg and Le Pape 2005; Rothberg 2007; Fischetti and Lodi 2003).
    """
    integers = state.domain.integers
    assert state.incumbent.best is not None
    # what keeps failing gets less and less
    effort = state.effort
    budget = (START + SHARE * effort.iterations) / (1.0 + effort.near_failures / PATIENCE)
    if effort.spent["near plans"] > budget or len(integers) < 10 or effort.stopped():
        return
    before = state.incumbent.value
    _near_in_turn(state, x, integers, effort.next_near_search(), near)
    effort.judge_near_search(better=state.incumbent.value < before)


def _near_in_turn(state: SearchState, x: Floats, integers: np.ndarray, turn: int, near: Near) -> None:
    assert state.incumbent.best is not None
    if turn % 3 == 0:
        _within_few_changes(state, near)
        return
    other = x
    if turn % 3 == 2 and len(state.incumbent.earlier) > 1:
        other = state.incumbent.earlier[-2]
    agree = integers[np.abs(state.incumbent.best[integers] - other[integers]) < 1e-6]
    free = state.bounds.lower[integers] < state.bounds.upper[integers]
    if len(agree) < FIXED_LEAST * max(1, int(free.sum())) or len(agree) == len(integers):
        return
    _search_within(state, near, state.bounds.lower, state.bounds.upper, agree, state.incumbent.best[agree])


def _within_few_changes(state: SearchState, near: Near) -> None:
    """Search among plans that differ from the best one in few binary columns."""
    p, best = state.problem, state.incumbent.best
    assert best is not None
    integers = state.domain.integers
    binary = integers[(p.lower[integers] == 0) & (p.upper[integers] == 1)]
    if len(binary) < 20:
        return
    row = np.zeros(p.n)
    row[binary] = np.where(best[binary] > 0.5, -1.0, 1.0)
    most = FEW_CHANGES - float((best[binary] > 0.5).sum())
    found = near(p.with_rows(row[None, :], -np.inf, most), NODES, cutoff=True)
    if found is not None:
        state.try_plan(found)


def _search_within(
    state: SearchState, near: Near, lower: Floats, upper: Floats, fixed: np.ndarray, values: Floats
) -> bool:
    """Search with some columns fixed, for a while; say whether a better plan came of it."""
    lower, upper = lower.copy(), upper.copy()
    lower[fixed] = upper[fixed] = values
    semis = state.domain.semis
    lower[semis], upper[semis] = state.problem.lower[semis], state.problem.upper[semis]
    before = state.incumbent.value
    found = near(replace(state.problem, lower=lower, upper=upper), NODES, cutoff=True)
    if found is not None:
        state.try_plan(found)
    return state.incumbent.value < before


def _repair(state: SearchState, near: Near, columns: np.ndarray, values: Floats) -> None:
    """Search for the plan that keeps most of a start that is none."""
    p = state.problem
    costs = np.zeros(p.n)
    low, high = state.domain.lower[columns], state.domain.upper[columns]
    costs[columns] = np.where(values <= low, 1.0, np.where(values >= high, -1.0, 0.0))
    nearest = replace(p, costs=costs, offset=0.0)
    found = near(nearest, NODES)
    if found is not None:
        state.try_plan(found)
