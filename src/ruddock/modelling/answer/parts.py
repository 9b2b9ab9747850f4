"""An objective by its parts: as they were named, or by family of decisions."""

from __future__ import annotations

import numpy as np

from ruddock.modelling.decisions import goes_by_label
from ruddock.modelling.formulation import Formulation, Objective
from ruddock.modelling.terms import Terms
from ruddock.problem import Floats


def parts_of(goal: Objective, formulation: Formulation, x: Floats) -> dict[str, float]:
    """Return what each part of an objective comes to at a point; by family if it was written as one expression."""
    by_family = goal.single and not any(map(goes_by_label, formulation.decisions))
    parts: dict[str, float] = {}
    for name, part in goal.parts.items():
        if by_family:
            parts |= _by_family(part, formulation, x)
        else:
            parts[name] = float(formulation.evaluate(part, x, name)[0])
    return parts


def _by_family(part: Terms, formulation: Formulation, x: Floats) -> dict[str, float]:
    """Return what each family of decisions, and each curve, brings to an expression."""
    columns = formulation.columns_for(part.columns, "the objective")
    held = [(family.name, len(family)) for family in formulation.decisions]
    held += [(curve.name, len(curve.numbers)) for curve in formulation.curves]
    ends = np.cumsum([size for _, size in held])
    owner = np.searchsorted(ends, columns, side="right")
    sums = np.bincount(owner, part.values * x[columns], len(held))
    result = {held[k][0]: float(sums[k]) for k in np.unique(owner).tolist()}
    return result | ({"constant": float(part.constants[0])} if part.constants[0] else {})
