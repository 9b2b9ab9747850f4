"""A copy of a workbook's grid with the answer filled in; all else in the file stays as it is."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ruddock.errors import FormatError
from ruddock.formats.files import written_whole
from ruddock.formats.grid.read import locate
from ruddock.formats.grid.xml import copied, with_cells
from ruddock.formats.tables.workbook import part_of

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan

BOOKS = (".xlsx", ".xlsm")


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
    grid, reading = locate(source, sheet)
    values = plan.decisions()["value"]
    rows = plan.constraints()
    left, slack = rows["left"].to_dict(), rows["slack"].to_dict()
    width = max(len(row) for row in grid.cells[grid.header :])
    heads = [grid.text(grid.header, k) for k in range(width)]
    beside = [heads.index(word) if word in heads else width + k for k, word in enumerate(("left side", "slack"))]
    label = max(grid.label, 0)
    below = next(
        (row for row in range(grid.header + 1, len(grid.cells)) if grid.text(row, label) == "value"), len(grid.cells)
    )
    cells: dict[tuple[int, int], float | str] = {
        (grid.header, beside[0]): "left side", (grid.header, beside[1]): "slack", (below, label): "value"
    }  # fmt: skip
    for column, name in zip(grid.columns, reading.parts.names, strict=True):
        cells[below, column] = float(values[name])
    for name, row in reading.rows.items():
        cells[row, beside[0]], cells[row, beside[1]] = float(left[name]), float(slack[name])
    if reading.objective is not None:
        cells[reading.objective, beside[0]] = plan.objective
    part = part_of(source, getattr(grid.sheet, "name", None))
    with written_whole(target) as temporary:
        copied(source, temporary, {part: lambda content: with_cells(content, cells)})
