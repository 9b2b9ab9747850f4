"""The schema of a model as JSON, format ``ruddock-model/1``: what is checked before a document is used."""

from __future__ import annotations

from typing import Any

from ruddock.formats.schemas.common import DRAFT, list_of, object_of
from ruddock.formats.schemas.common import MAYBE_TEXT as UNIT

NUMBERS = {"type": "array", "items": {"type": "number"}}
LIMITS = {"type": "array", "items": {"type": ["number", "null"]}}
PLACES = {"type": "array", "items": {"type": "integer", "minimum": 0, "maximum": 2**31 - 1}}
NAME = {"type": "string", "minLength": 1, "maxLength": 10_000}


CELLS = {
    "axes": {**list_of(NAME), "description": "names of the axes, in order"},
    "codes": {
        "type": ["array", "null"],
        "items": PLACES,
        "description": "for each axis which label each member has, counted from 0; null for all combinations",
    },
}
TERMS = {
    **object_of(rows=PLACES, columns=PLACES, values=NUMBERS, constants=NUMBERS),
    "description": (
        "a linear expression for each member: entries with their member (row), decision (column, counted over all "
        "decisions and then the values of all curves) and coefficient, and a constant for each member"
    ),
}
SIDES = {
    **object_of(sense={"enum": ["<=", ">=", "==", "between"]}, left=TERMS, right={"anyOf": [TERMS, {"type": "null"}]},
              low_=LIMITS, high_=LIMITS),
    "description": "both sides as written; of a range the left one with the limits low and high, null for none",
}  # fmt: skip

LABELS = {
    "oneOf": [
        object_of(labels=list_of({"type": ["string", "number", "boolean"]})),
        object_of(type={"const": "datetime"}, zone=UNIT, labels=list_of({"type": "string"})),
        object_of(type={"const": "date"}, labels=list_of({"type": "string"})),
        object_of(type={"const": "period"}, step=NAME, labels=list_of({"type": "string"})),
        object_of(type={"const": "timedelta"}, labels=list_of({"type": "integer"})),
        object_of(
            type={"const": "interval"},
            closed={"enum": ["left", "right", "both", "neither"]},
            labels=list_of({**list_of({"type": ["string", "number"]}), "minItems": 2, "maxItems": 2}),
        ),
    ]
}

RULE = {
    "oneOf": [
        object_of(rule={"const": "if"}, condition=object_of(terms=TERMS, **CELLS), relation=SIDES),
        object_of(rule={"const": "if relation"}, condition=SIDES, strict={"type": "boolean"}, relation=SIDES),
        object_of(rule={"const": "either"}, relations={**list_of(SIDES), "minItems": 2}),
        object_of(
            rule={"enum": ["run", "pause"]},
            on=TERMS,
            axis=NAME,
            least={"type": "integer", "minimum": 1},
            before={"enum": [0, 1]},
        ),
    ]
}

SCHEMA: dict[str, Any] = {
    "$schema": DRAFT,
    "title": "A Ruddock model",
    **object_of(
        format={"const": "ruddock-model/1"},
        model={"type": "string"},
        axes={"type": "object", "additionalProperties": LABELS},
        decisions=list_of(
            object_of(
                name=NAME,
                kind={"enum": ["continuous", "integer", "binary", "semicontinuous"]},
                kinds={**list_of({"enum": [0, 1, 2, 3]}), "description": "of each member: 1 integer, 2 semicontinuous"},
                unit=UNIT,
                listed={"type": "boolean", "description": "whether members go by their label alone"},
                lower=LIMITS,
                upper=LIMITS,
                **CELLS,
            )
        ),
        curves=list_of(object_of(name=NAME, unit=UNIT, x=TERMS, at=list_of(NUMBERS), values=list_of(NUMBERS), **CELLS)),
        objectives=list_of(
            object_of(
                name=NAME,
                maximize={"type": "boolean"},
                unit=UNIT,
                single={"type": "boolean", "description": "whether it was written as one expression without parts"},
                parts={"type": "object", "additionalProperties": TERMS, "minProperties": 1},
            )
        ),
        constraints=list_of(object_of(name=NAME, unit=UNIT, listed={"type": "boolean"}, sides=SIDES, **CELLS)),
        rules=list_of(object_of(name=NAME, unit=UNIT, rule=RULE, **CELLS)),
        quantities=list_of(object_of(name=NAME, unit=UNIT, terms=TERMS, **CELLS)),
    ),
}
