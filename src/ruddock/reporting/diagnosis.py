"""A diagnosis as sentences and tables that a manager understands."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from math import isnan

from ruddock.errors import listed
from ruddock.insight.diagnosis import Contradiction, Diagnosis, Reason
from ruddock.insight.repairs import Move, Repair, Search
from ruddock.modelling.formulation import Formulation
from ruddock.reporting.algebra import rule_in_words
from ruddock.reporting.text import STOPPED_BY, headline, plan_parts
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
        parts.append("No clash was found within the time of the search.")
    count = len(found.clashes)
    if count > 1:
        parts.append(f"{count} clashes share no constraint: each of them must be resolved.")
    for k, clash in enumerate(found.clashes, 1):
        parts += _clash(found, clash, f"Clash {k}" if count > 1 else "The clash")
    for repair in found.repairs:
        parts += _repair(repair)
    if found.search is not None and not found.repairs:
        parts += _no_repair(found.search)
    if found.stopped is not None:
        parts.append(
            f"Stopped by {STOPPED_BY[found.stopped]}: there may be more clashes and smaller changes than these."
        )
    return parts


def _no_repair(search: Search) -> list[str | Table]:
    """Say what is known where no change leads to a plan."""
    if search.outcome == "none":
        return [
            "It is proven that no change of the limits that may move leaves a plan: what may not move clashes as well."
        ]
    if search.outcome == "too little" and search.needed is not None:
        rows = [_move(move) for move in search.needed]
        shown, more = capped(rows, MOST_ROWS)
        note = "The least that would do, if these could move so far; the best plan there was not looked for."
        table = Table("How far they would have to move", ["what", ">limit", ">to", ">by"], shown, note=note, more=more)
        return ["Within how far these limits may move, no plan exists.", table]
    if search.outcome == "unproven":
        return [
            "No change was found that leaves a plan. Rules depend on the limits that may move, so this is not proven."
        ]
    return ["No change that leaves a plan was found in the time there was; whether there is one is not known."]


def _without_end(found: Diagnosis, ray: dict[str, float]) -> list[str | Table]:
    """Tell along which decisions the objective improves without limit, and what was seen to end it."""
    plan = found.plan
    if not ray:
        return [
            headline(plan),
            "Which decisions grow together could not be shown in numbers; check for a missing limit.",
        ]
    largest = max(abs(step) for step in ray.values())
    grow = [name for name, step in ray.items() if step > 0]
    fall = [name for name, step in ray.items() if step < 0]
    moves = " and ".join(f"{_and(names)} can {word}" for names, word in ((grow, "grow"), (fall, "fall")) if names)
    together = " together" if len(ray) > 1 else ""
    word = "earning" if plan.sense == "maximize" else "saving"
    rows = [(name, ("+" if step > 0 else "") + number(step / largest)) for name, step in ray.items()]
    shown, more = capped(rows, MOST_ROWS)
    ended = found.ended_by
    if len(ended) == 1:
        told = f"A bound on {ended[0]} was tried, and there is a best plan then."
    elif ended:
        told = f"Bounds on {_and(list(ended))} together were tried, and then there is a best plan; one is not enough."
    else:
        told = "Which bound would end it was not found out."
    return [
        headline(plan),
        f"{moves}{together} without limit, {word} {amount(1.0 / largest, plan.unit)} in every step like this one:",
        Table("", ["decision", ">step"], shown, more=more),
        f"No constraint and no bound ever stops it: a limit is missing. {told}",
    ]


def _stopped(found: Diagnosis) -> list[str | Table]:
    """Tell what is known where the search stopped before any plan: the bound, and what came nearest to one."""
    assert found.missed is not None
    parts: list[str | Table] = [headline(found.plan)]
    if not found.missed:
        return [*parts, "A plan was found while looking for the nearest one to a plan: allow the solve more time."]
    rows = [(name, _limit(relation, limit), number(by)) for name, relation, limit, by in found.missed]
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


def _clash(found: Diagnosis, clash: Contradiction, title: str) -> list[str | Table]:
    formulation = found.plan.formulation
    rows = [(reason.name, reason_text(reason, formulation), reason.what) for reason in _folded(clash.reasons)]
    shown, more = capped(_by_family(rows) if len(rows) > MOST_MEMBERS else rows, MOST_ROWS)
    if len(rows) == 1:
        note = "Alone it can never be met."
    elif clash.proven:
        note = f"Remove any one of these {len(rows)} and the rest of them can be met."
    elif found.stopped is not None:
        note = "Whether all of these are needed for the clash was not proven in the time there was."
    else:
        note = "The limits give the rules their room, so whether all of these are needed is not proven."
    if clash.whole:
        note += " In fractions they could all be met: it takes integer decisions to clash."
    table = Table(f"{title}: these cannot all hold", ["where", ">must be", "kind"], shown, note=note, more=more)
    parts: list[str | Table] = [table]
    if clash.steps:
        # of many members the steps say more than the list
        parts.insert(0 if len(rows) > MOST_MEMBERS else 1, f"In steps: {'; '.join(clash.steps)}.")
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
    sides = {(r.name, r.relation): r.value for r in reasons if r.what == "constraint"}
    kept = []
    for reason in reasons:
        below, above = sides.get((reason.name, ">=")), sides.get((reason.name, "<="))
        both = reason.what == "constraint" and below is not None and above is not None and below == above
        if not both:
            kept.append(reason)
        elif reason.relation == ">=":
            kept.append(replace(reason, relation="=="))
    return kept


def reason_text(reason: Reason, formulation: Formulation) -> str:
    """Return what a member of a clash asks for."""
    if reason.what == "integer":
        return "an integer"
    if reason.what == "rule":
        return rule_in_words(formulation, reason.name)
    return _limit(reason.relation, reason.value)


def _limit(relation: str, value: float) -> str:
    return f"{relation} its right side" if isnan(value) else f"{relation} {number(value)}"


def _fraction(value: Fraction) -> str:
    return f"{value.numerator:,}" if value.denominator == 1 else number(float(value))


def _move(move: Move) -> tuple[str, str, str, str]:
    """Return how a limit moves: its name, before, after and by how much."""
    by = ("+" if move.by > 0 else "") + number(move.by)
    if isnan(move.old):
        told = f"{move.relation} its right side"
        return move.name, told, f"{told} {'+' if move.by > 0 else '-'} {number(abs(move.by))}", by
    return move.name, f"{move.relation} {number(move.old)}", f"{move.relation} {number(move.new)}", by


def _repair(repair: Repair) -> list[str | Table]:
    shown, more = capped([_move(move) for move in repair.changes], MOST_ROWS)
    plan = repair.plan
    note = "Solved again with these limits: "
    if plan.status == "unbounded":
        note += f"there are plans, and {plan.objective_name} is then unlimited; a limit is missing as well."
    elif plan.found and plan.objective_name is not None:
        values = plan.objectives()
        told = ", ".join(
            f"{name} {amount(float(value), unit or None)}"
            for name, value, unit in zip(values.index, values["value"], values["unit"], strict=True)
        )
        note += told + ("." if plan.status == "optimal" else " (a plan, not proven the best).")
    else:
        note += "there is a plan."
    sure = "" if repair.least else " (smaller changes may do; not proven)"
    headings = ["constraint", ">limit", ">changed to", ">by"]
    return [Table(f"A repair, {repair.aim}{sure}", headings, shown, note=note, more=more)]
