"""One limit of a model picked by name, to be moved."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.errors import ModelError, known
from ruddock.problem import Problem

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation


@dataclass(frozen=True)
class Limit:
    """A limit of one row.

    Attributes
    ----------
    name : as asked for
    row : number in the problem
    side : ``lower``, ``upper`` or ``both`` for an equation
    now : its value in the model
    unit : of the constraint
    """

    name: str
    row: int
    side: str
    now: float
    unit: str | None

    @property
    def relation(self) -> str:
        """The relation as written."""
        return {"lower": ">=", "upper": "<=", "both": "=="}[self.side]

    def moved_in(self, formulation: Formulation, value: float) -> Formulation:
        """Return a formulation with the limit at another value."""
        family, at = formulation.constraint_at(self.row)
        lower, upper = family.lower.copy(), family.upper.copy()
        if self.side != "upper":
            lower[at] = value
        if self.side != "lower":
            upper[at] = value
        new = replace(family, lower=lower, upper=upper)
        constraints = tuple(new if f is family else f for f in formulation.constraints)
        return replace(formulation, constraints=constraints, arrays=None)

    def moved(self, problem: Problem, value: float) -> Problem:
        """Return a problem with the limit at another value."""
        low, high = problem.row_lower.copy(), problem.row_upper.copy()
        if self.side != "upper":
            low[self.row] = value
        if self.side != "lower":
            high[self.row] = value
        return replace(problem, row_lower=low, row_upper=high)


def pick_limit(formulation: Formulation, name: str) -> Limit:
    """Find a limit by the name of its constraint, with ``.lower`` or ``.upper`` where it has two.

    Raises
    ------
    ModelError
        If there is no such single limit.
    """
    base, _, side = name.rpartition(".")
    names = formulation.constraint_names
    if name not in names and side in ("lower", "upper") and base in names:
        row, asked = names.index(base), side
    elif name in names:
        row, asked = names.index(name), ""
    else:
        members = [member for member in names if member.startswith(name + "[")]
        if members:
            raise ModelError(f"{name!r} is a family of {len(members):,}; name one member, such as {members[0]!r}")
        raise ModelError(f"there is no constraint called {name!r}; {known(name, names)}")
    family, at = formulation.constraint_at(row)
    low, high = float(family.lower[at]), float(family.upper[at])
    if low == high:
        return Limit(name, row, "both", low, family.unit)
    finite: dict[str, Any] = {key: v for key, v in (("lower", low), ("upper", high)) if np.isfinite(v)}
    if not asked and len(finite) == 2:
        raise ModelError(f"{name} has a limit on either side; say {name}.lower or {name}.upper")
    asked = asked or next(iter(finite), "")
    if asked not in finite:
        raise ModelError(f"{name} has no {asked or 'limit'} limit to move" if asked else f"{name} has no limit to move")
    return Limit(name, row, asked, finite[asked], family.unit)
