"""Plans by rounding the point of a relaxation."""

from __future__ import annotations

import numpy as np

from ruddock.engine.measure import NEAR
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

GLANCE = 256  # columns between two looks at the limits
PASSES, LEAST = 200, 1_000_000  # entries that propagation may look at: times all there are, and at least


def round_by_locks(state: SearchState, x: Floats) -> Floats:
    """Round each integer column to the side where fewer rows can break."""
    down, up = state.locks
    integers = state.domain.integers
    rounded = x.copy()
    value = x[integers]
    nearest = np.round(value)
    exact = np.abs(value - nearest) < 1e-9
    preferred = np.where(down[integers] < up[integers], np.floor(value), np.ceil(value))
    preferred = np.where(down[integers] == up[integers], nearest, preferred)
    rounded[integers] = np.where(exact, nearest, preferred)
    return np.clip(rounded, state.bounds.lower, state.bounds.upper)


def round_all(state: SearchState, x: Floats) -> None:
    """Round all integer columns up, then all of them down, while there is no plan: often one side keeps all rows."""
    integers = state.domain.integers
    for side in (np.ceil(x[integers] - NEAR), np.floor(x[integers] + NEAR)):
        if state.incumbent.best is not None or state.effort.stopped():
            return
        rounded = x.copy()
        rounded[integers] = side
        state.try_plan(np.clip(rounded, state.bounds.lower, state.bounds.upper))


def fix_and_propagate(state: SearchState, x: Floats) -> None:
    """Round one integer column after another, each within what the ones before leave it; then solve the rest once.

    Those nearest to whole come first; a value that leaves nothing is taken back for the one on the other side. What a
    plan must be worth is left out: as a row of all columns it would be looked at once for each.
    """
    integers = state.domain.integers
    if len(state.domain.semis) or not state.options.presolve:
        return
    with state.bounds.at_any_cost():
        values = _fixed_in_turn(state, x, integers)
    if values is not None:
        point = x.copy()
        point[integers] = values[integers]
        state.try_plan(point)


def _fixed_in_turn(state: SearchState, x: Floats, integers: np.ndarray) -> Floats | None:
    """Return whole values near a point, each within what propagation leaves of it; None where that ends."""
    lower, upper = state.bounds.lower.copy(), state.bounds.upper.copy()
    rows = state.bounds.rows
    most = rows.work + max(LEAST, PASSES * state.relaxation.problem.nonzeros)
    order = integers[np.argsort(np.abs(x[integers] - np.round(x[integers])), kind="stable")]
    one = np.zeros(1, np.int32)
    for k, j in enumerate(order.tolist()):
        if rows.work > most or (k % GLANCE == 0 and state.effort.stopped()):
            return None
        if lower[j] == upper[j]:
            continue
        nearest = min(max(round(x[j]), lower[j]), upper[j])
        other = nearest + (1.0 if x[j] > nearest or nearest <= lower[j] else -1.0)
        one[0] = j
        for value in (nearest, min(max(other, lower[j]), upper[j])):
            rows.forget()
            rows.fix(lower, upper, j, value, value)
            if state.bounds.follow(lower, upper, one):
                break
            rows.undo(lower, upper, 0)
        else:
            return None
    return lower
