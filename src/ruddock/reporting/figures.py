"""Figures, each drawn on axes that are given or made; lines differ by style, not by colour alone."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ruddock.errors import FormatError, ModelError

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.scenarios import Scenarios
    from ruddock.insight.sensitivity import Sensitivity
    from ruddock.insight.sweep import Sweep
    from ruddock.insight.tradeoff import Tradeoff
    from ruddock.modelling.formulation import Objective
    from ruddock.modelling.plan import Plan

BEST, BOUND = "#1b4f72", "#b9770e"  # apart in grey print as well


SIZE = (8.0, 5.0)  # inches
MOST_RANGES, EDGE = 12, 1.0  # limits drawn, and how far out, in parts of a limit
MOST_NAMED = 40  # scenarios that have their names below


def new_axes() -> Axes:
    """Return axes that a notebook or a window shows."""
    import matplotlib.pyplot as plt

    return plt.subplots(figsize=SIZE, layout="constrained")[1]


def paper(height: float = SIZE[1]) -> Axes:
    """Return axes to be written to a file, which nothing shows."""
    from matplotlib.figure import Figure

    return Figure(figsize=(SIZE[0], height), layout="constrained").subplots()


def saved(ax: Axes, path: Path) -> None:
    """Write the figure of axes to a file; its ending says the form.

    Raises
    ------
    FormatError
        If the ending is no form of a figure, or the file cannot be written.
    """
    try:
        ax.get_figure().savefig(path, dpi=150)  # type: ignore[union-attr]
    except (OSError, ValueError) as error:
        raise FormatError(f"the figure cannot be written: {error}", path=str(path)) from None


def _label(objective: Objective) -> str:
    return f"{objective.name} ({objective.unit})" if objective.unit else objective.name


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
    ax = ax or new_axes()
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


def tradeoff_figure(found: Tradeoff, ax: Axes | None = None) -> Axes:
    """Draw a frontier: corners large, other points small; a line only where all points between are plans too."""
    if not len(found.points):
        raise ModelError("the frontier has no point: there is nothing to draw; model.diagnose() tells why")
    ax = ax or new_axes()
    first, second = found.first, found.second
    x, y = (found.objectives.iloc[:, k].to_numpy(float) for k in (0, 1))
    corner = found.points["corner"].to_numpy(bool)
    if found.exact:
        ax.plot(x, y, color=BEST, linewidth=1.5, zorder=1)
        ax.plot(x[~corner], y[~corner], "o", color="white", markeredgecolor=BEST, markersize=4, label="equal steps")
        ax.plot(x[corner], y[corner], "s", color=BEST, markersize=7, label="corners")
        ax.legend(frameon=False)
    else:
        ax.plot(x, y, "o", color=BEST, markersize=6)
    for k, told in ((0, f"best {first.name}"), (len(x) - 1, f"best {second.name}")):
        left = x[k] > (x.min() + x.max()) / 2
        ax.annotate(
            told,
            (x[k], y[k]),
            xytext=(-8 if left else 8, 8),
            textcoords="offset points",
            ha="right" if left else "left",
        )
    ax.set_xlabel(f"{_label(first)}, {'more' if first.maximize else 'less'} is better")
    ax.set_ylabel(f"{_label(second)}, {'more' if second.maximize else 'less'} is better")
    ax.set_title(
        "No plan is better than one of these in both" if len(found.goals) == 2 else "Two of the objectives", loc="left"
    )
    ax.grid(alpha=0.3)
    ax.margins(0.12)
    return ax


def scenarios_figure(found: Scenarios, ax: Axes | None = None) -> Axes:
    """Draw the objective of every scenario beside that of the base; named up to forty, sorted beyond."""
    results = found.results
    if not found.solved:
        raise ModelError("no scenario has a plan: there is nothing to draw")
    named = len(results) <= MOST_NAMED
    ax = ax or new_axes()
    values = np.array([np.nan if r.objective is None else r.objective for r in results], float)
    if not named:
        values = np.sort(values[~np.isnan(values)])
    at = np.arange(len(values))
    base = found.base
    ax.axhline(base.objective if base.found else np.nan, color=BOUND, linestyle="--", label="as it is", zorder=1)
    ax.plot(at, values, "o" if named else "-", color=BEST, label="scenario")
    if named:
        ax.vlines(at, base.objective if base.found else 0.0, values, color=BEST, linewidth=1.0)
        for k in np.flatnonzero(np.isnan(values)).tolist():
            ax.annotate("no plan", (k, 0.03), xycoords=("data", "axes fraction"), rotation=90, ha="center")
        ax.set_xticks(at, [r.scenario for r in results], rotation=90 if len(results) > 6 else 0)
        ax.set_xlim(-0.6, len(values) - 0.4)
    else:
        missing = len(results) - len(values)
        ax.set_xlabel("scenarios from least to most" + (f"; {missing:,} have no plan" if missing else ""))
    unit = f" ({base.unit})" if base.unit else ""
    ax.set_ylabel(f"{base.objective_name or 'objective'}{unit}")
    ax.set_title(f"{base.model_name}: scenarios beside the plan as it is", loc="left")
    ax.grid(alpha=0.3, axis="y")
    ax.legend(frameon=False)
    return ax


def sweep_figure(found: Sweep, ax: Axes | None = None) -> Axes:
    """Draw the objective along a limit: a line with its corners where it is exact, else the points solved."""
    if not len(found.points):
        raise ModelError("there is no plan in the range of this sweep: there is nothing to draw")
    ax = ax or new_axes()
    at, value = found.points.index.to_numpy(float), found.points["objective"].to_numpy(float)
    ax.plot(at, value, "s-" if found.exact else "o", color=BEST, markersize=5)
    now = found.lever.now
    if np.isfinite(now):
        ax.axvline(now, color=BOUND, linestyle="--")
        ax.annotate("now", (now, 0.02), (4, 0), xycoords=("data", "axes fraction"), textcoords="offset points")
    unit = f" ({found.lever.unit})" if found.lever.unit else ""
    ax.set_xlabel(f"{found.lever.name} {found.lever.relation}{unit}".strip())
    goal = found.goals[0] if found.goals else None
    ax.set_ylabel(_label(goal) if goal is not None else "objective")
    ax.set_title("Straight lines between corners are exact" if found.exact else "Solved at these points", loc="left")
    ax.grid(alpha=0.3)
    return ax


def priced(found: Sensitivity) -> list[int]:
    """Return the places of the limits that have a price and a size of their own, those worth most first."""
    worth = found.limits["one_more"].abs().fillna(0.0).to_numpy(float)
    limit = found.limits["limit"].to_numpy(float)
    return [k for k in np.argsort(-worth, kind="stable").tolist() if worth[k] > 0 and limit[k] != 0]


def ranges_figure(found: Sensitivity, ax: Axes | None = None) -> Axes:
    """Draw for the limits worth most how far their prices hold: from where to where, in parts of the limit itself."""
    frame, order = found.limits, priced(found)[:MOST_RANGES]
    limit = frame["limit"].to_numpy(float)
    ax = ax or new_axes()
    for at, k in enumerate(order):
        name, size = str(frame.index[k]), abs(limit[k])
        ends = np.array([frame["down_to"].iloc[k], frame["up_to"].iloc[k]], float)
        shares = np.clip((ends - limit[k]) / size, -EDGE, EDGE)
        ax.plot(shares, [at, at], color=BEST, linewidth=5, solid_capstyle="butt")
        for share, end, side in zip(shares, ends, ("right", "left"), strict=True):
            if np.isinf(end) or abs(share) >= EDGE:
                ax.plot(share, at, ">" if side == "left" else "<", color=BEST, markersize=8)
            gap = -6 if side == "right" else 6
            told = "unlimited" if np.isinf(end) else f"{end:,.6g}"
            ax.annotate(told, (share, at), (gap, 0), textcoords="offset points", ha=side, va="center", fontsize=8)
        ax.plot(0, at, "|", color=BOUND, markersize=16, markeredgewidth=2.5)
        unit = f" {frame['unit'].iloc[k]}" if frame["unit"].iloc[k] else ""
        ax.annotate(
            f"{name} = {limit[k]:,.6g}{unit}", (0, at), (0, 11), textcoords="offset points", ha="center", fontsize=9
        )
    ax.set_ylim(len(order) - 0.4, -0.7)
    ax.set_xlim(-1.45 * EDGE, 1.45 * EDGE)
    ax.set_yticks([])
    ax.set_xticks([-1, -0.5, 0, 0.5, 1], ["-100 %", "-50 %", "now", "+50 %", "+100 %"])
    ax.set_title("How far each limit may move before its price changes; those worth most first", loc="left")
    ax.grid(alpha=0.3, axis="x")
    return ax
