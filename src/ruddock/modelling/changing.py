"""The one way to change a model: a new formulation made from the old one's parts; the old one stays as it is."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import numpy as np

from ruddock.errors import ModelError, listed
from ruddock.modelling.changes import Change
from ruddock.modelling.decisions import KIND_CODES, Decisions, changed, kinds_of, numbers_of
from ruddock.modelling.formulation import Constraints, Formulation, Objective
from ruddock.modelling.names import Named, UnknownNameError, names_of, outside_brackets
from ruddock.modelling.relation import Sides
from ruddock.modelling.terms import Terms
from ruddock.problem import ENDLESS, Floats

KINDS = ("continuous", "integer", "binary")
Part = Decisions | Constraints | Objective


def with_changes(formulation: Formulation, changes: Iterable[Change]) -> Formulation:
    """Return the formulation with changes of limits, bounds, kinds and coefficients made, in their order.

    Raises
    ------
    UnknownNameError
        If a change names nothing of the model.
    ModelError
        If a change does not fit what it names.
    """
    for change in changes:
        formulation = _applied(formulation, change)
    return formulation


def _applied(formulation: Formulation, change: Change) -> Formulation:
    names = names_of(formulation)
    limit = names.find(change.target, ("constraints",))
    if limit is not None:
        return _with(formulation, limit.part, _limits(limit, change, ""))
    for end in (".lower", ".upper", ".kind"):
        if not change.target.endswith(end):
            continue
        found = names.find(change.target.removesuffix(end), ("constraints", "decisions"))
        if found is not None and found.what == "constraints" and end != ".kind":
            return _with(formulation, found.part, _limits(found, change, end[1:]))
        if found is not None and found.what == "decisions":
            new = _kind(found, change) if end == ".kind" else _bounds(found, change, end[1:])
            return _with(formulation, found.part, new)
    for at in outside_brackets(change.target, "."):
        result = _coefficient(formulation, change, change.target[:at], change.target[at + 1 :])
        if result is not None:
            return result
    raise _unknown(formulation, change)


def _unknown(formulation: Formulation, change: Change) -> ModelError:
    """Return the error for a change that names nothing that can be changed."""
    names = names_of(formulation)
    found = names.find_anything(change.target)
    if found is not None and found.what == "decisions":
        return ModelError(
            f"{change}: {change.target} is a decision, which the model chooses; change {change.target}.lower, "
            f"{change.target}.upper or {change.target}.kind, or require it to be a value"
        )
    if found is not None:
        what = {"rules": "a rule", "quantities": "a quantity", "objectives": "an objective", "parts": "a part of one"}
        return ModelError(
            f"{change}: {change.target} is {what[found.what]}, which has no limit to change; change the data, bounds "
            f"or coefficients in it, such as {change.target}.DECISION"
        )
    base = change.target[: (outside_brackets(change.target, ".") or [len(change.target)])[0]]
    owner = names.find_anything(base)
    rest = change.target[len(base) + 1 :]
    if owner is not None and rest:
        error = names.unknown(rest, ("decisions",))
    else:
        error = names.unknown(base, ("constraints", "decisions"))
    return UnknownNameError(
        f"{change}: {error} (write LIMIT=, DECISION.upper=, DECISION.kind=, or ROW.DECISION= for a coefficient, where "
        "ROW may be the objective or a part of it)"
    )


def _with(formulation: Formulation, old: Part, new: Part) -> Formulation:
    if isinstance(new, Decisions):
        return formulation.changed(decisions=tuple(new if part is old else part for part in formulation.decisions))
    if isinstance(new, Objective):
        return formulation.changed(objectives=tuple(new if part is old else part for part in formulation.objectives))
    return formulation.changed(constraints=tuple(new if part is old else part for part in formulation.constraints))


# ---------------------------------------------------------------------- limits


def _limits(named: Named, change: Change, side: str) -> Constraints:
    """Change the limit as written, one side of a range, or switch it off."""
    family: Constraints = named.part
    own, sides = named.members, family.sides
    if change.value == "off":
        low, high = as_range(sides)
        if side != "upper":
            low[own] = -np.inf
        if side != "lower":
            high[own] = np.inf
        return replace(family, sides=_ranged(sides, low, high))
    if sides.limit_side is None:
        raise no_limit(family, named, change)
    if sides.sense != "between" and not side:
        return replace(family, sides=_moved(sides, own, change))
    low, high = as_range(sides)
    both = np.isfinite(low[own]) & np.isfinite(high[own]) & (low[own] != high[own])
    if not side and both.any() and change.op == "=":
        raise ModelError(f"{change}: {family.name} has a limit on either side; say {change.target}.lower or .upper")
    for limits, name in ((low, "lower"), (high, "upper")):
        at = own[np.isfinite(limits[own])] if not side else own if name == side else own[:0]
        limits[at] = change.applied(limits[at])
    _refuse_nan(change, low, high)
    if (low[own] > high[own]).any():
        raise ModelError(f"{change}: the lower limit would be above the upper one")
    return replace(family, sides=_ranged(sides, low, high))


def no_limit(family: Constraints, named: Named, change: Change | str) -> ModelError:
    """Return the error for a constraint with decisions on both sides, which has no limit to set."""
    member = family.member(int(named.members[0])) if len(named.members) == 1 else family.name
    labels = member[len(family.name) :]
    if family.sources:
        instead = f"change the data that it is made of: {listed(f'{name}{labels}' for name in family.sources)}"
    else:
        instead = f"change a coefficient, such as {member}.DECISION, or a bound, such as DECISION.upper"
    return ModelError(
        f"{change}: both sides of its {family.sense} hold decisions, so it has no limit of its own; {instead}"
    )


def _moved(sides: Sides, own: np.ndarray[Any, Any], change: Change) -> Sides:
    """Change the side that is a plain number."""
    at = "right" if sides.limit_side == "right" else "left"
    terms = sides.right if at == "right" else sides.left
    assert terms is not None
    limits = terms.constants.copy()
    limits[own] = change.applied(limits[own])
    _refuse_nan(change, limits)
    new = replace(terms, constants=limits)
    return replace(sides, right=new) if at == "right" else replace(sides, left=new)


def as_range(sides: Sides) -> tuple[Floats, Floats]:
    """Return the limits of the row's side as written, constants of that side left where they are."""
    lower, upper = sides.bounds
    shift = _row_side(sides).constants
    return lower + shift, upper + shift


def _row_side(sides: Sides) -> Terms:
    """Return the side whose value a range limits: the one with decisions, or both on one."""
    if sides.right is not None and not sides.right.plain:
        return sides.right if sides.left.plain else sides.row
    return sides.left


def _ranged(sides: Sides, low: Floats, high: Floats) -> Sides:
    return Sides(_row_side(sides), "between", None, low, high)


def _refuse_nan(change: Change, *values: Floats) -> None:
    if any(np.isnan(part).any() for part in values):
        raise ModelError(f"{change}: an unlimited side cannot be multiplied by 0")


# ---------------------------------------------------------------------- bounds and kinds


def _bounds(named: Named, change: Change, side: str) -> Decisions:
    family: Decisions = named.part
    own = named.members
    lower, upper = family.lower.copy(), family.upper.copy()
    bounds = lower if side == "lower" else upper
    bounds[own] = (-np.inf if side == "lower" else np.inf) if change.value == "off" else change.applied(bounds[own])
    _refuse_nan(change, bounds)
    if family.kind == "binary" and ((lower[own] < 0.0) | (upper[own] > 1.0)).any():
        raise ModelError(
            f"{change}: {family.name} is a binary decision, 0 or 1; for more, change {family.name}.kind to integer "
            "first"
        )
    if (lower > upper).any():
        raise ModelError(f"{change}: the lower bound would be above the upper one")
    if (lower >= ENDLESS).any() or (upper <= -ENDLESS).any():
        raise ModelError(f"{change}: such a bound leaves no value")
    return changed(family, lower, upper, kinds_of(family).copy())


def _kind(named: Named, change: Change) -> Decisions:
    if change.value not in KINDS:
        raise ModelError(f"{change}: a kind is one of {', '.join(KINDS)}")
    family: Decisions = named.part
    own = named.members
    lower, upper, kinds = family.lower.copy(), family.upper.copy(), kinds_of(family).copy()
    kinds[own] = KIND_CODES[str(change.value)]
    if change.value == "binary":
        lower[own], upper[own] = np.maximum(lower[own], 0.0), np.minimum(upper[own], 1.0)
        if (lower[own] > upper[own]).any():
            raise ModelError(f"{change}: its bounds leave neither 0 nor 1")
    return changed(family, lower, upper, kinds)


# ---------------------------------------------------------------------- coefficients


def _coefficient(formulation: Formulation, change: Change, row: str, decision: str) -> Formulation | None:
    """Change the coefficient of a decision in an objective, a part of one, or a constraint; None if not known."""
    names = names_of(formulation)
    chosen = names.find(decision, ("decisions",)) if names.find_anything(decision) else None
    owner = names.find(row, ("constraints", "objectives", "parts")) if names.find_anything(row) else None
    if chosen is None or owner is None:
        return None
    columns = numbers_of(chosen.part)[chosen.members]
    if owner.what in ("objectives", "parts"):
        goal: Objective = owner.part
        pieces = [owner.piece] if owner.what == "parts" else list(goal.parts)
        holding = [name for name in pieces if np.isin(goal.parts[name].columns, columns).any()]
        if len(holding) > 1:
            raise ModelError(
                f"{change}: {decision} is in several parts of {row}, {listed(holding)}; name the part: "
                f"{holding[0]}.{decision}"
            )
        if not holding and len(pieces) > 1:
            raise ModelError(f"{change}: {decision} is in no part of {row}; name the part: {pieces[0]}.{decision}")
        piece = (holding or pieces)[0]
        parts = dict(goal.parts)
        parts[piece] = _with_terms(goal.parts[piece], np.zeros(1, np.intp), columns, change)
        return _with(formulation, goal, replace(goal, parts=parts))
    family: Constraints = owner.part
    return _with(formulation, family, replace(family, sides=_side_changed(family.sides, owner, columns, change)))


def _side_changed(sides: Sides, owner: Named, columns: np.ndarray[Any, Any], change: Change) -> Sides:
    """Change the coefficient on the side where it is written."""
    if sides.right is None or sides.right.plain:
        return replace(sides, left=_with_terms(sides.left, owner.members, columns, change))
    rows = owner.members
    on = [bool((np.isin(side.rows, rows) & np.isin(side.columns, columns)).any()) for side in (sides.left, sides.right)]
    if all(on):
        raise ModelError(f"{change}: the decision is on both sides of {owner.part.name}; rewrite the constraint")
    if on[1] or (sides.left.plain and not on[0]):
        return replace(sides, right=_with_terms(sides.right, rows, columns, change))
    return replace(sides, left=_with_terms(sides.left, rows, columns, change))


def _with_terms(terms: Terms, rows: np.ndarray[Any, Any], columns: np.ndarray[Any, Any], change: Change) -> Terms:
    """Return the terms with the coefficients of the columns in the rows changed.

    Where the change is one of what is there (``*=``, ``+=``), only coefficients that are there change; of a family
    against a family those of the same labels would be meant, so that a new coefficient needs single members.
    """
    mine = np.isin(terms.rows, rows) & np.isin(terms.columns, columns)
    at_rows, at_columns = terms.rows[mine], terms.columns[mine]
    if len(at_rows):
        keys = at_rows.astype(np.int64) * (int(columns.max()) + 1) + at_columns
        distinct, first, group = np.unique(keys, return_index=True, return_inverse=True)
        old: Floats = np.bincount(group, terms.values[mine], len(distinct)).astype(np.float64)
        at_rows, at_columns = at_rows[first], at_columns[first]
    elif len(rows) * len(columns) == 1:
        at_rows, at_columns, old = rows.astype(np.intp), columns, np.zeros(1, np.float64)
    else:
        raise ModelError(f"{change}: no such coefficient; to add one, name one member of each")
    new = change.applied(old)
    if not np.isfinite(new).all():
        raise ModelError(f"{change}: a coefficient is a finite number")
    return replace(
        terms,
        rows=np.concatenate((terms.rows[~mine], at_rows)),
        columns=np.concatenate((terms.columns[~mine], at_columns)),
        values=np.concatenate((terms.values[~mine], new)),
        aligned=False,
    )
