"""Writing ``.rdk``: a text that reads back as the same model, or an error before anything is written.

Each side of a constraint is written as a sum of data times decisions. Where a constraint and a decision
share an axis, and every term stands at the same label of both, the text aligns by that axis. Otherwise the
decision is written on a copy of the axis (``place_2 : place``) and summed over it. What is written is read and compared
before it reaches the file.
"""

from __future__ import annotations

import re
import warnings
from math import prod
from pathlib import Path
from typing import Any

import numpy as np

from ruddock.characters import quote, visible
from ruddock.errors import FormatError, RuddockError, RuddockWarning, listed
from ruddock.files import write_text
from ruddock.formats.rdk.as_read import text_as_read
from ruddock.formats.rdk.heads import RESERVED
from ruddock.formats.rdk.phrases import (
    Written,
    domain_text,
    folded,
    joined,
    label,
    merged,
    plain_start,
    signed,
    term,
    text_of,
    unit,
)
from ruddock.formats.rdk.reading_back import check_reading_back
from ruddock.modelling.axis import ISO_DATE, NAME, Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.curves import Curve
from ruddock.modelling.decisions import Decisions, goes_by_label, kinds_of
from ruddock.modelling.formulation import Constraints, Formulation, Objective, Quantity, Ruled
from ruddock.modelling.model import Model
from ruddock.modelling.relation import Sides
from ruddock.modelling.rules import Either, Implication, Run, When
from ruddock.modelling.terms import Terms
from ruddock.modelling.writing import strictly
from ruddock.problem import Floats

WIDTH = 100


def write_rdk(model: Model, path: Path) -> None:
    """Write a model in the text form, whole or not at all.

    Raises
    ------
    FormatError
        If the model has something that the text form cannot say.
    """
    formulation = model.formulation()
    own = text_as_read(model, path.parent)
    if own is not None:
        write_text(path, own)
        return
    writer = _Writer(formulation)
    try:
        text = writer.text()
        check_reading_back(formulation, text)
    except RuddockError as error:
        raise FormatError(
            f"the text form cannot hold all of this model; write .json, which can ({error})", path=str(path)
        ) from None
    writer.warn()
    write_text(path, text)


def rdk_text(model: Model) -> str:
    """Return a model in the text form."""
    writer = _Writer(model.formulation())
    text = writer.text()
    writer.warn()
    return text


class _Writer:
    def __init__(self, formulation: Formulation) -> None:
        self.formulation = formulation
        self.taken: set[str] = set(RESERVED)
        self.renamed: dict[str, str] = {}
        self.retyped: list[str] = []  # axes whose labels become text
        self.axis_names: dict[str, str] = {}
        self.copies: dict[tuple[str, int], str] = {}
        self.axis_lines: list[str] = []
        self.data_lines: list[str] = []
        self.scalar: dict[int, str] = {}  # names of decisions that are written one by one, by column
        self.families: list[Written] = []

    def text(self) -> str:
        """Return the whole text."""
        f = self.formulation
        families: tuple[Any, ...] = (*f.decisions, *f.constraints, *f.rules, *f.quantities, *f.curves)
        of_files = {
            axis.name
            for part in families
            if getattr(part, "listed", False) or (isinstance(part, Decisions) and goes_by_label(part))
            for axis in part.cells.axes
        }
        cells = [part.cells for part in families]
        cells += [part.cells for ruled in f.rules for part in ruled.rule.parts()]
        for axis in {axis.name: axis for held in cells for axis in held.axes}.values():
            if axis.name not in of_files:
                self.axis(axis)
        decisions = [line for family in f.decisions for line in self.decisions(family)]
        quantities = [line for curve in f.curves for line in self.curve(curve)]
        quantities += [line for quantity in f.quantities for line in self.quantity(quantity)]
        goals = [line for goal in f.objectives for line in self.objective(goal)]
        require = [line for family in f.constraints for line in self.constraints(family)]
        require += [line for ruled in f.rules for line in self.rule(ruled)]
        lines = [f"model {' '.join(visible(f.name).replace('#', ' ').split())}"]
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
        return "\n".join(lines) + "\n"

    def warn(self) -> None:
        """Say what was written differently."""
        if self.renamed:
            words = listed(f"{old!r} as {new!r}" for old, new in self.renamed.items())
            warnings.warn(f"names were written differently: {words}", RuddockWarning, stacklevel=5)
        if self.retyped:
            words = listed(self.retyped)
            warnings.warn(
                f"labels that are neither text nor integers were written as text: {words}", RuddockWarning, stacklevel=5
            )

    # ------------------------------------------------------------------ names and data

    def name(self, wanted: str, *, warn: bool = True) -> str:
        """Return a free name near the wanted one."""
        plain = re.sub(r"\W", "_", wanted)
        if not NAME.match(plain):
            plain = "x_" + plain
        result, k = plain, 1
        while result in self.taken:
            k += 1
            result = f"{plain}_{k}"
        self.taken.add(result)
        if warn and result != wanted:
            self.renamed[wanted] = result
        return result

    def axis(self, axis: Axis) -> str:
        """Declare an axis once and return its name."""
        if axis.name not in self.axis_names:
            written = self.name(axis.name)
            self.axis_names[axis.name] = written
            whole = axis.labels.dtype.kind in "iu"
            days = axis.labels.dtype.kind == "M" and all(ISO_DATE.fullmatch(text) for text in axis.texts)
            if not whole and not days and not all(isinstance(text, str) for text in axis.labels):
                self.retyped.append(axis.name)
            # one label alone could be the name of another axis, and text of digits would be a number
            careful = not whole and (len(axis) == 1 or any(re.fullmatch(r"-?\d+", text) for text in axis.texts))
            texts = [
                text if whole or days else quote(text) if careful and label(text) else label(text)
                for text in axis.texts
            ]
            if not texts:
                raise FormatError(f"the axis {axis.name} has no labels")
            self.axis_lines += folded(f"{written} : ", texts)
        return self.axis_names[axis.name]

    def copy(self, axis: Axis, number: int) -> str:
        """Declare a copy of an axis once and return its name."""
        key = (axis.name, number)
        if key not in self.copies:
            self.copies[key] = self.name(f"{axis.name}_{number}", warn=False)
            self.axis_lines.append(f"{self.copies[key]} : {self.axis_names[axis.name]}")
        return self.copies[key]

    def data(self, wanted: str, axes: list[str], texts: list[list[str]], values: Floats) -> str:
        """Declare data, one entry for each combination, and return its name."""
        written = self.name(wanted, warn=False)
        entries = [
            " ".join((*(label(t) for t in labels), text_of(v)))
            for *labels, v in zip(*texts, values.tolist(), strict=True)
        ]
        self.data_lines += folded(f"{written}[{', '.join(axes)}] : ", entries)
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
            name = self.name(wanted, warn=False)
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
        kinds = kinds_of(family)
        if goes_by_label(family) or (len(family) > 1 and len(np.unique(kinds)) > 1):
            names = [self.name(member) for member in family.members()]
            self.scalar |= {first + j: name for j, name in enumerate(names)}
            return [
                f"{name} {domain_text(int(mark), text_of(float(low)), text_of(float(high)), float(low), float(high))}"
                for name, mark, low, high in zip(names, kinds, family.lower, family.upper, strict=True)
            ]
        name = self.name(family.name)
        self.families.append(Written(name, family.cells, first))
        if not len(family):
            return [f"{name}{self.brackets(family.cells)} where 0 > 1 : >= 0"] if family.axes else []
        where = self.where(f"{name}_held", family.cells)
        low = self.per_cell(f"{name}_lower", family.cells, family.lower)
        high = self.per_cell(f"{name}_upper", family.cells, family.upper)
        domain = domain_text(
            int(kinds[0]),
            low,
            high,
            float(family.lower.min()),
            float(family.upper.max()),
            family.kind == "binary" and bool((family.lower == 0).all() and (family.upper == 1).all()),
        )
        return [f"{name}{self.brackets(family.cells)}{unit(family.unit)}{where}{' :' if where else ''} {domain}"]

    def brackets(self, cells: Cells) -> str:
        """Return the axes of a family as they stand after its name."""
        return f"[{', '.join(self.axis_names[n] for n in cells.names)}]" if cells.axes else ""

    # ------------------------------------------------------------------ expressions

    def objective(self, goal: Objective) -> list[str]:
        """Return heading and lines of an objective."""
        name = self.name(goal.name)
        lines = [f"{goal.sense} {name}{unit(goal.unit)}"]
        for part, terms in goal.parts.items():
            body = self.side(terms, f"{name}_{part}" if not goal.single else name)
            start = "  " if goal.single else f"  {self.name(part, warn=False) if part in RESERVED else part} : "
            lines += joined(start, body)
        return lines

    def quantity(self, quantity: Quantity) -> list[str]:
        """Return the lines of a quantity."""
        written = self.name(quantity.name)
        head = f"{written}{self.brackets(quantity.cells)}{unit(quantity.unit)} : "
        return joined(head, self.side(quantity.terms, written))

    def curve(self, curve: Curve) -> list[str]:
        """Return the lines of a curve."""
        written = self.name(curve.name)
        head = f"{written}{self.brackets(curve.cells)}{unit(curve.unit)} : curve("
        corners = []
        for k in range(curve.at.shape[1]):
            pair = [self.per_cell(f"{written}_{side}{k + 1}", curve.cells, part[:, k]) for side, part in
                    (("x", curve.at), ("y", curve.values))]  # fmt: skip
            corners.append(f", {pair[0]} {pair[1]}")
        body = [*self.side(curve.x, written), *corners]
        body[-1] += ")"
        first = self.formulation.size + sum(
            c.cells.size for c in self.formulation.curves[: self.formulation.curves.index(curve)]
        )
        lines = joined(head, body)
        self.families.append(Written(written, curve.cells, first))
        return lines

    def constraints(self, family: Constraints) -> list[str]:
        """Return the lines of a family; rows of a file one by one."""
        if family.listed:
            return self.rows_one_by_one(family)
        name = self.name(family.name)
        if not family.cells.size:
            return []
        where = self.where(f"{name}_held", family.cells)
        head = f"{name}{self.brackets(family.cells)}{unit(family.unit)}{where} : "
        return joined(head, self.relation(name, family.sides))

    def rule(self, ruled: Ruled) -> list[str]:
        """Return the lines of a rule."""
        name, rule = self.name(ruled.name), ruled.rule
        head = f"{name}{self.brackets(rule.cells)}{unit(ruled.unit)} : "
        if isinstance(rule, When):
            turned = bool(rule.condition.constants.any())
            condition = rule.condition.scaled(-1.0).without_constants() if turned else rule.condition
            words = [*self.side(condition, f"{name}_condition"), "then", *self.relation(name, rule.relation)]
            return joined(f"{head}{'unless' if turned else 'if'} ", words)
        if isinstance(rule, Implication):
            met = self.relation(f"{name}_condition", rule.condition)
            words = [*plain_start(strictly(met) if rule.strict else met), "then", *self.relation(name, rule.relation)]
            return joined(f"{head}if ", words)
        if isinstance(rule, Either):
            parts: list[str] = []
            for k, relation in enumerate(rule.relations):
                parts += [*(["or"] if k else []), *plain_start(self.relation(f"{name}_{k + 1}", relation))]
            return joined(f"{head}either ", parts)
        assert isinstance(rule, Run)
        before = f", {rule.before}" if rule.before else ""
        on = " ".join(plain_start(self.side(rule.on, name)))
        return [f"{head}{rule.word}({on}, {self.axis_names[rule.axis.name]}{before}) >= {rule.least}"]

    def side(self, terms: Terms, owner: str) -> list[str]:
        """Return an expression: its terms, and its constants where there are some or nothing else."""
        body = self.terms(terms, owner)
        if terms.constants.any() or not body:
            if len(terms.constants) and (terms.constants == terms.constants[0]).all():
                body.append(signed(float(terms.constants[0])))
            else:
                body.append("+ " + self.per_cell(f"{owner}_constant", terms.cells, terms.constants))
        return body

    def relation(self, name: str, sides: Sides) -> list[str]:
        """Return both sides as written."""
        left, cells = sides.left, sides.cells
        if not left.values.any() and (sides.right is None or not sides.right.values.any()):
            # rows without decisions are kept, on a term that is always 0
            body = self.nothing(name, cells)
            if left.constants.any():
                body.append("+ " + self.per_cell(f"{name}_constant", cells, left.constants))
        else:
            body = self.side(left, f"{name}_left" if not sides.limit_side else name)
        if sides.right is not None:
            sign = {"<=": "<=", ">=": ">=", "==": "="}[sides.sense]
            if sides.right.plain:
                return [*body, f"{sign} {self.per_cell(f'{name}_limit', sides.right.cells, sides.right.constants)}"]
            right = plain_start(self.side(sides.right, name if sides.limit_side else f"{name}_right"))
            return [*body, f"{sign} {right[0]}", *right[1:]]
        assert sides.low is not None
        assert sides.high is not None
        low, high = sides.low, sides.high
        if (low == high).all():
            return [*body, f"= {self.per_cell(f'{name}_limit', cells, high)}"]
        if np.isneginf(low).all():
            return [*body, f"<= {self.per_cell(f'{name}_limit', cells, high)}"]
        if np.isposinf(high).all():
            return [*body, f">= {self.per_cell(f'{name}_limit', cells, low)}"]
        lows, highs = self.per_cell(f"{name}_lower", cells, low), self.per_cell(f"{name}_upper", cells, high)
        return [f"{lows} <=", *plain_start(body), f"<= {highs}"]

    def nothing(self, owner: str, cells: Cells) -> list[str]:
        """Return a term that is always zero, for rows without any."""
        family = next((f for f in self.families if f.cells.size), None)
        if family is None and self.scalar:
            inner = next(iter(self.scalar.values()))
        elif family is None:
            raise FormatError(f"the constraint {owner} has no decisions, and the model has none to write it with")
        else:
            inner = f"sum({family.name})" if family.cells.axes else family.name
        if not cells.axes:
            return [f"0 {inner}"]
        return [f"+ {self.always_data(f'{owner}_nothing', cells, np.zeros(cells.size))} * {inner}"]

    def rows_one_by_one(self, family: Constraints) -> list[str]:
        """Return a line for each row, its terms written out."""
        row = family.row
        order = np.argsort(row.rows, kind="stable")
        columns = self.formulation.columns_for(row.columns[order], family.name)
        ends = np.searchsorted(row.rows[order], np.arange(family.cells.size + 1))
        lines: list[str] = []
        for i, member in enumerate(family.members()):
            begin, end = ends[i], ends[i + 1]
            terms = [
                term(float(v), self.member(int(j)))
                for j, v in zip(columns[begin:end], row.values[order[begin:end]], strict=True)
                if v
            ] or self.nothing(member, Cells(()))
            low, high = float(family.lower[i]), float(family.upper[i])
            if low == high:
                body = [*terms, f"= {text_of(high)}"]
            elif np.isneginf(low):
                body = [*terms, f"<= {text_of(high)}"]
            elif np.isposinf(high):
                body = [*terms, f">= {text_of(low)}"]
            else:
                body = [f"{text_of(low)} <=", *plain_start(terms), f"<= {text_of(high)}"]
            lines += joined(f"{self.name(member)} : ", body)
        return lines

    def member(self, column: int) -> str:
        """Return how one decision is written."""
        if column in self.scalar:
            return self.scalar[column]
        family = next(f for f in self.families if f.first <= column < f.first + f.cells.size)
        texts = [axis.texts[codes[column - family.first]] for axis, codes in
                 zip(family.cells.axes, family.cells.codes, strict=True)]  # fmt: skip
        return f"{family.name}[{', '.join(map(quote, texts))}]" if texts else family.name

    def terms(self, terms: Terms, owner: str) -> list[str]:
        """Return an expression as terms with their signs, one for each decision family in it."""
        columns = self.formulation.columns_for(terms.columns, owner)
        result: list[str] = []
        for family in self.families:
            size = family.cells.size
            own = np.flatnonzero((columns >= family.first) & (columns < family.first + size))
            if not len(own):
                continue
            rows, places, values = merged(terms.rows[own], columns[own] - family.first, terms.values[own], size)
            if not len(values):  # all of them have come to 0
                continue
            if family.cells.axes:
                result.append(self.block(terms.cells, rows, family, places, values, owner))
            else:
                result.append(self.scalar_block(terms.cells, rows, family.name, values, owner))
        for column in np.unique(columns).tolist():
            if column in self.scalar:
                mine = columns == column
                rows, _, values = merged(terms.rows[mine], np.zeros(int(mine.sum()), np.int64), terms.values[mine], 1)
                if len(values):
                    result.append(self.scalar_block(terms.cells, rows, self.scalar[column], values, owner))
        return result

    def scalar_block(self, cells: Cells, rows: Any, name: str, values: Floats, owner: str) -> str:
        """Return the term of one decision: a number or data times its name."""
        if not cells.axes:
            return term(float(values[0]), name)
        full = np.zeros(cells.size)
        full[rows] = values
        return f"+ {self.always_data(f'{owner}_{name}', cells, full)} * {name}"

    def block(self, cells: Cells, rows: Any, family: Written, places: Any, values: Floats, owner: str) -> str:
        """Return the term of one family: data times decisions, summed over what the rows lack."""
        name = family.name
        if len(np.unique(places)) < family.cells.size:
            rows, places, values = self.with_zeros(cells, rows, family, places, values)
        row_codes = dict(zip(cells.names, (codes[rows] for codes in cells.codes), strict=True))
        subs, over, axes, texts = [], [], [], []
        for axis, codes in zip(family.cells.axes, family.cells.codes, strict=True):
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
        moved = subs != [self.axis_names[a.name] for a in family.cells.axes]
        inner = f"{name}[{', '.join(subs)}]" if moved else name
        even = len(values) > 0 and (values == values[0]).all() and self.complete(cells, rows, family, moved)
        if even:
            return term(float(values[0]), f"sum({inner}, {', '.join(over)})" if over else inner)
        product = f"{self.data(f'{owner}_{name}', axes, texts, values)} * {inner}"
        return f"+ sum({product}, {', '.join(over)})" if over else f"+ {product}"

    def with_zeros(self, cells: Cells, rows: Any, family: Written, places: Any, values: Floats) -> Any:
        """Add a zero for each member that is in no term, since data must hold all that it multiplies."""
        lacking = np.setdiff1d(np.arange(family.cells.size), places)
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

    def complete(self, cells: Cells, rows: Any, family: Written, moved: bool) -> bool:
        """Say whether every member of the family that matches a row stands in it, so that a plain sum says it all."""
        if moved:
            return False
        shared = [name for name in family.cells.names if name in cells.names]
        alone = [name for name in cells.names if name not in shared]
        if alone:
            return False
        kept = np.isin(family.cells.keys(shared), cells.keys(shared)) if shared else np.ones(family.cells.size, bool)
        if not shared:
            return len(rows) == family.cells.size and cells.size == 1
        return bool(len(rows) == kept.sum())
