"""A report as a workbook: a summary, a sheet for each family, and the numbers behind, with filters."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from openpyxl import Workbook
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter
from openpyxl.worksheet.properties import PageSetupProperties

from ruddock.document.content import Document, Section, Sentence
from ruddock.document.numbers import DUST, number, with_unit
from ruddock.document.result import Result
from ruddock.document.sheet import FORMAT, fit_columns, put, write_document
from ruddock.files import written_whole
from ruddock.modelling.decisions import Decisions, goes_by_label
from ruddock.modelling.plan import Plan

if TYPE_CHECKING:
    import pandas as pd
    from openpyxl.worksheet.worksheet import Worksheet

    from ruddock.insight.sensitivity import Sensitivity

LONGEST_NAME = 31  # of a sheet
MOST_CELLS = 200_000  # of one two-way table
MOST_LISTED = 20_000  # decisions up to which those that are 0 have a row as well
LAST_ROW = 1_048_576  # of a sheet
LAST_COLUMN = 16_384


def write_workbook(
    result: Result, document: Document, ranges: Sensitivity | None, question: str | None, path: Path
) -> None:
    """Write a result as a workbook; nothing is left half-written.

    Raises
    ------
    FormatError
        If the file cannot be written.
    """
    book = Workbook()
    assert book.active is not None
    summary = book.active
    summary.title = "Summary"
    _printed(summary)
    asked = (Section("", [Sentence(question)]),) if question else ()
    main = tuple(section for section in document.sections[: _appendix_at(document)])
    write_document(summary, Document(document.title, (*asked, *main)))
    if isinstance(result, Plan):
        _plan_sheets(book, result, ranges)
    else:
        _result_sheets(book, result)
    rest = document.sections[_appendix_at(document) :]
    if rest:
        sheet = book.create_sheet(_free_name(book, "Appendix"))
        _printed(sheet)
        write_document(sheet, Document(document.title, rest))
    with written_whole(path) as temporary:
        held = BytesIO()  # an archive on a disk that is full could not even be closed
        book.save(held)
        temporary.write_bytes(held.getvalue())


def _appendix_at(document: Document) -> int:
    return next((k for k, s in enumerate(document.sections) if s.appendix), len(document.sections))


def _plan_sheets(book: Workbook, plan: Plan, ranges: Sensitivity | None) -> None:
    """Add what a plan holds: its families, constraints, quantities, ranges, and the course of its search."""
    if plan.found:
        everything = len(plan.values) <= MOST_LISTED
        for family in plan.formulation.decisions:
            if family.axes and not goes_by_label(family):
                _family(book, plan, family, everything)
        decisions = plan.decisions(nonzero=not everything)
        for name, frame in (
            ("Decisions" if everything else "Decisions not 0", decisions),
            ("Constraints", plan.constraints()),
            ("Quantities", plan.quantities()),
        ):
            if len(frame):
                _frame(book, name, frame)
    if ranges is not None:
        if ranges.steps is not None and len(ranges.steps):
            _frame(book, "Steps of limits", ranges.steps)
        remark = ", integers held" if ranges.held else ""
        for name, frame in (("Limit ranges", ranges.limits), ("Coefficient ranges", ranges.coefficients)):
            if len(frame):
                _frame(book, name + remark, frame)
    if len(plan.history):
        _frame(book, "Search", plan.history.set_index("seconds"))


def _family(book: Workbook, plan: Plan, family: Decisions, everything: bool) -> None:
    """Add a family: two-way where it has two axes, else a row a member with a column for each axis."""
    axes = family.axes
    values = plan.values[plan.formulation.place_of(family)]
    if len(axes) == 2 and len(axes[0]) * len(axes[1]) <= MOST_CELLS and len(axes[1]) < LAST_COLUMN:
        down, across = axes
        grid = np.full((len(down), len(across)), np.nan)
        grid[family.cells.codes[0], family.cells.codes[1]] = values
        rows = ([label, *row] for label, row in zip(down.labels, grid.tolist(), strict=True))
        _sheet(book, family.name, [f"{down.name} \\ {across.name}", *across.labels], rows)
        return
    places = np.arange(len(values)) if everything else np.flatnonzero(np.abs(values) > DUST)
    codes = family.cells.codes
    labels = [axis.labels for axis in axes]
    heads = [*(axis.name for axis in axes), with_unit(family.name, family.unit)]
    _sheet(
        book,
        family.name,
        heads,
        ([*(own[code[i]] for own, code in zip(labels, codes, strict=True)), float(values[i])] for i in places.tolist()),
    )


def _result_sheets(book: Workbook, result: Result) -> None:
    """Add the tables of any other result."""
    for name, ask in (("Table", "table"), ("Decisions", "decisions"), ("Constraints", "constraints")):
        method = getattr(result, ask, None)
        frame = method() if method is not None else None
        if frame is not None and frame.size and frame.shape[1] < LAST_COLUMN:
            _frame(book, name, frame)


def _frame(book: Workbook, name: str, frame: pd.DataFrame) -> None:
    counted = frame.index.name is None and frame.index.inferred_type == "integer"  # rows that have no name
    heads = [*([] if counted else [str(frame.index.name or "")]), *map(str, frame.columns)]
    _sheet(book, name, heads, frame.itertuples(name=None, index=not counted))


def _printed(sheet: Worksheet) -> None:
    """Let a sheet print on pages as wide as it is."""
    sheet.page_setup.orientation = "landscape"
    sheet.sheet_properties.pageSetUpPr = PageSetupProperties(fitToPage=True)
    sheet.page_setup.fitToHeight = 0


def _sheet(book: Workbook, name: str, headings: Sequence[Any], rows: Iterable[Sequence[Any]]) -> None:
    """Add a sheet with headings that stay in view, and filters."""
    sheet = book.create_sheet(_free_name(book, name))
    for k, heading in enumerate(headings, 1):
        put(sheet.cell(1, k), heading).font = Font(bold=True)
    widths = [len(str(sheet.cell(1, k).value or "")) for k in range(1, len(headings) + 1)]
    last = 1
    for at, row in enumerate(rows, 2):
        if at == LAST_ROW:
            put(sheet.cell(at, 1), "… and more than a sheet can hold; a report as .json holds all")
            break
        last = at
        for k, value in enumerate(row, 1):
            if value is None or value == "" or value != value:  # no cell at all: they make up half of a long sheet
                continue
            cell = put(sheet.cell(at, k), value)
            shown = number(value) if isinstance(value, float) else str(value)
            widths[k - 1] = max(widths[k - 1], len(shown))
            if isinstance(cell.value, float):
                cell.number_format = FORMAT if not cell.value.is_integer() else "#,##0"
    fit_columns(sheet, widths)
    sheet.freeze_panes = "B2"
    sheet.auto_filter.ref = f"A1:{get_column_letter(len(headings))}{last}"
    _printed(sheet)


def _free_name(book: Workbook, name: str) -> str:
    """Return a name that a sheet may have and no other one has."""
    clean = re.sub(r"[\[\]:*?/\\']", "_", name)[:LONGEST_NAME] or "sheet"
    taken = {title.lower() for title in book.sheetnames}
    result, count = clean, 1
    while result.lower() in taken:
        count += 1
        result = f"{clean[: LONGEST_NAME - 4]} ({count})"
    return result
