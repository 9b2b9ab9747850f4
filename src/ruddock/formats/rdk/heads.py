"""What stands left of a colon, and the words that cannot be names."""

from __future__ import annotations

import re
from dataclasses import dataclass

UNIT = r"\((?P<unit>(?:[^()\n]|\([^()\n]*\))*)\)"  # brackets within a unit: £/(crate*day)
HEAD = re.compile(rf"\s*(?P<name>[^\W\d_]\w*)(\s*\[(?P<axes>[^\]\n]*)\])?(\s*{UNIT})?")
NAMED = re.compile(rf"\s*[^\W\d_]\w*\s*(\[[^\]\n]*\])?\s*({UNIT})?\s*(where\b[^:]*)?:")
WHERE = re.compile(r"\s*where\b")
DECLARED = re.compile(r"\b(integer|binary|semicontinuous|free)\b(?!\s*:)")
BLANKS = re.compile(r'\s*(?P<name>"[^"\n]*"|[^\W\d_]\w*( [^\W\d_]\w*)+)\s*(\([^()\n]*\)\s*)?:')
RESERVED = {
    "model", "axes", "data", "decisions", "minimize", "maximize", "require", "quantities", "integer", "binary",
    "semicontinuous", "free", "where", "from", "and", "or", "not", "sum", "previous", "minimum", "maximum", "sheet",
    "column", "cyclic", "inf", "if", "unless", "either", "then",
}  # fmt: skip


@dataclass(eq=False, repr=False)
class Head:
    """What stands left of a colon: a name, axes, a unit, and where the rest begins."""

    name: str
    axes: tuple[str, ...] | None
    unit: str | None
    start: int
    end: int
