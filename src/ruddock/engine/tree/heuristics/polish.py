"""The best plan polished: single columns moved, and pairs of binary columns exchanged."""

from __future__ import annotations

import numpy as np

from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

POLISHED = 2000  # integer columns beyond which plans are not polished
DENSE = 1_000_000  # entries of rows and binary columns up to which pairs are exchanged


def polish(state: SearchState) -> None:
    """Move single integer columns of the best plan as far as rows allow, and exchange pairs, while that pays."""
    domain = state.domain
    if state.incumbent.best is None or not len(domain.integers) or len(domain.integers) > POLISHED or len(domain.semis):
        return
    x = state.incumbent.best.copy()
    moved = _move_one(state, x)
    while not state.effort.stopped() and _move_two(state, x):
        _move_one(state, x)
        moved = True
    if moved:
        state.try_plan(x)


def _move_one(state: SearchState, x: Floats) -> bool:
    """Move one column after another the way its cost prefers; say whether any moved."""
    p, domain = state.problem, state.domain
    activity = p.activity(x)
    moved, improved = False, True
    while improved and not state.effort.stopped():
        improved = False
        for j in domain.integers[np.argsort(-np.abs(p.costs[domain.integers]), kind="stable")].tolist():
            cost = p.costs[j]
            if cost == 0:
                continue
            part = slice(p.starts[j], p.starts[j + 1])
            rows, values = p.indices[part], p.values[part]
            way = -1.0 if cost > 0 else 1.0
            step = domain.upper[j] - x[j] if way > 0 else x[j] - domain.lower[j]
            change = way * values
            limit = np.where(change > 0, p.row_upper[rows], p.row_lower[rows])
            room = float(((limit - activity[rows]) / change).min(initial=np.inf))
            step = min(step, float(np.floor(room + 1e-9)) if np.isfinite(room) else np.inf)
            if 1.0 <= step < np.inf:
                x[j] += way * step
                activity[rows] += change * step
                improved = moved = True
    return moved


def _move_two(state: SearchState, x: Floats) -> bool:
    """Move two binary columns at once where that keeps all rows and pays the most; say whether it did."""
    p, domain = state.problem, state.domain
    binary = domain.integers[(domain.lower[domain.integers] == 0) & (domain.upper[domain.integers] == 1)]
    if len(binary) < 2 or p.m * len(binary) > DENSE:
        return False
    # turning each column over changes the rows by these, and the objective by those
    turn = np.where(x[binary] > 0.5, -1.0, 1.0)
    change = np.asarray(p.matrix()[:, binary].todense()) * turn
    gain = p.costs[binary] * turn
    activity = p.activity(x)
    slack = 1e-9 * np.maximum(1.0, np.abs(activity))
    above, below = p.row_upper - activity + slack, p.row_lower - activity - slack
    best, pair = -1e-7, (-1, -1)
    order = np.argsort(gain, kind="stable")
    for k in order[gain[order] < 0].tolist():
        if state.effort.stopped():
            return False
        both = gain[k] + gain
        others = np.flatnonzero(both < best)
        if not len(others):
            continue
        moved = change[:, [k]] + change[:, others]
        keeps = (moved <= above[:, None]).all(axis=0) & (moved >= below[:, None]).all(axis=0) & (others != k)
        if keeps.any():
            at = others[keeps][np.argmin(both[others[keeps]])]
            best, pair = float(both[at]), (k, int(at))
    if pair[0] < 0:
        return False
    for k in pair:
        x[binary[k]] += turn[k]
    return True
