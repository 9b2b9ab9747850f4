"""What is measured: each case returns the time of our work and of its reference, both in seconds."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import networkx as nx
import numpy as np
import pandas as pd
from scipy import sparse
from scipy.optimize import linear_sum_assignment
from scipy.sparse.linalg import splu

import ruddock as rk
from benchmarks import families, screens, tables
from benchmarks.measuring import Measured, check, timed, timed_beyond
from ruddock.engine.clash import find_clash
from ruddock.engine.outcome import Limits, Options
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.problem import INTEGER, Problem

inf = np.inf


# ---------------------------------------------------------------------- linear problems


def assignment(size: int = 300) -> Measured:
    """Assignment of 300 to 300, against the Hungarian kind of method."""
    costs = np.random.default_rng(300).integers(1, 10_001, (size, size))
    cells = np.arange(size * size)
    a = sparse.coo_matrix(
        (np.ones(2 * size * size), (np.concatenate((cells // size, size + cells % size)), np.tile(cells, 2)))
    ).tocsc()
    problem = Problem.build(
        a, np.ones(2 * size), np.ones(2 * size), np.zeros(size * size), np.full(size * size, inf), costs.ravel()
    )
    ours, outcome, beyond = timed_beyond(lambda: solve(problem))
    reference, chosen = timed(lambda: linear_sum_assignment(costs))
    check(abs(outcome.objective - costs[chosen].sum()) < 1e-6, "assignment")
    return Measured(ours, reference, outcome.counters.iterations, problem.nonzeros, beyond)


def flow() -> Measured:
    """Minimum-cost flow on 500 nodes and 4,000 arcs, against the network simplex method."""
    rng = np.random.default_rng(1)
    graph = nx.gnm_random_graph(500, 4000, seed=1, directed=True)
    for edge in graph.edges:
        graph.edges[edge].update(weight=int(rng.integers(1, 100)), capacity=int(rng.integers(5, 50)))
    demand = rng.integers(-5, 6, 500)
    while demand.sum():
        node = rng.integers(500)
        step = -int(np.sign(demand.sum()))
        if -5 <= demand[node] + step <= 5:
            demand[node] += step
    nx.set_node_attributes(graph, dict(zip(graph, map(int, demand), strict=True)), "demand")
    tails, heads = np.array(list(graph.edges)).T
    arcs = np.arange(len(tails))
    a = sparse.coo_matrix(
        (np.repeat([1.0, -1.0], len(arcs)), (np.concatenate((heads, tails)), np.tile(arcs, 2)))
    ).tocsc()
    data = [(graph.edges[e]["capacity"], graph.edges[e]["weight"]) for e in graph.edges]
    upper, costs = np.array(data, float).T
    problem = Problem.build(a, demand, demand, np.zeros(len(arcs)), upper, costs)
    ours, outcome = timed(lambda: solve(problem))
    reference, (cost, _) = timed(lambda: nx.network_simplex(graph))
    check(outcome.status == "optimal" and abs(outcome.objective - cost) < 1e-6, "flow")
    return Measured(ours, reference, outcome.counters.iterations)


def beside(problem: Problem) -> Measured:
    """A problem as it is solved, against the dual simplex method on the whole of it."""
    ours, outcome, beyond = timed_beyond(lambda: solve(problem))
    reference, plain = timed(lambda: solve(problem, options=Options(method="dual")))
    check(outcome.status == plain.status == "optimal", "beside")
    check(abs(outcome.objective - plain.objective) <= 1e-6 * max(1.0, abs(plain.objective)), "beside")
    return Measured(ours, reference, outcome.counters.iterations, problem.nonzeros, beyond)


def by_the_clock(problem: Problem) -> Measured:
    """Seconds of a problem."""
    ours, outcome, beyond = timed_beyond(lambda: solve(problem))
    check(outcome.status == "optimal", "by the clock")
    return Measured(ours, 1.0, outcome.counters.iterations, problem.nonzeros, beyond)


def first_order() -> Measured:
    """A plan and a proven bound of a problem whose factors would fill up."""
    problem = families.scattered(20_000)
    ours, outcome, beyond = timed_beyond(lambda: solve(problem, options=Options(method="first-order")))
    check(outcome.x is not None and outcome.gap < 1e-4, "first-order")
    return Measured(ours, 1.0, outcome.counters.gradient_steps, problem.nonzeros, beyond)


def nodes() -> Measured:
    """Nodes of a search on one core: 5 knapsacks of 100 items."""
    rng = np.random.default_rng(3)
    weights = rng.integers(1, 1001, (5, 100)).astype(float)
    values = np.round(weights.mean(axis=0) + 500 * rng.random(100))
    limits = np.floor(weights.sum(axis=1) / 2)
    problem = Problem.build(
        weights, np.full(5, -np.inf), limits, np.zeros(100), np.ones(100), -values, np.full(100, INTEGER)
    )
    ours, outcome = timed(lambda: solve(problem, Limits(nodes=10_000), Options(cores=1)))
    check(outcome.counters.nodes == 10_000, "nodes")
    return Measured(ours, 1.0, outcome.counters.iterations, problem.nonzeros)


def stock(periods: int) -> Problem:
    """Return production and stock over periods, in 4 products that share hours."""
    rng = np.random.default_rng(7)
    k = 4
    make, store, over = (np.arange(k * periods).reshape(periods, k) + k * periods * part for part in range(3))
    t, p = np.divmod(np.arange(k * periods), k)
    later = t > 0
    rows = [t * k + p] * 3 + [(t * k + p)[later]] + [k * periods + t] * 2
    columns = [make.ravel(), over.ravel(), store.ravel(), store[t[later] - 1, p[later]], make.ravel(), over.ravel()]
    hours = rng.uniform(0.5, 2.0, k * periods)
    values = [np.ones(k * periods)] * 2 + [-np.ones(k * periods), np.ones(later.sum()), hours, 0.2 * hours]
    a = sparse.coo_matrix((np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))))
    need = rng.integers(5, 40, k * periods).astype(float)
    room = rng.uniform(80, 130, periods)
    costs = np.concatenate(
        (rng.uniform(3, 12, k * periods), rng.uniform(0.3, 1, k * periods), np.full(k * periods, 25.0))
    )
    return Problem.build(
        a.tocsc(),
        np.concatenate((need, np.full(periods, -inf))),
        np.concatenate((need, room)),
        np.zeros(3 * k * periods),
        np.full(3 * k * periods, inf),
        costs,
    )


def iteration() -> Measured:
    """Mean time of one simplex iteration on 12,500 rows, against one solve with SciPy's factors of the basis."""
    problem = stock(2500)
    solver = LinearSolver(problem)
    seconds, outcome = timed(solver.solve)
    check(outcome.status == "optimal", "stock")
    columns = sparse.hstack([problem.matrix(), -sparse.eye(problem.m)], format="csc")
    factors = splu(columns[:, solver.head].tocsc())
    right = np.random.default_rng(0).normal(size=problem.m)
    reference, _ = timed(lambda: [factors.solve(right) for _ in range(50)])
    return Measured(seconds / outcome.counters.iterations, reference / 50, outcome.counters.iterations)


def solved(problem: Problem) -> tuple[float, int, int, int]:
    """Solve a problem as a user's would be; return seconds, entries, iterations, bytes beyond the problem."""
    seconds, outcome, beyond = timed_beyond(lambda: solve(problem))
    check(outcome.status == "optimal", "growing family")
    return seconds, problem.nonzeros, outcome.counters.iterations, beyond


def exponent(family: Callable[[int], Problem], sizes: tuple[int, ...]) -> Measured:
    """Exponent of time against entries over the sizes of a family."""
    runs = [solved(family(size)) for size in sizes]
    seconds, entries = np.log([run[0] for run in runs]), np.log([run[1] for run in runs])
    return Measured(float(np.polyfit(entries, seconds, 1)[0]), 1.0, runs[-1][2], runs[-1][1], runs[-1][3])


def clash() -> Measured:
    """The clash of an infeasible problem of 5,001 rows, against finding that it is infeasible."""
    problem = families.contradicted(families.sparse_random(5000))
    ours, found = timed(lambda: find_clash(problem))
    reference, outcome = timed(lambda: LinearSolver(problem).solve())
    check(outcome.status == "infeasible" and found is not None and len(found.members) == 7, "clash")
    return Measured(ours, reference, outcome.counters.iterations, problem.nonzeros)


def growth() -> Measured:
    """Transport problems of 50 x 50 to 400 x 400."""
    return exponent(families.transport, (50, 100, 200, 400))


def growth_range() -> Measured:
    """Time of the 400 x 400 transport problem, against that of the 50 x 50 one."""
    large, small = solved(families.transport(400)), solved(families.transport(50))
    return Measured(large[0], small[0], large[2], large[1], large[3])


def growth_staircase() -> Measured:
    """Multi-period stock of 3,000 to 100,002 rows."""
    return exponent(families.staircase, (1000, 3000, 10_000, 33_334))


def growth_banded() -> Measured:
    """Banded problems of 1,250 to 10,000 rows."""
    return exponent(families.banded, (1250, 2500, 5000, 10_000))


def growth_scattered() -> Measured:
    """Sparse problems without locality of 600 to 5,000 rows."""
    return exponent(families.scattered, (600, 1250, 2500, 5000))


def growth_sparse() -> Measured:
    """Sparse random problems of 3,000 to 100,000 rows."""
    return exponent(families.sparse_random, (3000, 10_000, 30_000, 100_000))


# ---------------------------------------------------------------------- building and reading


def building() -> Measured:
    """A model of 1,000,000 terms from pandas tables to arrays, against sorting the same triplets."""
    rng = np.random.default_rng(0)
    origins, targets = [f"o{i}" for i in range(1000)], [f"t{i}" for i in range(500)]
    frame = pd.DataFrame(
        rng.uniform(1, 9, (1000, 500)), pd.Index(origins, name="origin"), pd.Index(targets, name="target")
    )
    stock_ = pd.Series(rng.uniform(100, 200, 1000), pd.Index(origins, name="origin"))
    need = pd.Series(rng.uniform(10, 20, 500), pd.Index(targets, name="target"))

    def build() -> Problem:
        origin, target = rk.Axis("origin", frame.index), rk.Axis("target", frame.columns)
        model = rk.Model("building")
        ship = model.decide("ship", origin, target)
        model.minimize("cost", (frame * ship).sum())
        model.require("supply", ship.sum(target) <= stock_)
        model.require("demand", ship.sum(origin) >= need)
        return model.problem()

    ours, problem = timed(build)
    check(problem.nonzeros == 1_000_000, "building")
    cells = np.arange(500_000)
    rows, columns = np.concatenate((cells // 500, 1000 + cells % 500)), np.tile(cells, 2)
    values = np.ones(1_000_000)
    reference, _ = timed(lambda: sparse.coo_matrix((values, (rows, columns))).tocsc())
    return Measured(ours, reference, entries=problem.nonzeros)


def reading() -> Measured:
    """An MPS file of 1,000,000 entries, against a CSV file of as many rows."""
    rng = np.random.default_rng(0)
    folder = Path(tempfile.gettempdir())
    path, table = folder / "ruddock-benchmark.mps", folder / "ruddock-benchmark.csv"
    if not path.exists():
        rows = rng.integers(0, 50_000, (200_000, 5))
        rows.sort(axis=1)
        rows += np.arange(5)  # no row twice in a column
        values = np.round(rng.uniform(1, 100, rows.shape), 3)
        lines = ["NAME big", "ROWS", " N cost", *(f" L r{i}" for i in range(50_005)), "COLUMNS"]
        lines += [f" c{j} r{i} {v}" for j in range(200_000) for i, v in zip(rows[j], values[j], strict=True)]
        path.write_text("\n".join([*lines, "RHS", *(f" RHS r{i} 100" for i in range(50_005)), "ENDATA"]))
        pd.DataFrame({"c": np.repeat(np.arange(200_000), 5), "r": rows.ravel(), "v": values.ravel()}).to_csv(
            table, index=False
        )
    ours, problem = timed(lambda: rk.read(path).problem())
    reference, held = timed(lambda: pd.read_csv(table))
    check(problem.nonzeros == len(held) == 1_000_000, "reading")
    return Measured(ours, reference, entries=problem.nonzeros)


@dataclass(frozen=True)
class Case:
    """A row of the table: what is measured, against what, and the bar its ratio must keep."""

    run: Callable[[], Measured]
    work: str
    against: str
    bar: float


CASES = {
    "assignment": Case(assignment, "assignment LP 300 x 300", "linear_sum_assignment", 15.0),
    "flow": Case(flow, "min-cost flow LP, 4,000 arcs", "network_simplex", 0.05),
    "transport": Case(lambda: beside(families.transport(400)), "transport 400 x 400", "dual simplex", 0.5),
    "transport-large": Case(lambda: by_the_clock(families.transport(1000)), "transport 1000 x 1000", "one second", 5.0),
    "flow-large": Case(
        lambda: by_the_clock(families.network(20_000, 200_000)), "min-cost flow, 200,000 arcs", "one second", 5.0
    ),
    "covering": Case(lambda: beside(families.covering(2000, 50_000)), "covering 2,000 x 50,000", "dual simplex", 0.3),
    "commodities": Case(
        lambda: beside(families.commodities(150, 1500, 60)), "flows of 60 goods, 10,500 rows", "dual simplex", 0.7
    ),
    "goods": Case(
        lambda: beside(families.commodities(100, 400, 100)), "flows of 100 goods, tight arcs", "dual simplex", 0.8
    ),
    "stock": Case(lambda: beside(families.staircase(33_334)), "multi-period stock, 100,002 rows", "dual simplex", 0.8),
    "first-order": Case(first_order, "without locality, 20,000 rows, first-order", "one second", 15.0),
    "nodes": Case(nodes, "10,000 nodes, 5 knapsacks of 100", "one second", 3.0),
    "iteration": Case(iteration, "one iteration, 12,500 rows", "one splu solve", 3.0),
    "building": Case(building, "building 1,000,000 terms", "coo to csc", 4.0),
    "reading": Case(reading, "reading MPS, 1,000,000 entries", "pandas.read_csv", 3.0),
    "table": Case(tables.table, "a CSV table of 1,000,000 rows into data", "pandas.read_csv", 1.5),
    "grid": Case(tables.grid, "a grid of 100,000 cells into a model", "openpyxl, read only", 1.5),
    "version": Case(screens.version, "ruddock --version, whole process", "importing pandas", 0.5),
    "help": Case(screens.help_, "ruddock -h, whole process", "importing pandas", 0.5),
    "command": Case(screens.command, "ruddock solve of a file, whole process", "importing NumPy, SciPy, pandas", 1.5),
    "demo": Case(screens.demo, "ruddock demo packing-week, whole process", "importing NumPy, SciPy, pandas", 1.3),
    "printing": Case(screens.printing, "printing a plan of 25,000 single decisions", "one second", 1.0),
    "look-up": Case(screens.look_up, "1,000 values of it by name", "one second", 1.0),
    "clash": Case(clash, "clash of 5,001 infeasible rows", "finding them infeasible", 20.0),
    "growth": Case(growth, "transport, 50 x 50 to 400 x 400", "exponent of time", 1.6),
    "growth-range": Case(growth_range, "transport 400 x 400", "transport 50 x 50", 100.0),
    "growth-staircase": Case(growth_staircase, "multi-period stock, to 100,002 rows", "exponent of time", 1.6),
    "growth-banded": Case(growth_banded, "banded, to 10,000 rows", "exponent of time", 1.6),
    "growth-scattered": Case(growth_scattered, "without locality, to 5,000 rows", "exponent of time", 1.6),
    "growth-sparse": Case(growth_sparse, "sparse random, to 100,000 rows", "exponent of time", 1.6),
}
