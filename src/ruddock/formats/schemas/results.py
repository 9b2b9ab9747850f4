"""The schemas of all other answers as JSON, from ``ruddock-alternatives/1`` to ``ruddock-what-if/1``."""

from __future__ import annotations

from typing import Any

from ruddock.formats.schemas.common import (
    COUNT,
    DRAFT,
    FLAG,
    MAYBE,
    MAYBE_TEXT,
    NUMBER,
    SENSE,
    STATUS,
    TEXT,
    by_name,
    list_of,
    maybe,
    object_of,
    said,
)

VALUES = by_name(NUMBER, "the value of every decision")
OBJECTIVES = by_name(NUMBER, "every objective, as written")
OUTCOME = object_of(status=STATUS, objective=said(MAYBE, "of the first objective, as written; null without a plan"))
COMPARED = by_name(object_of(base=MAYBE, changed=MAYBE, difference=MAYBE), "base, changed, and changed less base")
STOPPED = said(MAYBE_TEXT, "what ended the work early: time, memory, user, ...; null if nothing did")
RELATION = {"enum": ["<=", ">=", "==", "between", "if", "either", "run", "pause", "integer", "curve", "", None]}
MOVES = list_of(object_of(constraint=TEXT, relation=TEXT, old=MAYBE, new=MAYBE, by=NUMBER))
BEYOND = {"enum": ["price", "no plan", "never", "", None]}
NAMES = list_of(TEXT)

SIDE = {
    "unit": MAYBE_TEXT,
    "terms": list_of(object_of(decision=TEXT, coefficient=NUMBER, value=NUMBER, product=NUMBER)),
    "constant": NUMBER,
    "total": said(NUMBER, "products and constant together"),
}

FINDING = object_of(
    severity=said({"enum": ["error", "warning", "note"]}, "error: there will be no plan; warning: probably a slip"),
    kind=TEXT,
    where=TEXT,
    what=TEXT,
    why=TEXT,
    remedy=TEXT,
)

LIMIT = object_of(
    relation=TEXT,
    limit=MAYBE,
    slack=MAYBE,
    one_more=said(MAYBE, "change of the objective as written per unit more of the limit; null if there is no plan"),
    one_less=said(MAYBE, "the same per unit less"),
    down_to=said(MAYBE, "how far down this holds; null without end"),
    up_to=said(MAYBE, "how far up this holds; null without end"),
    below=said(BEYOND, "what comes below: another price, no plan, or never anything else"),
    above=said(BEYOND, "what comes above"),
    unit=MAYBE_TEXT,
    both_sides=said(FLAG, "whether both sides hold decisions: the limit is then that of left minus right"),
)

COEFFICIENT = object_of(
    value=NUMBER,
    coefficient=NUMBER,
    **{"from": said(MAYBE, "the plan stays best from here; null without end")},
    to=said(MAYBE, "up to here; null without end"),
    reduced_cost=MAYBE,
    improvement=said(MAYBE, "by how much the coefficient must improve before more of the decision is used"),
    leaves=said(TEXT, "the decisions that then decrease"),
    unit=MAYBE_TEXT,
)

STEP = object_of(
    step=NUMBER,
    more=said(MAYBE, "change of the objective if the limit rises a step; null without a plan"),
    less=said(MAYBE, "the same if it falls a step"),
    more_status=TEXT,
    less_status=TEXT,
)

CLASH = object_of(
    takes_whole_numbers=said(FLAG, "whether it needs that decisions are integers"),
    proven_irreducible=said(FLAG, "whether it is proven that without any one of the members there is no clash"),
    steps=said(NAMES, "how one contradicts the other, step by step, where there is no weighted sum"),
    shortfall=said(MAYBE, "by how much the weighted sum demands more than can be; null without a proof"),
    members=list_of(
        object_of(
            name=TEXT,
            what={"enum": ["constraint", "rule", "bound", "integer"]},
            relation=TEXT,
            value=MAYBE,
            weight=said(MAYBE_TEXT, "in the proof, as a fraction"),
        )
    ),
)

REPAIR = object_of(
    aim=said(TEXT, "what the changes are the least in"),
    total=NUMBER,
    least=said(FLAG, "whether it is proven that no smaller change will do"),
    changes=MOVES,
    objective=said(MAYBE, "of the best plan of the repaired model"),
)

SCENARIO = object_of(
    scenario=TEXT,
    status={"enum": [*STATUS["enum"], "error"]},
    reason=MAYBE_TEXT,
    objective=MAYBE,
    bound=MAYBE,
    parts=by_name(NUMBER),
    quantities=by_name(NUMBER),
    objectives=OBJECTIVES,
    binding=NAMES,
    note=said(TEXT, "why there is no plan, the gap that is left, the error"),
    seconds=NUMBER,
    decisions=VALUES,
)

POINT = {"objectives": OBJECTIVES, "price": said(MAYBE, "slope from this point to the next; null if not known")}
SPAN = maybe({"type": "array", "items": NUMBER, "minItems": 2, "maxItems": 2}, "least and greatest magnitude, or null")
ENDS = {"type": "array", "items": MAYBE, "minItems": 2, "maxItems": 2}

BODIES: dict[str, tuple[str, dict[str, Any]]] = {
    "alternatives": (
        "Other plans as good as the best, or the next best",
        {
            "complete": said(FLAG, "whether there are no more as good"),
            "stopped": STOPPED,
            "plans": by_name(object_of(objectives=OBJECTIVES, decisions=VALUES), "the best one is named best"),
        },
    ),
    "appraisal": (
        "A plan of one's own: what it comes to, what it violates, what the best would gain",
        {
            "objective": MAYBE,
            "parts": by_name(NUMBER),
            "violations": list_of(
                object_of(where=TEXT, what=TEXT, value=MAYBE, relation=RELATION, limit=MAYBE, by=MAYBE)
            ),
            "best": said(MAYBE, "what the best plan comes to; null if none was found"),
            "gain": MAYBE,
            "objectives": by_name(object_of(value=NUMBER, gain=MAYBE)),
            "assumed_zero": said(NAMES, "decisions that the plan left out"),
        },
    ),
    "description": (
        "What a model is made of",
        {
            "problem_class": TEXT,
            "decisions": COUNT,
            "kinds": by_name(COUNT),
            "constraints": COUNT,
            "relations": by_name(COUNT),
            "nonzeros": COUNT,
            "coefficients": SPAN,
            "costs": SPAN,
            "limits": SPAN,
            "bounds": SPAN,
            "objectives": by_name(SENSE, "the sense of each"),
            "rules": COUNT,
            "curves": COUNT,
            "ignored": said(COUNT, "entries of data outside the families they were multiplied with"),
        },
    ),
    "diagnosis": (
        "Why there is no plan, and the least changes that lead to one",
        {
            "status": STATUS,
            "ray": maybe(by_name(NUMBER), "of an unbounded model: a step that improves the objective by 1 each time"),
            "ended_by": said(NAMES, "of an unbounded model: decisions whose bounds together lead to a best plan"),
            "stopped": STOPPED,
            "missed": maybe(
                list_of(object_of(constraint=TEXT, relation=TEXT, limit=NUMBER, by=NUMBER)),
                "if the search stopped without a plan: the limits that the nearest one found does not meet",
            ),
            "clashes": list_of(CLASH),
            "repairs": list_of(REPAIR),
            "no_repair": {"enum": ["found", "none", "too little", "stopped", "unproven", None]},
            "needed": maybe(list_of(object_of(constraint=TEXT, relation=TEXT, by=NUMBER))),
        },
    ),
    "effort": (
        "What a solve took",
        {
            **dict.fromkeys(("iterations", "network_pivots", "primal_iterations", "dual_iterations"), COUNT),
            **dict.fromkeys(
                ("pushes", "bound_flips", "factorisations", "entries", "interior_steps", "gradient_steps", "nodes"),
                COUNT,
            ),
            "tightened": by_name(COUNT),
            "cuts": by_name(COUNT),
            "reductions": by_name({**ENDS, "items": COUNT}, "rows and columns that each kind took out"),
            "seconds": NUMBER,
            "parts": by_name(NUMBER, "seconds by part"),
            "certified": FLAG,
        },
    ),
    "explanation": (
        "One row worked out, term by term",
        {
            "name": TEXT,
            **SIDE,
            "relation": RELATION,
            "right": maybe(object_of(**SIDE), "the right side of a constraint"),
            "slack": MAYBE,
        },
    ),
    "findings": ("What looks wrong in a model", {"findings": list_of(FINDING)}),
    "reach": (
        "How far a number must move for a target",
        {
            "moved": TEXT,
            "now": said(MAYBE, "null where several differ"),
            "target": TEXT,
            "status": STATUS,
            "value": said(MAYBE, "the tightest that allows the target; null if none is known or it is unlimited"),
            "unlimited": FLAG,
            "reason": MAYBE_TEXT,
            "nearest": NAMES,
        },
    ),
    "region": (
        "The region of a model of two decisions",
        {
            "decisions": NAMES,
            "unlimited": FLAG,
            "corners": list_of(
                object_of(decisions=VALUES, objective=MAYBE, where=said(TEXT, "the limits that meet there")),
                "anticlockwise",
            ),
            "points": list_of(list_of(NUMBER), "the plans in integers"),
        },
    ),
    "scenarios": (
        "The same model with other numbers, side by side",
        {"base": OUTCOME, "stopped": FLAG, "scenarios": list_of(SCENARIO)},
    ),
    "sensitivity": (
        "What limits are worth and how far numbers may move",
        {
            "sense": SENSE,
            "objective": NUMBER,
            "integers_held": FLAG,
            "relaxation": said(MAYBE, "the best value with fractions allowed, where there are integers"),
            "limits": by_name(LIMIT),
            "coefficients": by_name(COEFFICIENT),
            "steps": maybe(by_name(STEP), "what a step is truly worth, solved again with nothing held"),
        },
    ),
    "job": (
        "A job at a service",
        {
            "number": COUNT,
            "kind": {"enum": ["solve", "check", "diagnose", "scenarios", "arrays"]},
            "job_class": {"enum": ["quick", "long"]},
            "state": {"enum": ["waiting", "running", "done", "failed", "cancelled"]},
            "attempt": said(COUNT, "how often it was started"),
            "stop_asked": FLAG,
            "created": said(NUMBER, "seconds since 1970"),
            "started": MAYBE,
            "ended": MAYBE,
            "time_limit": said(MAYBE, "seconds; null is the longest of its class"),
            "verdict": said(TEXT, "its answer in a sentence, or why it failed; empty until then"),
            "status": said(MAYBE_TEXT, "of the plan"),
            "reason": MAYBE_TEXT,
            "place": said(MAYBE, "of a waiting job: its place in line, from 1"),
            "progress": object_of(
                seconds=NUMBER,
                nodes=COUNT,
                best=MAYBE,
                bound=MAYBE,
                gap=MAYBE,
                maximize={"type": ["boolean", "null"]},
                unit=MAYBE_TEXT,
                said=said(TEXT, "all of it in a sentence"),
                points=list_of(list_of(MAYBE), "seconds, best and bound as they came"),
            ),
            "files": by_name(COUNT, "what can be fetched, with sizes in bytes"),
            "key_": said(TEXT, "only where the job was just sent"),
        },
    ),
    "sweep": (
        "The objective along a number that moves",
        {
            "moved": TEXT,
            "exact": said(FLAG, "whether the objective is a straight line between points"),
            "asked": ENDS,
            "feasible": maybe(ENDS, "between which values there is a plan; null if not known or nowhere"),
            "stopped": STOPPED,
            "points": list_of(object_of(value=NUMBER, objective=MAYBE, **POINT)),
            "decisions": list_of(VALUES, "a plan for each point"),
        },
    ),
    "tradeoff": (
        "The frontier between objectives",
        {
            "objectives": NAMES,
            "exact": said(FLAG, "whether every point between two that follow each other is on the frontier"),
            "complete": FLAG,
            "stopped": STOPPED,
            "points": list_of(
                object_of(share=said(MAYBE, "how far the first objective is relaxed"), corner=FLAG, **POINT)
            ),
            "decisions": list_of(VALUES, "a plan for each point"),
        },
    ),
    "what-if": (
        "A plan with some numbers changed, against the one before",
        {
            "changes": NAMES,
            "base": OUTCOME,
            "changed": OUTCOME,
            "objectives": COMPARED,
            "predicted": said(MAYBE, "the objective that shadow prices predict; null where they say nothing"),
            "share": said(MAYBE, "of the change how far prices hold, in per cent"),
            "breakdown": COMPARED,
            "quantities": COMPARED,
            "moved": COMPARED,
            "binding": by_name({"enum": ["binds", "has slack"]}, "constraints that began or ceased to bind"),
        },
    ),
}

SCHEMAS: dict[str, dict[str, Any]] = {
    name: {
        "$schema": DRAFT,
        "title": title,
        **object_of(
            format={"const": f"ruddock-{name}/1"},
            model={**TEXT, "description": "the model's title"},
            **properties,
        ),
    }
    for name, (title, properties) in BODIES.items()
}
