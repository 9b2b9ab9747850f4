"""The region of two decisions as a table of its corners."""

from __future__ import annotations

from ruddock.insight.region import Region
from ruddock.reporting.text import headline
from ruddock.tables import Table, amount, number, plural


def region_parts(found: Region) -> list[str | Table]:
    """Return the best plan and the corners, each with the limits that meet there."""
    parts: list[str | Table] = [headline(found.plan)]
    if not len(found.corners):
        none = "The region has no corner." if found.plan.found else "No point keeps all limits: the region is empty."
        return [*parts, none]
    told = f"The region of {found.names[0]} and {found.names[1]} has {plural(len(found.corners), 'corner')}"
    told += ", and goes on for ever beyond the frame shown." if found.endless else "."
    if len(found.points):
        told += f" It holds {plural(len(found.points), 'plan')} in whole numbers."
    goal = found.goal
    rows = []
    best = found.plan.objective if found.plan.found and goal is not None else None
    for x, y, value, where in found.corners.itertuples(index=False, name=None):
        top = best is not None and abs(value - best) <= 1e-7 * max(1.0, abs(best))
        worth = amount(value, goal.unit) if goal is not None else ""
        rows.append((number(x), number(y), worth, "best" if top else "", where or "the frame"))
    headings = [f">{found.names[0]}", f">{found.names[1]}", f">{goal.name if goal else ''}", "", "where these meet"]
    note = ""
    if best is not None and not any(row[3] for row in rows):
        note = "The best plan stands at no corner: whole numbers keep it inside." if len(found.points) else ""
    return [*parts, told, Table("Corners", headings, rows, note=note)]
