"""The proof of a clash: its members in integer weights, which add up to a contradiction."""

from __future__ import annotations

from fractions import Fraction
from math import gcd, lcm

import numpy as np

from ruddock.document.numbers import as_written
from ruddock.engine.clash import Clash, Member
from ruddock.problem import Problem

MOST_TERMS = 6  # of a line of a proof that are written out
SMALL_WEIGHTS = 10**6  # larger integers help nobody: the weights then stay fractions


def proof_of(problem: Problem, clash: Clash) -> tuple[list[Fraction] | None, Fraction | None]:
    """Return the weights with which an irreducible clash adds up to a contradiction, in rational arithmetic.

    Each member is written as ``a'x >= b``. The weights are the one combination, up to its size, in which every
    decision cancels; where the numbers of the model leave no exact one, there is none to show.
    """
    lines = [line_of(problem, member) for member in clash.members]
    weights = _cancelling([line for line, _ in lines])
    if weights is None:
        return None, None
    if sum(1 for w in weights if w < 0) > len(weights) // 2:
        weights = [-w for w in weights]
    total = sum((w * b for w, (_, b) in zip(weights, lines, strict=True)), Fraction(0))
    if any(w <= 0 for w in weights) or total <= 0:
        return None, None
    scale = Fraction(lcm(*(w.denominator for w in weights)))
    scale /= gcd(*(int(w * scale) for w in weights))
    if max(int(w * scale) for w in weights) > SMALL_WEIGHTS:
        scale = 1 / max(weights)
    return [w * scale for w in weights], total * scale


def line_of(problem: Problem, member: Member) -> tuple[dict[int, Fraction], Fraction]:
    """Return a member as ``a'x >= b``."""
    i = member.index
    if member.kind.startswith("row"):
        start = np.flatnonzero(problem.indices == i)
        owner = np.searchsorted(problem.starts, start, side="right") - 1
        entries = {int(j): Fraction(float(problem.values[k])) for j, k in zip(owner, start, strict=True)}
        limit = problem.row_lower[i] if member.kind == "row lower" else problem.row_upper[i]
    else:
        entries = {i: Fraction(1)}
        limit = problem.lower[i] if member.kind == "lower" else problem.upper[i]
    sign = 1 if member.kind.endswith("lower") else -1
    return {j: sign * v for j, v in entries.items()}, sign * Fraction(float(limit))


def written(entries: dict[int, Fraction], limit: Fraction, names: list[str]) -> str:
    """Write ``a'x >= b`` with its names, long ones elided."""
    return f"{terms_written(entries, names)} >= {as_written(float(limit))}"


def terms_written(entries: dict[int, Fraction], names: list[str]) -> str:
    """Write ``a'x`` with its names, long ones elided."""
    terms = []
    for j, value in list(entries.items())[:MOST_TERMS]:
        size = "" if abs(value) == 1 else f"{as_written(float(abs(value)))} "
        terms.append(f"{'-' if value < 0 else '+'} {size}{names[j]}")
    text = " ".join(terms).removeprefix("+ ") or "0"
    return text + (f" + {len(entries) - MOST_TERMS} more terms" if len(entries) > MOST_TERMS else "")


def _cancelling(lines: list[dict[int, Fraction]]) -> list[Fraction] | None:
    """Return weights, not all zero, with which the lines add up to zero; None if only zeros do.

    Gaussian elimination on the lines, each remembering which combination of the given ones it is.
    """
    rows = [(dict(line), {k: Fraction(1)}) for k, line in enumerate(lines)]
    pivots: list[tuple[int, dict[int, Fraction], dict[int, Fraction]]] = []
    for row, made_of in rows:
        for j, pivot, pivot_made in pivots:
            factor = row.get(j)
            if factor:
                for k, v in pivot.items():
                    row[k] = row.get(k, Fraction(0)) - factor * v
                    if not row[k]:
                        del row[k]
                for k, v in pivot_made.items():
                    made_of[k] = made_of.get(k, Fraction(0)) - factor * v
        if not row:
            return [made_of.get(k, Fraction(0)) for k in range(len(lines))]
        j = min(row, key=lambda key: (abs(row[key].denominator), key))
        lead = row[j]
        pivots.append((j, {k: v / lead for k, v in row.items()}, {k: v / lead for k, v in made_of.items()}))
    return None
