"""Sweeps along a limit, and limits that reach a target, as sentences and tables."""

from __future__ import annotations

import numpy as np

from ruddock.insight.reach import Reach
from ruddock.insight.sweep import Sweep
from ruddock.reporting.text import plan_parts
from ruddock.tables import Table, amount, capped, number

MOST_ROWS = 40
MOST_DECISIONS = 6


def sweep_parts(found: Sweep) -> list[str | Table]:
    """Return a sweep: a sentence, then a row for each point."""
    unit = f" {found.limit.unit}" if found.limit.unit else ""
    name = found.objective_name or "the objective"
    head = f"{name} along {found.limit.name} ({found.limit.relation}, now {number(found.limit.now)}{unit})"
    if not len(found.points):
        return [f"{head}: no plan anywhere in this range."]
    kind = (
        "Between two rows the objective is a straight line: these are all its corners."
        if found.exact
        else "Whole-number decisions: only these points were solved."
    )
    parts: list[str | Table] = [f"{head[0].upper()}{head[1:]}. {kind}"]
    parts.append(f"Plans exist from {number(found.first)} to {number(found.last)}{unit} of the range asked for.")
    moving = [c for c in found.decisions.columns if np.ptp(found.decisions[c].to_numpy(float)) > 1e-9]
    told = sorted(moving, key=lambda c: -np.ptp(found.decisions[c].to_numpy(float)))[:MOST_DECISIONS]
    told = [c for c in found.decisions.columns if c in told]
    rows = []
    for at, objective, price, values in zip(
        found.points.index.tolist(),
        found.points["objective"].tolist(),
        found.points["price"].tolist(),
        found.decisions[told].to_numpy(float).tolist(),
        strict=True,
    ):
        per = "" if np.isnan(price) else ("+" if price > 0 else "") + amount(price + 0.0, found.unit)
        rows.append((number(at), amount(objective, found.unit), per, *map(number, values)))
    shown, more = capped(rows, MOST_ROWS)
    headings = [f">{found.limit.name}", f">{name}", ">one more, from here", *(f">{c}" for c in told)]
    left = len(moving) - len(told)
    note = f"{left:,} more decisions move as well." if left > 0 else ""
    parts.append(Table("", headings, shown, note=note, more=more))
    return parts


def reach_parts(found: Reach) -> list[str | Table]:
    """Return the limit that reaches a target, and the plan there."""
    unit = f" {found.limit.unit}" if found.limit.unit else ""
    now = f"now {number(found.limit.now)}{unit}"
    if found.status == "stopped":
        return [f"{found.target}: the search stopped before it was settled."]
    if found.value is None:
        return [f"{found.target}: no value of {found.limit.name} ({now}) allows it. This is proven."]
    if np.isinf(found.value):
        return [f"{found.target}: {found.limit.name} ({now}) does not stand in the way, however tight it is."]
    word = {"upper": "at least", "lower": "at most", "both": "as near as"}[found.limit.side]
    change = found.change or 0.0
    moved = f"{number(abs(change))}{unit} {'more' if change > 0 else 'less'} than now"
    if abs(change) < 1e-9:
        moved = "as it is now"
    head = f"{found.target} needs {found.limit.name} {word} {number(found.value)}{unit}: {moved}."
    return [head, *(plan_parts(found.plan)[1:] if found.plan is not None else [])]
