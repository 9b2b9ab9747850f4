"""Every kind of finding is provoked by a small model, and gone from the mended one."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.formats.rdk.read import read_rdk_text
from ruddock.insight.checks import CHECKS

HEAD = "axes\n  a : p, q, r\ndata\n  few[a] : p 0, q 2\n  high[a] : p 5, q 6, r 7\ndecisions\n"
# kind: (severity, wrong text, what to replace, by what)
KINDS = {
    "unused": ("warning", "  x <= 9\n  y >= 0\nmaximize m\n  x\nrequire\n  c : x <= 4\n", "y >= 0\n", "\n"),
    "no-constraint": ("warning", "  x, y <= 9\nmaximize m\n  x + y\nrequire\n  c : x <= 4\n", "c : x", "c : x + y"),
    "no-objective": ("warning", "  x, over >= 0\nminimize m\n  2x\nrequire\n  c : x + over >= 4\n", "2x", "2x + 3 over"),
    "runaway": ("error", "  x, y >= 0\nmaximize m\n  x + y\nrequire\n  c : x - y <= 4\n", "x - y", "x + y"),
    "fractional-bound": ("warning", "  x integer 0 .. 3.5\nmaximize m\n  x\nrequire\n  c : 2x <= 5\n", "3.5", "3"),
    "fixed": ("note", "  x 3 .. 3\n  y >= 0\nmaximize m\n  x + y\nrequire\n  c : x + y <= 5\n", "3 .. 3", "3 .. 4"),
    "far-bound": ("note", "  x, y <= 1e9\nmaximize m\n  x + y\nrequire\n  c : x + y <= 5\n", "<= 1e9", ">= 0"),
    "empty-family": ("warning", "  x[a] where high > 9 : >= 0\n  y <= 5\nmaximize m\n  y + sum(x)\nrequire\n  c : y <= 3\n", "> 9", "> 5"),
    "impossible": ("error", "  x, y <= 3\nmaximize m\n  x + y\nrequire\n  c : x + y >= 7\n", ">= 7", ">= 5"),
    "redundant": ("note", "  x, y <= 3\nmaximize m\n  x + y\nrequire\n  c : x + y <= 7\n", "<= 7", "<= 5"),
    "parallel": ("warning", "  x, y >= 0\nmaximize m\n  x + y\nrequire\n  c : x + 2y <= 7\n  d : 2x + 4y <= 9\n", "+ 4y", "+ 5y"),
    "large-switch": (
        "warning", "  x >= 0\n  on binary\nmaximize m\n  x - 5 on\nrequire\n  most : x <= 40\n  switch : x <= 1000 on\n", "1000", "40",
    ),
    "odd-equality": ("error", "  x, y integer <= 9\nmaximize m\n  x + y\nrequire\n  c : 2x + 4y = 7\n", "= 7", "= 8"),
    "many-orders": ("warning", "  x, y <= 9\nmaximize m\n  x + y\nrequire\n  c : 1e-6 x + 1e5 y <= 8\n", "1e-6", "10"),
    "units": ("warning", "  x (hour), y (kg) <= 9\nmaximize m\n  x + 2y\nrequire\n  c : x + y <= 8\n", "c : x + y", "c : x + 3y"),
    "similar-names": ("warning", "  jars, Jars <= 9\nmaximize m\n  jars + Jars\nrequire\n  c : jars + Jars <= 8\n", "Jars", "lids"),
    "nothing-to-do": ("warning", "  x, y >= 0\nminimize m\n  2x + 3y\nrequire\n  c : x + y <= 4\n", "<= 4", ">= 4"),
    "left-out": ("note", "  x[a] where few : <= 9\nmaximize m\n  sum(x)\nrequire\n  c : sum(x) <= 8\n", "where few", "where high"),
    "no-objective-at-all": ("note", "  x <= 9\nrequire\n  c : 2x >= 8\n", "require", "minimize m\n  x\nrequire"),
}  # fmt: skip


def read(text: str) -> rk.Model:
    return read_rdk_text(text, "model.rdk", Path())


@pytest.mark.parametrize("kind", KINDS)
def test_a_finding_is_provoked_and_mended(kind: str) -> None:
    severity, text, old, new = KINDS[kind]
    found = [item for item in read(HEAD + text).check() if item.kind == kind]
    assert [item.severity for item in found] == [severity]
    assert all((found[0].where, found[0].what, found[0].why, found[0].remedy))
    assert kind not in read(HEAD + text.replace(old, new)).check().kinds()


def test_members_without_a_bound_that_their_siblings_have() -> None:
    axis = rk.Axis("a", ["p", "q"])
    for low, wanted in (([0, -np.inf], {"free-sibling"}), ([0, -1], set())):
        model = rk.Model("siblings")
        x = model.decide("x", axis, lower=rk.data(low, axis), upper=9)
        model.maximize("m", x.sum())
        model.require("c", x.sum() <= 4)
        findings = model.check()
        assert findings.kinds() == wanted
        assert all(item.where == "x[q]" for item in findings)


TAKEN = "maximize m\n  3x + 2y\nrequire\n  c : x + y <= 4\n"


def test_names_taken_as_decisions_are_not_solved_unless_the_file_says_so() -> None:
    found = read(TAKEN).check()
    assert [(item.kind, item.where, item.severity) for item in found] == [("undeclared", "x, y", "error")]
    for ask in (
        lambda model: model.solve(),
        lambda model: model.what_if(["c=5"]),
        lambda model: model.sweep("c", 1, 5),
        lambda model: model.reach("c", objective=3),
        lambda model: model.diagnose(),
        lambda model: model.scenarios(pd.DataFrame([{"scenario": "a", "c": 5}])),
    ):
        with pytest.raises(rk.ModelError, match=r"x, y: not declared.*decisions open"):
            ask(read(TAKEN))
    open_model = read("decisions open\n" + TAKEN)
    assert [(item.kind, item.severity) for item in open_model.check()] == [("undeclared", "note")]
    assert open_model.solve().objective == 12


def test_units_are_compared_in_any_number_and_order_and_never_guessed() -> None:
    head = "axes\n  a : A, B\ndata\n  rate[a] (hours per table) : A 2, B 3\n  cap (hours) : 40\ndecisions\n  tables[a] (table), chairs (piece) >= 0\n"
    goal = "maximize m\n  2 sum(tables) + 3 chairs\nrequire\n"
    for row, alarm in {
        "c (hour) : sum(rate * tables) + 0.5 chairs <= cap": False,
        'c (hour) : 2 tables["A"] + chairs <= cap': False,  # a coefficient of 1 has a unit as well as the 2 has
        "c (kg) : sum(rate * tables) <= 40": True,
        "c : sum(tables) + chairs <= 9": True,
    }.items():
        assert ("units" in read(f"{head}{goal}  {row}\n").check().kinds()) == alarm, row


def test_many_members_are_told_by_family_and_fills_are_counted(tmp_path: Path) -> None:
    text = "axes\n  a : 1 .. 9\ndata\n  need[a] : 1 2, 2 3 else 0\ndecisions\n  x[a] >= 0\n  y[a] <= 5\nminimize m\n  sum(y)\nrequire\n  c[a] : y >= need\n"
    model = read(text)
    assert model.notes == ("need: 7 combinations not there, each counts as 0",)
    assert [item.where for item in model.check() if item.kind == "unused"] == ["x (all 9)"]


def test_every_kind_is_covered_here() -> None:
    told = {"unused": 3, "one_sided": 2}
    assert len(KINDS) + 2 == sum(told.get(check.__name__, 1) for check in CHECKS)


@pytest.mark.parametrize("name", demos.FIRST)
def test_the_demos_are_clean(name: str) -> None:
    findings = demos.build(name).check()
    if name == "storm-week":
        assert [(item.severity, item.where) for item in findings.items] == [("error", "ribbon")]
        return
    assert findings.clean, str(findings)
    assert "no problems found" in str(findings)


def test_a_large_model_is_checked() -> None:
    i, j = rk.Axis("i", range(400)), rk.Axis("j", range(250))
    model = rk.Model("large")
    x = model.decide("x", i, j)
    model.minimize("cost", (rk.data(np.arange(100_000).reshape(400, 250) % 97 + 1, i, j) * x).sum())
    model.require("have", x.sum(j) <= 30)
    model.require("need", x.sum(i) >= 20)
    assert model.check().clean


def test_algebra_fills_in_data_and_elides_the_middle() -> None:
    model = demos.build("spring-haulage")
    text = model.algebra()
    assert "supply[Fell] (crate) : ship[Fell,Quay] + ship[Fell,Abbey] + ship[Fell,Station] <= 120 used[Fell]" in text
    assert "... 6 terms ..." in text
    assert "used[apiary] binary   # 5 members" in text
    assert (
        model.algebra("supply[Whin]") == "  supply[Whin] (crate) : ship[Whin,Quay] + ship[Whin,Priory] <= 60 used[Whin]"
    )
    assert model.algebra("haulage").count("ship[") == 14
    assert "160 <= " not in text
    long = rk.Model("long")
    x = long.decide("x", rk.Axis("a", range(50)), lower=-1, upper=rk.data(range(2, 52), rk.Axis("a", range(50))))
    long.require("r", x.between(0, 4))
    assert "  ... 46 more of r" in long.algebra()
    assert "0 <= x[49] <= 4" in long.algebra()
    assert "x[a] -1 .. 2 to 51   # 50 members" in long.algebra()
    with pytest.raises(rk.ModelError, match="did you mean 'demand'"):
        model.algebra("demnd")
