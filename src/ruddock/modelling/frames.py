"""The values of a plan as tables: decisions, constraints with both sides as written, objectives."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.outcome import FEASIBILITY
from ruddock.modelling.axis import Axis
from ruddock.modelling.decisions import kind_words
from ruddock.modelling.formulation import Constraints, Formulation
from ruddock.modelling.series import AnySeries
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan


def decisions_frame(plan: Plan) -> pd.DataFrame:
    """Return all decisions, one row each; see `Plan.decisions`."""
    formulation = plan.formulation
    assert plan.outcome.x is not None
    x = plan.outcome.x[: formulation.size]
    families = formulation.decisions
    reduced = plan.outcome.reduced
    empty = np.zeros(0)
    return pd.DataFrame(
        {
            "value": x + 0.0,
            "unit": _spread([family.unit for family in families], families),
            "kind": np.concatenate([kind_words(family) for family in families]) if families else [],
            "lower": np.concatenate([family.lower for family in families]) if families else empty,
            "upper": np.concatenate([family.upper for family in families]) if families else empty,
            "reduced_cost": np.full(len(x), np.nan) if reduced is None else plan.sign * reduced[: len(x)] + 0.0,
        },
        index=pd.Index(formulation.decision_names, name="decision"),
    )


def constraints_frame(plan: Plan) -> pd.DataFrame:
    """Return all constraints, one row each; see `Plan.constraints`."""
    formulation = plan.formulation
    x = plan.outcome.x
    assert x is not None
    y = plan.outcome.y
    parts = [
        _family_frame(formulation, family, x, None if y is None else y[first : first + family.cells.size], plan.sign)
        for family in formulation.constraints
        for first in [formulation.row_starts[family.name]]
    ]
    names = ("left", "relation", "right", "slack", "binding", "shadow_price")
    columns = {
        name: np.concatenate([part[name] for part in parts])
        if parts
        else np.zeros(0, bool if name == "binding" else float)
        for name in names
    }
    units = _spread([family.unit for family in formulation.constraints], formulation.constraints)
    return pd.DataFrame({**columns, "unit": units}, index=pd.Index(formulation.constraint_names, name="constraint"))


def _family_frame(
    formulation: Formulation, family: Constraints, x: Floats, y: Floats | None, sign: float
) -> dict[str, Any]:
    """Return the columns of one family."""
    sides = family.sides
    left = formulation.evaluate(sides.left, x)
    size = len(left)
    price = np.full(size, np.nan) if y is None else sign * y + 0.0
    if sides.right is not None:
        right = formulation.evaluate(sides.right, x)
        difference = right - left
        slack = {"<=": difference, ">=": -difference, "==": -np.abs(difference)}[sides.sense]
        relation = np.full(size, sides.sense, dtype=object)
        scale = np.where(np.isfinite(right), np.abs(right), 0.0)
    else:
        assert sides.low is not None
        assert sides.high is not None
        below, above = left - sides.low, sides.high - left
        at_lower = below < above
        if y is not None:
            at_lower = np.where(np.isfinite(sides.low) & np.isfinite(sides.high) & (y != 0), y > 0, at_lower)
        right = np.where(at_lower, sides.low, sides.high)
        equal = sides.low == sides.high
        slack = np.where(equal, -np.abs(left - right), np.minimum(below, above))
        free = np.isinf(sides.low) & np.isinf(sides.high)
        relation = np.where(free, "free", np.where(equal, "==", np.where(at_lower, ">=", "<="))).astype(object)
        right = np.where(free, np.nan, right)
        scale = np.where(np.isfinite(right), np.abs(right), 0.0)
    # what rounding leaves beside the limit is not a distance
    slack = np.where(np.abs(slack) <= 1e-9 * np.maximum(1.0, scale), 0.0, slack)
    binding = (slack <= FEASIBILITY * np.maximum(1.0, scale)) & (relation != "free")
    return {
        "left": left + 0.0, "relation": relation, "right": right + 0.0, "slack": slack + 0.0, "binding": binding,
        "shadow_price": price,
    }  # fmt: skip


def objectives_frame(plan: Plan) -> pd.DataFrame:
    """Return all objectives in their order; see `Plan.objectives`."""
    formulation, x = plan.formulation, plan.outcome.x
    assert x is not None
    rows = []
    for k, goal in enumerate(formulation.objectives):
        stage = plan.stages[k] if k < len(plan.stages) else None
        known = stage is not None and bool(np.isfinite(stage.bound)) and plan.status != "unbounded"
        rows.append(
            {
                "sense": goal.sense,
                "value": formulation.objective_value(goal, x),
                "bound": goal.sign * stage.bound if known and stage is not None else np.nan,
                "unit": goal.unit or "",
                "proven": stage is not None and stage.proven,
            }
        )
    columns = ["sense", "value", "bound", "unit", "proven"]
    index = pd.Index([goal.name for goal in formulation.objectives], name="objective")
    return pd.DataFrame(rows, index=index, columns=columns)


def quantities_frame(plan: Plan) -> pd.DataFrame:
    """Return all quantities and values of curves, one row each; see `Plan.quantities`."""
    x = plan.outcome.x
    assert x is not None
    values = plan.formulation.quantity_values(x)
    units = plan.formulation.quantity_units
    index = pd.Index(list(values), name="quantity")
    return pd.DataFrame({"value": list(values.values()), "unit": [units[name] or "" for name in values]}, index=index)


def history_frame(plan: Plan) -> pd.DataFrame:
    """Return how a search went, a row whenever a better plan was found; see `Plan.history`."""
    moments = plan.outcome.history
    return pd.DataFrame(
        {
            "seconds": [m.seconds for m in moments],
            "nodes": [m.nodes for m in moments],
            "best": [plan.sign * m.best for m in moments],
            "bound": [plan.sign * m.bound for m in moments],
        }
    )


def two_way(series: AnySeries, axes: Sequence[Axis]) -> pd.DataFrame:
    """Return values on two axes or more as a table: the last axis across, in the order of the labels."""
    levels = [axis.labels for axis in axes]
    wide = series.unstack(-1)
    wide = wide.reindex(columns=[label for label in levels[-1] if label in wide.columns])
    if series.index.nlevels == 2:
        wide = wide.reindex([label for label in levels[0] if label in wide.index])
    return wide


def distinct(names: Iterable[str], taken: Iterable[str], what: str) -> list[str]:
    """Return names for columns next to columns of ours: one that is taken gets what it is behind it.

    >>> distinct(["jars", "objective"], ["objective"], "decision")
    ['jars', 'objective (decision)']
    """
    held = set(taken)
    result = []
    for name in names:
        chosen = f"{name} ({what})" if name in held else name
        held.add(chosen)
        result.append(chosen)
    return result


def _spread(values: list[str | None], families: tuple[Any, ...]) -> list[str]:
    return [value or "" for value, family in zip(values, families, strict=True) for _ in range(family.cells.size)]
