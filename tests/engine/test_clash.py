"""Clashes: infeasible as they stand, and feasible without any one member; least changes against elimination."""

from __future__ import annotations

import itertools
from collections import Counter
from dataclasses import replace

import numpy as np
import pytest

from ruddock.engine.clash import Clash, Member, _Kept, find_clash, find_clashes
from ruddock.engine.elastic import Room, fewest_rows, least_changes
from ruddock.engine.implied import contradiction_chain
from ruddock.engine.outcome import Limits
from ruddock.engine.presolve.chain import Presolve
from ruddock.engine.solve import solve
from ruddock.problem import Problem
from tests.generators import inf, random_lp

STRUCTURES = ("mixed", "equalities", "degenerate", "ill-scaled", "transport", "staircase", "boxed", "free")
ALL = ("row lower", "row upper", "lower", "upper", "integer")


def without(problem: Problem, gone: set[Member]) -> str:
    """Return the status of a problem without some members."""
    return solve(_Kept(problem, frozenset(gone)).relaxed(), Limits(nodes=50_000)).status


def assert_irreducible(problem: Problem, clash: Clash) -> None:
    rest = set(_Kept(problem).members(*ALL)) - set(clash.members)
    # a tree search without bounds may have no end, so they stay in the background of whole numbers
    background = {member for member in rest if clash.whole and member.kind in ("lower", "upper")}
    assert without(problem, rest - background) == "infeasible"
    for member in clash.members:
        assert without(problem, rest | {member}) in ("optimal", "unbounded"), member


def integer_problem(seed: int) -> Problem:
    """Return a problem of whole numbers that only has plans in fractions, among rows that do not matter."""
    rng = np.random.default_rng(seed)
    n, m = 5, 4
    a = rng.integers(-3, 6, (m, n)).astype(float)
    point = rng.integers(0, 3, n) + 0.5
    low, high = a @ point - rng.integers(2, 6, m), a @ point + rng.integers(2, 6, m)
    chosen = rng.choice(n, 3, replace=False)
    pin = np.zeros((2, n))
    pin[0, chosen], pin[1, chosen[:2]] = (2.0, 2.0, 4.0), (3.0, 3.0)
    side = float(2 * rng.integers(2, 6) + 1)
    third = float(3 * rng.integers(1, 4) + 1)
    rows = [side, -inf] if seed % 2 else [side - 0.4, third]
    ends = [side, inf] if seed % 2 else [side + 0.4, third + 0.8]
    return Problem.build(
        np.vstack([a, pin]), [*low, *rows], [*high, *ends], np.zeros(n), np.full(n, 9.0), np.zeros(n), np.ones(n)
    )


def rounds(seed: int, *, whole: bool = False) -> Problem:
    """Return rows that go round in circles, each decision above the next: disjoint circles, or one within another.

    No bound follows that contradicts another, so nothing but a proof finds them. Of whole numbers, decisions around
    odd circles that exclude their neighbours, of which half are wanted: in fractions that can be.
    """
    rng = np.random.default_rng([seed, 77])
    size = int(rng.integers(5, 9)) | (1 if whole else 0)
    starts = [0, size] if seed % 2 else [0, 0]
    ends = [size, 2 * size] if seed % 2 else [size, size - 2]
    n = max(ends) + 2
    lines, low = [], []
    for start, end in zip(starts, ends, strict=True):
        for j in range(start, end):
            line = np.zeros(n)
            after = j + 1 if j + 1 < end else start
            line[j], line[after] = (-1.0, -1.0) if whole else (1.0, -1.0)
            lines.append(line)
            low.append(-1.0 if whole else float(rng.integers(0, 3) + (j == start)))
        if whole:
            line = np.zeros(n)
            line[start:end] = 1.0
            lines.append(line)
            low.append((end - start) / 2)
    for _ in range(6):
        lines.append(rng.integers(0, 3, n).astype(float))
        low.append(0.0)
    order = rng.permutation(len(lines))
    upper = np.full(n, 1.0 if whole else 500.0)
    kinds = np.full(n, int(whole))
    return Problem.build(
        np.array(lines)[order], np.array(low)[order], np.full(len(low), inf), np.zeros(n), upper, np.zeros(n), kinds
    )


def through_bounds(seed: int) -> Problem:
    """Return a problem of one row that its columns' bounds do not let come true, among others that hold."""
    rng = np.random.default_rng([seed, 78])
    a = rng.integers(1, 5, (4, 9)).astype(float)
    upper = rng.integers(1, 6, 9).astype(float)
    low = np.array([float(a[0] @ upper) + 1.0, 0, 0, 0])
    return Problem.build(a, low, np.full(4, inf), np.zeros(9), upper, np.zeros(9))


def by_presolve_alone(problem: Problem) -> bool:
    return contradiction_chain(problem) is not None or Presolve(problem).contradiction is not None


FAMILIES = {
    "circles": [rounds(seed) for seed in range(12)],
    "whole circles": [rounds(seed, whole=True) for seed in range(6)],
    "whole": [integer_problem(seed) for seed in range(12)],
    "bounds": [through_bounds(seed) for seed in range(6)],
    "random": [
        random_lp(structure, 60 + seed, *((6, 8), (12, 18), (25, 40))[seed % 3], "infeasible")
        for seed in range(3)
        for structure in STRUCTURES
    ],
}


def test_clashes_are_irreducible() -> None:
    count: Counter[str] = Counter()
    for family, problems in FAMILIES.items():
        for problem in problems:
            if solve(problem).status != "infeasible":
                continue
            relaxed = replace(problem, kinds=np.zeros_like(problem.kinds))
            in_fractions = solve(relaxed).status != "infeasible"
            clashes = find_clashes(problem)
            assert clashes
            count["problems"] += 1
            count["beyond presolve"] += not by_presolve_alone(problem)
            count["of six or more"] += len(clashes[0].members) >= 6
            count["several"] += len(clashes) > 1
            count["whole"] += clashes[0].whole
            count["bounds alone"] += family == "bounds"
            assert clashes[0].whole == in_fractions
            for clash in clashes:
                assert clash.proven
                assert_irreducible(problem, clash)
    assert count["problems"] >= 50
    assert count["of six or more"] >= count["problems"] / 3
    assert count["beyond presolve"] >= count["problems"] / 2
    assert count["whole"] >= 15
    assert count["several"] >= 9


def test_disjoint_clashes_and_crossed_bounds_are_all_found() -> None:
    #  x >= 5 against x <= 3; y + z >= 9 against y <= 2 and z <= 3; and a bound of w above its other
    problem = Problem.build(
        [[1, 0, 0, 0], [1, 0, 0, 0], [0, 1, 1, 0], [0, 1, 0, 0]],
        [5, -inf, 9, -inf], [inf, 3, inf, 2], [0, 0, 0, 2], [inf, inf, 3, 1], [0, 0, 0, 0],
    )  # fmt: skip
    found = {frozenset(clash.members) for clash in find_clashes(problem)}
    assert found == {
        frozenset({Member("lower", 3), Member("upper", 3)}),
        frozenset({Member("row lower", 0), Member("row upper", 1)}),
        frozenset({Member("row lower", 2), Member("row upper", 3), Member("upper", 2)}),
    }
    assert find_clash(Problem.build([[1.0]], [0], [4], [0], [inf], [1])) is None


@pytest.mark.parametrize("seed", range(12))
def test_least_changes_are_those_of_an_independent_formulation(seed: int) -> None:
    rng = np.random.default_rng(seed)
    problem = random_lp("boxed", 200 + seed, 8, 12, "infeasible")
    weights = rng.integers(1, 5, problem.m).astype(float)
    weights[rng.random(problem.m) < 0.2] = inf
    fall, rise, outcome = least_changes(problem, Room.anywhere(weights, weights))
    # as a cost on the violation of rows v: |v| with v = Ax - s and s within the limits
    free = np.isfinite(weights)
    n, m = problem.n, problem.m
    a = problem.matrix().toarray()
    eye = np.eye(m)
    other = Problem.build(
        np.hstack([a, -eye, -eye[:, free], eye[:, free]]),
        np.zeros(m), np.zeros(m),
        np.concatenate((problem.lower, problem.row_lower, np.zeros(2 * free.sum()))),
        np.concatenate((problem.upper, problem.row_upper, np.full(2 * free.sum(), inf))),
        np.concatenate((np.zeros(n + m), weights[free], weights[free])),
    )  # fmt: skip
    truth = solve(other)
    assert outcome.status == truth.status
    if truth.status == "optimal":
        assert outcome.objective == pytest.approx(truth.objective, abs=1e-7)
        moved = Problem.build(
            problem.matrix(),
            problem.row_lower - fall,
            problem.row_upper + rise,
            problem.lower,
            problem.upper,
            problem.costs,
        )
        assert solve(moved).status in ("optimal", "unbounded")


@pytest.mark.parametrize("seed", range(10))
def test_fewest_rows_are_those_of_enumeration(seed: int) -> None:
    rng = np.random.default_rng(seed)
    a = rng.integers(-2, 4, (7, 4)).astype(float)
    middle = a @ rng.integers(0, 4, 4)
    low = middle + rng.integers(-3, 4, 7) * (rng.random(7) < 0.7)
    problem = Problem.build(a, low, low + rng.integers(0, 3, 7), np.zeros(4), np.full(4, 5.0), np.zeros(4))
    allowed = rng.random(7) < 0.85

    def works(rows: tuple[int, ...]) -> bool:
        return without(problem, {Member(kind, i) for i in rows for kind in ("row lower", "row upper")}) != "infeasible"

    candidates = np.flatnonzero(allowed).tolist()
    sizes = [k for k in range(len(candidates) + 1) if any(map(works, itertools.combinations(candidates, k)))]
    prices = np.where(allowed, 1.0, inf)
    room = Room.anywhere(prices, prices)
    found = fewest_rows(problem, room, set())
    assert (found is None) == (not sizes)
    if found is not None:
        assert len(found) == sizes[0]
        assert works(tuple(found))
        assert allowed[found].all()
        for few in filter(works, itertools.combinations(candidates, sizes[0])):
            assert fewest_rows(problem, room, set(few)) == list(few)
        liked = set(rng.permutation(candidates)[:3].tolist())
        most = max(len(liked.intersection(few)) for few in filter(works, itertools.combinations(candidates, sizes[0])))
        assert len(liked.intersection(fewest_rows(problem, room, liked))) == most


def test_the_largest_change_is_as_small_as_can_be() -> None:
    for seed in range(8):
        problem = random_lp("boxed", 300 + seed, 8, 12, "infeasible")
        weights = np.random.default_rng(seed).integers(1, 5, problem.m).astype(float)
        _, _, outcome = least_changes(problem, Room.anywhere(weights, weights), worst=True)
        assert outcome.x is not None
        worst = float(outcome.x[-1])
        for factor, expected in ((1 + 1e-6, "optimal"), (1 - 1e-3, "infeasible")):
            room = worst * factor / weights
            moved = Problem.build(
                problem.matrix(), problem.row_lower - room, problem.row_upper + room, problem.lower, problem.upper,
                np.zeros(problem.n),
            )  # fmt: skip
            assert solve(moved).status == expected
