"""Figures, each drawn on axes that are given or made; lines differ by style, not by colour alone."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.errors import ModelError

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.plan import Plan

BEST, BOUND = "#1b4f72", "#b9770e"  # apart in grey print as well


def history_figure(plan: Plan, ax: Axes | None = None) -> Axes:
    """Draw how the best plan and the bound of a search came together over time.

    Raises
    ------
    ModelError
        If the solve was no search, or found no plan.
    """
    history = plan.history
    if not len(history):
        raise ModelError("there is no history to draw: only a search with whole numbers that found a plan has one")
    if ax is None:
        import matplotlib.pyplot as plt

        _, ax = plt.subplots(figsize=(8, 5), layout="constrained")
    seconds, best = history["seconds"].to_numpy(), history["best"].to_numpy()
    bound = history["bound"].to_numpy()
    known = np.isfinite(bound)
    ax.step(seconds, best, where="post", color=BEST, marker="o", label="best plan")
    ax.step(seconds[known], bound[known], where="post", color=BOUND, linestyle="--", marker="s", label="bound")
    unit = f" ({plan.unit})" if plan.unit else ""
    ax.set_xlabel("seconds")
    ax.set_ylabel(f"{plan.objective_name or 'objective'}{unit}")
    beyond = "below" if plan.sense == "minimize" else "above"
    ax.set_title(f"{plan.model_name}: no plan lies {beyond} the bound", loc="left")
    ax.grid(alpha=0.3)
    ax.legend(frameon=False)
    return ax
