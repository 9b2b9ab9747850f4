"""Symmetries: all are found and all are true, and a search that uses them loses no optimum."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from itertools import permutations, product

import networkx as nx
import numpy as np
import pytest
from networkx.algorithms.isomorphism import GraphMatcher

from benchmarks.integer_families import lines
from benchmarks.known import triples
from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from ruddock.engine.tree import state
from ruddock.engine.tree.symmetry import orbits
from ruddock.engine.tree.symmetry.group import symmetries
from ruddock.engine.tree.symmetry.orbits import Orbits
from ruddock.problem import INTEGER, Problem


def cover(sets: np.ndarray, costs: np.ndarray, least: np.ndarray) -> Problem:
    """Return the problem of meeting every set so often, with binary columns."""
    m, n = sets.shape
    return Problem.build(sets, least, np.full(m, np.inf), np.zeros(n), np.ones(n), costs, np.full(n, INTEGER, np.uint8))


def steiner(points: int) -> Problem:
    sets = np.array([[float(point in triple) for point in range(points)] for triple in triples(points)])
    return cover(sets, np.ones(points), np.ones(len(sets)))


def all_symmetries(problem: Problem) -> set[tuple[int, ...]]:
    """Return what becomes of the columns in every isomorphism of the graph of columns and rows with itself."""
    graph = nx.Graph()
    for j in range(problem.n):
        graph.add_node(("column", j), mark=(float(problem.costs[j]), float(problem.upper[j])))
    for i in range(problem.m):
        graph.add_node(("row", i), mark=(float(problem.row_lower[i]), float(problem.row_upper[i]), "row"))
    matrix = problem.matrix().tocoo()
    for i, j, value in zip(matrix.row.tolist(), matrix.col.tolist(), matrix.data.tolist(), strict=True):
        graph.add_edge(("column", j), ("row", i), value=value)
    alike = GraphMatcher(
        graph, graph, node_match=lambda a, b: a["mark"] == b["mark"], edge_match=lambda a, b: a["value"] == b["value"]
    )
    return {tuple(found[("column", j)][1] for j in range(problem.n)) for found in alike.isomorphisms_iter()}


def rotated(rng: np.random.Generator) -> Problem:
    """Return a cover in which turning the columns around changes nothing, or only by some steps at once."""
    n = int(rng.integers(5, 11))
    step = int(rng.choice([k for k in range(1, n) if n % k == 0]))
    rows = []
    for _ in range(int(rng.integers(1, 4))):
        row = (rng.random(n) < 0.4) * rng.integers(1, 3, n)
        rows += [np.roll(row, k) for k in range(0, n, step)]
    sets = np.unique(np.array(rows, float), axis=0)
    sets = sets[(sets > 0).any(axis=1)]
    if not len(sets):
        return rotated(rng)
    least = np.array([float(max(1, int(row.sum()) // 2)) for row in sets])
    return cover(sets, np.tile(rng.integers(1, 4, step), n // step).astype(float), least)


def test_all_symmetries_of_small_problems_are_found() -> None:
    sizes = []
    for seed in range(25):
        problem = rotated(np.random.default_rng(seed))
        wanted = all_symmetries(problem)
        images, complete = symmetries(problem, np.zeros(problem.n, bool), 10**9, lambda: False)
        assert complete
        found = {*map(tuple, images.tolist()), tuple(range(problem.n))}
        images, complete = symmetries(problem, np.zeros(problem.n, bool), 10**9, lambda: False, by_chance=True)
        assert complete
        by_chance = {*map(tuple, images.tolist()), tuple(range(problem.n))}
        assert found | by_chance <= wanted, seed
        if len(wanted) <= 2000:
            assert found == by_chance == wanted, seed
        sizes.append(len(wanted))
    assert min(sizes) < 10 < max(sizes)


@pytest.mark.parametrize(("points", "order", "work"), [(9, 432, 10**5), (15, 60, 10**6), (45, 360, 10**7)])
def test_the_groups_of_triples(points: int, order: int, work: int) -> None:
    problem, none = steiner(points), np.zeros(points, bool)
    images, complete = symmetries(problem, none, work, lambda: False, by_chance=True)
    assert complete
    assert len(images) + 1 == order
    every = {*map(tuple, images.tolist())}
    images, complete = symmetries(problem, none, work, lambda: False)
    assert {*map(tuple, images.tolist())} <= every
    # ways that are all gone through take long where points look alike from everywhere
    assert complete == (points < 45)
    lines = {tuple(np.flatnonzero(row)) for row in problem.matrix().toarray()}
    assert all({tuple(sorted(image[list(line)])) for line in lines} == lines for image in np.array([*every])[:50])


def test_columns_that_stay_do_stay_and_work_is_bounded() -> None:
    problem = steiner(45)
    fixed = np.zeros(45, bool)
    fixed[7] = True
    images, _ = symmetries(problem, fixed, 10**9, lambda: False)
    assert (images[:, 7] == 7).all()
    for work in (0, 1_000, 100_000):
        images, complete = symmetries(problem, np.zeros(45, bool), work, lambda: False)
        assert not complete
        assert (np.sort(images, axis=1) == np.arange(45)).all()


def test_orbits_of_those_that_keep_the_ones() -> None:
    turns = np.array([np.roll(np.arange(6), k) for k in range(1, 6)], np.int32)
    turned = Orbits(turns, np.ones(6, bool))
    start = turned.at(np.zeros(0, np.int32))
    assert start is not None
    assert (start == 0).all()
    half = turned.at(np.array([1, 4], np.int32))  # only the half turn takes these to one another
    assert half is not None
    assert half.tolist() == [0, 1, 2, 0, 1, 2]
    assert turned.at(np.array([1, 2], np.int32)) is None
    lower, upper = np.zeros(6), np.ones(6)
    lower[[1, 4]], upper[0] = 1.0, 0.0
    assert turned.fix(half, lower, upper).tolist() == [3]
    assert upper.tolist() == [0, 1, 1, 0, 1, 1]


def test_orbits_of_identical_parts_are_those_of_all_exchanges_that_keep_the_ones() -> None:
    for seed in range(40):
        rng = np.random.default_rng(seed)
        count, width = rng.integers(2, 6), rng.integers(1, 4)
        n = int(count * width) + 3
        parts = rng.permutation(n)[: n - 3].reshape(count, width)
        held = rng.permutation(n)[: rng.integers(0, n)]
        every = []
        for order in permutations(range(count)):
            image = np.arange(n)
            image[parts] = parts[list(order)]
            if {*image[held]} == {*held}:
                every.append(image)
        orbits = Orbits(np.zeros((0, n), np.int32), np.ones(n, bool), [parts])
        labels = orbits.at(held.astype(np.int32))
        wanted = [{int(image[j]) for image in every} for j in orbits.columns]
        if labels is None:
            assert all(len(orbit) == 1 for orbit in wanted), seed
        else:
            assert [{*orbits.columns[labels == label].tolist()} for label in labels] == wanted, seed


def alike(rng: np.random.Generator) -> Problem:
    """Return a cover by identical parts, each with limits of its own, that together meet some needs."""
    count = int(rng.integers(2, 5))
    width = int(rng.integers(2, 12 // count + 1))
    own, common = rng.integers(-2, 4, (2, width)), rng.integers(0, 4, (3, width))
    sets = np.concatenate((np.kron(np.eye(count), own), np.tile(common, count)))
    least = np.concatenate((np.tile(rng.integers(-2, 2, 2), count), count * common.sum(axis=1) // 2 + 1))
    return cover(sets, np.tile(rng.integers(1, 9, width), count).astype(float), least.astype(float))


@pytest.mark.parametrize("drawn", [rotated, alike])
@pytest.mark.parametrize("later", [2, 20])
def test_a_search_with_symmetries_loses_no_optimum(
    later: int, drawn: Callable[[np.random.Generator], Problem], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(state, "LATER", later)
    if later == 2:
        monkeypatch.setattr(orbits, "MOST_WORK", 300)  # so that some are found by chance
    sides = set()
    for seed in [*range(1000, 1030), 222]:
        rng = np.random.default_rng(seed)
        problem = drawn(rng)
        if seed % 2:  # a packing in place of the covering: plans of few ones, and of few zeros
            problem = replace(
                problem, row_lower=np.full(problem.m, -np.inf), row_upper=problem.row_lower, costs=-problem.costs
            )
        plans = np.array(list(product((0.0, 1.0), repeat=problem.n)))
        sums = plans @ problem.matrix().T.toarray()
        fits = ((sums >= problem.row_lower - 1e-9) & (sums <= problem.row_upper + 1e-9)).all(axis=1)
        best = (plans[fits] @ problem.costs).min() if fits.any() else None
        for options in (Options(heuristics=False, cuts=False), Options()):
            outcome = solve(problem, Limits(), options)
            assert (outcome.status == "optimal") == (best is not None), seed
            assert best is None or outcome.objective == pytest.approx(best), seed
        if best is not None:
            sides.add(2 * plans[fits][(plans[fits] @ problem.costs).argmin()].sum() <= problem.n)
    assert sides == {True, False}


def test_branches_to_the_rarer_value_are_those_that_count() -> None:
    row = np.zeros(40)
    row[np.random.default_rng(5).choice(40, 6, replace=False)] = 1.0
    sets = np.array([np.roll(row, k) for k in range(40)])
    few = replace(cover(sets, -np.ones(40), np.zeros(40)), row_lower=np.full(40, -np.inf), row_upper=np.full(40, 2.0))
    many = cover(sets, np.ones(40), np.full(40, 4.0))  # the same, said of those that are not taken
    taken, left = (solve(problem, Limits(), Options(cores=1)) for problem in (few, many))
    assert -taken.objective == 40 - left.objective == 10
    assert left.counters.nodes < 1.5 * taken.counters.nodes


def test_symmetries_spare_nodes() -> None:
    row = np.zeros(40)
    row[np.random.default_rng(3).choice(40, 6, replace=False)] = 1.0
    problem = cover(np.array([np.roll(row, k) for k in range(40)]), np.ones(40), np.ones(40))
    nodes = {}
    for symmetry in (True, False):
        outcome = solve(problem, Limits(), Options(symmetry=symmetry, cores=1))
        assert outcome.objective == 9
        nodes[symmetry] = outcome.counters.nodes
    assert nodes[True] < 0.5 * nodes[False]


def test_identical_lines_take_few_nodes() -> None:
    problem = lines(3, 3, 5)(3)  # of three lines alike, in whatever order they are used
    outcome = solve(problem, Limits(), Options(cores=1))
    assert outcome.status == "optimal"
    without = solve(problem, Limits(nodes=20 * outcome.counters.nodes), Options(symmetry=False, cores=1))
    assert without.status == "stopped"
    assert without.bound <= outcome.objective <= without.objective + 1e-6
