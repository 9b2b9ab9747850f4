"""Plans before the first relaxation is solved, by jumps of single columns; see `Jump`."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csc_matrix

from ruddock.engine.tree.jump import Jump
from ruddock.engine.tree.state import SearchState
from ruddock.problem import INTEGER, Floats, Problem

LEAST, EACH, MOST = 20_000, 1000, 40_000_000  # entries touched: at least, for each of the problem's, and at most
PASSES, PORTIONS = 40, 20  # times that all are touched even so, and looks at the limits meanwhile
IDLE = 0.3  # of the budget without a better plan, after which it ends
FARTHEST = 1e6  # how far a column without a bound may jump
BETTER = 1e-3  # of its objective, by which the next plan is to be better


def jump(state: SearchState) -> None:
    """Look for plans, and for better ones, for some counted work."""
    p = state.problem
    if not p.m or not p.n or len(state.domain.semis):
        return
    lower, upper = _finite(state.bounds.lower, state.bounds.upper)
    kernel = _kernel(p, lower, upper)
    budget = max(min(LEAST + EACH * p.nonzeros, MOST), PASSES * p.nonzeros)
    best: Floats | None = None
    value, since = np.inf, 0
    while kernel.touched < budget and kernel.touched - since < IDLE * budget and not state.effort.stopped():
        if not kernel.run(budget // PORTIONS):
            continue
        x = np.array(kernel.x)
        found = float(p.costs @ x)
        if best is None and not state.try_plan(x):  # where rounding or a caller's check says no, nothing is sure
            return
        best, value, since = x, min(value, found), kernel.touched
        if state.incumbent.settled(state.frontier.bound):
            return
        better = value - max(BETTER * abs(value), state.options.goal.noise(value))
        kernel.better_than(min(better, np.nextafter(value, -np.inf)))
    if best is not None:
        state.try_plan(best)


def _finite(lower: Floats, upper: Floats) -> tuple[Floats, Floats]:
    """Return bounds with finite ones in place of missing ones."""
    low = np.where(np.isfinite(lower), lower, np.minimum(np.where(np.isfinite(upper), upper, 0.0), 0.0) - FARTHEST)
    return low, np.where(np.isfinite(upper), upper, np.maximum(low, 0.0) + FARTHEST)


def _kernel(p: Problem, lower: Floats, upper: Floats) -> Jump:
    """Return the search on rows of one size, from where the objective is best."""
    size = np.zeros(p.m)
    np.maximum.at(size, p.indices, np.abs(p.values))
    size[size == 0.0] = 1.0
    values = p.values / size[p.indices]
    rows = csc_matrix((values, p.indices, p.starts), shape=(p.m, p.n)).tocsr()
    start = np.where(p.costs > 0, lower, np.where(p.costs < 0, upper, np.clip(0.0, lower, upper)))
    return Jump(
        (np.array(p.starts), np.array(p.indices), values),
        (rows.indptr.astype(np.int32), rows.indices.astype(np.int32), rows.data),
        p.row_lower / size, p.row_upper / size, lower, upper,
        ((p.kinds & INTEGER) != 0).astype(np.int8), np.array(p.costs), start, 1,
    )  # fmt: skip
