"""The equations of interior-point steps, judged by dense algebra; their order, correctors, and the crossover after them."""

from __future__ import annotations

from dataclasses import replace
from itertools import count
from typing import Any

import numpy as np
import pytest
from scipy import sparse

from ruddock.engine.interior import elimination, mehrotra, normal
from ruddock.engine.interior.elimination import EliminationTree, postorder, supernodes
from ruddock.engine.interior.mehrotra import interior_point
from ruddock.engine.interior.normal import NormalEquations, StoppedError, TooDenseError
from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.problem import Floats
from tests.exact import judge
from tests.generators import STRUCTURES, random_lp, two_product_staircase


def matrices() -> dict[str, sparse.csc_matrix]:
    """Matrices whose products have patterns of many kinds."""
    rng = np.random.default_rng(8)

    def scattered(m: int, n: int, density: float) -> sparse.csc_matrix:
        return sparse.csc_matrix(sparse.random(m, n, density, random_state=rng))

    arrow = sparse.lil_matrix((70, 70))
    arrow.setdiag(2.0)
    arrow[0] = arrow[:, 69] = 1.0
    return {
        "empty": sparse.csc_matrix((4, 3)),
        "one": sparse.csc_matrix(np.ones((1, 1))),
        "diagonal": sparse.identity(9, format="csc"),
        "arrow": sparse.csc_matrix(arrow),
        "chain": sparse.csc_matrix(sparse.diags([1.0, -0.7], [0, 1], shape=(300, 301))),
        "grid": sparse.csc_matrix(sparse.kronsum(*[sparse.diags([4.0, -1.0], [0, 1], shape=(18, 18))] * 2)),
        "dense": scattered(300, 310, 0.6),
        "filled": scattered(400, 700, 0.01),
        "thin": scattered(600, 500, 0.003),
        "blocks": sparse.csc_matrix(
            sparse.vstack([sparse.block_diag([scattered(60, 80, 0.1)] * 4), scattered(20, 320, 0.2)])
        ),
        "rows without entries": sparse.csc_matrix(sparse.vstack([scattered(30, 40, 0.1), sparse.csc_matrix((5, 40))])),
    }


@pytest.mark.parametrize("name", matrices())
def test_steps_solve_their_equations(name: str) -> None:
    a = matrices()[name]
    m, n = a.shape
    rng = np.random.default_rng(m)
    equations = NormalEquations(a)
    for spread in (0, 3):  # weights of an early step, and of a late one
        d, e = 10.0 ** rng.uniform(-spread, spread, n), 10.0 ** rng.uniform(-spread, spread, m)
        equations.factorise(d, e)
        right = rng.normal(size=m)
        dense = a @ sparse.diags(d) @ a.T + sparse.diags(e)
        found = equations.solve(right)
        size = abs(dense) @ np.abs(found) + np.abs(right)
        assert np.all(np.abs(dense @ found - right) <= 1e-9 * size.max(initial=0.0))


def test_what_cannot_be_factorised_is_told_and_what_is_too_much_is_not_begun() -> None:
    a = matrices()["filled"]
    equations = NormalEquations(a)
    with pytest.raises(ArithmeticError):
        equations.factorise(np.full(a.shape[1], np.nan), np.ones(a.shape[0]))
    equations.factorise(np.ones(a.shape[1]), np.ones(a.shape[0]))  # and the next one is none the worse for it
    right = np.ones(a.shape[0])
    assert (a @ (a.T @ (found := equations.solve(right))) + found) == pytest.approx(right, abs=1e-9)
    with pytest.raises(TooDenseError):
        NormalEquations(a, most=equations.work * 0.9)
    with pytest.raises(TooDenseError):
        NormalEquations(a, memory=8.0 * equations.entries)


def test_all_of_it_looks_at_the_limits(monkeypatch: pytest.MonkeyPatch) -> None:
    a = matrices()["filled"]
    monkeypatch.setattr(normal, "GRAPH_BUDGET", 100)
    monkeypatch.setattr(normal, "BUDGET", 1000.0)
    ones = np.ones(a.shape[1]), np.ones(a.shape[0])
    looks = count()
    equations = NormalEquations(a, lambda: next(looks) < 0)
    begun = next(looks)
    equations.factorise(*ones)
    done = next(looks) - 1
    assert begun > 20 and done - begun > 20
    for stop in (0, begun // 2, begun - 1, begun, (begun + done) // 2, done - 1):
        looks = count()
        with pytest.raises(StoppedError):
            NormalEquations(a, lambda looks=looks, stop=stop: next(looks) == stop).factorise(*ones)


def test_rows_that_link_goods_come_last_where_that_takes_less(monkeypatch: pytest.MonkeyPatch) -> None:
    # goods that flow through the same arcs: nodes for each good, and the room of each arc for all of them
    rng = np.random.default_rng(2)
    nodes, arcs, goods = 40, 160, 30
    ends = rng.integers(0, nodes, arcs), rng.integers(1, nodes, arcs)
    own = sparse.coo_matrix(
        (np.repeat([1.0, -1.0], arcs), (np.append(ends[0], (ends[0] + ends[1]) % nodes), np.tile(np.arange(arcs), 2)))
    )
    a = sparse.csc_matrix(sparse.vstack([sparse.block_diag([own] * goods), sparse.hstack([sparse.eye(arcs)] * goods)]))
    found = NormalEquations(a)
    assert sorted(found._order[-arcs:]) == list(range(goods * nodes, goods * nodes + arcs))
    monkeypatch.setattr(normal, "linking_rows", lambda pattern: None)
    assert found.work < 0.5 * NormalEquations(a).work


def test_what_has_no_optimum_is_given_up_soon() -> None:
    for structure in STRUCTURES:
        for wish in ("infeasible", "unbounded"):
            problem = random_lp(structure, 3, 60, 90, wish)
            found = interior_point(problem)
            assert found.converged == (LinearSolver(problem).solve().status == "optimal"), (structure, wish)
            assert found.steps < 80, (structure, wish)


def test_what_has_no_plan_is_proven_by_the_problem_of_phase_one(monkeypatch: pytest.MonkeyPatch) -> None:
    solved: list[int] = []
    begin = LinearSolver.solve

    def watched(self: LinearSolver, *args: Any, **kwargs: Any) -> Outcome:
        solved.append(self.problem.n)
        return begin(self, *args, **kwargs)

    monkeypatch.setattr(LinearSolver, "solve", watched)
    proven = 0
    for structure in STRUCTURES:
        problem = random_lp(structure, 3, 60, 90, "infeasible")
        solved.clear()
        judge(problem, solve(problem, options=Options(method="interior", presolve=False)))
        assert solved[0] > problem.n  # the columns of phase one
        proven += len(solved) == 1
    # where rounding spoils a proof, the simplex method goes on
    assert proven >= len(STRUCTURES) - 2
    for structure in STRUCTURES:
        problem = random_lp(structure, 3, 60, 90, "unbounded")
        judge(problem, solve(problem, options=Options(method="interior", presolve=False)))


@pytest.mark.parametrize("name", matrices())
@pytest.mark.parametrize("panel", [2, 128])
def test_supernodes_hold_what_elimination_fills(name: str, panel: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(elimination, "PANEL", panel)
    a = matrices()[name]
    pattern = ((a @ a.T).toarray() != 0) | np.eye(a.shape[0], dtype=bool)

    def upper(pattern: Floats) -> tuple[np.ndarray, np.ndarray]:
        half = sparse.csc_matrix(np.triu(pattern))
        return half.indptr.astype(np.int32), half.indices.astype(np.int32)

    tree = EliminationTree(*upper(pattern))
    assert tree.run(10**9)
    order = postorder(np.asarray(tree.parent))
    assert sorted(order) == list(range(len(order)))
    pattern = pattern[np.ix_(order, order)]
    tree = EliminationTree(*upper(pattern))
    assert tree.run(10**9)
    parent = np.asarray(tree.parent)
    assert list(postorder(parent)) == list(range(len(order)))
    filled = eliminated(pattern)
    assert list(tree.below) == list(np.tril(filled, -1).sum(axis=0))
    starts, heights = supernodes(parent, np.asarray(tree.below))
    assert starts[0] == 0 and starts[-1] == len(order) and np.all(np.diff(starts) > 0)
    assert np.diff(starts).max() <= panel
    for begin, end, height in zip(starts[:-1], starts[1:], heights, strict=True):
        below = filled[end:, begin:end].any(axis=1).sum()
        assert height == end - begin + below


def eliminated(pattern: Floats) -> Floats:
    """Return the lower half with all entries that elimination fills, one column after the other."""
    filled = np.tril(pattern)
    for j in range(len(filled)):
        below = np.flatnonzero(filled[j + 1 :, j]) + j + 1
        filled[np.ix_(below, below)] = True
    return np.tril(filled)


def test_correctors_save_steps(monkeypatch: pytest.MonkeyPatch) -> None:
    problems = [random_lp(structure, 7, 80, 120, "optimal") for structure in STRUCTURES]

    def steps() -> int:
        found = [interior_point(problem) for problem in problems]
        assert all(near.converged for near in found)
        return sum(near.steps for near in found)

    monkeypatch.setattr(mehrotra, "CORRECTORS", ())
    plain = steps()
    monkeypatch.setattr(mehrotra, "CORRECTORS", (0.0, 0.0, 0.0))
    assert steps() < 0.9 * plain


def test_factors_of_a_crossover_age_before_they_are_made_anew() -> None:
    # without costs everything feasible is optimal: the interior point lies between nearly all bounds
    problem = two_product_staircase(400)
    problem = replace(problem, costs=np.zeros(problem.n))
    near = interior_point(problem)
    assert near.converged
    solver = LinearSolver(problem)
    solver.cross_over(near.values, near.reduced, Limits())
    counters = solver.counters
    assert counters.pushes > 200
    assert counters.factorisations <= 2 + counters.pushes // 50
    outcome = solver.solve()
    judge(problem, outcome)
    assert outcome.counters.iterations == counters.pushes
