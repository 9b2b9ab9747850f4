"""What a person knows about a whole-number model beside its formulation, handed on to the search."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd

from ruddock.engine.outcome import AT_LOWER, BASIC, FEASIBILITY, Basis, LazyRow, Options
from ruddock.errors import ModelError, known
from ruddock.modelling.decisions import members_of
from ruddock.modelling.expression import Relation
from ruddock.modelling.formulation import Formulation
from ruddock.modelling.plan import Plan
from ruddock.modelling.values import given_values, plan_of_values
from ruddock.problem import Floats


@dataclass(frozen=True, eq=False)
class Hints:
    """What a person knows about a whole-number model beside its formulation; see `Model.solve`."""

    start: Any = None
    priorities: Mapping[str, float] | None = None
    lazy: Callable[[Plan], Iterable[Relation]] | None = None
    memory_limit: float | None = None
    cores: int = 2

    def added_to(self, options: Options, formulation: Formulation) -> Options:
        """Return the options with these hints, by column."""
        start, basis = None, None
        if isinstance(self.start, Plan):
            start, basis = _by_name(formulation, self.start)
        elif self.start is not None:
            start = given_values(formulation, self.start)
        priorities = None
        if self.priorities is not None:
            names = formulation.decision_names
            priorities = np.zeros(len(names))
            for name, value in self.priorities.items():
                own = members_of(name, names)
                if not own:
                    families = [family.name for family in formulation.decisions if not family.listed]
                    raise ModelError(
                        f"priorities: there is no decision called {name!r}; {known(name, families or names)}"
                    )
                priorities[own] = float(value)
        lazy = None if self.lazy is None else LazyCheck(formulation, self.lazy)
        return replace(options, start=start, basis=basis, priorities=priorities, lazy=lazy, cores=self.cores)


def _by_name(formulation: Formulation, plan: Plan) -> tuple[Floats, Basis | None]:
    """Return values and basis of a plan, of this formulation or one like it; NaN and no basis where it says nothing."""
    old, basis = plan.formulation, plan.outcome.basis
    columns, rows = formulation.decision_names, formulation.constraint_names
    if columns == old.decision_names and rows == old.constraint_names:
        return plan.values, basis
    place = pd.Index(old.decision_names).get_indexer(pd.Index(columns))
    x = np.where(place >= 0, plan.values[place], np.nan)
    if basis is None:
        return x, None
    row_place = pd.Index(old.constraint_names).get_indexer(pd.Index(rows))
    # a new row holds itself, a new column rests at a bound; what is left over or lacking the solver sees to
    codes = np.where(place >= 0, basis.columns[place], AT_LOWER)
    row_codes = np.where(row_place >= 0, basis.rows[row_place], BASIC)
    return x, Basis(codes, row_codes)


class LazyCheck:
    """Asks the caller about a whole plan and turns the relations that it breaks into rows."""

    def __init__(self, formulation: Formulation, asked: Callable[[Plan], Iterable[Relation]]) -> None:
        self.formulation, self.asked = formulation, asked
        self.problem = formulation.problem(formulation.first_objective)

    def __call__(self, x: Floats) -> list[LazyRow]:
        """Return the rows that values of all columns break."""
        formulation = self.formulation
        rows: list[LazyRow] = []
        for relation in self.asked(plan_of_values(formulation, self.problem, x)) or ():
            if not isinstance(relation, Relation):
                raise ModelError(f"lazy: the check returns relations such as go.sum() <= 2, not {relation!r}")
            expr = relation.expression
            columns = formulation.columns_for(expr.columns, "a lazy constraint")
            value = np.bincount(expr.rows, expr.values * x[columns], expr.cells.size)
            size = FEASIBILITY * np.maximum(1.0, np.abs(value))
            for k in np.flatnonzero((value < relation.lower - size) | (value > relation.upper + size)).tolist():
                own = expr.rows == k
                rows.append((columns[own], expr.values[own], float(relation.lower[k]), float(relation.upper[k])))
        return rows
