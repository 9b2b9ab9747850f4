"""Where a coefficient grid is in a sheet: a column of signs, a column of limits, headings above, names in front."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from ruddock.errors import FormatError
from ruddock.formats.grid.words import KIND, LIMIT_HEADS, LOWER, SIGN_HEADS, SIGNS, UNUSED, UPPER, goal_of, means
from ruddock.formats.tables.layout import is_total
from ruddock.formats.tables.numerals import is_numeral
from ruddock.formats.tables.sheets import Sheet, cell_text
from ruddock.formats.tables.tables import name_of


class Grid(NamedTuple):
    """A rectangle of coefficients.

    Attributes
    ----------
    cells : all cells of the sheet, rows of different lengths
    header : the row of the names of the decisions
    label : the column of the names of the constraints, -1 if they have none
    columns : of the decisions
    sign, limit : columns of the relations and of the right sides
    notes : what was left out
    """

    sheet: Sheet
    cells: Sequence[Sequence[Any]]
    header: int
    label: int
    columns: list[int]
    sign: int
    limit: int
    notes: list[str]

    def text(self, row: int, column: int) -> str:
        """Return a cell as text."""
        return text_at(self.cells, row, column)


def text_at(cells: Sequence[Sequence[Any]], row: int, column: int) -> str:
    """Return a cell as text; nothing outside."""
    if column < 0 or row >= len(cells) or column >= len(cells[row]):
        return ""
    return cell_text(cells[row][column])


def find_grid(sheet: Sheet) -> Grid | None:
    """Return the grid of a sheet; None if there is no column of relation signs.

    Raises
    ------
    FormatError
        If there is one, and headings or limits beside it are missing.
    """
    cells = sheet.all_rows()
    signs = _signs(cells)
    if not signs:
        return None
    sign = max(signs, key=lambda column: (len(signs[column]), -column))
    rows = signs[sign]
    header = _header(cells, rows[0], sign)
    if header is None:
        raise sheet.cell_error(
            rows[0], sign, "no headings above this relation: write the name of a decision over each column"
        )
    limit = _limit(cells, header, rows, sign)
    if limit is None:
        raise sheet.cell_error(rows[0], sign, "no column of limits after the relations")
    label = next((k for k in range(sign) if any(_is_name(cells, row, k) for row in rows)), -1)
    columns, notes = _columns(cells, header, label, sign)
    if not columns:
        raise sheet.error(header, None, "no column holds a decision")
    width = max(len(row) for row in cells[header:])
    beside = [text_at(cells, header, k) for k in range(limit + 1, width)]
    unknown = [text for text in beside if text and not means(text, UNUSED)]
    if unknown:
        notes.append(f"not used: {', '.join(map(repr, unknown))}")
    return Grid(sheet, cells, header, label, columns, sign, limit, notes)


def _signs(cells: Sequence[Sequence[Any]]) -> dict[int, list[int]]:
    """Return the rows of relation signs by column."""
    signs: dict[int, list[int]] = {}
    for row, held in enumerate(cells):
        for column, value in enumerate(held):
            if isinstance(value, str) and value.strip().casefold() in SIGNS and column:
                signs.setdefault(column, []).append(row)
    return {column: rows for column, rows in signs.items() if not _only_heads(cells, rows, column)}


def _only_heads(cells: Sequence[Sequence[Any]], rows: list[int], column: int) -> bool:
    """Return whether signs are headings such as ``at most``: nothing but names is left of them."""
    if len(rows) > 1:
        return False
    before = cells[rows[0]][:column]
    return not any(isinstance(v, (int, float)) or (isinstance(v, str) and is_numeral(v)) for v in before)


def _header(cells: Sequence[Sequence[Any]], first: int, sign: int) -> int | None:
    """Return the row of the headings above the first constraint."""
    for row in range(first - 1, -1, -1):
        held = cells[row]
        if means(text_at(cells, row, sign), SIGN_HEADS) and text_at(cells, row, sign):
            return row
        names = [k for k in range(min(sign, len(held))) if _is_name(cells, row, k)]
        if names and means(text_at(cells, row, names[0]), LOWER | UPPER | KIND | UNUSED):
            continue
        numbers = [k for k in range(min(sign, len(held))) if text_at(cells, row, k) and k not in names]
        if names and not numbers and (len(names) > 1 or goal_of(text_at(cells, row, names[0])) is None):
            if len(names) == 1 and names[0] == 0 and sign > 2:
                continue  # a heading above the rows, or a title
            return row
    return None


def _is_name(cells: Sequence[Sequence[Any]], row: int, column: int) -> bool:
    text = text_at(cells, row, column)
    return bool(text) and not is_numeral(text)


def _limit(cells: Sequence[Sequence[Any]], header: int, rows: list[int], sign: int) -> int | None:
    width = max(len(cells[row]) for row in (header, *rows))
    for column in range(sign + 1, width):
        head = text_at(cells, header, column)
        if means(head, LIMIT_HEADS) or (not means(head, UNUSED) and any(text_at(cells, row, column) for row in rows)):
            return column
    return None


def _columns(cells: Sequence[Sequence[Any]], header: int, label: int, sign: int) -> tuple[list[int], list[str]]:
    """Return the columns of decisions, and notes on others: totals and remarks."""
    columns, notes = [], []
    for column in range(label + 1, sign):
        head = text_at(cells, header, column)
        texts = [text for row in range(header + 1, len(cells)) if (text := text_at(cells, row, column))]
        if not head:
            continue
        if is_total(head):
            notes.append(f"column {head!r} left out")
        elif texts and not any(map(is_numeral, texts)):
            notes.append(f"column {head!r} holds no numbers and is not used")
        else:
            columns.append(column)
    return columns, notes


def which_grid(found: list[Grid], path: str) -> FormatError:
    """Return the error of several sheets with a grid."""
    names = [name_of(grid.sheet) for grid in found]
    return FormatError(
        f"several sheets hold a grid: {', '.join(names)}; choose one with --sheet {names[0]} (sheet= in Python)",
        path=path,
    )
