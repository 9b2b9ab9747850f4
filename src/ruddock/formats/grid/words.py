"""What the headings and words of a coefficient grid mean."""

from __future__ import annotations

import re

from ruddock.characters import FORMULA, has_acting, quote, unquote
from ruddock.formats.tables.layout import plain
from ruddock.modelling.arrays import RELATIONS
from ruddock.modelling.decisions import KIND_CODES
from ruddock.problem import INTEGER, SEMICONTINUOUS

SIGNS = {
    **RELATIONS,
    "at most": "<=", "no more than": "<=", "not more than": "<=", "up to": "<=", "maximum": "<=",
    "less than or equal to": "<=", "le": "<=",
    "at least": ">=", "no less than": ">=", "not less than": ">=", "minimum": ">=",
    "greater than or equal to": ">=", "ge": ">=",
    "equal": "==", "equals": "==", "equal to": "==", "exactly": "==", "eq": "==",
}  # fmt: skip
SIGN_HEADS = {"relation", "sign", "sense", "type", "relation sign", "constraint type", *SIGNS}
LIMIT_HEADS = {
    "limit", "limits", "rhs", "right side", "right hand side", "capacity", "available", "availability", "supply",
    "demand",
    "requirement", "required", "bound", "resource",
}  # fmt: skip
LOWER = {"lower", "lower bound", "lb", "lower limit", "from", "at least"}
UPPER = {"upper", "upper bound", "ub", "upper limit", "to", "at most"}
KIND = {"kind", "kinds", "type", "variable type", "integrality"}
UNUSED = {"value", "values", "solution", "activity", "left side", "slack", "unit", "units", "note", "notes", "remark"}
KINDS = {
    "": "continuous", "continuous": "continuous", "cont": "continuous", "real": "continuous",
    "integer": "integer", "int": "integer", "whole": "integer", "whole number": "integer", "i": "integer",
    "binary": "binary", "bin": "binary", "0/1": "binary", "0 1": "binary", "yes/no": "binary", "b": "binary",
    "semicontinuous": "semicontinuous", "semi continuous": "semicontinuous",
    "semicontinuous integer": "semicontinuous integer", "free": "free",
}  # fmt: skip
CODES = {**KIND_CODES, "free": KIND_CODES["continuous"], "semicontinuous integer": SEMICONTINUOUS | INTEGER}
ENDLESS = {"", "-", "none", "inf", "infinity", "unlimited", "no limit", "free"}
LONGEST = 500  # characters of a label that may be words of ours
GOAL = re.compile(
    r"(?:objective|goal)?\s*[:(]?\s*(?P<goal>max|min)(?:imi[sz]e|imi[sz]er|imieren|imum|imal)?\.?\)?(?:[\s:]+(?P<name>.*))?\Z",
    re.IGNORECASE,
)
TO_GOAL = re.compile(r"(?P<name>.+?),?\s+(?:to\s+)?(?P<goal>max|min)imi[sz]ed?\Z", re.IGNORECASE)


def goal_of(text: str) -> tuple[bool, str] | None:
    """Return whether a label says to maximize or to minimize, and the name it gives."""
    text = text.strip()
    found = (GOAL.match(text) or TO_GOAL.match(text)) if len(text) <= LONGEST else None
    if found is None:
        return None
    name = re.sub(r"\W+", "_", (found["name"] or "").strip()).strip("_")
    return found["goal"].lower() == "max", name if re.match(r"[^\W\d_]", name) else "objective"


def means(text: str, words: set[str]) -> bool:
    """Return whether a heading is one of these words."""
    return plain(text) in words


def unquoted(text: str) -> str:
    """Return a name without the quotes that keep it from being read as a heading."""
    return unquote(text.strip())


def quoted(text: str) -> str:
    """Return a name in quotes if it would be read as something else, here or by a spreadsheet, or act."""
    word = plain(text)
    heads = (
        SIGN_HEADS | LIMIT_HEADS | LOWER | UPPER | KIND | UNUSED | {"", "decisions", "constraints", "constant", "total"}
    )
    odd = word in heads or goal_of(text) is not None or text != text.strip() or has_acting(text)
    return quote(text) if odd or text.startswith(('"', *FORMULA)) else text
