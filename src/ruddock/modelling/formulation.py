"""The parts of a model, and their hand-over to the engine as a `Problem`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix

from ruddock.errors import ModelError
from ruddock.modelling.cells import Cells
from ruddock.modelling.decisions import Decisions, member_name, member_names
from ruddock.modelling.expression import Expression, Sense
from ruddock.problem import Floats, Problem


@dataclass(frozen=True, eq=False)
class Constraints:
    """A family of constraints: ``lower <= expression <= upper``, one for each cell."""

    name: str
    expression: Expression
    lower: Floats
    upper: Floats
    sense: Sense
    unit: str | None = None
    listed: bool = False

    def __repr__(self) -> str:
        axes = f"[{', '.join(self.cells.names)}]" if self.cells.axes else ""
        return f"constraints {self.name}{axes}: {self.cells.size:,} {self.sense}"

    @property
    def cells(self) -> Cells:
        """The label combinations, one constraint each."""
        return self.expression.cells

    def members(self) -> list[str]:
        """Return the names of all members."""
        return member_names(self.name, self.cells, self.listed)

    def member(self, position: int) -> str:
        """Return the name of one member."""
        return member_name(self.name, self.cells, self.listed, position)


@dataclass(frozen=True, eq=False)
class Objective:
    """An objective: the sum of named scalar parts, made small or large."""

    name: str
    maximize: bool
    parts: dict[str, Expression]
    unit: str | None = None
    single: bool = False  # written as one expression, without names for parts

    def __repr__(self) -> str:
        return f"{'maximize' if self.maximize else 'minimize'} {self.name}: {', '.join(self.parts)}"


@dataclass(frozen=True, eq=False)
class Quantity:
    """A named total that is reported and limits nothing."""

    name: str
    expression: Expression
    unit: str | None = None

    def members(self) -> list[str]:
        """Return the names of all members."""
        return member_names(self.name, self.expression.cells, listed=False)


@dataclass(frozen=True, eq=False)
class Formulation:
    """A snapshot of a model: what a plan was made for, unchanged when the model moves on."""

    name: str
    decisions: tuple[Decisions, ...]
    constraints: tuple[Constraints, ...]
    objectives: tuple[Objective, ...]
    quantities: tuple[Quantity, ...]
    columns: int
    helpers: frozenset[str] = frozenset()  # families that rules and piecewise costs needed beside what was written
    arrays: Problem | None = None  # what the families were made from, where they were made from arrays

    @cached_property
    def column_of(self) -> np.ndarray:
        """The problem's column for each decision number of the model; -1 for dropped ones."""
        result = np.full(self.columns, -1, dtype=np.int64)
        start = 0
        for family in self.decisions:
            result[family.first : family.first + len(family)] = np.arange(start, start + len(family))
            start += len(family)
        return result

    @cached_property
    def compact(self) -> bool:
        """Whether nothing was dropped, so that decision numbers are columns."""
        return sum(len(family) for family in self.decisions) == self.columns

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

    @property
    def first_objective(self) -> Objective | None:
        """The objective that comes first, if there is any."""
        return self.objectives[0] if self.objectives else None

    def member_at(self, column: int) -> tuple[Decisions, int]:
        """Return the family that a column belongs to, and which of its members it is."""
        for family in self.decisions:
            if column < len(family):
                return family, column
            column -= len(family)
        raise IndexError("there is no such column")

    def constraint_at(self, row: int) -> tuple[Constraints, int]:
        """Return the constraint family that a row belongs to, and which of its members it is."""
        for family in self.constraints:
            if row < family.cells.size:
                return family, row
            row -= family.cells.size
        raise IndexError("there is no such row")

    def columns_for(self, numbers: np.ndarray, what: str) -> np.ndarray:
        """Translate decision numbers to columns; raise if a decision was dropped."""
        if self.compact:
            return numbers
        columns = self.column_of[numbers]
        if (columns < 0).any():
            raise ModelError(f"{what} uses decisions that were dropped from the model; drop or rewrite {what} as well")
        return columns

    @cached_property
    def decision_names(self) -> list[str]:
        """Names of all columns."""
        return [name for family in self.decisions for name in family.members()]

    @cached_property
    def constraint_names(self) -> list[str]:
        """Names of all rows."""
        return [name for family in self.constraints for name in family.members()]

    @cached_property
    def written_columns(self) -> np.ndarray:
        """Mark the columns of decisions that were written, not made by rules for themselves."""
        return self._written({family.name: len(family) for family in self.decisions})

    @cached_property
    def written_rows(self) -> np.ndarray:
        """Mark the rows of constraints that were written, not made by rules for themselves."""
        return self._written({family.name: family.cells.size for family in self.constraints})

    def _written(self, sizes: dict[str, int]) -> np.ndarray:
        return np.repeat(
            np.array([name not in self.helpers for name in sizes], dtype=bool),
            np.array(list(sizes.values()), dtype=np.intp),
        )

    @property
    def written_decisions(self) -> list[Decisions]:
        """The families of decisions that were written, not made by rules for themselves."""
        return [family for family in self.decisions if family.name not in self.helpers]

    def quantity_values(self, x: Floats) -> dict[str, float]:
        """Return the value of every member of every quantity, by name."""
        return {
            name: value
            for quantity in self.quantities
            for name, value in zip(quantity.members(), self.evaluate(quantity.expression, x).tolist(), strict=True)
        }

    @property
    def quantity_units(self) -> dict[str, str | None]:
        """The unit of every member of every quantity, by name."""
        return {name: quantity.unit for quantity in self.quantities for name in quantity.members()}

    def evaluate(self, expression: Expression, x: Floats, what: str = "the expression") -> Floats:
        """Return the value of an expression for each of its cells."""
        columns = self.columns_for(expression.columns, what)
        amounts = np.bincount(expression.rows, expression.values * x[columns], expression.cells.size)
        return np.asarray(amounts + expression.constants)

    def problem(self, objective: Objective | None) -> Problem:
        """Return the minimisation problem for one objective; none at all asks for any feasible plan."""
        if self.arrays is not None and self.objectives and objective is self.objectives[0]:
            return self.arrays
        size = sum(len(family) for family in self.decisions)
        costs, offset = np.zeros(0), 0.0
        if objective is not None:
            for name, part in objective.parts.items():
                columns = self.columns_for(part.columns, f"the objective {objective.name!r} ({name})")
                own = np.bincount(columns, part.values, size).astype(np.float64, copy=False)
                costs = costs + own if len(costs) else own
                offset += float(part.constants[0])
            costs, offset = (-costs, -offset) if objective.maximize else (costs, offset)
        costs = costs if len(costs) else np.zeros(size)
        rows, columns_, values = self._triplets()
        m = sum(family.cells.size for family in self.constraints)
        matrix = coo_matrix((values, (rows, columns_)), shape=(m, size))
        return Problem.build(
            matrix.tocsc(),
            _joined([family.lower for family in self.constraints]),
            _joined([family.upper for family in self.constraints]),
            _joined([family.lower for family in self.decisions]),
            _joined([family.upper for family in self.decisions]),
            costs,
            np.concatenate([family.marks for family in self.decisions]) if self.decisions else np.zeros(0, np.uint8),
            offset,
        )

    def _triplets(self) -> tuple[np.ndarray, np.ndarray, Floats]:
        """Return rows, columns and values of all constraints, as 32-bit indices where they fit."""
        size = sum(len(family.expression.values) for family in self.constraints)
        rows, columns, values = np.empty(size, np.int32), np.empty(size, np.int32), np.empty(size)
        at = 0
        for family in self.constraints:
            expr = family.expression
            part = slice(at, at + len(expr.values))
            np.add(expr.rows, self.row_starts[family.name], out=rows[part], casting="unsafe")
            kept = expr.columns if self.compact else self.columns_for(expr.columns, f"the constraint {family.name!r}")
            columns[part] = kept
            values[part] = expr.values
            at = part.stop
        return rows, columns, values


def _joined(parts: Sequence[Floats]) -> Floats:
    if len(parts) == 1:
        return parts[0]
    return np.concatenate(parts) if parts else np.zeros(0)
