"""Path cuts, against dynamic programs and all whole plans; and what is left of problems where columns are fixed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from math import inf

import numpy as np
import pytest

from ruddock.engine.outcome import Limits, Options
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.engine.tree.cuts.cutsets import Cutsets
from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.engine.tree.cuts.needs import Ties, needs
from ruddock.engine.tree.cuts.paths import Paths
from ruddock.engine.tree.domain import Domain
from ruddock.engine.tree.part import Part
from ruddock.engine.tree.search import TreeSearch
from ruddock.engine.tree.state import SearchState
from ruddock.engine.tree.tighten import Tightening
from ruddock.problem import INTEGER, Problem
from tests.engine.test_tree import whole_plans
from tests.integer_problems import STRUCTURES, integer_problem


def lots(need: np.ndarray, set_up: np.ndarray, keep: np.ndarray) -> Problem:
    """Return one good without limits of capacity: set up, make and keep by period."""
    count = len(need)
    total = need[::-1].cumsum()[::-1]
    rows = []
    for t in range(count):
        balance, tied = np.zeros(3 * count), np.zeros(3 * count)
        balance[[count + t, 2 * count + t]] = 1.0, -1.0
        if t:
            balance[2 * count + t - 1] = 1.0
        tied[[count + t, t]] = 1.0, -total[t]
        rows += [balance, tied]
    limits = np.stack((need, np.zeros(count)), axis=1).ravel()
    lows = np.stack((need, np.full(count, -inf)), axis=1).ravel()
    kinds = np.concatenate((np.full(count, INTEGER), np.zeros(2 * count)))
    upper = np.concatenate((np.ones(count), np.full(2 * count, inf)))
    costs = np.concatenate((set_up, np.zeros(count), keep))
    return Problem.build(np.array(rows), lows, limits, np.zeros(3 * count), upper, costs, kinds)


def cheapest(need: np.ndarray, set_up: np.ndarray, keep: np.ndarray) -> float:
    """Return what that costs at least, by a dynamic program over the period of the last set-up."""
    count = len(need)
    best = [0.0] + [inf] * count
    for end in range(1, count + 1):
        if need[end - 1] == 0:
            best[end] = best[end - 1]
        for begin in range(end):
            held = sum(need[t] * keep[begin:t].sum() for t in range(begin, end))
            best[end] = min(best[end], best[begin] + set_up[begin] + held)
    return best[count]


@pytest.mark.parametrize("seed", range(8))
def test_one_good_without_capacity_needs_hardly_a_branch(seed: int) -> None:
    rng = np.random.default_rng(seed)
    count = 30
    need = rng.integers(0, 20, count).astype(float)
    set_up, keep = rng.integers(20, 80, count).astype(float), rng.integers(1, 4, count).astype(float)
    outcome = solve(lots(need, set_up, keep), options=Options(cores=1, heuristics=False))
    assert outcome.status == "optimal"
    assert outcome.objective == pytest.approx(cheapest(need, set_up, keep))
    assert outcome.counters.nodes <= 12
    assert outcome.counters.cuts["path"] > 0


@pytest.mark.parametrize("seed", range(4))
def test_cut_sets_spare_most_nodes_of_a_network(seed: int) -> None:
    rng = np.random.default_rng(seed)
    nodes, arcs = 14, 45
    ends = np.array([(k, (k + 1) % nodes) for k in range(nodes)] + [rng.choice(nodes, 2, False) for _ in range(31)])
    supply = rng.integers(-9, 10, nodes).astype(float)
    supply[0] -= supply.sum()
    flows, pays = np.arange(arcs), arcs + np.arange(arcs)
    matrix = np.zeros((nodes + arcs, 2 * arcs))
    matrix[ends[:, 0], flows] += 1.0
    matrix[ends[:, 1], flows] -= 1.0
    matrix[nodes + flows, flows], matrix[nodes + flows, pays] = 1.0, -supply[supply > 0].sum()
    low, high = np.append(supply, np.full(arcs, -inf)), np.append(supply, np.zeros(arcs))
    upper, kinds = np.repeat([inf, 1.0], arcs), np.repeat([0, INTEGER], arcs)
    costs = np.append(rng.integers(1, 10, arcs), rng.integers(20, 100, arcs))
    problem = Problem.build(matrix, low, high, np.zeros(2 * arcs), upper, costs, kinds)
    with_cuts, without = (solve(problem, options=Options(cores=1, cuts=cuts)) for cuts in (True, False))
    assert with_cuts.status == without.status == "optimal"
    assert with_cuts.objective == pytest.approx(without.objective)
    assert with_cuts.counters.cuts["cut-set"] > 0
    assert 5 * with_cuts.counters.nodes <= without.counters.nodes


def odd_lots(seed: int) -> Problem:
    """Return periods with all that chains may have: losses, returns, safety stock, lost sales, turned rows, circles."""
    rng = np.random.default_rng(seed)
    count = 5
    close, make, keep, miss = (np.arange(count) + k * count for k in range(4))
    by_closing = seed % 3 == 0
    rows, low, high = [], [], []
    for t in range(count):
        row = np.zeros(4 * count)
        row[[make[t], miss[t], keep[t]]] = rng.integers(1, 3), 1.0, -1.0
        if t or seed % 2:
            row[keep[t - 1]] = rng.choice([0.5, 1.0, 1.0])
        sign = rng.choice([-1.0, 1.0])
        need = float(rng.integers(-2, 9))
        rows.append(sign * row)
        ends = (need, need if rng.random() < 0.7 else need + 4.0)
        low.append(min(sign * ends[0], sign * ends[1]))
        high.append(max(sign * ends[0], sign * ends[1]))
        row = np.zeros(4 * count)
        room = float(rng.integers(6, 20))
        row[[make[t], close[t]]] = 1.0, room if by_closing else -room
        rows.append(row)
        low.append(-inf)
        high.append(room if by_closing else 0.0)
    lower = np.zeros(4 * count)
    lower[keep] = rng.integers(0, 2, count)
    upper = np.concatenate((np.ones(count), np.full(count, inf), np.full(count, 30.0), np.full(count, 3.0)))
    set_up = rng.integers(4, 15, count) * (-1.0 if by_closing else 1.0)
    costs = np.concatenate((set_up, rng.uniform(0, 1, count), rng.uniform(0.2, 1, count), np.full(count, 6.0)))
    kinds = np.concatenate((np.full(count, INTEGER), np.zeros(3 * count)))
    return Problem.build(np.array(rows), low, high, lower, upper, costs, kinds)


def odd_levels(seed: int) -> Problem:
    """Return products and a part of theirs: ways of making that draw differently, needs of parts, rows turned and scaled."""
    rng = np.random.default_rng(seed)
    two = seed % 2
    two = seed % 2
    count, ways = 3 - two, 2 + two  # one or two ways of making the product, one of making the part
    close = np.arange(ways * count).reshape(ways, count)
    make = close + ways * count
    keep = 2 * ways * count + np.arange(2 * count).reshape(2, count)
    n = 2 * ways * count + 2 * count
    rows, low, high = [], [], []

    def row(columns: list[int], values: list[float], least: float, most: float) -> None:
        factor = rng.choice([-2.0, -1.0, 1.0, 1.0])
        dense = np.zeros(n)
        dense[columns] = values
        rows.append(factor * dense)
        low.append(min(factor * least, factor * most))
        high.append(max(factor * least, factor * most))

    draws = rng.integers(1, 3, 2).astype(float)
    for t in range(count):
        for level, ins, outs in ((0, range(ways - 1), ()), (1, (ways - 1,), range(ways - 1))):
            columns = [make[k, t] for k in ins] + [make[k, t] for k in outs] + [keep[level, t]]
            values = [float(rng.integers(1, 3)) for _ in ins] + [-draws[k] for k in outs] + [-1.0]
            if t:
                columns.append(keep[level, t - 1])
                values.append(1.0)
            need = float(rng.integers(0, 7)) * (level == 0 or seed % 4 > 1)
            row(columns, values, need, need if seed % 3 else need + 5.0)
        for k in range(ways):
            row([make[k, t], close[k, t]], [1.0, -float(rng.integers(12, 30))], -inf, 0.0)
    lower = np.zeros(n)
    lower[keep] = rng.integers(0, 2, keep.shape)
    upper = np.concatenate((np.ones(ways * count), np.full(n - ways * count, inf)))
    costs = np.concatenate((rng.integers(4, 15, ways * count), rng.uniform(0, 1, n - ways * count)))
    kinds = np.concatenate((np.full(ways * count, INTEGER), np.zeros(n - ways * count)))
    return Problem.build(np.array(rows), low, high, lower, upper, costs, kinds)


def odd_network(seed: int) -> Problem:
    """Return a network of arcs to be opened: limited and free ones, least flows, gains, nodes with room, rows turned."""
    rng = np.random.default_rng(seed)
    nodes, arcs = 5, 7
    ends = np.array([rng.choice(nodes, 2, replace=False) for _ in range(arcs + 2)])  # the last two need nothing
    supply = rng.integers(-6, 7, nodes).astype(float)
    supply[0] -= supply.sum()
    rows, low, high = [], [], []
    for k in range(nodes):
        row = np.zeros(2 * arcs + 2 + nodes)
        flows = np.concatenate((np.arange(arcs, 2 * arcs), np.arange(2 * arcs, 2 * arcs + 2)))
        row[flows] = (ends[:, 0] == k) * 1.0 - (ends[:, 1] == k) * (1.0 if seed % 2 else 0.5)
        row[2 * arcs + 2 + k] = -np.sign(supply[k]) or 1.0  # what is missed, or left over
        factor = rng.choice([-1.0, 1.0, 2.0])
        loose = 2.0 if rng.random() < 0.3 else 0.0
        rows.append(factor * row)
        low.append(min(factor * supply[k], factor * (supply[k] + loose)))
        high.append(max(factor * supply[k], factor * (supply[k] + loose)))
    for a in range(arcs):
        row = np.zeros(2 * arcs + 2 + nodes)
        row[[arcs + a, a]] = 1.0, -float(rng.choice([4.0, 9.0, 30.0]))
        rows.append(row)
        low.append(-inf)
        high.append(0.0)
    upper = np.concatenate((np.ones(arcs), np.full(arcs + 2 + nodes, 40.0)))
    costs = np.concatenate((rng.integers(3, 20, arcs), rng.uniform(0, 2, arcs + 2), np.full(nodes, 12.0)))
    kinds = np.concatenate((np.full(arcs, INTEGER), np.zeros(arcs + 2 + nodes)))
    return Problem.build(np.array(rows), low, high, np.zeros(len(upper)), upper, costs, kinds)


def cuts_at_random(problem: Problem, seed: int) -> list[Cut]:
    """Return what paths and cut-sets say at points where much flows and little is set up, and elsewhere."""
    tight = Tightening(problem, Domain(problem), complete=False)
    p, lower, upper = tight.tightened(), tight.lower, tight.upper
    ties = Ties.of(lower, upper, tight.variable_bounds)
    asked = needs(p, p.by_rows(), ties)
    kinds = Paths(p, ties, asked), Cutsets(p, ties, asked)
    rng = np.random.default_rng(seed)
    found: list[Cut] = []
    for most in (0.02, 0.1, 0.1, 0.3, 0.3, 1.0):
        share = rng.random(p.n) * np.where(tight.whole, most, rng.choice([0.01, 0.2]))
        point = lower + share * np.minimum(upper - lower, 40.0)
        frame = Frame(p, point, lower, upper, tight.whole != 0, tight.variable_bounds)
        found += [cut for rows in kinds for cut in rows.cuts(frame)]
    return found


@pytest.mark.parametrize(
    ("draw", "fewest"),
    [(odd_lots, {"path": 100}), (odd_levels, {"path": 100, "cut-set": 50}), (odd_network, {"cut-set": 100})],
)
def test_what_needs_a_set_up_leaves_no_plan_out(draw: Callable[[int], Problem], fewest: dict[str, int]) -> None:
    counts: Counter[str] = Counter()
    for seed in range(20):
        problem = draw(seed)
        cuts = cuts_at_random(problem, seed)
        counts.update(cut.kind for cut in cuts)
        whole, kinds = problem.kinds == INTEGER, np.zeros_like(problem.kinds)
        for point in whole_plans(problem):
            low, high = np.where(whole, point, problem.lower), np.where(whole, point, problem.upper)
            there = LinearSolver(replace(problem, lower=low, upper=high, kinds=kinds))
            for cut in cuts:
                costs = np.zeros(problem.n)
                costs[cut.columns] = -cut.values
                there.change_costs(slice(None), costs)
                most = there.solve()
                assert most.status == "optimal"
                assert -most.objective <= cut.limit + 1e-7, (seed, cut.kind, point)
    for kind, least in fewest.items():
        assert counts[kind] >= least, counts


@pytest.mark.parametrize("structure", STRUCTURES)
def test_what_is_left_has_the_plans_of_the_problem(structure: str) -> None:
    left_out = 0
    for seed in range(700, 712):
        problem = integer_problem(structure, seed)
        rng = np.random.default_rng(seed)
        finite = np.isfinite(problem.lower) & np.isfinite(problem.upper)
        chosen = np.flatnonzero(finite & (rng.random(problem.n) < (0.2 if structure == "defined" else 0.6)))
        values = np.round(rng.uniform(problem.lower[chosen], problem.upper[chosen]))
        lower, upper = problem.lower.copy(), problem.upper.copy()
        lower[chosen] = upper[chosen] = np.clip(values, lower[chosen], upper[chosen])
        fixed = replace(problem, lower=lower, upper=upper)
        part, whole = Part.of(fixed), solve(fixed)
        if part is None:
            assert whole.status == "infeasible"
            continue
        left_out += problem.n - part.problem.n
        left = solve(part.problem)
        assert left.status == whole.status
        if whole.status == "optimal":
            assert left.objective + part.offset == pytest.approx(whole.objective, rel=1e-7, abs=1e-7)
            plan = part.plan(left.x)
            assert problem.objective(plan) == pytest.approx(whole.objective, rel=1e-7, abs=1e-7)
            assert (problem.activity(plan) <= problem.row_upper + 1e-6).all()
            assert (problem.activity(plan) >= problem.row_lower - 1e-6).all()
        # a search of its own goes through what is left, whatever the rest costs
        found = TreeSearch(SearchState(problem, Limits(), Options(cores=1))).near(fixed, 5000)
        assert found.through
        best = None if found.plan is None else pytest.approx(problem.objective(found.plan), rel=1e-7, abs=1e-7)
        assert best == (None if whole.x is None else whole.objective), seed
    assert left_out > 0
