"""Scenarios side by side, as sentences and tables."""

from __future__ import annotations

import numpy as np

from ruddock.insight.scenarios import Scenarios
from ruddock.reporting.text import headline
from ruddock.tables import Table, amount, capped, number, plural

MOST_ROWS = 60
MOST_PARTS = 4
MOST_MOVED = 15
MOST_BINDING = 20


def scenarios_parts(found: Scenarios) -> list[str | Table]:
    """Return the comparison: how many have a plan and from where to where, then scenarios, decisions, limits."""
    base, solved = found.base, found.solved
    name = base.objective_name or "the objective"
    head = f"{base.model_name}: {len(solved):,} of {plural(len(found.scenarios), 'scenario')} have a plan."
    if found.stopped:
        head += f" The run was stopped: {len(found.scenarios) - len(found.results):,} were not solved."
    parts: list[str | Table] = [head]
    if base.found and base.objective_name is not None:
        parts.append(f"As it is, {name} comes to {amount(base.objective, base.unit)}.")
    else:
        parts.append(f"As it is: {headline(base)}")
    if base.objective_name is not None and solved:
        worth = [(result.objective or 0.0, result.scenario) for result in solved]
        low, high = min(worth), max(worth)
        parts.append(
            f"Over the scenarios it goes from {amount(low[0], base.unit)} ({low[1]}) to {amount(high[0], base.unit)} "
            f"({high[1]})."
        )
    parts.append(_overview(found))
    return parts + [table for table in (_moved(found), _binding(found)) if table is not None]


def _overview(found: Scenarios) -> Table:
    unit = found.base.unit
    others = [goal.name for goal in found.base.formulation.objectives[1:]]
    names = list(dict.fromkeys(part for result in found.solved for part in result.parts))
    parts = names[:MOST_PARTS] if len(names) > 1 and not others else []
    quantities = list(dict.fromkeys(q for result in found.solved for q in result.quantities))
    quantities = quantities[: MOST_PARTS - len(parts)] if len(parts) < MOST_PARTS else []
    base = found.base.objective if found.base.found else float("nan")
    unchanged = {scenario.name for scenario in found.scenarios if not scenario.changes}
    units = {goal.name: goal.unit for goal in found.base.formulation.objectives}
    rows = []
    for result in found.results:
        value = float("nan") if result.objective is None else result.objective
        difference = value - base
        if abs(difference) <= 1e-9 * max(1.0, abs(base)):
            difference = 0.0
        sign = "+" if difference > 0 else ""
        rows.append(
            (
                result.scenario,
                "" if np.isnan(value) else amount(value, unit),
                "" if np.isnan(difference) else sign + amount(difference + 0.0, unit),
                *(amount(result.objectives[o], units[o]) if o in result.objectives else "" for o in others),
                *(amount(result.parts[p], unit) if p in result.parts else "" for p in parts),
                *(number(result.quantities[q]) if q in result.quantities else "" for q in quantities),
                result.note or ("nothing changed" if result.scenario in unchanged else ""),
            )
        )
    shown, more = capped(rows, MOST_ROWS)
    headings = ["scenario", f">{found.base.objective_name or 'objective'}", ">difference"]
    headings += [f">{name}" for name in (*others, *parts, *quantities)]
    return Table("", [*headings, ""], shown, more=more)


def _moved(found: Scenarios) -> Table | None:
    """Return the decisions that are not always the same, those with the widest range first."""
    frame = found.decisions(moved=True)
    if not frame.size:
        return None
    spread = np.ptp(frame.to_numpy(float), axis=0)
    base = dict(zip(found.base.formulation.decision_names, found.base.values if found.base.found else [], strict=False))
    order = np.argsort(-spread, kind="stable")
    shown, more = capped(order.tolist(), MOST_MOVED)
    rows = []
    for j in shown:
        name, values = str(frame.columns[j]), frame.iloc[:, j].to_numpy(float)
        own = base.get(name, float("nan"))
        differs = int((np.abs(values - own) > 1e-7 * max(1.0, abs(own))).sum())
        rows.append(
            (
                name,
                number(_clean(own)),
                number(_clean(values.min())),
                number(_clean(values.max())),
                f"{differs:,} of {len(values):,}",
            )
        )
    headings = ["decision", ">as it is", ">least", ">most", ">moves in"]
    return Table("Decisions that move", headings, rows, more=more)


def _clean(value: float) -> float:
    return 0.0 if abs(value) < 1e-9 else float(value)


def _binding(found: Scenarios) -> Table | None:
    """Return the limits that bind in some scenarios and not in others."""
    frame = found.binding()
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
    shown, more = capped(sorted(varying, key=lambda name: -int(counts[name])), MOST_BINDING)
    rows = [(name, "binds" if name in base else "has slack", f"{counts[name]:,} of {len(frame):,}") for name in shown]
    return Table("Limits that bind now and then", ["constraint", "as it is", ">binds in"], rows, more=more)
