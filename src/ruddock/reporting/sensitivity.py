"""Sensitivity as sentences and tables."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from ruddock.errors import listed
from ruddock.insight.sensitivity import SAME, Sensitivity, limit_words
from ruddock.tables import Table, amount, capped, number

MOST_ROWS = 40
MOST_TOLD = 5


def sensitivity_parts(found: Sensitivity) -> list[str | Table]:
    """Return the sensitivity, the limits most worth moving first; with integers what steps are truly worth."""
    value = f"{found.objective_name} {amount(found.objective, found.unit)}" if found.objective_name else "no objective"
    parts: list[str | Table] = [f"{found.model}: {value}. What a change of one limit or coefficient at a time does:"]
    if found.several:
        parts.append(
            f"All of this is about {found.objective_name}, which comes first; after it: {listed(found.several)}. To "
            "see all of them change, ask what-if."
        )
    if found.held:
        parts.append(_integer_note(found))
    if found.steps is not None:
        parts.append(_steps(found, found.steps))
    told = found.sentences(MOST_TOLD) if not found.held or found.by_structure is not None else []
    if told:
        parts.append("\n".join(("Limits most worth moving:", *(f"- {sentence}" for sentence in told))))
    parts.append(_limits(found))
    if len(found.coefficients):
        parts.append(_coefficients(found))
    return parts


def _integer_note(found: Sensitivity) -> str:
    text = (
        "Integer decisions move in steps, so that limits have no price per unit; what steps are worth was solved for."
    )
    if found.by_structure is not None:
        text = f"Integers need not be asked for: {found.by_structure}, so every corner of the model is integer."
    if found.relaxation is not None:
        gap = abs(found.relaxation - found.objective)
        edge = "at most" if found.sense == "maximize" else "at least"
        text += f" With fractions allowed, {found.objective_name} is {edge} {amount(found.relaxation, found.unit)}"
        text += (
            ", the same."
            if gap <= 1e-7 * max(1.0, abs(found.objective))
            else f"; the integer plan is {amount(gap, found.unit)} worse than that (integrality gap)."
        )
    return text


def _limits(found: Sensitivity) -> Table:
    frame = found.limits
    columns = ("relation", "limit", "unit", "both_sides", "one_more", "up_to", "above", "one_less", "down_to", "below")
    rows: list[tuple[str, ...]] = [
        (
            str(name),
            limit_words(relation, limit, "", both),
            unit,
            _change(found, more),
            _end(up_to, above),
            _change(found, less),
            _end(down_to, below),
        )
        for name, relation, limit, unit, both, more, up_to, above, less, down_to, below in zip(
            frame.index, *(frame[column].tolist() for column in columns), strict=True
        )
    ]
    # those that matter first, each group in the model's order
    matters = (frame[["one_more", "one_less"]].abs().max(axis=1).fillna(1.0) > SAME).to_numpy()
    rows = [rows[k] for k in np.argsort(~matters, kind="stable")]
    shown, more = capped(rows, MOST_ROWS)
    headings = ["constraint", ">limit", "unit", ">one more", ">up to", ">one less", ">down to"]
    note = (
        f"One more and one less: the change of {found.objective_name or 'the objective'} per unit, as far as it holds."
    )
    title = "What the limits are worth"
    if found.held and found.by_structure is None:
        title = "What the limits are worth while every integer decision keeps its value"
        note += " With integer decisions free to change, only the steps above are true."
    return Table(title, headings, shown, note=note, more=more)


def _steps(found: Sensitivity, steps: pd.DataFrame) -> str | Table:
    """Return what a step of each limit truly changes, and what is said where no limit is near."""
    if not len(steps):
        return "No limit binds or is near; name constraints to see what moving them by a step changes."
    rows = []
    for name, (step, more, less, up, down) in zip(
        steps.index, steps[["step", "more", "less", "more_status", "less_status"]].itertuples(index=False), strict=True
    ):
        held: Any = found.limits.loc[name]
        now, unit = f"{held['relation']} {number(float(held['limit']))}", str(held["unit"])
        rows.append((str(name), now, unit, number(step), _step(found, more, up), _step(found, less, down)))
    shown, more_rows = capped(rows, MOST_ROWS)
    headings = ["constraint", ">limit", "unit", ">step", ">step more", ">step less"]
    note = "Each solved again with that limit moved; by= (--by) sets the step."
    return Table("What a step is truly worth", headings, shown, note=note, more=more_rows)


def _step(found: Sensitivity, value: float, status: str) -> str:
    if status == "optimal":
        return _change(found, value)
    return {"infeasible": "no plan", "unbounded": "unlimited"}.get(status, "not solved")


def _change(found: Sensitivity, value: float) -> str:
    if np.isnan(value):
        return "no plan"
    if abs(value) <= SAME:
        return "0"
    return ("+" if value > 0 else "") + amount(value, found.unit)


def _end(value: float, ends: str) -> str:
    if np.isinf(value):
        return "unlimited"
    return number(value) + (" (then no plan)" if ends == "no plan" else "")


def _coefficients(found: Sensitivity) -> Table:
    frame = found.coefficients
    rows = [
        (
            str(name),
            number(value),
            number(coefficient),
            "any lower" if np.isinf(low) else number(low),
            "any higher" if np.isinf(high) else number(high),
            "" if np.isnan(improvement) else "nothing helps" if np.isinf(improvement) else number(improvement),
            gives_way,
        )
        for name, value, coefficient, low, high, improvement, gives_way in zip(
            frame.index,
            *(frame[column].tolist() for column in ("value", "coefficient", "from", "to", "improvement", "gives_way")),
            strict=True,
        )
    ]
    shown, more = capped(rows, MOST_ROWS)
    headings = ["decision", ">value", ">coefficient", ">best from", ">to", ">must improve by", "then decreases"]
    note = "Between from and to this plan stays the best one, while all else stays as it is."
    return Table("How far coefficients may move", headings, shown, note=note, more=more)
