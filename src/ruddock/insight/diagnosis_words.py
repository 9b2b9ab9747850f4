"""A diagnosis as sentences and tables that a manager understands."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from math import isnan
from typing import TYPE_CHECKING, Any

from ruddock.document.content import Block, Cell, Next, Number, Question, Row, Sentence, Table, written
from ruddock.document.numbers import Toward, amount, capital, listed_all, number
from ruddock.errors import listed
from ruddock.modelling.algebra import rule_in_words
from ruddock.modelling.answer.verdict import STOPPED_BY, headline

if TYPE_CHECKING:
    from ruddock.insight.diagnosis import Contradiction, Diagnosis, Reason
    from ruddock.insight.repairs import Move, Repair, Search
    from ruddock.modelling.formulation import Formulation

MOST_DENOMINATOR = 9_999  # of a weight that is written as a fraction
MOST_MOVES = 4  # of a repair, in a sentence
MOST_MEMBERS = 12  # of a clash that are shown one by one


def diagnosis_blocks(found: Diagnosis) -> list[Block]:
    """Return why there is no plan, clash by clash, and what would make one."""
    if found.ray is not None:
        return _unlimited(found, found.ray)
    if found.missed is not None:
        return _stopped(found)
    if found.plan.status != "infeasible":
        return _has_plan(found)
    count = len(found.clashes)
    words = headline(found.plan)
    if count == 1:
        members = len(_folded(found.clashes[0].reasons))
        words += f" {members} requirements clash." if members > 1 else " One requirement can never be met."
    blocks: list[Block] = [Sentence(words, verdict=True)]
    if not count:
        blocks.append(Sentence("No clash was found within the time of the search."))
    if count > 1:
        blocks.append(Sentence(f"There are {count} separate clashes; each of them must be resolved."))
    if found.repairs:
        blocks.append(Sentence(_least_change(found.repairs[0], found.plan.formulation)))
    for k, clash in enumerate(found.clashes, 1):
        blocks += _clash(found, clash, f"Clash {k}" if count > 1 else "The clash")
    for repair in found.repairs:
        blocks.append(_repair(repair, found.plan.formulation))
    if found.search is not None and not found.repairs:
        blocks += _no_repair(found.search, found.plan.formulation)
    if found.stopped is not None:
        blocks.append(
            Sentence(
                f"Stopped by {STOPPED_BY[found.stopped]}: there may be more clashes, and smaller changes than these."
            )
        )
    return blocks


def _has_plan(found: Diagnosis) -> list[Block]:
    """Say that the model has a plan: there is nothing to diagnose."""
    question = Question("See the plan", "ruddock solve MODEL", "diagnosis.plan")
    return [
        Sentence(f"{headline(found.plan)} The model is feasible: there is nothing to diagnose.", verdict=True),
        Next([question]),
    ]


def _no_repair(search: Search, formulation: Formulation) -> list[Block]:
    """Say what is known where no change leads to a plan."""
    if search.outcome == "none":
        words = "It is proven that no change of what may change makes the model feasible: the rest clashes as well."
        return [Sentence(words)]
    if search.outcome == "too little" and search.needed is not None:
        rows = [_move(move, formulation) for move in search.needed]
        note = "The least that would be enough, if these could change so far; the best plan there was not looked for."
        table = Table("How far they would have to change", ["what", "", "limit", "to", "by"], rows, note=note)
        return [Sentence("No plan exists with these limits changed as far as they may."), table]
    if search.outcome == "unproven":
        return [
            Sentence(
                "No change was found that leaves a plan. Rules depend on the limits that may change, so this is not "
                "proven."
            )
        ]
    words = "No change that makes the model feasible was found within the time limit; whether one exists is not known."
    return [Sentence(words)]


def _unlimited(found: Diagnosis, ray: dict[str, float]) -> list[Block]:
    """Report along which decisions the objective improves without limit, and what was seen to end it."""
    plan = found.plan
    head = headline(plan)
    if not ray:
        words = "Which decisions grow could not be shown in numbers; check for a missing limit."
        return [Sentence(head, verdict=True), Sentence(words)]
    largest = max(abs(step) for step in ray.values())
    grow = [name for name, step in ray.items() if step > 0]
    fall = [name for name, step in ray.items() if step < 0]
    moves = " and ".join(f"{_and(names)} can {word}" for names, word in ((grow, "grow"), (fall, "fall")) if names)
    together = " together" if len(ray) > 1 else ""
    word = "earning" if plan.sense == "maximize" else "saving"
    rows = [(name, Number(step / largest, signed=True)) for name, step in ray.items()]
    ended = found.ended_by
    if len(ended) == 1:
        remedy = f"A bound on {ended[0]} was tried: the model then has an optimal plan."
    elif ended:
        remedy = (
            f"Bounds on {_and(list(ended))} were tried: with all of them there is an optimal plan; one is not enough."
        )
    else:
        remedy = "Which bound would end it was not found."
    gain = amount(1.0 / largest, plan.unit)
    step = f"{capital(moves)}{together} without limit, {word} {gain} in every step:"
    return [
        Sentence(head, verdict=True),
        Sentence(step),
        Table("", ["decision", "step"], rows),
        Sentence(f"No constraint or bound stops it: a limit is missing. {remedy}"),
    ]


def _stopped(found: Diagnosis) -> list[Block]:
    """Report what is known where the search stopped before any plan: the bound, and what came nearest to one."""
    assert found.missed is not None
    head = Sentence(headline(found.plan), verdict=True)
    if not found.missed:
        words = "A plan was found while looking for what comes closest to one: allow the solve more time."
        return [head, Sentence(words)]
    formulation = found.plan.formulation
    rows = [
        (name, *_limit(relation, limit, unit_of(formulation, name)), Number(by, unit_of(formulation, name)))
        for name, relation, limit, by in found.missed
    ]
    note = "All other constraints are met there. Whether these can be met too is not known."
    return [head, Table("The closest to a plan that was found", ["violated", "", "limit", "by"], rows, note=note)]


def _and(names: list[str]) -> str:
    """Write a few names as a sentence does: ``mead and candles``."""
    return listed(names, 6) if len(names) > 6 else listed_all(names)


def _clash(found: Diagnosis, clash: Contradiction, title: str) -> list[Block]:
    formulation = found.plan.formulation
    reasons = _folded(clash.reasons)
    if len(reasons) == 1:
        note = "This one can never be met."
    elif clash.proven:
        note = f"Remove any one of these {len(reasons)} and the rest can be met."
    elif found.stopped is not None:
        note = "Whether all of these are needed for the clash was not proven within the time limit."
    else:
        note = "The limits give the rules their room, so it is not proven that all of these are needed."
    if clash.whole:
        note += " The relaxation can meet all of them: the integer decisions make them clash."
    many = len(reasons) > MOST_MEMBERS
    heading = f"{title} (irreducible infeasible set)" if clash.proven else title
    if many:
        words = [(reason.name, reason_text(reason, formulation), reason.what) for reason in reasons]
        table = Table(heading, ["where", "must be", "kind"], _by_family(words), note=note)
    else:
        rows = [(reason.name, *_demand(reason, formulation), reason.what) for reason in reasons]
        table = Table(heading, ["where", "must be", "", "kind"], rows, note=note)
    blocks: list[Block] = [table]
    if clash.steps:
        # of many members the steps say more than the list
        blocks.insert(0 if many else 1, Sentence(f"In steps: {'; '.join(clash.steps)}."))
    if clash.shortfall is not None:
        lines = [(_fraction(weight), text) for weight, text in clash.lines]
        note = f"Added up, the left sides cancel, and what remains reads 0 >= {_fraction(clash.shortfall)}."
        heads = ["times", "written as at least"]
        blocks.append(Table("The proof", heads, lines, note=note, most=MOST_MEMBERS))
    return blocks


def _demand(reason: Reason, formulation: Formulation) -> tuple[Cell, Cell]:
    """Return what a member of a clash asks for: relation and limit with its unit."""
    if reason.what == "integer":
        return "an integer", ""
    if reason.what == "rule":
        return rule_in_words(formulation, reason.name), ""
    return _limit(reason.relation, reason.value, unit_of(formulation, reason.name))


def _limit(relation: str, value: float, unit: str | None) -> tuple[Cell, Cell]:
    return (relation, "its right side") if isnan(value) else (relation, Number(value, unit))


def unit_of(formulation: Formulation, name: str) -> str | None:
    """Return the unit of a constraint or decision by the name of a member."""
    family = name.split("[", 1)[0].removesuffix(".upper").removesuffix(".lower")
    parts: tuple[Any, ...] = (*formulation.constraints, *formulation.decisions)
    return next((part.unit for part in parts if part.name == family), None)


def _by_family(rows: list[tuple[str, str, str]]) -> list[tuple[str, str, str]]:
    """Return members of one family with demands of one kind as one row: ``demand[Quay], demand[Abbey] and 3 more``."""
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
    """Return what a member of a clash asks for, in one text."""
    return " ".join(map(written, _demand(reason, formulation))).rstrip()


def _fraction(value: Fraction) -> str:
    if value.denominator > MOST_DENOMINATOR:
        return number(float(value))
    return f"{value.numerator:,}" + (f"/{value.denominator:,}" if value.denominator > 1 else "")


def _enough(move: Move) -> Toward:
    """Return how a change is rounded: the other way it would be too little."""
    return "up" if move.by > 0 else "down"


def _move(move: Move, formulation: Formulation) -> Row:
    """Return how a limit changes: its name, before, after and by how much."""
    unit = unit_of(formulation, move.name)
    toward = _enough(move)
    by = Number(move.by, unit, signed=True, toward=toward)
    if move.old is None or move.new is None:
        sign = "+" if move.by > 0 else "-"
        return move.name, move.relation, "its right side", f"its right side {sign} {amount(abs(move.by), unit)}", by
    return move.name, move.relation, Number(move.old, unit), Number(move.new, unit, toward=toward), by


def _least_change(repair: Repair, formulation: Formulation) -> str:
    """Say what the first repair changes, and what the plan then has."""
    moves = []
    for move in repair.changes[:MOST_MOVES]:
        unit = unit_of(formulation, move.name)
        toward = _enough(move)
        if move.old is None or move.new is None:
            moves.append(f"{move.name} by {amount(move.by, unit, toward)}")
        else:
            moves.append(f"{move.name} from {number(move.old)} to {amount(move.new, unit, toward)}")
    more = len(repair.changes) - MOST_MOVES
    rest = f" and {more:,} more" if more > 0 else ""
    text = f"A repair ({repair.aim}): change {', '.join(moves)}{rest}."
    plan = repair.plan
    if plan.found and plan.objective_name is not None:
        text += f" The plan then has {plan.objective_name} {amount(plan.objective, plan.unit)}."
    return text


def _repair(repair: Repair, formulation: Formulation) -> Table:
    rows = [_move(move, formulation) for move in repair.changes]
    plan = repair.plan
    note = "Solved again with these limits: "
    if plan.status == "unbounded":
        note += f"feasible, but {plan.objective_name} is then unlimited; a limit is missing as well."
    elif plan.found and plan.objective_name is not None:
        values = plan.objectives()
        words = ", ".join(
            f"{name} {amount(float(value), unit or None)}"
            for name, value, unit in zip(values.index, values["value"], values["unit"], strict=True)
        )
        note += words + ("." if plan.status == "optimal" else " (a plan, not proven optimal).")
    else:
        note += "feasible."
    sure = "" if repair.least else " (smaller changes may be enough; not proven)"
    return Table(f"A repair, {repair.aim}{sure}", ["what", "", "limit", "change to", "by"], rows, note=note)
