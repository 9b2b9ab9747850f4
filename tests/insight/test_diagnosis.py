"""Diagnosis by names: clashes told, proofs exact, repairs that work."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.formats import read
from ruddock.insight.diagnosis import Contradiction
from tests.generators import random_lp
from tests.insight.test_alternatives import model_of


def storm_week() -> rk.Model:
    return demos.build("storm-week")


def names(clash: Contradiction) -> list[str]:
    return [f"{reason.name} {reason.relation or reason.what}" for reason in clash.reasons]


def flat(found: object) -> str:
    return " ".join(str(found).split())


def test_the_storm_week_is_told_clash_by_clash() -> None:
    found = storm_week().diagnose()
    linear, whole = found.clashes
    assert names(linear) == [
        "demand[Quay] >=", "demand[Abbey] >=", "supply[Fell] <=", "supply[Mere] <=", "ship[Mere,Bridge] >=",
    ]  # fmt: skip
    assert [reason.weight for reason in linear.reasons] == [1, 1, 1, 1, 1]
    assert linear.shortfall == 12
    assert linear.steps == (
        "demand[Quay] >= 30 keeps ship[Fell,Quay] at 30 or more",
        "supply[Fell] <= 40 keeps ship[Fell,Abbey] at 10 or less",
        "supply[Mere] <= 25 keeps ship[Mere,Abbey] at 25 or less",
        "demand[Abbey] >= 47 keeps ship[Fell,Abbey] at 22 or more",
        "so ship[Fell,Abbey] would have to be 22 or more and 10 or less",
    )
    assert names(whole) == ["ribbon >=", "ribbon <=", "small integer", "large integer"]
    assert whole.whole and whole.proven and whole.shortfall is None
    text = flat(found)
    assert "There are 2 separate clashes" in text
    assert "what remains reads 0 >= 12" in text
    assert "the integer decisions make them clash" in text
    assert found.repairs[0].total == pytest.approx(25)  # 24 crates and 1 m of ribbon
    assert len({repair.changes for repair in found.repairs}) == len(found.repairs) >= 4
    for repair in found.repairs:
        changed = storm_week().what_if({move.name: move.new for move in repair.changes}).changed
        assert changed.objective == pytest.approx(repair.plan.objective)
        held = repair.aim.partition(" if ")[2]
        assert not any(move.name in held for move in repair.changes)
    assert "<table" in found._repr_html_()
    assert [clash["steps"] for clash in found.as_dict()["clashes"]] == [list(linear.steps), []]


def test_every_way_in_tells_the_same(tmp_path: Path) -> None:
    told = names(storm_week().diagnose().clashes[0])
    for file in ("storm.rdk", "storm.mps", "storm.xlsx", "storm.json"):
        storm_week().write(tmp_path / file)
        assert sorted(names(read(tmp_path / file).diagnose().clashes[0])) == sorted(told), file


def test_repairs_change_only_what_may_be_changed_which_way_and_how_far() -> None:
    model = storm_week()
    model.remove("ribbon")
    found = model.diagnose(["demand"])
    assert {move.name.split("[")[0] for repair in found.repairs for move in repair.changes} == {"demand"}
    priced = model.diagnose({"supply": 1.0, "demand[Quay]": 0.25})
    assert [move.name for move in priced.repairs[0].changes] == ["demand[Quay]"]
    assert priced.repairs[0].total == pytest.approx(6)
    little = model.diagnose(["supply up by 10", "demand down by 20% at 3"])
    assert little.repairs
    for repair in little.repairs:
        for move in repair.changes:
            assert 0 <= move.by <= 10 + 1e-6 if "supply" in move.name else 0 <= -move.by <= 0.2 * move.old + 1e-6
        assert repair.plan.status == "optimal"
    # 24 crates are missing: supplies may give 20 of them, the other 4 cost 3 each
    assert little.repairs[0].total == pytest.approx(20 + 4 * 3)
    short = model.diagnose("supply by 11")
    assert not short.repairs
    assert short.search is not None
    assert short.search.outcome == "too little"
    assert short.search.needed is not None
    assert sum(move.by for move in short.search.needed) == pytest.approx(24)
    assert "No plan exists with these limits changed as far as they may" in flat(short)


@pytest.mark.parametrize(
    ("may_change", "message"),
    [
        (["demnd"], "did you mean 'demand'"),
        ({"demand": 0}, "positive number"),
        (["demand up"], "demand up tightens it, which makes no plan possible; write demand down"),
        (["ship.upper"], "ship.Fell,Quay. has no upper bound"),
        (["demand by 1.2.3"], "not a number"),
    ],
)
def test_what_may_change_is_read_with_care(may_change: Any, message: str) -> None:
    with pytest.raises(rk.ModelError, match=message):
        storm_week().diagnose(may_change)


def test_bounds_may_change_where_they_are_named() -> None:
    model = rk.Model("bounds")
    jars = model.decide("jars", rk.Axis("size", ["S", "L"]), upper=3, kind="integer")
    model.require("need", jars.sum() >= 7.5)
    model.maximize("worth", jars.sum())
    for wanted in ("jars.upper", "jars[S].upper up by 2"):
        repair = model.diagnose(wanted).repairs[0]
        assert sum(move.by for move in repair.changes) == 2
        assert repair.plan.objective == 8
    assert not model.diagnose("jars[S].upper by 1").repairs
    model.minimize("end", -jars.sum() + model.decide("loss", lower=-np.inf))
    model.remove("worth")
    assert "is then unlimited; a limit is missing as well" in flat(model.diagnose("need"))


def test_a_right_side_with_decisions_moves_as_a_whole() -> None:
    model = rk.Model("depots")
    sent, open_ = model.decide("sent", lower=150), model.decide("open", upper=1)
    model.require("room", sent <= 120 * open_)
    found = model.diagnose()
    assert "its right side + 30" in str(found)
    (change,) = json.loads(json.dumps(found.as_dict(), allow_nan=False))["repairs"][0]["changes"]
    assert change == {"constraint": "room", "relation": "<=", "old": None, "new": None, "by": 30}


def test_where_nothing_that_may_change_helps_it_is_said() -> None:
    model = rk.Model("bounds")
    jars = model.decide("jars", upper=3)
    model.require("need", jars >= 5)
    model.require("shelf", jars <= 9)
    found = model.diagnose(["shelf"])
    assert names(found.clashes[0]) == ["need >=", "jars <="]
    assert found.clashes[0].shortfall == 2
    assert not found.repairs
    assert "It is proven that no change of what may change makes the model feasible" in flat(found)


def test_what_grows_without_end_is_told_in_few_decisions() -> None:
    model = rk.Model("Boom week")
    jars, mead, candles = (model.decide(name) for name in ("jars", "mead", "candles"))
    others = model.decide("other", rk.Axis("line", range(30)))
    model.require("vats", mead - candles <= 20)
    model.require("shelf", jars <= 50)
    model.require("lines", others.sum() - mead <= 10)
    model.maximize("margin", 3 * jars + 4 * mead + candles + 0.1 * others.sum(), unit="£")
    found = model.diagnose()
    assert found.ray is not None
    assert set(found.ray) == {"mead", "candles"}
    text = flat(found)
    assert "Mead and candles can grow together without limit, earning £5.00" in text
    assert found.ended_by == ("candles",)  # mead alone would not do: candles still earn
    assert "A bound on candles was tried: the model then has an optimal plan" in text
    steps = np.array([found.ray["mead"], found.ray["candles"]])
    assert steps @ [4, 1] == pytest.approx(1)
    assert found.as_dict()["ray"] == found.ray
    model.minimize("none", -jars)
    model.remove("margin")
    assert model.diagnose().ray is None


def test_a_search_that_stopped_says_what_came_nearest() -> None:
    # shares that no short search settles: 40 lots that six scales are to split in two halves each
    rng = np.random.default_rng(4)
    model = rk.Model("Puzzle")
    lot = rk.Axis("lot", range(40))
    take = model.decide("take", lot, kind="binary")
    for k in range(6):
        sizes = rng.integers(500, 5000, 40)
        size = rk.data(dict(zip(range(40), sizes.tolist(), strict=True)), lot)
        model.require(f"scale{k}", (size * take).sum() == int(sizes.sum()) // 2)
    found = model.diagnose(time_limit=0.3)
    assert (found.plan.status, found.plan.reason) == ("stopped", "time")
    assert found.missed
    assert all(by > 0 for *_, by in found.missed)
    assert "The closest to a plan that was found" in str(found)


def test_long_clashes_are_folded_by_family() -> None:
    model = rk.Model("Many")
    week = rk.Axis("week", range(1, 31))
    make = model.decide("make", week, upper=10)
    model.require("floor", make >= 5)
    model.require("total", make.sum() <= 100)
    found = model.diagnose()
    assert len(found.clashes[0].reasons) == 21 or len(found.clashes[0].reasons) == 31
    assert "floor[1], floor[2] and" in flat(found)


def test_a_model_with_a_plan_shows_it() -> None:
    model = storm_week()
    model.remove("ribbon")
    model.remove("demand")
    found = model.diagnose()
    assert not found.clashes
    assert "there is nothing to diagnose" in flat(found)


def test_proofs_add_up_exactly() -> None:
    proofs = 0
    for seed in range(40):
        problem = random_lp(("mixed", "boxed", "staircase", "degenerate")[seed % 4], 400 + seed, 8, 12, "infeasible")
        found = model_of(problem).diagnose()
        for clash in found.clashes:
            if clash.shortfall is None:
                continue
            rows = [f"r{i}" for i in range(problem.m)]
            total = {j: Fraction(0) for j in range(problem.n)}
            right = Fraction(0)
            dense = problem.matrix().toarray()
            for reason in clash.reasons:
                assert reason.weight is not None
                assert reason.weight > 0
                sign = 1 if reason.relation == ">=" else -1
                line = (
                    dense[rows.index(reason.name)]
                    if reason.what == "constraint"
                    else np.eye(problem.n)[int(reason.name[1:])]
                )
                for j, value in enumerate(line):
                    total[j] += sign * reason.weight * Fraction(float(value))
                right += sign * reason.weight * Fraction(reason.value)
            assert not any(total.values())
            assert right == clash.shortfall > 0
            proofs += 1
    assert proofs >= 35


def test_the_reason_comes_before_a_long_list() -> None:
    model = rk.Model("Day")
    machine, hour = rk.Axis("machine", ["furnace", "mill"]), rk.Axis("hour", range(12))
    on = model.decide("on", machine, hour, kind="binary")
    model.require("power", (rk.data({"furnace": 40, "mill": 10}, machine) * on).sum(machine) <= 30)
    model.require("enough", on.sum(hour) >= rk.data({"furnace": 5, "mill": 3}, machine))
    model.minimize("cost", on.sum())
    told = flat(model.diagnose(time_limit=5))
    assert "at 0 or less, as an integer; enough[furnace] >= 5 is then out of reach" in told
    assert told.index("out of reach") < told.index("The clash")
