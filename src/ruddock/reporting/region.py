"""The region of two decisions as a table of its corners."""

from __future__ import annotations

from ruddock.insight.region import Region
from ruddock.reporting.text import headline
from ruddock.tables import Table, amount, number, plural


def region_parts(found: Region) -> list[str | Table]:
    """Return the best plan and the corners, each with the limits that meet there."""
    plan = found.plan
    parts: list[str | Table] = [headline(plan)]
    if plan.found:
        where = ", ".join(
            f"{name} {amount(value, unit)}"
            for name, value, unit in zip(found.names, plan.values.tolist(), found.units, strict=True)
        )
        parts.append(f"It is at {where}.")
    if not len(found.corners):
        none = "The region has no corner." if plan.found else "No point keeps all limits: the region is empty."
        return [*parts, none]
    told = f"The region of {found.names[0]} and {found.names[1]} has {plural(len(found.corners), 'corner')}"
    told += ", and is unlimited: it goes on beyond them." if found.unlimited else "."
    if len(found.points):
        inside = "shown" if found.unlimited else "in it"
        told += (
            f" {plural(len(found.points), 'plan')} in integers {'is' if len(found.points) == 1 else 'are'} {inside}."
        )
    goal = found.goal
    rows = []
    best = plan.objective if plan.found and goal is not None else None
    for x, y, value, where in found.corners.itertuples(index=False, name=None):
        top = best is not None and abs(value - best) <= 1e-7 * max(1.0, abs(best))
        worth = amount(value, goal.unit) if goal is not None else ""
        rows.append((number(x), number(y), worth, "best" if top else "", where))
    headings = [f">{found.names[0]}", f">{found.names[1]}", f">{goal.name if goal else ''}", "", "where these meet"]
    note = ""
    if best is not None and not any(row[3] for row in rows):
        note = "The best plan is at no corner: integer decisions keep it inside." if len(found.points) else ""
    return [*parts, told, Table("Corners", headings, rows, note=note)]
