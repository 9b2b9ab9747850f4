"""Sensitivity read by name: frames, signs as written, sentences, whole numbers held."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.insight.sensitivity import Sensitivity


def flat(found: Sensitivity) -> str:
    return " ".join(str(found).split())


def test_a_maximisation_told_in_its_own_signs_and_units() -> None:
    plan = demos.build("packing-week").without_integers().solve()
    found = plan.sensitivity()
    row = found.limits.loc["extraction"]
    assert row["one_more"] == pytest.approx(137 / 17)  # £ per hour
    assert row["one_less"] == pytest.approx(-137 / 17)
    assert (row["down_to"], row["up_to"]) == (pytest.approx(100), pytest.approx(950))
    assert "one more hour earns £8.06, up to 950 hour; one less loses £8.06, down to 100 hour" in flat(found)
    assert found.limits.loc["wax", "up_to"] == np.inf
    assert found.limits.loc["shelf", "below"] == "no plan"
    jars = found.coefficients.loc["jars"]
    assert jars["coefficient"] == 4.2
    assert jars["from"] == pytest.approx(9.5 / 2.4)
    assert jars["to"] == np.inf
    assert found.coefficients["improvement"].isna().all()  # every decision is used
    assert not found.held


def test_two_sided_prices_are_told_where_limits_meet() -> None:
    # two limits meet in one point: more of either alone is worth nothing
    model = rk.Model("meeting")
    jars, mead = model.decide("jars", unit="jar"), model.decide("mead")
    model.require("room", jars <= 10, unit="jar")
    model.require("crew", jars + mead <= 10, unit="hour")
    model.require("fill", jars + 2 * mead <= 10)
    model.maximize("margin", 3 * jars + mead, unit="£")
    found = model.solve().sensitivity()
    row = found.limits.loc["room"]
    assert row["one_more"] == 0
    assert row["one_less"] < 0
    assert "differ because other limits bind at the same point" in flat(found)
    assert found.coefficients.loc["mead", "improvement"] == pytest.approx(5.0)  # one of it takes the room of two jars
    assert found.coefficients.loc["mead", "gives_way"] == "jars"


def test_whole_numbers_are_held_and_their_cost_is_told() -> None:
    model = demos.build("spring-haulage")
    plan = model.solve()
    found = plan.sensitivity()
    assert found.held
    assert found.relaxation == pytest.approx(model.without_integers().solve().objective)
    assert "Whole-number decisions are held at their values" in flat(found)
    assert "whole numbers cost £52.33" in flat(found)
    assert not any(name.startswith("used") for name in found.coefficients.index)
    assert found.limits.loc["demand[Quay]", "one_more"] == pytest.approx(2.3)
    held = model.what_if({"demand[Quay]": "+1"} | {f"{name}.lower": v for name, v in uses(plan)} | switched_off(plan))
    assert held.changed.objective - plan.objective == pytest.approx(2.3)


def test_steps_are_solved_with_nothing_held() -> None:
    model = demos.build("spring-haulage")
    plan = model.solve()
    found = plan.sensitivity(["demand", "supply[Fell]"], by=10)
    assert "truly worth, solved again" in flat(found)
    for name in found.limits.index:
        for column, step in (("step_more", "+10"), ("step_less", "-10")):
            truth = model.what_if({str(name): step}).difference
            assert found.limits.loc[name, column] == pytest.approx(truth, nan_ok=True)
    with pytest.raises(rk.ModelError, match="positive amount"):
        plan.sensitivity(by=0)


def uses(plan: rk.Plan) -> list[tuple[str, float]]:
    return [(name, v) for name, v in plan.decisions()["value"].items() if str(name).startswith("used") and v]


def switched_off(plan: rk.Plan) -> dict[str, float]:
    names = plan.decisions()["value"].items()
    return {f"{name}.upper": 0.0 for name, v in names if str(name).startswith("used") and not v}


def test_only_what_is_named_is_worked_out() -> None:
    plan = demos.build("spring-haulage").solve()
    found = plan.sensitivity(["demand", "ship[Fell,Quay]"])
    assert [str(name) for name in found.limits.index] == [
        f"demand[{m}]" for m in ("Quay", "Abbey", "Station", "Priory")
    ]
    assert found.coefficients.index.tolist() == ["ship[Fell,Quay]"]
    with pytest.raises(rk.ModelError, match="did you mean 'demand'"):
        plan.sensitivity("demnd")


def test_without_a_best_plan_there_is_no_sensitivity() -> None:
    model = rk.Model("clash")
    x = model.decide("x", upper=1)
    model.require("need", x >= 2)
    with pytest.raises(rk.NoPlanError, match="ended infeasible"):
        model.solve().sensitivity()


def test_objectives_in_priority_keep_what_was_reached() -> None:
    model = rk.Model("two")
    x, y = model.decide("x", upper=4), model.decide("y", upper=4)
    model.require("sum", x + y <= 6)
    model.maximize("first", x + y)
    model.minimize("second", 2 * x + y)
    found = model.solve().sensitivity()
    assert found.objective == pytest.approx(8)  # y = 4, x = 2
    assert found.limits.loc["sum", "one_less"] < 0 or np.isnan(found.limits.loc["sum", "one_less"])


def test_plain_data_holds_no_infinity() -> None:
    found = demos.build("packing-week").without_integers().solve().sensitivity()
    document = found.as_dict()
    assert document["limits"]["wax"]["up_to"] is None
    assert document["limits"]["extraction"]["up_to"] == pytest.approx(950)
    assert pd.DataFrame(document["coefficients"]).shape == (7, 3)
