"""Integer models with optima known another way: dynamic programs, enumeration, or constants of the literature."""

from __future__ import annotations

from collections.abc import Callable
from itertools import combinations, product
from typing import Any

import networkx as nx
import numpy as np

import ruddock as rk

inf = np.inf
Case = tuple[rk.Model, float]
Lazy = Callable[[rk.Plan], list[Any]]

# the 6 x 6 job shop of Fisher and Thompson (1963): of each job, its machines in order with their times
JOB_SHOP = (
    ((2, 1), (0, 3), (1, 6), (3, 7), (5, 3), (4, 6)),
    ((1, 8), (2, 5), (4, 10), (5, 10), (0, 10), (3, 4)),
    ((2, 5), (3, 4), (5, 8), (0, 9), (1, 1), (4, 7)),
    ((1, 5), (0, 5), (2, 5), (3, 3), (4, 8), (5, 9)),
    ((2, 9), (1, 3), (4, 5), (5, 4), (0, 3), (3, 1)),
    ((1, 3), (3, 3), (5, 9), (0, 10), (4, 4), (2, 1)),
)
JOB_SHOP_SPAN = 55.0


def triples(points: int) -> list[tuple[int, int, int]]:
    """Return a Steiner triple system on 9, 15, 27 or 45 points, the last two as three copies of the first two."""
    if points in (27, 45):
        v, base = points // 3, triples(points // 3)
        inside = [tuple(v * c + p for p in t) for t in base for c in range(3)]
        lines = [(p, v + p, 2 * v + p) for p in range(v)]
        across = [
            tuple(v * c + p for c, p in zip(copies, t, strict=True))
            for t in base
            for copies in ((0, 1, 2), (0, 2, 1), (1, 0, 2), (1, 2, 0), (2, 0, 1), (2, 1, 0))
        ]
        return inside + lines + across  # type: ignore[return-value]
    t = points // 3
    half = (t + 1) // 2
    lines = [(p, t + p, 2 * t + p) for p in range(t)]
    mixed = [
        (t * k + p, t * k + q, t * ((k + 1) % 3) + (p + q) * half % t)
        for k in range(3)
        for p, q in combinations(range(t), 2)
    ]
    return lines + mixed


def steiner(points: int) -> Case:
    """The fewest points that meet every triple: 18 of 27, 30 of 45 (Fulkerson, Nemhauser and Trotter 1974)."""
    model = rk.Model(f"Triples of {points}")
    point = rk.Axis("point", range(points))
    take = model.decide("take", point, kind="binary")
    model.minimize("points", take.sum())
    for k, triple in enumerate(triples(points)):
        model.require(f"triple{k}", sum(take[p] for p in triple) >= 1)
    return model, {9: 5.0, 15: 9.0, 27: 18.0, 45: 30.0}[points]


def job_shop() -> Case:
    """The 6 x 6 job shop, two jobs on one machine kept apart by a binary decision for their order."""
    model = rk.Model("Job shop")
    job, step = rk.Axis("job", range(6)), rk.Axis("step", range(6))
    total = float(sum(time for line in JOB_SHOP for _, time in line))
    start = model.decide("start", job, step, upper=total)
    span = model.decide("span", upper=total)
    model.minimize("time", span)
    for j, line in enumerate(JOB_SHOP):
        for k in range(5):
            model.require(f"next{j}_{k}", start[j, k + 1] - start[j, k] >= line[k][1])
        model.require(f"end{j}", span - start[j, 5] >= line[5][1])
    for machine in range(6):
        at = [(j, k, time) for j, line in enumerate(JOB_SHOP) for k, (m, time) in enumerate(line) if m == machine]
        for (a, ka, ta), (b, kb, tb) in combinations(at, 2):
            first = model.decide(f"first{machine}_{a}_{b}", kind="binary")
            model.require(f"before{machine}_{a}_{b}", start[b, kb] - start[a, ka] - total * first >= ta - total)
            model.require(f"after{machine}_{a}_{b}", start[a, ka] - start[b, kb] + total * first >= tb)
    return model, JOB_SHOP_SPAN


def knapsack(items: int = 50, extra: int = 10) -> Case:
    """A knapsack whose values are its weights and a bit more; by a dynamic program."""
    rng = np.random.default_rng(50)
    weight = rng.integers(10, 100, items)
    value = weight + (extra if extra else rng.integers(5, 16, items))
    room = int(weight.sum() // 2)
    best = np.zeros(room + 1)
    for w, v in zip(weight, value, strict=True):
        best[w:] = np.maximum(best[w:], best[:-w] + v)
    item = rk.Axis("item", range(items))
    model = rk.Model("Knapsack")
    take = model.decide("take", item, kind="binary")
    model.maximize("value", (rk.data(value, item) * take).sum())
    model.require("room", (rk.data(weight, item) * take).sum() <= room)
    return model, float(best[-1])


def many_knapsacks(rows: int = 5, items: int = 30) -> Case:
    """One choice of 30 items under 5 limits; by meeting in the middle."""
    rng = np.random.default_rng(530)
    weight = rng.integers(5, 100, (rows, items))
    value = weight.mean(axis=0).astype(int) + rng.integers(0, 30, items)
    room = weight.sum(axis=1) // 2
    half = items // 2
    picks = ((np.arange(2**half)[:, None] >> np.arange(half)) & 1).astype(np.int64)
    left_value, left = picks @ value[:half], picks @ weight[:, :half].T
    right_value, right = picks @ value[half:], picks @ weight[:, half:].T
    order = np.argsort(-right_value, kind="stable")
    right_value, right = right_value[order], right[order]
    best = 0
    for k in np.argsort(-left_value, kind="stable"):
        if left_value[k] + right_value[0] <= best:
            break
        if (left[k] > room).any():
            continue
        upto = np.searchsorted(-right_value, -(best - left_value[k]))  # only what would be better
        fits = (right[:upto] + left[k] <= room).all(axis=1)
        if fits.any():
            best = int(left_value[k] + right_value[np.argmax(fits)])
    row, item = rk.Axis("row", range(rows)), rk.Axis("item", range(items))
    model = rk.Model("Many knapsacks")
    take = model.decide("take", item, kind="binary")
    model.maximize("value", (rk.data(value, item) * take).sum())
    model.require("room", (rk.data(weight, row, item) * take).sum(item) <= rk.data(room, row))
    return model, float(best)


def assignment(agents: int = 5, jobs: int = 25) -> Case:
    """Jobs to agents with little room; by a dynamic program over what room is left."""
    rng = np.random.default_rng(525)
    weight, cost = rng.integers(1, 7, (agents, jobs)), rng.integers(10, 50, (agents, jobs))
    room = np.maximum((weight.sum(axis=1) * 0.75 / agents).astype(int), weight.max(axis=1))
    state = np.full(tuple(room + 1), inf)
    state[tuple(room)] = 0.0
    for j in range(jobs):
        new = np.full_like(state, inf)
        for a in range(agents):
            w = weight[a, j]
            here, there = [slice(None)] * agents, [slice(None)] * agents
            here[a], there[a] = slice(w, None), slice(None, -w)
            new[tuple(there)] = np.minimum(new[tuple(there)], state[tuple(here)] + cost[a, j])
        state = new
    agent, job = rk.Axis("agent", range(agents)), rk.Axis("job", range(jobs))
    model = rk.Model("Generalised assignment")
    does = model.decide("does", agent, job, kind="binary")
    model.minimize("cost", (rk.data(cost, agent, job) * does).sum())
    model.require("once", does.sum(agent) == 1)
    model.require("room", (rk.data(weight, agent, job) * does).sum(job) <= rk.data(room, agent))
    return model, float(state.min())


def location(sites: int = 25, customers: int = 60) -> Case:
    """Sites to open and customers to serve; by enumeration of sites with a bound."""
    rng = np.random.default_rng(2560)
    at, to = rng.uniform(0, 100, (sites, 2)), rng.uniform(0, 100, (customers, 2))
    serve = np.round(np.linalg.norm(at[:, None] - to[None], axis=2)).astype(int)
    fixed = rng.integers(120, 260, sites)
    best = float(fixed.sum() + serve.min(axis=0).sum())
    # by levels: sites before k are decided, the rest may still serve; masks whose bound is too high go
    opened, paid = np.full((1, customers), 10**6), np.zeros(1)
    for k in range(sites):
        later = serve[k + 1 :].min(axis=0) if k + 1 < sites else np.full(customers, 10**6)
        with_k = np.minimum(opened, serve[k])
        both, cost = np.vstack((opened, with_k)), np.concatenate((paid, paid + fixed[k]))
        best = min(best, float((cost + both.sum(axis=1)).min()))
        alive = cost + np.minimum(both, later).sum(axis=1) <= best
        opened, paid = both[alive], cost[alive]
    site, customer = rk.Axis("site", range(sites)), rk.Axis("customer", range(customers))
    model = rk.Model("Facility location")
    opens = model.decide("open", site, kind="binary")
    share = model.decide("share", site, customer)
    model.minimize("cost", (rk.data(fixed, site) * opens).sum() + (rk.data(serve, site, customer) * share).sum())
    model.require("served", share.sum(site) == 1)
    model.require("only_open", share <= opens)
    return model, best


def roomy_location(sites: int = 15, customers: int = 30) -> Case:
    """Sites of limited room; by enumeration of sites, each a flow problem."""
    rng = np.random.default_rng(1530)
    at, to = rng.uniform(0, 100, (sites, 2)), rng.uniform(0, 100, (customers, 2))
    haul = np.round(np.linalg.norm(at[:, None] - to[None], axis=2)).astype(int)
    need, room = rng.integers(5, 36, customers), rng.integers(80, 160, sites)
    fixed = rng.integers(500, 1200, sites)
    subsets = ((np.arange(2**sites)[:, None] >> np.arange(sites)) & 1).astype(bool)
    subsets = subsets[(subsets * room).sum(axis=1) >= need.sum()]
    nearest = np.array([haul[chosen].min(axis=0) @ need for chosen in subsets])
    bounds = subsets @ fixed + nearest
    best = inf
    for k in np.argsort(bounds):
        if bounds[k] >= best:
            break
        graph = nx.DiGraph()
        graph.add_node("spare", demand=int(room[subsets[k]].sum() - need.sum()))
        for c in range(customers):
            graph.add_node(("c", c), demand=int(need[c]))
        for s in np.flatnonzero(subsets[k]).tolist():
            graph.add_node(("s", s), demand=-int(room[s]))
            graph.add_edge(("s", s), "spare", weight=0)
            graph.add_edges_from((("s", s), ("c", c), {"weight": int(haul[s, c])}) for c in range(customers))
        best = min(best, float(fixed[subsets[k]].sum() + nx.network_simplex(graph)[0]))
    site, customer = rk.Axis("site", range(sites)), rk.Axis("customer", range(customers))
    model = rk.Model("Capacitated facility location")
    opens = model.decide("open", site, kind="binary")
    ship = model.decide("ship", site, customer)
    model.minimize("cost", (rk.data(fixed, site) * opens).sum() + (rk.data(haul, site, customer) * ship).sum())
    model.require("need", ship.sum(site) >= rk.data(need, customer))
    model.require("room", ship.sum(customer) <= rk.data(room, site) * opens)
    return model, best


def lots(periods: int = 12, items: int = 8) -> Case:
    """Lot sizes with set-ups and a big limit on every lot; by Wagner and Whitin's dynamic program, item by item."""
    rng = np.random.default_rng(128)
    need = rng.integers(0, 60, (items, periods))
    setup, hold = rng.integers(60, 200, items), rng.integers(1, 4, items)
    total = 0.0
    for i in range(items):
        best = np.zeros(periods + 1)
        for end in range(1, periods + 1):
            best[end] = best[end - 1] if need[i, end - 1] == 0 else inf
            for start in range(end):
                held = sum(hold[i] * (t - start) * need[i, t] for t in range(start, end))
                best[end] = min(best[end], best[start] + setup[i] + held)
        total += best[-1]
    item, period = rk.Axis("item", range(items)), rk.Axis("period", range(periods))
    model = rk.Model("Lot sizes")
    make, keep = model.decide("make", item, period), model.decide("keep", item, period)
    sets = model.decide("set_up", item, period, kind="binary")
    wanted, most = rk.data(need, item, period), rk.data(need.sum(axis=1), item)
    model.minimize("cost", (rk.data(setup, item) * sets).sum() + (rk.data(hold, item) * keep).sum())
    model.require("stock", make + keep.previous(period, start=0) - keep == wanted)
    model.require("only_set_up", make <= most * sets)
    return model, float(total)


def trip_lengths(stops: int = 14) -> np.ndarray:
    """Return the lengths between the stops of a tour."""
    at = np.random.default_rng(14).uniform(0, 100, (stops, 2))
    return np.round(np.linalg.norm(at[:, None] - at[None], axis=2)).astype(int)


def shortest_trip(length: np.ndarray) -> float:
    """Return the length of the shortest tour by the dynamic program of Held and Karp."""
    n = len(length) - 1  # stop n is where it begins
    best = np.full((2**n, n), inf)
    for j in range(n):
        best[1 << j, j] = length[n, j]
    for mask in range(1, 2**n):
        for j in range(n):
            if mask >> j & 1 and mask != 1 << j:
                rest = mask ^ (1 << j)
                best[mask, j] = (best[rest] + length[:n, j]).min()
    return float((best[-1] + length[:n, n]).min())


def trip(stops: int = 14) -> Case:
    """A travelling salesman problem, subtours excluded by an order of the stops."""
    length = trip_lengths(stops)
    a, b = rk.Axis("a", range(stops)), rk.Axis("b", range(stops))
    pairs = rk.data({(i, j): float(length[i, j]) for i in range(stops) for j in range(stops) if i != j}, a, b)
    model = rk.Model("Travelling salesman")
    go = model.decide("go", a, b, kind="binary", only=pairs)
    place = model.decide("place", a, upper=stops - 1)
    model.minimize("length", (pairs * go).sum())
    model.require("leave", go.sum(b) == 1)
    model.require("arrive", go.sum(a) == 1)
    for i, j in product(range(1, stops), repeat=2):
        if i != j:
            model.require(f"after{i}_{j}", place[j] - place[i] - stops * go[i, j] >= 1 - stops)
    return model, shortest_trip(length)


def lazy_trip(stops: int = 14) -> tuple[rk.Model, float, Lazy]:
    """The same, subtours excluded by rows that are added where a plan has some."""
    model, best = trip(stops)
    for name in [*(f"after{i}_{j}" for i, j in product(range(1, stops), repeat=2) if i != j), "place"]:
        model.remove(name)
    go: Any = model["go"]

    def unbroken(plan: rk.Plan) -> list[Any]:
        follows = {i: j for (i, j), value in plan["go"].items() if value > 0.5}
        relations, left = [], set(follows)
        while left:
            tour, at = [], min(left)
            while at in left:
                left.remove(at)
                tour.append(at)
                at = follows[at]
            if len(tour) < stops:
                relations.append(rk.total(go[i, j] for i in tour for j in tour if i != j) <= len(tour) - 1)
        return relations

    return model, best, unbroken


def bins(items: int = 20) -> Case:
    """Items into the fewest bins; by a dynamic program over sets of items."""
    rng = np.random.default_rng(20)
    size, room = rng.integers(15, 60, items), 100
    # of every set: the fewest bins, and then the least room used in the last one, as one number
    least = np.zeros(2**items, np.int64)
    masks = np.arange(2**items)
    least[1:] = 10**9
    bits = (masks[:, None] >> np.arange(items)) & 1
    by_count = np.argsort(bits.sum(axis=1), kind="stable")
    edges = np.searchsorted(bits.sum(axis=1)[by_count], np.arange(items + 2))
    for count in range(items):
        here = by_count[edges[count] : edges[count + 1]]
        for j in range(items):
            free = here[(here >> j & 1) == 0]
            used, last = np.divmod(least[free], 1000)
            fits = (last + size[j] <= room) & (used > 0)
            value = np.where(fits, used * 1000 + last + size[j], (used + 1) * 1000 + size[j])
            least[free | 1 << j] = np.minimum(least[free | 1 << j], value)
    best = float(least[-1] // 1000)
    most = 11
    item, bin_ = rk.Axis("item", range(items)), rk.Axis("bin", range(most))
    model = rk.Model("Bins")
    put = model.decide("put", item, bin_, kind="binary")
    used_ = model.decide("used", bin_, kind="binary")
    model.minimize("bins", used_.sum())
    model.require("once", put.sum(bin_) == 1)
    model.require("room", (rk.data(size, item) * put).sum(item) <= room * used_)
    return model, best


def colouring(steps: int = 3) -> Case:
    """The fewest colours of a graph without triangles that needs many: Mycielski's (1955), of `steps` + 1 colours."""
    graph = nx.mycielski_graph(steps + 1)
    most = steps + 2
    node, colour = rk.Axis("node", range(len(graph))), rk.Axis("colour", range(most))
    model = rk.Model("Colouring")
    has = model.decide("has", node, colour, kind="binary")
    used = model.decide("used", colour, kind="binary")
    model.minimize("colours", used.sum())
    model.require("one", has.sum(colour) == 1)
    for u, v in graph.edges:
        model.require(f"differ{u}_{v}", has.at(node=u) + has.at(node=v) <= used)
    return model, float(steps + 1)


def units(hours: int = 24) -> Case:
    """Ten units of three kinds on and off over a day, with least hours on and off; by a program over counts of ages."""
    count, least_on, least_off = (4, 3, 3), (3, 2, 4), (2, 2, 3)
    low, high = np.array([20.0, 30.0, 50.0]), np.array([60.0, 80.0, 120.0])
    price, idle, begin = np.array([11.0, 9.0, 7.0]), np.array([120.0, 200.0, 350.0]), np.array([150.0, 300.0, 700.0])
    rng = np.random.default_rng(1024)
    need = np.round(350 + 220 * np.sin((np.arange(hours) - 8) / 24 * 2 * np.pi) + rng.uniform(-30, 30, hours))
    best = _units_by_ages(count, least_on, least_off, (low, high, price, idle, begin), need)
    kinds, hour = range(3), rk.Axis("hour", range(hours))
    names = [f"{k}{i}" for k in kinds for i in range(count[k])]
    of = [k for k in kinds for _ in range(count[k])]
    unit = rk.Axis("unit", names)

    def by_unit(values: np.ndarray) -> rk.Data:
        return rk.data(np.array([values[k] for k in of]), unit)

    model = rk.Model("Unit commitment")
    on, starts = model.decide("on", unit, hour, kind="binary"), model.decide("start", unit, hour, kind="binary")
    gives = model.decide("gives", unit, hour)
    model.minimize(
        "cost", (by_unit(price) * gives).sum() + (by_unit(idle) * on).sum() + (by_unit(begin) * starts).sum()
    )
    model.require("need", gives.sum(unit) == rk.data(need, hour))
    model.require("least", gives >= by_unit(low) * on)
    model.require("most", gives <= by_unit(high) * on)
    model.require("begun", starts >= on - on.previous(hour, start=0))
    for name, k in zip(names, of, strict=True):
        for t in range(hours):
            up = range(max(0, t - least_on[k] + 1), t + 1)
            model.require(f"up_{name}_{t}", sum(starts[name, s] for s in up) <= on[name, t])
            before = t - least_off[k]
            down = range(max(0, before + 1), t + 1)
            if before >= 0:
                model.require(f"down_{name}_{t}", sum(starts[name, s] for s in down) + on[name, before] <= 1)
    return model, best


def _units_by_ages(
    count: tuple[int, ...],
    least_on: tuple[int, ...],
    least_off: tuple[int, ...],
    numbers: tuple[np.ndarray, ...],
    need: np.ndarray,
) -> float:
    """Return the least cost, units of one kind counted by how long they have been on or off."""
    low, high, price, idle, begin = numbers
    spaces, moves = [], []
    for k in range(3):
        ages = least_on[k] + least_off[k]  # on for 1, 2, .. hours or more; then off likewise
        states = [s for s in product(range(count[k] + 1), repeat=ages) if sum(s) == count[k]]
        place = {s: i for i, s in enumerate(states)}
        edges = []
        for s in states:
            for stop, start in product(range(s[least_on[k] - 1] + 1), range(s[-1] + 1)):
                new = [0] * ages
                for a, c in enumerate(s):
                    last_on, last_off = a == least_on[k] - 1, a == ages - 1
                    if last_on:
                        new[a] += c - stop
                        new[least_on[k]] += stop
                    elif last_off:
                        new[a] += c - start
                        new[0] += start
                    else:
                        new[a + 1] += c
                edges.append((place[s], place[tuple(new)], start * begin[k]))
        spaces.append((states, place))
        moves.append(tuple(np.array(part) for part in zip(*edges, strict=True)))
    running = [np.array([sum(s[: least_on[k]]) for s in spaces[k][0]]) for k in range(3)]
    value = np.full(tuple(len(states) for states, _ in spaces), inf)
    value[
        tuple(place[(0,) * (least_on[k] + least_off[k] - 1) + (count[k],)] for k, (_, place) in enumerate(spaces))
    ] = 0.0
    on = np.stack(np.meshgrid(*running, indexing="ij"))
    for wanted in need:
        for k in range(3):
            before, after, cost = moves[k]
            moved = np.moveaxis(value, k, 0)
            new = np.full_like(moved, inf)
            np.minimum.at(new, after, moved[before] + cost[:, None, None])
            value = np.moveaxis(new, 0, k)
        value = value + _dispatch(on, low, high, price, idle, wanted)
    return float(value.min())


def _dispatch(
    on: np.ndarray, low: np.ndarray, high: np.ndarray, price: np.ndarray, idle: np.ndarray, wanted: float
) -> np.ndarray:
    """Return the cost of meeting one hour's need with so many units of each kind on, the cheapest first."""
    rest = wanted - np.tensordot(low, on, 1)
    cost = np.tensordot(idle + low * price, on, 1)
    bad = rest < 0
    for k in np.argsort(price):
        more = np.clip(rest, 0, (high[k] - low[k]) * on[k])
        cost = cost + price[k] * more
        rest = rest - more
    return np.where(bad | (rest > 1e-9), inf, cost)


KNOWN: dict[str, Callable[[], Case | tuple[rk.Model, float, Lazy]]] = {
    "Steiner triples 27": lambda: steiner(27),
    "Steiner triples 45": lambda: steiner(45),
    "job shop 6x6": job_shop,
    "knapsack 50": knapsack,
    "knapsack 50, mixed": lambda: knapsack(50, 0),
    "5 knapsacks of 30": many_knapsacks,
    "generalised assignment 5x25": assignment,
    "facility location 25x60": location,
    "capacitated facility location 15x30": roomy_location,
    "lot sizes 12x8": lots,
    "travelling salesman 14": trip,
    "travelling salesman 14, lazy": lazy_trip,
    "bins 20": bins,
    "colouring, 11 nodes": lambda: colouring(3),
    "colouring, 23 nodes": lambda: colouring(4),
    "unit commitment 10x24": units,
}
