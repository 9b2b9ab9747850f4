"""The tables that a model reads: found in their files, read once and held as they were then."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from ruddock.errors import FormatError, known, listed
from ruddock.files import check_regular, read_text
from ruddock.formats.tables.database import read_database, read_parquet, read_sqlite
from ruddock.formats.tables.held import read_data
from ruddock.formats.tables.layout import Layout, Wanted, find_layout, heading, is_total, plain
from ruddock.formats.tables.sheets import Sheet
from ruddock.formats.tables.sources import READABLE, SQLITE, TEXTS, WORKBOOKS, TableSource, is_database
from ruddock.formats.tables.text import read_text_sheet
from ruddock.modelling.axis import Axis
from ruddock.modelling.data import Data

if TYPE_CHECKING:
    from ruddock.formats.tables.workbook import Workbook


class Tables:
    """Tables as they were when they were first read: a model keeps them."""

    def __init__(self) -> None:
        self._workbooks: dict[str, Workbook] = {}
        self._sheets: dict[tuple[str, str | None], Sheet] = {}
        self._texts: dict[Path, str] = {}
        self._data: dict[tuple[TableSource, str, str | None], tuple[Data, str]] = {}

    @property
    def files(self) -> list[str]:
        """The files and databases that were read, those with text that a model includes among them."""
        return list(dict.fromkeys([*map(str, self._texts), *self._workbooks, *(file for file, _ in self._sheets)]))

    def text(self, path: Path) -> str:
        """Return the text of a file that a model includes."""
        if path not in self._texts:
            self._texts[path] = read_text(path)
        return self._texts[path]

    def candidates(self, source: TableSource) -> Sequence[Sheet]:
        """Return the sheet of a source, or all sheets of a workbook where none is named.

        Raises
        ------
        FormatError
            If the file cannot be read, or has no such sheet or table.
        """
        path = Path(source.file)
        book = self._workbooks.get(source.file)
        key = (source.file, source.table)
        if book is None and key not in self._sheets:
            _refuse_missing(path, source)
        if path.suffix.lower() in WORKBOOKS:
            from ruddock.formats.tables.workbook import Workbook

            if book is None:
                book = self._workbooks[source.file] = Workbook(path)
            if source.sheet is not None:
                return [book.sheet(source.sheet)]
            return [sheet for sheet in map(book.sheet, book.names) if sheet.rows]
        if source.sheet is not None:
            raise FormatError("only a workbook has sheets", path=source.file)
        if key not in self._sheets:
            self._sheets[key] = _read(path, source)
        return [self._sheets[key]]

    def data(self, source: TableSource, name: str, axes: tuple[Axis, ...], unit: str | None) -> tuple[Data, str]:
        """Return data from a table, and a sentence on how it was understood; nothing is parsed twice."""
        key = (source, name, unit)
        before = self._data.get(key)
        if before is not None and before[0].axes == axes:
            return before
        wanted = Wanted(name, axes, source.column)
        sheet, layout = self._found(source, wanted)
        held, notes = read_data(sheet, layout, wanted, unit)
        how = _how(sheet, layout, wanted, source)
        self._data[key] = held, "; ".join([f"{name}: {how}", *sheet.notes, *notes])
        return self._data[key]

    def _found(self, source: TableSource, wanted: Wanted) -> tuple[Sheet, Layout]:
        """Return the sheet that holds a table, and how it lies there."""
        found: list[tuple[Sheet, Layout]] = []
        errors: list[FormatError] = []
        sheets = self.candidates(source)
        for sheet in sheets:
            try:
                found.append((sheet, find_layout(sheet, wanted)))
            except FormatError as error:
                errors.append(error)
        own = [pair for pair in found if plain(name_of(pair[0])) == plain(wanted.name)]
        if len(found) == 1 or len(own) == 1:
            return (own or found)[0]
        if not found:
            if len(sheets) == 1:
                raise errors[0]
            raise FormatError(
                f"no sheet holds {wanted.name} over {listed(axis.name for axis in wanted.axes)}; the sheets are "
                f"{listed(map(name_of, sheets)) or 'empty'}",
                path=source.file,
            )
        names = [name_of(sheet) for sheet, _ in found]
        raise FormatError(
            f"which sheet is {wanted.name}? {listed(names)} could be: write sheet {names[0]}", path=source.file
        )

    def labels(self, source: TableSource, name: str) -> tuple[list[Any], str]:
        """Return the different labels of a column, and a sentence on where they are from.

        The column is the one asked for, or the one named like the axis. Dates of a workbook or database stay dates.
        """
        asked = source.column or name
        found = []
        sheets = self.candidates(source)
        for sheet in sheets:
            for row in range(len(sheet.head)):
                columns = heading(sheet.head[row], asked)
                if columns is not None:
                    found.append((sheet, row, columns))
                    break
        if len(found) > 1:
            names = [name_of(sheet) for sheet, _, _ in found]
            raise FormatError(
                f"which sheet has the labels of {name}? {listed(names)} could: write sheet {names[0]}", path=source.file
            )
        if not found:
            heads = next((row for sheet in sheets for row in sheet.head if any(row)), [])
            heads = [text for text in heads if text]
            raise FormatError(
                f"column {asked!r} not found; the headings are {listed(map(repr, heads)) or 'missing'}. Write {name} "
                "above the labels, or column NAME after the file",
                path=sheets[0].title if len(sheets) == 1 else source.file,
            )
        sheet, row, columns = found[0]
        if len(columns) > 1:
            raise sheet.error(row, columns[1], f"the column {asked!r} appears twice")
        labels, left_out = _different(sheet, row, columns[0])
        note = f"{name}: column {sheet.head[row][columns[0]]!r} of {source.shown}{_sheet_of(sheet)}"
        return labels, "; ".join([note, *sheet.notes, *left_out])


def _refuse_missing(path: Path, source: TableSource) -> None:
    if is_database(source.file):
        return
    if not path.exists():
        raise FormatError(f"file not found{_near(path)}", path=source.file)
    check_regular(path)


def _read(path: Path, source: TableSource) -> Sheet:
    if is_database(source.file):
        return read_database(source.file, source.table)
    ending = path.suffix.lower()
    if ending in SQLITE:
        return read_sqlite(path, source.table)
    if source.table is not None:
        raise FormatError("only a database has tables", path=source.file)
    if ending == ".parquet":
        return read_parquet(path)
    if ending in TEXTS or "".join(path.suffixes[-2:]).lower() == ".csv.gz":
        return read_text_sheet(path)
    if ending == ".xls":
        raise FormatError("this is an old form of workbook: save it as .xlsx", path=source.file)
    raise FormatError(
        f"the ending {ending or '(none)'!r} is not one of a table: {listed(READABLE, 12)}", path=source.file
    )


def _near(path: Path) -> str:
    """Return a hint at a file of nearly the same name."""
    if not path.parent.is_dir():
        return f": there is no folder {path.parent}"
    names = [other.name for other in path.parent.iterdir() if other.suffix.lower() in READABLE]
    hint = known(path.name, names)
    return f"; {hint}" if hint.startswith("did you mean") else ""


def name_of(sheet: Sheet) -> str:
    """Return the name of a sheet, or of its file where there is but one."""
    return sheet.name or sheet.title


def _sheet_of(sheet: Sheet) -> str:
    return f", sheet {name_of(sheet)}" if sheet.name else ""


def _how(sheet: Sheet, layout: Layout, wanted: Wanted, source: TableSource) -> str:
    """Return how a table was understood."""
    where = f"{source.shown}{_sheet_of(sheet)}"
    if layout.across is not None:
        if layout.down is None:
            return f"{where}, a line with {layout.across.name} across"
        return f"{where} as a two-way table, {layout.down.name} down and {layout.across.name} across"
    head = sheet.head[layout.header][layout.numbers[0]]
    return f"column {head!r} of {where}, a row for each {' and '.join(axis.name for axis in wanted.axes)}"


def _different(sheet: Sheet, header: int, column: int) -> tuple[list[Any], list[str]]:
    """Return the different labels below a heading, without totals and without remarks below the table.

    Raises
    ------
    FormatError
        If there is text below a blank line that could be a label or a remark.
    """
    labels: dict[Any, None] = {}
    notes = []
    blank: int | None = None
    width = len([text for text in sheet.head[header] if text])
    for at, value in enumerate(sheet.values(header, column)):
        row = header + 1 + at
        text = value.strip() if isinstance(value, str) else value
        if text is None or text is pd.NaT or text != text or text == "":
            if not any(sheet.row_texts(row)):
                blank = row
            continue
        if isinstance(text, str) and is_total(text):
            notes.append(f"line {row + 1} with a total left out")
            continue
        if blank is not None and len([cell for cell in sheet.row_texts(row) if cell]) == 1:
            if width == 1:
                raise sheet.error(
                    row, column, f"is {str(text)[:40]!r} a label or a remark? Leave out the blank line above it"
                )
            notes.append(f"the text below the table left out (line {row + 1}: {str(text)[:40]!r})")
            break
        labels[text] = None
    return [_label(value) for value in labels], notes


def _label(value: Any) -> Any:
    """Return a label: whole numbers as such, dates as dates."""
    if isinstance(value, float) and value.is_integer():
        return int(value)
    return value
