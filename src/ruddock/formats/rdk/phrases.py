"""Pieces of a written text: numbers, labels, units, domains, and lines that are not too long."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np

from ruddock.characters import has_acting, quote
from ruddock.errors import FormatError
from ruddock.formats.rdk.heads import RESERVED
from ruddock.modelling.cells import Cells
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats

WIDTH = 100


def text_of(value: float) -> str:
    """Return a number to the last digit, whole ones without a point."""
    if np.isfinite(value) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return repr(float(value))


def label(text: str) -> str:
    """Return a label as it is written: in quotes unless it is a plain word or number."""
    return text if re.fullmatch(r"\w+(\.\w+)*", text) and text not in RESERVED else quote(text)


@dataclass(frozen=True)
class Written:
    """Decisions or the values of a curve as they are written: their columns, and their name."""

    name: str
    cells: Cells
    first: int


def merged(rows: Any, places: Any, values: Floats, size: int) -> tuple[Any, Any, Floats]:
    """Add up terms of the same row and decision; drop what cancels."""
    key = rows.astype(np.int64) * size + places
    distinct, group = np.unique(key, return_inverse=True)
    sums = np.bincount(group, values, len(distinct))
    kept = sums != 0
    return distinct[kept] // size, distinct[kept] % size, sums[kept]


def signed(value: float) -> str:
    """Return a number with its sign in front: ``+ 3``."""
    return f"{'-' if value < 0 else '+'} {text_of(abs(value))}"


def term(value: float, name: str) -> str:
    """Return a number times a name, with its sign; 1 is left out."""
    return f"{'-' if value < 0 else '+'} {name}" if abs(value) == 1 else f"{signed(value)} {name}"


def domain_text(mark: int, low: str, high: str, least: float, most: float, binary: bool = False) -> str:
    """Return a domain in words."""
    if binary or (mark == INTEGER and (low, high) == ("0", "1")):
        return "binary"
    kind = {0: "", INTEGER: "integer ", SEMICONTINUOUS: "semicontinuous "}.get(mark)
    if kind is None:
        raise FormatError("semicontinuous integers have no text form")
    if np.isneginf(least) and np.isposinf(most) and low == "-inf" and high == "inf":
        return (kind + "-inf ..").strip() if kind else "free"
    if high == "inf":
        return f"{kind}>= {low}"
    if low == "-inf":
        return f"{kind}.. {high}"
    return f"{kind}{low} .. {high}"


def folded(start: str, entries: list[str]) -> list[str]:
    """Return entries with commas between, in lines of limited width, the later ones indented."""
    lines, line = [], start
    for place, entry in enumerate(entries):
        text = entry + (", " if place < len(entries) - 1 else "")
        if len(line) + len(text) > WIDTH and line != start:
            lines.append(line.rstrip())
            line = "    "
        line += text
    return [*lines, line.rstrip()]


def unit(unit: str | None) -> str:
    """Return a unit in brackets as it stands behind a name."""
    if not unit:
        return ""
    if not re.fullmatch(r"(?:[^()\n]|\([^()\n]*\))*", unit) or unit != unit.strip() or has_acting(unit):
        raise FormatError(f"the unit {unit!r} cannot be written in parentheses")
    return f" ({unit})"


def plain_start(parts: list[str]) -> list[str]:
    """Return terms of which the first has no plus sign."""
    return [parts[0].removeprefix("+ "), *parts[1:]]


def joined(start: str, parts: list[str]) -> list[str]:
    """Join terms into lines of limited width, the later ones indented deeper."""
    parts = plain_start(parts)
    lines, line = [], start
    for part in parts:
        if len(line) + len(part) > WIDTH and line != start:
            lines.append(line.rstrip())
            line = "      "
        line += part + " "
    return [*lines, line.rstrip()]
