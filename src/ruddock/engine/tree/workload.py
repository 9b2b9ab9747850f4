"""How much a search has done, in seconds about: counted, never measured, so that it is the same wherever it runs."""

from __future__ import annotations

from ruddock.engine.tree.state import SearchState

# seconds, about, that a node takes beside its iterations, an iteration, an entry that one touches, and the beginning of
# a search near a plan; then an entry of the problem: to be prepared, and in a round of cuts
A_NODE, AN_ITERATION, AN_ENTRY, A_NEAR = 5e-5, 7e-5, 1e-8, 0.06
TO_PREPARE, IN_A_ROUND = 5.6e-5, 2.6e-5
A_PRICED_NODE, A_PRICED_ENTRY = 0.013, 4e-8  # a node, and an entry touched, where nodes are bounded by prices


def work_done(state: SearchState) -> float:
    """Return how many seconds, about, a search has taken; judged by its work, not by the clock."""
    effort = state.effort
    around = effort.near_searches * A_NEAR + effort.cut_entries * IN_A_ROUND + state.problem.nonzeros * TO_PREPARE
    if state.by_prices:
        return around + effort.own_nodes * A_PRICED_NODE + effort.counters.entries * A_PRICED_ENTRY
    in_simplex = effort.own_iterations * AN_ITERATION + effort.counters.entries * AN_ENTRY
    return around + effort.own_nodes * A_NODE + in_simplex


def near_work_done(state: SearchState) -> float:
    """Return what of it went into searches near plans."""
    effort = state.effort
    touched, iterations = effort.touched["near plans"], effort.spent["near plans"]
    return effort.near_searches * A_NEAR + iterations * AN_ITERATION + touched * AN_ENTRY
