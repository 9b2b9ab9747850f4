"""A copy of a workbook's grid with the answer filled in; all else in the file stays as it is."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from ruddock.errors import FormatError
from ruddock.files import written_whole
from ruddock.formats.grid.find import text_at
from ruddock.formats.grid.own import FILLED, Block, own_blocks
from ruddock.formats.grid.read import Reading, read_cells
from ruddock.formats.grid.words import unquoted
from ruddock.formats.grid.xml import copied, with_cells
from ruddock.formats.tables.sheets import Sheet
from ruddock.formats.tables.sources import TableSource
from ruddock.formats.tables.tables import Tables

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan

BOOKS = (".xlsx", ".xlsm")
Cells = dict[tuple[int, int], float | str]


def fill_grid(plan: Plan, source: Path, target: Path, sheet: str | None = None) -> None:
    """Write a copy of a workbook with values, left sides and slacks beside its grid; the source is untouched.

    Formats, formulas and their saved values are kept: only the cells that are filled in are written.

    Raises
    ------
    FormatError
        If the source is not a workbook with a grid, or target and source are the same file.
    """
    if source.suffix.lower() not in BOOKS or target.suffix.lower() != source.suffix.lower():
        raise FormatError(f"a grid is filled in as a copy of an {' or '.join(BOOKS)} file", path=str(source))
    if source.resolve() == target.resolve():
        raise FormatError("the filled copy must be another file than the grid itself", path=str(target))
    sheets = list(Tables().candidates(TableSource(str(source), sheet=sheet)))
    answer = _Answer(plan)
    own = own_blocks(sheets)
    filled = answer.into_own(*own) if own is not None else [answer.into(read_cells(sheets, str(source)))]
    changes: dict[str, Callable[[bytes], bytes]] = {}
    for where, cells in filled:
        changes[where.part] = partial(with_cells, cells=cells)
    with written_whole(target) as temporary:
        copied(source, temporary, changes)


class _Answer:
    """What is filled in: values by decision, left sides and slacks by constraint."""

    def __init__(self, plan: Plan) -> None:
        rows = plan.constraints()
        self.values = plan.decisions()["value"].to_dict()
        self.left, self.slack = rows["left"].to_dict(), rows["slack"].to_dict()
        self.objective = plan.objective

    def into(self, reading: Reading) -> tuple[Sheet, Cells]:
        """Return the cells of a grid as people keep it: a line of values below, two columns beside."""
        grid = reading.grid
        width = max(len(row) for row in grid.cells[grid.header :])
        heads = [grid.text(grid.header, k) for k in range(width)]
        beside = _beside(heads)
        label = max(grid.label, 0)
        rows = range(grid.header + 1, len(grid.cells))
        below = next((row for row in rows if grid.text(row, label) == "value"), len(grid.cells))
        cells: Cells = {(below, label): "value"}
        for column, word in zip(beside, FILLED, strict=True):
            cells[grid.header, column] = word
        for column, name in zip(grid.columns, reading.parts.names, strict=True):
            cells[below, column] = float(self.values[name])
        for name, row in reading.rows.items():
            self._row(cells, row, beside, name)
        if reading.objective is not None:
            cells[reading.objective, beside[0]] = self.objective
        return grid.sheet, cells

    def into_own(self, constraints: Block, decisions: Block) -> list[tuple[Sheet, Cells]]:
        """Return the cells of our own form: a column of values, and two columns beside the constraints."""
        beside = _beside(constraints.heads)
        cells: Cells = {(constraints.top, column): word for column, word in zip(beside, FILLED, strict=True)}
        for row in constraints.rows:
            self._row(cells, row, beside, unquoted(text_at(constraints.cells, row, 0)))
        value = decisions.heads.index("value") if "value" in decisions.heads else len(decisions.heads)
        own: Cells = {(decisions.top, value): "value"}
        for row in decisions.rows:
            name = unquoted(text_at(decisions.cells, row, 0))
            if name in self.values:
                own[row, value] = float(self.values[name])
        return [(constraints.sheet, cells), (decisions.sheet, own)]

    def _row(self, cells: Cells, row: int, beside: list[int], name: str) -> None:
        cells[row, beside[0]], cells[row, beside[1]] = float(self.left[name]), float(self.slack[name])


def _beside(heads: list[str]) -> list[int]:
    """Return the columns of left sides and slacks: those of an answer filled in before, or the next free ones."""
    return [heads.index(word) if word in heads else len(heads) + k for k, word in enumerate(FILLED)]
