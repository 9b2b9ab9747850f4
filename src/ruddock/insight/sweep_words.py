"""A sweep in words: what was moved, where there is a plan, a row for each point, and a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, Number, Row, Sentence, Table
from ruddock.document.numbers import amount, capital, number, with_unit
from ruddock.document.plotting import BEST, BOUND
from ruddock.modelling.answer.verdict import STOPPED_BY

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.sweep import Sweep

MOST_DECISIONS = 6
MOST_NOTES = 3


def sweep_blocks(found: Sweep) -> list[Block]:
    """Return a sweep: sentences, then a row for each point."""
    lever = found.lever
    names = " and ".join(goal.name for goal in found.goals) or "the objective"
    head = f"{names} as {lever.name} changes ({_now(found)})"
    if not len(found.points):
        if found.stopped is not None:
            words = f"{head}: stopped by {STOPPED_BY[found.stopped]} before any point was solved."
        else:
            words = f"{head}: no plan exists anywhere in this range."
        return [Sentence(words, verdict=True)]
    words = f"{capital(head)}. {_where(found)}"
    blocks: list[Block] = [Sentence(words, verdict=True), Sentence(_kind(found))]
    if found.stopped is not None:
        blocks.append(Sentence(f"Stopped by {STOPPED_BY[found.stopped]}: the rest of the range was not solved."))
    notes = [f"{number(at)}: {note}" for at, note in found.notes.items() if note not in ("infeasible", "unbounded")]
    blocks += [Sentence(f"Not solved at {note}") for note in notes[:MOST_NOTES]]
    return [*blocks, _table(found)]


def _now(found: Sweep) -> str:
    lever = found.lever
    if lever.factor:
        return "a factor, now 1"
    if np.isnan(lever.now) and not lever.many:
        return lever.relation or "as it is"
    now = "its members now differ" if np.isnan(lever.now) else f"now {amount(lever.now, lever.unit)}"
    return ", ".join(part for part in (lever.relation, now) if part)


def _kind(found: Sweep) -> str:
    if found.exact:
        return "Between two rows the objective is a straight line: these are all its corners."
    return "Only these points were solved; what is between them is not known."


def _where(found: Sweep) -> str:
    """Say where there are plans, no more than is known."""
    unit = found.lever.unit
    low, high = (number(end) for end in found.asked)
    if found.feasible is not None:
        first, last = found.feasible
        whole = found.feasible == found.asked
        span = f"from {number(first)} to {amount(last, unit)}"
        if found.exact:
            rest = "." if whole else f", and at no other one between {low} and {amount(found.asked[1], unit)}."
            return f"There is a plan at every value {span}{rest}"
        ends = f"the least value with a plan is {number(first)}, the greatest {amount(last, unit)}"
        return f"Between {low} and {high}, {ends}."
    solved = found.points.index.to_numpy(float)
    none = [number(at) for at, note in found.notes.items() if note == "infeasible"]
    text = (
        f"Of the points solved, those from {number(float(solved[0]))} to {amount(float(solved[-1]), unit)} have a plan"
    )
    if not none:
        return f"{text}."
    inside = any(solved[0] < float(at) < solved[-1] for at, note in found.notes.items() if note == "infeasible")
    missing = ", ".join(none[:6]) + (" and others" if len(none) > 6 else "")
    return f"{text}{', with gaps' if inside else ''}; there is none at {missing}."


def _table(found: Sweep) -> Table:
    values = found.by_decision
    moving = [c for c in values.columns if np.ptp(values[c].to_numpy(float)) > 1e-6]
    widest = sorted(moving, key=lambda c: -np.ptp(values[c].to_numpy(float)))[:MOST_DECISIONS]
    shown = [c for c in values.columns if c in widest]
    unit = found.goals[0].unit if found.goals else None
    rows: list[Row] = []
    for at, price, goals, own in zip(
        found.points.index.tolist(),
        found.points["price"].tolist(),
        found.by_objective.to_numpy(float).tolist(),
        values[shown].to_numpy(float).tolist(),
        strict=True,
    ):
        worth = [Number(value, goal.unit) for value, goal in zip(goals, found.goals, strict=True)]
        rows.append(
            (
                Number(at, found.lever.unit),
                *worth,
                Number(price, unit, signed=True),
                *(Number(v, found.units[c]) for c, v in zip(shown, own, strict=True)),
            )
        )
    several = f" ({found.goals[0].name})" if len(found.goals) > 1 else ""
    heads = [found.lever.name, *(goal.name for goal in found.goals), f"one more is worth{several}", *map(str, shown)]
    left = len(moving) - len(shown)
    priced = found.points["price"].notna().any()
    note = f"One more is worth: per unit of {found.lever.name}, from this row to the next. " if priced else ""
    note += f"{left:,} more decisions change as well." if left > 0 else ""
    return Table("", heads, rows, note=note.strip())


def sweep_figure(found: Sweep, ax: Axes) -> Axes:
    """Draw the objective along a limit: a line with its corners where it is exact, else the points solved."""
    at, value = found.points.index.to_numpy(float), found.points["objective"].to_numpy(float)
    ax.plot(at, value, "s-" if found.exact else "o", color=BEST, markersize=5)
    now = found.lever.now
    if np.isfinite(now):
        ax.axvline(now, color=BOUND, linestyle="--")
        ax.annotate("now", (now, 0.02), (4, 0), xycoords=("data", "axes fraction"), textcoords="offset points")
    name = f"{found.lever.name} {found.lever.relation}".strip()
    ax.set_xlabel(with_unit(name, found.lever.unit))
    goal = found.goals[0] if found.goals else None
    ax.set_ylabel(with_unit(goal.name, goal.unit) if goal is not None else "objective")
    title = "exact between corners" if found.exact else "solved at these points"
    ax.set_title(f"{goal.name if goal else 'Objective'} along {found.lever.name}: {title}", loc="left")
    ax.grid(alpha=0.3)
    ax.margins(0.06)
    return ax
