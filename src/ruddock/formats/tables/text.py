"""Text files of tables: encoding and separator are found out, the rows are parsed by pandas."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Sequence
from functools import cached_property
from importlib.util import find_spec
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from ruddock.errors import FormatError, together
from ruddock.files import as_utf8, unpacked
from ruddock.formats.tables.numerals import Numerals, is_endless, read_numerals, too_large
from ruddock.formats.tables.quickly import parsed_quickly
from ruddock.formats.tables.sheets import MOST_COLUMNS, MOST_HEAD, Body, Labels, Sheet, address, without_blank

SEPARATORS = ("\t", ";", "|", ",")
NAMES = {"\t": "tabs", ";": "semicolons", "|": "bars", ",": "commas"}
LARGE = 1 << 20  # bytes from which a file is worth the import of a faster parser
SAMPLE = 1 << 18  # characters from which the separator is found out
# pandas 3 parses to the last digit by default, and says that asking for it is out of date
EXACT: dict[str, Any] = {} if int(pd.__version__.split(".")[0]) >= 3 else {"float_precision": "round_trip"}


def read_text_sheet(path: Path) -> TextSheet:
    """Read a text file of a table.

    Raises
    ------
    FormatError
        If it cannot be read, is empty, or is not text.
    """
    content, note = as_utf8(unpacked(path), str(path))
    return TextSheet(str(path), content, [note] if note else [])


class TextSheet(Sheet):
    """The rows of a text file.

    Parameters
    ----------
    content : bytes
        In UTF-8. Rows are parsed by pandas; only the first ones, and all of them where something is wrong, in Python.
    """

    def __init__(self, path: str, content: bytes, notes: list[str]) -> None:
        super().__init__(path, [], notes)
        if not content or content.isspace():
            raise FormatError("the file is empty", path=path)
        if b"\r" in content:
            content = content.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
        told = re.match(rb"sep=(.)\n", content)
        self._skipped = 1 if told else 0  # lines above the rows: how spreadsheets say their separator
        self._content = content[told.end() :] if told else content
        sample = self._content[: self._content.find(b"\n", SAMPLE)] if len(self._content) > SAMPLE else self._content
        beginning = sample.decode()
        self.separator = told[1].decode() if told else _separator(beginning)
        if self.separator in NAMES and self.separator != ",":
            notes.append(f"columns are separated by {NAMES[self.separator]}")
        self._lines: list[int] = [0]  # where the first rows begin
        reader = _rows_of(beginning, self.separator)
        for row in reader:
            if len(row) > MOST_COLUMNS:
                raise FormatError(
                    f"a line of {len(row):,} cells, and a table has at most {MOST_COLUMNS:,} columns; is "
                    f"{NAMES.get(self.separator, repr(self.separator))} the separator?",
                    path=path,
                    line=reader.line_num,
                )
            self.head.append([cell.strip() for cell in row])
            self._lines.append(reader.line_num)
            if len(self.head) == MOST_HEAD:
                break

    @cached_property
    def _rows(self) -> list[tuple[int, list[str]]]:
        """All rows with the lines at which they begin: a quoted cell may hold several."""
        reader = _rows_of(self._content.decode(), self.separator)
        rows, line = [], 1
        for row in reader:
            rows.append((line, row))
            line = reader.line_num + 1
        return rows

    def all_rows(self) -> Sequence[Sequence[Any]]:
        """Return all cells as text."""
        return [[cell.strip() for cell in row] for _, row in self._rows]

    def row_texts(self, row: int) -> list[str]:
        """Return the cells of a row as text."""
        return self.head[row] if row < len(self.head) else [cell.strip() for cell in self._rows[row][1]]

    def error(self, row: int, column: int | None, message: str) -> FormatError:
        """Return an error at the line of a row."""
        line = self._rows[row][0] if b'"' in self._content and row < len(self._rows) else row + 1
        return FormatError(message, path=self.title, line=line + self._skipped)

    def cell_error(self, row: int, column: int, message: str) -> FormatError:
        """Return an error at a cell by its address, as a spreadsheet shows the file."""
        return FormatError(message, path=self.title, cell=address(row + self._skipped, column))

    def body(self, header: int, labels: Sequence[int], numbers: Sequence[int], unit: str | None) -> Body:
        """Return columns below a header row."""
        if len(self._content) > LARGE and find_spec("pyarrow") is not None:
            quick = parsed_quickly(
                self._content[self._offset(header + 1) :], self.separator, len(self.head[header]), labels, numbers
            )
            if quick is not None:
                return self._finite(quick, header, numbers)
        frame = self._parsed(header, labels, numbers)
        body = Body(
            [_labels(frame[f"c{k}"]) for k in labels],
            [_numbers(frame[f"c{k}"], self.separator, unit) for k in numbers],
            len(frame),
            [],
        )
        return self._finite(body, header, numbers)

    def _finite(self, body: Body, header: int, numbers: Sequence[int]) -> Body:
        """Return a body in which only what is typed as unlimited is so: packages take 1e400 for infinity."""
        for at, (column, part) in enumerate(zip(numbers, body.numbers, strict=True)):
            endless = np.flatnonzero(np.isinf(part.values))
            texts = [(row, self.row_texts(header + 1 + row)[column]) for row in endless.tolist()]
            large = [(row, too_large(text)) for row, text in texts if not is_endless(text)]
            if large:
                body.numbers[at] = part._replace(wrong=sorted(part.wrong + large))
        return body

    def _parsed(self, header: int, labels: Sequence[int], numbers: Sequence[int]) -> pd.DataFrame:
        """Return columns below a header row as pandas parses them.

        Raises
        ------
        FormatError
            If rows have more cells than there are headings, or a quote is opened and never closed.
        """
        width = max([len(self.head[header])] + [k + 1 for k in (*labels, *numbers)])
        names = [f"c{k}" for k in range(width + 1)]
        spaced = b'"' in self._content  # a quote opens behind blanks, too, which takes time to see
        used = [names[k] for k in (*labels, *numbers, -1)]
        # a row of blanks in front fixes the number of columns; one more column catches rows with too many cells
        source = io.BytesIO(self.separator.encode() * width + b"\n" + self._content[self._offset(header + 1) :])
        try:
            frame = pd.read_csv(
                source, sep=self.separator, header=None, names=names, usecols=used,
                skip_blank_lines=False, skipinitialspace=spaced, keep_default_na=False, low_memory=False,
                dtype={names[k]: "category" for k in labels},
                na_values={names[k]: [""] for k in (*numbers, -1)}, **EXACT,
            ).iloc[1:]  # fmt: skip
        except pd.errors.ParserError:
            raise FormatError("a quote is opened and never closed", path=self.title) from None
        if frame[names[-1]].notna().any():
            self._refuse_more_cells(header, width)
        return frame

    def _offset(self, row: int) -> int:
        """Return where one of the first rows begins in the content."""
        offset = 0
        for _ in range(self._lines[row]):
            offset = self._content.find(b"\n", offset) + 1 or len(self._content)
        return offset

    def values(self, header: int, column: int) -> list[Any]:
        """Return the cells below a header row as text."""
        labels = self.body(header, [column], [], None).labels[0]
        texts = [*labels.texts, ""]
        return [texts[code] for code in labels.codes]

    def _refuse_more_cells(self, header: int, width: int) -> None:
        """Refuse rows with more cells than columns; blanks behind the last one are none."""
        errors = []
        for at, (_, row) in enumerate(self._rows):
            if at > header and any(cell.strip() for cell in row[width:]):
                cells = f"{len(row)} cells for {width} columns"
                message = f"{cells}; a cell with {self.separator!r} in it needs quotes, a column of remarks a heading"
                errors.append(self.error(at, None, message))
        if errors:
            raise together(errors)


def _rows_of(text: str, separator: str) -> Any:
    """Return a reader of rows, in which cells may be of any length."""
    csv.field_size_limit(max(csv.field_size_limit(), len(text)))
    return csv.reader(io.StringIO(text), delimiter=separator, skipinitialspace=separator != " ")


def _separator(text: str) -> str:
    """Return what separates the columns: the sign by which most rows come out with the same number of cells."""
    best, most = ",", (0, 0)
    for sign in SEPARATORS:
        if sign not in text:
            continue
        rows = islice(_rows_of(text, sign), 200)
        widths = Counter(len(row) for row in rows if any(row) and len(row) > 1)
        if widths:
            width, count = max(widths.items(), key=lambda pair: (pair[1], pair[0]))
            if (count, width) > most:
                best, most = sign, (count, width)
    return best


def _labels(column: pd.Series[Any]) -> Labels:
    return without_blank(np.asarray(column.cat.codes, np.int32), [str(text) for text in column.cat.categories])


def _numbers(column: pd.Series[Any], separator: str, unit: str | None) -> Numerals:
    """Return numbers as pandas parsed them; a column that it took for text is read as people type."""
    if column.dtype.kind in "fiu":
        return Numerals(column.to_numpy(np.float64), [], [])
    codes, different = pd.factorize(column.astype(object))
    found = read_numerals([str(text) for text in different], separator=separator, unit=unit)
    values = np.append(found.values, np.nan)[codes]
    first = dict(zip(*(part.tolist() for part in np.unique(codes, return_index=True)), strict=True))
    return Numerals(values, sorted((first[k], message) for k, message in found.wrong), found.notes)
