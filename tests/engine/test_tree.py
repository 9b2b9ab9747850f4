"""Integer and semicontinuous problems, against enumeration, dynamic programs and known constants."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from itertools import combinations, product
from typing import Any

import numpy as np
import pytest
from scipy import sparse

from benchmarks.integer_families import general, knapsacks, vans
from ruddock import demos
from ruddock.engine import outcome as outcomes
from ruddock.engine.outcome import Limits, Options, Outcome, Progress
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.engine.tree import branching, cutting, effort, hands, heuristics, root, workers
from ruddock.engine.tree import search as search_module
from ruddock.engine.tree.cliques import Cliques
from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.engine.tree.dominance import dominated
from ruddock.engine.tree.frontier import Node
from ruddock.engine.tree.heuristics import jump
from ruddock.engine.tree.integral import implied_integers
from ruddock.engine.tree.merging import merge_cliques
from ruddock.engine.tree.portfolio import LEAST, MOST, Portfolio
from ruddock.engine.tree.pseudocosts import PseudoCosts
from ruddock.engine.tree.relaxation import Relaxation
from ruddock.engine.tree.search import TreeSearch
from ruddock.engine.tree.state import SearchState
from ruddock.engine.tree.symmetry.parts import ordering_rows, with_sums
from ruddock.engine.tree.tighten import propagator
from ruddock.engine.tree.workload import work_done
from ruddock.problem import INTEGER, SEMICONTINUOUS, Problem
from tests.engine.faults import search
from tests.generators import inf
from tests.integer_problems import STRUCTURES, choices, enumerated, integer_problem

SETTINGS = (
    Options(presolve=False),
    Options(cuts=False),
    Options(heuristics=False),
    Options(branching="plain"),
    Options(symmetry=False),
    Options(presolve=False, cuts=False, heuristics=False, symmetry=False, branching="plain"),
)


def assert_whole(problem: Problem, x: np.ndarray) -> None:
    whole = (problem.kinds & INTEGER) != 0
    assert (x[whole] == np.round(x[whole])).all()
    semi = (problem.kinds & SEMICONTINUOUS) != 0
    assert ((x[semi] == 0) | ((x[semi] >= problem.lower[semi]) & (x[semi] <= problem.upper[semi]))).all()
    assert problem.matrix() @ x == pytest.approx(np.clip(problem.matrix() @ x, problem.row_lower, problem.row_upper))


@pytest.mark.parametrize("structure", STRUCTURES)
def test_random_problems_against_enumeration(structure: str) -> None:
    for seed in (*range(28), 1005, 1017):  # the last two: bounds of semicontinuous columns that rows narrow
        problem = integer_problem(structure, seed)
        best = enumerated(problem)
        for options in (Options(), SETTINGS[seed % len(SETTINGS)]):
            outcome = solve(problem, options=options)
            if best == inf:
                assert outcome.status == "infeasible", seed
                continue
            assert outcome.status == "optimal", seed
            assert outcome.objective == pytest.approx(best, abs=1e-6), seed
            assert outcome.gap <= 1e-8
            assert_whole(problem, outcome.x)


def test_children_go_on_from_the_factors_of_their_parents() -> None:
    counters = solve(search(2), options=Options(cores=1, cuts=False)).counters
    assert counters.nodes > 100
    assert counters.factorisations < 1.2 * counters.nodes  # those of trials, dives and nodes taken up among them


def knapsack(correlated: bool) -> tuple[Problem, float]:
    """Return a 30-item knapsack and its best value by dynamic programming."""
    rng = np.random.default_rng(30)
    weight = rng.integers(10, 100, 30)
    value = weight + rng.integers(5, 16, 30) if correlated else rng.integers(10, 100, 30)
    room = int(weight.sum() // 2)
    best = np.zeros(room + 1)
    for w, v in zip(weight, value, strict=True):
        best[w:] = np.maximum(best[w:], best[:-w] + v)
    problem = Problem.build([weight], [-inf], [room], np.zeros(30), np.ones(30), -value, np.full(30, INTEGER))
    return problem, float(best[-1])


@pytest.mark.parametrize("correlated", [False, True])
def test_knapsack_against_a_dynamic_program(correlated: bool) -> None:
    problem, best = knapsack(correlated)
    outcome = solve(problem, Limits(seconds=60))
    assert outcome.status == "optimal"
    assert -outcome.objective == best


def location(sites: int, customers: int) -> tuple[Problem, float]:
    """Return a location problem and its best cost by enumeration of the sites to open."""
    rng = np.random.default_rng(10)
    fixed, serve = rng.integers(100, 300, sites), rng.integers(5, 100, (sites, customers))
    best = min(
        fixed[list(chosen)].sum() + serve[list(chosen)].min(axis=0).sum()
        for size in range(1, sites + 1)
        for chosen in combinations(range(sites), size)
    )
    cells = np.arange(sites * customers)
    site, customer = np.divmod(cells, customers)
    served = sparse.coo_matrix((np.ones(len(cells)), (customer, sites + cells)), shape=(customers, sites + len(cells)))
    only_open = sparse.coo_matrix(
        (np.repeat([1.0, -1.0], len(cells)), (np.tile(cells, 2), np.concatenate((sites + cells, site)))),
        shape=(len(cells), sites + len(cells)),
    )
    n = sites + len(cells)
    problem = Problem.build(
        sparse.vstack([served, only_open]),
        np.concatenate((np.ones(customers), np.full(len(cells), -inf))),
        np.concatenate((np.ones(customers), np.zeros(len(cells)))),
        np.zeros(n),
        np.ones(n),
        np.concatenate((fixed, serve.ravel())),
        np.concatenate((np.full(sites, INTEGER), np.zeros(len(cells), int))),
    )
    return problem, float(best)


def test_location_against_enumeration() -> None:
    problem, best = location(10, 30)
    outcome = solve(problem)
    assert outcome.status == "optimal"
    assert outcome.objective == pytest.approx(best)


def steiner_triples() -> Problem:
    """Return the cover of all triples of points of GF(3)^3 that add up to zero."""
    points = list(product(range(3), repeat=3))
    triples = {
        frozenset((p, q, tuple((-a - b) % 3 for a, b in zip(p, q, strict=True)))) for p, q in combinations(points, 2)
    }
    a = np.array([[float(point in triple) for point in points] for triple in sorted(triples, key=sorted)])
    return Problem.build(
        a, np.ones(len(a)), np.full(len(a), inf), np.zeros(27), np.ones(27), np.ones(27), np.full(27, INTEGER)
    )


def test_steiner_triple_cover_of_27() -> None:
    problem = steiner_triples()
    assert problem.m == 117
    outcome = solve(problem, Limits(seconds=120))
    assert outcome.status == "optimal"
    assert outcome.objective == outcome.bound == 18


@pytest.mark.parametrize("limit", [{"nodes": 20}, {"iterations": 400}, {"seconds": 0.2}])
def test_a_limit_keeps_the_best_plan_with_its_bound(limit: dict[str, float]) -> None:
    outcome = solve(steiner_triples(), Limits(**limit), Options(symmetry=False))
    assert outcome.status == "stopped"
    assert outcome.reason in ("nodes", "iterations", "time")
    assert outcome.x is not None
    least = 0 if "seconds" in limit else 9  # in so little time a busy machine may not come to the root
    assert least <= outcome.bound < 18 <= outcome.objective
    assert outcome.gap == pytest.approx((outcome.objective - outcome.bound) / outcome.objective)


def test_an_interruption_keeps_the_best_plan() -> None:
    asked = iter(range(100_000))
    outcome = solve(steiner_triples(), Limits(interrupted=lambda: next(asked) > 3000), Options(symmetry=False))
    assert (outcome.status, outcome.reason) == ("stopped", "user")
    assert outcome.x is not None


def test_a_gap_ends_the_search_early_and_holds() -> None:
    problem, best = knapsack(correlated=True)
    exact, loose = solve(problem), solve(problem, Limits(gap=0.02))
    assert loose.status == "optimal"
    assert loose.gap <= 0.02
    assert loose.bound <= -best + 1e-6
    assert -loose.objective >= best * 0.98
    assert loose.counters.nodes <= exact.counters.nodes


def test_unbounded_with_integers_has_a_point_and_a_ray() -> None:
    problem = Problem.build([[1.0, -1.0]], [-inf], [2.5], [0, 0], [inf, inf], [-1, -1], [INTEGER, 0])
    outcome = solve(problem)
    assert outcome.status == "unbounded"
    assert outcome.x[0] == round(outcome.x[0])
    assert problem.costs @ outcome.ray < 0


def test_unbounded_relaxation_without_a_whole_plan_is_infeasible() -> None:
    a = [[2.0, 0.0], [0.0, 1.0]]
    problem = Problem.build(a, [1, 0], [1, inf], [0, 0], [5, inf], [0, -1], [INTEGER, 0])
    assert solve(problem).status == "infeasible"


def test_progress_is_told_with_bounds_that_hold() -> None:
    heard = []
    best = solve(search(3), Limits(on_progress=heard.append), Options(cores=1)).objective
    assert heard
    assert all(progress.bound <= best + 1e-6 for progress in heard)
    assert all(progress.best >= best for progress in heard)
    assert [p.nodes for p in heard] == sorted(p.nodes for p in heard)


def test_a_long_solve_within_a_search_tells_where_the_search_stands(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(effort, "SILENT", 0.0)
    monkeypatch.setattr(outcomes, "BETWEEN_REPORTS", 0.0)
    monkeypatch.setattr(effort, "BETWEEN_REPORTS", 0.0)
    heard: list[Progress] = []
    best = solve(search(3), Limits(on_progress=heard.append), Options(cores=1)).objective
    assert {"search", "dual simplex"} <= {progress.phase for progress in heard}
    inside = [progress for progress in heard if progress.phase != "search"]
    assert any(np.isfinite(progress.best) and np.isfinite(progress.bound) for progress in inside)
    assert all(progress.bound <= best + 1e-6 and progress.best >= best - 1e-6 for progress in heard)


def after_root(problem: Problem) -> SearchState:
    """Return a search whose root is done; it knows of no plan, so that none is left out for being no better."""
    search = TreeSearch(SearchState(problem, Limits(nodes=2), Options(heuristics=False, symmetry=False)))
    search.state.incumbent.try_plan = lambda x: False  # type: ignore[method-assign]
    search.run()
    return search.state


def left_by_root(state: SearchState, points: np.ndarray) -> Iterator[tuple[np.ndarray, Problem]]:
    """Return points within the bounds of a root, each with the relaxation where whole columns are fixed to it.

    Fixing by costs may leave out plans that are no better than others.
    """
    (lower, upper), kinds = (state.bounds.lower, state.bounds.upper), state.problem.kinds
    whole = kinds == INTEGER
    for point in points:
        if ((point >= lower - 1e-9) & (point <= upper + 1e-9))[whole].all():
            low, high = np.where(whole, point, lower), np.where(whole, point, upper)
            yield point, replace(state.relaxation.problem, lower=low, upper=high, kinds=np.zeros_like(kinds))


def test_cuts_and_tightening_leave_no_whole_plan_out() -> None:
    cut: Counter[str] = Counter()
    # semicontinuous columns are no points, and blocks have nothing of their own in a tree
    for structure, seed in product((s for s in STRUCTURES if s not in ("mixed", "blocks")), range(500, 506)):
        problem = integer_problem(structure, seed)
        state = after_root(problem)
        cut.update(state.cut_counts)
        for point, fixed in left_by_root(state, whole_plans(problem)[:50]):
            assert solve(fixed).status == "optimal", (structure, seed, point)
    assert set(cut) == {"rounding", "tableau", "cover", "clique", "implied bound", "zero-half", "path"}
    assert sum(cut.values()) >= 250


def whole_plans(problem: Problem) -> np.ndarray:
    """Return the points of integer columns that have a plan; other columns are 0 there."""
    whole = problem.kinds == INTEGER
    values = [[low for low, _ in span] if w else [0.0] for span, w in zip(choices(problem), whole, strict=True)]
    points = np.array(list(product(*values)))
    if whole.all():
        activity = points @ problem.matrix().toarray().T
        keeps = (activity >= problem.row_lower - 1e-9) & (activity <= problem.row_upper + 1e-9)
        return points[keeps.all(axis=1)]
    keeps = []
    for point in points:
        bounds = np.where(whole, point, problem.lower), np.where(whole, point, problem.upper)
        part = replace(problem, lower=bounds[0], upper=bounds[1], kinds=np.zeros_like(problem.kinds))
        keeps.append(solve(part).status == "optimal")
    return points[keeps]


def test_cuts_come_from_the_tableau_of_their_point(monkeypatch: pytest.MonkeyPatch) -> None:
    rounds = []
    separated = cutting.tableau_rows

    def rows(frame: Frame, solver: LinearSolver) -> list[Cut]:
        between = (frame.x > frame.lower + 1e-6) & (frame.x < frame.upper - 1e-6)
        assert set(np.flatnonzero(between)) <= set(solver.head)
        rounds.append(separated(frame, solver))
        return rounds[-1]

    monkeypatch.setattr(cutting, "tableau_rows", rows)
    solve(general(30, 40)(2), Limits(nodes=100), Options(cores=1))  # jumps and dives come before the cuts
    assert len(rounds) > 1
    assert rounds[0]


def test_cuts_with_which_numbers_are_too_hard_are_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    problem = integer_problem("fixed charge", 3)
    plain = solve(problem, options=Options(cores=1, presolve=False))
    assert sum(plain.counters.cuts.values()) > 0
    as_it_is = Relaxation.solve

    def hard(self: Relaxation, *given: Any, **more: Any) -> Outcome:
        if self.problem.m > problem.m:
            return Outcome("stopped", "numerics")
        return as_it_is(self, *given, **more)

    monkeypatch.setattr(Relaxation, "solve", hard)
    outcome = solve(problem, options=Options(cores=1, presolve=False))
    assert outcome.status == "optimal"
    assert outcome.objective == pytest.approx(plain.objective)


def test_identical_parts_are_found_and_ordered() -> None:
    problem = integer_problem("symmetric", 3)
    wide = with_sums(problem)
    assert wide is not None
    assert wide.n > problem.n
    rows = ordering_rows(problem, problem, problem.lower, problem.upper, orbits_follow=False)
    assert rows is not None
    matrix, low, high = rows
    best = enumerated(problem)
    kept = [p for p in whole_plans(problem) if (matrix @ p >= low - 1e-9).all() and (matrix @ p <= high + 1e-9).all()]
    assert min(problem.costs @ p for p in kept) == best
    assert len(kept) < len(whole_plans(problem))
    other = integer_problem("ordering", 1)
    assert ordering_rows(other, other, other.lower, other.upper, orbits_follow=False) is None


def test_whole_numbers_are_seen_in_continuous_columns() -> None:
    # z = 2a + 3b is whole by its equation; times t, u differ by whole numbers; v stands beside a third of a
    rows = [[2, 3, -1, 0, 0, 0], [5, 0, 0, 1, -1, 0], [0, 1, 0, 0, 1, 0], [1, 0, 0, 0, 0, 3]]
    kinds = [1, 1, 0, 0, 0, 0]
    problem = Problem.build(rows, [0, 2, -inf, 0], [0, inf, 9, 7], np.zeros(6), np.full(6, 20.0), np.ones(6), kinds)
    assert implied_integers(problem).tolist() == [False, False, True, True, True, False]
    assert implied_integers(problem, complete=False).tolist() == [False, False, True, False, False, False]
    bent = replace(problem, upper=np.array([20, 20, 20, 20, 19.5, 20]))
    assert implied_integers(bent).tolist() == [False, False, True, False, False, False]


def test_clique_rows_merge_and_leave_the_same_whole_plans() -> None:
    merged_some = 0
    for seed in range(30):
        problem = integer_problem("conflicts", seed)
        cliques = Cliques(problem.n)
        cliques.add_rows(problem, problem.lower, problem.upper)
        merged = merge_cliques(problem, cliques, problem.lower, problem.upper)
        if merged is not None:
            merged_some += 1
            assert merged.m < problem.m
            assert np.array_equal(whole_plans(merged), whole_plans(problem))
    assert merged_some >= 25


def test_of_like_columns_the_cheaper_one_comes_first() -> None:
    ordered = fixed = 0
    for seed in range(40):
        problem = integer_problem("alike", seed)
        columns, rows = dominated(problem, problem.lower, problem.upper)
        upper = problem.upper.copy()
        upper[columns] = problem.lower[columns]
        k = rows.shape[0]
        fewer = replace(problem, upper=upper).with_rows(rows, np.zeros(k), np.full(k, inf))
        assert enumerated(fewer) == pytest.approx(enumerated(problem)), seed
        ordered, fixed = ordered + k, fixed + len(columns)
    assert ordered > 30
    assert fixed > 20


@pytest.fixture
def early(monkeypatch: pytest.MonkeyPatch) -> None:
    """Let a helper join after a moment, whatever this machine has."""
    monkeypatch.setattr(workers, "CALLED", 0.05)
    monkeypatch.setattr(workers, "WORTH", 0.1)
    monkeypatch.setattr(hands, "may_start", lambda: True)


@pytest.mark.usefixtures("early")
def test_a_helper_takes_its_share_in_another_process_or_in_turn(monkeypatch: pytest.MonkeyPatch) -> None:
    problem, limits = steiner_triples(), (Limits(nodes=300), Limits(nodes=200))
    found = [solve(problem, limit, Options(symmetry=False)) for limit in limits]
    monkeypatch.setattr(hands, "may_start", lambda: False)
    monkeypatch.setattr(workers, "CALLED_BY", 0.0)  # the path does not depend on when a helper is called
    for stopped, limit in zip(found, limits, strict=True):
        again = solve(problem, limit, Options(symmetry=False))
        assert (stopped.counters.nodes, stopped.counters.iterations) == (
            again.counters.nodes,
            again.counters.iterations,
        )
        assert (stopped.reason, stopped.counters.nodes) == ("nodes", limit.nodes)
        assert stopped.bound < 18 <= stopped.objective
    # the limit holds where it falls due with one share out, too
    assert solve(problem, Limits(nodes=3300), Options(symmetry=False, cuts=False)).counters.nodes == 3300


def test_a_short_search_calls_a_helper_and_never_waits_for_it(monkeypatch: pytest.MonkeyPatch) -> None:
    called, given = [], []
    monkeypatch.setattr(hands, "may_start", lambda: False)
    monkeypatch.setattr(hands.InTurn, "prepare", lambda *_: given.append(1))
    monkeypatch.setattr(hands.InTurn, "close", lambda *_: called.append(1))
    assert demos.build("tariff").solve().effort.nodes > 20  # bounded by prices, in about a second
    assert called and not given


@pytest.mark.usefixtures("early")
def test_a_helper_is_given_as_much_as_the_search_does_searches_near_plans_included(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    given, stood, ahead = [], [], []
    meet, give = workers.Team.meet, workers.Team._give

    def met(team: workers.Team, state: SearchState, **how: Any) -> None:
        before = len(given)
        meet(team, state, **how)
        if len(given) > before:
            stood.append(work_done(state))
            ahead.append(how.get("ahead", 0.0))

    def gave(team: workers.Team, state: SearchState, lent: int, back: int, most_nodes: int, work: float) -> None:
        given.append(work)
        give(team, state, lent, back, most_nodes, work)

    monkeypatch.setattr(hands, "may_start", lambda: False)
    monkeypatch.setattr(workers, "BETWEEN", 0.02)
    monkeypatch.setattr(workers, "LEAST", 1e-4)
    monkeypatch.setattr(workers.Team, "meet", met)
    monkeypatch.setattr(workers.Team, "_give", gave)
    assert solve(knapsacks(5, 40)(2)).status == "optimal"
    assert len(given) > 20
    assert any(ahead)
    # each share is what was done since the last one; the work ahead that the last ones were given for is done by now
    assert sum(given[2:]) == pytest.approx(stood[-1] - stood[1] + ahead[-1] - ahead[1], rel=0.05)


@pytest.mark.usefixtures("early")
def test_what_branches_are_worth_is_told_once_and_forgotten_on_neither_side(monkeypatch: pytest.MonkeyPatch) -> None:
    learnt: Counter[int] = Counter()  # by whose costs they are: gains learnt there
    sides: list[SearchState] = []
    learn, work_on = PseudoCosts.learn, workers.work_on

    def counted(self: PseudoCosts, *gain: Any) -> None:
        before = self.count.sum()
        learn(self, *gain)
        learnt[id(self)] += int(self.count.sum() - before)

    def watched(helper: SearchState, share: hands.Share, *rest: Any) -> hands.Return:
        told = share.costs.count.sum()
        before = helper.costs.count.sum()
        done = work_on(helper, share, *rest)
        # nothing that was known before is left out, the share's is added, and what comes back is new
        assert helper.costs.count.sum() == before + told + done.costs.count.sum()
        sides[1:] = [helper]
        return done

    def begun(team: workers.Team, state: SearchState, *rest: Any) -> None:
        sides[:] = [state]
        begin(team, state, *rest)

    begin = workers.Team.__init__
    monkeypatch.setattr(hands, "may_start", lambda: False)
    monkeypatch.setattr(PseudoCosts, "learn", counted)
    monkeypatch.setattr(workers, "work_on", watched)
    monkeypatch.setattr(workers.Team, "__init__", begun)
    assert solve(steiner_triples(), options=Options(symmetry=False, cuts=False)).status == "optimal"
    own, helper = (side.costs for side in sides)
    assert min(learnt[id(own)], learnt[id(helper)]) > 100
    assert own.count.sum() == learnt[id(own)] + learnt[id(helper)]
    np.testing.assert_allclose([own.gains[side].sum() / own.count[side].sum() for side in (0, 1)], own.means)


def test_the_root_begins_anew_where_much_is_fixed(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(root, "FEWEST", 2)
    monkeypatch.setattr(root, "RESTART_SHARE", 0.05)
    monkeypatch.setattr(search_module, "jump", lambda state: None)  # which finds the best plan before there is a root
    monkeypatch.setattr(heuristics, "jump_around", lambda *_: None)
    restarts = 0
    for seed in range(25):
        for structure in ("knapsacks", "fixed charge", "ordering"):
            problem = integer_problem(structure, seed)
            outcome = solve(problem)
            restarts += outcome.counters.tightened.get("restarts", 0)
            best = enumerated(problem)
            assert outcome.status == ("infeasible" if best == inf else "optimal")
            assert best == inf or outcome.objective == pytest.approx(best, abs=1e-6)
    assert restarts >= 5


def test_trials_of_branches_take_what_nodes_pay_for(monkeypatch: pytest.MonkeyPatch) -> None:
    problem, efforts = search(3), list[effort.Effort]()
    begun = effort.Effort.begin_node

    def watched(self: effort.Effort) -> None:
        efforts.append(self)
        begun(self)

    monkeypatch.setattr(effort.Effort, "begin_node", watched)
    objectives, taken = set[float](), list[float]()
    for entries in (branching.ENTRIES, 0):
        monkeypatch.setattr(branching, "ENTRIES", entries)
        objectives.add(solve(problem, options=Options(cores=1)).objective)
        largest = max(efforts, key=lambda one: one.own_nodes)
        taken.append(largest.touched["trials"] / largest.touched["nodes"])
        efforts.clear()
    assert len(objectives) == 1
    assert taken[1] < min(taken[0], 2 * branching.SHARE)


def test_a_memory_limit_ends_the_search() -> None:
    outcome = solve(steiner_triples(), Limits(memory=400_000), Options(symmetry=False))
    assert (outcome.status, outcome.reason) == ("stopped", "memory")
    assert outcome.x is not None


@pytest.mark.parametrize("problem", [search(3), vans(16, 3)(4)], ids=["one search", "once more with sums of columns"])
def test_the_history_tells_better_and_better_plans(problem: Problem) -> None:
    told: list[float] = []
    outcome = solve(problem, Limits(nodes=2000, on_plan=lambda x: told.append(problem.objective(x))))
    best = [moment.best for moment in outcome.history]
    assert best == sorted(best, reverse=True)
    assert told == sorted(told, reverse=True)
    assert told[-1] == outcome.objective
    assert best[-1] == outcome.objective
    assert all(moment.bound <= moment.best for moment in outcome.history)
    again = solve(problem, Limits(nodes=2000))
    assert again.counters.nodes == outcome.counters.nodes  # the same search every time


def test_propagation_ends_where_bounds_meet_within_tolerance() -> None:
    inf = np.inf
    problem = Problem.build([[1.0, 1.0]], [-inf], [-5e-8], [0, 0], [5, 5], [1, 1])
    lower, upper = problem.lower.copy(), problem.upper.copy()
    rows = propagator(problem)
    assert rows.run(lower, upper, None, 1_000_000) == 2
    assert upper.tolist() == [0, 0]
    assert rows.work < 100  # a bound that is met already is no move, and its rows are not looked at again


@pytest.mark.parametrize("seed", range(40))
def test_propagation_knows_that_one_of_a_group_is_chosen(seed: int) -> None:
    rng = np.random.default_rng(seed)
    things, modes = 3, 4
    n = things * modes + 1
    takes = np.append(rng.integers(1, 10, n - 1) * rng.choice([-1.0, 1.0], n - 1), 2.0)
    takes[0] = 0.0  # no entry at all
    one = np.append(np.kron(np.eye(things), np.ones(modes)), np.zeros((things, 1)), axis=1)
    one[:, rng.permutation(n - 1)] = one[:, : n - 1]
    plans = np.array([p for p in product((0.0, 1.0), repeat=n - 1) if (one[:, :-1] @ p == 1).all()])
    least = np.append(plans, np.full((len(plans), 1), 0.0), axis=1) @ takes  # the last column may be 0 to 2
    limit = float(np.quantile(least, rng.uniform(0, 0.3)))
    sign = rng.choice([-1.0, 1.0])
    matrix = np.vstack((one, sign * takes))
    low, high = (np.append(np.ones(things), end) for end in ((-limit, np.inf) if sign < 0 else (-np.inf, limit)))
    kinds = np.append(np.full(n - 1, INTEGER), 0)
    problem = Problem.build(matrix, low, high, np.zeros(n), np.append(np.ones(n - 1), 2.0), np.zeros(n), kinds)
    lower, upper = problem.lower.copy(), problem.upper.copy()
    assert propagator(problem).run(lower, upper, None, 1_000_000) >= 0
    kept = plans[least <= limit]
    assert upper[:-1].tolist() == kept.max(axis=0).tolist()
    assert lower[:-1].tolist() == kept.min(axis=0).tolist()


def tight_assignment(size: int, sides: int, seed: int) -> Problem:
    """Return an assignment with limits beside it that few assignments keep."""
    rng = np.random.default_rng(seed)
    ones = sparse.vstack([sparse.kron(sparse.eye(size), np.ones(size)), sparse.kron(np.ones(size), sparse.eye(size))])
    weights = rng.integers(1, 50, (sides, size * size)).astype(float)
    low = np.append(np.ones(2 * size), np.full(sides, -np.inf))
    high = np.append(np.ones(2 * size), np.full(sides, 15.0 * size))
    n = size * size
    costs = rng.integers(1, 100, n).astype(float)
    matrix = sparse.vstack([ones, sparse.csr_matrix(weights)]).tocsc()
    return Problem.build(matrix, low, high, np.zeros(n), np.ones(n), costs, np.full(n, INTEGER))


def test_searches_around_relaxations_and_plans_find_what_nodes_miss(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(search_module, "jump", lambda state: None)
    monkeypatch.setattr(heuristics, "round_by_locks", lambda state, *_: state.problem.lower)
    for name in ("jump_around", "fix_and_propagate", "dive", "pump", "polish"):
        monkeypatch.setattr(heuristics, name, lambda *_, **__: None)
    problems = [tight_assignment(17, 3, seed) for seed in (0, 1, 4, 7)]

    def found() -> tuple[int, float]:
        outcomes = [solve(problem, Limits(nodes=30), Options(cores=1)) for problem in problems]
        for problem, outcome in zip(problems, outcomes, strict=True):
            if outcome.x is not None:
                assert_whole(problem, outcome.x)
        values = [outcome.objective for outcome in outcomes if outcome.x is not None]
        return len(values), sum(values) / max(1, len(values))

    count, mean = found()
    monkeypatch.setattr(heuristics, "near_plan", lambda *_: None)
    only_first, worse = found()
    monkeypatch.setattr(heuristics, "search_around", lambda *_: None)
    assert count == only_first == len(problems)
    assert mean < worse
    assert found()[0] < count


def test_a_neighbourhood_grows_where_it_is_searched_through_and_shrinks_where_not() -> None:
    tried = Portfolio().choose()
    for through in (True, False):
        before = tried.share
        tried.learn(better=False, through=through)
        assert (tried.share < before) == through
        for _ in range(50):
            tried.learn(better=False, through=through)
        assert tried.share == (LEAST if through else MOST)


def lot_sizing(items: int, periods: int, seed: int) -> Problem:
    """Return set-ups, amounts and stock of items that share the hours of each period."""
    rng = np.random.default_rng(seed)
    need = rng.integers(0, 60, (items, periods)).astype(float)
    cells = np.arange(items * periods).reshape(items, periods)
    n, later = cells.size, cells[:, 1:].ravel()
    one = np.ones(n)
    before = sparse.csr_matrix((np.ones(len(later)), (later, later - 1)), (n, n))
    kept = sparse.hstack([sparse.csr_matrix((n, n)), sparse.eye(n), before - sparse.eye(n)])
    most = need[:, ::-1].cumsum(axis=1)[:, ::-1].ravel()
    within = sparse.hstack([-sparse.diags(most), sparse.eye(n), sparse.csr_matrix((n, n))])
    by_period = sparse.csr_matrix((one, (cells.ravel() % periods, cells.ravel())), (periods, n))
    hours = sparse.hstack([5.0 * by_period, by_period, sparse.csr_matrix((periods, n))])
    room = np.full(periods, 1.6 * need.sum() / periods + 5.0 * items)
    low = np.concatenate((need.ravel(), np.full(n + periods, -np.inf)))
    high = np.concatenate((need.ravel(), np.zeros(n), room))
    costs = np.concatenate((rng.integers(60, 200, n), np.zeros(n), rng.integers(1, 4, n))).astype(float)
    kinds = np.concatenate((np.full(n, INTEGER), np.zeros(2 * n))).astype(np.uint8)
    matrix = sparse.vstack([kept, within, hours]).tocsc()
    upper = np.concatenate((one, np.full(2 * n, np.inf)))
    return Problem.build(matrix, low, high, np.zeros(3 * n), upper, costs, kinds)


def test_lots_are_nearly_settled_at_the_root() -> None:
    for seed in (1, 2):
        problem = lot_sizing(20, 12, seed)
        outcome = solve(problem, Limits(nodes=2), Options(cores=1))
        assert outcome.counters.cuts["path"] > 20
        assert_whole(problem, outcome.x)
        assert outcome.gap <= 0.01


def test_rounding_up_gives_a_plan_where_nothing_else_does(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(search_module, "jump", lambda state: None)
    for name in ("jump_around", "search_around", "fix_and_propagate", "dive", "pump"):
        monkeypatch.setattr(heuristics, name, lambda *_, **__: None)
    problem = lot_sizing(30, 12, 1)
    outcome = solve(problem, Limits(nodes=2), Options(cores=1))
    assert outcome.x is not None
    assert_whole(problem, outcome.x)
    monkeypatch.setattr(heuristics, "round_all", lambda *_: None)
    assert solve(problem, Limits(nodes=2), Options(cores=1)).x is None


def test_jumps_around_a_relaxation_come_near_to_its_bound() -> None:
    for seed in (0, 2):
        problem = tight_assignment(80, 0, seed)
        state = SearchState(problem, Limits(), Options())
        root.prepare(state)
        state.frontier.begin(Node(-np.inf))
        jump(state)
        before = state.incumbent.value
        relaxed = state.relax(state.bounds.lower, state.bounds.upper, quick=False)
        assert relaxed.x is not None
        heuristics.jump_around(state, heuristics.Point(relaxed.x, relaxed.reduced))
        assert before > relaxed.objective + 1
        assert state.incumbent.value == pytest.approx(relaxed.objective)  # an assignment's point is whole


def test_a_search_stopped_at_once_has_a_plan() -> None:
    rng = np.random.default_rng(4)
    items, bins = 40, 20
    weight = rng.integers(20, 101, items)
    a = sparse.lil_matrix((items + bins, items * bins + bins))
    for i in range(items):
        a[i, i * bins : (i + 1) * bins] = 1.0
        for b in range(bins):
            a[items + b, i * bins + b] = weight[i]
    a[np.arange(items, items + bins), np.arange(items * bins, items * bins + bins)] = -150.0
    low, high = np.append(np.ones(items), np.full(bins, -np.inf)), np.append(np.ones(items), np.zeros(bins))
    costs = np.append(np.zeros(items * bins), np.ones(bins))
    n = len(costs)
    problem = Problem.build(a.tocsc(), low, high, np.zeros(n), np.ones(n), costs, np.ones(n, np.uint8))
    stopped = solve(problem, Limits(iterations=1))
    assert stopped.status == "stopped"
    assert stopped.x is not None
    assert (stopped.x == np.round(stopped.x)).all()
    assert np.ceil(weight.sum() / 150) <= stopped.objective <= bins
