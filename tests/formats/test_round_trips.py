"""Every form gives back the same problem; tables and matrices from scripts; their errors."""

from __future__ import annotations

import json
import tempfile
import warnings
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import load_workbook
from scipy import sparse

import ruddock as rk
from ruddock import demos
from ruddock.cli import main
from ruddock.formats.rdk.write import rdk_text
from ruddock.problem import INTEGER, SEMICONTINUOUS, Problem
from tests.formats.test_grids import meant
from tests.formats.test_mps import same
from tests.formats.test_rdk import EVERYTHING, read
from tests.generators import STRUCTURES, random_lp
from tests.integer_problems import random_milp

inf = np.inf
FORMS = ("rdk", "json", "csv", "xlsx", "ods", "mps")


def as_model(problem: Problem, maximize: bool) -> rk.Model:
    columns, rows = (rk.Axis(n, [f"{n}{i}" for i in range(k)]) for n, k in (("c", problem.n), ("r", problem.m)))
    return rk.Model._from_problem("random", problem, columns, rows, "goal", maximize=maximize)


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("seed", range(10))
def test_random_models_come_back_the_same(tmp_path: Path, form: str, seed: int) -> None:
    problem = random_milp(seed) if seed % 2 else random_lp(STRUCTURES[seed % 8], seed, 10, 14, "optimal")
    if form == "rdk" and (problem.kinds == INTEGER | SEMICONTINUOUS).any():
        return
    model = as_model(problem, maximize=seed % 3 == 0)
    path = tmp_path / f"model.{form}"
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        model.write(path)
        again = rk.read(path).problem()
    same(again, problem)


def test_names_in_a_workbook_are_no_formulas(tmp_path: Path) -> None:
    text = "NAME evil\nROWS\n N goal\n L =1+1\nCOLUMNS\n =2+2 goal 1 =1+1 1\n @x =1+1 3\nRHS\n RHS =1+1 4\nENDATA\n"
    (tmp_path / "evil.mps").write_text(text)
    model = rk.read(tmp_path / "evil.mps")
    model.write(tmp_path / "evil.xlsx")
    book = load_workbook(tmp_path / "evil.xlsx")
    assert not any(cell.data_type == "f" for sheet in book for row in sheet.iter_rows() for cell in row)
    again = rk.read(tmp_path / "evil.xlsx")
    assert again.formulation().decision_names == model.formulation().decision_names == ["=2+2", "@x"]
    assert again.formulation().constraint_names == ["=1+1"]
    same(again.problem(), model.problem())


@pytest.mark.parametrize("name", [*demos.FIRST, "everything"])
def test_families_keep_their_names_and_labels(tmp_path: Path, name: str) -> None:
    model = read(EVERYTHING) if name == "everything" else demos.build(name)
    for form in ("rdk", "json"):
        model.write(tmp_path / f"m.{form}")
        again = rk.read(tmp_path / f"m.{form}")
        same(again.problem(), model.problem())
        assert again.formulation().decision_names == model.formulation().decision_names
        assert again.formulation().constraint_names == model.formulation().constraint_names
        assert [o.parts.keys() for o in again.formulation().objectives] == [
            o.parts.keys() for o in model.formulation().objectives
        ]
        assert [q.name for q in again.formulation().quantities] == [q.name for q in model.formulation().quantities]
        assert str(again.solve()).splitlines()[:8] == str(model.solve()).splitlines()[:8]


def test_subsets_empty_rows_and_odd_labels_survive_the_text_form() -> None:
    place = rk.Axis("place", ["Fell", "Long Meadow", "a,b", "07"])
    other = rk.Axis("other", [3, 1, 2])
    model = rk.Model("odd")
    x = model.decide("x", place, other, only=[("Fell", 1), ("a,b", 2), ("07", 3)], upper=7)
    free = model.decide("extra", place, lower=None)
    y = model.decide("y", kind="binary")
    model.maximize("gain", x.sum() - free.sum() + 3 * y)
    model.require("per_place", x.sum(other) + free >= 1)
    model.require("per_other", x.sum(place) - y.repeat(other) <= rk.data({3: 4, 1: 5, 2: 6}, other))
    model.require("fell", x.at(place="Fell").sum() + y <= 4)
    model.require("none", x.where(rk.data({"Fell": 0}, place)).sum(other) + 0 * free >= -2)
    same(read(rdk_text(model)).problem(), model.problem())


def test_a_table_is_read_with_all_it_may_hold() -> None:
    frame = pd.DataFrame(
        {
            "jars": [4.2, 0.5, 0.1, 1, 0, "", "continuous"],
            "mead": [9.5, 1.2, "", -1, "", 90, ""],
            "hampers": [31, None, 2, None, 0, 40, "integer"],
            "relation": ["", "<=", "=<", "≥", "", "", ""],
            "limit": [-100, 640, 150, 10, "", "", ""],
        },
        index=["maximize", "extraction", "wax", "shelf", "lower", "upper", "kind"],
    )
    model = rk.Model.from_table(frame, "grid")
    problem = model.problem()
    assert problem.upper.tolist() == [inf, 90, 40]
    assert problem.kinds.tolist() == [0, 0, 1]
    assert problem.row_upper.tolist() == [640, 150, inf]
    same(problem, meant().problem())


@pytest.mark.parametrize("dense", [True, False])
def test_matrices_come_back_as_labelled_tables(dense: bool) -> None:
    apiary, market = rk.Axis("apiary", ["Fell", "Mere"]), rk.Axis("market", ["Quay", "Abbey", "Station"])
    supply = np.kron(np.eye(2), np.ones(3))
    demand = np.kron(np.ones((1, 2)), np.eye(3))
    model = rk.Model.from_arrays(
        [[1, 2, 3], [2, 1, 1]], supply if dense else sparse.csr_matrix(supply), "<=", [50, 60],
        equal_matrix=demand, equal_limits=[30, 20, 40], axes=(apiary, market), names=("ship", "row", "cost"),
    )  # fmt: skip
    plan = model.solve()
    assert plan.objective == 30 + 20 + 40
    assert plan.table("ship").loc["Mere", "Station"] == 40
    mixed = rk.Model.from_arrays([1, 1], [[2, 1]], [">="], [4.5], kinds=["integer", "binary"], upper=[9, 1])
    assert mixed.problem().upper.tolist() == [9, 1]
    assert mixed.solve().decisions()["kind"].tolist() == ["integer", "integer"]


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (lambda: rk.Model.from_arrays([1, 2], [[1, 2, 3]], "<=", [1]), "matrix has 3 columns for 2 costs"),
        (lambda: rk.Model.from_arrays([1, 2], [[1, 2]], "<=", [1, 2]), "limits has 2 values for 1"),
        (lambda: rk.Model.from_arrays([1, 2], [[1, 2]], ["<>"], [1]), r"relations\[0\] is '<>'"),
        (lambda: rk.Model.from_arrays([1, np.nan]), r"costs\[1\] is NaN"),
        (lambda: rk.Model.from_arrays([1, 2], kinds="whole"), "'whole' is not a kind"),
        (lambda: rk.Model.from_arrays([1, 2], [[1, 2]]), "matrix needs its limits"),
        (lambda: rk.Model.from_arrays([1, 2, 3], axes=[rk.Axis("a", ["ab"])]), "make 1 combinations for 3"),
        (lambda: rk.Model.from_arrays([1], lower=3, upper=2), "column 0: the lower bound 3 is above"),
    ],
)
def test_matrix_errors(call: object, message: str) -> None:
    with pytest.raises((rk.DataError, rk.ModelError), match=message):
        call()  # type: ignore[operator]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("{", "this is not JSON"),
        ("[]", "not a model"),
        ('{"format": "ruddock-model/1"}', "required property"),
        ("[" * 100_000, "no JSON|nested too deep"),
    ],
)
def test_wrong_json_is_an_error_of_ours(tmp_path: Path, text: str, message: str) -> None:
    (tmp_path / "m.json").write_text(text)
    with pytest.raises(rk.FormatError, match=message):
        rk.read(tmp_path / "m.json")


def test_mutated_json_is_a_model_or_an_error_of_ours(tmp_path: Path) -> None:
    model = demos.build("packing-week")
    model.write(tmp_path / "m.json")
    document = json.loads((tmp_path / "m.json").read_text())
    rng = np.random.default_rng(3)
    for _ in range(150):
        wrong = json.loads(json.dumps(document))
        place = wrong[rng.choice(["decisions", "constraints", "objectives"])]
        held = place[rng.integers(len(place))]
        key = rng.choice(list(held))
        held[key] = rng.choice(np.array([None, -1, "x", [], [1e9], {}], dtype=object))
        (tmp_path / "w.json").write_text(json.dumps(wrong))
        try:
            rk.read(tmp_path / "w.json").problem()
        except rk.RuddockError:
            continue


def test_convert_show_and_check_from_the_command_line(tmp_path: Path) -> None:
    run = CliRunner()
    demos.build("spring-haulage").write(tmp_path / "haul.rdk")
    for source, target in (("haul.rdk", "haul.mps"), ("haul.mps", "haul.xlsx"), ("haul.xlsx", "haul.json")):
        done = run.invoke(main, ["convert", str(tmp_path / source), str(tmp_path / target)], catch_exceptions=False)
        assert done.exit_code == 0
        assert "19 decisions, 9 constraints" in done.stdout
    assert rk.read(tmp_path / "haul.json").solve().objective == pytest.approx(429.25)
    shown = run.invoke(main, ["algebra", str(tmp_path / "haul.rdk"), "demand[Quay]"], catch_exceptions=False)
    assert shown.stdout.split() == [
        "demand[Quay]",
        "(crate)",
        ":",
        "ship[Fell,Quay]",
        "+",
        "ship[Mere,Quay]",
        "+",
        "ship[Sallow,Quay]",
        "+",
        "ship[Whin,Quay]",
        ">=",
        "70",
    ]
    checked = run.invoke(main, ["check", str(tmp_path / "haul.rdk"), "--json", "-"], catch_exceptions=False)
    assert checked.exit_code == 0
    assert json.loads(checked.stdout)["findings"] == []
    (tmp_path / "bad.rdk").write_text("decisions\n  x >= 0\nmaximize gain\n  x\n")
    assert run.invoke(main, ["check", str(tmp_path / "bad.rdk")]).exit_code == 1


WORDS = "if sum then to minimize maximize kind lower limit relation Total constant value decision free integer where either run curve unless axes nan inf e1"
LABELS = st.one_of(
    st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=8),
    st.sampled_from([
        "a,b", '"', "'", "[x]", "=1+1", "07", "1e5", "1.0", "True", "nan", "", " ", " lead", "trail ", "#N/A", "Total", "kind",
        "if", "x y", "a\u00a0b", "\\", "--", "2026-06-01", "..", "e\u0301", "<=", "ship[Fell]", "@", "\t", "a\nb", ";", "a|b", "²",
    ]),
    st.integers(-3, 9999), st.floats(-5, 5).map(lambda value: round(value, 2) + 0.0),
)  # fmt: skip


@settings(max_examples=150, deadline=None)
@given(
    st.lists(st.one_of(st.from_regex(r"\A[a-zéA-Z]\w{0,3}\Z"), st.sampled_from(WORDS.split())), min_size=1, max_size=3, unique=True),
    st.lists(LABELS, min_size=1, max_size=4, unique_by=str),
    st.sampled_from(FORMS),
)  # fmt: skip
def test_nasty_names_come_back_or_are_refused_whole(names: list[str], labels: list, form: str) -> None:
    model, axis = rk.Model("m"), rk.Axis("place", labels)
    families = [model.decide(name, axis, upper=5 + k) for k, name in enumerate(names)]
    model.minimize("goal", sum(((k + 1.5) * x.sum() for k, x in enumerate(families)), 0))
    for k, x in enumerate(families):
        model.require(f"{names[k]}_c", x >= 1 + k)
    with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings(record=True) as warned:
        warnings.simplefilter("always")
        path = Path(folder) / f"m.{form}"
        try:
            model.write(path)
        except rk.FormatError:
            assert form == "rdk"
            assert not path.exists()
            return
        again = rk.read(path)
    same(again.problem(), model.problem())
    before, after = model.formulation(), again.formulation()
    named = after.decision_names == before.decision_names and after.constraint_names == before.constraint_names
    assert named or (warned and form in ("rdk", "mps"))
    if form == "json":
        assert list(map(type, after.decisions[0].cells.axes[0].labels)) == list(map(type, axis.labels))
