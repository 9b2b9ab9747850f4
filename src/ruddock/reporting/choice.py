"""Which figure fits a plan, so that a report can show it without being asked."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

import pandas as pd

from ruddock.insight.region import region_of
from ruddock.reporting.pictures import bars_figure, region_figure, schedule_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.axis import Axis
    from ruddock.modelling.plan import Plan

REGION_KINDS = ("continuous", "integer", "binary")
FEWEST, MOST = 4, 400  # labels of an axis that a figure runs along
MOST_LINES = 40  # of a schedule, one for each part
MOST_MEMBERS = 20_000  # of a family that is drawn
NAMES_OF_TIMES = ("%b", "%B", "%a", "%A")  # months and days


def figure_for(plan: Plan) -> tuple[Callable[[Axes], Axes], float] | None:
    """Return what draws a plan, and its height in inches; None where no figure says more than its tables.

    Two decisions are drawn as a region, a family along an axis that runs in order as bars, yes or no as blocks.
    """
    formulation = plan.formulation
    own = formulation.decisions
    if len(own) == 2 and not own[0].axes and not own[1].axes and plan.objective_name:
        drawable = all(family.kind in REGION_KINDS for family in own) and plan.status == "optimal"
        if not drawable or formulation.rules or formulation.curves:
            return None
        return partial(region_figure, region_of(plan)), 5.0
    for family in own:
        if not family.axes or len(family) > MOST_MEMBERS or not _runs_in_order(family.axes[-1]):
            continue
        name, parts = family.name, -(-len(family) // len(family.axes[-1]))
        if family.kind != "binary":
            return partial(_bars, plan, name), 4.5
        if len(family.axes) > 1 and parts <= MOST_LINES:
            return partial(schedule_figure, plan, name, None), 1.2 + 0.35 * parts
    return None


def _bars(plan: Plan, family: str, ax: Axes) -> Axes:
    return bars_figure([("plan", plan)], family, None, ax)


def _runs_in_order(axis: Axis) -> bool:
    """Tell whether labels are steps of time or size: dates, numbers that rise, or names of months or days."""
    if not FEWEST <= len(axis) <= MOST:
        return False
    if isinstance(axis.labels, (pd.DatetimeIndex, pd.PeriodIndex)):
        return True
    numbers = pd.to_numeric(pd.Series(axis.texts), errors="coerce")
    if numbers.notna().all():
        return bool(numbers.is_monotonic_increasing)
    return any(all(_reads_as(text, form) for text in axis.texts) for form in NAMES_OF_TIMES)


def _reads_as(text: str, form: str) -> bool:
    try:
        datetime.strptime(text, form)
    except ValueError:
        return False
    return True
