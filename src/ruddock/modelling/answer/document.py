"""What a plan says, in order: the verdict, what to do, what limits it, what to ask next; or what is asked of it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, Document, LazyRows, Next, Number, Question, Row, Section, Sentence, Table
from ruddock.document.numbers import DUST, per
from ruddock.errors import ModelError
from ruddock.modelling.answer.families import decision_row, two_way, what_to_do
from ruddock.modelling.answer.limiting import constraint_rows, what_limits
from ruddock.modelling.answer.no_plan import no_plan
from ruddock.modelling.answer.verdict import family_tables, headline, value_tables
from ruddock.modelling.names import names_of

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan

SENSITIVITY = Question(
    "What is one more unit of a limit worth, and for how far?", "ruddock sensitivity MODEL", "plan.sensitivity()"
)
WHAT_IF = "What if a number changes?"
DIAGNOSE = Question("Which of them clash, and what is the least change?", "ruddock diagnose MODEL", "model.diagnose()")
UNLIMITED = Question("Which limit is missing?", "ruddock diagnose MODEL", "model.diagnose()")
LONGER = Question("Search longer", "ruddock solve MODEL --time-limit 600", "model.solve(time_limit=600, start=plan)")
FIRST_PLAN = Question("Search longer", "ruddock solve MODEL --time-limit 600", "model.solve(time_limit=600)")


def plan_document(
    plan: Plan, *, everything: bool = False, nonzero: bool = False, families: Sequence[str] = ()
) -> Document:
    """Return what a plan says; see `Plan.document`."""
    verdict = Sentence(headline(plan), verdict=True)
    if not plan.found:
        blocks: list[Block] = [verdict, *no_plan(plan), *next_questions(plan)]
        return Document.of(plan.model_name, blocks, whole=everything)
    if families:
        found = [block for name in families for block in _family(plan, name, nonzero)]
        return Document.of(plan.model_name, [verdict, *found], whole=True)
    if everything or nonzero:
        values: list[Block] = [verdict, *value_tables(plan), *family_tables(plan), decision_rows(plan, nonzero=nonzero)]
        if len(plan.formulation.constraint_names):
            values.append(constraint_rows(plan))
        return Document.of(plan.model_name, values, whole=True)
    limits = what_limits(plan)
    sections = [
        Section("", [verdict, *value_tables(plan)]),
        Section("What to do", what_to_do(plan)),
        Section("", family_tables(plan)),
        *([Section("What limits it", limits)] if limits else []),
        Section("", next_questions(plan)),
    ]
    return Document(plan.model_name, tuple(section for section in sections if section.blocks))


def next_questions(plan: Plan) -> list[Block]:
    """Return what a reader may want to ask next."""
    if plan.status == "infeasible":
        return [Next([DIAGNOSE])]
    if plan.status == "unbounded":
        return [Next([UNLIMITED])]
    if plan.reason is not None:
        return [Next([LONGER if plan.found else FIRST_PLAN])]
    questions = [SENSITIVITY] if plan.goal is not None else []
    name = _changeable(plan)
    if name is not None:
        words = f'"{name}=+10%"' if any(mark in name for mark in "[]() ") else f"{name}=+10%"
        question = Question(WHAT_IF, f"ruddock what-if MODEL {words}", f"model.what_if({{{name!r}: '+10%'}})")
        questions.append(question)
    return [Next(questions)] if questions else []


def _changeable(plan: Plan) -> str | None:
    """Return the name of a number to change first: a limit that binds or the data behind it, else any data."""
    formulation = plan.formulation
    frame = plan.constraints()
    data = plan.model.data_names if plan.model is not None else ()
    for family in formulation.constraints:
        if family.listed or family.sides.sense == "==" or not family.cells.size:
            continue
        first = formulation.row_starts[family.name]
        own = frame.iloc[first : first + family.cells.size]
        held = np.flatnonzero(own["binding"].to_numpy(bool) & (own["right"].to_numpy(float) != 0))
        if not len(held):
            continue
        behind = [name for name in family.sources if name in data]
        if behind and family.cells.axes:
            return behind[0]
        if family.sides.limit_side is not None:
            return str(own.index[int(held[0])])
    return data[0] if data else None


def decision_rows(plan: Plan, *, nonzero: bool = False) -> Table:
    """Return all decisions one below the other, or those that are not 0, with their reduced costs."""
    formulation = plan.formulation
    values = plan.values
    places = np.flatnonzero(np.abs(values) > DUST) if nonzero else np.arange(len(values))
    reduced = plan.outcome.reduced
    priced = reduced is not None and plan.goal is not None

    def row(k: int) -> Row:
        j = int(places[k])
        family, _ = formulation.member_at(j)
        own = decision_row(plan, j)
        if not priced or reduced is None:
            return own
        return (*own, Number(plan.sign * float(reduced[j]) + 0.0, per(plan.unit, family.unit), signed=True))

    title = f"Decisions: {len(places):,} of {len(values):,}" + (" are not 0" if nonzero else "")
    return Table(title, ["decision", "value", "", *(["reduced cost"] if priced else [])], LazyRows(len(places), row))


def _family(plan: Plan, name: str, nonzero: bool) -> list[Block]:
    """Return one family or member in full: decisions, constraints, or quantities."""
    formulation = plan.formulation
    found = names_of(formulation).need(name, ("decisions", "constraints", "quantities"))
    part = found.part
    if found.what == "constraints":
        return [constraint_rows(plan, formulation.row_starts[part.name] + np.asarray(found.members))]
    if found.what == "quantities":
        x = plan.outcome.x
        assert x is not None
        values = formulation.evaluate(part.terms, x)
        names = part.members()
        rows = [(names[int(i)], Number(float(values[int(i)]), part.unit)) for i in found.members]
        return [Table(name, ["quantity", "value"], rows)]
    if found.what != "decisions":
        raise ModelError(f"{name} is not a family of decisions, constraints or quantities")
    places = formulation.starts[part.name] + np.asarray(found.members)
    if found.whole and len(part.axes) == 2 and part.kind != "binary":
        table = two_way(part, plan.values[formulation.place_of(part)], keep_all=not nonzero, any_size=True)
        if table is not None:
            return [table]
    if nonzero:
        places = places[np.abs(plan.values[places]) > DUST]
    rows_ = LazyRows(len(places), lambda k: decision_row(plan, int(places[k])))
    return [Table(name, ["decision", "value", ""], rows_)]
