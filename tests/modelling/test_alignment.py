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
        ("wrap", {"make[2026-04-06,p]": 1.0, "stock[2026-04-06,p]": -1.0, "stock[2026-04-09,p]": 1.0}),
        ("decision", {"make[2026-04-06,p]": 1.0, "stock[2026-04-06,p]": -1.0, "opening[p]": 1.0}),
    ],
)
def test_lag_looks_back(model: rk.Model, start: Any, first: dict[str, float]) -> None:
    make, stock = model.decide("make", C, A), model.decide("stock", C, A)
    opening = model.decide("opening", A)
    before = stock.lag(C, start=opening if start == "decision" else start)
    model.require("balance", before + make - stock == 2)
    assert row(model, "balance[2026-04-06,p]") == first
    assert row(model, "balance[2026-04-08,r]") == {
        "stock[2026-04-07,r]": 1.0, "make[2026-04-08,r]": 1.0, "stock[2026-04-08,r]": -1.0,
    }  # fmt: skip
    assert model.problem().row_lower[0] == (-3 if start == 5.0 else 2)
    assert len(matrix(model)) == 12


def test_lag_without_start_must_not_cover_the_first_labels(model: rk.Model) -> None:
    stock = model.decide("stock", C)
    with pytest.raises(rk.ModelError, match=r"lag\(c, 1\) has no value at 2026-04-06"):
        model.require("r", stock - stock.lag(C) <= 3)
    model.require("rest", stock.where(rk.data([0, 1, 1, 1], C)) - stock.lag(C) <= 3)
    assert len(matrix(model)) == 3


def test_relations_repeat_along_axes_of_either_side(model: rk.Model) -> None:
    x, y = model.decide("x", A, B), model.decide("y", B)
    model.require("r", x <= y)
    model.require("s", y >= rk.data(np.arange(6).reshape(3, 2), A, B))
    assert row(model, "r[q,20]") == {"x[q,20]": 1, "y[20]": -1}
    assert row(model, "s[r,10]") == {"y[10]": 1}
    assert model.problem().row_lower[-6:].tolist() == [0, 1, 2, 3, 4, 5]


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
