"""The frontier between two objectives, as sentences and a table."""

from __future__ import annotations

import numpy as np

from ruddock.insight.tradeoff import Tradeoff
from ruddock.modelling.formulation import Objective
from ruddock.reporting.text import STOPPED_BY
from ruddock.tables import MONEY, Table, amount, capped, number

MOST_ROWS = 60
MOST_DECISIONS = 4
NOTHING = 1e-9  # decisions nearer to 0 are rounding


def tradeoff_parts(found: Tradeoff) -> list[str | Table]:
    """Return the frontier: what it spans, then a row for each point."""
    first, second = found.first, found.second
    head = " against ".join(_way(goal) for goal in found.goals)
    if not len(found.points):
        why = {"infeasible": "no plan exists", "unbounded": "an objective can improve without limit"}
        told = why.get(found.stopped or "", f"stopped by {STOPPED_BY.get(found.stopped or '', found.stopped)}")
        return [f"{head}: {told}."]
    parts: list[str | Table] = [f"{head[0].upper()}{head[1:]}."]
    ends = found.objectives.iloc[[0, -1]]
    if len(found.points) == 1 and found.stopped is None:
        parts.append("One plan is best for all of them: there is nothing to trade.")
    else:
        (a, b), (c, d) = ends.iloc[:, :2].to_numpy(float).tolist()
        parts.append(
            f"From {amount(a, first.unit)} with {second.name} {amount(b, second.unit)} to {amount(c, first.unit)} with "
            f"{second.name} {amount(d, second.unit)}. {_sure(found)}"
        )
    if found.stopped is not None:
        parts.append(f"Stopped by {STOPPED_BY.get(found.stopped, found.stopped)}: points are missing.")
    elif found.exact:
        parts.append("Between two rows the frontier is a straight line; corners are its exact ends.")
    elif not found.complete:
        many = "" if len(found.goals) > 2 else " (points all finds them)"
        parts.append(f"There may be further points between these{many}.")
    parts.append(_table(found))
    return parts


def _sure(found: Tradeoff) -> str:
    which = "both" if len(found.goals) == 2 else "all"
    return f"No plan is better than one of these points in {which}."


def _way(objective: Objective) -> str:
    return f"{'maximize' if objective.maximize else 'minimize'} {objective.name}"


def _table(found: Tradeoff) -> Table:
    decisions = found.decisions()
    spread = np.ptp(decisions.to_numpy(float), axis=0) if len(decisions) else np.zeros(0)
    most = np.argsort(-spread, kind="stable")[:MOST_DECISIONS]
    told = sorted(j for j in most.tolist() if spread[j] > 1e-9)
    rows = []
    for k, (share, corner, price) in enumerate(found.points.itertuples(index=False, name=None)):
        rows.append(
            (
                "" if np.isnan(share) else f"{share:.0%}".replace("%", " %"),
                *(_cell(v, goal) for v, goal in zip(found.objectives.iloc[k].tolist(), found.goals, strict=True)),
                "corner" if corner else "",
                "" if np.isnan(price) else f"{price:+,.4g}",
                *(number(0.0 if abs(v) < NOTHING else v) for v in decisions.iloc[k, told].tolist()),
            )
        )
    shown, more = capped(rows, MOST_ROWS)
    per = f">{found.second.name} per {found.first.unit or 'unit'} given up"
    left = int((spread > 1e-9).sum()) - len(told)
    note = f"{left:,} more decisions move as well." if left > 0 else ""
    headings = [">given up", *map(_heading, found.goals), "", per, *(f">{decisions.columns[j]}" for j in told)]
    return Table("", headings, shown, note=note, more=more)


def _heading(objective: Objective) -> str:
    own = objective.unit and not objective.unit.startswith(MONEY)
    return f">{objective.name} ({objective.unit})" if own else f">{objective.name}"


def _cell(value: float, objective: Objective) -> str:
    """Write a value; money with its sign, other units stand in the heading."""
    money = (objective.unit or "").startswith(MONEY)
    return amount(value, objective.unit) if money else number(value)
