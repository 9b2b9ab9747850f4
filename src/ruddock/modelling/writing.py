"""Expressions and relations written out in the names of their decisions."""

from __future__ import annotations

import re
from collections.abc import Callable

import numpy as np

from ruddock.document.numbers import as_written
from ruddock.modelling.axis import quoted
from ruddock.modelling.cells import Cells
from ruddock.modelling.relation import Sides
from ruddock.modelling.terms import Terms

SHOWN = 3  # members in one line
TERMS = 6  # terms of an expression in one line
MOST_LINES = 12
STRICT = re.compile(r"^[<>]=(?= |$)|(?<= )[<>]=$")


def terms_words(terms: Terms, row: int, most: int | None = None) -> list[str]:
    """Return one row of an expression in pieces, each decision once; the middle of a long one is elided."""
    own = np.flatnonzero(terms.rows == row)
    used, place = np.unique(terms.columns[own], return_inverse=True)
    sums = np.bincount(place, terms.values[own], len(used)) if len(used) else np.zeros(0)
    constant = float(terms.constants[row])
    kept = np.flatnonzero(sums)
    shown = kept if most is None or len(kept) <= most + 1 else np.concatenate((kept[: most - 1], kept[-1:]))
    parts: list[str] = []
    for k in shown.tolist():
        if len(shown) < len(kept) and k == shown[-1]:
            parts.append(f"+ ... {len(kept) - len(shown):,} terms ...")
        size = abs(float(sums[k]))
        factor = "" if size == 1 else f"{as_written(size)} "
        parts.append(("- " if sums[k] < 0 else "+ ") + factor + terms.registry.name_of(int(used[k])))
    if constant or not parts:
        parts.append(f"{'-' if constant < 0 else '+'} {as_written(abs(constant))}")
    parts[0] = parts[0].removeprefix("+ ").replace("- ", "-", 1) if parts[0][:2] in ("+ ", "- ") else parts[0]
    return parts


def relation_words(sides: Sides, i: int, most: int | None = None) -> list[str]:
    """Return one relation in pieces, both sides as written."""
    left = terms_words(sides.left, i, most)
    if sides.right is not None:
        sign = {"<=": "<=", ">=": ">=", "==": "="}[sides.sense]
        return [*left, sign, *terms_words(sides.right, i, most)]
    assert sides.low is not None
    assert sides.high is not None
    low, high = float(sides.low[i]), float(sides.high[i])
    if low == high:
        return [*left, f"= {as_written(low)}"]
    if np.isfinite(low) and np.isfinite(high):
        return [f"{as_written(low)} <=", *left, f"<= {as_written(high)}"]
    if np.isfinite(low):
        return [*left, f">= {as_written(low)}"]
    return [*left, f"<= {as_written(high)}"] if np.isfinite(high) else left


def strictly(pieces: list[str]) -> list[str]:
    """Return a relation's pieces with strict signs; a label may hold others, so only their ends are looked at."""
    return [STRICT.sub(lambda found: found[0][0], piece) for piece in pieces]


def in_one_line(cells: Cells, words: Callable[[int], list[str]]) -> str:
    """Return what stands for each cell in one line: a number's own, of a family that of its first members."""
    if not cells.axes:
        return " ".join(words(0))
    size = cells.size
    shown = [f"{_place(cells, i)} {' '.join(words(i))}" for i in range(min(size, SHOWN))]
    more = f"; and {size - SHOWN:,} more" if size > SHOWN else ""
    return f"over {', '.join(cells.names)} ({size:,}): {'; '.join(shown)}{more}"


def lines(cells: Cells, words: Callable[[int], list[str]]) -> list[tuple[str, str]]:
    """Return labels and what stands for them, the first dozen."""
    shown = [(cells.text(i) if cells.axes else "", " ".join(words(i))) for i in range(min(cells.size, MOST_LINES))]
    return [*shown, *([(f"… {cells.size - MOST_LINES:,} more", "")] if cells.size > MOST_LINES else [])]


def _place(cells: Cells, i: int) -> str:
    return "[" + ",".join(quoted(axis.texts[code[i]]) for axis, code in zip(cells.axes, cells.codes, strict=True)) + "]"
