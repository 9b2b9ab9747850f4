"""What one unit more of a limit is truly worth, for the few limits that a plan shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ruddock.engine.outcome import BASIC, FEASIBILITY
from ruddock.insight.sensitivity import ranging_of, row_side
from ruddock.modelling.frames import constraints_frame
from ruddock.modelling.lowering import lowered
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan

MOST_SIZE = 50_000  # rows and columns up to which prices of a degenerate plan are worked out one by one


@dataclass(frozen=True)
class Worth:
    """What a limit is worth for a small move, as written; NaN where there is then no plan.

    Attributes
    ----------
    more, less : change of the first objective per unit that the limit rises, and falls
    """

    more: float
    less: float

    @property
    def one(self) -> bool:
        """Whether it is the same upwards and downwards, so that one price says all."""
        return bool(abs(self.more + self.less) <= 1e-7 * max(1.0, abs(self.more)))


def worth_of(plan: Plan, rows: Sequence[int]) -> list[Worth] | None:
    """Return what the limits of some rows are worth; None where a plan is degenerate and too large to work it out."""
    y = plan.outcome.y
    assert y is not None
    if nondegenerate(plan):
        return [Worth(plan.sign * float(y[i]) + 0.0, -plan.sign * float(y[i]) + 0.0) for i in rows]
    problem = lowered(plan.formulation).base
    if problem.m + problem.n > MOST_SIZE:
        return None
    ranging = ranging_of(plan)
    relations = constraints_frame(plan)["relation"].tolist()
    found = []
    for i in rows:
        side = row_side(plan.formulation, i, str(relations[i]))
        more, less = (ranging.price(i, side, step) for step in (1.0, -1.0))
        found.append(
            Worth(
                np.nan if np.isinf(more) else plan.sign * more + 0.0,
                np.nan if np.isinf(less) else -plan.sign * less + 0.0,
            )
        )
    return found


def nondegenerate(plan: Plan) -> bool:
    """Say whether no basic value is at a limit: then prices are the only ones, and hold both ways."""
    outcome, problem = plan.outcome, lowered(plan.formulation).base
    if outcome.basis is None or outcome.x is None or outcome.activity is None or len(plan.stages) > 1:
        return False
    basic, rows = outcome.basis.columns == BASIC, outcome.basis.rows == BASIC
    return not (
        _at_limit(outcome.x[basic], problem.lower[basic], problem.upper[basic])
        or _at_limit(outcome.activity[rows], problem.row_lower[rows], problem.row_upper[rows])
    )


def _at_limit(values: Floats, lower: Floats, upper: Floats) -> bool:
    for limit in (lower, upper):
        known = np.isfinite(limit)
        distance = np.abs(values[known] - limit[known])
        if (distance <= FEASIBILITY * np.maximum(1.0, np.abs(limit[known]))).any():
            return True
    return False
