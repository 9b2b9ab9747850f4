"""Plans, explanations and progress as text for people."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from io import StringIO
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.errors import listed
from ruddock.insight.prices import Worth, worth_of
from ruddock.insight.written import limit_of
from ruddock.modelling.lowering import lowered
from ruddock.tables import Table, amount, capped, number, plural

if TYPE_CHECKING:
    from rich.console import Console

    from ruddock.modelling.axis import Axis
    from ruddock.modelling.decisions import Decisions
    from ruddock.modelling.formulation import Objective
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


ASK_WHY = "model.diagnose(), or ruddock diagnose, shows which of them clash and what least change helps."


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
    """Return the status in words, with every objective in its order and its unit."""
    title = plan.model_name
    if plan.status == "infeasible":
        return f"{title}: no plan exists. The constraints and bounds contradict each other."
    if plan.status == "unbounded":
        return f"{title}: no best plan. {_improving(plan)} can improve without limit."
    if not plan.found:
        known = "" if not np.isfinite(plan.bound) else f" {_at_best(plan)[0].upper()}{_at_best(plan)[1:]}."
        return f"{title}: stopped by {STOPPED_BY[plan.reason or 'numerics']} before any plan was found.{known}"
    if plan.goal is None:
        return f"{title}: a plan that meets all constraints (there is no objective)."
    if len(plan.formulation.objectives) > 1:
        return f"{title}: {_in_order(plan)}"
    value = f"{plan.objective_name} {amount(plan.objective, plan.unit)}"
    if plan.status == "optimal":
        if plan.gap <= 1e-8:
            return f"{title}: best plan found, {value}, proven the {_extreme(plan.goal)} possible."
        return f"{title}: plan found within the gap asked for, {value}; {_at_best(plan)} (gap {plan.gap:.2%})."
    if plan.reason is None:
        return f"{title}: a plan, {value}."
    known = f"; {_at_best(plan)} (gap {plan.gap:.2%})" if np.isfinite(plan.bound) else ""
    return f"{title}: stopped by {STOPPED_BY[plan.reason]}. Best plan so far: {value}{known}."


def _improving(plan: Plan) -> str:
    """Return the objective that was being solved for."""
    goals = plan.formulation.objectives
    return goals[min(max(len(plan.stages) - 1, 0), len(goals) - 1)].name if goals else "The objective"


def _extreme(goal: Objective) -> str:
    return "largest" if goal.maximize else "smallest"


def _in_order(plan: Plan) -> str:
    """Return the verdict on several objectives: the first leads, each later one with what is held for it."""
    goals, frame = plan.formulation.objectives, plan.objectives()
    told = []
    for k, goal in enumerate(goals):
        value = float(frame["value"].iloc[k])
        text = f"{goal.name} {amount(value, goal.unit)}"
        stage = plan.stages[k] if k < len(plan.stages) else None
        if stage is None or not np.isfinite(stage.bound):
            told.append(f"{text}, not solved for" if plan.reason is not None else text)
        elif stage.proven and abs(goal.sign * stage.bound - value) <= 1e-8 * max(1.0, abs(value)):
            told.append(f"{text}, the {_extreme(goal)} possible" + (_held(plan, k) if k else ""))
        elif k < len(plan.gives) and not plan.gives[k].nothing:
            reached = goal.sign * stage.bound
            told.append(f"{text}, given up from {amount(reached, goal.unit)}" + (_held(plan, k) if k else ""))
        else:
            edge = "at most" if goal.maximize else "at least"
            told.append(
                f"{text}, {edge} {amount(goal.sign * stage.bound, goal.unit)} possible" + (_held(plan, k) if k else "")
            )
    head = "best plan found" if plan.status == "optimal" else "a plan"
    if plan.reason is not None:
        head = f"stopped by {STOPPED_BY[plan.reason]}. Best plan so far"
    return f"{head}: {'; then '.join(told)}."


def _held(plan: Plan, k: int) -> str:
    """Return what the objectives before one are held at: `` with profit held at £34.00``."""
    held = []
    for goal, stage, give in zip(plan.formulation.objectives[:k], plan.stages, plan.gives or (), strict=False):
        value = goal.sign * (stage.value if give.nothing or stage.top is None else stage.top)
        edge = "at" if give.nothing else "at least" if goal.maximize else "at most"
        held.append(f"{goal.name} held {edge} {amount(value, goal.unit)}")
    return f" with {' and '.join(held)}" if held else ""


def _at_best(plan: Plan) -> str:
    edge = "at most" if plan.sense == "maximize" else "at least"
    return f"any plan has {edge} {amount(plan.bound, plan.unit)}"


def _objectives(plan: Plan) -> Table | None:
    """Return the objectives in their order, with what the earlier ones were held at."""
    objectives = plan.formulation.objectives
    if len(objectives) < 2:
        return None
    rows = []
    for k, (objective, value) in enumerate(zip(objectives, plan.objectives()["value"].tolist(), strict=True)):
        stage = plan.stages[k] if k < len(plan.stages) else None
        if stage is None:
            told = "not reached: the search was stopped before"
        elif stage.top is not None and k < len(plan.gives) and not plan.gives[k].nothing:
            edge = "at least" if objective.maximize else "at most"
            told = f"held {edge} {amount(objective.sign * stage.top, objective.unit)}"
        elif stage.top is not None:
            told = "held at this value"
        else:
            told = f"the best{_held(plan, k)}" if stage.proven else ""
        rows.append((f"{k + 1}. {objective.sense} {objective.name}", amount(value, objective.unit), told))
    return Table("Objectives in their order", ["objective", ">value", ""], rows)


def _breakdown(plan: Plan) -> Table | None:
    parts = plan.breakdown()
    if len(parts) < 2:
        return None
    rows = [(name, amount(value, plan.unit)) for name, value in parts.items()]
    rows.append(("total", amount(plan.objective, plan.unit)))
    return Table(f"What {plan.objective_name} is made of", ["part", ">value"], [tuple(map(str, row)) for row in rows])


def _quantities(plan: Plan) -> Table | None:
    units, x = plan.formulation.quantity_units, plan.outcome.x
    assert x is not None
    rows = [(name, amount(value, units[name])) for name, value in plan.formulation.quantity_values(x).items()]
    if not rows:
        return None
    shown, more = capped(rows, MOST_ROWS)
    return Table("Quantities", ["quantity", ">value"], shown, more=more)


def _used(plan: Plan) -> list[Table]:
    """Return what is used: families on two axes, and those that share one, as tables; the rest in a list."""
    x, formulation = plan.values, plan.formulation
    used = np.abs(x) > 1e-9
    own = formulation.decisions
    places = {family.name: formulation.place_of(family) for family in own}
    title = f"Decisions used: {int(used.sum()):,} of {len(used):,}, the others are 0"
    if used.all():
        title = f"Decisions: all {len(used):,} are used"
    wide, rest = [], used.copy()
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
    """Return the constraints that bind, with what one unit more of each limit is truly worth."""
    frame = plan.constraints()
    places = np.flatnonzero(frame["binding"].to_numpy(bool))
    title = f"Limits that bind: {len(places):,} of {plural(len(frame), 'constraint')}"
    shown, more = capped(places.tolist(), MOST_ROWS)
    worths = worth_of(plan, shown) if plan.outcome.y is not None and len(shown) else None
    rows = []
    for k, i in enumerate(shown):
        row = frame.iloc[i]
        told = [] if plan.outcome.y is None else [_worth(plan, None if worths is None else worths[k], str(row["unit"]))]
        rows.append((str(frame.index[i]), _right_side(plan, i, row), str(row["unit"]), *told))
    headings = ["constraint", ">limit", "unit"]
    notes = []
    if plan.outcome.y is not None:
        headings.append(f"one unit more of the limit changes {plan.objective_name or 'the objective'} by")
        if worths is not None and any(not worth.one for worth in worths):
            notes.append(
                "Degenerate: some limits are worth something else downwards. plan.sensitivity(), or ruddock ranges, "
                "shows both directions."
            )
        elif worths is None and rows:
            notes.append(
                "Degenerate: prices may differ by direction. plan.sensitivity(names), or ruddock ranges with names, "
                "works them out."
            )
    elif plan.formulation.objectives and plan.formulation.discrete:
        notes.append("Integer decisions move in steps, so limits have no price per unit here.")
    return Table(title, headings, rows, note=" ".join(notes) if rows else "", more=more)


def _right_side(plan: Plan, row: int, held: Any) -> str:
    """Return the limit of a constraint as written; of one with decisions on both sides the value of the right one."""
    family, _ = plan.formulation.constraint_at(row)
    if family.sides.limit_side == "left":
        return f"{number(held['left'])} {held['relation']}"
    return f"{held['relation']} {number(held['right'])}"


def _worth(plan: Plan, worth: Worth | None, unit: str | None) -> str:
    if worth is None:
        return "not worked out"
    if np.isnan(worth.more):
        return "no plan"
    if abs(worth.more) < 1e-12:
        return "0" if worth.one else "0 (degenerate)"
    sign = "+" if worth.more > 0 else ""
    per = f" per {unit}" if unit else ""
    return f"{sign}{amount(worth.more, plan.unit)}{per}" + ("" if worth.one else " (degenerate)")


def _no_plan(plan: Plan) -> list[str | Table]:
    """Say what is known when there is no plan to show."""
    outcome, formulation = plan.outcome, plan.formulation
    whole = lowered(formulation)
    crossed = [whole.column_name(j) for j in outcome.crossed_columns]
    crossed += [whole.row_name(i) for i in outcome.crossed_rows]
    if crossed:
        return [f"The lower limit is above the upper one for {listed(list(dict.fromkeys(crossed)))}. Correct one."]
    if outcome.proof is not None:
        used = np.flatnonzero(outcome.proof)
        order = used[np.argsort(-np.abs(outcome.proof[used]), kind="stable")]
        shown, more = capped(order.tolist(), MOST_ROWS)
        rows = [(whole.row_name(i), _side(plan, i), number(abs(float(outcome.proof[i])))) for i in shown]
        note = (
            "Added up with these weights, the limits contradict the bounds of the decisions. "
            "At least one of them must be relaxed."
        )
        title = "Constraints that cannot all hold"
        return [Table(title, ["constraint", ">limit", ">weight"], rows, note=note, more=more), ASK_WHY]
    if plan.status == "infeasible":
        return ["In fractions there may be plans; integer decisions and rules leave none.", ASK_WHY]
    if outcome.ray is not None:
        moving = np.flatnonzero(outcome.ray)
        shown, more = capped(moving.tolist(), MOST_ROWS)
        steps = [(whole.column_name(j), f"{outcome.ray[j]:+.6g}") for j in shown]
        note = "Repeating this step keeps every constraint and always improves the objective: a limit is missing."
        return [Table("Decisions that move together without limit", ["decision", ">step"], steps, note=note, more=more)]
    return []


def _side(plan: Plan, row: int) -> str:
    """Return the limit of a constraint that its weight in the proof uses."""
    assert plan.outcome.proof is not None
    if row >= plan.formulation.rows:
        return "rule"
    relation, value = limit_of(plan.formulation, row, upper=not plan.outcome.proof[row] > 0)
    family, _ = plan.formulation.constraint_at(row)
    return f"{relation} its right side" if np.isnan(value) else f"{relation} {amount(value, family.unit)}"


def explanation_tables(explanation: Explanation) -> list[str | Table]:
    """Return an explanation as a table for each side, and how they compare."""
    tables: list[str | Table] = [_worked_out(explanation.name, explanation, explanation.unit)]
    right = explanation.right
    if right is None:
        return tables
    if len(right.terms):
        tables.append(_worked_out("right side", right, explanation.unit))
    total, other = amount(explanation.total, explanation.unit), amount(right.total, explanation.unit)
    slack = explanation.slack or 0.0
    word = "binding" if abs(slack) <= 1e-7 * max(1.0, abs(right.total)) else f"slack {amount(slack, explanation.unit)}"
    if slack < 0 and word != "binding":
        word = f"violated by {amount(-slack, explanation.unit)}"
    return [*tables, f"{total} {explanation.relation} {other}: {word}."]


def _worked_out(title: str, side: Explanation, unit: str | None) -> Table:
    rows = [
        (str(name), *map(number, row))
        for name, row in zip(side.terms.index, side.terms.to_numpy(float).tolist(), strict=True)
    ]
    shown, more = capped(rows, 10 * MOST_ROWS)
    shown = list(shown)
    if side.constant:
        shown.append(("constant", "", "", number(side.constant)))
    shown.append(("total", "", "", amount(side.total, unit)))
    return Table(title, ["decision", ">coefficient", ">value", ">product"], shown, more=more)
