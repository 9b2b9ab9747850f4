"""The schema of a model as JSON, format ``ruddock-model/1``: what is checked before a document is used."""

from __future__ import annotations

from typing import Any

NUMBERS = {"type": "array", "items": {"type": "number"}}
LIMITS = {"type": "array", "items": {"type": ["number", "null"]}}
PLACES = {"type": "array", "items": {"type": "integer", "minimum": 0, "maximum": 2**31 - 1}}
NAME = {"type": "string", "minLength": 1, "maxLength": 10_000}
UNIT = {"type": ["string", "null"]}


def _object(**properties: Any) -> dict[str, Any]:
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
    **_object(rows=PLACES, columns=PLACES, values=NUMBERS, constants=NUMBERS),
    "description": (
        "a linear expression for each member: entries with their member (row), decision (column, counted over all "
        "decisions and then the values of all curves) and coefficient, and a constant for each member"
    ),
}
SIDES = {
    **_object(sense={"enum": ["<=", ">=", "==", "between"]}, left=TERMS, right={"anyOf": [TERMS, {"type": "null"}]},
              low_=LIMITS, high_=LIMITS),
    "description": "both sides as written; of a range the left one with the limits low and high, null for none",
}  # fmt: skip

LABELS = {
    "oneOf": [
        _object(labels=_list({"type": ["string", "number", "boolean"]})),
        _object(type={"const": "datetime"}, zone=UNIT, labels=_list({"type": "string"})),
        _object(type={"const": "date"}, labels=_list({"type": "string"})),
        _object(type={"const": "period"}, step=NAME, labels=_list({"type": "string"})),
        _object(type={"const": "timedelta"}, labels=_list({"type": "integer"})),
        _object(
            type={"const": "interval"},
            closed={"enum": ["left", "right", "both", "neither"]},
            labels=_list({**_list({"type": ["string", "number"]}), "minItems": 2, "maxItems": 2}),
        ),
    ]
}

RULE = {
    "oneOf": [
        _object(rule={"const": "if"}, condition=_object(terms=TERMS, **CELLS), relation=SIDES),
        _object(rule={"const": "either"}, relations={**_list(SIDES), "minItems": 2}),
        _object(
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
    **_object(
        format={"const": "ruddock-model/1"},
        model={"type": "string"},
        axes={"type": "object", "additionalProperties": LABELS},
        decisions=_list(
            _object(
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
        curves=_list(_object(name=NAME, unit=UNIT, x=TERMS, at=_list(NUMBERS), values=_list(NUMBERS), **CELLS)),
        objectives=_list(
            _object(
                name=NAME,
                maximize={"type": "boolean"},
                unit=UNIT,
                single={"type": "boolean", "description": "whether it was written as one expression without parts"},
                parts={"type": "object", "additionalProperties": TERMS, "minProperties": 1},
            )
        ),
        constraints=_list(_object(name=NAME, unit=UNIT, listed={"type": "boolean"}, sides=SIDES, **CELLS)),
        rules=_list(_object(name=NAME, unit=UNIT, rule=RULE, **CELLS)),
        quantities=_list(_object(name=NAME, unit=UNIT, terms=TERMS, **CELLS)),
    ),
}
