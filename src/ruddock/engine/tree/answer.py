"""What a search hands back: its best plan with bound and gap, or why there is none."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ruddock.engine.outcome import FEASIBILITY, Moment, Outcome, Reason
from ruddock.engine.simplex.solver import LinearSolver

if TYPE_CHECKING:
    from ruddock.engine.tree.search import TreeSearch

EQUAL = 1e-9  # relative difference below which two objective values count as the same


def of_search(search: TreeSearch, reason: Reason | None) -> Outcome:
    """Return the outcome of a search that ended, or was stopped for a reason."""
    bound = search.bound() if reason is not None else min(search.given_up, search.best_value)
    if search.best is None:
        if reason is None and not search.uncertain:
            return nothing(search)
        return finished(search, Outcome("stopped", reason or "numerics", bound=min(bound, float("inf"))))
    gap = abs(search.best_value - bound) / max(1.0, abs(search.best_value))
    # a search that came to its end has proven its plan, but for the tolerance of the relaxations
    proven = gap <= max(search.limits.gap, EQUAL if reason is not None else FEASIBILITY)
    if reason is None and not proven:
        reason = "numerics"
    search.history.append(Moment(search.limits.elapsed(), search.nodes, search.best_value, bound))
    return finished(
        search,
        Outcome(
            "optimal" if proven else "stopped",
            None if proven else reason,
            x=search.best,
            activity=search.problem.activity(search.best),
            objective=search.best_value,
            bound=bound,
        ),
    )


def proof_or_nothing(search: TreeSearch) -> Outcome:
    """Return the outcome of a relaxation that has no plan, with its proof where that is one of the problem's."""
    solver = LinearSolver(search.problem)
    solver.counters = search.counters
    solver.change_bounds(slice(None), search.domain.lower, search.domain.upper)
    plain = solver.solve(search.quiet)
    return finished(search, plain) if plain.status == "infeasible" else nothing(search)


def nothing(search: TreeSearch) -> Outcome:
    """Return the outcome of a search that proved that no whole plan exists."""
    crossed = np.flatnonzero(search.problem.lower > search.problem.upper)
    return finished(search, Outcome("infeasible", crossed_columns=tuple(int(j) for j in crossed)))


def finished(search: TreeSearch, outcome: Outcome) -> Outcome:
    """Return an outcome with what the search took, without the dual values of its last relaxation."""
    parts = {**search.parts, "tree": max(0.0, search.limits.elapsed() - sum(search.parts.values()))}
    tightened = search.tightening.counts if search.tightening is not None else {}
    counters = replace(
        search.counters, nodes=search.nodes, parts=parts, cuts=dict(search.cut_counts), tightened=tightened
    )
    return replace(outcome, counters=counters, y=None, reduced=None, basis=None, history=tuple(search.history))
