"""A diagnosis as sentences and tables that a manager understands."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

from ruddock.errors import listed
from ruddock.insight.diagnosis import Contradiction, Diagnosis, Reason
from ruddock.insight.repairs import Repair
from ruddock.reporting.text import headline, plan_parts
from ruddock.tables import Table, amount, capped, number

MOST_ROWS = 40
MOST_MEMBERS = 12  # of a clash that are shown one by one


def diagnosis_parts(found: Diagnosis) -> list[str | Table]:
    """Return why there is no plan, clash by clash, and what would make one."""
    if found.ray is not None:
        return _without_end(found, found.ray)
    if found.missed is not None:
        return _stopped(found)
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


def _without_end(found: Diagnosis, ray: dict[str, float]) -> list[str | Table]:
    """Tell along which decisions the objective improves without end, and what would end it."""
    plan = found.plan
    largest = max(abs(step) for step in ray.values())
    grow = [name for name, step in ray.items() if step > 0]
    fall = [name for name, step in ray.items() if step < 0]
    moves = " and ".join(f"{_and(names)} can {word}" for names, word in ((grow, "grow"), (fall, "fall")) if names)
    together = " together" if len(ray) > 1 else ""
    word = "earning" if plan.sense == "maximize" else "saving"
    rows = [(name, ("+" if step > 0 else "") + number(step / largest)) for name, step in ray.items()]
    shown, more = capped(rows, MOST_ROWS)
    return [
        headline(plan),
        f"{moves}{together} without limit, {word} {amount(1.0 / largest, plan.unit)} in every step like this one:",
        Table("", ["decision", ">step"], shown, more=more),
        "No constraint and no bound ever stops it. Which limit is missing? "
        f"One on {_and(list(ray), 'or')} would end it.",
    ]


def _stopped(found: Diagnosis) -> list[str | Table]:
    """Tell what is known where the search stopped before any plan: the bound, and what came nearest to one."""
    assert found.missed is not None
    parts: list[str | Table] = [headline(found.plan)]
    if not found.missed:
        return [*parts, "A plan was found while looking for the nearest one to a plan: allow the solve more time."]
    rows = [(name, f"{relation} {number(limit)}", number(by)) for name, relation, limit, by in found.missed]
    shown, more = capped(rows, MOST_ROWS)
    note = "All else is met there. These limits are the hardest to meet; whether they can be is not known."
    return [
        *parts,
        Table("The nearest to a plan that was found", ["misses", ">limit", ">by"], shown, note=note, more=more),
    ]


def _and(names: list[str], word: str = "and") -> str:
    """Write a few names as a sentence does: ``mead and candles``."""
    if len(names) > 6:
        return listed(names, 6)
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} {word} {names[-1]}"


def _clash(clash: Contradiction, title: str) -> list[str | Table]:
    rows = [(reason.name, _rule(reason), reason.what) for reason in _folded(clash.reasons)]
    shown, more = capped(_by_family(rows) if len(rows) > MOST_MEMBERS else rows, MOST_ROWS)
    sure = "" if clash.proven else " (not proven for each, within the limits of the search)"
    alone = (
        "Without it, there are plans"
        if len(rows) == 1
        else f"Without any one of these {len(rows)} rules, the others can be met"
    )
    note = f"{alone}{sure}."
    if clash.whole:
        note += " In fractions they could all be met: it is whole numbers that clash."
    parts: list[str | Table] = [
        Table(f"{title}: these cannot all hold", ["where", ">rule", "kind"], shown, note=note, more=more)
    ]
    if clash.steps:
        parts.append(f"In steps: {'; '.join(clash.steps)}.")
    if clash.shortfall is not None:
        lines, more = capped([(_fraction(weight), text) for weight, text in clash.lines], MOST_MEMBERS)
        note = f"Added up, the left sides cancel, and what is left reads 0 >= {_fraction(clash.shortfall)}."
        parts.append(Table("The proof", [">times", "written as at least"], lines, note=note, more=more))
    return parts


def _by_family(rows: list[tuple[str, str, str]]) -> list[tuple[str, str, str]]:
    """Return members of one family with rules of one kind as one row: ``demand[Quay], demand[Abbey] and 3 more``."""
    groups: dict[tuple[str, str, str], list[tuple[str, str, str]]] = {}
    for row in rows:
        groups.setdefault((row[0].split("[", 1)[0], row[1].split(" ", 1)[0], row[2]), []).append(row)
    folded = []
    for (_, _, kind), members in groups.items():
        rules = list(dict.fromkeys(row[1] for row in members))
        rule = rules[0] if len(rules) == 1 else f"{rules[0]} and others"
        folded.append((listed([row[0] for row in members], 2), rule, kind))
    return folded


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
    if plan.status == "unbounded":
        note += f"there are plans, and {plan.objective_name} then has no end; a limit is missing as well."
    elif plan.found and plan.objective_name is not None:
        note += f"{plan.objective_name} {amount(plan.objective, plan.unit)}."
    else:
        note += "there is a plan."
    headings = ["constraint", ">limit", ">changed to", ">by"]
    return [Table(f"A way out, {repair.aim}", headings, shown, note=note, more=more)]
