"""A clash drawn: its limits on the left, the decisions that they pull at on the right."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.plotting import BEST, BOUND, draw_key
from ruddock.insight.diagnosis_words import reason_text
from ruddock.modelling.lowering import lowered

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.diagnosis import Diagnosis

MOST_DRAWN = 20  # members, and decisions


def clash_figure(found: Diagnosis, ax: Axes) -> Axes:
    """Draw the first clash."""
    reasons = list(found.clashes[0].reasons)
    formulation = found.plan.formulation
    rows, columns = formulation.constraint_names, formulation.column_names
    matrix = lowered(formulation).base.matrix().tocsr()
    pulled: dict[str, list[tuple[int, float]]] = {}
    for k, reason in enumerate(reasons):
        if reason.what == "rule":
            continue
        if reason.what == "constraint":
            row = matrix[rows.index(reason.name)]
            for j, value in zip(row.indices.tolist(), row.data.tolist(), strict=True):
                if j < len(columns):
                    pulled.setdefault(columns[j], []).append((k, value))
        else:
            pulled.setdefault(reason.name, []).append((k, 1.0))
    # decisions that only one limit holds say nothing about the clash
    shared = {name: ends for name, ends in pulled.items() if len(ends) > 1} or pulled
    more = len(shared) - MOST_DRAWN
    shared = dict(list(shared.items())[:MOST_DRAWN])
    left = np.linspace(0, 1, len(reasons)) if len(reasons) > 1 else np.array([0.5])
    right = np.linspace(0, 1, len(shared)) if len(shared) != 1 else np.array([0.5])
    for name, y in zip(shared, right.tolist(), strict=True):
        for k, value in shared[name]:
            needs = (value > 0) == (reasons[k].relation != "<=")
            ax.plot(
                [0.36, 0.72], [left[k], y], color=BEST if needs else BOUND, linestyle="-" if needs else "--", lw=1.5
            )
        ax.annotate(name, (0.73, y), va="center", fontsize=9)
    for reason, y in zip(reasons, left.tolist(), strict=True):
        words = "" if reason.what == "rule" else reason_text(reason, formulation)
        box = {"facecolor": "white", "edgecolor": "black", "boxstyle": "square,pad=0.3"}
        ax.annotate(f"{reason.name} {words}".strip(), (0.35, y), ha="right", va="center", fontsize=9, bbox=box)
    ax.plot([], [], color=BEST, linestyle="-", label="needs more of it")
    ax.plot([], [], color=BOUND, linestyle="--", label="allows no more of it")
    draw_key(ax, loc="upper center", bbox_to_anchor=(0.5, -0.02), ncols=2, fontsize=9)
    ax.set_xlim(0, 1)
    ax.set_ylim(1.12, -0.12)
    ax.set_axis_off()
    rest = f" ({more:,} more decisions not drawn)" if more > 0 else ""
    ax.set_title(f"{found.model}: these cannot all hold{rest}", loc="left")
    return ax
