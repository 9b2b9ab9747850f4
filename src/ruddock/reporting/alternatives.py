"""Other plans beside the best one, as sentences and a table."""

from __future__ import annotations

from ruddock.insight.alternatives import Alternatives
from ruddock.tables import Table, amount, capped, number, plural

MOST_ROWS = 40


def alternatives_parts(found: Alternatives) -> list[str | Table]:
    """Return what else could be done, and where the plans differ."""
    plan = found.plan
    name, unit = plan.objective_name or "the objective", plan.unit
    if not found.others:
        return [f"{plan.model_name}: this is the only best plan, {name} {amount(plan.objective, unit)}."]
    whole = any(family.marks.any() for family in plan.formulation.decisions)
    one, many = ("next best plan", "next best plans") if whole else ("plan as good as this", "plans as good as this")
    end = "there are no more" if found.complete else "there are more"
    head = f"{plan.model_name}: {plural(len(found), one, many)}; {end}."
    plans = [plan, *found.others]
    rows = [(name, *(amount(p.objective, unit) for p in plans))]
    table = found.table()
    shown, more = capped(list(zip(table.index, table.to_numpy(float).tolist(), strict=True)), MOST_ROWS)
    rows += [(str(decision), *map(number, values)) for decision, values in shown]
    headings = ["", *(f">{column}" for column in table.columns)]
    return [head, Table("Where the plans differ", headings, rows, more=more)]
