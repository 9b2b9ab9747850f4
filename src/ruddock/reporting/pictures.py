"""Pictures of a model and its plans: the region of two decisions, bars and schedules along an axis, a clash."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.errors import ModelError, known
from ruddock.modelling.lowering import lowered
from ruddock.reporting.diagnosis import reason_text
from ruddock.reporting.figures import BEST, BOUND, new_axes
from ruddock.tables import amount

if TYPE_CHECKING:
    from collections.abc import Sequence

    from matplotlib.axes import Axes

    from ruddock.insight.diagnosis import Diagnosis
    from ruddock.insight.region import Line, Region
    from ruddock.modelling.plan import Plan

STYLES: list[tuple[str, Any]] = [
    ("#1b4f72", "-"),
    ("#7d3c98", "--"),
    ("#117864", "-."),
    ("#943126", (0, (5, 1, 1, 1, 1, 1))),
]
PATCH = {"facecolor": "white", "edgecolor": "none", "alpha": 0.8, "pad": 1.5}  # behind words over lines
MOST_STACKED = 8  # parts of a bar that have a colour of their own
MOST_TICKS = 30
MOST_DOTS = 2_500  # plans in integers; more are one blot
GREYS = ["#12324a", "#c98b2b", "#5d8aa8", "#e8d6a8", "#7b3f2c", "#9fb8a3", "#4b4b4b", "#d9d9d9"]
HATCHES = ["", "//", "..", "xx", "\\\\", "++", "oo", "--"]


def region_figure(found: Region, ax: Axes | None = None) -> Axes:
    """Draw the region of two decisions: limits as lines with names, corners, whole-number points, the objective."""
    if not len(found.outline):
        raise ModelError("the region is empty: there is nothing to draw; model.diagnose() says why")
    ax = ax or new_axes()
    low_x, high_x, low_y, high_y = found.frame
    room_x, room_y = (max(high - low, 1e-9) for low, high in ((low_x, high_x), (low_y, high_y)))
    ax.set_xlim(low_x - 0.08 * room_x, high_x + 0.22 * room_x)
    ax.set_ylim(low_y - 0.08 * room_y, high_y + 0.16 * room_y)
    corners, outline = found.corners.iloc[:, :2].to_numpy(float), found.outline
    ax.fill(outline[:, 0], outline[:, 1], facecolor="#dfe7ee", edgecolor="none", zorder=0)
    named = [line for line in found.lines if not line.name.startswith(found.names)]
    for k, line in enumerate(named):
        _draw_line(ax, line, STYLES[k % len(STYLES)])
    _draw_outline(ax, outline, found.lines, found.frame if found.unlimited else None)
    if 0 < len(found.points) <= MOST_DOTS:
        ax.plot(found.points[:, 0], found.points[:, 1], ".", color="0.35", markersize=3, zorder=2)
    ax.plot(corners[:, 0], corners[:, 1], "s", color="black", markersize=5, zorder=3)
    if found.goal is not None and found.plan.found:
        _draw_objective(ax, found)
    across, up = (f"{n} ({u})" if u else n for n, u in zip(found.names, found.units, strict=True))
    ax.set_xlabel(across)
    ax.set_ylabel(up)
    ax.set_title(
        f"{found.plan.model_name}: all plans" + (", unlimited: open at the edge" if found.unlimited else ""), loc="left"
    )
    ax.legend(frameon=False, loc="upper right", fontsize=8)
    return ax


def _draw_outline(
    ax: Axes, outline: np.ndarray, lines: Sequence[Line], frame: tuple[float, float, float, float] | None
) -> None:
    """Draw the edge of a region; where it only ends at the frame there is none."""
    for (x0, y0), (x1, y1) in zip(outline.tolist(), np.roll(outline, -1, axis=0).tolist(), strict=True):
        if frame is not None:
            low_x, high_x, low_y, high_y = frame
            near = 1e-9 * max(1.0, abs(high_x), abs(high_y))
            along_x = any(abs(x0 - edge) <= near and abs(x1 - edge) <= near for edge in (low_x, high_x))
            along_y = any(abs(y0 - edge) <= near and abs(y1 - edge) <= near for edge in (low_y, high_y))
            if (along_x or along_y) and not any(_on(line, x0, y0) and _on(line, x1, y1) for line in lines):
                continue
        ax.plot([x0, x1], [y0, y1], color="black", linewidth=1.6, zorder=2)


def _on(line: Line, x: float, y: float) -> bool:
    """Tell whether a point is on a limit."""
    size = max(1.0, abs(line.a * x) + abs(line.b * y), abs(line.limit))
    return abs(line.a * x + line.b * y - line.limit) <= 1e-7 * size


def _draw_line(ax: Axes, line: Line, style: tuple[str, Any]) -> None:
    """Draw a limit right across, named in the legend."""
    color, dashes = style
    told = f"{line.name} {line.relation} {line.limit:,.6g}"
    if line.b:
        ax.axline((0.0, line.limit / line.b), slope=-line.a / line.b, color=color, linestyle=dashes, lw=1.2, label=told)
    else:
        ax.axvline(line.limit / line.a, color=color, linestyle=dashes, lw=1.2, label=told)


def _draw_objective(ax: Axes, found: Region) -> None:
    """Draw the best plan, and the lines on which the objective is the same: through it, and through worse values."""
    assert found.goal is not None
    a, b = found.gradient.tolist()
    x, y = found.plan.values.tolist()
    values = found.corners["objective"].to_numpy(float)
    worst = values.min() if found.goal.maximize else values.max()
    for share in (0.0, 0.33, 0.66):
        level = found.plan.objective + share * (worst - found.plan.objective)
        offset = a * x + b * y + (level - found.plan.objective)
        told = f"{found.goal.name} the same" if not share else None
        if b:
            ax.axline((0.0, offset / b), slope=-a / b, color=BOUND, linestyle=":", lw=1.4, alpha=1 - share, label=told)
        elif a:
            ax.axvline(offset / a, color=BOUND, linestyle=":", lw=1.4, alpha=1 - share, label=told)
    ax.plot(x, y, "*", color=BOUND, markeredgecolor="black", markersize=15, zorder=4)
    worth = amount(found.plan.objective, found.goal.unit)
    where = f"{found.names[0]} {x:,.6g}, {found.names[1]} {y:,.6g}"
    left = x > sum(ax.get_xlim()) / 2
    ax.annotate(
        f"best: {worth}\n{where}",
        (x, y),
        (-12, -30) if left else (12, 10),
        textcoords="offset points",
        ha="right" if left else "left",
        fontsize=9,
        bbox=PATCH,
    )


def _along(plan: Plan, family: str, over: str | None) -> tuple[list[str], list[str], np.ndarray, str]:
    """Return labels along an axis, labels of the parts, values (parts x labels), and the unit of a family."""
    names = [f.name for f in plan.formulation.decisions]
    found = next((f for f in plan.formulation.decisions if f.name == family), None)
    if found is None:
        raise ModelError(f"there is no decision called {family!r}; {known(family, names)}")
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
    parts: dict[tuple[int, ...], int] = {}
    keys = [tuple(int(codes[k][i]) for k in others) for i in range(len(found))]
    for key in sorted(set(keys)):
        parts[key] = len(parts)
    grid = np.zeros((len(parts), len(axes[at])))
    np.add.at(grid, (np.array([parts[key] for key in keys], np.intp), codes[at]), values)
    told = [", ".join(axes[k].texts[c] for k, c in zip(others, key, strict=True)) or family for key in parts]
    return list(axes[at].texts), told, grid, found.unit or ""


def bars_figure(plans: Sequence[tuple[str, Plan]], family: str, over: str | None, ax: Axes | None = None) -> Axes:
    """Draw a family of decisions as stacked bars along an axis, the plans side by side at each label."""
    ax = ax or new_axes()
    width = 0.8 / len(plans)
    labels: list[str] = []
    for k, (told, plan) in enumerate(plans):
        labels, parts, grid, unit = _along(plan, family, over)
        order = np.argsort(-np.abs(grid).sum(axis=1), kind="stable")
        rest = grid[order[MOST_STACKED - 1 :]].sum(axis=0) if len(order) > MOST_STACKED else None
        shown = [(parts[i], grid[i]) for i in sorted(order[: MOST_STACKED - 1 if rest is not None else None].tolist())]
        if rest is not None:
            shown.append((f"{len(order) - MOST_STACKED + 1:,} others", rest))
        at = np.arange(len(labels)) + (k - (len(plans) - 1) / 2) * width
        base = np.zeros(len(labels))
        for part, (name, values) in enumerate(shown):
            ax.bar(
                at,
                values,
                width * 0.92,
                bottom=base,
                color=GREYS[part % len(GREYS)],
                hatch=HATCHES[part % len(HATCHES)],
                edgecolor="black" if k else "0.4",
                linewidth=1.1 if k else 0.4,
                label=name if not k else None,
            )
            base = base + values
        ax.set_ylabel(f"{family} ({unit})" if unit else family)
        if len(plans) > 1:
            for x, top in zip(at.tolist(), base.tolist(), strict=True):
                if len(labels) <= 12:
                    ax.annotate(told, (x, top), (0, 2), textcoords="offset points", ha="center", fontsize=6)
    step = max(1, -(-len(labels) // MOST_TICKS))
    ax.set_xticks(np.arange(len(labels))[::step], labels[::step], rotation=90 if len(labels) > 12 else 0)
    side = " and ".join(told for told, _ in plans)
    more = f": {side}, from left to right at each place" if len(plans) > 1 else ""
    ax.set_title(f"{plans[0][1].model_name}{more}", loc="left")
    ax.grid(alpha=0.3, axis="y")
    ax.set_axisbelow(True)
    ax.legend(frameon=False, fontsize=8, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    return ax


def schedule_figure(plan: Plan, family: str, over: str | None, ax: Axes | None = None) -> Axes:
    """Draw when each part of a family is on: a line of blocks along an axis."""
    ax = ax or new_axes()
    labels, parts, grid, _ = _along(plan, family, over)
    on = grid > 0.5
    for row in range(len(parts)):
        edges = np.diff(np.concatenate(([0], on[row].astype(int), [0])))
        begins, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
        ax.broken_barh(
            [(b - 0.5, e - b) for b, e in zip(begins.tolist(), ends.tolist(), strict=True)],
            (row - 0.36, 0.72),
            facecolor=BEST,
            edgecolor="white",
        )
        for b, e in zip(begins.tolist(), ends.tolist(), strict=True):
            ax.annotate(f"{e - b}", ((b + e - 1) / 2, row), ha="center", va="center", color="white", fontsize=8)
    ax.set_yticks(range(len(parts)), parts)
    ax.set_ylim(len(parts) - 0.4, -0.6)
    step = max(1, -(-len(labels) // MOST_TICKS))
    ax.set_xticks(np.arange(len(labels))[::step], labels[::step], rotation=90 if len(labels) > 24 else 0)
    ax.set_xlim(-0.6, len(labels) - 0.4)
    ax.set_title(f"{plan.model_name}: when {family} is on, and for how long", loc="left")
    ax.grid(alpha=0.3, axis="x")
    ax.set_axisbelow(True)
    return ax


def clash_figure(found: Diagnosis, ax: Axes | None = None) -> Axes:
    """Draw the first clash: its limits on the left, the decisions that they pull at on the right."""
    if not found.clashes:
        raise ModelError("there is no clash to draw")
    clash = found.clashes[0]
    ax = ax or new_axes()
    formulation = found.plan.formulation
    rows, columns = formulation.constraint_names, formulation.column_names
    matrix = lowered(formulation).base.matrix().tocsr()
    reasons = list(clash.reasons)
    pulled: dict[str, list[tuple[int, float]]] = {}
    for k, reason in enumerate(reasons):
        if reason.what == "rule":
            continue
        if reason.what == "constraint":
            row = matrix[rows.index(reason.name)]
            for j, value in zip(row.indices.tolist(), row.data.tolist(), strict=True):
                pulled.setdefault(columns[j], []).append((k, value))
        else:
            pulled.setdefault(reason.name, []).append((k, 1.0))
    # decisions that only one limit holds say nothing about the clash
    shared = {name: ends for name, ends in pulled.items() if len(ends) > 1} or pulled
    left = np.linspace(0, 1, len(reasons)) if len(reasons) > 1 else np.array([0.5])
    right = np.linspace(0, 1, len(shared)) if len(shared) != 1 else np.array([0.5])
    for name, y in zip(shared, right.tolist(), strict=True):
        for k, value in shared[name]:
            more = (value > 0) == (reasons[k].relation != "<=")
            ax.plot([0.36, 0.72], [left[k], y], color=BEST if more else BOUND, linestyle="-" if more else "--", lw=1.5)
        ax.annotate(name, (0.73, y), va="center", fontsize=9)
    for reason, y in zip(reasons, left.tolist(), strict=True):
        told = "" if reason.what == "rule" else reason_text(reason, found.plan.formulation)
        box = {"facecolor": "white", "edgecolor": "black", "boxstyle": "square,pad=0.3"}
        ax.annotate(f"{reason.name} {told}".strip(), (0.35, y), ha="right", va="center", fontsize=9, bbox=box)
    ax.plot([], [], color=BEST, linestyle="-", label="needs more of it")
    ax.plot([], [], color=BOUND, linestyle="--", label="allows no more of it")
    ax.legend(frameon=False, loc="upper center", bbox_to_anchor=(0.5, -0.02), ncols=2, fontsize=9)
    ax.set_xlim(0, 1)
    ax.set_ylim(1.12, -0.12)
    ax.set_axis_off()
    ax.set_title(f"{found.model}: these limits cannot all hold", loc="left")
    return ax
