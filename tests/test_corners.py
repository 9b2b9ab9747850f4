"""Corners in which an answer, a copy or a file was once another model than the one written."""

from __future__ import annotations

import copy
import datetime as dt
import json
import multiprocessing
import pickle
import signal
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from click.testing import CliRunner

import ruddock as rk
from ruddock.cli import main

# ---------------------------------------------------------------------- rules follow the model of today


def ruled(stock: float, rule: str = "when") -> rk.Model:
    """A model whose rule needs room: as much as ``stock`` allows."""
    model = rk.Model("Rule")
    x, y, u = model.decide("x"), model.decide("y", upper=stock), model.decide("u", kind="binary")
    model.require("stock", x <= stock)
    if rule == "when":
        model.require("r", rk.when(u, x <= 3))
    else:
        model.require("r", rk.either(x <= 3, y <= 1))
    model.maximize("o", x + 2 * y if rule == "either" else x)
    return model


@pytest.mark.parametrize("rule", ["when", "either"])
def test_a_rule_has_the_room_of_the_model_as_changed(rule: str) -> None:
    model, truth = ruled(10, rule), ruled(20, rule).solve().objective
    changes = {"stock": 20, "y.upper": 20}
    assert model.what_if(changes).changed.objective == truth
    study = model.scenarios(pd.DataFrame([{"scenario": "more", **changes}]))
    assert study.results[0].objective == truth
    if rule == "when":
        assert model.sweep("stock", 5, 30, points=6).objective(20) == truth
        assert model.reach("stock", objective=15).value == pytest.approx(15)
    model.remove("stock")
    model.require("stock", model["x"] <= 20)
    model.decide("y", upper=20, replace=True)
    model.require("r", rk.when(model["u"], model["x"] <= 3), replace=True)
    model.maximize("o", model["x"], replace=True)
    assert model.solve().objective == 20
    clash = ruled(10)
    clash.require("on", clash["u"] >= 1)
    clash.require("much", clash["x"] >= 5)
    found = clash.diagnose()
    assert {reason.name for reason in found.clashes[0].reasons} >= {"r", "much"}
    assert "if u then x <= 3" in str(found)


def test_helpers_of_rules_show_nowhere(tmp_path: Path) -> None:
    model = rk.Model("Kiln")
    hour = rk.Axis("hour", range(6))
    on, x = model.decide("on", hour, kind="binary"), model.decide("x", hour, upper=9)
    model.require("long", rk.run(on, hour, 3))
    model.require("link", x <= 9 * on)
    fare = model.curve("fare", x, [(0, 0), (3, 6), (9, 9)])
    model.require("much", x.sum() >= 20)
    model.minimize("cost", fares=fare.sum(), heat=on.sum())
    plan = model.solve()
    assert list(plan.decisions().index.str.split("[").str[0].unique()) == ["on", "x"]
    assert list(plan.constraints().index.str.split("[").str[0].unique()) == ["link", "much"]
    assert (model.describe().decisions, model.describe().constraints) == (12, 7)
    judged = model.appraise(plan.decisions()["value"])
    assert judged.feasible and judged.plan.objective == pytest.approx(plan.objective)
    for ending in ("rdk", "json"):
        model.write(tmp_path / f"kiln.{ending}")
        assert rk.read(tmp_path / f"kiln.{ending}").solve().objective == pytest.approx(plan.objective)
    model.remove("long")
    model.remove("much")
    assert model.solve().objective == 0


# ---------------------------------------------------------------------- edits and tables

TABLES = "axes\n  a : p, q\ndata\n  need[a] : p 3, q 4\ndecisions\n  x[a] integer >= 0\nminimize m\n  sum(x)\nrequire\n  c[a] : x >= need\n"


def test_a_model_of_text_keeps_edits_and_tables(tmp_path: Path) -> None:
    (tmp_path / "t.rdk").write_text(TABLES)
    model = rk.read(tmp_path / "t.rdk")
    model.require("extra", model["x"].sum() >= 12)
    for own in (model, model.without_integers(), copy.deepcopy(model), pickle.loads(pickle.dumps(model))):
        assert own.what_if({"need[p]": 3}).difference == 0
        assert own.what_if({"need": "*2"}).changed.objective == 14
    model.remove("c")
    assert model.what_if({"need": "*9"}).changed.objective == 12
    (tmp_path / "t.rdk").unlink()
    assert pickle.loads(pickle.dumps(model.solve())).objective == 12


def test_expressions_of_another_model_are_refused_everywhere() -> None:
    one, other = rk.Model("one"), rk.Model("other")
    x, y = one.decide("x", upper=3), other.decide("y", upper=4)
    one.maximize("o", x)
    plan = one.solve()
    late = one.decide("late", upper=2)
    for ask in (
        lambda: plan[y],
        lambda: plan.value(2 * y),
        lambda: plan.value(late),
        lambda: plan[late],
        lambda: one.quantity("q", 100 * y),
        lambda: one.require("c", x + y <= 3),
        lambda: one.require("r", rk.when(y, x <= 1)),
        lambda: one.maximize("p", y),
    ):
        with pytest.raises(rk.RuddockError, match=r"model|solved|later"):
            ask()
    assert list(one.formulation().decision_names) == ["x", "late"]


# ---------------------------------------------------------------------- copies, threads, notebooks


def test_copies_share_nothing_that_changes() -> None:
    model = rk.Model("M")
    x = model.decide("x", upper=4)
    model.maximize("o", x)
    for way in (copy.copy, copy.deepcopy, lambda m: pickle.loads(pickle.dumps(m))):
        twin = way(model)
        twin.require("lim", twin["x"] <= 2)
        z = model.decide("z", upper=1)
        model.maximize("o", x + z, replace=True)
        assert (twin.solve().objective, model.solve().objective) == (2, 5)
        model.maximize("o", x, replace=True)
        model.remove("z")
    plan = model.solve()
    for array in (plan.values, x.upper, x.lower):
        with pytest.raises(ValueError, match="read-only"):
            array[0] = 9
    assert plan["x"] == 4


def test_threads_solve_and_write_at_once(tmp_path: Path) -> None:
    model, found, errors = ruled(10), [], []

    def work(k: int) -> None:
        try:
            for _ in range(4):
                found.append(model.what_if({"stock": 10 + k}).changed.objective)
                model.write(tmp_path / "same.json")
        except Exception as error:
            errors.append(error)

    threads = [threading.Thread(target=work, args=(k,)) for k in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert not errors
    assert sorted(found) == [10.0] * 4 + [11.0] * 4 + [12.0] * 4
    assert rk.read(tmp_path / "same.json").solve().objective == 10
    assert [path.name for path in tmp_path.iterdir()] == ["same.json"]


def test_a_cell_runs_again() -> None:
    model = rk.Model("Cell")
    for labels in (["A", "B"], ["A", "B", "C"]):
        site = rk.Axis("site", labels)
        on = model.decide("on", site, kind="binary", replace=True)
        x = model.decide("x", site, upper=5, replace=True)
        cost = model.curve("cost", x, [(0, 0), (2, 3), (5, 4)], replace=True)
        model.require("link", rk.when(1 - on, x <= 0), replace=True)
        model.require("much", x.sum() >= 4, replace=True)
        model.quantity("used", on.sum(), replace=True)
        model.minimize("o", cost.sum() + on.sum(), replace=True)
        assert model.solve().found
    with pytest.raises(rk.RuddockError):
        model.curve("bad", x, [(3, 0), (1, 2)])
    assert "bad" not in model and model.solve().found
    for name in ("o", "used", "much", "link", "cost", "x", "on"):
        model.remove(name)
    model.decide("new", rk.Axis("site", ["other"]))
    assert list(model.formulation().decision_names) == ["new[other]"]


def test_a_name_used_twice_says_how_to_replace() -> None:
    model = ruled(5)
    with pytest.raises(rk.ModelError, match="replace=True"):
        model.decide("x")


# ---------------------------------------------------------------------- files

LABELS: dict[str, list[Any]] = {
    "period": list(pd.period_range("2026-01", periods=3, freq="M")),
    "date": [dt.date(2026, 3, 28), dt.date(2026, 3, 29), dt.date(2026, 3, 30)],
    "interval": list(pd.interval_range(0, 3)),
    "timedelta": list(pd.timedelta_range("1h", periods=3, freq="90min")),
    "zone": list(pd.date_range("2026-03-29 00:30", periods=3, freq="h", tz="Europe/Berlin")),
    "number": [1.5, 2, 10],
    "odd": ['say "or" then', "where : x", " blank, )"],
    "mixed": ["1", 2, "or"],
}


@pytest.mark.filterwarnings("ignore:labels that are neither text nor integers")
@pytest.mark.parametrize("kind", LABELS)
def test_labels_of_every_type_come_back(kind: str, tmp_path: Path) -> None:
    axis = rk.Axis("t", LABELS[kind])
    model = rk.Model("T")
    x = model.decide("x", axis, upper=rk.data([3, 4, 5], axis), unit="£/(crate*day)")
    u = model.decide("u", axis, kind="binary")
    model.require("r", rk.when(u, x >= 2))
    model.require("e", rk.either(x <= 1, u >= 1))
    model.require("last", x.at(t=LABELS[kind][2]) <= 4)
    model.maximize("o", (rk.data([1, 2, 3], axis) * x).sum())
    truth = model.solve()
    for ending in ("json", "rdk"):
        path = tmp_path / f"t.{ending}"
        model.write(path)
        back = rk.read(path)
        assert back.solve().objective == truth.objective
        if ending == "json":
            assert list(back["x"].axes[0].labels) == list(axis.labels)
            assert str(back.algebra()) == str(model.algebra())


@pytest.mark.parametrize("name", ["Upper", "Lower", "Max", "min", "sign", "kind", "relation", "limit"])
@pytest.mark.parametrize("ending", ["csv", "xlsx", "ods", "rdk", "json", "mps"])
def test_names_that_look_like_headings_come_back(name: str, ending: str, tmp_path: Path) -> None:
    model = rk.Model("M")
    x, sign = model.decide("x"), model.decide(name, upper=2)
    model.maximize("o", x + 2 * sign)
    model.require(f"{name}_row" if ending == "rdk" else f"{name.upper()}", x <= 5)
    path = tmp_path / f"m.{ending}"
    model.write(path)
    back = rk.read(path)
    assert back.solve().objective == 9
    assert back.solve()[name] == 2


def test_an_axis_whose_one_label_is_another_axis_comes_back(tmp_path: Path) -> None:
    place, a = rk.Axis("place", ["A", "B"]), rk.Axis("a", ["place"])
    model = rk.Model("One")
    x, y = model.decide("x", place, upper=4), model.decide("y", a, upper=1)
    model.maximize("o", x.sum() + y.sum())
    model.write(tmp_path / "one.rdk")
    back = rk.read(tmp_path / "one.rdk")
    assert back.solve().objective == 9
    assert list(back["y"].axes[0].labels) == ["place"]


@pytest.mark.parametrize("ending", ["json", "rdk", "mps", "csv", "xlsx"])
def test_a_folder_is_no_file_to_write(ending: str, tmp_path: Path) -> None:
    model = rk.Model("P")
    model.maximize("o", model.decide("x", upper=2))
    (tmp_path / f"m.{ending}").mkdir()
    with pytest.raises(rk.RuddockError, match="folder"):
        model.write(tmp_path / f"m.{ending}")


# ---------------------------------------------------------------------- studies


def test_names_of_ours_stay_apart_from_those_of_results(tmp_path: Path) -> None:
    names = ["status", "objective", "difference", "note", "scenario", "x"]
    model = rk.Model("Names")
    x = model.decide("x", upper=9)
    model.maximize("bound", parts={name: (k + 1) * x for k, name in enumerate(names)})
    model.quantity("where", 3 * x)
    model.write(tmp_path / "names.json")
    table = tmp_path / "weeks.csv"
    table.write_text("scenario,x.upper\nless,5\nmore,12\n")
    study = model.scenarios(table)
    frame = study.table()
    assert frame.columns.is_unique
    assert [study.results[0].status, study.results[0].objective] == ["optimal", 105.0]
    run = CliRunner().invoke(
        main, ["scenarios", str(tmp_path / "names.json"), str(table), "--csv", str(tmp_path / "o.csv")]
    )
    assert run.exit_code == 0, run.output
    assert len(pd.read_csv(tmp_path / "o.csv")) == 2


@pytest.mark.parametrize("empty", [None, np.nan, pd.NA, ""])
def test_an_empty_cell_of_a_study_changes_nothing(empty: object) -> None:
    study = ruled(10).scenarios(
        pd.DataFrame([{"scenario": "a", "stock": 4, "y.upper": empty}, {"scenario": "b", "stock": empty, "y.upper": 3}])
    )
    assert [result.objective for result in study.results] == [4, 10]


def _keep(path: str, rows: list[dict[str, Any]]) -> None:
    ruled(10).scenarios(pd.DataFrame(rows), keep=path)


def test_two_runs_on_one_kept_file_lose_nothing(tmp_path: Path) -> None:
    rows = [{"scenario": f"s{k}", "stock": float(k)} for k in range(1, 13)]
    context = multiprocessing.get_context("spawn")
    path = str(tmp_path / "kept.jsonl")
    runs = [context.Process(target=_keep, args=(path, part)) for part in (rows[:8], rows[4:])]
    for run in runs:
        run.start()
    for run in runs:
        run.join()
    assert 0 in [run.exitcode for run in runs]  # at the same time, the second is refused; nothing is lost
    study = ruled(10).scenarios(pd.DataFrame(rows), keep=path)
    assert [result.objective for result in study.results] == [float(k) for k in range(1, 13)]
    kept = [json.loads(line)["scenario"] for line in Path(path).read_text().splitlines()[1:]]
    assert sorted(kept) == sorted(row["scenario"] for row in rows)


# ---------------------------------------------------------------------- interrupts


def loading(rows: int = 6, lots: int = 60) -> rk.Model:
    """A model that takes a while: lots of several weights into limited room."""
    rng = np.random.default_rng(3)
    lot, row = rk.Axis("lot", range(lots)), rk.Axis("row", range(rows))
    model = rk.Model("Loading")
    take = model.decide("take", lot, kind="binary")
    weight = rk.data(rng.integers(10, 100, (rows, lots)), row, lot)
    model.maximize("worth", (rk.data(rng.integers(10, 100, lots), lot) * take).sum())
    model.require("room", (weight * take).sum(lot) <= rk.data(np.full(rows, 20.0 * lots + 0.5), row))
    return model


def interrupting(at: int = 1) -> Callable[..., None]:
    """Return a listener that sends Ctrl-C at its nth call."""
    calls: list[int] = []

    def hear(*_: Any) -> None:
        calls.append(1)
        if len(calls) == at:
            signal.raise_signal(signal.SIGINT)

    return hear


def test_one_interrupt_ends_a_question_and_keeps_what_was_found() -> None:
    model = loading()
    found = model.what_if({"room": "+1"}, on_progress=interrupting())
    assert (found.base.reason, found.changed.reason) == ("user", "user")
    assert found.base.found and "not proven optimal" in str(found)
    assert model.sweep("room*", 0.9, 1.1, points=6, on_progress=interrupting()).stopped == "user"
    rows = pd.DataFrame([{"scenario": f"s{k}", "room": 300.0 + k} for k in range(5)])
    study = model.scenarios(rows, on_result=interrupting(3), gap=0.2)
    assert study.stopped and [result.status for result in study.results] == ["optimal", "optimal"]
    model.require("much", model["take"].sum() >= 40)
    model.require("less", model["take"].sum() <= 39)
    before = signal.signal(signal.SIGALRM, lambda *_: signal.raise_signal(signal.SIGINT))
    signal.setitimer(signal.ITIMER_REAL, 1.0)
    try:
        heard: list[Any] = []
        diagnosis = model.diagnose(time_limit=60, on_progress=heard.append)
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)
    assert {reason.name for reason in diagnosis.clashes[0].reasons} == {"much", "less"}  # not 41 of them
    assert diagnosis.stopped == "user"
    assert "looking for repairs" in {progress.doing for progress in heard}
