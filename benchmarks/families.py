"""Families of linear problems that grow: networks, stock over periods, sparse ones, wide ones."""

from __future__ import annotations

import numpy as np
from scipy import sparse

from ruddock.problem import Problem

inf = np.inf


def transport(size: int) -> Problem:
    """``size`` origins to ``size`` targets, a fifth more in stock than is needed."""
    rng = np.random.default_rng(size)
    cells = np.arange(size * size)
    rows = np.concatenate((cells // size, size + cells % size))
    a = sparse.coo_matrix((np.ones(2 * size * size), (rows, np.tile(cells, 2)))).tocsc()
    need = rng.integers(5, 50, size)
    have = rng.multinomial(int(need.sum() * 1.2), np.full(size, 1 / size))
    costs = rng.integers(1, 1000, size * size)
    return Problem.build(
        a,
        np.concatenate((np.full(size, -inf), need)),
        np.concatenate((have, np.full(size, inf))),
        np.zeros(size * size),
        np.full(size * size, inf),
        costs,
    )


def staircase(periods: int) -> Problem:
    """Two products made, stored and sold over many periods, with shared capacity and overtime: 3 rows a period."""
    rng = np.random.default_rng(periods)
    make = np.arange(2 * periods).reshape(periods, 2)
    store, over = make + 2 * periods, 4 * periods + np.arange(periods)
    balance, capacity = make, 2 * periods + np.arange(periods)
    hours = rng.uniform(1, 2, (periods, 2)).round(2)
    blocks = [
        (balance, make, np.ones((periods, 2))),
        (balance, store, -np.ones((periods, 2))),
        (balance[1:], store[:-1], np.ones((periods - 1, 2))),
        (np.stack((capacity, capacity), axis=1), make, hours),
        (capacity, over, -np.ones(periods)),
    ]
    rows, columns, values = (np.concatenate([np.ravel(block[k]) for block in blocks]) for k in range(3))
    a = sparse.coo_matrix((values, (rows, columns)), shape=(3 * periods, 5 * periods)).tocsc()
    need = rng.integers(5, 30, 2 * periods).astype(float)
    costs = np.concatenate(
        (rng.integers(3, 9, 2 * periods), rng.uniform(0.4, 0.6, 2 * periods), rng.uniform(4, 8, periods))
    )
    return Problem.build(
        a,
        np.concatenate((need, np.full(periods, -inf))),
        np.concatenate((need, np.full(periods, 51.0))),
        np.zeros(5 * periods),
        np.concatenate((np.full(4 * periods, inf), np.full(periods, 30.0))),
        costs,
    )


def contradicted(problem: Problem, seed: int = 0) -> Problem:
    """Return a problem with one more row, which six of its rows together contradict by 1."""
    rng = np.random.default_rng(seed)
    a = problem.matrix().tocsr()
    rows, weights = rng.choice(problem.m, 6, replace=False), rng.integers(1, 4, 6).astype(float)
    line = sparse.csr_matrix(weights @ a[rows].toarray())
    return Problem.build(
        sparse.vstack([a, line], format="csc"),
        np.append(problem.row_lower, -inf),
        np.append(problem.row_upper, float(weights @ problem.row_lower[rows]) - 1),
        problem.lower,
        problem.upper,
        problem.costs,
    )


def network(nodes: int, arcs: int) -> Problem:
    """Random arcs with capacities; a ring of dear ones makes it feasible."""
    rng = np.random.default_rng(nodes)
    tail, head = rng.integers(0, nodes, (2, arcs))
    tail[:nodes], head[:nodes] = np.arange(nodes), (np.arange(nodes) + 1) % nodes
    keep = tail != head
    tail, head = tail[keep], head[keep]
    columns = np.arange(len(tail))
    a = sparse.coo_matrix(
        (np.repeat([1.0, -1.0], len(tail)), (np.concatenate((head, tail)), np.tile(columns, 2))),
        shape=(nodes, len(tail)),
    ).tocsc()
    demand = rng.integers(-9, 10, nodes)
    demand[0] -= demand.sum()
    ring = columns < nodes
    upper = np.where(ring, inf, rng.integers(5, 50, len(tail)))
    costs = np.where(ring, 1000.0, rng.integers(1, 100, len(tail)))
    return Problem.build(a, demand, demand, np.zeros(len(tail)), upper, costs)


def commodities(nodes: int, arcs: int, goods: int) -> Problem:
    """Flows of several goods through arcs of limited room, which they share; a wide ring makes it feasible."""
    rng = np.random.default_rng(nodes)
    tail, head = rng.integers(0, nodes, (2, arcs))
    head = np.where(head == tail, (head + 1) % nodes, head)
    tail[:nodes], head[:nodes] = np.arange(nodes), (np.arange(nodes) + 1) % nodes
    columns = np.arange(arcs * goods)
    good, arc = columns // arcs, columns % arcs
    rows = np.concatenate((good * nodes + tail[arc], good * nodes + head[arc], goods * nodes + arc))
    a = sparse.coo_matrix((np.repeat([1.0, -1.0, 1.0], len(columns)), (rows, np.tile(columns, 3)))).tocsc()
    supply = np.zeros((goods, nodes))
    for own in supply:
        ends, amount = rng.choice(nodes, 2, replace=False), rng.integers(5, 20)
        own[ends] = amount, -amount
    room = np.where(np.arange(arcs) < nodes, 1000.0, rng.integers(10, 40, arcs))
    costs = np.tile(rng.integers(1, 50, arcs) + 60.0 * (np.arange(arcs) < nodes), goods)
    limits = np.append(supply.ravel(), np.full(arcs, -inf)), np.append(supply.ravel(), room)
    return Problem.build(a, *limits, np.zeros(len(columns)), np.full(len(columns), inf), costs)


def covering(rows: int, columns: int) -> Problem:
    """Each row is to be covered once, by columns of 2 to 12 rows, seven in the mean."""
    rng = np.random.default_rng(rows)
    counts = rng.integers(2, 13, columns)
    place = np.repeat(np.arange(columns), counts), rng.integers(0, rows, counts.sum())
    a = sparse.coo_matrix((np.ones(len(place[0])), place[::-1]), shape=(rows, columns)).tocsc()
    a.data[:] = 1.0
    costs = rng.integers(1, 100, columns).astype(float)
    return Problem.build(a, np.ones(rows), np.full(rows, inf), np.zeros(columns), np.ones(columns), costs)


def scattered(rows: int) -> Problem:
    """Twice as many columns as rows, each with four random entries anywhere."""
    return _planted(rows, 4, rows)


def banded(rows: int) -> Problem:
    """Twice as many columns as rows, each with five random entries within fifty rows of one another."""
    return _planted(rows, 5, 50)


def sparse_random(rows: int) -> Problem:
    """Twice as many columns as rows, each with three random entries within twenty rows of one another."""
    return _planted(rows, 3, 20)


def _planted(rows: int, entries: int, band: int) -> Problem:
    """Return a problem with costs and limits around a point and prices that are optimal for them."""
    rng = np.random.default_rng(rows)
    n = 2 * rows
    first = rng.integers(0, rows, n)
    others = rng.integers(1, band, (n, entries - 1))
    index = (first[:, None] + np.concatenate((np.zeros((n, 1), int), others), axis=1)) % rows
    values = rng.integers(1, 10, entries * n).astype(float) * rng.choice([-1, 1, 1], entries * n)
    a = sparse.coo_matrix((values, (index.ravel(), np.repeat(np.arange(n), entries))), shape=(rows, n)).tocsc()
    point = rng.integers(0, 4, n) * (rng.random(n) < 0.4)
    prices = rng.integers(0, 5, rows) * (rng.random(rows) < 0.6)
    costs = a.T @ prices + rng.integers(0, 6, n) * (point == 0)
    lower = a @ point - rng.integers(0, 6, rows) * (prices == 0)
    return Problem.build(a, lower, np.full(rows, inf), np.zeros(n), np.full(n, inf), costs.astype(float))
