"""Coefficient grids as people keep them: found, understood, reported; or refused at their cell."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from click.testing import CliRunner
from openpyxl import Workbook, load_workbook
from openpyxl.styles import Font

import ruddock as rk
from ruddock.cli import main
from ruddock.formats.grid.fill import fill_grid
from tests.formats.test_mps import same

inf = np.inf
PLAIN = """\
,jars,mead,hampers,relation,limit
maximize margin,4.2,9.5,31,,-100
extraction,0.5,1.2,,<=,640
wax,0.1,,2,=<,150
shelf,1,-1,,≥,10
lower,0,,,,
upper,,90,40,,
kind,,,integer,,
"""


def meant() -> rk.Model:
    model = rk.Model("typed")
    jars, mead, hampers = (
        model.decide("jars"),
        model.decide("mead", upper=90),
        model.decide("hampers", upper=40, kind="integer"),
    )
    model.maximize("margin", 4.2 * jars + 9.5 * mead + 31 * hampers - 100)
    model.require("extraction", 0.5 * jars + 1.2 * mead <= 640)
    model.require("wax", 0.1 * jars + 2 * hampers <= 150)
    model.require("shelf", jars - mead >= 10)
    return model


FORMS = {
    "as it is": (PLAIN, "3 decisions across, 3 constraints down, maximize margin in line 2"),
    "a title above and remarks below": ("Packing,,,,,\nby Ann,,,,,\n,,,,,\n" + PLAIN + "\nask Ben about the wax,,,,,\n", "B4:F11"),
    "semicolons and decimal commas": (PLAIN.replace(".", "/").replace(",", ";").replace("/", ","), "decimal commas"),
    "other words": (
        PLAIN.replace("relation,limit", "sign,Capacity").replace("<=", "at most").replace("=<", "no more than")
        .replace("≥", "at least").replace("lower", "lower bound").replace("upper", "UB").replace("integer", "whole number"), "",
    ),
    "the objective at the bottom": ("".join([*PLAIN.splitlines(True)[:1], *PLAIN.splitlines(True)[2:], PLAIN.splitlines(True)[1]]), "in line 8"),
    "an objective by its name": (PLAIN.replace("maximize margin,4.2,9.5,31,,", "margin,4.2,9.5,31,max,"), "maximize margin"),
    "a total column and row": (
        "\n".join(line.replace(",", ",", 3) if not i else line for i, line in enumerate(PLAIN.splitlines()))
        .replace("hampers,relation", "hampers,Total,relation").replace("31,,", "31,44.7,,").replace(",<=", ",1.7,<=").replace(",=<", ",2.1,=<")
        .replace(",≥", ",0,≥").replace("lower,0,,,,", "lower,0,,,,,").replace("upper,,90,40,,", "upper,,90,40,,,").replace("integer,,", "integer,,,")
        + "Total,0.6,0.2,2,,,\n", "column 'Total' left out",
    ),
    "remarks beside": ("\n".join(line + (",who" if not i else ",Ann" if i == 2 else ",") for i, line in enumerate(PLAIN.splitlines())), "not used: 'who'"),
    "an answer filled in": (
        "\n".join(line + (",left side,slack" if not i else ",1,2") for i, line in enumerate(PLAIN.splitlines())) + "\nvalue,1,2,3,,,,\n", "",
    ),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("ending", [".csv", ".xlsx", ".xlsm", ".ods"])
def test_a_grid_is_found_and_understood(form: str, ending: str, tmp_path: Path) -> None:
    text, note = FORMS[form]
    path = tmp_path / f"grid{ending}"
    separator = ";" if "semicolons" in form else ","
    rows = [line.split(separator) for line in text.splitlines()]
    if ending == ".csv":
        path.write_text(text, encoding="utf-8")
    elif separator == ";":
        return  # a matter of text files
    elif ending == ".ods":
        width = max(map(len, rows))
        frame = pd.DataFrame([[*map(_typed, row), *[None] * (width - len(row))] for row in rows])
        frame.to_excel(path, engine="odf", index=False, header=False)
    else:
        book = Workbook()
        book.active.title = "Notes"
        book.active.append(["Packing", "ask Ann"])
        sheet = book.create_sheet("Plan")
        for i, row in enumerate(rows):
            for j, cell in enumerate(row):
                if cell:
                    sheet.cell(i + 3, j + 2, _typed(cell)).data_type = "n" if not isinstance(_typed(cell), str) else "s"
        book.save(path)
        note = note.replace("B4:F11", "C6:G13").replace("line 2", "line 4").replace("line 8", "line 10")
    model = rk.read(path)
    same(model.problem(), meant().problem())
    assert model.formulation().decision_names == ["jars", "mead", "hampers"]
    assert model.formulation().constraint_names == ["extraction", "wax", "shelf"]
    assert model.formulation().objectives[0].name == "margin"
    assert note in "; ".join(model.notes)
    done = CliRunner().invoke(main, ["check", str(path)])
    assert "3 decisions across" in done.output


def _typed(cell: str) -> Any:
    try:
        return float(cell)
    except ValueError:
        return cell or None


WRONG = {
    "number": (",x,y,relation,limit\nminimize,1,2,,\nc,1,abc,<=,4\n", "cell C3: 'abc' is not a number"),
    "relation": (",x,relation,limit\nb,1,<=,1\nc,1,~,4\n", "cell C3: '~' is not a relation"),
    "no relation": (",x,relation,limit\nb,1,<=,1\nc,1,,4\n", "cell C3: the relation is missing"),
    "no limit": (",x,relation,limit\nb,1,<=,1\nc,1,<=,\n", "cell D3: the limit is missing"),
    "twice": (",x,relation,limit\nc,1,<=,4\nc,1,<=,5\n", "cell A3: the constraint 'c' appears twice"),
    "column twice": (",x,x,relation,limit\nc,1,1,<=,4\n", "cell C1: the decision 'x' appears twice"),
    "kind": (",x,relation,limit\nkind,integr,,\nc,1,<=,1\n", "cell B2: 'integr' is not a kind; did you mean 'integer'"),
    "crossed": (",x,relation,limit\nlower,5,,\nupper,3,,\nc,1,<=,1\n", "cell B1: the lower bound 5 is above"),
    "no column of limits": (",x,relation\nc,1,<=\n", "no column of limits"),
    "no headings": ("c,1,<=,3\n", "cell C1: no headings above this relation"),
    "objective without direction": (",x,relation,limit\nprofit,1,,\nc,1,<=,1\n", "cell A2: 'profit' has numbers and no relation: .*maximize profit"),
    "two objectives": (",x,relation,limit\nmax a,1,,\nmin b,1,,\nc,1,<=,1\n", "cell A3: a second objective"),
    "thousands": (';x;relation;limit\nc;1;<=;"1,000"\n', "cell D2: '1,000' can be 1000 or 1.000"),
    "no grid": ("a,b\n1,2\n", "no coefficient grid found"),
    "empty": (",,\n", "the table is empty"),
}  # fmt: skip


@pytest.mark.parametrize("slip", WRONG)
def test_what_is_wrong_is_told_with_its_cell(slip: str, tmp_path: Path) -> None:
    text, message = WRONG[slip]
    path = tmp_path / "wrong.csv"
    path.write_text(text)
    with pytest.raises(rk.FormatError, match=message):
        rk.read(path)


def test_several_wrong_cells_are_told_at_once(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text(",x,y,relation,limit\nc,one,2,<=,4\nd,1,2,=<,four\n")
    with pytest.raises(rk.FormatError, match=r"cell B2: 'one'.*\n.*cell E3: 'four'"):
        rk.read(tmp_path / "t.csv")


def formatted(path: Path) -> None:
    """Write a workbook with formats, a formula with a saved value, and a second sheet."""
    book = Workbook()
    sheet = book.active
    sheet.title = "Plan"
    sheet.append(["Packing week"])
    sheet.append([])
    for line in PLAIN.splitlines():
        sheet.append([_typed(cell) for cell in line.replace("=<", "<=").split(",")])
    sheet["A1"].font = Font(bold=True)
    sheet["F5"] = "=Prices!B1*2"
    prices = book.create_sheet("Prices")
    prices.append(["hours", 320])
    book.save(path)
    with zipfile.ZipFile(path) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    sheet_xml = parts["xl/worksheets/sheet1.xml"]
    for blank in (b"<v></v>", b"<v />", b"<v/>"):
        sheet_xml = sheet_xml.replace(b"<f>Prices!B1*2</f>" + blank, b"<f>Prices!B1*2</f><v>640</v>")
    parts["xl/worksheets/sheet1.xml"] = sheet_xml
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in parts.items():
            archive.writestr(name, content)


def test_a_filled_copy_keeps_all_else_and_is_solved_again(tmp_path: Path) -> None:
    source, target, third = (tmp_path / name for name in ("grid.xlsx", "filled.xlsx", "again.xlsx"))
    formatted(source)
    before = source.read_bytes()
    done = CliRunner().invoke(main, ["solve", str(source), "--filled", str(target)], catch_exceptions=False)
    assert done.exit_code == 0 and f"written to {target}" in done.output
    assert source.read_bytes() == before
    done = CliRunner().invoke(main, ["solve", str(target), "--filled", str(third)], catch_exceptions=False)
    assert done.exit_code == 0
    plan = rk.read(source).solve()
    for path in (target, third):
        same(rk.read(path).problem(), rk.read(source).problem())
        formulas, values = load_workbook(path)["Plan"], load_workbook(path, data_only=True)["Plan"]
        assert formulas["F5"].value == "=Prices!B1*2" and values["F5"].value == 640
        assert formulas["A1"].font.bold and formulas.max_column == 8
        assert [values.cell(3, k).value for k in (7, 8)] == ["left side", "slack"]
        assert [values.cell(11, k).value for k in range(1, 5)] == ["value", *plan.decisions()["value"].tolist()]
        assert values["G4"].value == plan.objective
        for row, name in ((5, "extraction"), (6, "wax"), (7, "shelf")):
            shown = plan.constraints().loc[name]
            assert (values.cell(row, 7).value, values.cell(row, 8).value) == (shown["left"], shown["slack"])
        assert load_workbook(path)["Prices"]["B1"].value == 320
    with pytest.raises(rk.FormatError, match="another file"):
        fill_grid(plan, source, source)


def test_cells_that_look_blank_and_are_not_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "grid.xlsx"
    formatted(path)
    book = load_workbook(path)
    book["Plan"]["D5"] = "=2*3"
    book["Plan"].merge_cells("B6:C6")
    book.save(path)  # which forgets the saved values
    with pytest.raises(rk.FormatError) as caught:
        rk.read(path)
    message = str(caught.value)
    assert all(
        words in message
        for words in (
            "cell D5: a formula without a saved value",
            "cell F5: a formula",
            "cell C6: the cells B6:C6 are merged",
        )
    )
    book = Workbook()
    for name in ("June", "May"):
        sheet = book.create_sheet(name)
        for line in PLAIN.splitlines():
            sheet.append([_typed(cell) for cell in line.replace("=<", "<=").split(",")])
    book.save(path)
    with pytest.raises(rk.FormatError, match="several sheets hold a grid: June, May; choose one with --sheet June"):
        rk.read(path)
    same(rk.read(path, sheet="may").problem(), meant().problem())
    assert CliRunner().invoke(main, ["solve", str(path), "--sheet", "May"]).exit_code == 0


def test_names_like_headings_are_quoted_and_ranges_kept(tmp_path: Path) -> None:
    names = [
        "relation",
        "at most",
        "max profit",
        "Total",
        "value",
        '"quoted"',
        " blank ",
        "constraints",
        "a,b",
        "=1+1",
        "decisions",
        "kind",
    ]
    columns, rows = rk.Axis("column", names), rk.Axis("row", [*names, "limit"])
    rng = np.random.default_rng(3)
    matrix = rng.integers(-3, 4, (len(rows), len(names))) / 7
    problem = rk.Model.from_arrays([1.0] * len(names), matrix, "<=", 1.0).problem()
    import dataclasses

    problem = dataclasses.replace(
        problem, row_lower=np.r_[np.full(6, -1 / 3), np.full(7, -inf)], lower=np.r_[-inf, np.zeros(11)], offset=0.1
    )
    model = rk.Model._from_problem("odd", problem, columns, rows, "goal", maximize=True)
    for form in ("csv", "xlsx", "ods"):
        model.write(tmp_path / f"odd.{form}")
        again = rk.read(tmp_path / f"odd.{form}")
        assert again.formulation().decision_names == names
        assert again.formulation().constraint_names == list(rows.labels)
        same(again.problem(), model.problem())


def test_our_own_form_is_filled_in_too(tmp_path: Path) -> None:
    source, target, third = (tmp_path / name for name in ("own.xlsx", "filled.xlsx", "again.xlsx"))
    meant().write(source)
    plan = meant().solve()
    for begin, end in ((source, target), (target, third)):
        assert CliRunner().invoke(main, ["solve", str(begin), "--filled", str(end)]).exit_code == 0
        same(rk.read(end).problem(), meant().problem())
        rows = pd.read_excel(end, sheet_name="constraints", index_col=0)
        assert rows["slack"].tolist() == plan.constraints()["slack"].tolist()
        values = pd.read_excel(end, sheet_name="decisions", index_col=0)["value"].dropna()
        assert values.to_dict() == plan.decisions()["value"].to_dict()


@pytest.mark.parametrize("ending", [".xlsx", ".ods"])
def test_a_name_too_long_for_a_cell_is_not_cut(ending: str, tmp_path: Path) -> None:
    model = rk.Model("long")
    amount = model.decide("amount", rk.Axis("kind", ["x" * 33_000, "b"]), upper=3)
    model.maximize("sum", amount.sum())
    with pytest.raises(rk.FormatError, match="a cell of a workbook holds 32,767: write"):
        model.write(tmp_path / f"long{ending}")
    assert not list(tmp_path.iterdir())
    model.write(tmp_path / "long.csv")
    assert rk.read(tmp_path / "long.csv").solve().objective == 6
