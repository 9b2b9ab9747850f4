"""A diagnosis as sentences and tables that a manager understands."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

from ruddock.insight.diagnosis import Contradiction, Diagnosis, Reason, Repair
from ruddock.reporting.text import headline, plan_parts, to_text
from ruddock.tables import Table, amount, capped, number, plural

MOST_ROWS = 40


def diagnosis_parts(found: Diagnosis) -> list[str | Table]:
    """Return why there is no plan, clash by clash, and what would make one."""
    if found.plan.status != "infeasible":
        return plan_parts(found.plan)
    parts: list[str | Table] = [headline(found.plan)]
    if not found.clashes:
        return [*parts, "No clash was found within the limits of the search."]
    count = len(found.clashes)
    if count > 1:
        parts.append(f"{count} clashes share no limit: each of them must be resolved.")
    for k, clash in enumerate(found.clashes, 1):
        parts += _clash(clash, f"Clash {k}" if count > 1 else "The clash")
    for repair in found.repairs:
        parts += _repair(repair)
    if not found.repairs:
        parts.append("No change of the limits that may move leaves a plan: the bounds of the decisions clash as well.")
    return parts


def _clash(clash: Contradiction, title: str) -> list[str | Table]:
    rows = [(reason.name, _rule(reason), reason.what, _weight(reason.weight)) for reason in _folded(clash.reasons)]
    shown, more = capped(rows, MOST_ROWS)
    sure = "" if clash.proven else " (not proven for each, within the limits of the search)"
    note = f"Without any one of these {plural(len(rows), 'rule')}, the others can be met{sure}."
    if clash.whole:
        note += " In fractions they could all be met: it is whole numbers that clash."
    parts: list[str | Table] = [
        Table(f"{title}: these cannot all hold", ["where", ">rule", "kind", ">weight"], shown, note=note, more=more)
    ]
    if clash.shortfall is not None:
        parts.append(
            "Multiplied by their weights and added up, the left sides cancel, and what is left reads "
            f"0 >= {_fraction(clash.shortfall)}."
        )
    return parts


def _folded(reasons: tuple[Reason, ...]) -> list[Reason]:
    """Return the reasons with the two sides of an equation as one."""
    sides = {(r.name, r.relation): r.value for r in reasons if r.what == "limit"}
    kept = []
    for reason in reasons:
        both = reason.what == "limit" and sides.get((reason.name, ">=")) == sides.get((reason.name, "<="))
        if not both:
            kept.append(reason)
        elif reason.relation == ">=":
            kept.append(replace(reason, relation="=="))
    return kept


def _rule(reason: Reason) -> str:
    return "is whole" if reason.relation == "whole" else f"{reason.relation} {number(reason.value)}"


def _weight(weight: Fraction | None) -> str:
    return "" if weight is None else _fraction(weight)


def _fraction(value: Fraction) -> str:
    return f"{value.numerator:,}" if value.denominator == 1 else number(float(value))


def _repair(repair: Repair) -> list[str | Table]:
    rows = [
        (name, f"{relation} {number(old)}", f"{relation} {number(new)}", ("+" if new > old else "") + number(new - old))
        for name, relation, old, new in repair.changes
    ]
    shown, more = capped(rows, MOST_ROWS)
    plan = repair.plan
    note = "Solved again with these limits: "
    if plan.found and plan.objective_name is not None:
        note += f"{plan.objective_name} {amount(plan.objective, plan.unit)}."
    else:
        note += "there is a plan."
    headings = ["constraint", ">limit", ">changed to", ">by"]
    return [Table(f"A way out, {repair.aim}", headings, shown, note=note, more=more)]


def diagnosis_text(found: Diagnosis) -> str:
    """Return a diagnosis as plain text."""
    return to_text(diagnosis_parts(found))
