"""What a table file holds before anybody knows what it means: rows of cells, each with its place."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any, NamedTuple

import numpy as np
import pandas as pd

from ruddock.errors import FormatError, together
from ruddock.formats.tables.numerals import Numerals, read_numerals, too_large
from ruddock.problem import Ints

MOST_ROWS, MOST_COLUMNS = 1_048_576, 16_384  # of a sheet, as spreadsheets have them
MOST_CELLS = 20_000_000  # of a sheet, blank ones among them
MOST_HEAD = 60  # rows in which a header is looked for


class Labels(NamedTuple):
    """A column of labels: for each row the place of its text among the different ones, -1 where it is blank."""

    codes: Ints
    texts: list[str]


class Body(NamedTuple):
    """The rows below a header.

    Attributes
    ----------
    labels, numbers : the columns asked for
    rows : how many there are
    refused : rows of cells that look blank and are not, with what is wrong
    """

    labels: list[Labels]
    numbers: list[Numerals]
    rows: int
    refused: list[tuple[int, FormatError]]


class Sheet(ABC):
    """Rows of cells in a file; rows and columns count from 0.

    Attributes
    ----------
    title : the file, and the sheet of a workbook with several
    name : of the sheet, where there are several
    separator : between the columns of a text file
    part : the file in a workbook's archive that holds the sheet
    head : the first rows as text, of different lengths
    notes : what was recognised about the file
    """

    name: str | None = None
    separator = ""
    part = ""

    def __init__(self, title: str, head: list[list[str]], notes: list[str]) -> None:
        self.title, self.head, self.notes = title, head, notes

    @abstractmethod
    def body(self, header: int, labels: Sequence[int], numbers: Sequence[int], unit: str | None) -> Body:
        """Return columns below a header row."""

    @abstractmethod
    def row_texts(self, row: int) -> list[str]:
        """Return the cells of a row as text."""

    @abstractmethod
    def all_rows(self) -> Sequence[Sequence[Any]]:
        """Return all cells as they are."""

    @abstractmethod
    def values(self, header: int, column: int) -> list[Any]:
        """Return the cells below a header row as they are."""

    @abstractmethod
    def error(self, row: int, column: int | None, message: str) -> FormatError:
        """Return an error at a row, and where columns have letters or names, at a cell."""

    def cell_error(self, row: int, column: int, message: str) -> FormatError:
        """Return an error at a cell, by its address also in a text file."""
        return self.error(row, column, message)

    def refused(self, top: int, columns: Sequence[int]) -> list[tuple[int, FormatError]]:
        """Return the cells that cannot be used, though they look blank, and why; from a row on, which counts as 0."""
        return []


def by_row(errors: Iterable[tuple[int, FormatError]]) -> FormatError:
    """Return errors as one, in the order of their rows."""
    return together([error for _, error in sorted(errors, key=lambda pair: pair[0])])


def address(row: int, column: int) -> str:
    """Return a cell's address as in a spreadsheet; both count from 0.

    >>> address(6, 2), address(0, 27)
    ('C7', 'AB1')
    """
    letters = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        letters = chr(65 + rest) + letters
    return f"{letters}{row + 1}"


def cell_text(value: Any) -> str:
    """Return what a cell holds as text: nothing if it is empty, no decimals of an integer, no midnight of a date."""
    if value is None or value is pd.NA or value != value:
        return ""
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, datetime):
        midnight = value.time() == time()
        return value.date().isoformat() if midnight else value.isoformat(" ")
    if isinstance(value, date):
        return value.isoformat()
    return str(value).strip()


class CellSheet(Sheet):
    """A sheet of a workbook, a table of a database or a frame: cells that have a type.

    Parameters
    ----------
    path : str
    name : str or None
        Of the sheet, where there are several.
    rows : list of tuples
        Numbers, text, dates, bool and None.
    merged : dict of (row, column) to the range
        Cells that another one covers.
    unsaved : set of (row, column)
        Formulas without a saved value.
    part : str
        The file in the workbook's archive.
    """

    def __init__(
        self,
        path: str,
        name: str | None,
        rows: list[tuple[Any, ...]],
        merged: dict[tuple[int, int], str] | None = None,
        unsaved: set[tuple[int, int]] | None = None,
        *,
        part: str = "",
    ) -> None:
        self.name, self.rows, self.part = name, rows, part
        self.merged, self.unsaved = merged or {}, unsaved or set()
        head = [self.row_texts(row) for row in range(min(len(rows), MOST_HEAD))]
        super().__init__(path if name is None else f"{path}, sheet {name}", head, [])

    def all_rows(self) -> Sequence[Sequence[Any]]:
        """Return all cells as they are."""
        return self.rows

    def row_texts(self, row: int) -> list[str]:
        """Return the cells of a row as text."""
        return [cell_text(value) for value in self.rows[row]]

    def error(self, row: int, column: int | None, message: str) -> FormatError:
        """Return an error at a cell."""
        if column is None:
            return FormatError(message, path=self.title, line=row + 1)
        return FormatError(message, path=self.title, cell=address(row, column))

    def refused(self, top: int, columns: Sequence[int]) -> list[tuple[int, FormatError]]:
        """Return the cells that cannot be used, though they look blank, and why; from a row on."""
        wanted = set(columns)
        found = []
        for row, column in sorted(self.unsaved | self.merged.keys()):
            if row >= top and column in wanted and row < len(self.rows):
                if (row, column) in self.unsaved:
                    message = "a formula without a saved value: open the file in a spreadsheet and save it"
                else:
                    message = f"the cells {self.merged[row, column]} are merged: split them and fill in every cell"
                found.append((row - top, self.error(row, column, message)))
        return found

    def body(self, header: int, labels: Sequence[int], numbers: Sequence[int], unit: str | None) -> Body:
        """Return columns below a header row."""
        return Body(
            [typed_labels(self.values(header, column)) for column in labels],
            [typed_numbers(self.values(header, column), unit) for column in numbers],
            len(self.rows) - header - 1,
            self.refused(header + 1, [*labels, *numbers]),
        )

    def values(self, header: int, column: int) -> list[Any]:
        """Return the cells below a header row as they are."""
        return [row[column] if column < len(row) else None for row in self.rows[header + 1 :]]


class FrameSheet(Sheet):
    """A table whose columns have types and names already: of a database, a Parquet file, a frame."""

    def __init__(self, title: str, frame: pd.DataFrame) -> None:
        self.frame = frame
        super().__init__(title, [self.row_texts(row) for row in range(min(len(frame) + 1, MOST_HEAD))], [])

    def all_rows(self) -> Sequence[Sequence[Any]]:
        """Return all cells as they are, the names of the columns first."""
        return [tuple(self.frame.columns), *self.frame.itertuples(index=False, name=None)]

    def row_texts(self, row: int) -> list[str]:
        """Return the cells of a row as text; the first row holds the names of the columns."""
        held = self.frame.columns if row == 0 else self.frame.iloc[row - 1]
        return [cell_text(value) for value in held]

    def error(self, row: int, column: int | None, message: str) -> FormatError:
        """Return an error at a row, and a column by its name."""
        place = f"{self.title}, row {row}" if row else self.title
        if column is not None:
            place += f", column {self.frame.columns[column]}"
        return FormatError(message, path=place)

    def body(self, header: int, labels: Sequence[int], numbers: Sequence[int], unit: str | None) -> Body:
        """Return columns below a header row."""
        part = self.frame.iloc[header:]
        return Body(
            [typed_labels(part.iloc[:, column]) for column in labels],
            [typed_numbers(part.iloc[:, column], unit) for column in numbers],
            len(part),
            [],
        )

    def values(self, header: int, column: int) -> list[Any]:
        """Return the cells below a header row as they are."""
        return list(self.frame.iloc[header:, column])


def typed_labels(values: Sequence[Any] | pd.Series[Any]) -> Labels:
    """Return cells as labels."""
    held = values if isinstance(values, pd.Series) else np.asarray(values, dtype=object)
    codes, different = pd.factorize(held)
    return without_blank(codes.astype(np.int32), [cell_text(value) for value in different])


def typed_numbers(held: Sequence[Any] | pd.Series[Any], unit: str | None) -> Numerals:
    """Return cells as numbers; those that are text are read as people type."""
    if isinstance(held, pd.Series) and held.dtype.kind in "fiu":
        return Numerals(held.to_numpy(np.float64, na_value=np.nan), [], [])
    held = list(held)
    values = np.full(len(held), np.nan)
    wrong: list[tuple[int, str]] = []
    typed: list[int] = []
    for k, value in enumerate(held):
        if isinstance(value, (bool, np.bool_)):
            wrong.append((k, f"{value} is not a number; write {int(value)}"))
        elif isinstance(value, (int, float, Decimal, np.number)):
            try:
                values[k] = float(value)
            except OverflowError:
                wrong.append((k, too_large(int(value))))
        elif isinstance(value, (date, time)):
            wrong.append((k, f"{cell_text(value)} is a date, not a number"))
        elif value is not None and value is not pd.NA and value is not pd.NaT and str(value).strip():
            typed.append(k)
    if typed:
        texts = [str(held[k]) for k in typed]
        found = read_numerals(texts, unit=unit)
        values[typed] = found.values
        wrong += [(typed[k], message) for k, message in found.wrong]
        return Numerals(values, sorted(wrong), found.notes)
    return Numerals(values, wrong, [])


def without_blank(codes: Ints, texts: list[str]) -> Labels:
    """Return labels with blanks stripped, blank ones as -1, and texts that become the same as one."""
    stripped = list(map(str.strip, texts))
    different = list(dict.fromkeys(text for text in stripped if text))
    if different == texts:
        return Labels(codes, texts)
    place = {text: k for k, text in enumerate(different)}
    moved = np.array([place.get(text, -1) for text in stripped] + [-1], np.int32)
    return Labels(moved[codes], different)
