"""Logical rules, in Python and in text, against enumeration of what they mean; hints to a search."""

from __future__ import annotations

from collections.abc import Callable
from itertools import product
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import ruddock as rk
from benchmarks.known import shortest_trip, trip_lengths
from ruddock.formats import read

HOURS = 6
hour = rk.Axis("hour", range(HOURS))


def allowed(rule: Callable[[rk.Model, Any], Any]) -> set[tuple[int, ...]]:
    """Return the on/off patterns that a rule allows, each asked for by fixing all of it."""
    found = set()
    for pattern in product((0, 1), repeat=HOURS):
        model = rk.Model("pattern")
        on = model.decide("on", hour, kind="binary")
        model.require("rule", rule(model, on))
        model.require("fixed", on == rk.data(list(map(float, pattern)), hour))
        if model.solve().status == "optimal":
            found.add(pattern)
    return found


def runs(pattern: tuple[int, ...], value: int, before: int) -> list[tuple[int, bool]]:
    """Return the lengths of runs of a value that begin within the pattern, and whether each reaches the end."""
    result, length, begun = [], 0, False
    for t, v in enumerate((*pattern, None)):
        if v == value:
            begun = begun or (length == 0 and (t > 0 or before != value))
            length += 1
        elif length:
            if begun:
                result.append((length, v is None))
            length, begun = 0, False
    return result


@pytest.mark.parametrize(("value", "before"), [(1, 0), (1, 1), (0, 0), (0, 1)])
def test_runs_and_pauses_allow_just_the_patterns_that_last(value: int, before: int) -> None:
    make = rk.run if value else rk.pause
    found = allowed(lambda model, on: make(on, hour, 3, before=before))
    expected = {
        pattern
        for pattern in product((0, 1), repeat=HOURS)
        if all(length >= 3 or at_end for length, at_end in runs(pattern, value, before))
    }
    assert found == expected


@pytest.mark.parametrize("kind", ["continuous", "integer"])
def test_conditions_and_alternatives_hold_as_said(kind: Any) -> None:
    """Enumerate yes/no and two whole amounts; a rule allows what its words say, bounds or none."""
    for used, a, b in product((0, 1), range(4), range(4)):
        model = rk.Model("rules")
        yes = model.decide("used", kind="binary")
        x, y = model.decide("x", kind=kind, upper=3), model.decide("y", kind=kind)
        model.require("room", x + y <= 6)  # what limits y
        model.require("then", rk.when(yes, (x + 2 * y).between(2, 5)))
        model.require("else_", rk.when(1 - yes, x - y == 0))
        model.require("one", rk.either(x >= 2, y <= 1))
        for name, decision, value in (("u", yes, used), ("a", x, a), ("b", y, b)):
            model.require(name, decision == value)
        meant = (2 <= a + 2 * b <= 5 if used else a == b) and (a >= 2 or b <= 1) and a + b <= 6
        assert (model.solve().status == "optimal") == meant, (used, a, b)


def test_of_several_relations_one_holds() -> None:
    for a, b in product(range(5), repeat=2):
        model = rk.Model("three ways")
        x, y = model.decide("x", upper=4, kind="integer"), model.decide("y", upper=4, kind="integer")
        model.require("one", rk.either(x >= 4, y >= 4, x + y <= 1))
        model.require("a", x == a)
        model.require("b", y == b)
        assert (model.solve().status == "optimal") == (a >= 4 or b >= 4 or a + b <= 1), (a, b)


RULED = {
    "if x >= 2 then y <= 1": lambda x, y: x < 2 or y <= 1,
    "if 1 <= x + y <= 3 then x = 1": lambda x, y: not 1 <= x + y <= 3 or x == 1,
    "if 2 x = 2 y then y >= 3": lambda x, y: x != y or y >= 3,
    "if x <= 2.5 then y >= x": lambda x, y: x > 2.5 or y >= x,
    "if 0.5 x > 1 then y <= 1": lambda x, y: x <= 2 or y <= 1,
    "if 1 < x < 4 then y = 0": lambda x, y: not 1 < x < 4 or y == 0,
    "unless x <= y then y >= 2": lambda x, y: x <= y or y >= 2,
}


@pytest.mark.parametrize("rule", RULED)
@pytest.mark.parametrize("form", ["", "rdk", "json"])
def test_a_relation_holds_where_another_does(rule: str, form: str, tmp_path: Path) -> None:
    text = f"decisions\n  x integer <= 4\n  y integer <= 4\nmaximize o\n  x + y\nrequire\n  r : {rule}\n  a : x = 0\n  b : y = 0\n"
    path = tmp_path / "m.rdk"
    path.write_text(text, encoding="utf-8")
    model = read(path)
    if form:
        model.require("more", model["x"] <= 9)  # so that the text is written anew
        model.write(tmp_path / f"n.{form}")
        model = read(tmp_path / f"n.{form}")
    assert rule.startswith("unless") or rule in model.algebra()
    x, y = model["x"], model["y"]
    for a, b in product(range(5), repeat=2):
        model.require("a", x == a, replace=True)
        model.require("b", y == b, replace=True)
        holds = RULED[rule](a, b)
        assert (model.solve().status == "optimal") == holds, (a, b)
        if form == "":
            assert model.appraise({"x": a, "y": b}).feasible == holds, (a, b)


def test_a_condition_that_cannot_be_turned_around_is_refused() -> None:
    model = rk.Model("vague")
    x, used = model.decide("x", upper=9), model.decide("used", kind="binary")
    model.require("big", rk.when(x >= 3, used == 1))
    with pytest.raises(rk.ModelError, match="big: x is no integer, so no value comes just before the limit"):
        model.solve()
    with pytest.raises(rk.ModelError, match="limits of a condition are finite"):
        rk.when(x.between(-np.inf, 3), used == 1)


CORNERS = [(0, 0), (10, 50), (30, 70), (50, 200)]
JUMPS = [(0, 0), (0, 40), (20, 80), (20, 60), (50, 90)]  # a fixed charge, then a discount on all units from 20 on


@pytest.mark.parametrize("at", [0, 4, 10, 17.5, 20, 30, 44, 50])
@pytest.mark.parametrize("sense", ["minimize", "maximize"])
def test_a_curve_has_its_value_everywhere(at: float, sense: str) -> None:
    model = rk.Model("pieces")
    part = rk.Axis("part", ["a", "b"])
    x = model.decide("x", part, upper=60)
    scale = rk.data({"a": 1, "b": 2}, part)
    cost = model.curve("cost", x, [(x_, y * scale) for x_, y in CORNERS], unit="£")
    charge = model.curve("charge", x.sum() / 2, JUMPS)
    model.require("at", x == at)
    getattr(model, sense)("total", cost.sum() + charge)
    plan = model.solve()
    jumps = {0: (0, 40), 20: (60, 80)}.get(at)
    smooth = np.interp(at, [0, 20], [40, 80]) if at < 20 else np.interp(at, [20, 50], [60, 90])
    charged = (min if sense == "minimize" else max)(jumps) if jumps else smooth
    once = np.interp(at, *zip(*CORNERS, strict=True))
    assert plan.objective == pytest.approx(3 * once + charged)
    assert plan["cost[b]"] == pytest.approx(2 * once)
    assert plan["charge"] == pytest.approx(charged)
    assert plan["cost"].loc["a"] == pytest.approx(once)
    assert len(plan.decisions()) == 2  # what the curves need shows nowhere
    judged = model.appraise(plan.decisions()["value"])
    assert judged.feasible
    assert judged.gain == pytest.approx(0, abs=1e-9)


@pytest.mark.parametrize("form", ["", "rdk", "json"])
def test_corners_run_along_an_axis_as_many_as_a_member_has(form: str, tmp_path: Path) -> None:
    lane, step = rk.Axis("lane", ["Fell", "Mere", "Gorse"]), rk.Axis("step", [1, 2, 3, 4])
    at = {("Fell", 1): 20, ("Fell", 2): 20, ("Fell", 4): 40, ("Mere", 1): 10, ("Gorse", 3): 5, ("Gorse", 4): 50}
    cost = {("Fell", 1): 60, ("Fell", 2): 40, ("Fell", 4): 90, ("Mere", 1): 7, ("Gorse", 3): 1, ("Gorse", 4): 46}
    model = rk.Model("steps")
    x = model.decide("x", lane, upper=60)
    corners = [(0, 0), (rk.data(at, lane, step), rk.data(cost, lane, step))]
    model.maximize("total", model.curve("worth", x, corners, along=step).sum())
    model.require("fixed", x == rk.data({"Fell": 30, "Mere": 5, "Gorse": 32}, lane))
    if form:
        model.write(tmp_path / f"m.{form}")
        model = read(tmp_path / f"m.{form}")
    plan = model.solve()
    assert plan["worth"].to_dict() == pytest.approx({"Fell": 65, "Mere": 3.5, "Gorse": 28})
    straight = rk.Model("one piece each")
    y = straight.decide("y", lane)
    ends = rk.data({("Fell", 1): 9, ("Mere", 1): 4, ("Mere", 2): 4, ("Gorse", 3): 2}, lane, step)
    straight.maximize("total", straight.curve("worth", y, [(0, 0), (ends, 2 * ends)], along="step").sum())
    assert straight.describe().problem_class == "linear"
    assert straight.solve().objective == pytest.approx(30)
    for wrong, told in (
        ([(0, 0), (ends, 1)], None), ([(ends, ends)], r"bad\[Fell\]: a curve has two corners"),
        ([(0, 0), (ends, rk.data({("Fell", 2): 1}, lane, step))], r"bad\[Fell\]: at step 1 one of x and y"),
    ):  # fmt: skip
        if told is None:
            with pytest.raises(rk.ModelError, match="if its labels are the corners in their order, say along step"):
                straight.curve("bad", y, wrong)
        else:
            with pytest.raises((rk.DataError, rk.ModelError), match=told):
                straight.curve("bad", y, wrong, along=step)


def test_slips_in_curves() -> None:
    model = rk.Model("slips")
    x = model.decide("x", rk.Axis("a", [1, 2]), upper=9)
    for corners, told in (
        ([(0, 0)], "two or more pairs"), ([(0, 0), (5, 1), (3, 2)], "x of the corners rises"), (7, "corners are pairs"),
        ([(0, 0), (1, x)], "a corner is two numbers"), ([(0, 0), (0, 1), (0, 2)], "two corners share one x"),
    ):  # fmt: skip
        with pytest.raises(rk.ModelError, match=told):
            model.curve("bad", x, corners)  # type: ignore[arg-type]
    assert "bad" not in model
    assert model.curve("good", x, {0: 0, 9: 3}).sum() is not None


def test_what_cannot_be_limited_is_named_when_the_model_is_solved() -> None:
    model = rk.Model("endless")
    axis = rk.Axis("lane", ["Fell", "Mere"])
    used, ship = model.decide("used", axis, kind="binary"), model.decide("ship", axis)
    model.require("only", rk.when(1 - used, ship <= 0))
    with pytest.raises(rk.ModelError, match=r"only: nothing limits ship\[Fell\], ship\[Mere\]"):
        model.solve()
    model.require("cap", ship <= 9)  # a limit that comes later will do
    assert model.solve().status == "optimal"
    model.require("wrong", rk.when(model.decide("amount", axis), ship <= 3))
    with pytest.raises(rk.ModelError, match=r"amount\[Fell\] is not one"):
        model.solve()
    with pytest.raises(rk.ModelError, match="neither"):
        rk.when(ship + used, used <= 0)
    with pytest.raises(rk.ModelError, match="from 1 to 2"):
        rk.run(used, axis, 3)
    with pytest.raises(rk.ModelError, match="is not an axis"):
        rk.run(used, hour, 2)
    with pytest.raises(rk.ModelError, match="not a relation"):
        rk.run(ship <= 3, axis, 2)


TEXT = """
model Rules

axes
  apiary : Fell, Mere
  market : Quay, Abbey
  hour   : 1 .. 8

data
  wanted[hour] : 1 0, 2 1, 3 0, 4 0, 5 0, 6 1, 7 0, 8 0

decisions
  ship[apiary, market] (crate) : 0 .. 50
  used[apiary] binary
  on[apiary, hour] binary

minimize cost (£)
  haulage : sum(price)
  hours   : 0.1 sum(on)

quantities
  price[apiary, market] (£) : curve(ship, 0 0, 10 50, 30 70, 50 200)

require
  least[apiary] (crate) : if used then 10 <= sum(ship, market) <= 60
  none[apiary] : unless used then sum(ship, market) <= 0
  few : sum(used) <= 1
  three[apiary, hour] : run(on, hour) >= 3
  two[apiary, hour] : pause(on, hour) >= 2
  big : either ship[Fell, Quay] >= 30 or ship[Mere, Abbey] >= 40
  some[hour] : sum(on, apiary) >= wanted
"""


def test_rules_in_text_are_those_in_python(tmp_path: Path) -> None:
    path = tmp_path / "rules.rdk"
    path.write_text(TEXT, encoding="utf-8")
    text = read(path)
    model = rk.Model("Rules")
    (apiary, market), (_, hours) = text["ship"].axes, text["on"].axes
    ship = model.decide("ship", apiary, market, upper=50)
    used = model.decide("used", apiary, kind="binary")
    on = model.decide("on", apiary, hours, kind="binary")
    price = model.curve("price", ship, [(0, 0), (10, 50), (30, 70), (50, 200)])
    model.minimize("cost", haulage=price.sum(), hours=0.1 * on.sum())
    model.require("least", rk.when(used, ship.sum(market).between(10, 60)))
    model.require("none", rk.when(1 - used, ship.sum(market) <= 0))
    model.require("few", used.sum() <= 1)
    model.require("three", rk.run(on, hours, 3))
    model.require("two", rk.pause(on, hours, 2))
    model.require("big", rk.either(ship["Fell", "Quay"] >= 30, ship["Mere", "Abbey"] >= 40))
    model.require("some", on.sum(apiary) >= rk.data([0, 1, 0, 0, 0, 1, 0, 0], hours))
    assert sorted(text.formulation().decision_names) == sorted(model.formulation().decision_names)
    assert sorted(text.formulation().constraint_names) == sorted(model.formulation().constraint_names)
    assert [rule.members() for rule in text.formulation().rules] == [
        rule.members() for rule in model.formulation().rules
    ]
    assert "on[Fell,1]" in text.algebra()
    assert "least[Fell] (crate) : if used[Fell] then 10 <= ship[Fell,Quay] + ship[Fell,Abbey] <= 60" in text.algebra()
    assert text.solve().objective == pytest.approx(model.solve().objective) == pytest.approx(70.5)
    text.write(tmp_path / "again.rdk")
    assert read(tmp_path / "again.rdk").solve().objective == pytest.approx(70.5)


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("x : at most 1 of used", r"add them up: sum\(used\) <= 2"),
        ("x[apiary] : if used ship >= 3", "then is missing"),
        ("x : either ship[Fell, Quay] >= 3", "or is missing"),
        ("x[apiary] : if ship then sum(ship, market) >= 3", "the condition runs over apiary, market"),
        ("x[apiary, hour] : run(on, our) >= 2", "did you mean 'hour'"),
        ("x : run(on, hour)", "at least that many in a row"),
        ("x[apiary] where wanted : if used then sum(ship, market) >= 3", "a rule has none"),
    ],
)
def test_slips_in_rules_are_told_at_their_place(tmp_path: Path, line: str, told: str) -> None:
    path = tmp_path / "slip.rdk"
    path.write_text(f"{TEXT}  {line}\n", encoding="utf-8")
    with pytest.raises(rk.FormatError, match=told) as caught:
        read(path)
    assert caught.value.line == TEXT.count("\n") + 1


# ---------------------------------------------------------------------- hints


def round_trip(stops: int) -> tuple[rk.Model, Any, np.ndarray]:
    length = trip_lengths(stops)
    a, b = rk.Axis("a", range(stops)), rk.Axis("b", range(stops))
    pairs = rk.data({(i, j): float(length[i, j]) for i in range(stops) for j in range(stops) if i != j}, a, b)
    model = rk.Model("Round trip")
    go = model.decide("go", a, b, kind="binary", only=pairs)
    model.minimize("length", (pairs * go).sum())
    model.require("leave", go.sum(b) == 1)
    model.require("arrive", go.sum(a) == 1)
    return model, go, length


def test_enforced_constraints_keep_a_round_trip_whole() -> None:
    model, go, length = round_trip(11)
    asked = []

    def unbroken(plan: rk.Plan) -> list[Any]:
        follows = {i: j for (i, j), value in plan["go"].items() if value > 0.5}
        tour, at = [0], follows[0]
        while at != 0:
            tour.append(at)
            at = follows[at]
        asked.append(len(tour))
        if len(tour) == len(follows):
            return []
        return [rk.total(go[i, j] for i in tour for j in tour if i != j) <= len(tour) - 1]

    plan = model.solve(enforce=unbroken)
    assert plan.status == "optimal"
    assert plan.objective == shortest_trip(length)
    assert min(asked) < 11
    with pytest.raises(rk.ModelError, match="returns relations"):
        model.solve(enforce=lambda plan: [True])


def test_a_start_is_taken_completed_or_repaired() -> None:
    rng = np.random.default_rng(3)
    item = rk.Axis("item", range(40))
    weight = rk.data(rng.integers(20, 90, 40), item)
    model = rk.Model("load")
    take = model.decide("take", item, kind="binary")
    model.maximize("value", (weight * take).sum() + (rk.data(rng.uniform(0, 1, 40), item) * take).sum())
    model.require("room", (weight * take).sum() <= 834.5)
    best = model.solve()
    again = model.solve(start=best, node_limit=1)
    assert again.objective == pytest.approx(best.objective)
    assert again.history["nodes"][0] == 0
    part = {f"take[{k}]": float(best["take"][k]) for k in range(20)}
    assert model.solve(start=part, node_limit=1).history["nodes"][0] == 0
    too_much = {f"take[{k}]": 1.0 for k in range(40)}
    assert model.solve(start=too_much).objective == pytest.approx(best.objective)
    with pytest.raises(rk.DataError, match="is not a label of axis item"):
        model.solve(start={"take[99]": 1.0})


def test_priorities_lead_the_search_to_the_same_plan() -> None:
    model, _, length = round_trip(8)
    place = model.decide("place", rk.Axis("a", range(8)), upper=7)
    for i, j in product(range(1, 8), repeat=2):
        if i != j:
            model.require(f"after{i}_{j}", place[j] - place[i] - 8 * model["go"][i, j] >= -7)  # type: ignore[index]
    assert model.solve(priorities={"go[0,1]": 5, "go": 1}).objective == shortest_trip(length)
    with pytest.raises(rk.ModelError, match="did you mean 'go'"):
        model.solve(priorities={"goo": 1})
