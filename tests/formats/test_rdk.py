"""The text form: the same models as in Python, errors at their place, and no input that breaks the reader."""

from __future__ import annotations

import cProfile
import random
import re
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.formats.rdk.read import read_rdk_text
from ruddock.formats.tables.given import Given
from tests.formats.test_mps import same

PACKING, HAULAGE = (demos.text(name).read_text(encoding="utf-8") for name in ("packing-week", "spring-haulage"))

EVERYTHING = """\
model Everything
axes
  place : Fell, Mere, "Long Meadow"
  origin : place
  to : place
  week : 1 .. 4
  grade : A, B
data
  net[place] : Fell 3, Mere -1, "Long Meadow" -2
  far[origin, to] :
           Fell  Mere  "Long Meadow"
    Fell   .     2     5
    Mere   2     -     4
  need[week] : 1 5, 2 6, 3 7, 4 8
  half = 1 / 2
  rate[grade] = 2 * half + 3
  worth[grade, week] = rate * need
decisions
  flow[origin, to] where far : 0 .. 9
  make[week], store[week] (crate) >= 0
  bonus free
  lot[grade] semicontinuous 5 .. 40
  crew integer <= 3
  low[grade] -2 .. rate
minimize cost (£)
  travel : sum(far * flow) + 2(crew + 1) − 0.5 sum(store)
  other : sum(worth[grade, 1] * lot) + 3 × bonus
require
  keep[place] : sum(flow[place, to], to) - sum(flow[origin, place], origin) = net
  stock[week] : previous(store, week, 4) + make - store = need
  around[week] : previous(make, week, cyclic) <= make + 9
  some[grade] where rate > 1 and rate : lot >= 6
  pick : flow["Fell", "Mere"] + 2 flow["Mere", "Long Meadow"] <= 8
  bonus + 1 >= 3
  range[grade] : rate <= lot + low
                 <= 60
  reach[grade] : lot <= 10 crew + 40
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    demos.copy("spring-haulage", tmp_path)
    return tmp_path


def read(text: str, folder: Path = Path()) -> rk.Model:
    return read_rdk_text(text, "model.rdk", folder)


def test_everything_that_can_be_written() -> None:
    model = read(EVERYTHING)
    place = rk.Axis("place", ["Fell", "Mere", "Long Meadow"])
    origin, to = rk.Axis("origin", place), rk.Axis("to", place)
    week, grade = rk.Axis("week", [1, 2, 3, 4]), rk.Axis("grade", ["A", "B"])
    far = rk.data(
        {("Fell", "Mere"): 2, ("Fell", "Long Meadow"): 5, ("Mere", "Fell"): 2, ("Mere", "Long Meadow"): 4}, origin, to
    )
    need, rate = rk.data([5, 6, 7, 8], week), rk.data(4, grade)
    wanted = rk.Model("Everything")
    flow = wanted.decide("flow", origin, to, upper=9, only=far)
    make, store = wanted.decide("make", week), wanted.decide("store", week)
    bonus = wanted.decide("bonus", lower=None)
    lot = wanted.decide("lot", grade, kind="semicontinuous", lower=5, upper=40)
    crew = wanted.decide("crew", kind="integer", upper=3)
    low = wanted.decide("low", grade, lower=-2, upper=rate)
    wanted.minimize("cost", (far * flow).sum() + 2 * (crew + 1) - 0.5 * store.sum() + (20 * lot).sum() + 3 * bonus)
    wanted.require(
        "keep", flow.sum(to).rename(origin=place) - flow.sum(origin).rename(to=place) == rk.data([3, -1, -2], place)
    )
    wanted.require("stock", store.previous(week, start=4) + make - store == need)
    wanted.require("around", make.previous(week, start="cyclic") <= make + 9)
    wanted.require("some", lot >= 6)
    wanted.require("pick", flow["Fell", "Mere"] + 2 * flow["Mere", "Long Meadow"] <= 8)
    wanted.require("limit_1", bonus + 1 >= 3)
    wanted.require("range", (lot + low).between(rate, 60))
    wanted.require("reach", lot <= 10 * crew + 40)
    same(model.problem(), wanted.problem())
    assert model.formulation().constraint_names == wanted.formulation().constraint_names
    assert [part for o in model.formulation().objectives for part in o.parts] == ["travel", "other"]


def test_where_decisions_are_open_unknown_names_are_decisions() -> None:
    model = read("model M\ndecisions open\nmaximize gain\n  3x + 2 y\nrequire\n  x + y <= 4\n  x + 3y ≤ 6\n  x <= 3\n")
    assert model.taken == ("x", "y") and not model.undeclared
    assert model.solve().objective == 11


ERRORS = {
    "label": ("axes\n  a : p, q\ndata\n  d[a] : p 1, qq 2\n", 4, 15, "'qq' is not a label of axis a; did you mean 'q'"),
    "axis": ("axes\n  place : p\ndata\n  d[plaec] : 1\n", 4, 5, "'plaec' is not an axis; did you mean 'place'"),
    "number": ("axes\n  a : p, q\ndata\n  d[a] : p 1, q two\n", 4, 17, "'two' is not a number"),
    "entry": ("axes\n  a : p, q\ndata\n  d[a] : p 1 2, q 2\n", 4, 10, "1 label and a number; here are 3 parts"),
    "twice": ("axes\n  a : p, q\ndata\n  d[a] : p 1, p 2\n", 4, 15, "p is given twice"),
    "kind": ("decisions\n  x integr 0 .. 4\n", 2, 5, "'integr' is not a kind of decision; did you mean 'integer'"),
    "name": ("decisions\n  jars >= 0\nmaximize m\n  3 jras\n", 4, 5, "'jras' is neither data nor a decision; did you mean 'jars'"),
    "product": ("decisions\n  x, y >= 0\nmaximize m\n  x y\n", 4, 5, "between names write *"),
    "numbers": ("decisions\n  x >= 0\nmaximize m\n  2 3 x\n", 4, 5, "'3' is not expected here"),
    "strict": ("decisions\n  x >= 0\nrequire\n  c : x < 3\n", 4, 9, "write <="),
    "nonlinear": ("decisions\n  x >= 0\nrequire\n  c : x * x <= 3\n", 4, 9, "not linear"),
    "bracket": ("decisions\n  x >= 0\nrequire\n  c : (x + 2 <= 3\n", 4, 18, "the end of the entry is not expected here; expected .*\\)"),
    "open end": ("decisions\n  x >= 0\nrequire\n  c : x +\n", 4, 10, "the end of the entry is not expected"),
    "no decision": ("decisions\n  x >= 0\nrequire\n  c : 2 <= 3\n", 4, 7, "holds no decision"),
    "reserved": ("decisions\n  sum >= 0\n", 2, 3, "a reserved word"),
    "used": ("decisions\n  x >= 0\n  x >= 0\n", 3, 3, "'x' is taken already"),
    "heading": ("decision\n  x >= 0\n", 1, 1, "write decisions in place of 'decision'"),
    "spread": ("axes\n  a : p, q\ndecisions\n  x[a] >= 0\nminimize c\n  x\n", 6, 3, r"still runs over a; write sum"),
    "family": ("axes\n  a : p, q\ndecisions\n  x[a] >= 0\nrequire\n  c : x <= 3\n", 6, 3, r"also runs over a: sum over it, or write c\[a\]"),
    "repeat": ("axes\n  a : p, q\ndecisions\n  x[a] >= 0\n  y >= 0\nrequire\n  c[a] : x + y <= 3\n", 7, 12, "would count 2 times"),
    "file": ("axes\n  a : from none.csv\n", None, None, "file not found"),
    "crossed": ("decisions\n  x 5 .. 3\n", 2, 3, "the lower bound 5 is above the upper bound 3"),
    "empty": ("", None, None, "the file is empty"),
    "first": ("  x >= 0\n", 1, 3, "the first line is a heading"),
    "unit": ("decisions\n  x >= 0\nmaximize m (£\n  x\n", 3, 11, "on the next line, indented"),
}  # fmt: skip


@pytest.mark.parametrize("slip", ERRORS)
def test_errors_stand_at_their_place(slip: str) -> None:
    text, line, column, message = ERRORS[slip]
    with pytest.raises(rk.FormatError, match=message) as caught:
        read(text)
    assert caught.value.others == ()
    assert (caught.value.line, caught.value.column) == (line, column)
    if line is not None:
        shown = str(caught.value).splitlines()
        assert shown[1].strip() == text.splitlines()[line - 1].strip()
        assert shown[2].index("^") == shown[1].index(shown[1].strip()) + column - 1 - (
            len(text.splitlines()[line - 1]) - len(text.splitlines()[line - 1].lstrip())
        )


def test_independent_errors_are_told_together_and_their_consequences_are_not() -> None:
    text = (
        HAULAGE.replace("from apiaries.csv column rent", "Fell 60, Gross 85")
        .replace("binary", "binray")
        .replace(">= need", "> need")
    )
    with pytest.raises(rk.FormatError) as caught:
        read(text, demos.folder("spring-haulage"))
    errors = [caught.value, *caught.value.others]
    assert [error.line for error in errors] == [10, 16, 27]


def test_tables_long_and_wide_are_told_apart_and_replaced(folder: Path) -> None:
    model = read(HAULAGE, folder)
    assert any("a row for each apiary and market" in note for note in model.notes)
    wide = pd.read_csv(folder / "lanes.csv").pivot(index="market", columns="apiary", values="haul")
    wide.to_csv(folder / "wide.csv")
    again = read(HAULAGE.replace("lanes.csv", "wide.csv"), folder)
    assert any("wide.csv as a two-way table, market down and apiary across" in note for note in again.notes)
    assert again.solve().objective == model.solve().objective
    with pd.ExcelWriter(folder / "tables.xlsx") as book:
        wide.to_excel(book, sheet_name="lanes")
        pd.read_csv(folder / "markets.csv").assign(other=1).to_excel(book, sheet_name="markets", index=False)
    text = HAULAGE.replace("lanes.csv", "tables.xlsx sheet lanes").replace(
        "from markets.csv\n  haul", "from tables.xlsx sheet markets column need\n  haul"
    )
    same(read(text, folder).problem(), model.problem())
    (folder / "storm.csv").write_text("market,need\nQuay,100\nAbbey,90\nStation,60\nPriory,45\n")
    storm = read_rdk_text(HAULAGE, "model.rdk", folder, Given.of({"need": folder / "storm.csv"}))
    assert storm.problem().row_lower[-4:].tolist() == [100, 90, 60, 45]
    with pytest.raises(
        rk.DataError, match="--data ned: the model has no data or axis of this name; did you mean 'need'"
    ):
        read_rdk_text(HAULAGE, "model.rdk", folder, Given.of({"ned": folder / "storm.csv"}))


def test_reading_a_long_data_section_takes_work_in_proportion() -> None:
    took = []
    for size in (40, 160):
        lines = "\n".join(f"    o{i} t{j} {i % 17 + j}" for i in range(size) for j in range(100))
        text = (
            f"axes\n  o : {', '.join(f'o{i}' for i in range(size))}\n  t : {', '.join(f't{j}' for j in range(100))}\n"
        )
        text += f"data\n  d[o, t] :\n{lines}\ndecisions\n  x[o, t] <= d\nmaximize m\n  sum(d * x)\n"
        with cProfile.Profile() as counted:
            problem = read(text).problem()
        took.append(sum(entry.callcount for entry in counted.getstats()))
        assert problem.n == size * 100
        assert problem.upper[-1] == (size - 1) % 17 + 99
    assert took[1] < 4.5 * took[0]  # four times the lines, in calls of functions


def mutations(count: int) -> list[str]:
    """Return texts made from valid ones by changes of tokens and of characters, half of each."""
    rng = random.Random(5)
    texts = [PACKING, HAULAGE, EVERYTHING]
    tokens = re.findall(r"\w+|[^\w\s]|\n *", PACKING + HAULAGE + EVERYTHING)
    result = []
    for number in range(count):
        text = rng.choice(texts)
        for _ in range(rng.randint(1, 4)):
            if number % 2:
                at = rng.randrange(len(text))
                text = (
                    text[:at]
                    + rng.choice(["", chr(rng.randrange(32, 1000)), "\n", "(", "[", '"', "1e9"])
                    + text[at + rng.randint(0, 3) :]
                )
            else:
                parts = re.split(r"(\w+|[^\w\s]|\n *)", text)
                at = rng.randrange(len(parts))
                parts[at] = rng.choice(["", rng.choice(tokens), parts[at] * 2])
                text = "".join(parts)
        result.append(text)
    return result


def test_mutated_text_is_a_model_or_an_error_of_ours(folder: Path) -> None:
    models = 0
    for text in mutations(400):
        try:
            read(text, folder).problem()
            models += 1
        except rk.RuddockError:
            pass
    assert 40 < models < 360


@pytest.mark.parametrize(
    "text",
    [
        "(" * 5000,
        "x" * 100_000,
        "1" * 5000,
        "-" * 5000 + "x",
        "[" * 3000,
        "2" + "+2" * 20_000 + "+ x",
        "x" + " " * 50_000 + "+ 1",
    ],
)
def test_extreme_expressions_end(text: str) -> None:
    try:
        problem = read(f"decisions\n  x >= 0\nmaximize m\n  {text}\n").problem()
    except rk.FormatError:
        return
    assert np.isfinite(problem.costs).all()


CONDITIONS = {
    "rate > 1 and rate < 5": {"B", "C"},
    "rate <= 1 or rate >= 5": {"A", "D"},
    "not rate > 1": {"A"},
    "not (rate > 1 and rate < 5)": {"A", "D"},
    "grade = A or grade = \"D\"": {"A", "D"},
    "grade != A and (rate < 3 or not grade <> D)": {"B", "D"},
    "rate and not some": {"A", "C", "D"},
    "some or rate >= 5": {"B", "D"},
    "(rate + 1) * 2 > 6 and not rate = 5": {"C"},
}  # fmt: skip


@pytest.mark.parametrize("condition", CONDITIONS)
def test_conditions_combine_comparisons_of_data_and_labels(condition: str) -> None:
    text = "axes\n  grade : A, B, C, D\ndata\n  rate[grade] : A 1, B 2, C 3, D 5\n  some[grade] : B 4\n"
    model = read(f"{text}decisions\n  x[grade] where {condition} : <= 1\nmaximize m\n  sum(x)\n")
    assert {name[2:-1] for name in model.formulation().decision_names} == CONDITIONS[condition]
    model = read(f"{text}decisions\n  x[grade]\nmaximize m\n  sum(x)\nrequire\n  c[grade] where {condition} : x <= 1\n")
    assert {name[2:-1] for name in model.formulation().constraint_names} == CONDITIONS[condition]


def test_labels_are_compared_with_labels() -> None:
    text = "axes\n  place : Fell, Mere\n  origin : place\n  to : place\n  week : 1 .. 12\ndecisions\n"
    model = read(
        f"{text}  flow[origin, to] where origin != to : <= 1\n  late[week] where week > 9 or week = 2 : <= 1\nmaximize m\n  sum(flow) + sum(late)\n"
    )
    assert model.formulation().decision_names == [
        "flow[Fell,Mere]", "flow[Mere,Fell]", "late[2]", "late[10]", "late[11]", "late[12]",
    ]  # fmt: skip
    for condition, said in (
        ("origin = Meer", "axis origin has no label 'Meer'; did you mean 'Mere'"),
        ("origin < Mere", "labels that are text have no order"),
        ("flow", "neither data nor a decision"),
    ):
        with pytest.raises(rk.FormatError, match=said):
            read(f"{text}  x[origin] where {condition} : <= 1\nmaximize m\n  sum(x)\n")
    with pytest.raises(rk.FormatError, match="a comparison belongs after where"):
        read("decisions\n  x\nmaximize m\n  2 * (x <= 3)\n")


def test_shared_axes_and_data_are_included(tmp_path: Path) -> None:
    (tmp_path / "shared").mkdir()
    (tmp_path / "shared" / "common.rdk").write_text(
        "axes\n  apiary : from need.csv\ndata\n  need[apiary] : from need.csv\n"
    )
    (tmp_path / "shared" / "need.csv").write_text("apiary,need\nFell,3\nMere,4\n")
    text = "model Week\ninclude shared/common.rdk\ndecisions\n  x[apiary]\nminimize m\n  sum(x)\nrequire\n  met[apiary] : x >= need\n"
    (tmp_path / "week.rdk").write_text(text)
    model = rk.read(tmp_path / "week.rdk")
    assert model.solve().objective == 7
    assert model.what_if({"need": "*2"}).changed.objective == 14
    for common, said in (
        ("axes\n  apiary Fell\n", r"common\.rdk, line 2, column"),
        ("decisions\n  x\n", r"common\.rdk, line 1, column 1: an included file holds axes and data, not decisions"),
        ("include common.rdk\n", r"common\.rdk, line 1, column 9: common\.rdk is included already"),
        ("include more.rdk\n", r"common\.rdk, line 1, column 9: file not found: more\.rdk"),
    ):
        (tmp_path / "shared" / "common.rdk").write_text(common)
        with pytest.raises(rk.FormatError, match=said):
            rk.read(tmp_path / "week.rdk")


def test_a_file_that_was_not_changed_is_written_with_its_comments(tmp_path: Path) -> None:
    text = "# our week\nmodel Week   # in June\ndata\n  need : 3   # crates\ndecisions\n  x <= 9\nminimize m\n  x\nrequire\n  met : x >= need\n"
    (tmp_path / "week.rdk").write_text(text)
    model = rk.read(tmp_path / "week.rdk")
    model.write(tmp_path / "copy.rdk")
    assert (tmp_path / "copy.rdk").read_text() == text
    model.require("more", model["x"] >= 4)
    model.write(tmp_path / "changed.rdk")
    assert rk.read(tmp_path / "changed.rdk").solve().objective == 4
    demos.build("spring-haulage").write(tmp_path / "haul.rdk")  # whose tables are elsewhere
    assert "from " not in (tmp_path / "haul.rdk").read_text()
    rk.read(tmp_path / "week.rdk", data={}).without_integers().write(tmp_path / "relaxed.rdk")
    assert "#" not in (tmp_path / "relaxed.rdk").read_text()
