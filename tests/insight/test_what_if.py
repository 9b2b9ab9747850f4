"""What if, sweeps, reach and appraisal: compared with solving again."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.insight.sweep import Sweep

HAULAGE = """
model Spring haulage

axes
  apiary : Fell, Mere, Gorse
  market : Quay, Abbey

data
  stock[apiary] (crate)  : Fell 120, Mere 80, Gorse 150
  need[market] (crate)   : Quay 90, Abbey 110
  weight[apiary]         : Fell 1, Mere 2, Gorse 1.5
  haul[apiary, market]   :
           Quay  Abbey
    Fell   4     7
    Mere   6     3
    Gorse  5     5
  fuel[apiary, market]   = 0.12 * weight * haul
  rent[apiary]           : 90

decisions
  ship[apiary, market] (crate) >= 0
  used[apiary]                 binary

minimize cost (£)
  haulage : sum(fuel * ship)
  rent    : sum(rent * used)

quantities
  sent[apiary] (crate) : sum(ship, market)

require
  supply[apiary] : sum(ship, market) <= stock * used
  demand[market] : sum(ship, apiary) >= need
"""


@pytest.fixture
def haulage(tmp_path: Path) -> rk.Model:
    path = tmp_path / "haulage.rdk"
    path.write_text(HAULAGE)
    return rk.read(path)


def packing() -> rk.Model:
    return demos.build("packing-week").without_integers()


CHANGES = {
    "limit": ({"demand[Quay]": 120}, lambda t: t.replace("Quay 90,", "Quay 120,")),
    "data, computed from": ({"weight": "*2"}, lambda t: t.replace("Fell 1, Mere 2, Gorse 1.5", "Fell 2, Mere 4, Gorse 3")),
    "one number of data": (["need[Abbey]+=15"], lambda t: t.replace("Abbey 110", "Abbey 125")),
    "family of limits": (["demand*=1.1"], lambda t: t.replace("Quay 90, Abbey 110", "Quay 99, Abbey 121")),
    "kind": ({"used.kind": "continuous"}, lambda t: t.replace("binary", "0 .. 1")),
    "bound": ({"ship[Fell,Quay].upper": 50}, lambda t: t.replace("demand[market]", "room : ship[Fell, Quay] <= 50\n  demand[market]")),
    "off": (["demand[Abbey]=off"], lambda t: t.replace("Abbey 110", "Abbey 0")),
    "coefficient": (["haulage.ship[Mere,Abbey]+=2"], lambda t: t.replace("sum(fuel * ship)", "sum(fuel * ship) + 2 ship[Mere, Abbey]")),
    "two": ({"rent": 50, "need": "*0.9"}, lambda t: t.replace(": 90", ": 50").replace("Quay 90, Abbey 110", "Quay 81, Abbey 99")),
}  # fmt: skip


@pytest.mark.parametrize("name", CHANGES)
def test_a_change_gives_the_plan_of_the_model_written_with_it(haulage: rk.Model, tmp_path: Path, name: str) -> None:
    changes, written = CHANGES[name]
    text = written(HAULAGE)
    assert text != HAULAGE
    (tmp_path / "changed.rdk").write_text(text)
    truth, base = rk.read(tmp_path / "changed.rdk").solve(), haulage.solve()
    found = haulage.what_if(changes)
    assert found.changed.objective == pytest.approx(truth.objective, rel=1e-9)
    assert found.base.objective == pytest.approx(base.objective)
    assert found.difference == pytest.approx(truth.objective - base.objective, abs=1e-9)
    moved = found.decisions(moved=True)
    assert (moved["changed"] != moved["base"]).all()
    assert haulage.solve().objective == base.objective  # the model itself stays as it is
    assert found.breakdown()["difference"].sum() == pytest.approx(found.difference)


def random_model(seed: int, changed: bool) -> rk.Model:
    """Return a linear model; changed, it has other bounds, some of them infinite, another decision, more or fewer rows."""
    rng = np.random.default_rng(seed)
    size, rows = rng.integers(2, 9), rng.integers(1, 7)
    good = rk.Axis("good", range(size))
    lower = rng.integers(-3, 1, size).astype(float)
    upper = lower + rng.integers(1, 9, size)
    if changed:
        lower[rng.random(size) < 0.4], upper[rng.random(size) < 0.4] = -np.inf, np.inf
    model = rk.Model("Goods")
    make = model.decide("make", good, lower=rk.data(lower, good), upper=rk.data(upper, good))
    more = 0.0 if not changed else model.decide("more", lower=None, upper=5)
    for row in range(rows + 2 * changed):
        if not changed or rng.random() < 0.8:
            use = (rk.data(rng.integers(-3, 5, size).astype(float), good) * make).sum() + more
            limit = float(rng.integers(0, 12))
            model.require(f"row_{row}", use <= limit if rng.random() < 0.7 else use >= -limit)
    model.minimize("cost", (rk.data(rng.integers(-5, 6, size).astype(float), good) * make).sum() + more)
    return model


def test_a_linear_model_starts_from_any_plan_like_it_and_comes_to_the_same() -> None:
    statuses = set()
    for seed in range(120):
        plan = random_model(seed, changed=False).solve()
        if not plan.found:
            continue
        for model in (random_model(seed, changed=False), random_model(seed + seed % 2, changed=True)):
            afresh, near = model.solve(), model.solve(start=plan)
            assert near.status == afresh.status
            assert not near.found or near.objective == pytest.approx(afresh.objective, abs=1e-9)
            statuses.add(near.status)
    assert statuses == {"optimal", "unbounded", "infeasible"}
    assert packing().solve(start=packing().solve()).effort.iterations == 0
    assert packing().what_if(["wax+=1"], method="primal").changed.effort.iterations == 0


def test_prices_predict_exactly_within_their_ranges_and_say_so_beyond() -> None:
    within = packing().what_if(["extraction=700", "wax+=20"])
    assert within.predicted == pytest.approx(within.changed.objective)
    assert within.share is not None
    assert 0 < within.share <= 1
    assert "which is the result" in str(within)
    beyond = packing().what_if(["extraction=5"])
    assert beyond.share is not None
    assert beyond.share > 1
    assert beyond.predicted is not None
    assert beyond.predicted > beyond.changed.objective + 1
    costs = packing().what_if({"margin.jars": "+0.2"})
    assert costs.predicted == pytest.approx(costs.changed.objective)
    assert costs.share is not None


def test_quantities_are_compared_and_what_rules_made_for_themselves_is_not() -> None:
    model = demos.build("tariff")
    found = model.what_if(["fuse+=10"])
    load = found.quantities()
    for column, plan in (("base", found.base), ("changed", found.changed)):
        assert load[column].tolist() == plan["load"].tolist()
    assert len(found.decisions(moved=True))
    assert found.decisions(moved=True).index.str.startswith("work[").all()
    assert found.binding().index.str.startswith(("fuse", "enough", "evening")).all()
    text = str(found)
    assert "load[16]         30            17              -13" in text
    study = model.scenarios(pd.DataFrame({"fuse": ["+10"]}))
    assert study.decisions().index.str.startswith("work[").all()
    assert "together_" not in str(study)


def test_a_change_without_plan_is_told(haulage: rk.Model) -> None:
    found = haulage.what_if(["need*=3"])
    assert found.changed.status == "infeasible"
    assert np.isnan(found.difference)
    assert "infeasible" in str(found)
    assert found.as_dict()["changed"]["objective"] is None


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (["demnd=3"], "did you mean 'demand'"),
        (["demand[Quay]"], "NAME=NUMBER"),
        (["demand[Quay]=many"], "write a number"),
        (["ship.upper=-1"], "lower bound would be above"),
        (["used.kind=half"], "write a number"),
        (["need[Bay]=3"], "holds no number there"),
        ({"supply": "off", "haulage.nothing": 3}, "no decision is called 'nothing'; known: ship, used"),
        (["haulge.used[Fell]=3"], "did you mean 'haul'"),
    ],
)
def test_changes_that_cannot_be_made_say_why(haulage: rk.Model, change: object, message: str) -> None:
    with pytest.raises(rk.RuddockError, match=message):
        haulage.what_if(change)


@pytest.mark.parametrize(
    ("name", "start", "stop"),
    [("extraction", 0.0, 1300.0), ("wax", 0.0, 300.0), ("shelf.upper", 10.0, 900.0), ("shelf.lower", -500.0, 200.0)],
)
def test_a_sweep_is_what_solving_again_gives(name: str, start: float, stop: float) -> None:
    model = packing()
    found = model.sweep(name, start, stop)
    assert found.exact
    assert len(found.points) >= 2
    points = np.linspace(start, stop, 50)
    for at in points:
        again = model.what_if({name: at}).changed if not name.endswith("lower") or at <= 200 else None
        assert again is not None
        if again.status == "infeasible":
            assert np.isnan(found.objective(at)) or at == pytest.approx(found.points.index[0])
        else:
            assert found.objective(at) == pytest.approx(again.objective, rel=1e-9, abs=1e-9)
    corners = found.points["price"].to_numpy(float)[:-1]
    assert (np.abs(np.diff(corners)) > 1e-7).all()  # every corner is one
    assert "these are all its corners" in " ".join(str(found).split())


def test_a_sweep_of_whole_numbers_is_solved_at_points(haulage: rk.Model) -> None:
    found: Sweep = haulage.sweep("demand[Quay]", 0, 300, points=7)
    assert not found.exact
    assert found.points.index.tolist() == pytest.approx([0, 50, 100, 150, 200, 240])
    assert found.feasible == (0, 240)  # beyond, stocks do not suffice
    assert haulage.what_if({"demand[Quay]": 240}).changed.found
    assert not haulage.what_if({"demand[Quay]": 240.01}).changed.found
    for at, objective in found.points["objective"].items():
        assert objective == pytest.approx(haulage.what_if({"demand[Quay]": float(at)}).changed.objective)
    with pytest.raises(rk.ModelError, match="only at its points"):
        found.objective(70)
    assert not len(haulage.sweep("demand[Quay]", 400, 500, points=2).points)


def test_reach_finds_the_tightest_limit(haulage: rk.Model) -> None:
    model = packing()
    found = model.reach("extraction", objective=6000)
    assert found.value is not None
    assert model.what_if({"extraction": found.value}).changed.objective == pytest.approx(6000)
    assert model.what_if({"extraction": found.value - 1e-3}).changed.objective < 6000 - 1e-3
    assert model.reach("wax", objective=9000).value is None
    assert "This is proven" in str(model.reach("wax", objective=9000))
    jars = model.reach("extraction", {"jars": 800})
    assert jars.value == pytest.approx(1120)
    assert jars.plan is not None
    assert jars.plan.constraints().loc["extraction", "right"] == jars.value
    # a requirement gives way downwards, also where decisions are whole
    less = haulage.reach("demand[Abbey]", objective=250)
    assert less.value is not None
    assert less.value < 110
    assert haulage.what_if({"demand[Abbey]": less.value}).changed.objective <= 250 + 1e-6
    assert haulage.what_if({"demand[Abbey]": less.value + 0.1}).changed.objective > 250
    sent = haulage.reach("demand[Quay]", {"sent[Mere]": 60})
    assert sent.status == "optimal"
    family = haulage.reach("demand", objective=250)  # all members to one value
    assert family.value is not None
    assert haulage.what_if({"demand": family.value - 1e-9}).changed.objective <= 250 + 1e-6
    assert haulage.what_if({"demand": family.value + 1e-3}).changed.objective > 250
    share = haulage.reach("demand*", objective=250)
    assert share.value is not None
    assert haulage.what_if({"demand": f"*{share.value - 1e-9}"}).changed.objective <= 250 + 1e-6
    assert haulage.what_if({"demand": f"*{share.value + 1e-3}"}).changed.objective > 250
    with pytest.raises(rk.ModelError, match="no limit of its own; change the data"):
        haulage.reach("supply[Fell]", objective=1)
    with pytest.raises(rk.ModelError, match="a target is needed"):
        haulage.reach("demand[Quay]")


def test_an_equation_moves_as_little_as_needed() -> None:
    model = rk.Model("mix")
    honey, wax = model.decide("honey"), model.decide("wax")
    model.require("batch", honey + wax == 10)
    model.require("honeycomb", wax >= 2)
    model.maximize("margin", 3 * honey + wax)
    found = model.reach("batch", objective=35)
    assert found.value == pytest.approx(13)
    assert model.reach("batch", objective=20).value == pytest.approx(10)


def test_a_hand_made_plan_is_judged(tmp_path: Path, haulage: rk.Model) -> None:
    good = haulage.appraise({"ship[Fell,Quay]": 90, "ship[Gorse,Abbey]": 110, "used[Fell]": 1, "used[Gorse]": 1})
    assert good.feasible
    assert good.gain == pytest.approx(good.plan.objective - good.best.objective)
    assert good.gain > 0
    assert "used[Mere]" in good.assumed
    path = tmp_path / "hand.csv"
    path.write_text('decision,value\n"ship[Fell,Quay]",100.5\n"ship[Mere,Abbey]",-1\n"used[Fell]",0.5\n')
    bad = haulage.appraise(path)
    assert not bad.feasible
    found = bad.violations.set_index("where")
    assert found.loc["ship[Mere,Abbey]", "by"] == 1
    assert found.loc["demand[Abbey]", "by"] == 111
    assert found.loc["supply[Fell]", "by"] == pytest.approx(40.5)
    assert found.loc["used[Fell]", "what"] == "integer"
    assert "violates the model in 4 places" in str(bad)
    series = pd.Series(haulage.solve().values, haulage.solve().formulation.decision_names)
    assert haulage.appraise(series).gain == pytest.approx(0)
    with pytest.raises(rk.DataError, match="'Key' is not a label of axis market"):
        haulage.appraise({"ship[Fell,Key]": 3})
    path.write_text("decision,value\nused[Fell],lots\n")
    with pytest.raises(rk.FormatError, match="line 2"):
        haulage.appraise(path)
