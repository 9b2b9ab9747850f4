"""Reports in every form: what they say, that user text stays text, and that nothing is left half-written."""

from __future__ import annotations

import json
from html.parser import HTMLParser
from itertools import product
from pathlib import Path

import numpy as np
import pytest
from openpyxl import load_workbook

import ruddock as rk
from ruddock import demos
from ruddock.modelling.answer.effort import TIGHTENED

EVIL = '=1+1<script>alert("x")</script>|`*'


class _Reader(HTMLParser):
    """Collects the text of a page, its tags, and what it would load from elsewhere."""

    def __init__(self) -> None:
        super().__init__()
        self.text: list[str] = []
        self.tags: list[str] = []
        self.loads: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        self.loads += [v for k, v in attrs if k in ("src", "href") and v and not v.startswith("#") and tag != "svg"]

    def handle_data(self, data: str) -> None:
        self.text.append(data)


def read_page(path: Path) -> _Reader:
    page = _Reader()
    page.feed(path.read_text(encoding="utf-8"))
    return page


def evil_model() -> rk.Model:
    """Return a model whose names would do harm where they are not treated as text."""
    model = rk.Model(EVIL)
    place, good = rk.Axis("place", [EVIL, "@home"]), rk.Axis("good", ["+mead", "-jars"])
    make = model.decide("make", place, good, upper=9, unit="=unit")
    model.maximize("margin", (rk.data(np.array([[1.0, 2.0], [3.0, 4.0]]), place, good) * make).sum(), unit="£")
    model.require("room", make.sum(good) <= 10)
    return model


@pytest.mark.parametrize("name", list(demos.FIRST))
@pytest.mark.parametrize("form", [".html", ".xlsx", ".md", ".json"])
def test_every_demo_is_reported_in_every_form(name: str, form: str, tmp_path: Path) -> None:
    plan = demos.build(name).solve()
    path = tmp_path / f"plan{form}"
    plan.report(path, question=demos.question(name))
    assert [p.name for p in tmp_path.iterdir()] == [path.name]
    if form == ".json":
        assert json.loads(path.read_text())["status"] == plan.status
        return
    if form == ".xlsx":
        book = load_workbook(path)
        rows = [row for name in ("Summary", "Appendix") for row in book[name].iter_rows()]
        told = " ".join(str(cell.value) for row in rows for cell in row if cell.value is not None)
    else:
        told = " ".join("".join(read_page(path).text).split()) if form == ".html" else path.read_text()
    assert demos.question(name).split()[0] in told
    parts = ("Recommendation", "What to do", "What limits it") if plan.found else ("infeasible",)
    for part in (*parts, "Checks", "How it was solved"):
        assert part in told
    value = f"{plan.objective:,.2f}" if plan.found else "A repair"
    assert value in told


@pytest.mark.parametrize("name", [name for name in demos.GALLERY if name not in (*demos.FIRST, "season")])
def test_every_model_of_the_gallery_is_reported(name: str, tmp_path: Path) -> None:
    plan = demos.build(name).solve()
    plan.report(tmp_path / "plan.md")
    told = (tmp_path / "plan.md").read_text()
    assert plan.model_name in told
    for word, count in plan.effort.tightened.items():
        assert not count or TIGHTENED[word] in told


@pytest.mark.parametrize("kinds", list(product(("continuous", "integer", "binary", "semicontinuous"), repeat=2)))
def test_two_decisions_of_any_kind_are_reported(kinds: tuple[str, str], tmp_path: Path) -> None:
    model = rk.Model("Two")
    jars, mead = (
        model.decide(name, kind=kind)
        if kind == "binary"
        else model.decide(name, kind=kind, lower=2 * (kind == "semicontinuous"), upper=9)
        for name, kind in zip(("jars", "mead"), kinds, strict=True)
    )
    model.require("room", jars + 2 * mead <= 12)
    model.maximize("margin", jars + mead)
    model.solve().report(tmp_path / "plan.html")
    drawn = "<svg" in (tmp_path / "plan.html").read_text().split(">Recommendation</h2>")[1].split("<h2")[0]
    assert drawn == ("semicontinuous" not in kinds)


@pytest.mark.parametrize(
    ("name", "drawn"),
    [
        ("two-products", "feasible region"),
        ("tariff", "when work is on"),
        ("stock", "bottle (cases)"),
        ("storm-week", "cannot all hold"),
        ("projects", None),
    ],
)
def test_a_page_draws_what_a_figure_says_better(name: str, drawn: str | None, tmp_path: Path) -> None:
    path = tmp_path / "plan.html"
    demos.build(name).solve().report(path)
    part = path.read_text().split("<main>")[1].split(">What to do</h2>")[0].split('class="appendix"')[0]
    assert ("<svg" in part) == (drawn is not None)
    assert drawn is None or drawn in part


def test_a_page_needs_nothing_from_elsewhere_and_runs_nothing(tmp_path: Path) -> None:
    path = tmp_path / "plan.html"
    evil_model().solve().report(path, question=EVIL)
    page = read_page(path)
    assert "script" not in page.tags
    assert EVIL in "".join(page.text)
    assert all(link.startswith("#") for link in page.loads), page.loads
    assert page.tags.count("table") >= 4


def test_a_workbook_holds_numbers_and_runs_nothing(tmp_path: Path) -> None:
    model = evil_model()
    plan = model.solve()
    path = tmp_path / "plan.xlsx"
    plan.report(path)
    book = load_workbook(path)
    for sheet in book:
        assert not any(cell.data_type == "f" for row in sheet.iter_rows() for cell in row), sheet.title
        if sheet.title not in ("Summary", "Appendix"):
            assert sheet.freeze_panes == "B2"
    decisions = {row[0].value: row for row in book["Decisions"].iter_rows(min_row=2)}
    for name, value in plan.decisions()["value"].items():
        cell = decisions[name][1]
        assert isinstance(cell.value, (int, float))
        assert cell.value == pytest.approx(value)
    grid = book["make"]
    assert [cell.value for cell in grid["A"]][1:] == [EVIL, "@home"]
    table = plan.table("make").to_numpy(float)
    assert [[cell.value for cell in row][1:] for row in grid.iter_rows(min_row=2)] == table.tolist()


def test_a_workbook_says_what_its_numbers_are(tmp_path: Path) -> None:
    plan = demos.build("spring-haulage").solve()
    plan.report(tmp_path / "plan.xlsx")
    book = load_workbook(tmp_path / "plan.xlsx")
    facts = {row[0].value: row[1] for row in book["Summary"].iter_rows(min_row=4, max_row=6)}
    for name, value in {"cost": plan.objective, **plan.breakdown()}.items():
        assert facts[name].value == pytest.approx(value)
        assert "£" in facts[name].number_format
    assert "Limit ranges" not in book.sheetnames, "prices with integers held say so"
    found = plan.sensitivity()
    for name, frame in (("Limit ranges, integers held", found.limits), ("Steps of limits", found.steps)):
        assert [row[0].value for row in book[name].iter_rows(min_row=2)] == list(frame.index)
    assert all(sheet.auto_filter.ref for sheet in book if sheet.title not in ("Summary", "Appendix"))


def test_markdown_tables_keep_their_columns(tmp_path: Path) -> None:
    path = tmp_path / "plan.md"
    evil_model().solve().report(path)
    for block in path.read_text().split("\n\n"):
        lines = [line for line in block.splitlines() if line.startswith("|")]
        widths = {line.replace("\\|", "").count("|") for line in lines}
        assert len(widths) <= 1, block
    assert "<script" not in path.read_text().replace("\\<", "")


def test_findings_are_left_out_when_the_model_has_changed(tmp_path: Path) -> None:
    model = demos.build("packing-week")
    plan = model.solve()
    model.require("later", model["jars"] <= 1e9)
    plan.report(tmp_path / "plan.md")
    assert "Checks" not in (tmp_path / "plan.md").read_text()


@pytest.mark.parametrize(
    ("name", "told"), [("plan.pdf", ".html, .xlsx, .md, .json"), ("no/plan.html", "cannot be written")]
)
def test_wrong_targets_are_told(name: str, told: str, tmp_path: Path) -> None:
    with pytest.raises(rk.FormatError, match=told):
        demos.build("blending").solve().report(tmp_path / name)
    assert not list(tmp_path.iterdir())
