"""Writing ``.rdk``: a text that reads back as the same model.

A family of constraints is written as sums of data times decisions. Where a constraint and a decision
share an axis, and every term stands at the same label of both, the text aligns by that axis. Otherwise the
decision is written on a copy of the axis (``place_2 : place``) and summed over it.
"""

from __future__ import annotations

import re
import warnings
from math import prod
from pathlib import Path
from typing import Any

import numpy as np

from ruddock.errors import RuddockWarning, listed
from ruddock.formats.files import write_text
from ruddock.formats.rdk.read import RESERVED
from ruddock.modelling.axis import NAME, Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.decisions import Decisions
from ruddock.modelling.expression import Expression
from ruddock.modelling.formulation import Constraints, Formulation
from ruddock.modelling.model import Model
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats

WIDTH = 100


def write_rdk(model: Model, path: Path) -> None:
    """Write a model in the text form, whole or not at all."""
    write_text(path, rdk_text(model))


def rdk_text(model: Model) -> str:
    """Return a model in the text form."""
    return _Writer(model.formulation()).text()


def text_of(value: float) -> str:
    """Return a number to the last digit, whole ones without a point."""
    if np.isfinite(value) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return repr(float(value))


def label(text: str) -> str:
    """Return a label as it is written: quoted unless it is a plain word or number."""
    return text if re.fullmatch(r"\w+(\.\w+)*", text) else f'"{text}"'


class _Writer:
    def __init__(self, formulation: Formulation) -> None:
        self.formulation = formulation
        self.taken: set[str] = set(RESERVED)
        self.renamed: dict[str, str] = {}
        self.axes: dict[str, Axis] = {}
        self.axis_names: dict[str, str] = {}
        self.copies: dict[tuple[str, int], str] = {}
        self.axis_lines: list[str] = []
        self.data_lines: list[str] = []
        self.scalar: dict[int, str] = {}  # names of decisions that are written one by one
        self.names: dict[int, str] = {}  # names of decision families, by first column

    def text(self) -> str:
        """Return the whole text."""
        f = self.formulation
        parts: tuple[Any, ...] = (*f.decisions, *f.constraints, *(q.expression for q in f.quantities))
        families: tuple[Any, ...] = (*f.decisions, *f.constraints)
        of_files = {axis.name for part in families if part.listed for axis in part.cells.axes}
        for axis in {axis.name: axis for part in parts for axis in part.cells.axes}.values():
            if axis.name not in of_files:
                self.axis(axis)
        decisions = [line for family in f.decisions for line in self.decisions(family)]
        goals = [line for goal in f.objectives for line in self.objective(goal)]
        quantities = [self.quantity(q.name, q.unit, q.expression) for q in f.quantities]
        require = [line for family in f.constraints for line in self.constraints(family)]
        lines = [f"model {' '.join(f.name.replace('#', ' ').split())}"]
        for heading, body in (
            ("axes", self.axis_lines), ("data", self.data_lines), ("decisions", decisions),
            (None, goals), ("quantities", quantities), ("require", require),
        ):  # fmt: skip
            if body:
                lines += [
                    "",
                    *([heading] if heading else []),
                    *(body if heading is None else (f"  {line}" for line in body)),
                ]
        if self.renamed:
            told = listed(f"{old!r} as {new!r}" for old, new in self.renamed.items())
            warnings.warn(f"names were written differently: {told}", RuddockWarning, stacklevel=6)
        return "\n".join(lines) + "\n"

    # ------------------------------------------------------------------ names and data

    def name(self, wanted: str, *, told: bool = True) -> str:
        """Return a free name near the wanted one."""
        plain = re.sub(r"\W", "_", wanted)
        if not NAME.match(plain):
            plain = "x_" + plain
        result, k = plain, 1
        while result in self.taken:
            k += 1
            result = f"{plain}_{k}"
        self.taken.add(result)
        if told and result != wanted:
            self.renamed[wanted] = result
        return result

    def axis(self, axis: Axis) -> str:
        """Declare an axis once and return its name."""
        if axis.name not in self.axis_names:
            written = self.name(axis.name)
            self.axis_names[axis.name] = written
            self.axes[axis.name] = axis
            self.axis_lines += _folded(f"{written} : ", [label(text) for text in axis.texts])
        return self.axis_names[axis.name]

    def copy(self, axis: Axis, number: int) -> str:
        """Declare a copy of an axis once and return its name."""
        key = (axis.name, number)
        if key not in self.copies:
            self.copies[key] = self.name(f"{axis.name}_{number}", told=False)
            self.axis_lines.append(f"{self.copies[key]} : {self.axis_names[axis.name]}")
        return self.copies[key]

    def data(self, wanted: str, axes: list[str], texts: list[list[str]], values: Floats) -> str:
        """Declare data, one entry for each combination, and return its name."""
        written = self.name(wanted, told=False)
        entries = [
            " ".join((*(label(t) for t in labels), text_of(v)))
            for *labels, v in zip(*texts, values.tolist(), strict=True)
        ]
        self.data_lines += _folded(f"{written}[{', '.join(axes)}] : ", entries)
        return written

    def per_cell(self, wanted: str, cells: Cells, values: Floats) -> str:
        """Return one number, or data that holds a number for each cell."""
        if len(values) and (values == values[0]).all():
            return text_of(float(values[0]))
        texts = [[axis.texts[c] for c in codes.tolist()] for axis, codes in zip(cells.axes, cells.codes, strict=True)]
        return self.data(wanted, [self.axis_names[n] for n in cells.names], texts, values)

    def always_data(self, wanted: str, cells: Cells, values: Floats) -> str:
        """Return data on the cells' axes even where one number would do: it repeats what it multiplies."""
        text = self.per_cell(wanted, cells, values)
        if len(values) and (values == values[0]).all():
            name = self.name(wanted, told=False)
            self.data_lines.append(f"{name}{self.brackets(cells)} : {text}")
            return name
        return text

    def where(self, wanted: str, cells: Cells) -> str:
        """Return the condition that keeps just these cells."""
        if cells.size == prod(cells.shape) or not cells.axes:
            return ""
        texts = [[axis.texts[c] for c in codes.tolist()] for axis, codes in zip(cells.axes, cells.codes, strict=True)]
        return " where " + self.data(wanted, [self.axis_names[n] for n in cells.names], texts, np.ones(cells.size))

    # ------------------------------------------------------------------ decisions

    def decisions(self, family: Decisions) -> list[str]:
        """Return the lines that declare a family; members of a file or of mixed kinds one by one."""
        first = self.formulation.starts[family.name]
        mixed = len(family) > 1 and len(np.unique(family.marks)) > 1
        if family.listed or mixed:
            names = [self.name(member) for member in family.members()]
            self.scalar |= {first + j: name for j, name in enumerate(names)}
            return [
                f"{name} {_domain(int(mark), text_of(float(low)), text_of(float(high)), float(low), float(high))}"
                for name, mark, low, high in zip(names, family.marks, family.lower, family.upper, strict=True)
            ]
        name = self.name(family.name)
        self.names[first] = name
        if not len(family):
            return [f"{name}{self.brackets(family.cells)} where 0 > 1 : >= 0"] if family.axes else []
        unit = f" ({family.unit})" if family.unit else ""
        where = self.where(f"{name}_held", family.cells)
        low = self.per_cell(f"{name}_lower", family.cells, family.lower)
        high = self.per_cell(f"{name}_upper", family.cells, family.upper)
        domain = _domain(
            int(family.marks[0]),
            low,
            high,
            float(family.lower.min()),
            float(family.upper.max()),
            family.kind == "binary",
        )
        return [f"{name}{self.brackets(family.cells)}{unit}{where}{' :' if where else ''} {domain}"]

    def brackets(self, cells: Cells) -> str:
        """Return the axes of a family as they stand after its name."""
        return f"[{', '.join(self.axis_names[n] for n in cells.names)}]" if cells.axes else ""

    # ------------------------------------------------------------------ expressions

    def objective(self, goal: Any) -> list[str]:
        """Return heading and lines of an objective."""
        name = self.name(goal.name)
        lines = [f"{'maximize' if goal.maximize else 'minimize'} {name}" + (f" ({goal.unit})" if goal.unit else "")]
        for part, expr in goal.parts.items():
            terms = self.terms(expr, f"{name}_{part}" if not goal.single else name)
            constant = float(expr.constants[0])
            if constant or not terms:
                terms.append(_signed(constant))
            start = "  " if goal.single else f"  {self.name(part, told=False) if part in RESERVED else part} : "
            lines += _joined(start, terms)
        return lines

    def quantity(self, name: str, unit: str | None, expr: Expression) -> str:
        """Return the line of a quantity."""
        written = self.name(name)
        terms = self.terms(expr, written)
        if expr.constants.any() or not terms:
            terms.append("+ " + self.per_cell(f"{written}_constant", expr.cells, expr.constants))
        head = f"{written}{self.brackets(expr.cells)}" + (f" ({unit})" if unit else "")
        return f"{head} : {' '.join(terms).removeprefix('+ ')}"

    def constraints(self, family: Constraints) -> list[str]:
        """Return the lines of a family; rows of a file one by one."""
        if family.listed:
            return self.rows_one_by_one(family)
        name = self.name(family.name)
        cells = family.cells
        if not cells.size:
            return []
        unit = f" ({family.unit})" if family.unit else ""
        where = self.where(f"{name}_held", cells)
        terms = self.terms(family.expression, name) or self.nothing(name, cells)
        body = self.relation(name, cells, family.lower, family.upper, terms)
        return _joined(f"{name}{self.brackets(cells)}{unit}{where} : ", body)

    def relation(self, name: str, cells: Cells, lower: Floats, upper: Floats, terms: list[str]) -> list[str]:
        """Return terms with their limits."""
        if (lower == upper).all():
            return [*terms, f"= {self.per_cell(f'{name}_limit', cells, upper)}"]
        if np.isneginf(lower).all():
            return [*terms, f"<= {self.per_cell(f'{name}_limit', cells, upper)}"]
        if np.isposinf(upper).all():
            return [*terms, f">= {self.per_cell(f'{name}_limit', cells, lower)}"]
        low, high = self.per_cell(f"{name}_lower", cells, lower), self.per_cell(f"{name}_upper", cells, upper)
        return [f"{low} <=", *terms, f"<= {high}"]

    def nothing(self, owner: str, cells: Cells) -> list[str]:
        """Return a term that is always zero, for rows without any."""
        family = next((d for d in self.formulation.decisions if len(d)), None)
        if family is None:
            return ["0"]
        start = self.formulation.starts[family.name]
        inner = self.scalar.get(start) or (f"sum({self.names[start]})" if family.axes else self.names[start])
        if not cells.axes:
            return [f"0 {inner}"]
        return [f"+ {self.always_data(f'{owner}_nothing', cells, np.zeros(cells.size))} * {inner}"]

    def rows_one_by_one(self, family: Constraints) -> list[str]:
        """Return a line for each row, its terms written out."""
        expr = family.expression
        order = np.argsort(expr.rows, kind="stable")
        columns = self.formulation.column_of[expr.columns[order]]
        ends = np.searchsorted(expr.rows[order], np.arange(family.cells.size + 1))
        lines: list[str] = []
        scalar = Cells(())
        for i, member in enumerate(family.members()):
            begin, end = ends[i], ends[i + 1]
            terms = [
                _term(float(v), self.member(int(j)))
                for j, v in zip(columns[begin:end], expr.values[order[begin:end]], strict=True)
            ] or self.nothing(member, scalar)
            body = self.relation(member, scalar, family.lower[i : i + 1], family.upper[i : i + 1], terms)
            lines += _joined(f"{self.name(member)} : ", body)
        return lines

    def member(self, column: int) -> str:
        """Return how one decision is written."""
        if column in self.scalar:
            return self.scalar[column]
        family, at = self.formulation.member_at(column)
        name = self.names[column - at]
        labels = [axis.texts[codes[at]] for axis, codes in zip(family.axes, family.cells.codes, strict=True)]
        quoted = ", ".join(f'"{text}"' for text in labels)
        return f"{name}[{quoted}]" if labels else name

    def terms(self, expr: Expression, owner: str) -> list[str]:
        """Return an expression as terms with their signs, one for each decision family in it."""
        columns = self.formulation.columns_for(expr.columns, owner)
        result: list[str] = []
        for family in self.formulation.decisions:
            first = self.formulation.starts[family.name]
            own = np.flatnonzero((columns >= first) & (columns < first + len(family)))
            if not len(own):
                continue
            rows, places, values = _merged(expr.rows[own], columns[own] - first, expr.values[own], len(family))
            if not len(values):  # all of them have come to 0
                continue
            if first in self.names and family.axes:
                result.append(self.block(expr.cells, rows, family, places, values, owner))
            elif first in self.names:
                result.append(self.scalar_block(expr.cells, rows, self.names[first], values, owner))
            else:
                for place in np.unique(places).tolist():
                    mine = places == place
                    name = self.scalar[first + place]
                    result.append(self.scalar_block(expr.cells, rows[mine], name, values[mine], owner))
        return result

    def scalar_block(self, cells: Cells, rows: Any, name: str, values: Floats, owner: str) -> str:
        """Return the term of one decision: a number or data times its name."""
        if not cells.axes:
            return _term(float(values[0]), name)
        full = np.zeros(cells.size)
        full[rows] = values
        return f"+ {self.always_data(f'{owner}_{name}', cells, full)} * {name}"

    def block(self, cells: Cells, rows: Any, family: Decisions, places: Any, values: Floats, owner: str) -> str:
        """Return the term of one family: data times decisions, summed over what the rows lack."""
        name = self.names[self.formulation.starts[family.name]]
        if len(np.unique(places)) < len(family):
            rows, places, values = self.with_zeros(cells, rows, family, places, values)
        row_codes = dict(zip(cells.names, (codes[rows] for codes in cells.codes), strict=True))
        subs, over, axes, texts = [], [], [], []
        for axis, codes in zip(family.axes, family.cells.codes, strict=True):
            mine = codes[places]
            written = self.axis_names[axis.name]
            if axis.name in row_codes:
                if (row_codes[axis.name] == mine).all():
                    subs.append(written)
                    continue
                written = self.copy(axis, 2)
            subs.append(written)
            over.append(written)
            axes.append(written)
            texts.append([axis.texts[c] for c in mine.tolist()])
        for axis in cells.axes:
            axes.append(self.axis_names[axis.name])
            texts.append([axis.texts[c] for c in row_codes[axis.name].tolist()])
        moved = subs != [self.axis_names[a.name] for a in family.axes]
        inner = f"{name}[{', '.join(subs)}]" if moved else name
        even = len(values) > 0 and (values == values[0]).all() and self.complete(cells, rows, family, moved)
        if even:
            return _term(float(values[0]), f"sum({inner}, {', '.join(over)})" if over else inner)
        product = f"{self.data(f'{owner}_{name}', axes, texts, values)} * {inner}"
        return f"+ sum({product}, {', '.join(over)})" if over else f"+ {product}"

    def with_zeros(self, cells: Cells, rows: Any, family: Decisions, places: Any, values: Floats) -> Any:
        """Add a zero for each member that is in no term, since data must hold all that it multiplies."""
        lacking = np.setdiff1d(np.arange(len(family)), places)
        at = np.zeros(len(lacking), np.int64)
        shared = [name for name in cells.names if name in family.cells.names]
        if shared:
            # where axes align, the row must carry the member's labels
            ordered = np.argsort(cells.keys(shared), kind="stable")
            wanted = family.cells.keys(shared)[lacking]
            found = np.minimum(np.searchsorted(cells.keys(shared)[ordered], wanted), cells.size - 1)
            at = ordered[found]
        return (
            np.concatenate((rows, at)),
            np.concatenate((places, lacking)),
            np.concatenate((values, np.zeros(len(lacking)))),
        )

    def complete(self, cells: Cells, rows: Any, family: Decisions, moved: bool) -> bool:
        """Say whether every member of the family that matches a row stands in it, so that a plain sum says it all."""
        if moved:
            return False
        shared = [name for name in family.cells.names if name in cells.names]
        alone = [name for name in cells.names if name not in shared]
        if alone:
            return False
        kept = np.isin(family.cells.keys(shared), cells.keys(shared)) if shared else np.ones(len(family), bool)
        if not shared:
            return len(rows) == len(family) and cells.size == 1
        return bool(len(rows) == kept.sum())


def _merged(rows: Any, places: Any, values: Floats, size: int) -> tuple[Any, Any, Floats]:
    """Add up terms of the same row and decision; drop what cancels."""
    key = rows.astype(np.int64) * size + places
    distinct, group = np.unique(key, return_inverse=True)
    sums = np.bincount(group, values, len(distinct))
    kept = sums != 0
    return distinct[kept] // size, distinct[kept] % size, sums[kept]


def _signed(value: float) -> str:
    return f"{'-' if value < 0 else '+'} {text_of(abs(value))}"


def _term(value: float, name: str) -> str:
    """Return a number times a name, with its sign; 1 is left out."""
    return f"{'-' if value < 0 else '+'} {name}" if abs(value) == 1 else f"{_signed(value)} {name}"


def _domain(mark: int, low: str, high: str, least: float, most: float, binary: bool = False) -> str:
    """Return a domain in words."""
    if binary or (mark == INTEGER and (low, high) == ("0", "1")):
        return "binary"
    kind = {0: "", INTEGER: "integer ", SEMICONTINUOUS: "semicontinuous "}.get(mark)
    if kind is None:
        raise ValueError("semicontinuous whole numbers have no text form; write .mps or .json")
    if np.isneginf(least) and np.isposinf(most) and low == "-inf" and high == "inf":
        return (kind + "-inf ..").strip() if kind else "free"
    if high == "inf":
        return f"{kind}>= {low}"
    if low == "-inf":
        return f"{kind}.. {high}"
    return f"{kind}{low} .. {high}"


def _folded(start: str, entries: list[str]) -> list[str]:
    """Return entries with commas between, in lines of limited width, the later ones indented."""
    lines, line = [], start
    for place, entry in enumerate(entries):
        text = entry + (", " if place < len(entries) - 1 else "")
        if len(line) + len(text) > WIDTH and line != start:
            lines.append(line.rstrip())
            line = "    "
        line += text
    return [*lines, line.rstrip()]


def _joined(start: str, parts: list[str]) -> list[str]:
    """Join terms into lines of limited width, the later ones indented deeper."""
    parts = [parts[0].removeprefix("+ "), *parts[1:]]
    if len(parts) > 1 and parts[0].endswith("<="):
        parts[1] = parts[1].removeprefix("+ ")
    lines, line = [], start
    for part in parts:
        if len(line) + len(part) > WIDTH and line != start:
            lines.append(line.rstrip())
            line = "      "
        line += part + " "
    return [*lines, line.rstrip()]
