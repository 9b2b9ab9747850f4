"""The sections ROWS and COLUMNS: by a kernel where all is plain, line by line where anything is odd."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from scipy.sparse import coo_matrix, csc_matrix

from ruddock.engine.kernels import COMPILED
from ruddock.errors import FormatError, known
from ruddock.formats.mps.kernel import ColumnScanner
from ruddock.formats.mps.sections import Sections
from ruddock.formats.mps.source import Body, OddFieldsError, Source
from ruddock.problem import Floats

ROW_KINDS = ("N", "L", "G", "E")
SHORTEST = 6  # bytes of the shortest line: a blank, two names and a number, with what parts and ends them
Columns = tuple["pd.Index[str]", csc_matrix, Floats, np.ndarray]  # names, matrix, costs, which are integer


class Scanned:
    """The columns as the kernel read them; it looks for the objective's row at the end of all."""

    def __init__(self, content: bytes, start: int, row_parts: tuple[pd.Index[str], np.ndarray, int]) -> None:
        self.row_parts = row_parts
        names, _, objective = row_parts
        self.order = np.arange(len(names), dtype=np.int32)
        if objective >= 0:
            self.order = np.append(np.delete(self.order, objective), np.int32(objective))
        encoded = "\n".join([*names[self.order], ""]).encode()
        size = (len(content) - start) // SHORTEST + 2 * len(names) + 1
        self.scanner = ColumnScanner(content, encoded, size, objective >= 0)
        self.end = self.scanner.scan(start)

    def columns(self) -> Columns | None:
        """Return the columns, or None if a column or an entry stands twice."""
        scanner = self.scanner
        n, size = scanner.columns, scanner.entries
        if not scanner.names_differ():
            return None
        names = pd.Index(scanner.column_names().decode().split("\n") if n else [], dtype=object)
        # sliced first: an array that is a small part of its base would be copied
        starts, rows = np.asarray(scanner.starts[: n + 1]), np.asarray(scanner.rows[:size])
        shape = (len(self.order) - (self.row_parts[2] >= 0), n)
        matrix = csc_matrix((np.asarray(scanner.values[:size]), rows, starts), shape=shape)
        if not matrix.has_canonical_format:
            matrix.sum_duplicates()
            if matrix.nnz < size:
                return None
        return names, matrix, np.asarray(scanner.costs)[:n], np.asarray(scanner.integer)[:n].astype(bool)

    def sides(self, body: Body) -> tuple[np.ndarray, Floats] | None:
        """Return rows and numbers of right sides or ranges, or None if a line is odd or a row stands twice."""
        found = self.scanner.scan_sides(body.begin, body.end)
        if found is None or (len(found[0]) and np.bincount(found[0]).max() > 1):
            return None
        return self.order[found[0]], found[1]


def scan(source: Source, sections: Sections, start: int) -> Scanned | None:
    """Read COLUMNS by the kernel; return None where anything is odd."""
    if source.fixed or not COMPILED or "ROWS" not in sections.bodies:
        return None
    scanned = Scanned(source.content, start, rows(source, sections))
    return scanned if scanned.scanner.complete else None


def rows(source: Source, sections: Sections) -> tuple[pd.Index[str], np.ndarray, int]:
    """Return row names, their kinds, and the number of the objective's row (-1: none)."""
    tokens = None if source.fixed else sections.bodies["ROWS"].tokens(2)
    if tokens is not None and set(tokens[::2]) <= set(ROW_KINDS):
        kinds, names = tokens[::2], tokens[1::2]
    else:
        kinds, names = rows_one_by_one(source, sections)
    index = pd.Index(names, dtype=object)
    if not index.is_unique:
        at = int(np.argmax(index.duplicated()))
        raise source.error(sections.lines("ROWS")[at][0], f"the row {names[at]!r} appears twice")
    if sections.objective is not None:
        if sections.objective not in index:
            raise FormatError(f"OBJNAME names {sections.objective!r}, which is not a row", path=source.path)
        at = names.index(sections.objective)
        kinds[at] = "N"
        return index, np.array(kinds, dtype="U1"), at
    return index, np.array(kinds, dtype="U1"), kinds.index("N") if "N" in kinds else -1


def rows_one_by_one(source: Source, sections: Sections) -> tuple[list[str], list[str]]:
    """Return kinds and names of the rows line by line, so that an error can be told with its line."""
    kinds, names = [], []
    for number, text in sections.lines("ROWS"):
        parts = source.fields(number, text)
        if len(parts) != 2:
            raise OddFieldsError(number, "a row needs a kind and a name")
        if parts[0].upper() not in ROW_KINDS:
            raise source.error(number, f"the kind of a row is N, L, G or E, not {parts[0]!r}")
        kinds.append(parts[0].upper())
        names.append(parts[1])
    return kinds, names


def columns_one_by_one(source: Source, sections: Sections, rows: pd.Index[str], objective: int) -> Columns:
    """Return the columns line by line, so that an error can be told with its line."""
    numbers: list[int] = []
    texts: list[str] = []
    changes: list[tuple[int, bool]] = []
    for number, text in sections.lines("COLUMNS"):
        if "'MARKER'" in text:
            if "'INTORG'" in text:
                changes.append((len(texts), True))
            elif "'INTEND'" in text:
                changes.append((len(texts), False))
            else:
                raise source.error(number, "a marker is 'INTORG' or 'INTEND'")
            continue
        numbers.append(number)
        texts.append(text)
    names, row_names, values, line_of = slow_frame(source, numbers, texts)
    codes, columns = pd.factorize(names)
    check_grouped(source, codes, line_of, columns)
    row_codes = rows.get_indexer(pd.Index(row_names, dtype=object))
    if (row_codes < 0).any():
        at = int(np.argmax(row_codes < 0))
        raise OddFieldsError(line_of[at], f"row {row_names[at]!r} is not defined; {known(str(row_names[at]), rows)}")
    key = codes.astype(np.int64) * max(1, len(rows)) + row_codes
    order = np.argsort(key, kind="stable")
    same = key[order][1:] == key[order][:-1]
    if same.any():
        at = int(order[1:][same].min())
        raise source.error(line_of[at], f"column {names[at]!r} has a second entry in row {row_names[at]!r}")
    place = np.searchsorted(numbers, line_of)
    inside = np.zeros(len(texts) + 1, dtype=bool)
    for at, on in changes:
        inside[at:] = on
    integer = np.zeros(len(columns), dtype=bool)
    integer[codes[inside[place]]] = True
    own = row_codes == objective
    costs = np.bincount(codes[own], values[own], len(columns)).astype(float)
    others = np.where(row_codes > objective, row_codes - 1, row_codes) if objective >= 0 else row_codes
    shape = (len(rows) - (objective >= 0), len(columns))
    matrix = coo_matrix((values[~own], (others[~own], codes[~own])), shape=shape).tocsc()
    return pd.Index(columns, dtype=object), matrix, costs, integer


def slow_frame(source: Source, numbers: list[int], texts: list[str]) -> Any:
    """Parse COLUMNS lines one by one, so that an error can be told with its line."""
    names, rows, values, lines = [], [], [], []
    for number, text in zip(numbers, texts, strict=True):
        parts = source.fields(number, text)
        if source.fixed:
            parts = parts[1:]
        if len(parts) not in (3, 5):
            raise OddFieldsError(
                number,
                f"a column's line holds its name and one or two pairs of row and number, not {len(parts)} fields",
            )
        for row, value in zip(parts[1::2], parts[2::2], strict=True):
            number_ = source.number(number, value)
            if not np.isfinite(number_):
                raise source.error(number, f"the coefficient {value} is infinite")
            names.append(parts[0])
            rows.append(row)
            values.append(number_)
            lines.append(number)
    return np.array(names, object), np.array(rows, object), np.array(values, float), np.array(lines, int)


def check_grouped(source: Source, codes: np.ndarray, line_of: np.ndarray, columns: Any) -> None:
    """Raise if the lines of a column do not stand together."""
    back = np.flatnonzero(np.diff(codes) < 0)
    if len(back):
        at = int(back[0]) + 1
        raise source.error(
            int(line_of[at]),
            f"column {columns[codes[at]]!r} continues after another column; its lines must follow one another",
        )
