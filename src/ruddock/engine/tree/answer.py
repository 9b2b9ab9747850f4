"""What a search hands back: its best plan with bound and gap, or why there is none."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ruddock.engine.outcome import FEASIBILITY, Moment, Outcome, Reason
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.state import SearchState


def of_search(state: SearchState, reason: Reason | None) -> Outcome:
    """Return the outcome of a search that ended, or was stopped for a reason."""
    best, value, frontier = state.incumbent.best, state.incumbent.value, state.frontier
    bound = state.bound() if reason is not None else min(frontier.given_up, value)
    if best is None:
        if reason is None and not frontier.uncertain:
            return nothing(state)
        return finished(state, Outcome("stopped", reason or "numerics", bound=bound))
    # a search that came to its end has proven its plan, but for the tolerance of the relaxations
    goal = state.options.goal
    slack = max(goal.slack(value, state.effort.limits.gap), goal.noise(value, FEASIBILITY) if reason is None else 0.0)
    proven = value - bound <= slack
    if reason is None and not proven:
        reason = "numerics"
    state.history.append(Moment(state.effort.limits.elapsed(), state.effort.nodes, value, bound))
    return finished(
        state,
        Outcome(
            "optimal" if proven else "stopped",
            None if proven else reason,
            x=best,
            activity=state.problem.activity(best),
            objective=value,
            bound=bound,
        ),
    )


def proof_or_nothing(state: SearchState) -> Outcome:
    """Return the outcome of a relaxation that has no plan, with its proof where that is one of the problem's."""
    solver = LinearSolver(state.problem, counters=state.effort.counters)
    solver.change_bounds(slice(None), state.domain.lower, state.domain.upper)
    plain = solver.solve(state.effort.quiet())
    return finished(state, plain) if plain.status == "infeasible" else nothing(state)


def nothing(state: SearchState) -> Outcome:
    """Return the outcome of a search that proved that no whole plan exists."""
    crossed = np.flatnonzero(state.problem.lower > state.problem.upper)
    return finished(state, Outcome("infeasible", crossed_columns=tuple(int(j) for j in crossed)))


def finished(state: SearchState, outcome: Outcome) -> Outcome:
    """Return an outcome with what the search took, without the dual values of its last relaxation."""
    effort = state.effort
    parts = {**effort.parts, "tree": max(0.0, effort.limits.elapsed() - sum(effort.parts.values()))}
    tightened = state.tightening.counts if state.tightening is not None else {}
    counters = replace(
        effort.counters, nodes=effort.nodes, parts=parts, cuts=dict(state.cut_counts), tightened=tightened
    )
    return replace(outcome, counters=counters, y=None, reduced=None, basis=None, history=tuple(state.history))
