"""The pieces that schemas are made of."""

from __future__ import annotations

from typing import Any

NUMBER = {"type": "number"}
MAYBE = {"type": ["number", "null"]}
COUNT = {"type": "integer", "minimum": 0}
TEXT = {"type": "string"}
MAYBE_TEXT = {"type": ["string", "null"]}
FLAG = {"type": "boolean"}
DRAFT = "https://json-schema.org/draft/2020-12/schema"
STATUS = {"enum": ["optimal", "infeasible", "unbounded", "stopped"]}
SENSE = {"enum": ["minimize", "maximize", None]}


def object_of(**properties: Any) -> dict[str, Any]:
    """Return the schema of an object in which all of these stand, those named with a ``_`` behind them optional."""
    needed = [name for name in properties if not name.endswith("_")]
    named = {name.removesuffix("_"): held for name, held in properties.items()}
    return {"type": "object", "properties": named, "required": needed, "additionalProperties": False}


def list_of(items: Any, description: str = "") -> dict[str, Any]:
    """Return the schema of a list."""
    return said({"type": "array", "items": items}, description)


def by_name(items: Any, description: str = "") -> dict[str, Any]:
    """Return the schema of an object that holds the same under any names."""
    return said({"type": "object", "additionalProperties": items}, description)


def said(schema: dict[str, Any], description: str) -> dict[str, Any]:
    """Return a schema with what it means."""
    return {**schema, "description": description} if description else schema


def maybe(schema: dict[str, Any], description: str = "") -> dict[str, Any]:
    """Return a schema that null meets as well."""
    return said({"anyOf": [schema, {"type": "null"}]}, description)
