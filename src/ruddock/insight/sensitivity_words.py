"""Sensitivity in words: what limits are worth and for how far, as sentences, tables and a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Cell, LazyRows, Listing, Number, Row, Sentence, Table
from ruddock.document.numbers import Toward, amount, number, per
from ruddock.document.plotting import BEST, BOUND
from ruddock.errors import listed

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.sensitivity import Sensitivity

SAME = 1e-9
MOST_SENTENCES = 5
MOST_RANGES, EDGE = 12, 1.0  # limits drawn, and how far out, in parts of a limit


def sensitivity_blocks(found: Sensitivity) -> list[Block]:
    """Return the sensitivity, the limits most worth changing first; with integers what steps are truly worth."""
    value = f"{found.objective_name} {amount(found.objective, found.unit)}" if found.objective_name else "no objective"
    blocks: list[Block] = [
        Sentence(f"{found.model}: {value}. The effect of one limit or coefficient, all else equal:", verdict=True)
    ]
    if found.several:
        blocks.append(
            Sentence(
                f"All of this is about {found.objective_name}, which comes before {listed(found.several)}; what-if "
                "shows how all of them change."
            )
        )
    if found.held:
        blocks.append(Sentence(_integer_note(found)))
    if found.steps is not None:
        blocks.append(_steps(found, found.steps))
    points = found.sentences(MOST_SENTENCES) if not found.held or found.by_structure is not None else []
    if points:
        blocks.append(Listing("Limits most worth changing", points))
    blocks.append(_limits(found))
    if len(found.coefficients):
        blocks.append(_coefficients(found))
    return blocks


def _integer_note(found: Sensitivity) -> str:
    text = "Integer decisions move in steps, so limits have no price per unit; each step below was solved again."
    if found.by_structure is not None:
        text = f"The integer marks change nothing: {found.by_structure}, so every corner of the model is integer."
    if found.relaxation is not None:
        gap = abs(found.relaxation - found.objective)
        text += f" The relaxation has {found.objective_name} {amount(found.relaxation, found.unit)}"
        text += (
            ", the same."
            if gap <= 1e-7 * max(1.0, abs(found.objective))
            else f": the integer plan is {amount(gap, found.unit)} worse than the relaxation (integrality gap)."
        )
    return text


def _limits(found: Sensitivity) -> Table:
    frame = found.limits
    # those that matter first, each group in the model's order
    matters = (frame[["one_more", "one_less"]].abs().max(axis=1).fillna(1.0) > SAME).to_numpy()
    order = np.argsort(~matters, kind="stable")
    names = frame.index
    columns = ("relation", "limit", "unit", "both_sides", "one_more", "up_to", "above", "one_less", "down_to", "below")
    held = [frame[column].tolist() for column in columns]

    def row(k: int) -> Row:
        at = int(order[k])
        relation, limit, unit, both, more, up_to, above, less, down_to, below = (column[at] for column in held)
        return (
            str(names[at]),
            f"{relation} decisions +" if both and limit else f"{relation} decisions" if both else relation,
            "" if both and not limit else Number(limit, unit or None),
            _change(found, more),
            _end(up_to, above, unit, "down"),
            _change(found, less),
            _end(down_to, below, unit, "up"),
        )

    note = f"One more, one less: the change of {found.objective_name or 'the objective'} per unit, within those limits."
    if (frame[["above", "below"]] == "no plan").to_numpy().any():
        note += " ! beyond it the model is infeasible."
    title = "What the limits are worth"
    if found.held and found.by_structure is None:
        title = "What the limits are worth with every integer decision held at its value"
        note += " If integer decisions may change, only the steps above are true."
    heads = ["constraint", "", "limit", "one more", "up to", "one less", "down to"]
    return Table(title, heads, LazyRows(len(frame), row), note=note)


def _steps(found: Sensitivity, steps: pd.DataFrame) -> Block:
    """Return what a step of each limit truly changes, and what is said where no limit is near."""
    if not len(steps):
        return Sentence("No limit binds or is close to binding; name constraints to see what a step of them changes.")
    rows: list[Row] = []
    for name, (step, more, less, up, down) in zip(
        steps.index, steps[["step", "more", "less", "more_status", "less_status"]].itertuples(index=False), strict=True
    ):
        held: Any = found.limits.loc[name]
        unit = str(held["unit"]) or None
        cells = (str(held["relation"]), Number(float(held["limit"]), unit), Number(step, unit))
        rows.append((str(name), *cells, _step(found, more, up), _step(found, less, down)))
    heads = ["constraint", "", "limit", "step", "one step more", "one step less"]
    note = f"The change of {found.objective_name}; each was solved again. by= (--by) sets the step."
    return Table("What a step of a limit is worth", heads, rows, note=note)


def _step(found: Sensitivity, value: float, status: str) -> Cell:
    if status == "optimal":
        return _change(found, value)
    return {"infeasible": "infeasible", "unbounded": "unlimited"}.get(status, "not solved")


def _change(found: Sensitivity, value: float) -> Cell:
    if np.isnan(value):
        return "infeasible"
    return Number(0.0 if abs(value) <= SAME else value, found.unit, signed=True)


def _end(value: float, ends: str, unit: str, toward: Toward) -> Cell:
    if np.isinf(value):
        return "unlimited"
    return Number(value, unit or None, words="!" if ends == "no plan" else "", toward=toward)


def _coefficients(found: Sensitivity) -> Table:
    frame = found.coefficients
    names = frame.index
    held = [
        frame[column].tolist() for column in ("value", "coefficient", "from", "to", "improvement", "leaves", "unit")
    ]

    def row(k: int) -> Row:
        value, coefficient, low, high, improvement, leaves, unit = (column[k] for column in held)
        price = per(found.unit, unit)
        need: Cell = (
            ""
            if np.isnan(improvement)
            else "never"
            if np.isinf(improvement)
            else Number(improvement, price, toward="up")
        )
        return (
            str(names[k]),
            Number(value, unit or None),
            Number(coefficient, price),
            "any lower" if np.isinf(low) else Number(low, price, toward="up"),
            "any higher" if np.isinf(high) else Number(high, price, toward="down"),
            need,
            leaves,
        )

    heads = ["decision", "value", "coefficient", "optimal from", "to", "must improve by", "then decreases"]
    note = "Between from and to the plan stays optimal, all else equal."
    return Table("How far objective coefficients may change", heads, LazyRows(len(frame), row), note=note)


def limit_words(relation: str, limit: float, unit: str | None, both_sides: bool) -> str:
    """Return a limit with its relation; of a constraint with decisions on both sides what is constant on the right."""
    if not both_sides:
        return f"{relation} {amount(limit, unit)}"
    return f"{relation} {amount(limit, unit)} + decisions" if limit else f"{relation} decisions"


def priced(found: Sensitivity) -> list[int]:
    """Return the places of the limits that have a price and a size of their own, those worth most first."""
    worth = found.limits["one_more"].abs().fillna(0.0).to_numpy(float)
    limit = found.limits["limit"].to_numpy(float)
    return [k for k in np.argsort(-worth, kind="stable").tolist() if worth[k] > 0 and limit[k] != 0]


def ranges_height(found: Sensitivity) -> float:
    """Return how high the figure should be, in inches."""
    return 1.2 + 0.55 * max(min(len(priced(found)), MOST_RANGES), 1)


def ranges_figure(found: Sensitivity, ax: Axes) -> Axes:
    """Draw for the limits worth most how far their prices hold: from where to where, in parts of the limit itself."""
    frame, order = found.limits, priced(found)[:MOST_RANGES]
    limit = frame["limit"].to_numpy(float)
    for at, k in enumerate(order):
        name, size = str(frame.index[k]), abs(limit[k])
        ends = np.array([frame["down_to"].iloc[k], frame["up_to"].iloc[k]], float)
        shares = np.clip((ends - limit[k]) / size, -EDGE, EDGE)
        ax.plot(shares, [at, at], color=BEST, linewidth=5, solid_capstyle="butt")
        for share, end, side in zip(shares, ends, ("right", "left"), strict=True):
            if np.isinf(end) or abs(share) >= EDGE:
                ax.plot(share, at, ">" if side == "left" else "<", color=BEST, markersize=8)
            words = "unlimited" if np.isinf(end) else number(end)
            gap = -6 if side == "right" else 6
            ax.annotate(words, (share, at), (gap, 0), textcoords="offset points", ha=side, va="center", fontsize=8)
        ax.plot(0, at, "|", color=BOUND, markersize=16, markeredgewidth=2.5)
        unit = str(frame["unit"].iloc[k]) or None
        words = f"{name}: {amount(limit[k], unit)}"
        ax.annotate(words, (0, at), (0, 11), textcoords="offset points", ha="center", fontsize=9)
    ax.set_ylim(len(order) - 0.4, -0.7)
    ax.set_xlim(-1.45 * EDGE, 1.45 * EDGE)
    ax.set_yticks([])
    ax.set_xticks([-1, -0.5, 0, 0.5, 1], ["-100 %", "-50 %", "now", "+50 %", "+100 %"])
    ax.set_title("How far each limit may change before its price does, the highest price first", loc="left")
    ax.grid(alpha=0.3, axis="x")
    return ax
