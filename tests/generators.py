"""Random problems of many structures, each from a seed."""

from __future__ import annotations

import numpy as np
from scipy import sparse

from ruddock.problem import Problem

inf = np.inf
STRUCTURES = (
    "mixed", "equalities", "degenerate", "ill-scaled", "transport", "staircase", "boxed", "free", "near-parallel",
    "ten-orders",
)  # fmt: skip


def sparse_integers(rng: np.random.Generator, m: int, n: int, density: float) -> sparse.csc_matrix:
    """Return a sparse matrix of small whole numbers with something in every column."""
    mask = rng.random((m, n)) < density
    mask[rng.integers(0, m, n), np.arange(n)] = True
    return sparse.csc_matrix(np.where(mask, rng.integers(1, 10, (m, n)) * rng.choice([-1, 1, 1], (m, n)), 0.0))


def random_lp(structure: str, seed: int, m: int, n: int, wish: str) -> Problem:
    """Return a linear problem that is likely to be ``wish``: optimal, infeasible or unbounded."""
    rng = np.random.default_rng([seed, STRUCTURES.index(structure), m, n])
    if structure == "transport":
        return transport(rng, max(2, m // 2), max(2, m - m // 2), wish)
    if structure == "staircase":
        return staircase(rng, max(2, m // 4), wish)
    a = sparse_integers(rng, m, n, min(1.0, 4.0 / m + 0.02))
    if structure == "near-parallel":
        a = nearly_parallel(rng, a)
    lower, upper = np.zeros(n), np.full(n, inf)
    if structure in ("boxed", "mixed"):
        which = rng.random(n) < (0.9 if structure == "boxed" else 0.3)
        upper[which] = rng.integers(1, 20, which.sum())
        lower[which] -= rng.integers(0, 5, which.sum())
        fixed = rng.random(n) < 0.05
        upper[fixed] = lower[fixed]
    if structure in ("free", "mixed"):
        which = rng.random(n) < (0.6 if structure == "free" else 0.15)
        lower[which], upper[which] = -inf, inf
        below = rng.random(n) < 0.1
        lower[below], upper[below] = -inf, rng.integers(0, 5, below.sum())
    point = np.clip(rng.integers(0, 6, n), lower, np.where(np.isinf(upper), 6, upper)).astype(float)
    point[~np.isfinite(point)] = 0.0
    activity = a @ point
    slack = rng.integers(0, 8, m).astype(float)
    if structure == "degenerate":
        point[:] = 0
        activity, slack = np.zeros(m), np.where(rng.random(m) < 0.8, 0.0, slack)
    kind = rng.integers(0, 4, m)
    if structure == "equalities":
        kind[rng.random(m) < 0.7] = 2
    row_lower = np.select(
        [kind == 0, kind == 1, kind == 2], [np.full(m, -inf), activity - slack, activity], activity - slack
    )
    row_upper = np.select(
        [kind == 0, kind == 1, kind == 2], [activity + slack, np.full(m, inf), activity], activity + 2
    )
    y = rng.integers(-5, 6, m).astype(float)
    y = np.where(np.isneginf(row_lower), np.minimum(y, 0), np.where(np.isposinf(row_upper), np.maximum(y, 0), y))
    costs = a.T @ y + np.where(np.isinf(lower) & np.isinf(upper), 0.0, rng.integers(0, 6, n))
    costs = np.where(np.isinf(lower) & np.isfinite(upper), a.T @ y - rng.integers(0, 6, n), costs)
    if wish == "unbounded":
        costs = rng.integers(-9, 3, n).astype(float)
        row_lower[np.isfinite(row_upper) & (rng.random(m) < 0.9)] = -inf
        row_upper[rng.random(m) < 0.6] = inf
        row_upper[np.isneginf(row_lower) & np.isinf(row_upper)] = 1e3
    if wish == "infeasible":
        # a hidden contradiction: a combination of rows demands more than the bounds can give
        rows = rng.choice(m, min(m, 4), replace=False)
        weights = rng.integers(1, 4, len(rows)).astype(float)
        combination = sparse.csc_matrix(weights @ a[rows])
        lower = np.where(np.isinf(lower), -50.0, lower)
        upper = np.where(np.isinf(upper), 50.0, upper)
        row_upper[rows] = np.where(np.isinf(row_upper[rows]), activity[rows] + 5, row_upper[rows])
        need = float(weights @ row_upper[rows]) + 1.0
        a = sparse.vstack([a, combination], format="csc")
        row_lower, row_upper = np.append(row_lower, need), np.append(row_upper, inf)
    if structure in ("ill-scaled", "ten-orders"):
        # short binary fractions, so that exact arithmetic stays fast; eight orders of magnitude, or ten
        wide = 2 if structure == "ten-orders" else 0
        rows = 2.0 ** rng.integers(-13 - wide, 14 + wide, a.shape[0]) * rng.choice([1.0, 3.0, 5.0], a.shape[0])
        columns = 2.0 ** rng.integers(-10 - wide, 11 + wide, n)
        a = sparse.diags(rows) @ a @ sparse.diags(columns)
        row_lower, row_upper = row_lower * rows, row_upper * rows
        lower, upper, costs = lower / columns, upper / columns, costs * columns
    return Problem.build(a, row_lower, row_upper, lower, upper, costs, offset=float(rng.integers(-3, 4)))


def nearly_parallel(rng: np.random.Generator, a: sparse.csc_matrix) -> sparse.csc_matrix:
    """Return the matrix with a third of its rows made multiples of others, but for a millionth of one entry."""
    rows = sparse.lil_matrix(a)
    m = rows.shape[0]
    for i in range(0, m - 1, 3):
        factor = float(rng.choice([1.0, 2.0, -0.5]))
        rows[i + 1] = rows[i] * factor
        if rows.rows[i + 1]:
            rows.data[i + 1][0] *= 1.0 + 2.0**-20
    return rows.tocsc()


def transport(rng: np.random.Generator, origins: int, targets: int, wish: str) -> Problem:
    """Return a transport problem; degenerate, since partial sums of supply and demand coincide."""
    i, j = np.divmod(np.arange(origins * targets), targets)
    arcs = np.arange(origins * targets)
    a = sparse.coo_matrix(
        (np.ones(2 * len(arcs)), (np.concatenate((i, origins + j)), np.concatenate((arcs, arcs)))),
        shape=(origins + targets, len(arcs)),
    )
    need = rng.integers(1, 5, targets).astype(float) * 10
    have = (
        np.full(origins, need.sum() / origins)
        if rng.random() < 0.5
        else rng.multinomial(int(need.sum()), np.ones(origins) / origins).astype(float)
    )
    costs = rng.integers(1, 20, len(arcs)).astype(float)
    upper = np.full(len(arcs), inf)
    if wish == "infeasible":
        need[0] += 1
    lower = np.zeros(len(arcs))
    if wish == "unbounded":
        costs[:2] = -30.0
        lower[1], costs[1] = -inf, 40.0  # shipping backwards pays, along a cycle
        lower[targets] = -inf
    return Problem.build(
        a, np.concatenate((np.zeros(origins), need)), np.concatenate((have, np.full(targets, inf))), lower, upper, costs
    )


def staircase(rng: np.random.Generator, periods: int, wish: str) -> Problem:
    """Return a multi-period stock problem: make, store and overtime in each period."""
    need = rng.integers(5, 30, periods).astype(float)
    make, store, over = (np.arange(periods) * 3 + k for k in range(3))
    rows, columns, values = [], [], []
    for t in range(periods):
        rows += [t, t, t]
        columns += [make[t], over[t], store[t]]
        values += [1.0, 1.0, -1.0]
        if t:
            rows.append(t)
            columns.append(store[t - 1])
            values.append(1.0)
        rows += [periods + t] * 2
        columns += [make[t], over[t]]
        values += [2.0, 2.0]
    a = sparse.coo_matrix((values, (rows, columns)), shape=(2 * periods, 3 * periods))
    costs, upper = np.zeros(3 * periods), np.full(3 * periods, inf)
    costs[make], costs[store], costs[over] = rng.integers(3, 9, periods), 1.0, 15.0
    upper[make], upper[store] = 18.0, 40.0
    room = np.full(periods, 70.0)
    if wish == "infeasible":
        room[: periods // 2 + 1] = 8.0
    if wish == "unbounded":
        costs[store[-1]], upper[store[-1]], room[-1] = -20.0, inf, inf
    return Problem.build(
        a,
        np.concatenate((need, np.full(periods, -inf))),
        np.concatenate((need, room)),
        np.zeros(3 * periods),
        upper,
        costs,
    )


def klee_minty(n: int) -> Problem:
    """Return the cube that makes simple pivoting rules visit all of its corners."""
    a = np.eye(n)
    for i in range(n):
        for j in range(i):
            a[i, j] = 2.0 ** (i - j + 1)
    limits = 5.0 ** np.arange(1, n + 1)
    return Problem.build(a, np.full(n, -inf), limits, np.zeros(n), np.full(n, inf), -(2.0 ** np.arange(n - 1, -1, -1)))


def cycling() -> dict[str, Problem]:
    """Return small problems known to make the textbook method cycle, with their optimal values."""
    beale = Problem.build(
        [[0.25, -60, -1 / 25, 9], [0.5, -90, -1 / 50, 3], [0, 0, 1, 0]],
        np.full(3, -inf), [0, 0, 1], np.zeros(4), np.full(4, inf), [-0.75, 150, -0.02, 6],
    )  # fmt: skip
    kuhn = Problem.build(
        [[-2, -9, 1, 9], [1 / 3, 1, -1 / 3, -2], [2, 3, -1, -12]],
        np.full(3, -inf), [0, 0, 2], np.zeros(4), np.full(4, inf), [-2, -3, 1, 12],
    )  # fmt: skip
    marshall = Problem.build(
        [[0.4, 0.2, -1.4, -0.2], [-7.8, -1.4, 7.8, 0.4]],
        np.full(2, -inf), [0, 0], np.zeros(4), [1, inf, inf, inf], [-2.3, -2.15, 13.55, 0.4],
    )  # fmt: skip
    return {"beale": beale, "kuhn": kuhn, "marshall": marshall}


def two_product_staircase(periods: int) -> Problem:
    """Return stock of two products over periods: balances, shared hours, and a ramp between periods."""
    rng = np.random.default_rng(750)
    make, store, over = (np.arange(2 * periods).reshape(periods, 2) + 2 * periods * k for k in range(3))
    rows, columns, values, low, high = [], [], [], [], []

    def row(terms: list[tuple[int, float]], lower: float, upper: float) -> None:
        for column, value in terms:
            rows.append(len(low))
            columns.append(column)
            values.append(value)
        low.append(lower)
        high.append(upper)

    for t in range(periods):
        for k in range(2):
            need = float(rng.integers(5, 40))
            before = [(int(store[t - 1, k]), 1.0)] if t else []
            row([(int(make[t, k]), 1.0), (int(over[t, k]), 1.0), (int(store[t, k]), -1.0), *before], need, need)
        hours = [(int(make[t, k]), 1.5 + k) for k in range(2)]
        row([*hours, *((int(over[t, k]), 0.5 + 0.25 * k) for k in range(2))], -inf, float(rng.integers(85, 120)))
        back = [(int(make[t - 1, k]), -1.0 - k) for k in range(2)] if t else []
        row([*((int(make[t, k]), 1.0 + k) for k in range(2)), *back], -25.0, 25.0 if t else inf)
    costs = np.zeros(6 * periods)
    costs[make.ravel()], costs[store.ravel()], costs[over.ravel()] = rng.integers(3, 12, 2 * periods), 0.5, 25.0
    a = sparse.coo_matrix((values, (rows, columns)), shape=(len(low), 6 * periods))
    return Problem.build(a, low, high, np.zeros(6 * periods), np.full(6 * periods, inf), costs)


def planted(problem: Problem, seed: int) -> Problem:
    """Return a problem with parts planted that presolve can take out: every kind of reduction finds some.

    Short rows, equations of two columns, multiples of rows and columns, slack-like and free columns,
    empty and fixed ones. What is planted may change whether there is a plan.
    """
    rng = np.random.default_rng(seed)
    a = sparse.lil_matrix(problem.matrix())
    low, high = problem.row_lower.copy(), problem.row_upper.copy()
    lower, upper, costs = problem.lower.copy(), problem.upper.copy(), problem.costs.copy()

    def row(entries: dict[int, float], least: float, most: float) -> None:
        nonlocal a, low, high
        new = sparse.lil_matrix((1, a.shape[1]))
        for j, value in entries.items():
            new[0, j] = value
        a = sparse.vstack([a, new], format="lil")
        low, high = np.append(low, least), np.append(high, most)

    def column(entries: dict[int, float], least: float, most: float, cost: float) -> None:
        nonlocal a, lower, upper, costs
        new = sparse.lil_matrix((a.shape[0], 1))
        for i, value in entries.items():
            new[i, 0] = value
        a = sparse.hstack([a, new], format="lil")
        lower, upper, costs = np.append(lower, least), np.append(upper, most), np.append(costs, cost)

    for _ in range(int(rng.integers(2, 9))):
        kind = rng.integers(0, 11)
        i, j, k = int(rng.integers(a.shape[0])), int(rng.integers(a.shape[1])), int(rng.integers(a.shape[1]))
        factor = float(rng.choice([-2.0, -1.0, 0.5, 3.0]))
        if kind == 0:  # a bound written as a row
            row({j: factor}, *sorted((float(rng.integers(-9, 1)), float(rng.integers(1, 9)))))
        elif kind == 1 and j != k:
            row({j: 1.0, k: factor}, side := float(rng.integers(-3, 4)), side)
        elif kind == 2:
            entries = dict(zip(a.rows[i], (factor * v for v in a.data[i]), strict=True))
            row(entries, *sorted((factor * low[i] + rng.integers(-2, 2), factor * high[i] + rng.integers(-1, 3))))
        elif kind == 3:
            entries = {int(r): factor * v for r, v in zip(*sparse.find(a[:, j])[::2], strict=True)}
            column(entries, 0.0, float(rng.choice([4.0, inf])), factor * costs[j])
        elif kind == 4:  # slack-like, or free of its bounds
            column({i: factor}, *((0.0, float(rng.choice([5.0, inf]))) if rng.random() < 0.5 else (-inf, inf)), 0.0)
        elif kind == 5:
            column({i: factor}, -inf, inf, float(rng.integers(-2, 3)))
        elif kind == 6:
            column({}, 0.0, 3.0, float(rng.integers(-2, 3)))
        elif kind == 7:
            row({}, -1.0, 2.0)
        elif kind == 8:
            column({i: factor}, 2.0, 2.0, 1.0)
        elif kind == 9 and np.isfinite(lower[j]) and np.isfinite(lower[k]) and j != k:  # forces both down
            row({j: 1.0, k: 2.0}, -inf, lower[j] + 2.0 * lower[k])
        elif kind == 10 and np.isfinite(upper[j]):
            row({j: -1.0}, -upper[j], inf)
    return Problem.build(a.tocsc(), low, high, lower, upper, costs, offset=problem.offset)
