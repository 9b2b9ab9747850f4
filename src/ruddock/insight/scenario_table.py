"""Tables of scenarios: a row a scenario, a column for everything that it changes."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import pandas as pd

from ruddock.errors import FormatError, ModelError, listed, together
from ruddock.formats.tables.given import refuse_outside
from ruddock.formats.tables.sheets import FrameSheet, Sheet, cell_text
from ruddock.formats.tables.sources import TableSource
from ruddock.formats.tables.tables import Tables, name_of
from ruddock.modelling.changes import Change, parse_changes

NAMES = ("scenario", "name")  # headings of the column that names the rows
REMARKS = ("note", "notes", "remark", "remarks", "comment", "comments")


@dataclass(frozen=True)
class Scenario:
    """One row: a name and what it changes; an empty cell changes nothing."""

    name: str
    changes: tuple[Change, ...]

    @property
    def words(self) -> list[str]:
        """The changes in words."""
        return [str(change) for change in self.changes]


def read_scenarios(table: pd.DataFrame | str | Path, *, allow_outside: bool = False) -> list[Scenario]:
    """Read a table of scenarios from a frame or a file.

    The column called ``scenario`` names the rows, without it the index of a frame, else their numbers. Cells
    hold a number, a change of what there is (``+10``, ``-10``, ``*1.1``, ``off``), a kind of decision, or the file of
    a table that takes the place of data, such as ``june.csv``; of a file of scenarios, below its folder unless
    ``allow_outside``. Columns called ``note``, ``remark`` or ``comment`` are
    left out.

    Raises
    ------
    FormatError
        If the file cannot be read, a name appears twice, or a cell holds none of this; with its place.
    """
    own_index, folder = None, None
    if isinstance(table, pd.DataFrame):
        sheet: Sheet = FrameSheet("table", table)
        own_index = None if isinstance(table.index, pd.RangeIndex) else [str(label) for label in table.index]
    else:
        sheet = _sheet(str(table))
        folder = Path(table).parent
    header = _header(sheet)
    heads = sheet.head[header]
    named = next((k for k, head in enumerate(heads) if head.casefold() in NAMES), None)
    columns = [k for k, head in enumerate(heads) if head and k != named and head.casefold() not in REMARKS]
    for k in columns:
        if heads.index(heads[k]) < k:
            raise sheet.error(header, k, f"the column {heads[k]!r} appears twice")
    texts = {k: _texts(sheet, header, k) for k in (*columns, *([] if named is None else [named]))}
    scenarios: list[Scenario] = []
    seen: dict[str, int] = {}
    errors = []
    rows = len(next(iter(texts.values()), []))
    for at in range(rows):
        row = header + 1 + at
        if not any(column[at] for column in texts.values()):
            continue
        name = texts[named][at] if named is not None else own_index[at] if own_index is not None else str(at + 1)
        if not name:
            errors.append(sheet.error(row, named, "this scenario has no name"))
            continue
        if name in seen:
            errors.append(sheet.error(row, named, f"the scenario {name!r} is in line {seen[name]} already"))
            continue
        seen[name] = row + 1
        changes = []
        for k in columns:
            try:
                changes += [_change(heads[k], texts[k][at], folder, outside=allow_outside)] if texts[k][at] else []
            except (ModelError, FormatError) as error:
                errors.append(sheet.error(row, k, str(error)))
        scenarios.append(Scenario(name, tuple(changes)))
    if errors:
        raise together(errors)
    if not scenarios:
        raise FormatError("this table holds no scenario", path=sheet.title)
    return scenarios


def _sheet(file: str) -> Sheet:
    """Return the sheet of a file that holds scenarios: the only one, or the only one with a column of that name."""
    source = TableSource.parse(file) if not Path(file).exists() else TableSource(file)
    sheets = Tables().candidates(source or TableSource(file))
    fits = [sheet for sheet in sheets if any(NAMES[0] in map(str.casefold, row) for row in sheet.head)]
    found = sheets if len(sheets) == 1 else fits
    if len(found) != 1:
        names = listed(map(name_of, found or sheets)) or "none"
        raise FormatError(
            f"which sheet holds the scenarios? There are {names}: write sheet NAME after the file", path=file
        )
    return found[0]


def _header(sheet: Sheet) -> int:
    """Return the row of the headings: the one that says scenario or name, or the first with several cells."""
    named = [k for k, row in enumerate(sheet.head) if any(text.casefold() in NAMES for text in row)]
    wide = [k for k, row in enumerate(sheet.head) if sum(map(bool, row)) > 1]
    filled = [k for k, row in enumerate(sheet.head) if any(row)]
    if not filled:
        raise FormatError("the table is empty", path=sheet.title)
    return (named or wide or filled)[0]


def _texts(sheet: Sheet, header: int, column: int) -> list[str]:
    """Return the cells of a column: plain numbers where all are such, however they are typed, else what is written.

    A minus sign in a table is part of a number, ``- 10`` with a blank takes away.
    """
    texts = [cell_text(value) for value in sheet.values(header, column)]
    if any(text[0] in "+*" or re.match(r"-\s", text) or text.endswith("%") for text in texts if text):
        return texts
    body = sheet.body(header, [], [column], None)
    if body.refused:
        raise together([error for _, error in body.refused])
    if body.numbers[0].wrong:
        return texts
    return ["" if value != value else repr(value) for value in body.numbers[0].values.tolist()]


def _change(target: str, text: str, folder: Path | None, *, outside: bool) -> Change:
    """Return what a cell changes; a table's file is beside the scenarios' own."""
    (change,) = parse_changes({target: _number(text)})
    if change.table is None or folder is None:
        return change
    source = TableSource.parse(change.table)
    if source is None:
        return change
    source = source.within(folder)
    if not outside:
        refuse_outside(source.file, folder)
    return change._replace(value=source.written)


def _number(text: str) -> float | str:
    """Return a number as such, for ``-10`` in a table sets and does not take away."""
    try:
        return float(text) if not text.startswith("+") else text
    except ValueError:
        return text
