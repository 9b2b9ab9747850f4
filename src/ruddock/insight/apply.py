"""Applying changes to a formulation, family by family; the formulation given stays as it is."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ruddock.errors import ModelError, known
from ruddock.modelling.changes import Change
from ruddock.modelling.decisions import MARKS, Decisions
from ruddock.modelling.expression import Expression
from ruddock.modelling.formulation import Constraints, Formulation

if TYPE_CHECKING:
    from ruddock.modelling.model import Model

KINDS = ("continuous", "integer", "binary")


def changed_formulation(model: Model, changes: Iterable[Change]) -> Formulation:
    """Return the model's formulation with the changes made, data first, then the rest in their order.

    Raises
    ------
    ModelError
        If a change names nothing of the model, or does not fit what it names.
    """
    changes = list(changes)
    data = [change for change in changes if change.family in model.data_names]
    if data:
        assert model.again is not None
        model = model.again(data)
    formulation = replace(model.formulation(), arrays=None)
    for change in changes:
        if change not in data:
            formulation = _applied(formulation, change, model.data_names)
    return formulation


def _applied(formulation: Formulation, change: Change, data_names: tuple[str, ...]) -> Formulation:
    base, dot, what = change.target.rpartition(".")
    families: list[Constraints | Decisions] = [*formulation.constraints, *formulation.decisions]
    for limited in formulation.constraints:
        own = _own(limited, change.target)
        if own.any():
            return _with_constraints(formulation, limited, _limits(limited, change, own, ""))
    if dot and what in ("lower", "upper", "kind"):
        for family in families:
            own = _own(family, base)
            if own.any() and isinstance(family, Constraints) and what != "kind":
                return _with_constraints(formulation, family, _limits(family, change, own, what))
            if own.any() and isinstance(family, Decisions):
                changed = _kind(family, change, own) if what == "kind" else _bounds(family, change, own, what)
                decisions = tuple(changed if f is family else f for f in formulation.decisions)
                return replace(formulation, decisions=decisions)
    for at, sign in enumerate(change.target):
        if sign == ".":
            found = _coefficient(formulation, change, change.target[:at], change.target[at + 1 :])
            if found is not None:
                return found
    raise _unknown(formulation, change, data_names)


def _unknown(formulation: Formulation, change: Change, data_names: tuple[str, ...]) -> ModelError:
    """Return the error for a change that names nothing, with what it may have meant."""
    base, dot, _ = change.target.partition(".")
    families: list[Constraints | Decisions] = [*formulation.constraints, *formulation.decisions]
    names = [f.name for f in families if not f.listed] + [m for f in families for m in f.members()]
    rows = [part for o in formulation.objectives for part in (o.name, *o.parts)]
    hint = known(base, list(dict.fromkeys([*names, *data_names, *(rows if dot else ())])))
    if dot and base in (*names, *rows):
        hint = known(change.target[len(base) + 1 :], [m for f in formulation.decisions for m in f.members()])
    return ModelError(
        f"{change}: there is no limit, decision or data of that name; {hint} (write LIMIT=, DECISION.upper=, "
        "DECISION.kind=, or ROW.DECISION= for a coefficient, where ROW may be the objective or a part of it)"
    )


def _own(family: Constraints | Decisions, name: str) -> np.ndarray:
    if name == family.name and not family.listed:
        return np.ones(family.cells.size, bool)
    return np.array([member == name for member in family.members()], bool)


def _with_constraints(formulation: Formulation, old: Constraints, new: Constraints) -> Formulation:
    return replace(formulation, constraints=tuple(new if f is old else f for f in formulation.constraints))


def _limits(family: Constraints, change: Change, own: np.ndarray, side: str) -> Constraints:
    """Change limits: those that there are, or the side named."""
    lower, upper = family.lower.copy(), family.upper.copy()
    if change.value == "off":
        if side != "upper":
            lower[own] = -np.inf
        if side != "lower":
            upper[own] = np.inf
        return replace(family, lower=lower, upper=upper)
    both = own & np.isfinite(lower) & np.isfinite(upper) & (lower != upper)
    if not side and both.any() and change.op == "=":
        raise ModelError(f"{change}: {family.name} has a limit on either side; say {change.target}.lower or .upper")
    for limits, name in ((lower, "lower"), (upper, "upper")):
        at = own & (np.isfinite(limits) if not side else name == side)
        limits[at] = change.applied(limits[at])
    if (lower > upper).any():
        raise ModelError(f"{change}: the lower limit would lie above the upper one")
    return replace(family, lower=lower, upper=upper)


def _bounds(family: Decisions, change: Change, own: np.ndarray, side: str) -> Decisions:
    lower, upper = family.lower.copy(), family.upper.copy()
    bounds = lower if side == "lower" else upper
    bounds[own] = (-np.inf if side == "lower" else np.inf) if change.value == "off" else change.applied(bounds[own])
    if (lower > upper).any():
        raise ModelError(f"{change}: the lower bound would lie above the upper one")
    return family.with_bounds(lower, upper)


def _kind(family: Decisions, change: Change, own: np.ndarray) -> Decisions:
    if change.value not in KINDS:
        raise ModelError(f"{change}: a kind is one of {', '.join(KINDS)}")
    lower, upper, marks = family.lower.copy(), family.upper.copy(), family.marks.copy()
    marks[own] = MARKS[str(change.value)]
    if change.value == "binary":
        lower[own], upper[own] = np.maximum(lower[own], 0.0), np.minimum(upper[own], 1.0)
    return family.with_bounds(lower, upper, marks)


def _coefficient(formulation: Formulation, change: Change, row: str, decision: str) -> Formulation | None:
    """Change the coefficient of a decision in an objective, a part of one, or a constraint; None if not known."""
    numbers = [
        family.first + np.flatnonzero(own) for family in formulation.decisions if (own := _own(family, decision)).any()
    ]
    if not numbers:
        return None
    columns = np.concatenate(numbers)
    for objective in formulation.objectives:
        parts = [name for name in objective.parts if row in (name, objective.name)]
        # an objective of several parts leaves open which of them is meant
        holding = [name for name in parts if np.isin(objective.parts[name].columns, columns).any()] or parts[:1]
        if holding:
            new = dict(objective.parts)
            new[holding[0]] = _with_terms(objective.parts[holding[0]], np.zeros(1, np.intp), columns, change)
            objectives = tuple(replace(o, parts=new) if o is objective else o for o in formulation.objectives)
            return replace(formulation, objectives=objectives)
    for family in formulation.constraints:
        own = _own(family, row)
        if own.any():
            expr = _with_terms(family.expression, np.flatnonzero(own), columns, change)
            return _with_constraints(formulation, family, replace(family, expression=expr))
    return None


def _with_terms(expr: Expression, rows: np.ndarray, columns: np.ndarray, change: Change) -> Expression:
    """Return the expression with the coefficients of the columns in the rows changed."""
    mine = np.isin(expr.rows, rows) & np.isin(expr.columns, columns)
    at_rows, at_columns = np.repeat(rows, len(columns)), np.tile(columns, len(rows))
    old = np.zeros(len(at_rows))
    place = {pair: k for k, pair in enumerate(zip(at_rows.tolist(), at_columns.tolist(), strict=True))}
    for i, j, value in zip(
        expr.rows[mine].tolist(), expr.columns[mine].tolist(), expr.values[mine].tolist(), strict=True
    ):
        old[place[i, j]] += value
    terms = (
        np.concatenate((expr.rows[~mine], at_rows)),
        np.concatenate((expr.columns[~mine], at_columns)),
        np.concatenate((expr.values[~mine], change.applied(old))),
    )
    return Expression(expr.model, expr.cells, terms, expr.constants, summed=True, units=expr.units)
