"""The root of a search: the problem made tighter, primal heuristics, cuts, and all of it once more where it pays."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from ruddock.engine.outcome import Outcome
from ruddock.engine.tree.cutting import cut_root
from ruddock.engine.tree.domain import Domain, Step
from ruddock.engine.tree.dominance import dominated
from ruddock.engine.tree.frontier import Node
from ruddock.engine.tree.heuristics import Near, look_for_plans
from ruddock.engine.tree.merging import merge_cliques
from ruddock.engine.tree.state import SearchState
from ruddock.engine.tree.symmetry.parts import ordering_rows
from ruddock.engine.tree.tighten import Tightening
from ruddock.problem import Problem

MOST_RESTARTS = 3
RESTART_SHARE, FEWEST = 0.2, 20  # of the whole columns, and how many at least, fixed since the last time


def prepare(state: SearchState) -> None:
    """Tighten the problem, unless the search is a brief one, and load it."""
    relaxed = state.problem
    if state.options.presolve and not state.options.brief:
        complete, probes = not state.options.as_it_is, not state.options.inner
        tightening = Tightening(relaxed, state.domain, state.effort.stopped, complete=complete, probes=probes)
        state.take_tightening(tightening)
        if tightening.infeasible:
            return
        relaxed = tightening.tightened()
        state.incumbent.know_step(Step.of(relaxed, state.options.goal.unit))
        counts = tightening.counts
        state.effort.limits.record("tightening", rows=relaxed.m, columns=relaxed.n, counts=counts)
    if state.options.any_of_alike:
        relaxed = _break_ties(state, relaxed)
    if state.tightening is not None and not state.effort.stopped():
        here = state.bounds.lower, state.bounds.upper
        merged = merge_cliques(relaxed, state.tightening.cliques, *here, state.effort.stopped)
        if merged is not None:
            state.tightening.counts["cliques merged"] = relaxed.m - merged.m
            relaxed = merged
    if not state.effort.stopped():
        state.keep_symmetric(relaxed)
        state.relaxation.load(relaxed)
        state.load_rows()


def _break_ties(state: SearchState, relaxed: Problem) -> Problem:
    """Leave one of the plans that exchange like columns, and one of those that exchange identical parts."""
    if state.effort.stopped():
        return relaxed
    lower, upper = state.bounds.lower, state.bounds.upper.copy()
    columns, cheaper_first = dominated(relaxed, lower, upper)
    if len(columns):
        upper[columns] = lower[columns]
        state.bounds.take(lower, upper)
        limits = relaxed.upper.copy()
        limits[columns] = lower[columns]
        relaxed = replace(relaxed, upper=limits)
    ordered = cheaper_first.shape[0]
    if ordered:
        relaxed = relaxed.with_rows(cheaper_first, np.zeros(ordered), np.full(ordered, np.inf))
    if state.tightening is not None:
        state.tightening.counts["like columns"] = len(columns) + ordered
    if state.effort.stopped():
        return relaxed
    rows = ordering_rows(state.problem, relaxed, lower, upper, orbits_follow=state.orbits_follow)
    return relaxed if rows is None else relaxed.with_rows(*rows)


def at_root(state: SearchState, node: Node, outcome: Outcome, near: Near, call: Callable[[], None]) -> Outcome:
    """Strengthen the relaxation by cuts and look for plans before the first branch.

    Parameters
    ----------
    call : calls for a helper, if the root takes long
    """
    if outcome.reduced is not None:
        state.bounds.know_root(outcome.reduced, outcome.bound)
    if outcome.x is not None and len(state.domain.violated(outcome.x)):
        call()
        here = state.bounds.lower, state.bounds.upper
        look_for_plans(state, node, outcome, here, near, cuts_follow=_cuts(state, outcome))
        state.take_new_rows()
        if state.incumbent.settled(outcome.bound):
            return outcome
        call()
        outcome = _cut(state, outcome)
        call()
        for _ in range(MOST_RESTARTS):
            if outcome.status != "optimal" or outcome.x is None or not _tighten_again(state):
                break
            outcome = state.relax(state.bounds.lower, state.bounds.upper)
            if outcome.status == "optimal" and outcome.x is not None and len(state.domain.violated(outcome.x)):
                outcome = _cut(state, outcome)
    return outcome


def _cuts(state: SearchState, outcome: Outcome) -> bool:
    return state.options.cuts and outcome.basis is not None


def _cut(state: SearchState, outcome: Outcome) -> Outcome:
    """Strengthen the relaxation of the root by cuts, where these are wanted."""
    if not _cuts(state, outcome):
        return outcome
    with state.effort.part("cuts"):
        if not state.relaxation.stands_at(outcome.basis):
            # the search for plans has moved on, and cuts are read from the tableau
            state.relaxation.start_from(outcome.basis)
            again = state.relax(state.bounds.lower, state.bounds.upper)
            if again.status != "optimal":
                return again if again.status == "infeasible" else outcome
            outcome = again
        return cut_root(state, outcome)


def _tighten_again(state: SearchState) -> bool:
    """Tighten the problem once more if many columns were fixed at the root since the last time."""
    if state.tightening is None or state.incumbent.best is None or state.effort.stopped():
        return False
    relaxed = state.relaxation.problem
    free = state.relaxation.whole & (relaxed.lower < relaxed.upper)
    fixed = free & (state.bounds.lower == state.bounds.upper)
    if free.sum() < FEWEST or fixed.sum() < RESTART_SHARE * free.sum():
        return False
    with state.effort.part("presolve"):
        before = state.tightening.counts
        semis = state.domain.semis
        lower, upper = state.bounds.lower.copy(), state.bounds.upper.copy()
        lower[semis], upper[semis] = relaxed.lower[semis], relaxed.upper[semis]
        left = replace(relaxed, lower=lower, upper=upper)
        second = Tightening(left, Domain(left), state.effort.stopped, complete=not state.options.as_it_is)
        if second.infeasible:  # the best plan is the best of all, which the nodes will show
            return False
        for name, count in {**before, "restarts": before.get("restarts", 0) + 1}.items():
            second.counts[name] = second.counts.get(name, 0) + count
        state.take_tightening(second)
        tightened = second.tightened()
        state.keep_symmetric(tightened)
        state.relaxation.load(tightened)
        state.load_rows()
    return True
