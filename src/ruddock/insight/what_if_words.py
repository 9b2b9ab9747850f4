"""A base plan and a changed one, side by side: sentences, tables, a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, LazyRows, Number, Sentence, Table
from ruddock.document.numbers import amount, capital, with_unit
from ruddock.document.plotting import BEST, BOUND, draw_key
from ruddock.errors import listed
from ruddock.modelling.answer.families import what_to_do
from ruddock.modelling.answer.verdict import headline, value_tables
from ruddock.modelling.formulation import Objective, units_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.what_if import WhatIf

MOST_ROWS = 30
MOST_DRAWN = 15  # decisions


def what_if_blocks(found: WhatIf) -> list[Block]:
    """Return the comparison as sentences and tables."""
    base, changed = found.base, found.changed
    asked = f"What if {listed([str(change) for change in found.changes], 12)}?"
    if not (base.found and changed.found):
        verdict = Sentence(f"{asked}\nBase: {headline(base)}\nChanged: {headline(changed)}", verdict=True)
        shown = [*value_tables(changed), *what_to_do(changed)] if changed.found else []
        return [verdict, *shown]
    unit, name = base.unit, base.objective_name or "objective"
    goals = base.formulation.objectives
    verdicts = [_verdict(goal, row) for goal, row in zip(goals, _rows(found), strict=True)]
    answer = " ".join(f"{capital(words)}." for words in verdicts) or "The model has no objective."
    blocks: list[Block] = [Sentence(f"{asked}\n{answer}", verdict=True)]
    for plan, which in ((base, "base"), (changed, "changed")):
        if plan.status != "optimal":
            blocks.append(Sentence(f"The {which} plan is not proven optimal: {headline(plan)}"))
    if found.predicted is not None:
        blocks.append(Sentence(_prediction(found)))
    parts = found.breakdown()
    if len(parts) > 1:
        rows = [
            (str(part), Number(old, unit), Number(new, unit), Number(difference, unit, signed=True))
            for part, old, new, difference in parts.itertuples(name=None)
        ]
        rows.append(
            (
                "total",
                Number(base.objective, unit),
                Number(changed.objective, unit),
                Number(found.difference, unit, signed=True),
            )
        )
        title = f"{capital(name)} by part"
        blocks.append(Table(title, ["part", "base", "changed", "difference"], rows, total=True))
    blocks += _quantities(found)
    blocks.append(_moved(found))
    return blocks + _binding(found)


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
    text = f"The shadow prices of the base plan predicted {amount(found.predicted, found.base.unit)}"
    exact = abs(found.predicted - found.changed.objective) <= 1e-7 * max(1.0, abs(found.changed.objective))
    text += ", which is the result." if exact else ": the change goes beyond the range in which they hold."
    if found.share is not None:
        text += f" The changes use {found.share:.0%} of their ranges in total"
        text += " (up to 100 % the prediction is exact)." if found.share <= 1 else "."
    return text


def _quantities(found: WhatIf) -> list[Block]:
    """Return the quantities that change."""
    units = found.base.formulation.quantity_units
    frame = found.quantities()
    size = frame[["base", "changed"]].abs().max(axis=1).clip(lower=1.0)
    frame = frame[frame["difference"].abs() > 1e-9 * size]
    rows = [
        (name, Number(old, units[name]), Number(new, units[name]), Number(difference, units[name], signed=True))
        for name, old, new, difference in frame.itertuples(name=None)
    ]
    heads = ["quantity", "base", "changed", "difference"]
    return [Table("Quantities that change", heads, rows, most=MOST_ROWS)] if rows else []


def _moved(found: WhatIf) -> Block:
    frame = found.decisions(moved=True)
    if not len(frame):
        return Sentence("No decision changes.")
    units = _units(found)
    values, names = frame.to_numpy(float), frame.index
    return Table(
        "Decisions that change",
        ["decision", "base", "changed", "difference"],
        LazyRows(
            len(frame),
            lambda k: (
                str(names[k]),
                *(Number(v, units.get(str(names[k]))) for v in values[k, :2].tolist()),
                Number(float(values[k, 2]), units.get(str(names[k])), signed=True),
            ),
        ),
        most=MOST_ROWS,
    )


def _units(found: WhatIf) -> dict[str, str | None]:
    return units_of(found.changed.formulation) | units_of(found.base.formulation)


def _binding(found: WhatIf) -> list[Block]:
    frame = found.binding()
    sentences = []
    for now, words in (("binds", "Now binding"), ("has slack", "No longer binding")):
        names = [str(name) for name in frame.index[frame["now"] == now]]
        if names:
            sentences.append(f"{words}: {listed(names, 12)}.")
    return [Sentence("\n".join(sentences))] if sentences else []


def what_if_figure(found: WhatIf, ax: Axes) -> Axes:
    """Draw the decisions that change most: from the base to the changed value."""
    frame = found.decisions(moved=True).head(MOST_DRAWN)
    base, changed = frame["base"].fillna(0.0).to_numpy(float), frame["changed"].fillna(0.0).to_numpy(float)
    at = np.arange(len(frame))
    ax.hlines(at, base, changed, color="0.6", linewidth=2, zorder=1)
    ax.plot(base, at, "o", color="white", markeredgecolor=BOUND, markersize=8, label="base", zorder=2)
    ax.plot(changed, at, "s", color=BEST, markersize=7, label="changed", zorder=3)
    ax.set_yticks(at, [str(name) for name in frame.index])
    ax.set_ylim(len(frame) - 0.4, -0.6)
    units = {_units(found).get(str(name)) for name in frame.index}
    ax.set_xlabel(with_unit("value", units.pop() if len(units) == 1 else None))
    ax.margins(x=0.08)
    ax.set_title(f"{found.base.model_name}: decisions that change most", loc="left")
    ax.grid(alpha=0.3)
    draw_key(ax, loc="best")
    return ax
