"""What readers get: numbers, tables that fit any width, rows made only where they are shown."""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ruddock.document.console import Speech, cells_wide, text
from ruddock.document.content import Column, Document, Label, LazyRows, Number, Sentence, Table
from ruddock.document.html import table_html
from ruddock.document.numbers import amount, counted, number, pluralised, singular

FLOATS = st.floats(allow_nan=False, allow_infinity=False, width=64, min_value=-1e14, max_value=1e14)


@given(FLOATS)
def test_a_number_is_within_half_a_digit_and_has_at_most_six(value: float) -> None:
    shown = number(value)
    read = float(shown.replace(",", ""))
    assert abs(read - value) <= max(1e-6, 0.5001 * 10 ** -max(0, 5 - len(str(int(abs(value))))), 1e-5 * abs(value))
    assert not re.fullmatch(r"-0(\.0*)?", shown)
    if "e" not in shown and "." in shown:
        digits = shown.replace("-", "").replace(",", "").replace(".", "").lstrip("0")
        assert len(digits) <= 6 or len(shown.partition(".")[0].replace(",", "").lstrip("-")) >= 6


@given(FLOATS)
def test_what_must_not_be_overstated_is_rounded_the_safe_way(value: float) -> None:
    room = 1e-6 + 1e-9 * abs(value)
    if abs(value) < 1e-4:
        return
    assert float(number(value, "up").replace(",", "")) >= value - room
    assert float(number(value, "down").replace(",", "")) <= value + room


@pytest.mark.parametrize(
    ("value", "unit", "shown"),
    [
        (1, "hour", "1 hour"), (0.5, "hour", "0.5 hours"), (640, "hour", "640 hours"), (-1, "crate", "-1 crate"),
        (3, "kg", "3 kg"), (2, "kWh", "2 kWh"), (2, "box", "2 boxes"), (2, "delivery", "2 deliveries"), (7, "%", "7%"),
        (2, "person", "2 people"), (1, "people", "1 person"), (2, "crates", "2 crates"), (1, "crates", "1 crate"),
        (3, "crate/week", "3 crates/week"), (3, "hour per crate", "3 hours per crate"), (2, "man-hour", "2 man-hours"),
        (4.5, "£", "£4.50"), (-4.567, "£/crate", "-£4.57/crate"), (471.82499999999999, "£", "£471.83"),
        (0.0042, "£", "£0.0042"), (6.9e-7, "£", "£0.00"), (2, "glass", "2 glasses"), (2, "gas", "2 gases"),
    ],
)  # fmt: skip
def test_amounts_read_as_people_write_them(value: float, unit: str, shown: str) -> None:
    assert amount(value, unit) == shown


def test_singular_and_plural_are_inverse() -> None:
    for word in ("hour", "crate", "box", "delivery", "glass", "bus", "person", "half", "lot", "hive"):
        assert singular(pluralised(word)) == word
        assert pluralised(pluralised(word)) == pluralised(word)
    assert counted("kg") == "kg"


def wide_table(rows: int, columns: int, width: int) -> Table:
    heads = [Column("member"), *(f"column[{k},{'x' * (k % 9)}]" for k in range(columns))]
    cells = [
        (Label("l" * (width + k % 5)), *(Number(10.0 ** (k % 7) / (j + 1), "crate") for j in range(columns)))
        for k in range(rows)
    ]
    return Table("A title " * 12, heads, cells, note="A note that is rather long. " * 6)


@pytest.mark.parametrize("width", [20, 40, 60, 80, 120, 200])
@pytest.mark.parametrize("shape", [(3, 1, 5), (45, 12, 30), (2, 40, 90), (1, 3, 200)])
def test_nothing_is_wider_than_it_may_be(width: int, shape: tuple[int, int, int]) -> None:
    document = Document.of("wide", [Sentence("A sentence of many words. " * 9, verdict=True), wide_table(*shape)])
    lines = text(document, width, speech=Speech("a model")).splitlines()
    assert max(map(cells_wide, lines)) <= width
    shown = " ".join(" ".join(lines).split())
    for k in range(shape[1]):  # every column is there, on whatever part of the table
        assert f"{10.0**0 / (k + 1):.6g}".rstrip("0").rstrip(".")[:4] in shown


def test_letters_that_take_two_places_fit_too() -> None:
    table = Table("蜂蜜", ["場所", "量"], [("蜂蜜の瓶" * 9, Number(3.0)), ("b", Number(12.25))])
    assert all(cells_wide(line) <= 40 for line in text(Document.of("蜂", [table]), 40).splitlines())


def test_points_are_below_one_another_and_units_beside() -> None:
    rows = [("a", Number(1.5, "hour")), ("b", Number(12.0, "kg")), ("c", Number(0.25, "£"))]
    lines = text(Document.of("t", [Table("", ["", "value"], rows)]), 60).splitlines()
    assert len({line.index(".") for line in lines if "." in line}) == 1
    same = text(
        Document.of("t", [Table("", ["x", "value"], [("a", Number(2.0, "hour")), ("b", Number(1.0, "hour"))])]), 60
    )
    assert "value (hours)" in same


def test_only_rows_that_are_shown_are_made() -> None:
    made: list[int] = []

    def row(k: int) -> tuple[str, Number]:
        made.append(k)
        return f"row {k}", Number(float(k))

    table = Table("long", ["name", "value"], LazyRows(100_000, row), most=10)
    shown = text(Document.of("long", [table]), 80, speech=Speech("m.rdk"))
    assert made == list(range(10))
    assert "99,990 more rows: --all shows them" in shown
    whole = Table("short", ["name", "value"], LazyRows(11, row), most=10)
    assert "more row" not in text(Document.of("short", [whole]), 80)  # a cut of one row is not worth it
    assert table_html(table, fold=5).count("<tr>") <= 501


def test_a_total_stays_where_rows_are_cut() -> None:
    rows = [(f"part {k}", Number(1.0)) for k in range(30)] + [("total", Number(30.0))]
    lines = text(Document.of("t", [Table("", ["part", "value"], rows, most=5, total=True)]), 80).splitlines()
    assert any(line.split() == ["total", "30"] for line in lines)
    assert "26 more rows" in lines[-1]
