"""Problems of blocks: knapsacks against enumeration, bounds and plans by prices against other searches and programs."""

from __future__ import annotations

import pickle
from functools import cache
from itertools import product

import numpy as np
import pytest

from benchmarks.integer_families import assignment
from ruddock.engine import certificates
from ruddock.engine.outcome import Counters, Limits, Options
from ruddock.engine.solve import solve
from ruddock.engine.tree.blocks import begin, dive, search
from ruddock.engine.tree.blocks.knapsack import Knapsack
from ruddock.engine.tree.blocks.master import Master
from ruddock.engine.tree.blocks.prices import Generated, Generation
from ruddock.engine.tree.blocks.structure import taken_apart
from ruddock.engine.tree.domain import Domain, Step
from ruddock.engine.tree.state import SearchState
from ruddock.problem import INTEGER, Problem
from tests.integer_problems import enumerated, integer_problem

inf = np.inf


@pytest.fixture
def always(monkeypatch: pytest.MonkeyPatch) -> None:
    """Search by prices wherever there are blocks."""
    monkeypatch.setattr(begin, "PAYS", -inf)


@pytest.mark.parametrize("seed", range(40))
def test_knapsacks_against_enumeration(seed: int) -> None:
    rng = np.random.default_rng(seed)
    n = int(rng.integers(1, 7))
    weights, rooms = rng.integers(0, 8, (2, n)).astype(np.int64), rng.integers(0, 20, 2)
    if seed % 3:
        weights[0], rooms[0] = 0, 0
    most = rng.integers(1, 2 if seed % 2 else 5, n)
    values = rng.integers(-9, 4, n) / rng.choice([1.0, 3.0])
    low = (rng.integers(0, 3, n) * (rng.random(n) < 0.2)).clip(max=most).astype(np.int32)
    high = np.where(rng.random(n) < 0.2, low, most).astype(np.int32)
    points = [np.array(x) for x in product(*(range(a, b + 1) for a, b in zip(low, high, strict=True)))]
    fitting = [x for x in points if (weights @ x <= rooms).all()]
    knapsack, x = Knapsack(weights, (int(rooms[0]), int(rooms[1])), most), np.zeros(n, np.int32)
    for _ in range(2):  # nothing is left of the first time
        value = knapsack.best(values, low, high, x)
        assert value == pytest.approx(min((values @ p for p in fitting), default=inf))
    if fitting and (high - low).max() <= 1:
        assert (weights @ x <= rooms).all()
        assert values @ x == pytest.approx(value)
        other = np.zeros(n)
        knapsack.otherwise(values, low, high, x, other)
        for j in range(n):
            truth = min((values @ p for p in fitting if p[j] != x[j]), default=inf)
            assert other[j] == pytest.approx(truth)


@pytest.mark.parametrize("seed", range(50))
def test_a_search_by_prices_finds_what_enumeration_finds(seed: int, always: None) -> None:
    problem = integer_problem("blocks", seed)
    best = enumerated(problem)
    options = Options(heuristics=seed % 3 > 0, presolve=seed % 5 > 0)
    outcome = solve(problem, Limits(seconds=60), options)
    assert outcome.status == ("optimal" if best < inf else "infeasible")
    assert outcome.objective == pytest.approx(best)


@pytest.mark.parametrize("seed", range(25))
def test_a_bound_by_any_prices_is_one(seed: int) -> None:
    problem = integer_problem("blocks", seed)
    domain, best = Domain(problem), enumerated(problem)
    blocks = taken_apart(problem, domain.lower, domain.upper)
    if blocks is None:
        pytest.skip("a row of equal weights is no knapsack")
    generation = Generation(blocks, Master(blocks, Counters()), Step())
    for spread in (0.1, 1.0, 30.0):
        prices = spread * np.random.default_rng(seed).normal(size=len(blocks.rows))
        assert generation.priced(prices, blocks.lower, blocks.upper).bound <= best + 1e-9
    plain = solve(problem, options=Options(blocks=False))
    found = generation.run(blocks.lower, blocks.upper, inf, Limits())
    assert found.bound <= plain.objective + 1e-9


def test_what_one_process_finds_another_hears_of_once() -> None:
    problem = integer_problem("blocks", 3)
    domain = Domain(problem)
    blocks = taken_apart(problem, domain.lower, domain.upper)
    assert blocks is not None
    ours, theirs = Master(blocks, Counters()), Master(blocks, Counters())
    assert Generation(blocks, ours, Step()).run(blocks.lower, blocks.upper, inf, Limits()).taken
    told = pickle.loads(pickle.dumps(ours.pool.tell()))
    for _ in range(2):  # what is heard twice is known
        theirs.pool.hear(told)
    found = range(len(ours.pool.solutions))
    assert len(theirs.pool.solutions) == len(found) > 1
    for mine, other in zip(ours.pool.columns(np.array(found)), theirs.pool.columns(np.array(found)), strict=True):
        assert mine.tolist() == other.tolist()
    assert ours.pool.cost.tolist() == theirs.pool.cost.tolist()
    assert len(ours.pool.tell().groups) == len(theirs.pool.tell().groups) == 0


def bins(sizes: np.ndarray, room: int, most: int) -> Problem:
    """Items into bins, the fewest of them, in columns bin by bin."""
    items, width = len(sizes), len(sizes) + 1
    once = np.zeros((items, most * width))
    full = np.zeros((most, most * width))
    for b in range(most):
        once[np.arange(items), b * width + np.arange(items)] = 1.0
        full[b, b * width : (b + 1) * width] = [*sizes, -room]
    costs = np.tile(np.r_[np.zeros(items), 1.0], most)
    low, high = np.r_[np.ones(items), np.full(most, -inf)], np.r_[np.ones(items), np.zeros(most)]
    return Problem.build(np.vstack((once, full)), low, high, 0.0, 1.0, costs, np.full(len(costs), INTEGER, np.uint8))


@pytest.mark.parametrize(("items", "seed"), [(30, 1), (30, 2), (50, 3), (60, 4)])
def test_bins_are_packed_without_a_search(items: int, seed: int) -> None:
    """No fewer bins will do: by a step function that never lets a bin take more than one (Fekete and Schepers 2001)."""
    rng = np.random.default_rng(seed)
    sizes, room = rng.integers(26, 80, items), 100
    outcome = solve(bins(sizes, room, items), Limits(seconds=60))
    assert outcome.status == "optimal"
    assert outcome.counters.nodes == 0
    assert outcome.objective >= fewest(sizes.tolist(), room)
    assert outcome.objective == outcome.bound


def fewest(sizes: list[int], room: int) -> float:
    """Return how many bins there must be at least: items of over half a bin, and what does not fit beside them."""
    best = 0
    for least in range(room // 2 + 1):
        large = [s for s in sizes if s > room - least]
        middle = [s for s in sizes if room - least >= s > room / 2]
        small = [s for s in sizes if room / 2 >= s >= least]
        spare = len(middle) * room - sum(middle)
        best = max(best, len(large) + len(middle) + max(0, -(-(sum(small) - spare) // room)))
    return best


@pytest.mark.parametrize("seed", range(4))
def test_agents_and_jobs_against_a_dynamic_program(seed: int, always: None) -> None:
    agents, jobs = 3, 14
    rng = np.random.default_rng(seed)
    weight = rng.integers(1, 20, (agents, jobs))
    cost = 30 - weight + rng.integers(-4, 5, (agents, jobs))
    room = tuple((0.8 * weight.sum(axis=1) / agents).astype(int).tolist())

    @cache
    def least(job: int, left: tuple[int, ...]) -> float:
        if job == jobs:
            return 0.0
        ways = []
        for a in range(agents):
            after = left[a] - int(weight[a, job])
            if after >= 0:
                ways.append(float(cost[a, job]) + least(job + 1, (*left[:a], after, *left[a + 1 :])))
        return min(ways, default=inf)

    once = np.tile(np.eye(jobs), agents)
    full = np.zeros((agents, agents * jobs))
    for a in range(agents):
        full[a, a * jobs : (a + 1) * jobs] = weight[a]
    low, high = np.r_[np.ones(jobs), np.full(agents, -inf)], np.r_[np.ones(jobs), np.array(room, float)]
    kinds = np.full(agents * jobs, INTEGER, np.uint8)
    problem = Problem.build(np.vstack((once, full)), low, high, 0.0, 1.0, cost.ravel().astype(float), kinds)
    outcome = solve(problem, Limits(seconds=60), Options(heuristics=seed % 2 == 0))
    assert outcome.status == "optimal"
    assert outcome.objective == least(0, room)


def test_fixing_one_block_after_another_leads_to_better_plans(monkeypatch: pytest.MonkeyPatch) -> None:
    gains: list[float] = []

    def watched(
        state: SearchState, generation: Generation, found: Generated, lower: np.ndarray, upper: np.ndarray
    ) -> np.ndarray | None:
        here = lower.copy(), upper.copy()
        plan = dive.plan_by_fixing(state, generation, found, lower, upper)
        assert (lower == here[0]).all()  # the node's bounds stay as they are
        assert (upper == here[1]).all()
        if plan is not None:
            whole, p = np.round(plan), state.problem
            assert certificates.plan_holds(p, whole, p.activity(whole), lower, upper)
            gains.append(state.incumbent.value - p.objective(whole))
        return plan

    monkeypatch.setattr(search, "plan_by_fixing", watched)
    monkeypatch.setattr(search, "NEAR_EVERY", 2)
    for seed in range(2):
        solve(assignment("D", 4, 30)(seed), Limits(nodes=30), Options(cores=1))
    assert max(gains) > 0
