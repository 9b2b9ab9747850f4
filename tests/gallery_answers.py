"""Answers of the gallery's models by computations of their own, and changes of their data."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from itertools import combinations, product
from pathlib import Path

import networkx as nx
import numpy as np
import pandas as pd
import pytest
from scipy.optimize import linear_sum_assignment

import ruddock as rk
from ruddock.engine.solve import solve
from ruddock.problem import Problem
from tests.exact import judge_infeasible, judge_optimal


def best_projects(folder: Path) -> float:
    """Try every choice."""
    table = pd.read_csv(folder / "projects.csv").set_index("project")
    names = list(table.index)
    cost, gain, crew = (table[name].to_numpy(float) for name in ("cost", "gain", "crew"))
    place = {name: k for k, name in enumerate(names)}
    best = 0.0
    for choice in product([0, 1], repeat=len(names)):
        x = np.array(choice)
        shops = x[place["shop at Abbey"]] + x[place["online shop"]]
        if x @ cost <= 120 and x @ crew <= 20 and shops <= 1 and x[place["mead cellar"]] <= x[place["cold store"]]:
            best = max(best, float(x @ gain))
    return best


def change_projects(folder: Path, rng: np.random.Generator) -> None:
    table = pd.read_csv(folder / "projects.csv")
    table["cost"], table["gain"] = rng.integers(8, 60, len(table)), rng.integers(10, 80, len(table))
    table.to_csv(folder / "projects.csv", index=False)


def cheapest_hours(folder: Path) -> float:
    """Go through the hours; a state is how long each machine has run, and whether it is on for its first hour."""
    tariff, machines = pd.read_csv(folder / "tariff.csv"), pd.read_csv(folder / "machines.csv")
    power, need = machines["power"].tolist(), machines["hours"].tolist()
    # of each machine: hours left, and 0 off, 1 in its first hour, 2 longer on
    states: dict[tuple[tuple[int, int], ...], float] = {tuple((int(n), 0) for n in need): 0.0}
    last = len(tariff) - 1
    for k, (price, lights) in enumerate(zip(tariff["price"], tariff["lights"], strict=True)):
        after: dict[tuple[tuple[int, int], ...], float] = {}
        for state, cost in states.items():
            for on in product([0, 1], repeat=len(power)):
                load = sum(p for p, o in zip(power, on, strict=True) if o)
                broken = any(run == 1 and not o for (_, run), o in zip(state, on, strict=True))
                late = k == last and any(o and not run for (_, run), o in zip(state, on, strict=True))
                if load > 30 - lights or broken or late:
                    continue
                new = tuple((left - o, (2 if run else 1) if o else 0) for (left, run), o in zip(state, on, strict=True))
                if all(0 <= left <= last - k for left, _ in new):
                    after[new] = min(after.get(new, np.inf), cost + price * load)
        states = after
    return min((cost for state, cost in states.items() if all(left == 0 for left, _ in state)), default=np.inf)


def change_tariff(folder: Path, rng: np.random.Generator) -> None:
    tariff = pd.read_csv(folder / "tariff.csv", dtype={"hour": str})
    tariff["price"] = rng.integers(8, 40, len(tariff)) / 100
    tariff.to_csv(folder / "tariff.csv", index=False)
    machines = pd.read_csv(folder / "machines.csv")
    machines["power"], machines["hours"] = rng.integers(4, 13, 4), rng.integers(2, 5, 4)
    machines.to_csv(folder / "machines.csv", index=False)


def cheapest_lanes(folder: Path) -> float:
    """Return the least fuel among the cheapest plans, by flows: a pound outweighs all fuel."""
    lanes = pd.read_csv(folder / "lanes.csv")
    graph = nx.DiGraph()
    heavy = 10_000_000
    for name, stock in {"Fell": 120, "Mere": 80, "Gorse": 150}.items():
        graph.add_edge("source", name, capacity=stock, weight=0)
    for name, need in {"Quay": 90, "Abbey": 80, "Station": 100}.items():
        graph.add_edge(name, "sink", capacity=need, weight=0)
    for lane in lanes.itertuples():
        weight = round(10 * lane.cost) * heavy + round(10 * lane.fuel)
        graph.add_edge(lane.apiary, lane.market, capacity=1000, weight=weight)
    graph.nodes["source"]["demand"], graph.nodes["sink"]["demand"] = -270, 270
    least = nx.network_simplex(graph)[0]
    return float(least % heavy) / 10


def change_lanes(folder: Path, rng: np.random.Generator) -> None:
    lanes = pd.read_csv(folder / "lanes.csv")
    lanes["cost"], lanes["fuel"] = rng.integers(5, 40, 9) / 10, rng.integers(5, 40, 9) / 10
    lanes.to_csv(folder / "lanes.csv", index=False)


def best_corner(folder: Path) -> float:
    """Let every two limits meet."""
    del folder
    limits = [(0.5, 1.2, 64.0), (0.2, 0.1, 15.0), (1, -1, 50.0), (-1, 1, 10.0), (-1, 0, 0.0), (0, -1, 0.0)]
    return corner(limits, (4.2, 9.5))


def corner(limits: list[tuple[float, float, float]], worth: tuple[float, float]) -> float:
    """Return the most that a corner of a region of the plane is worth; its limits are ``a x + b y <= c``."""
    best = -np.inf
    for (a, b, c), (d, e, f) in combinations(limits, 2):
        if abs(a * e - b * d) > 1e-12:
            x, y = np.linalg.solve([[a, b], [d, e]], [c, f])
            if all(p * x + q * y <= r + 1e-9 for p, q, r in limits):
                best = max(best, worth[0] * x + worth[1] * y)
    return float(best)


def fewest_hours(folder: Path) -> float:
    """Match crews and apiaries."""
    table = pd.read_csv(folder / "hours.csv").pivot(index="crew", columns="apiary", values="hours").to_numpy(float)
    return float(table[linear_sum_assignment(table)].sum())


def change_hours(folder: Path, rng: np.random.Generator) -> None:
    table = pd.read_csv(folder / "hours.csv")
    table["hours"] = rng.integers(2, 30, len(table)) / 2
    table.to_csv(folder / "hours.csv", index=False)


def fewest_vans(folder: Path) -> float:
    """Fill van after van: which sets of lots can go with one more?"""
    lots = pd.read_csv(folder / "lots.csv")
    n = len(lots)
    masks = np.arange(2**n)
    inside = (masks[:, None] >> np.arange(n)) & 1
    fits = masks[
        (inside @ lots["weight"].to_numpy(float) <= 1000) & (inside @ lots["room"].to_numpy(float) <= 7 + 1e-9)
    ]
    reached = np.zeros(2**n, bool)
    reached[0] = True
    for vans in range(1, 6):
        more = reached.copy()
        for mask in masks[reached].tolist():
            more[fits[(fits & mask) == 0] | mask] = True
        reached = more
        if reached[-1]:
            return float(vans)
    return np.inf


def change_lots(folder: Path, rng: np.random.Generator) -> None:
    lots = pd.read_csv(folder / "lots.csv").head(9)
    lots["weight"], lots["room"] = rng.integers(12, 55, 9) * 10, rng.integers(8, 35, 9) / 10
    lots.to_csv(folder / "lots.csv", index=False)


def cheapest_bottling(folder: Path) -> float:
    """Go through the months by how much is kept; whole cases, which some best plan has."""
    months = pd.read_csv(folder / "months.csv")
    cost = np.full(251, np.inf)
    cost[60] = 0.0
    for need, most in zip(months["need"].tolist(), months["most"].tolist(), strict=True):
        after = np.full(251, np.inf)
        for made in [0, *range(80, min(400, most) + 1)]:
            move = made - need
            kept = np.arange(max(0, -move), min(250, 250 - move) + 1)
            if len(kept):
                after[kept + move] = np.minimum(after[kept + move], cost[kept] + 7.5 * made + 1.2 * (kept + move))
        cost = after
    return float(cost[50:].min())


def change_months(folder: Path, rng: np.random.Generator) -> None:
    months = pd.read_csv(folder / "months.csv")
    months["need"], months["most"] = rng.integers(30, 330, len(months)), rng.integers(220, 400, len(months))
    months.to_csv(folder / "months.csv", index=False)


def best_packing(folder: Path) -> float:
    """For every number of hampers, let every two limits of the jars and the mead meet."""
    del folder
    best = -np.inf
    for hampers in range(41):
        limits = [(0.5, 1.2, 640.0), (0.1, 0, 150.0 - 2 * hampers), (1, -1, 200.0), (-1, 1, -10.0), (0, -1, 0.0)]
        best = max(best, 31 * hampers + corner(limits, (4.2, 9.5)))
    return best


def cheapest_opening(folder: Path) -> float:
    """Try every choice of apiaries; what goes where is a flow of least cost."""
    stores, markets, lanes = (pd.read_csv(folder / f"{name}.csv") for name in ("apiaries", "markets", "lanes"))
    return cheapest_of_the_open(
        dict(zip(stores["apiary"], zip(stores["stock"], stores["rent"], strict=True), strict=True)),
        dict(zip(markets["market"], markets["need"], strict=True)),
        {(lane.apiary, lane.market): lane.haul for lane in lanes.itertuples()},
        1000,
    )


def cheapest_of_the_open(
    sites: dict[str, tuple[int, float]], needs: dict[str, int], costs: dict[tuple[str, str], float], digits: int
) -> float:
    """Return the least rent and haulage over all choices of sites, each of a size and a rent."""
    best = np.inf
    for choice in product([0, 1], repeat=len(sites)):
        chosen = [site for site, one in zip(sites, choice, strict=True) if one]
        if sum(sites[site][0] for site in chosen) < sum(needs.values()):
            continue
        graph = nx.DiGraph()
        for site in chosen:
            graph.add_edge("source", site, capacity=sites[site][0], weight=0)
        for name, need in needs.items():
            graph.add_edge(name, "sink", capacity=need, weight=0)
        for (site, name), cost in costs.items():
            if site in chosen:
                graph.add_edge(site, name, weight=round(digits * cost))
        graph.add_nodes_from([("source", {"demand": -sum(needs.values())}), ("sink", {"demand": sum(needs.values())})])
        try:
            least = nx.network_simplex(graph)[0] / digits
        except nx.NetworkXUnfeasible:
            continue
        best = min(best, least + sum(sites[site][1] for site in chosen))
    return float(best)


def change_haulage(folder: Path, rng: np.random.Generator) -> None:
    stores, lanes = pd.read_csv(folder / "apiaries.csv"), pd.read_csv(folder / "lanes.csv")
    stores["stock"], stores["rent"] = rng.integers(40, 160, len(stores)), rng.integers(20, 120, len(stores))
    lanes["haul"] = rng.integers(50, 300, len(lanes)) / 100
    stores.to_csv(folder / "apiaries.csv", index=False)
    lanes.to_csv(folder / "lanes.csv", index=False)


def certified(problem: Problem) -> float:
    """Return the least cost of a linear problem, its basis solved again exactly; infinite where that proves none."""
    outcome = solve(problem)
    if outcome.status == "infeasible":
        judge_infeasible(problem, outcome)
        return np.inf
    judge_optimal(problem, outcome)
    return outcome.objective


def certified_cost(folder: Path) -> float:
    (text,) = folder.glob("*.rdk")
    return certified(rk.read(text).problem())


def certified_margin(folder: Path) -> float:
    return -certified_cost(folder)


def best_blend(folder: Path) -> float:
    """Try every choice of whole lots; the rest is linear."""
    model = rk.read(folder / "blending.rdk")
    problem = model.problem()
    whole = np.flatnonzero(problem.kinds)
    best = np.inf
    for choice in product([0.0, 1.0], repeat=len(whole)):
        fixed = replace(
            problem, kinds=np.zeros_like(problem.kinds), lower=problem.lower.copy(), upper=problem.upper.copy()
        )
        fixed.lower[whole] = fixed.upper[whole] = choice
        best = min(best, certified(fixed))
    return -best


def change_lots_of_honey(folder: Path, rng: np.random.Generator) -> None:
    lots = pd.read_csv(folder / "lots.csv")
    lots["available"], lots["cost"] = rng.integers(80, 320, len(lots)), rng.integers(150, 400, len(lots)) / 100
    lots["moisture"], lots["colour"] = rng.integers(160, 200, len(lots)) / 10, rng.integers(20, 95, len(lots))
    lots.to_csv(folder / "lots.csv", index=False)


def no_storm_plan(folder: Path) -> float:
    """Show that less can flow than is needed, and that no whole hampers use the ribbon."""
    del folder
    graph = nx.DiGraph()
    for name, stock in {"Fell": 40, "Mere": 25}.items():
        graph.add_edge("source", name, capacity=stock)
    for name, need in {"Quay": 30, "Abbey": 47, "Bridge": 12}.items():
        graph.add_edge(name, "sink", capacity=need)
    graph.add_edges_from([("Fell", "Quay"), ("Fell", "Abbey"), ("Mere", "Abbey"), ("Mere", "Bridge")])
    assert nx.maximum_flow_value(graph, "source", "sink") < 30 + 47 + 12
    assert all(2 * small + 4 * large != 17 for small, large in product(range(21), repeat=2))
    return np.inf


def best_shares(folder: Path) -> float:
    """Search the whole by thirds; for each, fill the forages from their least to their most, the richest first."""
    table = pd.read_csv(folder / "forages.csv").sort_values("honey", ascending=False)
    honey, room = table["honey"].to_numpy(float), table["room"].to_numpy(float)
    least, most = table["least"].to_numpy(float), table["most"].to_numpy(float)

    def crop(whole: float) -> float:
        low, high = least * whole, np.minimum(most * whole, room)
        if (low > high + 1e-12).any() or high.sum() < whole - 1e-12:
            return -np.inf
        rest, got = whole - low.sum(), float(honey @ low)
        for each, more in zip(honey, high - low, strict=True):
            got += each * min(rest, more)
            rest -= min(rest, more)
        return got

    # what cannot be begins beyond some whole: a bigger whole needs bigger shares
    low, high = 0.0, 400.0
    for _ in range(200):
        middle = (low + high) / 2
        low, high = (middle, high) if np.isfinite(crop(middle)) else (low, middle)
    low, high = 0.0, low
    for _ in range(200):
        one, other = low + (high - low) / 3, high - (high - low) / 3
        low, high = (one, high) if crop(one) < crop(other) else (low, other)
    return crop(low)


def change_shares(folder: Path, rng: np.random.Generator) -> None:
    table = pd.read_csv(folder / "forages.csv")
    table["honey"], table["room"] = rng.integers(8, 40, len(table)), rng.integers(30, 220, len(table))
    table.to_csv(folder / "forages.csv", index=False)


def change_products(folder: Path, rng: np.random.Generator) -> None:
    for name, columns in {"products": ["price"], "skills": ["hours", "pay"], "materials": ["stock", "cost"]}.items():
        table = pd.read_csv(folder / f"{name}.csv")
        for column in columns:
            table[column] = (table[column] * rng.uniform(0.8, 1.3, len(table))).round(2)
        table.to_csv(folder / f"{name}.csv", index=False)


def cheapest_points(folder: Path) -> float:
    """Try every choice of points; the rest is a flow of least cost."""
    apiaries, points = pd.read_csv(folder / "apiaries.csv"), pd.read_csv(folder / "points.csv")
    losses = pd.read_csv(folder / "losses.csv").set_index("apiary").stack().dropna()
    return cheapest_of_the_open(
        dict(zip(points["point"], zip(points["room"], points["rent"], strict=True), strict=True)),
        dict(zip(apiaries["apiary"], apiaries["crop"], strict=True)),
        {(point, apiary): 0.042 * loss for (apiary, point), loss in losses.items()},
        10_000,
    )


def change_points(folder: Path, rng: np.random.Generator) -> None:
    points, losses = pd.read_csv(folder / "points.csv"), pd.read_csv(folder / "losses.csv").set_index("apiary")
    points["rent"] = rng.integers(50, 400, len(points))
    losses = losses.mask(rng.random(losses.shape) < 0.3, rng.integers(5, 90) / 10)
    points.to_csv(folder / "points.csv", index=False)
    losses.to_csv(folder / "losses.csv")


def change_parts(folder: Path, rng: np.random.Generator) -> None:
    for name, column in {"parts": "material", "offers": "price", "routes": "minutes", "benches": "hours"}.items():
        table = pd.read_csv(folder / f"{name}.csv")
        table[column] = (table[column] * rng.uniform(0.7, 1.2, len(table))).round(2)
        table.to_csv(folder / f"{name}.csv", index=False)


def bounded_season(folder: Path) -> float:
    """Return the cost of a plan that keeps all limits, after prices of the limits alone have shown none is cheaper."""
    model = rk.read(folder / "season.rdk")
    problem, plan = model.problem(), model.solve()
    matrix, prices = problem.matrix(), plan.constraints()["shadow_price"].to_numpy(float)
    at = matrix @ plan.values
    assert (at >= problem.row_lower - 1e-7).all()
    assert (plan.values >= problem.lower - 1e-9).all()
    assert (plan.values <= problem.upper + 1e-9).all()
    # whatever the prices of rows >= are, as long as none is negative, this is below every plan
    assert (prices >= -1e-12).all()
    assert np.isposinf(problem.row_upper).all()
    rest = problem.costs - matrix.T @ prices
    rest[np.abs(rest) < 1e-9] = 0.0
    assert (rest[np.isposinf(problem.upper)] >= 0).all()
    capped = np.isfinite(problem.upper)
    bound = prices @ problem.row_lower + np.minimum(rest[capped] * problem.upper[capped], 0).sum()
    cost = float(problem.costs @ plan.values)
    assert bound == pytest.approx(cost, rel=1e-9)
    return cost


def change_season(folder: Path, rng: np.random.Generator) -> None:
    lanes, markets = pd.read_csv(folder / "lanes.csv"), pd.read_csv(folder / "markets.csv")
    lanes["haul"], markets["need"] = rng.integers(20, 250, len(lanes)) / 100, rng.integers(20, 70, len(markets))
    lanes.to_csv(folder / "lanes.csv", index=False)
    markets.to_csv(folder / "markets.csv", index=False)


CASES: dict[str, tuple[Callable[[Path], float], Callable[[Path, np.random.Generator], None] | None]] = {
    "projects": (best_projects, change_projects),
    "crews": (fewest_hours, change_hours),
    "vans": (fewest_vans, change_lots),
    "stock": (cheapest_bottling, change_months),
    "tariff": (cheapest_hours, change_tariff),
    "two_objectives": (cheapest_lanes, change_lanes),
    "two_products": (best_corner, None),
    "packing_week": (best_packing, None),
    "spring_haulage": (cheapest_opening, change_haulage),
    "blending": (best_blend, change_lots_of_honey),
    "storm_week": (no_storm_plan, None),
    "shares": (best_shares, change_shares),
    "product_mix": (certified_margin, change_products),
    "collecting": (cheapest_points, change_points),
    "make_or_buy": (certified_cost, change_parts),
    "season": (bounded_season, change_season),
}
