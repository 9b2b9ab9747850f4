"""Figures of a plan: bars and schedules along an axis, and how a search went."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Figure
from ruddock.document.numbers import DUST, with_unit
from ruddock.document.plotting import (
    BEST,
    BOUND,
    GREYS,
    HATCHES,
    draw_key,
    in_key,
    label_ticks,
    leave_room,
    new_axes,
    plain_words,
)
from ruddock.errors import ModelError, known
from ruddock.modelling.answer.shapes import runs_in_order
from ruddock.modelling.decisions import goes_by_label

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.axis import Axis
    from ruddock.modelling.decisions import Decisions
    from ruddock.modelling.plan import Plan

MOST_STACKED = 8  # parts of a bar that have a colour of their own
MOST_BARS = 60  # labels along which bars are drawn
MOST_LINES = 40  # of a schedule, one for each part
NEAR_BEST, GAPS = 0.1, 3.0  # of the best plan's value, and times the gap, beyond which a history is not shown
MOST_MEMBERS = 20_000  # of a family that is drawn
FEWEST_SHARES, MOST_SHARES = 3, 40  # of a map of shares


def figure_of(plan: Plan) -> Figure | None:
    """Return the figure that says most about a plan; None where no figure says more than its tables.

    A family along an axis that runs in order is drawn as bars, binary decisions as blocks; a two-way family as bars of
    shares; one on a single axis as bars.
    """
    if not plan.found:
        return None
    families = [f for f in plan.formulation.decisions if f.axes and 1 < len(f) <= MOST_MEMBERS and not goes_by_label(f)]
    used = [f for f in families if (np.abs(plan.values[plan.formulation.place_of(f)]) > DUST).any()]
    for family in used:
        time = next((axis for axis in reversed(family.axes) if runs_in_order(axis)), None)
        if time is None:
            continue
        parts = len(_along(plan, family.name, time.name)[1])
        if family.kind != "binary" and len(time) <= MOST_BARS:
            alt = f"{family.name} by {time.name}"
            return Figure(partial(bars_figure, [("plan", plan)], family.name, time.name), alt, 4.2)
        if family.kind == "binary" and len(family.axes) > 1 and parts <= MOST_LINES:
            alt = f"When {family.name} is on, by {time.name}"
            return Figure(partial(schedule_figure, plan, family.name, time.name), alt, 1.2 + 0.32 * parts)
    for family in used:
        if family.kind == "binary":
            continue
        down = _shorter(family)
        if len(family.axes) <= 2 and FEWEST_SHARES <= len(down) <= MOST_SHARES:
            alt = f"{family.name} by {down.name}"
            return Figure(partial(bars_figure, [("plan", plan)], family.name, down.name), alt, 4.2)
    return None


def _shorter(family: Decisions) -> Axis:
    """Return the axis along which bars of a family are drawn: the last one, unless it is far too long."""
    return family.axes[-1] if len(family.axes[-1]) <= MOST_SHARES else family.axes[0]


def _along(plan: Plan, family: str, over: str | None) -> tuple[list[str], list[str], np.ndarray, str, str]:
    """Return labels along an axis, labels of the parts, values (parts x labels), the unit, and the axis's name."""
    names = [f.name for f in plan.formulation.decisions]
    found = next((f for f in plan.formulation.decisions if f.name == family), None)
    if found is None:
        raise ModelError(f"{family!r} is not a family of decisions; {known(family, names)}")
    axes = list(found.cells.axes)
    if not axes:
        raise ModelError(f"{family} has no axis to draw it along")
    chosen = [axis.name for axis in axes]
    if over is not None and over not in chosen:
        raise ModelError(f"{family} has no axis {over!r}; {known(over, chosen)}")
    at = chosen.index(over) if over is not None else len(chosen) - 1
    values = plan.values[plan.formulation.place_of(found)]
    codes = found.cells.codes
    others = [k for k in range(len(axes)) if k != at]
    keys = [tuple(int(codes[k][i]) for k in others) for i in range(len(found))]
    parts = {key: place for place, key in enumerate(sorted(set(keys)))}
    grid = np.zeros((len(parts), len(axes[at])))
    np.add.at(grid, (np.array([parts[key] for key in keys], np.intp), codes[at]), values)
    part_labels = [", ".join(axes[k].texts[c] for k, c in zip(others, key, strict=True)) or family for key in parts]
    return list(axes[at].texts), part_labels, grid, found.unit or "", chosen[at]


@plain_words
def bars_figure(plans: Sequence[tuple[str, Plan]], family: str, over: str | None, ax: Axes | None = None) -> Axes:
    """Draw a family of decisions as stacked bars along an axis, the plans side by side at each label."""
    ax = ax or new_axes()
    width = 0.8 / len(plans)
    labels: list[str] = []
    axis = ""
    for k, (name_of_plan, plan) in enumerate(plans):
        labels, parts, grid, unit, axis = _along(plan, family, over)
        at = np.arange(len(labels)) + (k - (len(plans) - 1) / 2) * width
        base = np.zeros(len(labels))
        for part, (name, values) in enumerate(_stacked(parts, grid)):
            ax.bar(
                at,
                values,
                width * 0.92,
                bottom=base,
                color=GREYS[part % len(GREYS)],
                hatch=HATCHES[part % len(HATCHES)],
                edgecolor="black" if k else "0.4",
                linewidth=1.1 if k else 0.4,
                label=in_key(name) if not k else None,
            )
            base = base + values
        ax.set_ylabel(with_unit(family, unit))
        if len(plans) > 1 and len(labels) <= 8:
            for x, top in zip(at.tolist(), base.tolist(), strict=True):
                ax.annotate(name_of_plan, (x, top), (0, 2), textcoords="offset points", ha="center", fontsize=6)
    label_ticks(ax, labels)
    ax.set_xlabel(axis)
    side = " and ".join(name for name, _ in plans)
    more = f": {side}, left and right at each label" if len(plans) > 1 else f": {family} by {axis}"
    ax.set_title(f"{plans[0][1].model_name}{more}", loc="left")
    ax.grid(alpha=0.3, axis="y")
    ax.set_axisbelow(True)
    leave_room(ax)
    if len(ax.get_legend_handles_labels()[1]) > 1:
        draw_key(ax, fontsize=8, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    return ax


def _stacked(parts: list[str], grid: np.ndarray) -> list[tuple[str, np.ndarray]]:
    """Return the parts of the bars, the largest ones by themselves, those that are all 0 left out."""
    size = np.abs(grid).sum(axis=1)
    order = [k for k in np.argsort(-size, kind="stable").tolist() if size[k] > DUST] or [0]
    if len(order) <= MOST_STACKED:
        return [(parts[k], grid[k]) for k in sorted(order)]
    rest = order[MOST_STACKED - 1 :]
    shown = [(parts[k], grid[k]) for k in sorted(order[: MOST_STACKED - 1])]
    return [*shown, (f"{len(rest):,} others", grid[rest].sum(axis=0))]


@plain_words
def schedule_figure(plan: Plan, family: str, over: str | None, ax: Axes | None = None) -> Axes:
    """Draw when each part of a family is on: a line of blocks along an axis."""
    ax = ax or new_axes()
    labels, parts, grid, _, axis = _along(plan, family, over)
    on = grid > 0.5
    for row in range(len(parts)):
        edges = np.diff(np.concatenate(([0], on[row].astype(int), [0])))
        begins, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
        spans = list(zip(begins.tolist(), ends.tolist(), strict=True))
        ax.broken_barh([(b - 0.5, e - b) for b, e in spans], (row - 0.36, 0.72), facecolor=BEST, edgecolor="white")
        for b, e in spans:
            if e - b >= 2 or len(labels) <= 31:
                ax.annotate(
                    f"{e - b}",
                    ((b + e - 1) / 2, row),
                    ha="center",
                    va="center",
                    color="white",
                    fontsize=8,
                    clip_on=True,
                )
    ax.set_yticks(range(len(parts)), parts)
    ax.set_ylim(len(parts) - 0.4, -0.6)
    label_ticks(ax, labels)
    ax.set_xlim(-0.6, len(labels) - 0.4)
    ax.set_xlabel(f"{axis} (the number is how many in a row)")
    ax.set_title(f"{plan.model_name}: when {family} is on", loc="left")
    ax.grid(alpha=0.3, axis="x")
    ax.set_axisbelow(True)
    return ax


@plain_words
def history_figure(plan: Plan, ax: Axes | None = None) -> Axes:
    """Draw how the best plan and the bound of a search came together over time.

    Raises
    ------
    ModelError
        If the solve was not a search, or found no plan.
    """
    history = plan.history
    if not len(history):
        raise ModelError("there is no history to draw: only a search over integer decisions that found a plan has one")
    ax = ax or new_axes()
    seconds, best = history["seconds"].to_numpy(), history["best"].to_numpy()
    bound = history["bound"].to_numpy()
    known_ = np.isfinite(bound)
    ax.step(seconds, best, where="post", color=BEST, marker="o", label="best plan")
    ax.step(seconds[known_], bound[known_], where="post", color=BOUND, linestyle="--", marker="s", label="bound")
    left_out = _show_near(ax, np.concatenate((best, bound[known_])), best[-1], abs(best[-1] - bound[-1]))
    ax.set_xlabel("seconds (first values, far from these, are not shown)" if left_out else "seconds")
    ax.set_ylabel(with_unit(plan.objective_name or "objective", plan.unit))
    beyond = "less" if plan.sense == "minimize" else "more"
    ax.set_title(f"{plan.model_name}: no plan has {beyond} than the bound", loc="left")
    ax.grid(alpha=0.3)
    draw_key(ax)
    return ax


def _show_near(ax: Axes, values: np.ndarray, best: float, gap: float) -> bool:
    """Show what lies near the best plan alone, where first bounds are far from it; say whether any is left out."""
    reach = max(NEAR_BEST * abs(best), GAPS * gap if np.isfinite(gap) else 0.0)
    near = values[np.abs(values - best) <= reach]
    if reach == 0.0 or len(near) == len(values):
        return False
    low, high = near.min(), near.max()
    margin = 0.1 * ((high - low) or reach)
    ax.set_ylim(low - margin, high + margin)
    return True
