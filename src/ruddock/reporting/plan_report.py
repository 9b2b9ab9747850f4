"""The report of a plan: headline numbers, the recommendation, a figure, what limits it, risks, appendix."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import (
    Block,
    Cell,
    Document,
    Facts,
    Figure,
    Listing,
    Next,
    Number,
    Section,
    Sentence,
    Table,
)
from ruddock.document.numbers import DUST, amount, number, per, plural
from ruddock.insight.checks import check_model
from ruddock.insight.diagnosis import diagnose_plan
from ruddock.insight.region import region_of
from ruddock.insight.region_words import region_figure
from ruddock.modelling.answer.choices import labels_of
from ruddock.modelling.answer.effort import effort_blocks
from ruddock.modelling.answer.families import what_to_do
from ruddock.modelling.answer.figures import history_figure
from ruddock.modelling.answer.limiting import constraint_rows, what_limits
from ruddock.modelling.answer.shapes import runs_in_order
from ruddock.modelling.answer.verdict import family_tables, headline, percent, value_tables
from ruddock.modelling.decisions import Decisions, goes_by_label

if TYPE_CHECKING:
    from ruddock.insight.diagnosis import Diagnosis
    from ruddock.insight.sensitivity import Sensitivity
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.plan import Plan
    from ruddock.problem import Floats

MOST_RANGED = 600  # constraints and decisions up to which ranges are worked out
STEP_SECONDS = 5.0  # for what steps of limits are worth with integer decisions
DIAGNOSIS_SECONDS = 60.0
DRAWN_SECONDS = 1.0  # of a search, from which on its course is drawn
MOST_FACTS = 6
MOST_POINTS = 7  # of the recommendation
MOST_RISKS = 5
MOST_SLACKS = 60  # constraints that the appendix lists with both sides
REGION_KINDS = ("continuous", "integer", "binary")


def plan_report(plan: Plan, diagnosis: Diagnosis | None = None) -> tuple[Document, Sensitivity | None]:
    """Return all that a report of a plan says, and the sensitivity it rests on where there is one."""
    if not plan.found:
        return _without_plan(plan, diagnosis), None
    ranges = _ranges(plan)
    first: list[Block] = [Sentence(headline(plan), verdict=True), Facts(_facts(plan))]
    points = _recommendation(plan)
    figure = _figure(plan)
    advice: list[Block] = [Listing("", points)] if points else []
    advice += [figure] if figure is not None else []
    sections = [Section("", first)]
    if advice:
        sections.append(Section("Recommendation", advice))
    sections.append(Section("What to do", what_to_do(plan)))
    limits = what_limits(plan)
    if limits:
        worth = ranges.sentences(5) if ranges is not None and not ranges.held else []
        more: list[Block] = [Listing("What more of it is worth", worth)] if worth else []
        sections.append(Section("What limits it", [*more, *limits]))
    risks = _risks(plan, ranges)
    if risks:
        sections.append(Section("How far this holds", risks))
    return Document(plan.model_name, (*sections, *_appendix(plan, ranges))), ranges


def _without_plan(plan: Plan, diagnosis: Diagnosis | None) -> Document:
    """Return the report where there is no plan: why, and what would make one."""
    found = diagnosis or diagnose_plan(plan, time_limit=DIAGNOSIS_SECONDS)
    shown = with_figure(list(found.document().blocks()), found.figure())
    return Document(plan.model_name, (Section("", shown), *_appendix(plan, None)))


def with_figure(blocks: Sequence[Block], figure: Figure | None) -> list[Block]:
    """Return an answer with its figure behind the first sentences; what to ask next is for those who can ask."""
    shown: list[Block] = [block for block in blocks if not isinstance(block, Next)]
    if figure is not None:
        at = next((k for k, block in enumerate(shown) if not isinstance(block, Sentence)), len(shown))
        shown.insert(at, figure)
    return shown


def _facts(plan: Plan) -> list[tuple[str, Cell, str]]:
    """Return the headline numbers: objectives, quantities, the parts of the first objective."""
    facts: list[tuple[str, Cell, str]] = []
    frame = plan.objectives()
    for goal, value, proven in zip(plan.formulation.objectives, frame["value"], frame["proven"], strict=True):
        best = "largest possible" if goal.maximize else "smallest possible"
        remark = best if proven and plan.gap <= 1e-8 else f"gap {percent(plan.gap)}" if np.isfinite(plan.gap) else ""
        facts.append((goal.name, Number(float(value), goal.unit), remark))
    single = [quantity for quantity in plan.formulation.quantities if not quantity.cells.axes]
    facts += [(q.name, Number(float(plan[q.name]), q.unit), "") for q in single]
    if len(facts) < 3:
        parts = plan.breakdown()
        if len(parts) > 1:
            facts += [
                (str(n), Number(float(v), plan.unit), f"of {plan.objective_name}")
                for n, v in parts.items()
                if abs(v) > DUST
            ]
    return facts[:MOST_FACTS]


def _recommendation(plan: Plan) -> list[str]:
    """Return what to do in sentences, a family each, binary decisions first."""
    formulation, x = plan.formulation, plan.values
    own = [(f, x[formulation.place_of(f)]) for f in formulation.decisions if len(f) and not goes_by_label(f)]
    points = [_choice(f, v) for f, v in own if f.kind == "binary"]
    points += [_amounts(f, v) for f, v in own if f.kind != "binary"]
    said = [point for point in points if point]
    more = len(said) - MOST_POINTS
    return said[:MOST_POINTS] + ([f"{more} more families of decisions are in the tables below."] if more > 0 else [])


def _choice(family: Decisions, values: Floats) -> str:
    """Say which of a family of binary decisions are yes."""
    on = np.flatnonzero(values > 0.5)
    if not family.axes:
        return f"{family.name}: {'yes' if len(on) else 'no'}."
    if len(family.axes) > 1:
        return f"{family.name}: {len(on):,} of {len(values):,} are yes." if len(on) else ""
    chosen = labels_of(family.cells.codes[0][on].tolist(), family.axes[0])
    return f"{family.name}: {chosen or 'none'} ({len(on):,} of {len(values):,})."


def _amounts(family: Decisions, values: Floats) -> str:
    """Say how much of a family is used, and where most of it is."""
    used = np.flatnonzero(np.abs(values) > DUST)
    if not len(used):
        return ""
    if not family.axes:
        return f"{family.name}: {amount(float(values[0]), family.unit)}."
    if len(family.axes) == 1 and runs_in_order(family.axes[0]):
        texts = family.cells.texts()
        low, high = int(values.argmin()), int(values.argmax())
        span = f"between {number(float(values[low]))} and {amount(float(values[high]), family.unit)}"
        return f"{family.name}: {span} per {family.axes[0].name}, most in {texts[high]}."
    total = amount(float(values.sum()), family.unit)
    order = used[np.argsort(-np.abs(values[used]), kind="stable")][:3]
    parts = [f"{_labels(family, int(i))} {number(float(values[i]))}" for i in order.tolist()]
    rest = f" and {len(used) - 3:,} more" if len(used) > 3 else ""
    return f"{family.name}: {total} in total; {', '.join(parts)}{rest}."


def _labels(family: Decisions, i: int) -> str:
    """Return the labels of a member as a person says them: ``Gorse → Abbey``."""
    own = [axis.texts[code[i]] for axis, code in zip(family.cells.axes, family.cells.codes, strict=True)]
    return (" → " if len(own) == 2 else " / ").join(own)


def _figure(plan: Plan) -> Figure | None:
    """Return the figure that says most: the region of two decisions, else what the plan draws of itself."""
    own = plan.formulation.decisions
    if len(own) == 2 and not own[0].axes and not own[1].axes and plan.goal is not None:
        plain = all(family.kind in REGION_KINDS for family in own) and plan.status == "optimal"
        if plain and not plan.formulation.rules and not plan.formulation.curves:
            return Figure(partial(region_figure, region_of(plan)), "The feasible region")
        return None
    return plan.figure()


def _ranges(plan: Plan) -> Sensitivity | None:
    size = len(plan.formulation.decision_names) + len(plan.formulation.constraint_names)
    relaxed = any(not give.nothing for give in plan.gives)
    fits = plan.status == "optimal" and plan.goal is not None and size <= MOST_RANGED and not relaxed
    return plan.sensitivity(time_limit=STEP_SECONDS) if fits else None


def _risks(plan: Plan, ranges: Sensitivity | None) -> list[Block]:
    """Return which coefficients may change least before another plan is optimal; with integers, steps of limits."""
    if ranges is None:
        return []
    if ranges.held and ranges.by_structure is None:
        return [
            block
            for block in list(ranges.document().blocks())[1:]
            if not isinstance(block, Table) or "step" in block.title
        ]
    frame = ranges.coefficients
    frame = frame[(frame["value"].abs() > DUST) & (frame["coefficient"] != 0)]
    if not len(frame):
        return []
    room = (
        np.minimum(frame["coefficient"] - frame["from"], frame["to"] - frame["coefficient"])
        / frame["coefficient"].abs()
    )
    points = []
    for name in room.sort_values(kind="stable").index[:MOST_RISKS]:
        row = frame.loc[name]
        if np.isinf(room[name]):
            continue
        family = next((f for f in plan.formulation.decisions if f.name == str(name).split("[", 1)[0]), None)
        unit = per(plan.unit, family.unit if family is not None else None)
        ends = [
            w
            for w, v in (
                (f"at least {amount(row['from'], unit, 'up')}", row["from"]),
                (f"at most {amount(row['to'], unit, 'down')}", row["to"]),
            )
            if np.isfinite(v)
        ]
        share = max(float(room[name]), 0.0)
        points.append(
            f"{name}: this plan stays optimal while its {plan.objective_name} is {' and '.join(ends)} "
            f"(now {amount(row['coefficient'], unit)}, room {share:.0%})."
        )
    return [Listing("The coefficients with the least room, all else equal", points)] if points else []


def _appendix(plan: Plan, ranges: Sensitivity | None) -> list[Section]:
    """Return what few readers need: the model, tables of values, ranges, checks, effort."""
    sections = [Section("Appendix: the model", _in_brief(plan.formulation), appendix=True)]
    if plan.found:
        tables = [*value_tables(plan), *family_tables(plan)]
        rows = len(plan.formulation.constraint_names)
        if 0 < rows <= MOST_SLACKS:
            tables.append(constraint_rows(plan))
        if tables:
            sections.append(Section("Values", tables))
    if ranges is not None and not (ranges.held and ranges.by_structure is None):
        tables = [block for block in list(ranges.document().blocks()) if isinstance(block, Table)]
        figure = ranges.figure()
        sections.append(Section("Sensitivity", [*([figure] if figure is not None else []), *tables]))
    model = plan.model
    if model is not None and model.still_is(plan.formulation):
        sections.append(Section("Checks", list(check_model(model).document().blocks())))
    long = len(plan.history) > 1 and plan.effort.seconds >= DRAWN_SECONDS
    drawn = [Figure(lambda ax: history_figure(plan, ax), "The best plan and the bound over time", 4.0)] if long else []
    return [*sections, Section("How it was solved", [*drawn, *effort_blocks(plan.effort)])]


def _in_brief(formulation: Formulation) -> list[Block]:
    """Return the model in a table: objectives, decisions, constraints, rules, curves."""
    rows = [(goal.sense, goal.name, "", "", "", goal.unit or "") for goal in formulation.objectives]
    parts = [
        *(("decide", f.name, f.cells, f.kind, f.unit) for f in formulation.decisions),
        *(("require", c.name, c.cells, c.sense, c.unit) for c in formulation.constraints),
        *(("rule", r.name, r.cells, r.rule.word, r.unit) for r in formulation.rules),
        *(("curve", c.name, c.cells, f"{c.at.shape[1]} corners", c.unit) for c in formulation.curves),
    ]
    for what, name, cells, kind, unit in parts:
        axes = " by ".join(axis.name for axis in cells.axes)
        rows.append((what, name, axes, f"{cells.size:,}", kind, unit or ""))
    decisions, constraints = len(formulation.decision_names), len(formulation.constraint_names)
    size = f"{plural(decisions, 'decision')}, {plural(constraints, 'constraint')}."
    return [Sentence(size), Table("", ["", "name", "for each", "how many", "kind", "unit"], rows)]
