"""The schema of a plan as JSON, format ``ruddock-plan/1``: what programs may rely on."""

from __future__ import annotations

from typing import Any

from ruddock.formats.model_schema import object_of as _object

NUMBER = {"type": "number"}
MAYBE = {"type": ["number", "null"]}
COUNT = {"type": "integer", "minimum": 0}
TEXT = {"type": "string"}


def _by_name(items: Any, description: str) -> dict[str, Any]:
    return {"type": "object", "additionalProperties": items, "description": description}


SCHEMA: dict[str, Any] = {
    "$schema": "https://json-schema.org/draft/2020-12/schema",
    "title": "A Ruddock plan",
    "description": "Members are named as ship[Fell,Quay]. What is not known or not finite is null.",
    **_object(
        format={"const": "ruddock-plan/1"},
        model=TEXT,
        status={"enum": ["optimal", "infeasible", "unbounded", "stopped"]},
        reason={"enum": ["time", "nodes", "iterations", "memory", "user", "numerics", None]},
        sense={"enum": ["minimize", "maximize", None]},
        objective={**MAYBE, "description": "of the first objective, as written"},
        bound={**MAYBE, "description": "no plan is better than this"},
        gap={**MAYBE, "description": "|objective - bound| / max(1, |objective|)"},
        parts=_by_name(NUMBER, "the objective by its named parts"),
        objectives=_by_name(
            _object(
                sense={"enum": ["minimize", "maximize"]},
                value=NUMBER,
                bound=MAYBE,
                unit={"type": ["string", "null"]},
                proven={"type": "boolean"},
            ),
            "every objective in its order",
        ),
        quantities=_by_name(NUMBER, "named totals"),
        decisions=_by_name(
            _object(
                value=MAYBE,
                reduced_cost={
                    **MAYBE,
                    "description": "change of the objective as written per unit more of the decision",
                },
            ),
            "every decision",
        ),
        constraints=_by_name(
            _object(
                left=MAYBE,
                relation={"enum": ["<=", ">=", "==", "between", "if", "either", "run", "pause"]},
                right=MAYBE,
                slack={**MAYBE, "description": "distance to the nearer limit, negative when violated"},
                price={**MAYBE, "description": "change of the objective as written per unit more of the limit"},
            ),
            "every constraint, both sides as written",
        ),
        effort=_object(
            seconds=NUMBER,
            iterations=COUNT,
            nodes=COUNT,
            reductions=_by_name(_object(rows=COUNT, columns=COUNT), "what presolve took out, by kind"),
            seconds_by_part=_by_name(NUMBER, "presolve, simplex, cuts, ..."),
            certified={"type": ["boolean", "string", "null"]},
        ),
        history_={
            "type": "array",
            "items": _object(seconds=NUMBER, nodes=COUNT, best=MAYBE, bound=MAYBE),
            "description": "of a search: the best plan and the bound as they were found",
        },
        proof_=_by_name(
            NUMBER,
            "of an infeasible linear model: weights of constraints whose sum contradicts the bounds; a positive one "
            "uses the lower limit, a negative one the upper",
        ),
        crossed_={"type": "array", "items": TEXT, "description": "decisions whose own bounds cross"},
        crossed_constraints_={"type": "array", "items": TEXT, "description": "ranges whose limits cross"},
        ray_=_by_name(NUMBER, "of an unbounded model: the direction without end, a step for each decision"),
    ),
}
