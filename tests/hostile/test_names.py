"""Names, labels, titles and units are words in every output, whatever they hold."""

from __future__ import annotations

import json
import re
from html.parser import HTMLParser
from pathlib import Path
from xml.etree import ElementTree

import openpyxl
import pandas as pd
import pytest
from click.testing import CliRunner
from markdown_it import MarkdownIt

import ruddock as rk
from ruddock.characters import in_line, quote, unquote, visible
from ruddock.cli import main
from tests.hostile.files import ACTS
from tests.hostile.names import LABELS, acting

LIMIT = 'need["\\u001b[5mMon"]'
HARMLESS = {  # all that a page or rendered Markdown of ours is made of
    "html", "head", "meta", "title", "style", "body", "main", "header", "footer", "section", "div", "h1", "h2", "h3", "h4", "p",
    "span", "b", "br", "ul", "li", "table", "thead", "tbody", "tr", "th", "td", "figure", "pre", "code", "strong", "details",
    "summary",
    "svg", "metadata", "rdf:rdf", "cc:work", "cc:agent", "dc:creator", "dc:title", "dc:type", "dc:format", "defs", "g", "path",
    "rect", "text", "use", "clippath", "pattern",
}  # fmt: skip
ASKED = (
    ["check", "m.json"],
    ["algebra", "m.json"],
    ["solve", "m.json", "--nonzero", "--json", "-", "--certify"],
    ["solve", "m.json", "--all", "--effort", "--question", "<b>\x1b[1mQ {{ 1 }}", "--report", "solve.html", "--report", "solve.md",
     "--report", "solve.xlsx", "--figure", "solve.svg", "--figure", "solve.png"],
    ["sensitivity", "m.json", "--report", "ranges.html", "--report", "ranges.md", "--figure", "ranges.svg"],
    ["diagnose", "none.json", "--report", "why.html", "--report", "why.md", "--report", "why.xlsx"],
    ["what-if", "m.json", f"{LIMIT}=2", "--report", "if.html", "--figure", "if.svg"],
    ["sweep", "m.json", LIMIT, "1", "5", "--report", "sweep.xlsx", "--figure", "sweep.svg"],
    ["reach", "m.json", LIMIT, "--objective", "9"],
    ["explain", "m.json", LIMIT],
    ["solve", "m.json", "--alternatives", "2"],
    ["scenarios", "m.json", "s.csv", "--csv", "table.csv", "--report", "s.html", "--report", "s.md", "--figure", "s.svg"],
    ["solve", "nosuch\x1b[2J.rdk"],
    ["what-if", "m.json", "\x1b[2J=3"],
)  # fmt: skip


class _Page(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.tags: set[str] = set()
        self.attributes: set[str] = set()
        self.words: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.add(tag)
        self.attributes |= {name for name, _ in attrs}

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def _read(html: str) -> _Page:
    page = _Page()
    page.feed(html)
    return page


@pytest.mark.filterwarnings("ignore::ruddock.RuddockWarning", "ignore:Glyph", "ignore:constrained_layout")
def test_nothing_that_a_name_holds_acts_in_any_output(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    acting().write("m.json")
    acting(infeasible=True).write("none.json")
    pd.DataFrame({"scenario": ["=1+1", "\x1b[2Jx", "<b>"], LIMIT: [1, 2, 9]}).to_csv("s.csv", index=False)
    for words in ASKED:
        run = CliRunner().invoke(main, words)
        assert run.exit_code in (0, 1, 2) and isinstance(run.exception, SystemExit | None), (words, run.exception)
        assert not ACTS.search(run.output), (words, ACTS.search(run.output))
    pages = {path.name: path.read_text() for path in tmp_path.glob("*.html")}
    pages |= {
        path.name: MarkdownIt("gfm-like", {"linkify": False}).render(path.read_text()) for path in tmp_path.glob("*.md")
    }
    assert len(pages) == 9
    for name, text in pages.items():
        page = _read(text)
        assert page.tags <= HARMLESS, (name, page.tags - HARMLESS)
        assert not {a for a in page.attributes if a.startswith("on") or a in ("src", "href")}, name
        assert not ACTS.search(text), name
    told = re.sub(r"\s+", "", " ".join(_read(pages["solve.md"]).words))
    lost = [
        label for label in LABELS if label and re.sub(r"\s+", "", in_line(label)) not in told and label.isprintable()
    ]
    assert not [label for label in lost if quote(label).replace(" ", "") not in told], lost
    for path in tmp_path.glob("*.xlsx"):
        cells = [cell for sheet in openpyxl.load_workbook(path) for row in sheet.iter_rows() for cell in row]
        assert cells and not any(cell.data_type == "f" for cell in cells), path.name
        assert not any(ACTS.search(cell.value) for cell in cells if isinstance(cell.value, str)), path.name
    for path in tmp_path.glob("*.svg"):
        assert ElementTree.parse(path).getroot().tag.endswith("svg")
        assert not ACTS.search(path.read_text()), path.name
    table = pd.read_csv("table.csv", dtype=str)
    assert list(table["scenario"]) == ["'=1+1", "␛[2Jx", "<b>"]
    assert not [head for head in table.columns if head.startswith(("=", "+", "-", "@"))]


@pytest.mark.filterwarnings("ignore::ruddock.RuddockWarning")
@pytest.mark.parametrize("ending", ["json", "rdk", "mps", "csv", "xlsx", "ods"])
def test_a_file_of_such_names_reads_back_and_holds_nothing_that_acts(ending: str, tmp_path: Path) -> None:
    site = rk.Axis("site", [label for label in LABELS if label])
    model = rk.Model("T\x1b]0;owned\x07\nminimize o")
    x = model.decide("x", site, upper=rk.data(range(1, len(site) + 1), site))
    model.require("least", x >= 0.5)
    model.maximize("o", x.sum())
    path = tmp_path / f"m.{ending}"
    model.write(path)
    back = rk.read(path)
    assert back.solve().objective == model.solve().objective
    if ending in ("json", "rdk", "csv"):
        assert list(back.formulation().decision_names) == list(model.formulation().decision_names)
        assert not ACTS.search(path.read_text()), ACTS.search(path.read_text())
    if ending == "json":
        assert back.name == model.name


@pytest.mark.parametrize("text", [*LABELS, "\\", 'a"b\\', "\u2028\x85", "\ud800", "\\n", "😀\x7f"])
def test_quoting_is_undone_and_is_json(text: str) -> None:
    assert unquote(quote(text)) == text == json.loads(quote(text))
    assert not ACTS.search(quote(text)) and not ACTS.search(visible(text))
    assert len(visible(text)) == len(text)
    with pytest.raises(rk.RuddockError) as caught:
        rk.Model("M").decide(f"x{text} ")
    assert not ACTS.search(str(caught.value))
