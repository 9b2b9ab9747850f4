"""What everything shows of itself: names, bounds, sizes, in one line and in a notebook; and types that programs read."""

from __future__ import annotations

import typing

import numpy as np
import pytest

import ruddock as rk
from ruddock.modelling.answer import document as answer

EVIL = '<b>"x"</b>'


def objects() -> dict[str, object]:
    a = rk.Axis("a", ["p", EVIL, "r"])
    model = rk.Model("Showing")
    x, y = model.decide("x", a, upper=5, unit="kg"), model.decide("y", kind="integer", upper=40)
    u = model.decide("u", kind="binary")
    rate = rk.data([1.0, 2.0, 3.5], a, unit="£/kg")
    return {
        "axis": a, "data": rate, "number": rk.data(3.5, unit="kg"), "family": x, "member": x["p"], "term": 2 * x["p"],
        "single": y, "scalar": (rate * x).sum() + 4, "expression": 2 * x - 1, "relation": x["p"] + y <= 7,
        "relations": x <= 4, "rule": rk.when(u, y <= 3), "constraint": model.require("c", x.sum() <= 7),
        "objective": model.maximize("gain", (rate * x).sum() + y, unit="£"), "quantity": model.quantity("q", y + 1),
        "curve": model.curve("f", y, [(0, 0), (40, 10)]), "model": model, "describe": model.describe(),
    }  # fmt: skip


@pytest.mark.parametrize(
    ("name", "shown"),
    [
        ("axis", "3 labels: p"), ("data", "data[a] (£/kg) (3): p 1; "), ("number", "data (kg): 3.5"),
        ("family", "x[a] (kg): 0 .. 5 (3)"), ("member", "x[p] (kg): 0 .. 5"), ("term", "2 x[p]"),
        ("single", "y: integer 0 .. 40"), ("scalar", "x[p] + 2 x["), ("expression", "over a (3): [p] 2 x[p] - 1;"),
        ("relation", "x[p] + y <= 7"), ("relations", "[p] x[p] <= 4"), ("rule", "if u then y <= 3"),
        ("constraint", "c: x[p] + x["), ("objective", "maximize gain (£): x[p]"), ("quantity", "q: y + 1"),
        ("curve", "f"), ("model", "<Model 'Showing': 5 decisions"), ("describe", "<Description: Showing: 5 decisions"),
    ],
)  # fmt: skip
def test_everything_can_be_read(name: str, shown: str) -> None:
    held = objects()[name]
    assert shown in repr(held)
    assert "\n" not in repr(held)
    html = getattr(held, "_repr_html_", lambda: "")()
    assert EVIL not in html
    assert html or name in ("rule", "constraint", "objective", "quantity")


def test_long_expressions_and_families_are_cut() -> None:
    model = rk.Model("long")
    x = model.decide("x", rk.Axis("a", range(10_000)))
    assert len(repr(x.sum())) < 200
    assert len(repr(2 * x)) < 300
    assert len(x._repr_html_()) < 8_000
    replaced = model.decide("x", rk.Axis("a", range(3)), replace=True)
    assert repr(replaced.sum()) == "x[0] + x[1] + x[2]"


def test_a_plan_of_thousands_of_single_decisions_makes_few_rows(monkeypatch: pytest.MonkeyPatch) -> None:
    model = rk.Model("loop")
    size = 3_000
    each = [model.decide(f"x_{k}", upper=1 + k % 3) for k in range(size)]
    for k in range(0, size, 10):
        model.require(f"r_{k}", rk.total(each[k : k + 10]) <= 7)
    model.maximize("gain", rk.total((1 + k % 7) * x for k, x in enumerate(each)))
    plan = model.solve()
    rows: list[int] = []
    original = answer.decision_row
    from ruddock.modelling.answer import families

    monkeypatch.setattr(families, "decision_row", lambda plan, j: rows.append(j) or original(plan, j))
    text = str(plan)
    assert len(rows) <= 41
    assert len(text.splitlines()) < 120
    assert plan["x_7"] == plan.value(each[7])
    used = int((np.abs(plan.values) > 1e-6).sum())
    assert f"{used:,} of {size:,} decisions are not 0" in text


def test_more_of_a_plan_is_shown_on_request() -> None:
    from ruddock import demos

    plan = demos.build("spring-haulage").solve()
    everything, nonzero = str(plan.document(all=True)), str(plan.document(nonzero=True))
    names = plan.formulation.decision_names
    assert all(name in everything for name in (*names, *plan.formulation.constraint_names))
    used = plan.decisions(nonzero=True).index
    assert all((name in nonzero) == (name in used) for name in names)
    family = str(plan.document(family=["ship", "supply", "sent[Gorse]"]))
    assert "apiary \\ market" in family
    assert "supply[Fell]" in family
    assert "demand" not in family
    with pytest.raises(rk.ModelError, match="did you mean 'ship'"):
        plan.document(family="shp")


def test_types_of_public_signatures_are_known_at_run_time() -> None:
    checked = 0
    for owner in (rk.Model, rk.Plan, rk.Axis, rk.Data):
        for name in dir(owner):
            member = getattr(owner, name)
            if callable(member) and not name.startswith("_"):
                assert isinstance(typing.get_type_hints(member), dict)
                checked += 1
    for name in rk.__all__:
        found = getattr(rk, name)
        if callable(found) and not isinstance(found, type):
            known = typing.get_type_hints(found)["return"] is not typing.Any
            assert known or name == "service"  # whose packages need not be installed
    assert checked > 40
