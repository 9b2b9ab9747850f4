"""The root of a problem of blocks: a bound by prices, plans, and whether to search on by prices."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.blocks.dive import plan_among_known, plan_by_taking
from ruddock.engine.tree.blocks.master import Master
from ruddock.engine.tree.blocks.pool import Solution
from ruddock.engine.tree.blocks.prices import Generated, Generation
from ruddock.engine.tree.blocks.structure import Blocks, taken_apart
from ruddock.engine.tree.heuristics import Near, try_start
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

SHARE = 0.3  # of the time left that the bound at the root may take
NODES = 500  # of a search near the point of the master problem
PAYS = 0.08  # of the gap that the linear relaxation leaves, which prices must close


def begin(state: SearchState, near: Near) -> Generation | None:
    """Bound a problem of blocks and look for plans; return what a search by prices goes on with, where that pays."""
    options = state.options
    if not options.blocks or options.inner or options.lazy is not None or options.priorities is not None:
        return None
    if len(state.domain.semis) or (state.domain.lower > state.domain.upper).any():
        return None
    blocks = taken_apart(state.problem, state.domain.lower, state.domain.upper)
    if blocks is None:
        return None
    try:
        with state.effort.part("blocks"):
            return _bounded(state, blocks, near)
    except MemoryError:  # then without
        return None


def _bounded(state: SearchState, blocks: Blocks, near: Near) -> Generation | None:
    if state.options.heuristics:
        try_start(state, near)
    generation = _prepared(state, blocks)
    limits = state.effort.within(nodes=NODES, iterations=np.inf, share=SHARE)
    plain = LinearSolver(state.problem, counters=state.effort.counters).solve(limits)
    if plain.status != "optimal" or plain.y is None:
        return None
    threshold, centre = state.incumbent.threshold(), plain.y[blocks.rows]

    def told(bound: float) -> None:
        effort, value = state.effort, state.incumbent.value
        effort.limits.report(effort.iterations, effort.nodes, value, min(max(state.bound(), bound), value))

    root = generation.run(blocks.lower, blocks.upper, threshold, limits, centre=centre, told=told)
    state.know_bound(root.bound)
    if root.reason is not None or root.taken is None or state.gap_reached(state.bound()):
        return None
    if state.options.heuristics:
        with state.effort.part("heuristics"):
            _look_for_plans(state, generation, root, near)
    if state.gap_reached(state.bound()) or not blocks.distinct or state.incumbent.best is None:
        return None
    closed = root.bound - plain.objective
    return generation if closed >= PAYS * (state.incumbent.value - plain.objective) else None


def _prepared(state: SearchState, blocks: Blocks) -> Generation:
    """Return what generates solutions of blocks, with nothing in them to begin with."""
    master = Master(blocks, state.effort.counters)
    for number, group in enumerate(blocks.groups):
        if not blocks.lower[group.first.everything].any():
            nothing = np.zeros(len(group.first.columns), np.int32)
            master.offer(Solution(number, nothing, on=group.first.switch < 0))
    return Generation(blocks, master, state.incumbent.step)


def begin_elsewhere(state: SearchState) -> Generation:
    """Return what another process goes on with, for a search that goes by prices."""
    blocks = taken_apart(state.problem, state.domain.lower, state.domain.upper)
    assert blocks is not None
    return _prepared(state, blocks)


def _look_for_plans(state: SearchState, generation: Generation, root: Generated, near: Near) -> None:
    """Look for plans near the point of the master problem, and by taking solutions of blocks."""
    if generation.blocks.distinct:
        around(state, generation, root, state.bounds.lower, state.bounds.upper, near)
        return
    ways = (
        lambda: plan_by_taking(generation, root, state.effort.quiet()),
        lambda: plan_among_known(generation, near),
    )
    for way in ways:
        plan = way()
        if plan is not None:
            state.try_plan(plan)
        if state.gap_reached(state.bound()) or state.effort.stopped():
            return


def around(
    state: SearchState, generation: Generation, found: Generated, lower: Floats, upper: Floats, near: Near
) -> None:
    """Search for a better plan among those that round the point of the master problem (Berthold 2014)."""
    x = generation.point(found)
    whole = state.domain.integers
    low, high = lower.copy(), upper.copy()
    low[whole] = np.maximum(low[whole], np.floor(x[whole] + 1e-6))
    high[whole] = np.minimum(high[whole], np.ceil(x[whole] - 1e-6))
    if (low <= high).all():
        plan = near(replace(state.problem, lower=low, upper=high), NODES, cutoff=True).plan
        if plan is not None:
            state.try_plan(plan)
