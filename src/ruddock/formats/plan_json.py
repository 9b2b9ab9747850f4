"""A plan as a JSON document, format ``ruddock-plan/1``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan


def plan_document(plan: Plan) -> dict[str, Any]:
    """Return a plan as plain data; what is not known or not finite is None."""
    outcome, formulation = plan.outcome, plan.formulation
    document: dict[str, Any] = {
        "format": "ruddock-plan/1",
        "model": plan.model_name,
        "status": plan.status,
        "reason": plan.reason,
        "sense": plan.sense,
        "objective": _finite(plan.objective) if plan.found else None,
        "bound": _finite(plan.bound),
        "gap": _finite(plan.gap) if plan.found else None,
        "parts": {str(name): float(value) for name, value in plan.breakdown().items()} if plan.found else {},
        "quantities": plan.formulation.quantity_values(plan.values) if plan.found else {},
        "decisions": {},
        "constraints": {},
        "effort": {
            "seconds": round(plan.effort.seconds, 6),
            "iterations": plan.effort.iterations,
            "nodes": plan.effort.nodes,
            "reductions": {title: {"rows": r, "columns": c} for title, (r, c) in plan.effort.reductions.items()},
            "parts": {name: round(seconds, 6) for name, seconds in plan.effort.parts.items()},
            "certified": plan.effort.certified,
        },
    }
    if outcome.history:
        document["history"] = [
            {name: _finite(value) for name, value in moment.items()} for moment in plan.history.to_dict("records")
        ]
    if outcome.x is not None and outcome.activity is not None:
        sign = -1.0 if plan.sense == "maximize" else 1.0
        reduced = _priced(outcome.reduced, sign, len(outcome.x))
        document["decisions"] = {
            name: {"value": value, "reduced_cost": cost}
            for name, value, cost in zip(formulation.decision_names, _plain(outcome.x), reduced, strict=True)
        }
        price = _priced(outcome.y, sign, len(outcome.activity))
        lower = np.concatenate([family.lower for family in formulation.constraints] or [np.zeros(0)])
        upper = np.concatenate([family.upper for family in formulation.constraints] or [np.zeros(0)])
        slack = np.minimum(outcome.activity - lower, upper - outcome.activity)
        document["constraints"] = {
            name: {"activity": activity, "slack": room, "price": worth}
            for name, activity, room, worth in zip(
                formulation.constraint_names, _plain(outcome.activity), _plain(slack), price, strict=True
            )
        }
    if outcome.proof is not None:
        used = np.flatnonzero(outcome.proof)
        document["proof"] = {formulation.constraint_names[i]: float(outcome.proof[i]) for i in used}
    if outcome.crossed_columns:
        document["crossed"] = [formulation.decision_names[j] for j in outcome.crossed_columns]
    if outcome.crossed_rows:
        document["crossed_constraints"] = [formulation.constraint_names[i] for i in outcome.crossed_rows]
    if outcome.ray is not None:
        moving = np.flatnonzero(outcome.ray)
        document["ray"] = {formulation.decision_names[j]: float(outcome.ray[j]) for j in moving}
    return document


def _finite(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def _plain(values: Floats) -> list[float | None]:
    return [value if np.isfinite(value) else None for value in (values + 0.0).tolist()]


def _priced(values: Floats | None, sign: float, size: int) -> list[float | None]:
    return [None] * size if values is None else _plain(sign * values)
