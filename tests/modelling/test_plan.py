"""Reading a plan: values by label, prices by sign, explanations, and what is said when there is none."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

import ruddock as rk
from ruddock import demos


def packing(whole: bool = True) -> rk.Model:
    model = rk.Model("Packing")
    jars, mead = model.decide("jars", unit="jar"), model.decide("mead")
    hampers = model.decide("hampers", upper=40, kind="integer" if whole else "continuous")
    model.maximize("margin", unit="£", jars=4.2 * jars, mead=9.5 * mead, rest=31 * hampers - 100)
    model.require("extraction", 0.5 * jars + 1.2 * mead <= 640, unit="hour")
    model.require("wax", 0.1 * jars + 2 * hampers <= 150, unit="kg")
    model.require("shelf", (jars - mead).between(10, 200))
    return model


def test_values_by_family_name_and_expression() -> None:
    model = demos.build("spring-haulage")
    plan = model.solve()
    ship, used = model["ship"], model["used"]
    assert plan.objective == pytest.approx(429.25)
    assert plan[used].index.name == "apiary"
    assert plan["used"].loc["Gorse"] == 1
    assert plan[ship].loc[("Gorse", "Abbey")] == 90
    table = plan.table(ship)
    assert table.loc["Sallow", "Priory"] == 45
    assert np.isnan(table.loc["Fell", "Priory"])
    assert list(table.columns) == ["Quay", "Abbey", "Station", "Priory"]
    assert plan.value(ship.sum("market")).loc["Gorse"] == 150
    assert plan.value(ship["Whin", "Quay"]) == 60
    assert plan["sent"].loc["Whin"] == 60
    assert plan.breakdown().to_dict() == pytest.approx({"haulage": 274.25, "rent": 155})
    assert len(plan.decisions(nonzero=True)) == 8
    assert set(plan.constraints(binding=True).index) >= {"demand[Quay]", "supply[Gorse]"}


def test_prices_carry_the_sign_of_the_objective_as_written() -> None:
    for maximise in (True, False):
        model = rk.Model("signs")
        x, y = model.decide("x"), model.decide("y", upper=30)
        if maximise:
            model.maximize("gain", 3 * x + 2 * y)
        else:
            model.minimize("loss", -3 * x - 2 * y)
        model.require("limit", x + y <= 10)
        model.require("least", y >= 4)
        sign = 1 if maximise else -1
        plan = model.solve()
        rows, columns = plan.constraints(), plan.decisions()
        assert plan.objective == sign * 26
        assert rows.loc["limit", "shadow_price"] == sign * 3
        assert rows.loc["least", "shadow_price"] == sign * -1
        assert columns["reduced_cost"].tolist() == [0, 0]
        assert rows["slack"].tolist() == [0, 0]


@pytest.mark.parametrize("name", ["extraction", "wax", "shelf"])
def test_a_shadow_price_is_what_one_more_unit_brings(name: str) -> None:
    base = packing(whole=False).solve()
    price = base.constraints().loc[name, "shadow_price"]
    model = packing(whole=False)
    jars, mead, hampers = model["jars"], model["mead"], model["hampers"]
    more = {
        "extraction": 0.5 * jars + 1.2 * mead <= 640.5,
        "wax": 0.1 * jars + 2 * hampers <= 150.5,
        "shelf": (jars - mead).between(10, 200.5),
    }[name]
    model.remove(name)
    model.require(name, more)
    assert (model.solve().objective - base.objective) / 0.5 == pytest.approx(price, abs=1e-6)


def test_a_range_names_the_side_its_price_belongs_to() -> None:
    model = rk.Model("range")
    x = model.decide("x", upper=50)
    model.minimize("cost", 2 * x)
    model.require("span", x.between(10, 20))
    row = model.solve().constraints().loc["span"]
    assert (row["left"], row["relation"], row["right"], row["slack"], row["shadow_price"]) == (10, ">=", 10, 0, 2)


def test_explanations_add_up() -> None:
    plan = packing().solve()
    for name, total in {"wax": 131.7647059, "margin": plan.objective, "rest": 1140.0}.items():
        told = plan.explain(name)
        assert told.terms["product"].sum() + told.constant == pytest.approx(told.total)
        assert told.total == pytest.approx(total)
    assert plan.explain("wax").terms.loc["hampers"].tolist() == [2, 40, 80]
    assert "131.765 kg" in str(plan.explain("wax"))
    with pytest.raises(rk.ModelError, match="did you mean 'extraction'"):
        plan.explain("extration")
    haulage = demos.build("spring-haulage").solve()
    assert haulage.explain("demand[Quay]").total == 70
    assert haulage.explain("sent[Whin]").total == 60
    with pytest.raises(rk.ModelError, match=r"family of 4; name one member, such as 'demand\[Quay\]'"):
        haulage.explain("demand")


def test_the_printed_plan_says_what_matters() -> None:
    text = str(packing().solve())
    assert text.startswith("Packing: optimal. Margin £6,331.76 is the largest possible (proven).")
    for part in ("total", "at its upper bound", "Constraints: 2 of 3 bind", "binding"):
        assert part in text
    priced = str(packing(whole=False).solve())
    assert "+£8.06 per hour" in priced
    haulage = str(demos.build("spring-haulage").solve())
    assert "apiary \\ market" in haulage
    assert "Gorse, Sallow, Whin" in haulage
    stock = str(demos.build("stock").solve()).splitlines()
    assert "month  bottle (cases)  keep (cases)" in stock  # what shares an axis stands side by side
    assert "Jul               380             0" in stock
    weeks, crews = rk.Axis("week", range(1, 53)), rk.Axis("crew", ["Ada's", "Ben's"])
    model = rk.Model("Weeks")
    work = model.decide("work", crews, weeks, upper=2)
    model.maximize("hours", work.sum())
    turned = str(model.solve()).splitlines()
    assert "week \\ crew  Ada's  Ben's" in turned  # what is too wide across is turned
    assert ["40", "2", "2"] in [line.split() for line in turned]
    assert len([line for line in turned if line.startswith("5")]) == 4  # weeks 5, 50, 51, 52


def test_notebooks_get_escaped_html() -> None:
    model = rk.Model("<b>bold</b>")
    x = model.decide("x", rk.Axis("a", ["<i>", "&"]), upper=1)
    model.maximize("gain", x.sum())
    html = model.solve()._repr_html_()
    assert "<b>" not in html
    assert "&lt;b&gt;bold" in html
    assert "x[&lt;i&gt;]" in html
    assert "<table>" in model.describe()._repr_html_()


def clash() -> rk.Model:
    model = rk.Model("Clash")
    x = model.decide("x")
    model.minimize("cost", x)
    model.require("least", x >= 5)
    model.require("most", x <= 4)
    return model


def endless() -> rk.Model:
    model = rk.Model("Endless")
    x, y = model.decide("x"), model.decide("y")
    model.maximize("gain", x + y)
    model.require("near", x - y <= 4)
    return model


@pytest.mark.parametrize(
    ("model", "status", "told"),
    [
        (clash(), "infeasible", ("infeasible", "least", "most")),
        (endless(), "unbounded", ("without limit", "+1", "a limit is missing")),
    ],
)
def test_no_plan_is_a_status_with_a_reason_and_values_are_refused(
    model: rk.Model, status: str, told: tuple[str, ...]
) -> None:
    plan = model.solve()
    assert plan.status == status
    assert not plan.found
    assert all(word in str(plan) for word in told)
    reads = [
        lambda: plan.objective,
        plan.objectives,
        lambda: plan["x"],
        plan.decisions,
        plan.constraints,
        plan.breakdown,
        lambda: plan.explain("cost"),
    ]
    for read in reads:
        with pytest.raises(rk.NoPlanError, match=plan.model_name):
            read()


def test_stopped_before_any_plan() -> None:
    plan = demos.build("blending").solve(iteration_limit=0)
    assert (plan.status, plan.reason) == ("stopped", "iterations")
    with pytest.raises(rk.NoPlanError, match="allow more iterations"):
        _ = plan.objective
    assert "stopped by the iteration limit before any plan was found" in str(plan)


def test_objectives_are_solved_in_written_order() -> None:
    model = rk.Model("two goals")
    x, y = model.decide("x", upper=8), model.decide("y", upper=8)
    model.maximize("margin", x + y)
    model.minimize("wear", 3 * x + y)
    model.require("room", x + y <= 10)
    plan = model.solve()
    told = plan.objectives()
    assert told["value"].to_dict() == {"margin": 10, "wear": 14}  # held exactly: no dust
    assert told["sense"].tolist() == ["maximize", "minimize"]
    assert plan[x] == 2
    assert (plan.objective_name, plan.objective, plan.gap) == ("margin", 10, 0)
    text = " ".join(str(plan).split())
    assert "margin 10, the largest possible; then wear 14, the smallest possible with margin held at 10" in text
    given = model.solve(give={"margin": "1"})
    assert given.objectives()["value"].to_dict() == pytest.approx({"margin": 9, "wear": 11})
    assert "margin 9, relaxed from 10; then wear 11, the smallest possible with margin held at least 9" in " ".join(
        str(given).split()
    )


def test_no_objective_asks_for_any_plan() -> None:
    model = rk.Model("any")
    x = model.decide("x", rk.Axis("a", [1, 2]), kind="integer")
    model.require("sum", x.sum() == 7)
    plan = model.solve()
    assert plan.status == "optimal"
    assert plan[x].sum() == 7
    assert "meets all constraints" in str(plan)


@pytest.mark.parametrize(
    ("kinds", "name"),
    [
        (("continuous",), "linear"),
        (("binary",), "binary"),
        (("integer", "binary"), "pure integer"),
        (("continuous", "integer"), "mixed-integer"),
        (("semicontinuous",), "mixed-integer"),
    ],
)
def test_describe_tells_class_kinds_and_sizes(kinds: tuple[str, ...], name: str) -> None:
    model = rk.Model("kinds")
    axis = rk.Axis("a", range(3))
    bounds = {"semicontinuous": {"lower": 2, "upper": 9}, "integer": {"upper": 9}}
    families = [model.decide(f"x_{kind}", axis, kind=kind, **bounds.get(kind, {})) for kind in kinds]
    model.require("low", families[0] >= 0.5)
    model.require("all", sum((f.sum() for f in families), 0) <= 1000)
    told = model.describe()
    assert told.problem_class == name
    assert told.kinds == dict.fromkeys(kinds, 3)
    assert told.relations == {"<=": 1, ">=": 3}
    assert told.nonzeros == 3 + 3 * len(kinds)
    assert told.limits == (0.5, 1000)
    assert told.as_dict()["decisions"] == 3 * len(kinds)


def test_semicontinuous_decisions_are_zero_or_between() -> None:
    lot = rk.Axis("lot", list("abc"))
    model = rk.Model("lots")
    take = model.decide("take", lot, kind="semicontinuous", lower=rk.data({"a": 5, "b": 20, "c": 30}, lot), upper=40)
    model.minimize("cost", (rk.data({"a": 3, "b": 1, "c": 2}, lot) * take).sum())
    model.require("need", take.sum() == 44)
    values = model.solve()[take]
    assert values.to_dict() == {"a": 5, "b": 39, "c": 0}


def test_a_plan_stays_what_it_was_when_the_model_moves_on() -> None:
    model = packing()
    plan = model.solve()
    before = plan.decisions()
    model.remove("wax")
    model.decide("candles")
    pd.testing.assert_frame_equal(plan.decisions(), before)
    assert len(model.solve().decisions()) == 4


def test_every_plan_keeps_the_published_schema() -> None:
    from jsonschema import Draft202012Validator, ValidationError

    from ruddock.formats.schemas.plan import SCHEMA

    x, plans = None, []
    for lower, limits, lines in ((0, (2, 1), True), (0, (None, None), True), (5, (None, 3), False)):
        model = rk.Model("odd")
        x = model.decide("x", lower=lower, kind="continuous" if lines else "integer")
        model.maximize("o", x)
        for k, (sense, limit) in enumerate(zip((">=", "<="), limits, strict=True)):
            if limit is not None:
                model.require(f"c{k}", x >= limit if sense == ">=" else x <= limit)
        plans.append(model.solve())
    assert {plan.status for plan in plans} == {"infeasible", "unbounded"}
    names = ("packing-week", "spring-haulage", "stock", "two-objectives", "tariff", "product-mix")
    plans += [demos.build(name).solve() for name in names]
    plans.append(demos.build("tariff").solve(time_limit=0.0))
    check = Draft202012Validator(SCHEMA)
    for plan in plans:
        check.validate(json.loads(json.dumps(plan.as_dict(), allow_nan=False)))
    with pytest.raises(ValidationError):
        check.validate({**plans[-1].as_dict(), "format": "ruddock-plan/2"})
