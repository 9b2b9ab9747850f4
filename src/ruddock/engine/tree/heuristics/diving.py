"""Plans by diving: fixing columns one after another, and solving the relaxation each time."""

from __future__ import annotations

import numpy as np

from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

MOST_DIVES = 300  # relaxations solved in one dive
LEAST_WORK, WORK_SHARE = 100_000_000, 0.5  # entries that one dive may touch: so many, and a share of all so far
AT_ONCE, MANY = 0.2, 8  # share of the columns that a dive fixes together, if these are so many

Box = tuple[Floats, Floats]


def dive(
    state: SearchState, x: Floats, lower: Floats, upper: Floats, kind: str, most: float, *, to_few: bool = False
) -> Floats | None:
    """Fix one column after another, propagating and solving each time, until a plan is found or not.

    Bounds are left changed in the solver; the search sets its own before the next node.

    Parameters
    ----------
    kind : ``fraction`` takes what is nearest to whole, ``locks`` what few rows keep from being rounded, ``guided`` what
        is nearest to the best plan
    most : iterations after which it ends; where they take longer than those before, so much work as half of all so far
    to_few : whether it ends where few columns are left that are not whole

    Returns
    -------
    The point of the relaxation where only few columns were left in the end.
    """
    end, entries = state.effort.iterations + most, state.effort.counters.entries
    last = entries + max(LEAST_WORK, WORK_SHARE * entries)
    lower, upper = lower.copy(), upper.copy()
    share = AT_ONCE
    for _ in range(MOST_DIVES):
        columns = state.domain.violated(x)
        if not len(columns):
            state.try_plan(x)
            return None
        if state.effort.stopped() or state.effort.iterations > end or state.effort.counters.entries > last:
            return None
        several = columns[state.relaxation.whole[columns]]
        if int(share * len(several)) >= MANY:
            batch = _fixed_together(state, x, (lower, upper), several, share, kind)
            if batch is not None:
                outcome = state.relax(*batch)
                if outcome.status == "optimal" and outcome.x is not None:
                    x, (lower, upper) = outcome.x, batch
                    continue
            share *= 0.25
            continue
        if to_few:
            return x
        column, up = _next(state, x, columns, kind)
        branch = state.domain.branch(column, float(x[column]), lower, upper)
        if branch is None:
            return None
        halves = [branch.up, branch.down] if up else [branch.down, branch.up]
        for low, high in halves:
            own_lower, own_upper = lower.copy(), upper.copy()
            own_lower[column], own_upper[column] = max(low, lower[column]), min(high, upper[column])
            if not state.bounds.propagate(own_lower, own_upper, np.array([column], np.int32)):
                continue
            outcome = state.relax(own_lower, own_upper)
            if outcome.status == "optimal" and outcome.x is not None:
                x, lower, upper = outcome.x, own_lower, own_upper
                break
        else:
            return None
    return None


def _fixed_together(
    state: SearchState, x: Floats, bounds: Box, columns: np.ndarray, share: float, kind: str
) -> Box | None:
    """Fix a share of the columns at once, those nearest to where they go; None where they cannot be."""
    goal = np.round(x[columns])
    if kind == "locks":
        down, up = state.locks
        goal = np.where(up[columns] < down[columns], np.ceil(x[columns]), np.floor(x[columns]))
    elif kind == "guided" and state.incumbent.best is not None:
        goal = state.incumbent.best[columns]
    distance = np.abs(x[columns] - goal)
    order = np.argsort(distance, kind="stable")[: int(share * len(columns))]
    near = columns[order]
    lower, upper = bounds[0].copy(), bounds[1].copy()
    lower[near] = upper[near] = np.clip(goal[order], lower[near], upper[near])
    return (lower, upper) if state.bounds.propagate(lower, upper, near.astype(np.int32)) else None


def _next(state: SearchState, x: Floats, columns: np.ndarray, kind: str) -> tuple[int, bool]:
    """Return the column to fix next, and whether upwards."""
    fraction = x[columns] - np.floor(x[columns])
    down, up = state.locks
    if kind == "guided" and state.incumbent.best is not None:
        goal = state.incumbent.best[columns]
        k = int(np.argmin(np.abs(x[columns] - goal)))
        return int(columns[k]), bool(goal[k] > x[columns[k]])
    if kind == "locks":
        fewer = np.minimum(down[columns], up[columns])
        upward = up[columns] < down[columns]
        k = int(np.lexsort((np.where(upward, 1.0 - fraction, fraction), fewer))[0])
        return int(columns[k]), bool(upward[k])
    k = int(np.argmin(state.domain.distance(x)[columns]))
    return int(columns[k]), bool(fraction[k] >= 0.5)
