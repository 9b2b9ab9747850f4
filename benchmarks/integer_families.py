"""Families of integer problems by the recipes of the literature, each drawn from fixed seeds."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from itertools import combinations, product

import networkx as nx
import numpy as np
from scipy import sparse

from ruddock.problem import INTEGER, Problem

inf = np.inf
Terms = Iterable[tuple[int, float]]


class Drawn:
    """A problem in the making: columns in families, rows one by one."""

    def __init__(self) -> None:
        self.n = 0
        self._columns: list[np.ndarray] = []
        self._rows: list[tuple[list[int], list[float], float, float]] = []

    def columns(self, costs: np.ndarray, upper: object = 1.0, *, whole: bool = True, lower: float = 0.0) -> np.ndarray:
        """Add columns in the shape of their costs, and return their numbers."""
        costs = np.asarray(costs, float)
        parts = np.zeros((costs.size, 4))
        parts[:, 0], parts[:, 1], parts[:, 3] = costs.ravel(), lower, INTEGER * whole
        parts[:, 2] = np.broadcast_to(np.asarray(upper, float), costs.shape).ravel()
        self._columns.append(parts)
        self.n += costs.size
        return np.arange(self.n - costs.size, self.n).reshape(costs.shape)

    def row(self, columns: object, values: object, low: float = -inf, high: float = inf) -> None:
        """Add a row."""
        at = np.ravel(columns)
        self._rows.append((at.tolist(), np.broadcast_to(values, at.shape).tolist(), low, high))  # type: ignore[arg-type]

    def problem(self) -> Problem:
        """Return what was drawn."""
        rows = self._rows
        matrix = sparse.csr_matrix(
            (
                [value for row in rows for value in row[1]],
                [column for row in rows for column in row[0]],
                np.cumsum([0] + [len(row[0]) for row in rows]),
            ),
            shape=(len(rows), self.n),
        )
        parts = np.vstack(self._columns)
        low, high = np.array([row[2] for row in rows]), np.array([row[3] for row in rows])
        return Problem.build(matrix, low, high, parts[:, 1], parts[:, 2], parts[:, 0], parts[:, 3].astype(np.uint8))


def assignment(kind: str, agents: int, jobs: int) -> Callable[[int], Problem]:
    """Generalised assignment of types A to D (Chu and Beasley 1997)."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        if kind == "D":
            weight = rng.integers(1, 101, (agents, jobs))
            cost = 111 - weight + rng.integers(-10, 11, (agents, jobs))
        else:
            weight, cost = rng.integers(5, 26, (agents, jobs)), rng.integers(10, 51, (agents, jobs))
        if kind in "AB":
            most = np.bincount(cost.argmin(axis=0), weight[cost.argmin(axis=0), np.arange(jobs)], agents).max()
            room = np.full(agents, 0.6 * jobs / agents * 15 + 0.4 * most) * (1.0 if kind == "A" else 0.7)
        else:
            room = 0.8 * weight.sum(axis=1) / agents
        drawn = Drawn()
        x = drawn.columns(cost)
        for j in range(jobs):
            drawn.row(x[:, j], 1.0, 1.0, 1.0)
        for a in range(agents):
            drawn.row(x[a], weight[a], high=float(np.floor(room[a])))
        return drawn.problem()

    return draw


def bins(items: int, most: int, sizes: tuple[int, int] = (20, 61), room: int = 100) -> Callable[[int], Problem]:
    """Items into the fewest bins."""

    def draw(seed: int) -> Problem:
        size = np.random.default_rng(seed).integers(*sizes, items)
        drawn = Drawn()
        x, used = drawn.columns(np.zeros((items, most))), drawn.columns(np.ones(most))
        for i in range(items):
            drawn.row(x[i], 1.0, 1.0, 1.0)
        for b in range(most):
            drawn.row([*x[:, b], used[b]], [*size, -room], high=0.0)
        return drawn.problem()

    return draw


def rolls(orders: int, most: int) -> Callable[[int], Problem]:
    """Cutting stock with whole numbers of pieces, written roll by roll."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        length, need = rng.integers(15, 70, orders), rng.integers(1, 8, orders)
        drawn = Drawn()
        x, used = drawn.columns(np.zeros((orders, most)), need[:, None]), drawn.columns(np.ones(most))
        for i in range(orders):
            drawn.row(x[i], 1.0, float(need[i]))
        for b in range(most):
            drawn.row([*x[:, b], used[b]], [*length, -100.0], high=0.0)
        return drawn.problem()

    return draw


def vans(items: int, count: int) -> Callable[[int], Problem]:
    """Which items go into which of a few vans, by weight and by volume."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        weight, volume = rng.integers(10, 60, items), rng.integers(10, 60, items)
        worth = weight + volume + rng.integers(0, 30, items)
        drawn = Drawn()
        x = drawn.columns(-np.repeat(worth[:, None], count, axis=1))
        for i in range(items):
            drawn.row(x[i], 1.0, high=1.0)
        for v in range(count):
            drawn.row(x[:, v], weight, high=float(weight.sum() // (2 * count)))
            drawn.row(x[:, v], volume, high=float(volume.sum() // (2 * count)))
        return drawn.problem()

    return draw


def knapsacks(rows: int, items: int) -> Callable[[int], Problem]:
    """One choice of items under several limits, values near to the weights (Chu and Beasley 1998)."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        weight = rng.integers(1, 1001, (rows, items))
        value = weight.sum(axis=0) / rows + 500 * rng.random(items)
        drawn = Drawn()
        x = drawn.columns(-np.floor(value))
        for k in range(rows):
            drawn.row(x, weight[k], high=float(weight[k].sum() // 2))
        return drawn.problem()

    return draw


def general(rows: int, columns: int) -> Callable[[int], Problem]:
    """General integers with positive and negative coefficients."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        a = rng.integers(-10, 20, (rows, columns)) * (rng.random((rows, columns)) < 0.5)
        drawn = Drawn()
        x = drawn.columns(rng.integers(1, 30, columns), 20.0)
        for k in range(rows):
            drawn.row(x, a[k], float(rng.integers(50, 200)))
        return drawn.problem()

    return draw


def covering(rows: int, columns: int, share: float) -> Callable[[int], Problem]:
    """Set covering with costs of 1 to 100."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        meets = rng.random((rows, columns)) < share
        meets[np.arange(rows), rng.integers(0, columns, rows)] = True
        drawn = Drawn()
        x = drawn.columns(rng.integers(1, 101, columns))
        for k in range(rows):
            drawn.row(x[meets[k]], 1.0, 1.0)
        return drawn.problem()

    return draw


def duties(hauls: int, columns: int, places: int) -> Callable[[int], Problem]:
    """Hauls of a day, each covered by duties that go on from place to place: a duty costs 60 and its minutes."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        start = np.sort(rng.integers(0, 24 * 60, hauls))
        end, of = start + rng.integers(15, 90, hauls), rng.integers(0, places, hauls)
        to = (of + rng.integers(1, places, hauls)) % places
        leaving = [np.flatnonzero(of == place) for place in range(places)]
        cost = {(haul,): 60 + int(end[haul] - start[haul]) for haul in range(hauls)}
        while len(cost) < columns:
            duty = [int(rng.integers(hauls))]
            for _ in range(rng.integers(1, 11)):
                after = leaving[to[duty[-1]]]
                after = after[np.searchsorted(start[after], end[duty[-1]] + 5) :][:6]
                after = after[start[after] - end[duty[-1]] < 120]
                if not len(after) or end[after].max() - start[duty[0]] > 600:
                    break
                duty.append(int(rng.choice(after)))
            cost[tuple(duty)] = 60 + int(end[duty[-1]] - start[duty[0]])
        drawn = Drawn()
        x = drawn.columns(list(cost.values()))
        made_by: list[list[int]] = [[] for _ in range(hauls)]
        for j, duty in enumerate(cost):
            for haul in duty:
                made_by[haul].append(j)
        for made in made_by:
            drawn.row(x[np.array(made)], 1.0, 1.0)
        return drawn.problem()

    return draw


def turned(places: int, met: int) -> Callable[[int], Problem]:
    """A covering that repeats all around, as in cyclic rosters: a pattern turned to every place, met twice at least."""

    def draw(seed: int) -> Problem:
        pattern = np.random.default_rng(seed).choice(places, met, replace=False)
        drawn = Drawn()
        x = drawn.columns(np.ones(places))
        for k in range(places):
            drawn.row(x[(pattern + k) % places], 1.0, 2.0)
        return drawn.problem()

    return draw


def location(sites: int, customers: int, *, room: bool) -> Callable[[int], Problem]:
    """Sites to open and customers to serve, each by one site where room is limited."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        at, to = rng.random((sites, 1, 2)), rng.random((1, customers, 2))
        cost = np.round(1000 * np.linalg.norm(at - to, axis=2))
        need, big = rng.integers(5, 36, customers), rng.integers(60, 160, sites)
        drawn = Drawn()
        x = drawn.columns(cost * (need / 10 if room else 1), whole=False)
        opens = drawn.columns(rng.integers(500, 1500, sites))
        for c in range(customers):
            drawn.row(x[:, c], 1.0, 1.0, 1.0)
        for s in range(sites):
            if room:
                drawn.row([*x[s], opens[s]], [*need, -big[s]], high=0.0)
            for c in range(customers):
                drawn.row([x[s, c], opens[s]], [1.0, -1.0], high=0.0)
        return drawn.problem()

    return draw


def lots(items: int, periods: int) -> Callable[[int], Problem]:
    """Lot sizes of several items that share the hours of each period, set-ups included."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        need = rng.integers(0, 60, (items, periods))
        drawn = Drawn()
        sets = drawn.columns(np.repeat(rng.integers(60, 200, items)[:, None], periods, axis=1))
        make = drawn.columns(np.zeros((items, periods)), inf, whole=False)
        keep = drawn.columns(np.repeat(rng.integers(1, 4, items)[:, None], periods, axis=1), inf, whole=False)
        for i, t in product(range(items), range(periods)):
            before = [keep[i, t - 1]] if t else []
            drawn.row([make[i, t], keep[i, t], *before], [1.0, -1.0, *[1.0] * len(before)], need[i, t], need[i, t])
            drawn.row([make[i, t], sets[i, t]], [1.0, -float(need[i, t:].sum())], high=0.0)
        hours = float(np.ceil(need.cumsum(axis=1).sum(axis=0).max() / periods * 1.3))
        for t in range(periods):
            drawn.row([*make[:, t], *sets[:, t]], [1.0] * items + [5.0] * items, high=hours + 5.0)
        return drawn.problem()

    return draw


def lines(items: int, count: int, periods: int) -> Callable[[int], Problem]:
    """Lot sizes of several items on lines that are all alike, with set-ups that take time, and arrears at a price."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        need = rng.integers(0, 60, (items, periods)).astype(float)
        room = 1.15 * need.sum() / count / periods + 25
        drawn, each = Drawn(), (items, count, periods)
        sets = drawn.columns(np.broadcast_to(rng.integers(50, 150, items)[:, None, None], each))
        make = drawn.columns(np.zeros(each), inf, whole=False)
        keep = drawn.columns(np.repeat(rng.integers(1, 5, items)[:, None], periods, axis=1), inf, whole=False)
        lack = drawn.columns(np.full((items, periods), 500.0), inf, whole=False)
        for i, t in product(range(items), range(periods)):
            before = [keep[i, t - 1]] if t else []
            columns = [*before, *make[i, :, t], lack[i, t], keep[i, t]]
            drawn.row(columns, [1.0] * (len(columns) - 1) + [-1.0], need[i, t], need[i, t])
            for k in range(count):
                drawn.row([make[i, k, t], sets[i, k, t]], [1.0, -room], high=0.0)
        for k, t in product(range(count), range(periods)):
            drawn.row([*make[:, k, t], *sets[:, k, t]], [1.0] * items + [10.0] * items, high=room)
        return drawn.problem()

    return draw


def units(kinds: int, each: int, hours: int) -> Callable[[int], Problem]:
    """Which units run in which hours, several of each kind, with starts that cost and run for four hours at least."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        count = kinds * each
        most = np.repeat(rng.integers(50, 200, kinds), each).astype(float)
        run, start, make = (np.repeat(np.repeat(rng.integers(*span, kinds), each)[:, None], hours, axis=1)
                            for span in ((100, 500), (200, 1500), (10, 40)))  # fmt: skip
        drawn = Drawn()
        on, up = drawn.columns(run), drawn.columns(start)
        power = drawn.columns(make, inf, whole=False)
        wave = 0.5 + 0.25 * np.sin(np.arange(hours) / 24 * 2 * np.pi) + rng.uniform(-0.1, 0.1, hours)
        for t, need in enumerate(np.round(most.sum() * wave).tolist()):
            drawn.row(power[:, t], 1.0, need)
            drawn.row(on[:, t], most, float(np.round(1.1 * need)))
            for g in range(count):
                drawn.row([power[g, t], on[g, t]], [1.0, -most[g]], high=0.0)
                drawn.row([power[g, t], on[g, t]], [1.0, -float(np.round(0.4 * most[g]))], 0.0)
                if t:
                    drawn.row([on[g, t], on[g, t - 1], up[g, t]], [1.0, -1.0, -1.0], high=0.0)
                if t >= 3:
                    drawn.row([*up[g, t - 3 : t + 1], on[g, t]], [1.0] * 4 + [-1.0], high=0.0)
        return drawn.problem()

    return draw


def levels(products: int, parts: int, periods: int) -> Callable[[int], Problem]:
    """Lot sizes of products and of the parts that go into them, through three levels, without limits of capacity."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        items = products + parts
        level = np.concatenate((np.zeros(products, int), 1 + 2 * np.arange(parts) // parts))
        goes_into: list[list[tuple[int, int]]] = [[] for _ in range(items)]
        for i in range(products, items):
            above = np.flatnonzero(level == level[i] - 1)
            for k in rng.choice(above, min(len(above), int(rng.integers(1, 3))), replace=False):
                goes_into[i].append((int(k), int(rng.integers(1, 3))))
        needs = np.where(np.arange(items)[:, None] < products, rng.integers(0, 60, (items, periods)), 0).astype(float)
        total = needs.sum(axis=1)
        for i in range(items):
            total[i] += sum(times * total[k] for k, times in goes_into[i])
        keeping = np.zeros(items)
        for i in reversed(range(items)):  # a product costs more to keep than the parts in it
            inside = (times * keeping[j] for j in range(items) for k, times in goes_into[j] if k == i)
            keeping[i] = np.round(rng.uniform(0.2, 1.0) + sum(inside), 2)
        drawn = Drawn()
        makes = drawn.columns(np.zeros((items, periods)), inf, whole=False)
        keeps = drawn.columns(np.repeat(keeping[:, None], periods, axis=1), inf, whole=False)
        set_up = drawn.columns(np.repeat(rng.integers(100, 600, items)[:, None], periods, axis=1))
        for i, t in product(range(items), range(periods)):
            before = [keeps[i, t - 1]] if t else []
            drawn.row(
                [makes[i, t], keeps[i, t], *before, *(makes[k, t] for k, _ in goes_into[i])],
                [1.0, -1.0, *(1.0 for _ in before), *(-float(times) for _, times in goes_into[i])],
                needs[i, t],
                needs[i, t],
            )
            drawn.row([makes[i, t], set_up[i, t]], [1.0, -total[i]], high=0.0)
        return drawn.problem()

    return draw


def projects(count: int, kinds: int) -> Callable[[int], Problem]:
    """Tasks in an order, some after others, that share a few kinds of means: the end of all, written by periods."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        takes = rng.integers(1, 6, count)
        last = int(takes.sum() * 0.7)
        uses = rng.integers(0, 6, (count, kinds))
        drawn = Drawn()
        starts = drawn.columns(np.zeros((count, last)))
        end = int(drawn.columns(np.ones(1), float(last), whole=False)[0])
        when = np.arange(last, dtype=float)
        for j in range(count):
            drawn.row(starts[j, : last - takes[j] + 1], 1.0, 1.0, 1.0)
            drawn.row(starts[j, last - takes[j] + 1 :], 1.0, 0.0, 0.0)
            drawn.row([end, *starts[j]], [1.0, *-(when + takes[j])], 0.0)
        for a, b in combinations(range(count), 2):
            if rng.random() < 0.12:
                drawn.row([*starts[b], *starts[a]], [*when, *-when], float(takes[a]))
        for k, t in product(range(kinds), range(last)):
            busy = [(starts[j, s], uses[j, k]) for j in range(count) for s in range(max(0, t - takes[j] + 1), t + 1)]
            drawn.row([column for column, _ in busy], [float(use) for _, use in busy], high=10.0)
        return drawn.problem()

    return draw


def fixed_charges(nodes: int, arcs: int) -> Callable[[int], Problem]:
    """Flows of one good over arcs that are paid for when used."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        ring = [(i, (i + 1) % nodes) for i in range(nodes)]
        others = [tuple(rng.choice(nodes, 2, replace=False)) for _ in range(arcs - nodes)]
        pairs = ring + others
        supply = rng.integers(-10, 11, nodes)
        supply[0] -= supply.sum()
        total = float(supply[supply > 0].sum())
        drawn = Drawn()
        flow = drawn.columns(rng.integers(1, 10, arcs), inf, whole=False)
        pays = drawn.columns(rng.integers(20, 100, arcs))
        for k in range(nodes):
            out = [a for a, (i, _) in enumerate(pairs) if i == k]
            into = [a for a, (_, j) in enumerate(pairs) if j == k]
            drawn.row(flow[out + into], [1.0] * len(out) + [-1.0] * len(into), float(supply[k]), float(supply[k]))
        for a in range(arcs):
            drawn.row([flow[a], pays[a]], [1.0, -total], high=0.0)
        return drawn.problem()

    return draw


def trips(stops: int, load: int = 0) -> Callable[[int], Problem]:
    """One tour, or tours of vans of limited load from stop 0, kept together by an order of the stops."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        at = rng.random((stops, 2))
        length = np.round(100 * np.linalg.norm(at[:, None] - at[None], axis=2))
        need = rng.integers(5, 20, stops) if load else np.ones(stops)
        most = float(load or stops - 1)
        drawn = Drawn()
        go = drawn.columns(length, 1.0 - np.eye(stops))
        place = drawn.columns(np.zeros(stops), most, whole=False)
        for i in range(1 if load else 0, stops):
            drawn.row(go[i], 1.0, 1.0, 1.0)
            drawn.row(go[:, i], 1.0, 1.0, 1.0)
        if load:
            drawn.row([*go[0], *go[:, 0]], [1.0] * stops + [-1.0] * stops, 0.0, 0.0)
        for i, j in product(range(1, stops), repeat=2):
            if i != j:
                drawn.row([place[j], place[i], go[i, j]], [1.0, -1.0, -most - need[j]], -most)
        for i in range(1, stops):
            drawn.row(place[i], 1.0, float(need[i]))
        return drawn.problem()

    return draw


def jobs(count: int, machines: int) -> Callable[[int], Problem]:
    """Job shops, two jobs on one machine kept apart by a decision on their order."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        order, takes = (
            np.array([rng.permutation(machines) for _ in range(count)]),
            rng.integers(1, 30, (count, machines)),
        )
        total = float(takes.sum())
        drawn = Drawn()
        start = drawn.columns(np.zeros((count, machines)), total, whole=False)
        end = int(drawn.columns(np.ones(1), total, whole=False)[0])
        for j in range(count):
            for k in range(machines - 1):
                drawn.row([start[j, k + 1], start[j, k]], [1.0, -1.0], float(takes[j, k]))
            drawn.row([end, start[j, -1]], [1.0, -1.0], float(takes[j, -1]))
        for m in range(machines):
            spot = np.argmax(order == m, axis=1)
            for a, b in combinations(range(count), 2):
                first = int(drawn.columns(np.zeros(1))[0])
                at_a, at_b = start[a, spot[a]], start[b, spot[b]]
                drawn.row([at_b, at_a, first], [1.0, -1.0, -total], float(takes[a, spot[a]]) - total)
                drawn.row([at_a, at_b, first], [1.0, -1.0, total], float(takes[b, spot[b]]))
        return drawn.problem()

    return draw


def colouring(steps: int) -> Callable[[int], Problem]:
    """Mycielski's graphs of ``steps`` + 1 colours, offered one more (1955)."""

    def draw(seed: int) -> Problem:
        graph = nx.mycielski_graph(steps + 1)
        most = steps + 1 + seed
        drawn = Drawn()
        has, used = drawn.columns(np.zeros((len(graph), most))), drawn.columns(np.ones(most))
        for node in range(len(graph)):
            drawn.row(has[node], 1.0, 1.0, 1.0)
        for (u, v), c in product(graph.edges, range(most)):
            drawn.row([has[u, c], has[v, c], used[c]], [1.0, 1.0, -1.0], high=0.0)
        return drawn.problem()

    return draw


def apart(nodes: int, share: float) -> Callable[[int], Problem]:
    """Things of the greatest worth of which no two conflict."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        drawn = Drawn()
        x = drawn.columns(-rng.integers(1, 20, nodes))
        for u, v in nx.gnp_random_graph(nodes, share, seed=seed).edges:
            drawn.row(x[[u, v]], 1.0, high=1.0)
        return drawn.problem()

    return draw


def sided(size: int, sides: int) -> Callable[[int], Problem]:
    """An assignment with a few limits beside it."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        drawn = Drawn()
        x = drawn.columns(rng.integers(1, 100, (size, size)))
        for k in range(size):
            drawn.row(x[k], 1.0, 1.0, 1.0)
            drawn.row(x[:, k], 1.0, 1.0, 1.0)
        for _ in range(sides):
            weight = rng.integers(1, 50, (size, size))
            drawn.row(x, weight.ravel(), high=float(25 * size * 0.6 // 1))
        return drawn.problem()

    return draw


def split(rows: int, columns: int) -> Callable[[int], Problem]:
    """Equations that split a market in halves (Cornuejols and Dawande 1998)."""

    def draw(seed: int) -> Problem:
        rng = np.random.default_rng(seed)
        a = rng.integers(0, 100, (rows, columns))
        drawn = Drawn()
        x = drawn.columns(np.zeros(columns))
        over, under = (drawn.columns(np.ones(rows), inf) for _ in range(2))
        for k in range(rows):
            half = float(a[k].sum() // 2)
            drawn.row([*x, over[k], under[k]], [*a[k], 1.0, -1.0], half, half)
        return drawn.problem()

    return draw


def medians(size: int, open_: int) -> Callable[[int], Problem]:
    """So many sites to open that all are as near to one as can be."""

    def draw(seed: int) -> Problem:
        at = np.random.default_rng(seed).random((size, 2))
        drawn = Drawn()
        x = drawn.columns(np.round(1000 * np.linalg.norm(at[:, None] - at[None], axis=2)), whole=False)
        opens = drawn.columns(np.zeros(size))
        for c in range(size):
            drawn.row(x[:, c], 1.0, 1.0, 1.0)
        for s, c in product(range(size), repeat=2):
            drawn.row([x[s, c], opens[s]], [1.0, -1.0], high=0.0)
        drawn.row(opens, 1.0, float(open_), float(open_))
        return drawn.problem()

    return draw


def by_parts(problem: Problem, parts: int = 3) -> Problem:
    """Write the costs of a problem as columns of their own that equations add up, as many who write models do."""
    p, part = problem, np.arange(problem.n) % parts
    added = sparse.coo_matrix((-p.costs, (part, np.arange(p.n))), shape=(parts, p.n))
    return Problem.build(
        sparse.bmat([[p.matrix(), None], [added, sparse.eye(parts)]]).tocsc(),
        np.r_[p.row_lower, np.zeros(parts)],
        np.r_[p.row_upper, np.zeros(parts)],
        np.r_[p.lower, np.full(parts, -np.inf)],
        np.r_[p.upper, np.full(parts, np.inf)],
        np.r_[np.zeros(p.n), np.ones(parts)],
        np.r_[p.kinds, np.zeros(parts, p.kinds.dtype)],
        p.offset,
    )


FAMILIES: dict[str, tuple[Callable[[int], Problem], tuple[int, ...]]] = {
    "assignment A 10x60": (assignment("A", 10, 60), (1,)),
    "assignment B 10x60": (assignment("B", 10, 60), (1,)),
    "assignment C 8x80": (assignment("C", 8, 80), (1, 2)),
    "assignment D 5x50": (assignment("D", 5, 50), (1, 2)),
    "bins 30": (bins(30, 18), (1, 2)),
    "bins 50": (bins(50, 28), (1, 2)),
    "rolls 12": (rolls(12, 30), (1, 2)),
    "vans 40x4": (vans(40, 4), (1,)),
    "knapsacks 5x60": (knapsacks(5, 60), (1, 2)),
    "general 30x40": (general(30, 40), (1, 2)),
    "covering 200x1000": (covering(200, 1000, 0.03), (1, 2)),
    "turned 49x7": (turned(49, 7), (1, 2)),
    "location 40x60": (location(40, 60, room=False), (1, 2)),
    "location with room 20x40": (location(20, 40, room=True), (1, 2)),
    "lots 6x10": (lots(6, 10), (1, 2)),
    "lines 5x3x8": (lines(5, 3, 8), (1, 2, 3)),
    "units 3x6": (units(3, 6, 18), (1, 2)),
    "levels 9x16": (levels(3, 6, 16), (1, 2)),
    "fixed charges 30x120": (fixed_charges(30, 120), (1, 2, 3)),
    "projects 16": (projects(16, 3), (1, 2, 3)),
    "trips 15": (trips(15), (1,)),
    "trips 20": (trips(20), (1,)),
    "vans' trips 11": (trips(11, 40), (1,)),
    "vans' trips 13": (trips(13, 40), (1,)),
    "jobs 6x5": (jobs(6, 5), (1, 2)),
    "colouring 4": (colouring(4), (0, 1)),
    "apart 80": (apart(80, 0.2), (1, 2)),
    "sided 40": (sided(40, 4), (1, 2)),
    "split 3x20": (split(3, 20), (1,)),
    "medians 60": (medians(60, 6), (1, 2)),
}

# around 100,000 columns, of which a plan is wanted in a minute
LARGE: dict[str, tuple[Callable[[int], Problem], tuple[int, ...]]] = {
    "location with room 150x600": (location(150, 600, room=True), (1,)),
    "lots 200x100": (lots(200, 100), (1,)),
    "covering 5000x100000": (covering(5000, 100_000, 0.002), (1,)),
    "duties 1500x100000": (duties(1500, 100_000, 12), (1,)),
}

EIGHT = tuple(range(1, 9))

# small ones, as studies solve by the hundred
SMALL: dict[str, tuple[Callable[[int], Problem], tuple[int, ...]]] = {
    "knapsacks 2x15": (knapsacks(2, 15), EIGHT),
    "knapsacks 3x25": (knapsacks(3, 25), EIGHT),
    "knapsacks 5x40": (knapsacks(5, 40), EIGHT),
    "general 10x15": (general(10, 15), EIGHT),
    "assignment C 3x15": (assignment("C", 3, 15), EIGHT),
    "location with room 8x16": (location(8, 16, room=True), EIGHT),
    "fixed charges 8x20": (fixed_charges(8, 20), EIGHT),
    "lines 3x2x4": (lines(3, 2, 4), EIGHT),
    "bins 10": (bins(10, 6), EIGHT),
    "sided 12": (sided(12, 2), EIGHT),
    "jobs 3x3": (jobs(3, 3), EIGHT),
    "projects 6": (projects(6, 2), EIGHT),
    "trips 9": (trips(9), EIGHT),
}
