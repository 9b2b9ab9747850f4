"""From a problem that is a network to a cheapest flow and back to a basis of the problem.

Rows are nodes, and so is a root beside them. A column is an arc between the rows of its entries, or between its only
row and the root; the activity of a row is an arc from the root. With lower bounds at 0, and what has only an upper
bound turned round, all flows are from 0 to a capacity. A spanning tree is then a basis, column for arc.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ruddock.engine.network.simplex import NetworkSimplex
from ruddock.engine.network.structure import Structure, Subnetwork
from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FREE, Basis
from ruddock.problem import Floats, Ints, Problem

BUDGET = 4_000_000  # arcs and nodes touched between two looks at the limits
OPTIMAL = 1e-11  # of the largest cost: reduced costs up to this count as none
LARGEST = 1e15  # beyond this a cost drowns the others
MOST_PIVOTS = 2**62
LEFT = 1e-9  # of artificial flow that is rounding
ENOUGH = 0.6  # of the rows that are a network, for a start from it
ROUNDS = 5  # fresh starts of the potentials before the rest is left to others


class Start(NamedTuple):
    """A basis to start from.

    Attributes
    ----------
    basis : Basis
    pivots : int
    feasible : whether there is a flow, and this is an optimal one but for rounding
    """

    basis: Basis
    pivots: int
    feasible: bool


class Arcs(NamedTuple):
    """A problem as a network.

    Attributes
    ----------
    tail, head : int32 arrays, shape (n + m,), of columns and then of rows
    cost, lower, upper : float arrays, of a unit of flow and in units of flow
    rows : float array, shape (m,): the factors of rows
    """

    tail: Ints
    head: Ints
    cost: Floats
    lower: Floats
    upper: Floats
    rows: Floats


def network_of(problem: Problem) -> Arcs | None:
    """Return a problem as a network, or None where it is none."""
    p = problem
    counts = np.diff(p.starts)
    if not p.n or not p.m or counts.max() > 2 or counts.min() == 0:
        return None
    by_rows = p.by_rows()
    structure = Structure(
        (p.starts, p.indices, p.values), (by_rows.indptr.astype(np.int32), by_rows.indices.astype(np.int32))
    )
    if not structure.find():
        return None
    rows = np.asarray(structure.factor)
    tail, head, size = np.full(p.n + p.m, p.m, np.int32), np.empty(p.n + p.m, np.int32), np.empty(p.n)
    structure.arcs(tail, head, size)
    head[p.n :] = np.arange(p.m)
    low, high = p.row_lower * rows, p.row_upper * rows
    turned = rows < 0
    return Arcs(
        tail,
        head,
        np.concatenate((p.costs / size, np.zeros(p.m))),
        np.concatenate((p.lower * size, np.where(turned, high, low))),
        np.concatenate((p.upper * size, np.where(turned, low, high))),
        rows,
    )


def cheapest_flow(problem: Problem, arcs: Arcs, halted: Callable[[int], bool], most: int = MOST_PIVOTS) -> Start | None:
    """Return a basis that is optimal but for rounding; of a network without a flow, one with few violated bounds.

    None where a flow without limit pays, or costs are too large.

    Parameters
    ----------
    halted : asked from time to time, with the pivots so far, whether to stop
    most : pivots at most
    """
    m, n = problem.m, problem.n
    low, high = np.isfinite(arcs.lower), np.isfinite(arcs.upper)
    turned = ~low & high
    free = np.flatnonzero(~low & ~high)  # as two arcs, there and back
    base = np.where(low, arcs.lower, np.where(high, arcs.upper, 0.0))
    with np.errstate(invalid="ignore"):
        room = np.where(low & high, arcs.upper - arcs.lower, np.inf)
    tail = np.concatenate((np.where(turned, arcs.head, arcs.tail), arcs.head[free]))
    head = np.concatenate((np.where(turned, arcs.tail, arcs.head), arcs.tail[free]))
    cost = np.concatenate((np.where(turned, -arcs.cost, arcs.cost), -arcs.cost[free]))
    capacity = np.concatenate((room, np.full(len(free), np.inf)))
    supply = np.bincount(arcs.head, base, m + 1) - np.bincount(arcs.tail, base, m + 1)
    largest = float(np.abs(arcs.cost).max(initial=0.0))
    penalty = (largest + 1.0) * (m + 1)
    if not largest < LARGEST / (m + 1):
        return None
    own = np.arange(n, n + m, dtype=np.int32)
    kernel = NetworkSimplex(tail, head, cost, capacity, supply, own, penalty, OPTIMAL * (1.0 + largest))
    for _ in range(ROUNDS):
        pivots, result = kernel.pivots, 0
        while not result:
            result = kernel.run(BUDGET, most)
            if halted(kernel.pivots) or kernel.pivots >= most:
                break
        kernel.refresh()
        if result != 1 or (kernel.pivots == pivots):
            break
    if result == 2:
        return None
    artificial = np.asarray(kernel.flow)[len(tail) :]
    feasible = result == 1 and float(artificial.max(initial=0.0)) <= LEFT * (1.0 + float(np.abs(supply).max()))
    return Start(_basis(problem, arcs, kernel, turned, free), kernel.pivots, feasible)


def cheapest_flow_within(problem: Problem, halted: Callable[[int], bool], most: int = MOST_PIVOTS) -> Start | None:
    """Return the basis of a cheapest flow through the rows that are a network; None where these are few or have none.

    The other rows are left out, and stand in the basis with their activity: prices of the network are then dual
    feasible for the whole, whose dual simplex method begins with an optimum of most of it.
    """
    p, m = problem, problem.m
    by_rows = p.matrix().tocsr()  # not kept: most problems are no network
    counts = np.diff(by_rows.indptr)
    subnetwork = Subnetwork(p.n, (by_rows.indptr.astype(np.int32), by_rows.indices.astype(np.int32), by_rows.data))
    subnetwork.choose(np.lexsort((counts, p.row_lower != p.row_upper)).astype(np.int32))
    chosen = np.asarray(subnetwork.chosen) == 1
    if not m or chosen.sum() < ENOUGH * m:
        return None
    rows = by_rows[chosen].tocsc()
    some = np.diff(rows.indptr) > 0
    low, high = np.isfinite(p.lower), np.isfinite(p.upper)
    at_upper = high & ((p.costs < 0) | ~low)
    if not some.any() or (~some & ~np.where(at_upper, high, low)).any():
        return None
    limits = p.row_lower[chosen], p.row_upper[chosen]
    part = Problem.build(rows[:, some], *limits, p.lower[some], p.upper[some], p.costs[some])
    arcs = network_of(part)
    found = arcs and cheapest_flow(part, arcs, halted, most)
    if not found or not found.feasible:
        return None
    columns, codes = np.where(at_upper, AT_UPPER, AT_LOWER).astype(np.int8), np.zeros(m, np.int8)
    columns[some], codes[chosen] = found.basis.columns, found.basis.rows
    return found._replace(basis=Basis(columns, codes))


def _basis(problem: Problem, arcs: Arcs, kernel: NetworkSimplex, turned: np.ndarray, free: np.ndarray) -> Basis:
    """Return the codes of columns and rows for the tree."""
    m, n = problem.m, problem.n
    state = np.asarray(kernel.state)[: n + m + len(free)].copy()
    at_upper = (state[: n + m] == -1) != turned
    codes = np.where(at_upper, AT_UPPER, AT_LOWER).astype(np.int8)
    codes[free] = FREE
    codes[state[: n + m] == 0] = BASIC
    codes[free[state[n + m :] == 0]] = BASIC
    # an artificial arc that is left in the tree runs beside that of the row's activity, which takes its place
    above = np.asarray(kernel.above)[:m]
    codes[n + np.flatnonzero(above >= n + m + len(free))] = BASIC
    rows = codes[n:]
    back = arcs.rows < 0
    swapped = np.where(rows == AT_LOWER, AT_UPPER, np.where(rows == AT_UPPER, AT_LOWER, rows))
    rows = np.where(back, swapped, rows)
    fixed = (problem.row_lower == problem.row_upper) & (rows == AT_UPPER)
    rows[fixed] = AT_LOWER
    columns = codes[:n]
    columns[(problem.lower == problem.upper) & (columns == AT_UPPER)] = AT_LOWER
    return Basis(columns, rows.astype(np.int8))
