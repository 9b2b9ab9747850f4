"""Our own form of a grid: a block of constraints with ``at least`` and ``at most``, and a block of decisions."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ruddock.errors import FormatError, known, together
from ruddock.formats.grid.find import text_at
from ruddock.formats.grid.parts import Parts
from ruddock.formats.grid.words import CODES, goal_of, unquoted
from ruddock.formats.tables.numerals import is_endless, too_large
from ruddock.formats.tables.sheets import Sheet

CONSTRAINTS, DECISIONS = "constraints", "decisions"
NONE = "none"
FILLED = ("left side", "slack")  # columns that hold an answer


class Block:
    """A block of cells under headings, down to the first blank row."""

    def __init__(self, sheet: Sheet, cells: Sequence[Sequence[Any]], top: int) -> None:
        self.sheet, self.cells, self.top = sheet, cells, top
        width = max((len(row) for row in cells[top:]), default=0)
        self.heads = [text_at(cells, top, k) for k in range(width)]
        while self.heads and not self.heads[-1]:
            self.heads.pop()
        self.rows: list[int] = []
        for row in range(top + 1, len(cells)):
            if not any(text_at(cells, row, k) for k in range(len(self.heads))):
                break
            self.rows.append(row)
        self.errors: list[FormatError] = []

    def column(self, head: str) -> int:
        """Return the column of a heading."""
        if head not in self.heads:
            raise self.sheet.error(
                self.top, None, f"column {head!r} not found; {known(head, filter(None, self.heads))}"
            )
        return self.heads.index(head)

    def number(self, row: int, column: int, absent: float, none: float | None = None) -> float:
        """Return the number of a cell; a blank one is ``absent``, the word none ``none``."""
        value = self.cells[row][column] if column < len(self.cells[row]) else None
        text = text_at(self.cells, row, column)
        if not text:
            return absent
        if text == NONE and none is not None:
            return none
        try:
            if isinstance(value, bool):
                raise ValueError
            number = float(value)  # type: ignore[arg-type]
        except (TypeError, ValueError):
            number = np.nan
        except OverflowError:
            number = np.inf
        if not np.isfinite(number) and not is_endless(text):
            said = f"{text[:40]!r} is not a number" if number != number else too_large(text)
            self.errors.append(self.sheet.cell_error(row, column, said))
            return absent
        return number


def own_blocks(sheets: Sequence[Sheet]) -> tuple[Block, Block] | None:
    """Return the blocks of constraints and of decisions, if a grid is in our own form."""
    blocks: dict[str, Block] = {}
    for sheet in sheets:
        if not any(row and row[0] in (CONSTRAINTS, DECISIONS) for row in sheet.head):
            continue
        cells = sheet.all_rows()
        for row in range(len(cells)):
            word = text_at(cells, row, 0)
            if word in (CONSTRAINTS, DECISIONS) and word not in blocks and (row == 0 or not any(cells[row - 1])):
                blocks[word] = Block(sheet, cells, row)
    if len(blocks) < 2 or "at least" not in blocks[CONSTRAINTS].heads:
        return None
    return blocks[CONSTRAINTS], blocks[DECISIONS]


def read_own(sheets: Sequence[Sheet]) -> Parts | None:
    """Return the parts of a grid in our own form; None if it is in another.

    Raises
    ------
    FormatError
        With all wrong cells.
    """
    blocks = own_blocks(sheets)
    if blocks is None:
        return None
    rows, own = blocks
    refused = [error for block in (own, rows) for _, error in block.sheet.refused(0, range(len(block.heads)))]
    parts = _decisions(own)
    _constraints(rows, parts)
    errors = [*refused, *own.errors, *rows.errors]
    if errors:
        raise together(errors)
    return parts


def _decisions(block: Block) -> Parts:
    constant = next((row for row in block.rows if text_at(block.cells, row, 0) == "constant"), None)
    rows = [row for row in block.rows if row != constant]
    place: dict[str, int] = {}
    for k, row in enumerate(rows):
        name = unquoted(text_at(block.cells, row, 0))
        if place.setdefault(name, k) != k:
            block.errors.append(block.sheet.cell_error(row, 0, f"the decision {name!r} appears twice"))
    parts = Parts([unquoted(text_at(block.cells, row, 0)) for row in rows])
    lower, upper, kind = (block.column(word) for word in ("lower", "upper", "kind"))
    goals = [(k, goal) for k, head in enumerate(block.heads) if k and (goal := goal_of(head)) is not None]
    if len(goals) > 1:
        raise block.sheet.cell_error(block.top, goals[1][0], "a second objective")
    parts.lower = np.array([block.number(row, lower, 0.0, none=-np.inf) for row in rows])
    parts.upper = np.array([block.number(row, upper, np.inf, none=np.inf) for row in rows])
    for k, row in enumerate(rows):
        word = text_at(block.cells, row, kind) or "continuous"
        if word not in CODES:
            block.errors.append(block.sheet.cell_error(row, kind, f"{word!r} is not a kind; {known(word, CODES)}"))
        else:
            parts.kind(k, word)
        if parts.lower[k] > parts.upper[k]:
            message = f"the lower bound {parts.lower[k]:g} is above the upper bound {parts.upper[k]:g}"
            block.errors.append(block.sheet.cell_error(row, lower, message))
    for column, (maximize, name) in goals:
        offset = 0.0 if constant is None else block.number(constant, column, 0.0)
        parts.goal(maximize, name, [block.number(row, column, 0.0) for row in rows], offset)
    return parts


def _constraints(block: Block, parts: Parts) -> None:
    place = {name: k for k, name in enumerate(parts.names)}
    low, high = block.column("at least"), block.column("at most")
    columns: list[tuple[int, int]] = []
    seen: set[str] = set()
    for k, head in enumerate(block.heads):
        if k in (0, low, high) or not head or head in FILLED:
            continue
        name = unquoted(head)
        if name not in place or name in seen:
            what = "appears twice" if name in seen else f"has no row among the decisions; {known(name, place)}"
            block.errors.append(block.sheet.cell_error(block.top, k, f"the decision {name!r} {what}"))
            continue
        seen.add(name)
        columns.append((k, place[name]))
    rows: set[str] = set()
    for row in block.rows:
        name = unquoted(text_at(block.cells, row, 0))
        if name in rows:
            block.errors.append(block.sheet.cell_error(row, 0, f"the constraint {name!r} appears twice"))
        rows.add(name)
        values = [(at, block.number(row, k, 0.0)) for k, at in columns]
        parts.row(name, values, block.number(row, low, -np.inf), block.number(row, high, np.inf))
