"""A plan as one document: the question, the model in brief, the answer, what it rests on, and how far it holds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ruddock.errors import FormatError, known
from ruddock.formats.files import write_text
from ruddock.insight.checks import check_model
from ruddock.insight.diagnosis import diagnose_plan
from ruddock.reporting import text
from ruddock.reporting.choice import figure_for
from ruddock.reporting.diagnosis import diagnosis_parts
from ruddock.reporting.effort import effort_parts
from ruddock.reporting.figures import MOST_RANGES, history_figure, priced, ranges_figure
from ruddock.reporting.pictures import clash_figure
from ruddock.reporting.sensitivity import sensitivity_parts
from ruddock.tables import Table, capped, plain, plural

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.diagnosis import Diagnosis
    from ruddock.insight.sensitivity import Sensitivity
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.plan import Plan

FORMS = (".html", ".xlsx", ".md", ".json")
MOST_RANGED = 600  # constraints and decisions up to which ranges are worked out
STEP_SECONDS = 5.0  # for what steps of limits are worth with integer decisions
DIAGNOSIS_SECONDS = 60.0
MOST_DRAWN = 20  # members of a clash up to which it is drawn
DRAWN_SECONDS = 1.0  # of a search, from which on its course is drawn


@dataclass(frozen=True)
class Section:
    """A part of a report: a heading, sentences and tables, and perhaps a figure that draws itself on axes."""

    title: str
    parts: list[str | Table]
    figure: Callable[[Axes], Axes] | None = None
    height: float = 5.0  # of the figure, inches


@dataclass(frozen=True)
class Report:
    """All that a report says, before it takes a form."""

    plan: Plan
    title: str
    verdict: str
    sections: list[Section]
    ranges: Sensitivity | None


def write_report(plan: Plan, path: str | Path, question: str | None = None, diagnosis: Diagnosis | None = None) -> None:
    """Write a plan as a document, in the form that the ending says; see `Plan.report`."""
    target = Path(path)
    form = target.suffix.lower()
    if form not in FORMS:
        raise FormatError(f"a report is written as {', '.join(FORMS)}; {known(form, FORMS)}", path=str(target))
    if form == ".json":
        import json

        from ruddock.formats.plan_json import plan_document

        write_text(target, json.dumps(plan_document(plan), indent=2, ensure_ascii=False, allow_nan=False) + "\n")
        return
    report = report_of(plan, question, diagnosis)
    if form == ".html":
        from ruddock.reporting.page import page

        write_text(target, page(report))
    elif form == ".md":
        write_text(target, markdown(report))
    else:
        from ruddock.reporting.workbook import write_workbook

        write_workbook(report, target)


def report_of(plan: Plan, question: str | None = None, diagnosis: Diagnosis | None = None) -> Report:
    """Collect what is to be said of a plan."""
    formulation = plan.formulation
    asked = [question] if question else []
    sections = [Section("The question" if question else "The model", [*asked, *_in_brief(formulation)])]
    ranges = _ranges(plan) if plan.found else None
    if plan.found:
        sections += _answer(plan)
        if ranges is not None:
            sections.append(_how_far(ranges))
    else:
        sections.append(_reasons(diagnosis or diagnose_plan(plan, time_limit=DIAGNOSIS_SECONDS)))
    findings = _findings(plan)
    if findings is not None:
        sections.append(findings)
    long = len(plan.history) > 1 and plan.effort.seconds >= DRAWN_SECONDS
    drawn = (lambda ax: history_figure(plan, ax)) if long else None
    sections.append(Section("How it was solved", effort_parts(plan), drawn))
    return Report(plan, plan.model_name, text.headline(plan), sections, ranges)


def _in_brief(formulation: Formulation) -> list[str | Table]:
    """Return the model in a table: objectives, decisions, constraints."""
    rows = [(goal.sense, goal.name, "", "", "", goal.unit or "") for goal in formulation.objectives]
    for family in formulation.decisions:
        axes = " by ".join(axis.name for axis in family.cells.axes)
        rows.append(("decide", family.name, axes, f"{len(family):,}", family.kind, family.unit or ""))
    for limited in formulation.constraints:
        axes = " by ".join(axis.name for axis in limited.cells.axes)
        rows.append(("require", limited.name, axes, f"{limited.cells.size:,}", limited.sense, limited.unit or ""))
    for ruled in formulation.rules:
        axes = " by ".join(axis.name for axis in ruled.cells.axes)
        rows.append(("rule", ruled.name, axes, f"{ruled.cells.size:,}", ruled.rule.word, ruled.unit or ""))
    for curve in formulation.curves:
        axes = " by ".join(axis.name for axis in curve.cells.axes)
        rows.append(
            ("curve", curve.name, axes, f"{curve.cells.size:,}", f"{curve.at.shape[1]} corners", curve.unit or "")
        )
    shown, more = capped(rows, text.MOST_ROWS)
    decisions, constraints = len(formulation.decision_names), len(formulation.constraint_names)
    size = f"{plural(decisions, 'decision')}, {plural(constraints, 'constraint')}."
    return [size, Table("", ["", "name", "for each", ">how many", "kind", "unit"], shown, more=more)]


def _answer(plan: Plan) -> list[Section]:
    """Return the answer, the decisions and the limits that bind, from what is told of a plan."""
    first, used, binding = text.plan_sections(plan)
    sections = [Section("The answer", first)] if first else []
    drawn = figure_for(plan)
    sections.append(Section("What to do", used, *(drawn or ())))
    if binding:
        sections.append(Section("What holds it back", binding))
    return sections


def _ranges(plan: Plan) -> Sensitivity | None:
    size = len(plan.formulation.decision_names) + len(plan.formulation.constraint_names)
    given = any(not give.nothing for give in plan.gives)
    fits = plan.status == "optimal" and plan.objective_name and size <= MOST_RANGED and not given
    return plan.sensitivity(time_limit=STEP_SECONDS) if fits else None


def _how_far(ranges: Sensitivity) -> Section:
    """Return what limits are worth and for how far, drawn where any limit has a price."""
    parts = sensitivity_parts(ranges)[1:]
    drawn = min(len(priced(ranges)), MOST_RANGES)
    if not drawn:
        return Section("How far this holds", parts)
    return Section("How far this holds", parts, lambda ax: ranges_figure(ranges, ax), height=1.2 + 0.55 * drawn)


def _reasons(found: Diagnosis) -> Section:
    """Return why there is no plan."""
    told = diagnosis_parts(found)[1:]
    members = len(found.clashes[0].reasons) if found.clashes else 0
    if not 0 < members <= MOST_DRAWN:
        return Section("Why there is no plan", told)
    return Section("Why there is no plan", told, lambda ax: clash_figure(found, ax), height=1.5 + 0.45 * members)


def _findings(plan: Plan) -> Section | None:
    """Return what checking the model finds, where the model is still the one that was solved."""
    model = plan.model
    if model is None or not model.still_is(plan.formulation):
        return None
    return Section("What was checked", check_model(model).parts())


def _lines(words: str) -> str:
    """Return a sentence, or several lines of them, as Markdown."""
    return "\n".join(plain(line) for line in words.split("\n"))


def markdown(report: Report) -> str:
    """Return a report as Markdown."""
    blocks = [f"# {plain(report.title)}", f"**{plain(report.verdict)}**"]
    for section in report.sections:
        blocks.append(f"## {section.title}")
        blocks += [part.to_markdown() if isinstance(part, Table) else _lines(part) for part in section.parts]
    return "\n\n".join(blocks) + "\n"
