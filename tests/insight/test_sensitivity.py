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
    assert "one more hour earns £8.06, up to 950 hours; one less loses £8.06, down to 100 hours" in flat(found)
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
    assert "differ because the plan is degenerate: other limits bind at the same point" in flat(found)
    assert found.coefficients.loc["mead", "improvement"] == pytest.approx(5.0)  # one of it takes the room of two jars
    assert found.coefficients.loc["mead", "leaves"] == "jars"


def test_with_integers_true_steps_lead() -> None:
    model = demos.build("spring-haulage")
    plan = model.solve()
    found = plan.sensitivity()
    assert found.held
    assert found.relaxation == pytest.approx(model.without_integers().solve().objective)
    text = flat(found)
    assert "the integer plan is £52.33 worse than the relaxation (integrality gap)" in text
    assert text.index("What a step of a limit is worth") < text.index("with every integer decision held at its value")
    assert "Limits most worth changing" not in text
    assert found.steps is not None
    assert len(found.steps)
    for name, (step, more, less) in found.steps[["step", "more", "less"]].T.items():
        for truth, sign in ((more, "+"), (less, "-")):
            assert truth == pytest.approx(model.what_if({str(name): f"{sign}{step}"}).difference, nan_ok=True, abs=1e-9)
    assert not any(name.startswith("used") for name in found.coefficients.index)
    assert found.limits.loc["demand[Quay]", "one_more"] == pytest.approx(2.3)
    held = model.what_if({"demand[Quay]": "+1"} | {f"{name}.lower": v for name, v in uses(plan)} | switched_off(plan))
    assert held.changed.objective - plan.objective == pytest.approx(2.3)


def test_steps_are_solved_with_nothing_held() -> None:
    model = demos.build("spring-haulage")
    plan = model.solve()
    found = plan.sensitivity(["demand"], by=10)
    assert "What a step of a limit is worth" in flat(found)
    assert found.steps is not None
    assert found.steps.index.tolist() == found.limits.index.tolist()  # all that are named
    for name in found.steps.index:
        for column, step in (("more", "+10"), ("less", "-10")):
            truth = model.what_if({str(name): step}).difference
            assert found.steps.loc[name, column] == pytest.approx(truth, nan_ok=True)
    with pytest.raises(rk.ModelError, match="positive amount"):
        plan.sensitivity(by=0)


def test_a_limit_with_some_slack_is_stepped_as_well() -> None:
    model = rk.Model("near")
    x = model.decide("x", kind="integer")
    model.maximize("gain", 7 * x)
    model.require("room", 5 * x <= 52)
    found = model.solve().sensitivity(by=4)
    assert found.steps is not None
    row = found.steps.loc["room"]
    assert (row["step"], row["more"], row["less"]) == (4, 7, -7)
    assert model.solve().sensitivity(["room"], by=1).steps.loc["room", "less"] == 0  # type: ignore[union-attr]


def test_solve_and_sensitivity_say_the_same_and_it_is_true() -> None:
    """Three limits meet at one corner: of the two that have a price in the basis, one more brings nothing."""
    model = rk.Model("bakery")
    a, b = model.decide("a"), model.decide("b")
    model.maximize("margin", 3 * a + 2 * b, unit="€")
    model.require("press", a + b <= 10)
    model.require("oven", 2 * a + b <= 16)
    model.require("pack", a <= 6)
    plan = model.solve()
    text = flat(plan)
    ranges = plan.sensitivity().limits
    limits = {"press": 10, "oven": 16, "pack": 6}
    for name in limits:
        for sign, column in (("+", "one_more"), ("-", "one_less")):
            truth = model.what_if({name: f"{sign}0.01"}).difference / 0.01
            assert ranges.loc[name, column] == pytest.approx(truth, abs=1e-6)
        more = ranges.loc[name, "one_more"]
        shown = "0 (degenerate)" if abs(more) < 1e-9 else f"+€{more:,.2f} (degenerate)"
        assert f"{name} {limits[name]} <= {limits[name]} binding {shown}" in text
    assert "Degenerate: there, one less is worth a different amount" in text


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


def test_of_several_objectives_the_first_one_has_ranges() -> None:
    model = rk.Model("two")
    x, y = model.decide("x", upper=4), model.decide("y", upper=4)
    model.require("sum", x + y <= 6)
    model.maximize("first", x + y)
    model.minimize("second", 2 * x + y)
    plan = model.solve()
    found = plan.sensitivity()
    assert found.objective == 6
    assert plan.values.tolist() == [2, 4]
    assert found.several == ("second",)
    assert (found.limits.loc["sum", "one_more"], found.limits.loc["sum", "one_less"]) == (1, -1)
    for change in ("+0.5", "-0.5"):  # what is said of the first objective is so
        after = model.what_if({"sum": change})
        assert after.difference == pytest.approx(float(change))
    told = flat(model.what_if({"sum": "+1"}))
    assert "First goes from 6 to 7: 1 better. Second goes from 8 to 10: 2 worse." in told
    with pytest.raises(rk.ModelError, match="strict order"):
        model.solve(give={"first": "1"}).sensitivity()


def test_plain_data_holds_no_infinity() -> None:
    found = demos.build("packing-week").without_integers().solve().sensitivity()
    document = found.as_dict()
    assert document["limits"]["wax"]["up_to"] is None
    assert document["limits"]["extraction"]["up_to"] == pytest.approx(950)
    assert pd.DataFrame(document["coefficients"]).shape == (8, 3)
