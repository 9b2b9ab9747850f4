"""The check before trust: what looks wrong in a model, found before any solve.

Every check is a pass over arrays, so that all of them take time about linear in the model's size.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np

from ruddock.insight.check_constraints import empty_families, large_switches, odd_equalities, one_sided, parallel
from ruddock.insight.check_decisions import far_bounds, fixed, fractional_bounds, free_siblings, runaway, unused
from ruddock.insight.check_view import View
from ruddock.insight.check_writing import (
    left_out,
    many_orders,
    no_objective,
    nothing_to_do,
    similar_names,
    undeclared,
    unit_mismatches,
)
from ruddock.insight.findings import ORDER, Finding, Findings
from ruddock.modelling.model import Model

CHECKS: tuple[Callable[[View], Iterable[Finding]], ...] = (
    unused,
    runaway,
    fractional_bounds,
    fixed,
    free_siblings,
    far_bounds,
    empty_families,
    one_sided,
    parallel,
    large_switches,
    odd_equalities,
    many_orders,
    unit_mismatches,
    similar_names,
    undeclared,
    left_out,
    nothing_to_do,
    no_objective,
)


def check_model(model: Model) -> Findings:
    """Return what looks wrong in a model; see `Model.check`."""
    found: list[Finding] = []
    with np.errstate(all="ignore"):  # checks work with what is infinite, or becomes so
        view = View(model)
        for look in CHECKS:
            found.extend(look(view))
    found.sort(key=lambda item: ORDER[item.severity])
    return Findings(model.name, tuple(found))
