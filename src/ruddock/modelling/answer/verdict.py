"""The first sentence about a plan: its status, every objective with its unit, and what is proven."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, Number, Table
from ruddock.document.numbers import DUST, Toward, amount, capital, listed_all
from ruddock.errors import listed

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Objective
    from ruddock.modelling.plan import Plan

MOST_PARTS = 12
MOST_QUANTITIES = 12
STOPPED_BY = {
    "time": "the time limit",
    "nodes": "the node limit",
    "iterations": "the iteration limit",
    "memory": "the memory limit",
    "user": "you",
    "numerics": "numerical trouble",
    "accuracy": "the accuracy of the first-order method",
}


def headline(plan: Plan) -> str:
    """Return the verdict in one sentence."""
    title = plan.model_name
    if plan.status == "infeasible":
        return f"{title}: infeasible. No plan meets all constraints and bounds."
    if plan.status == "unbounded":
        return f"{title}: unbounded. {_improving(plan)} can improve without limit."
    if not plan.found:
        known = "" if not np.isfinite(plan.bound) else f" {capital(_at_best(plan))}."
        return f"{title}: stopped by {STOPPED_BY[plan.reason or 'numerics']} before any plan was found.{known}"
    if plan.goal is None:
        return f"{title}: feasible. This plan meets all constraints; the model has no objective."
    if len(plan.formulation.objectives) > 1:
        return f"{title}: {_in_order(plan)}"
    value = f"{plan.objective_name} {amount(plan.objective, plan.unit)}"
    if plan.status == "optimal":
        if plan.gap <= 1e-8:
            return f"{title}: optimal. {capital(value)} is the {extreme(plan.goal)} possible (proven)."
        return (
            f"{title}: optimal within the gap asked for. {capital(value)}; {_at_best(plan)} (gap {percent(plan.gap)})."
        )
    if plan.reason is None:
        return f"{title}: {value}."
    known = f"; {_at_best(plan)} (gap {percent(plan.gap)})" if np.isfinite(plan.bound) else "; no bound is known yet"
    return f"{title}: stopped by {STOPPED_BY[plan.reason]}. Best plan so far: {value}{known}."


def percent(share: float) -> str:
    """Write a share as per cent, with as many digits as it takes to see one."""
    return f"{share:.2%}" if share >= 1e-4 else f"{share:.1e}".replace("e-0", "e-") if share else "0%"


def _improving(plan: Plan) -> str:
    """Return the objective that was being solved for."""
    goals = plan.formulation.objectives
    return capital(goals[min(max(len(plan.stages) - 1, 0), len(goals) - 1)].name) if goals else "The objective"


def extreme(goal: Objective) -> str:
    """Return what an optimal value is."""
    return "largest" if goal.maximize else "smallest"


def _in_order(plan: Plan) -> str:
    """Return the verdict on several objectives: the first leads, each later one with what is held for it."""
    goals, frame = plan.formulation.objectives, plan.objectives()
    parts = []
    for k, goal in enumerate(goals):
        value = float(frame["value"].iloc[k])
        text = f"{goal.name} {amount(value, goal.unit)}"
        stage = plan.stages[k] if k < len(plan.stages) else None
        if stage is None or not np.isfinite(stage.bound):
            parts.append(f"{text}, not optimised" if plan.reason is not None else text)
        elif stage.proven and abs(goal.sign * stage.bound - value) <= 1e-8 * max(1.0, abs(value)):
            parts.append(f"{text}, the {extreme(goal)} possible" + (held_words(plan, k) if k else ""))
        elif k < len(plan.gives) and not plan.gives[k].nothing:
            reached = goal.sign * stage.bound
            parts.append(f"{text}, relaxed from {amount(reached, goal.unit)}" + (held_words(plan, k) if k else ""))
        else:
            edge = "at most" if goal.maximize else "at least"
            parts.append(
                f"{text}, {edge} {amount(goal.sign * stage.bound, goal.unit)} possible"
                + (held_words(plan, k) if k else "")
            )
    head = "optimal" if plan.status == "optimal" else "a plan"
    if plan.reason is not None:
        head = f"stopped by {STOPPED_BY[plan.reason]}. Best plan so far"
    return f"{head}: {'; then '.join(parts)}."


def held_words(plan: Plan, k: int) -> str:
    """Return what the objectives before one are held at: `` with profit held at £34.00``."""
    held = []
    for goal, stage, give in zip(plan.formulation.objectives[:k], plan.stages, plan.gives or (), strict=False):
        value = goal.sign * (stage.value if give.nothing or stage.top is None else stage.top)
        edge = "at" if give.nothing else "at least" if goal.maximize else "at most"
        held.append(f"{goal.name} held {edge} {amount(value, goal.unit)}")
    return f" with {listed_all(held)}" if held else ""


def _at_best(plan: Plan) -> str:
    edge = "more" if plan.sense == "maximize" else "less"
    toward: Toward = "up" if plan.sense == "maximize" else "down"
    return f"no plan has {edge} than {amount(plan.bound, plan.unit, toward)}"


def value_tables(plan: Plan) -> list[Block]:
    """Return the objectives in their order, the first one by its parts, and the quantities that are single numbers."""
    tables = (_objectives(plan), breakdown_table(plan), _quantities(plan, families=False))
    return [table for table in tables if table is not None]


def family_tables(plan: Plan) -> list[Block]:
    """Return the quantities that are families, which come after what to do."""
    table = _quantities(plan, families=True)
    return [] if table is None else [table]


def _objectives(plan: Plan) -> Table | None:
    """Return the objectives in their order, with what the earlier ones were held at."""
    objectives = plan.formulation.objectives
    if len(objectives) < 2:
        return None
    rows = []
    for k, (objective, value) in enumerate(zip(objectives, plan.objectives()["value"].tolist(), strict=True)):
        stage = plan.stages[k] if k < len(plan.stages) else None
        if stage is None:
            remark = "not reached: the search was stopped before"
        elif stage.top is not None and k < len(plan.gives) and not plan.gives[k].nothing:
            edge = "at least" if objective.maximize else "at most"
            remark = f"held {edge} {amount(objective.sign * stage.top, objective.unit)}"
        elif stage.top is not None:
            remark = "held at this value"
        else:
            remark = f"optimal{held_words(plan, k)}" if stage.proven else ""
        rows.append((f"{k + 1}. {objective.sense} {objective.name}", Number(value, objective.unit), remark))
    return Table("Objectives in their order", ["objective", "value", ""], rows)


def breakdown_table(plan: Plan) -> Table | None:
    """Return the first objective by its parts; None where it has one only."""
    parts = plan.breakdown()
    if len(parts) < 2:
        return None
    unit, shown = plan.unit, np.full(len(parts), True) if len(parts) <= 4 else parts.abs().to_numpy() > DUST
    rows = [(str(name), Number(float(value), unit)) for name, value in parts[shown].items()]
    zero = [str(name) for name in parts.index[~shown]]
    rows.append(("total", Number(plan.objective, unit)))
    return Table(
        f"{capital(plan.objective_name or 'objective')} by part",
        ["part", "value"],
        rows,
        note=f"0: {listed(zero)}." if zero else "",
        most=MOST_PARTS,
        total=True,
    )


def _quantities(plan: Plan, *, families: bool) -> Table | None:
    formulation, x = plan.formulation, plan.outcome.x
    assert x is not None
    rows = [
        (name, Number(value, quantity.unit))
        for quantity in formulation.reported
        if bool(quantity.cells.axes) == families
        for name, value in zip(quantity.members(), formulation.evaluate(quantity.terms, x).tolist(), strict=True)
    ]
    return Table("Quantities", ["quantity", "value"], rows, most=MOST_QUANTITIES) if rows else None
