"""A base plan and a changed one, side by side."""

from __future__ import annotations

from ruddock.errors import listed
from ruddock.insight.what_if import WhatIf
from ruddock.modelling.formulation import Objective
from ruddock.reporting.text import headline
from ruddock.tables import Table, amount, capped, number

MOST_ROWS = 30


def what_if_parts(found: WhatIf) -> list[str | Table]:
    """Return the comparison as sentences and tables."""
    base, changed = found.base, found.changed
    parts: list[str | Table] = [f"What if {listed([str(change) for change in found.changes], 12)}?"]
    if not (base.found and changed.found):
        return [*parts, f"As it is: {headline(base)}", f"Changed: {headline(changed)}"]
    unit, name = base.unit, base.objective_name or "the objective"
    verdicts = [_verdict(goal, row) for goal, row in zip(base.formulation.objectives, _rows(found), strict=True)]
    parts.append(" ".join(f"{told[0].upper()}{told[1:]}." for told in verdicts) or "There is no objective.")
    for plan, which in ((base, "as it is"), (changed, "changed")):
        if plan.status != "optimal":
            parts.append(f"The plan {which} is not proven the best: {headline(plan)}")
    if found.predicted is not None:
        parts.append(_prediction(found))
    if len(found.breakdown()) > 1:
        rows = [
            (str(part), amount(old, unit), amount(new, unit), _signed(difference, amount(difference, unit)))
            for part, old, new, difference in found.breakdown().itertuples(name=None)
        ]
        rows.append(
            (
                "total",
                amount(base.objective, unit),
                amount(changed.objective, unit),
                _signed(found.difference, amount(found.difference, unit)),
            )
        )
        parts.append(Table(f"What {name} is made of", ["part", ">as it is", ">changed", ">difference"], rows))
    parts += _quantities(found)
    parts.append(_moved(found))
    parts += _binding(found)
    return parts


def _rows(found: WhatIf) -> list[tuple[float, float, float]]:
    return list(found.objectives().itertuples(index=False, name=None))


def _verdict(goal: Objective, row: tuple[float, float, float]) -> str:
    """Say what became of one objective, against itself."""
    old, new, difference = row
    if abs(difference) <= 1e-9 * max(1.0, abs(old)):
        return f"{goal.name} stays {amount(old, goal.unit)}"
    word = "better" if (difference > 0) == goal.maximize else "worse"
    moves = f"{goal.name} goes from {amount(old, goal.unit)} to {amount(new, goal.unit)}"
    return f"{moves}: {amount(abs(difference), goal.unit)} {word}"


def _prediction(found: WhatIf) -> str:
    assert found.predicted is not None
    text = f"The prices of the plan as it is predicted {amount(found.predicted, found.base.unit)}"
    exact = abs(found.predicted - found.changed.objective) <= 1e-7 * max(1.0, abs(found.changed.objective))
    text += ", which is what came out." if exact else ": the change goes beyond the range in which they hold."
    if found.share is not None:
        text += f" Together the changes use {found.share:.0%} of their ranges"
        text += " (up to 100 %, the prediction is certain)." if found.share <= 1 else "."
    return text


def _quantities(found: WhatIf) -> list[str | Table]:
    """Return the quantities that change."""
    units = found.base.formulation.quantity_units
    frame = found.quantities()
    size = frame[["base", "changed"]].abs().max(axis=1).clip(lower=1.0)
    frame = frame[frame["difference"].abs() > 1e-9 * size]
    shown, more = capped(list(frame.itertuples(name=None)), MOST_ROWS)
    rows = [
        (name, amount(old, units[name]), amount(new, units[name]), _signed(difference, amount(difference, units[name])))
        for name, old, new, difference in shown
    ]
    return [Table("Quantities", ["quantity", ">as it is", ">changed", ">difference"], rows, more=more)] if rows else []


def _moved(found: WhatIf) -> str | Table:
    frame = found.moved()
    if not len(frame):
        return "No decision moves."
    shown, more = capped(list(frame.itertuples(name=None)), MOST_ROWS)
    rows = [
        (str(name), number(old), number(new), _signed(difference, number(difference)))
        for name, old, new, difference in shown
    ]
    return Table("Decisions that move", ["decision", ">as it is", ">changed", ">difference"], rows, more=more)


def _signed(value: float, text: str) -> str:
    return f"+{text}" if value > 0 else text


def _binding(found: WhatIf) -> list[str | Table]:
    frame = found.binding()
    parts: list[str | Table] = []
    for now, told in (("binds", "Begin to bind"), ("has slack", "No longer bind")):
        names = [str(name) for name in frame.index[frame["now"] == now]]
        if names:
            parts.append(f"{told}: {listed(names, 12)}.")
    return parts
