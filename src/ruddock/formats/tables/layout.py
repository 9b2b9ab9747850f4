"""Where a table begins in a sheet and what its columns are: found by the names and labels of the axes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import NamedTuple

from ruddock.errors import FormatError, known, listed
from ruddock.formats.tables.numerals import is_numeral
from ruddock.formats.tables.sheets import Sheet
from ruddock.modelling.axis import Axis

UNIT = re.compile(r"[(\[][^()\[\]]*[)\]]\Z")
TOTALS = {"total", "totals", "sum", "grand total", "subtotal", "overall", "gesamt", "summe", "insgesamt"}


class Layout(NamedTuple):
    """How a table lies in a sheet.

    Attributes
    ----------
    header : the row of the headings
    labels : for a long table the column of each axis; else the column of the axis that runs down, if one does
    numbers : the columns of numbers
    down, across : axes of a table that has one, or both, in its headings; a long table has neither
    codes : for each column of numbers its label of the axis across
    notes : what is worth saying about it
    """

    header: int
    labels: list[int]
    numbers: list[int]
    down: Axis | None = None
    across: Axis | None = None
    codes: tuple[int, ...] = ()
    notes: tuple[str, ...] = ()


class Wanted(NamedTuple):
    """What is looked for: data of a name over axes, perhaps in a certain column."""

    name: str
    axes: tuple[Axis, ...]
    column: str | None


def is_total(text: str) -> bool:
    """Return whether a heading or label is that of a total."""
    return text.strip().rstrip(":").casefold() in TOTALS


@lru_cache(1 << 16)
def plain(text: str) -> str:
    """Return a heading as it is compared: small letters, one sort of blank, no unit in brackets behind it."""
    text = UNIT.sub("", text.strip()).rstrip()
    return re.sub(r"[\s_\-]+", " ", text.rstrip(":")).strip().casefold()


def find_layout(sheet: Sheet, wanted: Wanted) -> Layout:
    """Return how the table of some data lies in a sheet.

    Raises
    ------
    FormatError
        If the sheet does not hold it, or it could lie in several ways; the message says what is there.
    """
    found = next(filter(None, (_long(sheet, row, wanted) for row in range(len(sheet.head)))), None)
    if found is None and len(wanted.axes) <= 2 and wanted.column is None:
        found = _wide(sheet, wanted) if len(wanted.axes) == 2 else _one_line(sheet, wanted)
    found = found or _by_labels(sheet, wanted)
    if found is None:
        raise _not_found(sheet, wanted)
    _refuse_above(sheet, found, wanted)
    return found


def _refuse_above(sheet: Sheet, found: Layout, wanted: Wanted) -> None:
    """Refuse lines of the table above its headings, where it was sorted with them, or within a heading in quotes."""
    places = [axis.places for axis in (wanted.axes if found.across is None else (found.down,)) if axis is not None]
    for row, cells in enumerate(sheet.head[: found.header + 1]):
        quoted = [line.split(sheet.separator or "\t") for cell in cells if "\n" in cell for line in cell.splitlines()]
        for line in [*([cells] if row < found.header else []), *quoted]:
            texts = [text.strip() for text in line]
            if any(text in own for own in places for text in texts) and any(map(is_numeral, texts)):
                shown = repr(" ".join(filter(None, texts))[:40])
                if line is cells:
                    message = (
                        f"the line {shown} comes before the headings in line {found.header + 1}; put it below them, "
                    )
                    message += "or, if it is of another table, give each its own sheet or file"
                else:
                    message = f"a quote that opens here is closed only after the line {shown}: take it out, or close it"
                raise sheet.error(row, None, message)


# ---------------------------------------------------------------------- long tables


def _long(sheet: Sheet, row: int, wanted: Wanted) -> Layout | None:
    """Return the layout of a table with a column for each axis, if this row has their names."""
    heads = sheet.head[row]
    columns, notes = [], []
    for axis in wanted.axes:
        found = heading(heads, axis.name)
        if found is None:
            return None
        if len(found) > 1:
            raise sheet.error(row, found[1], f"the column {heads[found[0]]!r} appears twice")
        columns.append(found[0])
        if heads[found[0]] != axis.name:
            notes.append(f"column {heads[found[0]]!r} holds {axis.name}")
    if len(set(columns)) < len(columns) or len(_filled(heads)) < len(columns) + 1:
        return None
    return _with_values(sheet, row, columns, wanted, notes)


def _with_values(sheet: Sheet, row: int, columns: list[int], wanted: Wanted, notes: list[str]) -> Layout:
    """Choose the column of the numbers: the one asked for, the one of the name, or the only one with numbers."""
    heads = sheet.head[row]
    rest = [k for k in _filled(heads) if k not in columns]
    asked = wanted.column if wanted.column is not None else wanted.name
    found = heading(heads, asked, rest)
    if found is None and wanted.column is not None:
        raise sheet.error(row, None, f"column {asked!r} not found; {known(asked, [heads[k] for k in rest])}")
    if found is None:
        found = [k for k in rest if _numeric(sheet, row, k) and not is_total(heads[k])]
        if not found and len(rest) == 1:
            found = rest
    if len(found) != 1:
        choice = found or rest
        names = listed(repr(heads[k]) for k in choice)
        if found and len({heads[k] for k in found}) < len(found):
            raise sheet.error(row, found[1], f"the column {heads[found[0]]!r} appears twice")
        raise sheet.error(
            row, None, f"which column is {wanted.name}? There are {names}: write column NAME after the file"
        )
    others = [heads[k] for k in rest if k not in found]
    if others and wanted.column is None:
        notes.append(f"{'column' if len(others) == 1 else 'columns'} {listed(map(repr, others))} not used")
    if row:
        notes.append(f"headings in line {row + 1}")
    return Layout(row, columns, found, notes=tuple(notes))


def heading(heads: Sequence[str], name: str, among: Iterable[int] | None = None) -> list[int] | None:
    """Return the columns with a heading: as written, or else but for capitals, blanks and a unit behind."""
    columns = list(range(len(heads)) if among is None else among)
    exact = [k for k in columns if heads[k] == name]
    if exact:
        return exact
    own = plain(name)
    return [k for k in columns if heads[k] and plain(heads[k]) == own] or None


def _filled(cells: Sequence[str]) -> list[int]:
    return [k for k, text in enumerate(cells) if text]


def _below(sheet: Sheet, header: int, column: int) -> list[str]:
    """Return the texts of a column as far as the first rows show them."""
    return [row[column] for row in sheet.head[header + 1 :] if column < len(row) and row[column]]


def _numeric(sheet: Sheet, header: int, column: int) -> bool:
    """Return whether a column holds numbers as far as its first rows show."""
    texts = _below(sheet, header, column)
    good = sum(is_numeral(text) for text in texts)
    return good > 0 and good * 2 >= len(texts)


# ---------------------------------------------------------------------- labels across


def _wide(sheet: Sheet, wanted: Wanted) -> Layout | None:
    """Return the layout of a two-way table: one axis down a column, the other across the headings."""
    best: tuple[int, int, Axis, Axis] | None = None
    for down, across in (wanted.axes, wanted.axes[::-1]):
        for row, heads in enumerate(sheet.head):
            hits = [k for k in _filled(heads) if heads[k] in across.places]
            if not hits or 2 * len(hits) < len([k for k in _filled(heads) if k >= hits[0] and not is_total(heads[k])]):
                continue
            if hits[0] == 0 or not _down_column(sheet, row, hits[0], down):
                continue
            if best is None or len(hits) > best[0]:
                best = len(hits), row, down, across
    if best is None:
        return None
    _, row, down, across = best
    first = next(k for k in _filled(sheet.head[row]) if sheet.head[row][k] in across.places)
    columns, codes, notes = _across(sheet, row, first, across)
    own = _down_column(sheet, row, first, down)
    return Layout(row, own, columns, down, across, codes, notes)


def _down_column(sheet: Sheet, header: int, before: int, axis: Axis) -> list[int]:
    """Return the column, left of the numbers, with most labels of an axis."""
    counts = [sum(k < len(row) and row[k] in axis.places for row in sheet.head[header + 1 :]) for k in range(before)]
    most = max(counts, default=0)
    return [counts.index(most)] if most else []


def _across(sheet: Sheet, row: int, first: int, axis: Axis) -> tuple[list[int], tuple[int, ...], tuple[str, ...]]:
    """Return the columns whose headings are labels, their codes, and notes on those left out.

    Raises
    ------
    FormatError
        If a column of numbers has a heading that is no label.
    """
    heads = sheet.head[row]
    columns, codes, notes = [], [], []
    for k in range(first, max(len(cells) for cells in sheet.head[row:])):
        text = heads[k] if k < len(heads) else ""
        if text in axis.places:
            columns.append(k)
            codes.append(axis.places[text])
        elif is_total(text):
            notes.append(f"column {text!r} left out")
        elif _numeric(sheet, row, k):
            what = f"{text!r} is not a label of axis {axis.name}; {known(text, axis.texts)}" if text else "no heading"
            raise sheet.error(row, k, what)
        elif text:
            notes.append(f"column {text!r} not used")
    return columns, tuple(codes), tuple(notes)


def _one_line(sheet: Sheet, wanted: Wanted) -> Layout | None:
    """Return the layout of a line of numbers under a line of labels."""
    (axis,) = wanted.axes
    for row, heads in enumerate(sheet.head):
        hits = [k for k in _filled(heads) if heads[k] in axis.places]
        if len(hits) < 2 or 2 * len(hits) < len(_filled(heads)[1:]) or hits[0] == 0:
            continue
        columns, codes, notes = _across(sheet, row, hits[0], axis)
        return Layout(row, [hits[0] - 1], columns, None, axis, codes, notes)
    return None


# ---------------------------------------------------------------------- columns known by their labels alone


def _by_labels(sheet: Sheet, wanted: Wanted) -> Layout | None:
    """Return the layout of a long table whose label columns have other headings, if their labels leave no doubt."""
    row = next((k for k, cells in enumerate(sheet.head) if len(_filled(cells)) > len(wanted.axes)), None)
    if row is None:
        return None
    heads = sheet.head[row]
    columns, notes = [], []
    for axis in wanted.axes:
        fits = [k for k in _filled(heads) if _all_labels(sheet, row, k, axis)]
        if len(fits) != 1 or heads[fits[0]] in axis.places:  # a line of the table, and its headings are elsewhere
            return None
        columns += fits
        notes.append(f"column {heads[fits[0]]!r} holds {axis.name}, as its labels show")
    if len(set(columns)) < len(columns):
        return None
    return _with_values(sheet, row, columns, wanted, notes)


def _all_labels(sheet: Sheet, header: int, column: int, axis: Axis) -> bool:
    texts = _below(sheet, header, column)
    return bool(texts) and all(text in axis.places or is_total(text) for text in texts)


def _not_found(sheet: Sheet, wanted: Wanted) -> FormatError:
    """Return the error of a table that was not found, with what is there."""
    names = [axis.name for axis in wanted.axes]
    row = max(range(len(sheet.head)), key=lambda k: (len(_filled(sheet.head[k])) > 1, -k), default=0)
    heads = [text for text in sheet.head[row] if text] if sheet.head else []
    lacking = [name for name in names if heading(heads, name) is None]
    found = f"the columns are {listed(map(repr, heads))}" if heads else "it is empty"
    if len(names) == 2:
        return sheet.error(
            row, None,
            f"no table of {wanted.name} over {names[0]} and {names[1]}: neither columns of these names, nor a two-way "
            f"table with the labels of one across and of the other down; {found}",
        )  # fmt: skip
    near = [known(name, heads) for name in lacking]
    hint = f"; {near[0]}" if near and near[0].startswith("did you mean") else ""
    return sheet.error(row, None, f"column {listed(map(repr, lacking))} not found; {found}{hint}")
