"""Sweeps along a limit, and limits that reach a target, as sentences and tables."""

from __future__ import annotations

import numpy as np

from ruddock.insight.reach import Reach
from ruddock.insight.sweep import Sweep
from ruddock.reporting.text import STOPPED_BY, plan_parts
from ruddock.tables import Table, amount, capped, number

MOST_ROWS = 40
MOST_DECISIONS = 6
MOST_NOTES = 3


def sweep_parts(found: Sweep) -> list[str | Table]:
    """Return a sweep: sentences, then a row for each point."""
    lever = found.lever
    names = " and ".join(goal.name for goal in found.goals) or "the objective"
    head = f"{names} along {lever.name} ({_as_it_is(found)})"
    if not len(found.points):
        if found.stopped is not None:
            return [f"{head}: stopped by {STOPPED_BY[found.stopped]} before any point was solved."]
        return [f"{head}: no plan anywhere in this range."]
    parts: list[str | Table] = [f"{head[0].upper()}{head[1:]}. {_kind(found)}", _where(found)]
    if found.stopped is not None:
        parts.append(f"Stopped by {STOPPED_BY[found.stopped]}: the rest of the range was not solved.")
    notes = [f"{number(at)}: {note}" for at, note in found.notes.items() if note not in ("infeasible", "unbounded")]
    parts += [f"Not solved at {note}" for note in notes[:MOST_NOTES]]
    parts.append(_table(found))
    return parts


def _as_it_is(found: Sweep) -> str:
    lever = found.lever
    unit = f" {lever.unit}" if lever.unit else ""
    if lever.factor:
        return "a factor, now 1"
    now = "the members now differ" if np.isnan(lever.now) and lever.many else f"now {number(lever.now)}{unit}"
    if np.isnan(lever.now) and not lever.many:
        return lever.relation or "as it is"
    return ", ".join(part for part in (lever.relation, now) if part)


def _kind(found: Sweep) -> str:
    if found.exact:
        return "Between two rows the objective is a straight line: these are all its corners."
    return "Only these points were solved; what is between them is not known."


def _where(found: Sweep) -> str:
    """Say where there are plans, no more than is known."""
    unit = f" {found.lever.unit}" if found.lever.unit else ""
    low, high = (number(end) for end in found.asked)
    if found.feasible is not None:
        first, last = (number(end) for end in found.feasible)
        whole = found.feasible == found.asked
        return (
            f"There is a plan at every value from {first} to {last}{unit}"
            + ("." if whole else f", and at no other one between {low} and {high}{unit}.")
            if found.exact
            else f"Between {low} and {high}, the least value with a plan is {first}{unit}, the greatest {last}{unit}."
        )
    solved = found.points.index.to_numpy(float)
    none = [number(at) for at, note in found.notes.items() if note == "infeasible"]
    text = (
        f"Of the points solved, those from {number(float(solved[0]))} to {number(float(solved[-1]))}{unit} have a plan"
    )
    if not none:
        return f"{text}."
    inside = any(solved[0] < float(at) < solved[-1] for at, note in found.notes.items() if note == "infeasible")
    missing = ", ".join(none[:6]) + (" and others" if len(none) > 6 else "")
    return f"{text}{', with gaps' if inside else ''}; there is none at {missing}."


def _table(found: Sweep) -> Table:
    moving = [c for c in found.decisions.columns if np.ptp(found.decisions[c].to_numpy(float)) > 1e-9]
    shown_ones = sorted(moving, key=lambda c: -np.ptp(found.decisions[c].to_numpy(float)))[:MOST_DECISIONS]
    shown_ones = [c for c in found.decisions.columns if c in shown_ones]
    unit = found.goals[0].unit if found.goals else None
    rows = []
    for at, price, goals, values in zip(
        found.points.index.tolist(),
        found.points["price"].tolist(),
        found.objectives.to_numpy(float).tolist(),
        found.decisions[shown_ones].to_numpy(float).tolist(),
        strict=True,
    ):
        per = "" if np.isnan(price) else ("+" if price > 0 else "") + amount(price + 0.0, unit)
        worth = [amount(value, goal.unit) for value, goal in zip(goals, found.goals, strict=True)]
        rows.append((number(at), *worth, per, *map(number, values)))
    shown, more = capped(rows, MOST_ROWS)
    several = f" of {found.goals[0].name}" if len(found.goals) > 1 else ""
    headings = [f">{found.lever.name}", *(f">{goal.name}" for goal in found.goals), f">one more, from here{several}"]
    left = len(moving) - len(shown_ones)
    note = f"{left:,} more decisions move as well." if left > 0 else ""
    return Table("", [*headings, *(f">{c}" for c in shown_ones)], shown, note=note, more=more)


def reach_parts(found: Reach) -> list[str | Table]:
    """Return the value that reaches a target, and the plan there."""
    lever = found.lever
    unit = f" {lever.unit}" if lever.unit else ""
    now = "a factor" if lever.factor else "members differ" if np.isnan(lever.now) else f"now {number(lever.now)}{unit}"
    if found.status == "stopped":
        return [f"{found.target}: stopped by {STOPPED_BY[found.reason or 'numerics']} before it was settled."]
    if found.value is None:
        limited = np.isfinite(found.within).any()
        edge = f" up to {number(next(v for v in found.within if np.isfinite(v)))}{unit}" if limited else ""
        proven = f"This is proven{' up to there' if limited else ''}."
        head = f"{found.target}: no value of {lever.name} ({now}){edge} allows it. {proven}"
        return [head, *(f"{sentence[0].upper()}{sentence[1:]}." for sentence in found.nearest)]
    if np.isinf(found.value):
        return [f"{found.target}: {lever.name} ({now}) is not in the way, however tight it is."]
    word = {"upper": "at least", "lower": "at most", "both": "as near as"}[lever.side]
    if lever.factor:
        head = f"{found.target} needs {lever.target} times {word} {number(found.value)}."
        return [head, *(plan_parts(found.plan)[1:] if found.plan is not None else [])]
    change = found.change or 0.0
    moved = f": {number(abs(change))}{unit} {'more' if change > 0 else 'less'} than now"
    if np.isnan(change):
        moved = ", for all members"
    elif abs(change) < 1e-9:
        moved = ": as it is now"
    head = f"{found.target} needs {lever.name} {word} {number(found.value)}{unit}{moved}."
    return [head, *(plan_parts(found.plan)[1:] if found.plan is not None else [])]
