"""A plan as a JSON document, format ``ruddock-plan/1``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.modelling.frames import constraints_frame, decisions_frame
from ruddock.modelling.lowering import lowered

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan


def plan_json(plan: Plan) -> dict[str, Any]:
    """Return a plan as plain data; what is not known or not finite is None."""
    outcome, formulation = plan.outcome, plan.formulation
    document: dict[str, Any] = {
        "format": "ruddock-plan/1",
        "model": plan.model_name,
        "status": plan.status,
        "reason": plan.reason,
        "sense": plan.sense,
        "objective": plan.objective if plan.found else None,
        "bound": plan.bound,
        "gap": plan.gap if plan.found else None,
        "parts": {str(name): float(value) for name, value in plan.breakdown().items()} if plan.found else {},
        "objectives": _objectives(plan),
        "quantities": formulation.quantity_values(outcome.x) if plan.found and outcome.x is not None else {},
        "decisions": {},
        "constraints": {},
        "effort": {
            "seconds": round(plan.effort.seconds, 6),
            "iterations": plan.effort.iterations,
            "nodes": plan.effort.nodes,
            "reductions": {title: {"rows": r, "columns": c} for title, (r, c) in plan.effort.reductions.items()},
            "seconds_by_part": {name: round(seconds, 6) for name, seconds in plan.effort.parts.items()},
            "certified": plan.effort.certified,
        },
    }
    if outcome.history:
        document["history"] = plan.history.to_dict("records")
    if outcome.x is not None:
        decisions, constraints = decisions_frame(plan), constraints_frame(plan)
        document["decisions"] = {
            name: {"value": value, "reduced_cost": cost}
            for name, value, cost in zip(
                decisions.index, decisions["value"].to_list(), decisions["reduced_cost"].to_list(), strict=True
            )
        }
        document["constraints"] = {
            name: {"left": left, "relation": relation, "right": right, "slack": slack, "price": price}
            for name, left, relation, right, slack, price in zip(
                constraints.index,
                constraints["left"].to_list(),
                constraints["relation"].tolist(),
                constraints["right"].to_list(),
                constraints["slack"].to_list(),
                constraints["shadow_price"].to_list(),
                strict=True,
            )
        }
    whole = lowered(formulation)
    if outcome.proof is not None:
        used = np.flatnonzero(outcome.proof)
        document["proof"] = {whole.row_name(i): float(outcome.proof[i]) for i in used.tolist()}
    if outcome.crossed_columns:
        document["crossed"] = [whole.column_name(j) for j in outcome.crossed_columns]
    if outcome.crossed_rows:
        document["crossed_constraints"] = [whole.row_name(i) for i in outcome.crossed_rows]
    if outcome.ray is not None:
        moving = np.flatnonzero(outcome.ray)
        document["ray"] = {whole.column_name(j): float(outcome.ray[j]) for j in moving.tolist()}
    return document


def _objectives(plan: Plan) -> dict[str, dict[str, Any]]:
    """Return every objective in its order."""
    if not plan.found:
        return {}
    frame = plan.objectives()
    return {
        str(name): {
            "sense": sense,
            "value": float(value),
            "bound": bound,
            "unit": unit or None,
            "proven": bool(sure),
        }
        for name, (sense, value, bound, unit, sure) in zip(
            frame.index, frame.itertuples(index=False, name=None), strict=True
        )
    }
