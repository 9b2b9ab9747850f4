"""Every answer about every model of the gallery, through every renderer: nothing too wide, no dust, no odd words."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

import matplotlib.pyplot as plt
import pandas as pd
import pytest
from jsonschema import Draft202012Validator
from openpyxl import Workbook

import ruddock as rk
from ruddock import demos
from ruddock.document.console import Speech, cells_wide, text
from ruddock.document.content import Document, Number, Section, Table
from ruddock.document.html import fragment
from ruddock.document.markdown import markdown
from ruddock.document.numbers import counted
from ruddock.document.plotting import paper
from ruddock.document.result import Result
from ruddock.document.sheet import write_document
from ruddock.reporting.page import page
from ruddock.reporting.report import report_of

SECONDS = 0.2
# what no reader should see: rounding dust, what is not a number, and words that read as if translated
DUST = re.compile(r"(?<![\w.])-?\d(\.\d+)?e-(0[6-9]|[1-9]\d)\b|(?<![\w.])-0(\.0+)?(?![\d.])|\b(nan|NaN|inf|None)\b")
WORDS = re.compile(
    r"\btold\b|\btells?\b|no such|\bstands?\b|\bshall\b|without end|for ever|endless|so many|so much|\bbeside\b|looks wrong|"
    r"gives way|smallest largest|as it is\b|whole numbers?|given up|even shares|open parts|yes/no|early plans|(?<!there )\bis no\b"
)
GALLERY = [name for name in demos.GALLERY if name != "season"]


def answers(model: rk.Model, seconds: float = SECONDS) -> Iterator[tuple[str, Result]]:
    """Yield what may be asked of a model, as far as it has an answer."""
    formulation = model.formulation()
    plan = model.solve(time_limit=20)
    yield "plan", plan
    yield "effort", plan.effort
    yield "check", model.check()
    yield "describe", model.describe()
    yield "diagnose", model.diagnose(time_limit=seconds)
    family = formulation.constraints[0]
    if not plan.found:
        return
    yield "explain", plan.explain(family.member(0))
    amount = next((f.member(0) for f in formulation.decisions if f.kind == "continuous"), None)
    if amount is not None:
        yield "reach of a bound", model.reach(f"{amount}.upper", objective=plan.objective, time_limit=seconds)
    yield "sensitivity", plan.sensitivity(time_limit=seconds)
    yield "others", plan.alternatives(2, time_limit=seconds)
    yield "appraise", model.appraise(dict.fromkeys(formulation.decision_names, 1.0), time_limit=seconds)
    what = next((f for f in formulation.constraints if f.sides.limit_side is not None), None)
    if what is not None:
        yield "what if", plan.what_if({what.name: "+10%"}, time_limit=seconds)
        yield "sweep", model.sweep(f"{what.name}*", 0.9, 1.1, points=3, time_limit=seconds)
        yield "reach", model.reach(what.member(0), objective=plan.objective, time_limit=seconds)
        yield "scenarios", model.scenarios(pd.DataFrame({what.name: ["+5%", "*0.01"]}), time_limit=seconds)
    if len(formulation.objectives) > 1:
        yield "tradeoff", model.tradeoff(points=3, time_limit=seconds)
    if formulation.size == 2:
        yield "region", model.region()


def judged(words: str, where: str) -> None:
    """Check what a reader sees."""
    for pattern in (DUST, WORDS):
        found = pattern.search(words)
        assert found is None, (
            f"{where}: {found.group()!r} in ...{words[max(0, found.start() - 60) : found.end() + 60]!r}"
        )


def rendered(document: Document, where: str) -> None:
    """Render a document in every form."""
    for table in (block for block in document.blocks() if isinstance(block, Table)):
        assert len(table.rows), f"{where}: {table.title!r} has headings and no rows"
        heads = " ".join(column.heading for column in table.heads)
        for row in table.rows[:20]:
            for cell in row:
                if isinstance(cell, Number) and cell.unit and cell.text() and any(c.isdigit() for c in cell.text()):
                    assert cell.unit[0] in cell.text() or counted(cell.unit) in heads, f"{where}: {cell}"
    for width, speech in ((60, Speech()), (80, Speech("demo:x")), (120, Speech())):
        shown = text(document, width, speech=speech)
        judged(shown, where)
        wide = [line for line in shown.splitlines() if cells_wide(line) > width]
        assert not wide, f"{where} at {width}: {wide[0]!r}"
    judged(re.sub(r"<style>.*?</style>|<[^>]*>", " ", fragment(document)), where)
    judged(markdown(document), where)
    book = Workbook()
    assert book.active is not None
    write_document(book.active, document)
    numbers = [c.value for row in book.active.iter_rows() for c in row if isinstance(c.value, (int, float))]
    held = [c for b in document.blocks() if isinstance(b, Table) for row in b.shown(all=document.whole)[0] for c in row]
    finite = [c for c in held if isinstance(c, Number) and abs(c.value) < float("inf")]
    assert len(numbers) == len(finite), f"{where}: numbers stay numbers in a workbook"


@pytest.mark.parametrize("name", GALLERY)
def test_every_answer_reads_well_in_every_form(name: str) -> None:
    model = demos.build(name)
    seen = set()
    for kind, result in answers(model):
        where = f"{name} {kind}"
        seen.add(kind)
        rendered(result.document(), where)
        rendered(result.document(all=True), f"{where}, all")
        assert str(result).splitlines()
        assert repr(result).startswith("<")
        held = json.loads(json.dumps(result.as_dict(), allow_nan=False))
        Draft202012Validator(rk.schema(held["format"])).validate(held)
        assert (kind == "plan" and not result.found) or isinstance(result.table(), pd.DataFrame)  # type: ignore[attr-defined]
        figure = result.figure()
        if figure is not None:
            assert result.draw(paper(figure.height)).get_figure() is not None
        if kind not in ("effort", "describe"):
            document, _ = report_of(result)
            judged(re.sub(r"<(style|svg).*?</\1>|<[^>]*>", " ", page(document, None), flags=re.S), f"{where} page")
        plt.close("all")
    assert {"plan", "effort", "check", "describe", "diagnose"} <= seen


@pytest.mark.parametrize("name", ["packing-week", "spring-haulage", "two-objectives", "storm-week", "tariff"])
def test_an_answer_whose_time_is_up_at_once_reads_well(name: str) -> None:
    for kind, result in answers(demos.build(name), 1e-6):
        rendered(result.document(), f"{name} {kind}")
        json.dumps(result.as_dict(), allow_nan=False)


def test_a_document_without_anything_renders() -> None:
    empty = Document("empty", (Section("", ()),))
    assert text(empty) == ""
    assert markdown(empty) == "# empty\n"
