"""Cells written into the XML of a sheet: all else in a workbook stays as it is, and numbers keep their last digit."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path
from xml.sax.saxutils import escape

from ruddock.errors import FormatError
from ruddock.formats.tables.sheets import address

ROW = re.compile(rb"<(?P<tag>(?:\w+:)?row)\b(?P<has>[^>]*?)(?:/>|>(?P<inside>.*?)</(?P=tag)>)", re.DOTALL)
CELL = re.compile(rb"<(?P<tag>(?:\w+:)?c)\b(?P<has>[^>]*?)(?:/>|>.*?</(?P=tag)>)", re.DOTALL)


def copied(source: Path, target: Path, changes: Mapping[str, Callable[[bytes], bytes]]) -> None:
    """Copy an archive, perhaps onto itself, with some of its files changed."""
    with zipfile.ZipFile(source) as old:
        entries = [(entry, old.read(entry)) for entry in old.infolist()]
    held = io.BytesIO()  # an archive on a disk that is full could not even be closed
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as new:
        for entry, content in entries:
            change = changes.get(entry.filename)
            new.writestr(entry, content if change is None else change(content))
    target.write_bytes(held.getvalue())


def with_cells(content: bytes, cells: Mapping[tuple[int, int], float | str]) -> bytes:
    """Return the XML of a sheet with cells written into it.

    Raises
    ------
    FormatError
        If the sheet has rows or cells without addresses.
    """
    wanted: dict[int, dict[int, float | str]] = {}
    for (row, column), value in cells.items():
        wanted.setdefault(row, {})[column] = value
    begin, end = content.find(b"sheetData"), re.search(rb"</((?:\w+:)?)sheetData>", content)
    if end is None:
        raise FormatError("the sheet has no cells to fill in")
    prefix, pieces, at = end[1], [], 0
    for found in ROW.finditer(content, begin, end.start()):
        row = _row_of(found["has"])
        pieces.append(content[at : found.start()])
        pieces += [_new_row(before, wanted.pop(before), prefix) for before in sorted(wanted) if before < row]
        own = wanted.pop(row, None)
        pieces.append(found.group() if own is None else _with_values(found, row, own, prefix))
        at = found.end()
    pieces.append(content[at : end.start()])
    pieces += [_new_row(row, wanted[row], prefix) for row in sorted(wanted)]
    return b"".join([*pieces, content[end.start() :]])


def _row_of(has: bytes) -> int:
    found = re.search(rb'\br="(\d+)"', has)
    if found is None:
        raise FormatError("the rows of the sheet have no numbers: save it once with a spreadsheet program")
    return int(found[1]) - 1


def _new_row(row: int, values: dict[int, float | str], prefix: bytes) -> bytes:
    cells = b"".join(_cell(row, column, value, prefix, b"") for column, value in sorted(values.items()))
    return b'<%srow r="%d">%s</%srow>' % (prefix, row + 1, cells, prefix)


def _with_values(found: re.Match[bytes], row: int, values: dict[int, float | str], prefix: bytes) -> bytes:
    """Return a row with cells put in at their places; they keep the format of those that they replace."""
    held = [(_column(match["has"]), match.group()) for match in CELL.finditer(found["inside"] or b"")]
    formats = {column: re.search(rb'\bs="\d+"', text) for column, text in held}
    cells = [(column, text) for column, text in held if column not in values]
    for column, value in values.items():
        format_ = formats.get(column)
        cells.append((column, _cell(row, column, value, prefix, format_.group() if format_ else b"")))
    inside = b"".join(text for _, text in sorted(cells, key=lambda pair: pair[0]))
    has = re.sub(rb'\s+spans="[^"]*"', b"", found["has"])
    return b"<%s%s>%s</%s>" % (found["tag"], has, inside, found["tag"])


def _column(has: bytes) -> int:
    """Return the column of a cell by its address."""
    found = re.search(rb'\br="([A-Z]+)\d+"', has)
    if found is None:
        raise FormatError("the cells of the sheet have no addresses: save it once with a spreadsheet program")
    number = 0
    for letter in found[1]:
        number = number * 26 + letter - 64
    return number - 1


def _cell(row: int, column: int, value: float | str, prefix: bytes, style: bytes) -> bytes:
    place = address(row, column).encode()
    style = b" " + style if style else b""
    if isinstance(value, str):
        text = escape(value).encode()
        return b'<%sc r="%s"%s t="inlineStr"><%sis><%st>%s</%st></%sis></%sc>' % (
            prefix, place, style, prefix, prefix, text, prefix, prefix, prefix
        )  # fmt: skip
    return b'<%sc r="%s"%s><%sv>%s</%sv></%sc>' % (prefix, place, style, prefix, repr(value).encode(), prefix, prefix)
