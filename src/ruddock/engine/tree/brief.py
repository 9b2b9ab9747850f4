"""A brief search before all else: most small problems are done after a few nodes, sooner than a root is prepared.

Nothing is tightened, no cut is made and no plan looked for but where the nodes lead. What does not end within a few
nodes is searched as any other, as if this had not been.
"""

from __future__ import annotations

from dataclasses import replace

from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.tree.blocks.structure import taken_apart
from ruddock.engine.tree.search import TreeSearch
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Problem

MOST_ENTRIES = 1_000  # of a problem that may be small enough
NODES, ITERATIONS = 800, 1_200  # that it may take


def brief_search(problem: Problem, limits: Limits, options: Options) -> Outcome | None:
    """Return the outcome of a small problem; None if that needs more than a few nodes.

    Nor is one tried where nodes or iterations are limited, rows may follow, or a plan is watched; and not with
    identical blocks, which prices mostly settle sooner.
    """
    limited = min(limits.nodes, limits.iterations) < float("inf")
    if problem.nonzeros > MOST_ENTRIES or limited or options.as_it_is:
        return None
    within = replace(limits, nodes=NODES, iterations=ITERATIONS, on_progress=None, on_event=None, on_plan=None)
    plainly = replace(options, cuts=False, heuristics=False, branching="plain", inner=True, brief=True)
    state = SearchState(problem, within, plainly)
    if options.blocks and _has_identical_blocks(state):
        return None
    outcome = TreeSearch(state).run()
    if outcome.status not in ("optimal", "infeasible"):
        reason = limits.exceeded(0)
        if reason is None:
            return None
        outcome = replace(outcome, status="stopped", reason=reason)
    if outcome.x is not None:
        limits.record("plan", objective=outcome.objective, bound=outcome.bound, nodes=outcome.counters.nodes)
        if limits.on_plan is not None:
            limits.on_plan(outcome.x)
    return outcome


def _has_identical_blocks(state: SearchState) -> bool:
    blocks = taken_apart(state.problem, state.domain.lower, state.domain.upper)
    return blocks is not None and not blocks.distinct
