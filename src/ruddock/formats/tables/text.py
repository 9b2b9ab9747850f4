"""Text files of tables: encoding and separator are found out, the rows are parsed by pandas."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from ruddock.errors import FormatError, together
from ruddock.formats.files import unpacked
from ruddock.formats.tables.numerals import Numerals, read_numerals
from ruddock.formats.tables.sheets import MOST_HEAD, Body, Labels, without_blank

SEPARATORS = ("\t", ";", "|", ",")
NAMES = {"\t": "tabs", ";": "semicolons", "|": "bars", ",": "commas"}
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
    text, note = decoded(unpacked(path), str(path))
    return TextSheet(str(path), text, [note] if note else [])


def decoded(content: bytes, path: str) -> tuple[str, str]:
    """Return a file's text, and how its encoding was understood where it is not UTF-8."""
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8"),
        (codecs.BOM_UTF16_LE, "utf-16-le"),
        (codecs.BOM_UTF16_BE, "utf-16-be"),
    ):
        if content.startswith(mark):
            return _decoded_as(content[len(mark) :], name, path), "" if name == "utf-8" else "the file is in UTF-16"
    sample = content[:1000]
    if sample.count(0) > len(sample) // 4:
        name = "utf-16-le" if sample[1::2].count(0) >= sample[::2].count(0) else "utf-16-be"
        return _decoded_as(content, name, path), "the file is in UTF-16"
    if b"\0" in content:
        raise FormatError("this is not a text file", path=path)
    try:
        return content.decode("utf-8"), ""
    except UnicodeDecodeError:
        note = "the file is not in UTF-8 and was read as Windows-1252 (Latin-1)"
        return content.decode("cp1252", errors="replace").replace("\ufffd", "?"), note


def _decoded_as(content: bytes, name: str, path: str) -> str:
    try:
        return content.decode(name)
    except UnicodeDecodeError:
        raise FormatError(f"this is not a text file in {name.upper()}", path=path) from None


class TextSheet:
    """The rows of a text file."""

    def __init__(self, path: str, text: str, notes: list[str]) -> None:
        self.title, self.path, self.notes = path, path, notes
        if not text.strip():
            raise FormatError("the file is empty", path=path)
        told = re.match(r"sep=(.)\r?\n", text)
        self._skipped = 1 if told else 0  # lines above the rows: how spreadsheets say their separator
        text = text[told.end() :] if told else text
        self._text = text.replace("\r\n", "\n").replace("\r", "\n") if "\r" in text else text
        self.separator = told[1] if told else _separator(self._text[:SAMPLE])
        if self.separator in NAMES and self.separator != ",":
            notes.append(f"columns are separated by {NAMES[self.separator]}")
        self.head = []
        for row in self._reader():
            self.head.append([cell.strip() for cell in row])
            if len(self.head) == MOST_HEAD:
                break

    def _reader(self) -> Any:
        """Return a reader of the rows, in which cells may be of any length."""
        csv.field_size_limit(max(csv.field_size_limit(), len(self._text)))
        return csv.reader(io.StringIO(self._text), delimiter=self.separator, skipinitialspace=self.separator != " ")

    def row_texts(self, row: int) -> list[str]:
        """Return the cells of a row as text."""
        if row < len(self.head):
            return self.head[row]
        for at, cells in enumerate(self._reader()):
            if at == row:
                return [cell.strip() for cell in cells]
        raise IndexError(row)

    def error(self, row: int, column: int | None, message: str) -> FormatError:
        """Return an error at the line of a row."""
        line = row + 1
        if '"' in self._text:  # a quoted cell may hold several lines
            reader = self._reader()
            begun = 1
            for at, _ in enumerate(reader):
                if at == row:
                    line = begun
                    break
                begun = reader.line_num + 1
        return FormatError(message, path=self.path, line=line + self._skipped)

    def body(self, header: int, labels: Sequence[int], numbers: Sequence[int], unit: str | None) -> Body:
        """Return columns below a header row."""
        width = max([len(self.head[header])] + [k + 1 for k in (*labels, *numbers)])
        names = [f"c{k}" for k in range(width + 1)]
        used = [names[k] for k in (*labels, *numbers, -1)]
        # a row of blanks in front fixes the number of columns; one more column catches rows with too many cells
        source = io.StringIO(self.separator * width + "\n" + self._text[self._offset(header + 1) :])
        try:
            frame = pd.read_csv(
                source, sep=self.separator, header=None, names=names, usecols=used,
                skip_blank_lines=False, skipinitialspace=True, dtype={names[k]: "category" for k in labels},
                keep_default_na=False, na_values={names[k]: [""] for k in (*numbers, -1)}, low_memory=False, **EXACT,
            ).iloc[1:]  # fmt: skip
        except pd.errors.ParserError:
            raise FormatError("a quote is opened and never closed", path=self.path) from None
        if frame[names[-1]].notna().any():
            raise self._too_many_cells(header, width)
        return Body(
            [_labels(frame[names[k]]) for k in labels],
            [_numbers(frame[names[k]], self.separator, unit) for k in numbers],
            len(frame),
            [],
        )

    def _offset(self, row: int) -> int:
        """Return where a row begins in the text."""
        reader = self._reader()
        for _ in range(row):
            next(reader)
        offset = 0
        for _ in range(reader.line_num):
            offset = self._text.find("\n", offset) + 1 or len(self._text)
        return offset

    def values(self, header: int, column: int) -> list[Any]:
        """Return the cells below a header row as text."""
        labels = self.body(header, [column], [], None).labels[0]
        texts = [*labels.texts, ""]
        return [texts[code] for code in labels.codes]

    def _too_many_cells(self, header: int, width: int) -> FormatError:
        errors = []
        for at, row in enumerate(self._reader()):
            if at > header and any(cell.strip() for cell in row[width:]):
                cells = f"{len(row)} cells for {width} columns"
                message = f"{cells}; a cell with {self.separator!r} in it needs quotes, a column of remarks a heading"
                errors.append(self.error(at, None, message))
        return together(errors)


def _separator(text: str) -> str:
    """Return what separates the columns: the sign by which most rows come out with the same number of cells."""
    best, most = ",", (0, 0)
    for sign in SEPARATORS:
        if sign not in text:
            continue
        rows = list(csv.reader(io.StringIO(text), delimiter=sign, skipinitialspace=True))
        widths = Counter(len(row) for row in rows[:200] if any(row) and len(row) > 1)
        if widths:
            width, count = max(widths.items(), key=lambda pair: (pair[1], pair[0]))
            if (count, width) > most:
                best, most = sign, (count, width)
    return best


def _labels(column: pd.Series[Any]) -> Labels:
    codes = np.asarray(column.cat.codes, np.int32)
    return without_blank(codes, [str(text) for text in column.cat.categories])


def _numbers(column: pd.Series[Any], separator: str, unit: str | None) -> Numerals:
    """Return numbers as pandas parsed them; a column that it took for text is read as people type."""
    if column.dtype.kind in "fiu":
        return Numerals(column.to_numpy(np.float64), [], [])
    codes, different = pd.factorize(column.astype(object))
    found = read_numerals([str(text) for text in different], separator=separator, unit=unit)
    values = np.append(found.values, np.nan)[codes]
    first = {k: int(np.argmax(codes == k)) for k, _ in found.wrong}
    return Numerals(values, sorted((first[k], message) for k, message in found.wrong), found.notes)
