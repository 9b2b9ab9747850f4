"""What a sweep moves and a reach looks for: limits, bounds, coefficients or data, all to one value or by one factor."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, hstack, vstack

from ruddock.errors import ModelError, known
from ruddock.modelling.changes import Change
from ruddock.modelling.changing import as_range, no_limit
from ruddock.modelling.decisions import numbers_of
from ruddock.modelling.names import Named, names_of, outside_brackets, split_member
from ruddock.problem import Floats, Problem

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model

Sort = Literal["limit", "bound", "price", "other"]  # prices are coefficients of an objective, others need a model each
RELATIONS = {"lower": ">=", "upper": "<=", "both": "=="}


@dataclass(frozen=True, eq=False)
class Lever:
    """A number of the model that moves, or several together.

    Attributes
    ----------
    name : as asked for
    sort : limit, bound, price or other
    factor : whether all are multiplied by the value, in place of going to it
    now : the value in the model: 1 of a factor, NaN where several differ
    unit : of the value
    side : of a limit or bound: ``lower``, ``upper`` or ``both`` for an equation; else empty
    places : rows of limits, columns of bounds
    limits : of each place, as written
    """

    name: str
    target: str
    sort: Sort
    factor: bool
    now: float
    unit: str | None
    side: str
    places: np.ndarray[Any, Any]
    limits: Floats

    @property
    def relation(self) -> str:
        """The relation of the limit as it binds; empty for other numbers."""
        return RELATIONS.get(self.side, "")

    @property
    def many(self) -> bool:
        """Whether several numbers move together."""
        return len(self.places) > 1

    def at(self, value: float) -> list[Change]:
        """Return the changes that put the lever at a value."""
        return [Change(self.target, "*=" if self.factor else "=", float(value))]

    def with_parameter(self, problem: Problem) -> Problem:
        """Return the problem with the value as one more column, free; limits that move stand against it.

        Bounds that move become rows, so that the column's value is all that has to be changed.
        """
        n = problem.n
        move = self.limits if self.factor else np.ones(len(self.places))
        if self.sort == "bound":
            return self._bounds_with_parameter(problem, move)
        rows = csr_matrix((-move, (self.places, np.zeros(len(self.places), np.intp))), shape=(problem.m, 1))
        low, high = problem.row_lower.copy(), problem.row_upper.copy()
        for limits, side in ((low, "lower"), (high, "upper")):
            if self.side in (side, "both"):
                limits[self.places] -= self.limits
        if self.side != "both":
            # the other side of a range stays where it is: it needs the row without the parameter
            other = high if self.side == "lower" else low
            kept = self.places[np.isfinite(other[self.places])]
            own = csr_matrix(problem.matrix())[kept]
            low_kept, high_kept = problem.row_lower[kept].copy(), problem.row_upper[kept].copy()
            (low_kept if self.side == "lower" else high_kept)[:] = -np.inf if self.side == "lower" else np.inf
            other[self.places] = np.inf if self.side == "lower" else -np.inf
            matrix = vstack([hstack([problem.matrix(), rows]), hstack([own, csr_matrix((len(kept), 1))])])
            low, high = np.concatenate((low, low_kept)), np.concatenate((high, high_kept))
        else:
            matrix = hstack([problem.matrix(), rows])
        return _built(problem, matrix, low, high, problem.lower, problem.upper, n)

    def _bounds_with_parameter(self, problem: Problem, move: Floats) -> Problem:
        n, size = problem.n, len(self.places)
        at = np.arange(size)
        entries = csr_matrix(
            (np.concatenate((np.ones(size), -move)), (np.tile(at, 2), np.concatenate((self.places, np.full(size, n))))),
            shape=(size, n + 1),
        )
        matrix = vstack([hstack([problem.matrix(), csr_matrix((problem.m, 1))]), entries])
        lower, upper = problem.lower.copy(), problem.upper.copy()
        free = np.full(size, np.inf)
        if self.side == "lower":
            lower[self.places] = -np.inf
            low, high = np.zeros(size), free
        else:
            upper[self.places] = np.inf
            low, high = -free, np.zeros(size)
        return _built(
            problem, matrix, np.concatenate((problem.row_lower, low)), np.concatenate((problem.row_upper, high)), lower,
            upper, n,
        )  # fmt: skip


def _built(problem: Problem, matrix: Any, low: Floats, high: Floats, lower: Floats, upper: Floats, n: int) -> Problem:
    return Problem.build(
        csc_matrix(matrix), low, high, np.append(lower, -np.inf), np.append(upper, np.inf),
        np.append(problem.costs, 0.0), np.append(problem.kinds, np.uint8(0)), problem.offset,
    )  # fmt: skip


def pick_lever(model: Model, formulation: Formulation, name: str) -> Lever:
    """Find what a name moves: a limit, a family of them, a bound, a coefficient, or data; with ``*`` by one factor.

    Raises
    ------
    ModelError
        If there is no such number to move.
    """
    if not isinstance(name, str):
        raise ModelError(f"what is moved is given by name, not as {name!r}")
    factor = name.endswith("*")
    target = name.removesuffix("*").strip()
    names = names_of(formulation)
    found = names.find(target, ("constraints",))
    if found is not None:
        return _limit(formulation, found, name, target, factor, "")
    for side in ("lower", "upper"):
        if target.endswith(f".{side}"):
            found = names.find(target.removesuffix(f".{side}"), ("constraints", "decisions"))
            if found is not None and found.what == "constraints":
                return _limit(formulation, found, name, target, factor, side)
            if found is not None:
                return _bound(formulation, found, name, target, factor, side)
    if split_member(target)[0] in model.data_names:
        return _other(model, name, target, factor)
    for at in outside_brackets(target, "."):
        row, decision = target[:at], target[at + 1 :]
        owner, chosen = names.find_anything(row), names.find_anything(decision)
        if owner is None or chosen is None or chosen.what != "decisions":
            continue
        if owner.what in ("objectives", "parts"):
            return _price(formulation, owner, chosen, name, target, factor)
        if owner.what == "constraints":
            return _other(model, name, target, factor)
    named = names.find_anything(target)
    if named is not None and named.what == "decisions":
        raise ModelError(f"{target} is a decision; a bound of it can move: {target}.upper or {target}.lower")
    sorts: Any = ("constraints", "decisions")
    hint = known(target, [*names.all(sorts), *model.data_names])
    raise ModelError(
        f"no limit, bound, coefficient or data is called {target!r}; {hint} (a bound is NAME.upper, a coefficient "
        "OBJECTIVE.DECISION)"
    )


def _now(values: Floats, factor: bool) -> float:
    if factor:
        return 1.0
    return float(values[0]) if len(values) and (values == values[0]).all() else float("nan")


def _limit(formulation: Formulation, found: Named, name: str, target: str, factor: bool, side: str) -> Lever:
    family, own = found.part, found.members
    if family.sides.limit_side is None:
        raise no_limit(family, found, name)
    low, high = (part[own] for part in as_range(family.sides))
    equal = low == high
    if equal.all():
        chosen = "both"
    else:
        has = {"lower": np.isfinite(low).all(), "upper": np.isfinite(high).all()}
        if not side and np.isfinite(low).any() and np.isfinite(high).any():
            raise ModelError(f"{target} has a limit on either side; say {target}.lower or {target}.upper")
        chosen = side or ("lower" if has["lower"] else "upper")
        if not has[chosen]:
            raise ModelError(f"{target.removesuffix('.' + chosen)} has no {chosen} limit to move")
    limits = high if chosen == "upper" else low
    return Lever(name, target, "limit", factor, _now(limits, factor), None if factor else family.unit, chosen,
                 formulation.row_starts[family.name] + own, np.array(limits))  # fmt: skip


def _bound(formulation: Formulation, found: Named, name: str, target: str, factor: bool, side: str) -> Lever:
    family = found.part
    bounds = (family.upper if side == "upper" else family.lower)[found.members]
    if family.kind == "binary":
        raise ModelError(f"{family.name} is a binary decision, 0 or 1; its bounds do not move")
    if not np.isfinite(bounds).all() and factor:
        raise ModelError(f"{target}: an unlimited bound cannot be multiplied; give a value")
    places = formulation.starts[family.name] + found.members
    return Lever(name, target, "bound", factor, _now(bounds, factor), None if factor else family.unit, side, places,
                 np.where(np.isfinite(bounds), bounds, 0.0))  # fmt: skip


def _price(formulation: Formulation, owner: Named, chosen: Named, name: str, target: str, factor: bool) -> Lever:
    goal = owner.part
    numbers = numbers_of(chosen.part)[chosen.members]
    parts = [goal.parts[owner.piece]] if owner.what == "parts" else list(goal.parts.values())
    values = np.concatenate([part.values[np.isin(part.columns, numbers)] for part in parts])
    if not len(values) and (factor or len(numbers) > 1):
        raise ModelError(f"no coefficient {target} to move")
    unit = None
    if not factor and goal.unit:
        unit = f"{goal.unit}/{chosen.part.unit}" if chosen.part.unit else goal.unit
    first = goal is formulation.first_objective
    now = _now(values if len(values) else np.zeros(1), factor)
    at = formulation.starts[chosen.part.name] + chosen.members
    return Lever(name, target, "price" if first else "other", factor, now, unit, "", at, values)


def _other(model: Model, name: str, target: str, factor: bool) -> Lever:
    """Return a lever whose values each need a model of their own; what it names is checked by a change that is none."""
    model.changed([Change(target, "*=", 1.0)])
    now = 1.0 if factor else float("nan")
    return Lever(name, target, "other", factor, now, None, "", np.zeros(0, np.intp), np.zeros(0))
