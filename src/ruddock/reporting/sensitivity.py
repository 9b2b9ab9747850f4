"""Sensitivity as sentences and tables."""

from __future__ import annotations

import numpy as np

from ruddock.insight.sensitivity import SAME, Sensitivity
from ruddock.tables import Table, amount, capped, number

MOST_ROWS = 40
MOST_TOLD = 5


def sensitivity_parts(found: Sensitivity) -> list[str | Table]:
    """Return the sensitivity, the limits most worth moving first."""
    value = f"{found.objective_name} {amount(found.objective, found.unit)}" if found.objective_name else "no objective"
    parts: list[str | Table] = [f"{found.model}: {value}. What a change of one limit or coefficient at a time does:"]
    if found.held:
        parts.append(_held_note(found))
    told = found.sentences(MOST_TOLD)
    if told:
        parts.append("\n".join(("Limits most worth moving:", *(f"- {sentence}" for sentence in told))))
    parts.append(_limits(found))
    if found.by is not None:
        parts.append(_steps(found, found.by))
    if len(found.coefficients):
        parts.append(_coefficients(found))
    return parts


def _held_note(found: Sensitivity) -> str:
    text = "Whole-number decisions are held at their values here: prices and ranges are those of the rest."
    if found.relaxation is not None:
        gap = abs(found.relaxation - found.objective)
        edge = "at most" if found.sense == "maximize" else "at least"
        text += f" With fractions allowed, {found.objective_name} is {edge} {amount(found.relaxation, found.unit)}"
        text += (
            ", the same: whole numbers cost nothing."
            if gap <= 1e-7 * max(1.0, abs(found.objective))
            else f": whole numbers cost {amount(gap, found.unit)}."
        )
    if found.by_structure is not None:
        text += f" They need not even be asked for: {found.by_structure}, so every corner of the model is whole."
    return text


def _limits(found: Sensitivity) -> Table:
    frame = found.limits
    columns = ("relation", "limit", "unit", "one_more", "up_to", "above", "one_less", "down_to", "below")
    rows: list[tuple[str, ...]] = [
        (
            str(name),
            f"{relation} {number(limit)}",
            unit,
            _change(found, more),
            _end(up_to, above),
            _change(found, less),
            _end(down_to, below),
        )
        for name, relation, limit, unit, more, up_to, above, less, down_to, below in zip(
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
    return Table("What the limits are worth", headings, shown, note=note, more=more)


def _steps(found: Sensitivity, by: float) -> Table:
    """Return what a step of each limit that binds truly changes."""
    frame = found.limits[found.limits["slack"].abs() <= 1e-7 * found.limits["limit"].abs().clip(lower=1.0)]
    columns = ("relation", "limit", "unit", "step_more", "step_less")
    rows = [
        (str(name), f"{relation} {number(limit)}", unit, _change(found, more), _change(found, less))
        for name, relation, limit, unit, more, less in zip(
            frame.index, *(frame[column].tolist() for column in columns), strict=True
        )
    ]
    shown, more_rows = capped(rows, MOST_ROWS)
    headings = ["constraint", ">limit", "unit", f">{number(by)} more", f">{number(by)} less"]
    return Table("What a step is truly worth, solved again with nothing held", headings, shown, more=more_rows)


def _change(found: Sensitivity, value: float) -> str:
    if np.isnan(value):
        return "no plan"
    if abs(value) <= SAME:
        return "0"
    return ("+" if value > 0 else "") + amount(value, found.unit)


def _end(value: float, ends: str) -> str:
    if np.isinf(value):
        return "without end"
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
    headings = ["decision", ">value", ">coefficient", ">best from", ">to", ">must improve by", "then gives way"]
    note = "Between from and to this plan stays the best one, while all else stays as it is."
    return Table("How far coefficients may move", headings, shown, note=note, more=more)
