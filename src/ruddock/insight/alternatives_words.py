"""Other plans next to the optimal one: a sentence and a table."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ruddock.document.content import Block, LazyRows, Number, Row, Sentence, Table
from ruddock.document.numbers import amount, plural
from ruddock.modelling.answer.verdict import STOPPED_BY
from ruddock.modelling.decisions import kinds_of
from ruddock.modelling.formulation import units_of

if TYPE_CHECKING:
    from ruddock.insight.alternatives import Alternatives


def alternatives_blocks(found: Alternatives) -> list[Block]:
    """Return what else could be done, and where the plans differ."""
    plan = found.plan
    goals = plan.formulation.objectives
    values = plan.objectives()["value"].tolist()
    value = ", ".join(f"{goal.name} {amount(v, goal.unit)}" for goal, v in zip(goals, values, strict=True))
    whole = any(kinds_of(family).any() for family in plan.formulation.decisions)
    if not found.others:
        if found.complete:
            words = f"{plan.model_name}: this is the only optimal plan{', ' + value if value else ''} (proven)."
        else:
            words = f"{plan.model_name}: no other plan was found{_stopped(found)}; there may be some."
        return [Sentence(words, verdict=True)]
    one, many = ("next best plan", "next best plans") if whole else ("alternative optimum", "alternative optima")
    if found.complete:
        end = "no others exist (proven)"
    elif whole:
        end = f"there may be more{_stopped(found)}"
    else:
        end = f"mixtures of these are optimal too, and there may be more{_stopped(found)}"
    head = f"{plan.model_name}: {plural(len(found), one, many)}; {end}."
    plans = [plan, *found.others]
    per_goal: list[Row] = [
        (goal.name, *(Number(float(p.objectives()["value"].iloc[k]), goal.unit) for p in plans))
        for k, goal in enumerate(goals)
    ]
    frame = found.decisions(moved=True)
    numbers, names = frame.to_numpy(float), frame.index
    units = units_of(plan.formulation)

    def row(k: int) -> Row:
        if k < len(per_goal):
            return per_goal[k]
        name = str(names[k - len(per_goal)])
        return name, *(Number(v, units[name]) for v in numbers[k - len(per_goal)].tolist())

    rows = LazyRows(len(per_goal) + len(frame), row)
    return [Sentence(head, verdict=True), Table("Where the plans differ", ["", *map(str, frame.columns)], rows)]


def _stopped(found: Alternatives) -> str:
    return f" (stopped by {STOPPED_BY[found.stopped]})" if found.stopped is not None else ""
