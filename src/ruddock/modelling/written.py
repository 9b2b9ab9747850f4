"""Limits of rows as they were written, for texts about the engine's rows."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.numbers import as_written
from ruddock.modelling.changing import as_range
from ruddock.modelling.relation import TURNED

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation


def limit_of(formulation: Formulation, row: int, *, upper: bool) -> tuple[str, float]:
    """Return relation and limit of one side of a row as written; NaN where both sides hold decisions."""
    family, at = formulation.constraint_at(row)
    sides = family.sides
    relation = "<=" if upper else ">="
    if sides.limit_side is None:
        return sides.sense if sides.sense in ("<=", ">=") else relation, float("nan")
    low, high = as_range(sides)
    value = float((high if upper else low)[at])
    # with the limit on the left, as in 20 >= x, the relation is the one written
    if sides.limit_side == "left":
        return TURNED[relation], value
    return relation, value


def rule_text(formulation: Formulation, row: int, *, upper: bool) -> str:
    """Return one side of a constraint in words: ``supply[Fell] <= 40``; its name alone where it has no limit."""
    family, at = formulation.constraint_at(row)
    relation, value = limit_of(formulation, row, upper=upper)
    return family.member(at) if np.isnan(value) else f"{family.member(at)} {relation} {as_written(value)}"
