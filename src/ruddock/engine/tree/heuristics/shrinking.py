"""A dive for large problems: what is decided is taken out, and the rest is solved anew by the best method for it.

Solving from the last basis does not pay where a relaxation has many more columns than are decided at a time: of what is
left after each step, rows that hold anyway and columns that are fixed are gone.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ruddock.engine.measure import NEAR
from ruddock.engine.tree.part import Part
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

AT_ONCE = 0.1  # of the columns that are not whole: those nearest to the next whole number above are taken there
LESS, LEAST = 0.25, 1e-3  # of that share, where what was taken leaves no plan; below the least it ends
SLOW = 0.8  # of the columns that are not whole that may be left after a step on the way, on average
MOST_STEPS = 40
FEWEST_WORK = 1_000_000_000  # entries that the simplex method may touch in it, or as many as so far


def dive_by_shrinking(state: SearchState, x: Floats) -> None:
    """Take columns up to the next whole number, step by step, until a plan is found or cannot be better than the best.

    Parameters
    ----------
    x : array, shape (n,)
        The point of the relaxation at the root.
    """
    lower, upper = state.bounds.lower.copy(), state.bounds.upper.copy()
    whole, share, counters = state.relaxation.whole, AT_ONCE, state.effort.counters
    bound, first = state.problem.objective(x), len(state.domain.violated(x))
    room = state.incumbent.threshold() - bound
    last = counters.entries + max(FEWEST_WORK, counters.entries)
    left = float(first)
    for _ in range(MOST_STEPS):
        up = np.where(whole & (x > lower + NEAR), np.ceil(x - NEAR) - x, np.inf)
        ready, open_ = np.flatnonzero(up <= NEAR), np.flatnonzero((up > NEAR) & (up < np.inf))
        order = open_[np.argsort(up[open_], kind="stable")]
        if (not len(ready) and not len(order)) or state.effort.stopped() or counters.entries > last:
            return
        taken = _taken(state, lower, upper, x, ready, order[: max(1, int(share * len(order)))])
        part = None if taken is None else Part.of(replace(state.problem, lower=taken[0], upper=taken[1]))
        outcome = None if part is None else state.relaxation.solve_anew(part.problem)
        if taken is None or part is None or outcome is None or outcome.status == "infeasible":
            share *= LESS
            if share < LEAST:
                return
            continue
        if outcome.x is None or outcome.objective + part.offset >= state.incumbent.threshold():
            return
        x, (lower, upper) = part.plan(outcome.x), taken
        undecided = len(state.domain.violated(x))
        if not undecided:
            state.try_plan(x)
            return
        rise, left = outcome.objective + part.offset - bound, SLOW * left
        if undecided > left or rise > room * (1.0 - undecided / first):
            return  # at this rate it takes long, or will not be better than the best


def _taken(
    state: SearchState, lower: Floats, upper: Floats, x: Floats, ready: np.ndarray, order: np.ndarray
) -> tuple[Floats, Floats] | None:
    """Return bounds with columns taken up, one after another as far as they go together; None where none does."""
    low, high = lower.copy(), upper.copy()
    low[ready] = np.ceil(x[ready] - NEAR)
    if len(ready) and not state.bounds.propagate(low, high, ready.astype(np.int32)):
        return None
    for j in order.tolist():
        value = np.ceil(x[j] - NEAR)
        if value > high[j] or value <= low[j]:
            continue
        kept = low.copy(), high.copy()
        low[j] = value
        if not state.bounds.propagate(low, high, np.array([j], np.int32)):
            low, high = kept
    return low, high
