"""Plans by the feasibility pump."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

PUMPS = 30  # rounds


def pump(state: SearchState, x: Floats, most: float) -> None:
    """Go to and fro between whole points and the nearest points of the relaxation, for some iterations.

    By Fischetti, Glover and Lodi (2005).
    """
    end = state.effort.iterations + most
    integers = state.domain.integers
    if not len(integers) or len(state.domain.semis):
        return
    lower, upper = state.bounds.lower, state.bounds.upper
    plain = replace(state.relaxation.problem, costs=np.zeros(state.relaxation.problem.n))
    solver = LinearSolver(plain, counters=state.effort.counters)
    solver.change_bounds(slice(None), lower, upper)
    rng = np.random.default_rng(7)
    before: set[bytes] = set()
    for _ in range(PUMPS):
        if state.effort.stopped() or state.effort.iterations > end:
            return
        goal = np.clip(
            np.round(x[integers] + 0.2 * (rng.random(len(integers)) - 0.5) * bool(before)),
            lower[integers],
            upper[integers],
        )
        key = goal.tobytes()
        if key in before:  # a circle: turn over what stands farthest from the goal
            far = np.abs(x[integers] - goal)
            flipped = np.argsort(-(far + 0.3 * rng.random(len(far))))[: max(5, len(far) // 20)]
            goal[flipped] = np.clip(
                goal[flipped] + np.where(x[integers][flipped] > goal[flipped], 1.0, -1.0),
                lower[integers][flipped],
                upper[integers][flipped],
            )
        before.add(key)
        # the distance is linear at the bounds, where binary columns always are
        costs = np.zeros(state.relaxation.problem.n)
        costs[integers] = np.where(goal <= lower[integers], 1.0, np.where(goal >= upper[integers], -1.0, 0.0))
        solver.change_costs(slice(None), costs)
        outcome = solver.solve(state.effort.quiet())
        if outcome.status != "optimal" or outcome.x is None:
            return
        x = outcome.x
        if np.abs(x[integers] - goal)[costs[integers] != 0].sum() < 1e-6 or not len(state.domain.violated(x)):
            whole = x.copy()
            whole[integers] = np.round(x[integers])
            if state.try_plan(whole):
                return
