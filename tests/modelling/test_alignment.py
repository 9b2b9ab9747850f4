"""Data and expressions align by axis name: checked against plain loops over labels."""

from __future__ import annotations

from itertools import product
from typing import Any

import numpy as np
import pandas as pd
import pytest

import ruddock as rk

A = rk.Axis("a", ["p", "q", "r"])
B = rk.Axis("b", [10, 20])
C = rk.Axis("c", pd.date_range("2026-04-06", periods=4, freq="D"))
RNG = np.random.default_rng(4)


def matrix(model: rk.Model) -> pd.DataFrame:
    """Return the constraint matrix with the names of rows and columns."""
    formulation = model.formulation()
    dense = model.problem().matrix().toarray()
    return pd.DataFrame(dense, index=formulation.constraint_names, columns=formulation.decision_names)


def row(model: rk.Model, name: str) -> dict[str, float]:
    """Return the non-zero coefficients of one constraint."""
    line = matrix(model).loc[name]
    return {str(k): float(v) for k, v in line[line != 0].items()}


@pytest.fixture
def model() -> rk.Model:
    return rk.Model("alignment")


def test_products_repeat_and_sums_group_whatever_the_order(model: rk.Model) -> None:
    rate = rk.data(RNG.integers(1, 9, (3, 2, 4)), A, B, C)
    factor = rk.data({10: 2.0, 20: 5.0}, B)
    x = model.decide("x", C, A)
    model.require("r", (factor * (rate * x)).sum(A) <= 7)
    wanted = matrix(model)
    assert wanted.shape == (8, 12)
    for c, b in product(C, B):
        day = c.strftime("%Y-%m-%d")
        assert row(model, f"r[{b},{day}]") == {f"x[{day},{a}]": factor[b] * rate[a, b, c] for a in A}


@pytest.mark.parametrize(
    "source",
    [
        pd.DataFrame([[1, 2], [3, 4], [5, 6]], index=["p", "q", "r"], columns=[10, 20]),
        pd.DataFrame([[5, 6], [1, 2], [3, 4]], index=["r", "p", "q"], columns=[10, 20]),
        pd.DataFrame({"b": [10, 20] * 3, "v": [1, 2, 3, 4, 5, 6], "a": list("ppqqrr")}),
        pd.DataFrame([[1, 3, 5], [2, 4, 6]], index=pd.Index([10, 20], name="b"), columns=pd.Index(list("pqr"), name="a")),
        pd.Series([1, 2, 3, 4, 5, 6], index=pd.MultiIndex.from_product([list("pqr"), [10, 20]])),
        pd.Series([6, 1, 2, 3, 4, 5], index=pd.MultiIndex.from_tuples([(20, "r"), (10, "p"), (20, "p"), (10, "q"), (20, "q"), (10, "r")], names=["b", "a"])),
        {("p", 10): 1, ("p", 20): 2, ("q", 10): 3, ("q", 20): 4, ("r", 10): 5, ("r", 20): 6},
        np.array([[1, 2], [3, 4], [5, 6]]),
        [[1, 2], [3, 4], [5, 6]],
    ],
)  # fmt: skip
def test_every_source_is_held_by_label(source: Any) -> None:
    held = rk.data(source, A, B)
    assert [held[a, b] for a in A for b in B] == [1, 2, 3, 4, 5, 6]


def test_pandas_objects_with_axis_names_are_used_directly(model: rk.Model) -> None:
    x = model.decide("x", A, B)
    frame = pd.DataFrame(
        [[1, 2, 3], [4, 5, 6]], index=pd.Index([10, 20], name="b"), columns=pd.Index(list("pqr"), name="a")
    )
    series = pd.Series([7.0, 8.0], index=pd.Index([10, 20], name="b"))
    model.require("right", (x * frame).sum(A) <= series)
    model.require("left", series >= (frame * x).sum("a"))
    right, left = matrix(model).loc["right[10]"], matrix(model).loc["left[10]"]
    assert right.tolist() == left.tolist() == [1, 0, 2, 0, 3, 0]
    assert model.problem().row_upper.tolist() == [7, 8, 7, 8]


def test_data_arithmetic_aligns_and_combines_units() -> None:
    weight = rk.data({"p": 2, "q": 3, "r": 4}, A, unit="kg/crate")
    price = rk.data([[1, 2], [3, 4], [5, 6]], A, B, unit="£/kg")
    worth = weight * price
    assert worth.unit == "£/crate"
    assert worth["q", 20] == 12
    assert (price - 1)["r", 20] == 5
    assert (12 / weight)["q"] == 4
    assert rk.maximum(price, weight)["p", 20] == 2
    assert rk.minimum(4, price)["r", 10] == 4
    assert price.sum(B)["q"] == 7
    assert price.at(b=20)["q"] == 4
    assert len(price.where(price > 2)) == 4
    assert price.to_series().loc[("r", 20)] == 6


def test_part_tables_hold_and_fill() -> None:
    part = rk.data({("p", 10): 1.0, ("r", 20): 2.0}, A, B)
    assert len(part) == 2
    with pytest.raises(rk.DataError, match="no value for q, 10"):
        part["q", 10]
    assert rk.data(part, A, B, fill=0)["q", 10] == 0
    whole = rk.data(np.ones((3, 2)), A, B)
    with pytest.raises(rk.DataError, match=r"needed and not given: p,20, q,10, q,20, r,10"):
        whole * part
    assert (whole + rk.data(part, A, B, fill=5)).sum()[()] == 6 + 1 + 2 + 4 * 5


def test_subset_families_cost_only_the_subset(model: rk.Model) -> None:
    lanes = [("p", 10), ("q", 20), ("r", 20)]
    x = model.decide("x", A, B, only=lanes)
    cost = rk.data(np.arange(6).reshape(3, 2), A, B)
    model.minimize("cost", (cost * x).sum())
    model.require("cap", x <= cost)
    model.require("per_a", x.sum(B) <= 3)
    model.require("per_b", x.sum(A) >= 1)
    problem = model.problem()
    assert (problem.n, problem.m) == (3, 3 + 3 + 2)
    assert problem.costs.tolist() == [0, 3, 5]
    assert model.describe().ignored == 3
    assert row(model, "per_b[20]") == {"x[q,20]": 1, "x[r,20]": 1}
    with pytest.raises(rk.ModelError, match="no member at p, 20"):
        x["p", 20]


def test_a_label_without_members_keeps_its_row(model: rk.Model) -> None:
    x = model.decide("x", A, B, only=[("p", 10)])
    model.minimize("cost", x.sum())
    model.require("need", x.sum(A) >= 1)
    plan = model.solve()
    assert plan.status == "infeasible"
    assert "need[20]" in str(plan)


def test_where_at_rename_repeat(model: rk.Model) -> None:
    to = rk.Axis("to", A)
    flow = model.decide("flow", A, to)
    model.require("balance", flow.sum(A).rename(to=A) - flow.sum(to) == 0)
    assert row(model, "balance[q]") == {"flow[p,q]": 1, "flow[r,q]": 1, "flow[q,p]": -1, "flow[q,r]": -1}
    model.require("some", flow.where(rk.data({"p": 1, "q": 0, "r": 2}, A)) <= 4)
    assert len([n for n in matrix(model).index if n.startswith("some")]) == 6
    model.require("pick", flow.at(a="q").sum() <= 1)
    assert row(model, "pick") == {"flow[q,p]": 1, "flow[q,q]": 1, "flow[q,r]": 1}
    y = model.decide("y", A)
    model.require("said", flow + y.repeat(to) <= 9)
    assert row(model, "said[p,r]") == {"flow[p,r]": 1, "y[p]": 1}


@pytest.mark.parametrize(
    ("start", "first"),
    [
        (5.0, {"make[2026-04-06,p]": 1.0, "stock[2026-04-06,p]": -1.0}),
        ("cyclic", {"make[2026-04-06,p]": 1.0, "stock[2026-04-06,p]": -1.0, "stock[2026-04-09,p]": 1.0}),
        ("decision", {"make[2026-04-06,p]": 1.0, "stock[2026-04-06,p]": -1.0, "opening[p]": 1.0}),
    ],
)
def test_previous_looks_back(model: rk.Model, start: Any, first: dict[str, float]) -> None:
    make, stock = model.decide("make", C, A), model.decide("stock", C, A)
    opening = model.decide("opening", A)
    before = stock.previous(C, start=opening if start == "decision" else start)
    model.require("balance", before + make - stock == 2)
    assert row(model, "balance[2026-04-06,p]") == first
    assert row(model, "balance[2026-04-08,r]") == {
        "stock[2026-04-07,r]": 1.0, "make[2026-04-08,r]": 1.0, "stock[2026-04-08,r]": -1.0,
    }  # fmt: skip
    assert model.problem().row_lower[0] == (-3 if start == 5.0 else 2)
    assert len(matrix(model)) == 12


def test_previous_without_start_must_not_cover_the_first_labels(model: rk.Model) -> None:
    stock = model.decide("stock", C)
    with pytest.raises(rk.ModelError, match=r"previous\(c, 1\) has no value at 2026-04-06"):
        model.require("r", stock - stock.previous(C) <= 3)
    model.require("rest", stock.where(rk.data([0, 1, 1, 1], C)) - stock.previous(C) <= 3)
    assert len(matrix(model)) == 3


def test_previous_follows_each_sequence_of_a_subset(model: rk.Model) -> None:
    step = rk.Axis("step", [1, 2, 3])
    x = model.decide("x", A, step, only=[("p", 1), ("p", 2), ("p", 3), ("q", 2), ("q", 3)])
    model.require("ramp", x - x.previous(step, start=10) >= -3)
    assert [name for name in matrix(model).index if name.startswith("ramp")] == [
        "ramp[p,1]", "ramp[p,2]", "ramp[p,3]", "ramp[q,2]", "ramp[q,3]",
    ]  # fmt: skip
    assert row(model, "ramp[q,3]") == {"x[q,3]": 1, "x[q,2]": -1}
    assert model.problem().row_lower[[0, 3]].tolist() == [7, 7]  # the start is that of the first label of each
    w = model.decide("w", step, only=[1, 2])
    model.require("round", w <= w.previous(step, start="cyclic"))
    assert row(model, "round[1]") == {"w[1]": 1, "w[2]": -1}
    y = model.decide("y", step)
    with pytest.raises(rk.ModelError, match=r"previous\(step, 1\) has no value at 3"):
        model.require("lost", y <= w.previous(step, start=0))
    assert (x.previous(step, 0) <= 3) is not None


def test_data_outside_a_family_is_never_lost(model: rk.Model) -> None:
    x, y = model.decide("x", A, only=["p"]), model.decide("y", A)
    need = rk.data([1, 2, 3], A)
    model.require("first", (y + x) + need <= 9)
    with pytest.raises(rk.ModelError, match="add the data last"):
        model.require("second", y + (x + need) <= 9)
    assert model.problem().row_upper.tolist() == [8, 7, 6]


def test_fill_stands_for_what_is_absent() -> None:
    held = rk.data({"p": 1}, A, fill=5)
    assert float(held.sum()) == 11
    assert [(2 * held)["q"], (-held)["q"], (held + held)["q"], (held >= 5)["q"], abs(-held)["r"]] == [10, -5, 10, 1, 5]
    assert [float(held.at(a="q")), float(rk.data({"p": 1}, A, fill=0).at(a="r"))] == [5, 0]
    model = rk.Model("fill")
    assert len(model.decide("x", A, only=rk.data({"p": 0}, A, fill=1))) == 2
    assert len(held.where(held > 1)) == 2
    with pytest.raises(rk.DataError, match="no value"):
        rk.data({"p": 1}, A).at(a="q")


def test_half_named_tables_use_the_name_they_have() -> None:
    origin, to = rk.Axis("origin", ["A", "B"]), rk.Axis("to", ["A", "B"])
    frame = pd.DataFrame([[0, 1], [5, 0]], index=pd.Index(["A", "B"], name="to"), columns=["A", "B"])
    assert rk.data(frame, origin, to)["B", "A"] == 1
    assert rk.data(frame.stack(), origin, to)["B", "A"] == 1
    other = rk.Axis("other", ["A", "B"])
    three = pd.Series(1.0, pd.MultiIndex.from_product([["A"], ["A", "B"], ["B"]], names=["to", None, None]))
    with pytest.raises(rk.DataError, match="name them all"):
        rk.data(three, origin, to, other)
    alone = rk.Axis("alone", ["x", "y"])
    clear = pd.Series(1.0, pd.MultiIndex.from_product([["A"], ["x"], ["B"]], names=["to", None, None]))
    assert rk.data(clear, origin, to, alone)["B", "A", "x"] == 1


def test_axes_of_any_size_are_told_apart() -> None:
    axes = [rk.Axis(f"a{k}", range(2048)) for k in range(6)]
    rows = [(1, 2, 3, 4, 5, 6), (2047,) * 6, (0,) * 6]
    held = rk.data({key: k for k, key in enumerate(rows)}, *axes)
    assert [held[key] for key in rows] == [0, 1, 2]
    with pytest.raises(rk.DataError, match="no value"):
        held[1, 2, 3, 4, 5, 7]
    model = rk.Model("wide")
    x = model.decide("x", *axes, only=rows)
    model.require("cap", held * x <= 7)
    assert len(x) == 3
    with pytest.raises(rk.DataError, match="more than once"):
        model.decide("y", *axes, only=[*rows, rows[0]])


def test_slices_and_lists_keep_their_axis(model: rk.Model) -> None:
    x = model.decide("x", A, C)
    assert len(x["p", :]) == 4
    assert len(x[:, "2026-04-07":"2026-04-08"]) == 6
    assert len(x.at(a=["p", "r"])) == 8
    assert x[["p", "r"], "2026-04-06"].axes == (A,)
    model.require("some", x[["p", "q"], :].sum(C) <= 3)
    assert [n for n in matrix(model).index if n.startswith("some")] == ["some[p]", "some[q]"]
    assert float(rk.data(np.ones((3, 4)), A, C)[["p", "q"], :].sum()) == 8
    assert len(matrix(model).loc["some[p]"].loc[lambda v: v != 0]) == 4


def test_relations_repeat_along_axes_of_either_side(model: rk.Model) -> None:
    x, y = model.decide("x", A, B), model.decide("y", B)
    model.require("r", x <= y)
    model.require("s", y >= rk.data(np.arange(6).reshape(3, 2), A, B))
    assert row(model, "r[q,20]") == {"x[q,20]": 1, "y[20]": -1}
    assert row(model, "s[r,10]") == {"y[10]": 1}
    assert model.problem().row_lower[-6:].tolist() == [0, 1, 2, 3, 4, 5]


@pytest.mark.parametrize("right", ["family", "member", "expression"])
def test_both_sides_stay_as_written(right: str) -> None:
    model = rk.Model("written")
    axis = rk.Axis("k", ["p"])
    x, y = model.decide("x", axis, upper=9), model.decide("y", axis, upper=90)
    other: Any = {"family": y, "member": y["p"], "expression": y + 0}[right]
    model.require("low", 2 * x["p"] + 20 >= other if right == "member" else 2 * x + 20 >= other)
    model.maximize("gain", y.sum())
    plan = model.solve()
    name = "low" if right == "member" else "low[p]"
    line = plan.constraints().loc[name]
    assert (line["left"], line["relation"], line["right"], line["shadow_price"]) == (38, ">=", 38, -1)
    assert f"{name} : 2 x[p] + 20 >= y[p]" in model.algebra()
    assert model.what_if({f"{name}.y[p]": 2}).changed.objective == 19  # the side where it stands
    assert model.what_if({f"{name}.x[p]": 3}).changed.objective == 47
    with pytest.raises(rk.ModelError, match="no limit of its own"):
        model.what_if({name: 4})
    model.require("fixed", x + 3 <= 10)
    same = model.what_if({"fixed": 10})
    assert same.difference == 0
    assert model.what_if({"fixed": "+1"}).difference == 2


def test_limits_move_right_and_decisions_left(model: rk.Model) -> None:
    x = model.decide("x", A)
    model.require("low", 3 <= 2 * x + 1)
    model.require("range", (x + 1).between(rk.data({"p": 2, "q": 3, "r": 4}, A), 9))
    model.require("equal", x.sum() == 12)
    problem = model.problem()
    assert problem.row_lower.tolist() == [2, 2, 2, 1, 2, 3, 12]
    assert problem.row_upper.tolist() == [np.inf] * 3 + [8, 8, 8, 12]


def test_loop_style_equals_array_style() -> None:
    cost = rk.data(RNG.integers(1, 9, (3, 2)), A, B)
    models = []
    for style in ("arrays", "loops"):
        model = rk.Model("both")
        x = model.decide("x", A, B, upper=4)
        if style == "arrays":
            model.minimize("cost", (cost * x).sum())
            model.require("need", x.sum(B) >= 5)
            continue_ = model
        else:
            model.minimize("cost", rk.total(cost[a, b] * x[a, b] for a in A for b in B))
            for a in A:
                model.require(f"need_{a}", rk.total(x[a, b] for b in B) >= 5)
            continue_ = model
        models.append(continue_.problem())
    one, two = models
    assert (one.matrix() != two.matrix()).nnz == 0
    assert one.costs.tolist() == two.costs.tolist()
    assert one.row_lower.tolist() == two.row_lower.tolist()


def test_a_million_terms_need_no_objects() -> None:
    big, wide = rk.Axis("big", range(1000)), rk.Axis("wide", range(1000))
    model = rk.Model("big")
    x = model.decide("x", big, wide)
    cost = rk.data(np.ones((1000, 1000)), big, wide)
    model.minimize("cost", (cost * x).sum())
    model.require("rows", x.sum(wide) <= 1)
    problem = model.problem()
    assert problem.nonzeros == 1_000_000
    assert problem.costs.sum() == 1_000_000
