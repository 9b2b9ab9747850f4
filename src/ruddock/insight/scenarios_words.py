"""Scenarios side by side, as sentences, tables and a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, Number, Row, Sentence, Table
from ruddock.document.numbers import amount, capital, plural, with_unit
from ruddock.document.plotting import BEST, BOUND, draw_key, label_ticks
from ruddock.errors import listed
from ruddock.modelling.answer.verdict import headline
from ruddock.modelling.formulation import units_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.scenarios import Scenarios

MOST_ROWS = 60
MOST_PARTS = 4
MOST_MOVED = 15
MOST_BINDING = 20
MOST_NAMED = 40  # scenarios that have their names below a figure


def scenarios_blocks(found: Scenarios) -> list[Block]:
    """Return the comparison: how many have a plan and from where to where, then scenarios, decisions, limits."""
    base, solved = found.base, found.solved
    name = base.objective_name or "the objective"
    scenarios, tried = plural(len(found.scenarios), "scenario"), len(found.results)
    have = "has a plan" if len(solved) == 1 else "have a plan"
    head = f"{base.model_name}: "
    if tried == len(found.scenarios):
        head += f"{len(solved):,} of {scenarios} {have}."
    elif tried:
        head += f"the run was stopped after {tried:,} of {scenarios}, of which {len(solved):,} {have}."
    else:
        head += f"the run was stopped before any of {scenarios} was solved."
    if base.objective_name is not None and solved:
        worth = [(result.objective or 0.0, result.scenario) for result in solved]
        low, high = min(worth), max(worth)
        head += f" {capital(name)} is between {amount(low[0], base.unit)} ({low[1]}) and "
        head += f"{amount(high[0], base.unit)} ({high[1]})."
    blocks: list[Block] = [Sentence(head, verdict=True)]
    if base.found and base.objective_name is not None:
        blocks.append(Sentence(f"The base has {name} {amount(base.objective, base.unit)}."))
    else:
        blocks.append(Sentence(f"Base: {headline(base)}"))
    if tried:
        blocks.append(_overview(found))
    return blocks + [table for table in (_moved(found), _binding(found)) if table is not None]


def _overview(found: Scenarios) -> Table:
    unit = found.base.unit
    others = [goal.name for goal in found.base.formulation.objectives[1:]]
    names = list(dict.fromkeys(part for result in found.solved for part in result.parts))
    parts = names[:MOST_PARTS] if len(names) > 1 and not others else []
    every_quantity = list(dict.fromkeys(q for result in found.solved for q in result.quantities))
    quantities = every_quantity[: MOST_PARTS - len(parts)]
    base = found.base.objective if found.base.found else float("nan")
    unchanged = {scenario.name for scenario in found.scenarios if not scenario.changes}
    units = {goal.name: goal.unit for goal in found.base.formulation.objectives}
    unit_of = found.base.formulation.quantity_units
    nan = float("nan")
    rows: list[Row] = []
    for result in found.results:
        value = nan if result.objective is None else result.objective
        difference = value - base
        if abs(difference) <= 1e-9 * max(1.0, abs(base)):
            difference = 0.0
        rows.append(
            (
                result.scenario,
                Number(value, unit),
                Number(difference, unit, signed=True),
                *(Number(result.objectives.get(o, nan), units[o]) for o in others),
                *(Number(result.parts.get(p, nan), unit) for p in parts),
                *(Number(result.quantities.get(q, nan), unit_of.get(q)) for q in quantities),
                result.note or ("nothing changed" if result.scenario in unchanged else ""),
            )
        )
    heads = ["scenario", found.base.objective_name or "objective", "difference", *others, *parts, *quantities, ""]
    hidden = [*(names[MOST_PARTS:] if parts else []), *every_quantity[len(quantities) :]]
    note = f"Not shown: {listed(hidden, 4)}; table() in Python, --csv or --json have them." if hidden else ""
    return Table("", heads, rows, note=note, most=MOST_ROWS)


def _moved(found: Scenarios) -> Table | None:
    """Return the decisions that are not always the same, those with the widest range first."""
    frame = found.decisions(moved=True).T
    if not frame.size:
        return None
    spread = np.ptp(frame.to_numpy(float), axis=0)
    base_names = found.base.formulation.decision_names
    base = dict(zip(base_names, found.base.values if found.base.found else [], strict=False))
    units = units_of(found.base.formulation)
    rows: list[Row] = []
    for j in np.argsort(-spread, kind="stable").tolist():
        name, values = str(frame.columns[j]), frame.iloc[:, j].to_numpy(float)
        own, unit = base.get(name, float("nan")), units.get(name)
        differs = int((np.abs(values - own) > 1e-7 * max(1.0, abs(own))).sum())
        least, most = Number(float(values.min()), unit), Number(float(values.max()), unit)
        rows.append((name, Number(own, unit), least, most, f"{differs:,} of {len(values):,}"))
    heads = ["decision", "base", "smallest", "largest", "changes in"]
    return Table("Decisions that change", heads, rows, most=MOST_MOVED)


def _binding(found: Scenarios) -> Table | None:
    """Return the limits that bind in some scenarios and not in others."""
    frame = found.binding().T
    if not len(frame):
        return None
    base: set[str] = set()
    if found.base.found:
        constraints = found.base.constraints()
        base = {str(name) for name in constraints.index[constraints["binding"]]}
    counts = frame.sum(axis=0)
    varying = [name for name in frame.columns if counts[name] < len(frame) or name not in base]
    if not varying:
        return None
    order = sorted(varying, key=lambda name: -int(counts[name]))
    rows = [(name, "binding" if name in base else "slack", f"{counts[name]:,} of {len(frame):,}") for name in order]
    title = "Constraints that bind in some scenarios only"
    return Table(title, ["constraint", "base", "binding in"], rows, most=MOST_BINDING)


def scenarios_figure(found: Scenarios, ax: Axes) -> Axes:
    """Draw the objective of every scenario next to that of the base; named up to forty, sorted beyond."""
    results = found.results
    named = len(results) <= MOST_NAMED
    values = np.array([np.nan if r.objective is None else r.objective for r in results], float)
    if not named:
        values = np.sort(values[~np.isnan(values)])
    at = np.arange(len(values))
    base = found.base
    if base.found:
        ax.axhline(base.objective, color=BOUND, linestyle="--", label="base", zorder=1)
    ax.plot(at, values, "o" if named else "-", color=BEST, label="scenario")
    if named:
        ax.vlines(at, base.objective if base.found else 0.0, values, color=BEST, linewidth=1.0)
        for k in np.flatnonzero(np.isnan(values)).tolist():
            ax.annotate("no plan", (k, 0.03), xycoords=("data", "axes fraction"), rotation=90, ha="center")
        label_ticks(ax, [r.scenario for r in results])
        ax.set_xlim(-0.6, len(values) - 0.4)
    else:
        missing = len(results) - len(values)
        ax.set_xlabel("scenarios from smallest to largest" + (f"; {missing:,} have no plan" if missing else ""))
    ax.set_ylabel(with_unit(base.objective_name or "objective", base.unit))
    ax.set_title(f"{base.model_name}: scenarios and the base", loc="left")
    ax.grid(alpha=0.3, axis="y")
    ax.margins(y=0.14)
    draw_key(ax)
    return ax
