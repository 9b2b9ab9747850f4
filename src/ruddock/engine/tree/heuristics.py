"""Early plans: rounding by locks, and diving."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.engine.tree.search import TreeSearch

MOST_DIVES = 200  # relaxations solved in one dive


def round_by_locks(search: TreeSearch, x: Floats) -> Floats:
    """Round each integer column to the side where fewer rows can break."""
    down, up = search.locks
    integers = search.domain.integers
    rounded = x.copy()
    value = x[integers]
    nearest = np.round(value)
    exact = np.abs(value - nearest) < 1e-9
    preferred = np.where(down[integers] < up[integers], np.floor(value), np.ceil(value))
    preferred = np.where(down[integers] == up[integers], nearest, preferred)
    rounded[integers] = np.where(exact, nearest, preferred)
    return np.clip(rounded, search.domain.lower, search.domain.upper)


def dive(search: TreeSearch, x: Floats, lower: Floats, upper: Floats) -> None:
    """Fix the least fractional columns one after another, solving each time, until a plan is found or not.

    Bounds are left changed in the solver; the search sets its own before the next node.
    """
    lower, upper = lower.copy(), upper.copy()
    for _ in range(MOST_DIVES):
        columns = search.domain.violated(x)
        if not len(columns):
            search.try_plan(x)
            return
        if search.limits.exceeded(search.iterations, search.nodes):
            return
        far = search.domain.distance(x)[columns]
        column = int(columns[np.argmin(far)])
        branch = search.domain.branch(column, float(x[column]), lower, upper)
        if branch is None:
            return
        halves = [branch.down, branch.up] if branch.fraction < 0.5 else [branch.up, branch.down]
        for low, high in halves:
            before = lower[column], upper[column]
            lower[column], upper[column] = low, high
            outcome = search.relax(lower, upper)
            if outcome.status == "optimal" and outcome.x is not None:
                x = outcome.x
                break
            lower[column], upper[column] = before
        else:
            return
