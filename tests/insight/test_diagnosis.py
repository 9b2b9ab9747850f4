"""Diagnosis by names: clashes told, proofs exact, repairs that work."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest

import ruddock as rk
from ruddock.insight.diagnosis import Contradiction
from tests.generators import random_lp
from tests.insight.test_alternatives import model_of


def storm_week() -> rk.Model:
    """Two clashes: more crates are needed than the apiaries hold, and hampers of ribbon cannot come out even."""
    model = rk.Model("Storm week")
    apiary, market = rk.Axis("apiary", ["Fell", "Mere"]), rk.Axis("market", ["Quay", "Abbey"])
    ship = model.decide("ship", apiary, market, unit="crate")
    stock = rk.data({"Fell": 40, "Mere": 25}, apiary)
    need = rk.data({"Quay": 30, "Abbey": 47}, market)
    model.require("supply", ship.sum(market) <= stock, unit="crate")
    model.require("demand", ship.sum(apiary) >= need, unit="crate")
    small = model.decide("small", kind="integer", upper=20, unit="hamper")
    large = model.decide("large", kind="integer", upper=20, unit="hamper")
    model.require("ribbon", 2 * small + 4 * large == 17, unit="m")
    model.minimize("cost", haulage=2 * ship.sum(), packing=small + large, unit="£")
    return model


def names(clash: Contradiction) -> list[str]:
    return [f"{reason.name} {reason.relation}" for reason in clash.reasons]


def test_the_storm_week_is_told_clash_by_clash() -> None:
    found = storm_week().diagnose()
    linear, whole = found.clashes
    assert names(linear) == ["demand[Quay] >=", "demand[Abbey] >=", "supply[Fell] <=", "supply[Mere] <="]
    assert [reason.weight for reason in linear.reasons] == [1, 1, 1, 1]
    assert linear.shortfall == 12
    assert names(whole) == ["ribbon >=", "ribbon <=", "small whole", "large whole"]
    assert whole.whole and whole.proven and whole.shortfall is None
    text = " ".join(str(found).split())
    assert "2 clashes share no limit" in text
    assert "what is left reads 0 >= 12" in text
    assert "it is whole numbers that clash" in text
    for repair in found.repairs:
        changed = storm_week().what_if({name: new for name, _, _, new in repair.changes}).changed
        assert changed.objective == pytest.approx(repair.plan.objective)
    assert found.repairs[0].total == pytest.approx(13)  # 12 crates and 1 m of ribbon


def test_repairs_change_only_what_may_be_changed() -> None:
    model = storm_week()
    model.drop("ribbon")
    found = model.diagnose(["demand"])
    assert {name.split("[")[0] for repair in found.repairs for name, *_ in repair.changes} == {"demand"}
    priced = model.diagnose({"supply": 1.0, "demand[Quay]": 0.5})
    assert [change[0] for change in priced.repairs[0].changes] == ["demand[Quay]"]
    assert priced.repairs[0].total == pytest.approx(6)
    with pytest.raises(rk.ModelError, match="did you mean 'demand'"):
        model.diagnose(["demnd"])
    with pytest.raises(rk.ModelError, match="positive number"):
        model.diagnose({"demand": 0})


def test_where_nothing_that_may_change_helps_it_is_said() -> None:
    model = rk.Model("bounds")
    jars = model.decide("jars", upper=3)
    model.require("need", jars >= 5)
    model.require("shelf", jars <= 9)
    found = model.diagnose(["shelf"])
    assert names(found.clashes[0]) == ["need >=", "jars <="]
    assert found.clashes[0].shortfall == 2
    assert not found.repairs
    assert "No change of the limits that may move leaves a plan" in " ".join(str(found).split())


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
    text = " ".join(str(found).split())
    assert "mead and candles can grow together without limit, earning £5.00" in text
    assert "Which limit is missing?" in text
    steps = np.array([found.ray["mead"], found.ray["candles"]])
    assert steps @ [4, 1] == pytest.approx(1)
    assert found.as_dict()["ray"] == found.ray
    model.minimize("none", -jars)
    model.drop("margin")
    assert model.diagnose().ray is None


def test_a_search_that_stopped_says_what_came_nearest() -> None:
    # an even-sum puzzle that no short search settles: 40 whole numbers of odd sizes
    rng = np.random.default_rng(4)
    model = rk.Model("Puzzle")
    lot = rk.Axis("lot", range(40))
    take = model.decide("take", lot, kind="binary")
    for k in range(6):
        size = rk.data(dict(zip(range(40), 2.0 * rng.integers(500, 5000, 40), strict=True)), lot)
        model.require(f"scale{k}", (size * take).sum() == 40_001 + 2 * k + 0.5 * (k % 2))
    found = model.diagnose(time_limit=0.3)
    assert (found.plan.status, found.plan.reason) == ("stopped", "time")
    assert found.missed
    assert all(by > 0 for *_, by in found.missed)
    assert "The nearest to a plan that was found" in str(found)


def test_long_clashes_are_folded_by_family() -> None:
    model = rk.Model("Many")
    week = rk.Axis("week", range(1, 31))
    make = model.decide("make", week, upper=10)
    model.require("floor", make >= 5)
    model.require("total", make.sum() <= 100)
    found = model.diagnose()
    assert len(found.clashes[0].reasons) == 21 or len(found.clashes[0].reasons) == 31
    assert "floor[1], floor[2] and" in " ".join(str(found).split())


def test_a_model_with_a_plan_shows_it() -> None:
    model = storm_week()
    model.drop("ribbon")
    model.drop("demand")
    found = model.diagnose()
    assert not found.clashes
    assert "best plan found" in str(found)


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
                    if reason.what == "limit"
                    else np.eye(problem.n)[int(reason.name[1:])]
                )
                for j, value in enumerate(line):
                    total[j] += sign * reason.weight * Fraction(float(value))
                right += sign * reason.weight * Fraction(reason.value)
            assert not any(total.values())
            assert right == clash.shortfall > 0
            proofs += 1
    assert proofs >= 35
