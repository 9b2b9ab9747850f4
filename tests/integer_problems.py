"""Random integer problems of many structures, small enough to be enumerated."""

from __future__ import annotations

from itertools import combinations, product

import numpy as np

from ruddock.engine.simplex.solver import LinearSolver
from ruddock.problem import INTEGER, SEMICONTINUOUS, Problem
from tests.generators import inf

STRUCTURES = (
    "mixed",
    "knapsacks",
    "covers",
    "fixed charge",
    "lots",
    "symmetric",
    "equalities",
    "ordering",
    "assignment",
    "conflicts",
    "alike",
    "blocks",
    "defined",
)


def integer_problem(structure: str, seed: int) -> Problem:
    """Return a small problem of a structure; most have a plan."""
    rng = np.random.default_rng([seed, STRUCTURES.index(structure)])
    return {
        "mixed": _mixed,
        "knapsacks": _knapsacks,
        "covers": _covers,
        "fixed charge": _fixed_charge,
        "lots": _lots,
        "symmetric": _symmetric,
        "equalities": _equalities,
        "ordering": _ordering,
        "assignment": _assignment,
        "conflicts": _conflicts,
        "alike": _alike,
        "blocks": _blocks,
        "defined": _defined,
    }[structure](rng)


def _mixed(rng: np.random.Generator) -> Problem:
    m, n = rng.integers(2, 6), rng.integers(3, 7)
    a = rng.integers(-5, 10, (m, n)) * (rng.random((m, n)) < 0.7)
    kinds = rng.choice([0, 1, 1, 2, 3], n)
    lower = rng.integers(-2, 2, n).astype(float)
    upper = lower + rng.integers(1, 4, n)
    semi = (kinds & SEMICONTINUOUS) != 0
    lower[semi] = rng.integers(1, 3, semi.sum())
    upper[semi] = lower[semi] + rng.integers(1, 5, semi.sum())
    row_lower = np.where(rng.random(m) < 0.4, rng.integers(-3, 10, m), -inf)
    row_upper = np.maximum(np.where(rng.random(m) < 0.7, rng.integers(4, 20, m), inf), row_lower)
    return Problem.build(a, row_lower, row_upper, lower, upper, rng.integers(-9, 10, n) / rng.choice([1, 7]), kinds)


def _knapsacks(rng: np.random.Generator) -> Problem:
    m, n = rng.integers(1, 4), rng.integers(5, 9)
    a = rng.integers(3, 40, (m, n)).astype(float)
    room = np.floor(a.sum(axis=1) * rng.uniform(0.3, 0.7, m))
    upper = rng.choice([1.0, 1.0, 2.0], n)
    return Problem.build(a, np.full(m, -inf), room, np.zeros(n), upper, -rng.integers(5, 40, n), np.ones(n))


def _covers(rng: np.random.Generator) -> Problem:
    m, n = rng.integers(4, 9), rng.integers(5, 10)
    a = (rng.random((m, n)) < 0.4).astype(float)
    a[np.arange(m), rng.integers(0, n, m)] = 1.0
    pairs = rng.integers(0, n, (2, 2))
    conflicts = np.zeros((2, n))
    conflicts[[0, 0, 1, 1], pairs.ravel()] = 1.0
    rows = np.vstack((a, conflicts))
    low, high = np.r_[np.ones(m), -inf, -inf], np.r_[np.full(m, inf), 1.0, 1.0]
    return Problem.build(rows, low, high, np.zeros(n), np.ones(n), rng.integers(1, 9, n), np.ones(n))


def _fixed_charge(rng: np.random.Generator) -> Problem:
    """Return sites that serve customers only when open, with one big limit a site."""
    s, c = 3, rng.integers(2, 4)
    need, room = rng.integers(3, 12, c).astype(float), rng.integers(10, 25, s).astype(float)
    n = s + s * c
    rows = []
    for j in range(c):
        line = np.zeros(n)
        line[[s + i * c + j for i in range(s)]] = 1.0
        rows.append((line, need[j], inf))
    for i in range(s):
        line = np.zeros(n)
        line[s + i * c : s + (i + 1) * c], line[i] = 1.0, -room[i]
        rows.append((line, -inf, 0.0))
    costs = np.r_[rng.integers(10, 60, s), rng.integers(1, 9, s * c)]
    return _of(rows, np.zeros(n), np.r_[np.ones(s), np.full(s * c, inf)], costs, np.r_[np.ones(s), np.zeros(s * c)])


def _lots(rng: np.random.Generator) -> Problem:
    periods = 5
    need, most = rng.integers(0, 20, periods).astype(float), 60.0
    n = 3 * periods  # make, keep, set up
    rows = []
    for t in range(periods):
        line = np.zeros(n)
        line[t], line[periods + t] = 1.0, -1.0
        if t:
            line[periods + t - 1] = 1.0
        rows.append((line, need[t], need[t]))
        line = np.zeros(n)
        line[t], line[2 * periods + t] = 1.0, -most
        rows.append((line, -inf, 0.0))
    costs = np.r_[np.zeros(periods), rng.integers(1, 4, periods), rng.integers(10, 50, periods)]
    upper = np.r_[np.full(2 * periods, inf), np.ones(periods)]
    return _of(rows, np.zeros(n), upper, costs, np.r_[np.zeros(2 * periods), np.ones(periods)])


def _symmetric(rng: np.random.Generator) -> Problem:
    """Return items into identical bins."""
    items, bins = int(rng.integers(3, 5)), 3
    size, room = rng.integers(3, 9, items).astype(float), 12.0
    n = bins + items * bins
    rows = []
    for i in range(items):
        line = np.zeros(n)
        line[[bins + i * bins + b for b in range(bins)]] = 1.0
        rows.append((line, 1.0, 1.0))
    for b in range(bins):
        line = np.zeros(n)
        line[[bins + i * bins + b for i in range(items)]] = size
        line[b] = -room
        rows.append((line, -inf, 0.0))
    return _of(rows, np.zeros(n), np.ones(n), np.r_[np.ones(bins), np.zeros(items * bins)], np.ones(n))


def _equalities(rng: np.random.Generator) -> Problem:
    m, n = 2, rng.integers(4, 7)
    a = rng.integers(1, 7, (m, n)).astype(float)
    point = rng.integers(0, 4, n)
    right = a @ point + (rng.random(m) < 0.2)
    return Problem.build(a, right, right, np.zeros(n), np.full(n, 3.0), rng.integers(-9, 10, n), np.ones(n))


def _ordering(rng: np.random.Generator) -> Problem:
    """Return jobs on one machine, either before the other, with one large number."""
    jobs = 3
    time, weight, large = rng.integers(1, 6, jobs).astype(float), rng.integers(1, 6, jobs), 30.0
    pairs = [(i, j) for i in range(jobs) for j in range(i + 1, jobs)]
    n = jobs + len(pairs)
    rows = []
    for k, (i, j) in enumerate(pairs):
        line = np.zeros(n)
        line[j], line[i], line[jobs + k] = 1.0, -1.0, -large
        rows.append((line, time[i] - large, inf))
        line = np.zeros(n)
        line[i], line[j], line[jobs + k] = 1.0, -1.0, large
        rows.append((line, time[j], inf))
    release = rng.integers(0, 6, jobs).astype(float)
    lower, upper = np.r_[release, np.zeros(len(pairs))], np.r_[np.full(jobs, large), np.ones(len(pairs))]
    return _of(rows, lower, upper, np.r_[weight, np.zeros(len(pairs))], np.r_[np.zeros(jobs), np.ones(len(pairs))])


def _assignment(rng: np.random.Generator) -> Problem:
    agents, jobs = 2, int(rng.integers(4, 6))
    weight, room = rng.integers(1, 6, (agents, jobs)).astype(float), rng.integers(6, 10, agents).astype(float)
    n = agents * jobs
    rows = []
    for j in range(jobs):
        line = np.zeros(n)
        line[[a * jobs + j for a in range(agents)]] = 1.0
        rows.append((line, 1.0, 1.0))
    for a in range(agents):
        line = np.zeros(n)
        line[a * jobs : (a + 1) * jobs] = weight[a]
        rows.append((line, -inf, room[a]))
    return _of(rows, np.zeros(n), np.ones(n), rng.integers(1, 20, n), np.ones(n))


def _conflicts(rng: np.random.Generator) -> Problem:
    """Return things of which some go badly together, pair by pair, and a row of their weights."""
    n = int(rng.integers(7, 10))
    pairs = {pair for _ in range(3) for pair in combinations(np.sort(rng.choice(n, 4, replace=False)).tolist(), 2)}
    rows = []
    for i, j in sorted(pairs):
        line = np.zeros(n)
        line[[i, j]] = 1.0, 1.0 if rng.random() < 0.8 else -1.0
        rows.append((line, -inf, 1.0 if line[j] > 0 else 0.0))
    rows.append((rng.integers(1, 9, n).astype(float), -inf, 15.0))
    return _of(rows, np.zeros(n), np.ones(n), -rng.integers(1, 20, n), np.ones(n))


def _alike(rng: np.random.Generator) -> Problem:
    """Return columns that differ only in cost: yes/no, whole, and continuous ones without an upper bound."""
    pattern = rng.integers(1, 7, (2, 3)).astype(float)
    which = np.repeat(np.arange(3), rng.integers(2, 4, 3))
    kinds = rng.choice([1, 1, 0], len(which))
    upper = np.where(kinds == 1, rng.choice([1.0, 1.0, 2.0], len(which)), inf)
    a = pattern[:, which]
    least, most = rng.integers(4, 12, 2).astype(float), np.array([inf, rng.choice([30.0, inf])])
    return Problem.build(a, least, most, np.zeros(len(which)), upper, rng.integers(1, 12, len(which)), kinds)


def _blocks(rng: np.random.Generator) -> Problem:
    """Return knapsacks that the needs of their items link: alike or not, with a switch or not, of one or two rows."""
    whole = rng.random() < 0.9
    blocks, items = int(rng.integers(2, 4)) if whole else 2, int(rng.integers(3, 5)) if whole else 3
    alike, switch, needs = rng.random() < 0.5, rng.random() < 0.5, rng.choice(["equal", "least", "most"])
    twice, ordered, volume = rng.random() < 0.3, rng.random() < 0.3, rng.integers(1, 9, items)
    most = np.where(rng.random(items) < 0.2, 2.0, 1.0) if blocks == 2 else np.ones(items)
    each = items + 1
    n = blocks * each + 1
    costs, upper, rows = np.zeros(n), np.ones(n), []
    for b in range(blocks):
        if not b or not alike:
            weight, cost = rng.integers(2, 9, items), rng.integers(-5, 10, items)
            room, paid, unit = rng.integers(6, 16), rng.integers(1, 15), rng.choice([1.0, 0.1])
        here = slice(b * each, b * each + items)
        costs[here], upper[here], costs[b * each + items] = cost, most, paid
        line = np.zeros(n)
        line[here], line[b * each + items] = weight * unit, -room * unit
        if not switch:  # the column of the switch stands for nothing then
            line[b * each + items], costs[b * each + items] = 0.0, 1.0
        limit = 0.0 if switch else room * unit
        rows.append((-line, -limit, inf) if rng.random() < 0.3 else (line, -inf, limit))
        if twice:
            line = np.zeros(n)
            line[here] = volume
            rows.append((line, -inf, 12.0))
        if switch and ordered and b:
            line = np.zeros(n)
            line[b * each - 1], line[b * each + items] = 1.0, -1.0
            rows.append((line, 0.0, inf))
    costs[-1], upper[-1] = rng.integers(5, 30), 2.0
    for i in range(items):
        line = np.zeros(n)
        line[i : blocks * each : each] = 1.0
        line[-1] = -1.0 if needs == "most" else 1.0
        rows.append((line, -inf if needs == "most" else 1.0, inf if needs == "least" else 1.0))
    return _of(rows, np.zeros(n), upper, costs, np.r_[np.ones(n - 1), float(whole)])


def _defined(rng: np.random.Generator) -> Problem:
    """Return a mixed problem whose costs and totals are columns of their own, with rows of one entry and rows twice."""
    m, n = int(rng.integers(2, 4)), int(rng.integers(3, 5))
    a = rng.integers(-3, 6, (m, n)) * (rng.random((m, n)) < 0.8)
    kinds, lower = np.r_[INTEGER, rng.choice([0, INTEGER, INTEGER], n - 1)], rng.integers(-1, 2, n).astype(float)
    upper = lower + rng.integers(1, 3, n)
    copied, factor, side = int(rng.integers(0, n)), float(rng.choice([1, -1, 2])), float(rng.integers(-2, 3))
    ends = np.sort(side + factor * np.array((lower[copied], upper[copied])))
    defined = np.zeros((5, n + 4))  # two parts of the costs, a copy, a total, and a row of one entry
    defined[:2, :n] = rng.integers(-6, 7, (2, n)) * (rng.random((2, n)) < 0.7)
    defined[2, copied], defined[3, :n], defined[4, int(rng.integers(0, n))] = -factor, -a[0], 2.0
    defined[range(4), n + np.arange(4)] = 1.0
    low, high = np.where(rng.random(m) < 0.4, rng.integers(-3, 4, m), -inf), rng.integers(4, 12, m).astype(float)
    right = np.array((0.0, 0.0, side, 0.0))
    return Problem.build(
        np.vstack((np.pad(np.vstack((a, 2 * a[:1])), ((0, 0), (0, 4))), defined)),
        np.r_[low, low[0] * 2, right, -inf],
        np.r_[high, high[0] * 2 + rng.integers(-3, 3), right, float(rng.integers(1, 5))],
        np.r_[lower, -inf, -99.0, ends[0], -99.0],
        np.r_[upper, inf, 99.0, ends[1], float(rng.integers(4, 20))],
        np.r_[np.zeros(n), 1.0, 1.0, rng.integers(-2, 3, 2)],
        np.r_[kinds, 0, 0, rng.choice([0, kinds[copied]]), 0],
    )


def _of(rows: list[tuple[np.ndarray, float, float]], lower, upper, costs, kinds) -> Problem:
    lines, low, high = zip(*rows, strict=True)
    return Problem.build(np.array(lines), np.array(low), np.array(high), lower, upper, costs, kinds)


def choices(problem: Problem) -> list[list[tuple[float, float]]]:
    """Return for every column the values, or intervals, that its kind allows."""
    result = []
    for j in range(problem.n):
        low, high = float(problem.lower[j]), float(problem.upper[j])
        spans = [(low, high)]
        if problem.kinds[j] & INTEGER:
            spans = [(v + 0.0, v + 0.0) for v in range(int(np.ceil(low - 1e-9)), int(np.floor(high + 1e-9)) + 1)]
        result.append(spans + ([(0.0, 0.0)] if problem.kinds[j] & SEMICONTINUOUS else []))
    return result


def enumerated(problem: Problem) -> float:
    """Return the least objective over all values of discrete columns; the rest is linear."""
    spans = choices(problem)
    if not (problem.kinds == INTEGER).all():
        return _with_rest(problem, spans)
    points = np.array(list(product(*[[low for low, _ in span] for span in spans])))
    activity = points @ problem.matrix().toarray().T
    keeps = ((activity >= problem.row_lower - 1e-9) & (activity <= problem.row_upper + 1e-9)).all(axis=1)
    return float((points[keeps] @ problem.costs).min()) if keeps.any() else inf


def _with_rest(problem: Problem, spans: list[list[tuple[float, float]]]) -> float:
    solver, best = LinearSolver(problem), inf
    for bounds in product(*spans):
        lower, upper = np.array(bounds).T
        solver.change_bounds(slice(None), lower, upper)
        outcome = solver.solve()
        if outcome.status == "optimal":
            best = min(best, outcome.objective)
    return best


def random_milp(seed: int) -> Problem:
    """Return a small problem with continuous, integer, semicontinuous and semi-integer columns."""
    rng = np.random.default_rng(seed)
    m, n = rng.integers(2, 6), rng.integers(3, 7)
    a = rng.integers(-5, 10, (m, n)) * (rng.random((m, n)) < 0.7)
    kinds = np.ones(n, int) if seed % 3 == 0 else rng.choice([0, 1, 1, 2], n)
    lower = rng.integers(-2, 2, n).astype(float)
    upper = lower + rng.integers(1, 4, n)
    semi = kinds == SEMICONTINUOUS
    lower[semi] = rng.integers(1, 3, semi.sum())
    upper[semi] = lower[semi] + rng.integers(1, 5, semi.sum())
    if seed % 5 == 0:
        kinds[semi] |= INTEGER
    row_lower = np.where(rng.random(m) < 0.4, rng.integers(-3, 10, m), -inf)
    row_upper = np.maximum(np.where(rng.random(m) < 0.7, rng.integers(4, 20, m), inf), row_lower)
    costs = rng.integers(-9, 10, n) / (1 if seed % 2 else 7)
    return Problem.build(a, row_lower, row_upper, lower, upper, costs, kinds)
