"""Reading MPS files, fixed and free form.

Lines are split at blanks, which reads both forms as long as names hold none. A file with blanks in
its names is read again by the columns of the fixed form. The big section, COLUMNS, is parsed as a
block.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass, field
from io import StringIO
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from scipy.sparse import coo_matrix

from ruddock.errors import FormatError, RuddockWarning, known, listed
from ruddock.formats.files import read_text
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
BOUND_KINDS = ("UP", "LO", "FX", "FR", "MI", "PL", "BV", "LI", "UI", "SC")
NO_VALUE = ("FR", "MI", "PL", "BV")


class _OddFieldsError(Exception):
    """A line whose blanks do not separate what they should; maybe names hold blanks."""

    def __init__(self, line: int, message: str) -> None:
        super().__init__(message)
        self.line, self.message = line, message


@dataclass
class _Sections:
    """The lines of each section, without comments: their numbers and texts."""

    name: str = ""
    maximize: bool = False
    objective: str | None = None
    lines: dict[str, list[tuple[int, str]]] = field(default_factory=dict)


def read_mps(path: Path) -> Model:
    """Read an MPS file into a `Model` whose members go by the file's names.

    Raises
    ------
    FormatError
        With the number and text of the line.
    """
    lines = read_text(path).splitlines()
    reader = _Reader(str(path), lines)
    try:
        return reader.read(fixed=False)
    except _OddFieldsError as odd:
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error", RuddockWarning)
                return _Reader(str(path), lines).read(fixed=True)
        except (_OddFieldsError, FormatError, RuddockWarning):
            raise reader.error(odd.line, odd.message) from None


class _Reader:
    """One pass over a file, in fixed or free form."""

    def __init__(self, path: str, lines: list[str]) -> None:
        self.path, self.lines = path, lines
        self.fixed = False

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
        return float("inf") if value >= 1e30 else float("-inf") if value <= -1e30 else value

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
        names, kinds, free = self.rows(sections)
        columns, entries, integer = self.columns(sections, names)
        lower, upper = self.limits(names, kinds)
        offset = self.right_sides(sections, names, kinds, lower, upper)
        marks = np.where(integer, INTEGER, 0).astype(np.uint8)
        low, high = np.zeros(len(columns)), np.full(len(columns), np.inf)
        self.bounds(sections, columns, low, high, marks)
        return self.model(sections, names, free, columns, entries, lower, upper, low, high, marks, offset)

    def split(self) -> _Sections:
        """Sort the lines into sections and read the ones that say how to read the rest."""
        found = _Sections()
        section = ""
        ended = False
        for number, text in enumerate(self.lines, 1):
            if not text.strip() or text[0] == "*":
                continue
            if text[0] in " \t":
                if not section:
                    raise self.error(number, "data before the first section; a file begins with NAME or ROWS")
                if section == "OBJSENSE":
                    self.sense(found, number, text)
                elif section == "OBJNAME":
                    found.objective = text.strip()
                else:
                    found.lines[section].append((number, text))
                continue
            words = text.split()
            section = words[0].upper()
            if section in OTHER_CLASSES:
                raise self.error(
                    number,
                    f"the section {section} is for {OTHER_CLASSES[section]}; Ruddock reads linear and integer models",
                )
            if section not in SECTIONS:
                hint = known(section, SECTIONS)
                raise self.error(number, f"{words[0]!r} is no section ({hint}); data lines begin with a blank")
            if section == "ENDATA":
                ended = True
                break
            if section == "NAME":
                found.name = text.strip()[4:].strip()
            elif section == "OBJSENSE" and len(words) > 1:
                self.sense(found, number, words[1])
            elif section in found.lines and section not in ("NAME", "OBJSENSE", "OBJNAME"):
                raise self.error(number, f"the section {section} stands a second time")
            found.lines.setdefault(section, [])
        if not ended:
            raise FormatError("the file ends without ENDATA; it may be cut off", path=self.path, line=len(self.lines))
        for needed in ("ROWS", "COLUMNS"):
            if needed not in found.lines:
                raise FormatError(f"the section {needed} is missing", path=self.path)
        return found

    def sense(self, found: _Sections, number: int, text: str) -> None:
        word = text.strip().upper()
        if word not in ("MAX", "MAXIMIZE", "MAXIMISE", "MIN", "MINIMIZE", "MINIMISE"):
            raise self.error(number, f"the sense of the objective is MAX or MIN, not {text.strip()!r}")
        found.maximize = word.startswith("MAX")

    def rows(self, sections: _Sections) -> tuple[pd.Index[str], np.ndarray, int]:
        """Return row names, their kinds, and the number of the objective's row (-1: none)."""
        names, kinds = [], []
        for number, text in sections.lines["ROWS"]:
            parts = self.fields(number, text)
            if len(parts) != 2:
                raise _OddFieldsError(number, "a row needs a kind and a name")
            kind = parts[0].upper()
            if kind not in ("N", "L", "G", "E"):
                raise self.error(number, f"the kind of a row is N, L, G or E, not {parts[0]!r}")
            kinds.append(kind)
            names.append(parts[1])
        index = pd.Index(names, dtype=object)
        if not index.is_unique:
            at = int(np.argmax(index.duplicated()))
            raise self.error(sections.lines["ROWS"][at][0], f"the row {names[at]!r} stands a second time")
        if sections.objective is not None:
            if sections.objective not in index:
                raise FormatError(f"OBJNAME names {sections.objective!r}, which is no row", path=self.path)
            at = names.index(sections.objective)
            kinds[at] = "N"
            return index, np.array(kinds, dtype=object), at
        return index, np.array(kinds, dtype=object), kinds.index("N") if "N" in kinds else -1

    def columns(self, sections: _Sections, rows: pd.Index[str]) -> tuple[pd.Index[str], Any, np.ndarray]:
        """Return column names, the entries (row, column, value) and which columns are integer."""
        numbers: list[int] = []
        texts: list[str] = []
        changes: list[tuple[int, bool]] = []
        for number, text in sections.lines["COLUMNS"]:
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
        frame = self.fixed_frame(numbers, texts) if self.fixed else self.free_frame(numbers, texts)
        names, row_names, values, line_of = frame
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
        return pd.Index(columns, dtype=object), (row_codes, codes, values), integer

    def free_frame(self, numbers: list[int], texts: list[str]) -> Any:
        """Parse COLUMNS lines split at blanks, all at once; find the line if that fails."""
        lines = np.array(numbers)
        if not texts:
            return np.array([], object), np.array([], object), np.zeros(0), lines
        try:
            frame = pd.read_csv(
                StringIO("\n".join(texts)),
                sep=r"\s+",
                header=None,
                names=list(range(5)),
                dtype=object,
                quoting=3,
                keep_default_na=False,
                na_values=[""],
                index_col=False,
            )
            # numbers are converted as Python does, to the last digit
            first = frame[2].to_numpy(object).astype(float)
            second = frame[4].to_numpy(object).astype(float)
            if len(frame) != len(lines) or not (np.abs(first) < 1e30).all():
                raise ValueError
            if not ((np.abs(second) < 1e30) | frame[3].isna().to_numpy()).all():
                raise ValueError
        except (ValueError, pd.errors.ParserError, pd.errors.ParserWarning):
            return self.slow_frame(numbers, texts)
        return self.interleave(frame, first, second, lines)

    def interleave(self, frame: pd.DataFrame, first: Floats, second: Floats, lines: np.ndarray) -> Any:
        """Bring first and second entries of the lines into the order of the file."""
        names, rows = frame[0].to_numpy(object), frame[1].to_numpy(object)
        two = frame[3].notna().to_numpy()
        if not two.any():
            return names, rows, first, lines
        order = np.argsort(np.concatenate((np.arange(len(lines)) * 2, np.flatnonzero(two) * 2 + 1)))
        return (
            np.concatenate((names, names[two]))[order],
            np.concatenate((rows, frame[3].to_numpy(object)[two]))[order],
            np.concatenate((first, second[two]))[order],
            np.concatenate((lines, lines[two]))[order],
        )

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

    fixed_frame = slow_frame

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

    def pairs(self, sections: _Sections, section: str) -> list[tuple[int, str, str]]:
        """Return (line, row name, number) of RHS or RANGES, whose set's name may be left out."""
        result = []
        chosen: str | None = None
        for number, text in sections.lines.get(section, []):
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
            result += [(number, parts[k], parts[k + 1]) for k in range(1, len(parts), 2)]
        return result

    def right_sides(
        self, sections: _Sections, names: pd.Index[str], kinds: np.ndarray, lower: Floats, upper: Floats
    ) -> float:
        """Fill in right sides and ranges; return the objective's constant."""
        place = {name: i for i, name in enumerate(names)}
        objective = self.objective_row(sections, kinds, place)
        offset = 0.0
        seen: set[int] = set()
        for number, row, text in self.pairs(sections, "RHS"):
            i = self.row_of(place, number, row)
            if i in seen:
                raise self.error(number, f"row {row!r} has a second right side")
            seen.add(i)
            value = self.number(number, text)
            if kinds[i] == "N":
                if i == objective:
                    offset = -value  # the convention of the form: the constant is the negated right side
                continue
            if np.isfinite(lower[i]):
                lower[i] = value
            if np.isfinite(upper[i]):
                upper[i] = value
        seen.clear()
        for number, row, text in self.pairs(sections, "RANGES"):
            i = self.row_of(place, number, row)
            if i in seen:
                raise self.error(number, f"row {row!r} has a second range")
            seen.add(i)
            value = self.number(number, text)
            if kinds[i] == "N":
                self.warn(number, f"row {row!r} has no limit, so its range means nothing")
            elif kinds[i] == "L":
                lower[i] = upper[i] - abs(value)
            elif kinds[i] == "G" or value > 0:
                upper[i] = lower[i] + abs(value)
            else:
                lower[i] = upper[i] - abs(value)
        return offset

    def objective_row(self, sections: _Sections, kinds: np.ndarray, place: dict[str, int]) -> int:
        if sections.objective is not None:
            return place[sections.objective]
        free = np.flatnonzero(kinds == "N")
        return int(free[0]) if len(free) else -1

    def row_of(self, place: dict[str, int], number: int, name: str) -> int:
        if name not in place:
            raise _OddFieldsError(number, f"there is no row {name!r}; {known(name, place)}")
        return place[name]

    def bounds(
        self, sections: _Sections, columns: pd.Index[str], lower: Floats, upper: Floats, marks: np.ndarray
    ) -> None:
        """Apply the BOUNDS section."""
        place = {name: j for j, name in enumerate(columns)}
        with_lower: set[int] = set()
        chosen: str | None = None
        for number, text in sections.lines.get("BOUNDS", []):
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

    def model(
        self,
        sections: _Sections,
        names: pd.Index[str],
        objective: int,
        columns: pd.Index[str],
        entries: Any,
        lower: Floats,
        upper: Floats,
        low: Floats,
        high: Floats,
        marks: np.ndarray,
        offset: float,
    ) -> Model:
        """Put the parts together; the objective's row becomes the costs."""
        rows, codes, values = entries
        sign = -1.0 if sections.maximize else 1.0
        costs = np.zeros(len(columns))
        kept = np.arange(len(names))
        if objective >= 0:
            own = rows == objective
            costs[codes[own]] = sign * values[own]
            rows, codes, values = rows[~own], codes[~own], values[~own]
            rows = np.where(rows > objective, rows - 1, rows)
            kept = np.delete(kept, objective)
        matrix = coo_matrix((values, (rows, codes)), shape=(len(kept), len(columns)))
        bad = np.flatnonzero((low == np.inf) | (high == -np.inf))
        if len(bad):
            raise FormatError(f"bounds of {listed(columns[bad])} leave no value", path=self.path)
        problem = Problem.build(matrix, lower[kept], upper[kept], low, high, costs, marks, sign * offset)
        title = sections.name or Path(self.path).name.split(".")[0]
        name = str(names[objective]) if objective >= 0 else "objective"
        return Model._from_problem(
            title, problem, Axis("column", columns), Axis("row", names[kept]), name, maximize=sections.maximize
        )
