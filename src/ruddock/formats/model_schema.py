"""The schema of a model as JSON, format ``ruddock-model/1``: what is checked before a document is used."""

from __future__ import annotations

from typing import Any

NUMBERS = {"type": "array", "items": {"type": "number"}}
LIMITS = {"type": "array", "items": {"type": ["number", "null"]}}
PLACES = {"type": "array", "items": {"type": "integer", "minimum": 0, "maximum": 2**31 - 1}}
NAME = {"type": "string", "minLength": 1, "maxLength": 10_000}
UNIT = {"type": ["string", "null"]}


def object_of(**properties: Any) -> dict[str, Any]:
    """Return the schema of an object in which all of these stand, those named with a ``_`` behind them optional."""
    needed = [name for name in properties if not name.endswith("_")]
    named = {name.removesuffix("_"): held for name, held in properties.items()}
    return {"type": "object", "properties": named, "required": needed, "additionalProperties": False}


def _list(items: Any) -> dict[str, Any]:
    return {"type": "array", "items": items}


CELLS = {
    "axes": {**_list(NAME), "description": "names of the axes, in order"},
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
        object_of(labels=_list({"type": ["string", "number", "boolean"]})),
        object_of(type={"const": "datetime"}, zone=UNIT, labels=_list({"type": "string"})),
        object_of(type={"const": "date"}, labels=_list({"type": "string"})),
        object_of(type={"const": "period"}, step=NAME, labels=_list({"type": "string"})),
        object_of(type={"const": "timedelta"}, labels=_list({"type": "integer"})),
        object_of(
            type={"const": "interval"},
            closed={"enum": ["left", "right", "both", "neither"]},
            labels=_list({**_list({"type": ["string", "number"]}), "minItems": 2, "maxItems": 2}),
        ),
    ]
}

RULE = {
    "oneOf": [
        object_of(rule={"const": "if"}, condition=object_of(terms=TERMS, **CELLS), relation=SIDES),
        object_of(rule={"const": "either"}, relations={**_list(SIDES), "minItems": 2}),
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
    "$schema": "https://json-schema.org/draft/2020-12/schema",
    "title": "A Ruddock model",
    **object_of(
        format={"const": "ruddock-model/1"},
        model={"type": "string"},
        axes={"type": "object", "additionalProperties": LABELS},
        decisions=_list(
            object_of(
                name=NAME,
                kind={"enum": ["continuous", "integer", "binary", "semicontinuous"]},
                kinds={**_list({"enum": [0, 1, 2, 3]}), "description": "of each member: 1 integer, 2 semicontinuous"},
                unit=UNIT,
                listed={"type": "boolean", "description": "whether members go by their label alone"},
                lower=LIMITS,
                upper=LIMITS,
                **CELLS,
            )
        ),
        curves=_list(object_of(name=NAME, unit=UNIT, x=TERMS, at=_list(NUMBERS), values=_list(NUMBERS), **CELLS)),
        objectives=_list(
            object_of(
                name=NAME,
                maximize={"type": "boolean"},
                unit=UNIT,
                single={"type": "boolean", "description": "whether it was written as one expression without parts"},
                parts={"type": "object", "additionalProperties": TERMS, "minProperties": 1},
            )
        ),
        constraints=_list(object_of(name=NAME, unit=UNIT, listed={"type": "boolean"}, sides=SIDES, **CELLS)),
        rules=_list(object_of(name=NAME, unit=UNIT, rule=RULE, **CELLS)),
        quantities=_list(object_of(name=NAME, unit=UNIT, terms=TERMS, **CELLS)),
    ),
}
