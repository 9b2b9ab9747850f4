"""The schema of a plan as JSON, format ``ruddock-plan/1``: what programs may rely on."""

from __future__ import annotations

from typing import Any

from ruddock.formats.schemas.common import (
    COUNT,
    DRAFT,
    MAYBE,
    MAYBE_TEXT,
    NUMBER,
    SENSE,
    STATUS,
    TEXT,
    by_name,
    object_of,
    said,
)

SCHEMA: dict[str, Any] = {
    "$schema": DRAFT,
    "title": "A Ruddock plan",
    "description": "Members are named as ship[Fell,Quay]. What is not known or not finite is null.",
    **object_of(
        format={"const": "ruddock-plan/1"},
        model=TEXT,
        status=STATUS,
        reason={"enum": ["time", "nodes", "iterations", "memory", "user", "numerics", "accuracy", None]},
        sense=SENSE,
        objective=said(MAYBE, "of the first objective, as written"),
        bound=said(MAYBE, "no plan is better than this"),
        gap=said(MAYBE, "|objective - bound| / max(1, |objective|)"),
        parts=by_name(NUMBER, "the objective by its named parts"),
        objectives=by_name(
            object_of(
                sense={"enum": ["minimize", "maximize"]},
                value=NUMBER,
                bound=MAYBE,
                unit=MAYBE_TEXT,
                proven={"type": "boolean"},
            ),
            "every objective in its order",
        ),
        quantities=by_name(NUMBER, "named totals"),
        decisions=by_name(
            object_of(
                value=MAYBE,
                reduced_cost=said(MAYBE, "change of the objective as written per unit more of the decision"),
            ),
            "every decision",
        ),
        constraints=by_name(
            object_of(
                left=MAYBE,
                relation={"enum": ["<=", ">=", "==", "between", "if", "either", "run", "pause"]},
                right=MAYBE,
                slack=said(MAYBE, "distance to the nearer limit, negative when violated"),
                price=said(MAYBE, "change of the objective as written per unit more of the limit"),
            ),
            "every constraint, both sides as written",
        ),
        effort=object_of(
            seconds=NUMBER,
            iterations=COUNT,
            nodes=COUNT,
            reductions=by_name(object_of(rows=COUNT, columns=COUNT), "what presolve took out, by kind"),
            seconds_by_part=by_name(NUMBER, "presolve, simplex, cuts, ..."),
            certified={"type": ["boolean", "string", "null"]},
        ),
        history_={
            "type": "array",
            "items": object_of(seconds=NUMBER, nodes=COUNT, best=MAYBE, bound=MAYBE),
            "description": "of a search: the best plan and the bound as they were found",
        },
        proof_=by_name(
            NUMBER,
            "of an infeasible linear model: weights of constraints whose sum contradicts the bounds; a positive one "
            "uses the lower limit, a negative one the upper",
        ),
        crossed_={"type": "array", "items": TEXT, "description": "decisions whose own bounds cross"},
        crossed_constraints_={"type": "array", "items": TEXT, "description": "ranges whose limits cross"},
        ray_=by_name(NUMBER, "of an unbounded model: the direction without end, a step for each decision"),
    ),
}
