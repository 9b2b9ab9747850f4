"""Plans by rounding the point of a relaxation."""

from __future__ import annotations

import numpy as np

from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

GLANCE = 256  # columns between two looks at the limits


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


def fix_and_propagate(state: SearchState, x: Floats) -> None:
    """Round one integer column after another, each within what the ones before leave it; then solve the rest once.

    Those nearest to whole come first; a value that leaves nothing is taken back for the one on the other side.
    """
    integers = state.domain.integers
    if len(state.domain.semis) or not state.options.presolve:
        return
    lower, upper = state.bounds.lower.copy(), state.bounds.upper.copy()
    rows = state.bounds.trail
    order = integers[np.argsort(np.abs(x[integers] - np.round(x[integers])), kind="stable")]
    one = np.zeros(1, np.int32)
    for k, j in enumerate(order.tolist()):
        if k % GLANCE == 0 and state.effort.stopped():
            return
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
            return
    point = x.copy()
    point[integers] = lower[integers]
    state.try_plan(point)
