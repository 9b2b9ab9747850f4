"""What a person knows about a model beside its formulation, handed on to the engine: starts, priorities, checks."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

from ruddock.engine.outcome import AT_LOWER, BASIC, FEASIBILITY, Basis, LazyRow, Options
from ruddock.errors import ModelError
from ruddock.modelling.expression import Relation, check_registry, sides_of
from ruddock.modelling.formulation import Formulation
from ruddock.modelling.lowering import lowered
from ruddock.modelling.names import names_of
from ruddock.modelling.options import SolveOptions
from ruddock.modelling.plan import Plan
from ruddock.modelling.values import completed, given_values, plan_of_values
from ruddock.problem import Floats


def added_hints(asked: Options, options: SolveOptions, formulation: Formulation) -> Options:
    """Return the engine's options with what a person knows, by column."""
    start, basis = None, None
    size = lowered(formulation).base.n
    if isinstance(options.start, Plan):
        start, basis = start_from(formulation, options.start)
    elif options.start is not None:
        start = given_values(formulation, options.start)
        if not np.isnan(start).any():
            start = completed(formulation, start)
        start = np.concatenate((start, np.full(size - len(start), np.nan)))
    priorities = None
    if options.priorities is not None:
        names = names_of(formulation)
        priorities = np.zeros(size)
        for name, value in options.priorities.items():
            found = names.need(name, ("decisions",))
            priorities[formulation.starts[found.part.name] + found.members] = float(value)
    enforce = None if options.enforce is None else Enforced(formulation, options.enforce)
    return replace(asked, start=start, basis=basis, priorities=priorities, lazy=enforce, cores=options.cores)


def start_from(formulation: Formulation, plan: Plan) -> tuple[Floats | None, Basis | None]:
    """Return values and basis of a plan, of this formulation or one like it; NaN and no basis where it says nothing."""
    old = plan.formulation
    if plan.outcome.x is None:
        return None, None
    x, basis = plan.outcome.x, plan.outcome.basis
    size = lowered(formulation).base.n
    if len(x) == size and _same_names(formulation, old):
        rows = lowered(formulation).base.m
        fits = basis is not None and len(basis.rows) == rows
        return x, basis if fits else None
    place = pd.Index(old.decision_names).get_indexer(pd.Index(formulation.decision_names))
    values = np.full(size, np.nan)
    values[: formulation.size] = np.where(place >= 0, x[place], np.nan)
    helped = formulation.rules or formulation.curves or old.rules or old.curves
    if basis is None or helped:
        return values, None
    row_place = pd.Index(old.constraint_names).get_indexer(pd.Index(formulation.constraint_names))
    # a new row holds itself, a new column rests at a bound; what is left over or lacking the solver sees to
    codes = np.where(place >= 0, basis.columns[place], AT_LOWER)
    row_codes = np.where(row_place >= 0, basis.rows[row_place], BASIC)
    return values, Basis(codes, row_codes)


def _same_names(a: Formulation, b: Formulation) -> bool:
    """Say whether two formulations have the same decisions and constraints by name."""
    families: tuple[tuple[Any, Any], ...] = (
        (a.decisions, b.decisions), (a.constraints, b.constraints), (a.rules, b.rules), (a.curves, b.curves),
    )  # fmt: skip
    if any(len(own) != len(other) for own, other in families):
        return False
    pairs = [pair for own, other in families for pair in zip(own, other, strict=True)]
    if all(p.name == q.name and (p.cells is q.cells or _same_cells(p.cells, q.cells)) for p, q in pairs):
        return True
    return a.decision_names == b.decision_names and a.constraint_names == b.constraint_names


def _same_cells(a: Any, b: Any) -> bool:
    return bool(a.full and b.full and a.axes == b.axes)


class Enforced:
    """Asks the caller about a whole plan and turns the relations that it breaks into rows."""

    def __init__(self, formulation: Formulation, asked: Callable[[Plan], Iterable[Relation]]) -> None:
        self.formulation, self.asked = formulation, asked

    def __call__(self, x: Floats) -> list[LazyRow]:
        """Return the rows that values of all columns break."""
        formulation = self.formulation
        rows: list[LazyRow] = []
        for relation in self.asked(plan_of_values(formulation, x)) or ():
            if not isinstance(relation, Relation):
                raise ModelError(f"enforce: the check returns relations such as go.sum() <= 2, not {relation!r}")
            sides = sides_of(relation)
            row, (lower, upper) = sides.row, sides.bounds
            check_registry(formulation.registry, row)
            columns = formulation.columns_for(row.columns, "an enforced constraint")
            value = np.bincount(row.rows, row.values * x[columns], row.cells.size)
            size = FEASIBILITY * np.maximum(1.0, np.abs(value))
            for k in np.flatnonzero((value < lower - size) | (value > upper + size)).tolist():
                own = row.rows == k
                rows.append((columns[own], row.values[own], float(lower[k]), float(upper[k])))
        return rows
