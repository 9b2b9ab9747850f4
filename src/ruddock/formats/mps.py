"""Reading MPS files, fixed and free form.

Lines are split at blanks, which reads both forms as long as names hold none. A file with blanks in
its names is read again by the columns of the fixed form. The large sections are parsed as blocks, COLUMNS
by a kernel; where a block is odd, its lines are gone through one by one to say what and where.
"""

from __future__ import annotations

import re
import warnings
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from scipy.sparse import coo_matrix, csc_matrix

from ruddock.engine.kernels import COMPILED
from ruddock.errors import FormatError, RuddockWarning, known, listed
from ruddock.formats.files import read_content
from ruddock.formats.mps_kernel import ColumnScanner
from ruddock.modelling.axis import Axis
from ruddock.modelling.model import Model
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem

FIXED = ((1, 3), (4, 12), (14, 22), (24, 36), (39, 47), (49, 61))
SECTIONS = ("NAME", "OBJSENSE", "OBJNAME", "ROWS", "COLUMNS", "RHS", "RANGES", "BOUNDS", "ENDATA")
OTHER_CLASSES = {
    "QUADOBJ": "quadratic objectives",
    "QMATRIX": "quadratic objectives",
    "QSECTION": "quadratic objectives",
    "QCMATRIX": "quadratic constraints",
    "CSECTION": "conic constraints",
    "SOS": "special ordered sets",
    "SOS1": "special ordered sets",
    "SOS2": "special ordered sets",
    "SETS": "special ordered sets",
    "INDICATORS": "indicator constraints",
    "GENCONS": "general constraints",
    "PWLOBJ": "piecewise-linear objectives",
    "NETWORK": "network blocks",
}
HEADING = re.compile(rb"\n[^\s*]")  # in the first place of a line
SHORTEST = 6  # bytes of the shortest line: a blank, two names and a number, with what parts and ends them
INFINITE = 1e30  # numbers of this size and more mean no limit
ROW_KINDS = ("N", "L", "G", "E")
BOUND_KINDS = ("UP", "LO", "FX", "FR", "MI", "PL", "BV", "LI", "UI", "SC")
NO_VALUE = ("FR", "MI", "PL", "BV")


class _OddFieldsError(Exception):
    """A line whose blanks do not separate what they should; maybe names hold blanks."""

    def __init__(self, line: int, message: str) -> None:
        super().__init__(message)
        self.line, self.message = line, message


@dataclass
class _Body:
    """The lines below a heading, by their place in the file."""

    content: bytes
    begin: int
    end: int

    @property
    def first(self) -> int:
        """The number of the first line; counted when an error or a warning needs it."""
        return self.content.count(b"\n", 0, self.begin) + 1

    @cached_property
    def text(self) -> str:
        """The lines, decoded."""
        return self.content[self.begin : self.end].decode("utf-8")

    def lines(self) -> list[tuple[int, str]]:
        """Return number and text of each line that is neither blank nor a comment."""
        numbered = enumerate(self.text.splitlines(), self.first)
        return [(number, text) for number, text in numbered if text.strip() and text[0] != "*"]

    def tokens(self, width: int) -> list[str] | None:
        """Return all tokens if every line plainly holds ``width`` of them; None calls for a closer look."""
        text = self.text
        if text.startswith("*") or "\n*" in text:
            return None
        tokens = text.split()
        return tokens if len(tokens) == width * text.count("\n") else None


@dataclass
class _Sections:
    """What the headings say, and the bodies below them."""

    name: str = ""
    maximize: bool = False
    objective: str | None = None
    bodies: dict[str, _Body] = field(default_factory=dict)

    def lines(self, section: str) -> list[tuple[int, str]]:
        """Return the lines of a section; none if it is missing."""
        return self.bodies[section].lines() if section in self.bodies else []


def read_mps(path: Path) -> Model:
    """Read an MPS file into a `Model` whose members go by the file's names.

    Raises
    ------
    FormatError
        With the number and text of the line.
    """
    content = read_content(path)
    reader = _Reader(str(path), content)
    try:
        return reader.read(fixed=False)
    except _OddFieldsError as odd:
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error", RuddockWarning)
                return _Reader(str(path), content).read(fixed=True)
        except (_OddFieldsError, FormatError, RuddockWarning):
            raise reader.error(odd.line, odd.message) from None


_Columns = tuple["pd.Index[str]", csc_matrix, Floats, np.ndarray]  # names, matrix, costs, which are integer


class _Scanned:
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

    def columns(self) -> _Columns | None:
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

    def sides(self, body: _Body) -> tuple[np.ndarray, Floats] | None:
        """Return rows and numbers of right sides or ranges, or None if a line is odd or a row stands twice."""
        found = self.scanner.scan_sides(body.begin, body.end)
        if found is None or (len(found[0]) and np.bincount(found[0]).max() > 1):
            return None
        return self.order[found[0]], found[1]


class _Reader:
    """One pass over a file, in fixed or free form."""

    def __init__(self, path: str, content: bytes) -> None:
        self.path, self.content = path, content
        self.fixed = False
        self.scanned: _Scanned | None = None

    @cached_property
    def lines(self) -> list[str]:
        """All lines of the file, for messages."""
        return self.content.decode("utf-8").splitlines()

    def error(self, line: int, message: str) -> FormatError:
        return FormatError(message, path=self.path, line=line, text=self.lines[line - 1].rstrip()[:100])

    def warn(self, line: int, message: str) -> None:
        warnings.warn(f"{self.path}, line {line}: {message}", RuddockWarning, stacklevel=5)

    def number(self, line: int, text: str) -> float:
        try:
            value = float(text)
        except ValueError:
            try:
                value = float(text.upper().replace("D", "E"))
            except ValueError:
                raise _OddFieldsError(line, f"{text!r} is not a number") from None
        if value != value:
            raise self.error(line, "NaN is not a number to solve with")
        return float("inf") if value >= INFINITE else float("-inf") if value <= -INFINITE else value

    def fields(self, line: int, text: str) -> list[str]:
        """Return the fields of a data line; in fixed form the first may be empty."""
        if not self.fixed:
            return text.split()
        text = text.expandtabs().ljust(61)
        parts = [text[a:b].strip() for a, b in FIXED]
        while parts and not parts[-1]:
            parts.pop()
        return parts

    # ------------------------------------------------------------------ sections

    def read(self, fixed: bool) -> Model:
        self.fixed = fixed
        sections = self.split()
        names, kinds, objective = self.scanned.row_parts if self.scanned else self.rows(sections)
        parts = self.scanned.columns() if self.scanned else None
        if parts is None:
            self.scanned = None
            parts = self.columns_one_by_one(sections, names, objective)
        columns, matrix, costs, integer = parts
        lower, upper = self.limits(names, kinds)
        offset = self.right_sides(sections, names, kinds, objective, lower, upper)
        marks = np.where(integer, INTEGER, 0).astype(np.uint8)
        low, high = np.zeros(len(columns)), np.full(len(columns), np.inf)
        self.bounds(sections, columns, low, high, marks)
        if objective >= 0:
            lower, upper = np.delete(lower, objective), np.delete(upper, objective)
        bad = np.flatnonzero((low == np.inf) | (high == -np.inf))
        if len(bad):
            raise FormatError(f"bounds of {listed(columns[bad])} leave no value", path=self.path)
        sign = -1.0 if sections.maximize else 1.0
        problem = Problem.build(matrix, lower, upper, low, high, sign * costs, marks, sign * offset)
        return Model._from_problem(
            sections.name or Path(self.path).name.split(".")[0],
            problem,
            Axis.of_different("column", columns),
            Axis.of_different("row", names.delete(objective) if objective >= 0 else names),
            str(names[objective]) if objective >= 0 else "objective",
            maximize=sections.maximize,
        )

    def split(self) -> _Sections:
        """Find the headings, which stand in the first place of a line, and what they say."""
        found, content = _Sections(), self.content
        head = 0 if re.match(rb"[^\s*]", content) else self.heading(0)
        before = _Body(content, 0, head).lines()
        if before:
            raise self.error(before[0][0], "data before the first section; a file begins with NAME or ROWS")
        ended = False
        while head < len(content) and not ended:
            stop = content.find(b"\n", head) + 1 or len(content)
            words = content[head:stop].decode("utf-8").split()
            section = words[0].upper()
            self.check_heading(found, head, words[0])
            following = self.scan(found, stop) if section == "COLUMNS" else None
            if following is None:
                following = self.heading(stop)
            found.bodies[section] = _Body(content, stop, following)
            if section == "ENDATA":
                ended = True
            elif section == "NAME":
                found.name = content[head:stop].decode("utf-8").strip()[4:].strip()
            elif section == "OBJSENSE":
                for line, text in [(self.line_at(head), " ".join(words[1:])), *found.bodies[section].lines()]:
                    if text:
                        self.sense(found, line, text)
            elif section == "OBJNAME":
                self.scanned = None  # the columns were read for another objective
                for _, text in found.bodies[section].lines():
                    found.objective = text.strip()
            head = following
        if not ended:
            raise FormatError(
                "the file ends without ENDATA; it may be cut off", path=self.path, line=len(self.lines) or 1
            )
        for needed in ("ROWS", "COLUMNS"):
            if needed not in found.bodies:
                raise FormatError(f"the section {needed} is missing", path=self.path)
        return found

    def heading(self, at: int) -> int:
        """Return the place of the first heading after ``at``, which begins a line; the end if there is none."""
        match = HEADING.search(self.content, max(at - 1, 0))
        return match.start() + 1 if match else len(self.content)

    def scan(self, sections: _Sections, start: int) -> int | None:
        """Read COLUMNS by the kernel; return the place of the next heading, None where anything is odd."""
        if self.fixed or not COMPILED or "ROWS" not in sections.bodies:
            return None
        scanned = _Scanned(self.content, start, self.rows(sections))
        if not scanned.scanner.complete:
            return None
        self.scanned = scanned
        return scanned.end

    def line_at(self, place: int) -> int:
        """Return the number of the line that a place of the file stands in."""
        return self.content.count(b"\n", 0, place) + 1

    def check_heading(self, found: _Sections, head: int, word: str) -> None:
        """Raise for a heading that is unknown, of another problem class, or there already."""
        section = word.upper()
        if section in OTHER_CLASSES:
            what = OTHER_CLASSES[section]
            raise self.error(
                self.line_at(head), f"the section {section} is for {what}; Ruddock reads linear and integer models"
            )
        if section not in SECTIONS:
            hint = known(section, SECTIONS)
            raise self.error(self.line_at(head), f"{word!r} is no section ({hint}); data lines begin with a blank")
        if section in found.bodies:
            raise self.error(self.line_at(head), f"the section {section} stands a second time")

    def sense(self, found: _Sections, number: int, text: str) -> None:
        word = text.strip().upper()
        if word not in ("MAX", "MAXIMIZE", "MAXIMISE", "MIN", "MINIMIZE", "MINIMISE"):
            raise self.error(number, f"the sense of the objective is MAX or MIN, not {text.strip()!r}")
        found.maximize = word.startswith("MAX")

    def rows(self, sections: _Sections) -> tuple[pd.Index[str], np.ndarray, int]:
        """Return row names, their kinds, and the number of the objective's row (-1: none)."""
        tokens = None if self.fixed else sections.bodies["ROWS"].tokens(2)
        if tokens is not None and set(tokens[::2]) <= set(ROW_KINDS):
            kinds, names = tokens[::2], tokens[1::2]
        else:
            kinds, names = self.rows_one_by_one(sections)
        index = pd.Index(names, dtype=object)
        if not index.is_unique:
            at = int(np.argmax(index.duplicated()))
            raise self.error(sections.lines("ROWS")[at][0], f"the row {names[at]!r} stands a second time")
        if sections.objective is not None:
            if sections.objective not in index:
                raise FormatError(f"OBJNAME names {sections.objective!r}, which is no row", path=self.path)
            at = names.index(sections.objective)
            kinds[at] = "N"
            return index, np.array(kinds, dtype="U1"), at
        return index, np.array(kinds, dtype="U1"), kinds.index("N") if "N" in kinds else -1

    def rows_one_by_one(self, sections: _Sections) -> tuple[list[str], list[str]]:
        """Return kinds and names of the rows line by line, so that an error can be told with its line."""
        kinds, names = [], []
        for number, text in sections.lines("ROWS"):
            parts = self.fields(number, text)
            if len(parts) != 2:
                raise _OddFieldsError(number, "a row needs a kind and a name")
            if parts[0].upper() not in ROW_KINDS:
                raise self.error(number, f"the kind of a row is N, L, G or E, not {parts[0]!r}")
            kinds.append(parts[0].upper())
            names.append(parts[1])
        return kinds, names

    def columns_one_by_one(self, sections: _Sections, rows: pd.Index[str], objective: int) -> _Columns:
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
                    raise self.error(number, "a marker is 'INTORG' or 'INTEND'")
                continue
            numbers.append(number)
            texts.append(text)
        names, row_names, values, line_of = self.slow_frame(numbers, texts)
        codes, columns = pd.factorize(names)
        self.check_grouped(codes, line_of, columns)
        row_codes = rows.get_indexer(pd.Index(row_names, dtype=object))
        if (row_codes < 0).any():
            at = int(np.argmax(row_codes < 0))
            raise _OddFieldsError(line_of[at], f"there is no row {row_names[at]!r}; {known(str(row_names[at]), rows)}")
        key = codes.astype(np.int64) * max(1, len(rows)) + row_codes
        order = np.argsort(key, kind="stable")
        same = key[order][1:] == key[order][:-1]
        if same.any():
            at = int(order[1:][same].min())
            raise self.error(line_of[at], f"column {names[at]!r} has a second entry in row {row_names[at]!r}")
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

    def slow_frame(self, numbers: list[int], texts: list[str]) -> Any:
        """Parse COLUMNS lines one by one, so that an error can be told with its line."""
        names, rows, values, lines = [], [], [], []
        for number, text in zip(numbers, texts, strict=True):
            parts = self.fields(number, text)
            if self.fixed:
                parts = parts[1:]
            if len(parts) not in (3, 5):
                raise _OddFieldsError(
                    number,
                    f"a column's line holds its name and one or two pairs of row and number, not {len(parts)} fields",
                )
            for row, value in zip(parts[1::2], parts[2::2], strict=True):
                number_ = self.number(number, value)
                if not np.isfinite(number_):
                    raise self.error(number, f"the coefficient {value} is infinite")
                names.append(parts[0])
                rows.append(row)
                values.append(number_)
                lines.append(number)
        return np.array(names, object), np.array(rows, object), np.array(values, float), np.array(lines, int)

    def check_grouped(self, codes: np.ndarray, line_of: np.ndarray, columns: Any) -> None:
        """Raise if the lines of a column do not stand together."""
        back = np.flatnonzero(np.diff(codes) < 0)
        if len(back):
            at = int(back[0]) + 1
            raise self.error(
                int(line_of[at]),
                f"column {columns[codes[at]]!r} goes on after another column; its lines must stand together",
            )

    def limits(self, names: pd.Index[str], kinds: np.ndarray) -> tuple[Floats, Floats]:
        """Return row limits before right sides: zero on the sides that the kind limits."""
        lower = np.where((kinds == "G") | (kinds == "E"), 0.0, -np.inf)
        upper = np.where((kinds == "L") | (kinds == "E"), 0.0, np.inf)
        return lower, upper

    def pairs(self, sections: _Sections, section: str, names: pd.Index[str]) -> tuple[np.ndarray, Floats]:
        """Return rows and numbers of RHS or RANGES, whose set's name may be left out."""
        body = sections.bodies.get(section)
        if body is None:
            return np.zeros(0, int), np.zeros(0)
        scanned = self.scanned.sides(body) if self.scanned is not None else None
        return scanned or self.pairs_one_by_one(sections, section, names)

    def pairs_one_by_one(self, sections: _Sections, section: str, names: pd.Index[str]) -> tuple[np.ndarray, Floats]:
        """Return the same line by line, so that an error can be told with its line."""
        place = {name: i for i, name in enumerate(names)}
        word = "right side" if section == "RHS" else "range"
        found: dict[int, float] = {}
        chosen: str | None = None
        for number, text in sections.lines(section):
            parts = self.fields(number, text)
            if self.fixed:
                parts = parts[1:]
            if not self.fixed and len(parts) in (2, 4):
                parts = ["", *parts]
            if len(parts) not in (3, 5):
                raise _OddFieldsError(number, f"a line of {section} holds one or two pairs of row and number")
            if chosen is None:
                chosen = parts[0]
            if parts[0] not in (chosen, ""):
                self.warn(number, f"the second {section} set {parts[0]!r} is not used, only {chosen!r}")
                continue
            for row, value in zip(parts[1::2], parts[2::2], strict=True):
                if row not in place:
                    raise _OddFieldsError(number, f"there is no row {row!r}; {known(row, place)}")
                if place[row] in found:
                    raise self.error(number, f"row {row!r} has a second {word}")
                found[place[row]] = self.number(number, value)
        return np.array(list(found), int), np.array(list(found.values()), float)

    def right_sides(
        self,
        sections: _Sections,
        names: pd.Index[str],
        kinds: np.ndarray,
        objective: int,
        lower: Floats,
        upper: Floats,
    ) -> float:
        """Fill in right sides and ranges; return the objective's constant."""
        rows, values = self.pairs(sections, "RHS", names)
        # the convention of the form: the constant is the negated right side
        offset = -float(values[rows == objective].sum()) + 0.0
        limited = kinds[rows] != "N"
        rows, values = rows[limited], values[limited]
        lower[rows] = np.where(np.isfinite(lower[rows]), values, lower[rows])
        upper[rows] = np.where(np.isfinite(upper[rows]), values, upper[rows])
        rows, values = self.pairs(sections, "RANGES", names)
        unlimited = {str(name) for name in names[rows[kinds[rows] == "N"]]}
        for number, text in sections.lines("RANGES") if unlimited else []:
            for name in unlimited.intersection(self.fields(number, text)):
                self.warn(number, f"row {name!r} has no limit, so its range means nothing")
        kind, width = kinds[rows], np.abs(values)
        down = (kind == "L") | ((kind == "E") & (values <= 0))
        up = (kind == "G") | ((kind == "E") & (values > 0))
        lower[rows[down]] = upper[rows[down]] - width[down]
        upper[rows[up]] = lower[rows[up]] + width[up]
        return offset

    def bounds(
        self, sections: _Sections, columns: pd.Index[str], lower: Floats, upper: Floats, marks: np.ndarray
    ) -> None:
        """Apply the BOUNDS section."""
        if "BOUNDS" not in sections.bodies:
            return
        place = {name: j for j, name in enumerate(columns)}
        with_lower: set[int] = set()
        chosen: str | None = None
        for number, text in sections.lines("BOUNDS"):
            parts = self.fields(number, text)
            kind = parts[0].upper() if parts else ""
            if kind not in BOUND_KINDS:
                raise self.error(number, f"the kind of a bound is one of {', '.join(BOUND_KINDS)}, not {kind!r}")
            least = 3 if kind in NO_VALUE else 4
            if not self.fixed and (
                len(parts) == least - 1
                or (kind in NO_VALUE and len(parts) == 3 and parts[1] in place and parts[2] not in place)
            ):
                parts = [parts[0], "", *parts[1:]]  # the set's name is left out
            if kind == "SC" and len(parts) == 3:
                parts.append("inf")
            if len(parts) < least:
                raise _OddFieldsError(
                    number, f"a bound {kind} needs a column" + ("" if kind in NO_VALUE else " and a number")
                )
            if chosen is None:
                chosen = parts[1]
            if parts[1] not in (chosen, ""):
                self.warn(number, f"the second BOUNDS set {parts[1]!r} is not used, only {chosen!r}")
                continue
            if parts[2] not in place:
                raise _OddFieldsError(number, f"there is no column {parts[2]!r}; {known(parts[2], place)}")
            j = place[parts[2]]
            value = self.number(number, parts[3]) if kind not in NO_VALUE else 0.0
            self.bound(number, kind, j, value, str(columns[j]), lower, upper, marks, with_lower)

    def bound(
        self,
        number: int,
        kind: str,
        j: int,
        value: float,
        name: str,
        lower: Floats,
        upper: Floats,
        marks: np.ndarray,
        with_lower: set[int],
    ) -> None:
        """Apply one bound."""
        if kind in ("LI", "UI", "BV"):
            marks[j] |= INTEGER
        if kind in ("LO", "LI"):
            lower[j] = value
            with_lower.add(j)
        elif kind in ("UP", "UI"):
            upper[j] = value
            if value < 0 and lower[j] == 0 and j not in with_lower:
                lower[j] = -np.inf
                self.warn(
                    number, f"column {name!r} has a negative upper bound and no lower one: read as unlimited below"
                )
        elif kind == "FX":
            lower[j] = upper[j] = value
            with_lower.add(j)
        elif kind == "FR":
            lower[j], upper[j] = -np.inf, np.inf
        elif kind == "MI":
            lower[j] = -np.inf
            with_lower.add(j)
        elif kind == "PL":
            upper[j] = np.inf
        elif kind == "BV":
            lower[j], upper[j] = 0.0, 1.0
            with_lower.add(j)
        else:  # SC
            marks[j] |= SEMICONTINUOUS
            upper[j] = value
