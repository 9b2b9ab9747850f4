"""The root of a search: the problem made tighter, early plans, cuts, and all of it once more where it pays."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ruddock.engine.tree import heuristics
from ruddock.engine.tree.cutting import cut_root
from ruddock.engine.tree.domain import Domain, objective_step
from ruddock.engine.tree.dominance import dominated
from ruddock.engine.tree.merging import merge_cliques
from ruddock.engine.tree.symmetry import ordering_rows
from ruddock.engine.tree.tighten import Tightening, whole_columns

if TYPE_CHECKING:
    from ruddock.engine.outcome import Outcome
    from ruddock.engine.tree.node import Node
    from ruddock.engine.tree.search import TreeSearch

MOST_RESTARTS = 3
RESTART_SHARE, FEWEST = 0.2, 20  # of the whole columns, and how many at least, fixed since the last time


def prepare(search: TreeSearch) -> None:
    """Tighten the problem and load it."""
    presolve = search.options.presolve
    if presolve:
        search.tightening = Tightening(
            search.problem, search.domain, lambda: search.limit() is not None, complete=search.options.lazy is None
        )
        if search.tightening.infeasible:
            return
        search.relaxed = search.tightening.tightened()
        search.lower, search.upper = search.tightening.lower, search.tightening.upper
        search.whole, search.step = whole_columns(search.relaxed) != 0, objective_step(search.relaxed)
        left = search.relaxed
        search.limits.record("presolve", rows=left.m, columns=left.n, reductions=search.tightening.counts)
    if search.options.symmetry and search.options.lazy is None and search.priorities is None:
        _break_ties(search)
    if search.tightening is not None:
        merged = merge_cliques(search.relaxed, search.tightening.cliques, search.lower, search.upper)
        if merged is not None:
            search.tightening.counts["cliques merged"] = search.relaxed.m - merged.m
            search.relaxed = merged
    search.load_solver()
    search.load_rows()


def _break_ties(search: TreeSearch) -> None:
    """Leave one of the plans that exchange like columns, and one of those that exchange identical parts."""
    columns, cheaper_first = dominated(search.relaxed, search.lower, search.upper)
    if len(columns):
        upper = search.relaxed.upper.copy()
        upper[columns] = search.upper[columns] = search.lower[columns]
        search.relaxed = replace(search.relaxed, upper=upper)
    ordered = cheaper_first.shape[0]
    if ordered:
        search.relaxed = search.relaxed.with_rows(cheaper_first, np.zeros(ordered), np.full(ordered, np.inf))
    if search.tightening is not None:
        search.tightening.counts["like columns"] = len(columns) + ordered
    rows = ordering_rows(search.problem, search.relaxed, search.lower, search.upper)
    if rows is not None:
        search.relaxed = search.relaxed.with_rows(*rows)


def at_root(search: TreeSearch, node: Node, outcome: Outcome) -> Outcome:
    """Strengthen the relaxation by cuts and look for plans before the first branch."""
    if outcome.reduced is not None:
        search.root = outcome.reduced, outcome.objective
    if outcome.x is not None and len(search.domain.violated(outcome.x)):
        heuristics.look_for_plans(search, node, outcome, search.lower, search.upper)
        if search.settled(outcome.objective):
            return outcome
        outcome = _cut(search, outcome)
        for _ in range(MOST_RESTARTS):
            if outcome.status != "optimal" or outcome.x is None or not _tighten_again(search):
                break
            outcome = search.relax(search.lower, search.upper)
            if outcome.status == "optimal" and outcome.x is not None and len(search.domain.violated(outcome.x)):
                outcome = _cut(search, outcome)
    return outcome


def _cut(search: TreeSearch, outcome: Outcome) -> Outcome:
    """Strengthen the relaxation of the root by cuts, where these are wanted."""
    if not search.options.cuts:
        return outcome
    if outcome.basis is not None:
        search.install(outcome.basis)
    with search.part("cuts"):
        return cut_root(search, outcome)


def _tighten_again(search: TreeSearch) -> bool:
    """Tighten the problem once more if many columns were fixed at the root since the last time."""
    if search.tightening is None or search.best is None or search.limit() is not None:
        return False
    free = search.whole & (search.relaxed.lower < search.relaxed.upper)
    fixed = free & (search.lower == search.upper)
    if free.sum() < FEWEST or fixed.sum() < RESTART_SHARE * free.sum():
        return False
    with search.part("presolve"):
        before = search.tightening.counts
        semis = search.domain.semis
        lower, upper = search.lower.copy(), search.upper.copy()
        lower[semis], upper[semis] = search.relaxed.lower[semis], search.relaxed.upper[semis]
        left = replace(search.relaxed, lower=lower, upper=upper)
        again = Tightening(left, Domain(left), lambda: search.limit() is not None, complete=search.options.lazy is None)
        if again.infeasible:  # the best plan is the best of all, which the nodes will show
            return False
        for name, count in {**before, "restarts": before.get("restarts", 0) + 1}.items():
            again.counts[name] = again.counts.get(name, 0) + count
        search.tightening, search.relaxed = again, again.tightened()
        search.lower, search.upper = again.lower, again.upper
        search.load_solver()
        search.load_rows()
    return True
