"""The gallery: both forms of every model say the same, and its answer holds against an independent computation.

Each is tried with its own data and with data changed at random.
"""

from __future__ import annotations

import importlib.util
import shutil
from collections.abc import Callable
from itertools import combinations, product
from pathlib import Path
from types import ModuleType

import networkx as nx
import numpy as np
import pandas as pd
import pytest
from scipy.optimize import linear_sum_assignment

import ruddock as rk
from ruddock import demos

GALLERY = Path(demos.__file__).parent / "gallery"
PAGES = Path(__file__).parent.parent / "docs" / "gallery"


def module_of(folder: Path) -> ModuleType:
    (path,) = folder.glob("*.py")
    spec = importlib.util.spec_from_file_location(path.stem, path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


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
    limits = [(0.5, 1.2, 64.0), (0.2, 0.1, 15.0), (1, -1, 50.0), (-1, 1, 10.0), (-1, 0, 0.0), (0, -1, 0.0)]
    best = 0.0
    for (a, b, c), (d, e, f) in combinations(limits, 2):
        if abs(a * e - b * d) > 1e-12:
            x, y = np.linalg.solve([[a, b], [d, e]], [c, f])
            if all(p * x + q * y <= r + 1e-9 for p, q, r in limits):
                best = max(best, 4.2 * x + 9.5 * y)
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


CASES: dict[str, tuple[Callable[[Path], float], Callable[[Path, np.random.Generator], None] | None]] = {
    "projects": (best_projects, change_projects),
    "crews": (fewest_hours, change_hours),
    "vans": (fewest_vans, change_lots),
    "stock": (cheapest_bottling, change_months),
    "tariff": (cheapest_hours, change_tariff),
    "two_objectives": (cheapest_lanes, change_lanes),
    "two_products": (best_corner, None),
}


@pytest.mark.parametrize(("name", "seed"), [(name, seed) for name in CASES for seed in range(3)])
def test_the_answer_holds_against_another_computation(name: str, seed: int, tmp_path: Path) -> None:
    folder = tmp_path / name
    shutil.copytree(GALLERY / name, folder)
    computed, change = CASES[name]
    if seed and change is None:
        return
    if seed and change is not None:
        change(folder, np.random.default_rng(seed))
    (text,) = folder.glob("*.rdk")
    module = module_of(folder)
    typed, written = rk.read(text), module.build(folder) if change is not None else module.build()
    expected = computed(folder)
    for model in (typed, written):
        plan = model.solve()
        if expected == np.inf:
            assert plan.status == "infeasible"
            continue
        assert plan.status == "optimal"
        assert plan.objective == pytest.approx(expected)
    assert typed.check().clean or seed, "the gallery's own data give no finding"
    one, other = typed.problem(), written.problem()
    assert np.array_equal(one.matrix().toarray(), other.matrix().toarray())
    assert np.array_equal(one.costs, other.costs)


def test_every_model_of_the_gallery_is_tried_and_has_a_page() -> None:
    folders = {path.name for path in GALLERY.iterdir() if path.is_dir() and path.name != "__pycache__"}
    assert folders == set(CASES)
    assert {name.replace("-", "_") for name in demos.GALLERY} == folders
    assert {path.stem for path in PAGES.glob("*.md")} == set(demos.GALLERY)
    index = (PAGES.parent / "gallery.md").read_text()
    assert all(f"gallery/{name}.md" in index for name in demos.GALLERY)


@pytest.mark.parametrize("name", [*demos.GALLERY, "packing-week"])
def test_models_are_copied_whole_to_start_from(name: str, tmp_path: Path) -> None:
    paths = demos.copy(name, tmp_path / "mine")
    (text,) = [path for path in paths if path.suffix == ".rdk"]
    mine, shipped = rk.read(text).problem(), demos.build(name).problem()
    assert np.array_equal(mine.matrix().toarray(), shipped.matrix().toarray())
    with pytest.raises(rk.FormatError, match="there already"):
        demos.copy(name, tmp_path / "mine")
    assert demos.question(name).endswith("?")
