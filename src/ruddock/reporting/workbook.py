"""A report as a workbook: real numbers, readable widths, frozen headings, and no cell that runs as a formula."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from openpyxl import Workbook
from openpyxl.styles import Alignment, Font
from openpyxl.utils import get_column_letter
from openpyxl.worksheet.properties import PageSetupProperties

from ruddock.formats.files import written_whole
from ruddock.tables import MONEY, Table, number

if TYPE_CHECKING:
    from openpyxl.cell import Cell
    from openpyxl.worksheet.worksheet import Worksheet

    from ruddock.reporting.report import Report

WIDEST, NARROWEST = 60, 9
LONGEST_NAME = 31  # of a sheet
MOST_CELLS = 1_000_000  # of one two-way table
MOST_LISTED = 20_000  # decisions up to which those that are 0 have a row as well
LAST_ROW = 1_048_576  # of a sheet
FORMAT = "#,##0.####"
# what no XML can hold
FORBIDDEN = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f]")


def write_workbook(report: Report, path: Path) -> None:
    """Write a report as a workbook; nothing is left half-written.

    The sheets hold every number of the plan; of more than 20,000 decisions those that are not 0.

    Raises
    ------
    FormatError
        If the file cannot be written.
    """
    book = Workbook()
    assert book.active is not None
    _summary(book.active, report)
    plan = report.plan
    if plan.found:
        for family in plan.formulation.decisions:
            if len(family.cells.axes) == 2 and np.prod([len(axis) for axis in family.cells.axes]) <= MOST_CELLS:
                table = plan.table(family.name)
                head = f"{table.index.name} \\ {table.columns.name}"
                lines = ([label, *row] for label, row in zip(table.index, table.to_numpy(float).tolist(), strict=True))
                _sheet(book, family.name, [head, *table.columns], lines)
        all_of_them = len(plan.values) <= MOST_LISTED
        decisions = plan.decisions(nonzero=not all_of_them)
        title = "Decisions" if all_of_them else "Decisions not 0"
        for name, frame in ((title, decisions), ("Constraints", plan.constraints())):
            _sheet(book, name, [name.split()[0].lower()[:-1], *frame.columns], frame.itertuples(name=None))
    if report.ranges is not None:
        for name, frame in (("Limit ranges", report.ranges.limits), ("Coefficient ranges", report.ranges.coefficients)):
            if len(frame):
                _sheet(book, name, [str(frame.index.name or "name"), *frame.columns], frame.itertuples(name=None))
    history = plan.history
    if len(history):
        _sheet(book, "Search", list(history.columns), history.itertuples(index=False, name=None))
    with written_whole(path) as temporary:
        book.save(temporary)


def _printed(sheet: Worksheet) -> None:
    """Let a sheet print on pages as wide as it is."""
    sheet.page_setup.orientation = "landscape"
    sheet.sheet_properties.pageSetUpPr = PageSetupProperties(fitToPage=True)
    sheet.page_setup.fitToHeight = 0


def _summary(sheet: Worksheet, report: Report) -> None:
    """Write what is told of the plan, as a person reads it, one section below the other."""
    sheet.title = "Report"
    _printed(sheet)
    _put(sheet.cell(1, 1), report.title).font = Font(bold=True, size=14)
    _put(sheet.cell(2, 1), report.verdict).font = Font(bold=True)
    row = 4
    for section in report.sections:
        _put(sheet.cell(row, 1), section.title).font = Font(bold=True, size=12)
        row += 1
        for part in section.parts:
            if isinstance(part, Table):
                row = _table(sheet, row, part) + 1
                continue
            for line in part.splitlines():
                _put(sheet.cell(row, 1), line)
                row += 1
        row += 1
    for column, width in ((1, 30), *((k, 16) for k in range(2, 12))):
        sheet.column_dimensions[get_column_letter(column)].width = width


def _table(sheet: Worksheet, row: int, table: Table) -> int:
    """Write a table from a row on, numbers as numbers; return the row below."""
    for words in table.title.splitlines():
        _put(sheet.cell(row, 1), words).font = Font(bold=True)
        row += 1
    for k, (heading, right) in enumerate(table.columns, 1):
        cell = _put(sheet.cell(row, k), heading)
        cell.font = Font(italic=True)
        cell.alignment = Alignment(horizontal="right" if right else "left")
    for line in table.rows:
        row += 1
        for k, (text, (_, right)) in enumerate(zip(line, table.columns, strict=True), 1):
            value, form = _number(text) if right else (None, FORMAT)
            cell = _put(sheet.cell(row, k), text if value is None else value)
            if value is not None:
                cell.number_format = form
            cell.alignment = Alignment(horizontal="right" if right else "left")
    for words in table.below.splitlines():
        row += 1
        _put(sheet.cell(row, 1), words)
    return row + 1


def _number(text: str) -> tuple[float | None, str]:
    """Return the number that a cell shows, if it shows just that, or money, and the format that shows it so."""
    money = next((sign for sign in MONEY if sign in text[:2]), "")
    try:
        return float(text.replace(",", "").replace(money, "", 1)), f'"{money}"#,##0.00' if money else FORMAT
    except ValueError:
        return None, FORMAT


def _sheet(book: Workbook, name: str, headings: Sequence[Any], rows: Iterable[Sequence[Any]]) -> None:
    """Add a sheet with headings that stay in view."""
    sheet = book.create_sheet(_free_name(book, name))
    widths = [len(str(heading)) for heading in headings]
    for k, heading in enumerate(headings, 1):
        _put(sheet.cell(1, k), str(heading)).font = Font(bold=True)
    for at, row in enumerate(rows, 2):
        if at == LAST_ROW:
            _put(sheet.cell(at, 1), "... and more than a sheet can hold; a report as .json holds all")
            break
        for k, value in enumerate(row, 1):
            if value is None or value == "" or value != value:  # no cell at all: they make up half of a long sheet
                continue
            cell = _put(sheet.cell(at, k), value)
            shown = number(value) if isinstance(value, float) else str(value)
            widths[k - 1] = max(widths[k - 1], len(shown))
            if isinstance(cell.value, float):
                cell.number_format = FORMAT
    for k, width in enumerate(widths, 1):
        sheet.column_dimensions[get_column_letter(k)].width = min(max(width + 2, NARROWEST), WIDEST)
    sheet.freeze_panes = "B2"
    _printed(sheet)


def _put(cell: Any, value: Any) -> Cell:
    """Give a cell a value; text stays text, whatever it begins with."""
    if isinstance(value, (bool, np.bool_)):
        cell.value = "yes" if value else "no"
    elif isinstance(value, (int, float, np.integer, np.floating)):
        cell.value = float(value) if np.isfinite(value) else number(float(value))
    else:
        cell.value = FORBIDDEN.sub("", str(value))
        cell.data_type = "s"
        cell.quotePrefix = str(value).startswith(("=", "+", "-", "@"))
    return cell


def _free_name(book: Workbook, name: str) -> str:
    """Return a name that a sheet may have and no other one has."""
    clean = re.sub(r"[\[\]:*?/\\']", "_", name)[:LONGEST_NAME] or "sheet"
    taken = {title.lower() for title in book.sheetnames}
    result, count = clean, 1
    while result.lower() in taken:
        count += 1
        result = f"{clean[: LONGEST_NAME - 4]} ({count})"
    return result
