"""A table laid out: which columns hold anything, headings with units, numbers aligned on the decimal point."""

from __future__ import annotations

from collections.abc import Sequence
from math import isfinite
from typing import NamedTuple

from ruddock.characters import in_line
from ruddock.document.content import Cell, Column, Number, Row, Table, common_unit, written
from ruddock.document.numbers import with_unit

GAP = 2  # between columns
LEAST = 14  # of a column of words that has to be folded
KEPT = 3  # columns of words in front that every part of a wide table begins with
FIGURE_SPACE, POINT_SPACE = "\u2007", "\u2008"  # as wide as a digit, and as a point


class LaidOut(NamedTuple):
    """A column in writing: heading, cells, and whether it is aligned to the right."""

    heading: str
    cells: Sequence[str]
    right: bool
    numeric: bool


def lay_out(table: Table, rows: Sequence[Row], *, spaces: tuple[str, str] = (" ", " ")) -> list[LaidOut]:
    """Return the columns of some rows of a table; a column without a single entry says nothing and is left out.

    ``spaces`` are what is put behind a number in place of a digit, and of a point, that others in its column have.
    """
    columns = [(column, [row[k] for row in rows]) for k, column in enumerate(table.heads)]
    return [_column(column, cells, spaces) for column, cells in columns if not rows or any(map(written, cells))]


def _column(column: Column, cells: Sequence[Cell], spaces: tuple[str, str]) -> LaidOut:
    if not any(isinstance(cell, Number) for cell in cells):
        return LaidOut(in_line(column.heading), [in_line(written(cell)) for cell in cells], column.right, False)
    unit = common_unit(cells) if column.heading else None
    texts = [in_line(written(cell, bare=unit is not None)) for cell in cells]
    return LaidOut(in_line(with_unit(column.heading, unit)), aligned(texts, spaces), True, True)


def aligned(texts: Sequence[str], spaces: tuple[str, str] = (" ", " ")) -> list[str]:
    """Return numbers with their points below one another: each padded behind, for alignment to the right.

    What follows a number, such as a unit, is aligned to the left below one another.

    >>> aligned(["1.5", "12", "0.25 kg"])
    ['1.5    ', '12      ', '0.25 kg']
    """
    parts = [_split(text) for text in texts]
    decimals = max((len(d) for _, d, _ in parts), default=0)
    tail = max((len(rest) for head, _, rest in parts if head is not None), default=0)
    digit, point = spaces
    padded = []
    for head, behind, rest in parts:
        if head is None:  # words alone: to the right edge
            padded.append(rest)
            continue
        missing = decimals - len(behind)
        pad = (point if not behind and missing else digit if missing else "") + digit * (missing - 1)
        padded.append(head + behind + pad + rest + " " * (tail - len(rest)))
    return padded


def _split(text: str) -> tuple[str | None, str, str]:
    """Split what reads as a number into what is before the decimal point, the decimals, and what follows."""
    if text == "·":
        return text, "", ""
    end = 0
    while end < len(text) and (text[end] in "+-£€$¥.,0123456789" or (text[end] == "e" and end)):
        end += 1
    if not any(c.isdigit() for c in text[:end]):
        return None, "", text
    head, dot, decimals = text[:end].partition(".")
    return head, dot + decimals, text[end:]


def plain_value(cell: Cell) -> object:
    """Return what a workbook or a program holds of a cell: a number, a date, or text."""
    if isinstance(cell, Number):
        return cell.value if isfinite(cell.value) else cell.text() or None
    if isinstance(cell, str):
        return cell
    return cell.words if cell.value is None else cell.value


def cells_wide(words: str) -> int:
    """Return how many places a text takes on a screen."""
    if words.isascii():
        return len(words)
    from rich.cells import cell_len

    return cell_len(words)


def least(column: LaidOut) -> int:
    """Return how narrow a column can be: numbers are never broken, words and headings may be."""
    head = max(map(cells_wide, pieces(column.heading)))
    body = max((cells_wide(cell) for cell in column.cells), default=0)
    return max(body, min(head, 12)) if column.numeric else min(max(body, head), LEAST)


def pieces(heading: str) -> list[str]:
    """Return a heading in the pieces that it may be broken into: before brackets, behind commas, between words."""
    return [piece for piece in heading.replace("[", " [").replace(",", ", ").split(" ") if piece] or [""]


def parts_of(columns: list[LaidOut], width: int) -> list[list[LaidOut]]:
    """Split columns into parts that fit, each with the words in front again."""
    if sum(map(least, columns)) + GAP * (len(columns) - 1) <= width:
        return [columns]
    front = next((k for k, column in enumerate(columns) if column.numeric), 1)
    front = min(max(front, 1), KEPT)
    kept, rest = columns[:front], columns[front:]
    while front > 1 and sum(map(least, kept)) + GAP * front > width // 2:
        front -= 1
        kept, rest = columns[:front], columns[front:]
    room = width - sum(map(least, kept)) - GAP * front
    parts: list[list[LaidOut]] = []
    used = width
    for column in rest:
        need = least(column) + GAP
        if used + need > room + GAP or not parts:
            parts.append(list(kept))
            used = 0
        parts[-1].append(column)
        used += need
    return parts or [columns]
