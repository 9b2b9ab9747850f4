"""The command line as a user runs it: what it prints, writes and exits with."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from click.testing import CliRunner, Result

import ruddock as rk
from ruddock import demos
from ruddock.cli import main
from tests.engine.test_tree import steiner_triples

EXE = [sys.executable, "-c", "from ruddock.cli import main; main()"]


def run(*words: str) -> Result:
    return CliRunner().invoke(main, words, catch_exceptions=False)


@pytest.fixture
def files(tmp_path: Path) -> Path:
    """A folder with a model that has a plan, one that has none, one without end, and a hard one."""
    demos.build("packing-week").write(tmp_path / "packing.mps")
    for name, limit in (("clash", "least"), ("endless", None)):
        model = rk.Model(name)
        x = model.decide("x")
        model.maximize("gain", x)
        model.require("most", x - model.decide("y") <= 4)
        if limit:
            model.require(limit, x - model["y"] >= 9)
        model.write(tmp_path / f"{name}.mps")
    problem = steiner_triples()
    columns, rows = rk.Axis("c", range(problem.n)), rk.Axis("r", range(problem.m))
    rk.Model._from_problem("hard", problem, columns, rows, "size", maximize=False).write(tmp_path / "hard.mps")
    return tmp_path


def staircase(periods: int) -> rk.Model:
    """A stock model, large enough that presolve is tried."""
    model = rk.Model("stock")
    week = rk.Axis("week", range(1, periods + 1))
    need = pd.Series([20.0 + 7 * (t % 5) for t in week], pd.Index(week, name="week"))
    make, stock = model.decide("make", week, upper=40), model.decide("stock", week)
    model.require("balance", stock.previous(week, start=0) + make == need + stock)
    model.require("room", stock <= 60)
    model.minimize("cost", make=(3 * make).sum(), keep=(0.5 * stock).sum())
    return model


def test_solve_prints_the_plan(files: Path) -> None:
    result = run("solve", str(files / "packing.mps"))
    assert result.exit_code == 0
    assert "optimal. Margin 6,431.76" in result.stdout
    assert "at its upper bound" in result.stdout


@pytest.mark.parametrize("method", ["dual", "primal", "interior"])
def test_solve_tells_its_effort_and_keeps_a_log(files: Path, method: str) -> None:
    staircase(200).write(files / "stock.mps")
    log, target = files / "run.jsonl", files / "plan.json"
    words = ["--method", method, "--effort", "--certify", "--events", str(log), "--json", str(target)]
    result = run("solve", str(files / "stock.mps"), *words)
    assert result.exit_code == 0, result.output
    assert "Removed by presolve" in result.stdout
    assert "Checked in exact arithmetic" in result.stdout
    events = [json.loads(line) for line in log.read_text().splitlines()]
    assert [events[0]["event"], events[-1]["event"]] == ["start", "end"]
    plan = json.loads(target.read_text())
    assert plan["effort"]["certified"]
    assert plan["objective"] == events[-1]["objective"]
    plain = run("solve", str(files / "stock.mps"), "--no-presolve", "--json", "-")
    assert json.loads(plain.stdout)["objective"] == pytest.approx(plan["objective"], rel=1e-12)
    missing = run("solve", str(files / "stock.mps"), "--events", str(files / "nowhere" / "run.jsonl"))
    assert missing.exit_code == 2
    assert "does not exist" in missing.output


def test_the_exact_check_says_that_it_is_for_linear_models(files: Path) -> None:
    assert "checks linear models" in run("solve", str(files / "hard.mps"), "--certify", "--time-limit", "0").output


@pytest.mark.parametrize(
    ("name", "code", "told"),
    [("packing", 0, "optimal"), ("clash", 1, "infeasible"), ("endless", 1, "without limit")],
)
def test_exit_status_and_json_follow_the_plan(files: Path, name: str, code: int, told: str) -> None:
    target = files / "plan.json"
    result = run("solve", str(files / f"{name}.mps"), "--json", str(target))
    assert result.exit_code == code
    assert told in result.stdout
    plan = json.loads(target.read_text(), parse_constant=pytest.fail)
    assert plan["format"] == "ruddock-plan/1"
    if name == "packing":
        assert plan["status"] == "optimal"
        assert plan["sense"] == "maximize"
        assert plan["decisions"]["hampers"] == {"value": 40.0, "reduced_cost": None}
        assert plan["constraints"]["wax"]["slack"] == pytest.approx(150 - 131.7647058823)
        assert {"seconds", "iterations", "nodes", "reductions", "seconds_by_part"} <= set(plan["effort"])
    if name == "clash":
        assert plan["objective"] is None
        assert set(plan["proof"]) == {"most", "least"}
        assert plan["proof"]["least"] == pytest.approx(-plan["proof"]["most"])
        assert plan["proof"]["least"] > 0
    if name == "endless":
        assert set(plan["ray"]) == {"x", "y"}
        assert plan["decisions"]["x"]["value"] >= 0


def test_prices_in_json_have_the_sign_of_the_objective(files: Path) -> None:
    model = rk.Model("prices")
    x = model.decide("x")
    model.maximize("gain", 3 * x)
    model.require("most", x <= 4)
    model.write(files / "prices.mps")
    plan = json.loads(run("solve", str(files / "prices.mps"), "--json", "-").stdout)
    assert plan["constraints"]["most"] == {
        "left": 4.0, "relation": "<=", "right": 4.0, "slack": 0.0, "price": 3.0,
    }  # fmt: skip
    assert plan["parts"] == {"gain": 12.0}


def test_json_to_standard_output_stands_alone(files: Path) -> None:
    done = subprocess.run(
        [*EXE, "solve", str(files / "packing.mps"), "--json", "-"], capture_output=True, text=True, check=True
    )
    assert json.loads(done.stdout)["model"] == "Packing week"
    assert "optimal. Margin" in done.stderr


@pytest.mark.parametrize("name", demos.FIRST)
def test_demos_run(name: str) -> None:
    result = run("demo", name)
    stormy = name == "storm-week"
    assert result.exit_code == int(stormy)
    assert demos.question(name)[:40] in result.stdout
    assert ("A repair, least change in total" if stormy else "optimal. ") in result.stdout


def test_demo_lists_what_there_is_and_corrects_a_name() -> None:
    result = run("demo")
    assert result.exit_code == 0
    assert all(name in result.stdout for name in demos.FIRST)
    wrong = run("demo", "packing-wek")
    assert wrong.exit_code == 2
    assert "did you mean 'packing-week'" in wrong.stderr


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["solve", "nowhere.mps"], "file not found"),
        (["solve", "packing.txt"], "file not found"),
        (["solve"], "Missing argument"),
        (["solve", "packing.mps", "--gap", "-1"], "--gap"),
        (["solv"], "No such command"),
        (["solve", "wrong.mps"], "line 3: 'nonsense' is not a section"),
        (["solve", "packing.mps", "--json", "no/folder.json"], "does not exist"),
    ],
)
def test_a_wrong_call_or_input_exits_with_2_and_one_message(files: Path, words: list[str], told: str) -> None:
    (files / "wrong.mps").write_text("NAME x\nROWS\nnonsense\nENDATA\n")
    done = subprocess.run([*EXE, *words], capture_output=True, text=True, cwd=files, check=False)
    assert done.returncode == 2
    assert told in done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ("what-if demo:stock crew[Jux]=4", "'Jux' is not a label of axis month; did you mean 'Jun' or 'Jul'?"),
        ("what-if demo:stock need=+10% crew[Jux]=4", "'Jux' is not a label"),
        ("what-if demo:stock cru=4", "no limit, decision or data has that name; known: bottle"),
        ("what-if demo:stock need[Jux]=4", "did you mean 'need[Jun]'"),
        ("what-if demo:stock crew.bottel=2", "did you mean 'bottle'"),
        ("what-if demo:stock crew[Mar,Apr]=3", "crew has the axes month, and 2 labels are given"),
        ("sweep demo:stock opening 0 1", "no limit, bound, coefficient or data is called 'opening'"),
        ("explain demo:packing-week wx", "did you mean 'wax'?"),
        ("solve demo:stock --family bottel", "did you mean 'bottle'?"),
        ("tradeoff demo:stock", "needs a model with two objectives"),
        ("solve demo:stok", "did you mean 'stock'?"),
    ],
)
def test_a_wrong_name_is_corrected(words: str, told: str) -> None:
    result = run(*words.split())
    assert result.exit_code == 2
    assert told in " ".join(result.output.split())


def test_a_time_limit_keeps_what_is_known(files: Path) -> None:
    _write_split(files / "split.mps")
    result = run("solve", str(files / "split.mps"), "--time-limit", "1", "--json", str(files / "p.json"))
    plan = json.loads((files / "p.json").read_text())
    assert result.exit_code == 0
    assert (plan["status"], plan["reason"]) == ("stopped", "time")
    assert 0 <= plan["bound"] < plan["objective"]
    assert "stopped by the time limit. Best plan so far: uneven" in result.stdout
    assert "no plan has less than" in " ".join(result.stdout.split())


@pytest.mark.skipif(os.name != "posix", reason="sends a signal")
def test_ctrl_c_returns_the_best_plan_so_far(files: Path) -> None:
    _write_split(files / "split.mps")
    call = [*EXE, "solve", str(files / "split.mps"), "--json", "-", "--time-limit", "120"]
    with subprocess.Popen(call, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        assert process.stderr is not None
        for line in process.stderr:
            if " nodes, best " in line:  # progress is told on the way
                break
        process.send_signal(signal.SIGINT)
        out, told = process.communicate(timeout=20)
    plan = json.loads(out)
    assert (plan["status"], plan["reason"]) == ("stopped", "user")
    assert plan["objective"] is not None
    assert process.returncode == 0
    assert "stopped by you" in told
    assert "\ntake[" in told, "members go by the file's names, not quoted"


def _write_split(path: Path) -> None:
    """Write a search that no look at bounds shortens: halves of several random sets, split as evenly as can be."""
    rng = np.random.default_rng(2)
    model = rk.Model("split")
    shop, market = rk.Axis("shop", range(50)), rk.Axis("market", range(6))
    sales = rng.integers(0, 100, (6, 50))
    take = model.decide("take", shop, kind="binary")
    over, under = model.decide("over", market), model.decide("under", market)
    model.minimize("uneven", over.sum() + under.sum())
    half = rk.data(sales.sum(axis=1) // 2, market)
    model.require("half", (rk.data(sales, market, shop) * take).sum(shop) - over + under == half)
    model.write(path)


def test_version_tells_which_kernels_run() -> None:
    assert run("--version").stdout == f"ruddock {rk.__version__}, kernels compiled\n"


HEAVY = {"numpy", "scipy", "pandas", "matplotlib", "lark", "openpyxl"}
UNUSED = {"numpy.f2py.crackfortran", "numpy.polynomial.polynomial"}


@pytest.mark.parametrize(
    ("words", "left_out"),
    [("--version", HEAVY), ("-h", HEAVY), ("solve -h", HEAVY), ("solve demo:stock", UNUSED)],
)
def test_a_command_imports_nothing_that_it_does_not_need(words: str, left_out: set[str]) -> None:
    code = f"import sys; sys.argv = ['ruddock', *{words.split()}]\nfrom ruddock.__main__ import main\n"
    code += "try: main()\nfinally: print(*sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert not left_out & set(done.stdout.splitlines()[-1].split())


@pytest.mark.parametrize(
    "words",
    [
        "solve demo:stock", "sensitivity demo:two-products", "what-if demo:spring-haulage need=+10%", "sweep demo:two-products wax 0 20",
        "diagnose demo:storm-week", "tradeoff demo:two-objectives --points 3",
    ],
)  # fmt: skip
def test_one_run_writes_all_that_is_asked_for(words: str, tmp_path: Path) -> None:
    names = ["a.html", "a.xlsx", "a.md", "b.png", "b.svg", "c.json"]
    options = ("--report", "--report", "--report", "--figure", "--figure", "--json")
    asked = [word for option, name in zip(options, names, strict=True) for word in (option, str(tmp_path / name))]
    done = run(*words.split(), *asked)
    output, verdict = done.output, done.stdout.splitlines()[0][:40]
    assert all(f"written to {tmp_path / name}" in output for name in names)
    assert all((tmp_path / name).stat().st_size > 400 for name in names)
    assert (tmp_path / "b.png").read_bytes().startswith(b"\x89PNG")
    assert "<script" not in (tmp_path / "a.html").read_text()
    assert verdict in (tmp_path / "a.md").read_text().replace("\\", "")


def test_uncompiled_kernels_solve_the_demos_with_one_warning(tmp_path: Path) -> None:
    source = Path(rk.__file__).parent
    shutil.copytree(source, tmp_path / "ruddock", ignore=shutil.ignore_patterns("*.so", "*.pyd", "__pycache__"))
    script = (
        "import sys; sys.modules['cython'] = None; sys.path.insert(0, sys.argv[1])\n"
        "from ruddock import demos\n"
        "print(*[round(demos.build(name).solve().objective, 4) for name in demos.FIRST[:3]])\n"
        "from ruddock.cli import main; main(['--version'])\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, str(tmp_path)], capture_output=True, text=True, check=True, cwd=tmp_path
    )
    values, version = done.stdout.splitlines()
    assert [float(v) for v in values.split()] == [round(demos.build(n).solve().objective, 4) for n in demos.FIRST[:3]]
    assert "kernels interpreted (slow)" in version
    assert done.stderr.count("the kernels are not compiled") == 1


PACKING = """
model Packing week

decisions
  jars, mead >= 0
  hampers    0 .. 40

maximize margin (£)
  4.2 jars + 9.5 mead + 31 hampers

require
  extraction (hour) : 0.5 jars + 1.2 mead <= 640
  wax (kg)          : 0.1 jars + 2 hampers <= 150
  shelf             : 10 <= jars - mead <= 200
"""


@pytest.mark.parametrize(
    ("words", "code", "told", "form"),
    [
        (["sensitivity"], 0, "one more hour earns £8.06, up to 950 hours", "ruddock-sensitivity/1"),
        (["sensitivity", "wax"], 0, "0 unlimited", "ruddock-sensitivity/1"),
        (["what-if", "extraction=700", "wax+=20"], 0, "£483.53 better", "ruddock-what-if/1"),
        (["what-if", "hampers.upper=5", "shelf=off"], 0, "No longer binding: shelf", "ruddock-what-if/1"),
        (["what-if", "extraction=-1"], 1, "infeasible", "ruddock-what-if/1"),
        (
            ["sweep", "extraction", "0", "1200"],
            0,
            "There is a plan at every value from 5 to 1,200 hours",
            "ruddock-sweep/1",
        ),
        (["reach", "extraction", "--objective", "6000"], 0, "at least 586.424 hours", "ruddock-reach/1"),
        (["reach", "extraction", "--target", "jars=800"], 0, "at least 1,120 hours", "ruddock-reach/1"),
        (["reach", "wax", "--objective", "9000"], 1, "This is proven", "ruddock-reach/1"),
    ],
)
def test_questions_after_the_plan(tmp_path: Path, words: list[str], code: int, told: str, form: str) -> None:
    path, target = tmp_path / "packing.rdk", tmp_path / "answer.json"
    path.write_text(PACKING)
    result = run(words[0], str(path), *words[1:], "--json", str(target))
    assert result.exit_code == code, result.output
    assert told in " ".join(result.stdout.split())
    assert json.loads(target.read_text(), parse_constant=pytest.fail)["format"] == form


def test_a_clash_is_diagnosed(tmp_path: Path) -> None:
    path, target = tmp_path / "packing.rdk", tmp_path / "why.json"
    path.write_text(PACKING.replace("10 <= jars - mead", "150 <= jars - mead").replace("<= 640", "<= 60"))
    result = run("diagnose", str(path), "--may-change", "extraction", "--json", str(target))
    assert result.exit_code == 0
    assert "The clash (irreducible infeasible set)" in result.stdout
    why = json.loads(target.read_text())
    assert [m["name"] for m in why["clashes"][0]["members"]] == ["shelf", "extraction", "mead"]
    assert why["repairs"][0]["changes"] == [
        {"constraint": "extraction", "relation": "<=", "old": 60.0, "new": 75.0, "by": 15.0}
    ]
    assert "ruddock diagnose" in run("solve", str(path)).stdout


def test_a_row_is_explained_term_by_term(tmp_path: Path) -> None:
    path = tmp_path / "packing.rdk"
    path.write_text(PACKING)
    result = run("explain", str(path), "extraction")
    assert result.exit_code == 0
    assert "total" in result.stdout
    assert "640 hours <= 640 hours, binding." in result.stdout
    assert run("explain", str(path), "extractoin").exit_code == 2


def test_a_hand_made_plan_is_appraised(tmp_path: Path) -> None:
    path, values = tmp_path / "packing.rdk", tmp_path / "hand.csv"
    path.write_text(PACKING)
    values.write_text("decision,value\njars,500\nmead,200\nhampers,45\n")
    result = run("appraise", str(path), str(values), "--json", "-")
    assert result.exit_code == 1
    found = json.loads(result.stdout)
    assert [v["where"] for v in found["violations"]] == ["shelf", "hampers"]
    assert found["gain"] == pytest.approx(6431.7647 - 5395, abs=1e-3)
    values.write_text("decision,value\njars,300\nmead,200\n")
    assert run("appraise", str(path), str(values)).exit_code == 0


def test_check_watches_the_files_beside_a_model(tmp_path: Path) -> None:
    model = tmp_path / "m.rdk"
    model.write_text("decisions\n  x <= 3\nmaximize m\n  x\nrequire\n  c : x <= need\n")
    command = [*EXE, "check", str(model), "--watch"]
    interruptible = partial(signal.signal, signal.SIGINT, signal.SIG_DFL)  # also where the tests run in the background
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, preexec_fn=interruptible
    ) as done:

        def until(words: str) -> str:
            said = ""
            while words not in said:
                line = done.stdout.readline()  # type: ignore[union-attr]
                assert line, said
                said += line
            return said

        try:
            assert "'need' is neither data nor a decision" in until("watching")
            model.write_text(model.read_text().replace("<= need", "<= 2"))
            assert "no problems found" in until("watching")
            done.send_signal(signal.SIGINT)
            assert done.wait(30) == 130
        finally:
            done.kill()
