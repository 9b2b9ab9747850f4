"""The parts of a model as they were written, and a snapshot of all of them."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import accumulate
from typing import Any, TypeVar

import numpy as np

from ruddock.errors import ModelError
from ruddock.modelling.cells import Cells
from ruddock.modelling.curves import Curve
from ruddock.modelling.decisions import Decisions, kinds_of, member_name, member_names, numbers_of
from ruddock.modelling.expression import Combination, Expression, terms_of
from ruddock.modelling.relation import Sense, Sides
from ruddock.modelling.rules import Rule
from ruddock.modelling.terms import Registry, Terms
from ruddock.modelling.writing import TERMS, in_one_line, relation_words, terms_words
from ruddock.problem import Floats, Problem


@dataclass(frozen=True, eq=False, repr=False)
class Constraints:
    """A family of constraints, one for each cell, with both sides as written.

    Attributes
    ----------
    sides : Sides
    listed : whether members go by their label alone, as rows of a file do
    sources : the data that its right side names, in a model read from text
    """

    name: str
    sides: Sides
    unit: str | None = None
    listed: bool = False
    sources: tuple[str, ...] = ()

    def __repr__(self) -> str:
        axes = f"[{', '.join(self.cells.names)}]" if self.cells.axes else ""
        return f"{self.name}{axes}: {in_one_line(self.cells, lambda i: relation_words(self.sides, i, TERMS))}"

    @property
    def cells(self) -> Cells:
        """The label combinations, one constraint each."""
        return self.sides.cells

    @property
    def row(self) -> Terms:
        """The decisions of both sides on one; see `Sides.row`."""
        return self.sides.row

    @property
    def lower(self) -> Floats:
        """The least value of the row."""
        return self.sides.bounds[0]

    @property
    def upper(self) -> Floats:
        """The greatest value of the row."""
        return self.sides.bounds[1]

    @property
    def sense(self) -> Sense:
        """The sense as written."""
        return self.sides.sense

    def members(self) -> list[str]:
        """Return the names of all members."""
        return member_names(self.name, self.cells, self.listed)

    def member(self, position: int) -> str:
        """Return the name of one member."""
        return member_name(self.name, self.cells, self.listed, position)


@dataclass(frozen=True, eq=False, repr=False)
class Ruled:
    """A logical rule under a name; its rows are made when the model is solved.

    Attributes
    ----------
    sources : the data that it names, in a model read from text
    """

    name: str
    rule: Rule
    unit: str | None = None
    sources: tuple[str, ...] = ()

    def __repr__(self) -> str:
        axes = f"[{', '.join(self.cells.names)}]" if self.cells.axes else ""
        return f"{self.name}{axes}: {self.rule!r}"

    @property
    def cells(self) -> Cells:
        """The label combinations, one rule each."""
        return self.rule.cells

    def members(self) -> list[str]:
        """Return the names of all members."""
        return member_names(self.name, self.cells, listed=False)

    def member(self, position: int) -> str:
        """Return the name of one member."""
        return member_name(self.name, self.cells, listed=False, position=position)


@dataclass(frozen=True, eq=False, repr=False)
class Objective:
    """An objective: the sum of named scalar parts, made small or large."""

    name: str
    maximize: bool
    parts: dict[str, Terms]
    unit: str | None = None
    single: bool = False  # written as one expression, without names for parts

    def __repr__(self) -> str:
        unit = f" ({self.unit})" if self.unit else ""
        parts = [f"{name}: {' '.join(terms_words(terms, 0, TERMS))}" for name, terms in self.parts.items()]
        return f"{self.sense} {self.name}{unit}: {parts[0].partition(': ')[2] if self.single else '; '.join(parts)}"

    @property
    def sense(self) -> str:
        """``minimize`` or ``maximize``."""
        return "maximize" if self.maximize else "minimize"

    @property
    def sign(self) -> float:
        """What turns a value as written into one to be made small, and back: -1 of a maximum, else 1."""
        return -1.0 if self.maximize else 1.0


@dataclass(frozen=True, eq=False, repr=False)
class Quantity:
    """A named total that is reported and limits nothing."""

    name: str
    terms: Terms
    unit: str | None = None

    def __repr__(self) -> str:
        unit = f" ({self.unit})" if self.unit else ""
        return f"{self.name}{unit}: {in_one_line(self.cells, lambda i: terms_words(self.terms, i, TERMS))}"

    @property
    def cells(self) -> Cells:
        """The label combinations."""
        return self.terms.cells

    def members(self) -> list[str]:
        """Return the names of all members."""
        return member_names(self.name, self.cells, listed=False)


@dataclass(frozen=True, eq=False, repr=False)
class Formulation:
    """A snapshot of a model as written: what a plan was made for, unchanged when the model moves on.

    Attributes
    ----------
    columns : how many decision numbers the registry had given out
    arrays : what the families were made from, where they were made from arrays
    relaxed : whether fractions are allowed everywhere, in what rules need as well
    undeclared : names that were taken as decisions although nothing declares them; such a model is not solved
    """

    name: str
    registry: Registry
    decisions: tuple[Decisions, ...]
    constraints: tuple[Constraints, ...]
    rules: tuple[Ruled, ...]
    curves: tuple[Curve, ...]
    objectives: tuple[Objective, ...]
    quantities: tuple[Quantity, ...]
    columns: int
    arrays: Problem | None = None
    relaxed: bool = False
    undeclared: tuple[str, ...] = ()
    cache: dict[str, Any] = field(default_factory=dict, repr=False)  # what the lowering worked out

    def __getstate__(self) -> dict[str, Any]:
        named = {name: self.__dict__[name] for name in self.__dataclass_fields__}
        return {**named, "cache": {}}

    def changed(self, **parts: Any) -> Formulation:
        """Return the formulation with some of its parts in place of its own."""
        return replace(self, **parts, arrays=None, cache={})

    # ------------------------------------------------------------------ columns

    @cached_property
    def size(self) -> int:
        """The number of decisions."""
        return sum(len(family) for family in self.decisions)

    @cached_property
    def rows(self) -> int:
        """The number of constraints."""
        return sum(family.cells.size for family in self.constraints)

    @cached_property
    def _column_of(self) -> np.ndarray:
        """The column for each decision number; -1 where there is none. The values of curves follow the decisions."""
        result = np.full(self.columns, -1, dtype=np.int64)
        start = 0
        for numbers in (*(numbers_of(family) for family in self.decisions), *(c.numbers for c in self.curves)):
            result[numbers] = np.arange(start, start + len(numbers))
            start += len(numbers)
        return result

    @cached_property
    def _compact(self) -> bool:
        """Whether decision numbers are columns."""
        return bool((self._column_of == np.arange(self.columns)).all())

    @cached_property
    def starts(self) -> dict[str, int]:
        """The first column of each decision family."""
        sizes = np.cumsum([0] + [len(family) for family in self.decisions])
        return {family.name: int(start) for family, start in zip(self.decisions, sizes, strict=False)}

    @cached_property
    def row_starts(self) -> dict[str, int]:
        """The first row of each constraint family."""
        sizes = np.cumsum([0] + [family.cells.size for family in self.constraints])
        return {family.name: int(start) for family, start in zip(self.constraints, sizes, strict=False)}

    def place_of(self, family: Decisions) -> slice:
        """Return the columns of a decision family."""
        first = self.starts[family.name]
        return slice(first, first + len(family))

    def columns_for(self, numbers: np.ndarray, what: str) -> np.ndarray:
        """Translate decision numbers to columns.

        Raises
        ------
        ModelError
            If a decision is not in this model: removed, or declared later.
        """
        if len(numbers) and int(numbers.max()) >= self.columns:
            raise ModelError(
                f"{what} uses decisions that were declared after this model was solved; solve it again to ask for them"
            )
        if self._compact:
            return numbers
        columns = self._column_of[numbers]
        if (columns < 0).any():
            raise ModelError(
                f"{what} uses decisions that are not in the model; they were removed, replaced, or belong to a variant "
                f"of it: remove or rewrite {what} as well"
            )
        return columns

    # ------------------------------------------------------------------ names

    @property
    def first_objective(self) -> Objective | None:
        """The objective that comes first, if there is any."""
        return self.objectives[0] if self.objectives else None

    def member_at(self, column: int) -> tuple[Decisions, int]:
        """Return the family that a column belongs to, and which of its members it is."""
        return _part_at(self.decisions, self._column_ends, column)

    def constraint_at(self, row: int) -> tuple[Constraints, int]:
        """Return the constraint family that a row belongs to, and which of its members it is."""
        return _part_at(self.constraints, self._row_ends, row)

    @cached_property
    def _column_ends(self) -> list[int]:
        return list(accumulate(len(family) for family in self.decisions))

    @cached_property
    def _row_ends(self) -> list[int]:
        return list(accumulate(family.cells.size for family in self.constraints))

    @cached_property
    def decision_names(self) -> list[str]:
        """Names of all decisions."""
        return [name for family in self.decisions for name in family.members()]

    @cached_property
    def constraint_names(self) -> list[str]:
        """Names of all constraints."""
        return [name for family in self.constraints for name in family.members()]

    @cached_property
    def column_names(self) -> list[str]:
        """Names of all decisions, then of the values of all curves."""
        return [*self.decision_names, *(name for curve in self.curves for name in curve.members())]

    @cached_property
    def discrete(self) -> bool:
        """Whether there are integers or semicontinuous decisions, or rules that need binary decisions."""
        whole = any(kinds_of(family).any() for family in self.decisions)
        return not self.relaxed and (whole or bool(self.rules) or any(curve.bends for curve in self.curves))

    # ------------------------------------------------------------------ values

    def evaluate(self, what: Terms | Expression, x: Floats, name: str = "the expression") -> Floats:
        """Return the value of an expression for each of its cells, at values of all columns."""
        terms = what if isinstance(what, Terms) else terms_of(what)
        columns = self.columns_for(terms.columns, name)
        amounts = np.bincount(terms.rows, terms.values * x[columns], terms.cells.size)
        return np.asarray(amounts + terms.constants)

    @cached_property
    def reported(self) -> tuple[Quantity, ...]:
        """The quantities, and the values of curves, which are reported alike."""
        return (*self.quantities, *(Quantity(c.name, c.value, c.unit) for c in self.curves))

    def quantity_values(self, x: Floats) -> dict[str, float]:
        """Return the value of every member of every quantity, by name."""
        return {
            name: value
            for quantity in self.reported
            for name, value in zip(quantity.members(), self.evaluate(quantity.terms, x).tolist(), strict=True)
        }

    @property
    def quantity_units(self) -> dict[str, str | None]:
        """The unit of every member of every quantity, by name."""
        return {name: quantity.unit for quantity in self.reported for name in quantity.members()}

    def objective_value(self, objective: Objective, x: Floats) -> float:
        """Return the value of an objective as written."""
        return sum(float(self.evaluate(part, x)[0]) for part in objective.parts.values()) + 0.0


def units_of(formulation: Formulation) -> dict[str, str | None]:
    """Return the unit of every decision, by name."""
    return {name: family.unit for family in formulation.decisions for name in family.members()}


def joined(parts: Sequence[Floats]) -> Floats:
    """Return arrays one after another."""
    if len(parts) == 1:
        return parts[0]
    return np.concatenate(parts) if parts else np.zeros(0)


def expression_of(terms: Terms) -> Expression:
    """Return terms as an expression."""
    return Combination(terms)


Family = TypeVar("Family", Decisions, Constraints)


def _part_at(families: tuple[Family, ...], ends: list[int], at: int) -> tuple[Family, int]:
    """Return the family that a place is in, given where each one ends, and which of its members it is."""
    which = bisect_right(ends, at)
    if which == len(families):
        raise IndexError("there is no such member")
    return families[which], at - (ends[which - 1] if which else 0)
