"""Plans, explanations and progress as text for people."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from io import StringIO
from typing import TYPE_CHECKING

import numpy as np

from ruddock.engine.outcome import Progress
from ruddock.errors import listed
from ruddock.tables import Table, amount, capped, number, plural

if TYPE_CHECKING:
    from rich.console import Console

    from ruddock.modelling.axis import Axis
    from ruddock.modelling.decisions import Decisions
    from ruddock.modelling.plan import Explanation, Plan
    from ruddock.problem import Floats

MOST_ROWS = 40
WIDTH = 110
STOPPED_BY = {
    "time": "the time limit",
    "nodes": "the node limit",
    "iterations": "the iteration limit",
    "memory": "the memory limit",
    "user": "you",
    "numerics": "numerical trouble",
}


def to_text(parts: Sequence[str | Table], width: int = WIDTH) -> str:
    """Render sentences and tables as plain text."""
    from rich.console import Console

    console = Console(file=StringIO(), width=width, force_terminal=False, color_system=None)
    print_parts(console, parts)
    text = console.file.getvalue()  # type: ignore[attr-defined]
    return "\n".join(line.rstrip() for line in text.rstrip().splitlines())


def print_parts(console: Console, parts: Sequence[str | Table]) -> None:
    """Print sentences and tables, a table's title above and its note below."""
    for number_, part in enumerate(parts):
        if isinstance(part, str):
            console.print(part, markup=False, highlight=False, style="bold" if number_ == 0 else None)
            continue
        if number_:
            console.print()
        if part.title:
            console.print(part.title, markup=False, highlight=False, style="bold")
        console.print(part.to_rich(console.width))
        if part.below:
            console.print(part.below, markup=False, highlight=False)


ASK_WHY = "model.diagnose(), or ruddock diagnose, tells which of them clash and what least change helps."


def plan_parts(plan: Plan) -> list[str | Table]:
    """Return what is told of a plan: first the verdict, then breakdown, used decisions, binding limits."""
    parts: list[str | Table] = [headline(plan)]
    if not plan.found:
        return parts + _no_plan(plan)
    first, used, binding = plan_sections(plan)
    return [*parts, *first, *used, *binding]


def plan_sections(plan: Plan) -> tuple[list[str | Table], list[str | Table], list[str | Table]]:
    """Return what is told of a plan's values, of its decisions, and of the limits that bind."""
    tables = (_objectives(plan), _breakdown(plan), _quantities(plan))
    first: list[str | Table] = [table for table in tables if table is not None]
    return first, [*_used(plan)], [_binding(plan)] if len(plan.formulation.constraint_names) else []


def headline(plan: Plan) -> str:
    """Return the status in words, with the objective and its unit."""
    title = plan.model_name
    if plan.status == "infeasible":
        return f"{title}: no plan exists. The constraints and bounds contradict each other."
    if plan.status == "unbounded":
        return f"{title}: no best plan. {plan.objective_name} can improve without end."
    if not plan.found:
        known = "" if not np.isfinite(plan.bound) else f" {_at_best(plan)}."
        return f"{title}: stopped by {STOPPED_BY[plan.reason or 'numerics']} before any plan was found.{known}"
    if plan.objective_name is None:
        return f"{title}: a plan that meets all constraints (there is no objective)."
    value = f"{plan.objective_name} {amount(plan.objective, plan.unit)}"
    if plan.status == "optimal":
        extreme = "largest" if plan.sense == "maximize" else "smallest"
        if plan.gap <= 1e-8:
            return f"{title}: best plan found, {value}, proven the {extreme} possible."
        return f"{title}: plan found within the gap asked for, {value}; {_at_best(plan)} (gap {plan.gap:.2%})."
    known = f"; {_at_best(plan)} (gap {plan.gap:.2%})" if np.isfinite(plan.bound) else ""
    return f"{title}: stopped by {STOPPED_BY[plan.reason or 'numerics']}. Best plan so far: {value}{known}."


def _at_best(plan: Plan) -> str:
    edge = "at most" if plan.sense == "maximize" else "at least"
    return f"any plan has {edge} {amount(plan.bound, plan.unit)}"


def _objectives(plan: Plan) -> Table | None:
    """Return the objectives in their order, with what the earlier ones were held at."""
    objectives = plan.formulation.objectives
    if len(objectives) < 2:
        return None
    rows = []
    for k, (objective, value) in enumerate(zip(objectives, plan.objectives().tolist(), strict=True)):
        told = "not reached: the search was stopped before"
        if k < len(plan.held):
            top = plan.held[k] + plan.formulation.problem(objective).offset
            edge = (
                f"least {amount(-top, objective.unit)}" if objective.maximize else f"most {amount(top, objective.unit)}"
            )
            told = f"held: at {edge}"
        elif k == len(plan.held):
            told = "the best beside the ones before" if k else ""
        way = "maximize" if objective.maximize else "minimize"
        rows.append((f"{k + 1}. {way} {objective.name}", amount(value, objective.unit), told))
    return Table("Objectives in their order", ["objective", ">value", ""], rows)


def _breakdown(plan: Plan) -> Table | None:
    parts = plan.breakdown()
    if len(parts) < 2:
        return None
    rows = [(name, amount(value, plan.unit)) for name, value in parts.items()]
    rows.append(("together", amount(plan.objective, plan.unit)))
    return Table(f"What {plan.objective_name} is made of", ["part", ">value"], [tuple(map(str, row)) for row in rows])


def _quantities(plan: Plan) -> Table | None:
    units = plan.formulation.quantity_units
    rows = [(name, amount(value, units[name])) for name, value in plan.formulation.quantity_values(plan.values).items()]
    if not rows:
        return None
    shown, more = capped(rows, MOST_ROWS)
    return Table("Quantities", ["quantity", ">value"], shown, more=more)


def _used(plan: Plan) -> list[Table]:
    """Return what is used: families on two axes, and those that share one, as tables; the rest in a list."""
    x, formulation = plan.values, plan.formulation
    used = np.abs(x) > 1e-9
    own = formulation.written_decisions
    places = {family.name: slice(at := formulation.starts[family.name], at + len(family)) for family in own}
    asked = formulation.written_columns
    title = f"Decisions used: {int(used[asked].sum()):,} of {int(asked.sum()):,}, the others are 0"
    if used[asked].all():
        title = f"Decisions: all {int(asked.sum()):,} are used"
    if not asked.all():
        title += f" (beside {plural(int((~asked).sum()), 'decision')} that rules made for themselves)"
    wide, rest = [], used & asked
    for together in _same_axis(own):
        values = [x[places[family.name]] for family in together]
        table = _two_way(together[0], values[0]) if len(together) == 1 else _side_by_side(together, values)
        if table is not None and any(used[places[family.name]].any() for family in together):
            wide.append(table)
            for family in together:
                rest[places[family.name]] = False
    tables = [_list_of(plan, np.flatnonzero(rest))] if rest.any() or not wide else []
    tables += wide
    return [replace(tables[0], title=f"{title}\n{tables[0].title}".rstrip()), *tables[1:]]


def _same_axis(families: Sequence[Decisions]) -> list[list[Decisions]]:
    """Return each family on two axes by itself, and families on the same one axis together where there are several."""
    alone = [[family] for family in families if len(family.axes) == 2]
    by_axis: dict[str, list[Decisions]] = {}
    for family in families:
        if len(family.axes) == 1:
            by_axis.setdefault(family.axes[0].name, []).append(family)
    return [*alone, *(group for group in by_axis.values() if len(group) > 1)]


def _side_by_side(families: Sequence[Decisions], values: Sequence[Floats]) -> Table:
    """Return the labels at which any of the families is used, a column for each family."""
    axis = families[0].axes[0]
    grid = np.full((len(axis), len(families)), np.nan)
    at_bound: list[str] = []
    for k, (family, x) in enumerate(zip(families, values, strict=True)):
        grid[family.cells.codes[0], k] = x
        if family.kind != "binary":
            at_bound += [family.member(i) for i in np.flatnonzero((x == family.upper) & (np.abs(x) > 1e-9)).tolist()]
    used = np.flatnonzero((np.abs(np.nan_to_num(grid)) > 1e-9).any(axis=1))
    shown, more = capped(used.tolist(), MOST_ROWS)
    rows = [(axis.texts[i], *("" if np.isnan(v) else number(v) for v in grid[i].tolist())) for i in shown]
    heads = [f"{family.name} ({family.unit})" if family.unit else family.name for family in families]
    note = f"At their upper bounds: {listed(at_bound)}." if at_bound else ""
    return Table("", [axis.name, *(f">{head}" for head in heads)], rows, note=note, more=more)


def _two_way(family: Decisions, values: Floats) -> Table | None:
    """Return the rows that are used, the last axis across, or the first one where only that fits; None if neither does.

    Blank where there is no such decision.
    """
    grid = np.full([len(axis) for axis in family.axes], np.nan)
    grid[family.cells.codes[0], family.cells.codes[1]] = values
    down, across = family.axes
    if not _fits(down, across, values):
        down, across, grid = across, down, grid.T
        if not _fits(down, across, values):
            return None
    used = np.flatnonzero((np.abs(np.nan_to_num(grid)) > 1e-9).any(axis=1))
    shown, more = capped(used.tolist(), MOST_ROWS)
    unit = f" ({family.unit})" if family.unit else ""
    rows = [(down.texts[i], *("" if np.isnan(v) else number(v) for v in grid[i].tolist())) for i in shown]
    unused = [down.texts[i] for i in np.setdiff1d(np.arange(len(down)), used).tolist()]
    notes = [f"Nothing at {listed(unused)}."] if unused else []
    if np.isnan(grid[used]).any():
        notes.append("Blank: there is no such decision.")
    headings = [f"{down.name} \\ {across.name}", *(f">{text}" for text in across.texts)]
    return Table(f"{family.name}{unit}", headings, rows, note=" ".join(notes), more=more)


def _fits(down: Axis, across: Axis, values: Floats) -> bool:
    """Tell whether a two-way table stays within the width, each column as wide as its label or the longest number."""
    if 3 * len(across) > WIDTH:
        return False
    longest = max(map(len, map(number, np.unique(values).tolist())))
    first = max(map(len, (*down.texts, f"{down.name} \\ {across.name}")))
    return first + sum(3 + max(longest, len(text)) for text in across.texts) <= WIDTH


def _list_of(plan: Plan, which: np.ndarray) -> Table:
    """Return decisions one below the other, with the bound that they stand at."""
    formulation = plan.formulation
    shown, more = capped(which.tolist(), MOST_ROWS)
    rows = []
    for j in shown:
        family, at = formulation.member_at(j)
        value, low, high = float(plan.values[j]), float(family.lower[at]), float(family.upper[at])
        where = "at its lower bound" if value == low else "at its upper bound" if value == high else ""
        if low == high:
            where = "fixed"
        if family.kind == "binary":
            where = "yes"
        rows.append((family.member(at), number(value), family.unit or "", where))
    return Table("", ["decision", ">value", "unit", ""], rows, more=more)


def _binding(plan: Plan) -> Table:
    frame = plan.constraints()
    formulation = plan.formulation
    told = formulation.written_rows
    binding = frame[frame["binding"] & told]
    title = f"Limits that bind: {len(binding):,} of {plural(int(told.sum()), 'constraint')}"
    if not told.all():
        title += f" (beside {int((~told).sum()):,} that rules made for themselves)"
    shown, more = capped(binding.index.tolist(), MOST_ROWS)
    priced = plan.outcome.y is not None
    rows = []
    columns = (binding[name].tolist() for name in ("relation", "limit", "unit", "shadow_price"))
    for name, relation, limit, unit, price in zip(shown, *(c[: len(shown)] for c in columns), strict=True):
        worth = [_worth(plan, price, unit)] if priced else []
        rows.append((name, f"{relation} {number(limit)}", unit, *worth))
    headings = ["constraint", ">limit", "unit"]
    note = "These prices leave the earlier objectives where they are held." if plan.held else ""
    if priced:
        headings.append(f"one unit more of the limit changes {plan.objective_name or 'the objective'} by")
    elif plan.formulation.objectives and any(family.marks.any() for family in plan.formulation.decisions):
        note = "Integer decisions move in steps, so limits have no price per unit here."
    return Table(title, headings, rows, note=note if rows else "", more=more)


def _worth(plan: Plan, price: float, unit: str | None) -> str:
    if abs(price) < 1e-12:
        return "nothing (another limit holds too)"
    sign = "+" if price > 0 else ""
    per = f" per {unit}" if unit else ""
    return f"{sign}{amount(price, plan.unit)}{per}"


def _no_plan(plan: Plan) -> list[str | Table]:
    """Say what is known when there is no plan to show."""
    outcome, formulation = plan.outcome, plan.formulation
    crossed = [formulation.decision_names[j] for j in outcome.crossed_columns]
    crossed += [formulation.constraint_names[i] for i in outcome.crossed_rows]
    if crossed:
        return [f"The lower limit lies above the upper one for {listed(crossed)}. Correct one of the two."]
    if outcome.proof is not None:
        used = np.flatnonzero(outcome.proof)
        order = used[np.argsort(-np.abs(outcome.proof[used]), kind="stable")]
        shown, more = capped(order.tolist(), MOST_ROWS)
        rows = [(formulation.constraint_names[i], _side(plan, i), number(abs(float(outcome.proof[i])))) for i in shown]
        note = (
            "Added up with these weights, the limits contradict the bounds of the decisions. "
            "At least one of them must give way."
        )
        title = "Constraints that cannot all hold"
        return [Table(title, ["constraint", ">limit", ">weight"], rows, note=note, more=more), ASK_WHY]
    if plan.status == "infeasible":
        return ["With decisions in fractions there would be plans; whole numbers rule all of them out.", ASK_WHY]
    if outcome.ray is not None:
        moving = np.flatnonzero(outcome.ray)
        shown, more = capped(moving.tolist(), MOST_ROWS)
        steps = [(formulation.decision_names[j], f"{outcome.ray[j]:+.6g}") for j in shown]
        note = "Repeating this step keeps every constraint and always improves the objective: some limit is missing."
        return [Table("Decisions that move together without limit", ["decision", ">step"], steps, note=note, more=more)]
    return []


def _side(plan: Plan, row: int) -> str:
    """Return the limit of a constraint that its weight in the proof uses."""
    assert plan.outcome.proof is not None
    family, at = plan.formulation.constraint_at(row)
    lower = plan.outcome.proof[row] > 0
    text = amount(float((family.lower if lower else family.upper)[at]), family.unit)
    return f">= {text}" if lower else f"<= {text}"


def explanation_table(explanation: Explanation) -> Table:
    """Return an explanation as a table."""
    rows = [
        (str(name), *map(number, row))
        for name, row in zip(explanation.terms.index, explanation.terms.to_numpy(float).tolist(), strict=True)
    ]
    shown, more = capped(rows, 10 * MOST_ROWS)
    shown = list(shown)
    if explanation.constant:
        shown.append(("constant", "", "", number(explanation.constant)))
    shown.append(("together", "", "", amount(explanation.total, explanation.unit)))
    return Table(explanation.name, ["decision", ">coefficient", ">value", ">product"], shown, more=more)


def progress_sentence(progress: Progress, *, maximize: bool, unit: str | None, tree: bool) -> str:
    """Return progress as one sentence: ``12 s, 3,400 nodes, best £9,120.00, at most £9,310.00 (gap 2.08%)``."""
    done = plural(progress.nodes, "node") if tree else plural(progress.iterations, "iteration")
    parts = [f"{progress.seconds:.0f} s", done]
    if np.isfinite(progress.best):
        parts.append(f"best {amount(progress.best, unit)}")
    elif tree:
        parts.append("no plan yet")
    if np.isfinite(progress.bound):
        edge = "at most" if maximize else "at least"
        gap = abs(progress.best - progress.bound) / max(1.0, abs(progress.best))
        parts.append(f"{edge} {amount(progress.bound, unit)}" + (f" (gap {gap:.2%})" if np.isfinite(gap) else ""))
    return ", ".join(parts)
