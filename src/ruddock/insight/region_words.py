"""The feasible region of two decisions: its corners in a table, and its figure."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.document.content import Block, Number, Row, Sentence, Table
from ruddock.document.numbers import amount, listed_all, number, plural, with_unit
from ruddock.document.plotting import BOUND, PATCH, draw_key, in_key
from ruddock.modelling.answer.verdict import headline

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.region import Line, Region

STYLES: list[tuple[str, Any]] = [
    ("#1b4f72", "-"),
    ("#7d3c98", "--"),
    ("#117864", "-."),
    ("#943126", (0, (5, 1, 1, 1, 1, 1))),
]
MOST_DOTS = 2_500  # plans in integers; more are one blot


def region_blocks(found: Region) -> list[Block]:
    """Return the optimal plan and the corners, each with the limits that meet there."""
    plan = found.plan
    verdict = headline(plan)
    if plan.found:
        values = zip(found.names, plan.values.tolist(), found.units, strict=True)
        verdict += f" It is at {listed_all([f'{name} {amount(value, unit)}' for name, value, unit in values])}."
    blocks: list[Block] = [Sentence(verdict, verdict=True)]
    if not len(found.corners):
        none = "The region has no corner." if plan.found else "No point meets all limits: the region is empty."
        return [*blocks, Sentence(none)]
    words = f"The feasible region of {found.names[0]} and {found.names[1]} has {plural(len(found.corners), 'corner')}"
    words += ", and is unbounded: it continues beyond them." if found.unlimited else "."
    if len(found.points):
        inside = "shown" if found.unlimited else "in it"
        words += f" {plural(len(found.points), 'integer plan')} {'is' if len(found.points) == 1 else 'are'} {inside}."
    goal = found.goal
    rows: list[Row] = []
    best = plan.objective if plan.found and goal is not None else None
    for x, y, value, where in found.corners.itertuples(index=False, name=None):
        top = best is not None and abs(value - best) <= 1e-7 * max(1.0, abs(best))
        worth = Number(value, goal.unit) if goal is not None else ""
        mark = "optimal" if top else ""
        rows.append((Number(x, found.units[0]), Number(y, found.units[1]), worth, mark, where))
    note = ""
    if best is not None and not any(row[3] for row in rows):
        note = "The optimal plan is at no corner: integer decisions keep it inside." if len(found.points) else ""
    heads = [found.names[0], found.names[1], goal.name if goal else "", "", "where these meet"]
    return [*blocks, Sentence(words), Table("Corners", heads, rows, note=note)]


def region_figure(found: Region, ax: Axes) -> Axes:
    """Draw the region of two decisions: limits as lines with names, corners, integer points, the objective."""
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
    across, up = (with_unit(n, u) for n, u in zip(found.names, found.units, strict=True))
    ax.set_xlabel(across)
    ax.set_ylabel(up)
    open_edge = ", unbounded: open at the edge" if found.unlimited else ""
    ax.set_title(f"{found.plan.model_name}: feasible region{open_edge}", loc="left")
    draw_key(ax, loc="upper left", bbox_to_anchor=(1.0, 1.0), fontsize=8)
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
    """Say whether a point is on a limit."""
    size = max(1.0, abs(line.a * x) + abs(line.b * y), abs(line.limit))
    return abs(line.a * x + line.b * y - line.limit) <= 1e-7 * size


def _draw_line(ax: Axes, line: Line, style: tuple[str, Any]) -> None:
    """Draw a limit right across, named in the legend."""
    color, dashes = style
    label = in_key(f"{line.name} {line.relation} {number(line.limit)}")
    if line.b:
        slope = -line.a / line.b
        ax.axline((0.0, line.limit / line.b), slope=slope, color=color, linestyle=dashes, lw=1.2, label=label)
    else:
        ax.axvline(line.limit / line.a, color=color, linestyle=dashes, lw=1.2, label=label)


def _draw_objective(ax: Axes, found: Region) -> None:
    """Draw the optimal plan, and lines of equal objective: through it, and through worse values."""
    assert found.goal is not None
    a, b = found.gradient.tolist()
    x, y = found.plan.values.tolist()
    values = found.corners["objective"].to_numpy(float)
    worst = values.min() if found.goal.maximize else values.max()
    for share in (0.0, 0.33, 0.66):
        level = found.plan.objective + share * (worst - found.plan.objective)
        offset = a * x + b * y + (level - found.plan.objective)
        label = f"equal {found.goal.name}" if not share else None
        if b:
            ax.axline((0.0, offset / b), slope=-a / b, color=BOUND, linestyle=":", lw=1.4, alpha=1 - share, label=label)
        elif a:
            ax.axvline(offset / a, color=BOUND, linestyle=":", lw=1.4, alpha=1 - share, label=label)
    ax.plot(x, y, "*", color=BOUND, markeredgecolor="black", markersize=15, zorder=4)
    worth = amount(found.plan.objective, found.goal.unit)
    where = f"{found.names[0]} {number(x)}, {found.names[1]} {number(y)}"
    left = x > sum(ax.get_xlim()) / 2
    ax.annotate(
        f"optimal: {worth}\n{where}",
        (x, y),
        (-12, -30) if left else (12, 10),
        textcoords="offset points",
        ha="right" if left else "left",
        fontsize=9,
        bbox=PATCH,
    )
