"""A hand-made plan beside the best one, as sentences and tables."""

from __future__ import annotations

from ruddock.errors import listed
from ruddock.insight.appraisal import Appraisal
from ruddock.reporting.text import headline
from ruddock.tables import Table, amount, capped, number, plural

MOST_ROWS = 40


def appraisal_parts(found: Appraisal) -> list[str | Table]:
    """Return the judgement: violations, value, and what optimising gains."""
    plan, best = found.plan, found.best
    name, unit = plan.objective_name or "the objective", plan.unit
    parts: list[str | Table] = []
    value = f"{name} {amount(plan.objective, unit)}"
    if found.feasible:
        parts.append(f"{plan.model_name}: the plan keeps every limit, {value}.")
    else:
        parts.append(f"{plan.model_name}: the plan breaks {plural(len(found.violations), 'rule')}, {value}.")
        rows = [
            (str(where), str(what), number(value_), number(limit), number(by))
            for where, what, value_, limit, by in found.violations.itertuples(index=False, name=None)
        ]
        shown, more = capped(rows, MOST_ROWS)
        headings = ["where", "what is broken", ">value", ">limit", ">by"]
        parts.append(Table("What it breaks", headings, shown, more=more))
    breakdown = plan.breakdown()
    if len(breakdown) > 1:
        made_of = [(str(part), amount(float(v), unit)) for part, v in breakdown.items()]
        parts.append(Table(f"What {name} is made of", ["part", ">value"], made_of))
    if found.assumed:
        parts.append(f"Not given and counted as 0: {listed(list(found.assumed), 12)}.")
    parts.append(_gain(found) if best.found else headline(best))
    return parts


def _gain(found: Appraisal) -> str:
    unit, best = found.plan.unit, found.best
    share = abs(found.gain) / max(abs(found.plan.objective), 1e-12)
    against = f"The best plan has {amount(best.objective, unit)}"
    if best.status != "optimal":
        against = f"The best plan found so far has {amount(best.objective, unit)}"
    if abs(found.gain) <= 1e-9 * max(1.0, abs(best.objective)):
        return f"{against}: there is nothing to gain."
    if found.gain < 0:
        return f"{against}: {amount(-found.gain, unit)} worse, because it keeps every limit."
    return f"{against}: optimising gains {amount(found.gain, unit)} ({share:.1%})."
