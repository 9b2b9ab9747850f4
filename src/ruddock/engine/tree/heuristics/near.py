"""Plans near others: near the caller's start, and near the best plan so far, by searches of their own."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple, Protocol

import numpy as np

from ruddock.engine.outcome import INTEGRALITY
from ruddock.engine.tree.heuristics.point import Point
from ruddock.engine.tree.portfolio import SHARE as FIRST_SHARE
from ruddock.engine.tree.portfolio import Neighbourhood
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats, Problem

NODES = 200  # of one such search
SHARE, START = 0.3, 5000  # of all iterations that they may take, beside a start
EACH = 500  # iterations that beginning such a search takes about as long as
A_PRICED_NODE = 1000  # iterations that a node bounded by prices takes about as long as
TRIES = 4  # such searches in a row, each of more, while they are searched through
PATIENCE = 10  # such searches in vain after which their share is halved
FEWEST, FEWEST_BINARY = 10, 20  # integer and binary columns, below which there are none
STEP = 0.1  # of the distance from whole numbers, by which columns are kept in order
FEW_CHANGES = 12  # of binary columns, within which one such search looks at first


class Found(NamedTuple):
    """What a search near a plan has come to: a plan, or None, and whether it went through all there was."""

    plan: Floats | None
    through: bool


class Near(Protocol):
    """Returns the best plan of a problem near the one that is searched."""

    def __call__(self, problem: Problem, nodes: int, *, cutoff: bool = False) -> Found:
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
    before = state.incumbent.value
    _search_within(state, near, domain.lower, domain.upper, whole, fixed)
    if not state.incumbent.value < before:
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


def search_around(state: SearchState, point: Point, near: Near) -> None:
    """Search around the point of a relaxation, for which no plan is needed."""
    if len(state.domain.integers) >= FEWEST and affords(state):
        _try(state, point, near, state.portfolio.around_point)


def finish_dive(state: SearchState, x: Floats, near: Near) -> None:
    """Search with all columns kept that are whole at a point where a dive has left few others."""
    integers = state.domain.integers
    values = np.round(x[integers])
    whole = state.domain.distance(x)[integers] <= INTEGRALITY
    before = state.incumbent.value
    _search_within(state, near, state.bounds.lower, state.bounds.upper, integers[whole], values[whole])
    state.effort.judge("near plans", better=state.incumbent.value < before)


def affords(state: SearchState) -> bool:
    """Say whether another search near a plan is within what these may take; what keeps failing gets less and less."""
    effort = state.effort
    done = effort.iterations + (A_PRICED_NODE * effort.own_nodes if state.by_prices else 0)
    budget = (START + SHARE * done) / effort.tired("near plans", PATIENCE)
    return effort.spent["near plans"] + EACH * effort.near_searches <= budget and not effort.stopped()


def near_plan(state: SearchState, point: Point, near: Near) -> None:
    """Search near the best plan, in one surrounding after another as long as that finds better ones.

    Columns are kept where the plan agrees with the relaxation (Danna, Rothberg and Le Pape 2005) or with an earlier
    plan (Rothberg 2007), away from some rows, or by chance; or few of them may change (Fischetti and Lodi 2003); or
    they are kept where the relaxation itself is whole, those first that cost most to move (in the spirit of Berthold
    2014).
    """
    better = True
    while better and len(state.domain.integers) >= FEWEST and affords(state):
        better = _try(state, point, near, state.portfolio.choose())
        if state.incumbent.settled(state.frontier.bound):
            return


def _try(state: SearchState, point: Point, near: Near, neighbourhood: Neighbourhood) -> bool:
    """Search in a neighbourhood, in a larger one where it was too small; say whether there was a better plan."""
    before = state.incumbent.value
    better = False
    for _ in range(TRIES):
        through = _search(state, point, near, neighbourhood)
        if through is None:
            neighbourhood.leave_out()
            break
        better = state.incumbent.value < before
        state.effort.judge("near plans", better=better)
        neighbourhood.learn(better=better, through=through)
        if better or not through or not affords(state):
            break
    return better


def _search(state: SearchState, point: Point, near: Near, neighbourhood: Neighbourhood) -> bool | None:
    """Search in a neighbourhood; say whether all of it was searched, or return None where there is none."""
    (x, reduced), best = point, state.incumbent.best
    if neighbourhood.kind == "few changes":
        return _within_few_changes(state, near, neighbourhood.share)
    integers = state.domain.integers
    held = integers[state.bounds.lower[integers] < state.bounds.upper[integers]]
    lower, upper = state.bounds.lower[held], state.bounds.upper[held]
    chance = state.portfolio.random.random(len(held))
    if neighbourhood.kind == "point":
        values = np.clip(np.round(x[held]), lower, upper)
        dear = np.zeros(len(held)) if reduced is None else np.abs(reduced[held])
        order = np.lexsort((chance, -dear, np.ceil((np.abs(x[held] - values) - INTEGRALITY) / STEP)))
    else:
        assert best is not None
        values = best[held]
        # no better plan keeps a column where bounds exclude it by now
        excluded = (values < lower) | (values > upper)
        free = int((1.0 - neighbourhood.share) * len(held))
        order = np.lexsort((chance, _distance(state, x, held, neighbourhood, free), excluded))
        order = order[: len(held) - int(excluded.sum())]
    kept = order[: int(neighbourhood.share * len(held))]
    if not len(kept):
        return None
    return _search_within(state, near, state.bounds.lower, state.bounds.upper, held[kept], values[kept])


def _distance(state: SearchState, x: Floats, held: np.ndarray, neighbourhood: Neighbourhood, free: int) -> Floats:
    """Return how far columns are from where they would be kept: the least are."""
    best, earlier = state.incumbent.best, state.incumbent.earlier
    assert best is not None
    if neighbourhood.kind == "relaxation":
        return np.abs(best[held] - x[held])
    if neighbourhood.kind == "earlier" and len(earlier) > 1:
        other = earlier[-1 - int(state.portfolio.random.integers(1, len(earlier)))]
        return np.abs(best[held] - other[held])
    if neighbourhood.kind == "rows":
        return _of_some_rows(state, held, free).astype(float)
    return np.zeros(len(held))


def _of_some_rows(state: SearchState, held: np.ndarray, free: int) -> np.ndarray:
    """Say of columns whether they are in some rows that share none, drawn until these have so many columns."""
    rows = state.problem.matrix().tocsr()
    counts = np.diff(rows.indptr)
    possible, opened = np.zeros(rows.shape[1], bool), np.zeros(rows.shape[1], bool)
    possible[held] = True
    left = free
    for row in state.portfolio.random.permutation(np.flatnonzero((counts > 1) & (counts <= max(2, free)))).tolist():
        part = rows.indices[rows.indptr[row] : rows.indptr[row + 1]]
        if not opened[part].any():
            opened[part] = True
            left -= int(possible[part].sum())
            if left <= 0:
                break
    return opened[held]


def _within_few_changes(state: SearchState, near: Near, share: float) -> bool | None:
    """Search among plans that differ from the best one in few binary columns; say whether all were searched."""
    p, best = state.problem, state.incumbent.best
    assert best is not None
    integers = state.domain.integers
    binary = integers[(p.lower[integers] == 0) & (p.upper[integers] == 1)]
    if len(binary) < FEWEST_BINARY:
        return None
    row = np.zeros(p.n)
    row[binary] = np.where(best[binary] > 0.5, -1.0, 1.0)
    changes = max(2.0, np.round(FEW_CHANGES * (1.0 - share) / (1.0 - FIRST_SHARE)))
    within = p.with_rows(row[None, :], -np.inf, changes - float((best[binary] > 0.5).sum()))
    return _take(state, near(within, NODES, cutoff=True))


def _search_within(
    state: SearchState, near: Near, lower: Floats, upper: Floats, fixed: np.ndarray, values: Floats
) -> bool:
    """Search with some columns fixed, for a while; say whether all that is left was searched."""
    lower, upper = lower.copy(), upper.copy()
    lower[fixed] = upper[fixed] = values
    semis = state.domain.semis
    lower[semis], upper[semis] = state.problem.lower[semis], state.problem.upper[semis]
    within = replace(state.problem, lower=lower, upper=upper)
    return _take(state, near(state.relaxation.with_cuts(within, state.incumbent.best), NODES, cutoff=True))


def _take(state: SearchState, found: Found) -> bool:
    """Take the plan of a search, if it has one; say whether it went through all there was."""
    if found.plan is not None:
        state.try_plan(found.plan)
    return found.through


def _repair(state: SearchState, near: Near, columns: np.ndarray, values: Floats) -> None:
    """Search for the plan that keeps most of a start that is none."""
    p = state.problem
    costs = np.zeros(p.n)
    low, high = state.domain.lower[columns], state.domain.upper[columns]
    costs[columns] = np.where(values <= low, 1.0, np.where(values >= high, -1.0, 0.0))
    nearest = replace(p, costs=costs, offset=0.0)
    _take(state, near(nearest, NODES))
