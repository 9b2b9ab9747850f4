"""Reading a domain such as ``integer 0 .. 40``: kind, lower and upper bound."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from ruddock.errors import known
from ruddock.formats.rdk.evaluate import Evaluator
from ruddock.formats.rdk.grammar import meaning, parse
from ruddock.formats.rdk.source import Entry, Source
from ruddock.modelling.expression import Expression

KINDS = ("integer", "binary", "semicontinuous", "free")


def read_domain(source: Source, entry: Entry, at: int, evaluator: Evaluator) -> tuple[Any, Any, Any]:
    """Return kind, lower and upper bound of a domain such as ``integer 0 .. 40``."""
    _check_kind(source, entry, at)
    parsed: list[Any] = parse(source, entry, at, entry.text[at:], "domain").children
    kind, bounds = parsed
    word = str(kind) if kind else "continuous"
    lower: Any = None if word == "free" else 0.0
    upper: Any = None
    if bounds is not None and bounds.data == "side":
        sign = meaning(source, entry, at, bounds.children[0])
        value = evaluator.value(bounds.children[1])
        lower, upper = {"<=": (lower, value), ">=": (value, upper), "==": (value, value)}[sign]
    elif bounds is not None:
        parts = [None if part is None else evaluator.value(part) for part in bounds.children]
        lower, upper = (parts[0], parts[1]) if bounds.data == "span" else (None, parts[0])
    if any(isinstance(bound, Expression) for bound in (lower, upper)):
        raise source.error("a bound is a number or data; a limit with decisions goes under require", entry, at)
    if word == "free" and bounds is not None:
        raise source.error("free means no bounds; leave out one of the two", entry, at)
    if word == "binary":
        if bounds is not None:
            raise source.error("a binary decision is 0 or 1; leave out the bounds", entry, at)
        return word, 0, 1
    return ("continuous" if word == "free" else word), _infinite_is_none(lower), _infinite_is_none(upper)


def _check_kind(source: Source, entry: Entry, at: int) -> None:
    """Say which kind was probably meant where a domain begins with another word."""
    found = re.match(r"\s*([^\W\d_]\w*)", entry.text[at:])
    if found and found[1] not in KINDS and not re.match(r"\s*(\.\.|[-+*/×·(\[])", entry.text[at + found.end() :]):
        raise source.error(
            f"{found[1]!r} is not a kind of decision; {known(found[1], KINDS)}", entry, at + found.start(1)
        )


def _infinite_is_none(bound: Any) -> Any:
    return None if isinstance(bound, float) and np.isinf(bound) else bound
