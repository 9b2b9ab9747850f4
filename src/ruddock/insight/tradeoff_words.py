"""The frontier between objectives, as sentences, a table and a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, Number, Row, Sentence, Table
from ruddock.document.numbers import amount, capital, with_unit
from ruddock.document.plotting import BEST, draw_key
from ruddock.modelling.answer.verdict import STOPPED_BY
from ruddock.modelling.formulation import units_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.tradeoff import Tradeoff

MOST_ROWS = 60
MOST_DECISIONS = 4


def tradeoff_blocks(found: Tradeoff) -> list[Block]:
    """Return the frontier: what it spans, then a row for each point."""
    first, second = found.first, found.second
    head = " against ".join(f"{goal.sense} {goal.name}" for goal in found.goals)
    if not len(found.points):
        why = {"infeasible": "no plan exists", "unbounded": "an objective can improve without limit"}
        words = why.get(found.stopped or "", f"stopped by {STOPPED_BY.get(found.stopped or '', found.stopped)}")
        return [Sentence(f"{head}: {words}.", verdict=True)]
    head = capital(head)
    if len(found.points) == 1 and found.stopped is None:
        return [
            Sentence(f"{head}: one plan is best for all of them, so there is nothing to trade.", True),
            _table(found),
        ]
    ends = found.by_objective.iloc[[0, -1]]
    (a, b), (c, d) = ends.iloc[:, :2].to_numpy(float).tolist()
    span = (
        f"from {amount(a, first.unit)} with {second.name} {amount(b, second.unit)} to {amount(c, first.unit)} with "
        f"{second.name} {amount(d, second.unit)}"
    )
    which = "both" if len(found.goals) == 2 else "all"
    sentences: list[Block] = [
        Sentence(f"{head}: {span}.", verdict=True),
        Sentence(f"No plan is better than one of these points in {which}."),
    ]
    if found.stopped is not None:
        sentences.append(Sentence(f"Stopped by {STOPPED_BY.get(found.stopped, found.stopped)}: points are missing."))
    elif found.exact:
        sentences.append(Sentence("Between two rows the frontier is a straight line; corners are its exact ends."))
    elif not found.complete:
        many = "" if len(found.goals) > 2 else " (points='all', --points all, finds them)"
        sentences.append(Sentence(f"There may be further points between these{many}."))
    return [*sentences, _table(found)]


def _table(found: Tradeoff) -> Table:
    decisions = found.decisions().T
    spread = np.ptp(decisions.to_numpy(float), axis=0) if len(decisions) else np.zeros(0)
    most = np.argsort(-spread, kind="stable")[:MOST_DECISIONS]
    shown = sorted(j for j in most.tolist() if spread[j] > 1e-6)
    values = found.by_objective.to_numpy(float)
    per = _per(found)
    units = units_of(found.plans[0].formulation) if found.plans else {}
    named = [str(decisions.columns[j]) for j in shown]
    rows: list[Row] = []
    for k, (share, corner, price) in enumerate(found.points.itertuples(index=False, name=None)):
        rows.append(
            (
                "" if np.isnan(share) else f"{share:.0%}".replace("%", " %"),
                *(Number(v, goal.unit) for v, goal in zip(values[k].tolist(), found.goals, strict=True)),
                "corner" if corner else "",
                Number(price, per, signed=True),
                *(Number(v, units.get(n)) for n, v in zip(named, decisions.iloc[k, shown].tolist(), strict=True)),
            )
        )
    left = int((spread > 1e-6).sum()) - len(shown)
    note = f"{found.first.name} is relaxed from its optimum at 0 % to its value at the other end at 100 %."
    note += f" {left:,} more decisions change as well." if left > 0 else ""
    heads = [f"{found.first.name} relaxed by", *(goal.name for goal in found.goals), ""]
    heads += [f"{found.second.name} per unit of {found.first.name}", *named]
    return Table("", heads, rows, note=note if len(found.points) > 1 else "", most=MOST_ROWS)


def _per(found: Tradeoff) -> str | None:
    """Return the unit of a price: the second objective's per unit of the first."""
    one, two = found.first.unit, found.second.unit
    return f"{two}/{one}" if one and two else two


def tradeoff_figure(found: Tradeoff, ax: Axes) -> Axes:
    """Draw a frontier: corners large, other points small; a line only where all points between are plans too."""
    first, second = found.first, found.second
    x, y = (found.by_objective.iloc[:, k].to_numpy(float) for k in (0, 1))
    corner = found.points["corner"].to_numpy(bool)
    if found.exact:
        ax.plot(x, y, color=BEST, linewidth=1.5, zorder=1)
        ax.plot(x[~corner], y[~corner], "o", color="white", markeredgecolor=BEST, markersize=4, label="equally spaced")
        ax.plot(x[corner], y[corner], "s", color=BEST, markersize=7, label="corners")
        draw_key(ax)
    else:
        ax.plot(x, y, "o", color=BEST, markersize=6)
    for k, words in ((0, f"best {first.name}"), (len(x) - 1, f"best {second.name}")):
        left = x[k] > (x.min() + x.max()) / 2
        side = "right" if left else "left"
        ax.annotate(words, (x[k], y[k]), xytext=(-8 if left else 8, 8), textcoords="offset points", ha=side)
    ax.set_xlabel(f"{with_unit(first.name, first.unit)}, {'more' if first.maximize else 'less'} is better")
    ax.set_ylabel(f"{with_unit(second.name, second.unit)}, {'more' if second.maximize else 'less'} is better")
    several = "No plan is better than one of these in both" if len(found.goals) == 2 else "Two of the objectives"
    ax.set_title(several, loc="left")
    ax.grid(alpha=0.3)
    ax.margins(0.14)
    return ax
