"""Scenario studies: the same table by whatever executor, nothing lost or doubled when a run is killed."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.insight import scenarios as module
from ruddock.insight.scenario_store import Store


def haulage_table(rows: int) -> pd.DataFrame:
    """Return scenarios of the spring haulage: other limits, bounds and coefficients."""
    rng = np.random.default_rng(5)
    model = demos.build("spring-haulage")
    supply = [name for name in model.formulation().constraint_names if name.startswith("demand")]
    frame = pd.DataFrame(
        {name: np.where(rng.random(rows) < 0.5, rng.integers(20, 180, rows).astype(float), np.nan) for name in supply}
    )
    frame["demand"] = np.where(rng.random(rows) < 0.3, "*1.1", None)
    frame.insert(0, "scenario", [f"s{k}" for k in range(rows)])
    return frame


def haulage() -> rk.Model:
    return demos.build("spring-haulage").without_integers()


@pytest.fixture(scope="module")
def study() -> tuple[pd.DataFrame, module.Scenarios]:
    table = haulage_table(200)
    return table, haulage().scenarios(table)


def assert_same(one: module.Scenarios, other: module.Scenarios) -> None:
    pd.testing.assert_frame_equal(one.table(), other.table(), check_exact=True)
    pd.testing.assert_frame_equal(one.decisions(), other.decisions(), check_exact=True)
    pd.testing.assert_frame_equal(one.binding(), other.binding())


def test_each_scenario_is_what_solving_the_changed_model_gives(study: tuple[pd.DataFrame, module.Scenarios]) -> None:
    table, found = study
    model = haulage()
    assert len(found) == 200
    assert 0 < sum(not result.found for result in found.results) < 150, "some have no plan, most have one"
    for row, result in list(zip(table.to_dict("records"), found.results, strict=True))[::10]:
        changes = {k: v for k, v in row.items() if k != "scenario" and v is not None and v == v}
        plan = model.what_if(changes).changed if changes else model.solve()
        assert plan.found == result.found, row
        if plan.found:
            assert result.objective == pytest.approx(plan.objective)
        else:
            assert "clash" in result.note


def test_a_workbook_of_scenarios_is_read_as_the_same_in_a_file(tmp_path: Path) -> None:
    model = demos.build("packing-week")
    rows = [("longer", 700, None, None), ("scarce wax", None, 120, None), ("no hampers", None, "*0.5", 0)]
    table = pd.DataFrame(rows, columns=["scenario", "extraction", "wax", "hampers.upper"])
    table.to_csv(tmp_path / "weeks.csv", index=False)
    table.to_excel(tmp_path / "weeks.xlsx", index=False, engine="openpyxl")
    found = model.scenarios(tmp_path / "weeks.xlsx")
    assert_same(found, model.scenarios(tmp_path / "weeks.csv"))
    assert found.table()["objective"].iloc[0] == pytest.approx(model.what_if({"extraction": 700}).changed.objective)
    assert list(found.table().index) == ["longer", "scarce wax", "no hampers"]


@pytest.mark.parametrize("way", ["pool", "threads", "dask"])
def test_every_executor_gives_the_same_table(way: str, study: tuple[pd.DataFrame, module.Scenarios]) -> None:
    table, found = study
    model = haulage()
    if way == "pool":
        assert_same(model.scenarios(table, jobs=2), found)
        whole, few = demos.build("spring-haulage"), table.head(20)
        assert_same(whole.scenarios(few, jobs=2), whole.scenarios(few))
    elif way == "threads":
        with ThreadPoolExecutor(2) as executor:
            assert_same(model.scenarios(table, executor=executor), found)
    else:
        distributed = pytest.importorskip("distributed")
        with (
            distributed.LocalCluster(n_workers=2, threads_per_worker=1, processes=False, dashboard_address=None) as own,
            distributed.Client(own) as client,
        ):
            assert_same(model.scenarios(table, executor=client.get_executor()), found)


@pytest.mark.skipif(os.name != "posix", reason="kills a process")
@pytest.mark.parametrize("jobs", [1, 2])
def test_a_killed_run_goes_on_with_nothing_lost_or_doubled(
    jobs: int, tmp_path: Path, study: tuple[pd.DataFrame, module.Scenarios]
) -> None:
    table, found = study
    haulage().write(tmp_path / "haulage.rdk")
    table.to_csv(tmp_path / "table.csv", index=False)
    keep = tmp_path / "kept.jsonl"
    code = "from ruddock.cli import main; main()"
    words = ["scenarios", "haulage.rdk", "table.csv", "--jobs", str(jobs), "--keep", str(keep)]
    process = subprocess.Popen([sys.executable, "-c", code, *words], cwd=tmp_path, stdout=subprocess.DEVNULL)
    end = time.monotonic() + 60
    while time.monotonic() < end and process.poll() is None:
        if keep.exists() and keep.read_bytes().count(b"\n") > 20:
            break
        time.sleep(0.005)
    process.send_signal(signal.SIGKILL)
    process.wait()
    with open(keep, "ab") as file:
        file.write(b'{"changes": ["demand[Q')  # the line that was being written
    before = keep.read_bytes().count(b"\n") - 1
    assert 20 <= before
    solved: list[str] = []
    real = module.work
    model = rk.read(tmp_path / "haulage.rdk")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(module, "work", lambda task: (solved.append("one"), real(task))[1])
        again = model.scenarios(tmp_path / "table.csv", keep=keep)
    assert len(solved) == 200 - before
    lines = [json.loads(line) for line in keep.read_text().splitlines()]
    assert sorted(line["scenario"] for line in lines[1:]) == sorted(table["scenario"])
    pd.testing.assert_frame_equal(again.table().drop(columns="note"), found.table().drop(columns="note"), rtol=1e-9)


class _Failing(Executor):
    """Loses every third task, as a cluster may."""

    def __init__(self) -> None:
        self.count = 0

    def submit(self, fn, /, *args, **kwargs):  # type: ignore[no-untyped-def]
        self.count += 1
        future: Future = Future()
        if self.count % 3 == 0:
            future.set_exception(RuntimeError("the worker was lost"))
        else:
            future.set_result(fn(*args, **kwargs))
        return future


def test_one_that_fails_never_loses_the_others() -> None:
    model = demos.build("packing-week")
    table = pd.DataFrame({"extraction": [600, 700, 50, 640]}, index=["less", "more", "lost", "same"])
    found = model.scenarios(table, executor=_Failing())
    assert found.table()["status"].tolist() == ["optimal", "optimal", "error", "optimal"]
    assert "the worker was lost" in found.table().loc["lost", "note"]
    crossed = model.scenarios(pd.DataFrame({"hampers.lower": [0, 99]}))
    assert crossed.table()["status"].tolist() == ["optimal", "error"]
    assert "the lower bound would be above the upper one" in crossed.table()["note"].iloc[1]


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("scenario,extraktion\na,700\n", "did you mean 'extraction'"),
        ("scenario,extraction\na,lots\n", "line 2: extraction=lots: write a number"),
        ("scenario,extraction\na,700\na,710\n", "the scenario 'a' is in line 2 already"),
        ("scenario,extraction\n", "holds no scenario"),
    ],
)
def test_slips_in_the_table_are_told_with_their_place(text: str, told: str, tmp_path: Path) -> None:
    path = tmp_path / "table.csv"
    path.write_text(text)
    with pytest.raises(rk.RuddockError) as error:
        demos.build("packing-week").scenarios(path)
    assert told in str(error.value)


def test_a_study_in_which_nothing_has_a_plan_says_so(tmp_path: Path) -> None:
    found = demos.build("storm-week").scenarios(pd.DataFrame({"supply[Fell]": [41, 42]}))
    assert "0 of 2 scenarios have a plan" in " ".join(str(found).split())
    assert list(found.table()["status"]) == ["infeasible", "infeasible"]
    assert not found.decisions().size
    assert not found.decisions(moved=True).size
    assert not found.binding().size
    assert found._repr_html_()


def test_kept_results_of_another_model_are_refused(tmp_path: Path) -> None:
    table = pd.DataFrame({"extraction": [600, 700]})
    model = demos.build("packing-week")
    model.scenarios(table, keep=tmp_path / "kept")
    with pytest.raises(rk.FormatError, match="of another model"):
        model.without_integers().scenarios(table, keep=tmp_path / "kept")
    (tmp_path / "other").write_text("my notes\n")
    with pytest.raises(rk.FormatError, match="not a file of scenario results"):
        model.scenarios(table, keep=tmp_path / "other")
    assert (tmp_path / "other").read_text() == "my notes\n"


def test_the_comparison_names_what_moves_and_what_binds() -> None:
    model = demos.build("packing-week")
    table = pd.DataFrame({"extraction": [500.0, 800.0], "wax": [None, "+50"]}, index=["few", "many"])
    found = model.scenarios(table)
    text = " ".join(str(found).split())
    assert "2 of 2 scenarios have a plan" in text
    assert "Decisions that change" in text
    assert set(found.decisions(moved=True).index) <= set(model.formulation().decision_names)
    for name, row in found.decisions().T.iterrows():
        values = model.what_if({k: v for k, v in table.loc[name].items() if v is not None and v == v}).changed.values
        np.testing.assert_allclose(row.to_numpy(), values, atol=1e-6)
    document = json.loads(json.dumps(found.as_dict(), allow_nan=False))
    assert [s["scenario"] for s in document["scenarios"]] == ["few", "many"]
    assert document["scenarios"][0]["decisions"]["jars"] == found.decisions().loc["jars", "few"]


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no worker is forked here")
def test_a_worker_that_outlives_its_run_does_not_hold_the_kept_file(tmp_path: Path) -> None:
    reading, writing = os.pipe()
    with Store(tmp_path / "kept.jsonl", "model"):
        worker = os.fork()
        if not worker:
            os.write(writing, b"forked")
            time.sleep(60)
            os._exit(0)
        os.read(reading, 6)
        with pytest.raises(rk.FormatError, match="another run"), Store(tmp_path / "kept.jsonl", "model"):
            pass
    try:
        with Store(tmp_path / "kept.jsonl", "model") as store:
            assert store.path is not None
    finally:
        os.kill(worker, signal.SIGKILL)
        os.waitpid(worker, 0)
