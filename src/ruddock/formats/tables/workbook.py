"""Workbooks: ``.xlsx``, ``.xlsm`` and ``.ods``; what is merged or was never calculated is known cell by cell."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from ruddock.archives import check_archive
from ruddock.errors import FormatError, known
from ruddock.files import unpacked
from ruddock.formats.tables.sheets import MOST_CELLS, MOST_COLUMNS, MOST_ROWS, CellSheet, address

FORMULA = re.compile(rb"<(?:\w+:)?f[\s/>]")
MERGED = re.compile(rb'<(?:\w+:)?mergeCell [^>]*?ref="([A-Z]+\d+:[A-Z]+\d+)"')
ROW_NUMBER = re.compile(rb'<(?:\w+:)?row\b[^>]*?\br="(\d+)"')
TOO_MANY = f"the sheet has more than {MOST_CELLS:,} cells; keep tables of this size in .csv or .parquet files"
MOST_MERGED = 1_000_000  # cells of all ranges together, beyond which whole columns or rows are merged


class Workbook:
    """The sheets of a workbook, each read when it is asked for."""

    def __init__(self, path: Path) -> None:
        self.path, self._content = path, unpacked(path)
        if not zipfile.is_zipfile(io.BytesIO(self._content)):
            raise FormatError("this is not a workbook, or one with a password", path=str(path))
        check_archive(self._content, path)
        self._sheets: dict[str, CellSheet] = {}
        if path.suffix.lower() == ".ods":
            self._read_ods()
        else:
            self._open()

    @property
    def names(self) -> list[str]:
        """The names of the sheets in their order."""
        return list(self._parts)

    def sheet(self, name: str) -> CellSheet:
        """Return a sheet; capital and small letters are the same where only one fits.

        Raises
        ------
        FormatError
            If there is none of that name.
        """
        if name not in self._parts:
            near = [own for own in self._parts if own.casefold() == name.casefold()]
            if len(near) != 1:
                raise FormatError(f"sheet {name!r} not found; {known(name, self._parts)}", path=str(self.path))
            name = near[0]
        if name not in self._sheets:
            self._sheets[name] = self._read(name)
        return self._sheets[name]

    # ------------------------------------------------------------------ .xlsx

    def _open(self) -> None:
        with self._sound(), zipfile.ZipFile(io.BytesIO(self._content)) as archive:
            self._parts = dict(_sheet_parts(archive))
            names = self._book.sheetnames
        self._parts = {name: part for name, part in self._parts.items() if name in names}

    @cached_property
    def _book(self) -> Any:
        return self._loaded(data_only=True)

    def __getstate__(self) -> dict[str, Any]:
        return {name: held for name, held in self.__dict__.items() if name != "_book"}  # which is opened again

    def _loaded(self, *, data_only: bool) -> Any:
        from openpyxl import load_workbook

        return load_workbook(io.BytesIO(self._content), read_only=True, data_only=data_only, keep_links=False)

    @contextmanager
    def _sound(self) -> Iterator[None]:
        """Turn what the packages raise at a damaged file into an error of ours."""
        try:
            yield
        except FormatError:
            raise
        except Exception as error:
            said = str(error).splitlines()[0] if str(error) else type(error).__name__
            raise FormatError(f"this workbook is damaged: {said}", path=str(self.path)) from None

    def _read(self, name: str) -> CellSheet:
        with self._sound():
            sheet = self._book[name]
            with zipfile.ZipFile(io.BytesIO(self._content)) as archive:
                source = archive.read(self._parts[name])
            if max((int(found[1][:8]) for found in ROW_NUMBER.finditer(source)), default=0) > MOST_ROWS:
                raise FormatError(f"a row beyond the last one of a sheet, {MOST_ROWS:,}", path=str(self.path))
            sheet.reset_dimensions()  # some writers note a size that is too small
            rows = self._trimmed(sheet.iter_rows(values_only=True))
            merged = _covered(found[1].decode() for found in MERGED.finditer(source))
            unsaved = self._unsaved(name, rows) if FORMULA.search(source) else set()
        return self._named(name, rows, merged, unsaved)

    def _trimmed(self, rows: Iterator[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
        """Return rows without the blank ones at the end."""
        held = []
        cells = 0
        for row in rows:
            cells += len(row)
            if cells > MOST_CELLS:
                raise FormatError(TOO_MANY, path=str(self.path))
            held.append(row)
        while held and all(value is None for value in held[-1]):
            held.pop()
        return held

    def _named(self, name: str, *cells: Any) -> CellSheet:
        """Return a sheet; the only one of a workbook needs no name."""
        return CellSheet(str(self.path), name if len(self._parts) > 1 else None, *cells, part=self._parts[name])

    def _unsaved(self, name: str, rows: list[tuple[Any, ...]]) -> set[tuple[int, int]]:
        """Return where formulas are that were never calculated: a second reading shows the formulas themselves."""
        sheet = self._loaded(data_only=False)[name]
        sheet.reset_dimensions()
        unsaved = set()
        for i, row in enumerate(sheet.iter_rows(values_only=True)):
            held = rows[i] if i < len(rows) else ()
            for j, value in enumerate(row):
                if value is not None and (j >= len(held) or held[j] is None):
                    unsaved.add((i, j))
        if unsaved:  # a formula below or right of all values makes the sheet larger
            rows += [()] * (max(i for i, _ in unsaved) + 1 - len(rows))
        return unsaved

    # ------------------------------------------------------------------ .ods

    def _read_ods(self) -> None:
        from odf.opendocument import load
        from odf.table import Table

        with self._sound():
            document = load(io.BytesIO(self._content))
        body = getattr(document, "spreadsheet", None)  # None in a document cut off before its tables
        tables = [] if body is None else body.getElementsByType(Table)
        self._parts = {str(table.getAttribute("name")): "" for table in tables}
        for table in tables:
            name = str(table.getAttribute("name"))
            with self._sound():
                self._sheets[name] = self._named(name, *_ods_cells(table, str(self.path)))


def _sheet_parts(archive: zipfile.ZipFile) -> Iterator[tuple[str, str]]:
    """Yield the name of each sheet and the file in the archive that holds it."""
    relations = ElementTree.fromstring(archive.read("xl/_rels/workbook.xml.rels"))
    targets = {part.get("Id"): part.get("Target", "") for part in relations}
    for element in ElementTree.fromstring(archive.read("xl/workbook.xml")).iter():
        if element.tag.endswith("}sheet"):
            own = next((value for key, value in element.attrib.items() if key.endswith("}id")), None)
            target = targets.get(own, "")
            yield element.get("name", ""), target.lstrip("/") if target.startswith("/") else f"xl/{target}"


def _covered(ranges: Iterator[str]) -> dict[tuple[int, int], str]:
    """Return the cells that the first cell of a merged range covers."""
    from openpyxl.utils.cell import range_boundaries

    covered: dict[tuple[int, int], str] = {}
    for text in ranges:
        left, top, right, bottom = (int(edge or 0) for edge in range_boundaries(text))
        if len(covered) + (right - left + 1) * (bottom - top + 1) > MOST_MERGED:
            continue
        for row in range(top, bottom + 1):
            for column in range(left, right + 1):
                if (row, column) != (top, left):
                    covered[row - 1, column - 1] = text
    return covered


def _ods_cells(table: Any, path: str) -> tuple[list[tuple[Any, ...]], dict[tuple[int, int], str], set[tuple[int, int]]]:
    """Return the cells of an OpenDocument table, which covered cells belong to a range, and formulas without value."""
    from odf.table import CoveredTableCell, TableCell, TableRow

    rows: list[tuple[Any, ...]] = []
    ranges: list[str] = []
    unsaved = set()
    blank = filled = 0
    for row in table.getElementsByType(TableRow):
        cells: list[Any] = []
        gap = 0
        for cell in row.childNodes:
            if cell.qname not in (TableCell().qname, CoveredTableCell().qname):
                continue
            count = _count(cell, "numbercolumnsrepeated", MOST_COLUMNS)
            value = _ods_value(cell)
            formula = cell.getAttribute("formula") is not None
            if value is None and not formula:
                gap += count
                continue
            cells += [None] * gap
            gap = 0
            if value is None:
                unsaved |= {(len(rows) + blank, len(cells) + k) for k in range(count)}
            ranges += _ods_merged(cell, len(rows) + blank, len(cells))
            cells += [value] * count
        repeated = _count(row, "numberrowsrepeated", MOST_ROWS)
        filled += repeated * len(cells)
        if filled > MOST_CELLS or len(rows) + blank + repeated > 2 * MOST_ROWS:
            raise FormatError(TOO_MANY, path=path)
        if cells:
            rows += [()] * blank
            blank = 0
            rows += [tuple(cells)] * repeated
        else:
            blank += repeated
    return rows, _covered(iter(ranges)), unsaved


def _count(element: Any, name: str, most: int) -> int:
    """Return how often a cell or row is repeated, or how far it spans."""
    count = int(element.getAttribute(name) or 1)
    if not 1 <= count <= most:
        raise ValueError(f"{name} of {count}, and a sheet has {most:,} at most")
    return count


def _ods_merged(cell: Any, row: int, column: int) -> list[str]:
    wide = _count(cell, "numbercolumnsspanned", MOST_COLUMNS)
    high = _count(cell, "numberrowsspanned", MOST_ROWS)
    if wide * high == 1:
        return []
    return [f"{address(row, column)}:{address(row + high - 1, column + wide - 1)}"]


def _ods_value(cell: Any) -> Any:
    """Return what a cell of an OpenDocument table holds."""
    from datetime import datetime

    from odf.teletype import extractText

    kind = cell.getAttribute("valuetype")
    if kind in ("float", "percentage", "currency"):
        return float(cell.getAttribute("value"))
    if kind == "boolean":
        return cell.getAttribute("booleanvalue") == "true"
    if kind == "date":
        return datetime.fromisoformat(cell.getAttribute("datevalue"))
    text = "\n".join(extractText(part) for part in cell.childNodes)
    return text if text.strip() else None
