"""Data typed in the text itself, held against axes by label text."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from ruddock.characters import unquote
from ruddock.errors import DataError, known
from ruddock.formats.rdk.source import masked
from ruddock.formats.tables.numerals import is_endless, too_large
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.data import Data, data

TOKEN = re.compile(r'"(?:\\.|[^"\\\n])*"|[^\s,]+')
ABSENT = (".", "-")
ELSE = re.compile(r"[\s,]else\s+([-−–+]?(?:(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?|inf))\s*\Z")


class SlipError(DataError):
    """An error at a character of the text that was given."""

    def __init__(self, message: str, offset: int) -> None:
        super().__init__(message)
        self.offset = offset


def number(text: str, offset: int) -> float:
    """Return a number written in a file, thousands unseparated."""
    try:
        value = float(text.replace("−", "-").replace("–", "-"))
    except ValueError:
        raise SlipError(f"{text!r} is not a number", offset) from None
    if value != value:
        raise SlipError("NaN is not a number to calculate with", offset)
    if value in (np.inf, -np.inf) and not is_endless(text.lstrip("−–")):
        raise SlipError(too_large(text), offset)
    return value


def without_else(text: str) -> tuple[str, float | None]:
    """Return the numbers of an entry without a closing ``else NUMBER``, and that number: what absent ones are."""
    found = ELSE.search(text)
    return (text[: found.start()], number(found[1], 0)) if found else (text, None)


def inline(text: str, axes: tuple[Axis, ...], unit: str | None) -> Data:
    """Read numbers typed after a colon.

    One number holds for all combinations. Otherwise each entry is its labels and a number, separated by
    commas or lines: ``Fell 120, Mere 80``; two axes may be a grid whose first line holds the labels
    of the second axis.
    """
    tokens = [(match.group(), match.start()) for match in TOKEN.finditer(text)]
    if not tokens:
        raise SlipError("numbers are missing: write one number, or labels with numbers", 0)
    if len(tokens) == 1:
        return data(number(*tokens[0]), *axes, unit=unit)
    if not axes:
        raise SlipError("this has no axes, so it is one number", tokens[1][1])
    places = [{label: i for i, label in enumerate(axis.texts)} for axis in axes]
    lines = text.split("\n")
    first = [unquote(token) for token in TOKEN.findall(lines[0])]
    if len(axes) == 2 and len(lines) > 1 and first and all(label in places[1] for label in first):
        return _grid(text, lines, first, axes, places, unit)
    width = len(axes) + 1
    if len(tokens) % width:
        _find_odd_entry(text, width)
    columns = [[unquote(token) for token, _ in tokens[k::width]] for k in range(len(axes))]
    codes: list[Any] = []
    for axis, column, place in zip(axes, columns, places, strict=True):
        found = [place.get(label, -1) for label in column]
        if min(found) < 0:
            at = found.index(-1)
            offset = tokens[at * width + len(codes)][1]
            message = f"{column[at]!r} is not a label of axis {axis.name}; {known(column[at], axis.texts)}"
            raise SlipError(message, offset)
        codes.append(np.array(found, np.int32))
    texts = tokens[len(axes) :: width]
    try:
        values = np.array([text_ for text_, _ in texts]).astype(float)
    except ValueError:
        values = np.full(1, np.nan)
    if not np.isfinite(values).all():
        values = np.array([number(*token) for token in texts])
    return _held(axes, codes, values, unit, [offset for _, offset in tokens[::width]])


def _find_odd_entry(text: str, width: int) -> None:
    """Raise at the first entry that has too many or too few parts."""
    offset = 0
    for begin, end in _between_commas(text):
        part = text[begin:end]
        count = len(TOKEN.findall(part)) if part not in (",", "\n") else 0
        if count and count % width:
            raise SlipError(
                f"an entry is {width - 1} {'label' if width == 2 else 'labels'} and a number; here are {count} parts. "
                "A label with blanks or commas is quoted",
                offset + len(part) - len(part.lstrip()),
            )
        offset += len(part)
    raise SlipError("labels and numbers do not pair up; a label with blanks or commas is quoted", 0)


def _between_commas(text: str) -> list[tuple[int, int]]:
    """Return the spans between commas and line ends outside quotes, those marks as spans of their own."""
    spans, start = [], 0
    for found in re.finditer(r"[,\n]", masked(text)):
        spans += [(start, found.start()), found.span()]
        start = found.end()
    return [*spans, (start, len(text))]


def _grid(
    text: str, lines: list[str], across: list[str], axes: tuple[Axis, ...], places: list[dict[str, int]], unit: Any
) -> Data:
    """Read a two-way table; ``.`` or ``-`` marks a combination that does not exist."""
    down_codes, across_codes, values, offsets = [], [], [], []
    offset = len(lines[0]) + 1
    for line in lines[1:]:
        parts = [(match.group(), offset + match.start()) for match in TOKEN.finditer(line)]
        label = unquote(parts[0][0])
        if label not in places[0]:
            message = f"{label!r} is not a label of axis {axes[0].name}; {known(label, axes[0].texts)}"
            raise SlipError(message, parts[0][1])
        if len(parts) - 1 != len(across):
            raise SlipError(f"{len(parts) - 1} numbers for {len(across)} labels", parts[0][1])
        for (value, at), column in zip(parts[1:], across, strict=True):
            if value in ABSENT:
                continue
            down_codes.append(places[0][label])
            across_codes.append(places[1][column])
            values.append(number(value, at))
            offsets.append(at)
        offset += len(line) + 1
    codes = [np.array(down_codes, np.int32), np.array(across_codes, np.int32)]
    return _held(axes, codes, np.array(values), unit, offsets)


def _held(axes: tuple[Axis, ...], codes: list[Any], values: Any, unit: str | None, offsets: list[int]) -> Data:
    """Return data on these combinations, in the order of the axes; twice the same is an error at its place."""
    cells = Cells(axes, codes)
    keys = cells.keys()
    order = np.argsort(keys, kind="stable")
    same = np.flatnonzero(keys[order][1:] == keys[order][:-1])
    if len(same):
        at = int(order[same + 1].min())
        raise SlipError(f"{cells.text(at)} is given twice", offsets[at])
    if len(keys) == Cells(axes).size:
        return Data(Cells(axes), values[order], unit)
    return Data(cells.take(order), values[order], unit)
