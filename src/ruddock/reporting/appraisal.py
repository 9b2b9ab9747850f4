"""A hand-made plan beside the best one, as sentences and tables."""

from __future__ import annotations

import numpy as np

from ruddock.errors import listed
from ruddock.insight.appraisal import Appraisal
from ruddock.reporting.text import headline
from ruddock.tables import Table, amount, capped, number, plural

MOST_ROWS = 40


def appraisal_parts(found: Appraisal) -> list[str | Table]:
    """Return the judgement: violations, value, and what optimising gains."""
    plan, best = found.plan, found.best
    goals, values = plan.formulation.objectives, plan.objectives()["value"].tolist()
    worth = ", ".join(f"{goal.name} {amount(value, goal.unit)}" for goal, value in zip(goals, values, strict=True))
    worth = worth or "there is no objective"
    parts: list[str | Table] = []
    if found.feasible:
        parts.append(f"{plan.model_name}: the plan keeps every constraint, {worth}.")
    else:
        what = plural(len(found.violations), "place")
        parts.append(f"{plan.model_name}: the plan breaks the model in {what}; {worth}.")
        parts.append(_violations(found))
    breakdown = plan.breakdown()
    if len(breakdown) > 1:
        made_of = [(str(part), amount(float(v), plan.unit)) for part, v in breakdown.items()]
        parts.append(Table(f"What {plan.objective_name} is made of", ["part", ">value"], made_of))
    if found.assumed:
        parts.append(f"Not given and counted as 0: {listed(list(found.assumed), 12)}.")
    parts += _gains(found) if best.found and goals else [headline(best)]
    return parts


def _violations(found: Appraisal) -> Table:
    rows = []
    for where, what, value, relation, limit, by in found.violations.itertuples(index=False, name=None):
        if what == "rule":
            rows.append((str(where), "rule", "", str(relation), "" if by == 1.0 else number(by)))
            continue
        told = "an integer" if what == "integer" else f"{relation} {number(limit)}"
        rows.append((str(where), str(what), number(value), told, number(by)))
    shown, more = capped(rows, MOST_ROWS)
    return Table("What it breaks", ["where", "what", ">value", ">must be", ">by"], shown, more=more)


def _gains(found: Appraisal) -> list[str | Table]:
    """Say what optimising gains, each objective against itself."""
    gains = found.gains().tolist()
    own, best = found.plan.objectives()["value"].tolist(), found.best.objectives()["value"].tolist()
    which = "best plan" if found.best.status == "optimal" else "best plan found so far"
    sentences = []
    for k, (goal, gain, value, there) in enumerate(
        zip(found.plan.formulation.objectives, gains, own, best, strict=True)
    ):
        head = f"The {which} has {goal.name} {amount(there, goal.unit)}"
        share = abs(gain) / max(abs(value), 1e-12)
        if abs(gain) <= 1e-9 * max(1.0, abs(there)):
            told = "there is nothing to gain" if not k else "the same"
        elif gain < 0:
            why = ", because it keeps every constraint" if not found.feasible and not k else ""
            told = f"{amount(-gain, goal.unit)} worse{why}"
        else:
            told = f"optimising gains {amount(gain, goal.unit)}" + (
                f" ({share:.1%})" if np.isfinite(share) and value else ""
            )
        sentences.append(f"{head}: {told}.")
    return ["\n".join(sentences)]
