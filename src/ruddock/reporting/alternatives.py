"""Other plans beside the best one, as sentences and a table."""

from __future__ import annotations

from ruddock.insight.alternatives import Alternatives
from ruddock.modelling.decisions import kinds_of
from ruddock.reporting.text import STOPPED_BY
from ruddock.tables import Table, amount, capped, number, plural

MOST_ROWS = 40


def alternatives_parts(found: Alternatives) -> list[str | Table]:
    """Return what else could be done, and where the plans differ."""
    plan = found.plan
    goals = plan.formulation.objectives
    value = ", ".join(
        f"{goal.name} {amount(v, goal.unit)}"
        for goal, v in zip(goals, plan.objectives()["value"].tolist(), strict=True)
    )
    whole = any(kinds_of(family).any() for family in plan.formulation.decisions)
    if not found.others:
        if found.complete:
            return [f"{plan.model_name}: this is the only best plan{', ' + value if value else ''}. This is proven."]
        return [f"{plan.model_name}: no other plan was found{_stopped(found)}; there may be some."]
    one, many = ("next best plan", "next best plans") if whole else ("plan as good as this", "plans as good as this")
    if found.complete:
        end = "there are no more"
    elif whole:
        end = f"there may be more{_stopped(found)}"
    else:
        end = f"mixtures of these are as good too, and there may be more{_stopped(found)}"
    head = f"{plan.model_name}: {plural(len(found), one, many)}; {end}."
    plans = [plan, *found.others]
    rows = []
    for k, goal in enumerate(goals):
        rows.append((goal.name, *(amount(float(p.objectives()["value"].iloc[k]), goal.unit) for p in plans)))
    table = found.table()
    shown, more = capped(list(zip(table.index, table.to_numpy(float).tolist(), strict=True)), MOST_ROWS)
    rows += [(str(decision), *map(number, values)) for decision, values in shown]
    headings = ["", *(f">{column}" for column in table.columns)]
    return [head, Table("Where the plans differ", headings, rows, more=more)]


def _stopped(found: Alternatives) -> str:
    return f" (stopped by {STOPPED_BY[found.stopped]})" if found.stopped is not None else ""
