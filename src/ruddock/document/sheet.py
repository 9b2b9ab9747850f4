"""A document in a sheet of a workbook: numbers and dates as such, and no cell that runs as a formula."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.characters import FORMULA, visible
from ruddock.document.content import (
    Block,
    Cell,
    Document,
    Facts,
    Listing,
    Next,
    Number,
    Sentence,
    Table,
    Verbatim,
    common_unit,
    in_signs,
    more_rows,
    written,
)
from ruddock.document.layout import plain_value
from ruddock.document.numbers import DUST, is_money, number, with_unit

if TYPE_CHECKING:
    from openpyxl.cell import Cell as SheetCell
    from openpyxl.worksheet.worksheet import Worksheet

FORMAT = "#,##0.######"
WHOLE = "#,##0"
WIDEST, NARROWEST = 60, 9


def write_document(sheet: Worksheet, document: Document, row: int = 1) -> int:
    """Write a document into a sheet from a row on, one section below the other; return the row below."""
    from openpyxl.styles import Alignment, Font
    from openpyxl.utils import get_column_letter

    put(sheet.cell(row, 1), document.title).font = Font(bold=True, size=14)
    row += 2
    for section in document.sections:
        if section.title:
            put(sheet.cell(row, 1), section.title).font = Font(bold=True, size=12)
            row += 1
        for block in section.blocks:
            row = _block(sheet, row, in_signs(block), whole=document.whole)
        row += 1
    for column in range(1, sheet.max_column + 1):
        sheet.column_dimensions[get_column_letter(column)].width = 32 if column == 1 else 16
    sheet.sheet_view.showGridLines = False
    sheet.cell(1, 1).alignment = Alignment(horizontal="left")
    return row


def _block(sheet: Worksheet, row: int, block: Block, *, whole: bool) -> int:
    from openpyxl.styles import Font

    if isinstance(block, Sentence):
        for line in block.words.split("\n"):
            put(sheet.cell(row, 1), line).font = Font(bold=block.verdict)
            row += 1
        return row
    if isinstance(block, Listing | Verbatim):
        if block.title:
            put(sheet.cell(row, 1), block.title).font = Font(bold=True)
            row += 1
        for line in block.points if isinstance(block, Listing) else block.words.split("\n"):
            put(sheet.cell(row, 1), line)
            row += 1
        return row + 1
    if isinstance(block, Facts):
        for name, value, note in block.facts:
            put(sheet.cell(row, 1), name)
            put_cell(sheet.cell(row, 2), value)
            sheet.cell(row, 2).font = Font(bold=True)
            put(sheet.cell(row, 3), note)
            row += 1
        return row + 1
    if isinstance(block, Next):
        return row
    return _table(sheet, row, block, whole=whole) + 1 if isinstance(block, Table) else row


def _table(sheet: Worksheet, row: int, table: Table, *, whole: bool) -> int:
    from openpyxl.styles import Alignment, Border, Font, Side

    rows, more = table.shown(all=whole)
    if table.title:
        put(sheet.cell(row, 1), table.title).font = Font(bold=True)
        row += 1
    line = Side(style="thin", color="999999")
    columns = [[cells[k] for cells in rows] for k in range(len(table.heads))]
    kept = [k for k, cells in enumerate(columns) if not rows or any(map(written, cells))]
    for at, k in enumerate(kept, 1):
        head = table.heads[k].heading
        unit = common_unit(columns[k]) if head else None
        cell = put(sheet.cell(row, at), with_unit(head, unit))
        numeric = any(isinstance(c, Number) for c in columns[k])
        cell.font, cell.border = Font(italic=True), Border(bottom=line)
        cell.alignment = Alignment(horizontal="right" if numeric or table.heads[k].right else "left", wrap_text=True)
        for below, value in enumerate(columns[k], row + 1):
            put_cell(sheet.cell(below, at), value, bare=unit is not None)
            if table.total and below == row + len(rows):
                sheet.cell(below, at).font = Font(bold=True)
                sheet.cell(below, at).border = Border(top=line)
    row += len(rows) + 1
    for words in (more_rows(more) if more else "", table.note):
        if words:
            put(sheet.cell(row, 1), words).font = Font(italic=True)
            row += 1
    return row


def put_cell(cell: Any, value: Cell, *, bare: bool = False) -> None:
    """Give a cell a typed value, in a format that shows its unit."""
    from openpyxl.styles import Alignment

    held = put(cell, plain_value(value))
    if isinstance(value, Number):
        held.alignment = Alignment(horizontal="right")
        if isinstance(held.value, float):
            held.number_format = format_of(value.value, None if bare else value.unit, value.signed)


def format_of(value: float, unit: str | None, signed: bool = False) -> str:
    """Return the number format that shows a value with its unit."""
    unit = None if unit is None else visible(unit)
    if is_money(unit):
        assert unit is not None
        form = f'"{unit[0]}"#,##0.00'
        form += f'"{unit[1:]}"' if unit[1:] else ""
    else:
        form = WHOLE if float(value).is_integer() else FORMAT
        form += ' "' + unit.replace('"', "") + '"' if unit else ""
    return f"+{form};-{form};{form}" if signed else f"{form};-{form};{form}" if is_money(unit) else form


def put(cell: Any, value: object) -> SheetCell:
    """Give a cell a value; text stays text, whatever it begins with."""
    import pandas as pd

    if isinstance(value, pd.Period):
        value = value.to_timestamp()
    if isinstance(value, pd.Timestamp):
        value = value.tz_localize(None) if value.tzinfo is not None else value
        cell.value = value.to_pydatetime()
        cell.number_format = "yyyy-mm-dd" if value == value.normalize() else "yyyy-mm-dd hh:mm"
    elif value is None:
        cell.value = None
    elif isinstance(value, (bool, np.bool_)):
        cell.value = "yes" if value else "no"
    elif isinstance(value, (int, float, np.integer, np.floating)):
        own = float(value)
        cell.value = number(own) if not np.isfinite(own) else 0.0 if abs(own) < DUST * DUST else own
    elif type(value).__name__ == "date":
        cell.value = value
    else:
        cell.value = visible(str(value))
        cell.data_type = "s"
        cell.quotePrefix = str(value).startswith(FORMULA)
    return cell


def fit_columns(sheet: Worksheet, widths: Sequence[int]) -> None:
    """Give columns a readable width."""
    from openpyxl.utils import get_column_letter

    for k, width in enumerate(widths, 1):
        sheet.column_dimensions[get_column_letter(k)].width = min(max(width + 2, NARROWEST), WIDEST)
