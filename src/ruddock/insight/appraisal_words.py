"""A hand-made plan next to the optimal one: sentences, tables, a figure."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.document.content import Block, Cell, Number, Row, Sentence, Table
from ruddock.document.numbers import amount, plural, with_unit
from ruddock.document.plotting import BEST, BOUND, draw_key
from ruddock.errors import listed
from ruddock.modelling.answer.verdict import breakdown_table, headline

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.insight.appraisal import Appraisal


def appraisal_blocks(found: Appraisal) -> list[Block]:
    """Return the judgement: violations, value, and what optimising gains."""
    plan, best = found.plan, found.best
    goals, values = plan.formulation.objectives, plan.objectives()["value"].tolist()
    worth = ", ".join(f"{goal.name} {amount(value, goal.unit)}" for goal, value in zip(goals, values, strict=True))
    worth = worth or "the model has no objective"
    blocks: list[Block] = []
    if found.feasible:
        blocks.append(Sentence(f"{plan.model_name}: the plan is feasible, {worth}.", verdict=True))
    else:
        count = plural(len(found.violations), "place")
        blocks.append(Sentence(f"{plan.model_name}: the plan violates the model in {count}; {worth}.", verdict=True))
    gains = _gains(found) if best.found and goals else headline(best)
    blocks.append(Sentence(gains))
    if not found.feasible:
        blocks.append(_violations(found))
    parts = breakdown_table(plan)
    blocks += [parts] if parts is not None else []
    if found.assumed:
        blocks.append(Sentence(f"Not given and counted as 0: {listed(list(found.assumed), 12)}."))
    return blocks


def _violations(found: Appraisal) -> Table:
    rows: list[Row] = []
    units = _units(found)
    for where, what, value, relation, limit, by in found.violations.itertuples(index=False, name=None):
        unit = units.get(str(where))
        if what == "rule":
            rows.append((str(where), "rule", "", str(relation), "", "" if by == 1.0 else Number(by)))
            continue
        must: tuple[Cell, Cell] = ("an integer", "") if what == "integer" else (str(relation), Number(limit, unit))
        rows.append((str(where), str(what), Number(value, unit), *must, Number(by, unit)))
    return Table("Violations", ["where", "what", "value", "must be", "", "by"], rows)


def _units(found: Appraisal) -> dict[str, str | None]:
    f = found.plan.formulation
    parts: tuple[Any, ...] = (*f.decisions, *f.constraints, *f.curves)
    return {name: part.unit for part in parts for name in part.members()}


def _gains(found: Appraisal) -> str:
    """Say what optimising gains, each objective against itself."""
    gains = found.gains().tolist()
    own, best = found.plan.objectives()["value"].tolist(), found.best.objectives()["value"].tolist()
    which = "optimal plan" if found.best.status == "optimal" else "best plan found so far"
    sentences = []
    goals = found.plan.formulation.objectives
    for k, (goal, gain, value, there) in enumerate(zip(goals, gains, own, best, strict=True)):
        head = f"The {which} has {goal.name} {amount(there, goal.unit)}"
        share = abs(gain) / max(abs(value), 1e-12)
        if abs(gain) <= 1e-9 * max(1.0, abs(there)):
            words = "there is nothing to gain" if not k else "the same"
        elif gain < 0:
            why = ", because it meets every constraint" if not found.feasible and not k else ""
            words = f"{amount(-gain, goal.unit)} worse{why}"
        else:
            words = f"optimising gains {amount(gain, goal.unit)}"
            words += f" ({share:.1%})" if np.isfinite(share) and value else ""
        sentences.append(f"{head}: {words}.")
    return "\n".join(sentences)


def appraisal_figure(found: Appraisal, ax: Axes) -> Axes:
    """Draw the first objective by its parts: the plan given, and the optimal one."""
    given, best = found.plan.breakdown(), found.best.breakdown()
    names = [*map(str, given.index), *(["total"] if len(given) > 1 else [])]
    pairs = [(given, found.plan.objective, BOUND, "", "given"), (best, found.best.objective, BEST, "//", "optimal")]
    for k, (parts, total, color, hatch, label) in enumerate(pairs):
        values = [*(float(parts.get(name, 0.0)) for name in given.index), *([total] if len(given) > 1 else [])]
        at = np.arange(len(names)) + (k - 0.5) * 0.36
        ax.barh(at, values, 0.34, color=color, hatch=hatch, edgecolor="white", label=label)
    ax.set_yticks(range(len(names)), names)
    ax.set_ylim(len(names) - 0.4, -0.6)
    ax.set_xlabel(with_unit(found.plan.objective_name or "objective", found.plan.unit))
    ax.margins(x=0.08)
    ax.set_title(f"{found.plan.model_name}: the plan given, and the optimal one", loc="left")
    ax.grid(alpha=0.3, axis="x")
    ax.set_axisbelow(True)
    draw_key(ax)
    return ax
